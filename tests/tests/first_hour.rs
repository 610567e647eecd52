//! From nothing to the first restored file, with the programs as a person uses them.

use std::fs;
use std::path::Path;

use jetfrost_tests::programs::{Daemon, first_sign_in, jetfrost_ends};
use jetfrost_tests::witness::listing;

fn text(path: &Path) -> &str {
    path.to_str().expect("text")
}

#[test]
fn an_administrator_starts_a_workstation_joins_and_a_file_comes_back() {
    let test = tempfile::tempdir().expect("a directory");
    let at = |name: &str| test.path().join(name);
    let (admin, station) = (at("admin"), at("station"));
    let daemon = Daemon::start(&at("state"), 0);
    first_sign_in(&daemon, &admin);

    let said =
        jetfrost_ends(&admin, &["destination", "add", "Shelf", text(&at("shelf")), "--capacity", "1GB", "--reserve", "0B"], 0);
    assert!(said.out.contains("room for 1.00 GB"), "{}", said.out);
    let _ = jetfrost_ends(&admin, &["account", "add", "tove", "--name", "Tove Lund", "--no-sign-in"], 0);
    let said = jetfrost_ends(&admin, &["--json", "enrolment", "add", "TOVE"], 0);
    let issued: serde_json::Value = serde_json::from_str(&said.out).expect("JSON");
    let code = issued["code"].as_str().expect("a code");

    let said = jetfrost_ends(&station, &["backup"], 1);
    assert!(said.err.contains("jetfrost join CODE"), "it says what to do: {}", said.err);
    let said = jetfrost_ends(&station, &["join", code, "--name", "dunlin"], 0);
    assert!(said.out.contains("Recovery key"), "{}", said.out);
    let said = jetfrost_ends(&at("another"), &["join", code], 4);
    assert!(said.err.contains("has been used already"), "{}", said.err);

    let files = at("files");
    fs::create_dir_all(files.join("maps/north mole")).expect("a folder");
    fs::write(files.join("maps/north mole/sheet 1.dxf"), "0\nSECTION\n").expect("written");
    fs::write(files.join("letter.odt"), vec![7; 300_000]).expect("written");
    fs::write(files.join("scratch.tmp"), "not worth keeping").expect("written");
    let _ = jetfrost_ends(&station, &["keep", text(&files)], 0);
    let _ = jetfrost_ends(&station, &["skip", "*.tmp"], 0);
    let said = jetfrost_ends(&station, &["backup"], 0);
    assert!(said.out.contains("Point 1 is complete: 2 files"), "{}", said.out);

    let said = jetfrost_ends(&station, &["look", text(&files.join("maps/north mole"))], 0);
    assert!(said.out.contains("sheet 1.dxf"), "{}", said.out);
    let said = jetfrost_ends(&station, &["restore", text(&files.join("letter.odt")), "--to", text(&at("back"))], 0);
    assert!(said.out.starts_with("1 file, 300 kB"), "{}", said.out);
    assert_eq!(fs::read(at("back/letter.odt")).expect("restored"), vec![7; 300_000]);

    fs::remove_file(files.join("scratch.tmp")).expect("removed");
    let _ = jetfrost_ends(&station, &["restore", text(&files), "--to", text(&at("all"))], 0);
    assert_eq!(listing(&at("all/files")), listing(&files));

    let said = jetfrost_ends(&admin, &["workstation", "list"], 0);
    assert!(said.out.contains("dunlin") && said.out.contains("current"), "{}", said.out);
    let said = jetfrost_ends(&station, &["history"], 0);
    assert!(said.out.contains("restore from 1"), "{}", said.out);
    let _ = jetfrost_ends(&station, &["unlock"], 0);
    assert!(daemon.terminate(), "SIGTERM ends it well");
}

#[test]
fn every_list_has_json() {
    let test = tempfile::tempdir().expect("a directory");
    let admin = test.path().join("admin");
    let daemon = Daemon::start(&test.path().join("state"), 0);
    first_sign_in(&daemon, &admin);
    for noun in ["account", "group", "destination", "enrolment", "workstation"] {
        let said = jetfrost_ends(&admin, &[noun, "list", "--json"], 0);
        assert!(serde_json::from_str::<Vec<serde_json::Value>>(&said.out).is_ok(), "{noun}: {}", said.out);
    }
    let _ = jetfrost_ends(&admin, &["sign-out"], 0);
    let said = jetfrost_ends(&admin, &["account", "list"], 4);
    assert!(said.err.contains("jetfrost sign-in"), "{}", said.err);
}
