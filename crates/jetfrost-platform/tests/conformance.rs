//! What every system's implementation has to do. The calls of one system are in none of these tests, but for the other end of a socket.

use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, ErrorKind};
use std::net::TcpListener;
use std::path::Path;
use std::time::Duration;

use jetfrost_platform::{
    Accounts, Devices, Directory, ExtendedAttributes, FileContent, FileKind, Listening, LocalListener, LocalSockets, Machine,
    Metadata, MetadataTarget, NewDirectory, Node, OpenDirectory, Opening, Paths, Restored, Special, Stretch, System, Time,
    Volumes, make_link, make_special, name_bytes, path_bytes, path_of, reason,
};
use proptest::prelude::*;
use tempfile::TempDir;

const KIB: u64 = 1 << 10;

fn directory() -> TempDir {
    // Where the project lies: a volume of files, whatever holds the temporary ones.
    tempfile::tempdir_in(".").expect("a directory")
}

/// Opens a directory by its path, component by component.
fn opened(path: &Path) -> Directory {
    let real = fs::canonicalize(path).expect("there");
    let names = real.components().skip(1);
    names.fold(Directory::root().expect("opens"), |at, name| at.open_directory(name_bytes(name.as_os_str())).expect("opens"))
}

/// Holds what has a path.
fn node(path: &Path) -> Node {
    opened(path.parent().expect("a parent")).node(name_bytes(path.file_name().expect("a name"))).expect("there")
}

fn found(path: &Path) -> Metadata {
    System::metadata_of(path).expect("there")
}

// Directories.

#[test]
fn names_come_ascending_by_their_bytes_and_are_only_those_in_the_directory() {
    let at = directory();
    for name in ["b", "a", "B", "10", "9", ".hidden"] {
        fs::write(at.path().join(name), "").expect("written");
    }
    fs::create_dir(at.path().join("a folder")).expect("made");
    let names = opened(at.path()).names().expect("listed");
    assert_eq!(names, [&b".hidden"[..], b"10", b"9", b"B", b"a", b"a folder", b"b"]);
}

#[test]
fn the_root_and_whatever_is_only_held_can_be_listed() {
    let root = Directory::root().expect("opens");
    let names = root.names().expect("listed");
    assert!(names.iter().any(|name| name == b"etc"), "{names:?}");
    assert_eq!(Directory::held(Path::new("/")).and_then(|root| root.names()).expect("listed"), names);
    let at = directory();
    fs::write(at.path().join("letter"), "").expect("written");
    let held = Directory::held(&at.path().canonicalize().expect("there")).expect("held");
    assert_eq!(held.names().expect("listed"), [b"letter"]);
}

#[test]
fn a_directory_is_read_anew_each_time() {
    let at = directory();
    let open = opened(at.path());
    assert_eq!(open.names().expect("listed").len(), 0);
    fs::write(at.path().join("later"), "").expect("written");
    assert_eq!(open.names().expect("listed").len(), 1);
    assert_eq!(open.names().expect("listed").len(), 1, "and once more from its beginning");
}

#[test]
fn what_is_in_an_open_directory_is_read_though_something_else_has_its_path_by_now() {
    let at = directory();
    let (real, elsewhere) = (at.path().join("real"), at.path().join("elsewhere"));
    fs::create_dir_all(real.join("inner")).expect("made");
    fs::create_dir(&elsewhere).expect("made");
    fs::write(real.join("letter"), "ours").expect("written");
    fs::write(elsewhere.join("letter"), "a trap").expect("written");
    let open = opened(&real);
    fs::rename(&real, at.path().join("moved")).expect("moved");
    make_link(&elsewhere, &real).expect("made");
    let letter = open.open_file(b"letter").expect("opens");
    assert_eq!(io::read_to_string(letter).expect("read"), "ours");
    assert_eq!(open.metadata_of(b"letter").expect("there").size, 4);
    assert!(open.open_directory(b"inner").is_ok());
    assert_eq!(fs::read_to_string(open.path_to(b"letter").expect("a name")).expect("read"), "ours");
    assert_eq!(open.node(b"letter").and_then(|node| node.metadata()).expect("held").size, 4);
    assert_eq!(open.path_to(b"inner/letter").expect_err("two names").kind(), ErrorKind::InvalidInput);
    let real = fs::canonicalize(at.path()).expect("there").join("real");
    assert_eq!(Directory::held(&real).expect_err("a link").kind(), ErrorKind::NotADirectory);
    assert_eq!(Directory::at(&real.join("inner")).expect_err("through a link").kind(), ErrorKind::NotADirectory);
    let value = Restored::Node(&node(&at.path().join("moved/letter"))).set_attribute(b"user.note", b"ours");
    if value.is_ok() {
        assert_eq!(open.named(b"letter").attribute(b"user.note").expect("read").as_deref(), Some(&b"ours"[..]));
    }
}

