//! A large image store, as the service keeps it: what a point costs, what letting go costs, how fast a scrub is.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use jetfrost_image::crypto::{SeededRandom, StoreKey, StoreKeys, seal_point};
use jetfrost_image::format::{PointBody, PointHead, PointKind, SegmentBuilder, StoreFile, encode_needs, needs_check};
use jetfrost_image::medium::DirectoryMedium;
use jetfrost_image::store::{Compaction, Store};
use jetfrost_image::{ChunkName, PointId, StoreId};

const STORE: StoreId = StoreId([3; 16]);
const CHUNKS: u64 = 1_000_000;
const POINTS: u64 = 100;
/// Chunks that change from point to point: one in a hundred.
const CHANGED: u64 = CHUNKS / 100;
/// So small that the disk is not what is measured: the index, the needs and the segments' records are as in a store of 256 GB.
const SEALED: usize = 64;

/// Names that a point needs: it has lost the first of the chunks and won as many.
fn needed(point: u64) -> Vec<ChunkName> {
    names((point - 1) * CHANGED..(point - 1) * CHANGED + CHUNKS)
}

fn names(numbers: std::ops::Range<u64>) -> Vec<ChunkName> {
    let mut names: Vec<ChunkName> = numbers.map(|i| ChunkName(*blake3::hash(&i.to_le_bytes()).as_bytes())).collect();
    names.sort_unstable();
    names
}

/// Runs the bench in a directory of its own and prints what it finds.
pub(crate) fn run(scratch: &Path) {
    let directory = scratch.join("store");
    std::fs::create_dir(&directory).expect("made");
    let store = Store::create(Arc::new(DirectoryMedium::new(&directory)), &StoreFile::new(STORE, 0)).expect("created");
    add_segments(&store, 0..CHUNKS);
    let mut previous = None;
    for point in 1..=POINTS {
        if point > 1 {
            add_segments(&store, CHUNKS + (point - 2) * CHANGED..CHUNKS + (point - 1) * CHANGED);
        }
        let (added, removed) = match point {
            1 => (needed(1), Vec::new()),
            _ => {
                let from = (point - 2) * CHANGED;
                (names(from + CHUNKS..from + CHUNKS + CHANGED), names(from..from + CHANGED))
            }
        };
        let (bytes, seconds) = commit(&store, point, point - 1, &added, &removed, &mut previous);
        if point == 2 {
            println!(
                "a point of {CHUNKS} chunks that changed 1 %: {bytes} bytes, {:.0} ms (to be at most 1048576 bytes)",
                seconds * 1e3
            );
        }
    }
    let (bytes, seconds) = commit(&store, POINTS + 1, POINTS, &[], &[], &mut previous);
    println!("a point that changed nothing: {bytes} bytes, {:.1} ms (to be at most 65536 bytes and 50 ms)", seconds * 1e3);

    let going: BTreeSet<u64> = (1..=POINTS).filter(|point| point.is_multiple_of(2)).collect();
    // Resets the peak (proc(5)), so that what follows is measured alone.
    std::fs::write("/proc/self/clear_refs", "5").expect("the peak is reset");
    let before = peak();
    let began = Instant::now();
    let freed = store.room_freed_by(&going).expect("known");
    println!(
        "which chunks become free when {} of {} points go: {:.2} s, {:.0} MB more at the peak (to be under 2 s and 200 MB); {} chunks",
        going.len(),
        POINTS + 1,
        began.elapsed().as_secs_f64(),
        (peak() - before) / 1e6,
        freed.chunks
    );
    let oldest: BTreeSet<u64> = (1..=POINTS / 2).collect();
    let began = Instant::now();
    store.expire(&oldest).expect("gone");
    let tidied = store.compact(&Compaction::default(), &mut |_| true).expect("tidied");
    println!(
        "letting the older {} go: {:.1} s, {} segments dropped, {} rewritten, {:.1} MB back, {:.1} % dead after (to be at most 10)",
        oldest.len(),
        began.elapsed().as_secs_f64(),
        tidied.dropped,
        tidied.rewritten,
        tidied.freed as f64 / 1e6,
        100.0 * tidied.dead as f64 / store.used() as f64
    );
}

