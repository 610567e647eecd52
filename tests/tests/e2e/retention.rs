//! What is kept and what goes: rules, holds, waiting times and limits, through the service and its client.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::MetadataExt;

use jetfrost_client::ClientError;
use jetfrost_client::browse::At;
use jetfrost_client::restore::{OnConflict, Rights, Wish};
use jetfrost_image::crypto::{Random, SeededRandom};
use jetfrost_service::SteppedClock;
use jetfrost_tests::office::{Office, PASSWORD, Workstation};
use jetfrost_types::Limit;
use jetfrost_wire::destination::{Destination, DestinationChange};
use jetfrost_wire::job::{Job, JobKind, JobState};
use jetfrost_wire::people::{Account, AccountChange};
use jetfrost_wire::point::Point;
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::retention::{AtLimit, NewHold, RemoveNow, StayReason, StoreSettings, ThinningPreview};
use jetfrost_wire::service::{ConfirmSecondFactor, SecondFactorOffer, SpareCodes};
use jetfrost_wire::workstation::{Overview, Workstation as Record};
use jiff::{Timestamp, ToSpan};
use totp_rs::Builder;

fn start() -> Timestamp {
    "2026-10-01T12:00:00Z".parse().expect("a time")
}

/// Bytes that do not compress.
fn noise(seed: &str, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    SeededRandom::new(seed.as_bytes()).fill(&mut bytes);
    bytes
}

/// A point a day: 300 kB that stay, and 200 kB that are another every day.
fn live(station: &Workstation, clock: &SteppedClock, days: i64) {
    live_slowly(station, clock, days, 1);
}

/// A point every so many days.
fn live_slowly(station: &Workstation, clock: &SteppedClock, points: i64, every: i64) {
    station.write("stays", noise("stays", 300_000));
    for day in 0..points {
        clock.set(start() + (24 * day * every).hours());
        station.write("changes", noise(&format!("day {day}"), 200_000));
        station.back_up().expect("backed up");
    }
}

fn points(office: &Office, station: &Workstation) -> Vec<u64> {
    let m = station.home.membership().expect("joined");
    let points: Vec<Point> = office.api.list(&format!("/workstations/{}/points", m.workstation)).expect("listed");
    points.iter().rev().map(|p| p.sequence).collect()
}

fn record(office: &Office, station: &Workstation) -> Record {
    office.api.get(&format!("/workstations/{}", station.home.membership().expect("joined").workstation)).expect("a workstation")
}

fn used(office: &Office, station: &Workstation) -> u64 {
    record(office, station).store.used.expect("there")
}

fn on_disk(office: &Office, destination: &str) -> u64 {
    fn sum(directory: &std::path::Path) -> u64 {
        let entry = |e: std::io::Result<fs::DirEntry>| {
            let path = e.expect("an entry").path();
            if path.is_dir() { sum(&path) } else { fs::metadata(&path).expect("there").blocks() * 512 }
        };
        fs::read_dir(directory).expect("readable").map(entry).sum()
    }
    sum(&office.path(destination).join("stores"))
}

fn assert_restores(office: &Office, station: &Workstation, sequence: u64) {
    let into = office.path(&format!("restored-{sequence}"));
    let wish = Wish::everything(into.clone()).on_conflict(OnConflict::Replace).rights(Rights::Keep);
    station.restore(&At::Sequence(sequence), &wish).expect("restored");
    let changed = fs::read(station.restored(&into).join("changes")).expect("there");
    assert_eq!(changed, noise(&format!("day {}", sequence - 1), 200_000), "point {sequence}");
}

