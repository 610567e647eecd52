//! Salvage: whatever is damaged, everything that is still readable comes back, and nothing wrong.

use std::collections::BTreeMap;

use super::damage::{borders, copy, segments};
use super::*;
use crate::crypto::{Secret, open_chunk, open_point, wrap_key};
use crate::format::{ArgonCost, Content, Entry, EntryKind};
use crate::medium::OverlayMedium;
use crate::tree::{ChunkSink, ChunkSource, Chunker, ListingWriter, find_entry, store_content};

/// Collects the chunks of a run.
#[derive(Default)]
struct Run {
    chunks: BTreeMap<ChunkName, Vec<u8>>,
}

impl ChunkSink for Run {
    type Error = io::Error;

    fn put(&mut self, name: ChunkName, content: &[u8]) -> io::Result<()> {
        self.chunks.insert(name, content.to_vec());
        Ok(())
    }
}

/// The files of a point: in two folders, with long and short ones, some of which change from point to point.
fn files(point: u64) -> Vec<(&'static str, String, Vec<u8>)> {
    let bytes = |seed: u64, len: usize| {
        let mut bytes = vec![0; len];
        blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
        bytes
    };
    vec![
        ("deeds", "1901.txt".into(), bytes(1, 700)),
        ("deeds", format!("{}.txt", 1901 + point), bytes(point * 100, 900)),
        ("maps", "harbour.tif".into(), bytes(3, 300_000)),
        ("maps", "shoal.tif".into(), bytes(4 + point, 2000)),
    ]
}

fn tree(keys: &StoreKeys, point: u64) -> (Content, Run) {
    let (mut run, mut chunker, mut root) = (Run::default(), Chunker::new(keys.border_seed()), ListingWriter::default());
    for folder in ["deeds", "maps"] {
        let mut listing = ListingWriter::default();
        for (_, name, bytes) in files(point).into_iter().filter(|(within, ..)| *within == folder) {
            let parts = store_content(keys, &mut chunker, &mut run, &bytes[..]).expect("stored");
            let content = Content::from_parts(parts, |_| Err(io::Error::other("few parts"))).expect("few parts");
            let mut entry = Entry { content: Some(content), ..Entry::new(name.into_bytes(), EntryKind::File) };
            entry.mtime = 1000 + i64::try_from(point).expect("few");
            listing.push(keys, &mut run, &entry).expect("pushed");
        }
        let content = listing.finish(keys, &mut run).expect("finished");
        let entry = Entry { content: Some(content), ..Entry::new(folder.as_bytes().to_vec(), EntryKind::Directory) };
        root.push(keys, &mut run, &entry).expect("pushed");
    }
    (root.finish(keys, &mut run).expect("finished"), run)
}

/// A store of three points with trees, and a slot; each point has a segment of its own.
fn whole() -> MemoryMedium {
    let (memory, workstation) = (MemoryMedium::default(), Workstation::new());
    let store = Store::create(Arc::new(memory.clone()), &StoreFile::new(STORE, 0)).expect("created");
    let (mut before, mut previous) = (BTreeSet::new(), None);
    for sequence in 1..=3 {
        let (root, run) = tree(&workstation.keys, sequence);
        let missing = store.missing(&run.chunks.keys().copied().collect::<Vec<_>>()).expect("told");
        let fresh: Vec<&[u8]> = run.chunks.values().zip(missing).filter(|(_, m)| *m).map(|(c, _)| &c[..]).collect();
        send_segment(&store, &workstation.segment(&fresh).0).expect("sent");
        let now: BTreeSet<ChunkName> = run.chunks.keys().copied().collect();
        let (added, removed): (Vec<_>, Vec<_>) =
            (now.difference(&before).copied().collect(), before.difference(&now).copied().collect());
        let check = send_difference(&store, sequence, sequence - 1, &added, &removed).expect("sound");
        let head = PointHead {
            needed: now.len() as u64,
            needed_xor: now.iter().fold([0; 32], |xor: [u8; 32], name| std::array::from_fn(|i| xor[i] ^ name.0[i])),
            ..PointFile::from_bytes(&workstation.point(sequence, previous, &[], check)).expect("sound").head
        };
        previous = Some(head.id);
        let body = PointBody { root, ..PointBody::default() };
        let file = seal_point(&workstation.keys, head, &body, &workstation.random);
        store.commit_point(&file.to_bytes(), at(sequence)).expect("committed");
        before = now;
    }
    let cost = ArgonCost { memory: 64, passes: 1, lanes: 1 };
    let slot = wrap_key(STORE, &StoreKey([1; 32]), Secret::Passphrase("p"), cost, 0, &workstation.random);
    store.put_slot(&slot.to_bytes()).expect("added");
    memory
}

struct Opened<'s>(&'s Store, StoreKeys);

