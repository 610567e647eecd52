//! The index: which chunk lies where. A few sorted runs on the medium, and the latest segments in memory.

use std::collections::{HashMap, HashSet};
use std::io;
use std::sync::Arc;

use super::run::{Run, merge, write_run};
use super::{Result, StoreError, medium, names};
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

/// The index of one store.
#[derive(Debug)]
pub(super) struct Index {
    on: Arc<dyn Medium>,
    store: StoreId,
    /// Oldest and largest first.
    runs: Vec<Run>,
    recent: Recent,
}

impl Index {
    /// Opens the runs and reads the footers of segments that none of them covers. A segment without a sound footer is
    /// passed over: its chunks count as missing.
    pub(super) fn open(on: Arc<dyn Medium>, store: StoreId) -> Result<Self> {
        let segments = segments(&*on).map_err(medium("listing the segments"))?;
        let (runs, covered) = usable_runs(&on, store, &segments)?;
        let mut index = Self { on, store, runs, recent: Recent::default() };
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

    pub(super) fn find(&self, name: &ChunkName) -> Result<Option<Place>> {
        if let Some(entry) = self.recent.entries.get(name) {
            let segment = self.recent.segments[entry.segment as usize];
            return Ok(Some(Place { segment, offset: entry.offset, len: entry.len }));
        }
        for run in self.runs.iter().rev() {
            if let Some(entry) = run.find(name)? {
                let segment = run.segment(entry.segment)?;
                return Ok(Some(Place { segment, offset: entry.offset, len: entry.len }));
            }
        }
        Ok(None)
    }

    /// Makes a segment's chunks known; returns by how many bytes the index grew on the medium.
    pub(super) fn add(&mut self, hash: SegmentHash, entries: &[SegmentEntry]) -> Result<i64> {
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

    fn len_on_medium(&self) -> i64 {
        self.runs.iter().map(Run::len).sum::<u64>().cast_signed()
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
            let merged = merge(&self.on, self.store, older, newer)?;
            let done: Vec<Run> = self.runs.drain(self.runs.len() - 2..).collect();
            self.runs.push(merged);
            for run in done {
                run.remove(&*self.on)?;
            }
        }
        Ok(())
    }

    fn footer(&self, hash: &SegmentHash) -> Result<Vec<SegmentEntry>> {
        let failed = medium("reading a segment's footer");
        let file = self.on.open(&names::segment(hash)).map_err(&failed)?;
        read_footer(self.store, file.len(), |offset, n| {
            let mut bytes = vec![0; n];
            file.read_exact_at(&mut bytes, offset).map_err(&failed)?;
            Ok(bytes)
        })
    }
}

fn segments(on: &dyn Medium) -> io::Result<HashSet<SegmentHash>> {
    let mut found = HashSet::new();
    for part in on.directories(names::SEGMENTS)? {
        let listed = on.list(&format!("{}/{part}", names::SEGMENTS))?;
        found.extend(listed.iter().filter_map(|l| names::parse_segment(&l.name)));
    }
    Ok(found)
}

/// The runs worth keeping, largest first, and what they cover. A run that another covers, that is damaged or that
/// names a segment that is gone is removed: everything in it can be read again from the segments.
fn usable_runs(on: &Arc<dyn Medium>, store: StoreId, there: &HashSet<SegmentHash>) -> Result<(Vec<Run>, HashSet<SegmentHash>)> {
    let failed = medium("opening the index");
    let mut found = Vec::new();
    for listed in on.list(names::INDEX).map_err(&failed)?.iter().filter(|l| l.name.ends_with(names::RUN_SUFFIX)) {
        match Run::open(&**on, store, &listed.name) {
            Ok(opened) => found.push(opened),
            Err(StoreError::Format(FormatError::UnknownVersion { what, found })) => {
                return Err(FormatError::UnknownVersion { what, found }.into());
            }
            Err(StoreError::Format(_)) => on.remove(&format!("{}/{}", names::INDEX, listed.name)).map_err(&failed)?,
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
