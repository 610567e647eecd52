//! What is at the place that a disk is to be brought back to.

use std::fs::{File, OpenOptions};
use std::io::{self, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jetfrost_platform::{FileContent, FileKind, Opening, Paths, System};

use super::file_systems::{Found, look_into};
use super::partitions::Table;
use super::restore::unfinished_name;
use super::{DiskBytes, Result, Target};
use crate::error::ClientError;

/// What is at the place that a disk is to be brought back to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Present {
    /// Nothing: an image file is made.
    Nothing,
    /// An image file of which a part is written already; that goes on.
    Unfinished,
    /// A device that nobody uses, of so many bytes.
    Device(u64, OnDisk),
}

/// What a disk says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OnDisk {
    /// Its partition table, if it has one.
    pub table: Option<Table>,
    /// File systems in its partitions, or on the whole of it.
    pub file_systems: Vec<Found>,
}

impl OnDisk {
    /// Looks. A table of a point's disk that is lost is none: the rest can still be looked at.
    ///
    /// # Errors
    /// As [`DiskBytes::read_at`].
    pub fn of(disk: &Arc<dyn DiskBytes>) -> Result<Self> {
        let table = match Table::read(disk.bytes(), |offset, len| disk.read(offset, len)) {
            Err(error) if error.is_loss() => None,
            other => other?,
        };
        Ok(Self { file_systems: look_into(disk, table.as_ref())?, table })
    }
}

/// Looks at a target, before anything is written there.
///
/// # Errors
/// [`ClientError::Target`] when it will not do for a disk of `len` bytes; [`ClientError::File`].
pub fn at_target(target: &Target, len: u64) -> Result<Present> {
    match target {
        Target::File(path) if path.symlink_metadata().is_ok() => Err(is_there(path)),
        Target::File(path) => {
            let begun = unfinished_name(path)?.symlink_metadata().is_ok();
            Ok(if begun { Present::Unfinished } else { Present::Nothing })
        }
        Target::Device(path) => {
            let file = open_device(path, len, OpenOptions::new().read(true))?;
            let disk: Arc<dyn DiskBytes> = Arc::new(TargetDisk::new(file, path)?);
            Ok(Present::Device(disk.bytes(), OnDisk::of(&disk)?))
        }
    }
}

pub(super) fn is_there(path: &Path) -> ClientError {
    ClientError::Target { path: path.into(), why: "it is there already; give a new name" }
}

/// Opens a device for itself: refused while it, or a partition of it, is mounted.
pub(super) fn open_device(path: &Path, len: u64, options: &mut OpenOptions) -> Result<File> {
    let refuse = |why| ClientError::Target { path: path.into(), why };
    let found = System::metadata_behind(path).map_err(ClientError::file("opening", path))?;
    if found.kind != Some(FileKind::BlockDevice) {
        return Err(refuse("it is no block device"));
    }
    let mut file = options.unused_device().open(path).map_err(|e| match e.kind() {
        io::ErrorKind::ResourceBusy => refuse("it is in use: unmount it first"),
        _ => ClientError::file("opening", path)(e),
    })?;
    let room = file.seek(SeekFrom::End(0)).map_err(ClientError::file("measuring", path))?;
    if room < len { Err(refuse("it is smaller than the disk that was backed up")) } else { Ok(file) }
}

/// A disk of this machine, or an image file in place of one.
pub struct TargetDisk {
    pub(super) file: File,
    path: PathBuf,
    bytes: u64,
}

impl TargetDisk {
    pub(super) fn new(mut file: File, path: &Path) -> Result<Self> {
        let bytes = file.seek(SeekFrom::End(0)).map_err(ClientError::file("measuring", path))?;
        Ok(Self { file, path: path.into(), bytes })
    }

    /// Opens what was brought back, for reading.
    ///
    /// # Errors
    /// [`ClientError::File`].
    pub fn open(target: &Target) -> Result<Self> {
        let (Target::File(path) | Target::Device(path)) = target;
        Self::new(File::open(path).map_err(ClientError::file("opening", path))?, path)
    }
}

impl DiskBytes for TargetDisk {
    fn bytes(&self) -> u64 {
        self.bytes
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        self.file.read_all_at(buffer, offset).map_err(ClientError::file("reading", &self.path))
    }
}
