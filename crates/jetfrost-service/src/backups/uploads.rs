//! Image stores: what goes in and what is read.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, PoisonError};

use jetfrost_image::store::{NeedsUpload, SegmentUpload, Store, StoreError};
use jetfrost_image::{ChunkName, SegmentHash};
use jetfrost_office::access::Act;
use jetfrost_types::ImageStoreId;
use jetfrost_wire::Binary;
use jetfrost_wire::run::Outcome;
use jetfrost_wire::workstation::{PointBytes, Slots};

use crate::backups::Backups;
use crate::records::{Connection, Noted, PointRow, RecordsError, RestoreRow, WorkstationLine};
use crate::retention::{Retention, Room};
use crate::shared::{Caller, Invalid, Result, ServiceError, Thing, Who, to_db};
use crate::storage::capacity::Purpose;

/// Reading an image store without a restore is put on record this often.
const NOTE_READING_MS: i64 = 3_600_000;

/// Whether a run or a restore is under way is not asked more often than this.
const LOOK_AGAIN_MS: i64 = 60_000;

/// Something that is about to arrive.
pub(crate) struct Upload {
    pub(crate) store: Arc<Store>,
    pub(crate) line: WorkstationLine,
    /// Counts what comes in, for all workstations together.
    pub(crate) arrived: Arc<AtomicU64>,
}

impl Upload {
    /// Begins to receive the needs of the next point. `len` bytes must fit, and be what needs can come to.
    pub(crate) fn begin_needs(&self, retention: &Retention, len: u64) -> Result<Arriving> {
        let most = self.store.most_needs()?;
        if len > most {
            return Err(Invalid::NeedsTooLong(most).into());
        }
        let intake = self.store.receive_needs_shared(self.store.next_sequence())?;
        Ok(Arriving {
            what: What::Needs(intake),
            room: retention.room_for(&self.line, &self.store, len, Purpose::Closing)?,
            left: len,
            arrived: Arc::clone(&self.arrived),
        })
    }

    /// Begins to receive a segment; `None` when the segment is here already. `len` bytes must fit.
    pub(crate) fn begin_segment(&self, retention: &Retention, hash: SegmentHash, len: u64) -> Result<Option<Arriving>> {
        let Some(intake) = self.store.receive_segment_shared(hash)? else { return Ok(None) };
        if !self.store.takes_segment_of(len) {
            return Err(Invalid::ShortSegments.into());
        }
        Ok(Some(Arriving {
            what: What::Segment(intake),
            room: retention.room_for(&self.line, &self.store, len, Purpose::Content)?,
            left: len,
            arrived: Arc::clone(&self.arrived),
        }))
    }
}

/// Bytes that arrive for an image store. Dropped before it is finished, it leaves nothing.
pub(crate) struct Arriving {
    what: What,
    room: Room,
    /// Bytes that were announced and did not arrive yet.
    left: u64,
    arrived: Arc<AtomicU64>,
}

enum What {
    Segment(SegmentUpload<Arc<Store>>),
    Needs(NeedsUpload<Arc<Store>>),
}

impl Arriving {
    /// Takes the next bytes, and room for them.
    pub(crate) fn push(&mut self, bytes: &[u8]) -> Result<()> {
        let len = bytes.len() as u64;
        self.left = self.left.checked_sub(len).ok_or(Invalid::MoreThanAnnounced)?;
        self.room.take(len)?;
        self.arrived.fetch_add(len, Ordering::Relaxed);
        match &mut self.what {
            What::Segment(intake) => intake.push(bytes)?,
            What::Needs(intake) => intake.push(bytes)?,
        }
        Ok(())
    }

    /// Makes what arrived durable, and counts it.
    pub(crate) fn finish(self) -> Result<()> {
        let room = self.room;
        match self.what {
            What::Segment(intake) => drop(intake.finish_counted_by(|count| room.settle(count))?),
            What::Needs(intake) => intake.finish_counted_by(|count| room.settle(count))?,
        }
        Ok(())
    }
}

impl Backups {
    /// The store that the caller may add to.
    pub(crate) fn store_to_add_to(&self, caller: &Caller, id: &ImageStoreId) -> Result<Upload> {
        let line = self.storage.line_of_store(id)?;
        // A store that the caller may not see is not found.
        caller
            .may(&Act::AddToStore { workstation: line.workstation.id.as_str() })
            .map_err(|_| ServiceError::NotFound(Thing::ImageStore))?;
        Ok(Upload { store: self.storage.open_store(&line)?.1, line, arrived: self.admission.arrived() })
    }

