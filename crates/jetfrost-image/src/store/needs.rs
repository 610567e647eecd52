//! The needs files of a store together: how they build on each other, and what they say of each chunk.
//!
//! A point's set is what its needs file adds to and removes from its base's set, and so on down to the empty set. How
//! many of some points need a chunk follows without building any set: a file that adds the chunk counts for every one
//! of those points that builds on it, a file that removes it counts against them. That holds only when no file adds
//! what is there already or removes what is not: a workstation that could pretend so could talk a chunk out of its own
//! past. So it is checked when a point is committed, and again whenever something is to be removed.

use std::collections::{BTreeMap, BTreeSet};
use std::io::BufWriter;
use std::ops::{AddAssign, SubAssign};
use std::sync::Arc;

use super::used::occupied;
use super::{Result, Store, StoreError, layout, medium, numbers};
use crate::format::{NEEDS_HEAD_LEN, NeedsHead, NeedsSummary, NeedsWriter, PointHead, Receipt};
use crate::id::ChunkName;
use crate::medium::{Medium, Staged, StoredFile};

/// Above so many names in a list for one that is wanted, looking each up is cheaper than reading the list.
const LOOK_UPS_PER_NAME: u64 = 256;
/// Read at a time.
const STRIDE: u64 = 64 << 10;
/// Events held at a time, about 40 bytes each.
const EVENTS_PER_BAND: u64 = 400_000;

/// How many points of two sets need a chunk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Count {
    /// Of the points there are.
    pub(super) now: i64,
    /// Of those that will remain.
    pub(super) after: i64,
}

impl AddAssign for Count {
    fn add_assign(&mut self, other: Self) {
        *self = Self { now: self.now + other.now, after: self.after + other.after };
    }
}

impl SubAssign for Count {
    fn sub_assign(&mut self, other: Self) {
        *self = Self { now: self.now - other.now, after: self.after - other.after };
    }
}

/// A file says that a chunk is needed from here on, or no longer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Event {
    pub(super) name: ChunkName,
    /// Which of the files, in the order of their sequences.
    file: u32,
    added: bool,
}

/// A stretch of the space of names, small enough to hold what is said of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Band {
    /// The first name that belongs to it.
    pub(super) from: ChunkName,
    /// The first name that does not; `None` at the end of the space.
    pub(super) to: Option<ChunkName>,
}

impl Band {
    /// The space of names in `n` bands of equal width. Names are keyed hashes and so fill them evenly.
    fn split(n: u32) -> impl Iterator<Item = Self> {
        let border = move |i: u32| {
            let first = u32::try_from((u64::from(i) << 32) / u64::from(n)).expect("less than 2^32 for i < n");
            let mut name = [0; ChunkName::LEN];
            name[..4].copy_from_slice(&first.to_be_bytes());
            ChunkName(name)
        };
        (0..n).map(move |i| Self { from: border(i), to: (i + 1 < n).then(|| border(i + 1)) })
    }
}

/// What a set comes to: the number of its names, and the names combined by XOR.
pub(super) type Sum = (u64, [u8; 32]);

/// The needs files of a store, each found sound.
#[derive(Debug)]
pub(super) struct NeedsFiles {
    on: Arc<dyn Medium>,
    files: BTreeMap<u64, NeedsSummary>,
    sums: BTreeMap<u64, Sum>,
    /// Files of points that are gone whose bases are gone, too: nothing builds on them.
    left_over: Vec<u64>,
}

impl NeedsFiles {
    /// Reads them all, checks each against its own check, and that the sets of `points` add up to what the points say.
    pub(super) fn read(store: &Store, points: &BTreeSet<u64>) -> Result<Self> {
        let (mut files, mut left_over) = (BTreeMap::new(), Vec::new());
        let latest = points.last().copied().unwrap_or(0);
        for sequence in numbers(&*store.medium, layout::NEEDS, layout::NEEDS_SUFFIX)?.range(..=latest) {
            let summary = store.scan_needs(*sequence, |_, _| Ok(()))?;
            if summary.head.store != store.id || summary.head.sequence != *sequence {
                return Err(StoreError::Needs("they are another point's"));
            }
            let base = summary.head.base;
            if base == 0 || files.contains_key(&base) {
                files.insert(*sequence, summary);
            } else if points.contains(sequence) {
                return Err(StoreError::Needs("what they are a difference to is not there"));
            } else {
                // Folding was cut off while it removed what is no longer needed; it had done everything else.
                left_over.push(*sequence);
            }
        }
        let sums = add_up(&files)?;
        for sequence in points {
            let head = store.point_head(*sequence)?;
            if !store
                .sound_receipt(*sequence)?
                .zip(files.get(sequence))
                .is_none_or(|(receipt, file)| receipt.names_needs(&file.check))
            {
                return Err(StoreError::Needs("they are not those that were committed"));
            }
            check_sum(&head, sums.get(sequence).ok_or(StoreError::Needs("they are not there"))?)?;
        }
        Ok(Self { on: Arc::clone(&store.medium), files, sums, left_over })
    }

