//! What an agent keeps over its end: what came of its runs, and what is in the way since when.

use jetfrost_office::schedule::Earlier;
use jetfrost_types::DelayReason;
use jetfrost_wire::workstation::Delay;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A run that failed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failed {
    /// When.
    pub at: Timestamp,
    /// Why, in a sentence.
    pub why: String,
    /// How many failed since the last complete one.
    pub times: u32,
}

/// A file of the state directory. One that cannot be read is none: then a run is due, which harms nothing.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Record {
    /// When the last complete run ended.
    pub(super) completed: Option<Timestamp>,
    pub(super) failed: Option<Failed>,
    pub(super) delay: Option<Delay>,
    /// When a restore was last rehearsed, whatever came of it: that is on record at the service.
    #[serde(default)]
    pub(super) drill_tried: Option<Timestamp>,
    /// Until when a person paused the agent.
    pub(super) paused_until: Option<Timestamp>,
}

impl Record {
    pub(super) fn earlier(&self) -> Earlier {
        Earlier {
            completed: self.completed.map(Timestamp::as_millisecond),
            failed: self.failed.as_ref().map(|failed| (failed.at.as_millisecond(), failed.times)),
        }
    }

    pub(super) fn complete(&mut self, at: Timestamp) {
        (self.completed, self.failed, self.delay) = (Some(at), None, None);
    }

    pub(super) fn fail(&mut self, at: Timestamp, why: String) {
        let times = self.failed.as_ref().map_or(0, |failed| failed.times).saturating_add(1);
        (self.failed, self.delay) = (Some(Failed { at, why, times }), None);
    }

    /// Something is in the way; it keeps the time from when it was first.
    pub(super) fn delay(&mut self, reason: DelayReason, at: Timestamp) {
        if self.delay.is_none_or(|delay| delay.reason != reason) {
            self.delay = Some(Delay { reason, since: at });
        }
    }
}