#[test]
fn links_are_not_followed_but_where_that_is_asked_for() {
    let at = directory();
    fs::create_dir(at.path().join("folder")).expect("made");
    fs::write(at.path().join("file"), "four").expect("written");
    for (target, link) in [("folder", "to folder"), ("file", "to file"), ("nowhere", "dangling")] {
        make_link(Path::new(target), &at.path().join(link)).expect("made");
    }
    let open = opened(at.path());
    assert!(open.open_directory(b"to folder").is_err() && open.open_file(b"to file").is_err());
    assert_eq!(open.metadata_of(b"to file").expect("there").kind, Some(FileKind::Symlink));
    assert_eq!(open.metadata_behind(b"to file").expect("there").size, 4);
    assert_eq!(open.metadata_behind(b"dangling").expect_err("nothing").kind(), ErrorKind::NotFound);
    assert_eq!(open.link_target(b"dangling").expect("a link"), b"nowhere");
    assert!(open.link_target(b"file").is_err());
    assert_eq!(io::read_to_string(open.open_disk(b"to file").expect("a disk's lasting name")).expect("read"), "four");
    assert_eq!(System::metadata_of(&at.path().join("to file")).expect("there").kind, Some(FileKind::Symlink));
    assert_eq!(System::metadata_behind(&at.path().join("to file")).expect("there").kind, Some(FileKind::File));
}

#[test]
fn a_name_is_one_component_and_what_is_not_there_is_not_found() {
    let at = directory();
    fs::create_dir(at.path().join("folder")).expect("made");
    fs::write(at.path().join("folder/file"), "").expect("written");
    let open = opened(at.path());
    for name in [&b"folder/file"[..], b"folder/../folder", b"fol\0der"] {
        assert!(open.metadata_of(name).is_err() && open.open_file(name).is_err(), "{name:?}");
    }
    assert_eq!(open.metadata_of(b"gone").expect_err("gone").kind(), ErrorKind::NotFound);
    assert_eq!(open.open_file(b"gone").expect_err("gone").kind(), ErrorKind::NotFound);
    assert!(open.open_directory(b"gone").is_err());
}

#[test]
fn a_pipe_that_nobody_writes_to_does_not_stop_whoever_opens_it() {
    let at = directory();
    make_special(&at.path().join("pipe"), Special { kind: FileKind::Fifo, target: None, device: None }).expect("made");
    let open = opened(at.path());
    let pipe = open.open_file(b"pipe").expect("opens at once");
    assert_eq!(pipe.metadata_now().expect("there").kind, Some(FileKind::Fifo));
}

// Metadata.

#[test]
fn all_names_of_a_file_have_one_number_and_two_files_have_two() {
    let at = directory();
    let path = |name: &str| at.path().join(name);
    fs::write(path("one"), "1").expect("written");
    fs::write(path("two"), "2").expect("written");
    fs::hard_link(path("one"), path("another name")).expect("linked");
    let (one, other, two) = (found(&path("one")), found(&path("another name")), found(&path("two")));
    assert_eq!((one.volume, one.file, one.links), (other.volume, other.file, 2));
    assert!(one.file != two.file && two.links == 1);
    assert_eq!(opened(at.path()).metadata().expect("there").volume, one.volume);
}

#[test]
fn a_file_that_was_changed_and_given_its_old_time_again_shows_that_it_was() {
    let at = directory();
    let path = at.path().join("file");
    fs::write(&path, "before").expect("written");
    let time = Time { seconds: 1_000_000_000, nanos: 5 };
    Restored::Node(&node(&path)).set_modified(time).expect("set");
    let before = found(&path);
    // The clock of a file system moves in steps: changed until it has.
    let after = loop {
        fs::write(&path, "after!").expect("written");
        Restored::Node(&node(&path)).set_modified(time).expect("set");
        let after = found(&path);
        if after.changed != before.changed {
            break after;
        }
    };
    assert_eq!((after.size, after.modified), (before.size, before.modified));
    assert!(after.changed.as_nanos() > before.changed.as_nanos());
}

