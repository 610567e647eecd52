//! Integrity: scrubs, what they found, and what is lost.

use std::collections::BTreeSet;

use jetfrost_image::store::{GoOn, Lost, Scrubbed, Store, StoreError, Wrong};
use jetfrost_office::access::Act;
use jetfrost_types::ImageStoreId;
use jetfrost_wire::Binary;
use jetfrost_wire::job::{Job, JobKind};
use jetfrost_wire::workstation::{DamagedPoint, Finding, Integrity};

use crate::clock::timestamp;
use crate::media::MediaError;
use crate::records::{Count, Days, StoreRow, WorkstationLine};
use crate::retention::Retention;
use crate::shared::{Caller, Result, ServiceError, to_db};
use crate::storage::points;

/// Lost chunks whose names a run gets: 3 MB. Beyond that it reads everything again.
const MOST_NAMED: usize = 100_000;

/// What a run learns about lost chunks.
pub(crate) struct ToldOfLost {
    pub(crate) names: Binary,
    pub(crate) more: bool,
}

impl Retention {
    /// What is known of a store's integrity.
    pub(crate) fn integrity(&self, caller: &Caller, id: &ImageStoreId) -> Result<Integrity> {
        let line = self.storage.line_to_see(caller, id)?;
        // Where what points need is damaged, the findings say so.
        let lost = if line.store.lost_chunks > Count::ZERO {
            self.storage.open_store(&line)?.1.lost(0).unwrap_or_default()
        } else {
            Lost::default()
        };
        let findings = line.store.findings.as_deref().and_then(|json| serde_json::from_str(json).ok());
        Ok(Integrity {
            scrubbed: line.store.scrubbed.map(timestamp),
            findings: findings.unwrap_or_default(),
            lost_chunks: lost.chunks,
            damaged_points: lost
                .points
                .into_iter()
                .map(|(sequence, lost_chunks)| DamagedPoint { sequence, lost_chunks })
                .collect(),
        })
    }

    /// Begins a scrub now, or goes on with one.
    pub(crate) fn begin_scrub(&self, caller: &Caller, id: &ImageStoreId) -> Result<Job> {
        caller.may(&Act::ChangeOffice)?;
        let line = self.storage.line_to_see(caller, id)?;
        self.enqueue(JobKind::Scrub, &line, &caller.name())
    }

    /// Whether a store's last scrub is too long ago. One that was never scrubbed is as old as it is itself.
    pub(crate) fn is_scrub_due(&self, line: &WorkstationLine) -> bool {
        let last = line.store.scrubbed.unwrap_or(line.store.created);
        let days = line.destination.scrub_days;
        days > Days::default() && self.clock.now() - last >= days.ms()
    }

    /// Scrubs a store from where an interrupted scrub stopped.
    pub(crate) fn scrub(&self, line: &WorkstationLine, go_on: GoOn<'_>) -> Result<Scrubbed> {
        let (_, store) = self.storage.open_store(line)?;
        let mut after = line.store.scrub_after.as_ref().and_then(|hash| hash.parse().ok());
        let result = store.scrub(&mut after, go_on);
        let id = &line.store.id;
        let mut scrubbed = match result {
            Ok(scrubbed) => scrubbed,
            Err(error) => {
                let after = after.map(|hash| hash.to_string());
                self.records.write(|on| Ok::<_, ServiceError>(StoreRow::set_scrub_after(id, after.as_deref(), on)?))?;
                self.note_lost_chunks(line, &store)?;
                return Err(error.into());
            }
        };
        let mut findings: Vec<Finding> = scrubbed.findings.iter().map(finding).collect();
        for mended in self.storage.mend_slots(line, &store)? {
            match findings.iter_mut().find(|found| found.path == mended.path) {
                Some(found) => found.wrong = format!("{}; {}", found.wrong, mended.wrong),
                None => findings.push(mended),
            }
        }
        findings.extend(self.lost_without_trace(line, &store, &findings)?);
        scrubbed.found = scrubbed.found.max(findings.len() as u64);
        let json = if findings.is_empty() { None } else { serde_json::to_string(&findings).ok() };
        let (now, occupied) = (self.clock.now(), to_db(store.used())?);
        self.records.write(|on| {
            StoreRow::set_occupied(id, occupied, on)?;
            Ok::<_, ServiceError>(StoreRow::set_scrubbed(id, now, json.as_deref(), on)?)
        })?;
        // What was damaged is among the findings; the next scrub finds it made again.
        self.storage.give_receipts_to(store.with_damaged_receipt()?, line, &store)?;
        self.storage.note_points_off_the_shelf(line, &store)?;
        match self.note_lost_chunks(line, &store) {
            // That what points need is damaged is among the findings.
            Err(ServiceError::Media(MediaError::Store(StoreError::Format(_) | StoreError::Needs(_)))) => {}
            other => drop(other?),
        }
        self.events.workstation_changed(&line.workstation.id);
        Ok(scrubbed)
    }

