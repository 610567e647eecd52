//! Removal: points first, then the space that only they took.
//!
//! The order makes a crash at any moment harmless. A point's file is removed, durably, before anything that it needed;
//! its needs file stays until all room is back, so that the next attempt knows what is left to do; a chunk that is still
//! needed is durable in its new segment before its old one is removed. Segments in which nothing is needed go first:
//! that takes no room, so a full destination can be emptied again.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::io::Write;
use std::sync::PoisonError;

use super::needs::NeedsFiles;
use super::reader::sound_record;
use super::{Result, Store, StoreError, layout, medium, segment_lengths};
use crate::format::{EMPTY_SEGMENT, FinishedSegment, MAX_SEGMENT, SegmentBuilder, SegmentEntry, read_footer, stored_len};
use crate::id::SegmentHash;
use crate::medium::Staged;

/// Rewritten segments are filled up to this.
const TARGET: u64 = 16 << 20;
/// Segments shorter than this are rewritten together once there are many of them.
const SMALL: u64 = 1 << 20;
const MANY_SMALL: usize = 64;

/// How to tidy a store.
#[derive(Debug, Clone, Copy)]
pub struct Compaction {
    /// Segments are rewritten until at most this share of the segments' bytes is not needed.
    pub most_dead_percent: u64,
    /// Whether segments that no point ever needed go, too. They are what an unfinished run sent; the next run would not
    /// have to send it again.
    pub drop_unfinished: bool,
}

impl Default for Compaction {
    fn default() -> Self {
        Self { most_dead_percent: 10, drop_unfinished: false }
    }
}

/// How far long work is, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Headway {
    /// Done.
    pub done: u64,
    /// Of.
    pub total: u64,
}

/// Is told about headway and answers whether to go on. It may take its time: that is how work is paced.
pub type GoOn<'g> = &'g mut dyn FnMut(Headway) -> bool;

/// What tidying came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Compacted {
    /// Segments removed because nothing in them was needed.
    pub dropped: u64,
    /// Segments rewritten because little in them was needed.
    pub rewritten: u64,
    /// Bytes by which the store shrank; negative when it grew.
    pub freed: i64,
    /// Bytes in segments that nothing needs and that are still there.
    pub dead: u64,
    /// Segments left alone because a record in them is damaged.
    pub damaged: u64,
}

/// What is still needed of a segment.
#[derive(Debug, Default)]
struct Use {
    len: u64,
    /// Offsets of the records that are needed.
    live: HashSet<u32>,
    live_bytes: u64,
    /// Whether any point ever needed something in it, as far as the needs files tell.
    mentioned: bool,
}

impl Use {
    /// Bytes that rewriting would save. What an unfinished run sent is not dead.
    fn dead(&self) -> u64 {
        if self.mentioned { self.len.saturating_sub(self.live_bytes + EMPTY_SEGMENT) } else { 0 }
    }
}

impl Store {
    /// Removes recovery points. The room that only they took comes back by [`Store::tidy`].
    ///
    /// # Errors
    /// [`StoreError::NoPoint`]; [`StoreError::LatestStays`]; [`StoreError::Medium`]. Some may be gone then.
    pub fn expire(&self, going: &BTreeSet<u64>) -> Result<()> {
        let mut points = self.lock_points();
        if let Some(absent) = going.difference(&points).next() {
            return Err(StoreError::NoPoint(*absent));
        }
        // The next point's number and predecessor follow from the latest one.
        if points.last().is_some_and(|latest| going.contains(latest)) {
            return Err(StoreError::LatestStays);
        }
        let failed = medium("removing a recovery point");
        // A receipt without its point would say that the point is lost.
        going.iter().try_for_each(|sequence| self.remove_receipt(*sequence))?;
        self.medium.sync_directory(layout::RECEIPTS).map_err(&failed)?;
        for sequence in going {
            let path = format!("{}/{}", layout::POINTS, layout::point(*sequence));
            let len = self.medium.open(&path).map_err(&failed)?.len();
            self.medium.remove(&path).map_err(&failed)?;
            points.remove(sequence);
            self.take_used(len);
        }
        self.medium.sync_directory(layout::POINTS).map_err(&failed)
    }

    /// Gives room back: removes and rewrites segments until little in them is not needed. May be interrupted and begun
    /// again at any time; readers and a run under way go on undisturbed.
    ///
    /// # Errors
    /// [`StoreError::Interrupted`] when `go_on` said so; [`StoreError::Needs`] and [`StoreError::Format`] when what the
    /// points need is damaged: then nothing is removed; [`StoreError::Medium`].
    pub fn compact(&self, how: &Compaction, go_on: GoOn<'_>) -> Result<Compacted> {
        let _alone = self.alone();
        self.lock_in_flight().forget();
        let before = self.used();
        let points = self.lock_points().clone();
        let needs = NeedsFiles::read(self, &points)?;
        let uses = self.uses(&needs, &points)?;
        let mut compacted = Compacted::default();
        let work = Work { store: self, compacted: &mut compacted };
        work.run(uses, how, go_on)?;
        let shrunk = needs.fold(self, &points)?;
        self.used.grow(-shrunk);
        compacted.freed = before.cast_signed() - self.used().cast_signed();
        Ok(compacted)
    }

