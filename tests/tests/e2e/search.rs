//! Finding things by name: the catalogue of names held against what looking into every point finds.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;

use jetfrost_client::browse::{At, Browser, EntryKind};
use jetfrost_client::catalogue::Catalogue;
use jetfrost_client::progress::Meter;
use jetfrost_client::selection::Selection;
use jetfrost_client::state_dir::StateDir;
use jetfrost_tests::chance::wanted;
use jetfrost_tests::office::{Office, PASSPHRASE, Workstation};
use jetfrost_tests::programs::{Said, jetfrost_ends};
use jetfrost_wire::workstation::PointKind;

use crate::oracle::Tree;
use crate::refusals::{glob, set_back};

type PointsOfPaths = BTreeMap<Vec<u8>, BTreeSet<u64>>;

fn catalogue(station: &Workstation) -> Catalogue {
    let browser = Browser::open(&station.home).expect("opened");
    Catalogue::up_to_date(&browser, &station.home, &Meter::default()).expect("up to date")
}

/// Which points have each path, as the catalogue tells it.
fn told(station: &Workstation) -> PointsOfPaths {
    let found = catalogue(station).search(&"*".parse().expect("a pattern")).expect("found");
    let points = |found: &jetfrost_client::catalogue::Found| found.versions.iter().flat_map(|v| v.points.clone()).collect();
    found.iter().map(|found| (found.path.clone(), points(found))).collect()
}

/// The same, from looking into every folder of every point.
fn looked(station: &Workstation) -> PointsOfPaths {
    let browser = Browser::open(&station.home).expect("opened");
    let mut all = PointsOfPaths::new();
    for point in browser.points().expect("listed").into_iter().filter(|point| point.kind == PointKind::Files && !point.lost) {
        let opened = browser.point(&At::Sequence(point.sequence), PointKind::Files).expect("opened");
        let mut folders = vec![Vec::new()];
        while let Some(folder) = folders.pop() {
            for entry in browser.list(&opened, &folder).expect("listed") {
                let path = [&folder[..], b"/", &entry.name].concat();
                all.entry(path.clone()).or_default().insert(point.sequence);
                if entry.kind == EntryKind::Directory {
                    folders.push(path);
                }
            }
        }
    }
    all
}

#[test]
fn whatever_changes_search_finds_what_looking_into_every_point_does() {
    let office = Office::open();
    office.unprotected("shelf", "at least 3", None);
    let station = office.workstation("knot");
    station.write("letters/one.odt", "dear Aud");
    let mut tree = Tree::new(station.folder.clone(), "search");
    for round in 0..wanted("JETFROST_ROUNDS", 12) {
        (0..tree.chance.below(8)).for_each(|_| tree.change());
        station.back_up().expect("a point");
        if round % 4 == 2 {
            office.tend();
        }
        if round % 3 == 0 {
            assert_eq!(told(&station), looked(&station), "round {round}");
        }
    }
    assert_eq!(told(&station), looked(&station));
}

/// Where the catalogue of a machine lies.
fn place(home: &StateDir) -> std::path::PathBuf {
    let stores = fs::read_dir(home.directory().join("catalogue")).expect("there");
    stores.map(|store| store.expect("an entry").path()).next().expect("of one store")
}

fn each_file(place: &Path, mut each: impl FnMut(&Path)) {
    for file in fs::read_dir(place).expect("listed") {
        each(&file.expect("an entry").path());
    }
}

/// A disk that loses or alters it, and a program that removes it.
#[test]
fn a_catalogue_that_is_damaged_or_gone_is_made_again() {
    let (_office, station) = Office::with_station("knot");
    (0..50).for_each(|n| station.write(&format!("d{}/f{n}", n % 7), "dear Aud"));
    station.back_up().expect("a point");
    let right = told(&station);
    let place = place(&station.home);
    let damages: [fn(&Path); 4] = [
        |file| {
            let mut bytes = fs::read(file).expect("read");
            let middle = bytes.len() / 2;
            bytes.get_mut(middle).into_iter().for_each(|byte| *byte ^= 4);
            fs::write(file, bytes).expect("written");
        },
        |file| {
            let bytes = fs::read(file).expect("read");
            fs::write(file, &bytes[..bytes.len() / 2]).expect("written");
        },
        |file| fs::write(file, vec![0; 4096]).expect("written"),
        |file| fs::remove_file(file).expect("removed"),
    ];
    for damage in damages {
        for part in ["head", "names-"] {
            each_file(&place, |file| {
                if file.file_name().is_some_and(|name| name.to_string_lossy().starts_with(part)) {
                    damage(file);
                }
            });
            // What it was is found out when it is needed: by a search, or by the next point.
            station.write("d0/f0", "dear Tove");
            station.back_up().expect("a point");
            let paths: Vec<Vec<u8>> = told(&station).into_keys().collect();
            assert_eq!(paths, right.keys().cloned().collect::<Vec<_>>(), "{part}");
            assert_eq!(told(&station), looked(&station), "{part}");
        }
    }
}

