//! How the service itself is protected: copies of its own records on every destination, sealed for the office key.

use std::fs;

use jetfrost_image::crypto::OfficePublicKey;
use jetfrost_office::access::Act;
use jetfrost_office::protection::{CopyFacts, is_due, is_young};
use jetfrost_wire::service::Protection;

use crate::clock::{Moment, timestamp};
use crate::records::{DestinationRow, WorkstationLine, important_change, office_key};
use crate::records_backup::write_copy;
use crate::shared::{Caller, Result, ServiceError, place};
use crate::state_directory::{IDENTITY, RECONCILE, RECORDS};
use crate::storage::Storage;

impl Storage {
    /// Copies the records onto every destination where a younger copy is due.
    pub(crate) fn tend_records_backup(&self) -> Result<()> {
        let Some(office) = self.office_public_key()? else { return Ok(()) };
        let changed = self.records.read(|on| Ok::<_, ServiceError>(important_change(on)?))?;
        let now = self.clock.now();
        let is_due = |row: &DestinationRow| {
            is_due(&CopyFacts { copied: row.records_backed_up.map(Moment::ms), changed: changed.map(Moment::ms) }, now.ms())
        };
        let due: Vec<DestinationRow> = self.destination_rows()?.into_iter().filter(is_due).collect();
        if due.iter().any(|row| self.media.check(&place(row)).is_ok()) {
            self.copy_onto(&due, &office)?;
        }
        Ok(())
    }

    fn copy_onto(&self, due: &[DestinationRow], office: &OfficePublicKey) -> Result<()> {
        let snapshot = self.state_directory.join("records-to-copy.sqlite");
        // One that was left behind by a crash.
        let _ = fs::remove_file(&snapshot);
        self.records.copy_to(&snapshot)?;
        let identity = self.state_directory.join(IDENTITY);
        let files = [(RECORDS, &*snapshot), (IDENTITY, &*identity)];
        let now = self.clock.now();
        for row in due {
            let here = place(row);
            let copied = match self.media.check(&here) {
                Ok(()) => write_copy(&here.directory, now.ms(), &files, office, &*self.random).map_err(|e| e.to_string()),
                Err(missing) => Err(missing.to_string()),
            };
            self.records.write(|on| {
                match &copied {
                    Ok(()) => DestinationRow::set_records_backed_up(&row.id, now, on)?,
                    Err(why) => DestinationRow::set_records_backup_trouble(&row.id, why, on)?,
                }
                Ok::<_, ServiceError>(())
            })?;
            if let Err(why) = copied {
                tracing::warn!(destination = row.name, why, "the records were not copied");
            }
        }
        let _ = fs::remove_file(&snapshot);
        Ok(())
    }

    /// After a recovery: finds the points that were made and removed after the records backup. What is on a destination that is
    /// missing is looked for again later.
    pub(crate) fn reconcile(&self) -> Result<()> {
        let flag = self.state_directory.join(RECONCILE);
        if !flag.exists() {
            return Ok(());
        }
        let lines = self.records.read(|on| Ok::<_, ServiceError>(WorkstationLine::all(None, on)?))?;
        let mut all = true;
        for line in lines {
            let found = self.open_store(&line).and_then(|(_, store)| {
                self.record_points_on_shelf(&line, &store)?;
                self.mark_what_went_meanwhile(&line, &store)?;
                self.take_slots_from_shelf(&line, &store)?;
                self.note_points_off_the_shelf(&line, &store)
            });
            if let Err(error) = found {
                tracing::warn!(%error, workstation = line.workstation.name, "its points were not looked for");
                all = false;
            }
        }
        if all {
            // One that stays is only work done twice.
            let _ = fs::remove_file(flag);
        }
        Ok(())
    }

    /// How the service itself is protected, for whoever may see the office.
    pub(crate) fn see_protection(&self, caller: &Caller) -> Result<Protection> {
        caller.may(&Act::SeeOffice)?;
        self.protection()
    }

    /// How the service itself is protected.
    pub(crate) fn protection(&self) -> Result<Protection> {
        let office = self.office_public_key()?;
        let youngest = self.destination_rows()?.into_iter().filter_map(|row| Some((row.records_backed_up?, row.name))).max();
        let now = self.clock.now();
        let protected = office.is_some() && youngest.as_ref().is_some_and(|(at, _)| is_young(at.ms(), now.ms()));
        let says = match (&office, &youngest) {
            (None, _) => "The records are not backed up: make an office key with 'jetfrost escrow start FILE'.".into(),
            (Some(_), None) => "The records have not been backed up yet: that takes a destination.".into(),
            (Some(_), Some((_, name))) if protected => format!("The records are backed up onto '{name}'."),
            (Some(_), Some((_, name))) => {
                format!("The last records backup, on '{name}', is too old: look at the destinations.")
            }
        };
        Ok(Protection {
            protected,
            says,
            copied: youngest.map(|(at, _)| timestamp(at)),
            office_key: office.map(|office| office.fingerprint()),
        })
    }

    fn office_public_key(&self) -> Result<Option<OfficePublicKey>> {
        let key = self.records.read(|on| Ok::<_, ServiceError>(office_key(on)?))?;
        Ok(key.and_then(|bytes| bytes.try_into().ok()).map(OfficePublicKey))
    }
}
