//! The last good point: work raises no alarm, an incident does, and everything before it stays.

use std::fs;
use std::path::Path;

use jetfrost_client::backup::BackupReport;
use jetfrost_client::browse::{At, Browser};
use jetfrost_client::restore::Wish;
use jetfrost_tests::chance::wanted;
use jetfrost_tests::office::{ADMINISTRATOR, Office, PASSPHRASE, Workstation};
use jetfrost_tests::programs::jetfrost_ends;
use jetfrost_tests::work::{Day, Home, Incident};
use jetfrost_types::{Changes, PointMark, Suspicion};
use jetfrost_wire::alerts::{AlertKind, Alerts};
use jetfrost_wire::calls;
use jetfrost_wire::point::{MarkPoint, Point};
use jetfrost_wire::workstation::PointKind;
use jiff::ToSpan;

use crate::audit::{STATEMENT, behind_its_back};
use crate::oracle::Tree;

/// What a point says of its changes, once more: as many files as there were, and the new ones, without those that are gone.
pub(crate) fn adds_up(report: &BackupReport) -> Option<Changes> {
    let changes = report.point.changes;
    if let Some(changes) = changes.filter(|_| report.exceptions.total() == 0) {
        assert_eq!(changes.files_before + changes.added - changes.gone, report.counts.files, "{changes:?}");
    }
    changes
}

fn office_with_home(seed: &str) -> (Office, Workstation, Home) {
    let (office, station) = Office::with_station("knot");
    let home = Home::make(&station.folder.join("home"), seed).expect("made");
    let first = station.back_up().expect("a point");
    assert_eq!((first.point.changes, first.point.suspicion), (None, None), "there is nothing to compare it with");
    (office, station, home)
}

#[test]
fn days_of_every_work_raise_no_alarm() {
    let (_office, station, mut home) = office_with_home("work");
    for round in 0..wanted("JETFROST_ROUNDS", 2) {
        for day in Day::ALL {
            home.work(day).expect("worked");
            let report = station.back_up().expect("a point");
            let changes = adds_up(&report).expect("the last walk is remembered");
            assert_eq!(report.point.suspicion, None, "round {round}, {day:?}: {changes:?}");
        }
    }
}

#[test]
fn what_happens_to_files_is_found_in_the_point_that_has_it() {
    let (office, station, mut home) = office_with_home("incidents");
    for (incident, looks) in [
        (Incident::EncryptedInPlace, Suspicion::Scrambled),
        (Incident::EncryptedAndRenamed, Suspicion::Scrambled),
        (Incident::EncryptedCopies, Suspicion::Scrambled),
        (Incident::EncryptedUnderAnyName, Suspicion::Scrambled),
        (Incident::EncryptedFolder, Suspicion::Scrambled),
        (Incident::EncryptedDuringBuild, Suspicion::Scrambled),
        (Incident::Blanked, Suspicion::Scrambled),
        (Incident::Deleted, Suspicion::Deleted),
        (Incident::DeletedFolders, Suspicion::Deleted),
    ] {
        home.fill().expect("made anew");
        let before = station.back_up().expect("a point");
        assert_eq!(before.point.suspicion, None, "before {incident:?}: {:?}", before.point.changes);
        home.suffer(incident).expect("it happens");
        let after = station.back_up().expect("backups go on");
        let changes = adds_up(&after);
        assert_eq!(after.point.suspicion, Some(looks), "{incident:?}: {changes:?}");
        let (found, sequence) = (told(&office, &station), after.point.sequence);
        assert!(found.contains(&format!("point {sequence} looks like mass")), "{found}");
        assert!(found.contains(&format!("last good point: {}", before.point.sequence)), "{found}");
        mark(&office, &station, sequence, PointMark::Resolved);
    }
}

fn told(office: &Office, station: &Workstation) -> String {
    let alerts: Alerts = office.api.get("/alerts").expect("seen");
    let name = station.home.membership().expect("joined").name;
    let suspect = alerts.alerts.into_iter().find(|alert| alert.kind == AlertKind::SuspectPoint && alert.subject == name);
    suspect.expect("an alert").says
}

