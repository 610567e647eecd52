//! Drills: a restore rehearsed for real, and what is put on record of it.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use std::sync::Arc;

use jetfrost_client::browse::{At, Browser};
use jetfrost_client::drill::{Drawing, Rehearsal, drill};
use jetfrost_client::restore::Trouble;
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_tests::programs::{Said, jetfrost, jetfrost_ends};
use jetfrost_wire::alerts::{AlertKind, Alerts};
use jetfrost_wire::people::Role;
use jetfrost_wire::restore::{BeginRestore, Purpose, Restore, Scope};
use jetfrost_wire::run::Outcome;
use jetfrost_wire::workstation::{PointKind, Workstation as WorkstationRecord};
use serde_json::Value;

use crate::integrity::{largest_segment, noise, scrub};

fn record(office: &Office, station: &Workstation) -> WorkstationRecord {
    office.api.get(&format!("/workstations/{}", station.home.membership().expect("joined").workstation)).expect("a workstation")
}

fn restores(office: &Office, station: &Workstation) -> Vec<Restore> {
    let id = station.home.membership().expect("joined").workstation;
    office.api.list(&format!("/workstations/{id}/restores")).expect("listed")
}

fn alerts(office: &Office) -> Vec<(AlertKind, String)> {
    let attention: Alerts = office.api.get("/alerts").expect("the list");
    attention.alerts.into_iter().map(|alert| (alert.kind, alert.subject)).collect()
}

/// Forty files in four folders, one that is empty, one that is mostly a hole, and what is no file.
fn furnish(station: &Workstation) {
    for i in 0..40_u32 {
        station.write(&format!("letters/{}/{i}", i % 4), format!("letter {i} ").repeat(200 + i as usize * 97));
    }
    station.write("empty", "");
    let sparse = fs::File::create(station.folder.join("sparse")).expect("made");
    sparse.set_len(3 << 20).expect("longer");
    fs::set_permissions(station.folder.join("letters/1/1"), fs::Permissions::from_mode(0o640)).expect("set");
    symlink("letters/1", station.folder.join("latest")).expect("a link");
}

/// What a drill left behind beside the settings.
fn left_behind(station: &Workstation) -> Vec<String> {
    let names = fs::read_dir(station.home.directory()).expect("readable").map(|e| e.expect("an entry").file_name());
    names.map(|name| name.to_string_lossy().into_owned()).filter(|name| name.contains("drill")).collect()
}

#[test]
fn a_drill_brings_files_back_compares_them_and_says_so() {
    let office = Office::open();
    office.destination("Shelf");
    let station = office.workstation("knot");
    furnish(&station);
    station.back_up().expect("backed up");
    assert_eq!(record(&office, &station).store.drilled, None);
    let report = station.drill(100).expect("rehearsed");
    assert!(report.troubles.is_empty(), "{:?}", report.troubles);
    assert_eq!((report.progress.files_done, report.compared_here), (42, 42));
    let store = record(&office, &station).store;
    assert_eq!((store.drilled_point, store.drill_failed), (Some(1), None));
    assert!(store.drilled.is_some());
    let on_record = restores(&office, &station);
    assert_eq!((on_record[0].purpose, on_record[0].outcome), (Purpose::Drill, Outcome::Complete));
    assert_eq!(left_behind(&station), [""; 0]);
    // A share of few files is twenty of them all the same; those that changed since are not compared with what is here.
    station.write("letters/0/0", "another letter now");
    let report = station.drill(1).expect("rehearsed");
    assert!(report.troubles.is_empty() && (5..42).contains(&report.progress.files_done), "{report:?}");
    let report = station.drill(100).expect("rehearsed");
    assert_eq!((report.troubles.len(), report.compared_here), (0, 41));
}

#[test]
fn drills_draw_by_turns_what_no_drill_has_brought_back_until_everything_was_once() {
    let office = Office::open();
    office.destination("Shelf");
    let station = office.workstation("knot");
    for i in 0..60 {
        station.write(&format!("letters/{i}"), format!("letter {i} ").repeat(300));
    }
    station.back_up().expect("backed up");
    let memory = Rehearsal::memory_in(station.home.directory());
    let known = || fs::metadata(&memory).map_or(0, |found| (found.len() - 8 - 1 - 32) / 8);
    let drills = || {
        let browser = Browser::open(&station.home).expect("opened");
        let point = browser.point(&At::Latest, PointKind::Files).expect("there");
        let scratch = station.home.directory().to_path_buf();
        let how = Rehearsal { share: 50, most: 1 << 30, scratch, memory: Some(memory.clone()) };
        let report = drill(&browser, &point, &how, &Arc::default()).expect("rehearsed");
        assert!(report.troubles.is_empty(), "{:?}", report.troubles);
        (report.drawing, report.progress.files_done, known())
    };
    assert_eq!(drills(), (Drawing::Unproven, 30, 30));
    let (drawing, _, after_random) = drills();
    assert!(drawing == Drawing::AtRandom && after_random > 30);
    let rest = 60 - after_random;
    let (drawing, files, all) = drills();
    assert_eq!((drawing, files, all), (Drawing::Unproven, rest.min(30), after_random + rest.min(30)), "none a second time");
    // What is new is drawn by the next one whose turn it is, whatever else there is.
    assert_eq!(drills().0, Drawing::AtRandom);
    station.write("letters/new", "the newest of all");
    station.back_up().expect("backed up");
    let before = known();
    let (drawing, files, after) = drills();
    assert_eq!((drawing, files), (Drawing::Unproven, 61 - before));
    assert_eq!(after, 61);
    let _ = drills();
    assert_eq!(drills().0, Drawing::Unproven, "it begins anew");
    // A memory that is damaged is none: what was proven is drawn once more, and nothing fails.
    fs::write(&memory, b"not what was written").expect("written");
    assert_eq!(drills(), (Drawing::Unproven, 30, 30));
}

