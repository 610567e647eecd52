//! Disks in recovery points: what there is, reading from anywhere in one, and bringing one back.

use jetfrost_image::format::{Content, EntryKind};
use jetfrost_image::tree::read_listing;
use partitions::Table;

use crate::browse::{Browser, Entry, OpenPoint, find};
use crate::content_reader::ContentReader;
use crate::error::ClientError;

pub mod file_systems;
pub mod partitions;
mod present;
mod restore;

pub use present::{OnDisk, Present, TargetDisk, at_target};
pub use restore::{DiskReport, Target, compare_disk, restore_disk};

type Result<T> = std::result::Result<T, ClientError>;

/// A disk that can be read from anywhere: one of a point, or one of this machine.
pub trait DiskBytes: Send + Sync {
    /// Bytes of it.
    fn bytes(&self) -> u64;

    /// Fills the buffer from `offset`, which with its length must lie within it.
    ///
    /// # Errors
    /// [`ClientError::Damaged`]; what the service said; [`ClientError::File`].
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()>;

    /// `len` bytes from `offset`, or as many as there are.
    ///
    /// # Errors
    /// As [`DiskBytes::read_at`].
    fn read(&self, offset: u64, len: usize) -> Result<Vec<u8>> {
        let there = self.bytes().saturating_sub(offset).min(len as u64);
        let mut bytes = vec![0; usize::try_from(there).expect("not more than was asked for")];
        self.read_at(&mut bytes, offset)?;
        Ok(bytes)
    }
}

impl DiskBytes for ContentReader {
    fn bytes(&self) -> u64 {
        self.len()
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        Self::read_at(self, buffer, offset)
    }
}

/// A disk in a recovery point.
#[derive(Debug, Clone)]
pub struct Disk {
    /// Absolute path of the device or image file that was backed up.
    pub path: Vec<u8>,
    /// What is kept about it.
    pub entry: Entry,
    /// Its partition table, if it has one that can be read.
    pub table: Option<Table>,
}

impl Disk {
    /// Reads from anywhere in it.
    #[must_use]
    pub fn reader(&self, browser: &Browser) -> ContentReader {
        ContentReader::new(browser.clone(), self.entry.content.clone().unwrap_or_else(Content::empty))
    }
}

impl Browser {
    /// The disks in a point of kind disk, with their partition tables.
    ///
    /// # Errors
    /// [`ClientError::Damaged`]; what the service said.
    pub fn disks(&self, point: &OpenPoint) -> Result<Vec<Disk>> {
        let mut disks = Vec::new();
        self.disks_below(b"", &point.body.root, &mut disks)?;
        Ok(disks)
    }

    fn disks_below(&self, path: &[u8], listing: &Content, found: &mut Vec<Disk>) -> Result<()> {
        let mut entries = Vec::new();
        read_listing(&self.source(), listing, &mut |entry| {
            entries.push(entry);
            Ok(())
        })?;
        for entry in entries {
            let path = [path, b"/", &entry.name].concat();
            match (entry.kind, &entry.content) {
                (EntryKind::Directory, Some(listing)) => self.disks_below(&path, listing, found)?,
                (_, Some(content)) => {
                    let image = ContentReader::new(self.clone(), content.clone());
                    let table = match Table::read(content.len, |offset, len| image.read(offset, len)) {
                        // The rest of the disk can still be brought back.
                        Err(ClientError::Damaged | ClientError::Format(_)) => None,
                        other => other?,
                    };
                    found.push(Disk { path, entry, table });
                }
                (_, None) => {}
            }
        }
        Ok(())
    }

    /// The disk at `path` in a point, for reading. A point with one disk needs no path.
    ///
    /// # Errors
    /// [`ClientError::NoPath`] when there is no such disk, or several and none was named; [`ClientError::Damaged`].
    pub fn disk(&self, point: &OpenPoint, path: Option<&[u8]>) -> Result<(Disk, ContentReader)> {
        let disk = match path {
            Some(path) => {
                let no_disk = || ClientError::NoPath(format!("'{}' is no disk in this point", String::from_utf8_lossy(path)));
                let entry = find(&self.source(), point, path)?.filter(|entry| entry.kind != EntryKind::Directory);
                Disk { path: path.to_vec(), entry: entry.ok_or_else(no_disk)?, table: None }
            }
            None => {
                let mut disks = self.disks(point)?;
                match (disks.pop(), disks.is_empty()) {
                    (Some(only), true) => only,
                    (None, _) => return Err(ClientError::NoPath("there is no disk in this point".into())),
                    (Some(_), false) => {
                        return Err(ClientError::NoPath("there are several disks in this point: name one".into()));
                    }
                }
            }
        };
        let image = disk.reader(self);
        Ok((disk, image))
    }
}
