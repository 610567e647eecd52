//! Salvage: getting everything out of a damaged store that is still readable. Only ever on a copy.
//!
//! Without a key: what a store is follows from any file that names it; the index from the segments' footers; a segment's
//! sound records from its bytes, wherever they lie. With the key: what a point needs follows from its tree, and a lost
//! point from what it needed. Nothing is thrown away: what is not sound is moved to `damaged/`.

mod rebuild;

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::io;
use std::sync::{Arc, PoisonError};

pub use rebuild::Rebuilt;

use super::compact::{GoOn, Headway, write_segment};
use super::needs::check_sum;
use super::scrub::each_piece;
use super::{Finding, MAX_SMALL, Result, Store, StoreError, Wrong, layout, medium, numbers};
use crate::format::{
    FormatError, MAX_SEGMENT, PointFile, RECORD_HEAD, Receipt, RecordHead, SEGMENT_HEAD, SegmentBuilder, SegmentEntry, Slot,
    SlotKind, StoreFile, segment_store,
};
use crate::id::{ChunkName, SegmentHash, SlotId, StoreId};
use crate::medium::{Medium, publish_bytes, read_whole};

/// Segments of recovered chunks are filled up to this.
const TARGET: u64 = 16 << 20;

/// What was mended without a key.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Mended {
    /// Whether the description of the store was lost and made again.
    pub described_again: bool,
    /// Segments that were read.
    pub segments: u64,
    /// What is not sound and was moved to `damaged/`.
    pub aside: Vec<Finding>,
    /// Chunks that were found in segments that are not sound, and nowhere else.
    pub recovered: u64,
    /// Points of which it cannot be shown what they need.
    pub unproven: Vec<u64>,
    /// Key slots that are left.
    pub slots: u64,
}

/// Mends a store as far as that takes no key, and opens it. `on` is a copy that nothing else uses.
///
/// # Errors
/// [`StoreError::NoStore`] when nothing tells which store this is; [`StoreError::Interrupted`]; [`StoreError::Medium`].
pub fn mend(on: &Arc<dyn Medium>, go_on: GoOn<'_>) -> Result<(Store, Mended)> {
    for directory in layout::DIRECTORIES {
        on.make_directory(directory).map_err(medium("making the store's directories"))?;
    }
    let mut mended = Mended::default();
    let id = describe(on, &mut mended)?;
    drop_index(&**on)?;
    check_small(&**on, id, &mut mended)?;
    check_segments(&**on, go_on, &mut mended)?;
    let store = Store::open_as_it_is(Arc::clone(on))?;
    store.recover_chunks(&mut mended)?;
    mended.unproven = store.unproven()?.into_iter().collect();
    mended.slots = store.slots()?.len() as u64;
    Ok((store, mended))
}

/// Which store this is; if its description is lost, it is made again.
fn describe(on: &Arc<dyn Medium>, mended: &mut Mended) -> Result<StoreId> {
    let described = match read_whole(&**on, layout::STORE_FILE, MAX_SMALL) {
        Ok(bytes) => StoreFile::from_bytes(&bytes).map(|file| Some(file.store)),
        Err(e) if matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::InvalidData) => Ok(None),
        Err(e) => return Err(medium("reading the store's description")(e)),
    };
    match described {
        Ok(Some(id)) => return Ok(id),
        Err(later @ FormatError::UnknownVersion { .. }) => return Err(later.into()),
        Ok(None) | Err(_) => {}
    }
    let id = named_most(&**on)?.ok_or(StoreError::NoStore)?;
    let description = if has_open_slot(&**on, id)? { StoreFile::open(id, 0) } else { StoreFile::new(id, 0) };
    publish_bytes(on, "", layout::STORE_FILE, &description.to_bytes()).map_err(medium("writing the store's description"))?;
    mended.described_again = true;
    Ok(id)
}

