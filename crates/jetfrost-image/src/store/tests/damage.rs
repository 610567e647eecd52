//! A catalogue of damage: every kind of file, bytes flipped in every field, cut at every border, removed, swapped. The
//! outcome is stated for each: what is read is right or an error, a scrub finds it, and what the workstation still has
//! heals it.

use std::collections::BTreeMap;

use super::expiring::{Sets, back_up_set, content_of, name_of, store_of};
use super::*;
use crate::crypto::{OpenError, Secret, open_chunk, wrap_key};
use crate::format::{ArgonCost, EMPTY_SEGMENT, SEGMENT_HEAD, SegmentScanner};

fn sets() -> Sets {
    vec![(0..12).collect(), (6..18).collect(), (12..24).collect()]
}

fn whole() -> MemoryMedium {
    let (memory, store) = store_of(&sets());
    let cost = ArgonCost { memory: 64, passes: 1, lanes: 1 };
    let random = SeededRandom::new(b"slot");
    let slot = wrap_key(STORE, &StoreKey([1; 32]), Secret::Passphrase("p"), cost, 0, &random);
    store.put_slot(&slot.to_bytes()).expect("added");
    memory
}

pub(super) fn copy(of: &MemoryMedium) -> MemoryMedium {
    CrashMedium::holding(of, 0).survivor_of_the_lucky_kind()
}

/// Every chunk that can be read is the one that was written. How many can.
fn readable(store: &Store) -> usize {
    let keys = Workstation::new().keys;
    let opens = |chunk: &u64| match store.chunk(&name_of(*chunk)) {
        Ok(mut sealed) => {
            let opened: Result<Vec<u8>, OpenError> = open_chunk(&keys, &name_of(*chunk), &mut sealed);
            assert_eq!(opened.expect("what the store gives opens"), content_of(*chunk), "never wrong data");
            true
        }
        Err(_) => false,
    };
    (0..24).filter(opens).count()
}

/// The positions in a file at which something of a meaning of its own begins, and one byte within each.
pub(super) fn borders(path: &str, bytes: &[u8]) -> Vec<usize> {
    if !path.starts_with("segments/") {
        return (0..bytes.len()).step_by(if bytes.len() > 600 { 7 } else { 1 }).collect();
    }
    let mut at = vec![0, 4, 8, 10, 12, 16, 31];
    let mut record = SEGMENT_HEAD;
    let footer = u32::from_le_bytes(bytes[12..16].try_into().expect("four")) as usize;
    while record < footer {
        let len = u32::from_le_bytes(bytes[record..record + 4].try_into().expect("four")) as usize;
        at.extend([record, record + 4, record + 8, record + 40, record + 40 + len - 1]);
        record += 40 + len;
    }
    at.extend((footer..bytes.len()).step_by(8));
    at
}

pub(super) fn segments(memory: &MemoryMedium) -> Vec<(String, Vec<u8>)> {
    memory.files().into_iter().filter(|(path, _)| path.starts_with("segments/")).collect()
}

/// Opens, scrubs, and backs up once more as the workstation would that still has everything. Says how many chunks were
/// readable before and after, and what was found.
fn live_through(memory: &MemoryMedium, what: &str) -> Option<(usize, usize, Scrubbed)> {
    let store = match Store::open(Arc::new(memory.clone())) {
        Ok(store) => store,
        Err(StoreError::Format(_) | StoreError::NoStore) => return None,
        Err(other) => panic!("{what}: {other}"),
    };
    let before = readable(&store);
    let scrubbed = store.scrub(&mut None, &mut |_| true).unwrap_or_else(|e| panic!("{what}: {e}"));
    let after = readable(&store);
    assert!(after >= before, "{what}: a scrub loses nothing");
    Some((before, after, scrubbed))
}

#[test]
fn a_sound_store_is_found_sound_whole_or_in_stretches() {
    let memory = whole();
    let files = memory.files();
    let (before, after, scrubbed) = live_through(&memory, "sound").expect("opens");
    assert_eq!((before, after, scrubbed.found, scrubbed.segments), (24, 24, 0, 3));
    assert_eq!(memory.files(), files, "and nothing was touched");
    // Interrupted after each segment and gone on with, every segment is read once.
    let store = Store::open(Arc::new(memory)).expect("opens");
    let (mut cursor, mut read, mut interruptions) = (None, 0, 0);
    loop {
        let mut steps = 0;
        let stretch = store.scrub(&mut cursor, &mut |_| {
            steps += 1;
            steps < 2
        });
        match stretch {
            Ok(scrubbed) => {
                read += scrubbed.segments;
                break;
            }
            Err(StoreError::Interrupted) => {
                interruptions += 1;
                read += 1;
            }
            Err(e) => panic!("{e}"),
        }
    }
    assert_eq!((read, interruptions, cursor), (3, 2, None));
}

