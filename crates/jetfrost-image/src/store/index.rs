//! The index: which chunk lies where. A few sorted runs on the medium, and the latest segments in memory.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use super::needs::Band;
use super::run::{Bucket, Run, merge, write_run};
use super::used::occupied;
use super::{Result, StoreError, layout, medium, segment_lengths};
use crate::format::{FormatError, IndexEntry, SegmentEntry, read_footer};
use crate::id::{ChunkName, SegmentHash, StoreId};
use crate::medium::Medium;

/// Segments kept in memory before they are written as a run: what a restart has to read again.
const RECENT_SEGMENTS: usize = 32;
/// Entries kept in memory before they are written as a run.
const RECENT_ENTRIES: usize = 1 << 16;

/// Where a chunk's record lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Place {
    pub(super) segment: SegmentHash,
    pub(super) offset: u32,
    pub(super) len: u32,
}

/// Chunks of the latest segments, in memory.
#[derive(Debug, Default)]
struct Recent {
    segments: Vec<SegmentHash>,
    entries: HashMap<ChunkName, IndexEntry>,
}

impl Recent {
    fn place(&self, entry: &IndexEntry, gone: &HashSet<SegmentHash>) -> Option<Place> {
        let segment = self.segments[entry.segment as usize];
        (!gone.contains(&segment)).then_some(Place { segment, offset: entry.offset, len: entry.len })
    }
}

/// The index of one store.
#[derive(Debug)]
pub(super) struct Index {
    on: Arc<dyn Medium>,
    store: StoreId,
    /// Oldest and largest first.
    runs: Vec<Run>,
    recent: Recent,
    /// Segments that were removed and that runs still name.
    gone: HashSet<SegmentHash>,
}

impl Index {
    /// Opens the runs and reads the footers of segments that none of them covers. A segment without a sound footer is
    /// passed over: its chunks count as missing.
    pub(super) fn open(on: Arc<dyn Medium>, store: StoreId) -> Result<Self> {
        let lengths = segment_lengths(&*on).map_err(medium("listing the segments"))?;
        let segments: HashSet<SegmentHash> = lengths.into_keys().collect();
        let (runs, covered) = usable_runs(&on, store, &segments)?;
        let mut index = Self { on, store, runs, recent: Recent::default(), gone: HashSet::new() };
        for hash in segments.difference(&covered) {
            match index.footer(hash) {
                Ok(entries) => drop(index.add(*hash, &entries)?),
                Err(StoreError::Format(_)) => {}
                Err(e) => return Err(e),
            }
        }
        Ok(index)
    }

    pub(super) fn is_empty(&self) -> bool {
        self.runs.is_empty() && self.recent.entries.is_empty()
    }

    /// Number of entries.
    pub(super) fn len(&self) -> u64 {
        self.runs.iter().map(Run::entries).sum::<u64>() + self.recent.entries.len() as u64
    }

    /// Where a chunk lies, if it is in a segment that is there.
    pub(super) fn find(&self, name: &ChunkName) -> Result<Option<Place>> {
        self.look_ups().find(name)
    }