#[test]
fn names_are_nowhere_on_the_disk_in_clear() {
    let (_office, station) = Office::with_station("knot");
    station.write("merger-with-nobody-knows-whom/plan.odt", "secret");
    station.back_up().expect("a point");
    assert_eq!(told(&station), looked(&station));
    each_file(&place(&station.home), |file| {
        let bytes = fs::read(file).expect("read");
        assert!(!bytes.windows(18).any(|part| part == b"nobody-knows-whom/"), "{}", file.display());
        assert!(!bytes.windows(17).any(|part| part == b"nobody-knows-whom"), "{}", file.display());
    });
}

#[test]
fn at_the_command_line() {
    let (mut office, station) = Office::with_station("knot");
    let run = |arguments: &[&str], code: i32| -> Said { jetfrost_ends(station.home.directory(), arguments, code) };
    station.write("letters/Invoice 7.odt", "dear Aud");
    station.write("letters/plan.odt", "the plan");
    station.back_up().expect("a point");
    station.write("letters/Invoice 7.odt", "dear Tove");
    fs::remove_file(station.folder.join("letters/plan.odt")).expect("removed");
    station.back_up().expect("a point");
    let said = run(&["search", "invoice"], 0);
    assert!(said.out.contains("letters/Invoice 7.odt") && said.out.contains("1-2"), "{}", said.out);
    let json: serde_json::Value = serde_json::from_str(&run(&["search", "letters/*.ODT", "--json"], 0).out).expect("JSON");
    assert_eq!(json["found"], 2);
    assert_eq!(json["paths"][0]["versions"].as_array().expect("versions").len(), 2);
    let said = run(&["search", "letters/*", "--gone"], 0);
    assert!(said.out.contains("plan.odt") && !said.out.contains("Invoice"), "{}", said.out);
    assert!(run(&["search", "nowhere"], 0).out.contains("No match in 2 points."));
    assert!(run(&["search", "*", "--most", "1"], 0).out.contains("The first 1 of"));
    let _ = run(&["search", "["], 1);
    // A machine that is no workstation looks into a directory.
    let elsewhere = tempfile::tempdir().expect("a directory");
    office.stop();
    let store = office.path("shelf").join("stores").join(station.home.membership().expect("joined").store);
    fs::write(elsewhere.path().join("passphrase"), PASSPHRASE).expect("written");
    let (store, passphrase) = (store.to_str().expect("text"), elsewhere.path().join("passphrase"));
    let arguments = ["search", "plan", "--store-directory", store, "--passphrase-file", passphrase.to_str().expect("text")];
    assert!(jetfrost_ends(&elsewhere.path().join("home"), &arguments, 0).out.contains("plan.odt"));
}

/// A disk that lost a point, and then has it again, such as from a copy.
#[test]
fn a_point_that_is_lost_is_told_and_searched_once_it_is_back() {
    let (office, station) = Office::with_station("knot");
    for n in 1..=3 {
        station.write(&format!("only in {n}"), "dear Aud");
        station.back_up().expect("a point");
        fs::remove_file(station.folder.join(format!("only in {n}"))).expect("removed");
    }
    let all = looked(&station);
    let mut points = glob(&office.path("shelf"), "point");
    points.sort();
    let (second, aside) = (&points[1], office.path("aside"));
    fs::rename(second, &aside).expect("moved");
    let catalogue_now = catalogue(&station);
    assert_eq!((catalogue_now.unreadable(), catalogue_now.points().len()), (&[2][..], 2));
    assert!(!told(&station).keys().any(|path| path.ends_with(b"only in 2")));
    fs::rename(&aside, second).expect("moved");
    assert_eq!(told(&station), all);
}

/// Other points have the numbers of those that are known.
#[test]
fn of_a_store_that_was_set_back_the_catalogue_is_made_again() {
    for points_since in 1..=2 {
        let (mut office, station) = Office::with_station("knot");
        for n in 1..=2 {
            station.write(&format!("before/{n}"), "dear Aud");
            station.back_up().expect("a point");
        }
        assert_eq!(told(&station), looked(&station));
        set_back(&mut office);
        station.home.forget_seen().expect("a person decided");
        fs::remove_dir_all(station.folder.join("before")).expect("removed");
        for n in 1..=points_since {
            station.write(&format!("since/{n}"), "dear Tove");
            station.back_up().expect("a point");
        }
        assert_eq!(told(&station), looked(&station), "{points_since}");
    }
}

#[test]
fn a_selection_that_leaves_everything_out_leaves_the_points_before_in_the_catalogue() {
    let (_office, station) = Office::with_station("knot");
    station.write("letters/one.odt", "dear Aud");
    station.back_up().expect("a point");
    let other = tempfile::tempdir().expect("a directory");
    let mut selection = Selection::default();
    selection.include(other.path()).expect("there");
    station.home.write_selection(&selection).expect("kept");
    station.back_up().expect("a point");
    assert_eq!(told(&station), looked(&station));
}
