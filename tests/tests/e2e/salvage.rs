//! A store that no longer opens: salvaged on a copy, and restored without the service.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use jetfrost_client::browse::{At, Browser};
use jetfrost_client::progress::Meter;
use jetfrost_client::restore::{Rights, Wish, restore};
use jetfrost_client::salvage::{FoundStore, Opening, PointLosses, Salvage};
use jetfrost_client::{ClientError, Secret};
use jetfrost_image::crypto::{Random, SeededRandom};
use jetfrost_tests::mounted::Mounted;
use jetfrost_tests::office::{Office, PASSPHRASE, Workstation};
use jetfrost_tests::programs::program;
use jetfrost_tests::witness;
use jetfrost_wire::workstation::PointKind;

fn noise(seed: u64, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    SeededRandom::new(&seed.to_le_bytes()).fill(&mut bytes);
    bytes
}

/// A workstation with three points on a destination whose service is gone, and a copy of its folder after each point.
fn after_the_fire() -> (Office, Workstation, PathBuf) {
    let mut office = Office::open();
    office.destination("shelf");
    let station = office.workstation("eider");
    for point in 1..=3_u64 {
        station.write("maps/chart.tif", noise(1, 3_000_000));
        station.write("maps/overlay.tif", noise(10 + point, 2_500_000));
        station.write(&format!("letters/{point}.txt"), format!("letter {point}"));
        station.back_up().expect("backed up");
        copy_tree(&station.folder, &office.path(&format!("after-{point}")));
    }
    office.restart();
    let store = office.path("shelf").join("stores").join(station.home.membership().expect("joined").store);
    (office, station, store)
}

fn copy_tree(from: &Path, to: &Path) {
    let done = Command::new("cp").args(["-a", "--reflink=never"]).arg(from).arg(to).status().expect("cp runs");
    assert!(done.success());
}

/// Everything that is to stay as it is in a directory; further names of a file elsewhere do not count.
fn contents(directory: &Path) -> Vec<String> {
    let is_of_links = |line: &String| line.starts_with(" = ") || line.contains(" links ");
    witness::listing(directory).into_iter().filter(|line| !is_of_links(line) && !line.is_empty()).collect()
}

fn restored(browser: &Browser, at: &At, into: &Path) -> usize {
    let point = browser.point(at, PointKind::Files).expect("there");
    let wish = Wish::everything(into).rights(Rights::Keep);
    restore(browser, &point, &wish, &Arc::new(Meter::default())).expect("restored").troubles.len()
}

fn with_passphrase(store: &FoundStore) -> jetfrost_client::salvage::StoreKeys {
    store.unlock(&Opening::Secret(Secret::Passphrase(PASSPHRASE))).expect("opens")
}

fn lost(losses: &[PointLosses], station: &Workstation) -> Vec<(u64, Vec<String>)> {
    let prefix = station.folder.display().to_string();
    let path = |lost: &jetfrost_client::salvage::Lost| String::from_utf8_lossy(&lost.path).replace(&prefix, "");
    losses.iter().map(|l| (l.point.sequence, l.lost.iter().map(path).collect())).collect()
}

#[test]
fn a_store_is_read_from_its_directory_without_the_service_and_without_a_trace() {
    let (office, station, store) = after_the_fire();
    let before = contents(&store);
    let found = FoundStore::open(&store).expect("a store");
    assert!(found.key_of(&station.home).is_some(), "its own workstation has the key");
    assert!(matches!(found.unlock(&Opening::Secret(Secret::Passphrase("another"))), Err(ClientError::WrongPassphrase)));
    let recovery = found.unlock(&Opening::Secret(Secret::RecoveryKey(&station.recovery_key))).expect("opens");
    let browser = found.browse(recovery);
    for point in 1..=3 {
        let into = office.path(&format!("out-{point}"));
        assert_eq!(restored(&browser, &At::Sequence(point), &into), 0);
        assert_eq!(witness::listing(&station.restored(&into)), witness::listing(&office.path(&format!("after-{point}"))));
    }
    assert_eq!(contents(&store), before);
    let refusal = FoundStore::open(&office.path("shelf")).err().expect("a destination").to_string();
    assert!(refusal.contains("of workstation eider"), "{refusal}");
}

