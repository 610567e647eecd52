//! Weeks of an office: agents and the real client on machines that sleep, travel, are set back, run full and have wrong clocks, and a
//! service that is stopped, paused and full at times. Whatever an agent gives as its reason is true, whoever is let is backed up, and
//! each point holds what its files were then.
//!
//! `JETFROST_MACHINES=50 JETFROST_DAYS=30` is a month of an office; a few days of a few machines unless they are set.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Arc, Mutex};
use std::{fs, io};

use jetfrost_client::ClientError;
use jetfrost_client::agent::{Agent, AgentStatus, Doing, Known, Listener, Surroundings, Suspect, ThisMachine};
use jetfrost_client::backup::BackupReport;
use jetfrost_client::browse::At;
use jetfrost_client::progress::Meter;
use jetfrost_client::restore::{Rights, Wish};
use jetfrost_image::OrderId;
use jetfrost_service::{Clock, SteppedClock};
use jetfrost_tests::chance::{Chance, wanted};
use jetfrost_tests::mounted::Mounted;
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_types::{DelayReason, Limit, Rhythm, ScheduleSettings};
use jetfrost_wire::alerts::{AlertKind, Alerts};
use jetfrost_wire::destination::{Destination, DestinationChange};
use jetfrost_wire::point::Point;
use jetfrost_wire::schedule::OwnSchedule;
use jetfrost_wire::service::{Maintenance, MaintenanceState, NewBackups};
use jetfrost_wire::workstation::{AgentReport, AgentState};
use jiff::{SignedDuration, Timestamp};

const RHYTHM_HOURS: u32 = 4;
const DAY_MS: i64 = 24 * 3_600_000;

/// What a day brings to a machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fate {
    Usual,
    /// Shut all day.
    Asleep,
    /// Away from the office, and awake.
    Away,
    /// On battery until the afternoon.
    OnBattery,
    /// Its clock is so many days ahead until the afternoon.
    ClockAhead(i64),
    /// Everything that it keeps is as it was days ago: somebody restored an image of it.
    SetBack,
    /// The volume with its state is full until the afternoon.
    Full,
    /// The folder that it keeps is not there until the afternoon.
    NoSource,
}

/// What a day brings to the service, until the afternoon.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Weather {
    Usual,
    Stopped,
    Paused,
    AtItsLimit,
}

/// A machine's surroundings: its service and its files are real, the rest is made up.
struct World {
    real: ThisMachine,
    clock: Arc<SteppedClock>,
    /// By how many milliseconds its own clock is ahead.
    ahead: AtomicI64,
    away: AtomicBool,
    on_battery: AtomicBool,
    folder: PathBuf,
    /// What the files were at each point.
    was: Mutex<BTreeMap<u64, Files>>,
}

/// Names, and a hash of what is in them.
type Files = BTreeMap<String, blake3::Hash>;

fn files(folder: &Path) -> Files {
    let hash = |entry: io::Result<fs::DirEntry>| {
        let entry = entry.expect("an entry");
        let name = entry.file_name().into_string().expect("a test's names are text");
        (name, blake3::hash(&fs::read(entry.path()).expect("readable")))
    };
    fs::read_dir(folder).expect("readable").map(hash).collect()
}

impl World {
    fn there<T>(&self, then: impl FnOnce(&ThisMachine) -> Result<T, ClientError>) -> Result<T, ClientError> {
        if self.away.load(Ordering::SeqCst) {
            return Err(ClientError::Unreachable { address: "office:7410".into(), why: "no route".into() });
        }
        then(&self.real)
    }
}

impl Surroundings for &World {
    fn now(&self) -> Timestamp {
        let now = self.clock.now_ms() + self.ahead.load(Ordering::SeqCst);
        Timestamp::from_millisecond(now).expect("within the years")
    }

    fn minute(&self) -> u16 {
        u16::try_from(self.now().as_second().rem_euclid(86_400) / 60).expect("minutes of a day")
    }

    fn on_battery(&self) -> io::Result<bool> {
        Ok(self.on_battery.load(Ordering::SeqCst))
    }

    fn is_metered(&self) -> bool {
        false
    }

    fn load_percent(&self) -> Option<u32> {
        None
    }

    fn known(&self) -> Result<Known, ClientError> {
        self.there(Surroundings::known)
    }

    fn listener(&self, _: u64) -> Listener {
        Box::new(|_| {})
    }

    fn yield_to_others(&self) {}

