//! Ways into this workstation's image store: passphrases, the recovery key, and the office key where a person agreed.
//!
//! A new way in wraps the store key once more; no data is written again. Adding one takes this machine's credential and
//! the store key. Taking one away takes a person who signed in: whoever stole this machine cannot shut its owner out.

use std::time::{Duration, Instant};

use jetfrost_image::crypto::{
    OfficeKey, OfficePublicKey, OpenError, Random, Secret, StoreKey, random_array, unwrap_key, unwrap_with_office_key,
    wrap_for_office, wrap_key,
};
use jetfrost_image::format::{ArgonCost, OfficeKeyFile, RecoveryKey, Slot};
use jetfrost_image::id::{SlotId, StoreId};
use jetfrost_image::store::MAX_SLOTS;
use jetfrost_wire::Binary;
use jetfrost_wire::calls;
use jetfrost_wire::service::ServiceInfo;
use jetfrost_wire::workstation::{NewProof, NewSlot, Proof, ProvedWith, Slots, UnlockMethod};

use crate::api::Api;
use crate::clock::unix_now;
use crate::error::ClientError;
use crate::state_dir::StateDir;

/// The shortest image passphrase.
const SHORTEST: usize = 10;

type Result<T> = std::result::Result<T, ClientError>;

/// A slot that costs less is not tried: the least that RFC 9106 recommends for this much memory.
const LEAST_COST: ArgonCost = ArgonCost { passes: 3, ..ArgonCost::USUAL };
/// How long it should take to try a passphrase: little for who knows it, much for who has to guess.
const WANTED: Duration = Duration::from_millis(500);

/// The cost of a new passphrase slot on this machine, so that a try takes about half a second.
#[must_use]
pub fn measured_cost() -> ArgonCost {
    let one_pass = ArgonCost { passes: 1, ..ArgonCost::USUAL };
    let began = Instant::now();
    let random = jetfrost_image::crypto::SeededRandom::new(b"measuring");
    drop(wrap_key(StoreId([0; 16]), &StoreKey([0; 32]), Secret::Passphrase("measuring"), one_pass, 0, &random));
    let passes = WANTED.as_secs_f64() / began.elapsed().as_secs_f64().max(0.001);
    // Three are the least that RFC 9106 recommends for this much memory; sixteen the most that a slot may ask for.
    ArgonCost { passes: (passes.round() as u32).clamp(3, 16), ..ArgonCost::USUAL }
}

/// The ways into this workstation's store.
///
/// # Errors
/// What the service said.
pub fn unlock_methods(state_dir: &StateDir) -> Result<Vec<UnlockMethod>> {
    let (membership, api) = state_dir.device_api()?;
    api.all(&calls::unlock_methods(&membership.store))
}

/// Opens this workstation's image store with a secret, and puts its key in place if that was lost. Says whether it was.
///
/// # Errors
/// [`ClientError::WrongPassphrase`] when the secret opens none of the store's slots.
pub fn unlock(state_dir: &StateDir, secret: Secret<'_>) -> Result<bool> {
    open(state_dir, |slot| unwrap_key(slot, secret)).map(|(_, was_lost)| was_lost)
}

/// As [`unlock`], with the office key.
///
/// # Errors
/// [`ClientError::WrongPassphrase`] when the store was not entrusted to this office key.
pub fn unlock_with_office_key(state_dir: &StateDir, office: &OfficeKey) -> Result<bool> {
    open(state_dir, |slot| unwrap_with_office_key(slot, office)).map(|(_, was_lost)| was_lost)
}

/// Puts on record at the service that a person opened this workstation's image store with a secret.
///
/// # Errors
/// What the service said.
pub fn prove(state_dir: &StateDir, secret: ProvedWith) -> Result<Proof> {
    let (membership, api) = state_dir.device_api()?;
    api.call_with(&calls::prove(&membership.workstation), &NewProof { secret })
}

/// The slot that a secret opens.
///
/// # Errors
/// [`ClientError::WrongPassphrase`] when it opens none.
pub fn slot_of(state_dir: &StateDir, secret: Secret<'_>) -> Result<SlotId> {
    open(state_dir, |slot| unwrap_key(slot, secret)).map(|(id, _)| id)
}

fn open(state_dir: &StateDir, open: impl Fn(&Slot) -> std::result::Result<StoreKey, OpenError>) -> Result<(SlotId, bool)> {
    let (membership, api) = state_dir.device_api()?;
    let (slots, damaged) = slots(&api, &membership.store)?;
    for slot in slots {
        match open(&slot) {
            Ok(key) => return Ok((slot.id, state_dir.keep_key_if_lost(&membership, &key)?)),
            // One that is damaged keeps nobody from the others.
            Err(OpenError::Format(_) | OpenError::WrongSecret) => {}
            Err(other) => return Err(other.into()),
        }
    }
    Err(ClientError::wrong_secret(damaged))
}

/// The slots that the service hands out, and how many of them are damaged: those keep nobody from the others.
pub(crate) fn slots(api: &Api, store: &str) -> Result<(Vec<Slot>, usize)> {
    let handed_out: Slots = api.call(&calls::slots(store))?;
    let slots: Vec<Slot> = handed_out.slots.iter().filter_map(|bytes| Slot::from_bytes(&bytes.0).ok()).collect();
    if slots.iter().any(|slot| slot.store.to_string() != store) {
        return Err(ClientError::Unexpected("a key slot of another image store".into()));
    }
    check_guessing(&slots)?;
    let damaged = handed_out.slots.len() - slots.len();
    Ok((slots, damaged))
}