#[test]
fn times_before_1970_and_parts_of_a_second_come_back() {
    let at = directory();
    let path = at.path().join("file");
    fs::write(&path, "").expect("written");
    for time in [Time { seconds: -14_182_940, nanos: 500_000_000 }, Time { seconds: 2_147_483_649, nanos: 8_000 }] {
        Restored::Node(&node(&path)).set_modified(time).expect("set");
        assert_eq!(found(&path).modified, time);
    }
    assert_eq!(Time { seconds: -1, nanos: 1 }.as_nanos(), -999_999_999);
}

// Content.

/// A file of 64 KiB units, of which some are holes.
fn file_of(at: &Path, units: &[bool]) -> (File, u64) {
    let unit = 64 * KIB;
    let file = OpenOptions::new().read(true).write(true).create_new(true).open(at.join("sparse")).expect("made");
    let size = units.len() as u64 * unit;
    file.set_len(size).expect("longer");
    for (number, _) in (0_u64..).zip(units).filter(|(_, is_data)| **is_data) {
        file.write_at_offset(&[7; 64 << 10], number * unit).expect("written");
    }
    (file, size)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn stretches_have_no_gaps_and_nothing_that_was_written_lies_in_a_hole(units in proptest::collection::vec(any::<bool>(), 0..20)) {
        let at = directory();
        let (file, size) = file_of(at.path(), &units);
        let mut end = 0;
        for stretch in file.stretches(size).expect("mapped") {
            let (range, is_data) = match stretch {
                Stretch::Data(range) => (range, true),
                Stretch::Hole(range) => (range, false),
            };
            prop_assert!(range.start == end && range.end > range.start);
            end = range.end;
            if !is_data {
                let first = usize::try_from(range.start.div_ceil(64 * KIB)).expect("small");
                let last = usize::try_from(range.end / (64 * KIB)).expect("small");
                prop_assert!(range.start % (64 * KIB) == 0 && units[first..last].iter().all(|is_data| !is_data));
            }
        }
        prop_assert_eq!(end, size);
        let first = file.next_data(0).expect("asked");
        let written = units.iter().position(|is_data| *is_data).map(|unit| unit as u64 * 64 * KIB);
        prop_assert!(written.is_none_or(|written| first.is_some_and(|first| first <= written)));
    }

    #[test]
    fn a_path_of_any_bytes_is_kept_as_it_is(bytes in proptest::collection::vec(1_u8.., 1..200)) {
        let path = path_of(&bytes);
        prop_assert_eq!(path_bytes(&path), &bytes[..]);
    }
}

#[test]
fn a_hole_reads_as_zeros_and_takes_no_space() {
    let at = directory();
    let (file, size) = file_of(at.path(), &[true; 16]);
    file.sync_all().expect("on the volume");
    let before = file.metadata_now().expect("there").allocated;
    file.punch_hole(64 * KIB..15 * 64 * KIB).expect("punched");
    file.sync_all().expect("on the volume");
    let after = file.metadata_now().expect("there");
    assert!(after.allocated < before && after.size == size);
    let mut bytes = vec![1; 128 << 10];
    file.read_all_at(&mut bytes, 0).expect("read");
    assert!(bytes[..64 << 10].iter().all(|byte| *byte == 7) && bytes[64 << 10..].iter().all(|byte| *byte == 0));
    file.forget_cached();
    file.read_all_at(&mut bytes, size - (64 * KIB)).expect_err("more than is there");
}

#[test]
fn reading_at_an_offset_gives_what_there_is_and_nothing_at_the_end() {
    let at = directory();
    fs::write(at.path().join("file"), "0123456789").expect("written");
    let file = File::open(at.path().join("file")).expect("opens");
    let mut buffer = [0; 4];
    assert_eq!((file.read_some_at(&mut buffer, 2).expect("read"), &buffer), (4, b"2345"));
    assert_eq!(file.read_some_at(&mut buffer, 10).expect("read"), 0);
    assert_eq!(file.read_all_at(&mut buffer, 8).expect_err("two bytes").kind(), ErrorKind::UnexpectedEof);
    file.read_all_at(&mut buffer, 0).expect("no reading moved another");
    assert_eq!(&buffer, b"0123");
}