    /// Looks up many names; for ascending ones, each part of the index is read once.
    pub(super) fn look_ups(&self) -> LookUps<'_> {
        LookUps { index: self, kept: self.runs.iter().map(|_| Kept::default()).collect() }
    }

    /// All places of the chunks whose names lie in a band, ascending by name; of the same name the one that
    /// [`Index::find`] would give comes first.
    pub(super) fn places_in(&self, band: &Band) -> Result<Vec<(ChunkName, Place)>> {
        let within = |name: &ChunkName| *name >= band.from && band.to.is_none_or(|to| *name < to);
        let recent = self.recent.entries.values().filter(|e| within(&e.name));
        let mut places: Vec<_> = recent.filter_map(|e| Some((e.name, self.recent.place(e, &self.gone)?))).collect();
        for run in self.runs.iter().rev() {
            let segments = run.segments()?;
            for entry in run.entries_in(band)? {
                let segment = segments.get(entry.segment as usize);
                let no_segment = FormatError::Damaged { what: "an index run", why: "an entry leads to no segment" };
                let segment = *segment.ok_or(no_segment)?;
                if !self.gone.contains(&segment) {
                    places.push((entry.name, Place { segment, offset: entry.offset, len: entry.len }));
                }
            }
        }
        // Stable: newer places stay in front.
        places.sort_by_key(|(name, _)| *name);
        Ok(places)
    }

    /// The segments whose chunks are known.
    pub(super) fn segments(&self) -> Result<HashSet<SegmentHash>> {
        let mut segments: HashSet<_> = self.recent.segments.iter().copied().collect();
        for run in &self.runs {
            segments.extend(run.segments()?);
        }
        Ok(segments.difference(&self.gone).copied().collect())
    }

    /// Forgets a segment that was removed.
    pub(super) fn drop_segment(&mut self, hash: SegmentHash) {
        self.gone.insert(hash);
    }

    /// Writes the runs again that name segments that are gone; returns by how many bytes the index grew on the medium.
    pub(super) fn settle(&mut self) -> Result<i64> {
        let before = self.len_on_medium();
        if self.recent.segments.iter().any(|hash| self.gone.contains(hash)) {
            self.write_out()?;
        }
        let (mut stale, mut sound) = (Vec::new(), Vec::new());
        for run in self.runs.drain(..) {
            let is_stale = run.segments()?.iter().any(|hash| self.gone.contains(hash));
            if is_stale { &mut stale } else { &mut sound }.push(run);
        }
        self.runs = sound;
        let settled = if stale.is_empty() { None } else { merge(&self.on, self.store, &stale, &self.gone)? };
        self.runs.extend(settled);
        self.runs.sort_by_key(|run| std::cmp::Reverse(run.entries()));
        for run in stale {
            run.remove(&*self.on)?;
        }
        self.gone.clear();
        Ok(self.len_on_medium() - before)
    }

    /// Makes a segment's chunks known; returns by how many bytes the index grew on the medium.
    pub(super) fn add(&mut self, hash: SegmentHash, entries: &[SegmentEntry]) -> Result<i64> {
        // The very same bytes may come again after they were removed.
        self.gone.remove(&hash);
        let segment = u32::try_from(self.recent.segments.len()).expect("written out long before");
        self.recent.segments.push(hash);
        for e in entries {
            self.recent.entries.insert(e.name, IndexEntry { name: e.name, segment, offset: e.offset, len: e.len });
        }
        if self.recent.segments.len() >= RECENT_SEGMENTS || self.recent.entries.len() >= RECENT_ENTRIES {
            let before = self.len_on_medium();
            self.write_out()?;
            return Ok(self.len_on_medium() - before);
        }
        Ok(0)
    }

    /// Throws everything away and reads all footers again; returns by how many bytes the index grew on the medium.
    pub(super) fn make_again(&mut self) -> Result<i64> {
        let before = self.len_on_medium();
        for run in std::mem::take(&mut self.runs) {
            run.remove(&*self.on)?;
        }
        *self = Self::open(Arc::clone(&self.on), self.store)?;
        Ok(self.len_on_medium() - before)
    }

    fn len_on_medium(&self) -> i64 {
        self.runs.iter().map(|run| occupied(&*self.on, run.len())).sum::<u64>().cast_signed()
    }

    /// Writes what is in memory as a run and merges runs of like size, so that there are few.
    fn write_out(&mut self) -> Result<()> {
        let mut entries: Vec<IndexEntry> = self.recent.entries.values().copied().collect();
        entries.sort_unstable();
        let run = write_run(&self.on, self.store, &self.recent.segments, entries.len() as u64, || {
            entries.iter().copied().map(Ok::<_, StoreError>)
        })?;
        self.recent = Recent::default();
        self.runs.push(run);
        while let [.., older, newer] = &self.runs[..]
            && older.entries() <= 2 * newer.entries()
        {
            let of_like_size = self.runs.len() - 2;
            let merged = merge(&self.on, self.store, &self.runs[of_like_size..], &self.gone)?;
            let done = self.runs.split_off(of_like_size);
            self.runs.extend(merged);
            for run in done {
                run.remove(&*self.on)?;
            }
        }
        Ok(())
    }

    /// The entries of a segment, read from its end.
    pub(super) fn footer(&self, hash: &SegmentHash) -> Result<Vec<SegmentEntry>> {
        let failed = medium("reading a segment's footer");
        let file = self.on.open(&layout::segment(hash)).map_err(&failed)?;
        read_footer(self.store, file.len(), |offset, n| {
            let mut bytes = vec![0; n];
            file.read_exact_at(&mut bytes, offset).map_err(&failed)?;
            Ok(bytes)
        })
    }
}

/// Look-ups one after the other, which keep what they read last.
#[derive(Debug)]
pub(super) struct LookUps<'i> {
    index: &'i Index,
    /// Of each run.
    kept: Vec<Kept>,
}

/// What was read of a run.
#[derive(Debug, Default)]
struct Kept {
    bucket: Bucket,
    segments: HashMap<u32, SegmentHash>,
}

/// So many names of segments are kept of a run: what lies near each other in a point lies in few of them, and memory must not
/// grow with the store.
const KEPT_SEGMENTS: usize = 1024;

