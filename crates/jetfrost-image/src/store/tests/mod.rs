//! The store's in_flight: what was acknowledged is there, also after a loss of power at any step.

use std::sync::Arc;

use super::*;

use crate::crypto::{Effort, Sealer, SeededRandom, StoreKey, StoreKeys, seal_point};
use crate::format::{FinishedSegment, PointBody, PointKind, SegmentBuilder, encode_needs, needs_check};
use crate::id::PointId;
use crate::medium::{CrashMedium, MemoryMedium};

mod damage;
mod expiring;
mod failing;
mod overlap;
mod overwriting;
mod salvage;
mod slots;

const STORE: StoreId = StoreId([7; 16]);

/// What a workstation would do, in small: one segment and one point a step.
struct Workstation {
    keys: StoreKeys,
    random: SeededRandom,
}

impl Workstation {
    fn new() -> Self {
        Self { keys: StoreKeys::derive(STORE, &StoreKey([1; 32])), random: SeededRandom::new(b"workstation") }
    }

    fn segment(&self, contents: &[&[u8]]) -> (FinishedSegment, Vec<ChunkName>) {
        let mut builder = SegmentBuilder::new(STORE, 1 << 10);
        let mut sealer = Sealer::new(self.keys.clone(), Effort::Quick);
        let mut names = Vec::new();
        for content in contents {
            let name = self.keys.name(content);
            let mut sealed = Vec::new();
            sealer.seal(&name, content, &self.random, &mut sealed);
            builder.push(name, &sealed);
            names.push(name);
        }
        (builder.finish(), names)
    }

    fn point(&self, sequence: u64, previous: Option<PointId>, needed: &[ChunkName], needs: [u8; 32]) -> Vec<u8> {
        let xor = needed.iter().fold([0; 32], |xor: [u8; 32], name| std::array::from_fn(|i| xor[i] ^ name.0[i]));
        let head = PointHead {
            store: STORE,
            id: PointId([u8::try_from(sequence).expect("few"); 16]),
            sequence,
            kind: PointKind::Files,
            created: 0,
            previous,
            needed: needed.len() as u64,
            needed_xor: xor,
            bytes: 0,
            files: 0,
            exceptions: 0,
            needs: Some(needs),
            changes: None,
        };
        seal_point(&self.keys, head, &PointBody::default(), &self.random).to_bytes()
    }
}

fn send_segment(store: &Store, segment: &FinishedSegment) -> Result<()> {
    if let Some(mut upload) = store.receive_segment(segment.hash)? {
        segment.bytes.chunks(100).try_for_each(|piece| upload.push(piece))?;
        upload.finish()?;
    }
    Ok(())
}

/// Sends the needs of a point; returns their check.
fn send_needs(store: &Store, sequence: u64, base: u64, added: &[ChunkName]) -> Result<[u8; 32]> {
    let mut added = added.to_vec();
    added.sort_unstable();
    send_difference(store, sequence, base, &added, &[])
}

fn send_difference(store: &Store, sequence: u64, base: u64, added: &[ChunkName], removed: &[ChunkName]) -> Result<[u8; 32]> {
    let bytes = encode_needs(STORE, sequence, base, added, removed);
    let mut upload = store.receive_needs(sequence)?;
    upload.push(&bytes)?;
    upload.finish()?;
    Ok(needs_check(&bytes).expect("whole"))
}

/// When the service commits point `sequence`.
fn at(sequence: u64) -> i64 {
    1_000 * sequence.cast_signed()
}

fn content(step: u64) -> Vec<u8> {
    format!("what was written in step {step}").into_bytes()
}

/// Adds `points` points, each with one more chunk; says how many were acknowledged before something failed.
fn back_up(on: Arc<dyn Medium>, points: u64) -> u64 {
    let workstation = Workstation::new();
    let Ok(store) = Store::create(on, &StoreFile::new(STORE, 0)) else {
        return 0;
    };
    let (mut needed, mut previous) = (Vec::new(), None);
    for sequence in 1..=points {
        let (segment, names) = workstation.segment(&[&content(sequence)]);
        needed.extend(&names);
        let committed = send_segment(&store, &segment)
            .and_then(|()| send_needs(&store, sequence, sequence - 1, &names))
            .and_then(|check| store.commit_point(&workstation.point(sequence, previous, &needed, check), at(sequence)));
        match committed {
            Ok(head) => previous = Some(head.id),
            Err(_) => return sequence - 1,
        }
    }
    points
}

