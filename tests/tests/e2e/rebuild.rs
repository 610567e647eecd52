//! A whole machine into an empty directory, with the list that it ends with; killed on the way, and damaged afterwards.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};

use jetfrost_platform::{Accounts, Machine, System};
use jetfrost_tests::chance::Chance;
use jetfrost_tests::office::{Office, PASSPHRASE, Workstation};
use jetfrost_tests::programs::{jetfrost, jetfrost_ends, program};
use jetfrost_tests::terminal::Terminal;
use jetfrost_wire::Page;
use jetfrost_wire::restore::{CheckState, Restore};
use serde_json::Value;

use crate::integrity::noise;

fn furnished(files: usize, each: usize) -> (Office, Workstation) {
    let (office, station) = Office::with_station("dunlin");
    for i in 0..files {
        station.write(&format!("survey/{}/{i}.dat", i % 7), noise(&format!("survey {i}"), each + i * 17));
    }
    station.write("letters/offer <to> the harbour.txt", "an offer");
    let at = |name: &str| station.folder.join(name);
    symlink("letters/offer <to> the harbour.txt", at("current")).expect("linked");
    fs::hard_link(at("letters/offer <to> the harbour.txt"), at("letters/the same")).expect("linked");
    fs::set_permissions(at("letters"), fs::Permissions::from_mode(0o750)).expect("set");
    station.back_up().expect("a point");
    (office, station)
}

fn rebuild(station: &Workstation, to: &Path, more: &[&str], code: i32) -> Value {
    let to = to.to_str().expect("text");
    let words = [&["rebuild", "--json", "--quiet", "--to", to, "--confirm", "dunlin"], more].concat();
    serde_json::from_str(&jetfrost_ends(station.home.directory(), &words, code).out).expect("JSON")
}

pub(crate) fn item<'l>(list: &'l Value, what: &str) -> &'l Value {
    let items = list["items"].as_array().expect("items");
    items.iter().find(|item| item["what"] == what).unwrap_or_else(|| panic!("{what}: {list}"))
}

/// Where a folder of a workstation is below the directory that it was rebuilt in.
fn below(to: &Path, station: &Workstation) -> PathBuf {
    to.join(station.folder.strip_prefix("/").expect("absolute"))
}

#[test]
fn a_rebuild_asks_for_the_machines_name_and_ends_with_evidence_that_nobody_has_to_take_on_trust() {
    let (office, station) = furnished(20, 3000);
    let (home, to) = (station.home.directory(), office.path("root"));
    let target = to.to_str().expect("text");
    let said = jetfrost_ends(home, &["rebuild", "--to", target, "--confirm", "whimbrel"], 1);
    assert!(said.err.contains("--confirm dunlin") && !to.exists(), "{}", said.err);
    let page = office.path("list.html");
    let list = rebuild(&station, &to, &["--read-back", "100", "--checklist", page.to_str().expect("text")], 0);
    for what in
        ["Entries", "Contents", "Permissions and times", "Links", "Attributes", "Restored exactly", "Exceptions at the backup"]
    {
        assert_eq!(item(&list, what)["state"], "right", "{what}: {list}");
    }
    assert_eq!(item(&list, "Boot files")["state"], "known");
    assert!(item(&list, "Contents")["found"].as_str().expect("said").contains("23 files"), "{list}");
    let id = station.home.membership().expect("joined").workstation;
    let on_record = office.api.get::<Page<Restore>>(&format!("/workstations/{id}/restores")).expect("listed").items;
    let told = on_record[0].checklist.as_ref().expect("checked off");
    assert_eq!((told.state(), told.items.len()), (CheckState::Known, list["items"].as_array().expect("items").len()));
    let told = serde_json::to_string(told).expect("JSON");
    assert!(["dunlin-files", "letters", "survey"].iter().all(|name| !told.contains(name)), "no names: {told}");
    assert!(jetfrost_ends(home, &["history"], 0).out.contains("checked off, nothing wrong"));
    let page = fs::read_to_string(page).expect("written");
    assert!(page.contains("dunlin as of point 1") && page.contains("Everything that the backup has is there as it was"));
    assert_eq!(below(&to, &station).join("letters").metadata().expect("there").mode() & 0o777, 0o750);
    let said = jetfrost_ends(home, &["rebuild", "--to", target, "--confirm", "dunlin"], 1);
    assert!(said.err.contains("is not empty") && said.err.contains("--check-only"), "{}", said.err);
}

