//! The audit log: what is put on record, that nobody fills it, and that it cannot be made to fit afterwards.

use std::process::Command;

use jetfrost_client::ClientError;
use jetfrost_client::api::Api;
use jetfrost_tests::office::{Office, PASSWORD};
use jetfrost_wire::alerts::{AlertKind, Alerts};
use jetfrost_wire::calls;
use jetfrost_wire::people::Role;
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::restore::{BeginRestore, Purpose, Restore, Scope};
use jetfrost_wire::run::{BeginRun, RunBegun};
use jetfrost_wire::service::{AuditCheck, AuditEntry, Carry, IssuedToken, NewToken, SignIn, SignedIn, TokenScope};
use jetfrost_wire::workstation::{PointKind, Slots};
use jiff::ToSpan;
use serde_json::Value;

const START: &str = "2026-10-01T10:00:00Z";

fn check(office: &Office) -> AuditCheck {
    office.api.get("/audit/check").expect("checked")
}

fn list(office: &Office, query: &str) -> Vec<AuditEntry> {
    office.api.list(&format!("/audit?{query}")).expect("listed")
}

fn sign_in(office: &Office, login: &str, password: &str) -> Result<SignedIn, ClientError> {
    let api = Api::new(&office.address(), Some(&office.fingerprint())).expect("a service");
    let call = SignIn { login: login.into(), password: password.into(), code: None, carry: Carry::Token, label: None };
    api.post("/sessions", &call)
}

/// Does something to the records file behind the service's back, and says what it wrote.
pub(crate) fn behind_its_back(office: &mut Office, script: &str, arguments: &[&str]) -> String {
    office.stop();
    let records = office.path("state/records.sqlite").display().to_string();
    let said = Command::new("python3").args(["-c", script, &records]).args(arguments).output().expect("python3 runs");
    assert!(said.status.success(), "{said:?}");
    office.start();
    String::from_utf8(said.stdout).expect("text")
}

pub(crate) const STATEMENT: &str = "import sqlite3,sys; c=sqlite3.connect(sys.argv[1]); c.execute(sys.argv[2]); c.commit()";
const READ: &str = "import sqlite3,sys,json; c=sqlite3.connect(sys.argv[1]); print(json.dumps(c.execute('SELECT number,at,who,origin,what,subject,before,after,refused FROM audit ORDER BY number').fetchall()))";
const LINKS: &str = "import sqlite3,sys,json; c=sqlite3.connect(sys.argv[1]); [c.execute('UPDATE audit SET link=? WHERE number=?', (bytes.fromhex(l), n)) for n,l in json.loads(sys.argv[2])]; c.commit()";

/// The chain over what is in the file now, as anybody can compute it.
fn chained_again(rows: &Value) -> Vec<(i64, String)> {
    let mut link = Vec::new();
    let mut links = Vec::new();
    for row in rows.as_array().expect("rows") {
        let mut hasher = blake3::Hasher::new();
        let mut field = |bytes: &[u8]| {
            hasher.update(&(bytes.len() as u64).to_le_bytes());
            hasher.update(bytes);
        };
        let number = row[0].as_i64().expect("a number");
        field(&link);
        field(&number.to_le_bytes());
        field(&row[1].as_i64().expect("a time").to_le_bytes());
        (2..6).for_each(|i| field(row[i].as_str().expect("text").as_bytes()));
        for i in [6, 7] {
            field(&[u8::from(!row[i].is_null())]);
            field(row[i].as_str().unwrap_or_default().as_bytes());
        }
        field(&[u8::from(row[8].as_i64() == Some(1))]);
        link = hasher.finalize().as_bytes().to_vec();
        links.push((number, link.iter().map(|byte| format!("{byte:02x}")).collect()));
    }
    links
}

