//! What somebody does who holds a workstation's device credential, through the public API, to make its past go or to shut others
//! out; and what somebody does with an administrator's session. Each test is named for what it protects.

use std::time::{Duration, Instant};

use bytes::Bytes;
use jetfrost_client::ClientError;
use jetfrost_client::api::{Api, Method};
use jetfrost_client::browse::At;
use jetfrost_client::restore::Wish;
use jetfrost_image::crypto::{Effort, Random, Sealer, SeededRandom, StoreKeys, SystemRandom, random_array, seal_point};
use jetfrost_image::format::{
    FinishedSegment, PointBody, PointFile, PointHead, PointKind as Kind, SegmentBuilder, encode_needs, needs_check,
};
use jetfrost_image::{ChunkName, PointId};
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_tests::raw::RawUpload;
use jetfrost_wire::Binary;
use jetfrost_wire::alerts::{AlertKind, Alerts};
use jetfrost_wire::calls;
use jetfrost_wire::destination::{Destination, DestinationChange};
use jetfrost_wire::point::Point;
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::retention::{AtLimit, NewHold, StoreSettings, ThinningPreview};
use jetfrost_wire::run::{BeginRun, CommitPoint, ExceptionCounts, PointCommitted, Progress, Run, RunBegun};
use jetfrost_wire::service::AuditEntry;
use jetfrost_wire::workstation::{PointBytes, PointKind, Workstation as Record, WorkstationState};
use jiff::{Timestamp, ToSpan};

fn start() -> Timestamp {
    "2026-10-01T12:00:00Z".parse().expect("a time")
}

/// Malware on a workstation: its device credential and its store key.
struct Attacker {
    api: Api,
    workstation: String,
    store: String,
    credential: String,
    keys: StoreKeys,
}

/// A point in the making.
struct Forged {
    /// What the point claims about when it was made, in Unix milliseconds.
    created: i64,
    kind: Kind,
    noise: usize,
    files: u64,
}

impl Default for Forged {
    fn default() -> Self {
        Self { created: 0, kind: Kind::Files, noise: 0, files: 0 }
    }
}

impl Attacker {
    fn on(station: &Workstation) -> Self {
        let (membership, api) = station.home.device_api().expect("joined");
        let keys = station.home.keys(&membership).expect("it keeps its key");
        Self {
            api,
            workstation: membership.workstation.to_string(),
            store: membership.store.clone(),
            credential: membership.credential.clone(),
            keys,
        }
    }

    fn begin(&self, kind: Kind) -> RunBegun {
        let kind = if kind == Kind::Disk { PointKind::Disk } else { PointKind::Files };
        let begin = BeginRun { kind, client_version: "0".into() };
        self.api.post(&format!("/workstations/{}/runs", self.workstation), &begin).expect("a run")
    }

    fn noise(&self, len: usize) -> (FinishedSegment, Vec<ChunkName>) {
        let random = SystemRandom::default();
        let (mut builder, mut names) = (SegmentBuilder::new(self.keys.store, 1 << 10), Vec::new());
        let mut sealer = Sealer::new(self.keys.clone(), Effort::Quick);
        for at in (0..len).step_by(1 << 20) {
            let mut content = vec![0; (len - at).min(1 << 20)];
            SeededRandom::new(&random_array::<32>(&random)).fill(&mut content);
            let (name, mut sealed) = (self.keys.name(&content), Vec::new());
            sealer.seal(&name, &content, &random, &mut sealed);
            builder.push(name, &sealed);
            names.push(name);
        }
        names.sort_unstable();
        (builder.finish(), names)
    }

    fn point(&self, begun: &RunBegun, forged: &Forged, names: &[ChunkName], needs: &[u8]) -> CommitPoint {
        let previous = begun.latest.as_ref().map(|point| PointFile::from_bytes(&point.0).expect("a point").head.id);
        let head = PointHead {
            store: self.keys.store,
            id: PointId(random_array(&SystemRandom::default())),
            sequence: begun.sequence,
            kind: forged.kind,
            created: forged.created,
            previous,
            needed: names.len() as u64,
            needed_xor: names.iter().fold([0; 32], |xor, name| std::array::from_fn(|i| xor[i] ^ name.0[i])),
            bytes: 0,
            files: forged.files,
            exceptions: 0,
            needs: needs_check(needs),
            changes: None,
        };
        let file = seal_point(&self.keys, head, &PointBody::default(), &SystemRandom::default());
        CommitPoint { point: Binary(file.to_bytes()), progress: Progress::default(), exceptions: ExceptionCounts::default() }
    }

