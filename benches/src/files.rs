//! A tree of files: first backup, unchanged run, scrub.

use std::fs;
use std::path::Path;

use crate::office::{Office, PACK, Ran, Station, mb, number, outln, report, seconds};
use crate::store;

/// First backups and pipelines, by turns; each has its own ratio, and the middle one counts.
const ROUNDS: usize = 3;

pub(crate) fn run(scratch: &Path, tree: &Path) {
    let generated = scratch.join("generated");
    noise(&generated, 8, 25);
    let sources = format!("{} {}", tree.display(), generated.display());
    let files = number(&format!("find {sources} -xdev -type f | wc -l"));
    let bytes = number(&format!("find {sources} -xdev -type f -printf '%s\\n' | awk '{{s+=$1}} END {{printf \"%.0f\", s}}'"));
    outln(&format!("{files} files, {:.2} GB: {sources}\n", bytes as f64 / 1e9));
    let read_all = format!("find {sources} -xdev -type f -print0 | xargs -0 cat > /dev/null");
    // Everything is read once so that all that follows finds it warm.
    seconds(&read_all);

    let office = Office::open(scratch);
    let read = seconds(&read_all);
    let packed = office.at("packed").display().to_string();
    let pack = format!("set -o pipefail; tar --one-file-system -cf - {sources} 2>/dev/null | {PACK} > {packed} && sync {packed}");
    let stations: Vec<Station> = (0..ROUNDS).map(|i| keeping(&office, &format!("files-{i}"), &[tree, &generated])).collect();
    let mut rounds: Vec<(f64, Ran)> = stations.iter().map(|station| (seconds(&pack), station.back_up())).collect();
    for (theirs, ours) in &rounds {
        outln(&format!("  a turn: {:.2} s and {theirs:.2} s: {:.2}", ours.seconds, theirs / ours.seconds));
    }
    rounds.sort_by(|a, b| (a.0 / a.1.seconds).total_cmp(&(b.0 / b.1.seconds)));
    let (pipeline, first) = &rounds[ROUNDS / 2];
    report("first backup", first.seconds, "tar | zstd -1 -T2 | openssl enc, fsync", *pipeline, bytes, 1.3);
    let station = &stations[0];
    let packed_bytes = fs::metadata(&packed).expect("there").len();
    outln(&format!("  reading alone took {read:.2} s; sent {:.0} MB, packed {:.0} MB", mb(first.sent()), mb(packed_bytes)));

    let walk = seconds(&format!("find {sources} -xdev -printf '%p %s %T@\\n' > /dev/null"));
    let unchanged = station.back_up().seconds.min(station.back_up().seconds);
    outln(&format!("unchanged run  {unchanged:.2} s, find -printf {walk:.2} s: {:.2} times the walk", unchanged / walk));

    outln(&format!(
        "memory         client {:.0} MB, service {:.0} MB at their peaks",
        mb(first.peak),
        mb(office.daemon.peak_memory())
    ));
    assert!(office.daemon.terminate(), "the service stops cleanly");
    store::scrub(&scratch.join("shelf"));
}

/// A new workstation that keeps these folders.
fn keeping(office: &Office, name: &str, folders: &[&Path]) -> Station {
    let station = office.station(name);
    folders.iter().for_each(|folder| station.keep(folder, false));
    station
}

/// Fills a folder with `n` files of so many megabytes that do not compress.
pub(crate) fn noise(folder: &Path, n: u32, megabytes: u32) {
    fs::create_dir_all(folder).expect("made");
    for i in 0..n {
        seconds(&format!("head -c {megabytes}000000 /dev/urandom > {}/photo-{i}", folder.display()));
    }
    // What is still to be written would otherwise be written while something is measured.
    seconds(&format!("sync -f {}", folder.display()));
}

/// Files that do not compress, beside a plain TLS stream to a file.
pub(crate) fn incompressible(scratch: &Path) {
    let photos = scratch.join("photos");
    noise(&photos, 10, 100);
    let office = Office::open(scratch);
    let station = office.station("photos-station");
    station.keep(&photos, false);
    let (key, cert, out) = (office.at("key.pem"), office.at("cert.pem"), office.at("streamed"));
    seconds(&format!(
        "openssl req -x509 -newkey rsa:2048 -nodes -subj /CN=localhost -keyout {} -out {} 2>/dev/null",
        key.display(),
        cert.display()
    ));
    let stream = seconds(&format!(
        // The server ends when its input does, so it gets one that stays open; the client does not end with its own.
        "mkfifo {out}.input; exec 9<>{out}.input; openssl s_server -quiet -naccept 1 -port 17444 -key {} -cert {} <&9 > {out} 2>/dev/null & sleep 0.2; \
         cat {photos}/* | openssl s_client -quiet -connect 127.0.0.1:17444 >/dev/null 2>&1 & \
         until [ $(stat -c %s {out}) = 1000000000 ]; do sleep 0.02; done; sync {out}; kill %1 %2",
        key.display(),
        cert.display(),
        out = out.display(),
        photos = photos.display(),
    )) - 0.2;
    assert_eq!(fs::metadata(&out).expect("streamed").len(), 1_000_000_000, "all of it arrived");
    let ours = station.back_up().seconds;
    report("no compression", ours, "cat | openssl s_client, s_server > file, fsync", stream, 1_000_000_000, 0.5);
}