#[test]
fn a_log_that_was_altered_and_chained_again_is_contradicted_by_the_heads_on_the_destinations() {
    let (mut office, clock) = Office::stepped(START.parse().expect("a time"));
    office.destination("shelf");
    office.account("tove", Role::Member);
    office.tend();
    let sound = check(&office);
    assert_eq!((sound.broken_at, sound.heads[0].agree, sound.heads[0].contradicted_at), (None, 1, None));

    behind_its_back(&mut office, STATEMENT, &["UPDATE audit SET who = 'nobody' WHERE number = 2"]);
    let rows = serde_json::from_str(&behind_its_back(&mut office, READ, &[])).expect("JSON");
    let links = serde_json::to_string(&chained_again(&rows)).expect("JSON");
    behind_its_back(&mut office, LINKS, &[&links]);
    let forged = check(&office);
    assert_eq!(forged.broken_at, None, "the chain alone shows nothing");
    assert!(forged.heads[0].contradicted_at.is_some(), "{forged:?}");

    clock.set(START.parse::<jiff::Timestamp>().expect("a time") + 3.hours());
    office.tend();
    let alerts: Alerts = office.api.get("/alerts").expect("told");
    assert_eq!(alerts.alerts[0].kind, AlertKind::AuditAltered, "{alerts:?}");
    assert_eq!(check(&office).heads[0].agree, 0, "and no head makes it right");
}

#[test]
fn entries_taken_off_the_end_are_missed_by_the_heads() {
    let (mut office, clock) = Office::stepped(START.parse().expect("a time"));
    office.destination("shelf");
    office.tend();
    for hour in 1..4 {
        clock.set(START.parse::<jiff::Timestamp>().expect("a time") + hour.hours());
        office.account(&format!("member{hour}"), Role::Member);
        office.tend();
    }
    assert_eq!(check(&office).heads[0].agree, 4, "one an hour");
    behind_its_back(&mut office, STATEMENT, &["DELETE FROM audit WHERE number > (SELECT max(number) - 2 FROM audit)"]);
    let cut = check(&office);
    assert_eq!(cut.broken_at, None);
    assert!(cut.heads[0].contradicted_at.is_some(), "{cut:?}");
}

#[test]
fn a_service_without_its_audit_key_makes_another_and_says_so() {
    let (mut office, _clock) = Office::stepped(START.parse().expect("a time"));
    office.destination("shelf");
    office.tend();
    office.stop();
    std::fs::remove_file(office.path("state/audit-key")).expect("there");
    office.start();
    office.tend();
    let found = check(&office);
    assert_eq!((found.heads[0].agree, found.heads[0].by_other_keys, found.heads[0].contradicted_at), (1, 1, None));
    assert_eq!(list(&office, "text=audit%20key%20made").len(), 2);
}

#[test]
fn who_reads_an_image_store_without_a_restore_is_on_record_once_an_hour() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "dear Aud");
    station.back_up().expect("backed up");
    let reads = || list(&office, "text=read%20without").iter().map(|entry| entry.who.clone()).collect::<Vec<_>>();
    assert!(reads().is_empty(), "a run reads for itself");
    station.restore_all(&office.path("back")).expect("restored");
    assert!(reads().is_empty(), "a restore is on record itself");
    office.account("hedda", Role::Helpdesk);
    let helpdesk = office.signed_in("hedda");
    for _ in 0..5 {
        let _: Slots = helpdesk.get(&format!("{}/slots", station.store())).expect("read");
    }
    assert_eq!(reads(), ["hedda"]);
    let membership = station.home.membership().expect("joined");
    let begin = BeginRestore { point: 1, scope: Scope::Everything, purpose: Purpose::Restore, target: None, order: None };
    let path = format!("/workstations/{}/restores", membership.workstation);
    let _: Restore = office.api.post(&path, &begin).expect("begun");
    let _: Slots = office.api.get(&format!("{}/slots", station.store())).expect("read");
    assert_eq!(reads(), ["hedda"], "the administrator's restore says why");
}

#[test]
fn a_flood_of_refused_calls_makes_few_entries_and_is_counted() {
    let (office, clock) = Office::stepped(START.parse().expect("a time"));
    office.account("tove", Role::Member);
    let tove = office.signed_in("tove");
    let before = list(&office, "").len();
    for n in 0..400 {
        let _ = tove.get::<Value>(&format!("/accounts?after={}{n}", "x".repeat(1000)));
        let _ = tove.post::<_, Value>(&format!("/destinations/{n}/diagnosis"), &serde_json::json!({ "login": "tove" }));
    }
    let during = list(&office, "").len() - before;
    assert!(during <= 30, "{during} entries");
    clock.set(START.parse::<jiff::Timestamp>().expect("a time") + 11.minutes());
    office.tend();
    let more = list(&office, "text=again%20and%20again");
    assert_eq!(more.len(), 1);
    assert!(more[0].subject.starts_with(&format!("{} more", 800 - during)), "{more:?}");
}

