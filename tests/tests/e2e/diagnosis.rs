//! Diagnosis: each cause for which a backup fails is made, and the right one is named, with whose move it is.

use std::fs;
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::time::{Duration, Instant};

use jetfrost_client::join::{claim, go_back};
use jetfrost_client::state_dir::StateDir;
use jetfrost_tests::office::{ADMINISTRATOR, Office, PASSPHRASE, Workstation};
use jetfrost_tests::programs::{jetfrost, jetfrost_ends, start};
use jetfrost_wire::diagnosis::LastDiagnosis;
use jetfrost_wire::enrolment::{Invitation, IssuedCode, NewEnrolmentCode};
use jetfrost_wire::retention::StoreSettings;
use jetfrost_wire::service::{Maintenance, MaintenanceState, NewBackups};
use jetfrost_wire::workstation::Workstation as Record;
use jiff::SignedDuration;
use serde_json::Value;

/// The steps of a diagnosis, with what each came to.
struct Diagnosed(Vec<Value>);

impl Diagnosed {
    /// Of a workstation; the command must end with this code.
    fn at(home: &Path, code: i32) -> Self {
        let said: Value = serde_json::from_str(&jetfrost_ends(home, &["--json", "diagnose"], code).out).expect("JSON");
        Self(said["diagnosis"]["steps"].as_array().expect("steps").clone())
    }

    /// The step that explains the rest, whose move it is, and all that is said of it.
    fn ends(&self) -> (&str, &str, String) {
        let last = self.0.last().expect("a step");
        assert_eq!(last["result"], "failed", "{last}");
        assert!(self.0.iter().rev().skip(1).all(|step| step["result"] != "failed"), "one explains the rest: {:?}", self.0);
        let text = |field: &str| last[field].as_str().unwrap_or_default();
        (text("step"), text("whose_move"), format!("{} {}", text("says"), text("next")))
    }

    fn of(&self, step: &str) -> &Value {
        self.0.iter().find(|line| line["step"] == step).unwrap_or_else(|| panic!("no step {step}: {:?}", self.0))
    }
}

/// What ends a diagnosis of a workstation: step, whose move, text.
fn ends(station: &Workstation) -> (String, String, String) {
    let found = Diagnosed::at(station.home.directory(), 1);
    let (step, whose, says) = found.ends();
    (step.to_owned(), whose.to_owned(), says)
}

/// Changes a file of the workstation's state directory.
fn change(station: &Workstation, file: &str, change: impl FnOnce(&mut Value)) {
    let path = station.home.directory().join(file);
    let mut value: Value = serde_json::from_slice(&fs::read(&path).expect("there")).expect("JSON");
    change(&mut value);
    fs::write(&path, value.to_string()).expect("written");
}

fn last(office: &Office, station: &Workstation) -> LastDiagnosis {
    let id = station.home.membership().expect("joined").workstation;
    office.api.get(&format!("/workstations/{id}/diagnosis")).expect("there")
}

#[test]
fn a_workstation_that_can_be_backed_up_is_told_so_and_nothing_stays_behind() {
    let (office, station) = Office::with_station("dunlin");
    let home = station.home.directory();
    let files = |at: &Path| {
        let found = walkdir(at);
        found.into_iter().filter(|path| !path.to_string_lossy().contains("records")).collect::<Vec<_>>()
    };
    let before = (files(&office.path("shelf")), files(home));
    let found = Diagnosed::at(home, 3);
    assert_eq!((files(&office.path("shelf")), files(home)), before);
    let steps: Vec<&str> = found.0.iter().filter_map(|line| line["step"].as_str()).collect();
    let expected = [
        "joined",
        "name",
        "discovery",
        "port",
        "identity",
        "clock",
        "credential",
        "account",
        "maintenance",
        "destination",
        "access",
        "capacity",
        "write_test",
        "round_trip",
        "history",
        "keys",
        "sources",
        "room",
        "network",
        "agent",
        "drill",
        "proof",
    ];
    assert_eq!(steps, expected);
    let noticed: Vec<&Value> = found.0.iter().filter(|line| line["result"] == "noticed").map(|line| &line["step"]).collect();
    assert_eq!(noticed, ["agent"], "no agent runs in this test");
    let shown = last(&office, &station).found.expect("the service was told");
    assert!(shown.well && shown.steps.len() == steps.len() && shown.room.is_some(), "{shown:?}");
    let said = jetfrost_ends(home, &["diagnose"], 3).out;
    assert!(said.contains("LOOK") && said.contains("Next: Let backups be made by themselves"), "{said}");
}

