//! Volumes and devices.

use std::io;
use std::path::{Path, PathBuf};

/// What the system says of volumes.
pub trait Volumes {
    /// Bytes of the volume that a path is on, and bytes of it that this process may still use.
    ///
    /// # Errors
    /// What the system says.
    fn size_and_free(path: &Path) -> io::Result<(u64, u64)>;

    /// Whether large files are better written past the page cache on the volume of this directory. A network's file system would have
    /// each write wait for its server, one that compresses would not, and one in memory has nothing but the cache.
    fn gains_past_cache(directory: &Path) -> bool;

    /// Where anything is mounted.
    ///
    /// # Errors
    /// What the system says.
    fn mount_points() -> io::Result<Vec<PathBuf>>;

    /// Where volumes are mounted that hold files of this machine: neither what the system makes up, nor what is in memory, on another
    /// machine, or an image that never changes.
    ///
    /// # Errors
    /// What the system says.
    fn mounted_files() -> io::Result<Vec<PathBuf>>;
}

/// A disk of this machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DiskDevice {
    /// Its device.
    pub path: PathBuf,
    /// Bytes of it.
    pub bytes: u64,
    /// What its maker calls it.
    pub model: Option<String>,
    /// Whether it, or a part of it, is mounted.
    pub is_mounted: bool,
}

/// What the system says of block devices.
pub trait Devices {
    /// The disks of this machine, as wholes, by their paths: neither memory nor discs that can only be read.
    ///
    /// # Errors
    /// What the system says.
    fn disk_devices() -> io::Result<Vec<DiskDevice>>;

    /// Whether a block device, or a part of it, is mounted for writing.
    ///
    /// # Errors
    /// When the system does not say what is mounted.
    fn is_mounted_for_writing(device: (u32, u32)) -> io::Result<bool>;
}
