//! Damage on the destination: found by the service without a key, seen by the workstation with it, healed by the next run.

use std::fs;
use std::path::PathBuf;
use std::sync::Arc;

use jetfrost_client::ClientError;
use jetfrost_client::browse::{At, Browser};
use jetfrost_client::check::{CheckReport, check};
use jetfrost_client::progress::Meter;
use jetfrost_image::crypto::{Random, Secret, SeededRandom, StoreKey, wrap_key};
use jetfrost_image::format::ArgonCost;
use jetfrost_tests::office::{Office, PASSPHRASE, Workstation};
use jetfrost_wire::job::{Job, JobState};
use jetfrost_wire::workstation::{Integrity, PointKind, UnlockMethod};

/// Bytes that do not compress.
pub(crate) fn noise(seed: &str, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    SeededRandom::new(seed.as_bytes()).fill(&mut bytes);
    bytes
}

/// The largest segment of the only store at `shelf`.
pub(crate) fn largest_segment(office: &Office) -> PathBuf {
    fn below(directory: PathBuf, found: &mut Vec<PathBuf>) {
        for entry in fs::read_dir(directory).expect("readable") {
            let path = entry.expect("an entry").path();
            if path.is_dir() { below(path, found) } else { found.push(path) }
        }
    }
    let mut found = Vec::new();
    below(office.path("shelf").join("stores"), &mut found);
    found.retain(|path| path.extension().is_some_and(|e| e == "seg"));
    found.into_iter().max_by_key(|path| fs::metadata(path).expect("there").len()).expect("a segment")
}

fn deep_check(station: &Workstation, share: u8) -> CheckReport {
    let browser = Browser::open(&station.home).expect("joined");
    let point = browser.point(&At::Latest, PointKind::Files).expect("a point");
    check(&browser, &point, share, &Arc::new(Meter::default())).expect("checked")
}

pub(crate) fn scrub(office: &Office, station: &Workstation) -> Integrity {
    let begun: Job = office.api.post(&format!("{}/scrub", station.store()), &()).expect("begun");
    let done: Job = office.api.get(&format!("/jobs/{}?wait_seconds=30", begun.id)).expect("a job");
    assert_eq!(done.state, JobState::Done, "{done:?}");
    office.api.get(&format!("{}/integrity", station.store())).expect("known")
}

fn names(report: &CheckReport, station: &Workstation) -> Vec<String> {
    let mut names: Vec<String> = report
        .damaged
        .iter()
        .map(|path| String::from_utf8_lossy(path).replace(&station.folder.display().to_string(), ""))
        .collect();
    names.sort_unstable();
    names
}

#[test]
fn a_damaged_chunk_that_the_workstation_still_has_heals_with_the_next_run() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    // Each shorter than the shortest chunk that is cut, so one chunk a file wherever the key makes the cuts.
    for i in 0..8 {
        station.write(&format!("photo {i}"), noise(&format!("photo {i}"), 120_000));
    }
    station.write("twin of 3", noise("photo 3", 120_000));
    station.back_up().expect("backed up");
    let sound = scrub(&office, &station);
    assert!(sound.scrubbed.is_some() && sound.findings.is_empty() && sound.lost_chunks == 0, "{sound:?}");
    let report = deep_check(&station, 100);
    assert!(report.damaged.is_empty() && report.bytes >= 960_000 && report.left_out == 0, "{report:?}");

    // One byte in the middle of the largest segment.
    let segment = largest_segment(&office);
    let mut bytes = fs::read(&segment).expect("readable");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&segment, &bytes).expect("written");
    let report = deep_check(&station, 100);
    assert!(!report.damaged.is_empty(), "the workstation sees it with the key");
    let hurt = names(&report, &station);

    let found = scrub(&office, &station);
    assert_eq!((found.findings.len(), found.lost_chunks), (1, 1), "{found:?}");
    assert_eq!(found.damaged_points.iter().map(|p| (p.sequence, p.lost_chunks)).collect::<Vec<_>>(), [(1, 1)]);
    assert_eq!(names(&deep_check(&station, 100), &station), hurt, "the same files, and no others");

    // Nothing changed on the workstation, and yet the run reads again what was hurt.
    let run = station.back_up().expect("backed up");
    assert!((100_000..500_000).contains(&run.sent), "about the lost chunk was sent: {}", run.sent);
    let healed: Integrity = office.api.get(&format!("{}/integrity", station.store())).expect("known");
    assert_eq!((healed.lost_chunks, healed.damaged_points.len()), (0, 0), "the earlier point is whole again, too");
    assert!(deep_check(&station, 100).damaged.is_empty());
    assert!(scrub(&office, &station).findings.is_empty());
    station.restore_all(&office.path("back")).expect("restored");
    for i in 0..8 {
        let restored = fs::read(station.restored(&office.path("back")).join(format!("photo {i}"))).expect("there");
        assert_eq!(restored, noise(&format!("photo {i}"), 120_000));
    }
}

