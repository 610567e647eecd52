//! The commands: what a person at a workstation does, and what an administrator manages.

pub(crate) mod discovery;
pub(crate) mod disk;
pub(crate) mod drill;
pub(crate) mod enrolment;
pub(crate) mod identity;
pub(crate) mod keeping;
pub(crate) mod machine;
pub(crate) mod mail;
pub(crate) mod me;
pub(crate) mod office;
pub(crate) mod people;
pub(crate) mod places;
pub(crate) mod salvage;
pub(crate) mod watch;
pub(crate) mod ways_in;
mod words;

use jetfrost_wire::size::show;

use crate::failure::Failure;

/// The one with this name; letter case does not matter.
fn find<T>(all: Vec<T>, name: &str, name_of: impl Fn(&T) -> &String, noun: &str, list: &str) -> Result<T, Failure> {
    let found = all.into_iter().find(|one| name_of(one).to_lowercase() == name.to_lowercase());
    found.ok_or_else(|| Failure::here(format!("There is no {noun} '{name}'."), format!("See '{list}'.")))
}

/// A limit in words.
fn limit(bytes: Option<u64>) -> String {
    bytes.map_or_else(|| "no limit".into(), show)
}