#[test]
fn whoever_cannot_reach_the_service_learns_where_it_ends() {
    let (mut office, station) = Office::with_station("dunlin");
    let address = office.address();
    let goes_to = |address: &str| change(&station, "workstation.json", |known| known["address"] = address.into());
    let nobody = StateDir::new(office.path("nobody"));
    assert_eq!(Diagnosed::at(nobody.directory(), 1).ends().0, "joined");
    assert!(!nobody.directory().exists(), "nothing is kept for nobody");

    goes_to("quay.invalid:7410");
    let (step, whose, says) = ends(&station);
    assert_eq!((step.as_str(), whose.as_str()), ("name", "administrator"), "{says}");
    assert!(says.contains("quay.invalid does not resolve"), "{says}");

    // Something that is no service of this kind: it takes a connection and hangs up.
    let other = TcpListener::bind("127.0.0.1:0").expect("bound");
    goes_to(&other.local_addr().expect("bound").to_string());
    std::thread::spawn(move || other.incoming().for_each(drop));
    let (step, _, says) = ends(&station);
    assert_eq!(step, "identity", "{says}");
    assert!(says.contains("does not answer as the service"), "{says}");

    let other_office = Office::open();
    goes_to(&other_office.address());
    let (step, whose, says) = ends(&station);
    assert_eq!((step.as_str(), whose.as_str()), ("identity", "administrator"), "{says}");
    assert!(says.contains("another service") && says.contains("accept-identity"), "{says}");
    // Nor is that taken for the service's new address.
    let refused = jetfrost_ends(station.home.directory(), &["accept-address", &other_office.address()], 5).err;
    assert!(refused.contains("another service"), "{refused}");

    goes_to(&address);
    office.stop();
    let (step, whose, says) = ends(&station);
    assert_eq!((step.as_str(), whose.as_str()), ("port", "administrator"), "{says}");
    assert!(says.contains("nothing listens on port"), "{says}");
    // What could not be told is told by the agent, once it can.
    office.start();
    assert!(last(&office, &station).found.is_none());
    let _agent = start(jetfrost(station.home.directory()).args(["agent", "run"]));
    let end = Instant::now() + Duration::from_secs(60);
    while last(&office, &station).found.is_none() {
        assert!(Instant::now() < end, "the agent tells what was kept");
    }
}

#[test]
fn a_service_that_was_followed_is_left_again_for_the_address_that_a_person_gave() {
    let (office, station) = Office::with_station("dunlin");
    let (given, followed) = (format!("localhost:{}", office.port()), format!("127.0.0.1:{}", office.port()));
    let is_followed = |given: &str| {
        change(&station, "workstation.json", |known| {
            known["address"] = followed.clone().into();
            known["moved_from"] = given.into();
        });
    };
    let other = Office::open();
    for elsewhere in [other.address(), "quay.invalid:7410".to_owned()] {
        is_followed(&elsewhere);
        assert_eq!(go_back(&station.home).expect("tried"), None, "what is not the service is not gone back to");
        assert_eq!(station.home.membership().expect("joined").address, followed);
    }
    is_followed(&given);
    let back = go_back(&station.home).expect("tried").expect("gone back");
    assert_eq!((back.address.as_str(), back.moved_from), (given.as_str(), None));
    station.back_up().expect("it answers there");
}

