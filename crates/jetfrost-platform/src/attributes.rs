//! Extended attributes.

use std::io;

/// Something that may have extended attributes.
pub trait ExtendedAttributes {
    /// Their names, in no order; none where the file system has no attributes.
    ///
    /// # Errors
    /// What the system says.
    fn attribute_names(&self) -> io::Result<Vec<Vec<u8>>>;

    /// The value of one; none when it is not there, or not any more.
    ///
    /// # Errors
    /// What the system says.
    fn attribute(&self, name: &[u8]) -> io::Result<Option<Vec<u8>>>;
}
