//! Segments: files that pack many sealed chunks (§ 5).

use super::cursor::Cursor;
use super::{FormatError, MAX_CHUNK, VERSION};
use crate::id::{ChunkName, SegmentHash, StoreId};

const WHAT: &str = "a segment";
const MAGIC: &[u8; 8] = b"\x89JFSEG\r\n";
const END_MAGIC: &[u8; 8] = b"JFSEGEND";

/// Length of a segment's head.
pub const SEGMENT_HEAD: usize = 32;
/// Length of a record's head: sealed length, CRC-32, name.
pub const RECORD_HEAD: usize = 40;
const FOOTER_ENTRY: usize = 40;
const TRAILER: usize = 24;

/// Length of a segment without any chunk.
pub const EMPTY_SEGMENT: u64 = (SEGMENT_HEAD + TRAILER) as u64;

/// The most bytes that a segment may have.
pub const MAX_SEGMENT: u64 = 64 << 20;
/// A sealed chunk: nonce, method, content, tag.
pub(crate) const MAX_SEALED: usize = MAX_CHUNK + 12 + 1 + 16;
const MIN_SEALED: usize = 12 + 1 + 16;

/// Where a chunk's record lies in a segment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct SegmentEntry {
    /// The chunk.
    pub name: ChunkName,
    /// Offset of the record in the segment.
    pub offset: u32,
    /// Length of the sealed bytes.
    pub len: u32,
}

/// Bytes that a chunk of `sealed` bytes takes in a segment: its record and its place in the footer.
#[must_use]
pub fn stored_len(sealed: u32) -> u64 {
    (RECORD_HEAD + FOOTER_ENTRY) as u64 + u64::from(sealed)
}

/// The head of a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RecordHead {
    /// Length of the sealed bytes.
    pub len: u32,
    /// CRC-32 of name and sealed bytes.
    pub crc: u32,
    /// The chunk.
    pub name: ChunkName,
}

impl RecordHead {
    /// The head of a record of `sealed`.
    #[must_use]
    pub fn of(name: ChunkName, sealed: &[u8]) -> Self {
        let mut crc = crc32fast::Hasher::new();
        crc.update(name.as_bytes());
        crc.update(sealed);
        Self { len: u32::try_from(sealed.len()).expect("a sealed chunk is about a mebibyte at most"), crc: crc.finalize(), name }
    }

    /// The bytes of the head.
    #[must_use]
    pub fn to_bytes(self) -> [u8; RECORD_HEAD] {
        let mut bytes = [0; RECORD_HEAD];
        bytes[..4].copy_from_slice(&self.len.to_le_bytes());
        bytes[4..8].copy_from_slice(&self.crc.to_le_bytes());
        bytes[8..].copy_from_slice(self.name.as_bytes());
        bytes
    }

    /// Reads a head and checks that its length is one that a sealed chunk can have.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, FormatError> {
        let mut cursor = Cursor::new("a chunk's record", bytes);
        let head = Self { len: cursor.u32()?, crc: cursor.u32()?, name: ChunkName(cursor.array()?) };
        if (MIN_SEALED..=MAX_SEALED).contains(&(head.len as usize)) {
            Ok(head)
        } else {
            Err(FormatError::damaged("a chunk's record", "its length is not one that chunks have"))
        }
    }

    /// Whether `sealed` is what was written under this head.
    #[must_use]
    pub fn matches(&self, sealed: &[u8]) -> bool {
        *self == Self::of(self.name, sealed)
    }
}

/// A segment, finished and named.
#[derive(Debug)]
pub struct FinishedSegment {
    /// Its name.
    pub hash: SegmentHash,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// How many chunks are in it.
    pub chunks: usize,
}

/// A segment in the making, in memory.
#[derive(Debug)]
pub struct SegmentBuilder {
    bytes: Vec<u8>,
    entries: Vec<SegmentEntry>,
}

impl SegmentBuilder {
    /// Begins a segment of `store` that is expected to grow to about `target` bytes.
    #[must_use]
    pub fn new(store: StoreId, target: usize) -> Self {
        Self::reusing(Vec::new(), store, target)
    }

    /// As [`SegmentBuilder::new`], in the memory of `bytes`, which are forgotten.
    #[must_use]
    pub fn reusing(mut bytes: Vec<u8>, store: StoreId, target: usize) -> Self {
        bytes.clear();
        bytes.reserve(target + MAX_SEALED);
        bytes.extend(MAGIC);
        bytes.extend(VERSION.to_le_bytes());
        bytes.extend([0; 6]);
        bytes.extend(store.as_bytes());
        Self { bytes, entries: Vec::new() }
    }

