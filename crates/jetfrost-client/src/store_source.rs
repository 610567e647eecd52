//! Where an image store is read from: the service, or straight from its directory.

use std::collections::BTreeSet;
use std::sync::Arc;

use jetfrost_image::format::{PointFile, PointHead};
use jetfrost_image::store::{Overlap, Store, StoreError};
use jetfrost_image::{ChunkName, SegmentHash};
use jetfrost_office::suspicion::{StillNeeded, suspicion};
use jetfrost_wire::point::{Point, Suspicion};
use jetfrost_wire::restore::{BeginRestore, EndRestore, Purpose, Restore};
use jetfrost_wire::run::GiveUp;
use jetfrost_wire::workstation::{PointBytes, PointKind};
use jetfrost_wire::{RestoreId, calls};
use jiff::Timestamp;
use tempfile::TempDir;

use crate::api::Api;
use crate::error::ClientError;
use crate::progress::{Meter, Reporter};
use crate::state_dir::Membership;

type Result<T> = std::result::Result<T, ClientError>;

/// An image store to read from.
#[derive(Clone)]
pub(crate) enum StoreSource {
    /// The service's.
    Service {
        /// The service, and as whom it is asked.
        api: Api,
        /// Whose store it is.
        of: Box<StoreOf>,
    },
    /// A directory that holds an image store.
    Directory(Arc<StoreDirectory>),
}

/// Whose an image store at the service is.
#[derive(Clone)]
pub(crate) struct StoreOf {
    pub(crate) store: String,
    pub(crate) workstation: String,
    pub(crate) name: String,
    /// Whether it is that of this machine, which then reads it as itself.
    pub(crate) is_own: bool,
}

impl From<Membership> for StoreOf {
    fn from(own: Membership) -> Self {
        Self { store: own.store, workstation: own.workstation, name: own.name, is_own: true }
    }
}

/// An image store in a directory, and where what is derived from it is kept meanwhile.
pub(crate) struct StoreDirectory {
    pub(crate) store: Store,
    /// Removed with this, and so after the store.
    #[expect(dead_code, reason = "it is only kept alive")]
    pub(crate) scratch: Option<TempDir>,
}

impl StoreSource {
    /// Fetches sealed chunks and gives each to `each` in the order of `names`; `None` for one that is damaged or missing.
    pub(crate) fn fetch(&self, names: &[ChunkName], mut each: impl FnMut(usize, Option<&mut [u8]>) -> Result<()>) -> Result<()> {
        match self {
            Self::Service { api, of } => api.fetch(&of.store, names, each),
            Self::Directory(directory) => names.iter().enumerate().try_for_each(|(i, name)| match directory.store.chunk(name) {
                Ok(mut sealed) => each(i, Some(&mut sealed)),
                Err(StoreError::NoChunk(_) | StoreError::DamagedChunk { .. }) => each(i, None),
                Err(error) => Err(error.into()),
            }),
        }
    }

    /// The name of the workstation, where the service is asked.
    pub(crate) fn workstation(&self) -> Option<&str> {
        match self {
            Self::Service { of, .. } => Some(&of.name),
            Self::Directory(_) => None,
        }
    }

    /// Whether it is the store of this machine, whose files can be compared with what is in it.
    pub(crate) fn is_own(&self) -> bool {
        matches!(self, Self::Service { of, .. } if of.is_own)
    }

    /// Which of these chunks are not there.
    pub(crate) fn missing(&self, names: &[ChunkName]) -> Result<Vec<bool>> {
        match self {
            Self::Service { api, of } => api.missing(&of.store, names),
            Self::Directory(directory) => Ok(directory.store.missing(names)?),
        }
    }

    /// Chunks that lay near damage, with the segment that is damaged: `most` of them.
    pub(crate) fn near_damage(&self, most: usize) -> Result<Vec<(ChunkName, SegmentHash)>> {
        let directory = match self {
            Self::Service { api, of } => return api.near_damage(&of.store, most),
            Self::Directory(directory) => directory,
        };
        let mut near = Vec::new();
        for segment in directory.store.damaged_segments()? {
            // One that cannot be read any more lies where the disk failed before.
            let names = directory.store.near_damage(&segment).unwrap_or_default();
            near.extend(names.into_iter().map(|name| (name, segment)).take(most - near.len()));
        }
        Ok(near)
    }

    /// The points, latest first.
    pub(crate) fn points(&self) -> Result<Vec<Point>> {
        match self {
            Self::Service { api, of } => api.all(&calls::points(&of.workstation)),
            Self::Directory(directory) => {
                let store = &directory.store;
                let known: BTreeSet<u64> = store.points().into_iter().chain(store.lost_points()?).collect();
                let mut listed: Vec<Point> = Vec::new();
                for sequence in known {
                    let receipt = store.receipt(sequence).ok().flatten().map(|receipt| receipt.committed);
                    // One that is damaged or lost is listed as such: no other one is to be taken for it.
                    listed.push(store.point_head(sequence).map_or_else(
                        |_| lost(sequence, receipt.unwrap_or_default()),
                        |head| {
                            let good =
                                listed.iter().rev().find(|point| point.kind == head.kind && !point.lost && point.is_good());
                            let suspicion = suspicion_of(store, &head, good.map(|point| point.sequence));
                            as_listed(&head, receipt.unwrap_or(head.created), suspicion)
                        },
                    ));
                }
                listed.reverse();
                Ok(listed)
            }
        }
    }

