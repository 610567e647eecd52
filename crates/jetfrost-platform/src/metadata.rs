//! What the system says of a name beside its content.

use std::io;
use std::path::Path;

/// A point in time, as file systems have it: seconds since 1970, which may be negative, and nanoseconds after them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Time {
    /// Seconds since 1970.
    pub seconds: i64,
    /// Nanoseconds after that, below a thousand million.
    pub nanos: u32,
}

impl Time {
    /// Nanoseconds since 1970.
    #[must_use]
    pub fn as_nanos(self) -> i128 {
        i128::from(self.seconds) * 1_000_000_000 + i128::from(self.nanos)
    }
}

/// What stands at a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileKind {
    /// A regular file.
    File,
    /// A directory.
    Directory,
    /// A symbolic link.
    Symlink,
    /// A named pipe.
    Fifo,
    /// A character device.
    CharDevice,
    /// A block device.
    BlockDevice,
    /// A local socket.
    Socket,
}

/// What the system says of a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Metadata {
    /// What it is; none for a kind that is not known.
    pub kind: Option<FileKind>,
    /// Bytes.
    pub size: u64,
    /// Bytes that the volume has set aside for it; fewer than its size where it has holes.
    pub allocated: u64,
    /// Permissions, with set-user-id, set-group-id and sticky (POSIX.1-2017, sys/stat.h): twelve bits.
    pub mode: u32,
    /// The owner's id.
    pub uid: u32,
    /// The group's id.
    pub gid: u32,
    /// The volume that it is on.
    pub volume: u64,
    /// Its number on that volume: the same for all names of one file.
    pub file: u64,
    /// How many names the file has.
    pub links: u64,
    /// Major and minor number, if it is a device.
    pub device: Option<(u32, u32)>,
    /// When its content changed last.
    pub modified: Time,
    /// When anything of it changed last. No program can set it.
    pub changed: Time,
}

/// What the system says of paths.
pub trait Paths {
    /// What a path is, without following a link at its end.
    ///
    /// # Errors
    /// What the system says.
    fn metadata_of(path: &Path) -> io::Result<Metadata>;

    /// What a path is or leads to.
    ///
    /// # Errors
    /// What the system says.
    fn metadata_behind(path: &Path) -> io::Result<Metadata>;
}