    /// Commits a point of noise that claims what it likes.
    fn commit(&self, forged: &Forged) -> Result<PointCommitted, ClientError> {
        let begun = self.begin(forged.kind);
        let names = if forged.noise > 0 {
            let (segment, names) = self.noise(forged.noise);
            self.api.put_segment(&self.store, &segment.hash, &Bytes::from(segment.bytes))?;
            names
        } else {
            Vec::new()
        };
        let needs = encode_needs(self.keys.store, begun.sequence, 0, &names, &[]);
        self.api.put_bytes(&calls::put_needs(&begun.run.id), &Bytes::from(needs.clone()))?;
        self.api.post(&format!("/runs/{}/point", begun.run.id), &self.point(&begun, forged, &names, &needs))
    }
}

/// A point a day, 100 kB of it another each day.
fn live(station: &Workstation, clock: &jetfrost_service::SteppedClock, days: i64) {
    for day in 0..days {
        clock.set(start() + (24 * day).hours());
        let mut changes = vec![0; 100_000];
        SeededRandom::new(format!("day {day}").as_bytes()).fill(&mut changes);
        station.write("changes", changes);
        station.back_up().expect("backed up");
    }
}

fn points(office: &Office, station: &Workstation) -> Vec<Point> {
    let m = station.home.membership().expect("joined");
    let points: Vec<Point> = office.api.list(&format!("/workstations/{}/points", m.workstation)).expect("listed");
    points.into_iter().rev().collect()
}

fn numbers(office: &Office, station: &Workstation) -> Vec<u64> {
    points(office, station).iter().map(|point| point.sequence).collect()
}

fn record(office: &Office, station: &Workstation) -> Record {
    office.api.get(&format!("/workstations/{}", station.home.membership().expect("joined").workstation)).expect("a workstation")
}

fn set(office: &Office, shelf: &Destination, change: &DestinationChange) -> Result<Destination, ClientError> {
    office.patch(&format!("/destinations/{}", shelf.id), change)
}

fn limit(office: &Office, station: &Workstation, bytes: u64) {
    let settings = StoreSettings { limit: Some(bytes), retention: None };
    let _: Record = office.put(&format!("{}/settings", station.store()), &settings).expect("set");
}

fn audit(office: &Office, what: &str) -> Vec<String> {
    let entries: Vec<AuditEntry> = office.api.list("/audit").expect("listed");
    entries.into_iter().filter(|entry| entry.what == what).map(|entry| entry.subject).collect()
}

fn kind<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Option<ProblemKind> {
    match result {
        Err(ClientError::Refused(problem)) => problem.known_kind(),
        other => panic!("not refused: {other:?}"),
    }
}

#[test]
fn forged_times_make_no_honest_point_go_and_keep_no_dead_machine_current() {
    let (office, clock) = Office::stepped(start());
    office.destination("shelf");
    let station = office.workstation("knot");
    live(&station, &clock, 14);
    let honest = numbers(&office, &station);
    let attacker = Attacker::on(&station);
    let now = (start() + (24 * 13).hours()).as_millisecond();
    for n in 0..19 {
        // Later the same day, on each honest day, and in the year 2100.
        let created = if n == 18 { 4_102_444_800_000 } else { now - n * 86_400_000 + 3_600_000 };
        attacker.commit(&Forged { created, ..Forged::default() }).expect("it may add points");
    }
    office.tend();
    let left = numbers(&office, &station);
    assert!(honest.iter().all(|sequence| left.contains(sequence)), "{left:?}");
    // Two months on, what a rule keeps of the honest days is kept as if the noise had never come.
    clock.set(start() + (24 * 45).hours());
    office.tend();
    let left = numbers(&office, &station);
    assert!(honest[..13].iter().all(|sequence| left.contains(sequence)), "the last of each of the days before: {left:?}");
    assert!(points(&office, &station).iter().all(|point| point.committed <= clock_now(&office)), "no list shows a forged time");
    assert_eq!(record(&office, &station).state, WorkstationState::Overdue, "nothing came for a month");
}

fn clock_now(office: &Office) -> Timestamp {
    office.api.get::<Alerts>("/alerts").expect("told").now
}

/// An office where the oldest points go at a limit, with a week of protected time; fourteen days of a workstation with a limit.
fn making_room(bytes: u64) -> (Office, Workstation) {
    let (office, clock) = Office::stepped(start());
    let shelf = office.destination("shelf");
    let change =
        DestinationChange { at_limit: Some(AtLimit::ExpireOldest), protected_days: Some(7), ..DestinationChange::default() };
    set(&office, &shelf, &change).expect("set");
    let station = office.workstation("knot");
    live(&station, &clock, 14);
    limit(&office, &station, bytes);
    (office, station)
}

