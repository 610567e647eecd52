//! `store.cbor`: what an image store is.

use minicbor::{Decode, Encode};

use super::{FormatError, VERSION, from_cbor, to_cbor};
use crate::id::StoreId;

const WHAT: &str = "the store's description (store.cbor)";

/// Suite 1: keyed BLAKE3, Zstandard, AES-256-GCM, HKDF-SHA-256, as in `docs/format.md`.
const SUITE: u64 = 1;

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
        Self { version: VERSION.into(), store, suite: SUITE, created }
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
        if file.suite != SUITE {
            return Err(FormatError::damaged(WHAT, "its suite of algorithms is unknown"));
        }
        Ok(file)
    }
}
