//! Restores to where things were, beside them and elsewhere, and what happens to what is there.

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use jetfrost_client::browse::{At, Browser};
use jetfrost_client::compare::{Change, compare};
use jetfrost_client::progress::Meter;
use jetfrost_client::restore::{
    Act, Asking, OnConflict, Preview, Previewed, Resolution, RestoreReport, Rights, Target, Trouble, Wish, preview,
};
use jetfrost_platform::rename_new;
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_tests::programs::{Said, jetfrost, jetfrost_ends};
use jetfrost_tests::terminal::Terminal;
use jetfrost_tests::witness::listing;
use jetfrost_wire::workstation::PointKind;

/// A workstation with a point of letters, of which some have changed since.
struct Setup {
    _office: Office,
    station: Workstation,
    /// The point's time, as it stands in names.
    time: String,
}

impl Setup {
    fn new() -> Self {
        let (office, station) = Office::with_station("knot");
        station.write("letters/one.odt", "dear Aud");
        station.write("letters/two.odt", "dear Tove");
        station.write("letters/old/three.odt", "dear Ingrid");
        symlink("one.odt", station.folder.join("letters/first")).expect("linked");
        fs::set_permissions(station.folder.join("letters/old"), fs::Permissions::from_mode(0o750)).expect("set");
        let report = station.back_up().expect("a point");
        let created =
            Browser::open(&station.home).expect("opened").point(&At::Latest, PointKind::Files).expect("a point").head.created;
        assert_eq!(report.point.sequence, 1);
        let created = jiff::Timestamp::from_millisecond(created).expect("a time").to_zoned(jiff::tz::TimeZone::system());
        Self { _office: office, station, time: created.strftime("%Y-%m-%d %H.%M").to_string() }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.station.folder.join(name)
    }

    fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path(name)).unwrap_or_else(|error| panic!("{name}: {error}"))
    }

    fn wish(&self, names: &[&str], target: Target) -> Wish {
        Wish::paths(names.iter().map(|name| self.path(name)).collect(), target)
    }

    fn restore(&self, wish: &Wish) -> RestoreReport {
        self.station.restore(&At::Latest, wish).expect("restored")
    }

    /// What a restore would do, by last names; nothing changes.
    fn preview(&self, wish: &Wish) -> (Vec<(String, Act)>, Preview) {
        let browser = Browser::open(&self.station.home).expect("opened");
        let point = browser.point(&At::Latest, PointKind::Files).expect("a point");
        let (mut items, before) = (Vec::new(), listing(&self.station.folder));
        let mut note = |item: &Previewed| {
            let name = item.path.strip_prefix(&self.station.folder).unwrap_or(&item.path).display().to_string();
            items.push((name, item.act.clone()));
        };
        let found = preview(&browser, &point, wish, &Arc::new(Meter::default()), &mut note).expect("told");
        assert_eq!(listing(&self.station.folder), before);
        (items, found)
    }

    /// A name with the point's time in it.
    fn timed(&self, stem: &str, extension: &str) -> String {
        format!("{stem} ({}){extension}", self.time)
    }
}

#[test]
fn what_is_gone_comes_back_where_it_was_with_the_folders_that_it_was_in() {
    let setup = Setup::new();
    let before = listing(&setup.station.folder);
    fs::remove_dir_all(setup.path("letters")).expect("removed");
    let report = setup.restore(&setup.wish(&["letters/old/three.odt"], Target::Original));
    assert_eq!((report.troubles.len(), report.kept_both.len(), report.progress.files_done), (0, 0, 1));
    assert_eq!(setup.read("letters/old/three.odt"), "dear Ingrid");
    assert_eq!(fs::metadata(setup.path("letters/old")).expect("there").mode() & 0o777, 0o750);
    assert!(!setup.path("letters/one.odt").exists());
    let report = setup.restore(&setup.wish(&["letters"], Target::Original));
    assert_eq!((report.troubles.len(), report.already_there, report.progress.files_done), (0, 1, 3));
    fs::remove_dir_all(setup.path("letters")).expect("removed");
    setup.restore(&setup.wish(&["letters"], Target::Original));
    assert_eq!(listing(&setup.station.folder), before);
}