#[test]
fn noise_flushes_no_protected_point_and_what_goes_for_room_is_on_record_and_an_alert() {
    let (office, station) = making_room(5_000_000);
    let attacker = Attacker::on(&station);
    let mut refused = 0;
    for _ in 0..30 {
        match attacker.commit(&Forged { noise: 400_000, ..Forged::default() }) {
            Ok(_) => {}
            Err(ClientError::Refused(problem)) if problem.known_kind() == Some(ProblemKind::NoRoom) => refused += 1,
            other => panic!("{other:?}"),
        }
    }
    assert!(refused > 10, "the flood ends at the limit: {refused} of 30");
    let left = numbers(&office, &station);
    // By the service's clock it is day 13: the points of the last seven days are protected.
    assert!((8..=14).all(|sequence| left.contains(&sequence)), "{left:?}");
    let told = audit(&office, "points removed to make room");
    assert!(
        !told.is_empty() && told.iter().any(|said| said.starts_with("knot: ") && said.contains("of 2026-10-01 to 2026-10-02")),
        "{told:?}"
    );
    let alerts: Alerts = office.api.get("/alerts").expect("told");
    assert!(alerts.alerts.iter().any(|c| c.kind == AlertKind::RoomMade && c.says.contains("2026-10-01")), "{alerts:?}");
}

#[test]
fn a_backup_that_cannot_fit_takes_no_point_with_it() {
    let (office, station) = making_room(3_000_000);
    let before = numbers(&office, &station);
    let mut much = vec![0; 6_000_000];
    SeededRandom::new(b"much").fill(&mut much);
    station.write("much", much);
    assert_eq!(kind(station.back_up()), Some(ProblemKind::NoRoom));
    assert_eq!(numbers(&office, &station), before);
}

#[test]
fn what_a_list_promises_until_a_date_stays_until_then() {
    let (office, station) = making_room(5_000_000);
    let preview: ThinningPreview = office.api.get(&format!("{}/thinning", station.store())).expect("a preview");
    let promised: Vec<u64> = preview
        .points
        .iter()
        .filter(|fate| fate.until.is_some() || !fate.goes_for_room)
        .map(|fate| fate.point.sequence)
        .collect();
    assert!(promised.len() >= 7 && preview.points.iter().any(|fate| fate.goes_for_room && fate.until.is_none()), "{preview:?}");
    let attacker = Attacker::on(&station);
    for _ in 0..15 {
        let _ = attacker.commit(&Forged { noise: 400_000, ..Forged::default() });
    }
    let left = numbers(&office, &station);
    assert!(promised.iter().all(|sequence| left.contains(sequence)), "{promised:?} were promised, {left:?} are left");
}

#[test]
fn an_administrators_session_in_the_wrong_hands_empties_no_history_at_once() {
    let (office, clock) = Office::stepped(start());
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    live(&station, &clock, 14);
    let before = numbers(&office, &station);
    let short = "at least 1".parse().expect("a rule");
    let change = DestinationChange {
        protected_days: Some(0),
        retention: Some(short),
        waiting_days: Some(0),
        ..DestinationChange::default()
    };
    set(&office, &shelf, &change).expect("set");
    let settings = StoreSettings { limit: None, retention: Some("1 hours, at least 0".parse().expect("a rule")) };
    let _: Record = office.put(&format!("{}/settings", station.store()), &settings).expect("set");
    office.tend();
    assert_eq!(numbers(&office, &station), before);
    // Nor by removing what is there, waiting time or not.
    let removed: Point = office.put(&format!("{}/points/13/removal", station.store()), &()).expect("removed");
    assert_eq!(removed.pending_removal.expect("it waits").ends, start() + (24 * (12 + 30)).hours());
    let store: Record = office.put(&format!("{}/removal", station.store()), &()).expect("removed");
    assert_eq!(store.store.pending_removal.expect("it waits").ends, start() + (24 * (13 + 30)).hours());
    office.api.delete(&format!("{}/removal", station.store())).expect("undone");
    // It is told, and goes on for what was there until the old rule has run out.
    let alerts: Alerts = office.api.get("/alerts").expect("told");
    let told: Vec<_> = alerts.alerts.iter().filter(|c| c.kind == AlertKind::TermsShortened).collect();
    assert_eq!(told.iter().map(|c| c.subject.as_str()).collect::<Vec<_>>(), ["knot", "shelf"]);
    assert!(told.iter().any(|c| c.says.contains("from 30 to 0 days")), "{told:?}");
    clock.set(start() + (24 * 59).hours());
    office.tend();
    assert_eq!(numbers(&office, &station).iter().filter(|n| **n != 13).count(), 13, "sixty days were promised");
}

