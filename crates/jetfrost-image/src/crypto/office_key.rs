//! Escrow: the store key, wrapped for the office's public key (§ 3; HPKE, RFC 9180, base mode).

use std::convert::Infallible;
use std::fmt;

use super::random::{Random, random_array};
use super::slots::stretch;
use super::{OpenError, StoreKey, open_in_place, seal_in_place};
use hpke::aead::AesGcm256;
use hpke::kdf::HkdfSha256;
use hpke::kem::X25519HkdfSha256;
use hpke::rand_core::{TryCryptoRng, TryRng};
use hpke::{Deserializable, Kem, OpModeR, OpModeS, Serializable, single_shot_open, single_shot_seal_with_rng};
use zeroize::{Zeroize, ZeroizeOnDrop, Zeroizing};

use crate::format::{ArgonCost, FormatError, OfficeKeyFile, Slot, SlotKind};
use crate::id::{SlotId, StoreId};

const INFO: &[u8] = b"jetfrost v1 escrow";

type Mechanism = X25519HkdfSha256;
type Private = <Mechanism as Kem>::PrivateKey;
type Public = <Mechanism as Kem>::PublicKey;
type Encapsulated = <Mechanism as Kem>::EncappedKey;

/// The public half of the office key: workstations wrap their store keys for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct OfficePublicKey(pub [u8; 32]);

impl OfficePublicKey {
    /// What people compare: the first eight bytes of its BLAKE3 hash, in hexadecimal groups.
    #[must_use]
    pub fn fingerprint(&self) -> String {
        let hash = blake3::hash(&self.0).to_hex();
        [&hash[..4], &hash[4..8], &hash[8..12], &hash[12..16]].join("-")
    }
}

/// The private half. It opens every store whose key was wrapped for the office.
#[derive(Clone, PartialEq, Eq, Zeroize, ZeroizeOnDrop)]
pub struct OfficeKey([u8; 32]);

impl fmt::Debug for OfficeKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("OfficeKey(…)")
    }
}

impl OfficeKey {
    /// Makes a new one.
    #[must_use]
    pub fn generate(random: &dyn Random) -> Self {
        let (private, _) = Mechanism::derive_keypair(&Zeroizing::new(random_array::<32>(random))[..]);
        Self(private.to_bytes().into())
    }

    /// Its public half.
    #[must_use]
    pub fn public(&self) -> OfficePublicKey {
        OfficePublicKey(Mechanism::sk_to_pk(&self.private()).to_bytes().into())
    }

    /// Wraps it for a passphrase, to be kept in a file.
    #[must_use]
    pub fn wrap(&self, passphrase: &str, cost: ArgonCost, random: &dyn Random) -> OfficeKeyFile {
        let mut file = OfficeKeyFile::unsealed(self.public().0, random_array(random), cost, random_array(random));
        let wrapping = stretch(passphrase, &file.salt, cost);
        let mut data = Zeroizing::new(self.0);
        let tag = seal_in_place(&wrapping, file.nonce, &file.associated_data(), data.as_mut());
        file.wrapped[..32].copy_from_slice(data.as_ref());
        file.wrapped[32..].copy_from_slice(&tag);
        file
    }

    /// Opens a file.
    ///
    /// # Errors
    /// [`OpenError::WrongSecret`] when the passphrase is another one, or the file was altered.
    pub fn unwrap(file: &OfficeKeyFile, passphrase: &str) -> Result<Self, OpenError> {
        let wrapping = stretch(passphrase, &file.salt, file.cost);
        let mut data = Zeroizing::new(file.wrapped);
        let opened =
            open_in_place(&wrapping, file.nonce, &file.associated_data(), data.as_mut()).ok_or(OpenError::WrongSecret)?;
        let key: &[u8] = opened;
        Ok(Self(key.try_into().map_err(|_| OpenError::WrongSecret)?))
    }

    fn private(&self) -> Private {
        Private::from_bytes(&self.0).expect("a private key is any 32 bytes")
    }
}

/// Makes a slot in which `key` is wrapped for the office; `created` is in Unix seconds.
///
/// # Errors
/// [`FormatError`] when the public key is none.
pub fn wrap_for_office(
    store: StoreId,
    key: &StoreKey,
    office: &OfficePublicKey,
    created: i64,
    random: &dyn Random,
) -> Result<Slot, FormatError> {
    let unusable = || FormatError::Damaged { what: "an office key", why: "its public half is not one" };
    let mut slot = Slot::unsealed(store, SlotId(random_array(random)), SlotKind::Escrow, created, random_array(random), None);
    slot.office = Some(office.0.into());
    let sealed = seal_for_office(office, INFO, &slot.associated_data(), &key.0, random);
    let (encapsulated, wrapped) = sealed.ok_or_else(unusable)?;
    slot.encapsulated = Some(encapsulated.into());
    slot.wrapped = wrapped.try_into().map_err(|_| unusable())?;
    Ok(slot)
}