    /// In how many bands to go through the names, given that `others` more are held with them.
    pub(super) fn bands(&self, others: u64) -> impl Iterator<Item = Band> + use<> {
        bands_for(self.files.values().map(|file| events_of(&file.head)).sum::<u64>() + others)
    }

    /// How the files build on each other, and how many of the points in two sets build on each.
    pub(super) fn descent(&self, now: &BTreeSet<u64>, after: &BTreeSet<u64>) -> Descent {
        Descent::of(self.files.values().map(|file| file.head).collect(), now, after)
    }

    /// What the files say of the names of a band, ascending by name, then by file.
    pub(super) fn events(&self, files: &[NeedsHead], band: &Band) -> Result<Vec<Event>> {
        events_in(&*self.on, files, band)
    }

    /// Files of points that are gone, the latest first, so that none is there without its base for longer than need be.
    fn orphans<'n>(&'n self, points: &'n BTreeSet<u64>) -> impl Iterator<Item = u64> + 'n {
        let of_gone = self.files.keys().rev().copied().filter(|sequence| !points.contains(sequence));
        self.left_over.iter().rev().copied().chain(of_gone)
    }

    /// Writes the needs of each of `points` as a difference to another one of them, and removes the files of all others.
    /// Returns by how many bytes the store shrank. A point that goes meanwhile does no harm: its file stays.
    pub(super) fn fold(&self, store: &Store, points: &BTreeSet<u64>) -> Result<i64> {
        let mut shrunk = 0;
        for sequence in points {
            let mut path = vec![self.files[sequence].head];
            let mut base = path[0].base;
            while base != 0 && !points.contains(&base) {
                path.push(self.files[&base].head);
                base = self.files[&base].head.base;
            }
            if path.len() > 1 {
                shrunk += self.rewrite(store, *sequence, base, &path)?;
            }
        }
        let failed = medium("removing what a point that is gone needed");
        for sequence in self.orphans(points) {
            let path = format!("{}/{}", layout::NEEDS, layout::needs(sequence));
            shrunk += occupied(&*self.on, self.on.open(&path).map_err(&failed)?.len()).cast_signed();
            self.on.remove(&path).map_err(&failed)?;
        }
        self.on.sync_directory(layout::NEEDS).map_err(&failed)?;
        Ok(shrunk)
    }

    /// Puts on record which needs file is about to take the place of a point's present one.
    fn name_in_receipt(&self, store: &Store, sequence: u64, next: [u8; 32]) -> Result<()> {
        let Some(receipt) = store.sound_receipt(sequence)? else { return Ok(()) };
        let needs = self.files[&sequence].check;
        store.write_receipt(&Receipt { needs, next_needs: Some(next), ..receipt })
    }

