//! Recovery points: a clear part for the service, a sealed body for the workstation (§ 7).

use super::cursor::Cursor;
use super::{Content, FormatError, check_at_end, from_cbor, from_cbor_sequence, to_cbor, with_check, with_clear_part};
use jetfrost_types::{Changes, PointKind};
use minicbor::bytes::ByteVec;
use minicbor::{Decode, Encode};

use crate::id::{PointId, StoreId};

const WHAT: &str = "a recovery point";
const MAGIC: &[u8; 8] = b"\x89JFPNT\r\n";

/// The clear part: all that the service learns about a point.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct PointHead {
    /// The store.
    #[n(0)]
    pub store: StoreId,
    /// The point.
    #[n(1)]
    pub id: PointId,
    /// Its number within the store, from 1.
    #[n(2)]
    pub sequence: u64,
    /// What it is a state of.
    #[n(3)]
    pub kind: PointKind,
    /// When it was made, as the workstation says, in Unix milliseconds. Nothing is decided by it: see [`Receipt`](super::Receipt).
    #[n(4)]
    pub created: i64,
    /// The latest point when this one was made.
    #[n(5)]
    pub previous: Option<PointId>,
    /// How many chunks it needs.
    #[n(6)]
    pub needed: u64,
    /// Their names combined by XOR.
    #[cbor(n(7), with = "minicbor::bytes")]
    pub needed_xor: [u8; 32],
    /// Bytes of content.
    #[n(8)]
    pub bytes: u64,
    /// Files.
    #[n(9)]
    pub files: u64,
    /// Exceptions.
    #[n(10)]
    pub exceptions: u64,
    /// The check of the needs file with which the point is committed. A point of an earlier version has none.
    #[cbor(n(11), with = "minicbor::bytes")]
    pub needs: Option<[u8; 32]>,
    /// How it differs from the latest point of its kind before it. A point of an earlier version has none, nor has one whose workstation does not
    /// remember that point.
    #[n(12)]
    pub changes: Option<Changes>,
}

/// The body, which only the store key opens.
#[derive(Debug, Clone, Default, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct PointBody {
    /// The listing that begins at `/`, or the disk.
    #[n(0)]
    pub root: Content,
    /// The folders that were chosen.
    #[n(1)]
    pub folders: Vec<ByteVec>,
    /// The patterns that left things out.
    #[n(2)]
    pub excluded: Vec<String>,
    /// The machine's name.
    #[n(3)]
    pub host: String,
    /// The exceptions, a CBOR sequence of [`Exception`].
    #[n(4)]
    pub exceptions: Content,
    /// The program that wrote the point.
    #[n(5)]
    pub writer: String,
    /// The whole selection as the workstation keeps it, in TOML: with it a machine that takes the workstation over goes on. A point of
    /// an earlier version has none.
    #[n(6)]
    pub selection: Option<String>,
}

impl PointBody {
    /// The bytes to seal.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        to_cbor(self)
    }

    /// Reads an opened body.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, FormatError> {
        let body: Self = from_cbor(WHAT, bytes)?;
        body.root.check()?;
        body.exceptions.check()?;
        Ok(body)
    }
}

/// Why a point does not hold something as it was.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Encode, Decode)]
#[cbor(index_only)]
pub enum Cause {
    /// It kept changing while it was read; what was read last is kept and marked.
    #[n(1)]
    ChangedWhileRead,
    /// It could not be read.
    #[n(2)]
    Unreadable,
    /// It was listed and then gone.
    #[n(3)]
    Disappeared,
}

/// Something that a point does not hold as it was.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct Exception {
    /// Why.
    #[n(0)]
    pub cause: Cause,
    /// Absolute path.
    #[cbor(n(1), with = "minicbor::bytes")]
    pub path: Vec<u8>,
    /// What the system said.
    #[n(2)]
    pub explanation: String,
}

impl Exception {
    /// The bytes of one exception in the sequence.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        to_cbor(self)
    }
}

/// Reads a sequence of exceptions.
///
/// # Errors
/// [`FormatError`].
pub fn exceptions_from_page(bytes: &[u8]) -> Result<Vec<Exception>, FormatError> {
    from_cbor_sequence("a list of exceptions", bytes)
}

/// A point file, taken apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PointFile {
    /// The clear part.
    pub head: PointHead,
    /// Nonce, sealed body, tag.
    pub sealed: Vec<u8>,
}

impl PointFile {
    /// The bytes in front of the sealed part, to which it is bound.
    #[must_use]
    pub fn associated_data(head: &PointHead) -> Vec<u8> {
        with_clear_part(MAGIC, head)
    }

    /// The bytes of the file.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = Self::associated_data(&self.head);
        bytes.extend(u32::try_from(self.sealed.len()).expect("a body refers to its lists, it does not hold them").to_le_bytes());
        bytes.extend(&self.sealed);
        with_check(bytes)
    }

    /// Reads a point file and checks it against its own hash.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, FormatError> {
        let mut cursor = Cursor::new(WHAT, bytes);
        let clear = cursor.clear_part(MAGIC)?;
        let sealed_len = cursor.u32()? as usize;
        let sealed = cursor.take(sealed_len)?;
        check_at_end(WHAT, bytes, &mut cursor)?;
        let head: PointHead = from_cbor(WHAT, clear)?;
        if head.sequence == 0 {
            return Err(FormatError::damaged(WHAT, "points are numbered from 1"));
        }
        Ok(Self { head, sealed: sealed.to_vec() })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn file() -> PointFile {
        let head = PointHead {
            store: StoreId([1; 16]),
            id: PointId([2; 16]),
            sequence: 7,
            kind: PointKind::Files,
            created: 1_790_000_000_123,
            previous: None,
            needed: 3,
            needed_xor: [4; 32],
            bytes: 10,
            files: 2,
            exceptions: 0,
            needs: Some([6; 32]),
            changes: Some(Changes { added: 2, gone: 1, ..Changes::default() }),
        };
        PointFile { head, sealed: vec![5; 60] }
    }

    proptest! {
        #[test]
        fn a_flipped_bit_is_noticed(bit in 0_usize..8, seed: usize) {
            let mut bytes = file().to_bytes();
            let at = seed % bytes.len();
            bytes[at] ^= 1 << bit;
            prop_assert!(PointFile::from_bytes(&bytes).is_err());
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes: Vec<u8>) {
            let _ = PointFile::from_bytes(&bytes);
            let _ = PointBody::from_bytes(&bytes);
            let _ = exceptions_from_page(&bytes);
        }
    }

    #[test]
    fn a_point_round_trips() {
        assert_eq!(PointFile::from_bytes(&file().to_bytes()), Ok(file()));
    }

    #[test]
    fn a_later_version_is_named_and_refused() {
        let mut bytes = file().to_bytes();
        bytes[8] = 9;
        let refusal = PointFile::from_bytes(&bytes).expect_err("unknown version").to_string();
        assert_eq!(refusal, "a recovery point has format version 9, and this program knows version 1; use a newer one");
    }

    #[test]
    fn every_truncation_is_refused() {
        let bytes = file().to_bytes();
        for n in 0..bytes.len() {
            assert!(PointFile::from_bytes(&bytes[..n]).is_err(), "{n} bytes");
        }
    }
}
