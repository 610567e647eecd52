//! What is on a disk, be it one of a point or of this machine: file systems that can be opened are, others are named by what they begin with.

use std::sync::Arc;

use ext4_view::{Ext4, Ext4Error, Ext4Read};

use super::DiskBytes;
use super::partitions::Table;
use crate::error::ClientError;

/// What is read of one file system at most: what its own lists say is not believed beyond this.
const MOST_READ: u64 = 256 << 20;
/// Names in the root folder are counted up to this.
const MOST_NAMES: usize = 100_000;
/// Where ext2, ext3 and ext4 have their magic number, and which it is.
const EXT: (usize, [u8; 2]) = (1080, [0x53, 0xef]);
/// Others, by what is at which place.
const OTHERS: [(&str, usize, &[u8]); 6] = [
    ("XFS", 0, b"XFSB"),
    ("Btrfs", 0x1_0040, b"_BHRfS_M"),
    ("NTFS", 3, b"NTFS    "),
    ("FAT32", 82, b"FAT32   "),
    ("swap", 4086, b"SWAPSPACE2"),
    ("encrypted (LUKS)", 0, b"LUKS\xba\xbe"),
];
/// As much as holds all of these places.
const BEGINNING: usize = 0x1_0048;

/// What was found at one place of a disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// The partition; none where the whole disk is meant.
    pub partition: Option<u32>,
    /// What is there.
    pub what: FileSystem,
}

/// A file system, and whether it opens.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FileSystem {
    /// ext2, ext3 or ext4, with so many names in its root folder.
    Opens(u64),
    /// It is one, and does not open.
    DoesNotOpen(String),
    /// It was known by its beginning, and not tried.
    Known(&'static str),
}

impl Found {
    /// Where it is.
    #[must_use]
    pub fn place(&self) -> String {
        self.partition.map_or_else(|| "the disk".into(), |number| format!("partition {number}"))
    }

    /// What is wrong with it.
    pub(crate) fn trouble(&self) -> Option<String> {
        let FileSystem::DoesNotOpen(why) = &self.what else { return None };
        Some(format!("the ext4 file system of {} does not open: {why}", self.place()))
    }
}

impl FileSystem {
    /// What people call it, and whether it opens.
    #[must_use]
    pub fn in_words(&self) -> String {
        match self {
            Self::Opens(1) => "ext4, opens, 1 name in its root folder".into(),
            Self::Opens(names) => format!("ext4, opens, {names} names in its root folder"),
            Self::DoesNotOpen(why) => format!("ext4, does not open: {why}"),
            Self::Known(kind) => format!("{kind}, not opened here"),
        }
    }
}

/// What is on a disk: in each of its partitions, or on the whole of it where it has none.
///
/// # Errors
/// What the service said. What is damaged does not open.
pub(crate) fn look_into(disk: &Arc<dyn DiskBytes>, table: Option<&Table>) -> Result<Vec<Found>, ClientError> {
    let mut found = Vec::new();
    let places = match table {
        Some(table) => table.partitions.iter().map(|part| (Some(part.number), part.start, part.len)).collect(),
        None => vec![(None, 0, disk.bytes())],
    };
    for (partition, start, len) in places {
        let within = Within { disk: Arc::clone(disk), start, len, read: 0 };
        if let Some(what) = look_at(within)? {
            found.push(Found { partition, what });
        }
    }
    Ok(found)
}

fn look_at(place: Within) -> Result<Option<FileSystem>, ClientError> {
    let beginning = match place.disk.read(place.start, BEGINNING.min(usize::try_from(place.len).unwrap_or(BEGINNING))) {
        Ok(beginning) => beginning,
        // What is lost is told where it is brought back.
        Err(error) if error.is_loss() => return Ok(None),
        Err(error) => return Err(error),
    };
    let has = |at: usize, what: &[u8]| beginning.get(at..at + what.len()) == Some(what);
    if has(EXT.0, &EXT.1) {
        return open(place).map(Some);
    }
    Ok(OTHERS.iter().find(|(_, at, magic)| has(*at, magic)).map(|(name, ..)| FileSystem::Known(name)))
}

/// Opens an ext4 file system and lists its root folder, whose checksums are checked where it has any.
fn open(place: Within) -> Result<FileSystem, ClientError> {
    let names = || -> Result<u64, Ext4Error> {
        let names = Ext4::load(Box::new(place))?.read_dir("/")?.take(MOST_NAMES);
        names.map(|name| name.map(|_| 1)).sum()
    };
    names().map(FileSystem::Opens).or_else(judged)
}

/// What it says of a file system that it could not be opened.
fn judged(error: Ext4Error) -> Result<FileSystem, ClientError> {
    match error {
        // It is sound as far as anybody can tell, and cannot be read here.
        Ext4Error::Incompatible(_) | Ext4Error::Encrypted => Ok(FileSystem::Known("ext4")),
        Ext4Error::Io(error) if error.is::<TooMuch>() => Ok(FileSystem::Known("ext4")),
        Ext4Error::Io(error) => match error.downcast::<ClientError>() {
            Ok(error) if !error.is_loss() => Err(*error),
            _ => Ok(FileSystem::DoesNotOpen("what it consists of is damaged or missing".into())),
        },
        error => Ok(FileSystem::DoesNotOpen(error.to_string())),
    }
}

/// More would have to be read than a drill reads.
#[derive(Debug, thiserror::Error)]
#[error("more would have to be read")]
struct TooMuch;

/// A part of a disk, for the reader of file systems.
struct Within {
    disk: Arc<dyn DiskBytes>,
    start: u64,
    len: u64,
    read: u64,
}

impl Ext4Read for Within {
    fn read(&mut self, start: u64, dst: &mut [u8]) -> Result<(), Box<dyn std::error::Error + Send + Sync + 'static>> {
        let len = dst.len() as u64;
        self.read = self.read.saturating_add(len);
        let end = start.checked_add(len).filter(|end| *end <= self.len);
        let at = end.and_then(|_| self.start.checked_add(start)).filter(|at| at.saturating_add(len) <= self.disk.bytes());
        match at {
            Some(at) if self.read <= MOST_READ => self.disk.read_at(dst, at).map_err(Into::into),
            // A large journal that was in use takes that much: it says nothing of the file system.
            Some(_) => Err(Box::new(TooMuch)),
            None => Err(Box::new(ClientError::Damaged)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_is_lost_or_wrong_says_that_a_file_system_does_not_open() {
        let io = |error: Box<dyn std::error::Error + Send + Sync>| judged(Ext4Error::Io(error));
        // A journal of more than is read says nothing of the file system.
        assert_eq!(io(Box::new(TooMuch)).expect("judged"), FileSystem::Known("ext4"));
        assert_eq!(judged(Ext4Error::Encrypted).expect("judged"), FileSystem::Known("ext4"));
        assert!(matches!(io(Box::new(ClientError::Damaged)), Ok(FileSystem::DoesNotOpen(_))));
        assert!(matches!(judged(Ext4Error::NotFound), Ok(FileSystem::DoesNotOpen(_))));
        assert!(matches!(io(Box::new(ClientError::Stopped)), Err(ClientError::Stopped)), "that says nothing of the disk");
    }
}