#[test]
fn a_rebuild_goes_on_with_no_other_point_than_it_was_begun_with() {
    let (office, station) = furnished(4, 3000);
    station.write("letters/later.txt", "written since");
    station.back_up().expect("another point");
    let to = office.path("root");
    fs::create_dir(&to).expect("made");
    fs::write(to.join(".jetfrost-restoring"), format!("{} boot\n", "0".repeat(32))).expect("written");
    let words = ["rebuild", "--to", to.to_str().expect("text"), "--confirm", "dunlin"];
    let said = jetfrost_ends(station.home.directory(), &words, 1);
    assert!(said.err.contains("another point than 2") && said.err.contains("--at"), "{}", said.err);
    assert_eq!(fs::read_dir(&to).expect("listed").count(), 1);
}

/// The newest point is often the one that is damaged when an older one is needed.
#[test]
fn a_newest_point_that_is_damaged_keeps_nobody_from_an_older_one() {
    let (office, station) = furnished(20, 3000);
    let segments = || {
        let found = Command::new("find").arg(office.path("shelf")).args(["-name", "*.seg"]).output().expect("find");
        String::from_utf8_lossy(&found.stdout).lines().map(PathBuf::from).collect::<BTreeSet<_>>()
    };
    let before = segments();
    (0..20).for_each(|i| station.write(&format!("survey/{}/later {i}.dat", i % 7), noise(&format!("later {i}"), 3000)));
    station.back_up().expect("another point");
    for segment in segments().difference(&before) {
        let len = segment.metadata().expect("there").len();
        fs::write(segment, vec![0x5a; usize::try_from(len).expect("fits")]).expect("overwritten");
    }
    let to = office.path("root");
    let preview = rebuild(&station, &to, &["--at", "1", "--preview"], 0);
    assert_eq!((&preview["newest"], &preview["files_forgone"]), (&2.into(), &Value::Null), "{preview}");
    let list = rebuild(&station, &to, &["--at", "1", "--read-back", "100"], 0);
    assert_eq!(item(&list, "Contents")["state"], "right", "{list}");
}

/// At the service nobody may be left who can help: the destination's directory and one secret are enough.
#[test]
fn a_machine_is_rebuilt_step_by_step_at_a_terminal_from_a_destinations_directory_alone() {
    let (office, station) = furnished(4, 3000);
    office.workstation("knot").back_up().expect("a second store");
    let (rescue, to) = (office.path("rescue"), office.path("root"));
    let mut terminal = Terminal::jetfrost(&rescue, "rebuild --read-back 100");
    let _ = terminal.shows("1  an image store in a directory");
    let _ = terminal.shows("Number, 1 to 1:");
    terminal.types("1");
    let _ = terminal.shows("Directory:");
    terminal.types(office.path("shelf").to_str().expect("text"));
    let stores = terminal.shows("Number, 1 to 2:");
    let row = stores.lines().find(|line| line.contains("of workstation dunlin")).expect("it is listed");
    terminal.types("7");
    let _ = terminal.shows("'7' is not one of them");
    let _ = terminal.shows("Number, 1 to 2:");
    terminal.types(row.trim().split(' ').next().expect("a number"));
    let secrets = terminal.shows("Number, 1 to 2:");
    assert!(secrets.contains("1  its image passphrase, set at the machine 20"), "{secrets}");
    terminal.types("1");
    for (passphrase, answer) in [("an account's password", "does not"), (PASSPHRASE, "Which point?")] {
        let _ = terminal.shows("image passphrase of this image store:");
        terminal.types(passphrase);
        let _ = terminal.shows(answer);
    }
    for (point, answer) in [("12", "There is no recovery point 12"), ("1", "Where to:")] {
        let _ = terminal.shows("or a time such as 2026-11-20T14:00:");
        terminal.types(point);
        let _ = terminal.shows(answer);
    }
    terminal.types(to.to_str().expect("text"));
    let plan = terminal.shows("to restore all of it into");
    for said in ["Newer     none; this is the newest", "Takes     "] {
        assert!(plan.contains(said), "{plan}");
    }
    // What the machine called itself: without the service nobody else knows its name.
    terminal.types(plan.split("Machine   ").nth(1).and_then(|rest| rest.lines().next()).expect("its name").trim());
    let list = terminal.shows("Everything that the backup has is there as it was.");
    assert!(list.contains("7 files"), "{list}");
    terminal.ends(0);
    assert_eq!(fs::read_to_string(below(&to, &station).join("letters/the same")).expect("there"), "an offer");
}