#[test]
fn a_flipped_bit_anywhere_is_found_and_costs_at_most_what_it_hit() {
    let memory = whole();
    let mut cases = 0;
    for (path, bytes) in memory.files() {
        for at in borders(&path, &bytes) {
            let hurt = copy(&memory);
            let mut flipped = bytes.clone();
            flipped[at] ^= 0x10;
            hurt.overwrite(&path, flipped);
            let what = format!("{path} at {at}");
            cases += 1;
            let Some((_, after, scrubbed)) = live_through(&hurt, &what) else {
                assert_eq!(path, "store.cbor", "{what}: only a damaged description keeps a store from opening");
                continue;
            };
            if path.starts_with("segments/") {
                assert!(scrubbed.found >= 1, "{what} was not found");
                assert!(after >= 23, "{what}: one record at most is lost, {after} of 24 are left");
                heals(&hurt, &what);
            } else if path.starts_with("index/") {
                assert_eq!(after, 24, "{what}: the index is made again");
            } else {
                assert!(scrubbed.found >= 1, "{what} was not found");
                assert_eq!(after, 24, "{what}: no chunk is touched");
            }
        }
    }
    assert!(cases > 500, "{cases} cases");
}

/// The workstation, which still has what the latest point holds, backs up again; then the latest point is whole.
fn heals(hurt: &MemoryMedium, what: &str) {
    let store = Store::open(Arc::new(hurt.clone())).expect("opens");
    let lost = store.lost(100).expect("known");
    assert!(lost.chunks <= 1, "{what}: {lost:?}");
    assert_eq!(lost.names.len() as u64, lost.chunks);
    back_up_set(&store, &sets()[2]).unwrap_or_else(|e| panic!("{what}: {e}"));
    let after = store.lost(100).expect("known");
    assert!(!after.points.contains_key(&3) && !after.points.contains_key(&4), "{what}: {after:?}");
    assert_eq!(store.scrub(&mut None, &mut |_| true).expect("scrubbed").found, 0, "{what}");
}

#[test]
fn a_segment_cut_anywhere_loses_only_what_was_cut_off() {
    let memory = whole();
    for (path, bytes) in segments(&memory) {
        for at in borders(&path, &bytes) {
            let hurt = copy(&memory);
            hurt.overwrite(&path, bytes[..at].to_vec());
            let what = format!("{path} cut at {at}");
            let (_, after, scrubbed) = live_through(&hurt, &what).expect("opens");
            assert!(scrubbed.found >= 1, "{what} was not found");
            let records_before: usize = records_that_end_by(&bytes, at);
            let in_it = records_that_end_by(&bytes, bytes.len());
            assert_eq!(after, 24 - in_it + records_before, "{what}");
        }
    }
}

fn records_that_end_by(bytes: &[u8], end: usize) -> usize {
    let footer = u32::from_le_bytes(bytes[12..16].try_into().expect("four")) as usize;
    let (mut record, mut count) = (SEGMENT_HEAD, 0);
    while record < footer {
        record += 40 + u32::from_le_bytes(bytes[record..record + 4].try_into().expect("four")) as usize;
        count += usize::from(record <= end);
    }
    count
}

#[test]
fn a_removed_file_is_missed_where_anything_depends_on_it() {
    let memory = whole();
    for (path, _) in memory.files() {
        let hurt = copy(&memory);
        let store = Store::open(Arc::new(hurt.clone())).expect("opens");
        hurt.remove(&path).expect("removed");
        match path.split('/').next().expect("a part") {
            // The service holds the index open, and makes it again; which slots there were it has on record.
            "index" | "slots" => {
                assert_eq!(readable(&store), 24, "{path}");
            }
            "segments" => {
                let scrubbed = store.scrub(&mut None, &mut |_| true).expect("scrubbed");
                assert_eq!((scrubbed.found, &scrubbed.findings[0].wrong), (1, &Wrong::Missing), "{path}");
                let lost = store.lost(100).expect("known");
                assert!(lost.chunks > 0 && !lost.points.is_empty());
                let again = Store::open(Arc::new(hurt)).expect("opens");
                assert_eq!(again.lost(100).expect("known"), lost, "{path}: the same after a restart");
                back_up_set(&again, &sets()[2]).expect("and the next run brings what it still has");
                assert!(!again.lost(100).expect("known").points.contains_key(&4));
            }
            _ => {
                let scrubbed = store.scrub(&mut None, &mut |_| true).expect("scrubbed");
                assert_eq!((scrubbed.found, &scrubbed.findings[0].wrong), (1, &Wrong::Missing), "{path}");
            }
        }
    }
}

