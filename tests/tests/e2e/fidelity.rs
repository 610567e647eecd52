//! What is restored equals what was backed up, as system tools see it.

use std::fs;
use std::fs::File;
use std::io::{Seek, SeekFrom, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::process::Command;

use jetfrost_client::ClientError;
use jetfrost_client::browse::At;
use jetfrost_client::restore::{OnConflict, Rights, Target, Trouble, Wish};
use jetfrost_image::crypto::{Random, SeededRandom};
use jetfrost_tests::mounted::Mounted;
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_tests::witness::{data_map, listing};

fn office() -> (Office, Workstation) {
    let office = Office::open();
    office.destination("shelf");
    let workstation = office.workstation("knot");
    (office, workstation)
}

/// Runs a command that prepares the tree; false when this machine does not allow it.
fn shell(tree: &Path, script: &str) -> bool {
    Command::new("bash").args(["-ec", script]).current_dir(tree).output().expect("bash runs").status.success()
}

/// A tree with everything that a tree can have, as far as this machine allows.
fn make_everything(tree: &Path) {
    fs::write(tree.join(std::ffi::OsStr::from_bytes(b"not utf-8 \xff\xfe\n.txt")), "odd name").expect("written");
    fs::write(tree.join("empty file"), "").expect("written");
    let noise: Vec<u8> = (0..3_000_000_u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    fs::write(tree.join("large"), &noise).expect("written");
    let plain = "
        mkdir -p 'empty folder' deep/er/and/deeper private && echo x > private/key && chmod 700 private && chmod 0600 private/key
        ln -s large link; ln -s /nowhere/at/all dangling; ln -s $'odd \\xff' oddlink
        echo one > first; ln first second; ln first deep/third
        mkfifo -m 0640 pipe
        chmod 4711 large; chmod 1777 deep; chmod 0000 'empty file'
        setfattr -n user.note -v 'surveyed' large; setfattr -n user.bytes -v 0x00ff00 deep
        setfacl -m u:12345:rw first; setfacl -d -m g:54321:rx deep/er
        touch -h -d '1999-12-31 23:59:59.123456789' link; touch -d '1969-07-20 20:17:40.5' first
        touch -d '2038-01-19 03:14:08.000000001' large; touch -d '2001-02-03 04:05:06.7' 'empty folder'";
    assert!(shell(tree, plain), "the tree could not be made: are attr and acl installed?");
    if nix::unistd::geteuid().is_root() {
        assert!(shell(tree, "chown 1234:4321 first; chown -h 99:98 link; mknod null c 1 3; mknod disk b 7 200; chmod 0620 disk"));
    }
    assert!(shell(tree, "python3 -c \"import socket; socket.socket(socket.AF_UNIX).bind('socket')\""));
}

#[test]
fn a_tree_with_everything_comes_back_as_it_was() {
    let (office, workstation) = office();
    make_everything(&workstation.folder);
    let before = listing(&workstation.folder);
    let report = workstation.back_up().expect("backed up");
    assert_eq!(report.exceptions.total(), 0, "{:?}", report.listed);
    let back = office.path("back");
    let report = workstation.restore_all(&back).expect("restored");
    assert!(report.troubles.is_empty(), "{:?}", report.troubles);
    assert_eq!(listing(&workstation.restored(&back)), before);
    assert_eq!(listing(&workstation.folder), before, "the source was not touched");
}

#[test]
fn holes_stay_holes() {
    let (office, workstation) = office();
    let path = workstation.folder.join("sparse");
    let mut file = File::create(&path).expect("made");
    for at in [8 << 20, 40 << 20] {
        file.seek(SeekFrom::Start(at)).expect("sought");
        file.write_all(&[9; 10_000]).expect("written");
    }
    file.set_len(100 << 20).expect("extended");
    drop(file);
    File::create(workstation.folder.join("nothing but a hole")).and_then(|f| f.set_len(50 << 20)).expect("made");
    let report = workstation.back_up().expect("backed up");
    assert!(report.sent < 100_000, "{} bytes were sent for 20,000", report.sent);
    let back = office.path("back");
    workstation.restore_all(&back).expect("restored");
    for name in ["sparse", "nothing but a hole"] {
        assert_eq!(data_map(&workstation.restored(&back).join(name)), data_map(&workstation.folder.join(name)), "{name}");
    }
    assert_eq!(listing(&workstation.restored(&back)), listing(&workstation.folder));
}

#[test]
fn each_point_holds_its_own_state() {
    let (office, workstation) = office();
    for i in 0..40 {
        workstation.write(&format!("folder {}/file {i}", i % 5), format!("first {i}"));
    }
    workstation.back_up().expect("backed up");
    let first = listing(&workstation.folder);
    workstation.write("folder 1/file 1", "second");
    workstation.write("folder 9/new", "new");
    fs::remove_file(workstation.folder.join("folder 2/file 2")).expect("removed");
    fs::rename(workstation.folder.join("folder 3"), workstation.folder.join("folder 0/moved")).expect("renamed");
    let report = workstation.back_up().expect("backed up");
    assert!(report.sent < 20_000, "only what changed was sent: {}", report.sent);
    let second = listing(&workstation.folder);
    for (at, expected) in [(At::Sequence(1), first), (At::Sequence(2), second)] {
        let back = office.path(&format!("back {at:?}"));
        workstation.restore(&at, &Wish::everything(back.clone()).rights(Rights::Keep)).expect("restored");
        assert_eq!(listing(&workstation.restored(&back)), expected, "{at:?}");
    }
}

#[test]
fn an_unchanged_run_reads_no_file_and_sends_nothing() {
    let (_office, workstation) = office();
    workstation.write("a/one", "1");
    workstation.write("a/two", "2");
    // Files that changed within the last second are read again, since a file system's clock moves in steps.
    let old = std::time::SystemTime::now() - std::time::Duration::from_secs(5);
    workstation.back_up().expect("backed up");
    while fs::metadata(workstation.folder.join("a/two")).and_then(|m| ctime(&m)).expect("there")
        > old + std::time::Duration::from_secs(4)
    {
        std::thread::yield_now();
    }
    workstation.back_up().expect("backed up once the change is a second old");
    // The temporary directory above is in the tree with its time, and other tests make theirs beside: of a few runs one is undisturbed.
    let sends_nothing = (0..20).any(|_| {
        let report = workstation.back_up().expect("backed up");
        assert_eq!((report.counts.files, report.counts.read), (2, 0));
        report.sent == 0
    });
    assert!(sends_nothing);
}

fn ctime(metadata: &fs::Metadata) -> std::io::Result<std::time::SystemTime> {
    use std::os::unix::fs::MetadataExt;
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_err(std::io::Error::other)?;
    let age = since.as_secs_f64() - (metadata.ctime() as f64 + metadata.ctime_nsec() as f64 / 1e9);
    // A moment that moves on by itself until the change is more than a second old.
    Ok(if age > 1.1 { std::time::UNIX_EPOCH } else { std::time::SystemTime::now() })
}

#[test]
fn nothing_existing_is_overwritten_unless_asked() {
    let (office, workstation) = office();
    workstation.write("letter", "from the backup");
    workstation.write("other", "comes back");
    workstation.back_up().expect("backed up");
    let into = office.path("into");
    fs::create_dir(&into).expect("made");
    let folder = into.join(workstation.folder.file_name().expect("a name"));
    fs::create_dir(&folder).expect("made");
    fs::write(folder.join("letter"), "newer, and precious").expect("written");
    let wish = |on_conflict| Wish::paths(vec![workstation.folder.clone()], Target::Into(into.clone())).on_conflict(on_conflict);
    let report = workstation.restore(&At::Latest, &wish(OnConflict::Skip)).expect("restored");
    assert_eq!(report.troubles.len(), 1);
    assert_eq!((report.troubles[0].trouble, report.troubles[0].path.clone()), (Trouble::Exists, folder.join("letter")));
    assert_eq!(fs::read(folder.join("letter")).expect("there"), b"newer, and precious");
    assert_eq!(fs::read(folder.join("other")).expect("there"), b"comes back");
    let report = workstation.restore(&At::Latest, &wish(OnConflict::Replace)).expect("restored");
    assert!(report.troubles.is_empty(), "{:?}", report.troubles);
    assert_eq!(fs::read(folder.join("letter")).expect("there"), b"from the backup");
}

#[test]
fn a_file_that_keeps_changing_is_reported_and_marked() {
    let (office, workstation) = office();
    let path = workstation.folder.join("log");
    fs::write(&path, vec![1; 12 << 20]).expect("written");
    workstation.write("calm", "calm");
    let stop = std::sync::atomic::AtomicBool::new(false);
    let report = std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut file = fs::OpenOptions::new().append(true).open(&path).expect("open");
            while !stop.load(std::sync::atomic::Ordering::Relaxed) {
                file.write_all(b"line\n").expect("written");
            }
        });
        let report = workstation.back_up();
        stop.store(true, std::sync::atomic::Ordering::Relaxed);
        report
    });
    let report = report.expect("backed up");
    assert_eq!((report.exceptions.changed_while_read, report.exceptions.total()), (1, 1));
    assert_eq!(report.listed[0].path, path.as_os_str().as_bytes());
    let restored = workstation.restore_all(&office.path("back")).expect("restored");
    assert_eq!(restored.troubles.len(), 1);
    assert_eq!(restored.troubles[0].trouble, Trouble::Unsettled);
}

