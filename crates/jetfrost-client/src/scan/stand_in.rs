//! Directories that are walked in place of others: snapshots in place of volumes that change while they are read.

use std::io;
use std::sync::Arc;

use jetfrost_platform::{Directory, Metadata, OpenDirectory};

/// A directory that stands in for the one at a path.
#[derive(Debug)]
pub(crate) struct StandIn {
    /// The path; empty for the root of all paths.
    path: Vec<u8>,
    directory: Arc<Directory>,
    /// The volume that it is on, and the one that it stands in for.
    is_on: u64,
    stands_for: u64,
}

impl StandIn {
    /// `volume` is what the directory at the path is on.
    ///
    /// # Errors
    /// What the system says of the directory.
    pub(crate) fn new(path: Vec<u8>, directory: Directory, volume: u64) -> io::Result<Self> {
        let is_on = directory.metadata()?.volume;
        Ok(Self { path, directory: Arc::new(directory), is_on, stands_for: volume })
    }
}

/// What stands in for what during a walk.
#[derive(Debug, Clone, Copy)]
pub(crate) struct StandIns<'v>(pub(crate) &'v [StandIn]);

impl StandIns<'_> {
    /// Everything is walked where it is.
    pub(crate) const NONE: Self = Self(&[]);

    /// What is walked in place of the directory at a path.
    pub(super) fn at(&self, path: &[u8]) -> Option<Arc<Directory>> {
        self.0.iter().find(|one| one.path == path).map(|one| Arc::clone(&one.directory))
    }

    /// As if it had been seen where it stands in: each snapshot is another volume to the system, and the files are the same.
    pub(super) fn as_seen_there(&self, found: Metadata) -> Metadata {
        let volume = self.0.iter().find(|one| one.is_on == found.volume).map_or(found.volume, |one| one.stands_for);
        Metadata { volume, ..found }
    }
}
