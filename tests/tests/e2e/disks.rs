//! Disk images: backed up in extents, looked at, attached with the clients that Debian has, and brought back.

use std::fs;
use std::fs::{File, OpenOptions};
use std::io::{Seek, SeekFrom, Write};
use std::net::TcpStream;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Arc, mpsc};

use jetfrost_client::attach::{Listen, attach};
use jetfrost_client::browse::{At, Browser};
use jetfrost_client::check::check;
use jetfrost_client::disk::file_systems::{FileSystem, Found};
use jetfrost_client::disk::partitions::Scheme;
use jetfrost_client::disk::{DiskReport, Target, restore_disk};
use jetfrost_client::drill::{DiskDrillReport, Rehearsal, drill_disks};
use jetfrost_client::progress::Meter;
use jetfrost_client::restore::Trouble;
use jetfrost_image::crypto::{Random, SeededRandom};
use jetfrost_tests::mounted::{LoopDevice, Mounted};
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_tests::witness;
use jetfrost_wire::point::Point;
use jetfrost_wire::restore::{Purpose, Restore};
use jetfrost_wire::run::Outcome;
use jetfrost_wire::workstation::{PointKind, Workstation as WorkstationRecord};

use crate::integrity::{largest_segment, scrub};

const MIB: u64 = 1 << 20;

/// Runs a tool and returns what it printed.
pub(crate) fn tool(name: &str, arguments: &[&str]) -> String {
    let output = Command::new(name).args(arguments).env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin").output().expect(name);
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{name} {arguments:?}: {said}{}", String::from_utf8_lossy(&output.stderr));
    said
}

pub(crate) fn text(path: &Path) -> &str {
    path.to_str().expect("a test's path is text")
}

fn noise(seed: u64, len: u64) -> Vec<u8> {
    let mut bytes = vec![0; usize::try_from(len).expect("fits")];
    SeededRandom::new(&seed.to_le_bytes()).fill(&mut bytes);
    bytes
}

/// An ext4 file system of 48 MiB in a file, with a ledger in it.
fn ext4(office: &Office) -> PathBuf {
    let (content, disk) = (office.path("content"), office.path("accounts.raw"));
    fs::create_dir(&content).expect("a folder");
    fs::write(content.join("ledger.txt"), "harbour dues, first quarter\n").expect("written");
    fs::write(content.join("soundings.bin"), noise(1, 5 * MIB + 77)).expect("written");
    File::create(&disk).expect("made").set_len(48 * MIB).expect("longer");
    tool("mkfs.ext4", &["-q", "-d", text(&content), text(&disk)]);
    disk
}

/// A disk of 80 MiB and a half with a GUID partition table, mostly empty.
fn divided(office: &Office) -> PathBuf {
    let disk = office.path("survey.raw");
    let mut file = File::create(&disk).expect("made");
    file.set_len(80 * MIB + 512 * 1024).expect("longer");
    let script = office.path("script");
    fs::write(&script, "label: gpt\nsize=20MiB, type=L, name=charts\nsize=30MiB, type=U, name=start\n").expect("written");
    let done = Command::new("sfdisk").args(["-q", text(&disk)]).stdin(File::open(&script).expect("there")).output();
    assert!(done.expect("sfdisk").status.success());
    file.seek(SeekFrom::Start(30 * MIB + 123)).expect("there");
    file.write_all(&noise(2, 4 * MIB)).expect("written");
    disk
}

pub(crate) fn office_with_disks() -> (Office, Workstation, PathBuf, PathBuf) {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("fulmar");
    let (plain, divided) = (ext4(&office), divided(&office));
    station.keep_disk(&plain);
    station.keep_disk(&divided);
    (office, station, plain, divided)
}

fn bring(station: &Workstation, at: &At, disk: &Path, target: &Target) -> Result<DiskReport, jetfrost_client::ClientError> {
    let browser = Browser::open(&station.home)?;
    let point = browser.point(at, PointKind::Disk)?;
    let (_, image) = browser.disk(&point, Some(text(disk).as_bytes()))?;
    restore_disk(&browser, &point, &image, target, &Arc::new(Meter::default()))
}

