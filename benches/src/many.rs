//! Very many small files: an unchanged run beside one walk, the client's memory, and one of them from a cold client.

use std::fs;
use std::path::Path;

use crate::disks::loopback_bytes;
use crate::office::{Office, mb, outln, seconds};

const IN_FOLDER: u64 = 100;

pub(crate) fn run(scratch: &Path, files: u64) {
    let tree = scratch.join("tree");
    for folder in 0..files / IN_FOLDER {
        let path = tree.join(format!("{:03}/{folder:06}", folder / 100));
        fs::create_dir_all(&path).expect("made");
        for file in 0..IN_FOLDER {
            fs::write(path.join(format!("note-{file:02}.txt")), format!("note {file} in folder {folder}\n")).expect("written");
        }
    }
    let office = Office::open(scratch);
    let station = office.station("many");
    station.keep(&tree, false);
    let first = station.back_up();
    outln(&format!(
        "{files} files     first: {:.1} s, {:.0} files a second, client {:.0} MB (to be below 250)",
        first.seconds,
        files as f64 / first.seconds,
        mb(first.peak)
    ));
    let find = format!("find {} -xdev -printf '%p %s %T@\\n' > /dev/null", tree.display());
    seconds(&find);
    // What changed within the last second before the first run is read once more.
    let _ = station.back_up();
    let walk = seconds(&find);
    let unchanged = station.back_up();
    outln(&format!(
        "  unchanged: {:.2} s, find -printf {walk:.2} s: {:.2} times the walk (to be at most 1.5), client {:.0} MB",
        unchanged.seconds,
        unchanged.seconds / walk,
        mb(unchanged.peak)
    ));
    let folder = files / IN_FOLDER / 2;
    let wanted = tree.join(format!("{:03}/{folder:06}/note-50.txt", folder / 100));
    let before = loopback_bytes();
    let back = office.at("one").display().to_string();
    let restored = station.run(&["restore", "--quiet", wanted.to_str().expect("text"), "--to", &back]);
    outln(&format!(
        "  one of them, cold client: {:.0} ms (to be under 300), {:.2} MB moved (to be under 2)",
        restored.seconds * 1e3,
        mb(loopback_bytes() - before)
    ));
    outln(&format!("  service {:.0} MB at its peak", mb(office.daemon.peak_memory())));
    assert!(office.daemon.terminate(), "the service stops cleanly");
}
