//! The commands, in folders that mirror the headings of the help.

use jetfrost_wire::size::show;

use crate::failure::Failure;

pub(crate) mod administration;
mod diagnosis;
pub(crate) mod getting_back;
pub(crate) mod interrupt;
pub(crate) mod keys;
pub(crate) mod labels;
pub(crate) mod limit;
pub(crate) mod this_workstation;
pub(crate) mod time;

/// The one with this name; letter case does not matter.
pub(crate) fn find<T>(all: Vec<T>, name: &str, name_of: impl Fn(&T) -> &String, noun: &str, list: &str) -> Result<T, Failure> {
    let found = all.into_iter().find(|one| name_of(one).to_lowercase() == name.to_lowercase());
    found.ok_or_else(|| Failure::here(format!("There is no {noun} '{name}'."), format!("See '{list}'.")))
}

/// How often it is looked again before that is given up.
const LOOKS: usize = 5;

/// Looks, decides and changes; looks again when somebody else changed the same thing in between.
pub(crate) fn look_and_change<T>(mut attempt: impl FnMut() -> Result<T, Failure>) -> Result<T, Failure> {
    for _ in 1..LOOKS {
        match attempt() {
            Err(Failure::Client(error)) if error.is_changed_meanwhile() => {}
            done => return done,
        }
    }
    attempt()
}

/// Text as it stands in HTML.
pub(crate) fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// A limit in words.
pub(crate) fn limit(bytes: Option<u64>) -> String {
    bytes.map_or_else(|| "no limit".into(), show)
}

/// An answer to a question.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum YesOrNo {
    Yes,
    No,
}