#[test]
fn a_segment_that_vanished_is_missed_and_what_is_left_comes_back() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("first", noise("first", 300_000));
    station.back_up().expect("backed up");
    let gone = largest_segment(&office);
    station.write("second", noise("second", 100_000));
    station.back_up().expect("backed up");
    fs::remove_file(&gone).expect("removed");
    fs::remove_file(station.folder.join("first")).expect("removed");
    let found = scrub(&office, &station);
    assert_eq!(found.findings.len(), 1, "{found:?}");
    assert!(found.findings[0].wrong.contains("gone") && found.lost_chunks > 0);
    station.back_up().expect("goes on");
    assert!(deep_check(&station, 100).damaged.is_empty(), "the point made since is whole");
    let after: Integrity = office.api.get(&format!("{}/integrity", station.store())).expect("known");
    assert!(after.lost_chunks > 0 && after.damaged_points.iter().all(|p| p.sequence < 3), "{after:?}");
}

#[test]
fn a_scrub_falls_due_by_itself() {
    let (office, clock) = Office::stepped("2026-10-01T12:00:00Z".parse().expect("a time"));
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("a", "b");
    station.back_up().expect("backed up");
    office.tend();
    assert!(office.finish_jobs().is_empty(), "nothing is due on the first day");
    clock.set("2026-11-01T12:00:00Z".parse().expect("a time"));
    office.tend();
    let integrity: Integrity = office.api.get(&format!("{}/integrity", station.store())).expect("known");
    assert_eq!(integrity.scrubbed, Some("2026-11-01T12:00:00Z".parse().expect("a time")));
}

#[test]
fn a_share_leaves_content_out_but_no_folder() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    for i in 0..200 {
        station.write(&format!("folder {}/file {i}", i % 10), noise(&i.to_string(), 2000));
    }
    station.back_up().expect("backed up");
    let report = deep_check(&station, 20);
    assert_eq!(report.chunks + report.left_out, 200, "{report:?}");
    assert!(report.entries >= 210 && report.chunks > 5 && report.chunks < 100, "{report:?}");
}

#[test]
fn a_key_slot_that_is_damaged_or_gone_opens_all_the_same_and_the_next_scrub_writes_it_again() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "dear Aud");
    station.back_up().expect("backed up");
    let slots = office.path("shelf/stores").join(station.home.membership().expect("joined").store).join("slots");
    let files: Vec<PathBuf> = fs::read_dir(&slots).expect("listed").map(|entry| entry.expect("an entry").path()).collect();
    assert_eq!(files.len(), 2, "a passphrase and a recovery key");
    let before: Vec<Vec<u8>> = files.iter().map(|path| fs::read(path).expect("read")).collect();
    let ways = || office.api.list::<UnlockMethod>(&format!("{}/unlock-methods", station.store())).expect("listed");

    // One bit of the wrapped key, which only a check shows; and the other file is gone.
    let mut flipped = before[0].clone();
    let at = flipped.len() / 2;
    flipped[at] ^= 1;
    fs::write(&files[0], flipped).expect("damaged");
    fs::remove_file(&files[1]).expect("gone");
    assert!(ways().iter().all(|way| way.damaged), "and it is said");
    jetfrost_client::unlock_methods::unlock(&station.home, Secret::Passphrase(PASSPHRASE)).expect("the right passphrase opens");

    let found = scrub(&office, &station);
    assert_eq!(found.findings.len(), 2, "{found:?}");
    assert!(found.findings.iter().all(|finding| finding.wrong.contains("written again")), "{found:?}");
    let after: Vec<Vec<u8>> = files.iter().map(|path| fs::read(path).expect("read")).collect();
    assert_eq!(after, before);
    assert!(scrub(&office, &station).findings.is_empty());
    assert!(ways().iter().all(|way| !way.damaged));

    // A slot that somebody puts on the disk is handed out to nobody.
    let id = station.home.membership().expect("joined").store.parse().expect("an id");
    let key = StoreKey([1; 32]);
    let planted = wrap_key(id, &key, Secret::Passphrase("a guess"), ArgonCost::USUAL, 0, &SeededRandom::new(b"planted"));
    fs::write(slots.join(format!("{}.slot", planted.id)), planted.to_bytes()).expect("planted");
    let opened = jetfrost_client::unlock_methods::unlock(&station.home, Secret::Passphrase("a guess"));
    assert!(matches!(opened, Err(ClientError::WrongPassphrase)), "{opened:?}");
    let found = scrub(&office, &station);
    assert!(found.findings[0].wrong.contains("nobody added it"), "{found:?}");
}

#[test]
fn slots_of_a_store_from_before_they_were_on_record_are_taken_over() {
    let mut office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    office.stop();
    let statement = "import sqlite3,sys; c=sqlite3.connect(sys.argv[1]); c.execute('DELETE FROM slots'); c.execute('UPDATE stores SET slots_noted = 0'); c.commit()";
    let records = office.path("state/records.sqlite");
    let said = std::process::Command::new("python3").args(["-c", statement]).arg(records).output().expect("python3 runs");
    assert!(said.status.success(), "{said:?}");
    office.start();
    let ways: Vec<UnlockMethod> = office.api.list(&format!("{}/unlock-methods", station.store())).expect("listed");
    assert_eq!(ways.len(), 2);
    assert!(scrub(&office, &station).findings.is_empty());
}