/// Everything that a reader of point `sequence` would touch is there and sound.
fn assert_whole(store: &Store, sequence: u64) {
    store.point_head(sequence).expect("the point is readable");
    if let Some(receipt) = store.receipt(sequence).expect("its receipt is readable") {
        assert_eq!(receipt.committed, at(sequence));
    }
    for step in 1..=sequence {
        store.scan_needs(step, |_, _| Ok(())).expect("its needs are readable");
        store.chunk(&Workstation::new().keys.name(&content(step))).expect("its chunk is sound");
    }
}

#[test]
fn after_a_loss_of_power_at_any_step_every_acknowledged_point_is_whole() {
    const POINTS: u64 = 3;
    let mut steps = 0;
    loop {
        let crash = CrashMedium::failing_after(steps);
        let acknowledged = back_up(Arc::new(crash.clone()), POINTS);
        for survivor in [crash.survivor_of_the_strict_kind(), crash.survivor_of_the_lucky_kind()] {
            match Store::open(Arc::new(survivor)) {
                Ok(store) => {
                    let points = store.points();
                    assert!(points.len() as u64 >= acknowledged, "after {steps} steps {acknowledged} points were acknowledged");
                    assert_eq!(store.lost_points().expect("listed"), BTreeSet::new());
                    let without = store.without_receipt().expect("listed");
                    assert!(without.iter().all(|sequence| *sequence > acknowledged), "{without:?} were acknowledged");
                    points.iter().for_each(|sequence| assert_whole(&store, *sequence));
                }
                Err(e) => assert!(acknowledged == 0 && matches!(e, StoreError::NoStore), "after {steps} steps: {e}"),
            }
        }
        if !crash.has_failed() {
            assert_eq!(acknowledged, POINTS);
            break;
        }
        steps += 1;
    }
    assert!(steps > 50, "the protocol has {steps} steps");
}

#[test]
fn a_store_goes_on_after_a_loss_of_power() {
    let crash = CrashMedium::failing_after(70);
    back_up(Arc::new(crash.clone()), 9);
    let store = Store::open(Arc::new(crash.survivor_of_the_strict_kind())).expect("opens");
    let next = store.next_sequence();
    let workstation = Workstation::new();
    let (segment, names) = workstation.segment(&[b"after the power came back"]);
    send_segment(&store, &segment).expect("received");
    let check = send_needs(&store, next, 0, &names).expect("received");
    let previous = store.points().last().map(|s| store.point_head(*s).expect("readable").id);
    store.commit_point(&workstation.point(next, previous, &names, check), at(next)).expect("committed");
}

fn store_with(points: u64) -> (MemoryMedium, Store) {
    let memory = MemoryMedium::default();
    assert_eq!(back_up(Arc::new(memory.clone()), points), points);
    let store = Store::open(Arc::new(memory.clone())).expect("opens");
    (memory, store)
}

#[test]
fn the_index_is_made_again_from_the_segments() {
    let (memory, store) = store_with(200);
    let runs = memory.list(layout::INDEX).expect("listed");
    assert!((1..=5).contains(&runs.len()), "{} runs", runs.len());
    assert_whole(&store, 200);
    for run in &runs {
        memory.remove(&format!("{}/{}", layout::INDEX, run.name)).expect("removed");
    }
    assert_whole(&Store::open(Arc::new(memory)).expect("opens"), 200);
}

#[test]
fn a_damaged_index_is_made_again() {
    let (memory, _) = store_with(40);
    for run in memory.list(layout::INDEX).expect("listed") {
        let path = format!("{}/{}", layout::INDEX, run.name);
        let mut bytes = memory.files()[&path].clone();
        bytes[50] ^= 1;
        memory.overwrite(&path, bytes);
    }
    assert_whole(&Store::open(Arc::new(memory)).expect("opens"), 40);
}

