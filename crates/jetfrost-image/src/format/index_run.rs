//! Index runs: where the chunks of a set of segments lie (§ 8).

use super::cursor::Cursor;
use super::{FormatError, VERSION};
use crate::id::{ChunkName, StoreId};

const WHAT: &str = "an index run";
const MAGIC: &[u8; 8] = b"\x89JFIDX\r\n";
const HEAD: u64 = 40;
const MAX_BUCKET_BITS: u16 = 24;
/// Entries that share a bucket, on average.
const PER_BUCKET: u64 = 64;

/// An entry of a run: a chunk and where it lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct IndexEntry {
    /// The chunk.
    pub name: ChunkName,
    /// Which of the run's segments.
    pub segment: u32,
    /// Offset of the record in the segment.
    pub offset: u32,
    /// Length of the sealed bytes.
    pub len: u32,
}

impl IndexEntry {
    /// Length in the file.
    pub const LEN: usize = 44;

    /// The bytes of the entry.
    #[must_use]
    pub fn to_bytes(self) -> [u8; Self::LEN] {
        let mut bytes = [0; Self::LEN];
        bytes[..32].copy_from_slice(self.name.as_bytes());
        bytes[32..36].copy_from_slice(&self.segment.to_le_bytes());
        bytes[36..40].copy_from_slice(&self.offset.to_le_bytes());
        bytes[40..].copy_from_slice(&self.len.to_le_bytes());
        bytes
    }

    /// Reads an entry from as many bytes as one has.
    #[must_use]
    pub fn from_bytes(bytes: &[u8; Self::LEN]) -> Self {
        let mut cursor = Cursor::new(WHAT, bytes);
        let mut read = || {
            Some(Self {
                name: ChunkName(cursor.array().ok()?),
                segment: cursor.u32().ok()?,
                offset: cursor.u32().ok()?,
                len: cursor.u32().ok()?,
            })
        };
        read().expect("the array has the length of an entry")
    }
}

/// The fixed fields in front.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RunHead {
    /// The store.
    pub store: StoreId,
    /// The first so many bits of a name say its bucket.
    pub bucket_bits: u16,
    /// Number of segments covered.
    pub segments: u32,
    /// Number of entries.
    pub entries: u64,
}

impl RunHead {
    /// Length in the file.
    pub const LEN: usize = HEAD as usize;

    /// The head for a run of so many segments and entries.
    #[must_use]
    pub fn sized(store: StoreId, segments: u32, entries: u64) -> Self {
        let buckets = (entries / PER_BUCKET).max(1);
        let bits = u16::try_from(buckets.ilog2()).expect("fewer than 64 bits");
        Self { store, bucket_bits: bits.min(MAX_BUCKET_BITS), segments, entries }
    }

    /// The bytes of the head.
    #[must_use]
    pub fn to_bytes(self) -> Vec<u8> {
        let mut bytes = MAGIC.to_vec();
        bytes.extend(VERSION.to_le_bytes());
        bytes.extend(self.bucket_bits.to_le_bytes());
        bytes.extend(self.segments.to_le_bytes());
        bytes.extend(self.store.as_bytes());
        bytes.extend(self.entries.to_le_bytes());
        bytes
    }

    /// Reads a head and checks that a file of `file_len` bytes is as long as it says.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn from_bytes(bytes: &[u8], file_len: u64) -> Result<Self, FormatError> {
        let mut cursor = Cursor::new(WHAT, bytes);
        cursor.magic_and_version(MAGIC)?;
        let bucket_bits = cursor.u16()?;
        let segments = cursor.u32()?;
        let head = Self { store: StoreId(cursor.array()?), bucket_bits, segments, entries: cursor.u64()? };
        let fits = bucket_bits <= MAX_BUCKET_BITS && head.entries <= file_len && head.layout().len == file_len;
        if fits { Ok(head) } else { Err(FormatError::damaged(WHAT, "its length is not what it says")) }
    }

    /// The bucket of a name.
    #[must_use]
    pub fn bucket(&self, name: &ChunkName) -> u32 {
        let first = u32::from_be_bytes([name.0[0], name.0[1], name.0[2], name.0[3]]);
        if self.bucket_bits == 0 { 0 } else { first >> (32 - u32::from(self.bucket_bits)) }
    }

    /// Number of buckets.
    #[must_use]
    pub fn buckets(&self) -> u32 {
        1 << self.bucket_bits
    }

    /// Where things are in the file.
    #[must_use]
    pub fn layout(&self) -> RunLayout {
        let table = HEAD + 32 * u64::from(self.segments);
        let check = table + 4 * (u64::from(self.buckets()) + 1);
        let entries = check + 32;
        RunLayout { segments: HEAD, table, check, entries, len: entries + IndexEntry::LEN as u64 * self.entries }
    }
}

/// Offsets within a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RunLayout {
    /// The segment hashes.
    pub segments: u64,
    /// The table of buckets.
    pub table: u64,
    /// The hash of all before it.
    pub check: u64,
    /// The entries.
    pub entries: u64,
    /// The end.
    pub len: u64,
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn heads_round_trip(segments in 0_u32..1000, entries in 0_u64..100_000_000) {
            let head = RunHead::sized(StoreId([1; 16]), segments, entries);
            prop_assert_eq!(RunHead::from_bytes(&head.to_bytes(), head.layout().len), Ok(head));
            prop_assert!(RunHead::from_bytes(&head.to_bytes(), head.layout().len + 1).is_err());
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes: Vec<u8>, len: u64) {
            let _ = RunHead::from_bytes(&bytes, len);
        }

        #[test]
        fn a_bucket_is_within_the_table(name: [u8; 32], entries in 0_u64..100_000_000) {
            let head = RunHead::sized(StoreId([1; 16]), 1, entries);
            prop_assert!(head.bucket(&ChunkName(name)) < head.buckets());
        }
    }
}