#[test]
fn what_changed_since_stays_and_what_comes_back_has_the_points_time_in_its_name() {
    let setup = Setup::new();
    setup.station.write("letters/one.odt", "dear Aud, dear Sture");
    fs::remove_file(setup.path("letters/two.odt")).expect("removed");
    let wish = setup.wish(&["letters"], Target::Original);
    let copy = format!("letters/{}", setup.timed("one", ".odt"));
    let (items, found) = setup.preview(&wish);
    assert_eq!(items, [("letters/one.odt".into(), Act::Renamed(setup.path(&copy))), ("letters/two.odt".into(), Act::New)]);
    assert_eq!((found.files, found.already_there, found.conflicts), (2, 2, 1));
    let report = setup.restore(&wish);
    assert_eq!(report.kept_both, [(setup.path("letters/one.odt"), setup.path(&copy))]);
    assert_eq!([setup.read("letters/one.odt"), setup.read(&copy)], ["dear Aud, dear Sture", "dear Aud"]);
    assert_eq!(setup.read("letters/two.odt"), "dear Tove");
    // Once more: all of it is there, also under its other name.
    let again = setup.restore(&wish);
    assert_eq!((again.already_there, again.kept_both.len()), (4, 0));
    // Unless that has changed as well.
    setup.station.write(&copy, "dear Aud, once more");
    let third = format!("letters/one ({}, 2).odt", setup.time);
    assert_eq!(setup.restore(&wish).kept_both, [(setup.path("letters/one.odt"), setup.path(&third))]);
    assert_eq!(setup.read(&third), "dear Aud");
}

#[test]
fn a_file_of_the_same_size_and_time_with_another_content_is_a_conflict() {
    let setup = Setup::new();
    let path = setup.path("letters/one.odt");
    let time = fs::metadata(&path).and_then(|found| found.modified()).expect("a time");
    fs::write(&path, "dear AAA").expect("written");
    fs::File::options().write(true).open(&path).and_then(|file| file.set_modified(time)).expect("set");
    let report = setup.restore(&setup.wish(&["letters/one.odt"], Target::Original));
    assert_eq!((report.already_there, report.kept_both.len()), (0, 1));
}

#[test]
fn beside_means_another_name_whatever_is_there() {
    let setup = Setup::new();
    let wish = setup.wish(&["letters/one.odt", "letters/old"], Target::Beside);
    let (file, folder) = (format!("letters/{}", setup.timed("one", ".odt")), format!("letters/{}", setup.timed("old", "")));
    let (items, _) = setup.preview(&wish);
    let shown: Vec<&Act> = items.iter().map(|(_, act)| act).collect();
    assert_eq!(shown, [&Act::Renamed(setup.path(&file)), &Act::Renamed(setup.path(&folder))]);
    setup.restore(&wish);
    assert_eq!(setup.read(&file), "dear Aud");
    assert_eq!(setup.read(&format!("{folder}/three.odt")), "dear Ingrid");
    // A folder beside is never put into one that is there.
    fs::write(setup.path(&folder).join("note"), "mine").expect("written");
    setup.restore(&wish);
    let second = format!("letters/old ({}, 2)", setup.time);
    assert_eq!(fs::read_dir(setup.path(&second)).expect("there").count(), 1);
    let error = setup.station.restore(&At::Latest, &setup.wish(&[], Target::Beside)).expect_err("nothing to be beside");
    assert!(error.to_string().contains("beside itself"), "{error}");
}