    /// Adds a sealed chunk.
    pub fn push(&mut self, name: ChunkName, sealed: &[u8]) {
        let head = RecordHead::of(name, sealed);
        let offset = self.offset();
        self.entries.push(SegmentEntry { name, offset, len: head.len });
        self.bytes.extend(head.to_bytes());
        self.bytes.extend(sealed);
    }

    /// Bytes so far, without the footer.
    #[must_use]
    pub fn len(&self) -> usize {
        self.bytes.len()
    }

    /// Bytes that the finished segment would have.
    #[must_use]
    pub fn finished_len(&self) -> u64 {
        (self.bytes.len() + self.entries.len() * FOOTER_ENTRY + TRAILER) as u64
    }

    /// Whether there is no chunk in it yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// Writes the footer and names the segment.
    #[must_use]
    pub fn finish(mut self) -> FinishedSegment {
        let footer_at = self.offset();
        self.bytes[12..16].copy_from_slice(&footer_at.to_le_bytes());
        let chunks = self.entries.len();
        self.bytes.extend(footer(&mut self.entries, footer_at));
        FinishedSegment { hash: SegmentHash(*blake3::hash(&self.bytes).as_bytes()), bytes: self.bytes, chunks }
    }

    /// Where the next record will lie.
    #[must_use]
    pub fn offset(&self) -> u32 {
        u32::try_from(self.bytes.len()).expect("a segment ends long before 4 GiB")
    }
}

/// Footer and trailer for `entries`, which are put in order.
fn footer(entries: &mut [SegmentEntry], footer_at: u32) -> Vec<u8> {
    entries.sort_unstable();
    let mut bytes = Vec::with_capacity(entries.len() * FOOTER_ENTRY + TRAILER);
    for entry in entries.iter() {
        bytes.extend(entry.name.as_bytes());
        bytes.extend(entry.offset.to_le_bytes());
        bytes.extend(entry.len.to_le_bytes());
    }
    let crc = crc32fast::hash(&bytes);
    bytes.extend(u64::from(footer_at).to_le_bytes());
    bytes.extend(u32::try_from(entries.len()).expect("fewer entries than bytes").to_le_bytes());
    bytes.extend(crc.to_le_bytes());
    bytes.extend(END_MAGIC);
    bytes
}

/// Reads a segment's entries from its end. `len` is the length of the segment; `read(offset, n)` returns `n` bytes of it.
///
/// # Errors
/// What `read` returns; [`FormatError`] when the footer is not sound.
pub fn read_footer<E: From<FormatError>>(
    store: StoreId,
    len: u64,
    mut read: impl FnMut(u64, usize) -> Result<Vec<u8>, E>,
) -> Result<Vec<SegmentEntry>, E> {
    let cut_short = FormatError::CutShort { what: WHAT };
    if len > MAX_SEGMENT {
        return Err(FormatError::damaged(WHAT, "it is longer than segments are").into());
    }
    let trailer_at = len.checked_sub(TRAILER as u64).filter(|at| *at >= SEGMENT_HEAD as u64).ok_or(cut_short)?;
    let footer_at = read_head(store, &read(0, SEGMENT_HEAD)?)?;
    let trailer = read(trailer_at, TRAILER)?;
    let mut cursor = Cursor::new(WHAT, &trailer);
    let (again, count, crc) = (cursor.u64()?, cursor.u32()?, cursor.u32()?);
    if cursor.take(8)? != END_MAGIC {
        return Err(FormatError::CutShort { what: WHAT }.into());
    }
    let footer_len = u64::from(count) * FOOTER_ENTRY as u64;
    if again != u64::from(footer_at) || again.checked_add(footer_len) != Some(trailer_at) {
        return Err(FormatError::damaged(WHAT, "its footer is not where its trailer says").into());
    }
    let footer_len = usize::try_from(footer_len).expect("less than a segment");
    let footer = read(again, footer_len)?;
    if crc32fast::hash(&footer) != crc {
        return Err(FormatError::damaged(WHAT, "its footer does not match its check").into());
    }
    Ok(footer.chunks_exact(FOOTER_ENTRY).map(footer_entry).collect::<Result<_, _>>()?)
}

fn footer_entry(bytes: &[u8]) -> Result<SegmentEntry, FormatError> {
    let mut cursor = Cursor::new(WHAT, bytes);
    Ok(SegmentEntry { name: ChunkName(cursor.array()?), offset: cursor.u32()?, len: cursor.u32()? })
}

