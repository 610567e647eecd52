//! An image store as the service keeps it: segments, index, needs and points, without any key.

mod compact;
mod in_flight;
mod index;
mod layout;
mod liveness;
mod near_damage;
mod needs;
mod overlap;
mod reader;
mod receipts;
mod run;
mod salvage;
mod scrub;
mod upload;
mod used;

#[cfg(test)]
mod tests;

use std::collections::{BTreeSet, HashMap};
use std::io;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};

pub use compact::{Compacted, Compaction, GoOn, Headway};
pub use liveness::Freed;
pub use overlap::Overlap;
pub use reader::ChunkReader;
pub use salvage::{Mended, Rebuilt, describe_again, mend};
pub use scrub::{Finding, Lost, Scrubbed, Wrong};
pub use upload::{NeedsUpload, SegmentUpload};

use crate::format::{FormatError, NeedsScanner, NeedsSummary, PointFile, PointHead, Receipt, Slot, SlotKind, StoreFile};
use crate::id::{ChunkName, SegmentHash, SlotId, StoreId};
use crate::medium::{Medium, STAGING, publish_bytes, read_whole};
use in_flight::InFlight;
use index::Index;
use needs::check_sum;
use used::{Used, occupied};

/// Small files are not read beyond this: `store.cbor`, slots.
const MAX_SMALL: u64 = 64 << 10;
/// A segment below this is short, in bytes.
const SHORT_SEGMENT: u64 = 1 << 20;
/// The most key slots that a store may have.
pub const MAX_SLOTS: usize = 16;
/// Point files are not read beyond this.
pub const MAX_POINT: u64 = 4 << 20;

