//! Bytes to structures and back, and nothing else: no files, no keys, no clock.
//!
//! Every reader here is given bytes that nobody has checked. It refuses what it does not know and never
//! allocates more than the bytes at hand can justify.

mod content;
mod cursor;
mod entry;
mod index_run;
mod needs;
mod office_key;
mod order;
mod point;
mod receipt;
mod recovery_key;
mod segment;
mod slot;
mod store_file;

use minicbor::bytes::ByteArray;
use minicbor::{Decode, Encode};

use cursor::Cursor;

pub use jetfrost_types::PointKind;

pub use content::{Content, MAX_DEPTH, Part};
pub use entry::{Entry, EntryKind, EntryPage, Flags, LargeAttribute, MAX_ENTRY};
pub use index_run::{IndexEntry, RunHead, RunLayout};
pub use needs::{NEEDS_HEAD_LEN, NeedsHead, NeedsScanner, NeedsSummary, NeedsWriter, encode_needs, needs_check};
pub use office_key::OfficeKeyFile;
pub use order::{MAX_ORDER, Order};
pub use point::{Cause, Exception, PointBody, PointFile, PointHead, exceptions_from_page};
pub use receipt::Receipt;
pub use recovery_key::{RecoveryKey, RecoveryKeyError};
pub(crate) use segment::MAX_SEALED;
pub use segment::{
    EMPTY_SEGMENT, FinishedSegment, MAX_SEGMENT, RECORD_HEAD, RecordHead, SEGMENT_HEAD, SegmentBuilder, SegmentEntry,
    SegmentScanner, read_footer, segment_store, stored_len,
};
pub use slot::{ArgonCost, Slot, SlotKind};
pub use store_file::StoreFile;

/// The format version that this code reads and writes.
pub const VERSION: u16 = 1;

/// Bytes of a check: BLAKE3.
const CHECK: usize = 32;

/// The most content that a chunk may hold, in bytes.
pub const MAX_CHUNK: usize = 1 << 20;

/// Why bytes are not what they should be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FormatError {
    /// Fewer bytes than the structure needs.
    #[error("{what} is cut short")]
    CutShort {
        /// The structure.
        what: &'static str,
    },
    /// The first bytes belong to something else.
    #[error("this is not {what}")]
    NotOne {
        /// The structure that was expected.
        what: &'static str,
    },
    /// Written by a later program.
    #[error("{what} has format version {found}, and this program knows version 1; use a newer one")]
    UnknownVersion {
        /// The structure.
        what: &'static str,
        /// The version in it.
        found: u64,
    },
    /// Bytes that contradict each other or the format.
    #[error("{what} is damaged: {why}")]
    Damaged {
        /// The structure.
        what: &'static str,
        /// What contradicts what.
        why: &'static str,
    },
}

impl FormatError {
    pub(crate) fn damaged(what: &'static str, why: &'static str) -> Self {
        Self::Damaged { what, why }
    }
}

/// The beginning of a file with a clear part: magic, version, two reserved bytes, the clear part's length, and itself.
fn with_clear_part<T: Encode<()>>(magic: &[u8; 8], clear: &T) -> Vec<u8> {
    let clear = to_cbor(clear);
    let mut bytes = magic.to_vec();
    bytes.extend(VERSION.to_le_bytes());
    bytes.extend([0; 2]);
    bytes.extend(u32::try_from(clear.len()).expect("a clear part has a few hundred bytes").to_le_bytes());
    bytes.extend(clear);
    bytes
}

/// A file's bytes with their check behind them.
fn with_check(mut bytes: Vec<u8>) -> Vec<u8> {
    let check = blake3::hash(&bytes);
    bytes.extend(check.as_bytes());
    bytes
}

/// CBOR of a map whose last value, of key 255, is its check: BLAKE3 of all bytes before that.
fn with_last_key_as_check<T: Encode<()>>(map_with_zeros: &T) -> Vec<u8> {
    let mut bytes = to_cbor(map_with_zeros);
    let before = bytes.len() - CHECK;
    let check = blake3::hash(&bytes[..before]);
    bytes[before..].copy_from_slice(check.as_bytes());
    bytes
}

/// Holds a map against its check. Maps of the first versions have none: such a one holds nothing but what those wrote, or it is one
/// whose check is damaged.
fn check_last_key<T: Encode<()>>(
    what: &'static str,
    bytes: &[u8],
    map: &T,
    check: Option<&ByteArray<CHECK>>,
) -> Result<(), FormatError> {
    let (before, last) = bytes.split_at(bytes.len().saturating_sub(CHECK));
    let matches = match check {
        Some(check) => last == check.as_slice() && *blake3::hash(before).as_bytes() == **check,
        None => to_cbor(map) == bytes,
    };
    if matches { Ok(()) } else { Err(FormatError::damaged(what, "it does not match its check")) }
}

/// Reads the check at the end of a file: BLAKE3 of all bytes before it, and nothing behind it.
fn check_at_end(what: &'static str, bytes: &[u8], cursor: &mut Cursor<'_>) -> Result<(), FormatError> {
    let check: [u8; CHECK] = cursor.array()?;
    if !cursor.is_at_end() {
        return Err(FormatError::damaged(what, "bytes follow its end"));
    }
    if *blake3::hash(&bytes[..bytes.len() - check.len()]).as_bytes() != check {
        return Err(FormatError::damaged(what, "it does not match its check"));
    }
    Ok(())
}

/// CBOR of a value whose encoding cannot fail.
pub(crate) fn to_cbor<T: Encode<()>>(value: &T) -> Vec<u8> {
    minicbor::to_vec(value).expect("writing to a vector does not fail")
}

/// A value from bytes that hold exactly one CBOR item.
pub(crate) fn from_cbor<'b, T: Decode<'b, ()>>(what: &'static str, bytes: &'b [u8]) -> Result<T, FormatError> {
    let mut decoder = minicbor::Decoder::new(bytes);
    let value = decoder.decode().map_err(|_| FormatError::damaged(what, "it is not the CBOR that belongs here"))?;
    if decoder.position() == bytes.len() { Ok(value) } else { Err(FormatError::damaged(what, "bytes follow its end")) }
}

/// The values of a CBOR sequence (RFC 8742).
pub(crate) fn from_cbor_sequence<'b, T: Decode<'b, ()>>(what: &'static str, bytes: &'b [u8]) -> Result<Vec<T>, FormatError> {
    let mut decoder = minicbor::Decoder::new(bytes);
    let mut values = Vec::new();
    while decoder.position() < bytes.len() {
        values.push(decoder.decode().map_err(|_| FormatError::damaged(what, "it is not the CBOR that belongs here"))?);
    }
    Ok(values)
}
