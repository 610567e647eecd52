//! `store.cbor`: what an image store is.

use minicbor::bytes::ByteArray;
use minicbor::{Decode, Encode};

use super::{CHECK, FormatError, SlotKind, VERSION, check_last_key, from_cbor, with_last_key_as_check};
use crate::id::StoreId;

const WHAT: &str = "the store's description (store.cbor)";

/// Suite 1: keyed BLAKE3, Zstandard, AES-256-GCM, HKDF-SHA-256, as in `docs/format.md`.
const ENCRYPTED: u64 = 1;
/// Suite 2: as suite 1, but the store key is no secret: a slot of kind 4 gives it to anyone.
const OPEN: u64 = 2;

/// Written once, when the store is made.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct StoreFile {
    #[n(0)]
    version: u64,
    /// Which store this is.
    #[n(1)]
    pub store: StoreId,
    #[n(2)]
    suite: u64,
    /// When it was made, in Unix seconds.
    #[n(3)]
    pub created: i64,
    /// Descriptions of the first versions have none.
    #[n(255)]
    pub(crate) check: Option<ByteArray<CHECK>>,
}

impl StoreFile {
    /// Describes a new store.
    #[must_use]
    pub fn new(store: StoreId, created: i64) -> Self {
        Self { version: VERSION.into(), store, suite: ENCRYPTED, created, check: None }
    }

    /// Describes a new store whose key is no secret. It stays so: what was once open is not made secret afterwards.
    #[must_use]
    pub fn open(store: StoreId, created: i64) -> Self {
        Self { suite: OPEN, ..Self::new(store, created) }
    }

    /// Whether only who has a secret reads it.
    #[must_use]
    pub fn is_encrypted(&self) -> bool {
        self.suite == ENCRYPTED
    }

    /// Whether a slot of this kind belongs into it.
    #[must_use]
    pub fn takes(&self, kind: SlotKind) -> bool {
        self.is_encrypted() != (kind == SlotKind::Open)
    }

    /// The bytes of the file, with their check.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        with_last_key_as_check(&Self { check: Some([0; CHECK].into()), ..self.clone() })
    }

    /// Reads the file.
    ///
    /// # Errors
    /// [`FormatError`] when it is not one, or one of a later version or suite.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, FormatError> {
        let file: Self = from_cbor(WHAT, bytes)?;
        check_last_key(WHAT, bytes, &file, file.check.as_ref())?;
        if file.version != u64::from(VERSION) {
            return Err(FormatError::UnknownVersion { what: WHAT, found: file.version });
        }
        if ![ENCRYPTED, OPEN].contains(&file.suite) {
            return Err(FormatError::damaged(WHAT, "its suite of algorithms is unknown"));
        }
        Ok(Self { check: None, ..file })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_flipped_bit_is_seen_and_a_description_of_the_first_versions_is_read() {
        let file = StoreFile::new(StoreId([3; 16]), 1_700_000_000);
        let bytes = file.to_bytes();
        assert_eq!(StoreFile::from_bytes(&bytes), Ok(file.clone()));
        for bit in 0..bytes.len() * 8 {
            let mut flipped = bytes.clone();
            flipped[bit / 8] ^= 1 << (bit % 8);
            assert!(StoreFile::from_bytes(&flipped).is_err(), "bit {bit}");
        }
        assert_eq!(StoreFile::from_bytes(&super::super::to_cbor(&file)), Ok(file));
    }
}
