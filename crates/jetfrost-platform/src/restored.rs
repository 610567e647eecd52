//! Giving restored files what they had beside their content.

use std::io;

use crate::{FileKind, Time};

/// Something restored that has its content and nothing else yet.
pub trait MetadataTarget {
    /// Sets owner and group; of a link, not of what it leads to.
    ///
    /// # Errors
    /// What the system says.
    fn set_owner(&self, uid: u32, gid: u32) -> io::Result<()>;

    /// Sets an extended attribute; of a link, not of what it leads to.
    ///
    /// # Errors
    /// [`io::ErrorKind::Unsupported`] when the file system has no such attributes or no room for one of this length; what the system
    /// says.
    fn set_attribute(&self, name: &[u8], value: &[u8]) -> io::Result<()>;

    /// Sets the twelve bits of permissions.
    ///
    /// # Errors
    /// What the system says.
    fn set_mode(&self, mode: u32) -> io::Result<()>;

    /// Sets when its content changed last; of a link, not of what it leads to.
    ///
    /// # Errors
    /// What the system says.
    fn set_modified(&self, time: Time) -> io::Result<()>;

    /// Whether only an administrator may set this attribute.
    fn is_of_administrators(name: &[u8]) -> bool;

    /// Whether this attribute gives a file rights that its owner does not have.
    fn gives_rights(name: &[u8]) -> bool;
}

/// What has no content: links, pipes, devices, sockets.
#[derive(Debug, Clone, Copy)]
pub struct Special<'s> {
    /// What it is.
    pub kind: FileKind,
    /// Where it points, if it is a symbolic link.
    pub target: Option<&'s [u8]>,
    /// Major and minor number, if it is a device.
    pub device: Option<(u32, u32)>,
}