#[test]
fn points_go_by_the_rule_and_their_room_comes_back() {
    let (office, clock) = Office::stepped(start());
    office.unprotected("shelf", "3 days, at least 2", None);
    let station = office.workstation("knot");
    live(&station, &clock, 10);
    let before = used(&office, &station);
    assert_eq!(before, on_disk(&office, "shelf"), "counted as the volume does");
    let preview: ThinningPreview = office.api.get(&format!("{}/thinning", station.store())).expect("a preview");
    let going: Vec<u64> = preview.points.iter().filter(|fate| fate.stays.is_none()).map(|fate| fate.point.sequence).collect();
    assert_eq!(going, [7, 6, 5, 4, 3, 2, 1]);
    assert!(
        (1_400_000..1_500_000).contains(&preview.freed_bytes),
        "seven times 200 kB, and the blocks of points: {}",
        preview.freed_bytes
    );
    office.tend();
    let job = &office.finish_jobs()[0];
    assert_eq!((job.kind, job.state), (JobKind::Thinning, JobState::Done), "{job:?}");
    assert_eq!(points(&office, &station), [8, 9, 10]);
    let after = used(&office, &station);
    assert_eq!(after, on_disk(&office, "shelf"), "counted as the volume does");
    let ideal = before - preview.freed_bytes;
    assert!(after <= ideal + ideal / 10, "{after} of {before}, ideal is {ideal}");
    for sequence in 8..=10 {
        assert_restores(&office, &station, sequence);
    }
    clock.set(start() + (24 * 10).hours());
    station.write("changes", noise("day 10", 200_000));
    assert!(station.back_up().expect("and it goes on").sent < 250_000);
    assert_restores(&office, &station, 11);
}

#[test]
fn what_a_person_removes_waits_and_can_be_brought_back() {
    let (office, clock) = Office::stepped(start());
    office.unprotected("shelf", "everything", None);
    let station = office.workstation("knot");
    live(&station, &clock, 4);
    let path = |sequence: u64, what: &str| format!("{}/points/{sequence}/{what}", station.store());
    let removed: Point = office.put(&path(2, "removal"), &()).expect("removed");
    assert_eq!(removed.pending_removal.expect("it waits").ends, start() + (24 * (3 + 7)).hours());
    let _: Point = office.put(&path(3, "removal"), &()).expect("removed");
    let refused: Result<Point, _> = office.put(&path(4, "removal"), &());
    assert!(refused.expect_err("the latest").to_string().contains("latest"));

    clock.set(start() + (24 * 9).hours());
    office.tend();
    assert_eq!(points(&office, &station), [1, 2, 3, 4], "all are still there and counted");
    assert_restores(&office, &station, 2);
    office.api.delete(&path(3, "removal")).expect("brought back");

    clock.set(start() + (24 * 10).hours());
    office.tend();
    assert_eq!(points(&office, &station), [1, 3, 4]);
    assert_restores(&office, &station, 3);
}

#[test]
fn a_hold_keeps_a_point_from_rule_and_person() {
    let (office, clock) = Office::stepped(start());
    office.unprotected("shelf", "at least 1", None);
    let station = office.workstation("knot");
    live(&station, &clock, 5);
    let hold = format!("{}/points/1/hold", station.store());
    let empty: Result<Point, _> = office.put(&hold, &NewHold { reason: " ".into() });
    assert!(empty.is_err(), "a hold says why");
    let _: Point = office.put(&hold, &NewHold { reason: "tax year 2025".into() }).expect("held");
    let removed: Result<Point, _> = office.put(&format!("{}/points/1/removal", station.store()), &());
    assert!(removed.expect_err("held").to_string().contains("hold"));
    office.tend();
    assert_eq!(points(&office, &station), [1, 5]);
    let preview: ThinningPreview = office.api.get(&format!("{}/thinning", station.store())).expect("a preview");
    assert_eq!(preview.points[1].stays, Some(StayReason::Held));
    office.api.delete(&hold).expect("released");
    office.tend();
    assert_eq!(points(&office, &station), [5]);
}

