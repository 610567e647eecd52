//! Full and failing disks: nothing that was acknowledged is lost, and what can be done without room is done.

use std::collections::BTreeMap;
use std::io::ErrorKind;

use super::expiring::{Sets, assert_points, back_up_set, numbered};
use super::*;
use crate::medium::{Failing, FailingMedium};

fn sets() -> Sets {
    vec![(0..20).collect(), (10..30).collect(), (20..40).collect(), (30..50).collect()]
}

fn open_store(sets: &Sets) -> (FailingMedium, Store) {
    let medium = FailingMedium::new(Arc::new(MemoryMedium::default()));
    let store = Store::create(Arc::new(medium.clone()), &StoreFile::new(STORE, 0)).expect("created");
    sets.iter().for_each(|set| back_up_set(&store, set).expect("backed up"));
    (medium, store)
}

fn is(error: &StoreError, kind: ErrorKind) -> bool {
    matches!(error, StoreError::Medium { source, .. } if source.kind() == kind)
}

#[test]
fn a_disk_that_fills_up_at_any_write_of_a_backup_costs_that_point_only() {
    let mut spare = 0;
    loop {
        let (medium, store) = open_store(&sets());
        medium.fail(Failing::Writes, "", ErrorKind::StorageFull, spare);
        let backed_up = back_up_set(&store, &(40..60).collect());
        medium.recover();
        let mut expected = numbered(&sets());
        if backed_up.is_ok() {
            expected.insert(5, (40..60).collect());
        }
        let failed = backed_up.is_err();
        if let Err(error) = backed_up {
            assert!(is(&error, ErrorKind::StorageFull), "{error}");
        }
        // A point whose file got its name may be there although its last step failed.
        if failed && store.points().len() == 5 {
            expected.insert(5, (40..60).collect());
        }
        assert_points(&store, &expected);
        let again = Store::open(Arc::new(medium.clone())).expect("opens");
        back_up_set(&again, &(45..65).collect()).expect("and it goes on once there is room");
        if !failed {
            break;
        }
        spare += 1;
    }
    assert!(spare > 10, "{spare} writes");
}

#[test]
fn a_full_disk_lets_go_all_the_same() {
    let (medium, store) = open_store(&sets());
    // Nothing can be written: points, and segments in which nothing is needed, are removed nevertheless.
    medium.fail(Failing::Writes, STAGING, ErrorKind::StorageFull, 0);
    store.expire(&BTreeSet::from([1, 2])).expect("removing takes no room");
    let before = store.used();
    let compacted = store.compact(&Compaction { most_dead_percent: 0, drop_unfinished: false }, &mut |_| true);
    assert!(compacted.is_err_and(|error| is(&error, ErrorKind::StorageFull)), "the rest waits for room");
    assert!(store.used() < before, "and there is some now");
    medium.recover();
    store.compact(&Compaction { most_dead_percent: 0, drop_unfinished: false }, &mut |_| true).expect("compacted");
    let expected: BTreeMap<_, _> = numbered(&sets()).split_off(&3);
    assert_points(&store, &expected);
}

#[test]
fn a_disk_that_cannot_be_read_is_not_taken_for_damage() {
    let (medium, store) = open_store(&sets());
    medium.fail(Failing::Reads, "segments/", ErrorKind::Other, 3);
    let scrubbed = store.scrub(&mut None, &mut |_| true);
    assert!(scrubbed.is_err_and(|error| is(&error, ErrorKind::Other)));
    assert!(medium.list("damaged").expect("listed").is_empty(), "nothing was set aside");
    medium.fail(Failing::Reads, "needs/", ErrorKind::Other, 2);
    store.expire(&BTreeSet::from([1])).expect("gone");
    assert!(store.compact(&Compaction::default(), &mut |_| true).is_err(), "what is needed cannot be told: nothing is removed");
    medium.recover();
    assert_points(&store, &numbered(&sets()).split_off(&2));
}