#[test]
fn skip_replace_and_ask_do_what_they_say() {
    let setup = Setup::new();
    let change = || {
        setup.station.write("letters/one.odt", "changed");
        setup.station.write("letters/two.odt", "changed");
    };
    let wish = |rule| setup.wish(&["letters"], Target::Original).on_conflict(rule);
    change();
    let report = setup.restore(&wish(OnConflict::Skip));
    let skipped: Vec<(&Path, Trouble)> = report.troubles.iter().map(|t| (t.path.as_path(), t.trouble)).collect();
    assert_eq!(
        skipped,
        ["one", "two"]
            .map(|n| setup.path(&format!("letters/{n}.odt")))
            .iter()
            .map(|p| (p.as_path(), Trouble::Exists))
            .collect::<Vec<_>>()
    );
    assert_eq!([setup.read("letters/one.odt"), setup.read("letters/two.odt")], ["changed", "changed"]);

    let asked = Arc::new(Mutex::new(Vec::new()));
    let noted = Arc::clone(&asked);
    let answer = Asking(Arc::new(move |conflict| {
        noted.lock().expect("unharmed").push((conflict.path.to_owned(), conflict.there.size, conflict.entry.len()));
        if conflict.path.ends_with("one.odt") { Resolution::Replace } else { Resolution::KeepBoth }
    }));
    let rule = OnConflict::Ask(answer);
    let (items, _) = setup.preview(&wish(rule.clone()));
    assert!(items.iter().all(|(_, act)| *act == Act::Asks), "{items:?}");
    setup.restore(&wish(rule));
    assert_eq!(*asked.lock().expect("unharmed"), [(setup.path("letters/one.odt"), 7, 8), (setup.path("letters/two.odt"), 7, 9)]);
    assert_eq!([setup.read("letters/one.odt"), setup.read("letters/two.odt")], ["dear Aud", "changed"]);
    assert_eq!(setup.read(&format!("letters/{}", setup.timed("two", ".odt"))), "dear Tove");

    change();
    let report = setup.restore(&wish(OnConflict::Replace));
    assert!(report.troubles.is_empty());
    assert_eq!([setup.read("letters/one.odt"), setup.read("letters/two.odt")], ["dear Aud", "dear Tove"]);
}

/// Somebody whose folder it is restored to puts links to what is not theirs in the place of folders, as quickly as they can.
#[test]
fn who_puts_links_in_the_place_of_folders_meanwhile_leads_no_restore_elsewhere() {
    let (_office, station) = Office::with_station("knot");
    (0..300).for_each(|n| station.write(&format!("letters/{n}"), "dear Aud"));
    station.back_up().expect("a point");
    let elsewhere = tempfile::tempdir().expect("a directory");
    let before = listing(elsewhere.path());
    let (is_over, swaps) = (AtomicBool::new(false), AtomicUsize::new(0));
    for _ in 0..20 {
        let target = tempfile::tempdir().expect("a directory");
        let at = |name: &str| target.path().join(name);
        symlink(elsewhere.path(), at("link")).expect("linked");
        is_over.store(false, Ordering::Relaxed);
        let report = std::thread::scope(|scope| {
            scope.spawn(|| {
                while !is_over.load(Ordering::Relaxed) {
                    for (from, to) in [("letters", "aside"), ("link", "letters"), ("letters", "link"), ("aside", "letters")] {
                        let swapped = rename_new(&at(from), &at(to)).is_ok();
                        swaps.fetch_add(usize::from(swapped), Ordering::Relaxed);
                    }
                }
            });
            let wish = Wish::paths(vec![station.folder.join("letters")], Target::Into(target.path().into()));
            let report = station.restore(&At::Latest, &wish);
            is_over.store(true, Ordering::Relaxed);
            report.expect("restored")
        });
        assert_eq!(listing(elsewhere.path()), before, "{:?}", report.troubles);
    }
    assert!(swaps.into_inner() > 20, "nobody was quick enough for this to show anything");
}

