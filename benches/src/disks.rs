//! Disk images: a changed one, an attached one, a huge empty one.

use std::fs::OpenOptions;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::Command;
use std::time::Instant;

use crate::office::{Office, mb, outln, report, seconds};

const MIB: u64 = 1 << 20;
const SIZE: u64 = 4096 * MIB;
/// One extent in a hundred.
const CHANGED: u64 = 41;

pub(crate) fn run(scratch: &Path) {
    let office = Office::open(scratch);
    let disk = office.at("disk.raw");
    // Does not compress, and is made quickly.
    seconds(&format!(
        "head -c {SIZE} /dev/zero | openssl enc -aes-256-ctr -nosalt -pbkdf2 -pass pass:disk > {0} && sync {0}",
        disk.display()
    ));
    let station = office.station("disk");
    station.keep(&disk, true);
    let first = station.back_up();
    outln(&format!(
        "disk of 4.3 GB, first: {:.1} s, {:.0} MB/s, client {:.0} MB",
        first.seconds,
        SIZE as f64 / first.seconds / 1e6,
        mb(first.peak)
    ));
    let read_once = format!("dd if={} of=/dev/null bs=1M status=none", disk.display());
    seconds(&read_once);
    let (mut read, mut changed, mut sent) = (f64::MAX, f64::MAX, 0);
    for round in 0..3 {
        change(&disk, round);
        read = read.min(seconds(&read_once));
        let ran = station.back_up();
        (changed, sent) = (changed.min(ran.seconds), ran.sent());
    }
    outln(&format!(
        "1 % changed    sent {:.2} times the changed extents (to be at most 1.15); {changed:.2} s, reading once {read:.2} s: {:.2} times (to be at most 1.5)",
        sent as f64 / (CHANGED * MIB) as f64,
        changed / read
    ));
    attached(&office, &disk, read);
    let back = office.at("back.raw");
    let restored = station.run(&["rebuild", "--disk", "--quiet", "--to", back.to_str().expect("text")]);
    outln(&format!(
        "rebuild --disk {:.1} s, {:.0} MB/s, read back included",
        restored.seconds,
        SIZE as f64 / restored.seconds / 1e6
    ));
    assert!(office.daemon.terminate(), "the service stops cleanly");
}

/// Changes a place in one extent of a hundred, and waits until the disk has it.
fn change(disk: &Path, round: u64) {
    let file = OpenOptions::new().write(true).open(disk).expect("there");
    for i in 0..CHANGED {
        file.write_all_at(&(i + round).to_le_bytes().repeat(512), i * 97 * MIB + 4096).expect("written");
    }
    file.sync_all().expect("synced");
}

/// Copying an attached disk, and reading here and there in it.
fn attached(office: &Office, disk: &Path, read: f64) {
    let station = crate::office::Station::at(office, "disk");
    let socket = office.at("socket").display().to_string();
    let mut child = station.begin(&["attach", "--json", "--socket", &socket]);
    let mut lines = BufReader::new(child.stdout.take().expect("piped")).lines();
    while !lines.next().expect("it says where").expect("text").starts_with('}') {}
    let address = format!("nbd+unix:///disk.raw?socket={socket}");
    let copy = seconds(&format!("nbdcopy '{address}' null:"));
    report("attached", copy, "reading the image", read, SIZE, 0.0);
    let before = loopback_bytes();
    let began = Instant::now();
    // A request every 37 MiB: none is in a chunk that another needs.
    let said = Command::new("qemu-img")
        .args(["bench", "-f", "raw", "-c", "100", "-d", "1", "-s", "4096", "-S", "38797312", &address])
        .output();
    assert!(said.expect("qemu-img runs").status.success());
    let (each, moved) = (began.elapsed().as_secs_f64() / 100.0, loopback_bytes() - before);
    outln(&format!("  100 reads of 4 KiB here and there: {:.1} ms each, {:.2} MB moved for each", each * 1e3, mb(moved) / 100.0));
    seconds(&format!("kill -INT {}", child.id()));
    child.wait().expect("ended");
    assert!(disk.exists());
}

/// Bytes that the loopback interface has carried, once each.
pub(crate) fn loopback_bytes() -> u64 {
    let table = std::fs::read_to_string("/proc/net/dev").expect("proc(5)");
    let line = table.lines().find(|line| line.trim_start().starts_with("lo:")).expect("there is a loopback");
    line.split_whitespace().nth(1).and_then(|bytes| bytes.parse().ok()).expect("a number")
}

/// A disk of 100 GB with a little data here and there.
pub(crate) fn sparse(scratch: &Path) {
    let office = Office::open(scratch);
    let disk = office.at("sparse.raw");
    let file = OpenOptions::new().write(true).create_new(true).open(&disk).expect("made");
    file.set_len(100_000_000_000).expect("longer");
    for i in 0..2000_u64 {
        file.write_all_at(&i.to_le_bytes(), i * 50_000_000).expect("written");
    }
    let station = office.station("sparse-station");
    station.keep(&disk, true);
    let first = station.back_up();
    outln(&format!(
        "sparse 100 GB  {:.1} s, sent {:.2} MB, client {:.0} MB (to be below 250)",
        first.seconds,
        mb(first.sent()),
        mb(first.peak)
    ));
    assert!(office.daemon.terminate(), "the service stops cleanly");
}