#[test]
fn a_hold_that_comes_and_goes_makes_no_promise_forgotten() {
    let (office, clock) = Office::stepped(start());
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    live(&station, &clock, 5);
    let hold = |n: u64| format!("{}/points/{n}/hold", station.store());
    // While all are held, or the latest, it makes no difference by what else they are kept.
    for n in 1..=5 {
        let _: Point = office.put(&hold(n), &NewHold { reason: "it is only a moment".into() }).expect("held");
    }
    let short = "at least 1".parse().expect("a rule");
    let change = DestinationChange { protected_days: Some(0), retention: Some(short), ..DestinationChange::default() };
    set(&office, &shelf, &change).expect("set");
    office.tend();
    for n in 1..=5 {
        office.api.delete(&hold(n)).expect("released");
    }
    station.back_up().expect("backed up");
    office.tend();
    assert_eq!(numbers(&office, &station), (1..=6).collect::<Vec<_>>());
}

#[test]
fn at_a_limit_that_makes_room_the_protected_time_is_a_week_at_least() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let change =
        DestinationChange { at_limit: Some(AtLimit::ExpireOldest), protected_days: Some(6), ..DestinationChange::default() };
    assert_eq!(kind(set(&office, &shelf, &change)), Some(ProblemKind::Invalid));
}

#[test]
fn needs_begun_before_an_honest_commit_do_not_replace_what_was_committed() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    let attacker = Attacker::on(&station);
    let begun = attacker.begin(Kind::Files);
    let forged = encode_needs(attacker.keys.store, begun.sequence, 0, &[], &[]);
    let honest = station.back_up().expect("the honest run goes on").point.sequence;
    assert_eq!(honest, begun.sequence);
    let late = attacker.api.put_bytes(&calls::put_needs(&begun.run.id), &Bytes::from(forged));
    assert_eq!(kind(late), Some(ProblemKind::RunOver));
    office.tend();
    let back = office.path("back");
    station.restore_all(&back).expect("restored");
    assert_eq!(std::fs::read(station.restored(&back).join("letter")).expect("there"), b"here");
}

#[test]
fn an_announcement_takes_nobodys_room() {
    let office = Office::open();
    let capacity = 6_000_000;
    office.destination_at("shelf", &office.path("shelf"), Some(capacity));
    let (noisy, quiet) = (office.workstation("knot"), office.workstation("dunlin"));
    let attacker = Attacker::on(&noisy);
    attacker.begin(Kind::Files);
    let _idle = announce(&office, &attacker, 5_500_000);
    let mut bytes = vec![0; 3_000_000];
    SeededRandom::new(b"honest").fill(&mut bytes);
    quiet.write("letter", bytes);
    quiet.back_up().expect("what only was announced takes no room");
}

/// Begins an upload of `len` bytes and sends none of them.
fn announce(office: &Office, attacker: &Attacker, len: usize) -> RawUpload {
    announce_at(&office.address(), attacker, len)
}

fn announce_at(address: &str, attacker: &Attacker, len: usize) -> RawUpload {
    let path = format!("/api/v1/stores/{}/segments/{}", attacker.store, "0".repeat(64));
    RawUpload::begin(address, &attacker.credential, &path, len)
}

#[test]
fn a_hold_that_was_acknowledged_is_stronger_than_room_thinning_and_removal() {
    let (office, clock) = Office::stepped(start());
    office.unprotected("shelf", "at least 1", None);
    let station = office.workstation("knot");
    live(&station, &clock, 10);
    let (api, store) = (office.api.clone(), station.store());
    let holding = std::thread::spawn(move || {
        let hold = |sequence: &u64| {
            let path = format!("{store}/points/{sequence}/hold");
            api.send::<_, Point>(Method::PUT, &path, &NewHold { reason: "a dispute".into() }).is_ok()
        };
        (1..=9).filter(hold).collect::<Vec<u64>>()
    });
    office.tend();
    let held = holding.join().expect("no panic");
    let left = numbers(&office, &station);
    assert!(held.iter().all(|sequence| left.contains(sequence)), "{held:?} were held, {left:?} are left");
    for sequence in left {
        let path = format!("{}/points/{sequence}", station.store());
        let _: PointBytes = station.home.device_api().expect("joined").1.get(&path).expect("and its file is there");
    }
}