/// Attaches a disk while `look` runs with its address.
fn attached(station: &Workstation, disk: &Path, listen: &Listen, look: impl FnOnce(&str)) {
    let browser = Browser::open(&station.home).expect("joined");
    let point = browser.point(&At::Latest, PointKind::Disk).expect("a point");
    let (found, image) = browser.disk(&point, Some(text(disk).as_bytes())).expect("a disk");
    let (meter, (tell, told)) = (Arc::new(Meter::default()), mpsc::channel());
    std::thread::scope(|scope| {
        let serving = scope.spawn(|| {
            attach(&browser, &point, (&found, Arc::new(image)), listen, &meter, |address| {
                tell.send(address.to_owned()).expect("somebody waits");
            })
        });
        let _end = Stop(&meter);
        look(&told.recv().expect("it listens"));
        meter.stop();
        serving.join().expect("no panic").expect("served");
    });
}

/// Ends the server also when a look at it fails.
pub(crate) struct Stop<'m>(pub(crate) &'m Meter);

impl Drop for Stop<'_> {
    fn drop(&mut self) {
        self.0.stop();
    }
}

#[test]
fn only_extents_that_changed_are_sent_and_files_are_not_disturbed() {
    let (office, station, plain, _) = office_with_disks();
    // A file beside the disks that has not changed for long.
    let mut selection = station.home.selection().expect("readable");
    selection.include(Path::new("/etc/passwd")).expect("kept");
    station.home.write_selection(&selection).expect("written");
    assert_eq!(station.back_up().expect("files").counts.read, 1);
    let first = station.back_up_disks().expect("disks");
    assert_eq!((first.point.kind, first.point.files, first.point.bytes), (PointKind::Disk, 2, 128 * MIB + MIB / 2));
    assert_eq!(first.exceptions.total(), 0, "{:?}", first.listed);
    assert!(first.sent < 14 * MIB, "holes and zeros are free: {}", first.sent);
    OpenOptions::new().write(true).open(&plain).expect("there").write_all_at(&noise(3, 4096), 30 * MIB).expect("written");
    let second = station.back_up_disks().expect("disks");
    assert!(second.sent < MIB + MIB / 4, "one extent and the way to it: {}", second.sent);
    let files = station.back_up().expect("files");
    assert_eq!((files.point.sequence, files.counts.read), (4, 0), "what is known of the files is not lost by backing up disks");
    office.tend();
    let points: Vec<Point> = office.api.list(&format!("{}/points", workstation_path(&station))).expect("listed");
    assert_eq!(points.len(), 4, "the latest of each kind stays, and nothing is due");
    let browser = Browser::open(&station.home).expect("joined");
    assert_eq!(browser.point(&At::Latest, PointKind::Files).expect("files").head.sequence, 4);
    let point = browser.point(&At::Latest, PointKind::Disk).expect("disks");
    assert_eq!(point.head.sequence, 3);
    let report = check(&browser, &point, 100, &Arc::new(Meter::default())).expect("checked");
    assert!(report.damaged.is_empty());
}

fn workstation_path(station: &Workstation) -> String {
    format!("/workstations/{}", station.home.membership().expect("joined").workstation)
}

#[test]
fn partitions_are_those_that_another_tool_made() {
    let (_office, station, plain, divided) = office_with_disks();
    station.back_up_disks().expect("disks");
    let browser = Browser::open(&station.home).expect("joined");
    let disks = browser.disks(&browser.point(&At::Latest, PointKind::Disk).expect("a point")).expect("listed");
    let paths: Vec<&[u8]> = disks.iter().map(|disk| &disk.path[..]).collect();
    assert_eq!(paths, [text(&plain).as_bytes(), text(&divided).as_bytes()]);
    assert_eq!(disks[0].table, None);
    let table = disks[1].table.as_ref().expect("a table");
    let found: Vec<_> = table.partitions.iter().map(|p| (p.number, p.start, p.len, &*p.purpose, &*p.name)).collect();
    assert_eq!(table.scheme, Scheme::Gpt);
    let expected = [(1, MIB, 20 * MIB, "Linux file system", "charts"), (2, 21 * MIB, 30 * MIB, "EFI system", "start")];
    assert_eq!(found, expected);
}

