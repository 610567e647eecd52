//! Backups of volumes that have snapshots.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;

use jetfrost_client::selection::Selection;
use jetfrost_tests::mounted::{LoopDevice, Mounted};
use jetfrost_tests::office::{Office, Workstation};

/// A Btrfs volume on a file, with a subvolume for homes.
struct Volume {
    homes: PathBuf,
    _mounted: Mounted,
    _device: LoopDevice,
}

fn done(program: &str, arguments: &[&str]) {
    let output = Command::new(program).args(arguments).output().expect("it runs");
    assert!(output.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
}

fn text(path: &Path) -> &str {
    path.to_str().expect("a test's path is text")
}

impl Volume {
    fn new(office: &Office) -> Self {
        let file = office.path("volume");
        fs::File::create(&file).and_then(|file| file.set_len(200 << 20)).expect("a file");
        done("mkfs.btrfs", &["--quiet", text(&file)]);
        let device = LoopDevice::new(&file);
        let mounted =
            Mounted::device(&office.path("mounted").canonicalize().unwrap_or_else(|_| office.path("mounted")), &device.path);
        let homes = mounted.path.join("homes");
        done("btrfs", &["subvolume", "create", text(&homes)]);
        Self { homes, _mounted: mounted, _device: device }
    }

    /// What a backup left in it beside files.
    fn snapshots(&self) -> Vec<String> {
        let names = fs::read_dir(&self.homes).expect("readable").map(|entry| entry.expect("an entry").file_name());
        names.filter_map(|name| name.into_string().ok()).filter(|name| name.starts_with(".jetfrost")).collect()
    }
}

fn include(station: &Workstation, folders: &[&Path]) {
    let mut selection = Selection::default();
    for folder in folders {
        selection.include(folder).expect("there");
    }
    station.home.write_selection(&selection).expect("kept");
}

#[test]
fn all_files_are_as_they_were_at_one_moment_while_somebody_writes_them() {
    let (office, station) = Office::with_station("knot");
    let volume = Volume::new(&office);
    include(&station, &[&volume.homes]);
    // Two halves of one value: written one after the other, never apart by more than one.
    let (left, right) = (volume.homes.join("left"), volume.homes.join("z-right"));
    let write = |number: u32| {
        fs::write(&left, format!("{number:0>60000}")).expect("written");
        fs::write(&right, format!("{number:0>60000}")).expect("written");
    };
    write(0);
    for n in 0..300 {
        fs::write(volume.homes.join(format!("m{n}")), vec![b'x'; 20_000]).expect("written");
    }
    let is_over = AtomicBool::new(false);
    let (report, written) = thread::scope(|scope| {
        let writer = scope.spawn(|| (1..).take_while(|_| !is_over.load(Ordering::Relaxed)).map(write).count());
        let report = station.back_up().expect("backed up");
        is_over.store(true, Ordering::Relaxed);
        (report, writer.join().expect("no panic"))
    });
    assert!(written > 1, "the files changed meanwhile");
    assert_eq!((report.snapshots, report.exceptions.total()), (vec![volume.homes.clone()], 0));
    assert_eq!(volume.snapshots(), Vec::<String>::new());
    let into = office.path("back");
    station.restore_all(&into).expect("restored");
    let number = |path: &Path| -> i64 {
        let restored = into.join(path.strip_prefix("/").expect("absolute"));
        let text = fs::read_to_string(restored).expect("restored");
        // A snapshot may fall between emptying a file and writing it.
        if text.is_empty() { 0 } else { text.trim_start_matches('0').parse().unwrap_or(0) }
    };
    let (left, right) = (number(&left), number(&right));
    assert!(left == right || left == right + 1 || left == 0 || right == 0, "{left} and {right} never were there together");
}

#[test]
fn an_unchanged_volume_is_not_read_again_though_each_snapshot_is_another_volume() {
    let (office, station) = Office::with_station("knot");
    let volume = Volume::new(&office);
    include(&station, &[&volume.homes]);
    for n in 0..20 {
        fs::write(volume.homes.join(format!("f{n}")), format!("file {n}")).expect("written");
    }
    fs::hard_link(volume.homes.join("f1"), volume.homes.join("of-two-names")).expect("linked");
    let first = station.back_up().expect("backed up");
    // Files are remembered once they have rested.
    office_rests();
    let second = station.back_up().expect("backed up");
    let third = station.back_up().expect("backed up");
    assert_eq!((first.counts.files, second.counts.files, third.counts.files), (21, 21, 21));
    assert_eq!((third.counts.read, third.snapshots.len()), (0, 1));
    assert_eq!(first.point.bytes, third.point.bytes);
}

/// As long as a file must have rested to be remembered.
fn office_rests() {
    let written = std::time::Instant::now();
    while written.elapsed() < std::time::Duration::from_millis(1_200) {
        thread::yield_now();
    }
}

#[test]
fn what_is_mounted_on_a_volume_and_included_is_backed_up_from_where_it_is() {
    let (office, station) = Office::with_station("knot");
    let volume = Volume::new(&office);
    fs::write(volume.homes.join("letter"), "dear Aud").expect("written");
    let other = Mounted::new(&volume.homes.join("shared"), "1m");
    fs::write(other.path.join("plan"), "the plan").expect("written");
    let within = volume.homes.join("tove");
    done("btrfs", &["subvolume", "create", text(&within)]);
    fs::write(within.join("diary"), "monday").expect("written");
    include(&station, &[&volume.homes, &other.path, &within]);
    let report = station.back_up().expect("backed up");
    assert_eq!(report.snapshots, [volume.homes.clone(), within.clone()]);
    let into = office.path("back");
    station.restore_all(&into).expect("restored");
    for (path, text) in
        [(volume.homes.join("letter"), "dear Aud"), (other.path.join("plan"), "the plan"), (within.join("diary"), "monday")]
    {
        let restored = into.join(path.strip_prefix("/").expect("absolute"));
        assert_eq!(fs::read_to_string(&restored).expect("restored"), text, "{}", path.display());
    }
}

#[test]
fn what_a_killed_run_left_is_removed_and_what_somebody_else_made_of_that_name_is_not() {
    let (office, station) = Office::with_station("knot");
    let volume = Volume::new(&office);
    include(&station, &[&volume.homes]);
    fs::write(volume.homes.join("letter"), "dear Aud").expect("written");
    let left = volume.homes.join(".jetfrost-snapshot");
    done("btrfs", &["subvolume", "snapshot", "-r", text(&volume.homes), text(&left)]);
    let report = station.back_up().expect("backed up");
    assert_eq!((report.snapshots.len(), volume.snapshots().len()), (1, 0));

    done("btrfs", &["subvolume", "create", text(&left)]);
    fs::write(left.join("mine"), "precious").expect("written");
    let report = station.back_up().expect("backed up all the same");
    let why = report.no_snapshot.expect("said why not");
    assert!(report.snapshots.is_empty() && why.contains("no snapshot of this program"), "{why}");
    assert_eq!(fs::read_to_string(left.join("mine")).expect("there"), "precious");
}

#[test]
fn where_somebody_else_may_write_no_snapshot_is_made_and_a_part_that_is_mounted_again_is_not_lost() {
    let (office, station) = Office::with_station("knot");
    let volume = Volume::new(&office);
    include(&station, &[&volume.homes]);
    fs::create_dir(volume.homes.join("store")).expect("a folder");
    fs::write(volume.homes.join("store/letter"), "dear Aud").expect("written");
    let again = Mounted::again(&volume.homes.join("store"), &volume.homes.join("again"));
    let report = station.back_up().expect("backed up");
    assert_eq!((report.snapshots.len(), report.counts.files), (0, 2));
    drop(again);
    let report = station.back_up().expect("backed up");
    assert_eq!((report.snapshots.len(), report.counts.files), (1, 1));
    done("chmod", &["o+w", text(&volume.homes)]);
    let report = station.back_up().expect("backed up");
    assert_eq!((report.snapshots.len(), report.counts.files), (0, 1));
}