/// Makes the description of the store `id` again, if its files say that it is that store: for one whose description is lost or
/// damaged and that is otherwise as it was. Says whether it did.
///
/// # Errors
/// [`StoreError::Medium`].
pub fn describe_again(on: &Arc<dyn Medium>, id: StoreId) -> Result<bool> {
    if named_most(&**on)? != Some(id) {
        return Ok(false);
    }
    let description = if has_open_slot(&**on, id)? { StoreFile::open(id, 0) } else { StoreFile::new(id, 0) };
    on.make_directory(crate::medium::STAGING).map_err(medium("making the store's directories"))?;
    publish_bytes(on, "", layout::STORE_FILE, &description.to_bytes()).map_err(medium("writing the store's description"))?;
    Ok(true)
}

/// Whether a slot of this store gives its key to anyone.
fn has_open_slot(on: &dyn Medium, id: StoreId) -> Result<bool> {
    let slot = |path: &str| read_whole(on, path, MAX_SMALL).ok().and_then(|bytes| Slot::from_bytes(&bytes).ok());
    let mut slots = small_files(on, layout::SLOTS)?.into_iter().filter_map(|(path, _)| slot(&path));
    Ok(slots.any(|slot| slot.store == id && slot.kind == SlotKind::Open))
}

/// The store that most files name.
fn named_most(on: &dyn Medium) -> Result<Option<StoreId>> {
    let mut votes: BTreeMap<[u8; 16], u64> = BTreeMap::new();
    let mut vote = |id: Option<StoreId>| {
        if let Some(id) = id {
            *votes.entry(id.0).or_default() += 1;
        }
    };
    for (path, _) in small_files(on, layout::SLOTS)? {
        vote(read_whole(on, &path, MAX_SMALL).ok().and_then(|bytes| Slot::from_bytes(&bytes).ok()).map(|slot| slot.store));
    }
    for (path, _) in small_files(on, layout::POINTS)? {
        let file = read_whole(on, &path, super::MAX_POINT).ok().and_then(|bytes| PointFile::from_bytes(&bytes).ok());
        vote(file.map(|file| file.head.store));
    }
    for (path, _) in segment_files(on)? {
        let mut head = [0; SEGMENT_HEAD];
        let read = on.open(&path).and_then(|file| file.read_exact_at(&mut head, 0));
        vote(read.ok().and_then(|()| segment_store(&head).ok()));
    }
    Ok(votes.into_iter().max_by_key(|(_, votes)| *votes).map(|(id, _)| StoreId(id)))
}

/// Paths and names of the files of a directory.
fn small_files(on: &dyn Medium, directory: &str) -> Result<Vec<(String, String)>> {
    let listed = on.list(directory).map_err(medium("listing the store's files"))?;
    Ok(listed.into_iter().map(|l| (format!("{directory}/{}", l.name), l.name)).collect())
}

/// Paths and names of everything that lies where segments do.
fn segment_files(on: &dyn Medium) -> Result<Vec<(String, String)>> {
    let mut files = small_files(on, layout::SEGMENTS)?;
    for part in on.directories(layout::SEGMENTS).map_err(medium("listing the segments"))? {
        files.extend(small_files(on, &format!("{}/{part}", layout::SEGMENTS))?);
    }
    Ok(files)
}

/// All that the index says can be read from the segments again.
fn drop_index(on: &dyn Medium) -> Result<()> {
    for (path, _) in small_files(on, layout::INDEX)? {
        on.remove(&path).map_err(medium("removing the index"))?;
    }
    Ok(())
}

/// Moves a file that is not sound to `damaged/`.
fn set_aside(on: &dyn Medium, path: &str, name: &str, wrong: Wrong, mended: &mut Mended) -> Result<()> {
    let failed = medium("setting a damaged file aside");
    on.rename(path, &format!("{}/{name}", layout::DAMAGED)).map_err(&failed)?;
    on.sync_directory(layout::DAMAGED).map_err(&failed)?;
    mended.aside.push(Finding { path: path.to_owned(), wrong });
    Ok(())
}

/// Points, needs and slots: what does not match its own check is set aside.
fn check_small(on: &dyn Medium, id: StoreId, mended: &mut Mended) -> Result<()> {
    for directory in [layout::POINTS, layout::NEEDS, layout::RECEIPTS, layout::SLOTS] {
        for (path, name) in small_files(on, directory)? {
            let sound = match directory {
                _ if !layout::belongs(directory, &name) => Err(Wrong::Alien),
                layout::POINTS => check_point(on, &path, id, &name),
                layout::NEEDS => check_needs(on, &path, id, &name),
                layout::RECEIPTS => check_receipt(on, &path, id, &name),
                _ => check_slot(on, &path, id, &name),
            };
            if let Err(wrong) = sound {
                set_aside(on, &path, &name, wrong, mended)?;
            }
        }
    }
    Ok(())
}