    fn tell_of_suspect(&self, _: &Suspect) -> bool {
        true
    }

    fn report(&self, report: &AgentReport) -> Result<AgentState, ClientError> {
        self.there(|real| real.report(report))
    }

    fn back_up(&self, meter: &Arc<Meter>) -> Result<Vec<BackupReport>, ClientError> {
        let reports = self.there(|real| real.back_up(meter))?;
        let made = reports.first().expect("one kind").point.sequence;
        assert!(self.was.lock().expect("a lock").insert(made, files(&self.folder)).is_none(), "no point is made twice");
        Ok(reports)
    }

    fn seek(&self) -> bool {
        false
    }

    fn go_back(&self) {}

    fn diagnose(&self) {}

    fn see_to_orders(&self, _: &dyn Fn(OrderId, &Arc<Meter>)) -> Result<(), ClientError> {
        Ok(())
    }

    fn is_declined(&self, _: &OrderId) -> bool {
        false
    }

    fn drill(&self, meter: &Arc<Meter>) -> Result<(), ClientError> {
        self.there(|real| real.drill(meter))
    }
}

/// A machine of the office.
struct Machine {
    name: String,
    station: Workstation,
    world: &'static World,
    /// While its agent runs.
    agent: Option<Agent<&'static World>>,
    /// Its state some days ago.
    copy: PathBuf,
    fate: Fate,
    made: u32,
    volume: Option<Mounted>,
}

impl Machine {
    fn new(office: &Office, clock: &Arc<SteppedClock>, number: u64) -> Self {
        let name = format!("m{number}");
        let home = office.path(&format!("{name}-home"));
        let volume = (!cfg!(no_mounts)).then(|| Mounted::new(&home, "3m"));
        let station = office.workstation(&name);
        let real = ThisMachine::new(station.home.clone(), |_| unreachable!("it makes no diagnosis"));
        // Agents are not asked to outlive a test's machines; these live as long as the test.
        let world: &'static World = Box::leak(Box::new(World {
            real,
            clock: Arc::clone(clock),
            ahead: AtomicI64::new(0),
            away: AtomicBool::new(false),
            on_battery: AtomicBool::new(false),
            folder: station.folder.clone(),
            was: Mutex::default(),
        }));
        let copy = office.path(&format!("{name}-copy"));
        let mut machine = Self { name, station, world, agent: None, copy, fate: Fate::Usual, made: 0, volume };
        (0..12).for_each(|n| machine.station.write(&format!("f{n}"), format!("{} {n}", machine.name)));
        machine.keep_a_copy();
        machine.start();
        machine
    }

    fn start(&mut self) {
        self.agent = Some(Agent::new(self.station.home.clone(), self.world).expect("joined, and no other runs"));
    }

    fn keep_a_copy(&mut self) {
        let _ = fs::remove_dir_all(&self.copy);
        copied(self.station.home.directory(), &self.copy);
    }

    fn set_back(&mut self) {
        self.agent = None;
        let home = self.station.home.directory();
        for entry in fs::read_dir(home).expect("readable") {
            let path = entry.expect("an entry").path();
            let removed = if path.is_dir() { fs::remove_dir_all(path) } else { fs::remove_file(path) };
            removed.expect("removed");
        }
        copied(&self.copy, home);
        self.start();
    }

    fn ballast(&self) -> PathBuf {
        self.station.home.directory().join("ballast")
    }

    fn hidden(&self) -> PathBuf {
        self.station.folder.with_extension("away")
    }

    fn begin_day(&mut self, fate: Fate) {
        self.fate = fate;
        self.world.away.store(fate == Fate::Away, Ordering::SeqCst);
        self.world.on_battery.store(fate == Fate::OnBattery, Ordering::SeqCst);
        match fate {
            Fate::ClockAhead(days) => self.world.ahead.store(days * DAY_MS, Ordering::SeqCst),
            Fate::SetBack => self.set_back(),
            Fate::Full => {
                // Until nothing more fits.
                let filled = fs::write(self.ballast(), vec![7; 4 << 20]);
                assert_eq!(filled.map_err(|error| error.kind()), Err(io::ErrorKind::StorageFull));
            }
            Fate::NoSource => fs::rename(&self.station.folder, self.hidden()).expect("moved"),
            Fate::Usual | Fate::Asleep | Fate::Away | Fate::OnBattery => {}
        }
    }

    /// What was wrong with it since the morning is over.
    fn is_well_again(&mut self) {
        match self.fate {
            Fate::Full => fs::remove_file(self.ballast()).expect("removed"),
            Fate::NoSource => fs::rename(self.hidden(), &self.station.folder).expect("moved"),
            _ => {}
        }
        self.world.on_battery.store(false, Ordering::SeqCst);
        self.world.ahead.store(0, Ordering::SeqCst);
        if !matches!(self.fate, Fate::Asleep | Fate::Away) {
            self.fate = Fate::Usual;
        }
    }

    /// Somebody works on it.
    fn works(&mut self, chance: &Chance) {
        if matches!(self.fate, Fate::Asleep | Fate::NoSource) {
            return;
        }
        let name = format!("f{}", chance.below(16));
        self.made += 1;
        if chance.below(6) == 0 {
            let _ = fs::remove_file(self.station.folder.join(name));
        } else {
            self.station.write(&name, format!("{} {}", self.made, "x".repeat(chance.below(3000))));
        }
    }

    /// What its agent does until there is nothing to be done now.
    fn steps(&self) -> AgentStatus {
        let agent = self.agent.as_ref().expect("it runs");
        let busy = (0..20).all(|_| agent.round() <= Surroundings::now(&self.world));
        assert!(!busy, "{} finds no end: {:?}", self.name, agent.status().now);
        agent.status()
    }

    /// What an agent says is true, and it says nothing when nothing is in the way.
    fn check(&self, status: &AgentStatus, weather: Weather, at: &str) {
        let who = format!("{} at {at}, {:?}, {weather:?}: {status:?}", self.name, self.fate);
        let is_true = match &status.now {
            Doing::Waiting { due } => {
                let ahead = due.duration_since(Surroundings::now(&self.world));
                ahead <= SignedDuration::from_mins(i64::from(RHYTHM_HOURS) * 60 + 15)
            }
            Doing::Delayed(delay) => match delay.reason {
                DelayReason::OnBattery => self.fate == Fate::OnBattery,
                DelayReason::OfficeUnreachable => self.fate == Fate::Away || weather == Weather::Stopped,
                DelayReason::BackupsPaused => weather == Weather::Paused,
                DelayReason::LimitReached => weather == Weather::AtItsLimit,
                DelayReason::SourceMissing => self.fate == Fate::NoSource,
                DelayReason::Queued => true,
                _ => false,
            },
            Doing::BackingUp { .. } | Doing::Drilling { .. } => false,
        };
        assert!(is_true, "{who}");
        assert!(status.failed.is_none() || self.fate == Fate::Full, "{who}");
    }
}