#[test]
#[cfg_attr(no_mounts, ignore = "needs to mount volumes: run it as root")]
fn a_volume_mounted_within_a_kept_folder_is_not_entered_and_said_to_be_so() {
    let (office, workstation) = office();
    let volume = Mounted::new(&workstation.folder.join("other volume"), "1m");
    fs::write(volume.path.join("elsewhere"), "not ours").expect("written");
    workstation.write("ours", "ours");
    let report = workstation.back_up().expect("backed up");
    assert_eq!((report.counts.mounts, report.counts.files), (1, 1));
    let back = office.path("back");
    workstation.restore_all(&back).expect("restored");
    assert_eq!(fs::read_dir(workstation.restored(&back).join("other volume")).expect("the folder itself is there").count(), 0);
}

#[test]
fn a_file_that_disappears_during_the_run_is_reported_and_the_rest_is_kept() {
    use jetfrost_client::backup::{ReadBack, back_up};
    use jetfrost_client::progress::Meter;
    use jetfrost_wire::workstation::PointKind;
    use std::sync::Arc;
    let (_office, workstation) = office();
    for i in 0..300 {
        workstation.write(&format!("a{i:03}"), vec![i as u8; 300_000]);
    }
    workstation.write("z is listed first and read last", "soon gone");
    let meter = Arc::new(Meter::default());
    let report = std::thread::scope(|scope| {
        let run = scope.spawn(|| back_up(&workstation.home, PointKind::Files, ReadBack::Sample, &meter));
        // The folder was listed before its first file was read.
        while meter.progress().files_done == 0 && !run.is_finished() {
            std::thread::yield_now();
        }
        fs::remove_file(workstation.folder.join("z is listed first and read last")).expect("removed");
        run.join().expect("no panic")
    });
    let report = report.expect("backed up");
    assert_eq!((report.exceptions.disappeared, report.exceptions.total(), report.point.files), (1, 1, 300));
    assert!(report.listed[0].path.ends_with(b"read last"));
}