fn damaged(why: impl Into<StoreError>) -> Wrong {
    Wrong::Damaged(why.into().to_string())
}

fn not_sound(why: &str) -> Wrong {
    Wrong::Damaged(why.into())
}

fn check_point(on: &dyn Medium, path: &str, id: StoreId, name: &str) -> Result<(), Wrong> {
    let bytes = read_whole(on, path, super::MAX_POINT).map_err(medium("reading it")).map_err(damaged)?;
    let head = PointFile::from_bytes(&bytes).map_err(damaged)?.head;
    if head.store == id && layout::point(head.sequence) == name { Ok(()) } else { Err(not_sound("it is another point")) }
}

fn check_needs(on: &dyn Medium, path: &str, id: StoreId, name: &str) -> Result<(), Wrong> {
    let summary = super::scan_needs_at(on, path, |_, _| Ok(())).map_err(damaged)?;
    let is_own = summary.head.store == id && layout::needs(summary.head.sequence) == name;
    if is_own { Ok(()) } else { Err(not_sound("they are another point's")) }
}

fn check_receipt(on: &dyn Medium, path: &str, id: StoreId, name: &str) -> Result<(), Wrong> {
    let bytes = read_whole(on, path, MAX_SMALL).map_err(medium("reading it")).map_err(damaged)?;
    let receipt = Receipt::from_bytes(&bytes).map_err(damaged)?;
    let is_own = receipt.store == id && layout::receipt(receipt.sequence) == name;
    if is_own { Ok(()) } else { Err(not_sound("it is another point's")) }
}

fn check_slot(on: &dyn Medium, path: &str, id: StoreId, name: &str) -> Result<(), Wrong> {
    let slot =
        Slot::from_bytes(&read_whole(on, path, MAX_SMALL).map_err(medium("reading it")).map_err(damaged)?).map_err(damaged)?;
    let own: SlotId = slot.id;
    if slot.store == id && layout::slot(&own) == name { Ok(()) } else { Err(not_sound("it is another slot")) }
}

/// Segments whose bytes do not hash to their names are set aside.
fn check_segments(on: &dyn Medium, go_on: GoOn<'_>, mended: &mut Mended) -> Result<()> {
    let files = segment_files(on)?;
    let mut headway = Headway { done: 0, total: files.len() as u64 };
    for (path, name) in files {
        if !go_on(headway) {
            return Err(StoreError::Interrupted);
        }
        mended.segments += 1;
        let wrong = match layout::parse_segment(&name).filter(|hash| layout::segment(hash) == path) {
            None => Some(Wrong::Alien),
            Some(hash) => match hash_of(on, &path) {
                Ok(found) if found == hash => None,
                Ok(_) => Some(not_sound("its bytes changed")),
                // A part of the disk that cannot be read any more.
                Err(error) => Some(damaged(error)),
            },
        };
        if let Some(wrong) = wrong {
            set_aside(on, &path, &name, wrong, mended)?;
        }
        headway.done += 1;
    }
    go_on(headway);
    Ok(())
}

fn hash_of(on: &dyn Medium, path: &str) -> Result<SegmentHash> {
    let file = on.open(path).map_err(medium("opening a segment"))?;
    let mut hasher = blake3::Hasher::new();
    each_piece(&*file, |piece| {
        hasher.update(piece);
        Ok(())
    })?;
    Ok(SegmentHash(*hasher.finalize().as_bytes()))
}