/// A scrub that found the rest of a segment sound has read it once; that it restores is for a drill to show, also when one had shown it before.
#[test]
fn what_lay_near_damage_is_drawn_first_until_it_came_back_since() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    for i in 0..30 {
        station.write(&format!("old/{i}"), noise(&format!("old {i}"), 20_000));
    }
    station.back_up().expect("backed up");
    let damaged = largest_segment(&office);
    for i in 0..200 {
        station.write(&format!("new/{i}"), noise(&format!("new {i}"), 1000));
    }
    station.back_up().expect("backed up");
    let memory = Rehearsal::memory_in(station.home.directory());
    let drills = |browser: &Browser, share| {
        let point = browser.point(&At::Latest, PointKind::Files).expect("there");
        let scratch = station.home.directory().to_path_buf();
        let how = Rehearsal { share, most: 1 << 30, scratch, memory: Some(memory.clone()) };
        let report = drill(browser, &point, &how, &Arc::default()).expect("rehearsed");
        assert!(report.troubles.is_empty(), "{:?}", report.troubles);
        (report.drawing, report.near_damage)
    };
    let from_service = || Browser::open(&station.home).expect("opened");
    // All came back before anything was damaged.
    assert_eq!(drills(&from_service(), 100), (Drawing::AtRandom, 0));
    let mut bytes = fs::read(&damaged).expect("read");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&damaged, bytes).expect("damaged");
    assert_eq!(scrub(&office, &station).lost_chunks, 1);
    station.write("new/later", "written since");
    station.back_up().expect("what was lost came anew");
    let (drawing, near) = drills(&from_service(), 50);
    assert_eq!((drawing, near), (Drawing::Unproven, 30), "all that there is, the one that came anew with it");
    let _ = drills(&from_service(), 1);
    station.write("new/latest", "not drawn yet");
    station.back_up().expect("backed up");
    assert_eq!(drills(&from_service(), 50), (Drawing::Unproven, 0), "once is enough");
    // The same without the service, by the directory alone.
    fs::remove_file(&memory).expect("removed");
    let id = station.home.membership().expect("joined").store;
    let directory = office.path("shelf/stores").join(id);
    let words = ["drill", "--json", "--quiet", "--share", "100", "--store-directory", directory.to_str().expect("text")];
    let said: Value = serde_json::from_str(&jetfrost_ends(station.home.directory(), &words, 0).out).expect("JSON");
    assert_eq!(said["near_damage"], 30, "{said}");
}

#[test]
fn a_drill_counts_from_whoever_may_read_the_store_and_from_nobody_else() {
    let office = Office::open();
    office.destination("Shelf");
    let station = office.workstation("knot");
    furnish(&station);
    station.back_up().expect("backed up");
    let path = format!("/workstations/{}/restores", station.home.membership().expect("joined").workstation);
    let begin = BeginRestore { point: 1, scope: Scope::Everything, purpose: Purpose::Drill, target: None, order: None };
    office.account("liv", Role::Member);
    office.account("pelle", Role::Helpdesk);
    let other = office.workstation("dunlin");
    let others = [office.signed_in("liv"), other.home.device_api().expect("joined").1];
    for who in &others {
        assert!(who.post::<_, Restore>(&path, &begin).is_err());
    }
    for who in [&office.api, &office.signed_in("owner of knot"), &office.signed_in("pelle")] {
        let _: Restore = who.post(&path, &begin).expect("begun");
    }
    // That one was begun proves nothing.
    assert_eq!(record(&office, &station).store.drilled, None);
}

