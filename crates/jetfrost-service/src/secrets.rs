//! Random identifiers and secrets of the service, and how they are kept.

use std::sync::{Mutex, PoisonError};

use argon2::{Algorithm, Argon2, Params, Version};
use data_encoding::{BASE32_NOPAD, HEXLOWER};
use jetfrost_image::crypto::{Random, random_array};
use jetfrost_types::TextId;
use subtle::ConstantTimeEq;

/// What a bearer secret opens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum SecretKind {
    /// A person's session.
    Session,
    /// A workstation's device credential.
    Device,
}

impl SecretKind {
    fn prefix(self) -> &'static str {
        match self {
            Self::Session => "jfs_",
            Self::Device => "jfd_",
        }
    }

    /// What kind a bearer secret says it is.
    pub(crate) fn of(secret: &str) -> Option<Self> {
        [Self::Session, Self::Device].into_iter().find(|kind| secret.starts_with(kind.prefix()))
    }
}

/// A new identifier of a record: ten symbols, 50 bits.
pub(crate) fn new_id<T: TextId>(random: &dyn Random) -> T {
    let text = BASE32_NOPAD.encode(&random_array::<7>(random)).to_lowercase();
    text[..10].to_owned().into()
}

/// A new bearer secret of 256 bits.
pub(crate) fn new_secret(kind: SecretKind, random: &dyn Random) -> String {
    format!("{}{}", kind.prefix(), HEXLOWER.encode(&random_array::<32>(random)))
}

/// What is kept of a random secret. It has too many bits to be guessed, so one fast hash does.
pub(crate) fn hash(secret: &[u8]) -> Vec<u8> {
    blake3::hash(secret).as_bytes().to_vec()
}

const SALT: usize = 16;
/// The first byte says how the rest was made: 1 is Argon2id with 19 MiB, 2 passes, 1 lane.
const SCHEME: u8 = 1;

/// What is kept of a password: scheme, salt, Argon2id (RFC 9106).
pub(crate) fn hash_password(password: &str, random: &dyn Random) -> Vec<u8> {
    let salt: [u8; SALT] = random_array(random);
    let mut kept = vec![SCHEME];
    kept.extend(salt);
    kept.extend(stretch(password, &salt));
    kept
}

/// Whether a password is the one that was kept. Without one it takes as long, and is wrong.
pub(crate) fn is_password(password: &str, kept: Option<&[u8]>) -> bool {
    let nothing = [SCHEME; 1 + SALT + 32];
    let known = kept.is_some_and(|kept| kept.len() == nothing.len() && kept[0] == SCHEME);
    let kept = if known { kept.unwrap_or(&nothing) } else { &nothing };
    let found = stretch(password, &kept[1..=SALT]);
    let same: bool = found[..].ct_eq(&kept[1 + SALT..]).into();
    known && same
}

/// One at a time: a flood of sign-ins must not take 19 MiB for each.
static STRETCHING: Mutex<()> = Mutex::new(());

fn stretch(password: &str, salt: &[u8]) -> [u8; 32] {
    let _alone = STRETCHING.lock().unwrap_or_else(PoisonError::into_inner);
    let params = Params::new(19 * 1024, 2, 1, Some(32)).expect("these are within Argon2's limits");
    let mut out = [0; 32];
    Argon2::new(Algorithm::Argon2id, Version::V0x13, params)
        .hash_password_into(password.as_bytes(), salt, &mut out)
        .expect("these are within Argon2's limits");
    out
}

#[cfg(test)]
mod tests {
    use jetfrost_image::crypto::SeededRandom;

    use super::*;

    #[test]
    fn a_password_is_known_again_and_no_other_is() {
        let kept = hash_password("low water springs", &SeededRandom::new(b"p"));
        assert!(is_password("low water springs", Some(&kept)));
        assert!(!is_password("low water neaps", Some(&kept)));
        assert!(!is_password("low water springs", None));
        assert!(!is_password("low water springs", Some(&kept[1..])));
    }

    #[test]
    fn secrets_say_what_they_are() {
        let random = SeededRandom::new(b"s");
        for kind in [SecretKind::Session, SecretKind::Device] {
            assert_eq!(SecretKind::of(&new_secret(kind, &random)), Some(kind));
        }
        assert_eq!(SecretKind::of("hello"), None);
    }
}
