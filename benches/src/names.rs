//! Finding one of very many names in very many points.

use std::fs;
use std::path::Path;

use crate::office::{Office, mb, outln};

const IN_FOLDER: u64 = 100;
const POINTS: u64 = 100;
/// Of how many folders one changes from point to point.
const CHANGES: u64 = 100;
const WORDS: [&str; 16] = [
    "survey", "harbour", "level", "invoice", "minutes", "plan", "tide", "boundary", "parcel", "letter", "draft", "photo", "map",
    "ferry", "sheet", "offer",
];
const ENDS: [&str; 6] = ["odt", "pdf", "csv", "jpg", "dxf", "txt"];

fn name(n: u64) -> String {
    let word = |n: u64| WORDS[usize::try_from(n % 16).expect("few")];
    let end = ENDS[usize::try_from(n % 6).expect("few")];
    format!("{} {}-{n:07}.{end}", word(n / 7), word(n / 113))
}

pub(crate) fn run(scratch: &Path, files: u64) {
    let tree = scratch.join("tree");
    let folders = files / IN_FOLDER;
    let folder = |n: u64| tree.join(format!("{:03}/{n:06}", n / 100));
    for n in 0..folders {
        fs::create_dir_all(folder(n)).expect("made");
        for file in 0..IN_FOLDER {
            let n = n * IN_FOLDER + file;
            fs::write(folder(n / IN_FOLDER).join(name(n)), format!("{n}")).expect("written");
        }
    }
    let office = Office::open(scratch);
    let station = office.station("names");
    station.keep(&tree, false);
    let _ = station.back_up();
    let first = station.run(&["search", "--quiet", "nothing has this name"]);
    outln(&format!(
        "{files} names     catalogue of one point from the store: {:.1} s, {:.0} names a second, client {:.0} MB",
        first.seconds,
        files as f64 / first.seconds,
        mb(first.peak)
    ));
    for point in 1..POINTS {
        for n in (point % CHANGES..folders).step_by(usize::try_from(CHANGES).expect("few")) {
            fs::write(folder(n).join(name(n * IN_FOLDER)), format!("changed in {point}")).expect("written");
            fs::write(folder(n).join(format!("new in {point}.txt")), "new").expect("written");
        }
        let _ = station.back_up();
    }
    let rest = station.run(&["search", "--quiet", "nothing has this name"]);
    outln(&format!("  {} points more: {:.1} s, client {:.0} MB", POINTS - 1, rest.seconds, mb(rest.peak)));
    let place = office.at("names").join("catalogue");
    let size = crate::office::number(&format!("du -sb {} | cut -f1", place.display()));
    outln(&format!("  on the disk: {:.1} MB", mb(size)));
    for (what, pattern) in [
        ("a part of a name", "invoice-0012345"),
        ("a part that nothing has", "nothing has this name"),
        ("a pattern", "*harbour*12?.dxf"),
        ("one of 10,000 in a folder", "000042/*"),
        ("a part that many have", "new in 5"),
    ] {
        let times = (0..5).map(|_| station.run(&["search", "--quiet", pattern]).seconds);
        let middle = crate::office::middle(times);
        outln(&format!("  {what}, warm: {:.0} ms (to be below 200)", middle * 1e3));
    }
    assert!(office.daemon.terminate(), "the service stops cleanly");
}