/// The store that the head of a segment names.
///
/// # Errors
/// [`FormatError`] when it is not the head of a segment.
pub fn segment_store(head: &[u8]) -> Result<StoreId, FormatError> {
    let mut cursor = Cursor::new(WHAT, head);
    cursor.magic_and_version(MAGIC)?;
    cursor.take(6)?;
    Ok(StoreId(cursor.array()?))
}

/// Checks a segment's head and returns the offset of its footer.
fn read_head(store: StoreId, bytes: &[u8]) -> Result<u32, FormatError> {
    let mut cursor = Cursor::new(WHAT, bytes);
    cursor.magic_and_version(MAGIC)?;
    cursor.zeros(2)?;
    let footer_at = cursor.u32()?;
    if StoreId(cursor.array()?) != store {
        return Err(FormatError::damaged(WHAT, "it belongs to another store"));
    }
    if u64::from(footer_at) > MAX_SEGMENT || (footer_at as usize) < SEGMENT_HEAD {
        return Err(FormatError::damaged(WHAT, "its footer is out of range"));
    }
    Ok(footer_at)
}

/// Where the scanner is within a segment.
#[derive(Debug)]
enum Place {
    Head,
    RecordHead,
    Sealed { head: RecordHead, left: u32, crc: crc32fast::Hasher },
    Footer { expected: Vec<u8>, seen: usize },
}

/// Checks a whole segment as its bytes pass by, in pieces of any size, holding only its entries.
#[derive(Debug)]
pub struct SegmentScanner {
    store: StoreId,
    place: Place,
    /// The beginning of a head whose end has not arrived.
    pending: Vec<u8>,
    at: u64,
    footer_at: u32,
    entries: Vec<SegmentEntry>,
    hasher: blake3::Hasher,
}

impl SegmentScanner {
    /// A scanner for a segment of `store`.
    #[must_use]
    pub fn new(store: StoreId) -> Self {
        Self {
            store,
            place: Place::Head,
            pending: Vec::new(),
            at: 0,
            footer_at: 0,
            entries: Vec::new(),
            hasher: blake3::Hasher::new(),
        }
    }

    /// Takes the next bytes.
    ///
    /// # Errors
    /// [`FormatError`] as soon as they cannot belong to a sound segment.
    pub fn push(&mut self, mut bytes: &[u8]) -> Result<(), FormatError> {
        self.hasher.update(bytes);
        while !bytes.is_empty() {
            let used = self.step(bytes)?;
            self.at += used as u64;
            bytes = &bytes[used..];
            if self.at > MAX_SEGMENT {
                return Err(FormatError::damaged(WHAT, "it is longer than segments are"));
            }
        }
        Ok(())
    }

    /// The segment's name and its entries, ascending, once all bytes have been pushed.
    ///
    /// # Errors
    /// [`FormatError::CutShort`] when bytes are missing.
    pub fn finish(self) -> Result<(SegmentHash, Vec<SegmentEntry>), FormatError> {
        match &self.place {
            Place::Footer { expected, seen } if *seen == expected.len() => {
                Ok((SegmentHash(*self.hasher.finalize().as_bytes()), self.entries))
            }
            _ => Err(FormatError::CutShort { what: WHAT }),
        }
    }

    /// Uses some of `bytes` and says how many.
    fn step(&mut self, bytes: &[u8]) -> Result<usize, FormatError> {
        match &mut self.place {
            Place::Head => {
                let (used, head) = gather(&mut self.pending, bytes, SEGMENT_HEAD);
                if let Some(head) = head {
                    self.footer_at = read_head(self.store, &head)?;
                    self.next_record(used)?;
                }
                Ok(used)
            }
            Place::RecordHead => {
                let (used, head) = gather(&mut self.pending, bytes, RECORD_HEAD);
                if let Some(head) = head {
                    self.begin_sealed(RecordHead::from_bytes(&head)?, used);
                }
                Ok(used)
            }
            Place::Sealed { left, crc, .. } => {
                let used = bytes.len().min(*left as usize);
                crc.update(&bytes[..used]);
                *left -= u32::try_from(used).expect("not more than was left");
                if *left == 0 {
                    self.end_sealed(used)?;
                }
                Ok(used)
            }
            Place::Footer { expected, seen } => {
                let rest = &expected[*seen..];
                let used = bytes.len().min(rest.len());
                if used == 0 || bytes[..used] != rest[..used] {
                    return Err(FormatError::damaged(WHAT, "its footer does not match its records"));
                }
                *seen += used;
                Ok(used)
            }
        }
    }