#[test]
fn standard_clients_see_an_attached_disk_as_it_was() {
    let (office, station, plain, divided) = office_with_disks();
    station.back_up_disks().expect("disks");
    let (socket, copy) = (office.path("disk.socket"), office.path("copy.raw"));
    attached(&station, &divided, &Listen::Socket(socket.clone()), |address| {
        let told = tool("nbdinfo", &[address]);
        for expected in [
            "newstyle-fixed",
            "export=\"survey.raw\"",
            "84410368",
            "is_read_only: true",
            "base:allocation",
            "can_multi_conn: true",
        ] {
            assert!(told.contains(expected), "{expected}: {told}");
        }
        let map = tool("nbdinfo", &["--map", address]);
        let kinds: Vec<&str> = map.lines().filter_map(|line| line.split_whitespace().nth(2)).collect();
        assert_eq!(kinds, ["0", "3", "0", "3", "0"], "table, hole, data, hole, the table's copy: {map}");
        tool("nbdcopy", &[address, text(&copy)]);
        assert!(tool("qemu-img", &["compare", "-f", "raw", "-F", "raw", address, text(&divided)]).contains("identical"));
        assert!(
            Command::new("nbdcopy").args([text(&plain), address]).output().expect("runs").status.code() != Some(0),
            "for reading only"
        );
    });
    assert!(fs::read(&copy).expect("copied") == fs::read(&divided).expect("there"));
    assert!(!socket.exists());
    attached(&station, &plain, &Listen::Port(0), |address| {
        // As many as there may be, of whom none ever says what it wants.
        let at = address.trim_start_matches("nbd://").split('/').next().expect("an address");
        let _silent: Vec<TcpStream> = (0..16).map(|_| TcpStream::connect(at).expect("taken")).collect();
        tool("nbdcopy", &[address, text(&copy)]).clear();
    });
    let ledger = tool("debugfs", &["-R", "cat /ledger.txt", text(&copy)]);
    assert_eq!(ledger, "harbour dues, first quarter\n");
    tool("e2fsck", &["-fn", text(&copy)]);
    if !cfg!(no_loop_devices) {
        let mounted = Mounted::image(&office.path("mounted"), &copy);
        assert!(fs::read(mounted.path.join("soundings.bin")).expect("there") == noise(1, 5 * MIB + 77));
    }
    let restores: Vec<Restore> = office.api.list(&format!("{}/restores", workstation_path(&station))).expect("listed");
    assert!(restores.len() == 2 && restores.iter().all(|r| r.outcome == Outcome::Complete && r.progress.bytes_done > 0));
    assert!(restores.iter().all(|r| r.purpose == Purpose::Attach));
}

#[test]
fn a_disk_comes_back_sparse_and_a_restore_that_was_broken_off_goes_on() {
    let (office, station, _, divided) = office_with_disks();
    station.back_up_disks().expect("disks");
    let target = office.path("back.raw");
    let report = bring(&station, &At::Latest, &divided, &Target::File(target.clone())).expect("restored");
    assert!(fs::read(&target).expect("there") == fs::read(&divided).expect("there"));
    let allocated = |path: &Path| {
        use std::os::unix::fs::MetadataExt;
        fs::metadata(path).expect("there").blocks() * 512
    };
    assert!(allocated(&target) <= 8 * MIB, "holes stay holes: {}", allocated(&target));
    assert!(witness::data_map(&target).starts_with("84410368"));
    let refusal = bring(&station, &At::Latest, &divided, &Target::File(target.clone())).expect_err("it is there");
    assert!(refusal.to_string().contains("there already"), "{refusal}");
    // A restore that came half as far, over a disk that had held something else.
    let (again, unfinished) = (office.path("again.raw"), office.path("again.raw.unfinished"));
    let mut half = fs::read(&divided).expect("there");
    half[32 * MIB as usize..].fill(0xa5);
    fs::write(&unfinished, &half).expect("written");
    let resumed = bring(&station, &At::Latest, &divided, &Target::File(again.clone())).expect("restored");
    assert!(fs::read(&again).expect("there") == fs::read(&divided).expect("there") && !unfinished.exists());
    assert!(resumed.written < report.written, "{} of {}", resumed.written, report.written);
    assert!(resumed.unsound.is_empty() && resumed.damaged.is_empty());
}