/// Opens a slot with the office key.
///
/// # Errors
/// [`OpenError::WrongSecret`] when it was made for another office key, or was altered.
pub fn unwrap_with_office_key(slot: &Slot, office: &OfficeKey) -> Result<StoreKey, OpenError> {
    let encapsulated = slot.encapsulated.as_ref().filter(|_| slot.kind == SlotKind::Escrow).ok_or(OpenError::WrongSecret)?;
    let opened = open_for_office(office, INFO, &slot.associated_data(), &encapsulated[..], &slot.wrapped);
    let opened = opened.ok_or(OpenError::WrongSecret)?;
    Ok(StoreKey(opened[..].try_into().map_err(|_| OpenError::WrongSecret)?))
}

/// Seals something short for the office: the encapsulated key, and what was sealed with its tag. `None` when the key is none.
pub(super) fn seal_for_office(
    office: &OfficePublicKey,
    info: &[u8],
    associated: &[u8],
    data: &[u8],
    random: &dyn Random,
) -> Option<([u8; 32], Vec<u8>)> {
    let public = Public::from_bytes(&office.0).ok()?;
    let (encapsulated, sealed) = single_shot_seal_with_rng::<AesGcm256, HkdfSha256, Mechanism>(
        &OpModeS::Base,
        &public,
        info,
        data,
        associated,
        &mut Draw(random),
    )
    .ok()?;
    Some((encapsulated.to_bytes().into(), sealed))
}

/// Opens what was sealed for the office. `None` when it was sealed for another key, or altered.
pub(super) fn open_for_office(
    office: &OfficeKey,
    info: &[u8],
    associated: &[u8],
    encapsulated: &[u8],
    sealed: &[u8],
) -> Option<Zeroizing<Vec<u8>>> {
    let encapsulated = Encapsulated::from_bytes(encapsulated).ok()?;
    let private = office.private();
    let opened =
        single_shot_open::<AesGcm256, HkdfSha256, Mechanism>(&OpModeR::Base, &private, &encapsulated, info, sealed, associated);
    opened.ok().map(Zeroizing::new)
}

/// Our source of random values, as the library takes one.
struct Draw<'r>(&'r dyn Random);

impl TryRng for Draw<'_> {
    type Error = Infallible;

    fn try_next_u32(&mut self) -> Result<u32, Infallible> {
        Ok(u32::from_le_bytes(random_array(self.0)))
    }

    fn try_next_u64(&mut self) -> Result<u64, Infallible> {
        Ok(u64::from_le_bytes(random_array(self.0)))
    }

    fn try_fill_bytes(&mut self, bytes: &mut [u8]) -> Result<(), Infallible> {
        self.0.fill(bytes);
        Ok(())
    }
}

impl TryCryptoRng for Draw<'_> {}

#[cfg(test)]
mod tests {
    use super::super::SeededRandom;
    use super::*;

    const QUICK: ArgonCost = ArgonCost { memory: 64, passes: 1, lanes: 1 };
    const STORE: StoreId = StoreId([5; 16]);

    #[test]
    fn the_office_key_opens_what_was_wrapped_for_it_and_no_other_does() {
        let random = SeededRandom::new(b"escrow");
        let (office, other) = (OfficeKey::generate(&random), OfficeKey::generate(&random));
        let key = StoreKey::generate(&random);
        let slot = wrap_for_office(STORE, &key, &office.public(), 0, &random).expect("wrapped");
        let slot = Slot::from_bytes(&slot.to_bytes()).expect("it round-trips");
        assert_eq!(unwrap_with_office_key(&slot, &office), Ok(key));
        assert_eq!(unwrap_with_office_key(&slot, &other), Err(OpenError::WrongSecret));
        for altered in [Slot { store: StoreId([6; 16]), ..slot.clone() }, Slot { id: SlotId([0; 8]), ..slot }] {
            assert_eq!(unwrap_with_office_key(&altered, &office), Err(OpenError::WrongSecret));
        }
    }

    #[test]
    fn the_office_keys_file_opens_with_its_passphrase_only() {
        let random = SeededRandom::new(b"file");
        let office = OfficeKey::generate(&random);
        let file = OfficeKeyFile::from_bytes(&office.wrap("in the safe", QUICK, &random).to_bytes()).expect("round-trips");
        assert_eq!(OfficeKey::unwrap(&file, "in the safe"), Ok(office.clone()));
        assert_eq!(OfficeKey::unwrap(&file, "in the sea"), Err(OpenError::WrongSecret));
        let altered = OfficeKeyFile { public: [1; 32], ..file };
        assert_eq!(OfficeKey::unwrap(&altered, "in the safe"), Err(OpenError::WrongSecret));
    }

    /// RFC 7748, section 6.1: Alice's key pair.
    #[test]
    fn the_public_half_is_that_of_x25519() {
        let hex = |text: &str| <[u8; 32]>::try_from(data_encoding::HEXLOWER.decode(text.as_bytes()).expect("hex")).expect("32");
        let alice = OfficeKey(hex("77076d0a7318a57d3c16c17251b26645df4c2f87ebc0992ab177fba51db92c2a"));
        assert_eq!(alice.public().0, hex("8520f0098930a754748b7ddcb43ef75a0dbf3a0d26381af4eba4a98eaa9b4e6a"));
    }
}
