//! The key slots of image stores on record: what lies on the disk is held against that, and what is damaged or gone there is
//! written again.

use std::collections::BTreeSet;

use jetfrost_image::format::Slot;
use jetfrost_image::store::Store;
use jetfrost_types::ImageStoreId;
use jetfrost_wire::workstation::Finding;

use crate::records::{Connection, Id, SlotRow, WorkstationLine};
use crate::shared::{Result, ServiceError, Thing};
use crate::storage::Storage;

impl Storage {
    /// A store's key slots as they were added, whatever became of them on the disk.
    pub(crate) fn slot_rows(&self, line: &WorkstationLine, store: &Store) -> Result<Vec<SlotRow>> {
        if line.store.slots_noted {
            // Also where nothing can be written: whoever needs files back opens the store with these.
            return self.records.read(|on| Ok(SlotRow::of_store(&line.store.id, on)?));
        }
        self.records.write(|on| slot_rows(line, store, on))
    }

    /// Makes what is on the disk what is on record: after the records were recovered from an older copy.
    pub(crate) fn take_slots_from_shelf(&self, line: &WorkstationLine, store: &Store) -> Result<()> {
        self.records.write(|on| take_over(line, store, on).map(drop))
    }

    /// Writes again what is damaged or gone, and says what was wrong. Nobody adds or removes a slot meanwhile.
    pub(crate) fn mend_slots(&self, line: &WorkstationLine, store: &Store) -> Result<Vec<Finding>> {
        self.records.write(|on| {
            let rows = slot_rows(line, store, on)?;
            let on_disk = store.slots()?;
            let mut findings = Vec::new();
            for row in rows.iter().filter(|row| !on_disk.contains(&row.bytes)) {
                store.mend_slot(&row.bytes)?;
                findings.push(finding(&row.id, "it was damaged or gone, and was written again from the service's records"));
            }
            let known: BTreeSet<&str> = rows.iter().map(|row| row.id.as_str()).collect();
            for slot in on_disk.iter().filter_map(|bytes| Slot::from_bytes(bytes).ok()) {
                if !known.contains(slot.id.to_string().as_str()) {
                    findings.push(finding(&slot.id.to_string(), "nobody added it; the service hands it out to nobody"));
                }
            }
            Ok(findings)
        })
    }
}

/// The slots on record. Those of a store that was there before they were, or that was adopted, are taken over from its disk.
pub(crate) fn slot_rows(line: &WorkstationLine, store: &Store, on: &mut Connection) -> Result<Vec<SlotRow>> {
    let line = WorkstationLine::by_store(&line.store.id, on)?.ok_or(ServiceError::NotFound(Thing::ImageStore))?;
    if line.store.slots_noted { Ok(SlotRow::of_store(&line.store.id, on)?) } else { take_over(&line, store, on) }
}

fn take_over(line: &WorkstationLine, store: &Store, on: &mut Connection) -> Result<Vec<SlotRow>> {
    let id = &line.store.id;
    SlotRow::forget(id, on)?;
    for bytes in store.slots()? {
        if let Some(slot) = Slot::from_bytes(&bytes).ok().filter(|slot| slot.store == store.id()) {
            row_of(&slot, bytes).put(on)?;
        }
    }
    SlotRow::set_noted(id, true, on)?;
    Ok(SlotRow::of_store(id, on)?)
}

pub(crate) fn row_of(slot: &Slot, bytes: Vec<u8>) -> SlotRow {
    SlotRow { store_id: Id(ImageStoreId(slot.store.to_string())), id: slot.id.to_string(), bytes }
}

fn finding(id: &str, wrong: &str) -> Finding {
    Finding { path: format!("slots/{id}.slot"), wrong: wrong.into() }
}