/// What a person or a program on the machine puts in the way, whatever the rule.
#[test]
fn folders_and_links_in_the_way_are_neither_replaced_nor_followed() {
    let setup = Setup::new();
    let elsewhere = tempfile::tempdir().expect("a directory");
    fs::remove_dir_all(setup.path("letters")).expect("removed");
    symlink(elsewhere.path(), setup.path("letters")).expect("linked");
    for rule in [OnConflict::KeepBoth, OnConflict::Skip, OnConflict::Replace] {
        for names in [&["letters/one.odt"][..], &["letters/old/three.odt"]] {
            let report = setup.restore(&setup.wish(names, Target::Original).on_conflict(rule.clone()));
            assert_eq!((report.troubles.len(), report.progress.files_done), (1, 0), "{:?}", report.troubles);
            assert!(report.troubles[0].explanation.contains("a link"), "{:?}", report.troubles);
            assert!(matches!(setup.preview(&setup.wish(names, Target::Original)).0[..], [(_, Act::Stays(_))]));
        }
    }
    assert_eq!(fs::read_dir(elsewhere.path()).expect("listed").count(), 0, "nothing went through the link");
    // The folder itself gets another name, since something else has its own.
    let report = setup.restore(&setup.wish(&["letters"], Target::Original));
    assert_eq!(report.kept_both, [(setup.path("letters"), setup.path(&setup.timed("letters", "")))]);
    assert_eq!(fs::read_dir(elsewhere.path()).expect("listed").count(), 0);
    // A folder that has a file's name stays with all that is in it.
    fs::remove_file(setup.path("letters")).expect("removed");
    setup.station.write("letters/one.odt/inside", "mine");
    let report = setup.restore(&setup.wish(&["letters/one.odt"], Target::Original).on_conflict(OnConflict::Replace));
    assert_eq!(report.troubles.len(), 1);
    assert_eq!(setup.read("letters/one.odt/inside"), "mine");
}

#[test]
fn two_of_one_name_do_not_become_one() {
    let setup = Setup::new();
    setup.station.write("drafts/one.odt", "a draft");
    setup.station.back_up().expect("a point");
    let into = tempfile::tempdir().expect("a directory");
    let wish = |target| setup.wish(&["letters/one.odt", "drafts/one.odt"], target);
    let error = setup.station.restore(&At::Latest, &wish(Target::Into(into.path().into()))).expect_err("refused");
    assert!(error.to_string().contains("the same name"), "{error}");
    assert_eq!(fs::read_dir(into.path()).expect("listed").count(), 0);
    assert_eq!(setup.restore(&wish(Target::Original)).already_there, 2);
}

#[test]
fn at_the_command_line() {
    let setup = Setup::new();
    setup.station.write("letters/one.odt", "changed");
    let run = |arguments: &[&str]| {
        let mut command = jetfrost(setup.station.home.directory());
        let done = command.current_dir(&setup.station.folder).args(arguments).output().expect("it runs");
        let Said { out, err } = Said::of(&done);
        (done.status.code(), out, err)
    };
    let copies = || {
        let names = fs::read_dir(setup.path("letters")).expect("listed").map(|entry| entry.expect("an entry").path());
        names.filter(|path| path.to_string_lossy().contains("/one (20")).collect::<Vec<_>>()
    };
    let (code, said, _) = run(&["restore", "letters", "--dry-run"]);
    assert_eq!(code, Some(0), "{said}");
    assert!(said.contains("as one (20") && said.contains("Nothing was changed.") && copies().is_empty(), "{said}");
    let (code, said, _) = run(&["restore", "letters/one.odt"]);
    let copies = copies();
    assert_eq!((code, copies.len()), (Some(0), 1), "{said}");
    assert!(said.contains(&copies[0].display().to_string()), "{said}");
    assert_eq!(fs::read_to_string(&copies[0]).expect("there"), "dear Aud");
    let (code, _, said) = run(&["restore"]);
    assert!(code == Some(1) && said.contains("--in-place"), "{said}");
    let (code, _, said) = run(&["restore", "letters", "--on-conflict", "ask"]);
    assert!(code == Some(1) && said.contains("no terminal"), "{said}");
}