#[test]
fn used_bytes_are_those_on_the_medium() {
    let (memory, store) = store_with(100);
    let room = |len: usize| occupied(&memory, len as u64);
    assert_eq!(store.used(), memory.files().values().map(|bytes| room(bytes.len())).sum::<u64>());
    let growing = Store::create(Arc::new(MemoryMedium::default()), &StoreFile::new(STORE, 0)).expect("created");
    let before = growing.used();
    let (segment, _) = Workstation::new().segment(&[b"more"]);
    send_segment(&growing, &segment).expect("received");
    assert_eq!(growing.used(), before + room(segment.bytes.len()));
}

#[test]
fn a_point_whose_chunks_are_not_here_is_refused() {
    let (_, store) = store_with(1);
    let workstation = Workstation::new();
    let absent = workstation.keys.name(b"never sent");
    let check = send_needs(&store, 2, 0, &[absent]).expect("received");
    let previous = Some(store.point_head(1).expect("readable").id);
    let refused = store.commit_point(&workstation.point(2, previous, &[absent], check), 0);
    assert!(matches!(refused, Err(StoreError::ChunksMissing { missing: 1 })));
    assert_eq!(store.points(), [1]);
}

#[test]
fn a_point_whose_needs_do_not_add_up_is_refused() {
    let (_, store) = store_with(1);
    let workstation = Workstation::new();
    let there = workstation.keys.name(&content(1));
    let previous = Some(store.point_head(1).expect("readable").id);
    let early = workstation.point(2, previous, &[there], [0; 32]);
    assert!(matches!(store.commit_point(&early, 0), Err(StoreError::Needs("they did not arrive"))));
    let check = send_needs(&store, 2, 1, &[]).expect("received");
    let point = workstation.point(2, previous, &[there], check);
    store.commit_point(&point, 0).expect("the same chunk, by difference to point 1");
    let (segment, more) = workstation.segment(&[b"more"]);
    send_segment(&store, &segment).expect("received");
    let check = send_needs(&store, 3, 2, &more).expect("received");
    let previous = Some(store.point_head(2).expect("readable").id);
    let refused = |needed: &[ChunkName]| store.commit_point(&workstation.point(3, previous, needed, check), 0);
    assert!(matches!(refused(&[there]), Err(StoreError::Needs(_))));
    assert!(matches!(refused(&[there, there]), Err(StoreError::Needs(_))));
}

#[test]
fn points_come_in_order_and_know_their_predecessor() {
    let (_, store) = store_with(2);
    let workstation = Workstation::new();
    let early = workstation.point(2, None, &[], [0; 32]);
    assert!(matches!(store.commit_point(&early, 0), Err(StoreError::OutOfOrder { expected: 3, found: 2 })));
    assert!(matches!(store.receive_needs(4), Err(StoreError::OutOfOrder { expected: 3, found: 4 })));
    let stranger = workstation.point(3, Some(PointId([99; 16])), &[], [0; 32]);
    assert!(matches!(store.commit_point(&stranger, 0), Err(StoreError::OtherPredecessor)));
}

#[test]
fn a_segment_under_another_name_leaves_nothing() {
    let (memory, store) = store_with(1);
    let files = memory.files();
    let (segment, _) = Workstation::new().segment(&[b"something"]);
    let mut upload = store.receive_segment(SegmentHash([0; 32])).expect("begun").expect("not here");
    upload.push(&segment.bytes).expect("sound so far");
    assert!(matches!(upload.finish(), Err(StoreError::WrongHash)));
    assert_eq!(memory.files(), files);
}

#[test]
fn a_flipped_bit_costs_the_chunk_that_held_it_and_no_other() {
    let memory = MemoryMedium::default();
    let store = Store::create(Arc::new(memory.clone()), &StoreFile::new(STORE, 0)).expect("created");
    let (segment, chunks) = Workstation::new().segment(&[b"the first chunk", b"the second chunk", b"the third chunk"]);
    send_segment(&store, &segment).expect("received");
    let path = layout::segment(&segment.hash);
    let mut bytes = memory.files()[&path].clone();
    // In the second record: a short chunk is padded to 285 bytes.
    bytes[32 + (40 + 285) + 60] ^= 4;
    memory.overwrite(&path, bytes);
    assert!(store.chunk(&chunks[0]).is_ok());
    assert!(matches!(store.chunk(&chunks[1]), Err(StoreError::DamagedChunk { .. })));
    assert!(store.chunk(&chunks[2]).is_ok());
}
