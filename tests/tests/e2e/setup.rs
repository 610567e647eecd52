//! From an empty office to one that is ready; and what is let in.

use std::sync::Arc;

use jetfrost_client::api::Method;
use jetfrost_client::backup::{ReadBack, back_up};
use jetfrost_client::progress::Meter;
use jetfrost_client::unlock_methods::new_office_key;
use jetfrost_client::{ClientError, system_random};
use jetfrost_demo::mail_stand_in::MailStandIn;
use jetfrost_image::format::ArgonCost;
use jetfrost_tests::office::{Office, mail_to};
use jetfrost_types::Limit;
use jetfrost_wire::Binary;
use jetfrost_wire::alerts::MailState;
use jetfrost_wire::diagnosis::{DiagnoseFor, Diagnosis, DiagnosisStep, StepResult};
use jetfrost_wire::people::{Account, AccountChange};
use jetfrost_wire::problem::{ProblemKind, WhoseMove};
use jetfrost_wire::retention::StoreSettings;
use jetfrost_wire::service::{AuditEntry, Escrow, Maintenance, MaintenanceState, NewBackups, NewEscrow};
use jetfrost_wire::setup::{Dismiss, Setup, Step, StepState};
use jetfrost_wire::workstation::{PointKind, Workstation as Record};

fn open_steps(office: &Office) -> Vec<Step> {
    let list: Setup = office.api.get("/setup").expect("the list");
    let open: Vec<Step> = list.steps.iter().filter(|line| line.state == StepState::Open).map(|line| line.step).collect();
    assert_eq!(list.ready, open.is_empty());
    assert!(list.steps.iter().all(|line| !line.says.is_empty() && (line.state == StepState::Open) == line.next.is_some()));
    open
}

#[test]
fn an_office_is_ready_only_when_nothing_is_undecided() {
    use Step::{
        Access, Discovery, FirstDrill, FirstMachine, FirstPoint, Limits, Mail, OfficeKey, People, Protection, SecondFactor,
        Storage,
    };
    let office = Office::open();
    assert_eq!(
        open_steps(&office),
        [
            Storage,
            People,
            Access,
            Limits,
            OfficeKey,
            Protection,
            SecondFactor,
            Discovery,
            Mail,
            FirstMachine,
            FirstPoint,
            FirstDrill
        ]
    );
    let dismiss = |step: &str| office.put::<_, Setup>(&format!("/setup/{step}/dismissed"), &Dismiss { why: "a test".into() });
    dismiss("discovery").expect("nobody reaches a service on loopback");
    office.destination_at("shelf", &office.path("shelf"), Some(5_000_000_000));
    assert_eq!(open_steps(&office), [People, OfficeKey, Protection, SecondFactor, Mail, FirstMachine, FirstPoint, FirstDrill]);
    let (public, _) = new_office_key("in the safe", ArgonCost { memory: 64, passes: 1, lanes: 1 }, &system_random());
    let set = NewEscrow { public_key: Binary(public.0.to_vec()), ask_workstations: false };
    let _: Escrow = office.put("/escrow", &set).expect("set");
    office.tend();
    dismiss("second_factor").expect("left as it is");
    assert!(dismiss("storage").is_err(), "no backup without a place");
    assert!(dismiss("nonsense").is_err());
    assert_eq!(open_steps(&office), [People, Mail, FirstMachine, FirstPoint, FirstDrill]);
    let post_office = MailStandIn::start(([127, 0, 0, 1], 0).into(), &office.path("mail"), None).expect("it listens");
    let _: MailState = office.put("/mail", &mail_to(&post_office)).expect("set");
    assert!(open_steps(&office).contains(&Mail), "nothing has got there yet");
    let _: MailState = office.api.post("/mail/test", &()).expect("tried");
    assert_eq!(open_steps(&office), [People, FirstMachine, FirstPoint, FirstDrill]);
    let station = office.workstation("knot");
    assert_eq!(open_steps(&office), [FirstPoint, FirstDrill]);
    station.write("letter", "here");
    station.back_up().expect("backed up");
    station.restore_all(&office.path("back")).expect("restored");
    assert_eq!(open_steps(&office), [FirstDrill], "what was brought back was not compared with anything");
    station.drill(100).expect("rehearsed");
    assert_eq!(open_steps(&office), []);
    let restored: Setup = office.api.send(Method::DELETE, "/setup/second_factor/dismissed", &()).expect("opened");
    assert!(!restored.ready);
    assert_eq!(open_steps(&office), [SecondFactor]);
}