#[test]
fn the_list_finds_whatever_became_another_after_it_was_restored() {
    let (office, station) = furnished(10, 3000);
    let to = office.path("root");
    rebuild(&station, &to, &[], 0);
    let at = |name: &str| below(&to, &station).join(name);
    let keeping_its_time = |name: &str, change: &dyn Fn(&Path)| {
        let time = fs::metadata(at(name)).expect("there").modified().expect("a time");
        change(&at(name));
        fs::File::options().write(true).open(at(name)).and_then(|file| file.set_modified(time)).expect("set");
    };
    keeping_its_time("survey/1/1.dat", &|path| {
        let mut bytes = fs::read(path).expect("readable");
        bytes[100] ^= 1;
        fs::write(path, bytes).expect("written");
    });
    fs::remove_file(at("survey/2/2.dat")).expect("removed");
    fs::set_permissions(at("survey/3/3.dat"), fs::Permissions::from_mode(0o777)).expect("set");
    fs::remove_file(at("current")).and_then(|()| symlink("elsewhere", at("current"))).expect("linked");
    fs::remove_file(at("letters/the same")).expect("removed");
    fs::copy(at("letters/offer <to> the harbour.txt"), at("letters/the same")).expect("copied");
    let page = office.path("list.html");
    let list = rebuild(&station, &to, &["--check-only", "--read-back", "100", "--checklist", page.to_str().expect("text")], 3);
    let about = |what: &str, name: &str| {
        let item = item(&list, what);
        let paths = item["paths"].as_array().expect("paths");
        item["state"] == "wrong" && paths.iter().any(|path| path.as_str().expect("text").contains(name))
    };
    for (what, name) in [
        ("Contents", "survey/1/1.dat"),
        ("Entries", "survey/2/2.dat"),
        ("Permissions and times", "survey/3/3.dat"),
        ("Links", "current"),
        ("Links", "letters/the same"),
    ] {
        assert!(about(what, name), "{what}, {name}: {list}");
    }
    let page = fs::read_to_string(page).expect("written");
    assert!(page.contains("Not everything is as it was") && page.contains("WRONG"));
    if System::is_administrator() {
        std::os::unix::fs::chown(at("survey/4/4.dat"), Some(12_345), None).expect("given away");
        let list = rebuild(&station, &to, &["--check-only"], 3);
        assert_eq!(item(&list, "Owners")["count"], 1, "{list}");
    }
}

/// Kills it before so long has passed; how it ended, if it did before that.
pub(crate) fn kill_at_random(mut running: Child, whole: Duration, chance: &Chance) -> Option<ExitStatus> {
    let until = Instant::now() + whole.mul_f64(f64::from(u32::try_from(chance.below(90)).expect("small")) / 100.0);
    while Instant::now() < until {
        if let Some(status) = running.try_wait().expect("it is ours") {
            return Some(status);
        }
        std::thread::park_timeout(Duration::from_millis(1));
    }
    running.kill().and_then(|()| running.wait()).expect("killed");
    None
}