    /// The store that the caller sends chunks to, within a run.
    pub(crate) fn store_to_send_to(&self, caller: &Caller, id: &ImageStoreId) -> Result<Upload> {
        let upload = self.store_to_add_to(caller, id)?;
        self.may_write_now(&upload.line)?;
        self.admission.note_activity(&upload.line.workstation.id, self.clock.now_ms());
        Ok(upload)
    }

    /// The store that the caller may read.
    pub(crate) fn store_to_read(&self, caller: &Caller, id: &ImageStoreId) -> Result<Arc<Store>> {
        let line = self.storage.line_to_read(caller, id)?;
        let (_, store) = self.storage.open_store(&line)?;
        self.note_reading(caller, &line)?;
        Ok(store)
    }

    /// Puts it on record that somebody reads an image store, unless a run or a restore says so already: once an hour for each.
    fn note_reading(&self, caller: &Caller, line: &WorkstationLine) -> Result<()> {
        let (key, now) = ((caller.name(), line.store.id.0.clone()), self.clock.now());
        {
            let mut readings = self.readings.lock().unwrap_or_else(PoisonError::into_inner);
            readings.retain(|_, until| *until > now && *until <= now + NOTE_READING_MS);
            if readings.contains_key(&key) {
                return Ok(());
            }
        }
        let noted = self.records.write(|on| {
            if is_on_record(caller, line, on)? {
                return Ok::<_, ServiceError>(LOOK_AGAIN_MS);
            }
            self.trail.note(caller, "image store read without a restore", &line.workstation.name, on)?;
            Ok(NOTE_READING_MS)
        });
        let for_how_long = match noted {
            // Whoever needs files back gets them also when nothing can be put on record.
            Err(ServiceError::Records(RecordsError::Full(_))) => LOOK_AGAIN_MS,
            other => other?,
        };
        self.readings.lock().unwrap_or_else(PoisonError::into_inner).insert(key, now + for_how_long);
        Ok(())
    }

    /// Which chunks are missing: a byte each.
    pub(crate) fn missing(&self, caller: &Caller, id: &ImageStoreId, names: &[ChunkName]) -> Result<Vec<u8>> {
        let upload = self.store_to_send_to(caller, id)?;
        Ok(upload.store.missing(names)?.into_iter().map(u8::from).collect())
    }

    /// A point's file.
    pub(crate) fn point_bytes(&self, caller: &Caller, id: &ImageStoreId, sequence: u64) -> Result<PointBytes> {
        let line = self.storage.line_to_read(caller, id)?;
        match self.store_to_read(caller, id)?.point(sequence) {
            Ok(bytes) => Ok(PointBytes { point: Binary(bytes) }),
            Err(error) => Err(self.why_no_point(&line, sequence, error)?),
        }
    }

    /// What became of a point whose file is not there: a lost one is not taken for one that never was.
    pub(crate) fn why_no_point(&self, line: &WorkstationLine, sequence: u64, error: StoreError) -> Result<ServiceError> {
        if !matches!(error, StoreError::NoPoint(_)) {
            return Ok(error.into());
        }
        let row = self.records.read(|on| Ok::<_, ServiceError>(PointRow::ever(&line.store.id, to_db(sequence)?, on)?))?;
        Ok(match row {
            None => error.into(),
            Some(row) => match row.gone.0 {
                Some(Noted { at, what }) => ServiceError::PointGone { sequence, at, why: what },
                None => StoreError::PointLost(sequence).into(),
            },
        })
    }

    /// A store's key slots.
    pub(crate) fn slots(&self, caller: &Caller, id: &ImageStoreId) -> Result<Slots> {
        let line = self.storage.line_to_read(caller, id)?;
        let store = self.store_to_read(caller, id)?;
        Ok(Slots { slots: self.storage.slot_rows(&line, &store)?.into_iter().map(|row| Binary(row.bytes)).collect() })
    }
}

/// Whether a run of the workstation's, or a restore of the caller's, is under way that says why the store is read.
fn is_on_record(caller: &Caller, line: &WorkstationLine, on: &mut Connection) -> Result<bool> {
    let is_own = matches!(&caller.who, Who::Device { workstation } if workstation.id == line.workstation.id);
    if is_own && line.latest_run.as_ref().is_some_and(|run| run.outcome.0 == Outcome::Underway) {
        return Ok(true);
    }
    let underway = RestoreRow::with_outcome(Outcome::Underway.word(), on)?;
    Ok(underway.iter().any(|restore| restore.workstation_id == line.workstation.id && restore.by == caller.name()))
}
