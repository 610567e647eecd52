//! The content of open files, beyond what [`std::fs::File`] does everywhere.

use std::fs::File;
use std::io;
use std::ops::Range;

use crate::Metadata;

/// A part of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Stretch {
    /// Bytes that the volume holds.
    Data(Range<u64>),
    /// Zeros that take no space.
    Hole(Range<u64>),
}

/// Reading, writing and measuring the content of an open file, wherever its position is.
pub trait FileContent {
    /// What the system says of it.
    ///
    /// # Errors
    /// What the system says.
    fn metadata_now(&self) -> io::Result<Metadata>;

    /// Reads what comes at an offset, some of it or all; nothing at the end.
    ///
    /// # Errors
    /// What the system says.
    fn read_some_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize>;

    /// Fills a buffer from an offset.
    ///
    /// # Errors
    /// [`io::ErrorKind::UnexpectedEof`] when the file ends before; what the system says.
    fn read_all_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()>;

    /// Writes at an offset.
    ///
    /// # Errors
    /// What the system says.
    fn write_at_offset(&self, bytes: &[u8], offset: u64) -> io::Result<()>;

    /// Where data begins at or after an offset, as far as the volume knows; none when there are only holes up to the end. A file or
    /// device of which no holes are known is all data.
    ///
    /// # Errors
    /// What the system says.
    fn next_data(&self, offset: u64) -> io::Result<Option<u64>>;

    /// The first `size` bytes as data and holes, in order and without gaps.
    ///
    /// # Errors
    /// What the system says.
    fn stretches(&self, size: u64) -> io::Result<Vec<Stretch>>;

    /// Makes a range of a file read as zeros without space on the volume.
    ///
    /// # Errors
    /// What the system says; [`io::ErrorKind::Unsupported`] where there are no holes.
    fn punch_hole(&self, range: Range<u64>) -> io::Result<()>;

    /// Asks that the next reading come from the volume and not from memory. A hint: nothing depends on it.
    fn forget_cached(&self);

    /// Opens the same file once more for writing, not by its name, which somebody else may have given to something else.
    ///
    /// # Errors
    /// What the system says.
    fn open_again_for_writing(&self) -> io::Result<File>;
}