    /// What is needed of each segment that the index knows.
    fn uses(&self, needs: &NeedsFiles, points: &BTreeSet<u64>) -> Result<HashMap<SegmentHash, Use>> {
        let known = self.index.read().unwrap_or_else(PoisonError::into_inner).segments()?;
        let lengths = segment_lengths(&*self.medium).map_err(medium("listing the segments"))?;
        let of = |hash: SegmentHash| Some((hash, Use { len: *lengths.get(&hash)?, ..Use::default() }));
        let mut uses: HashMap<SegmentHash, Use> = known.into_iter().filter_map(of).collect();
        self.each_known(needs, points, points, |chunk| {
            let Some(count) = chunk.count else { return Ok(()) };
            for (i, (_, place)) in chunk.places.iter().enumerate() {
                // A segment that arrived meanwhile is not looked at this time.
                let Some(segment) = uses.get_mut(&place.segment) else { continue };
                segment.mentioned = true;
                if i == 0 && (count.now > 0 || self.lock_in_flight().holds(&chunk.name)) {
                    segment.live.insert(place.offset);
                    segment.live_bytes += stored_len(place.len);
                }
            }
            Ok(())
        })?;
        Ok(uses)
    }
}

/// Compaction under way.
struct Work<'w> {
    store: &'w Store,
    compacted: &'w mut Compacted,
}

impl Work<'_> {
    fn run(mut self, uses: HashMap<SegmentHash, Use>, how: &Compaction, go_on: GoOn<'_>) -> Result<()> {
        let (empty, others): (Vec<_>, Vec<_>) = uses.into_iter().partition(|(_, u)| u.live.is_empty());
        for (hash, unneeded) in empty {
            if (unneeded.mentioned || how.drop_unfinished) && self.replace(&[hash], &HashMap::new(), &[])? {
                self.compacted.dropped += 1;
            } else {
                self.compacted.dead += unneeded.dead();
            }
        }
        let rewritten = self.rewrite(others, how, go_on);
        // Also after an interruption: otherwise the next start would have to read many footers.
        self.settle().and(rewritten)
    }

    fn rewrite(&mut self, segments: Vec<(SegmentHash, Use)>, how: &Compaction, go_on: GoOn<'_>) -> Result<()> {
        let (victims, dead_elsewhere) = choose(segments, how.most_dead_percent);
        self.compacted.dead += dead_elsewhere;
        let mut headway = Headway { done: 0, total: victims.iter().map(|(_, u)| u.len).sum() };
        let mut batch = Batch::new(self.store);
        for (hash, segment) in victims {
            if !go_on(headway) {
                return Err(StoreError::Interrupted);
            }
            headway.done += segment.len;
            if batch.is_full_with(&segment) {
                self.publish(std::mem::replace(&mut batch, Batch::new(self.store)))?;
            }
            if batch.copy(self.store, hash, &segment)? {
                self.compacted.rewritten += 1;
            } else {
                self.compacted.damaged += 1;
                self.compacted.dead += segment.dead();
            }
        }
        self.publish(batch)?;
        go_on(headway);
        Ok(())
    }

    /// Makes a batch's new segment durable and removes the old ones.
    fn publish(&mut self, batch: Batch) -> Result<()> {
        if batch.old.is_empty() {
            return Ok(());
        }
        let finished = batch.builder.finish();
        write_segment(self.store, &finished)?;
        let old: Vec<SegmentHash> = batch.old.keys().copied().collect();
        self.replace(&old, &batch.old, &[(finished.hash, batch.entries)])?;
        Ok(())
    }

    /// Switches the index from old segments to new ones and removes the old ones. An old one stays if a run under way
    /// counts on something in it that is not among `kept`. True when all are gone.
    fn replace(
        &mut self,
        old: &[SegmentHash],
        kept: &HashMap<SegmentHash, HashSet<u32>>,
        new: &[(SegmentHash, Vec<SegmentEntry>)],
    ) -> Result<bool> {
        let store = self.store;
        let mut gone = Vec::new();
        {
            let mut index = store.index.write().unwrap_or_else(PoisonError::into_inner);
            let in_flight = store.lock_in_flight();
            for hash in old {
                let none = HashSet::new();
                let kept = kept.get(hash).unwrap_or(&none);
                let promised = |e: &SegmentEntry| !kept.contains(&e.offset) && in_flight.holds(&e.name);
                let counted_on = match index.footer(hash) {
                    Ok(footer) => footer.iter().any(promised),
                    // What is in it cannot be told; a scrub looks into that.
                    Err(StoreError::Format(_)) => true,
                    Err(e) => return Err(e),
                };
                if !counted_on && !in_flight.holds_segment(hash) {
                    // Under the lock: a run that offers this segment again either finds it or sends it.
                    remove_segment(store, hash)?;
                    index.drop_segment(*hash);
                    gone.push(*hash);
                }
            }
            for (hash, entries) in new {
                let grown = index.add(*hash, entries)?;
                store.used.grow(grown);
            }
        }
        for hash in &gone {
            let synced = store.medium.sync_directory(&layout::segment_directory(hash));
            synced.map_err(medium("removing a segment"))?;
        }
        Ok(gone.len() == old.len())
    }

    fn settle(&self) -> Result<()> {
        let grown = self.store.index.write().unwrap_or_else(PoisonError::into_inner).settle()?;
        self.store.used.grow(grown);
        Ok(())
    }
}