/// Why a store refused or failed.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The medium failed.
    #[error("{doing} failed")]
    Medium {
        /// What was being done.
        doing: &'static str,
        /// What the medium said.
        #[source]
        source: io::Error,
    },
    /// Bytes are not in the format.
    #[error(transparent)]
    Format(#[from] FormatError),
    /// There is no store here.
    #[error("there is no image store here")]
    NoStore,
    /// There is one already.
    #[error("there is an image store here already")]
    StoreExists,
    /// Something of another store was offered.
    #[error("this belongs to another image store")]
    OtherStore,
    /// What arrived is not what it was announced as.
    #[error("what arrived has another hash than its name says")]
    WrongHash,
    /// No such point.
    #[error("there is no recovery point {0}")]
    NoPoint(u64),
    /// A point that was committed and is not there, though nothing removed it.
    #[error("recovery point {0} is lost: its file is not there, and nothing removed it")]
    PointLost(u64),
    /// A point whose file is not the one that was committed.
    #[error("recovery point {0} is not the one that was committed")]
    OtherPoint(u64),
    /// A receipt that is another point's.
    #[error("the receipt of recovery point {0} is another point's")]
    OtherReceipt(u64),
    /// A point that does not follow the latest one.
    #[error("the next recovery point is {expected}, not {found}")]
    OutOfOrder {
        /// The sequence that is next.
        expected: u64,
        /// The sequence that was offered.
        found: u64,
    },
    /// A point that was made without knowledge of the latest one.
    #[error("this recovery point was made without knowing the latest one")]
    OtherPredecessor,
    /// A point without its needs, or whose needs do not add up.
    #[error("what the recovery point needs does not add up: {0}")]
    Needs(&'static str),
    /// A point that needs chunks that are not there.
    #[error("{missing} required chunks are missing from the store")]
    ChunksMissing {
        /// How many.
        missing: u64,
    },
    /// The latest point was to be removed.
    #[error("the latest recovery point stays: the next one builds on it")]
    LatestStays,
    /// What a point needs was written in another way while it was read. It can be read again.
    #[error("what a recovery point needs was written anew meanwhile")]
    Folded,
    /// Long work was asked to stop.
    #[error("interrupted")]
    Interrupted,
    /// A key slot of that id is there already.
    #[error("there is another key slot of this id")]
    SlotTaken,
    /// There are as many key slots as there may be.
    #[error("there are {MAX_SLOTS} key slots already")]
    TooManySlots,
    /// There is no such key slot.
    #[error("there is no such key slot")]
    NoSlot,
    /// The last passphrase or recovery key was to be removed.
    #[error("this is the last passphrase or recovery key that unlocks the image store")]
    LastUnlockMethod,
    /// A way in with a secret for a store that is open, or an open way into one that is not.
    #[error("an encrypted image store takes secrets only, and one that is not encrypted takes none")]
    OtherSuite,
    /// A chunk that is not there.
    #[error("chunk {0} is not here")]
    NoChunk(ChunkName),
    /// A chunk whose stored bytes are damaged.
    #[error("chunk {name} is damaged in segment {segment}")]
    DamagedChunk {
        /// The chunk.
        name: ChunkName,
        /// Where it lies.
        segment: SegmentHash,
    },
}

/// For `map_err`: what was being done when the medium failed.
fn medium(doing: &'static str) -> impl Fn(io::Error) -> StoreError {
    move |source| StoreError::Medium { doing, source }
}

type Result<T, E = StoreError> = std::result::Result<T, E>;

/// An open image store. All methods may be called from several threads.
#[derive(Debug)]
pub struct Store {
    medium: Arc<dyn Medium>,
    id: StoreId,
    index: RwLock<Index>,
    points: Mutex<BTreeSet<u64>>,
    /// The highest number of a point that was committed before the store was opened, whether it is there or lost, or that is remembered elsewhere: no number
    /// is given twice.
    highest: AtomicU64,
    used: Used,
    in_flight: Mutex<InFlight>,
    /// Held by work that removes something: one at a time.
    upkeep: Mutex<()>,
    /// Held while a segment gets its name, by the first byte of that: the same one cannot be counted twice.
    naming: [Mutex<()>; 16],
}

impl Store {
    /// Makes a new, empty store and opens it.
    ///
    /// # Errors
    /// [`StoreError::StoreExists`]; [`StoreError::Medium`].
    pub fn create(on: Arc<dyn Medium>, file: &StoreFile) -> Result<Self> {
        if on.open(layout::STORE_FILE).is_ok() {
            return Err(StoreError::StoreExists);
        }
        for directory in layout::DIRECTORIES {
            on.make_directory(directory).map_err(medium("making the store's directories"))?;
        }
        publish_bytes(&on, "", layout::STORE_FILE, &file.to_bytes()).map_err(medium("writing the store's description"))?;
        Self::open(on)
    }

    /// Opens a store: clears what was never finished, and brings the index up to the segments that are there.
    ///
    /// # Errors
    /// [`StoreError::NoStore`]; [`StoreError::Format`] for one of a later version; [`StoreError::Medium`].
    pub fn open(on: Arc<dyn Medium>) -> Result<Self> {
        let bytes = read_whole(&*on, layout::STORE_FILE, MAX_SMALL).map_err(|e| match e.kind() {
            io::ErrorKind::NotFound => StoreError::NoStore,
            _ => medium("reading the store's description")(e),
        })?;
        let id = StoreFile::from_bytes(&bytes)?.store;
        // A crash while the store was made may have left fewer.
        for directory in layout::DIRECTORIES {
            on.make_directory(directory).map_err(medium("making the store's directories"))?;
        }
        clear_staging(&*on)?;
        clear_needs_without_point(&*on)?;
        Self::open_described(on, id)
    }

    /// Opens a store without clearing anything: salvage may still learn from what was never finished.
    fn open_as_it_is(on: Arc<dyn Medium>) -> Result<Self> {
        let bytes = read_whole(&*on, layout::STORE_FILE, MAX_SMALL).map_err(medium("reading the store's description"))?;
        let id = StoreFile::from_bytes(&bytes)?.store;
        Self::open_described(on, id)
    }

    fn open_described(on: Arc<dyn Medium>, id: StoreId) -> Result<Self> {
        let points = numbers(&*on, layout::POINTS, layout::POINT_SUFFIX)?;
        let highest = numbers(&*on, layout::RECEIPTS, layout::RECEIPT_SUFFIX)?.last().copied().unwrap_or(0);
        let index = Index::open(Arc::clone(&on), id)?;
        let used = occupied_bytes(&*on).map_err(medium("adding up the store's files"))?;
        Ok(Self {
            medium: on,
            id,
            index: RwLock::new(index),
            points: Mutex::new(points),
            highest: AtomicU64::new(highest),
            used: Used::new(used),
            in_flight: Mutex::default(),
            upkeep: Mutex::default(),
            naming: Default::default(),
        })
    }

    /// Which store this is.
    #[must_use]
    pub fn id(&self) -> StoreId {
        self.id
    }

    /// Bytes that all files of the store occupy, in whole blocks of the medium.
    #[must_use]
    pub fn used(&self) -> u64 {
        self.used.get()
    }

    /// Whether no chunk was ever stored.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.index.read().unwrap_or_else(PoisonError::into_inner).is_empty()
    }

    /// Which of `wanted` are not here, in the same order: `true` for missing.
    ///
    /// # Errors
    /// [`StoreError::Medium`]; [`StoreError::Format`] when the index is damaged.
    pub fn missing(&self, wanted: &[ChunkName]) -> Result<Vec<bool>> {
        let index = self.index.read().unwrap_or_else(PoisonError::into_inner);
        let mut in_flight = self.lock_in_flight();
        in_flight.go_on_with_run();
        let mut look_ups = index.look_ups();
        let is_missing = |name: &ChunkName| {
            let here = look_ups.has(name)?;
            if here {
                in_flight.promise(name);
            }
            Ok(!here)
        };
        wanted.iter().map(is_missing).collect()
    }

    /// Says that a run begins: from now on what it is told is here is kept for it.
    pub fn begin_run(&self) {
        self.lock_in_flight().begin_run();
    }

    /// Whether the run under way began since the store was opened. One that began before was told things that nobody
    /// remembers any more.
    #[must_use]
    pub fn knows_of_run(&self) -> bool {
        self.lock_in_flight().knows_all()
    }

    /// Says that no run is under way any more: what was promised to it need not be kept.
    pub fn end_run(&self) {
        self.lock_in_flight().end_run();
        // Work under way may have looked at the points before this run's was committed; it still needs the in_flight.
        if let Ok(_alone) = self.upkeep.try_lock() {
            self.lock_in_flight().forget();
        }
    }

    /// Begins to receive the segment named `hash`; `None` when it is here already.
    ///
    /// # Errors
    /// [`StoreError::Medium`].
    pub fn receive_segment(&self, hash: SegmentHash) -> Result<Option<SegmentUpload<&Self>>> {
        if self.expects_segment(hash) { SegmentUpload::begin(self, hash).map(Some) } else { Ok(None) }
    }

    /// As [`Store::receive_segment`], for whoever shares the store.
    ///
    /// # Errors
    /// [`StoreError::Medium`].
    pub fn receive_segment_shared(self: &Arc<Self>, hash: SegmentHash) -> Result<Option<SegmentUpload<Arc<Self>>>> {
        if self.expects_segment(hash) { SegmentUpload::begin(Arc::clone(self), hash).map(Some) } else { Ok(None) }
    }

    /// Whether the run under way may bring a segment of `len` bytes: many short ones would occupy and slow down far more than
    /// they hold.
    #[must_use]
    pub fn takes_segment_of(&self, len: u64) -> bool {
        len >= SHORT_SEGMENT || self.lock_in_flight().one_more_short()
    }

    /// Notes that a run brings a segment; false when it is here already.
    fn expects_segment(&self, hash: SegmentHash) -> bool {
        let mut in_flight = self.lock_in_flight();
        in_flight.go_on_with_run();
        in_flight.promise_segment(hash);
        drop(in_flight);
        self.medium.open(&layout::segment(&hash)).is_err()
    }

    /// Begins to receive the needs of the next point.
    ///
    /// # Errors
    /// [`StoreError::OutOfOrder`] when `sequence` is not next.
    pub fn receive_needs(&self, sequence: u64) -> Result<NeedsUpload<&Self>> {
        self.check_next(&self.lock_points(), sequence)?;
        NeedsUpload::begin(self, sequence)
    }

    /// As [`Store::receive_needs`], for whoever shares the store.
    ///
    /// # Errors
    /// As [`Store::receive_needs`].
    pub fn receive_needs_shared(self: &Arc<Self>, sequence: u64) -> Result<NeedsUpload<Arc<Self>>> {
        self.check_next(&self.lock_points(), sequence)?;
        NeedsUpload::begin(Arc::clone(self), sequence)
    }

    /// The most bytes that the needs of the next point can have: it adds chunks that are here, and removes what the point has
    /// that it is a difference to.
    ///
    /// # Errors
    /// [`StoreError::Medium`].
    pub fn most_needs(&self) -> Result<u64> {
        let here = self.index.read().unwrap_or_else(PoisonError::into_inner).len();
        // More than are here are only needed where some are lost.
        let needed = self.latest_sound()?.map_or(0, |head| head.needed);
        Ok(here.max(needed).saturating_mul(2 * ChunkName::LEN as u64).saturating_add(1 << 16))
    }

    /// Commits a point at the time `committed` by the service's clock, in Unix milliseconds. From when this returns, the
    /// point and its receipt are durable.
    ///
    /// # Errors
    /// Every [`StoreError`] that says what is missing or does not add up; then there is no such point.
    pub fn commit_point(&self, bytes: &[u8], committed: i64) -> Result<PointHead> {
        let head = PointFile::from_bytes(bytes)?.head;
        let mut points = self.lock_points();
        self.check_follows(&head, &points)?;
        let needs = self.check_needs(&head)?;
        publish_bytes(&self.medium, layout::POINTS, &layout::point(head.sequence), bytes)
            .map_err(medium("writing the recovery point"))?;
        points.insert(head.sequence);
        self.add_used(bytes.len() as u64);
        self.write_receipt(&Receipt::of(self.id, head.sequence, bytes, committed, needs))?;
        self.end_run();
        Ok(head)
    }

    /// The number of the next point.
    #[must_use]
    pub fn next_sequence(&self) -> u64 {
        self.next_after(&self.lock_points())
    }

    /// No point from now on has a number up to this one: somebody remembers it, though nothing here does.
    pub fn continue_behind(&self, sequence: u64) {
        let _points = self.lock_points();
        self.highest.fetch_max(sequence, Ordering::SeqCst);
    }

    fn next_after(&self, points: &BTreeSet<u64>) -> u64 {
        points.last().copied().unwrap_or(0).max(self.highest.load(Ordering::SeqCst)) + 1
    }

    /// Whether a number is that of the next point.
    fn check_next(&self, points: &BTreeSet<u64>, sequence: u64) -> Result<()> {
        let expected = self.next_after(points);
        if sequence == expected { Ok(()) } else { Err(StoreError::OutOfOrder { expected, found: sequence }) }
    }

    /// The numbers of the points, ascending.
    #[must_use]
    pub fn points(&self) -> Vec<u64> {
        self.lock_points().iter().copied().collect()
    }

    /// What the store is, as it was made.
    ///
    /// # Errors
    /// [`StoreError::Medium`]; [`StoreError::Format`].
    pub fn description(&self) -> Result<StoreFile> {
        let bytes =
            read_whole(&*self.medium, layout::STORE_FILE, MAX_SMALL).map_err(medium("reading the store's description"))?;
        Ok(StoreFile::from_bytes(&bytes)?)
    }

    /// A point's file, which is the one that was committed.
    ///
    /// # Errors
    /// [`StoreError::NoPoint`]; [`StoreError::PointLost`]; [`StoreError::OtherPoint`]; [`StoreError::Medium`].
    pub fn point(&self, sequence: u64) -> Result<Vec<u8>> {
        let receipt = self.sound_receipt(sequence)?;
        let bytes = match (self.point_as_it_is(sequence), &receipt) {
            (Err(StoreError::NoPoint(_)), Some(_)) => return Err(StoreError::PointLost(sequence)),
            (bytes, _) => bytes?,
        };
        match receipt {
            Some(receipt) if receipt.point != *blake3::hash(&bytes).as_bytes() => Err(StoreError::OtherPoint(sequence)),
            _ => Ok(bytes),
        }
    }

    /// What lies where a point's file belongs.
    fn point_as_it_is(&self, sequence: u64) -> Result<Vec<u8>> {
        let path = format!("{}/{}", layout::POINTS, layout::point(sequence));
        read_whole(&*self.medium, &path, MAX_POINT).map_err(|e| match e.kind() {
            io::ErrorKind::NotFound => StoreError::NoPoint(sequence),
            _ => medium("reading a recovery point")(e),
        })
    }

    /// The clear part of a point.
    ///
    /// # Errors
    /// As [`Store::point`]; [`StoreError::Format`] when it is damaged.
    pub fn point_head(&self, sequence: u64) -> Result<PointHead> {
        Ok(PointFile::from_bytes(&self.point(sequence)?)?.head)
    }

    /// Adds a key slot. One that is here already is not written over: whoever may add a way in may not take one away.
    ///
    /// # Errors
    /// [`StoreError::SlotTaken`]; [`StoreError::TooManySlots`]; [`StoreError::OtherStore`]; [`StoreError::OtherSuite`];
    /// [`StoreError::Format`]; [`StoreError::Medium`].
    pub fn put_slot(&self, bytes: &[u8]) -> Result<()> {
        let slot = Slot::from_bytes(bytes)?;
        if slot.store != self.id {
            return Err(StoreError::OtherStore);
        }
        if !self.description()?.takes(slot.kind) {
            return Err(StoreError::OtherSuite);
        }
        let here = self.slots()?;
        if here.iter().any(|there| there == bytes) {
            return Ok(());
        }
        if self.medium.open(&format!("{}/{}", layout::SLOTS, layout::slot(&slot.id))).is_ok() {
            return Err(StoreError::SlotTaken);
        }
        if here.len() >= MAX_SLOTS {
            return Err(StoreError::TooManySlots);
        }
        self.put_small(layout::SLOTS, &layout::slot(&slot.id), bytes).map_err(medium("writing a key slot"))
    }

    /// Writes a key slot that is on record over one that is damaged, or where it is gone.
    ///
    /// # Errors
    /// [`StoreError::OtherStore`]; [`StoreError::Format`]; [`StoreError::Medium`].
    pub fn mend_slot(&self, bytes: &[u8]) -> Result<()> {
        let _alone = self.alone();
        let slot = Slot::from_bytes(bytes)?;
        if slot.store != self.id {
            return Err(StoreError::OtherStore);
        }
        self.put_small(layout::SLOTS, &layout::slot(&slot.id), bytes).map_err(medium("writing a key slot"))
    }

    /// Removes a key slot, unless no secret of the person's own would open the store without it.
    ///
    /// # Errors
    /// [`StoreError::NoSlot`]; [`StoreError::LastUnlockMethod`]; [`StoreError::Medium`].
    pub fn remove_slot(&self, id: &SlotId) -> Result<()> {
        let _alone = self.alone();
        // A slot that cannot be read is no way in.
        let sound: Vec<Slot> = self.slots()?.iter().filter_map(|bytes| Slot::from_bytes(bytes).ok()).collect();
        if !sound.iter().any(|slot| slot.id != *id && slot.kind != SlotKind::Escrow) {
            return Err(StoreError::LastUnlockMethod);
        }
        let failed = medium("removing a key slot");
        let path = format!("{}/{}", layout::SLOTS, layout::slot(id));
        let len = match self.medium.open(&path) {
            Ok(file) => file.len(),
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Err(StoreError::NoSlot),
            Err(e) => return Err(failed(e)),
        };
        self.medium.remove(&path).map_err(&failed)?;
        self.take_used(len);
        self.medium.sync_directory(layout::SLOTS).map_err(&failed)
    }

    /// The bytes of all key slots.
    ///
    /// # Errors
    /// [`StoreError::Medium`].
    pub fn slots(&self) -> Result<Vec<Vec<u8>>> {
        let failed = medium("reading the key slots");
        let listed = self.medium.list(layout::SLOTS).map_err(&failed)?;
        let belong = listed.iter().filter(|l| layout::belongs(layout::SLOTS, &l.name));
        belong.map(|l| read_whole(&*self.medium, &format!("{}/{}", layout::SLOTS, l.name), MAX_SMALL).map_err(&failed)).collect()
    }

    /// Says in clear whose store this is, for people who find the directory.
    ///
    /// # Errors
    /// [`StoreError::Medium`].
    pub fn put_owner(&self, json: &[u8]) -> Result<()> {
        self.put_small("", layout::OWNER_FILE, json).map_err(medium("writing whose store this is"))
    }

    /// Whose store this is, as [`Store::put_owner`] was told.
    ///
    /// # Errors
    /// [`StoreError::Medium`], also when it was never said.
    pub fn owner(&self) -> Result<Vec<u8>> {
        read_whole(&*self.medium, layout::OWNER_FILE, MAX_SMALL).map_err(medium("reading whose store this is"))
    }

    /// Writes a small file, possibly in place of one that is there.
    fn put_small(&self, directory: &str, name: &str, bytes: &[u8]) -> io::Result<()> {
        let path = if directory.is_empty() { name.to_owned() } else { format!("{directory}/{name}") };
        let before = self.medium.open(&path).map_or(0, |file| file.len());
        publish_bytes(&self.medium, directory, name, bytes)?;
        self.add_used(bytes.len() as u64);
        self.take_used(before);
        Ok(())
    }

    fn lock_points(&self) -> MutexGuard<'_, BTreeSet<u64>> {
        self.points.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn lock_in_flight(&self) -> MutexGuard<'_, InFlight> {
        self.in_flight.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn lock_name(&self, hash: &SegmentHash) -> MutexGuard<'_, ()> {
        self.naming[usize::from(hash.0[0]) % self.naming.len()].lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn alone(&self) -> MutexGuard<'_, ()> {
        self.upkeep.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Counts a file of `len` bytes that is there now.
    fn add_used(&self, len: u64) {
        self.used.grow(occupied(&*self.medium, len).cast_signed());
    }

    /// Counts a file of `len` bytes no more.
    fn take_used(&self, len: u64) {
        self.used.grow(-occupied(&*self.medium, len).cast_signed());
    }

    /// The latest point that is as it was committed, with its clear part. One that is damaged or lost stands in nobody's way.
    ///
    /// # Errors
    /// [`StoreError::Medium`].
    pub fn latest_sound(&self) -> Result<Option<PointHead>> {
        self.latest_sound_of(&self.points())
    }

    fn latest_sound_of(&self, points: &[u64]) -> Result<Option<PointHead>> {
        for sequence in points.iter().rev() {
            match self.point_head(*sequence) {
                Ok(head) => return Ok(Some(head)),
                Err(error @ StoreError::Medium { .. }) => return Err(error),
                Err(_) => {}
            }
        }
        Ok(None)
    }

    /// Points behind `sound`, the latest that is as it was committed, which are damaged or lost.
    ///
    /// # Errors
    /// [`StoreError::Medium`].
    pub fn damaged_behind(&self, sound: u64) -> Result<BTreeSet<u64>> {
        let mut damaged = self.lost_points()?;
        damaged.extend(self.points());
        Ok(damaged.split_off(&(sound + 1)))
    }

    fn check_follows(&self, head: &PointHead, points: &BTreeSet<u64>) -> Result<()> {
        if head.store != self.id {
            return Err(StoreError::OtherStore);
        }
        self.check_next(points, head.sequence)?;
        let points: Vec<u64> = points.iter().copied().collect();
        let predecessor = self.latest_sound_of(&points)?.map(|head| head.id);
        if head.previous == predecessor { Ok(()) } else { Err(StoreError::OtherPredecessor) }
    }

    /// Checks that everything a point newly needs is here, that its set follows from its base's, and that its needs file is
    /// the one that the workstation sealed into the point. Returns that file's check.
    fn check_needs(&self, head: &PointHead) -> Result<[u8; 32]> {
        let mut missing = 0;
        let summary = {
            let index = self.index.read().unwrap_or_else(PoisonError::into_inner);
            let mut in_flight = self.lock_in_flight();
            in_flight.go_on_with_run();
            let mut look_ups = index.look_ups();
            self.scan_needs(head.sequence, |name, added| {
                if added {
                    missing += u64::from(!look_ups.has(&name)?);
                    in_flight.promise(&name);
                }
                Ok(())
            })?
        };
        if missing > 0 {
            return Err(StoreError::ChunksMissing { missing });
        }
        if summary.head.store != self.id || summary.head.sequence != head.sequence {
            return Err(StoreError::Needs("they are another point's"));
        }
        if head.needs != Some(summary.check) {
            return Err(StoreError::Needs("the point names another needs file"));
        }
        needs::check_difference(&*self.medium, &summary.head).or_else(|error| match error {
            StoreError::Folded => needs::check_difference(&*self.medium, &summary.head),
            other => Err(other),
        })?;
        let base = match summary.head.base {
            0 => None,
            base => Some(self.head_of_base(base)?),
        };
        let (base_needed, mut xor) = base.map_or((0, [0; 32]), |base| (base.needed, base.needed_xor));
        xor.iter_mut().zip(summary.xor).for_each(|(x, b)| *x ^= b);
        let needed = base_needed.checked_add(summary.head.added).and_then(|n| n.checked_sub(summary.head.removed));
        check_sum(head, &(needed.ok_or(StoreError::Needs("they remove more than there is"))?, xor))?;
        Ok(summary.check)
    }

    /// The clear part of the point that needs are a difference to. One that is gone, lost or damaged is nothing to build on.
    fn head_of_base(&self, base: u64) -> Result<PointHead> {
        self.point_head(base).map_err(|error| match error {
            StoreError::Medium { .. } => error,
            _ => StoreError::Needs("what they are a difference to is not there"),
        })
    }

    /// Reads a needs file in pieces; `each` gets every name and whether it is added.
    fn scan_needs(&self, sequence: u64, each: impl FnMut(ChunkName, bool) -> Result<()>) -> Result<NeedsSummary> {
        scan_needs_at(&*self.medium, &format!("{}/{}", layout::NEEDS, layout::needs(sequence)), each)
    }
}