fn copied(from: &Path, to: &Path) {
    fs::create_dir_all(to).expect("made");
    for entry in fs::read_dir(from).expect("readable") {
        let entry = entry.expect("an entry");
        let (path, to) = (entry.path(), to.join(entry.file_name()));
        if path.is_dir() {
            copied(&path, &to);
        } else if path.is_file() {
            fs::copy(path, to).expect("copied");
        }
    }
}

fn fate(chance: &Chance, machine: &Machine) -> Fate {
    let stays_away = machine.fate == Fate::Away && chance.below(3) > 0;
    match chance.below(20) {
        _ if stays_away => Fate::Away,
        0..=1 => Fate::Asleep,
        2..=3 => Fate::Away,
        4..=5 => Fate::OnBattery,
        6 => Fate::ClockAhead(40),
        7 => Fate::ClockAhead(i64::try_from(chance.below(2)).expect("few")),
        8 => Fate::SetBack,
        9 if machine.volume.is_some() => Fate::Full,
        10 => Fate::NoSource,
        _ => Fate::Usual,
    }
}

struct Month {
    office: Office,
    clock: Arc<SteppedClock>,
    shelf: Destination,
    machines: Vec<Machine>,
    chance: Chance,
}

impl Month {
    fn of(machines: u64) -> Self {
        let start = "2026-11-30T06:00:00Z".parse().expect("a time");
        let (office, clock) = Office::stepped(start);
        let shelf = office.destination("shelf");
        let schedule = ScheduleSettings { rhythm_seconds: Rhythm::new(RHYTHM_HOURS * 3600), ..ScheduleSettings::default() };
        let _: OwnSchedule = office.put(&format!("/destinations/{}/schedule", shelf.id), &schedule).expect("set");
        let machines = (0..machines).map(|number| Machine::new(&office, &clock, number)).collect();
        Self { office, clock, shelf, machines, chance: Chance::of("a month") }
    }

