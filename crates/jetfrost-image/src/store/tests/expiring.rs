//! Expiry frees exactly what nothing else needs, and never anything that is needed, whatever happens on the way.

use std::collections::BTreeMap;

use proptest::prelude::*;

use super::*;

/// What each point needs, by the numbers of chunks.
pub(super) type Sets = Vec<BTreeSet<u64>>;

/// Content that does not compress, so that chunks have the lengths that they seem to have.
pub(super) fn content_of(chunk: u64) -> Vec<u8> {
    let mut bytes = vec![0; 300 + usize::try_from(chunk % 7).expect("small") * 100];
    blake3::Hasher::new().update(&chunk.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

pub(super) fn name_of(chunk: u64) -> ChunkName {
    Workstation::new().keys.name(&content_of(chunk))
}

fn names_of(chunks: &BTreeSet<u64>) -> Vec<ChunkName> {
    let mut names: Vec<_> = chunks.iter().map(|chunk| name_of(*chunk)).collect();
    names.sort_unstable();
    names
}

/// Backs up as a workstation does that only sends what is missing and says its needs as a difference to the latest.
pub(super) fn back_up_set(store: &Store, set: &BTreeSet<u64>) -> Result<()> {
    back_up_set_after(store, set, store.points().last().copied())
}

/// The same, with its needs as a difference to any point there is, or to none.
pub(super) fn back_up_set_after(store: &Store, set: &BTreeSet<u64>, base: Option<u64>) -> Result<()> {
    let workstation = Workstation::new();
    let chunks: Vec<u64> = set.iter().copied().collect();
    let missing = store.missing(&chunks.iter().map(|chunk| name_of(*chunk)).collect::<Vec<_>>())?;
    let contents: Vec<Vec<u8>> =
        chunks.iter().zip(missing).filter(|(_, missing)| *missing).map(|(chunk, _)| content_of(*chunk)).collect();
    if !contents.is_empty() {
        send_segment(store, &workstation.segment(&contents.iter().map(Vec::as_slice).collect::<Vec<_>>()).0)?;
    }
    let latest = store.points().last().copied();
    let before = base.map_or_else(BTreeSet::new, |base| needed_by(store, base));
    let now: BTreeSet<ChunkName> = names_of(set).into_iter().collect();
    let added: Vec<_> = now.difference(&before).copied().collect();
    let removed: Vec<_> = before.difference(&now).copied().collect();
    let next = latest.map_or(1, |latest| latest + 1);
    let check = send_difference(store, next, base.unwrap_or(0), &added, &removed)?;
    let previous = latest.map(|latest| store.point_head(latest)).transpose()?.map(|head| head.id);
    let needed: Vec<_> = now.into_iter().collect();
    store.commit_point(&workstation.point(next, previous, &needed, check), at(next)).map(drop)
}

/// The set of a point, followed through its needs files.
pub(super) fn needed_by(store: &Store, sequence: u64) -> BTreeSet<ChunkName> {
    let (mut added, mut removed) = (BTreeSet::new(), BTreeSet::new());
    let scan = |name, is_added| {
        if is_added { &mut added } else { &mut removed }.insert(name);
        Ok(())
    };
    let base = store.scan_needs(sequence, scan).expect("readable").head.base;
    let mut set = if base == 0 { BTreeSet::new() } else { needed_by(store, base) };
    removed.iter().for_each(|name| assert!(set.remove(name), "removed although it was not there"));
    added.into_iter().for_each(|name| assert!(set.insert(name), "added although it was there"));
    set
}

pub(super) fn assert_points(store: &Store, sets: &BTreeMap<u64, BTreeSet<u64>>) {
    assert_eq!(store.points(), sets.keys().copied().collect::<Vec<_>>());
    for (sequence, set) in sets {
        assert_eq!(needed_by(store, *sequence), names_of(set).into_iter().collect(), "point {sequence}");
        for chunk in set {
            store.chunk(&name_of(*chunk)).expect("needed and here");
        }
    }
}

fn on_medium(medium: &MemoryMedium) -> u64 {
    medium.files().values().map(|bytes| occupied(medium, bytes.len() as u64)).sum()
}

fn segment_bytes(medium: &MemoryMedium) -> u64 {
    medium.files().iter().filter(|(path, _)| path.starts_with("segments/")).map(|(_, bytes)| bytes.len() as u64).sum()
}

pub(super) fn numbered(sets: &Sets) -> BTreeMap<u64, BTreeSet<u64>> {
    (1..).zip(sets.iter().cloned()).collect()
}

pub(super) fn store_of(sets: &Sets) -> (MemoryMedium, Store) {
    let memory = MemoryMedium::default();
    let store = Store::create(Arc::new(memory.clone()), &StoreFile::new(STORE, 0)).expect("created");
    sets.iter().for_each(|set| back_up_set(&store, set).expect("backed up"));
    (memory, store)
}

/// Three points: what each brought, and what all share.
fn three() -> Sets {
    vec![(0..30).collect(), (10..40).collect(), (20..50).collect()]
}

fn compact(store: &Store, most_dead_percent: u64) -> Compacted {
    store.compact(&Compaction { most_dead_percent, drop_unfinished: false }, &mut |_| true).expect("compacted")
}

pub(super) fn histories() -> impl Strategy<Value = (Sets, BTreeSet<u64>)> {
    let set = prop::collection::btree_set(0_u64..40, 0..25);
    prop::collection::vec(set, 2..8).prop_flat_map(|sets| {
        let last = sets.len() as u64;
        (Just(sets), prop::collection::btree_set(1..last, 0..=last as usize - 1))
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn what_goes_frees_what_only_it_needed((sets, going) in histories()) {
        let (memory, store) = store_of(&sets);
        let mut remaining = numbered(&sets);
        let freed = store.room_freed_by(&going).expect("known");
        let all: BTreeSet<u64> = remaining.values().flatten().copied().collect();
        going.iter().for_each(|sequence| drop(remaining.remove(sequence)));
        let needed: BTreeSet<u64> = remaining.values().flatten().copied().collect();
        prop_assert_eq!(freed.chunks as usize, all.difference(&needed).count());

        let index_and_needs = |memory: &MemoryMedium| on_medium(memory) - segment_bytes(memory);
        let (before, rest_before) = (segment_bytes(&memory), index_and_needs(&memory));
        store.expire(&going).expect("gone");
        let points_bytes = rest_before - index_and_needs(&memory);
        let segments = memory.files().keys().filter(|path| path.starts_with("segments/")).count() as u64;
        compact(&store, 0);
        assert_points(&store, &remaining);
        let fewer = segments - memory.files().keys().filter(|path| path.starts_with("segments/")).count() as u64;
        prop_assert_eq!(before - segment_bytes(&memory), freed.bytes - points_bytes + fewer * crate::format::EMPTY_SEGMENT);
        prop_assert_eq!(store.used(), on_medium(&memory));
        let needs_files = memory.list(layout::NEEDS).expect("listed").len();
        prop_assert_eq!(needs_files, remaining.len());

        let again = Store::open(Arc::new(memory)).expect("opens");
        assert_points(&again, &remaining);
        back_up_set(&again, &(5..60).collect()).expect("and it goes on");
    }
}

#[test]
fn at_most_a_tenth_of_what_stays_is_dead() {
    let sets: Sets = (0..12).map(|i| (i * 20..i * 20 + 100).collect()).collect();
    let (memory, store) = store_of(&sets);
    store.expire(&(1..10).collect()).expect("gone");
    let compacted = compact(&store, 10);
    assert!(compacted.rewritten + compacted.dropped > 0);
    assert!(compacted.dead * 10 <= segment_bytes(&memory), "{} of {} bytes are dead", compacted.dead, segment_bytes(&memory));
    assert_eq!(store.used(), on_medium(&memory));
}

#[test]
fn the_latest_point_stays() {
    let (_, store) = store_of(&three());
    assert!(matches!(store.expire(&BTreeSet::from([3])), Err(StoreError::LatestStays)));
    assert!(matches!(store.expire(&BTreeSet::from([9])), Err(StoreError::NoPoint(9))));
    assert_points(&store, &numbered(&three()));
}

#[test]
fn after_a_loss_of_power_at_any_step_of_letting_go_every_remaining_point_is_whole() {
    // Two that build on each other go, so that their needs files do, too.
    let sets: Sets = vec![(0..30).collect(), (5..35).collect(), (10..40).collect(), (20..50).collect()];
    let (memory, _) = store_of(&sets);
    let going = BTreeSet::from([1, 2]);
    let mut steps = 0;
    loop {
        let crash = CrashMedium::holding(&memory, steps);
        let gone = {
            let store = Store::open(Arc::new(crash.clone()));
            let expire = store.and_then(|store| store.expire(&going).map(|()| store));
            expire.map(|store| store.compact(&Compaction { most_dead_percent: 0, drop_unfinished: false }, &mut |_| true)).is_ok()
        };
        for survivor in [crash.survivor_of_the_strict_kind(), crash.survivor_of_the_lucky_kind()] {
            let store = Store::open(Arc::new(survivor.clone())).expect("opens");
            let mut expected = numbered(&sets);
            expected.retain(|point, _| !going.contains(point) || (!gone && store.points().contains(point)));
            assert_points(&store, &expected);
            // What was interrupted is finished by the next attempt.
            store.expire(&store.points().into_iter().filter(|point| going.contains(point)).collect()).expect("gone");
            compact(&store, 0);
            expected.retain(|point, _| !going.contains(point));
            assert_points(&store, &expected);
            assert!(matches!(store.chunk(&name_of(3)), Err(StoreError::NoChunk(_))), "after {steps} steps its room is not back");
            assert_eq!(store.used(), on_medium(&survivor), "after {steps} steps");
        }
        if !crash.has_failed() {
            break;
        }
        steps += 1;
    }
    assert!(steps > 20, "the protocol has {steps} steps");
}

#[test]
fn a_run_under_way_keeps_what_it_was_told_is_here() {
    let (_, store) = store_of(&three());
    let only_first = name_of(3);
    assert_eq!(store.missing(&[only_first]).expect("told"), [false]);
    store.expire(&BTreeSet::from([1])).expect("gone");
    compact(&store, 0);
    store.chunk(&only_first).expect("promised and therefore still here");
    back_up_set(&store, &(3..4).collect()).expect("and so the run ends well");
    assert!(matches!(store.chunk(&name_of(4)), Err(StoreError::NoChunk(_))), "what was not promised is gone");
}

#[test]
fn a_store_that_was_opened_again_does_not_claim_to_know_the_run_that_goes_on() {
    let (memory, store) = store_of(&three());
    store.begin_run();
    store.missing(&[name_of(3)]).expect("told");
    assert!(store.knows_of_run());
    let again = Store::open(Arc::new(memory)).expect("opens");
    again.missing(&[name_of(4)]).expect("told");
    assert!(!again.knows_of_run(), "what was told before is forgotten");
    again.end_run();
    again.begin_run();
    assert!(again.knows_of_run());
}

#[test]
fn what_an_unfinished_run_sent_stays_until_it_is_given_up() {
    let (_, store) = store_of(&three());
    let (segment, names) = Workstation::new().segment(&[b"sent by a run that never ended"]);
    send_segment(&store, &segment).expect("received");
    let dropping = Compaction { most_dead_percent: 0, drop_unfinished: true };
    store.compact(&dropping, &mut |_| true).expect("compacted");
    store.chunk(&names[0]).expect("its run is under way");
    store.end_run();
    compact(&store, 0);
    store.chunk(&names[0]).expect("the next run need not send it again");
    store.compact(&dropping, &mut |_| true).expect("compacted");
    assert!(matches!(store.chunk(&names[0]), Err(StoreError::NoChunk(_))));
}

#[test]
fn a_reader_finds_a_chunk_again_that_moves() {
    let (_, store) = store_of(&three());
    store.expire(&BTreeSet::from([1])).expect("gone");
    let chunks: Vec<_> = (10..50).map(name_of).collect();
    std::thread::scope(|threads| {
        let reader = threads.spawn(|| (0..200).all(|_| chunks.iter().all(|name| store.chunk(name).is_ok())));
        compact(&store, 0);
        assert!(reader.join().expect("no panic"), "a chunk was not found while it moved");
    });
}

#[test]
fn an_interrupted_tidying_is_finished_by_the_next() {
    let (memory, store) = store_of(&three());
    store.expire(&BTreeSet::from([1])).expect("gone");
    let stopped = store.compact(&Compaction { most_dead_percent: 0, drop_unfinished: false }, &mut |_| false);
    assert!(matches!(stopped, Err(StoreError::Interrupted)));
    compact(&store, 0);
    assert!(matches!(store.chunk(&name_of(3)), Err(StoreError::NoChunk(_))));
    assert_eq!(store.used(), on_medium(&memory));
}

#[test]
fn a_workstation_cannot_talk_a_chunk_out_of_its_own_past() {
    let sets = vec![BTreeSet::from([1, 2]), BTreeSet::from([2, 3]), BTreeSet::from([2, 3])];
    let (_, store) = store_of(&sets);
    // Chunk 1 is not in the latest set; to remove it "again" would make it look unneeded while point 1 needs it.
    let forged = |added: &[ChunkName], removed: &[ChunkName]| {
        let needs = Some(send_difference(&store, 4, 3, added, removed).expect("well-formed"));
        let previous = Some(store.point_head(3).expect("readable").id);
        // The forger makes number and XOR come out.
        let mut head = store.point_head(3).expect("readable");
        for name in added.iter().chain(removed) {
            head.needed_xor.iter_mut().zip(name.0).for_each(|(x, b)| *x ^= b);
        }
        let needed = head.needed + added.len() as u64 - removed.len() as u64;
        let head = PointHead { sequence: 4, id: PointId([4; 16]), previous, needed, needs, ..head };
        let point = seal_point(&Workstation::new().keys, head, &PointBody::default(), &SeededRandom::new(b"forger"));
        store.commit_point(&point.to_bytes(), 0)
    };
    assert!(matches!(forged(&[], &[name_of(1)]), Err(StoreError::Needs(_))), "removing what is not there");
    assert!(matches!(forged(&[name_of(2)], &[]), Err(StoreError::Needs(_))), "adding what is there");
    forged(&[name_of(1)], &[name_of(2)]).expect("an honest difference is taken");
}

/// Found by killing the service: removals need not last in the order in which they were made.
#[test]
fn a_needs_file_that_is_left_over_from_folding_harms_nothing() {
    let (memory, store) = store_of(&three());
    let files = memory.files();
    store.expire(&BTreeSet::from([1, 2])).expect("gone");
    compact(&store, 0);
    let second = format!("{}/{}", layout::NEEDS, layout::needs(2));
    memory.overwrite(&second, files[&second].clone());
    let again = Store::open(Arc::new(memory.clone())).expect("opens");
    compact(&again, 0);
    assert_points(&again, &numbered(&three()).split_off(&3));
    assert!(!memory.files().contains_key(&second));
    assert_eq!(again.used(), on_medium(&memory));
}

#[test]
fn damaged_needs_let_nothing_go() {
    let (memory, store) = store_of(&three());
    store.expire(&BTreeSet::from([1])).expect("gone");
    let path = format!("{}/{}", layout::NEEDS, layout::needs(2));
    let mut bytes = memory.files()[&path].clone();
    bytes[70] ^= 1;
    memory.overwrite(&path, bytes);
    let files = memory.files();
    assert!(store.compact(&Compaction::default(), &mut |_| true).is_err());
    assert_eq!(memory.files(), files);
}
