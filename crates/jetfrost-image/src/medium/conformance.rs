//! What every medium must do, as small cases that each of them is held against.

use std::io::{ErrorKind, Write};
use std::sync::Arc;
use std::time::{Duration, Instant};

use super::{
    CrashMedium, DirectoryMedium, FailingMedium, Listed, Medium, MemoryMedium, OverlayMedium, STAGING, Staged, ThrottledMedium,
    publish_bytes, read_whole,
};

fn each_medium(case: impl Fn(Arc<dyn Medium>)) {
    let directory = tempfile::tempdir().expect("a temporary directory");
    let memory = || -> Arc<dyn Medium> { Arc::new(MemoryMedium::default()) };
    let media: [Arc<dyn Medium>; 6] = [
        memory(),
        Arc::new(CrashMedium::failing_after(u64::MAX)),
        Arc::new(DirectoryMedium::new(directory.path())),
        Arc::new(FailingMedium::new(memory())),
        Arc::new(ThrottledMedium::new(memory(), Duration::ZERO, u64::MAX)),
        Arc::new(OverlayMedium::new(memory(), memory())),
    ];
    for medium in media {
        medium.make_directory(STAGING).expect("made");
        medium.make_directory("points").expect("made");
        case(medium);
    }
}

#[test]
fn a_published_file_is_listed_and_reads_back() {
    each_medium(|medium| {
        publish_bytes(&medium, "points", "b", b"second").expect("published");
        publish_bytes(&medium, "points", "a", b"first").expect("published");
        let expected = [Listed { name: "a".into(), len: 5 }, Listed { name: "b".into(), len: 6 }];
        assert_eq!(medium.list("points").expect("listed"), expected);
        assert_eq!(read_whole(&*medium, "points/b", 100).expect("read"), b"second");
        assert_eq!(medium.list(STAGING).expect("listed"), []);
        let mut middle = [0; 3];
        medium.open("points/b").expect("open").read_exact_at(&mut middle, 2).expect("read");
        assert_eq!(&middle, b"con");
    });
}

#[test]
fn a_file_that_is_given_up_leaves_nothing() {
    each_medium(|medium| {
        let mut staged = Staged::begin(&medium).expect("begun");
        staged.write_all(b"half").expect("written");
        drop(staged);
        assert_eq!(medium.list(STAGING).expect("listed"), []);
    });
}

#[test]
fn what_is_not_there_is_not_found() {
    each_medium(|medium| {
        assert_eq!(medium.open("points/none").expect_err("none").kind(), ErrorKind::NotFound);
        assert_eq!(medium.remove("points/none").expect_err("none").kind(), ErrorKind::NotFound);
        assert_eq!(medium.list("nowhere").expect("no directory, no files"), []);
        assert_eq!(medium.create("nowhere/file").err().expect("no directory").kind(), ErrorKind::NotFound);
    });
}

#[test]
fn reading_past_the_end_and_reading_too_much_fail() {
    each_medium(|medium| {
        publish_bytes(&medium, "points", "a", b"first").expect("published");
        let file = medium.open("points/a").expect("open");
        assert_eq!(file.read_exact_at(&mut [0; 3], 3).expect_err("past the end").kind(), ErrorKind::UnexpectedEof);
        assert_eq!(read_whole(&*medium, "points/a", 4).expect_err("too long").kind(), ErrorKind::InvalidData);
    });
}

#[test]
fn directories_are_listed_and_can_be_made_twice() {
    each_medium(|medium| {
        medium.make_directory("points").expect("again");
        assert_eq!(medium.directories("").expect("listed"), ["points", STAGING]);
    });
}

#[test]
fn after_a_loss_of_power_only_what_was_published_is_there() {
    let crash = CrashMedium::failing_after(u64::MAX);
    let medium: Arc<dyn Medium> = Arc::new(crash.clone());
    medium.make_directory(STAGING).expect("made");
    medium.make_directory("points").expect("made");
    publish_bytes(&medium, "points", "kept", b"bytes").expect("published");
    let mut file = medium.create("staging/lost").expect("created");
    file.write_all(b"never synced").expect("written");
    medium.rename("staging/lost", "points/lost").expect("renamed");
    let survivor = crash.survivor_of_the_strict_kind();
    assert_eq!(survivor.list("points").expect("listed"), [Listed { name: "kept".into(), len: 5 }]);
}

#[test]
fn what_lies_below_an_overlay_stays_as_it_is() {
    let memory = MemoryMedium::default();
    let below: Arc<dyn Medium> = Arc::new(memory.clone());
    for directory in [STAGING, "points", "index"] {
        below.make_directory(directory).expect("made");
    }
    for name in ["a", "b", "c", "d"] {
        publish_bytes(&below, "points", name, name.as_bytes()).expect("published");
    }
    let before = memory.files();
    let over: Arc<dyn Medium> = Arc::new(OverlayMedium::new(below, Arc::new(MemoryMedium::default())));
    publish_bytes(&over, "points", "b", b"another").expect("published");
    over.remove("points/c").expect("removed");
    over.rename("points/d", "index/moved").expect("renamed");
    let names = |directory: &str| over.list(directory).expect("listed").into_iter().map(|l| l.name).collect::<Vec<_>>();
    assert_eq!((names("points"), names("index")), (vec!["a".to_owned(), "b".into()], vec!["moved".into()]));
    assert_eq!(read_whole(&*over, "points/b", 100).expect("read"), b"another");
    assert_eq!(read_whole(&*over, "index/moved", 100).expect("read"), b"d");
    assert_eq!(over.open("points/c").expect_err("gone").kind(), ErrorKind::NotFound);
    assert_eq!(over.remove("points/c").expect_err("gone").kind(), ErrorKind::NotFound);
    assert_eq!(memory.files(), before);
}

#[test]
fn a_throttled_medium_takes_its_time() {
    let delay = Duration::from_millis(3);
    let medium: Arc<dyn Medium> = Arc::new(ThrottledMedium::new(Arc::new(MemoryMedium::default()), delay, 1_000_000));
    medium.make_directory(STAGING).expect("made");
    let began = Instant::now();
    publish_bytes(&medium, "", "file", &[7; 10_000]).expect("published");
    read_whole(&*medium, "file", 20_000).expect("read");
    // 20,000 bytes at a megabyte a second, and some calls: less would mean that nothing is throttled.
    assert!(began.elapsed() >= Duration::from_millis(20) + 2 * delay);
}