/// Reads the needs file at a path.
fn scan_needs_at(on: &dyn Medium, path: &str, mut each: impl FnMut(ChunkName, bool) -> Result<()>) -> Result<NeedsSummary> {
    let file = on.open(path).map_err(|e| match e.kind() {
        io::ErrorKind::NotFound => StoreError::Needs("they did not arrive"),
        _ => medium("reading what a point needs")(e),
    })?;
    let mut scanner = NeedsScanner::default();
    let mut buffer = vec![0; 64 << 10];
    let mut at = 0;
    while at < file.len() {
        let n = usize::try_from(file.len() - at).unwrap_or(usize::MAX).min(buffer.len());
        file.read_exact_at(&mut buffer[..n], at).map_err(medium("reading what a point needs"))?;
        scanner.push(&buffer[..n], &mut each)?;
        at += n as u64;
    }
    Ok(scanner.finish()?)
}

fn clear_staging(on: &dyn Medium) -> Result<()> {
    let failed = medium("clearing what was never finished");
    for left in on.list(STAGING).map_err(&failed)? {
        on.remove(&format!("{STAGING}/{}", left.name)).map_err(&failed)?;
    }
    Ok(())
}

/// Needs that arrived for a point that was never committed would stand in the way of the next attempt's.
fn clear_needs_without_point(on: &dyn Medium) -> Result<()> {
    // A point that has a receipt was committed: if it is lost, its needs help to make it again.
    let committed = numbers(on, layout::POINTS, layout::POINT_SUFFIX)?.last().copied();
    let latest = committed.max(numbers(on, layout::RECEIPTS, layout::RECEIPT_SUFFIX)?.last().copied()).unwrap_or(0);
    for sequence in numbers(on, layout::NEEDS, layout::NEEDS_SUFFIX)?.range(latest + 1..) {
        on.remove(&format!("{}/{}", layout::NEEDS, layout::needs(*sequence)))
            .map_err(medium("clearing what was never finished"))?;
    }
    Ok(())
}