    fn is(&mut self, weather: Weather, begins: bool) {
        match weather {
            Weather::Usual => {}
            Weather::Stopped if begins => self.office.stop(),
            Weather::Stopped => self.office.start(),
            Weather::Paused => {
                let to = Maintenance { backups: if begins { NewBackups::Off } else { NewBackups::On }, restores: true };
                let _: MaintenanceState = self.office.put("/maintenance", &to).expect("set");
            }
            Weather::AtItsLimit => {
                let capacity = Some(if begins { Limit::Bytes(1) } else { Limit::None });
                let to = DestinationChange { capacity, ..DestinationChange::default() };
                let _: Destination = self.office.patch(&format!("/destinations/{}", self.shelf.id), &to).expect("set");
            }
        }
    }

    fn day(&mut self, day: i64, is_calm: bool) {
        let morning: Timestamp = "2026-11-30T07:00:00Z".parse().expect("a time");
        let morning = morning + SignedDuration::from_hours(24 * day);
        self.clock.set(morning);
        self.office.sign_in_again();
        self.office.tend();
        let weathers = [Weather::Stopped, Weather::Paused, Weather::AtItsLimit, Weather::Usual, Weather::Usual, Weather::Usual];
        let mut weather = if is_calm { Weather::Usual } else { weathers[self.chance.below(6)] };
        self.is(weather, true);
        for machine in &mut self.machines {
            if day % 5 == 2 {
                machine.keep_a_copy();
            }
            let fate = if is_calm { Fate::Usual } else { fate(&self.chance, machine) };
            machine.begin_day(fate);
        }
        for half_hour in 0..24 {
            let at = morning + SignedDuration::from_mins(30 * half_hour);
            self.clock.set(at);
            if half_hour == 15 {
                self.is(weather, false);
                weather = Weather::Usual;
                self.machines.iter_mut().for_each(Machine::is_well_again);
            }
            self.machines.iter_mut().for_each(|machine| machine.works(&self.chance));
            // Whoever was away waits half a minute after its return.
            let awake = |machine: &&Machine| machine.fate != Fate::Asleep;
            self.machines.iter().filter(awake).for_each(|machine| drop(machine.steps()));
            self.clock.set(at + SignedDuration::from_mins(11));
            for machine in self.machines.iter().filter(awake) {
                machine.check(&machine.steps(), weather, &at.to_string());
            }
        }
    }

    /// Every point that is there holds what its files were then.
    fn points_hold_what_was(&self) {
        for machine in &self.machines {
            let workstation = machine.station.home.membership().expect("joined").workstation;
            let there: Vec<Point> = self.office.api.list(&format!("/workstations/{workstation}/points")).expect("listed");
            let was = machine.world.was.lock().expect("a lock");
            assert_eq!(there.iter().map(|point| point.sequence).max(), was.keys().max().copied(), "{}", machine.name);
            for sequence in there.iter().map(|point| point.sequence) {
                let back = self.office.path("back");
                let wish = Wish::everything(back.clone()).rights(Rights::Keep);
                let report = machine.station.restore(&At::Sequence(sequence), &wish).expect("restored");
                assert!(report.troubles.is_empty(), "{:?}", report.troubles);
                let folder = machine.station.restored(&back);
                assert_eq!(Some(&files(&folder)), was.get(&sequence), "{}, point {sequence}", machine.name);
                fs::remove_dir_all(back).expect("removed");
            }
        }
    }
}

#[test]
fn whatever_befalls_an_office_each_machine_is_backed_up_when_it_can_be_and_says_why_when_not() {
    let days = i64::try_from(wanted("JETFROST_DAYS", 5)).expect("few");
    let machines = wanted("JETFROST_MACHINES", 6);
    let mut month = Month::of(machines);
    (0..days).for_each(|day| month.day(day, day == 0));
    // Two calm days later nothing is left of it.
    (days..days + 2).for_each(|day| month.day(day, true));
    month.office.look_around();
    let alerts: Alerts = month.office.api.get("/alerts").expect("listed");
    let left: Vec<_> = alerts.alerts.iter().filter(|alert| alert.kind != AlertKind::ProofDue).collect();
    assert!(left.iter().all(|alert| !alert.subject.starts_with('m')), "{left:?}");
    let made: usize = month.machines.iter().map(|machine| machine.world.was.lock().expect("a lock").len()).sum();
    assert!(made as u64 > machines * days.unsigned_abs(), "{made} points: most machines stood still");
    month.points_hold_what_was();
}