#[test]
fn a_removed_store_waits_then_goes_and_its_credential_with_it() {
    let (office, clock) = Office::stepped(start());
    office.unprotected("shelf", "everything", None);
    let (station, other) = (office.workstation("knot"), office.workstation("dunlin"));
    live(&station, &clock, 2);
    live(&other, &clock, 2);
    let pending_removal = format!("{}/removal", station.store());
    let _: Record = office.put(&pending_removal, &()).expect("removed");
    assert!(station.back_up().expect_err("it waits to go").to_string().contains("removed"));
    assert_restores(&office, &station, 2);
    office.api.delete(&pending_removal).expect("brought back");
    station.back_up().expect("and it is as before");
    let _: Record = office.put(&pending_removal, &()).expect("removed again");
    clock.set(start() + (24 * 9).hours());
    office.tend();
    assert_eq!(office.finish_jobs()[0].kind, JobKind::Removal);
    assert!(station.back_up().is_err());
    let overview: Overview = office.api.get("/overview").expect("an overview");
    assert_eq!(overview.workstations.iter().map(|w| w.name.as_str()).collect::<Vec<_>>(), ["dunlin"]);
    assert_eq!(on_disk(&office, "shelf"), used(&office, &other), "nothing of it is left, and the other is whole");
    assert_restores(&office, &other, 2);
    let _again = office.code("owner of knot");
}

fn refusal(error: &ClientError) -> String {
    match error {
        ClientError::Refused(problem) if problem.known_kind() == Some(ProblemKind::NoRoom) => {
            format!("{} {} {}", problem.title, problem.detail.clone().unwrap_or_default(), problem.next_step)
        }
        other => panic!("not for want of room: {other}"),
    }
}

#[test]
fn every_limit_says_which_it_is_whose_and_what_it_counts() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    station.write("small", noise("small", 100_000));
    station.back_up().expect("backed up");
    station.write("large", noise("large", 2_000_000));
    let owner: Vec<Account> = office.api.list("/accounts").expect("listed");
    let owner = owner.iter().find(|a| a.login == "owner of knot").expect("there").id.clone();

    let limit = |limit| StoreSettings { limit, retention: None };
    let _: Record = office.put(&format!("{}/settings", station.store()), &limit(Some(1_000_000))).expect("set");
    let said = refusal(&station.back_up().expect_err("over the limit"));
    assert!(said.contains("limit of workstation 'knot'") && said.contains("of 1.00 MB"), "{said}");
    assert!(said.contains("jetfrost workstation set 'knot' --limit"), "{said}");
    let _: Record = office.put(&format!("{}/settings", station.store()), &limit(None)).expect("set");

    let quota = |quota| AccountChange { quota: Some(quota), ..AccountChange::default() };
    let _: Account = office.patch(&format!("/accounts/{owner}"), &quota(Limit::Bytes(1_000_000))).expect("set");
    let said = refusal(&station.back_up().expect_err("over the quota"));
    assert!(said.contains("quota of account 'owner of knot'"), "{said}");
    let _: Account = office.patch(&format!("/accounts/{owner}"), &quota(Limit::None)).expect("set");

    let settings = |capacity, reserve| DestinationChange {
        capacity: Some(capacity),
        reserve: Some(reserve),
        ..DestinationChange::default()
    };
    let path = format!("/destinations/{}", shelf.id);
    let _: Destination = office.patch(&path, &settings(Limit::Bytes(1_000_000), 0)).expect("set");
    let said = refusal(&station.back_up().expect_err("over the capacity"));
    assert!(said.contains("capacity of destination 'shelf'"), "{said}");
    let _: Destination = office.patch(&path, &settings(Limit::None, 1 << 50)).expect("set");
    let said = refusal(&station.back_up().expect_err("into the reserve"));
    assert!(said.contains("reserve of destination 'shelf'"), "{said}");
    let _: Destination = office.patch(&path, &settings(Limit::None, 0)).expect("set");
    station.back_up().expect("room again");
}