#[test]
fn names_settings_and_refusals_of_megabytes_are_not_taken_in() {
    let office = Office::open();
    let long = "x".repeat(7_900_000);
    let kind = |result: Result<SignedIn, ClientError>| match result {
        Err(ClientError::Refused(problem)) => problem.known_kind(),
        other => panic!("{other:?}", other = other.map(drop)),
    };
    assert_eq!(kind(sign_in(&office, &long, "wrong")), Some(ProblemKind::TooLarge));
    assert_eq!(kind(sign_in(&office, &long[..60_000], "wrong")), Some(ProblemKind::WrongPassword));
    assert!(list(&office, "text=sign-in%20refused")[0].subject.len() <= 512);
}

#[test]
fn runs_and_restores_begun_in_a_loop_are_held_off_with_how_long_to_wait() {
    let (office, clock) = Office::stepped(START.parse().expect("a time"));
    office.destination("shelf");
    let (station, other) = (office.workstation("knot"), office.workstation("dunlin"));
    let begin = |station: &jetfrost_tests::office::Workstation| {
        let (membership, device) = station.home.device_api().expect("joined");
        let begin = BeginRun { kind: PointKind::Files, client_version: "loop".into() };
        device.post::<_, RunBegun>(&format!("/workstations/{}/runs", membership.workstation), &begin)
    };
    assert_eq!((0..200).take_while(|_| begin(&station).is_ok()).count(), 120);
    let Err(ClientError::Refused(refused)) = begin(&station) else { panic!("it was let in") };
    assert_eq!((refused.known_kind(), refused.retry_after), (Some(ProblemKind::TooMuchAtOnce), Some(3600)));
    assert!(begin(&other).is_ok(), "another's are not held off");
    clock.set(START.parse::<jiff::Timestamp>().expect("a time") + 1.hour());
    assert!(begin(&station).is_ok());
}

#[test]
fn a_session_left_open_makes_no_token() {
    let office = Office::open();
    let make = |password: &str| {
        let new = NewToken { label: "display".into(), scope: TokenScope::See, days: 1, password: password.into() };
        office.api.post::<_, IssuedToken>("/tokens", &new)
    };
    assert!(matches!(make("a guess"), Err(ClientError::Refused(p)) if p.known_kind() == Some(ProblemKind::WrongPassword)));
    make(PASSWORD).expect("made");
}

#[test]
fn the_audit_log_is_filtered_exported_and_tells_where_it_was_tampered_with() {
    let mut office = Office::open();
    office.account("tove", Role::Member);
    let _ = sign_in(&office, "tove", "wrong");
    let tove = office.signed_in("tove");
    let _ = tove.get::<Value>("/accounts");
    let refused: Vec<String> = list(&office, "refused=true").iter().map(|e| format!("{} {}", e.what, e.subject)).collect();
    assert_eq!(refused, ["refused by role GET /api/v1/accounts", "sign-in refused tove"]);
    assert_eq!(list(&office, "text=account%20added").len(), 1);
    assert_eq!(list(&office, "who=tove&text=%25").len(), 0, "a percent sign is one");
    assert_eq!(list(&office, "until=2026-01-01T00:00:00Z").len(), 0);
    for (form, lines) in [("csv", 1), ("json_lines", 0)] {
        let mut exported = Vec::new();
        office.api.download(&calls::audit_export(), &[("form", Some(form.into()))], &mut exported).expect("exported");
        let text = String::from_utf8(exported).expect("text");
        assert_eq!(text.lines().count(), list(&office, "").len() + lines, "{form}");
    }
    let sound = check(&office);
    assert_eq!((sound.broken_at, sound.unchained, sound.entries), (None, 0, list(&office, "").len() as u64));

    // Whoever writes to the records file goes around the service, and is found out.
    let last = sound.last_link.expect("a link");
    let mut tampered = |statement: &str| {
        behind_its_back(&mut office, STATEMENT, &[statement]);
        check(&office)
    };
    assert_eq!(tampered("UPDATE audit SET who = 'nobody' WHERE number = 2").broken_at, Some(2));
    assert_eq!(tampered("UPDATE audit SET who = 'ingrid' WHERE number = 2").broken_at, None);
    // That entries were taken off the end shows to whoever wrote the last link down.
    assert_ne!(tampered("DELETE FROM audit WHERE number = (SELECT max(number) FROM audit)").last_link, Some(last));
    assert_eq!(tampered("DELETE FROM audit WHERE number = 2").broken_at, Some(2));
}