#[test]
fn a_pause_lets_no_new_backup_in_restores_go_on_and_it_ends_by_itself() {
    let (office, clock) = Office::stepped("2026-10-01T10:00:00Z".parse().expect("a time"));
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    let set = |backups, restores| office.put::<_, MaintenanceState>("/maintenance", &Maintenance { backups, restores });
    let until = "2026-10-01T12:00:00Z".parse().expect("a time");
    assert!(
        set(NewBackups::Paused { until: "2026-10-01T09:00:00Z".parse().expect("a time") }, true).is_err(),
        "a pause has an end"
    );
    set(NewBackups::Paused { until }, true).expect("paused");
    let refused = || match station.back_up() {
        Err(ClientError::Refused(problem)) => *problem,
        other => panic!("{other:?}"),
    };
    let said = refused();
    assert_eq!((said.known_kind(), said.whose_move), (Some(ProblemKind::Paused), WhoseMove::Administrator));
    assert!(said.next_step.contains("2026-10-01 12:00 UTC"), "{}", said.next_step);
    refused();
    let log: Vec<AuditEntry> = office.api.list("/audit?refused=true").expect("listed");
    let refusals: Vec<(&str, &str)> = log.iter().map(|entry| (entry.who.as_str(), entry.subject.as_str())).collect();
    assert_eq!(refusals, [("workstation knot", "new backups are paused")], "a refusal is on record, and once");
    station.restore_all(&office.path("back")).expect("restores go on");
    clock.set("2026-10-01T12:00:01Z".parse().expect("a time"));
    station.back_up().expect("it ended by itself");

    set(NewBackups::Off, false).expect("off");
    assert!(refused().next_step.contains("jetfrost maintenance resume backups"));
    assert!(station.restore_all(&office.path("back-again")).is_err());
    set(NewBackups::On, true).expect("on");
    let meter = Arc::new(Meter::default());
    back_up(&station.home, PointKind::Files, ReadBack::Sample, &meter).expect("backed up again");
}

#[test]
fn an_accepted_run_finishes_when_backups_are_paused() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    let (m, device) = station.home.device_api().expect("joined");
    let begin = serde_json::json!({ "client_version": "0", "kind": "files" });
    let begun: jetfrost_wire::run::RunBegun =
        device.post(&format!("/workstations/{}/runs", m.workstation), &begin).expect("begun");
    let state: MaintenanceState =
        office.put("/maintenance", &Maintenance { backups: NewBackups::Off, restores: true }).expect("said before and after");
    assert_eq!(state.running, ["knot"]);
    let progress = jetfrost_wire::run::Progress::default();
    let run: jetfrost_wire::run::Run =
        device.send(Method::PATCH, &format!("/runs/{}", begun.run.id), &progress).expect("it goes on");
    assert_eq!(run.outcome, jetfrost_wire::run::Outcome::Underway);
}

