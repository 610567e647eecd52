//! The agent: the real program beside a real service, killed and interrupted, and told by commands.

use std::path::Path;
use std::time::{Duration, Instant};

use jetfrost_tests::office::{ADMINISTRATOR, Office, Workstation};
use jetfrost_tests::programs::{Going, jetfrost, jetfrost_ends, start};
use jetfrost_wire::calls;
use jetfrost_wire::point::Point;
use jetfrost_wire::run::{BeginRun, GiveUp, Progress};
use jetfrost_wire::workstation::PointKind;
use serde_json::Value;

/// An agent that says a line whenever it does something else.
fn agent(home: &Path) -> Going {
    start(jetfrost(home).args(["agent", "run"]))
}

fn line(agent: &Going, what: &str) -> String {
    agent.line(what, |line| line.contains(what))
}

fn points(office: &Office, station: &Workstation) -> usize {
    let workstation = station.home.membership().expect("joined").workstation;
    let points: Vec<Point> = office.api.list(&format!("/workstations/{workstation}/points")).expect("listed");
    points.len()
}

/// What the office knows of the agent.
fn reported(office: &Office, station: &Workstation) -> Value {
    let workstation = station.home.membership().expect("joined").workstation;
    let shown: Value = office.api.get(&format!("/workstations/{workstation}")).expect("there");
    shown["agent"].clone()
}

fn status(home: &Path) -> Value {
    serde_json::from_str(&jetfrost_ends(home, &["--json", "agent", "status"], 0).out).expect("JSON")
}

/// Looks until what the agent says of itself is as it should be.
fn until(home: &Path, what: &str, is_so: impl Fn(&Value) -> bool) {
    let end = Instant::now() + Duration::from_secs(60);
    loop {
        let status = status(home);
        if is_so(&status) {
            return;
        }
        assert!(Instant::now() < end, "{what}: {status}");
    }
}

#[test]
fn an_agent_backs_up_without_being_asked_and_says_when_it_does_so_next() {
    let (office, station) = Office::with_station("dunlin");
    let home = station.home.directory();
    let said = jetfrost_ends(home, &["agent", "status"], 1);
    assert!(said.err.contains("jetfrost agent install"), "it says what to do: {}", said.err);
    let agent = agent(home);
    // It keeps its distance to others first; a person does not wait for that.
    let _ = line(&agent, "waiting; the next backup is due");
    let _ = jetfrost_ends(home, &["agent", "start-now"], 0);
    let _ = line(&agent, "backing up since");
    let _ = line(&agent, "waiting; the next backup is due");
    let status = status(home);
    assert!(status["completed"].is_string() && status["failed"].is_null() && status["now"]["doing"] == "waiting", "{status}");
    assert!(points(&office, &station) >= 1);
    // It reports right after.
    let end = Instant::now() + Duration::from_secs(20);
    while reported(&office, &station)["due"].is_null() {
        assert!(Instant::now() < end, "{}", reported(&office, &station));
    }
    let second = jetfrost(home).args(["agent", "run"]).output().expect("it ends");
    assert!(!second.status.success() && String::from_utf8_lossy(&second.stderr).contains("already running"));
}

#[test]
fn without_the_service_a_backup_is_delayed_and_not_failed_and_killing_the_agent_loses_none_of_that() {
    let (mut office, station) = Office::with_station("dunlin");
    let home = station.home.directory();
    let first = agent(home);
    let _ = line(&first, "waiting; the next backup is due");
    office.stop();
    let _ = jetfrost_ends(home, &["agent", "start-now"], 0);
    let delayed = line(&first, "the service has not answered");
    assert!(delayed.contains("jetfrost diagnose"), "it says what to do: {delayed}");
    until(home, "the reason", |status| status["now"]["reason"] == "office_unreachable");
    let before = status(home);
    assert_eq!((&before["now"]["reason"], &before["failed"]), (&Value::from("office_unreachable"), &Value::Null));
    drop(first);
    let second = agent(home);
    let _ = line(&second, "the service has not answered");
    assert_eq!(status(home)["now"]["since"], before["now"]["since"], "it is late since then");
    office.start();
    let _ = jetfrost_ends(home, &["agent", "start-now"], 0);
    let _ = line(&second, "waiting; the next backup is due");
    assert!(points(&office, &station) >= 1);
    second.terminate();
    let said = jetfrost_ends(home, &["agent", "status"], 1);
    assert!(said.err.contains("No agent is running"), "{}", said.err);
}

#[test]
fn a_pause_is_a_reason_and_a_person_at_the_machine_may_back_up_all_the_same() {
    let (office, station) = Office::with_station("dunlin");
    let home = station.home.directory();
    let agent = agent(home);
    let _ = line(&agent, "waiting; the next backup is due");
    let said = jetfrost_ends(home, &["agent", "pause", "--until", "200h"], 1);
    assert!(said.err.contains("seven days"), "{}", said.err);
    let said = jetfrost_ends(home, &["agent", "pause", "--until", "2h"], 0);
    assert!(said.out.contains("jetfrost agent resume"), "{}", said.out);
    let paused = line(&agent, "the agent has been paused");
    assert!(paused.contains("a backup is due, but"), "{paused}");
    let _ = jetfrost_ends(home, &["backup", "--quiet"], 0);
    let _ = jetfrost_ends(home, &["agent", "start-now"], 0);
    let _ = line(&agent, "backing up since");
    let _ = line(&agent, "waiting; the next backup is due");
    assert!(points(&office, &station) >= 2);
}