#[test]
fn at_the_limit_the_oldest_go_as_far_as_the_rule_allows() {
    let (office, clock) = Office::stepped(start());
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    let settings = DestinationChange {
        retention: Some("1000 days, at least 3".parse().expect("a rule")),
        at_limit: Some(AtLimit::ExpireOldest),
        protected_days: Some(7),
        ..DestinationChange::default()
    };
    let _: Destination = office.patch(&format!("/destinations/{}", shelf.id), &settings).expect("set");
    let limit = 1_500_000;
    let limited = StoreSettings { limit: Some(limit), retention: None };
    let _: Record = office.put(&format!("{}/settings", station.store()), &limited).expect("set");
    live_slowly(&station, &clock, 12, 4);
    let left = points(&office, &station);
    assert!(left.len() >= 3 && left.len() < 8 && left.contains(&12), "{left:?}");
    assert!(on_disk(&office, "shelf") <= limit, "{} bytes", on_disk(&office, "shelf"));
    for sequence in left {
        assert_restores(&office, &station, sequence);
    }
    // What the least number keeps is never enough to make room for this.
    station.write("changes", noise("too much", 1_400_000));
    let before = points(&office, &station);
    let said = refusal(&station.back_up().expect_err("over the limit"));
    assert!(said.contains("limit of workstation"), "{said}");
    assert_eq!(points(&office, &station), before, "and then none went in vain");
}

#[test]
fn workstations_that_back_up_at_once_stay_within_their_common_limit() {
    let office = Office::open();
    let capacity = 3_000_000;
    office.destination_at("shelf", &office.path("shelf"), Some(capacity));
    let stations: Vec<Workstation> = (0..4).map(|i| office.workstation(&format!("knot {i}"))).collect();
    let ended: Vec<bool> = std::thread::scope(|threads| {
        let run = |(i, station): (usize, &Workstation)| {
            station.write("large", noise(&format!("station {i}"), 1_200_000));
            station.back_up().map(drop)
        };
        let runs: Vec<_> = stations.iter().enumerate().map(|of| threads.spawn(move || run(of))).collect();
        runs.into_iter().map(|run| run.join().expect("no panic")).map(|r| r.map_err(|e| refusal(&e)).is_ok()).collect()
    });
    assert!(ended.iter().filter(|well| **well).count() <= 2, "{ended:?}");
    // Of those that took the room from each other, one finds it when it tries again.
    let again = stations.iter().map(|station| station.back_up().map(drop));
    let well = again.filter(|run| run.as_ref().map_err(refusal).is_ok()).count();
    assert!((1..=2).contains(&well), "{well}");
    assert!(on_disk(&office, "shelf") <= capacity, "{} bytes", on_disk(&office, "shelf"));
}

#[test]
fn a_full_destination_can_be_emptied_again() {
    let (office, clock) = Office::stepped(start());
    office.unprotected("shelf", "at least 2", Some(1_500_000));
    let station = office.workstation("knot");
    let full = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| live(&station, &clock, 12)));
    assert!(full.is_err(), "it is full before the twelfth day");
    let filled = points(&office, &station);
    let begun: Job = office.api.post(&format!("{}/thinning", station.store()), &()).expect("begun");
    let done: Job = office.api.get(&format!("/jobs/{}?wait_seconds=30", begun.id)).expect("a job");
    assert_eq!(done.state, JobState::Done, "{done:?}");
    let kept: BTreeSet<u64> = filled.iter().rev().take(2).copied().collect();
    assert_eq!(points(&office, &station).into_iter().collect::<BTreeSet<_>>(), kept);
    station.back_up().expect("room again");
}

/// An authenticator of the administrator's.
fn authenticator(office: &Office, now: Timestamp) -> impl Fn(Timestamp) -> String + use<> {
    let path = "/sessions/current/second-factor";
    let offer: SecondFactorOffer = office.api.post(path, &()).expect("offered");
    let secret = data_encoding::BASE32_NOPAD.decode(offer.secret.as_bytes()).expect("base 32");
    let code = move |at: Timestamp| {
        let totp = Builder::new().with_secret(secret.clone()).build().expect("RFC 6238");
        totp.generate(at.as_second().cast_unsigned()).to_string()
    };
    let confirm = ConfirmSecondFactor { code: code(now), password: PASSWORD.into() };
    let _: SpareCodes = office.put(path, &confirm).expect("confirmed");
    code
}