#[test]
fn another_machine_restores_and_drills_with_a_secret_and_an_account_and_that_counts() {
    let office = Office::open();
    office.destination("Shelf");
    let station = office.workstation("knot");
    furnish(&station);
    station.write("letters/offer.txt", "an offer");
    station.back_up().expect("backed up");
    let home = office.path("another");
    sign_in(&office, &home, "owner of knot");
    let offer = station.folder.join("letters/offer.txt");
    let (offer, into) = (offer.to_str().expect("text"), office.path("back"));
    let restore = ["restore", "--of", "KNOT", "--to", into.to_str().expect("text"), offer];
    let _ = jetfrost_ends(&home, &restore, 0);
    assert_eq!(fs::read_to_string(into.join("offer.txt")).expect("there"), "an offer");
    // What lies at the same place of this machine says nothing of the other one, whatever its size and time.
    let drilled = jetfrost_ends(&home, &["drill", "--of", "knot", "--share", "100", "--json"], 0).out;
    let drilled: Value = serde_json::from_str(&drilled).expect("JSON");
    assert_eq!((&drilled["progress"]["files_done"], &drilled["compared_here"]), (&43.into(), &0.into()));
    assert!(record(&office, &station).store.drilled.is_some());
    let done: Vec<_> = restores(&office, &station).into_iter().map(|restore| (restore.purpose, restore.by)).collect();
    assert_eq!(done, [Purpose::Drill, Purpose::Restore].map(|purpose| (purpose, "owner of knot".into())));
    // With another secret nothing is read, and of others' workstations nothing is seen.
    let mut wrong = jetfrost(&home);
    wrong.env("JETFROST_PASSPHRASE", "some other passphrase").args(["points", "--of", "knot"]);
    let wrong = Said::of(&wrong.output().expect("it ends"));
    assert!(wrong.err.contains("passphrase") && wrong.out.is_empty(), "{wrong:?}");
    office.account("liv", Role::Member);
    sign_in(&office, &office.path("stranger"), "liv");
    let refused = jetfrost_ends(&office.path("stranger"), &["points", "--of", "knot"], 1);
    assert!(refused.err.contains("There is no workstation 'knot'"), "{refused:?}");
}

/// Signs a person in at the command line of a machine.
fn sign_in(office: &Office, home: &Path, login: &str) {
    let fingerprint = office.fingerprint();
    let arguments = ["sign-in", &office.address(), "--login", login, "--fingerprint", &fingerprint];
    let _ = jetfrost_ends(home, &arguments, 0);
}

#[test]
fn a_drill_of_a_damaged_store_says_what_did_not_come_back_until_one_does() {
    let office = Office::open();
    let shelf = office.path("Shelf");
    office.destination("Shelf");
    let station = office.workstation("knot");
    furnish(&station);
    station.back_up().expect("backed up");
    let segment = segments(&shelf).pop().expect("a segment");
    let mut bytes = fs::read(&segment).expect("readable");
    let sound = bytes.clone();
    // In the middle of what is kept, so not in a listing, which comes last.
    let middle = bytes.len() / 3;
    bytes[middle] ^= 1;
    fs::write(&segment, &bytes).expect("damaged");
    let report = station.drill(100).expect("it runs all the same");
    assert_eq!(report.troubles.len(), 1, "{:?}", report.troubles);
    assert_eq!(report.troubles[0].trouble, Trouble::Damaged);
    assert!(report.troubles[0].path.starts_with(&station.folder), "the path that people know: {:?}", report.troubles);
    let store = record(&office, &station).store;
    assert!(store.drilled.is_none() && store.drill_failed.is_some());
    assert_eq!(alerts(&office), [(AlertKind::DrillFailed, "knot".into())]);
    fs::write(&segment, &sound).expect("mended");
    assert!(station.drill(100).expect("rehearsed").troubles.is_empty());
    assert_eq!(alerts(&office), []);
}

#[test]
fn a_file_that_changed_behind_its_size_and_time_is_told_and_a_drill_that_would_prove_nothing_is_none() {
    let office = Office::open();
    office.destination("Shelf");
    let station = office.workstation("knot");
    station.write("ledger", "the sum is 10");
    station.back_up().expect("backed up");
    let path = station.folder.join("ledger");
    let time = fs::metadata(&path).expect("there").modified().expect("a time");
    fs::write(&path, "the sum is 99").expect("written");
    fs::File::options().write(true).open(&path).expect("open").set_modified(time).expect("set back");
    let report = station.drill(100).expect("rehearsed");
    let told: Vec<(&Path, Trouble)> = report.troubles.iter().map(|t| (t.path.as_path(), t.trouble)).collect();
    assert_eq!(told, [(path.as_path(), Trouble::Differs)]);

    let browser = Browser::open(&station.home).expect("open");
    let point = browser.any_point(&At::Latest).expect("a point");
    let how = Rehearsal { share: 100, most: 3, scratch: station.home.directory().into(), memory: None };
    let refused = drill(&browser, &point, &how, &Arc::default());
    assert!(matches!(refused, Err(jetfrost_client::ClientError::NothingDrawn)), "{refused:?}");
    assert_eq!(restores(&office, &station).len(), 1, "it says nothing of the point, so it is not on record");
}

fn segments(shelf: &Path) -> Vec<std::path::PathBuf> {
    let mut folders = vec![shelf.to_path_buf()];
    let mut found = Vec::new();
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).expect("readable") {
            let path = entry.expect("an entry").path();
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|extension| extension == "seg") {
                found.push(path);
            }
        }
    }
    found
}
