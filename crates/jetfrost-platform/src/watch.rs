//! Learning where something changed, without looking.

use std::collections::HashSet;
use std::io;
use std::path::PathBuf;
use std::time::Duration;

use crate::Directory;

/// What changed where it is watched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Changes {
    /// Folders in which something changed, or that changed themselves: volume and number.
    In(HashSet<(u64, u64)>),
    /// More than can be told.
    Untold,
}

/// Where changes are told of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Watched {
    /// In all folders of these volumes.
    Volumes(HashSet<u64>),
    /// In these folders: volume and number.
    Folders(HashSet<(u64, u64)>),
}

impl Watched {
    /// Whether it is told what changes in a folder.
    #[must_use]
    pub fn includes(&self, folder: (u64, u64)) -> bool {
        match self {
            Self::Volumes(volumes) => volumes.contains(&folder.0),
            Self::Folders(folders) => folders.contains(&folder),
        }
    }
}

/// Waits for changes.
pub type ChangeWaiter = Box<dyn Fn(Duration) -> io::Result<bool> + Send>;

/// A watch over whole volumes, or over single folders where this process may not have more.
pub trait ChangeWatch: Send + Sized {
    /// Begins to watch the volumes that these paths lie on, if `whole_volumes` and the system allows that; else the folders that are
    /// about to be listed. None where the system does not tell of all changes on each of the volumes.
    ///
    /// # Errors
    /// What the system says.
    fn begin(paths: &[PathBuf], whole_volumes: bool) -> io::Result<Option<Self>>;

    /// A folder is about to be listed. Where single folders are watched, this one is from now on, unless there are too many. Returns
    /// which it is if it was not watched before.
    ///
    /// # Errors
    /// What the system says.
    fn about_to_list(&mut self, folder: &Directory) -> io::Result<Option<(u64, u64)>>;

    /// Where it watches.
    fn watched(&self) -> Watched;

    /// What changed since it was asked last: all that happened before this call, and perhaps some of what happens meanwhile. What a
    /// program writes past the usual calls, such as through memory that it shares with a file, may only be told when it closes the file: see
    /// [`Self::being_written`].
    ///
    /// # Errors
    /// What the system says.
    fn changes(&mut self) -> io::Result<Changes>;

    /// Waits until something changed, so long at most; returns whether something did. Needs nothing of the watch itself.
    ///
    /// # Errors
    /// What the system says.
    fn waiter(&self) -> io::Result<ChangeWaiter>;

    /// Folders with files that are open for writing now, on the volumes that are watched. Of programs whose open files this process may
    /// not see, none: [`Self::sees_all_programs`].
    ///
    /// # Errors
    /// When the system does not say of some program what it has open.
    fn being_written(&self) -> io::Result<HashSet<(u64, u64)>>;

    /// Whether it sees the open files of other accounts' programs.
    fn sees_all_programs(&self) -> bool;
}