#[test]
fn clocks_that_are_days_apart_are_told_before_what_comes_of_them() {
    let (office, _clock) = Office::stepped(jiff::Timestamp::now() - SignedDuration::from_hours(30));
    office.destination("shelf");
    let station = office.workstation("dunlin");
    let (step, whose, says) = ends(&station);
    assert_eq!((step.as_str(), whose.as_str()), ("clock", "workstation"), "{says}");
    assert!(says.contains("30 h ahead of"), "{says}");
}

#[test]
fn whoever_lost_the_right_to_back_up_learns_why() {
    let (office, station) = Office::with_station("dunlin");
    let shelf = office.path("shelf");
    let set = |new_backups| {
        let to = Maintenance { backups: new_backups, restores: true };
        let _: MaintenanceState = office.put("/maintenance", &to).expect("set");
    };
    set(NewBackups::Off);
    assert_eq!(ends(&station).0, "maintenance");
    set(NewBackups::On);

    fs::rename(&shelf, office.path("unplugged")).expect("unplugged");
    let (step, whose, says) = ends(&station);
    assert_eq!((step.as_str(), whose.as_str()), ("destination", "administrator"), "{says}");
    fs::rename(office.path("unplugged"), &shelf).expect("plugged in");

    let m = station.home.membership().expect("joined");
    let disable = |disabled: bool| {
        let account: Record = office.api.get(&format!("/workstations/{}", m.workstation)).expect("there");
        let path = format!("/accounts/{}/disabled", account.account);
        if disabled {
            let _: Value = office.put(&path, &()).expect("disabled");
        } else {
            office.api.delete(&path).expect("enabled");
        }
    };
    disable(true);
    let (step, whose, says) = ends(&station);
    assert_eq!((step.as_str(), whose.as_str()), ("credential", "administrator"), "{says}");
    assert!(says.contains("account is disabled"), "{says}");
    disable(false);

    let handed_over = StateDir::new(office.path("new-laptop"));
    let new = NewEnrolmentCode { claims: Some(m.name.clone()), ..NewEnrolmentCode::new(&m.login) };
    let code: IssuedCode = office.api.post("/enrolment-codes", &new).expect("made");
    claim(&handed_over, &Invitation::parse(&code.code).expect("a code")).expect("claimed");
    let (step, _, says) = ends(&station);
    assert_eq!(step, "credential", "{says}");
    assert!(says.contains("taken over by another machine"), "{says}");
    let found = Diagnosed::at(handed_over.directory(), 1);
    let (step, whose, says) = found.ends();
    assert_eq!((step, whose), ("keys", "workstation"), "{says}");
    assert!(says.contains("jetfrost unlock"), "{says}");
    let _: Record = office.put(&format!("/workstations/{}/retired", m.workstation), &()).expect("retired");
    let found = Diagnosed::at(handed_over.directory(), 1);
    assert!(found.ends().2.contains("was retired"), "{:?}", found.ends());
}

