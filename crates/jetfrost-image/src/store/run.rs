//! One index run on the medium (§ 8): written once, searched with a few small reads.

use std::collections::HashSet;
use std::io::{BufWriter, Write};
use std::sync::Arc;

use super::needs::Band;
use super::{Result, StoreError, layout, medium};
use crate::format::{FormatError, IndexEntry, RunHead};
use crate::id::{ChunkName, SegmentHash, StoreId};
use crate::medium::{Medium, Staged, StoredFile};

const WHAT: &str = "an index run";
/// Entries read at a time when a run is merged.
const STRIDE: u64 = 1024;

/// An index run, open.
#[derive(Debug)]
pub(super) struct Run {
    name: String,
    file: Arc<dyn StoredFile>,
    head: RunHead,
}

/// The entries of a bucket of a run.
#[derive(Debug, Default)]
pub(super) struct Bucket {
    /// Which one; none was read yet.
    number: Option<u32>,
    entries: Vec<IndexEntry>,
}

impl Run {
    /// Opens a run and checks its tables; returns the segments it covers, too.
    pub(super) fn open(on: &dyn Medium, store: StoreId, name: &str) -> Result<(Self, Vec<SegmentHash>)> {
        let file = on.open(&format!("{}/{name}", layout::INDEX)).map_err(medium("opening an index run"))?;
        if file.len() < RunHead::LEN as u64 {
            return Err(FormatError::CutShort { what: WHAT }.into());
        }
        let run = |head| Self { name: name.to_owned(), file: Arc::clone(&file), head };
        let head_bytes = read(&*file, 0, RunHead::LEN)?;
        let head = RunHead::from_bytes(&head_bytes, file.len())?;
        if head.store != store {
            return Err(FormatError::Damaged { what: WHAT, why: "it belongs to another store" }.into());
        }
        let segments = run(head).check_tables()?;
        Ok((run(head), segments))
    }

    fn check_tables(&self) -> Result<Vec<SegmentHash>> {
        let layout = self.head.layout();
        let tables = read(&*self.file, 0, usize::try_from(layout.entries).map_err(|_| FormatError::CutShort { what: WHAT })?)?;
        let (tables, check) = tables.split_at(tables.len() - 32);
        if blake3::hash(tables).as_bytes() != check {
            return Err(FormatError::Damaged { what: WHAT, why: "its tables do not match their check" }.into());
        }
        let segments = &tables[RunHead::LEN..RunHead::LEN + 32 * self.head.segments as usize];
        Ok(segments.chunks_exact(32).map(|hash| SegmentHash(hash.try_into().expect("exact"))).collect())
    }

    pub(super) fn entries(&self) -> u64 {
        self.head.entries
    }

    /// Bytes on the medium.
    pub(super) fn len(&self) -> u64 {
        self.file.len()
    }

    pub(super) fn remove(self, on: &dyn Medium) -> Result<()> {
        on.remove(&format!("{}/{}", layout::INDEX, self.name)).map_err(medium("removing an index run"))
    }

    /// The entry of a chunk. The bucket that was read last is kept, and not read again for the next name in it.
    pub(super) fn find(&self, name: &ChunkName, kept: &mut Bucket) -> Result<Option<IndexEntry>> {
        let number = self.head.bucket(name);
        if kept.number != Some(number) {
            *kept = Bucket { number: Some(number), entries: self.bucket_of(name)?.1 };
        }
        Ok(kept.entries.binary_search_by(|e| e.name.cmp(name)).ok().map(|i| kept.entries[i]))
    }

    /// The entries of a band of names, ascending.
    pub(super) fn entries_in(&self, band: &Band) -> Result<Vec<IndexEntry>> {
        let end = band.to.map_or(Ok(self.head.entries), |to| self.first_not_before(&to))?;
        self.entries_between(self.first_not_before(&band.from)?, end)
    }