    fn begin_sealed(&mut self, head: RecordHead, used: usize) {
        let offset = self.at + used as u64 - RECORD_HEAD as u64;
        let offset = u32::try_from(offset).expect("checked against the segment's greatest length");
        self.entries.push(SegmentEntry { name: head.name, offset, len: head.len });
        let mut crc = crc32fast::Hasher::new();
        crc.update(head.name.as_bytes());
        self.place = Place::Sealed { head, left: head.len, crc };
    }

    fn end_sealed(&mut self, used: usize) -> Result<(), FormatError> {
        if let Place::Sealed { head, crc, .. } = &self.place
            && crc.clone().finalize() != head.crc
        {
            return Err(FormatError::damaged(WHAT, "a chunk in it does not match its check"));
        }
        self.next_record(used)
    }

    fn next_record(&mut self, used: usize) -> Result<(), FormatError> {
        let at = self.at + used as u64;
        self.place = match at.cmp(&u64::from(self.footer_at)) {
            std::cmp::Ordering::Less => Place::RecordHead,
            std::cmp::Ordering::Equal => Place::Footer { expected: footer(&mut self.entries, self.footer_at), seen: 0 },
            std::cmp::Ordering::Greater => {
                return Err(FormatError::damaged(WHAT, "a record reaches into its footer"));
            }
        };
        Ok(())
    }
}

/// Collects `n` bytes in `pending`; returns how many of `bytes` were used and, once complete, all `n`.
fn gather(pending: &mut Vec<u8>, bytes: &[u8], n: usize) -> (usize, Option<Vec<u8>>) {
    let used = bytes.len().min(n - pending.len());
    pending.extend(&bytes[..used]);
    (used, (pending.len() == n).then(|| std::mem::take(pending)))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const STORE: StoreId = StoreId([9; 16]);

    fn segment(chunks: usize) -> FinishedSegment {
        let mut builder = SegmentBuilder::new(STORE, 1000);
        for i in 0..chunks {
            let name = ChunkName(*blake3::hash(&i.to_le_bytes()).as_bytes());
            builder.push(name, &vec![i as u8; 29 + i * 13]);
        }
        builder.finish()
    }

    fn scan(bytes: &[u8], piece: usize) -> Result<(SegmentHash, Vec<SegmentEntry>), FormatError> {
        let mut scanner = SegmentScanner::new(STORE);
        bytes.chunks(piece).try_for_each(|piece| scanner.push(piece))?;
        scanner.finish()
    }

    fn footer_of(bytes: &[u8]) -> Result<Vec<SegmentEntry>, FormatError> {
        read_footer(STORE, bytes.len() as u64, |offset, n| {
            Ok::<_, FormatError>(bytes[offset as usize..offset as usize + n].to_vec())
        })
    }

    proptest! {
        #[test]
        fn scanning_in_any_pieces_agrees_with_the_footer(chunks in 0_usize..20, piece in 1_usize..500) {
            let segment = segment(chunks);
            let (hash, entries) = scan(&segment.bytes, piece).expect("sound");
            prop_assert_eq!(hash, segment.hash);
            prop_assert_eq!(Ok(entries), footer_of(&segment.bytes));
        }

        #[test]
        fn a_flipped_bit_is_noticed_or_changes_the_name(bit in 0_usize..8, seed: usize) {
            let segment = segment(5);
            let mut bytes = segment.bytes.clone();
            let at = seed % bytes.len();
            bytes[at] ^= 1 << bit;
            prop_assert!(scan(&bytes, 64).map_or(true, |(hash, _)| hash != segment.hash));
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes: Vec<u8>) {
            let _ = scan(&bytes, 7);
            let _ = footer_of(&bytes);
        }
    }

    #[test]
    fn every_truncation_is_refused() {
        let bytes = segment(3).bytes;
        for n in 0..bytes.len() {
            assert!(scan(&bytes[..n], 50).is_err(), "scanned {n} bytes");
            assert!(footer_of(&bytes[..n]).is_err(), "footer of {n} bytes");
        }
    }

    #[test]
    fn another_stores_segment_is_refused() {
        let mut scanner = SegmentScanner::new(StoreId([8; 16]));
        assert!(scanner.push(&segment(1).bytes).is_err());
    }

    #[test]
    fn a_later_version_is_named() {
        let mut bytes = segment(1).bytes;
        bytes[8] = 2;
        assert_eq!(footer_of(&bytes), Err(FormatError::UnknownVersion { what: WHAT, found: 2 }));
    }
}