#[test]
fn swapped_segments_are_found_and_nothing_is_lost() {
    let memory = whole();
    let there = segments(&memory);
    memory.overwrite(&there[0].0, there[1].1.clone());
    memory.overwrite(&there[1].0, there[0].1.clone());
    let (_, after, scrubbed) = live_through(&memory, "swapped").expect("opens");
    assert_eq!((after, scrubbed.found), (24, 2));
    assert!(matches!(&scrubbed.findings[0].wrong, Wrong::Damaged(why) if why.contains("another segment")));
}

#[test]
fn alien_files_are_named_and_left_alone() {
    let memory = whole();
    for path in ["notes.txt", "points/1.point", "needs/x.needs", "slots/readme", "index/old", "segments/00/thumbs.db"] {
        memory.overwrite(path, b"not ours".to_vec());
    }
    memory.make_directory("segments/00").expect("made");
    let (_, _, scrubbed) = live_through(&memory, "alien").expect("opens");
    let aliens: BTreeMap<_, _> = scrubbed.findings.iter().map(|f| (f.path.as_str(), &f.wrong)).collect();
    assert_eq!(scrubbed.found, 6, "{:?}", scrubbed.findings);
    assert!(aliens.values().all(|wrong| **wrong == Wrong::Alien), "{aliens:?}");
    assert!(memory.files().contains_key("notes.txt"));
}

#[test]
fn an_index_from_an_earlier_time_is_brought_up_to_date() {
    let (memory, store) = store_of(&(0..40).map(|i| (i..i + 3).collect()).collect());
    drop(store);
    let old: Vec<_> = memory.files().into_iter().filter(|(path, _)| path.starts_with("index/")).collect();
    let store = Store::open(Arc::new(memory.clone())).expect("opens");
    (40..80).for_each(|i| back_up_set(&store, &(i..i + 3).collect()).expect("backed up"));
    drop(store);
    for path in memory.files().into_keys().filter(|path| path.starts_with("index/")) {
        memory.remove(&path).expect("removed");
    }
    old.into_iter().for_each(|(path, bytes)| memory.overwrite(&path, bytes));
    let store = Store::open(Arc::new(memory)).expect("opens");
    assert!((0..82).all(|chunk| store.chunk(&name_of(chunk)).is_ok()));
}

#[test]
fn what_was_set_aside_is_kept_as_it_was() {
    let memory = whole();
    let (path, mut bytes) = segments(&memory).remove(0);
    bytes[100] ^= 1;
    memory.overwrite(&path, bytes.clone());
    let store = Store::open(Arc::new(memory.clone())).expect("opens");
    store.scrub(&mut None, &mut |_| true).expect("scrubbed");
    let aside: Vec<_> = memory.files().into_iter().filter(|(path, _)| path.starts_with("damaged/")).collect();
    assert_eq!(aside.len(), 1);
    assert_eq!(aside[0].1, bytes);
    assert!(bytes.len() as u64 > EMPTY_SEGMENT);
    assert_eq!(store.used(), memory.files().values().map(|b| occupied(&memory, b.len() as u64)).sum::<u64>());
}

#[test]
fn what_lay_near_damage_is_known_by_what_was_set_aside_even_without_its_list() {
    for spoil_list in [false, true] {
        let memory = whole();
        let (path, mut bytes) = segments(&memory).remove(0);
        let mut scanner = SegmentScanner::new(STORE);
        scanner.push(&bytes).expect("sound");
        let (damaged, listed) = scanner.finish().expect("whole");
        let mut had: Vec<ChunkName> = listed.into_iter().map(|entry| entry.name).collect();
        had.sort_unstable();
        bytes[SEGMENT_HEAD + 50] ^= 1;
        if spoil_list {
            *bytes.last_mut().expect("some") ^= 1;
        }
        memory.overwrite(&path, bytes);
        let store = Store::open(Arc::new(memory)).expect("opens");
        assert!(store.damaged_segments().expect("listed").is_empty(), "nobody has looked");
        store.scrub(&mut None, &mut |_| true).expect("scrubbed");
        assert_eq!(store.damaged_segments().expect("listed"), [damaged]);
        let near = store.near_damage(&damaged).expect("read");
        assert!(near.is_sorted() && near.iter().all(|name| store.chunk(name).is_ok()));
        assert_eq!(near, had.iter().filter(|name| store.chunk(name).is_ok()).copied().collect::<Vec<_>>());
        assert_eq!(near.len(), had.len() - 1);
        // What comes anew is near damage as well: whoever had it thinks that it never went.
        back_up_set(&store, &(0..24).collect()).expect("backed up");
        assert_eq!(store.near_damage(&damaged).expect("read"), had);
    }
}
