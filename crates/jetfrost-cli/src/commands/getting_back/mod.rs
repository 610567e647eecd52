//! Getting things back: files, disks, what is left of a damaged store.

pub(crate) mod attach;
pub(crate) mod check;
pub(crate) mod compare;
pub(crate) mod disks;
pub(crate) mod drill;
pub(crate) mod exceptions;
pub(crate) mod export;
pub(crate) mod look;
pub(crate) mod mount;
pub(crate) mod order;
pub(crate) mod points;
mod read_from;
pub(crate) mod rebuild;
pub(crate) mod restore;
pub(crate) mod salvage;
pub(crate) mod search;
pub(crate) mod versions;

use std::path::PathBuf;

use jetfrost_client::restore::NotRestored;
use serde_json::{Value, json};

use crate::commands::labels;
use crate::failure::Failure;

/// Paths as a point has them: a person may give those in the current directory without it.
fn absolute(paths: &[PathBuf]) -> Result<Vec<PathBuf>, Failure> {
    let absolute = paths.iter().map(std::path::absolute).collect::<Result<_, _>>();
    absolute.map_err(|error| Failure::here(format!("The current directory cannot be told: {error}."), "Give absolute paths."))
}

/// What was not brought back as it was.
fn troubles_as_json(troubles: &[NotRestored]) -> Vec<Value> {
    let one = |trouble: &NotRestored| {
        json!({
            "path": trouble.path.display().to_string(),
            "trouble": labels::trouble(trouble.trouble),
            "explanation": trouble.explanation,
        })
    };
    troubles.iter().map(one).collect()
}

/// Descending numbers, those that follow each other as one range: `9, 4-6, 1`.
fn ranges(numbers: impl Iterator<Item = u64>) -> String {
    let mut ranges: Vec<(u64, u64)> = Vec::new();
    for number in numbers {
        match ranges.last_mut() {
            Some((least, _)) if *least == number + 1 => *least = number,
            _ => ranges.push((number, number)),
        }
    }
    let shown = |(least, most): &(u64, u64)| if least == most { least.to_string() } else { format!("{least}-{most}") };
    ranges.iter().map(shown).collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests {
    use super::ranges;

    #[test]
    fn numbers_that_follow_each_other_are_a_range() {
        assert_eq!(ranges([9, 6, 5, 4, 1].into_iter()), "9, 4-6, 1");
        assert_eq!(ranges(std::iter::empty()), "");
    }
}
