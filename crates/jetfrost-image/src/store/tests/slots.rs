//! Key slots: what opens a store can be changed, and never so that nothing opens it.

use super::*;

use crate::crypto::{OfficeKey, Secret, unwrap_key, wrap_for_office, wrap_key};
use crate::format::{ArgonCost, RecoveryKey};

const QUICK: ArgonCost = ArgonCost { memory: 64, passes: 1, lanes: 1 };
const KEY: StoreKey = StoreKey([1; 32]);

fn slot(secret: Secret<'_>, seed: &str) -> Slot {
    wrap_key(STORE, &KEY, secret, QUICK, 0, &SeededRandom::new(seed.as_bytes()))
}

fn open_store(on: Arc<dyn Medium>) -> Store {
    Store::create(on, &StoreFile::new(STORE, 0)).expect("created")
}

#[test]
fn a_slot_is_never_written_over() {
    let store = open_store(Arc::new(MemoryMedium::default()));
    let first = slot(Secret::Passphrase("the first"), "a");
    store.put_slot(&first.to_bytes()).expect("added");
    store.put_slot(&first.to_bytes()).expect("the same again is no change");
    let forged = Slot { wrapped: [0; 48], ..first };
    assert!(matches!(store.put_slot(&forged.to_bytes()), Err(StoreError::SlotTaken)));
    for i in 1..MAX_SLOTS {
        store.put_slot(&slot(Secret::Passphrase("more"), &i.to_string()).to_bytes()).expect("added");
    }
    let one_more = slot(Secret::Passphrase("one too many"), "z");
    assert!(matches!(store.put_slot(&one_more.to_bytes()), Err(StoreError::TooManySlots)));
}

#[test]
fn the_last_way_in_of_the_persons_own_stays() {
    let store = open_store(Arc::new(MemoryMedium::default()));
    let random = SeededRandom::new(b"office");
    let (passphrase, recovery) = (slot(Secret::Passphrase("p"), "p"), slot(Secret::RecoveryKey(&RecoveryKey([7; 16])), "r"));
    let escrow = wrap_for_office(STORE, &KEY, &OfficeKey::generate(&random).public(), 0, &random).expect("wrapped");
    for slot in [&passphrase, &recovery, &escrow] {
        store.put_slot(&slot.to_bytes()).expect("added");
    }
    store.remove_slot(&passphrase.id).expect("the recovery key is left");
    assert!(matches!(store.remove_slot(&recovery.id), Err(StoreError::LastUnlockMethod)), "the office's is not the person's own");
    store.remove_slot(&escrow.id).expect("the person may take the office's key away");
    assert!(matches!(store.remove_slot(&escrow.id), Err(StoreError::NoSlot)));
}

#[test]
fn an_open_store_takes_no_secrets_and_an_encrypted_one_no_open_slot() {
    let open = Store::create(Arc::new(MemoryMedium::default()), &StoreFile::open(STORE, 0)).expect("created");
    let (without, with) = (slot(Secret::None, "n"), slot(Secret::Passphrase("p"), "p"));
    assert!(matches!(open.put_slot(&with.to_bytes()), Err(StoreError::OtherSuite)));
    open.put_slot(&without.to_bytes()).expect("added");
    assert!(matches!(open.remove_slot(&without.id), Err(StoreError::LastUnlockMethod)));
    let closed = open_store(Arc::new(MemoryMedium::default()));
    assert!(matches!(closed.put_slot(&without.to_bytes()), Err(StoreError::OtherSuite)));
}

#[test]
fn a_lost_description_of_an_open_store_is_made_again_as_open() {
    let memory = MemoryMedium::default();
    let store = Store::create(Arc::new(memory.clone()), &StoreFile::open(STORE, 0)).expect("created");
    store.put_slot(&slot(Secret::None, "n").to_bytes()).expect("added");
    drop(store);
    let on: Arc<dyn Medium> = Arc::new(memory);
    on.remove("store.cbor").expect("removed");
    let (store, mended) = mend(&on, &mut |_| true).expect("mended");
    assert!(mended.described_again && !store.description().expect("readable").is_encrypted());
}

#[test]
fn after_a_loss_of_power_at_any_step_of_a_change_the_old_or_the_new_passphrase_opens() {
    let memory = MemoryMedium::default();
    let (old, new) = (slot(Secret::Passphrase("old"), "old"), slot(Secret::Passphrase("new"), "new"));
    open_store(Arc::new(memory.clone())).put_slot(&old.to_bytes()).expect("added");
    let mut steps = 0;
    loop {
        let crash = CrashMedium::holding(&memory, steps);
        let _ = Store::open(Arc::new(crash.clone())).and_then(|store| {
            store.put_slot(&new.to_bytes())?;
            store.remove_slot(&old.id)
        });
        for survivor in [crash.survivor_of_the_strict_kind(), crash.survivor_of_the_lucky_kind()] {
            let slots = Store::open(Arc::new(survivor)).and_then(|store| store.slots()).expect("readable");
            let slots: Vec<Slot> = slots.iter().map(|bytes| Slot::from_bytes(bytes).expect("sound")).collect();
            let opens = |text| slots.iter().any(|slot| unwrap_key(slot, Secret::Passphrase(text)) == Ok(KEY));
            assert!(opens("old") || opens("new"), "after {steps} steps");
        }
        if !crash.has_failed() {
            break;
        }
        steps += 1;
    }
    assert!(steps > 8, "the protocol has {steps} steps");
}
