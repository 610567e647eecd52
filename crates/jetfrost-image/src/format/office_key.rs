//! The office key's file: the private half, itself under a passphrase (§ 3).

use minicbor::{Decode, Encode};

use super::{ArgonCost, FormatError, VERSION, from_cbor, to_cbor};

const WHAT: &str = "an office key";

/// An office key as an administrator keeps it, outside the service.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct OfficeKeyFile {
    #[n(0)]
    pub(crate) version: u64,
    /// The public half (X25519, RFC 7748).
    #[cbor(n(1), with = "minicbor::bytes")]
    pub public: [u8; 32],
    /// Random.
    #[cbor(n(2), with = "minicbor::bytes")]
    pub salt: [u8; 16],
    /// What Argon2id used.
    #[n(3)]
    pub cost: ArgonCost,
    /// Random.
    #[cbor(n(4), with = "minicbor::bytes")]
    pub nonce: [u8; 12],
    /// The private half with its tag.
    #[cbor(n(5), with = "minicbor::bytes")]
    pub wrapped: [u8; 48],
}

impl OfficeKeyFile {
    /// A file whose private half is still to be wrapped.
    #[must_use]
    pub fn unsealed(public: [u8; 32], salt: [u8; 16], cost: ArgonCost, nonce: [u8; 12]) -> Self {
        Self { version: VERSION.into(), public, salt, cost, nonce, wrapped: [0; 48] }
    }

    /// The associated data that binds the private half to the public one and to what stretches the passphrase.
    #[must_use]
    pub fn associated_data(&self) -> Vec<u8> {
        let mut data = b"jetfrost v1 office key".to_vec();
        data.extend(self.public);
        data.extend(self.salt);
        for number in [self.cost.memory, self.cost.passes, self.cost.lanes] {
            data.extend(number.to_le_bytes());
        }
        data
    }

    /// The bytes of the file.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        to_cbor(self)
    }

    /// Reads the file; a cost beyond what it may ask for is refused here, before anything is spent.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, FormatError> {
        let file: Self = from_cbor(WHAT, bytes)?;
        if file.version != u64::from(VERSION) {
            return Err(FormatError::UnknownVersion { what: WHAT, found: file.version });
        }
        file.cost.check()?;
        Ok(file)
    }
}
