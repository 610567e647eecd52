//! The commands: what a person at a workstation does, and what an administrator manages.

pub(crate) mod discovery;
pub(crate) mod disk;
pub(crate) mod drill;
pub(crate) mod enrolment;
pub(crate) mod identity;
mod interrupt;
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

/// How often it is looked again before that is given up.
const LOOKS: usize = 5;

/// Looks, decides and changes; looks again when somebody else changed the same thing in between.
fn look_and_change<T>(mut attempt: impl FnMut() -> Result<T, Failure>) -> Result<T, Failure> {
    for _ in 1..LOOKS {
        match attempt() {
            Err(Failure::Client(error)) if error.is_changed_meanwhile() => {}
            done => return done,
        }
    }
    attempt()
}

/// A limit in words.
fn limit(bytes: Option<u64>) -> String {
    bytes.map_or_else(|| "no limit".into(), show)
}