    /// Writes one file that says what those of `path` say together. Returns by how many bytes the store shrank.
    fn rewrite(&self, store: &Store, sequence: u64, base: u64, path: &[NeedsHead]) -> Result<i64> {
        let mut head = NeedsHead { store: store.id, sequence, base, added: 0, removed: 0 };
        let (base_count, mut xor) = self.sum(base);
        self.each_difference(path, &mut |name, added| {
            *if added { &mut head.added } else { &mut head.removed } += 1;
            combine(&mut xor, name.as_bytes());
            Ok(())
        })?;
        let count = (base_count + head.added).checked_sub(head.removed);
        let count = count.ok_or(StoreError::Needs("they remove more than there is"))?;
        if (count, xor) != self.sum(sequence) {
            return Err(StoreError::Needs("folding them made another set"));
        }
        let failed = medium("writing what a point needs");
        let staged = Staged::begin(&self.on).map_err(&failed)?;
        let mut writer = NeedsWriter::begin(BufWriter::with_capacity(1 << 18, staged), head).map_err(&failed)?;
        for wanted in [true, false] {
            self.each_difference(path, &mut |name, added| {
                if added == wanted { writer.push(name).map_err(&failed) } else { Ok(()) }
            })?;
        }
        let (out, check) = writer.finish().map_err(&failed)?;
        let staged = out.into_inner().map_err(|e| failed(e.into_error()))?;
        let path = format!("{}/{}", layout::NEEDS, layout::needs(sequence));
        let room = |len| occupied(&*self.on, len).cast_signed();
        let shrunk = room(self.on.open(&path).map_err(&failed)?.len()) - room(staged.len());
        self.name_in_receipt(store, sequence, check)?;
        staged.publish(layout::NEEDS, &layout::needs(sequence)).map_err(&failed)?;
        Ok(shrunk)
    }

    /// What the files of `path` add (else remove) when they are taken together, ascending by name.
    fn each_difference(&self, path: &[NeedsHead], take: &mut dyn FnMut(&ChunkName, bool) -> Result<()>) -> Result<()> {
        for band in bands_for(path.iter().map(events_of).sum()) {
            for said in self.events(path, &band)?.chunk_by(|a, b| a.name == b.name) {
                let added = said.iter().filter(|event| event.added).count();
                match added.cast_signed() - (said.len() - added).cast_signed() {
                    0 => {}
                    1 => take(&said[0].name, true)?,
                    -1 => take(&said[0].name, false)?,
                    _ => return Err(StoreError::Needs(FORGED)),
                }
            }
        }
        Ok(())
    }

    fn sum(&self, sequence: u64) -> Sum {
        self.sums.get(&sequence).copied().unwrap_or_default()
    }
}

const FORGED: &str = "a chunk is added that was there, or removed that was not";

/// How needs files build on each other.
#[derive(Debug)]
pub(super) struct Descent {
    pub(super) files: Vec<NeedsHead>,
    /// For each file when a walk through the tree of files enters and leaves it: one builds on another if it is entered
    /// and left in between.
    spans: Vec<(u32, u32)>,
    weights: Vec<Count>,
}

impl Descent {
    /// `files` are ascending by sequence, and each has its base among them.
    fn of(files: Vec<NeedsHead>, now: &BTreeSet<u64>, after: &BTreeSet<u64>) -> Self {
        let of = |head: &NeedsHead| Count {
            now: i64::from(now.contains(&head.sequence)),
            after: i64::from(after.contains(&head.sequence)),
        };
        let mut weights: Vec<Count> = files.iter().map(of).collect();
        let mut sizes = vec![1_u32; files.len()];
        let bases: Vec<Option<usize>> =
            files.iter().map(|head| files.binary_search_by_key(&head.base, |base| base.sequence).ok()).collect();
        for i in (0..files.len()).rev() {
            if let Some(base) = bases[i] {
                let (weight, size) = (weights[i], sizes[i]);
                weights[base] += weight;
                sizes[base] += size;
            }
        }
        // Each file is entered right after its base's earlier children are left.
        let mut spans: Vec<(u32, u32)> = Vec::with_capacity(files.len());
        let mut next_within = Vec::with_capacity(files.len());
        let mut next_root = 0;
        for i in 0..files.len() {
            let next = bases[i].map_or(&mut next_root, |base| &mut next_within[base]);
            let enter = *next;
            *next += sizes[i];
            spans.push((enter, enter + sizes[i]));
            next_within.push(enter + 1);
        }
        Self { files, spans, weights }
    }

    /// How many points need the chunk of which this was said. All events are of one name, ascending by file.
    pub(super) fn count(&self, said: &[Event]) -> Result<Count> {
        let mut count = Count::default();
        for (i, event) in said.iter().enumerate() {
            // Bases come before what builds on them, so the last one found is the nearest.
            let before = said[..i].iter().rev().find(|earlier| self.builds_on(event.file, earlier.file));
            if event.added == before.is_some_and(|earlier| earlier.added) {
                return Err(StoreError::Needs(FORGED));
            }
            let weight = self.weights[event.file as usize];
            if event.added { count += weight } else { count -= weight }
        }
        Ok(count)
    }

