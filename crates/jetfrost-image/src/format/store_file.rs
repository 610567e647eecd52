//! `store.cbor`: what an image store is.

use minicbor::{Decode, Encode};

use super::{FormatError, SlotKind, VERSION, from_cbor, to_cbor};
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
}

impl StoreFile {
    /// Describes a new store.
    #[must_use]
    pub fn new(store: StoreId, created: i64) -> Self {
        Self { version: VERSION.into(), store, suite: ENCRYPTED, created }
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

    /// The bytes of the file.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        to_cbor(self)
    }

    /// Reads the file.
    ///
    /// # Errors
    /// [`FormatError`] when it is not one, or one of a later version or suite.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, FormatError> {
        let file: Self = from_cbor(WHAT, bytes)?;
        if file.version != u64::from(VERSION) {
            return Err(FormatError::UnknownVersion { what: WHAT, found: file.version });
        }
        if ![ENCRYPTED, OPEN].contains(&file.suite) {
            return Err(FormatError::damaged(WHAT, "its suite of algorithms is unknown"));
        }
        Ok(file)
    }
}