#[test]
fn runs_that_fail_and_a_first_point_that_does_not_come_are_alerts() {
    let (office, clock) = Office::stepped(start());
    office.destination("shelf");
    let (failing, silent) = (office.workstation("knot"), office.workstation("dunlin"));
    failing.write("letter", "here");
    failing.back_up().expect("backed up");
    let attacker = Attacker::on(&failing);
    for expected in [0, 1] {
        let begun = attacker.begin(Kind::Files);
        let why = jetfrost_wire::run::GiveUp { stopped: false, reason: "no room".into(), progress: Progress::default() };
        let _: Run = attacker.api.send(Method::POST, &format!("/runs/{}/give-up", begun.run.id), &why).expect("given up");
        let alerts: Alerts = office.api.get("/alerts").expect("told");
        let of_knot = alerts.alerts.iter().filter(|c| c.kind == AlertKind::Failing && c.subject == "knot").count();
        assert_eq!(of_knot, expected, "the second in a row: {alerts:?}");
    }
    clock.set(start() + (24 * 8).hours());
    let alerts: Alerts = office.api.get("/alerts").expect("told");
    assert!(alerts.alerts.iter().any(|c| c.kind == AlertKind::NoFirstPoint && c.subject == "dunlin"), "{alerts:?}");
    drop(silent);
}

#[test]
fn nothing_is_written_without_an_accepted_run() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    let attacker = Attacker::on(&station);
    let (segment, _) = attacker.noise(300_000);
    let send = || attacker.api.put_segment(&attacker.store, &segment.hash, &Bytes::from(segment.bytes.clone()));
    assert_eq!(kind(send()), Some(ProblemKind::RunOver), "no run is underway");
    attacker.begin(Kind::Files);
    let _: Destination = office.put(&format!("/destinations/{}/withdrawn", shelf.id), &()).expect("withdrawn");
    assert_eq!(kind(send()), Some(ProblemKind::Withdrawn));
    office.api.delete(&format!("/destinations/{}/withdrawn", shelf.id)).expect("brought back");
    send().expect("taken again");
    let _: Record = office.put(&format!("{}/removal", station.store()), &()).expect("removed");
    assert_eq!(kind(attacker.api.missing(&attacker.store, &[ChunkName([1; 32])])), Some(ProblemKind::Conflict));
}

#[test]
fn a_point_that_no_run_could_follow_is_refused_before_it_is_committed() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    let attacker = Attacker::on(&station);
    let hostile = attacker.commit(&Forged { files: 1 << 63, ..Forged::default() });
    assert_eq!(kind(hostile), Some(ProblemKind::Invalid));
    station.back_up().expect("and the next run is as ever");
    assert_eq!(numbers(&office, &station), [1, 2]);
}

#[test]
fn parallel_uploads_of_needs_leave_a_limit_where_it_is() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    limit(&office, &station, 400_000);
    let attacker = Attacker::on(&station);
    let begun = attacker.begin(Kind::Files);
    let needs = Bytes::from(encode_needs(attacker.keys.store, begun.sequence, 0, &[], &[]));
    let before = record(&office, &station).store.used.expect("there");
    std::thread::scope(|threads| {
        for _ in 0..12 {
            threads.spawn(|| attacker.api.put_bytes(&calls::put_needs(&begun.run.id), &needs));
        }
    });
    assert_eq!(record(&office, &station).store.used, Some(before + 4096), "counted once, and never below nothing");
    let huge = Bytes::from(vec![0; 300_000]);
    let refused = attacker.api.put_bytes(&calls::put_needs(&begun.run.id), &huge);
    assert_eq!(kind(refused), Some(ProblemKind::Invalid), "more than needs can come to");
}

/// Uploads that stall, five times as many as there are threads to wait for a disk.
#[test]
fn who_sends_nothing_keeps_nobody_from_an_answer() {
    let office = Office::open();
    office.destination("shelf");
    let (noisy, quiet) = (office.workstation("knot"), office.workstation("dunlin"));
    let attacker = Attacker::on(&noisy);
    attacker.begin(Kind::Files);
    let mut idle: Vec<_> = (0..24).map(|_| announce(&office, &attacker, 8 << 20)).collect();
    quiet.write("letter", "here");
    quiet.back_up().expect("the others are answered");
    let mut one_more = announce(&office, &attacker, 8 << 20);
    assert!(one_more.status().contains("429"), "one workstation has so many at once, and no more");
    idle.iter_mut().for_each(|upload| upload.send(&[0; 100]));
    quiet.back_up().expect("and still are");
}

