//! What a point was committed with is never written over, by whoever holds a device credential.

use super::*;

/// The attack: an upload of needs begins before an honest commit of the same number and ends after it.
#[test]
fn needs_that_were_begun_before_a_commit_do_not_replace_those_of_the_committed_point() {
    let (_, store) = store_with(1);
    let workstation = Workstation::new();
    let forged = encode_needs(STORE, 2, 0, &[ChunkName([9; 32])], &[]);
    let mut late = store.receive_needs(2).expect("begun in time");
    late.push(&forged).expect("well-formed");
    let check = send_needs(&store, 2, 1, &[]).expect("received");
    let (names, previous) = ([workstation.keys.name(&content(1))], Some(store.point_head(1).expect("readable").id));
    store.commit_point(&workstation.point(2, previous, &names, check), 0).expect("committed");
    assert!(matches!(late.finish(), Err(StoreError::OutOfOrder { expected: 3, found: 2 })));
    assert_eq!(store.scan_needs(2, |_, _| Ok(())).expect("readable").check, check);
}

#[test]
fn a_point_is_committed_only_with_the_needs_that_it_names() {
    let (_, store) = store_with(1);
    let workstation = Workstation::new();
    let previous = Some(store.point_head(1).expect("readable").id);
    let there = workstation.keys.name(&content(1));
    let check = send_needs(&store, 2, 1, &[]).expect("received");
    // The same set said in another way: number and XOR are the same, the file is not the one that was sealed in.
    send_needs(&store, 2, 0, &[there]).expect("received");
    let refused = store.commit_point(&workstation.point(2, previous, &[there], check), 0);
    assert!(matches!(refused, Err(StoreError::Needs("the point names another needs file"))));
}

/// Count and XOR are no evidence against somebody who can choose names: these four cancel each other out.
#[test]
fn needs_of_the_same_number_and_xor_are_not_taken_for_those_that_were_committed() {
    let (memory, store) = store_with(4);
    let mut others: Vec<ChunkName> = (1..=3).map(|n| ChunkName([n; 32])).collect();
    let head = store.point_head(4).expect("readable");
    let xor = others.iter().fold(head.needed_xor, |xor, name| std::array::from_fn(|i| xor[i] ^ name.0[i]));
    others.push(ChunkName(xor));
    others.sort_unstable();
    let path = format!("{}/{}", layout::NEEDS, layout::needs(4));
    memory.overwrite(&path, encode_needs(STORE, 4, 0, &others, &[]));
    let files = memory.files();
    assert!(matches!(store.compact(&Compaction::default(), &mut |_| true), Err(StoreError::Needs(_))));
    assert_eq!(memory.files(), files, "nothing goes by what is not what was committed");
}

#[test]
fn a_point_file_in_the_place_of_another_is_not_taken_for_it() {
    let (memory, store) = store_with(3);
    let (second, third) = [2, 3].map(|n| format!("{}/{}", layout::POINTS, layout::point(n))).into();
    let files = memory.files();
    memory.overwrite(&third, files[&second].clone());
    assert!(matches!(store.point_head(3), Err(StoreError::OtherPoint(3))));
    let found = store.scrub(&mut None, &mut |_| true).expect("scrubbed").findings;
    assert!(found.iter().any(|finding| finding.path == third), "{found:?}");
    memory.remove(&third).expect("removed");
    let again = Store::open(Arc::new(memory)).expect("opens");
    assert!(matches!(again.point_head(3), Err(StoreError::PointLost(3))));
    assert_eq!(again.lost_points().expect("listed"), BTreeSet::from([3]));
}

#[test]
fn the_same_segment_sent_twice_at_once_counts_once() {
    let store = Store::create(Arc::new(MemoryMedium::default()), &StoreFile::new(STORE, 0)).expect("created");
    let (segment, _) = Workstation::new().segment(&[b"the same"]);
    let before = store.used();
    let uploads: Vec<_> = (0..6).map(|_| store.receive_segment(segment.hash).expect("begun").expect("not here yet")).collect();
    for mut upload in uploads {
        upload.push(&segment.bytes).expect("sound");
        upload.finish().expect("finished");
    }
    assert_eq!(store.used(), before + 4096);
}

#[test]
fn needs_sent_many_times_at_once_are_counted_once_and_never_below_nothing() {
    let (_, store) = store_with(1);
    let before = store.used();
    let bytes = encode_needs(STORE, 2, 1, &[], &[]);
    let uploads: Vec<_> = (0..8).map(|_| store.receive_needs(2).expect("begun")).collect();
    for mut upload in uploads {
        upload.push(&bytes).expect("sound");
        upload.finish().expect("finished");
    }
    assert_eq!(store.used(), before + 4096);
}

#[test]
fn a_commit_is_on_record_with_the_time_of_the_service_and_not_of_the_workstation() {
    let (memory, store) = store_with(2);
    let receipt = store.receipt(2).expect("readable").expect("there");
    assert_eq!((receipt.committed, store.point_head(2).expect("readable").created), (at(2), 0));
    let path = format!("{}/{}", layout::RECEIPTS, layout::receipt(2));
    memory.remove(&path).expect("removed");
    let again = Store::open(Arc::new(memory)).expect("opens");
    assert_eq!(again.without_receipt().expect("listed"), [2]);
    again.give_receipt(2, 77).expect("given");
    assert_eq!(again.receipt(2).expect("readable").expect("there").committed, 77);
}