#[test]
fn what_an_administrator_sets_reaches_a_connected_agent_also_after_the_service_was_away() {
    let (mut office, station) = Office::with_station("dunlin");
    let home = station.home.directory();
    let admin = office.path("admin");
    let sign_in = ["sign-in", &office.address(), "--login", ADMINISTRATOR, "--fingerprint", &office.fingerprint()];
    let _ = jetfrost_ends(&admin, &sign_in, 0);
    let said = jetfrost_ends(&admin, &["workstation", "pause", "dunlin", "--until", "48h"], 0);
    assert!(said.out.contains("jetfrost workstation resume"), "{}", said.out);
    let agent = agent(home);
    let _ = line(&agent, "an administrator has paused this workstation");
    let set = ["schedule", "set", "--destination", "shelf", "--rate", "5MB", "--rate-hours", "always"];
    let said = jetfrost_ends(&admin, &set, 0);
    assert!(said.out.contains("Set for destination shelf: at most 5.00 MB/s"), "{}", said.out);
    until(home, "the rate", |status| status["schedule"]["values"]["rate"]["bytes_per_second"] == 5_000_000);
    let said = jetfrost_ends(&admin, &["workstation", "back-up", "dunlin"], 0);
    assert!(said.out.contains("It starts within seconds."), "{}", said.out);
    let _ = line(&agent, "backing up since");
    let _ = line(&agent, "waiting; the next backup is due");
    assert_eq!(points(&office, &station), 1, "what was asked for is made, once, at the rate that is set");
    let said = jetfrost_ends(&admin, &["workstation", "resume", "dunlin"], 0);
    assert!(said.out.contains("makes backups again"), "{}", said.out);
    until(home, "no pause", |status| status["paused_by_office_until"].is_null());
    office.stop();
    office.start();
    let said = jetfrost_ends(&admin, &["schedule", "set", "--workstation", "dunlin", "--every", "30m"], 0);
    assert!(said.out.contains("every 30 minutes (set for this workstation)"), "{}", said.out);
    until(home, "the rhythm", |status| status["schedule"]["values"]["rhythm_seconds"] == 1_800);
}

#[test]
fn a_backup_by_hand_and_an_agent_wait_in_the_queue_know_their_place_and_start_when_it_is_their_turn() {
    let (office, station) = Office::with_station("dunlin");
    let others = [office.workstation("knot"), office.workstation("avocet")];
    let admin = office.path("admin");
    let sign_in = ["sign-in", &office.address(), "--login", ADMINISTRATOR, "--fingerprint", &office.fingerprint()];
    let _ = jetfrost_ends(&admin, &sign_in, 0);
    let said = jetfrost_ends(&admin, &["settings", "set", "--runs-at-once", "1"], 0);
    assert!(said.out.contains("At most 1 backup at once."), "{}", said.out);
    // A run that goes on until it is given up.
    let (membership, api) = station.home.device_api().expect("joined");
    let begin = BeginRun { kind: PointKind::Files, client_version: "0.3.0".into() };
    let begun = api.call_with(&calls::begin_run(&membership.workstation), &begin).expect("admitted");
    let home = others[0].home.directory();
    others[0].write("letter.odt", "what it says");
    others[1].write("letter.odt", "what it says");
    let agent = agent(home);
    let _ = line(&agent, "waiting; the next backup is due");
    let _ = jetfrost_ends(home, &["agent", "start-now"], 0);
    let _ = line(&agent, "it has been waiting in the service's queue");
    assert_eq!(status(home)["queue"]["place"], 1);
    // It reports right after.
    let end = Instant::now() + Duration::from_secs(20);
    while !jetfrost_ends(&admin, &["workstation", "list"], 0).out.contains("at place 1 of the queue") {
        assert!(Instant::now() < end, "the administrator sees its place");
    }
    let by_hand = start(jetfrost(others[1].home.directory()).args(["backup", "--json"]));
    let waits = |place: u32| {
        let shown: Value = office.api.get("/workstations").expect("listed");
        shown["items"].as_array().expect("a list").iter().any(|w| w["name"] == "avocet" && w["queued_at"] == place)
    };
    let end = Instant::now() + Duration::from_secs(60);
    while !waits(2) {
        assert!(Instant::now() < end, "it waits behind the agent's");
    }
    let why = GiveUp { stopped: true, reason: "enough".into(), progress: Progress::default() };
    let _ = api.call_with(&calls::give_up_run(&begun.run.id), &why).expect("given up");
    let _ = line(&agent, "waiting; the next backup is due");
    let _ = by_hand.line("a point", |line| line.contains("\"sequence\""));
    assert_eq!((points(&office, &others[0]), points(&office, &others[1])), (1, 1));
}