    /// The points that need the chunk of which this was said.
    pub(super) fn points(&self, said: &[Event]) -> Vec<u64> {
        let needs = |i: usize| {
            let nearest = said.iter().rev().find(|event| self.builds_on(ordinal(i), event.file));
            nearest.is_some_and(|event| event.added)
        };
        (0..self.files.len()).filter(|i| needs(*i)).map(|i| self.files[i].sequence).collect()
    }

    fn builds_on(&self, file: u32, base: u32) -> bool {
        let ((enter, _), (from, to)) = (self.spans[file as usize], self.spans[base as usize]);
        (from..to).contains(&enter)
    }
}

/// Checks that a new needs file adds nothing that its base has and removes nothing that it has not.
pub(super) fn check_difference(on: &dyn Medium, new: &NeedsHead) -> Result<()> {
    let mut path = vec![*new];
    while path[path.len() - 1].base != 0 && events_of(new) > 0 {
        path.push(read_head(on, path[path.len() - 1].base)?);
    }
    path.reverse();
    let none = BTreeSet::new();
    let descent = Descent::of(path, &none, &none);
    let last = descent.files.len() - 1;
    for band in bands_for(events_of(new)) {
        let mut events = Vec::new();
        for_both_lists(on, new, |list, added| {
            list.each_in(&band, |name| events.push(Event { name, file: ordinal(last), added }))
        })?;
        events.sort_unstable();
        let names: Vec<ChunkName> = events.iter().map(|event| event.name).collect();
        for (i, head) in descent.files[..last].iter().enumerate() {
            for_both_lists(on, head, |list, added| {
                list.each_of(&names, |name| events.push(Event { name, file: ordinal(i), added }))
            })?;
        }
        events.sort_unstable();
        for said in events.chunk_by(|a, b| a.name == b.name) {
            descent.count(said)?;
        }
    }
    Ok(())
}

/// How many of the chunks that one point needs another one does not. Only what the files say from where both build on the same is read.
pub(super) fn needed_no_more(on: &dyn Medium, one: u64, other: u64) -> Result<u64> {
    let paths = paths_to_common(on, one, other)?;
    let mut no_more = 0;
    for band in bands_for(paths.iter().flatten().map(events_of).sum()) {
        let [of_one, of_other] = [events_in(on, &paths[0], &band)?, events_in(on, &paths[1], &band)?];
        let [of_one, of_other] = [differences(&of_one), differences(&of_other)];
        let lost = of_other.iter().filter(|(name, other)| match of_one.get(*name) {
            // Where only the later one says something of a chunk, the earlier one has what both build on.
            None => other.was_there && !other.is_there,
            Some(one) => one.is_there && !other.is_there,
        });
        let added_by_one = of_one.iter().filter(|(name, one)| !one.was_there && one.is_there && !of_other.contains_key(*name));
        no_more += (lost.count() + added_by_one.count()) as u64;
    }
    Ok(no_more)
}

/// The needs files that only one of two points builds on, for each, the first one first.
fn paths_to_common(on: &dyn Medium, one: u64, other: u64) -> Result<[Vec<NeedsHead>; 2]> {
    let (mut at, mut paths) = ([one, other], [Vec::new(), Vec::new()]);
    while at[0] != at[1] {
        let later = usize::from(at[1] > at[0]);
        let head = read_head(on, at[later])?;
        if head.sequence != at[later] || head.base >= head.sequence {
            return Err(StoreError::Needs("they are another point's"));
        }
        at[later] = head.base;
        paths[later].push(head);
    }
    paths.iter_mut().for_each(|path| path.reverse());
    Ok(paths)
}

/// Whether a chunk was needed before some needs files and is needed after them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Difference {
    was_there: bool,
    is_there: bool,
}

/// What events, ascending by name, then by file, come to.
fn differences(said: &[Event]) -> BTreeMap<ChunkName, Difference> {
    let of_one = |of_one: &[Event]| {
        let (first, last) = (of_one.first()?, of_one.last()?);
        Some((first.name, Difference { was_there: !first.added, is_there: last.added }))
    };
    said.chunk_by(|a, b| a.name == b.name).filter_map(of_one).collect()
}