#[test]
fn a_rebuild_that_is_killed_again_and_again_goes_on_and_everything_is_as_it_was() {
    let (office, station) = furnished(400, 90_000);
    let to = office.path("root");
    let chance = Chance::of("killed");
    let mut killed = 0;
    // A whole one takes about this long here.
    let began = Instant::now();
    rebuild(&station, &office.path("at once"), &["--read-back", "0"], 0);
    let whole = began.elapsed();
    while killed < 20 {
        let words = ["rebuild", "--quiet", "--to", to.to_str().expect("text"), "--confirm", "dunlin", "--read-back", "0"];
        let running = jetfrost(station.home.directory()).args(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn();
        match kill_at_random(running.expect("it starts"), whole, &chance) {
            // It came to its end, this one or the one that was killed while it checked off: the next one begins anew.
            Some(_) => {
                rebuild(&station, &to, &["--check-only", "--read-back", "100"], 0);
                fs::remove_dir_all(&to).expect("removed");
            }
            None => killed += 1,
        }
    }
    is_as_it_was(&station, &to, 403);
}

/// Killed at random, a moment that lasts for microseconds is met once in a thousand times; here each of them is.
#[test]
fn a_rebuild_that_is_killed_before_any_call_that_changes_something_goes_on_and_everything_is_as_it_was() {
    let (office, station) = furnished(3, 3000);
    let to = office.path("root");
    let calls = "write,pwrite64,copy_file_range,ftruncate,openat,mkdir,unlink,rmdir,rename,renameat2,link,linkat,symlink,\
                 chmod,fchmod,fchmodat,fchown,lchown,fchownat,chown,utimensat,fsync,fdatasync,syncfs"
        .replace(' ', "");
    let mut killed = 0;
    for nth in 1.. {
        let ended = killed_at(&calls, nth, &station, &to);
        is_as_it_was(&station, &to, 6);
        fs::remove_dir_all(&to).expect("removed");
        if ended.success() {
            break;
        }
        killed += 1;
    }
    assert!(killed > 50, "{killed}");
}

/// A rebuild that is killed when a thread of it makes one of these calls for the `nth` time; how it ended.
fn killed_at(calls: &str, nth: u32, station: &Workstation, to: &Path) -> ExitStatus {
    let (trace, inject) = (format!("trace={calls}"), format!("inject={calls}:signal=KILL:when={nth}"));
    let mut traced = Command::new("strace");
    traced.args(["-f", "-qq", "-o", "/dev/null", "-e", &trace, "-e", &inject]).arg(program("jetfrost"));
    traced.args(["rebuild", "--quiet", "--to", to.to_str().expect("text"), "--confirm", "dunlin", "--read-back", "0"]);
    traced.env_clear().env("TZ", "UTC").env("JETFROST_HOME", station.home.directory()).env("JETFROST_PASSPHRASE", PASSPHRASE);
    traced.stdout(Stdio::null()).stderr(Stdio::null()).status().expect("strace")
}

/// What had reached the disk by then is some of it: contents without their bytes, folders that the journal has not.
#[test]
fn a_rebuild_whose_machine_loses_power_goes_on_and_everything_is_as_it_was() {
    let (office, station) = furnished(120, 90_000);
    let to = office.path("root");
    let chance = Chance::of("power");
    let begun = || {
        let words = ["rebuild", "--quiet", "--to", to.to_str().expect("text"), "--confirm", "dunlin", "--read-back", "0"];
        let mut running = jetfrost(station.home.directory());
        running.args(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts")
    };
    let began = Instant::now();
    rebuild(&station, &office.path("at once"), &["--read-back", "0"], 0);
    let whole = began.elapsed();
    let mut torn = 0;
    for round in 0_u32.. {
        if round == 0 {
            // All folders have their permissions and times, and nothing is sure to be on the disk.
            let ended = killed_at("syncfs", 1, &station, &to);
            assert!(!ended.success(), "{ended}");
        } else {
            kill_at_random(begun(), whole, &chance);
        }
        torn += lose_power(&to, &chance);
        if round % 2 == 0 {
            // The one that goes on is killed as well: what it did not get to is no more whole than before.
            kill_at_random(begun(), whole, &chance);
        }
        is_as_it_was(&station, &to, 123);
        fs::remove_dir_all(&to).expect("removed");
        if torn >= 100 {
            break;
        }
    }
}

/// The machine starts anew: the journal of an unfinished rebuild ends early, and some files have none of their bytes. Returns how many.
fn lose_power(to: &Path, chance: &Chance) -> u64 {
    let journal = to.join(".jetfrost-restoring");
    let Ok(noted) = fs::read_to_string(&journal) else { return 0 };
    let boot = System::boot().expect("known");
    let kept = noted.lines().take(2 + chance.below(4));
    let kept: Vec<String> = kept.map(|line| line.replace(&boot, "before-the-cut")).collect();
    fs::write(&journal, kept.join("\n") + "\n6d6").expect("written");
    let mut torn = 0;
    for path in below_it(to).into_iter().filter(|path| path.extension().is_some_and(|it| it == "dat")) {
        if chance.below(3) == 0 {
            let (file, found) =
                (fs::OpenOptions::new().write(true).open(&path).expect("opened"), path.metadata().expect("there"));
            file.set_len(0).and_then(|()| file.set_len(found.len())).expect("torn");
            file.set_modified(found.modified().expect("known")).expect("set");
            torn += 1;
        }
    }
    torn
}

/// All that is below a directory.
fn below_it(directory: &Path) -> Vec<PathBuf> {
    let (mut found, mut folders) = (Vec::new(), vec![directory.to_path_buf()]);
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).expect("listed").map(|entry| entry.expect("an entry")) {
            if entry.file_type().expect("known").is_dir() {
                folders.push(entry.path());
            }
            found.push(entry.path());
        }
    }
    found
}

/// Goes on, or looks at what came to its end.
fn is_as_it_was(station: &Workstation, to: &Path, files: u64) {
    let is_complete = to.exists() && !to.join(".jetfrost-restoring").exists() && fs::read_dir(to).expect("listed").count() > 0;
    let more: &[&str] = if is_complete { &["--check-only"] } else { &[] };
    let list = rebuild(station, to, &[more, &["--read-back", "100"]].concat(), 0);
    assert_eq!(item(&list, "Contents")["state"], "right");
    assert!(item(&list, "Contents")["found"].as_str().expect("said").contains(&format!("{files} files")), "{list}");
    let is_left = |path: &PathBuf| {
        let name = path.file_name().expect("a name").to_string_lossy();
        name.starts_with(".jetfrost-") || name.contains(" (20")
    };
    let left: Vec<PathBuf> = below_it(to).into_iter().filter(is_left).collect();
    assert!(left.is_empty(), "{left:?}");
}