#[test]
fn a_damaged_store_is_salvaged_on_a_copy_and_the_original_stays_as_it_is() {
    let (office, station, store) = after_the_fire();
    // What a dying disk and a helpful colleague can do.
    fs::remove_file(store.join("store.cbor")).expect("there");
    fs::remove_dir_all(store.join("index")).expect("there");
    fs::remove_file(store.join("points/0000000002.point")).expect("there");
    fs::remove_file(store.join("needs/0000000003.needs")).expect("there");
    let before = contents(&store);
    assert!(FoundStore::open(&store).is_err());
    let copy = office.path("copy");
    let (salvage, found) = Salvage::begin(&store, Some(&copy), &Meter::default()).expect("salvaged");
    let copied = found.copied.expect("not a preview");
    assert!(copied.by_links && copied.unreadable == 0 && found.mended.described_again);
    let keys = with_passphrase(&salvage.store());
    let (rebuilt, losses) = salvage.complete(keys).expect("complete");
    assert_eq!((rebuilt.points, rebuilt.needs, rebuilt.unproven), (vec![2], vec![3], vec![]));
    assert_eq!(lost(&losses, &station), [(3, vec![]), (2, vec![]), (1, vec![])]);
    assert_eq!(contents(&store), before, "the original was not touched");
    let again = FoundStore::open(&copy).expect("it opens now");
    let browser = again.clone().browse(with_passphrase(&again));
    for point in 1..=3 {
        let into = office.path(&format!("out-{point}"));
        assert_eq!(restored(&browser, &At::Sequence(point), &into), 0);
        assert_eq!(witness::listing(&station.restored(&into)), witness::listing(&office.path(&format!("after-{point}"))));
    }
}

#[test]
fn what_is_lost_is_said_by_path_and_time_and_the_rest_comes_back() {
    let (office, station, store) = after_the_fire();
    // A file of the second point only: one byte in its segment.
    let listed = Command::new("find").arg(store.join("segments")).args(["-name", "*.seg", "-printf", "%T@ %p\\n"]).output();
    let listed = String::from_utf8_lossy(&listed.expect("find runs").stdout).into_owned();
    let mut segments: Vec<&str> = listed.lines().collect();
    segments.sort_unstable();
    let second = PathBuf::from(segments[1].split_once(' ').expect("two fields").1);
    let mut bytes = fs::read(&second).expect("there");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 4;
    fs::write(&second, bytes).expect("written");
    let before = contents(&store);
    let (salvage, found) = Salvage::begin(&store, None, &Meter::default()).expect("a preview");
    assert!(found.copied.is_none() && found.mended.aside.len() == 1);
    let keys = with_passphrase(&salvage.store());
    let (_, losses) = salvage.complete(keys).expect("complete");
    assert_eq!(lost(&losses, &station), [(3, vec![]), (2, vec!["/maps/overlay.tif".into()]), (1, vec![])]);
    let overlay = &losses[1].lost[0];
    assert!(overlay.bytes.is_some_and(|bytes| bytes > 0 && bytes < overlay.of));
    assert_eq!(contents(&store), before, "a preview writes nothing");
    let copy = office.path("copy");
    let done = Command::new(program("jetfrost"))
        .args(["salvage", "--quiet", "--to"])
        .args([&copy, &store])
        .env("JETFROST_PASSPHRASE", PASSPHRASE)
        .env("JETFROST_HOME", office.path("nobody"))
        .output()
        .expect("jetfrost runs");
    let said = String::from_utf8_lossy(&done.stdout).into_owned();
    assert_eq!(done.status.code(), Some(6), "{said}{}", String::from_utf8_lossy(&done.stderr));
    assert!(said.contains("lost      point 2 (") && said.contains("maps/overlay.tif"), "{said}");
    let found = FoundStore::open(&copy).expect("it opens");
    let browser = found.clone().browse(with_passphrase(&found));
    let into = office.path("out");
    assert_eq!(restored(&browser, &At::Sequence(2), &into), 1, "all but that file");
    assert!(station.restored(&into).join("letters/2.txt").exists());
}

#[test]
#[cfg_attr(no_mounts, ignore = "needs to mount volumes: run it as root")]
fn a_copy_to_another_volume_needs_room_there() {
    let (office, _station, store) = after_the_fire();
    let small = Mounted::new(&office.path("small"), "1m");
    let copy = small.path.join("copy");
    let refusal = Salvage::begin(&store, Some(&copy), &Meter::default()).err().expect("no room");
    assert!(matches!(refusal, ClientError::NoRoomToWrite { .. }), "{refusal}");
    assert!(!copy.exists());
    let large = Mounted::new(&office.path("large"), "64m");
    let (_, found) = Salvage::begin(&store, Some(&large.path.join("copy")), &Meter::default()).expect("salvaged");
    let copied = found.copied.expect("not a preview");
    assert!(!copied.by_links && found.mended.aside.is_empty() && found.mended.unproven.is_empty());
    assert!(Salvage::begin(&store, Some(&large.path.join("copy")), &Meter::default()).is_err(), "a copy is never written over");
}