/// What needs files say of the names of a band, ascending by name, then by file.
fn events_in(on: &dyn Medium, files: &[NeedsHead], band: &Band) -> Result<Vec<Event>> {
    let mut events = Vec::new();
    for (i, head) in files.iter().enumerate() {
        for_both_lists(on, head, |list, added| list.each_in(band, |name| events.push(Event { name, file: ordinal(i), added })))?;
    }
    events.sort_unstable();
    Ok(events)
}

fn read_head(on: &dyn Medium, sequence: u64) -> Result<NeedsHead> {
    let file = on.open(&format!("{}/{}", layout::NEEDS, layout::needs(sequence))).map_err(|e| match e.kind() {
        std::io::ErrorKind::NotFound => StoreError::Needs("what they are a difference to is not there"),
        _ => medium("reading what a point needs")(e),
    })?;
    let mut bytes = [0; NEEDS_HEAD_LEN];
    file.read_exact_at(&mut bytes, 0).map_err(medium("reading what a point needs"))?;
    Ok(NeedsHead::from_bytes(&bytes)?)
}

fn events_of(head: &NeedsHead) -> u64 {
    head.added.saturating_add(head.removed)
}

fn bands_for(events: u64) -> impl Iterator<Item = Band> + use<> {
    let n = events.div_ceil(EVENTS_PER_BAND).clamp(1, 1 << 16);
    Band::split(u32::try_from(n).expect("clamped"))
}

fn ordinal(i: usize) -> u32 {
    u32::try_from(i).expect("fewer files than 2^32")
}

/// Opens a needs file and calls `each` for its list of added names (true) and that of removed ones.
fn for_both_lists(on: &dyn Medium, head: &NeedsHead, mut each: impl FnMut(&NameList<'_>, bool) -> Result<()>) -> Result<()> {
    let path = format!("{}/{}", layout::NEEDS, layout::needs(head.sequence));
    let failed = medium("reading what a point needs");
    let file = on.open(&path).map_err(&failed)?;
    let mut bytes = [0; NEEDS_HEAD_LEN];
    file.read_exact_at(&mut bytes, 0).map_err(&failed)?;
    // Folding may have put another file in its place, which says the same in another way.
    if NeedsHead::from_bytes(&bytes)? != *head {
        return Err(StoreError::Folded);
    }
    each(&NameList { file: &*file, at: head.added_at(), count: head.added }, true)?;
    each(&NameList { file: &*file, at: head.removed_at(), count: head.removed }, false)
}

/// What each file's set comes to.
fn add_up(files: &BTreeMap<u64, NeedsSummary>) -> Result<BTreeMap<u64, Sum>> {
    let mut sums = BTreeMap::from([(0, Sum::default())]);
    for (sequence, file) in files {
        let (count, mut xor) =
            *sums.get(&file.head.base).ok_or(StoreError::Needs("what they are a difference to is not there"))?;
        combine(&mut xor, &file.xor);
        let count = count.checked_add(file.head.added).and_then(|count| count.checked_sub(file.head.removed));
        sums.insert(*sequence, (count.ok_or(StoreError::Needs("they remove more than there is"))?, xor));
    }
    Ok(sums)
}

fn combine(xor: &mut [u8; 32], other: &[u8; 32]) {
    xor.iter_mut().zip(other).for_each(|(x, b)| *x ^= b);
}

/// Whether a set is the one that the point names.
pub(super) fn check_sum(head: &PointHead, (needed, xor): &Sum) -> Result<()> {
    if *needed != head.needed {
        Err(StoreError::Needs("chunk count mismatch"))
    } else if *xor != head.needed_xor {
        Err(StoreError::Needs("chunk set checksum mismatch"))
    } else {
        Ok(())
    }
}

/// An ascending list of names within a file.
struct NameList<'f> {
    file: &'f dyn StoredFile,
    at: u64,
    count: u64,
}