#[test]
fn whoever_is_asked_sees_both_and_may_answer_for_all_that_follow() {
    let setup = Setup::new();
    for name in ["old/three", "one", "two"] {
        setup.station.write(&format!("letters/{name}.odt"), "changed");
    }
    let words = format!("restore '{}' --on-conflict ask", setup.path("letters").display());
    let mut terminal = Terminal::jetfrost(setup.station.home.directory(), &words);
    let asked = terminal.shows("all that follow.");
    assert!(asked.contains("one.odt is there.") && asked.contains("there     7 B") && asked.contains("restored  8 B"), "{asked}");
    terminal.types("what?");
    let _ = terminal.shows("all that follow.");
    terminal.types("r");
    let asked = terminal.shows("all that follow.");
    assert!(asked.contains("two.odt is there."), "{asked}");
    terminal.types("B");
    let _ = terminal.shows("2 items under another name:");
    terminal.ends(0);
    assert_eq!(
        ["one", "two", "old/three"].map(|name| setup.read(&format!("letters/{name}.odt"))),
        ["dear Aud", "changed", "changed"]
    );
    assert_eq!(setup.read(&format!("letters/old/{}", setup.timed("three", ".odt"))), "dear Ingrid");
}

/// As other programs read it: everything of a file is there, whatever its name.
#[test]
fn an_exported_tar_holds_everything_that_a_point_has() {
    let setup = Setup::new();
    let long = format!("{}/{}", "d".repeat(120), "f".repeat(150));
    setup.station.write(&format!("odd/{long}"), "far below");
    let odd = setup.path("odd");
    let latin = std::ffi::OsStr::from_bytes(b"m\xfcnster");
    fs::write(odd.join(latin), "no text").expect("written");
    symlink(latin, odd.join("to-latin")).expect("linked");
    symlink("x".repeat(130), odd.join("to-nowhere")).expect("linked");
    fs::hard_link(odd.join(latin), odd.join("same")).expect("linked");
    fs::write(odd.join("large"), [vec![7; 5 << 20], vec![0; 3 << 20], vec![9; 5 << 20]].concat()).expect("written");
    fs::File::create(odd.join("hole")).and_then(|file| file.set_len(1 << 20)).expect("made");
    fs::write(odd.join("empty"), "").expect("written");
    let early = fs::File::create(odd.join("early")).expect("made");
    early.set_modified(std::time::UNIX_EPOCH - std::time::Duration::from_millis(1_250)).expect("set");
    let done = std::process::Command::new("sh")
        .current_dir(&odd)
        .args(["-c", "mkfifo pipe && setfattr -n user.colour -v blue large && chmod 2750 . && chown 70000000:70000001 early"])
        .status();
    assert!(done.expect("it runs").success());
    setup.station.back_up().expect("a point");
    let place = tempfile::tempdir().expect("a directory");
    let archive = place.path().join("all.tar");
    let home = setup.station.home.directory();
    let odd_text = odd.to_str().expect("text");
    let said = jetfrost_ends(home, &["export", odd_text, "--to", archive.to_str().expect("text")], 0);
    assert!(said.out.contains("7 files"), "{}", said.out);
    let unpack = |program: &str, arguments: &[&str]| {
        let done = std::process::Command::new(program).current_dir(place.path()).args(arguments).output().expect("it runs");
        assert!(done.status.success(), "{program}: {}", String::from_utf8_lossy(&done.stderr));
    };
    unpack(
        "tar",
        &["--extract", "--file", "all.tar", "--xattrs", "--xattrs-include=*", "--numeric-owner", "--preserve-permissions"],
    );
    assert_eq!(listing(&place.path().join("odd")), listing(&odd));
    // And as another reader of the format sees it.
    let script = "import tarfile; print(*sorted(tarfile.open('all.tar').getnames()), sep='\\n')";
    unpack("python3", &["-c", script]);
    // What is there is not written over, and half an archive does not stay.
    let before = fs::read(&archive).expect("read");
    let _ = jetfrost_ends(home, &["export", "--to", archive.to_str().expect("text")], 1);
    assert!(fs::read(&archive).expect("read") == before);
    let none = place.path().join("none.tar");
    let _ = jetfrost_ends(home, &["export", "/nowhere", "--to", none.to_str().expect("text")], 1);
    assert!(!none.exists());
}

