//! Twenty gigabytes back onto a disk, beside a copy by `tar`, and how long half a terabyte takes at that rate.

use std::fs;
use std::path::Path;

use crate::files::noise;
use crate::office::{Office, number, outln, seconds};

/// Bytes of files that compress, and of files that do not.
const MIXED: u64 = 14_000_000_000;
const PHOTOS: u32 = 240;
const PHOTO_MB: u32 = 25;
/// Half a terabyte, and the rate at which it is to come back at least, in bytes a second.
const HALF_A_TERABYTE: f64 = 5e11;
const AT_LEAST: f64 = 79e6;

pub(crate) fn run(scratch: &Path, tree: &Path) {
    let source = scratch.join("source");
    noise(&source.join("photos"), PHOTOS, PHOTO_MB);
    let mut bytes = u64::from(PHOTOS) * u64::from(PHOTO_MB) * 1_000_000;
    // Each time as other bytes, so that nothing is in the store already.
    for turn in 0.. {
        if copy(tree, &source.join(format!("turn-{turn}")), turn, &mut bytes) {
            break;
        }
    }
    seconds(&format!("sync -f {}", source.display()));
    let files = number(&format!("find {} -type f | wc -l", source.display()));
    outln(&format!("{files} files, {:.2} GB", bytes as f64 / 1e9));

    let office = Office::open(scratch);
    let station = office.station("large");
    station.keep(&source, false);
    let sent = station.back_up().sent();
    outln(&format!("backed up      {:.2} GB sent", sent as f64 / 1e9));
    let copied = office.at("copied").display().to_string();
    fs::create_dir(&copied).expect("made");
    let theirs = seconds(&format!("tar -cf - -C {} . | tar -xf - -C {copied} && sync -f {copied}", source.display()));
    fs::remove_dir_all(&copied).expect("removed");
    // By now the source is of no use, and what is read is not in memory.
    fs::remove_dir_all(&source).expect("removed");
    seconds(&format!("sync -f {}", scratch.display()));
    let onto = office.at("onto").display().to_string();
    let ours = station.run(&["restore", "--quiet", "--to", &onto]).seconds + seconds(&format!("sync -f {onto}"));
    let rate = |seconds: f64| bytes as f64 / seconds;
    outln(&format!(
        "restore        {ours:.1} s, {:.0} MB/s; tar -c | tar -x, sync {theirs:.1} s, {:.0} MB/s: {:.2} of its rate",
        rate(ours) / 1e6,
        rate(theirs) / 1e6,
        theirs / ours
    ));
    outln(&format!(
        "half a terabyte at this rate: {:.0} min; at {:.0} MB/s: {:.0} min",
        HALF_A_TERABYTE / rate(ours) / 60.0,
        AT_LEAST / 1e6,
        HALF_A_TERABYTE / AT_LEAST / 60.0
    ));
    assert!(office.daemon.terminate(), "the service stops cleanly");
}

/// Copies a tree's files with each byte changed alike, until there are enough. Says whether there are.
fn copy(from: &Path, to: &Path, turn: u8, bytes: &mut u64) -> bool {
    let enough = MIXED + u64::from(PHOTOS) * u64::from(PHOTO_MB) * 1_000_000;
    fs::create_dir_all(to).expect("made");
    for entry in fs::read_dir(from).into_iter().flatten().flatten() {
        let (path, target) = (entry.path(), to.join(entry.file_name()));
        let Ok(kind) = entry.file_type() else { continue };
        if kind.is_dir() {
            if copy(&path, &target, turn, bytes) {
                return true;
            }
        } else if let (true, Ok(mut content)) = (kind.is_file(), fs::read(&path)) {
            content.iter_mut().for_each(|byte| *byte ^= turn);
            fs::write(&target, &content).expect("written");
            *bytes += content.len() as u64;
        }
        if *bytes >= enough {
            return true;
        }
    }
    false
}
