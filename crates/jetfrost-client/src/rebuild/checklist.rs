//! The list that a rebuild ends with: what was looked at, and what was found.

use std::path::Path;

pub use jetfrost_wire::restore::CheckState as State;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::name_of;
use crate::browse::{Browser, OpenPoint};

/// An item of the list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Item {
    /// What was looked at.
    pub what: String,
    /// What it comes to.
    pub state: State,
    /// What was found, in a sentence with its figures.
    pub found: String,
    /// Some of the paths that it is about, as people read them.
    pub paths: Vec<String>,
    /// How many paths it is about.
    pub count: u64,
}

/// What a rebuild came to, with evidence.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Checklist {
    /// The machine's name.
    pub machine: String,
    /// The point's number.
    pub point: u64,
    /// When the point was made, by the machine's clock.
    pub made: Timestamp,
    /// Where it was restored to.
    pub target: String,
    /// When this was looked at.
    pub checked: Timestamp,
    /// What was looked at, in order.
    pub items: Vec<Item>,
}

impl Checklist {
    /// The list of what was found at a target just now.
    pub(super) fn new(browser: &Browser, point: &OpenPoint, target: &Path, items: Vec<Item>) -> Self {
        Self {
            machine: name_of(browser, point),
            point: point.head.sequence,
            made: Timestamp::from_millisecond(point.head.created).unwrap_or_default(),
            target: target.display().to_string(),
            checked: Timestamp::now(),
            items,
        }
    }

    /// What all of it comes to.
    #[must_use]
    pub fn state(&self) -> State {
        self.items.iter().map(|item| item.state).max().unwrap_or(State::Right)
    }
}

/// Paths that an item shows.
pub(super) const SHOWN: usize = 20;

/// Collects the paths that an item is about.
#[derive(Debug, Default)]
pub(super) struct Paths {
    pub(super) count: u64,
    shown: Vec<String>,
}

impl Paths {
    pub(super) fn add(&mut self, path: &[u8], what: &str) {
        self.count += 1;
        if self.shown.len() < SHOWN {
            // A name must not pass for lines of the list.
            let path: String =
                String::from_utf8_lossy(path).chars().map(|c| if c.is_control() { '\u{fffd}' } else { c }).collect();
            self.shown.push(if what.is_empty() { path } else { format!("{path}: {what}") });
        }
    }

    pub(super) fn wrong_if_any(self, what: &str, found: String) -> Item {
        let state = if self.count > 0 { State::Wrong } else { State::Right };
        self.item(what, state, found)
    }

    pub(super) fn item(self, what: &str, state: State, found: String) -> Item {
        Item { what: what.into(), state, found, paths: self.shown, count: self.count }
    }
}