#[test]
fn a_file_that_is_opened_again_is_the_same_whatever_has_its_name() {
    let at = directory();
    let path = at.path().join("file");
    let first = OpenOptions::new().write(true).create_new(true).open(&path).expect("made");
    fs::rename(&path, at.path().join("moved")).expect("moved");
    fs::write(&path, "somebody else's").expect("written");
    first.open_again_for_writing().expect("opens").write_at_offset(b"ours", 0).expect("written");
    assert_eq!(fs::read_to_string(at.path().join("moved")).expect("read"), "ours");
    assert_eq!(fs::read_to_string(&path).expect("read"), "somebody else's");
}

// Privacy.

#[test]
fn what_is_made_private_is_for_its_owner_alone() {
    let at = directory();
    let (file, folder) = (at.path().join("file"), at.path().join("folder"));
    OpenOptions::new().write(true).create_new(true).private().open(&file).expect("made");
    DirBuilder::new().private().create(&folder).expect("made");
    assert_eq!((found(&file).mode & 0o077, found(&folder).mode & 0o077), (0, 0));
    assert_eq!((found(&file).mode & 0o600, found(&folder).mode & 0o700), (0o600, 0o700));
}

#[test]
fn a_link_at_a_name_that_may_be_none_is_refused() {
    let at = directory();
    fs::write(at.path().join("target"), "").expect("written");
    make_link(Path::new("target"), &at.path().join("link")).expect("made");
    let open = |name: &str| OpenOptions::new().append(true).create(true).no_link().open(at.path().join(name));
    assert!(open("link").is_err() && open("target").is_ok() && open("new").is_ok());
}

#[test]
fn a_private_socket_takes_its_owner_and_no_name_is_taken_from_anybody() {
    let at = directory();
    let path = at.path().join("socket");
    let listener = LocalListener::private(&path).expect("made");
    assert_eq!((found(&path).kind, found(&path).mode & 0o077), (Some(FileKind::Socket), 0));
    assert!(!listener.wait(Duration::ZERO).expect("asked"), "nobody");
    assert_eq!(listener.accept().expect_err("nobody").kind(), ErrorKind::WouldBlock);
    let _somebody = std::os::unix::net::UnixStream::connect(&path).expect("connects");
    assert!(listener.wait(Duration::from_secs(60)).expect("asked") && listener.accept().is_ok());
    assert_eq!(LocalListener::private(&path).expect_err("taken").kind(), ErrorKind::AlreadyExists);
    assert_eq!(opened(at.path()).names().expect("listed"), [b"socket"], "nothing stays from the making");
}

#[test]
fn waiting_for_a_connection_ends_when_somebody_connects() {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    assert!(!listener.wait(Duration::ZERO).expect("asked"));
    let _somebody = std::net::TcpStream::connect(listener.local_addr().expect("an address")).expect("connects");
    assert!(listener.wait(Duration::from_secs(60)).expect("asked"));
}

// What is restored.

#[test]
fn permissions_owner_and_time_come_back_on_an_open_file_and_on_one_that_is_held() {
    let at = directory();
    let path = at.path().join("file");
    let file = OpenOptions::new().write(true).create_new(true).private().open(&path).expect("made");
    let (uid, gid) = System::own_ids();
    let node = node(&path);
    for (target, mode, seconds) in [(Restored::File(&file), 0o4751, 1_000), (Restored::Node(&node), 0o640, 2_000)] {
        let time = Time { seconds, nanos: 123_456_789 };
        target.set_owner(uid, gid).expect("set");
        target.set_mode(mode).expect("set");
        target.set_modified(time).expect("set");
        let found = found(&path);
        assert_eq!((found.uid, found.gid, found.mode, found.modified), (uid, gid, mode, time));
    }
}

#[test]
fn a_link_is_given_what_is_its_own_and_its_target_stays_as_it_was() {
    let at = directory();
    let (file, link) = (at.path().join("file"), at.path().join("link"));
    fs::write(&file, "").expect("written");
    let before = found(&file);
    make_special(&link, Special { kind: FileKind::Symlink, target: Some(b"file"), device: None }).expect("made");
    Restored::Node(&node(&link)).set_modified(Time { seconds: 77, nanos: 0 }).expect("set");
    let (uid, gid) = System::own_ids();
    Restored::Node(&node(&link)).set_owner(uid, gid).expect("set");
    assert_eq!(found(&link).modified.seconds, 77);
    assert_eq!(found(&file), before);
}