#[test]
fn what_is_wrong_at_the_workstation_itself_is_found_and_names_stay_there() {
    let (office, station) = Office::with_station("dunlin");
    let home = station.home.directory();
    station.back_up().expect("backed up");

    change(&station, "seen.json", |seen| seen["sequence"] = 9.into());
    let (step, whose, says) = ends(&station);
    assert_eq!((step.as_str(), whose.as_str()), ("history", "administrator"), "a stale copy of a destination: {says}");
    change(&station, "seen.json", |seen| seen["sequence"] = 1.into());

    let key = home.join("store-key");
    fs::rename(&key, home.join("away")).expect("lost");
    assert_eq!(ends(&station).0, "keys");
    fs::rename(home.join("away"), &key).expect("back");

    let secret = office.path("secret plans");
    fs::create_dir(&secret).expect("made");
    let _ = jetfrost_ends(home, &["include", secret.to_str().expect("text")], 0);
    fs::remove_dir(&secret).expect("gone");
    let said = jetfrost_ends(home, &["diagnose"], 3).out;
    assert!(said.contains("1 of 2 included") && said.contains("secret plans"), "{said}");
    let told = serde_json::to_string(&last(&office, &station)).expect("JSON");
    assert!(told.contains("1 of 2 included") && !told.contains("secret plans"), "{told}");

    // Nor why a backup of the agent failed, which may name anything.
    let program = office.path("secret-program");
    fs::write(&program, "#!/bin/sh\nexit 1\n").expect("written");
    fs::set_permissions(&program, fs::Permissions::from_mode(0o700)).expect("set");
    let _ = jetfrost_ends(home, &["hook", "set", "before", program.to_str().expect("text")], 0);
    let agent = start(jetfrost(home).args(["agent", "run"]));
    let _ = agent.line("it runs", |line| line.contains("waiting"));
    let _ = jetfrost_ends(home, &["agent", "start-now"], 0);
    let end = Instant::now() + Duration::from_secs(60);
    let said = loop {
        let said = jetfrost_ends(home, &["diagnose"], 3).out;
        if said.contains("the last backup failed") {
            break said;
        }
        assert!(Instant::now() < end, "{said}");
    };
    assert!(said.contains("command before"), "the person is told: {said}");
    let told = serde_json::to_string(&last(&office, &station)).expect("JSON");
    assert!(told.contains("the last backup failed") && !told.contains("secret"), "{told}");
}

#[test]
fn room_is_judged_by_what_the_first_backup_needs_and_not_by_whether_a_byte_fits() {
    let (office, station) = Office::with_station("dunlin");
    station.write("film.raw", vec![7; 8_000_000]);
    let limit = StoreSettings { limit: Some(6_000_000), retention: None };
    let _: Record = office.put(&format!("{}/settings", station.store()), &limit).expect("set");
    let (step, whose, says) = ends(&station);
    assert_eq!((step.as_str(), whose.as_str()), ("room", "administrator"), "{says}");
    assert!(says.contains("The first backup does not fit") && says.contains("jetfrost selection estimate"), "{says}");
}

#[test]
fn a_secret_that_was_tried_is_on_record_as_proved() {
    let (office, station) = Office::with_station("dunlin");
    let home = station.home.directory();
    let passphrase = office.path("passphrase");
    fs::write(&passphrase, "not this one at all").expect("written");
    let file = passphrase.to_str().expect("text");
    let _ = jetfrost_ends(home, &["unlock", "--passphrase-file", file], 4);
    let proof = || {
        let id = station.home.membership().expect("joined").workstation;
        let shown: Record = office.api.get(&format!("/workstations/{id}")).expect("there");
        shown.store.proof
    };
    assert_eq!(proof(), None, "what opens nothing proves nothing");
    fs::write(&passphrase, PASSPHRASE).expect("written");
    let said = jetfrost_ends(home, &["unlock", "--passphrase-file", file], 0).out;
    assert!(said.contains("on record as proof") && proof().is_some(), "{said}");
    let found = Diagnosed::at(home, 3);
    assert!(found.of("proof")["says"].as_str().is_some_and(|says| says.contains("the image passphrase works")));
    let log = serde_json::to_string(&office.api.list::<Value>("/audit").expect("listed")).expect("JSON");
    assert!(log.contains("secret proved") && log.contains("dunlin"), "{ADMINISTRATOR} sees it");
}

/// All files below a directory.
fn walkdir(at: &Path) -> Vec<std::path::PathBuf> {
    let entries = fs::read_dir(at).expect("readable").map(|entry| entry.expect("an entry").path());
    let mut found: Vec<_> = entries.flat_map(|path| if path.is_dir() { walkdir(&path) } else { vec![path] }).collect();
    found.sort();
    found
}