#[test]
fn a_trial_goes_as_far_as_a_backup_would_says_whose_move_it_is_and_leaves_nothing_behind() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    let (m, device) = station.home.device_api().expect("joined");
    let files = || walk(&office.path("shelf"));
    let before = files();
    let own = || device.post::<_, Diagnosis>(&format!("/workstations/{}/diagnosis", m.workstation), &()).expect("tried");
    let diagnosis = own();
    assert!(diagnosis.well && diagnosis.steps.len() == 6, "{diagnosis:?}");
    let from_the_server = |login: &str| {
        let ask = DiagnoseFor { login: login.into() };
        office.api.post::<_, Diagnosis>(&format!("/destinations/{}/diagnosis", shelf.id), &ask).expect("tried")
    };
    assert_eq!(from_the_server("Owner of Knot").steps, diagnosis.steps);
    assert_eq!(files(), before);

    let stops_at = |diagnosis: Diagnosis| diagnosis.steps.last().filter(|_| !diagnosis.well).map(|line| line.step);
    let set = |backups| office.put::<_, MaintenanceState>("/maintenance", &Maintenance { backups, restores: true }).expect("set");
    set(NewBackups::Off);
    let stopped = own();
    assert_eq!(stopped.steps.last().and_then(|line| line.whose_move), Some(WhoseMove::Administrator));
    assert_eq!(stops_at(stopped), Some(DiagnosisStep::Maintenance));
    set(NewBackups::On);
    let close = serde_json::json!({ "grants": {} });
    let _: serde_json::Value = office.patch(&format!("/destinations/{}", shelf.id), &close).expect("closed");
    assert_eq!(stops_at(own()), Some(DiagnosisStep::Access));
    std::fs::rename(office.path("shelf"), office.path("unmounted")).expect("gone");
    assert_eq!(stops_at(own()), Some(DiagnosisStep::Destination));
    assert!(!office.path("shelf").exists());
}

#[test]
fn a_trial_finds_no_room_where_the_next_backup_would_be_refused() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    let (m, device) = station.home.device_api().expect("joined");
    let own = || device.post::<_, Diagnosis>(&format!("/workstations/{}/diagnosis", m.workstation), &()).expect("tried");
    assert!(own().well);
    let last = |diagnosis: Diagnosis| diagnosis.steps.last().map(|line| (line.step, line.result == StepResult::Passed));

    // By the limit of its image store, by its account's quota, and by what is kept free of either for the end of a run.
    let limit = |bytes: Option<u64>| {
        let to = StoreSettings { limit: bytes, retention: None };
        let _: Record = office.put(&format!("{}/settings", station.store()), &to).expect("set");
    };
    limit(Some(10_000));
    assert_eq!(last(own()), Some((DiagnosisStep::Capacity, false)));
    limit(None);
    let accounts: Vec<Account> = office.api.list("/accounts").expect("listed");
    let owner = accounts.iter().find(|account| account.login.eq_ignore_ascii_case("owner of knot")).expect("one");
    let quota = AccountChange { quota: Some(Limit::Bytes(10_000)), ..AccountChange::default() };
    let _: Account = office.patch(&format!("/accounts/{}", owner.id), &quota).expect("set");
    assert_eq!(last(own()), Some((DiagnosisStep::Capacity, false)));
    let ask = DiagnoseFor { login: "Owner of Knot".into() };
    let from_the_server: Diagnosis = office.api.post(&format!("/destinations/{}/diagnosis", shelf.id), &ask).expect("tried");
    assert_eq!(last(from_the_server), Some((DiagnosisStep::Capacity, false)));
    let none = AccountChange { quota: Some(Limit::None), ..AccountChange::default() };
    let _: Account = office.patch(&format!("/accounts/{}", owner.id), &none).expect("set");
    let _: Record = office.put(&format!("{}/removal", station.store()), &()).expect("removed");
    assert_eq!(last(own()), Some((DiagnosisStep::Access, false)), "a store that waits to go takes nothing");
}

fn walk(directory: &std::path::Path) -> Vec<std::path::PathBuf> {
    let entries = std::fs::read_dir(directory).expect("readable").map(|entry| entry.expect("an entry").path());
    let mut found: Vec<_> = entries.flat_map(|path| if path.is_dir() { walk(&path) } else { vec![path] }).collect();
    found.sort();
    found
}