/// A file system gives the number of a removed file to the next one that is made: in one folder files with two names are removed,
/// in another such files are made, while a run goes by both.
#[test]
fn a_number_that_is_used_again_within_a_run_brings_no_file_back_with_anothers_bytes() {
    let (office, workstation) = office();
    let folder = |name: &str| workstation.folder.join(name);
    for name in ["a", "z"] {
        fs::create_dir(folder(name)).expect("made");
    }
    fs::write(folder("a/first"), "what was first").expect("written");
    fs::hard_link(folder("a/first"), folder("a/second")).expect("linked");
    workstation.back_up().expect("backed up");
    // The memory of the run still has those two; now their number is another file's, under other names.
    let number = std::os::unix::fs::MetadataExt::ino(&fs::metadata(folder("a/first")).expect("there"));
    for round in 0..200 {
        fs::remove_file(folder("a/first")).and_then(|()| fs::remove_file(folder("a/second"))).expect("removed");
        fs::write(folder("z/other"), format!("another file, {round}")).expect("written");
        fs::hard_link(folder("z/other"), folder("z/another")).expect("linked");
        fs::write(folder("a/first"), "what was first")
            .and_then(|()| fs::hard_link(folder("a/first"), folder("a/second")))
            .expect("made");
        let report = workstation.back_up().expect("backed up");
        assert_eq!(report.exceptions.total(), 0);
        if std::os::unix::fs::MetadataExt::ino(&fs::metadata(folder("z/other")).expect("there")) == number || round == 5 {
            break;
        }
        fs::remove_file(folder("z/other")).and_then(|()| fs::remove_file(folder("z/another"))).expect("removed");
    }
    let back = office.path("back");
    workstation.restore_all(&back).expect("restored");
    for name in ["a/first", "a/second", "z/other", "z/another"] {
        assert_eq!(
            fs::read(workstation.restored(&back).join(name)).expect("there"),
            fs::read(folder(name)).expect("there"),
            "{name}"
        );
    }
    assert_eq!(listing(&workstation.restored(&back)), listing(&workstation.folder));
}

