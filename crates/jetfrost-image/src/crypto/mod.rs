//! Keys and what they seal (§ 3, § 4, § 7).

mod chunk;
mod keys;
mod office_box;
mod office_key;
mod order;
mod padding;
mod point;
mod random;
mod slots;

pub use chunk::{Effort, Opener, Sealer, open_chunk};
pub use keys::{StoreKey, StoreKeys};
pub use office_box::{BoxReader, BoxWriter};
pub use office_key::{OfficeKey, OfficePublicKey, unwrap_with_office_key, wrap_for_office};
pub use order::{open_order, seal_order};
pub use point::{open_point, seal_point};
pub use random::{Random, SeededRandom, SystemRandom, random_array};
pub use slots::{Secret, unwrap_key, wrap_key};

use ring::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};

use crate::format::FormatError;

/// Why something sealed does not open. Deliberately coarse: a wrong key and altered bytes look alike.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum OpenError {
    /// The secret is not the one for this slot, or the slot was altered.
    #[error("this secret does not open the store")]
    WrongSecret,
    /// The bytes are not what was sealed under this key.
    #[error("the bytes are not what was stored")]
    Altered,
    /// Opened, but not in the format.
    #[error(transparent)]
    Format(#[from] FormatError),
}

const NONCE: usize = 12;
const TAG: usize = 16;

fn gcm(key: &[u8; 32]) -> LessSafeKey {
    LessSafeKey::new(UnboundKey::new(&AES_256_GCM, key).expect("the key has 32 bytes"))
}

/// Encrypts in place and appends the tag. `nonce` must never be used twice with one key for different data.
fn seal_in_place(key: &[u8; 32], nonce: [u8; NONCE], associated: &[u8], data: &mut [u8]) -> [u8; TAG] {
    let tag = gcm(key).seal_in_place_separate_tag(Nonce::assume_unique_for_key(nonce), Aad::from(associated), data);
    let tag = tag.expect("AES-GCM seals up to 64 GiB");
    tag.as_ref().try_into().expect("a tag has 16 bytes")
}

/// Decrypts `data` with its tag in place and returns what was sealed.
fn open_in_place<'d>(key: &[u8; 32], nonce: [u8; NONCE], associated: &[u8], data: &'d mut [u8]) -> Option<&'d mut [u8]> {
    gcm(key).open_in_place(Nonce::assume_unique_for_key(nonce), Aad::from(associated), data).ok()
}