/// A service that hands out many slots, or cheap ones, would have a typed passphrase tried against its own guesses. This program
/// makes no such slots.
pub(crate) fn check_guessing(slots: &[Slot]) -> Result<()> {
    let is_cheap = |slot: &Slot| slot.cost.is_some_and(|cost| cost.memory < LEAST_COST.memory || cost.passes < LEAST_COST.passes);
    if slots.len() > MAX_SLOTS || slots.iter().any(is_cheap) { Err(ClientError::WeakSlot) } else { Ok(()) }
}

/// Checks that an image passphrase is long enough.
///
/// # Errors
/// [`ClientError::Passphrase`].
pub fn check_passphrase(passphrase: &str) -> Result<()> {
    match passphrase.chars().count() {
        SHORTEST..=1000 => Ok(()),
        0..SHORTEST => Err(ClientError::Passphrase("an image passphrase has 10 characters at least")),
        _ => Err(ClientError::Passphrase("an image passphrase has 1,000 characters at most")),
    }
}

/// Adds a passphrase.
///
/// # Errors
/// [`ClientError::Passphrase`] when it is too short; what the service said.
pub fn add_passphrase(
    state_dir: &StateDir,
    passphrase: &str,
    label: Option<String>,
    cost: ArgonCost,
    random: &dyn Random,
) -> Result<UnlockMethod> {
    check_passphrase(passphrase)?;
    add(state_dir, |store, key| {
        let mut slot = wrap_key(store, key, Secret::Passphrase(passphrase), cost, unix_now(), random);
        slot.label = label;
        Ok(slot)
    })
}

/// Adds a new recovery key. Those from before still open until they are taken away.
///
/// # Errors
/// What the service said.
pub fn add_recovery_key(state_dir: &StateDir, random: &dyn Random) -> Result<(RecoveryKey, UnlockMethod)> {
    let recovery = RecoveryKey(random_array(random));
    let wrap =
        |store, key: &StoreKey| Ok(wrap_key(store, key, Secret::RecoveryKey(&recovery), ArgonCost::USUAL, unix_now(), random));
    let way = add(state_dir, wrap)?;
    Ok((recovery, way))
}

/// The office key that the service asks for, if any. A person compares its mark before trusting it.
///
/// # Errors
/// What the service said.
pub fn office_key_of(info: &ServiceInfo) -> Result<Option<OfficePublicKey>> {
    let Some(escrow) = &info.escrow else { return Ok(None) };
    let bytes = escrow.public_key.0.clone().try_into();
    bytes.map(|key| Some(OfficePublicKey(key))).map_err(|_| ClientError::Unexpected("an office key of another length".into()))
}

/// Adds the office key as a way in.
///
/// # Errors
/// What the service said.
pub fn entrust(state_dir: &StateDir, office: &OfficePublicKey, random: &dyn Random) -> Result<UnlockMethod> {
    add(state_dir, |store, key| Ok(wrap_for_office(store, key, office, unix_now(), random)?))
}

fn add(state_dir: &StateDir, wrap: impl FnOnce(StoreId, &StoreKey) -> Result<Slot>) -> Result<UnlockMethod> {
    let (membership, api) = state_dir.device_api()?;
    let store = membership.store.parse().map_err(|_| ClientError::NotJoined)?;
    let slot = wrap(store, &state_dir.store_key()?)?;
    api.call_with(&calls::add_slot(&membership.store), &NewSlot { slot: Binary(slot.to_bytes()) })
}

/// Takes a way in away; `api` is that of a person who may.
///
/// # Errors
/// What the service said, among it that this is the last one.
pub fn remove(api: &Api, store: &str, slot: &str) -> Result<()> {
    api.call(&calls::remove_slot(store, slot))
}

/// Makes an office key and wraps it for a passphrase.
#[must_use]
pub fn new_office_key(passphrase: &str, cost: ArgonCost, random: &dyn Random) -> (OfficePublicKey, OfficeKeyFile) {
    let key = OfficeKey::generate(random);
    (key.public(), key.wrap(passphrase, cost, random))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn slot(cost: ArgonCost) -> Slot {
        let mut slot =
            Slot::unsealed(StoreId([1; 16]), SlotId([2; 8]), jetfrost_image::format::SlotKind::Passphrase, 0, [3; 16], None);
        slot.cost = Some(cost);
        slot
    }

    /// Twenty thousand guesses of 8 KiB each took four and a half seconds.
    #[test]
    fn a_passphrase_is_not_tried_against_a_services_cheap_guesses() {
        assert!(check_guessing(&vec![slot(ArgonCost::USUAL); MAX_SLOTS]).is_ok());
        assert!(matches!(check_guessing(&vec![slot(ArgonCost::USUAL); MAX_SLOTS + 1]), Err(ClientError::WeakSlot)));
        for cheap in [ArgonCost { memory: 8, ..ArgonCost::USUAL }, ArgonCost { passes: 2, ..ArgonCost::USUAL }] {
            assert!(matches!(check_guessing(&[slot(ArgonCost::USUAL), slot(cheap)]), Err(ClientError::WeakSlot)));
        }
    }
}