#[test]
fn what_was_asked_for_and_is_not_there_makes_no_point_complete() {
    let (office, workstation) = office();
    fs::create_dir_all(workstation.folder.join("real/inner")).expect("made");
    fs::write(workstation.folder.join("real/inner/letter"), "here").expect("written");
    std::os::unix::fs::symlink("real", workstation.folder.join("link")).expect("linked");
    let mut selection = workstation.home.selection().expect("readable");
    assert!(selection.drop_folder(&workstation.folder));
    selection.include(&workstation.folder.join("link/inner")).expect("kept as what it leads to");
    workstation.home.write_selection(&selection).expect("written");
    assert_eq!(workstation.back_up().expect("backed up").counts.files, 1);
    // Afterwards it becomes a link: what was chosen is not what is there.
    fs::rename(workstation.folder.join("real/inner"), workstation.folder.join("elsewhere")).expect("moved");
    std::os::unix::fs::symlink("../elsewhere", workstation.folder.join("real/inner")).expect("linked");
    let report = workstation.back_up().expect("backed up");
    assert_eq!((report.counts.files, report.exceptions.total()), (0, 1));
    assert!(report.listed[0].path.ends_with(b"real/inner"), "named: {:?}", report.listed);
    let overview: jetfrost_wire::workstation::Overview = office.api.get("/overview").expect("an overview");
    let outcome = overview.workstations[0].latest_run.as_ref().expect("a run").outcome;
    assert_eq!(outcome, jetfrost_wire::run::Outcome::CompleteWithExceptions);
}

#[test]
fn where_nothing_is_there_any_more_no_point_is_made_that_looks_like_one() {
    let (office, workstation) = office();
    workstation.write("letter", "here");
    assert_eq!(workstation.back_up().expect("backed up").point.sequence, 1);
    let (folder, hidden) = (workstation.folder.clone(), office.path("not mounted"));
    fs::rename(&folder, &hidden).expect("moved");
    let refused = workstation.back_up().expect_err("nothing is there");
    assert!(matches!(&refused, ClientError::NothingThere(gone) if *gone == [folder.clone()]), "{refused}");
    // What is there is backed up, and what is not is named.
    let disk = office.path("disk.img");
    fs::write(&disk, [7; 4096]).expect("written");
    workstation.keep_disk(&disk);
    assert_eq!(workstation.back_up_disks().expect("backed up").point.sequence, 2);
    fs::rename(&hidden, &folder).expect("moved back");
    assert_eq!(workstation.back_up().expect("backed up").point.sequence, 3);
}

#[test]
fn two_things_of_one_name_are_not_put_in_one_place() {
    let (office, workstation) = office();
    for name in ["a/x", "b/x"] {
        fs::create_dir_all(workstation.folder.join(name).parent().expect("one")).expect("made");
        fs::write(workstation.folder.join(name), name).expect("written");
    }
    workstation.back_up().expect("backed up");
    let paths = ["a/x", "b/x"].map(|name| workstation.folder.join(name)).to_vec();
    let wish = Wish::paths(paths, Target::Into(office.path("back"))).on_conflict(OnConflict::Replace);
    assert!(workstation.restore(&At::Latest, &wish).expect_err("refused").to_string().contains("same name"));
    assert!(!office.path("back").exists(), "and nothing was written");
}

/// A folder in memory, whose file system takes attributes of any size; removed when dropped.
fn in_memory() -> tempfile::TempDir {
    tempfile::tempdir_in("/dev/shm").expect("a directory in memory")
}