    /// Points that are on record and of which nothing on the disk says that they should be there.
    fn lost_without_trace(&self, line: &WorkstationLine, store: &Store, known: &[Finding]) -> Result<Vec<Finding>> {
        let on_media: BTreeSet<u64> = store.points().into_iter().collect();
        let lost = points::lost(&self.storage.point_rows(line)?, &on_media);
        let findings = lost.iter().map(|sequence| Finding {
            path: format!("points/{sequence:010}.point"),
            wrong: "it is gone, with its receipt; the service has it on record".into(),
        });
        Ok(findings.filter(|finding| known.iter().all(|one| one.path != finding.path)).collect())
    }

    /// Looks what is lost of a store and puts the number on record.
    pub(crate) fn note_lost_chunks(&self, line: &WorkstationLine, store: &Store) -> Result<u64> {
        let lost = store.lost(0)?;
        self.records.write(|on| Ok::<_, ServiceError>(StoreRow::set_lost(&line.store.id, to_db(lost.chunks)?, on)?))?;
        Ok(lost.chunks)
    }

    /// What a run learns at its begin, so that it sends again what it still has.
    pub(crate) fn lost_for_run(&self, line: &WorkstationLine, store: &Store) -> Result<ToldOfLost> {
        if line.store.lost_chunks == Count::ZERO {
            return Ok(ToldOfLost { names: Binary(Vec::new()), more: false });
        }
        let lost = match store.lost(MOST_NAMED) {
            Ok(lost) => lost,
            Err(error @ StoreError::Medium { .. }) => return Err(error.into()),
            // What points need is damaged itself: a run that reads everything again rests on none of it.
            Err(_) => return Ok(ToldOfLost { names: Binary(Vec::new()), more: true }),
        };
        let names = lost.names.iter().flat_map(|name| *name.as_bytes()).collect();
        Ok(ToldOfLost { names: Binary(names), more: lost.chunks > lost.names.len() as u64 })
    }
}

fn finding(found: &jetfrost_image::store::Finding) -> Finding {
    let wrong = match &found.wrong {
        Wrong::Damaged(why) => why.clone(),
        Wrong::Missing => "it is gone".into(),
        Wrong::Alien => "it does not belong to an image store; it was left alone".into(),
    };
    Finding { path: found.path.clone(), wrong }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::path::{Path, PathBuf};

    use crate::shared::testing::machine::office_with_points;

    fn files_below(directory: &Path) -> Vec<PathBuf> {
        let entries = fs::read_dir(directory).expect("listed").map(|entry| entry.expect("read").path());
        entries.flat_map(|path| if path.is_dir() { files_below(&path) } else { vec![path] }).collect()
    }

    #[test]
    fn a_bit_that_flips_on_the_disk_is_found_named_and_mended_by_the_next_run() {
        let (office, machine) = office_with_points([b"the minutes of the board"]);
        let segment = files_below(&office.path("shelf")).into_iter().find(|path| path.extension().is_some_and(|e| e == "seg"));
        let segment = segment.expect("a segment");
        let mut bytes = fs::read(&segment).expect("read");
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        fs::write(&segment, &bytes).expect("written");
        let retention = &office.services.retention;
        let line = office.services.storage.line_of_store(machine.store()).expect("there");
        retention.scrub(&line, &mut |_| true).expect("scrubbed");
        let found = retention.integrity(&office.ingrid, machine.store()).expect("known");
        assert!(!found.findings.is_empty() && found.lost_chunks == 1, "{found:?}");
        let alerts = office.services.operations.alerts_shown(&office.ingrid).expect("seen").alerts;
        assert!(alerts.iter().any(|alert| alert.subject == "front desk"), "{alerts:?}");
        assert_eq!(machine.begin(&office).expect("begun").lost.0.len(), 32, "the run learns what to send again");
    }
}