fn commit(
    store: &Store,
    point: u64,
    base: u64,
    added: &[ChunkName],
    removed: &[ChunkName],
    previous: &mut Option<PointId>,
) -> (usize, f64) {
    let needs = encode_needs(STORE, point, base, added, removed);
    let all = needed(point.min(POINTS));
    let xor = all.iter().fold([0; 32], |mut xor: [u8; 32], name| {
        xor.iter_mut().zip(name.0).for_each(|(x, b)| *x ^= b);
        xor
    });
    let id = PointId(blake3::hash(&point.to_le_bytes()).as_bytes()[..16].try_into().expect("sixteen"));
    let head = PointHead {
        store: STORE,
        id,
        sequence: point,
        kind: PointKind::Files,
        created: 0,
        previous: previous.replace(id),
        needed: all.len() as u64,
        needed_xor: xor,
        bytes: 0,
        files: 0,
        exceptions: 0,
        needs: needs_check(&needs),
        changes: None,
    };
    let keys = StoreKeys::derive(STORE, &StoreKey([1; 32]));
    let file = seal_point(&keys, head, &PointBody::default(), &SeededRandom::new(b"bench")).to_bytes();
    let began = Instant::now();
    let mut intake = store.receive_needs(point).expect("begun");
    intake.push(&needs).expect("sound");
    intake.finish().expect("durable");
    store.commit_point(&file, 0).expect("committed");
    (needs.len() + file.len(), began.elapsed().as_secs_f64())
}

fn add_segments(store: &Store, numbers: std::ops::Range<u64>) {
    let all: Vec<u64> = numbers.collect();
    for part in all.chunks(50_000) {
        let mut builder = SegmentBuilder::new(STORE, 0);
        for i in part {
            builder.push(ChunkName(*blake3::hash(&i.to_le_bytes()).as_bytes()), &[*i as u8; SEALED]);
        }
        let segment = builder.finish();
        let mut intake = store.receive_segment(segment.hash).expect("begun").expect("new");
        intake.push(&segment.bytes).expect("sound");
        intake.finish().expect("durable");
    }
}

/// How fast a scrub reads the segments below a directory, beside hashing the same files with the same hash in one process.
pub(crate) fn scrub(destination: &Path) {
    let stores = std::fs::read_dir(destination.join("stores")).expect("stores");
    let directory = stores.into_iter().next().expect("a store").expect("an entry").path();
    let mut segments = Vec::new();
    for part in std::fs::read_dir(directory.join("segments")).expect("segments") {
        let part = part.expect("an entry").path();
        segments.extend(std::fs::read_dir(part).expect("readable").map(|entry| entry.expect("an entry").path()));
    }
    let hash_all = || {
        let began = Instant::now();
        let mut bytes = 0;
        for segment in &segments {
            let mut hasher = blake3::Hasher::new();
            let file = std::fs::File::open(segment).expect("opens");
            bytes += std::io::copy(&mut std::io::BufReader::with_capacity(1 << 20, file), &mut hasher).expect("read");
            std::hint::black_box(hasher.finalize());
        }
        (began.elapsed().as_secs_f64(), bytes)
    };
    let store = Store::open(Arc::new(DirectoryMedium::new(&directory))).expect("opens");
    let scrub_all = || {
        let began = Instant::now();
        let scrubbed = store.scrub(&mut None, &mut |_| true).expect("scrubbed");
        assert_eq!(scrubbed.found, 0);
        (began.elapsed().as_secs_f64(), scrubbed.bytes)
    };
    // Once to have everything in memory; then by turns, and the better of three each.
    let (_, bytes) = hash_all();
    let (mut plain, mut seconds) = (f64::MAX, f64::MAX);
    for _ in 0..3 {
        let ((hashed, _), (scrubbed, same)) = (hash_all(), scrub_all());
        assert_eq!(same, bytes);
        (plain, seconds) = (plain.min(hashed), seconds.min(scrubbed));
    }
    println!(
        "scrub          {seconds:.2} s, {:.0} MB/s; hashing the segments in one process {plain:.2} s, {:.0} MB/s: {:.2} of its rate (to be at least 0.8)",
        bytes as f64 / seconds / 1e6,
        bytes as f64 / plain / 1e6,
        plain / seconds
    );
}

/// Highest resident memory of this process so far, in bytes.
fn peak() -> f64 {
    jetfrost_tests::programs::peak_memory(std::process::id()) as f64
}