/// A file with more than a mebibyte of attributes ended everybody's backups, or made points that could not be read.
#[test]
fn attributes_of_any_size_come_back_as_they_were() {
    let (office, workstation) = office();
    let memory = in_memory();
    let folder = memory.path().join("kept");
    fs::create_dir_all(folder.join("inner")).expect("made");
    let names = ["letter", "inner/next to it", "inner"];
    for name in &names[..2] {
        fs::write(folder.join(name), "dear Aud").expect("written");
    }
    let noise = |n: usize| -> Vec<u8> {
        let mut bytes = vec![0; 60_000];
        SeededRandom::new(format!("value {n}").as_bytes()).fill(&mut bytes);
        bytes
    };
    for n in 0..30 {
        // Half of them compress, half do not.
        let value = if n % 2 == 0 { noise(n) } else { vec![7; 60_000] };
        for name in [names[0], names[2]] {
            xattr::set(folder.join(name), format!("user.value{n}"), &value).expect("set");
        }
    }
    xattr::set(folder.join(names[1]), "user.short", b"short").expect("set");
    let mut selection = workstation.home.selection().expect("readable");
    selection.include(&folder).expect("kept");
    workstation.home.write_selection(&selection).expect("written");
    for _ in 0..2 {
        // The second time the file is as it was, and its attributes come from the memory of the first run.
        let report = workstation.back_up().expect("backed up");
        assert_eq!(report.exceptions.total(), 0, "{:?}", report.listed);
        let back = in_memory();
        let wish = Wish::paths(vec![folder.clone()], Target::Into(back.path().into())).rights(Rights::Keep);
        let report = workstation.restore(&At::Latest, &wish).expect("restored");
        assert!(report.troubles.is_empty(), "{:?}", report.troubles);
        assert_eq!(listing(&back.path().join("kept")), listing(&folder));
        for name in names {
            let of = |path: std::path::PathBuf| -> Vec<(std::ffi::OsString, Option<Vec<u8>>)> {
                let mut all: Vec<_> = xattr::list(&path)
                    .expect("listed")
                    .map(|name| (name.clone(), xattr::get(&path, &name).expect("read")))
                    .collect();
                all.sort();
                all
            };
            assert!(of(back.path().join("kept").join(name)) == of(folder.join(name)), "{name}");
        }
    }
    assert_eq!(workstation.drill(100).expect("rehearsed").troubles.len(), 0);
    let _: jetfrost_wire::job::Job = office.api.post(&format!("{}/thinning", workstation.store()), &()).expect("begun");
    office.finish_jobs();
    let browser = jetfrost_client::browse::Browser::open(&workstation.home).expect("joined");
    let point = browser.point(&At::Latest, jetfrost_wire::workstation::PointKind::Files).expect("a point");
    let meter = std::sync::Arc::new(jetfrost_client::progress::Meter::default());
    let checked = jetfrost_client::check::check(&browser, &point, 100, &meter).expect("checked");
    assert!(checked.damaged.is_empty(), "what attributes need is needed: {checked:?}");
}

#[test]
fn attributes_beyond_what_is_kept_are_an_exception_and_stop_nothing() {
    let (office, workstation) = office();
    let memory = in_memory();
    let folder = memory.path().join("kept");
    fs::create_dir(&folder).expect("made");
    fs::write(folder.join("laden"), "content").expect("written");
    fs::write(folder.join("plain"), "content").expect("written");
    for n in 0..320 {
        xattr::set(folder.join("laden"), format!("user.value{n:04}"), &vec![n as u8; 60_000]).expect("set");
    }
    let mut selection = workstation.home.selection().expect("readable");
    selection.include(&folder).expect("kept");
    workstation.home.write_selection(&selection).expect("written");
    let report = workstation.back_up().expect("backed up");
    assert_eq!(report.exceptions.total(), 1);
    let said = &report.listed[0];
    assert!(String::from_utf8_lossy(&said.path).ends_with("laden"), "{said:?}");
    let back = office.path("back");
    let wish = Wish::paths(vec![folder.clone()], Target::Into(back.clone())).rights(Rights::Keep);
    drop(workstation.restore(&At::Latest, &wish).expect("restored"));
    assert_eq!(fs::read(back.join("kept/laden")).expect("there"), b"content");
    assert_eq!(fs::read(back.join("kept/plain")).expect("there"), b"content");
}

