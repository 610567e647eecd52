//! Ways into an image store, and the office key.

use jetfrost_image::SlotId;
use jetfrost_image::format::{Slot, SlotKind};
use jetfrost_image::store::StoreError;
use jetfrost_office::access::Act;
use jetfrost_types::{ImageStoreId, WorkstationId};
use jetfrost_wire::Page;
use jetfrost_wire::event::Event;
use jetfrost_wire::service::{Escrow, NewEscrow};
use jetfrost_wire::workstation::{NewProof, NewSlot, Proof, UnlockMethod, UnlockMethodKind};
use jiff::Timestamp;

use crate::backups::Backups;
use crate::backups::agents::still_has;
use crate::clock::timestamp;
use crate::records;
use crate::records::{ProofRow, SlotRow};
use crate::shared::{Caller, Invalid, Result, ServiceError, Thing, Traffic, convert};
use crate::storage::key_slots::{row_of, slot_rows};

impl Backups {
    /// What opens a store: kinds, labels and ages.
    pub(crate) fn unlock_methods(&self, caller: &Caller, id: &ImageStoreId) -> Result<Page<UnlockMethod>> {
        let line = self.storage.line_to_see(caller, id)?;
        let (_, store) = self.storage.open_store(&line)?;
        let (rows, on_disk) = (self.storage.slot_rows(&line, &store)?, store.slots()?);
        let way = |row: SlotRow| {
            let slot = Slot::from_bytes(&row.bytes).ok()?;
            Some(UnlockMethod { damaged: !on_disk.contains(&row.bytes), ..unlock_method(&slot) })
        };
        let mut items: Vec<UnlockMethod> = rows.into_iter().filter_map(way).collect();
        // Those that a workstation makes when it joins are of one second: their kinds decide.
        items.sort_by_key(|way| (way.made, way.kind as u8, way.id.clone()));
        Ok(Page { items, next: None })
    }

    /// Adds a key slot that the workstation made.
    pub(crate) fn add_slot(&self, caller: &Caller, id: &ImageStoreId, new: &NewSlot) -> Result<UnlockMethod> {
        let upload = self.store_to_add_to(caller, id)?;
        let slot = Slot::from_bytes(&new.slot.0).map_err(StoreError::from)?;
        let way = unlock_method(&slot);
        let what = format!("{} of {}", said(&way), upload.line.workstation.name);
        self.records.write(|on| {
            slot_rows(&upload.line, &upload.store, on)?;
            row_of(&slot, new.slot.0.clone()).put(on)?;
            self.trail.note(caller, "unlock method added", &what, on)?;
            // Last: what is on the disk is on record.
            Ok::<_, ServiceError>(upload.store.put_slot(&new.slot.0)?)
        })?;
        self.events.workstation_changed(&upload.line.workstation.id);
        Ok(way)
    }

    /// Puts on record that a person at the workstation opened its image store with a secret. It is the workstation's word.
    pub(crate) fn prove(&self, caller: &Caller, id: &WorkstationId, new: &NewProof) -> Result<Proof> {
        let line = self.storage.line(caller, id)?;
        caller.may(&Act::AddToStore { workstation: line.workstation.id.as_str() })?;
        self.pace(&self.reports_made, Traffic::Reports, line.workstation.id.as_str())?;
        let row = ProofRow { store_id: line.store.id.clone(), at: self.clock.now(), secret: new.secret.into() };
        self.records.write(|on| {
            still_has(caller, on)?;
            row.put(on)?;
            let what = format!("{} of {}", new.secret.word().replace('_', " "), line.workstation.name);
            self.trail.note(caller, "secret proved", &what, on)
        })?;
        self.events.workstation_changed(id);
        Ok(convert::proof(&row))
    }

    /// Takes a key slot away. Never the last of the person's own.
    pub(crate) fn remove_slot(&self, caller: &Caller, id: &ImageStoreId, slot: &str) -> Result<()> {
        let line = self.storage.line_to_see(caller, id)?;
        caller.may(&Act::RemoveUnlockMethod { owner: line.account.id.as_str() })?;
        let slot: SlotId = slot.parse().map_err(|_| ServiceError::NotFound(Thing::UnlockMethod))?;
        let (_, store) = self.storage.open_store(&line)?;
        let what = format!("{slot} of {}", line.workstation.name);
        // Those that are left are to open the store in fact.
        self.storage.mend_slots(&line, &store)?;
        self.records.write(|on| {
            SlotRow::remove(&line.store.id, &slot.to_string(), on)?;
            self.trail.note(caller, "unlock method removed", &what, on)?;
            Ok::<_, ServiceError>(store.remove_slot(&slot)?)
        })?;
        self.events.workstation_changed(&line.workstation.id);
        Ok(())
    }