impl NameList<'_> {
    fn each_in(&self, band: &Band, mut take: impl FnMut(ChunkName)) -> Result<()> {
        let mut next = self.first_not_before(&band.from)?;
        let end = band.to.map_or(Ok(self.count), |to| self.first_not_before(&to))?;
        let mut buffer = Vec::new();
        while next < end {
            let n = (end - next).min(STRIDE / ChunkName::LEN as u64);
            buffer.resize(usize::try_from(n).expect("a stride") * ChunkName::LEN, 0);
            self.read(next, &mut buffer)?;
            buffer.chunks_exact(ChunkName::LEN).for_each(|name| take(ChunkName(name.try_into().expect("exact"))));
            next += n;
        }
        Ok(())
    }

    /// Calls `take` for those of `wanted`, which are ascending, that are in the list.
    fn each_of(&self, wanted: &[ChunkName], mut take: impl FnMut(ChunkName)) -> Result<()> {
        let Some((first, last)) = wanted.first().zip(wanted.last()) else { return Ok(()) };
        if self.count / LOOK_UPS_PER_NAME > wanted.len() as u64 {
            let mut from = 0;
            for name in wanted {
                from = self.first_not_before_from(from, name)?;
                let mut found = [0; ChunkName::LEN];
                if from < self.count {
                    self.read(from, &mut found)?;
                    if found == name.0 {
                        take(*name);
                    }
                }
            }
            return Ok(());
        }
        let band = Band { from: *first, to: None };
        self.each_in(&band, |name| {
            if name <= *last && wanted.binary_search(&name).is_ok() {
                take(name);
            }
        })
    }

    /// The ordinal of the first name that is not before `name`.
    fn first_not_before(&self, name: &ChunkName) -> Result<u64> {
        self.first_not_before_from(0, name)
    }

    fn first_not_before_from(&self, from: u64, name: &ChunkName) -> Result<u64> {
        let (mut low, mut high) = (from, self.count);
        let mut found = [0; ChunkName::LEN];
        while low < high {
            let middle = low + (high - low) / 2;
            self.read(middle, &mut found)?;
            if found < name.0 { low = middle + 1 } else { high = middle }
        }
        Ok(low)
    }

    fn read(&self, ordinal: u64, into: &mut [u8]) -> Result<()> {
        let at = self.at + ordinal * ChunkName::LEN as u64;
        self.file.read_exact_at(into, at).map_err(medium("reading what a point needs"))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Files that build on each other at random, and for each the set that it describes; one name only.
    fn forest(bases: &[usize], member: &[bool]) -> (Descent, Vec<Event>) {
        let mut files = Vec::new();
        let mut events = Vec::new();
        let mut is_member = vec![false];
        for (i, (base, member)) in bases.iter().zip(member).enumerate() {
            let base = base % (i + 1);
            let head =
                NeedsHead { store: crate::StoreId([1; 16]), sequence: i as u64 + 1, base: base as u64, added: 0, removed: 0 };
            files.push(head);
            if *member != is_member[base] {
                events.push(Event { name: ChunkName([1; 32]), file: ordinal(i), added: *member });
            }
            is_member.push(*member);
        }
        let even = |n: &u64| n.is_multiple_of(2);
        let all: BTreeSet<u64> = (1..=files.len() as u64).collect();
        (Descent::of(files, &all, &all.iter().copied().filter(even).collect()), events)
    }

    proptest! {
        #[test]
        fn the_count_is_that_of_the_sets(bases in prop::collection::vec(0_usize..20, 1..20), seed: u32) {
            let member: Vec<bool> = (0..bases.len()).map(|i| seed >> i & 1 == 1).collect();
            let (descent, events) = forest(&bases, &member);
            let now = member.iter().filter(|m| **m).count() as i64;
            let after = member.iter().skip(1).step_by(2).filter(|m| **m).count() as i64;
            prop_assert_eq!(descent.count(&events).expect("sound"), Count { now, after });
        }

        #[test]
        fn what_is_said_twice_is_noticed(bases in prop::collection::vec(0_usize..20, 1..20), seed: u32, again in 0_usize..20) {
            let member: Vec<bool> = (0..bases.len()).map(|i| seed >> i & 1 == 1).collect();
            let (descent, mut events) = forest(&bases, &member);
            let file = ordinal(again % bases.len());
            let at = events.partition_point(|event| event.file < file);
            if events.get(at).is_none_or(|event| event.file != file) {
                events.insert(at, Event { name: ChunkName([1; 32]), file, added: member[file as usize] });
                prop_assert!(descent.count(&events).is_err());
            }
        }

        #[test]
        fn every_name_lies_in_one_band(n in 1_u32..200, name: [u8; 32]) {
            let name = ChunkName(name);
            let holding = Band::split(n).filter(|band| name >= band.from && band.to.is_none_or(|to| name < to));
            prop_assert_eq!(holding.count(), 1);
        }
    }
}