/// The numbers in a directory's file names.
fn numbers(on: &dyn Medium, directory: &str, suffix: &str) -> Result<BTreeSet<u64>> {
    let listed = on.list(directory).map_err(medium("listing the recovery points"))?;
    let belongs = listed.iter().filter(|l| layout::belongs(directory, &l.name));
    Ok(belongs.filter_map(|l| l.name.strip_suffix(suffix)?.parse().ok()).collect())
}

/// Bytes that the files of a store occupy, also of one that cannot be opened.
///
/// # Errors
/// As the medium reports them.
pub fn occupied_bytes(on: &dyn Medium) -> io::Result<u64> {
    let mut sum: u64 = on.list("")?.iter().map(|l| occupied(on, l.len)).sum();
    for directory in layout::DIRECTORIES {
        sum += on.list(directory)?.iter().map(|l| occupied(on, l.len)).sum::<u64>();
    }
    Ok(sum + segment_lengths(on)?.values().map(|len| occupied(on, *len)).sum::<u64>())
}

/// The segments that are there and their lengths in bytes.
fn segment_lengths(on: &dyn Medium) -> io::Result<HashMap<SegmentHash, u64>> {
    let mut found = HashMap::new();
    for part in on.directories(layout::SEGMENTS)? {
        let listed = on.list(&format!("{}/{part}", layout::SEGMENTS))?;
        found.extend(listed.iter().filter_map(|l| Some((layout::parse_segment(&l.name)?, l.len))));
    }
    Ok(found)
}