#[test]
fn an_exported_zip_opens_elsewhere() {
    let setup = Setup::new();
    setup.station.write("letters/grüße.txt", "from Ingrid");
    setup.station.write("letters/large", vec![3; 9 << 20]);
    setup.station.back_up().expect("a point");
    // Two names that are no text would be one if they were made text.
    let odd = tempfile::tempdir().expect("a directory");
    fs::create_dir(setup.path("odd")).expect("made");
    for name in [&b"\xfc"[..], b"\xfe", b"plain"] {
        fs::write(setup.path("odd").join(std::ffi::OsStr::from_bytes(name)), name).expect("written");
    }
    setup.station.back_up().expect("a point");
    let path = odd.path().join("odd.zip");
    let (from, to) = (setup.path("odd"), path.to_str().expect("text"));
    let said =
        jetfrost_ends(setup.station.home.directory(), &["export", from.to_str().expect("text"), "--form", "zip", "--to", to], 3);
    assert!(said.out.contains("1 file") && said.err.contains("2 items not exactly"), "{}{}", said.out, said.err);
    let place = tempfile::tempdir().expect("a directory");
    let archive = place.path().join("letters.zip");
    let letters = setup.path("letters");
    let arguments = ["export", letters.to_str().expect("text"), "--form", "zip", "--to", archive.to_str().expect("text")];
    let _ = jetfrost_ends(setup.station.home.directory(), &arguments, 0);
    let run = |program: &str, arguments: &[&str]| {
        let done =
            std::process::Command::new(program).current_dir(place.path()).args(arguments).env("LC_ALL", "C.UTF-8").output();
        let done = done.expect("it runs");
        assert!(done.status.success(), "{program}: {}{}", text(&done.stdout), text(&done.stderr));
    };
    run("unzip", &["-q", "letters.zip"]);
    assert_eq!(listing_of_content(&place.path().join("letters")), listing_of_content(&letters));
    let script = "import zipfile; assert zipfile.ZipFile('letters.zip').testzip() is None";
    run("python3", &["-c", script]);
}