#[test]
#[cfg_attr(no_loop_devices, ignore = "needs loop devices: run it as root")]
fn a_disk_comes_back_onto_a_block_device() {
    let (office, station, plain, _) = office_with_disks();
    station.back_up_disks().expect("disks");
    let backing = office.path("backing.raw");
    fs::write(&backing, noise(9, 50 * MIB)).expect("written");
    let device = LoopDevice::new(&backing);
    let report = bring(&station, &At::Latest, &plain, &Target::Device(device.path.clone())).expect("restored");
    assert!(report.unsound.is_empty() && report.damaged.is_empty());
    tool("e2fsck", &["-fn", text(&device.path)]);
    tool("cmp", &["-n", &(48 * MIB).to_string(), text(&device.path), text(&plain)]);
    // A device is itself a disk that can be backed up.
    station.keep_disk(&device.path);
    let report = station.back_up_disks().expect("disks");
    assert_eq!(report.exceptions.total(), 0, "{:?}", report.listed);
    assert_eq!((report.point.files, report.point.bytes), (3, (48 + 80 + 50) * MIB + MIB / 2));
    let copy = office.path("of-the-device.raw");
    bring(&station, &At::Latest, &device.path, &Target::File(copy.clone())).expect("restored");
    tool("cmp", &[text(&copy), text(&backing)]);
}

#[test]
fn a_damaged_extent_costs_what_it_held_and_nothing_else() {
    let (office, station, plain, divided) = office_with_disks();
    station.back_up_disks().expect("disks");
    let segments =
        Command::new("find").arg(office.path("shelf")).args(["-name", "*.seg", "-size", "+1M"]).output().expect("find");
    let segment = PathBuf::from(String::from_utf8_lossy(&segments.stdout).lines().next().expect("a segment").to_owned());
    // Two bytes of a large chunk in the middle.
    let file = OpenOptions::new().write(true).open(&segment).expect("there");
    let middle = file.metadata().expect("there").len() / 2;
    file.write_all_at(b"!!", middle).expect("written");
    let mut lost = 0;
    for disk in [&plain, &divided] {
        let target = office.path("salvaged.raw");
        let report = bring(&station, &At::Latest, disk, &Target::File(target.clone())).expect("restored");
        assert!(report.unsound.is_empty());
        let mut expected = fs::read(disk).expect("there");
        for stretch in &report.damaged {
            lost += stretch.end - stretch.start;
            expected[stretch.start as usize..stretch.end as usize].fill(0);
        }
        assert!(fs::read(&target).expect("there") == expected, "everything else is as it was");
        fs::remove_file(&target).expect("removed");
        if let Some(stretch) = report.damaged.first() {
            attached(&station, disk, &Listen::Port(0), |address| {
                let at = stretch.start.to_string();
                let read = Command::new("qemu-io").args(["-r", "-f", "raw", "-c", &format!("read {at} 4096"), address]).output();
                let said = String::from_utf8_lossy(&read.expect("qemu-io runs").stdout).into_owned();
                assert!(said.contains("Input/output error"), "{said}");
            });
        }
    }
    assert_eq!(lost, MIB);
}

/// Flips a bit of a file.
fn flip(path: &Path, at: u64) {
    let file = OpenOptions::new().read(true).write(true).open(path).expect("there");
    let mut byte = [0];
    file.read_exact_at(&mut byte, at).expect("read");
    file.write_all_at(&[byte[0] ^ 4], at).expect("flipped");
}