impl Kept {
    fn segment(&mut self, run: &Run, ordinal: u32) -> Result<SegmentHash> {
        if let Some(segment) = self.segments.get(&ordinal) {
            return Ok(*segment);
        }
        let segment = run.segment(ordinal)?;
        if self.segments.len() >= KEPT_SEGMENTS {
            self.segments.clear();
        }
        self.segments.insert(ordinal, segment);
        Ok(segment)
    }
}

impl LookUps<'_> {
    /// As [`Index::find`].
    pub(super) fn find(&mut self, name: &ChunkName) -> Result<Option<Place>> {
        let Index { recent, runs, gone, .. } = self.index;
        if let Some(place) = recent.entries.get(name).and_then(|entry| recent.place(entry, gone)) {
            return Ok(Some(place));
        }
        for (run, kept) in runs.iter().zip(&mut self.kept).rev() {
            if let Some(entry) = run.find(name, &mut kept.bucket)? {
                let segment = kept.segment(run, entry.segment)?;
                if !gone.contains(&segment) {
                    return Ok(Some(Place { segment, offset: entry.offset, len: entry.len }));
                }
            }
        }
        Ok(None)
    }

    /// Whether a chunk is in a segment that is there.
    pub(super) fn has(&mut self, name: &ChunkName) -> Result<bool> {
        Ok(self.find(name)?.is_some())
    }
}

/// The runs worth keeping, largest first, and what they cover. A run that another covers, that is damaged or that
/// names a segment that is gone is removed: everything in it can be read again from the segments.
fn usable_runs(on: &Arc<dyn Medium>, store: StoreId, there: &HashSet<SegmentHash>) -> Result<(Vec<Run>, HashSet<SegmentHash>)> {
    let failed = medium("opening the index");
    let mut found = Vec::new();
    for listed in on.list(layout::INDEX).map_err(&failed)?.iter().filter(|l| l.name.ends_with(layout::RUN_SUFFIX)) {
        match Run::open(&**on, store, &listed.name) {
            Ok(opened) => found.push(opened),
            Err(StoreError::Format(FormatError::UnknownVersion { what, found })) => {
                return Err(FormatError::UnknownVersion { what, found }.into());
            }
            Err(StoreError::Format(_)) => on.remove(&format!("{}/{}", layout::INDEX, listed.name)).map_err(&failed)?,
            Err(e) => return Err(e),
        }
    }
    found.sort_by_key(|(run, _)| std::cmp::Reverse(run.entries()));
    let (mut runs, mut covered) = (Vec::new(), HashSet::new());
    for (run, segments) in found {
        let is_new = segments.iter().any(|s| !covered.contains(s));
        if is_new && segments.iter().all(|s| there.contains(s)) {
            covered.extend(segments);
            runs.push(run);
        } else {
            run.remove(&**on)?;
        }
    }
    Ok((runs, covered))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::MemoryMedium;

    fn name(number: u32) -> ChunkName {
        ChunkName(*blake3::hash(&number.to_le_bytes()).as_bytes())
    }

    /// An index of 130 segments, most of them in two runs and the latest in memory; one of either is gone again.
    fn index() -> Index {
        let on: Arc<dyn Medium> = Arc::new(MemoryMedium::default());
        for directory in [layout::INDEX, layout::SEGMENTS, crate::medium::STAGING] {
            on.make_directory(directory).expect("made");
        }
        let mut index = Index::open(on, StoreId([7; 16])).expect("opened");
        let hash = |segment: u32| SegmentHash([segment as u8; 32]);
        for segment in 0..130 {
            let entries: Vec<_> = (0..100).map(|i| SegmentEntry { name: name(segment * 100 + i), offset: i, len: 30 }).collect();
            index.add(hash(segment), &entries).expect("added");
        }
        [3, 129].map(hash).iter().for_each(|gone| index.drop_segment(*gone));
        index
    }

    #[test]
    fn look_ups_one_after_the_other_find_what_each_alone_finds_in_any_order() {
        let index = index();
        assert!(index.runs.len() > 1 && !index.recent.entries.is_empty());
        let mut names: Vec<ChunkName> = (0..14_000).map(name).collect();
        for sorted in [false, true] {
            if sorted {
                names.sort_unstable();
            }
            let mut look_ups = index.look_ups();
            let found: Vec<bool> = names.iter().map(|name| look_ups.has(name).expect("sound")).collect();
            let alone: Vec<bool> = names.iter().map(|name| index.find(name).expect("sound").is_some()).collect();
            assert_eq!(found, alone);
            assert_eq!(found.iter().filter(|found| **found).count(), 12_800);
        }
    }
}