    /// The ordinal of the first entry that is not before `name`.
    fn first_not_before(&self, name: &ChunkName) -> Result<u64> {
        let (first, entries) = self.bucket_of(name)?;
        Ok(first + entries.partition_point(|e| e.name < *name) as u64)
    }

    /// The bucket that a name falls into: the ordinal of its first entry, and its entries.
    fn bucket_of(&self, name: &ChunkName) -> Result<(u64, Vec<IndexEntry>)> {
        let at = self.head.layout().table + 4 * u64::from(self.head.bucket(name));
        let bounds = read(&*self.file, at, 8)?;
        let bound = |i: usize| u64::from(u32::from_le_bytes(bounds[i..i + 4].try_into().expect("four bytes")));
        Ok((bound(0), self.entries_between(bound(0), bound(4))?))
    }

    pub(super) fn segment(&self, ordinal: u32) -> Result<SegmentHash> {
        if ordinal >= self.head.segments {
            return Err(FormatError::Damaged { what: WHAT, why: "an entry leads to no segment" }.into());
        }
        let bytes = read(&*self.file, self.head.layout().segments + 32 * u64::from(ordinal), 32)?;
        Ok(SegmentHash(bytes.try_into().expect("read as many")))
    }

    fn entries_between(&self, from: u64, to: u64) -> Result<Vec<IndexEntry>> {
        if from > to || to > self.head.entries {
            return Err(FormatError::Damaged { what: WHAT, why: "its buckets are not in order" }.into());
        }
        let n = usize::try_from(to - from).map_err(|_| FormatError::CutShort { what: WHAT })? * IndexEntry::LEN;
        let bytes = read(&*self.file, self.head.layout().entries + from * IndexEntry::LEN as u64, n)?;
        Ok(bytes.chunks_exact(IndexEntry::LEN).map(|b| IndexEntry::from_bytes(b.try_into().expect("exact"))).collect())
    }

    /// All entries in order, read a stretch at a time.
    fn stream(&self) -> impl Iterator<Item = Result<IndexEntry>> + '_ {
        let starts = (0..self.head.entries).step_by(STRIDE as usize);
        starts.flat_map(move |from| {
            let to = (from + STRIDE).min(self.head.entries);
            let (entries, failed) = match self.entries_between(from, to) {
                Ok(entries) => (entries, None),
                Err(e) => (Vec::new(), Some(Err(e))),
            };
            entries.into_iter().map(Ok).chain(failed)
        })
    }

    /// The segments that the run covers, by ordinal.
    pub(super) fn segments(&self) -> Result<Vec<SegmentHash>> {
        let bytes = read(&*self.file, self.head.layout().segments, 32 * self.head.segments as usize)?;
        Ok(bytes.chunks_exact(32).map(|hash| SegmentHash(hash.try_into().expect("exact"))).collect())
    }
}

fn read(file: &dyn StoredFile, offset: u64, n: usize) -> Result<Vec<u8>> {
    let mut bytes = vec![0; n];
    file.read_exact_at(&mut bytes, offset).map_err(medium("reading the index"))?;
    Ok(bytes)
}

/// Writes a run of `count` entries; `entries` is called twice and must give the same ones, ascending, both times.
pub(super) fn write_run<I>(
    on: &Arc<dyn Medium>,
    store: StoreId,
    segments: &[SegmentHash],
    count: u64,
    entries: impl Fn() -> I,
) -> Result<Run>
where
    I: Iterator<Item = Result<IndexEntry>>,
{
    let head = RunHead::sized(store, u32::try_from(segments.len()).expect("fewer segments than 2^32"), count);
    let mut tables = head.to_bytes();
    segments.iter().for_each(|hash| tables.extend(hash.as_bytes()));
    for first in bucket_table(&head, entries())? {
        tables.extend(first.to_le_bytes());
    }
    let check = blake3::hash(&tables);
    let name = format!("{}{}", &check.to_hex()[..16], layout::RUN_SUFFIX);
    let failed = medium("writing an index run");
    let mut out = BufWriter::with_capacity(1 << 18, Staged::begin(on).map_err(&failed)?);
    out.write_all(&tables).and_then(|()| out.write_all(check.as_bytes())).map_err(&failed)?;
    for entry in entries() {
        out.write_all(&entry?.to_bytes()).map_err(&failed)?;
    }
    let staged = out.into_inner().map_err(|e| failed(e.into_error()))?;
    staged.publish(layout::INDEX, &name).map_err(&failed)?;
    let file = on.open(&format!("{}/{name}", layout::INDEX)).map_err(&failed)?;
    Ok(Run { name, file, head })
}