#[test]
fn two_hundred_guesses_at_once_try_four_and_lock_nobody_out_elsewhere() {
    let office = Office::open();
    let (address, fingerprint) = (office.address(), office.fingerprint());
    let outcomes: Vec<Option<ProblemKind>> = std::thread::scope(|threads| {
        let guess = |n: usize| {
            let api = Api::new(&address, Some(&fingerprint)).expect("a service");
            let sign_in = jetfrost_wire::service::SignIn {
                login: "ingrid".into(),
                password: format!("guess {n}"),
                code: None,
                carry: jetfrost_wire::service::Carry::Token,
                label: None,
            };
            kind(api.post::<_, jetfrost_wire::service::SignedIn>("/sessions", &sign_in).map(drop))
        };
        let guesses: Vec<_> =
            (0..40).map(|n| threads.spawn(move || (0..5).map(|m| guess(5 * n + m)).collect::<Vec<_>>())).collect();
        guesses.into_iter().flat_map(|guess| guess.join().expect("no panic")).collect()
    });
    let tried = outcomes.iter().filter(|outcome| **outcome == Some(ProblemKind::WrongPassword)).count();
    let held_off = outcomes.iter().filter(|outcome| **outcome == Some(ProblemKind::TooManyAttempts)).count();
    assert!(tried <= 6 && tried + held_off == 200, "{tried} were tried, {held_off} were not");
    let _: Vec<Destination> = office.api.list("/destinations").expect("a session that is known goes on");
}

#[test]
fn a_damaged_point_or_its_needs_keep_no_machine_from_backing_up_and_are_told() {
    for (suffix, what) in [("point", 3), ("needs", 3), ("receipt", 3), ("store.cbor", 0), ("needs", 2), ("needs", 1)] {
        let mut office = Office::open();
        office.destination("shelf");
        let station = office.workstation("knot");
        for n in 0..3 {
            station.write("letter", format!("version {n}"));
            station.back_up().expect("backed up");
        }
        office.stop();
        let file = file_of(&office, suffix, what);
        let mut bytes = std::fs::read(&file).expect("read");
        let at = bytes.len() - 5;
        bytes[at] ^= 1;
        std::fs::write(&file, bytes).expect("damaged");
        office.start();
        station.write("letter", "after the damage");
        let report = station.back_up().unwrap_or_else(|e| panic!("{suffix} {what}: {e}"));
        assert_eq!((report.point.sequence, report.exceptions.total()), (4, 0), "{suffix} {what}");
        if suffix == "point" {
            assert_eq!(report.damaged_points, [3], "and it says so");
        }
        let back = office.path("back");
        station.restore_all(&back).expect("restored");
        assert_eq!(std::fs::read(station.restored(&back).join("letter")).expect("there"), b"after the damage", "{suffix} {what}");
        let job: jetfrost_wire::job::Job = office.api.post(&format!("{}/scrub", station.store()), &()).expect("begun");
        let _: jetfrost_wire::job::Job = office.api.get(&format!("/jobs/{}?wait_seconds=30", job.id)).expect("done");
        let alerts: Alerts = office.api.get("/alerts").expect("told");
        let told = alerts.alerts.iter().any(|c| c.kind == AlertKind::Damage && c.subject == "knot");
        // What the service makes again by itself is sound by then.
        assert_eq!(told, suffix != "store.cbor", "{suffix} {what}: {alerts:?}");
    }
}

/// A file of the only image store: by its number, or by its name.
fn file_of(office: &Office, suffix: &str, number: u64) -> std::path::PathBuf {
    let stores = office.path("shelf/stores");
    let store = std::fs::read_dir(stores).expect("listed").next().expect("one").expect("an entry").path();
    match suffix {
        "store.cbor" => store.join(suffix),
        "needs" => store.join(suffix).join(format!("{number:010}.{suffix}")),
        _ => store.join(format!("{suffix}s")).join(format!("{number:010}.{suffix}")),
    }
}

#[test]
fn a_lost_point_is_not_told_as_expired_and_its_number_is_not_given_again() {
    let mut office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    for n in 0..3 {
        station.write("letter", format!("version {n}"));
        station.back_up().expect("backed up");
    }
    office.stop();
    std::fs::remove_file(file_of(&office, "point", 3)).expect("lost");
    office.start();
    office.tend();
    assert_eq!(numbers(&office, &station), [1, 2, 3], "nothing removed it");
    let error = station.restore(&At::Sequence(3), &Wish::everything(office.path("back")));
    assert!(error.expect_err("lost").to_string().contains("is lost"));
    let browser = jetfrost_client::browse::Browser::open(&station.home).expect("opened");
    let found = browser.versions(jetfrost_platform::path_bytes(&station.folder)).expect("of the others it is told");
    assert_eq!((found.unreadable, found.versions.is_empty()), (vec![3], false));
    let report = station.back_up().expect("and the next run goes on");
    assert_eq!((report.point.sequence, report.damaged_points), (4, vec![3]));
    assert_eq!(station.back_up().expect("once it was said").damaged_points, Vec::<u64>::new());
}