impl ChunkSource for Opened<'_> {
    type Error = StoreError;

    fn get(&self, name: &ChunkName) -> Result<Vec<u8>> {
        let mut sealed = self.0.chunk(name)?;
        open_chunk(&self.1, name, &mut sealed).map_err(|_| StoreError::NoChunk(*name))
    }
}

/// How many files of a point read as they were; that none reads as anything else.
fn readable(store: &Store, sequence: u64) -> usize {
    let keys = Workstation::new().keys;
    let Ok(bytes) = store.point(sequence) else { return 0 };
    let body = open_point(&keys, &PointFile::from_bytes(&bytes).expect("sound")).expect("opens");
    let source = Opened(store, keys);
    let reads = |(folder, name, expected): &(&str, String, Vec<u8>)| {
        let Ok(Some(entry)) = find_entry(&source, &body.root, format!("/{folder}/{name}").as_bytes()) else { return false };
        let parts = entry.content.expect("a file has content").parts;
        let read: Result<Vec<Vec<u8>>> = parts.iter().map(|part| source.get(&part.name.expect("no holes"))).collect();
        read.is_ok_and(|read| {
            assert!(read.concat() == *expected, "never wrong data");
            true
        })
    };
    files(sequence).iter().filter(|file| reads(file)).count()
}

fn all_readable(store: &Store) -> usize {
    (1..=3).map(|sequence| readable(store, sequence)).sum()
}

fn salvaged(memory: &MemoryMedium) -> (Store, Mended, Rebuilt) {
    let on: Arc<dyn Medium> = Arc::new(memory.clone());
    let (store, mended) = mend(&on, &mut |_| true).expect("mended");
    let rebuilt = store.rebuild(&Workstation::new().keys, &SeededRandom::new(b"salvage")).expect("rebuilt");
    (store, mended, rebuilt)
}

fn without(memory: &MemoryMedium, gone: impl Fn(&str) -> bool) -> MemoryMedium {
    let hurt = copy(memory);
    memory.files().keys().filter(|path| gone(path)).for_each(|path| hurt.remove(path).expect("there"));
    hurt
}

#[test]
fn a_sound_store_stays_as_it_is() {
    let memory = whole();
    let (store, mended, rebuilt) = salvaged(&memory);
    assert_eq!(mended, Mended { segments: 3, slots: 1, ..Mended::default() });
    assert_eq!((rebuilt, all_readable(&store)), (Rebuilt::default(), 12));
}

#[test]
fn a_store_that_lost_its_description_and_index_is_known_again() {
    let hurt = without(&whole(), |path| path == "store.cbor" || path.starts_with("index/"));
    assert!(matches!(Store::open(Arc::new(hurt.clone())), Err(StoreError::NoStore)));
    let (store, mended, _) = salvaged(&hurt);
    assert!(mended.described_again && store.id() == STORE);
    assert_eq!(all_readable(&store), 12);
    let nothing: Arc<dyn Medium> = Arc::new(MemoryMedium::default());
    assert!(matches!(mend(&nothing, &mut |_| true), Err(StoreError::NoStore)));
}

#[test]
fn a_flipped_bit_in_a_segment_costs_one_chunk_at_most_wherever_it_is() {
    let memory = whole();
    let chunks = {
        let store = Store::open(Arc::new(copy(&memory))).expect("opens");
        store.index.read().expect("no panic").len()
    };
    for (path, bytes) in segments(&memory) {
        for at in borders(&path, &bytes) {
            let hurt = copy(&memory);
            let mut flipped = bytes.clone();
            flipped[at] ^= 0x41;
            hurt.overwrite(&path, flipped);
            let (store, mended, rebuilt) = salvaged(&hurt);
            let left = store.index.read().expect("no panic").len();
            assert!(left + 1 >= chunks, "{path} at {at}: {left} of {chunks}");
            assert_eq!((mended.aside.len(), rebuilt.unproven.len()), (1, 0), "{path} at {at}");
            all_readable(&store);
            assert!(hurt.files().keys().any(|path| path.starts_with("damaged/")), "nothing is thrown away");
        }
    }
}

#[test]
fn a_segment_without_its_end_its_name_or_its_middle_gives_what_is_left() {
    let memory = whole();
    let (path, bytes) = segments(&memory).into_iter().max_by_key(|(_, bytes)| bytes.len()).expect("three");
    let hurt = without(&memory, |p| p == path);
    hurt.overwrite("segments/aa/renamed-by-somebody.bak", bytes.clone());
    hurt.make_directory("segments/aa").expect("made");
    assert_eq!(all_readable(&salvaged(&hurt).0), 12, "its name does not matter");
    let hurt = copy(&memory);
    hurt.overwrite(&path, bytes[..bytes.len() - 30].to_vec());
    assert_eq!(all_readable(&salvaged(&hurt).0), 12, "its footer does not matter");
    // A stretch in the middle is overwritten, with records before and behind it.
    let mut holed = bytes.clone();
    holed[50_000..150_000].fill(0x5a);
    let hurt = copy(&memory);
    hurt.overwrite(&path, holed);
    let (store, mended, _) = salvaged(&hurt);
    assert!(mended.recovered > 2 && (6..12).contains(&all_readable(&store)), "{mended:?}");
}