    /// A point's file.
    pub(crate) fn point(&self, sequence: u64) -> Result<PointFile> {
        let bytes = match self {
            Self::Service { api, of } => {
                let bytes: PointBytes = api.call(&calls::point_bytes(&of.store, sequence))?;
                bytes.point.0
            }
            Self::Directory(directory) => directory.store.point(sequence)?,
        };
        numbered(PointFile::from_bytes(&bytes)?, sequence)
    }

    /// Puts a restore on record, as far as there is somebody who keeps records.
    pub(crate) fn begin_restore(&self, begin: &BeginRestore, meter: &Arc<Meter>) -> Result<RestoreOnRecord> {
        let Self::Service { api, of } = self else { return Ok(RestoreOnRecord(Err(None))) };
        let record: Restore = match api.call_with(&calls::begin_restore(&of.workstation), begin) {
            // Whoever has a dead laptop gets the files all the same; only a drill is nothing without its record.
            Err(error) if begin.purpose != Purpose::Drill && error.is_full_records() => {
                return Ok(RestoreOnRecord(Err(Some(error))));
            }
            other => other?,
        };
        let (told, counted, call) = (api.clone(), Arc::clone(meter), calls::restore_progress(&record.id));
        let reporter = Reporter::begin(move || {
            // One that failed is followed by another, which says it all again.
            if let Ok(Restore { cancelled_by: Some(who), .. }) = told.call_with(&call, &counted.progress()) {
                counted.cancel(who);
            }
        });
        Ok(RestoreOnRecord(Ok((api.clone(), record, reporter))))
    }
}

/// A point's file, if it is that of this number: its own key opens an older one as well, which a service that lies could give in its place.
fn numbered(file: PointFile, sequence: u64) -> Result<PointFile> {
    if file.head.sequence == sequence { Ok(file) } else { Err(ClientError::Damaged) }
}

/// A point of which nothing is known but that it was there.
fn lost(sequence: u64, committed: i64) -> Point {
    Point {
        sequence,
        kind: PointKind::Files,
        committed: Timestamp::from_millisecond(committed).unwrap_or_default(),
        files: 0,
        bytes: 0,
        exceptions: 0,
        sent: 0,
        hold: None,
        pending_removal: None,
        lost: true,
        changes: None,
        suspicion: None,
        mark: None,
    }
}

/// What a point looks like; `good` is the latest one of its kind before it against which nothing is known. Where the store is damaged, what the
/// workstation says of it is all there is.
fn suspicion_of(store: &Store, head: &PointHead, good: Option<u64>) -> Option<Suspicion> {
    let known = |Overlap { before, still }| StillNeeded { before, still };
    let of_good = || store.overlap_with(good?, head.sequence).ok().map(known);
    suspicion(head.kind, head.changes.as_ref(), store.overlap(head.sequence).ok().flatten().map(known), of_good)
}

fn as_listed(head: &PointHead, committed: i64, suspicion: Option<Suspicion>) -> Point {
    Point {
        sequence: head.sequence,
        kind: head.kind,
        committed: Timestamp::from_millisecond(committed).unwrap_or_default(),
        files: head.files,
        bytes: head.bytes,
        exceptions: head.exceptions,
        sent: 0,
        hold: None,
        pending_removal: None,
        lost: false,
        changes: head.changes,
        suspicion,
        mark: None,
    }
}

/// A restore on record, to be ended one way or the other; or why it is not on record, if anybody keeps records.
pub(crate) struct RestoreOnRecord(std::result::Result<(Api, Restore, Reporter), Option<ClientError>>);

impl RestoreOnRecord {
    /// Which it is, if it is on record.
    pub(crate) fn id(&self) -> Option<RestoreId> {
        self.0.as_ref().ok().map(|(_, record, _)| record.id.clone())
    }

    /// Puts on record how it ended, and passes the result on, with why that could not be put on record.
    ///
    /// # Errors
    /// That of the restore; what the service said.
    pub(crate) fn end<T>(
        self,
        result: Result<T>,
        meter: &Meter,
        exceptions: impl FnOnce(&T) -> u64,
    ) -> Result<(T, Option<ClientError>)> {
        let (api, record, reporter) = match self.0 {
            Ok(on_record) => on_record,
            Err(why) => return result.map(|done| (done, why)),
        };
        drop(reporter);
        let result = result.map_err(|error| match (error, meter.cancelled_by()) {
            (ClientError::Stopped, Some(who)) => ClientError::Cancelled(who),
            (error, _) => error,
        });
        match result {
            Ok(done) => {
                let end = EndRestore { progress: meter.progress(), exceptions: exceptions(&done) };
                let ended = api.call_with(&calls::end_restore(&record.id), &end);
                Ok((done, ended.err()))
            }
            Err(error) => {
                let why = GiveUp {
                    stopped: matches!(error, ClientError::Stopped | ClientError::Cancelled(_)),
                    reason: error.without_names().into_text(),
                    progress: meter.progress(),
                };
                // If even this does not arrive, the service notes the restore as lost.
                let _ = api.call_with(&calls::give_up_restore(&record.id), &why);
                Err(error)
            }
        }
    }
}
