//! Volumes as they were at one moment.

use std::io;
use std::path::Path;

use crate::Directory;

/// A volume as it was when this was taken. It goes when this is dropped.
pub trait Snapshot: Send + Sync + Sized {
    /// Takes one of the volume that begins at a path; none where the system has no snapshots of such a volume, or not for the account
    /// that this process runs as. What an earlier process left behind there is removed.
    ///
    /// # Errors
    /// What the system says.
    fn take(volume: &Path) -> io::Result<Option<Self>>;

    /// Where it begins.
    ///
    /// # Errors
    /// What the system says.
    fn directory(&self) -> io::Result<Directory>;
}