fn rehearsed(station: &Workstation, share: u8) -> DiskDrillReport {
    let browser = Browser::open(&station.home).expect("joined");
    let point = browser.point(&At::Latest, PointKind::Disk).expect("a point");
    let how = Rehearsal { share, most: 1 << 30, scratch: station.home.directory().into(), memory: None };
    drill_disks(&browser, &point, &how, &Arc::new(Meter::default())).expect("rehearsed")
}

#[test]
fn a_drill_brings_extents_back_and_opens_partition_tables_and_file_systems() {
    let (office, station, accounts, survey) = office_with_disks();
    // The first partition of the divided disk has a file system, too; the second has something unknown.
    tool("mkfs.ext4", &["-q", "-E", "offset=1048576", text(&survey), "20M"]);
    station.back_up_disks().expect("a point");
    let report = rehearsed(&station, 100);
    assert!(report.troubles.is_empty(), "{:?}", report.troubles);
    let of = |path: &Path| report.disks.iter().find(|disk| disk.path == path).expect("drilled");
    let (whole, divided) = (of(&accounts), of(&survey));
    assert!(whole.extents > 6 && whole.extents == whole.of && whole.compared_here == whole.extents, "{whole:?}");
    let opened = |names| FileSystem::Opens(names);
    // '.', '..' and lost+found, and two files in the one.
    assert_eq!((&whole.table, &whole.file_systems[..]), (&None, &[Found { partition: None, what: opened(5) }][..]));
    assert_eq!(divided.table.as_ref().map(|table| table.partitions.len()), Some(2));
    assert_eq!(divided.file_systems, [Found { partition: Some(1), what: opened(3) }]);
    let id = station.home.membership().expect("joined").workstation;
    let record: WorkstationRecord = office.api.get(&format!("/workstations/{id}")).expect("a workstation");
    assert!(record.store.drilled.is_some() && record.store.drill_failed.is_none());
    // What lay near damage is drawn, however small the share.
    let segment = largest_segment(&office);
    flip(&segment, fs::metadata(&segment).expect("there").len() / 2);
    assert_eq!(scrub(&office, &station).lost_chunks, 1);
    station.back_up_disks().expect("what was lost came anew");
    let near = |share| rehearsed(&station, share).disks.iter().map(|disk| disk.near_damage).sum::<u64>();
    assert!(near(1) > 3 && near(1) == near(100));
}

#[test]
fn a_drill_of_disks_says_which_file_system_does_not_open_and_what_is_damaged() {
    let (office, station, accounts, _) = office_with_disks();
    // A bit flipped in the root folder of a file system before it was backed up: the point is as the disk was, and of no use.
    let root = tool("debugfs", &["-R", "blocks /", text(&accounts)]);
    let block: u64 = root.split_whitespace().next().expect("a block").parse().expect("a number");
    let size = tool("dumpe2fs", &["-h", text(&accounts)]);
    let size =
        size.lines().find_map(|line| line.strip_prefix("Block size:")).expect("a size").trim().parse::<u64>().expect("a number");
    flip(&accounts, block * size + 20);
    station.back_up_disks().expect("a point");
    let report = rehearsed(&station, 100);
    let told: Vec<_> = report.troubles.iter().map(|trouble| (trouble.path.as_path(), trouble.explanation.as_str())).collect();
    assert!(
        matches!(told[..], [(path, why)] if path == accounts && why.contains("the ext4 file system of the disk does not open")),
        "{told:?}"
    );
    // The server's disk flips a bit of an extent.
    let segment = largest_segment(&office);
    flip(&segment, fs::metadata(&segment).expect("there").len() / 2);
    let damaged = rehearsed(&station, 100).troubles.iter().filter(|trouble| trouble.trouble == Trouble::Damaged).count();
    assert_eq!(damaged, 1);
    let id = station.home.membership().expect("joined").workstation;
    let record: WorkstationRecord = office.api.get(&format!("/workstations/{id}")).expect("a workstation");
    assert!(record.store.drill_failed.is_some(), "what did not come back is no proof");
}