#[test]
fn a_point_whose_every_trace_on_the_disk_is_gone_is_lost_and_not_expired() {
    let (mut office, clock) = Office::stepped(start());
    office.unprotected("shelf", "10 days", None);
    let station = office.workstation("knot");
    for n in 0..3 {
        clock.set(start() + (24 * n).hours());
        station.write("letter", format!("version {n}"));
        station.back_up().expect("backed up");
    }
    office.stop();
    for suffix in ["point", "receipt", "needs"] {
        for number in [2, 3] {
            std::fs::remove_file(file_of(&office, suffix, number)).expect("lost");
        }
    }
    office.start();
    office.tend();
    assert_eq!(numbers(&office, &station), [1, 2, 3], "nothing let them go");
    let read = |sequence: u64| {
        let path = format!("{}/points/{sequence}", station.store());
        match office.api.get::<PointBytes>(&path) {
            Err(ClientError::Refused(problem)) => (problem.known_kind(), problem.title),
            other => panic!("{other:?}"),
        }
    };
    assert_eq!(read(2).0, Some(ProblemKind::Damaged), "{:?}", read(2));
    assert_eq!(read(9).0, Some(ProblemKind::NotFound));
    let report = station.back_up().expect("and the next run goes on");
    assert_eq!((report.point.sequence, report.damaged_points), (4, vec![2, 3]), "no number is given twice");
    assert_eq!(points(&office, &station).iter().filter(|point| point.lost).count(), 2, "and the list says so");
    let _: jetfrost_wire::job::Job = office.api.post(&format!("{}/scrub", station.store()), &()).expect("begun");
    office.finish_jobs();
    let alerts: Alerts = office.api.get("/alerts").expect("told");
    assert!(alerts.alerts.iter().any(|alert| alert.kind == AlertKind::Damage), "{alerts:?}");

    // Once its time is over by the rule it is given up, and says when and why.
    clock.set(start() + (24 * 20).hours());
    station.back_up().expect("backed up");
    office.tend();
    let left = numbers(&office, &station);
    assert!(!left.contains(&2) && left.contains(&5), "{left:?}");
    assert!(read(2).1.contains("gone since"), "{:?}", read(2));
}

#[test]
fn an_older_state_in_a_newer_ones_place_is_noticed_by_its_id() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "one");
    station.back_up().expect("backed up");
    // Another machine's point of the same number would do for a comparison of numbers.
    let seen = station.home.directory().join("seen.json");
    let text = std::fs::read_to_string(&seen).expect("read");
    let id = text.split('"').rev().nth(1).expect("an id").to_owned();
    std::fs::write(&seen, text.replace(&id, &"0".repeat(32))).expect("written");
    assert!(matches!(station.back_up(), Err(ClientError::RolledBack { shown: 1, seen: 1 })));
    station.home.forget_seen().expect("a person decided");
    station.back_up().expect("and it goes on");
}

#[test]
fn a_run_brings_no_flood_of_short_segments_and_each_counts_as_the_volume_counts_it() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    let attacker = Attacker::on(&station);
    attacker.begin(Kind::Files);
    let before = record(&office, &station).store.used.expect("there");
    let send = || {
        let (segment, _) = attacker.noise(1);
        attacker.api.put_segment(&attacker.store, &segment.hash, &Bytes::from(segment.bytes))
    };
    let taken = (0..40).take_while(|_| send().is_ok()).count();
    assert_eq!(taken, 32);
    let used = record(&office, &station).store.used.expect("there");
    assert!(used - before >= 32 * 4096, "{} bytes", used - before);
}

#[test]
fn a_refused_destination_leaves_nothing_and_none_is_made_among_the_services_own_files() {
    let office = Office::open();
    office.destination("shelf");
    let add = |name: &str, directory: &std::path::Path| {
        let new = jetfrost_wire::destination::NewDestination {
            name: name.into(),
            directory: directory.display().to_string(),
            ..jetfrost_wire::destination::NewDestination::default()
        };
        kind(office.api.post::<_, Destination>("/destinations", &new))
    };
    assert_eq!(add("inner", &office.path("shelf/inner")), Some(ProblemKind::UnfitDirectory));
    assert!(!office.path("shelf/inner").exists());
    assert_eq!(add("own", &office.path("state/backups")), Some(ProblemKind::UnfitDirectory));
    assert!(!office.path("state/backups").exists());
}

