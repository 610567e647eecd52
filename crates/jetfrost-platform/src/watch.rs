//! Learning where something changed on a volume, without looking.

use std::collections::HashSet;
use std::io;
use std::path::PathBuf;

/// What changed on watched volumes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Changes {
    /// Folders in which something changed, or that changed themselves: volume and number.
    In(HashSet<(u64, u64)>),
    /// More than can be told.
    Untold,
}

/// A watch over whole volumes.
pub trait ChangeWatch: Send + Sized {
    /// Begins to watch the volumes that these paths lie on; none where the system does not tell of all changes on each of them, or not to
    /// the account that this process runs as.
    ///
    /// # Errors
    /// What the system says.
    fn begin(paths: &[PathBuf]) -> io::Result<Option<Self>>;

    /// The volumes that are watched.
    fn volumes(&self) -> HashSet<u64>;

    /// What changed since it was asked last: all that happened before this call, and perhaps some of what happens meanwhile. What a
    /// program writes past the usual calls, such as through memory that it shares with a file, may only be told when it closes the file: see
    /// [`Self::being_written`].
    ///
    /// # Errors
    /// What the system says.
    fn changes(&mut self) -> io::Result<Changes>;

    /// Folders with files that are open for writing now, on the volumes that are watched.
    ///
    /// # Errors
    /// When the system does not say of some program what it has open.
    fn being_written(&self) -> io::Result<HashSet<(u64, u64)>>;
}