impl Store {
    /// Copies the chunks that are nowhere else out of segments that are not sound.
    fn recover_chunks(&self, mended: &mut Mended) -> Result<()> {
        let mut builder = SegmentBuilder::new(self.id, 0);
        let (mut entries, mut taken) = (Vec::new(), HashSet::new());
        for (path, name) in small_files(&*self.medium, layout::DAMAGED)? {
            if [layout::POINT_SUFFIX, layout::NEEDS_SUFFIX, layout::RECEIPT_SUFFIX, layout::SLOT_SUFFIX]
                .iter()
                .any(|suffix| name.ends_with(suffix))
            {
                continue;
            }
            // Whose segment it was is not asked: those bytes may be the damaged ones, and nothing needs another's chunks.
            let bytes = self.readable_bytes(&path)?;
            for (name, sealed) in records(&bytes) {
                if taken.contains(&name) || !self.missing(&[name])?[0] {
                    continue;
                }
                taken.insert(name);
                let len = u32::try_from(sealed.len()).expect("as long as a record");
                entries.push(SegmentEntry { name, offset: builder.offset(), len });
                builder.push(name, sealed);
                mended.recovered += 1;
                if builder.finished_len() >= TARGET {
                    self.keep_recovered(std::mem::replace(&mut builder, SegmentBuilder::new(self.id, 0)), &mut entries)?;
                }
            }
        }
        if builder.is_empty() { Ok(()) } else { self.keep_recovered(builder, &mut entries) }
    }

    fn keep_recovered(&self, builder: SegmentBuilder, entries: &mut Vec<SegmentEntry>) -> Result<()> {
        let segment = builder.finish();
        write_segment(self, &segment)?;
        let grown = self.index.write().unwrap_or_else(PoisonError::into_inner).add(segment.hash, entries)?;
        self.used.grow(grown);
        entries.clear();
        Ok(())
    }

    /// A file's bytes, as far as a segment may be long; what cannot be read is zeros.
    fn readable_bytes(&self, path: &str) -> Result<Vec<u8>> {
        const BLOCK: usize = 4096;
        let file = self.medium.open(path).map_err(medium("reading a damaged segment"))?;
        let mut bytes = vec![0; usize::try_from(file.len().min(MAX_SEGMENT)).expect("64 MiB")];
        if file.read_exact_at(&mut bytes, 0).is_err() {
            for (i, block) in bytes.chunks_mut(BLOCK).enumerate() {
                if file.read_exact_at(block, (i * BLOCK) as u64).is_err() {
                    block.fill(0);
                }
            }
        }
        Ok(bytes)
    }

    /// The points of which the needs files do not show what they need.
    pub(super) fn unproven(&self) -> Result<BTreeSet<u64>> {
        let mut sums = BTreeMap::from([(0, (0_u64, [0_u8; 32]))]);
        for sequence in numbers(&*self.medium, layout::NEEDS, layout::NEEDS_SUFFIX)? {
            let Ok(summary) = self.scan_needs(sequence, |_, _| Ok(())) else { continue };
            let Some((count, mut xor)) = sums.get(&summary.head.base).copied() else { continue };
            xor.iter_mut().zip(summary.xor).for_each(|(x, b)| *x ^= b);
            let count = count.checked_add(summary.head.added).and_then(|n| n.checked_sub(summary.head.removed));
            sums.extend(count.map(|count| (sequence, (count, xor))));
        }
        let mut unproven = BTreeSet::new();
        for sequence in self.points() {
            let head = self.point_head(sequence)?;
            if sums.get(&sequence).is_none_or(|sum| check_sum(&head, sum).is_err()) {
                unproven.insert(sequence);
            }
        }
        Ok(unproven)
    }
}

/// The sound records in the bytes of a segment, wherever they lie: where one is not sound, the next is looked for byte by
/// byte. Few places look like a head, and its CRC tells.
fn records(bytes: &[u8]) -> impl Iterator<Item = (ChunkName, &[u8])> {
    let mut at = 0;
    std::iter::from_fn(move || {
        while let Some(head) = bytes.get(at..at + RECORD_HEAD) {
            let found = RecordHead::from_bytes(head).ok().and_then(|head| {
                let sealed = bytes.get(at + RECORD_HEAD..at + RECORD_HEAD + head.len as usize)?;
                head.matches(sealed).then_some((head.name, sealed))
            });
            match found {
                Some((name, sealed)) => {
                    at += RECORD_HEAD + sealed.len();
                    return Some((name, sealed));
                }
                None => at += 1,
            }
        }
        None
    })
}