fn mark(office: &Office, station: &Workstation, sequence: u64, mark: PointMark) {
    let store = station.home.membership().expect("joined").store;
    let wish = MarkPoint { mark, reason: "looked at".into(), seen: None };
    let _: Point = office.api.call_with(&calls::mark_point(store, sequence), &wish).expect("marked");
}

#[test]
fn after_an_encrypted_day_the_last_good_point_is_there_past_any_rule_and_restores_what_was() {
    let (office, clock) = Office::stepped("2026-03-02T09:00:00Z".parse().expect("a time"));
    office.unprotected("shelf", "at least 1", None);
    let station = office.workstation("knot");
    let mut home = Home::make(&station.folder.join("home"), "encrypted").expect("made");
    let report = station.folder.join("home/projects/harbour/report 0.odt");
    let good = station.back_up().expect("a point").point.sequence;
    let before = fs::read(&report).expect("read");
    home.suffer(Incident::EncryptedAndRenamed).expect("it happens");
    let suspect = station.back_up().expect("backups go on").point;
    assert_eq!(suspect.suspicion, Some(Suspicion::Scrambled));
    for day in 1..40 {
        clock.set("2026-03-02T09:00:00Z".parse::<jiff::Timestamp>().expect("a time") + (24 * day).hours());
        station.write("today.txt", format!("day {day}"));
        let later = station.back_up().expect("a point").point;
        assert_eq!(later.suspicion, None, "it is judged by its own changes");
        office.tend();
    }
    let there: Vec<u64> = points(&office, &station);
    assert_eq!(there, [41, suspect.sequence, good], "what came after goes by the rule");
    let into = office.path("brought back");
    station.restore(&At::LastGood, &Wish::everything(&into)).expect("restored");
    assert_eq!(fs::read(into.join(relative(&report))).expect("there"), before);
    mark(&office, &station, suspect.sequence, PointMark::Resolved);
    office.tend();
    assert_eq!(points(&office, &station), [41]);
}

#[test]
fn a_service_that_leaves_suspicions_out_of_its_list_is_not_believed() {
    let (mut office, station, mut home) = office_with_home("lied to");
    home.suffer(Incident::EncryptedInPlace).expect("it happens");
    let suspect = station.back_up().expect("backups go on").point.sequence;
    behind_its_back(&mut office, STATEMENT, &["UPDATE points SET suspicion = NULL, changes = NULL"]);
    let browser = Browser::open(&station.home).expect("opened");
    assert!(browser.points().expect("listed").iter().all(|point| !point.is_suspect()), "it says nothing");
    let doubt = browser.point(&At::Latest, PointKind::Files).expect("opened").doubt.expect("its sealed counts do");
    assert_eq!((doubt.suspect, doubt.suspicion, doubt.last_good), (suspect, Some(Suspicion::Scrambled), Some(suspect - 1)));
}

#[test]
fn a_mark_on_the_command_line_replaces_none_that_its_person_did_not_name() {
    let (office, station, mut home) = office_with_home("two at once");
    home.suffer(Incident::EncryptedInPlace).expect("it happens");
    let sequence = station.back_up().expect("backups go on").point.sequence.to_string();
    let desk = office.path("desk");
    let _ = jetfrost_ends(
        &desk,
        &["sign-in", &office.address(), "--login", ADMINISTRATOR, "--fingerprint", &office.fingerprint()],
        0,
    );
    let mark = |arguments: &[&str], code| {
        jetfrost_ends(&desk, &[&["point", "mark", "knot", &sequence], arguments, &["--because", "looked at"]].concat(), code)
    };
    let _ = mark(&["suspect"], 0);
    let refused = mark(&["good"], 1);
    assert!(refused.err.contains("another mark"), "{}", refused.err);
    let done = mark(&["good", "--instead-of", "suspect"], 0);
    assert!(done.out.contains("marked good by ingrid: looked at"), "{}", done.out);
    let listed = jetfrost_ends(&desk, &["point", "list", "knot"], 0);
    assert!(listed.out.contains("marked good by ingrid: looked at"), "whoever is refused finds out why: {}", listed.out);
}

