//! Open directories. Everything is looked up relative to one, so that whoever moves a directory, or puts a link in its place, while it
//! is read changes nothing of what is read.

use std::fs::File;
use std::io;
use std::path::{Component, Path, PathBuf};

use crate::attributes::ExtendedAttributes;
use crate::{Metadata, Node, name_bytes};

/// An open directory. Names in it are one path component; one with a separator or a zero byte is an error.
pub trait OpenDirectory: Sized {
    /// A name in it, for its extended attributes.
    type Named<'d>: ExtendedAttributes
    where
        Self: 'd;

    /// The root of all paths, held.
    ///
    /// # Errors
    /// What the system says.
    fn root() -> io::Result<Self>;

    /// The directory at an absolute path. A link on the way is refused. Only it itself must be one that may be listed.
    ///
    /// # Errors
    /// What the system says.
    fn at(path: &Path) -> io::Result<Self> {
        Self::held(path)?.opened_again()
    }

    /// The directory at an absolute path, to look things up in: it need not be one that may be listed. A link on the way is refused.
    ///
    /// # Errors
    /// What the system says.
    fn held(path: &Path) -> io::Result<Self> {
        let parts = path.components().filter_map(|part| match part {
            Component::Normal(name) => Some(name_bytes(name)),
            _ => None,
        });
        parts.into_iter().try_fold(Self::root()?, |at, name| at.hold_directory(name))
    }

    /// The same directory, opened once more: two who list one that is open at the same time would share what is left of it.
    ///
    /// # Errors
    /// What the system says.
    fn opened_again(&self) -> io::Result<Self> {
        self.open_directory(b".")
    }

    /// What it is itself.
    ///
    /// # Errors
    /// What the system says.
    fn metadata(&self) -> io::Result<Metadata>;

    /// The names in it, ascending by their bytes, without those of itself and its parent.
    ///
    /// # Errors
    /// What the system says.
    fn names(&self) -> io::Result<Vec<Vec<u8>>>;

    /// What a name is, without following a link.
    ///
    /// # Errors
    /// What the system says.
    fn metadata_of(&self, name: &[u8]) -> io::Result<Metadata>;

    /// What a name is or leads to.
    ///
    /// # Errors
    /// What the system says.
    fn metadata_behind(&self, name: &[u8]) -> io::Result<Metadata>;

    /// Opens a directory in it; a link is refused.
    ///
    /// # Errors
    /// What the system says.
    fn open_directory(&self, name: &[u8]) -> io::Result<Self>;

    /// Holds a directory in it, to look things up in; a link is refused.
    ///
    /// # Errors
    /// What the system says.
    fn hold_directory(&self, name: &[u8]) -> io::Result<Self>;

    /// Opens a file for reading, without changing its access time where that is allowed, and without waiting for the other end of
    /// a pipe; a link is refused.
    ///
    /// # Errors
    /// What the system says.
    fn open_file(&self, name: &[u8]) -> io::Result<File>;

    /// Opens a disk for reading; a link is followed, for such are the lasting names of devices.
    ///
    /// # Errors
    /// What the system says.
    fn open_disk(&self, name: &[u8]) -> io::Result<File>;

    /// Where a symbolic link points.
    ///
    /// # Errors
    /// What the system says.
    fn link_target(&self, name: &[u8]) -> io::Result<Vec<u8>>;

    /// What a name is, held without being opened for reading; a link itself, not what it leads to.
    ///
    /// # Errors
    /// What the system says.
    fn node(&self, name: &[u8]) -> io::Result<Node>;

    /// A path to a name in it that is good while it is open, whatever becomes of its own name: for calls that take nothing else.
    ///
    /// # Errors
    /// [`io::ErrorKind::InvalidInput`] for what is no single name.
    fn path_to(&self, name: &[u8]) -> io::Result<PathBuf>;

    /// Waits until all that was written to the file system that it is in is on the disk.
    ///
    /// # Errors
    /// What the system says: what was written earlier may be lost.
    fn sync_file_system(&self) -> io::Result<()>;

    /// A name in it, whose extended attributes are those of the name itself and not of what it leads to.
    fn named<'d>(&'d self, name: &'d [u8]) -> Self::Named<'d>;

    /// Itself, for its extended attributes.
    fn itself(&self) -> Self::Named<'_> {
        self.named(b".")
    }
}