    /// Asks workstations to trust the office key from now on. Each person is informed and decides.
    pub(crate) fn start_escrow(&self, caller: &Caller, new: &NewEscrow) -> Result<Escrow> {
        caller.may(&Act::ChangeOffice)?;
        if new.public_key.0.len() != 32 {
            return Err(Invalid::OfficeKey.into());
        }
        let now = self.clock.now();
        self.records.write(|on| {
            records::set_office_key(&new.public_key.0, new.ask_workstations.then_some(now), on)?;
            let what = if new.ask_workstations { "office key asked for" } else { "office key set for the service's records" };
            self.trail.note(caller, what, &fingerprint_of(&new.public_key.0), on)
        })?;
        self.events.tell(Event::Office);
        Ok(Escrow { public_key: new.public_key.clone(), since: timestamp(now) })
    }

    /// Asks no more. Ways in that were made stay until they are taken away.
    pub(crate) fn end_escrow(&self, caller: &Caller) -> Result<()> {
        caller.may(&Act::ChangeOffice)?;
        self.records.write(|on| {
            records::end_escrow(on)?;
            self.trail.note(caller, "office key asked for no more", "", on)
        })?;
        self.events.tell(Event::Office);
        Ok(())
    }
}

fn unlock_method(slot: &Slot) -> UnlockMethod {
    UnlockMethod {
        id: slot.id.to_string(),
        kind: match slot.kind {
            SlotKind::Passphrase => UnlockMethodKind::Passphrase,
            SlotKind::RecoveryKey => UnlockMethodKind::RecoveryKey,
            SlotKind::Escrow => UnlockMethodKind::OfficeKey,
            SlotKind::Open => UnlockMethodKind::Unencrypted,
        },
        label: slot.label.clone(),
        made: Timestamp::from_second(slot.created).unwrap_or(Timestamp::UNIX_EPOCH),
        damaged: false,
    }
}

fn said(way: &UnlockMethod) -> &'static str {
    match way.kind {
        UnlockMethodKind::Passphrase => "a passphrase",
        UnlockMethodKind::RecoveryKey => "a recovery key",
        UnlockMethodKind::OfficeKey => "the office key",
        UnlockMethodKind::Unencrypted => "no secret",
    }
}

fn fingerprint_of(public: &[u8]) -> String {
    public.try_into().map(|key| jetfrost_image::crypto::OfficePublicKey(key).fingerprint()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use jetfrost_image::StoreId;
    use jetfrost_image::crypto::{StoreKey, SystemRandom, random_array};
    use jetfrost_image::store::StoreError;
    use jetfrost_wire::Binary;

    use super::*;
    use crate::media::MediaError;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::{office_with_points, slot};

    #[test]
    fn the_last_unlock_method_stays_and_none_is_overwritten() {
        let (office, machine) = office_with_points([]);
        let (backups, store) = (&office.services.backups, machine.store());
        let only = backups.unlock_methods(&machine.caller, store).expect("listed").items.remove(0).id;
        assert!(
            matches!(backups.remove_slot(&machine.caller, store, &only), Err(ServiceError::NotAllowed)),
            "a machine takes none away"
        );
        let last = backups.remove_slot(&office.ingrid, store, &only);
        assert!(matches!(last, Err(ServiceError::Media(MediaError::Store(StoreError::LastUnlockMethod)))), "{last:?}");
        let mut forged = machine.slot.clone();
        forged.label = Some("mine".into());
        assert!(backups.add_slot(&machine.caller, store, &NewSlot { slot: Binary(forged.to_bytes()) }).is_err());
        let random = SystemRandom::default();
        let foreign = slot(StoreId(random_array(&random)), &StoreKey::generate(&random), &random);
        assert!(backups.add_slot(&machine.caller, store, &NewSlot { slot: Binary(foreign.to_bytes()) }).is_err());
        let listed = backups.unlock_methods(&machine.caller, store).expect("listed").items;
        assert_eq!(listed.iter().map(|method| method.id.as_str()).collect::<Vec<_>>(), [only]);
    }

    #[test]
    fn an_office_key_has_its_length() {
        let office = Office::open();
        let new = |len| NewEscrow { public_key: Binary(vec![7; len]), ask_workstations: true };
        let set = office.services.backups.start_escrow(&office.ingrid, &new(31));
        assert!(matches!(set, Err(ServiceError::Invalid(Invalid::OfficeKey))));
        office.services.backups.start_escrow(&office.ingrid, &new(32)).expect("set");
        assert!(office.services.identity.escrow().expect("read").is_some());
    }
}
