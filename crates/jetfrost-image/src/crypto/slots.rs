//! Wrapping the store key for one secret (§ 3).

use argon2::{Algorithm, Argon2, Params, Version};
use ring::hkdf::{HKDF_SHA256, Salt};
use unicode_normalization::UnicodeNormalization;
use zeroize::Zeroizing;

use super::keys::expand;
use super::random::{Random, random_array};
use super::{OpenError, StoreKey, open_in_place, seal_in_place};
use crate::format::{ArgonCost, RecoveryKey, Slot, SlotKind};
use crate::id::{SlotId, StoreId};

/// A secret that opens a slot.
#[derive(Clone, Copy)]
pub enum Secret<'a> {
    /// The image passphrase, as typed.
    Passphrase(&'a str),
    /// The printed recovery key.
    RecoveryKey(&'a RecoveryKey),
    /// None: the store is open to whoever has it.
    None,
}

impl Secret<'_> {
    /// The kind of slot that this secret opens.
    #[must_use]
    pub fn kind(&self) -> SlotKind {
        match self {
            Self::Passphrase(_) => SlotKind::Passphrase,
            Self::RecoveryKey(_) => SlotKind::RecoveryKey,
            Self::None => SlotKind::Open,
        }
    }

    fn wrapping_key(&self, salt: &[u8; 16], cost: Option<ArgonCost>) -> Zeroizing<[u8; 32]> {
        match self {
            Self::Passphrase(text) => stretch(text, salt, cost.unwrap_or(ArgonCost::USUAL)),
            Self::RecoveryKey(key) => {
                let prk = Salt::new(HKDF_SHA256, salt).extract(&key.0);
                Zeroizing::new(expand(&prk, b"jetfrost v1 recovery"))
            }
            Self::None => Zeroizing::new(expand(&Salt::new(HKDF_SHA256, salt).extract(&[]), b"jetfrost v1 open")),
        }
    }
}

/// Argon2id (RFC 9106) of the passphrase in UTF-8 after NFC.
pub(super) fn stretch(passphrase: &str, salt: &[u8; 16], cost: ArgonCost) -> Zeroizing<[u8; 32]> {
    let normal = Zeroizing::new(passphrase.nfc().collect::<String>());
    let params = Params::new(cost.memory, cost.passes, cost.lanes, Some(32)).expect("slots are checked when read");
    let mut key = Zeroizing::new([0; 32]);
    Argon2::new(Algorithm::Argon2id, Version::V0x13, params)
        .hash_password_into(normal.as_bytes(), salt, key.as_mut())
        .expect("the lengths are within Argon2's limits");
    key
}

/// Makes a slot in which `key` is wrapped for `secret`; `created` is in Unix seconds.
#[must_use]
pub fn wrap_key(store: StoreId, key: &StoreKey, secret: Secret<'_>, cost: ArgonCost, created: i64, random: &dyn Random) -> Slot {
    let kind = secret.kind();
    let cost = (kind == SlotKind::Passphrase).then_some(cost);
    let mut slot = Slot::unsealed(store, SlotId(random_array(random)), kind, created, random_array(random), cost);
    slot.nonce = random_array(random);
    let wrapping = secret.wrapping_key(&slot.salt, cost);
    let mut data = Zeroizing::new(key.0);
    let tag = seal_in_place(&wrapping, slot.nonce, &slot.associated_data(), data.as_mut());
    slot.wrapped[..32].copy_from_slice(data.as_ref());
    slot.wrapped[32..].copy_from_slice(&tag);
    slot
}

/// Opens a slot.
///
/// # Errors
/// [`OpenError::WrongSecret`] when the secret is another one or of another kind.
pub fn unwrap_key(slot: &Slot, secret: Secret<'_>) -> Result<StoreKey, OpenError> {
    if slot.kind != secret.kind() {
        return Err(OpenError::WrongSecret);
    }
    let wrapping = secret.wrapping_key(&slot.salt, slot.cost);
    let mut data = Zeroizing::new(slot.wrapped);
    let opened = open_in_place(&wrapping, slot.nonce, &slot.associated_data(), data.as_mut()).ok_or(OpenError::WrongSecret)?;
    let key: &[u8] = opened;
    Ok(StoreKey(key.try_into().map_err(|_| OpenError::WrongSecret)?))
}

#[cfg(test)]
mod tests {
    use super::super::SeededRandom;
    use super::*;

    const QUICK: ArgonCost = ArgonCost { memory: 64, passes: 1, lanes: 1 };
    const STORE: StoreId = StoreId([5; 16]);

    fn wrap(secret: Secret<'_>) -> (StoreKey, Slot) {
        let random = SeededRandom::new(b"slots");
        let key = StoreKey::generate(&random);
        let slot = wrap_key(STORE, &key, secret, QUICK, 0, &random);
        (key, slot)
    }

    #[test]
    fn a_passphrase_opens_its_slot_however_its_accents_are_typed() {
        let (key, slot) = wrap(Secret::Passphrase("Möwe am Kliff"));
        assert_eq!(unwrap_key(&slot, Secret::Passphrase("Mo\u{308}we am Kliff")), Ok(key));
        assert_eq!(unwrap_key(&slot, Secret::Passphrase("möwe am Kliff")), Err(OpenError::WrongSecret));
    }

    #[test]
    fn a_recovery_key_opens_its_slot_and_no_other() {
        let recovery = RecoveryKey([9; 16]);
        let (key, slot) = wrap(Secret::RecoveryKey(&recovery));
        assert_eq!(unwrap_key(&slot, Secret::RecoveryKey(&recovery)), Ok(key));
        assert_eq!(unwrap_key(&slot, Secret::RecoveryKey(&RecoveryKey([8; 16]))), Err(OpenError::WrongSecret));
        assert_eq!(unwrap_key(&slot, Secret::Passphrase("anything")), Err(OpenError::WrongSecret));
    }

    #[test]
    fn an_open_slot_gives_its_key_to_whoever_asks_without_a_secret() {
        let (key, slot) = wrap(Secret::None);
        assert_eq!(unwrap_key(&slot, Secret::None), Ok(key));
        let (_, closed) = wrap(Secret::Passphrase("a passphrase"));
        assert_eq!(unwrap_key(&closed, Secret::None), Err(OpenError::WrongSecret));
    }

    #[test]
    fn an_altered_slot_does_not_open() {
        let recovery = RecoveryKey([9; 16]);
        let (_, slot) = wrap(Secret::RecoveryKey(&recovery));
        let other_store = Slot { store: StoreId([6; 16]), ..slot.clone() };
        let other_id = Slot { id: SlotId([0; 8]), ..slot };
        for altered in [other_store, other_id] {
            assert_eq!(unwrap_key(&altered, Secret::RecoveryKey(&recovery)), Err(OpenError::WrongSecret));
        }
    }
}