#[test]
fn who_goes_back_to_the_last_good_point_replaces_no_past_also_as_its_bare_directory_tells_it() {
    let (office, station, mut home) = office_with_home("bare");
    home.work(Day::Build).expect("worked");
    station.back_up().expect("a point");
    let good = station.restored(&office.path("good"));
    station.restore_all(&office.path("good")).expect("restored");
    home.suffer(Incident::EncryptedInPlace).expect("it happens");
    let encrypted = station.back_up().expect("backups go on").point;
    fs::remove_dir_all(&station.folder).expect("removed");
    fs::rename(good, &station.folder).expect("put back");
    let after = station.back_up().expect("a point").point;
    assert_eq!((encrypted.suspicion, after.suspicion), (Some(Suspicion::Scrambled), None));
    let store = station.home.membership().expect("joined").store;
    let store = office.path("shelf").join("stores").join(store);
    let passphrase = office.path("passphrase");
    fs::write(&passphrase, PASSPHRASE).expect("written");
    let (store, passphrase) = (store.to_str().expect("text"), passphrase.to_str().expect("text"));
    let arguments = ["points", "--store-directory", store, "--passphrase-file", passphrase, "--json"];
    let said = jetfrost_ends(&office.path("elsewhere"), &arguments, 0).out;
    let points: Vec<Point> = serde_json::from_str(&said).expect("JSON");
    let suspect: Vec<u64> = points.iter().filter(|point| point.is_suspect()).map(|point| point.sequence).collect();
    assert_eq!(suspect, [encrypted.sequence]);
}

fn points(office: &Office, station: &Workstation) -> Vec<u64> {
    let workstation = station.home.membership().expect("joined").workstation;
    let points: Vec<Point> = office.api.all(&calls::points(&workstation)).expect("listed");
    points.iter().map(|point| point.sequence).collect()
}

fn relative(path: &Path) -> &Path {
    path.strip_prefix("/").expect("absolute")
}

#[test]
fn a_workstation_that_forgot_its_last_walk_says_nothing_of_its_changes_rather_than_something_wrong() {
    let (_office, station, mut home) = office_with_home("forgotten");
    home.work(Day::Editing).expect("worked");
    assert!(station.back_up().expect("a point").point.changes.is_some());
    for file in fs::read_dir(station.home.directory().join("memory")).expect("listed") {
        let path = file.expect("an entry").path();
        if path.is_dir() { fs::remove_dir_all(path) } else { fs::remove_file(path) }.expect("removed");
    }
    home.suffer(Incident::Deleted).expect("it happens");
    let report = station.back_up().expect("a point");
    assert_eq!(report.point.changes, None);
}

#[test]
fn whatever_changes_what_a_point_says_of_it_adds_up() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    let mut tree = Tree::new(station.folder.clone(), "changes");
    (0..40).for_each(|_| tree.change());
    let _ = station.back_up().expect("a point");
    for round in 0..wanted("JETFROST_ROUNDS", 12) {
        let before = files_of(&tree.root);
        (0..tree.chance.below(8)).for_each(|_| tree.change());
        let after = files_of(&tree.root);
        let report = station.back_up().expect("a point");
        let changes = adds_up(&report).expect("the last walk is remembered");
        let other = after.iter().filter(|(path, content)| before.get(*path).is_some_and(|was| was != *content)).count() as u64;
        assert!(changes.changed >= other, "round {round}: {changes:?}, {other} have other content at the same path");
        let paths = after.keys().filter(|path| !before.contains_key(*path)).count() as u64;
        assert!(changes.added + changes.renamed + changes.changed >= paths, "round {round}: {changes:?}");
        if before == after {
            assert_eq!((changes.added, changes.changed, changes.gone, changes.renamed), (0, 0, 0, 0), "round {round}");
        }
    }
}

type Files = std::collections::BTreeMap<std::path::PathBuf, Vec<u8>>;

/// Every file below a folder that can be read, with what is in it.
fn files_of(root: &Path) -> Files {
    let (mut folders, mut files) = (vec![root.to_path_buf()], Files::new());
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
            let kind = entry.file_type().expect("known");
            if kind.is_dir() {
                folders.push(entry.path());
            } else if kind.is_file() {
                files.insert(entry.path(), fs::read(entry.path()).unwrap_or_default());
            }
        }
    }
    files
}