/// Kinds, permissions, times in seconds, link targets and content.
fn listing_of_content(tree: &Path) -> String {
    let script = "find . -mindepth 1 ! -type l -printf '%P %y %m %Ts\\n' | sort; find . -type l -printf '%P %l\\n' | sort; \
        find . -type f -print0 | sort -z | xargs -0r sha256sum";
    let done = std::process::Command::new("sh").args(["-c", script]).current_dir(tree).output().expect("it runs");
    text(&done.stdout)
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

#[test]
fn a_file_is_printed_as_it_was_and_a_reader_may_stop() {
    let setup = Setup::new();
    let content: Vec<u8> = (0..6_000_000_u32).flat_map(|n| (n.wrapping_mul(2_654_435_761)).to_le_bytes()).collect();
    setup.station.write("survey", &content);
    setup.station.back_up().expect("a point");
    setup.station.write("survey", "another");
    let home = setup.station.home.directory();
    let done = jetfrost(home).args(["cat", setup.path("survey").to_str().expect("text")]).output().expect("it runs");
    assert!(done.status.success() && done.stdout == content);
    let mut reading = jetfrost(home)
        .args(["cat", setup.path("survey").to_str().expect("text")])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .expect("it runs");
    drop(reading.stdout.take());
    assert!(reading.wait().expect("it ends").success());
    let said = jetfrost_ends(home, &["cat", setup.path("letters").to_str().expect("text")], 1);
    assert!(said.err.contains("is not a file") && said.err.contains("jetfrost export"), "{}", said.err);
}

#[test]
fn each_version_of_a_file_is_listed_with_the_points_that_have_it() {
    let setup = Setup::new();
    let (path, first) = (setup.path("letters/one.odt"), fs::metadata(setup.path("letters/one.odt")).expect("there"));
    let versions = || {
        let found = Browser::open(&setup.station.home).expect("opened").versions(path.as_os_str().as_bytes()).expect("told");
        let numbers =
            |version: &jetfrost_client::versions::Version| version.points.iter().map(|p| p.sequence).collect::<Vec<_>>();
        let versions: Vec<(u64, Vec<u64>)> =
            found.versions.iter().map(|version| (version.entry.len(), numbers(version))).collect();
        (versions, found.absent)
    };
    let back_up = || drop(setup.station.back_up().expect("a point"));
    back_up();
    setup.station.write("letters/one.odt", "dear Aud, dear Sture");
    back_up();
    fs::remove_file(&path).expect("removed");
    back_up();
    // As it was at first.
    fs::write(&path, "dear Aud").expect("written");
    fs::File::options().write(true).open(&path).and_then(|file| file.set_modified(first.modified()?)).expect("set");
    back_up();
    assert_eq!(versions(), (vec![(8, vec![5, 2, 1]), (20, vec![3])], vec![4]));
    let said = jetfrost_ends(setup.station.home.directory(), &["versions", path.to_str().expect("text")], 0);
    assert!(said.out.contains("5, 2-1") || said.out.contains("5, 1-2"), "{}", said.out);
    let _ = jetfrost_ends(setup.station.home.directory(), &["versions", "/nowhere"], 1);
}

#[test]
fn two_points_are_compared_by_what_was_done() {
    let setup = Setup::new();
    setup.station.write("photos/a/1.jpg", vec![1; 3_000]);
    setup.station.write("photos/a/2.jpg", vec![2; 3_000]);
    setup.station.write("notes.txt", "one\ntwo\nthree\n");
    setup.station.write("same", "the same");
    setup.station.back_up().expect("a point");
    fs::rename(setup.path("photos/a"), setup.path("photos/spring")).expect("moved");
    fs::rename(setup.path("letters/two.odt"), setup.path("second.odt")).expect("moved");
    fs::remove_file(setup.path("letters/one.odt")).expect("removed");
    setup.station.write("notes.txt", "one\n2\nthree\n");
    setup.station.write("new/x", "12345");
    fs::set_permissions(setup.path("same"), fs::Permissions::from_mode(0o600)).expect("set");
    setup.station.back_up().expect("a point");
    let browser = Browser::open(&setup.station.home).expect("opened");
    let point = |sequence| browser.point(&At::Sequence(sequence), PointKind::Files).expect("a point");
    let root = setup.station.folder.as_os_str().as_bytes();
    let found = compare(&browser, &point(2), &point(3), root, &Arc::new(Meter::default())).expect("compared");
    let name = |path: &[u8]| text(path.strip_prefix(root).expect("below"));
    let shown: Vec<String> = found
        .differences
        .iter()
        .map(|d| match &d.change {
            Change::Renamed(from) => format!("{} from {} {}", name(&d.path), name(from), d.after),
            change => format!("{} {change:?} {} {}", name(&d.path), d.before, d.after),
        })
        .collect();
    assert_eq!(
        shown,
        [
            "/letters/one.odt Removed 8 0",
            "/new Added 0 5",
            "/notes.txt Changed 14 12",
            "/photos/spring from /photos/a 6000",
            "/same Attributes 8 8",
            "/second.odt from /letters/two.odt 9",
        ]
    );
    let none = compare(&browser, &point(3), &point(3), root, &Arc::new(Meter::default())).expect("compared");
    assert!(none.differences.is_empty() && none.unreadable.is_empty());
    let notes = setup.path("notes.txt");
    let said = jetfrost_ends(setup.station.home.directory(), &["compare", "2", "3", notes.to_str().expect("text")], 0);
    assert!(said.out.contains("-two") && said.out.contains("+2"), "{}", said.out);
}

/// A store may be that of another machine, on which somebody made himself root.
#[test]
fn a_file_that_runs_as_its_owner_comes_back_without_that_right_unless_somebody_says_so() {
    let setup = Setup::new();
    setup.station.write("tool", "a program");
    let tool = setup.path("tool");
    fs::set_permissions(&tool, fs::Permissions::from_mode(0o4755)).expect("set");
    setup.station.back_up().expect("a point");
    for (rights, mode) in [(Rights::OfSystemOnly, 0o755), (Rights::Keep, 0o4755)] {
        fs::remove_file(&tool).expect("removed");
        let report = setup.restore(&setup.wish(&["tool"], Target::Original).rights(rights));
        assert_eq!(fs::metadata(&tool).expect("there").mode() & 0o7777, mode);
        assert_eq!(report.rights_left_out, u64::from(rights == Rights::OfSystemOnly));
    }
}