/// For each bucket the ordinal of its first entry, and the number of entries at the end.
fn bucket_table(head: &RunHead, entries: impl Iterator<Item = Result<IndexEntry>>) -> Result<Vec<u32>> {
    let mut table = vec![0_u32; head.buckets() as usize + 1];
    for entry in entries {
        table[head.bucket(&entry?.name) as usize + 1] += 1;
    }
    for i in 1..table.len() {
        table[i] += table[i - 1];
    }
    Ok(table)
}

/// Writes one run that covers what several did, without the segments that are `gone`; none when nothing is left.
pub(super) fn merge(on: &Arc<dyn Medium>, store: StoreId, runs: &[Run], gone: &HashSet<SegmentHash>) -> Result<Option<Run>> {
    let mut segments = Vec::new();
    // For each run, the new ordinal of each of its segments.
    let mut ordinals: Vec<Vec<Option<u32>>> = Vec::new();
    for run in runs {
        let of_run = run.segments()?.into_iter().map(|hash| {
            (!gone.contains(&hash)).then(|| {
                segments.push(hash);
                u32::try_from(segments.len() - 1).expect("fewer segments than 2^32")
            })
        });
        ordinals.push(of_run.collect());
    }
    if segments.is_empty() {
        return Ok(None);
    }
    let entries = || {
        runs.iter().zip(&ordinals).fold(Box::new(std::iter::empty()) as Entries<'_>, |merged, (run, ordinals)| {
            let of_run = run.stream().filter_map(|entry| renumbered(entry, ordinals));
            Box::new(Merged { a: merged.peekable(), b: of_run.peekable() })
        })
    };
    let mut count = 0;
    for entry in entries() {
        entry?;
        count += 1;
    }
    write_run(on, store, &segments, count, entries).map(Some)
}

type Entries<'r> = Box<dyn Iterator<Item = Result<IndexEntry>> + 'r>;

/// The entry with its segment's new ordinal; none when the segment is gone.
fn renumbered(entry: Result<IndexEntry>, ordinals: &[Option<u32>]) -> Option<Result<IndexEntry>> {
    match entry {
        Ok(entry) => match ordinals.get(entry.segment as usize) {
            Some(ordinal) => ordinal.map(|segment| Ok(IndexEntry { segment, ..entry })),
            None => Some(Err(FormatError::Damaged { what: WHAT, why: "an entry leads to no segment" }.into())),
        },
        failed => Some(failed),
    }
}

/// Two ascending streams as one.
struct Merged<A: Iterator, B: Iterator> {
    a: std::iter::Peekable<A>,
    b: std::iter::Peekable<B>,
}

impl<A, B> Iterator for Merged<A, B>
where
    A: Iterator<Item = Result<IndexEntry>>,
    B: Iterator<Item = Result<IndexEntry>>,
{
    type Item = Result<IndexEntry, StoreError>;

    fn next(&mut self) -> Option<Self::Item> {
        match (self.a.peek(), self.b.peek()) {
            (Some(Ok(a)), Some(Ok(b))) if a > b => self.b.next(),
            (None, _) => self.b.next(),
            _ => self.a.next(),
        }
    }
}