#[test]
fn attributes_come_back_on_a_file_and_are_none_where_there_are_none() {
    let at = directory();
    let path = at.path().join("file");
    fs::write(&path, "").expect("written");
    let (open, file) = (opened(at.path()), File::open(&path).expect("opens"));
    assert_eq!(file.attribute(b"user.note").expect("asked"), None);
    match Restored::Node(&node(&path)).set_attribute(b"user.note", b"\0\xff") {
        Ok(()) => {
            for names in [open.named(b"file").attribute_names(), file.attribute_names()] {
                assert!(names.expect("listed").contains(&b"user.note".to_vec()));
            }
            for value in [open.named(b"file").attribute(b"user.note"), file.attribute(b"user.note")] {
                assert_eq!(value.expect("read").as_deref(), Some(&b"\0\xff"[..]));
            }
        }
        Err(error) => {
            assert_eq!(error.kind(), ErrorKind::Unsupported, "{error}");
            assert_eq!(file.attribute_names().expect("none"), Vec::<Vec<u8>>::new());
        }
    }
    assert!(open.itself().attribute_names().is_ok());
    let too_long = Restored::Node(&node(&path)).set_attribute(b"user.long", &vec![7; 1 << 20]);
    assert!(matches!(too_long.expect_err("a mebibyte").kind(), ErrorKind::Unsupported | ErrorKind::InvalidInput));
}

#[test]
fn what_has_no_content_is_made_and_what_has_some_or_lacks_its_number_is_refused() {
    let at = directory();
    let special = |kind, target, device| Special { kind, target, device };
    for (name, kind) in [("pipe", FileKind::Fifo), ("socket", FileKind::Socket)] {
        make_special(&at.path().join(name), special(kind, None, None)).expect("made");
        assert_eq!(found(&at.path().join(name)).kind, Some(kind));
    }
    let target: &[u8] = b"\xff odd \n";
    make_special(&at.path().join("link"), special(FileKind::Symlink, Some(target), None)).expect("made");
    assert_eq!(opened(at.path()).link_target(b"link").expect("a link"), target);
    for kind in [FileKind::File, FileKind::Directory, FileKind::Symlink, FileKind::CharDevice, FileKind::BlockDevice] {
        let refused = make_special(&at.path().join("refused"), special(kind, None, None)).expect_err("lacks something");
        assert_eq!(refused.kind(), ErrorKind::InvalidInput, "{kind:?}");
    }
    let made = make_special(&at.path().join("null"), special(FileKind::CharDevice, None, Some((1, 3))));
    assert_eq!(made.is_ok(), System::is_administrator(), "only an administrator makes devices");
    if made.is_ok() {
        let null = found(&at.path().join("null"));
        assert_eq!((null.kind, null.device), (Some(FileKind::CharDevice), Some((1, 3))));
    }
}

// The machine.

#[test]
fn accounts_have_names_and_names_their_accounts() {
    let (uid, gid) = System::own_ids();
    if let Some(name) = System::user_name(uid) {
        assert_eq!(System::user_id(&name), Some(uid));
    }
    if let Some(name) = System::group_name(gid) {
        assert_eq!(System::group_id(&name), Some(gid));
    }
    assert_eq!((System::user_id("nobody has this name"), System::group_id("nobody has this name")), (None, None));
}

#[test]
fn the_machine_says_what_it_is_and_the_same_each_time() {
    assert!(System::host_name().is_some_and(|name| !name.is_empty()));
    assert!(!System::operating_system().is_empty());
    assert_eq!(System::boot(), System::boot());
    assert!(System::page_size().is_some_and(usize::is_power_of_two));
    assert_eq!(System::interface_number("no interface"), None);
    assert!(System::is_running(std::process::id()));
    assert!(!System::is_running(u32::MAX));
}

#[test]
fn a_volume_is_as_large_as_what_is_free_of_it_or_larger() {
    let at = directory();
    let (size, free) = System::size_and_free(at.path()).expect("measured");
    assert!(size >= free && free > 0);
    assert!(System::size_and_free(&at.path().join("gone")).is_err());
    let _either = System::gains_past_cache(at.path());
}

#[test]
fn a_device_that_is_not_there_is_not_mounted() {
    assert!(!System::is_mounted_for_writing((4095, 1_048_575)).expect("asked"));
}

#[test]
fn an_error_is_said_in_words_without_its_number() {
    let error = fs::read("nowhere at all").expect_err("not there");
    let said = reason(&error);
    assert!(!said.is_empty() && !said.contains("os error"), "{said}");
    assert_eq!(reason(&io::Error::other("as it was put")), "as it was put");
}