/// Everything at once that a stolen credential, and somebody without one, can send; `JETFROST_LOAD_SECONDS=3600` keeps it up for an
/// hour.
#[test]
fn honest_machines_finish_every_run_beside_an_attack() {
    let seconds = std::env::var("JETFROST_LOAD_SECONDS").ok().and_then(|n| n.parse().ok()).unwrap_or(6);
    let office = Office::open();
    office.destination("shelf");
    let honest: Vec<Workstation> = (0..10).map(|n| office.workstation(&format!("honest {n}"))).collect();
    let taken: Vec<Workstation> = (0..2).map(|n| office.workstation(&format!("taken {n}"))).collect();
    taken.iter().for_each(|station| limit(&office, station, 60_000_000));
    let (address, fingerprint) = (office.address(), office.fingerprint());
    let until = Instant::now() + Duration::from_secs(seconds);
    let finished: Vec<u64> = std::thread::scope(|threads| {
        for station in &taken {
            let attacker = Attacker::on(station);
            threads.spawn(move || flood(&attacker, until));
            let attacker = Attacker::on(station);
            let address = &address;
            threads.spawn(move || stall(address, &attacker, until));
        }
        threads.spawn(|| guess_without_a_credential(&address, &fingerprint, until));
        let work = |(n, station): (usize, &Workstation)| {
            let mut runs = 0;
            while runs == 0 || Instant::now() < until {
                station.write("letter", format!("{n} {runs} ").repeat(5_000));
                station.back_up().unwrap_or_else(|e| panic!("honest {n}, run {runs}: {e}"));
                runs += 1;
                // Less often than runs may be begun.
                std::thread::park_timeout(Duration::from_secs(if seconds > 60 { 40 } else { 0 }));
            }
            runs
        };
        let working: Vec<_> = honest.iter().enumerate().map(|of| threads.spawn(move || work(of))).collect();
        working.into_iter().map(|one| one.join().expect("every run of an honest machine ends well")).collect()
    });
    assert!(finished.iter().all(|runs| *runs > 0), "{finished:?}");
    let back = office.path("back");
    honest[3].restore_all(&back).expect("restored");
    let restored = std::fs::read(honest[3].restored(&back).join("letter")).expect("there");
    assert_eq!(restored, std::fs::read(honest[3].folder.join("letter")).expect("there"));
}

/// Runs, noise, forged points, needs of nothing and names that nobody has, as fast as they are taken.
fn flood(attacker: &Attacker, until: Instant) {
    let mut round = 0_u64;
    while Instant::now() < until {
        round += 1;
        let begin = BeginRun { kind: PointKind::Files, client_version: "x".repeat(60_000) };
        let begun = attacker.api.post::<_, RunBegun>(&format!("/workstations/{}/runs", attacker.workstation), &begin);
        let (segment, names) = attacker.noise(if round.is_multiple_of(4) { 3 << 20 } else { 20_000 });
        let _ = attacker.api.put_segment(&attacker.store, &segment.hash, &Bytes::from(segment.bytes));
        let _ = attacker.api.fetch(&attacker.store, &names, |_, _| Ok(()));
        let Ok(begun) = begun else { continue };
        let forged = Forged { created: i64::MAX, files: round, ..Forged::default() };
        let needs = encode_needs(attacker.keys.store, begun.sequence, 0, &names, &[]);
        let _ = attacker.api.put_bytes(&calls::put_needs(&begun.run.id), &Bytes::from(needs.clone()));
        let point = attacker.point(&begun, &forged, &names, &needs);
        let _ = attacker.api.post::<_, PointCommitted>(&format!("/runs/{}/point", begun.run.id), &point);
    }
}

/// As many uploads as one may have, of which nothing comes.
fn stall(address: &str, attacker: &Attacker, until: Instant) {
    while Instant::now() < until {
        let idle: Vec<_> = (0..24).map(|_| announce_at(address, attacker, 8 << 20)).collect();
        std::thread::park_timeout(Duration::from_secs(3).min(until.saturating_duration_since(Instant::now())));
        drop(idle);
    }
}

fn guess_without_a_credential(address: &str, fingerprint: &str, until: Instant) {
    let api = Api::new(address, Some(fingerprint)).expect("a service");
    while Instant::now() < until {
        for login in ["ingrid".to_owned(), "y".repeat(3_000_000)] {
            let call = serde_json::json!({ "login": login, "password": "a guess", "carry": "token" });
            let _ = api.post::<_, serde_json::Value>("/sessions", &call);
        }
        let _ = api.get::<serde_json::Value>("/audit");
    }
}