/// The segments to rewrite, those with the largest dead share first, until the rest is dead to `percent` at most; and
/// how many dead bytes stay.
fn choose(mut segments: Vec<(SegmentHash, Use)>, percent: u64) -> (Vec<(SegmentHash, Use)>, u64) {
    let small = segments.iter().filter(|(_, u)| u.mentioned && u.len < SMALL).count();
    let share = |u: &Use| u.dead() * 1_000_000 / u.len.max(1);
    segments.sort_by_key(|(hash, u)| (std::cmp::Reverse(share(u)), *hash));
    let mut dead: u64 = segments.iter().map(|(_, u)| u.dead()).sum();
    let mut total: u64 = segments.iter().map(|(_, u)| u.len).sum();
    let victims = segments
        .into_iter()
        .filter(|(_, u)| {
            let too_much = u.dead() > 0 && dead * 100 > total * percent;
            if too_much {
                dead -= u.dead();
                total -= u.dead();
            }
            too_much || (small >= MANY_SMALL && u.mentioned && u.len < SMALL)
        })
        .collect();
    (victims, dead)
}

/// What is copied out of several old segments into a new one.
struct Batch {
    builder: SegmentBuilder,
    /// Which records were copied, by the segment they lay in.
    old: HashMap<SegmentHash, HashSet<u32>>,
    entries: Vec<SegmentEntry>,
}

impl Batch {
    fn new(store: &Store) -> Self {
        Self { builder: SegmentBuilder::new(store.id, 0), old: HashMap::new(), entries: Vec::new() }
    }

    fn is_full_with(&self, more: &Use) -> bool {
        let len = self.builder.finished_len();
        !self.builder.is_empty() && (len >= TARGET || len + more.live_bytes > MAX_SEGMENT)
    }

    /// Copies what is needed of a segment. False, and nothing copied, when a record is not sound.
    fn copy(&mut self, store: &Store, hash: SegmentHash, needed: &Use) -> Result<bool> {
        let failed = medium("reading a segment");
        let file = store.medium.open(&layout::segment(&hash)).map_err(&failed)?;
        let footer = read_footer(store.id, file.len(), |offset, n| {
            let mut bytes = vec![0; n];
            file.read_exact_at(&mut bytes, offset).map_err(&failed)?;
            Ok::<_, StoreError>(bytes)
        })?;
        let mut records = Vec::new();
        for entry in footer.iter().filter(|e| needed.live.contains(&e.offset)) {
            match sound_record(&*file, &entry.name, entry.offset, entry.len).map_err(&failed)? {
                Some(sealed) => records.push((entry.name, sealed)),
                None => return Ok(false),
            }
        }
        for (name, sealed) in records {
            let offset = self.builder.offset();
            self.builder.push(name, &sealed);
            self.entries.push(SegmentEntry { name, offset, len: u32::try_from(sealed.len()).expect("was read as such") });
        }
        self.old.insert(hash, needed.live.clone());
        Ok(true)
    }
}

pub(super) fn write_segment(store: &Store, segment: &FinishedSegment) -> Result<()> {
    let failed = medium("writing a segment");
    let directory = layout::segment_directory(&segment.hash);
    store.medium.make_directory(&directory).map_err(&failed)?;
    let mut staged = Staged::begin(&store.medium).map_err(&failed)?;
    staged.write_all(&segment.bytes).map_err(&failed)?;
    // An attempt that was cut off, or damage, may have left a segment of this name.
    let before = store.medium.open(&layout::segment(&segment.hash)).map_or(0, |file| file.len());
    staged.publish(&directory, &layout::segment_file(&segment.hash)).map_err(&failed)?;
    store.add_used(segment.bytes.len() as u64);
    store.take_used(before);
    Ok(())
}

fn remove_segment(store: &Store, hash: &SegmentHash) -> Result<()> {
    let failed = medium("removing a segment");
    let path = layout::segment(hash);
    let len = store.medium.open(&path).map_err(&failed)?.len();
    store.medium.remove(&path).map_err(&failed)?;
    store.take_used(len);
    Ok(())
}