#[test]
fn what_points_need_is_read_from_their_trees() {
    let memory = whole();
    for gone in 1..8_u64 {
        let is_gone = |path: &str| (1..=3).any(|n| gone >> (n - 1) & 1 == 1 && path == format!("needs/{n:010}.needs"));
        let (store, mended, rebuilt) = salvaged(&without(&memory, is_gone));
        assert!(!mended.unproven.is_empty() && rebuilt.unproven.is_empty(), "{gone:03b}: {mended:?} {rebuilt:?}");
        assert_eq!(store.points(), [1, 2, 3]);
        store.expire(&BTreeSet::from([1])).expect("it can go on");
        let compacted =
            store.compact(&Compaction { most_dead_percent: 0, drop_unfinished: true }, &mut |_| true).expect("compacted");
        assert!(compacted.freed > 0);
        assert_eq!((readable(&store, 2), readable(&store, 3)), (4, 4));
    }
}

#[test]
fn lost_points_are_made_again_from_what_they_needed() {
    let memory = whole();
    let original = |n: u64| PointFile::from_bytes(&memory.files()[&format!("points/{n:010}.point")]).expect("sound").head;
    for gone in 1..8_u64 {
        let is_gone = |path: &str| (1..=3).any(|n| gone >> (n - 1) & 1 == 1 && path == format!("points/{n:010}.point"));
        let (store, _, rebuilt) = salvaged(&without(&memory, is_gone));
        assert_eq!((store.points(), rebuilt.points.len()), (vec![1, 2, 3], gone.count_ones() as usize), "{gone:03b}");
        assert_eq!((all_readable(&store), store.lost(10).expect("told").chunks), (12, 0), "{gone:03b}");
        for sequence in rebuilt.points {
            let head = store.point_head(sequence).expect("sound");
            let before = original(sequence);
            assert_eq!((head.needed, head.needed_xor, head.kind), (before.needed, before.needed_xor, before.kind));
            assert_eq!((head.files, head.created), (4, 1000 * (1000 + i64::try_from(sequence).expect("few"))));
        }
        assert_eq!(store.point_head(2).expect("there").previous, Some(store.point_head(1).expect("there").id), "{gone:03b}");
    }
}

#[test]
fn a_lost_folder_costs_what_was_in_it_and_the_point_stays() {
    let memory = whole();
    let keys = Workstation::new().keys;
    let source_store = Store::open(Arc::new(copy(&memory))).expect("opens");
    let body = open_point(&keys, &PointFile::from_bytes(&source_store.point(3).expect("there")).expect("sound")).expect("opens");
    let source = Opened(&source_store, keys);
    let maps = find_entry(&source, &body.root, b"/maps").expect("found").expect("a folder");
    let page = maps.content.expect("a listing").parts[0].name.expect("a page");
    let hurt = without(&memory, |path| path == "needs/0000000003.needs");
    for (path, mut bytes) in segments(&memory) {
        if let Some(at) = bytes.windows(32).position(|window| window == page.as_bytes()) {
            bytes[at + 40] ^= 1;
            hurt.overwrite(&path, bytes);
        }
    }
    let (store, _, rebuilt) = salvaged(&hurt);
    assert_eq!(rebuilt, Rebuilt { unproven: vec![3], ..Rebuilt::default() });
    assert_eq!((readable(&store, 1), readable(&store, 2), readable(&store, 3)), (4, 4, 2));
}

#[test]
fn a_preview_touches_nothing() {
    let memory =
        without(&whole(), |path| path == "store.cbor" || path == "points/0000000002.point" || path.starts_with("needs/"));
    let (path, bytes) = segments(&memory).swap_remove(0);
    memory.overwrite(&path, bytes[..bytes.len() / 2].to_vec());
    let before = memory.files();
    let over: Arc<dyn Medium> = Arc::new(OverlayMedium::new(Arc::new(memory.clone()), Arc::new(MemoryMedium::default())));
    let (store, mended) = mend(&over, &mut |_| true).expect("mended");
    store.rebuild(&Workstation::new().keys, &SeededRandom::new(b"salvage")).expect("rebuilt");
    assert!(mended.described_again && !mended.aside.is_empty());
    assert_eq!(memory.files(), before);
}

#[test]
fn slots_that_are_damaged_are_said_and_sound_ones_stay() {
    let memory = whole();
    let (path, mut bytes) = memory.files().into_iter().find(|(path, _)| path.starts_with("slots/")).expect("one");
    bytes.truncate(20);
    memory.overwrite(&path, bytes);
    let (_, mended, _) = salvaged(&memory);
    assert_eq!((mended.slots, mended.aside.len()), (0, 1));
}