#[test]
fn what_was_removed_waits_for_a_protected_time_that_was_made_longer_since() {
    let (office, clock) = Office::stepped(start());
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    live_slowly(&station, &clock, 2, 20);
    let removed: Point = office.put(&format!("{}/points/1/removal", station.store()), &()).expect("removed");
    assert_eq!(removed.pending_removal.expect("it waits").ends, start() + (24 * 30).hours());
    let longer = DestinationChange { protected_days: Some(60), ..DestinationChange::default() };
    let _: Destination = office.patch(&format!("/destinations/{}", shelf.id), &longer).expect("set");
    let points_at = |days: i64| {
        clock.set(start() + (24 * days).hours());
        office.tend();
        points(&office, &station)
    };
    assert_eq!(points_at(59), [1, 2], "nothing makes a point go within its protected time");
    assert_eq!(points_at(61), [2]);
    let _: Record = office.put(&format!("{}/removal", station.store()), &()).expect("removed");
    let longest = DestinationChange { protected_days: Some(80), ..DestinationChange::default() };
    let _: Destination = office.patch(&format!("/destinations/{}", shelf.id), &longest).expect("set");
    assert_eq!(points_at(85), [2], "nor within a removed image store");
}

#[test]
fn a_point_is_removed_at_once_only_with_a_second_factor_and_never_within_its_protected_time() {
    let (office, clock) = Office::stepped(start());
    office.destination("shelf");
    let station = office.workstation("knot");
    live_slowly(&station, &clock, 2, 20);
    let now = || RemoveNow { password: PASSWORD.into(), code: "000000".into() };
    let path = format!("{}/points/1/removal/now", station.store());
    let remove = |with: &RemoveNow| office.api.post::<_, Job>(&path, with);
    let kind = |result: Result<Job, ClientError>| match result {
        Err(ClientError::Refused(problem)) => problem.known_kind(),
        other => panic!("it was not refused: {other:?}"),
    };
    assert_eq!(kind(remove(&now())), Some(ProblemKind::Conflict), "without a second factor");
    let code = authenticator(&office, start() + (24 * 20).hours());
    let at = |days: i64| {
        let at = start() + (24 * days).hours();
        clock.set(at);
        at
    };
    assert_eq!(kind(remove(&now())), Some(ProblemKind::WrongSecondFactor));
    let with = |at: Timestamp| RemoveNow { password: PASSWORD.into(), code: code(at) };
    assert_eq!(kind(remove(&with(at(21)))), Some(ProblemKind::Invalid), "its protected time is 30 days");
    assert_eq!(kind(remove(&RemoveNow { password: "a guess".into(), ..with(at(31)) })), Some(ProblemKind::WrongPassword));
    assert_eq!(points(&office, &station), [1, 2]);
    let before = record(&office, &station).store.used;
    remove(&with(at(32))).expect("begun");
    office.finish_jobs();
    assert_eq!(points(&office, &station), [2]);
    assert!(record(&office, &station).store.used < before, "and its room is free");
    let latest = format!("{}/points/2/removal/now", station.store());
    assert_eq!(kind(office.api.post(&latest, &with(at(33)))), Some(ProblemKind::Conflict), "the latest stays");
}

#[test]
fn a_refusal_at_a_limit_says_when_room_comes_by_itself() {
    let (office, clock) = Office::stepped(start());
    office.unprotected("shelf", "3 days", None);
    let station = office.workstation("knot");
    live(&station, &clock, 3);
    let settings = StoreSettings { limit: Some(1_400_000), retention: None };
    let _: Record = office.put(&format!("{}/settings", station.store()), &settings).expect("set");
    station.write("much", noise("much", 3_000_000));
    let Err(ClientError::Refused(problem)) = station.back_up() else { panic!("it fitted") };
    assert_eq!(problem.known_kind(), Some(ProblemKind::NoRoom));
    assert!(problem.next_step.contains("become free automatically on 5 October 2026"), "{}", problem.next_step);
    assert!(problem.next_step.contains("--now"), "{}", problem.next_step);
}