#[test]
fn root_brings_back_no_rights_to_a_place_that_is_no_system_unless_asked() {
    use std::os::unix::fs::{FileTypeExt, PermissionsExt};
    let (office, workstation) = office();
    let mode = |path: &Path, mode| fs::set_permissions(path, fs::Permissions::from_mode(mode)).expect("set");
    workstation.write("tool", "#!/bin/true");
    mode(&workstation.folder.join("tool"), 0o4755);
    fs::create_dir(workstation.folder.join("shared")).expect("made");
    mode(&workstation.folder.join("shared"), 0o2775);
    let device = workstation.folder.join("null");
    let made = Command::new("mknod").arg(&device).args(["c", "1", "3"]).status().expect("mknod runs");
    assert_eq!(made.success(), nix::unistd::geteuid().is_root(), "only root makes device nodes");
    workstation.back_up().expect("backed up");
    let restored = |name: &str, rights| {
        let back = office.path(name);
        let wish = Wish::paths(vec![workstation.folder.clone()], Target::Into(back.clone())).rights(rights);
        let report = workstation.restore(&At::Latest, &wish).expect("restored");
        assert!(report.troubles.is_empty(), "{:?}", report.troubles);
        let folder = back.join(workstation.folder.file_name().expect("a name"));
        let tool = fs::metadata(folder.join("tool")).expect("there").permissions().mode() & 0o7777;
        let shared = fs::metadata(folder.join("shared")).expect("there").permissions().mode() & 0o7777;
        assert_eq!(shared, 0o2775, "of a folder it says whose what is made in it becomes");
        let has_device = fs::symlink_metadata(folder.join("null")).is_ok_and(|found| found.file_type().is_char_device());
        (tool, has_device, report.rights_left_out)
    };
    let (is_root, devices) = (made.success(), u64::from(made.success()));
    assert_eq!(restored("left out", Rights::LeaveOut), (0o755, false, 1 + devices));
    assert_eq!(restored("kept", Rights::Keep), (0o4755, is_root, 0));
    let by_itself = if is_root { (0o755, false, 2) } else { (0o4755, false, 0) };
    assert_eq!(restored("by itself", Rights::OfSystemOnly), by_itself);
}

#[test]
#[cfg_attr(no_mounts, ignore = "needs to mount volumes: run it as root")]
fn a_full_target_is_said_to_be_full_and_only_what_is_there_is_counted() {
    let (office, workstation) = office();
    let volume = Mounted::new(&office.path("small"), "3m");
    for n in 0..60 {
        let mut bytes = vec![0; 100_000];
        SeededRandom::new(format!("file {n}").as_bytes()).fill(&mut bytes);
        workstation.write(&format!("file {n}"), bytes);
    }
    workstation.back_up().expect("backed up");
    let wish = Wish::paths(vec![workstation.folder.clone()], Target::Into(volume.path.join("back"))).rights(Rights::Keep);
    let report = workstation.restore(&At::Latest, &wish).expect("as far as there was room");
    let there =
        fs::read_dir(volume.path.join("back").join(workstation.folder.file_name().expect("a name"))).expect("listed").count();
    assert_eq!(report.progress.files_done, there as u64);
    assert!(there < 60 && report.troubles.iter().any(|t| t.trouble == Trouble::NoRoom), "{there}: {:?}", report.troubles);
}

#[test]
fn what_a_run_sent_is_read_back_before_its_point_counts() {
    use jetfrost_client::backup::{ReadBack, back_up};
    use jetfrost_client::progress::Meter;
    use jetfrost_wire::workstation::PointKind;
    let (office, workstation) = office();
    let mut noise = vec![0; 400_000];
    SeededRandom::new(b"read back").fill(&mut noise);
    workstation.write("letter", noise);
    workstation.back_up().expect("backed up");
    // A disk that alters what it was given: one byte of the largest segment.
    let segment = walk(&office.path("shelf/stores")).into_iter().filter(|path| path.extension().is_some_and(|e| e == "seg"));
    let segment = segment.max_by_key(|path| fs::metadata(path).expect("there").len()).expect("one");
    let mut bytes = fs::read(&segment).expect("read");
    let at = bytes.len() / 2;
    bytes[at] ^= 1;
    fs::write(&segment, bytes).expect("altered");
    // A machine that remembers nothing hands everything over again; the service says that it has it.
    fs::remove_dir_all(workstation.home.directory().join("memory")).expect("there");
    let run = back_up(&workstation.home, PointKind::Files, ReadBack::Everything, &std::sync::Arc::new(Meter::default()));
    assert!(matches!(run, Err(ClientError::NotReadBack)), "{run:?}");
}

fn walk(directory: &Path) -> Vec<std::path::PathBuf> {
    let entries = fs::read_dir(directory).expect("readable").map(|entry| entry.expect("an entry").path());
    entries.flat_map(|path| if path.is_dir() { walk(&path) } else { vec![path] }).collect()
}
