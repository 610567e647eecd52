//! Getting things back: files, disks, what is left of a damaged store.

pub(crate) mod attach;
pub(crate) mod check;
pub(crate) mod compare;
pub(crate) mod disks;
pub(crate) mod drill;
pub(crate) mod exceptions;
pub(crate) mod export;
pub(crate) mod look;
pub(crate) mod points;
pub(crate) mod restore;
pub(crate) mod restore_disk;
pub(crate) mod salvage;
pub(crate) mod versions;

use std::path::PathBuf;

use crate::failure::Failure;

/// Paths as a point has them: a person may give those in the current directory without it.
fn absolute(paths: &[PathBuf]) -> Result<Vec<PathBuf>, Failure> {
    let absolute = paths.iter().map(std::path::absolute).collect::<Result<_, _>>();
    absolute.map_err(|error| Failure::here(format!("The current directory cannot be told: {error}."), "Give absolute paths."))
}
