//! What an export writes into.

use std::io;

use jetfrost_image::format::Entry;

/// An archive that is written in one go. Names are paths without a slash at their beginning.
pub(super) trait Archive {
    /// Whether it has a form for such a name.
    fn takes(&self, name: &[u8]) -> bool;

    /// Adds what has no content: a folder, a link, a pipe, a device. Returns whether there is a form for it.
    fn without_content(&mut self, name: &[u8], entry: &Entry) -> io::Result<bool>;

    /// Adds another name of a file that is in the archive as `first`. Returns whether there is a form for that.
    fn link(&mut self, name: &[u8], entry: &Entry, first: &[u8]) -> io::Result<bool>;

    /// Begins a file, as long as its entry says.
    fn begin(&mut self, name: &[u8], entry: &Entry) -> io::Result<()>;

    /// Writes the next bytes of that file.
    fn write(&mut self, bytes: &[u8]) -> io::Result<()>;

    /// Ends that file.
    fn end(&mut self) -> io::Result<()>;

    /// Ends the archive.
    fn finish(self) -> io::Result<()>;
}
