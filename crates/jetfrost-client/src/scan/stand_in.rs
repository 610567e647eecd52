//! Directories that are walked in place of others: snapshots in place of volumes that change while they are read.

use std::io;

use jetfrost_platform::{Directory, Metadata, OpenDirectory};

/// A directory that stands in for the one at a path.
#[derive(Debug)]
pub(crate) struct StandIn {
    /// The path; empty for the root of all paths.
    path: Vec<u8>,
    directory: Directory,
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
        Ok(Self { path, directory, is_on, stands_for: volume })
    }
}

/// What stands in for what during a walk.
#[derive(Debug, Clone, Copy)]
pub(crate) struct StandIns<'v>(pub(crate) &'v [StandIn]);

impl StandIns<'_> {
    /// Everything is walked where it is.
    pub(crate) const NONE: Self = Self(&[]);

    /// What is walked in place of the directory at a path. It is opened for each who asks: of one that two list at once, each would see a
    /// part.
    pub(super) fn at(&self, path: &[u8]) -> Option<io::Result<Directory>> {
        self.0.iter().find(|one| one.path == path).map(|one| one.directory.opened_again())
    }

    /// As if it had been seen where it stands in: each snapshot is another volume to the system, and the files are the same.
    pub(super) fn as_seen_there(&self, found: Metadata) -> Metadata {
        let volume = self.0.iter().find(|one| one.is_on == found.volume).map_or(found.volume, |one| one.stands_for);
        Metadata { volume, ..found }
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;
    use std::thread;

    use super::*;

    /// A run that counts beside its walk lists each folder twice at the same time. Each saw a part of it, or nothing.
    #[test]
    fn a_stand_in_that_two_list_at_once_is_whole_for_both() {
        let directory = tempfile::tempdir().expect("a directory");
        for n in 0..2_000 {
            std::fs::write(directory.path().join(format!("file {n}")), "").expect("written");
        }
        let opened = Directory::at(&directory.path().canonicalize().expect("there")).expect("opened");
        let stand_in = [StandIn::new(b"/homes".to_vec(), opened, 7).expect("there")];
        let names = || {
            let opened = StandIns(&stand_in).at(b"/homes").expect("it stands in").expect("opened");
            opened.names().expect("listed").len()
        };
        thread::scope(|scope| {
            let lists = [0; 4].map(|_| scope.spawn(|| (0..50).map(|_| names()).all(|found| found == 2_000)));
            assert!(lists.into_iter().all(|list| list.join().expect("no panic")));
        });
        assert!(StandIns(&stand_in).at(b"/home").is_none());
        let of_it = Directory::at(Path::new("/")).and_then(|root| root.metadata()).expect("there");
        assert_eq!(StandIns(&stand_in).as_seen_there(of_it).volume == 7, of_it.volume == stand_in[0].is_on);
    }
}
