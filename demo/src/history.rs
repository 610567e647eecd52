//! Thirty days of the office, lived through by the real client and the real service.

use std::fs;
use std::fs::OpenOptions;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use jetfrost_client::ClientError;
use jetfrost_client::Secret;
use jetfrost_client::api::{Api, Method};
use jetfrost_client::backup::{ReadBack, back_up};
use jetfrost_client::browse::{At, Browser};
use jetfrost_client::drill::{Rehearsal, drill};
use jetfrost_client::join::{FirstWays, join};
use jetfrost_client::progress::Meter;
use jetfrost_client::restore::{Rights, Target, Wish, restore};
use jetfrost_client::state_dir::{Session, StateDir};
use jetfrost_client::unlock_methods::{new_office_key, prove, unlock};
use jetfrost_image::crypto::SystemRandom;
use jetfrost_image::format::ArgonCost;
use jetfrost_service::{Config, Running, SteppedClock};
use jetfrost_wire::Binary;
use jetfrost_wire::access::Grants;
use jetfrost_wire::alerts::{MailSecurity, MailSettings, MailState, SetMail};
use jetfrost_wire::calls;
use jetfrost_wire::destination::{Destination, NewDestination};
use jetfrost_wire::enrolment::{Invitation, IssuedCode, NewEnrolmentCode};
use jetfrost_wire::people::{Account, Group, NewAccount, NewGroup, Role};
use jetfrost_wire::schedule::{DrillDays, Rate, RateLimit, Rhythm, ScheduleSettings, Template, TimeOfDay};
use jetfrost_wire::service::{Carry, Escrow, FirstAdministrator, NewEscrow, SignIn, SignedIn};
use jetfrost_wire::workstation::{AgentReport, Delay, DelayReason, PointKind, ProvedWith, Wait};
use jiff::civil::Weekday;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan, Zoned};

use crate::files::Files;
use crate::machine_disk::MachineDisk;
use crate::mail_stand_in::MailStandIn;
use crate::office::{
    ADMINISTRATOR, AWAY, BEREFT, ENCRYPTED, FORGETFUL, HASTY, HELPDESK, MACHINES, Machine, PASSPHRASE, PASSWORD, RENAMED,
    RESTLESS, WITH_DISK, Work,
};

/// Why the demo could not be made.
pub type Failure = Box<dyn std::error::Error + Send + Sync>;
type Done = Result<(), Failure>;

const DAYS: i64 = 30;
/// Where the stand-in for the office's mail server listens.
const MAIL_PORT: u16 = 7425;
const AWAY_DAYS: i64 = 9;
/// The office's time passes so many times faster while something runs.
const PACE: i64 = 60;

/// Makes the office and its history in `directory`, as seen at `now`; `tell` hears of each day. The service is to listen
/// on `port` later, so workstations are told so.
///
/// # Errors
/// Whatever the service or a client refused.
pub fn make(directory: &Path, port: u16, now: Timestamp, tell: &dyn Fn(&str)) -> Done {
    fs::create_dir_all(directory)?;
    let directory = directory.canonicalize()?;
    let start = now - SignedDuration::from_hours(24 * DAYS);
    let clock = Arc::new(SteppedClock::new(start));
    let config = Config {
        state_directory: directory.join("state"),
        listen: ([127, 0, 0, 1], port).into(),
        public_name: "localhost".into(),
        certificate: None,
        time_zone: TimeZone::UTC,
    };
    let service = Running::start(&config, clock.clone(), Arc::new(SystemRandom::default()))?;
    let mail = start_mail_stand_in(&directory)?;
    let mut past = Past { directory, clock, api: first_sign_in(&service)?, mail, desks: Vec::new() };
    past.furnish()?;
    past.live(now, tell)?;
    past.clock.set(now);
    past.set_schedules()?;
    past.keep_administrators_session(&service)?;
    service.tend()?;
    service.stop()?;
    Ok(())
}

/// The stand-in for the office's mail server; it keeps what it takes in `mail/`.
///
/// # Errors
/// When its port is taken.
pub fn start_mail_stand_in(directory: &Path) -> std::io::Result<MailStandIn> {
    MailStandIn::start(([127, 0, 0, 1], MAIL_PORT).into(), &directory.join("mail"), None)
}

fn address(service: &Running) -> String {
    format!("localhost:{}", service.address().port())
}

fn sign_in(api: &Api, login: &str) -> Result<SignedIn, ClientError> {
    let call =
        SignIn { login: login.into(), password: PASSWORD.into(), code: None, carry: Carry::Token, label: Some("demo".into()) };
    api.post("/sessions", &call)
}

fn first_sign_in(service: &Running) -> Result<Api, Failure> {
    let api = Api::new(&address(service), Some(&service.fingerprint()))?;
    let code = service.first_code().ok_or("there is an administrator already")?.to_owned();
    let first = FirstAdministrator { code, login: ADMINISTRATOR.into(), password: PASSWORD.into() };
    let _: Account = api.post("/first-administrator", &first)?;
    let token = sign_in(&api, ADMINISTRATOR)?.token.unwrap_or_default();
    Ok(api.with_credential(&token))
}

/// A machine in use.
struct Desk {
    machine: Machine,
    home: StateDir,
    files: Files,
    folder: PathBuf,
    disk: Option<MachineDisk>,
}

/// Machines that are outside most of the time are backed up every so many hours.
const FIELD_HOURS: u32 = 4;

struct Past {
    directory: PathBuf,
    clock: Arc<SteppedClock>,
    api: Api,
    mail: MailStandIn,
    desks: Vec<Desk>,
}

impl Past {
    /// A place, people, groups, machines.
    fn furnish(&mut self) -> Done {
        for work in Work::ALL {
            let _: Group =
                self.api.post("/groups", &NewGroup { name: work.group().into(), default_limit: None, default_quota: None })?;
        }
        let shelf = self.directory.join("shelf");
        let destination = NewDestination {
            name: "Shelf".into(),
            description: Some("Everybody's backups, on the office server's second disk.".into()),
            directory: shelf.display().to_string(),
            capacity: Some(4_000_000_000),
            reserve: Some(1_000_000_000),
            grants: Grants { groups: Work::ALL.map(|work| work.group().into()).to_vec(), ..Grants::default() },
            ..NewDestination::default()
        };
        let _: Destination = self.api.post("/destinations", &destination)?;
        self.protect_the_server()?;
        self.be_told_by_mail()?;
        let helpdesk = NewAccount {
            display_name: Some("Pelle Strand".into()),
            password: Some(PASSWORD.into()),
            ..NewAccount::new(HELPDESK, Role::Helpdesk)
        };
        let _: Account = self.api.post("/accounts", &helpdesk)?;
        for machine in MACHINES {
            self.enrol(machine)?;
        }
        Ok(())
    }

    /// When backups are made: nowhere too fast while people work, in the field and of the registry less often.
    fn set_schedules(&self) -> Done {
        let office_hours: TimeOfDay = "08:00-17:00".parse()?;
        let rate = Rate::new(20_000_000).map(|bytes_per_second| RateLimit::Limited { bytes_per_second, hours: office_hours });
        let exclude = Some([Template::Caches, Template::Trash].into_iter().collect());
        let shelf = ScheduleSettings { rate, exclude, ..ScheduleSettings::default() };
        let destinations: Vec<Destination> = self.api.list("/destinations")?;
        for destination in &destinations {
            self.api.call_with(&calls::set_destination_schedule(&destination.id), &shelf)?;
        }
        let every = |hours: u32| Rhythm::new(hours * 3600);
        let outside = ScheduleSettings { rhythm_seconds: every(FIELD_HOURS), ..ScheduleSettings::default() };
        let groups: Vec<Group> = self.api.list("/groups")?;
        for group in groups.iter().filter(|group| group.name == Work::Field.group()) {
            self.api.call_with(&calls::set_group_schedule(&group.id), &outside)?;
        }
        let registry =
            ScheduleSettings { rhythm_seconds: every(2), drill_days: DrillDays::new(30), ..ScheduleSettings::default() };
        for desk in self.desks.iter().filter(|desk| desk.machine.name == WITH_DISK) {
            let workstation = desk.home.membership()?.workstation;
            self.api.call_with(&calls::set_workstation_schedule(workstation), &registry)?;
        }
        Ok(())
    }

    /// An office key, for which copies of the service's own records are sealed.
    fn protect_the_server(&self) -> Done {
        let (public, file) = new_office_key(PASSPHRASE, ArgonCost::USUAL, &SystemRandom::default());
        fs::write(self.directory.join("office.key"), file.to_bytes())?;
        let set = NewEscrow { public_key: Binary(public.0.to_vec()), ask_workstations: false };
        let _: Escrow = self.api.send(Method::PUT, "/escrow", &set)?;
        Ok(())
    }

    /// What needs attention goes to the administrator, by a stand-in for the office's mail server.
    fn be_told_by_mail(&self) -> Done {
        let settings = MailSettings {
            server: "localhost".into(),
            port: self.mail.address().port(),
            security: MailSecurity::None,
            login: None,
            sender: "Backups <backups@skerry-holm.example>".into(),
            recipients: vec![format!("{ADMINISTRATOR}@skerry-holm.example")],
            summary_hour: Some(7),
        };
        let _: MailState = self.api.send(Method::PUT, "/mail", &SetMail { settings, password: None })?;
        let _: MailState = self.api.post("/mail/test", &())?;
        Ok(())
    }

    fn enrol(&mut self, machine: Machine) -> Done {
        let account = NewAccount {
            display_name: Some(machine.person.into()),
            groups: vec![machine.work.group().into()],
            ..NewAccount::new(machine.login, Role::Member)
        };
        let _: Account = self.api.post("/accounts", &account)?;
        let ask = NewEnrolmentCode::new(machine.login);
        let issued: IssuedCode = self.api.post("/enrolment-codes", &ask)?;
        let base = self.directory.join("machines").join(machine.name);
        let home = StateDir::new(base.join("jetfrost"));
        let ways = FirstWays::passphrase(PASSPHRASE);
        let joined = join(&home, &Invitation::parse(&issued.code)?, machine.name, &ways, &SystemRandom::default())?;
        if machine.name != FORGETFUL {
            unlock(&home, Secret::RecoveryKey(&joined.recovery_key))?;
            prove(&home, ProvedWith::RecoveryKey)?;
        }
        let folder = base.join("home");
        let mut files = Files::new(&folder, &machine);
        fs::create_dir_all(&folder)?;
        files.begin(self.now())?;
        let mut selection = home.selection()?;
        selection.include(&folder)?;
        selection.exclude("*.tmp")?;
        let disk = (machine.name == WITH_DISK).then(|| MachineDisk::new(base.join("registry.raw")));
        if let Some(disk) = &disk {
            disk.begin()?;
            selection.include_disk(&disk.path)?;
        }
        home.write_selection(&selection)?;
        self.desks.push(Desk { machine, home, files, folder, disk });
        Ok(())
    }

    fn now(&self) -> Timestamp {
        use jetfrost_service::Clock;
        Timestamp::from_millisecond(self.clock.now_ms()).unwrap_or(Timestamp::MIN)
    }

    /// Day by day until `now`: people work, machines back up when they are on.
    fn live(&mut self, now: Timestamp, tell: &dyn Fn(&str)) -> Done {
        let today = now.to_zoned(TimeZone::UTC);
        let is_worked = |day: &Zoned| !matches!(day.weekday(), Weekday::Saturday | Weekday::Sunday);
        let mut days = Vec::new();
        for ago in (0..DAYS).rev() {
            let day = today.checked_sub(ago.days())?;
            if ago == 0 || is_worked(&day) {
                days.push((ago, day));
            }
        }
        for (left, (ago, day)) in (0..days.len()).rev().zip(days) {
            let is_last = left == 0;
            tell(&format!("{}", day.strftime("%A %d %B")));
            for index in 0..self.desks.len() {
                let away = self.desks[index].machine.name == AWAY && ago < AWAY_DAYS;
                if !away {
                    self.day_at(index, &day, (ago, left), is_last.then_some(now))?;
                }
            }
        }
        Ok(())
    }

    /// `ago` in days, and how many days of work are `left`.
    fn day_at(&mut self, index: usize, day: &Zoned, (ago, left): (i64, usize), now: Option<Timestamp>) -> Done {
        // On the last day the runs lie in the hour before now, else in the late afternoon, one machine after another.
        let offset = SignedDuration::from_mins(4 * i64::try_from(index)?);
        let at = match now {
            Some(now) => now - SignedDuration::from_mins(58) + offset,
            None => day.with().hour(15).minute(30).second(0).build()?.timestamp() + offset,
        };
        if at > self.now() {
            self.clock.set(at);
        }
        self.desks[index].files.work(at)?;
        self.mishap(index, left, at)?;
        let desk = &self.desks[index];
        match desk.machine.name {
            HASTY if ago > 0 && ago % 7 != 3 => Ok(()),
            HASTY => self.broken_off(desk),
            RESTLESS if now.is_some() => self.restless(desk),
            _ => self.quiet_run(desk, ago),
        }?;
        match &desk.disk {
            Some(disk) if day.weekday() == Weekday::Friday => {
                disk.week()?;
                self.while_time_passes(|| back_up(&desk.home, PointKind::Disk, ReadBack::Sample, &Arc::new(Meter::default())))?;
            }
            _ => {}
        }
        self.report(desk, at)
    }

    /// What goes wrong at some machines on the last two days of work.
    fn mishap(&mut self, index: usize, left: usize, at: Timestamp) -> Done {
        let desk = &mut self.desks[index];
        match (desk.machine.name, left) {
            (ENCRYPTED, 0) => desk.files.suffer_encryption(at)?,
            (BEREFT, 1) => desk.files.lose_photos()?,
            (RENAMED, 1) => desk.files.rename_drawing()?,
            _ => {}
        }
        Ok(())
    }

    /// What the machine's agent says after a day's run.
    fn report(&self, desk: &Desk, at: Timestamp) -> Done {
        let report = match desk.machine.name {
            // Since the day before it was plugged in for two hours only.
            HASTY => AgentReport {
                delay: Some(Delay { reason: DelayReason::OnBattery, since: at }),
                waited: vec![Wait {
                    reason: DelayReason::OnBattery,
                    since: at - SignedDuration::from_hours(19),
                    until: at - SignedDuration::from_hours(2),
                }],
                ..AgentReport::default()
            },
            _ => {
                let hours = if desk.machine.work == Work::Field { FIELD_HOURS } else { 1 };
                let due = at + SignedDuration::from_hours(i64::from(hours)) + SignedDuration::from_mins(4);
                AgentReport { due: Some(due), ..AgentReport::default() }
            }
        };
        let (membership, api) = desk.home.device_api()?;
        api.call_with(&calls::report_agent(&membership.workstation), &report)?;
        Ok(())
    }

    fn quiet_run(&self, desk: &Desk, ago: i64) -> Done {
        self.while_time_passes(|| back_up(&desk.home, PointKind::Files, ReadBack::Sample, &Arc::new(Meter::default())))?;
        // Every ten days each machine that is on rehearses a restore.
        if ago % 10 == 4 {
            self.rehearse(desk)?;
        }
        // Now and then somebody wants a file back.
        if (desk.machine.name == "curlew" && ago == 12) || (desk.machine.name == "plover" && ago == 5) {
            self.bring_back(desk)?;
        }
        Ok(())
    }

    fn rehearse(&self, desk: &Desk) -> Done {
        let browser = Browser::open(&desk.home)?;
        let point = browser.point(&At::Latest, PointKind::Files)?;
        let how = Rehearsal { share: 5, most: 100_000_000, scratch: desk.home.directory().into(), memory: None };
        self.while_time_passes(|| drill(&browser, &point, &how, &Arc::new(Meter::default())))?;
        Ok(())
    }

    fn bring_back(&self, desk: &Desk) -> Done {
        let browser = Browser::open(&desk.home)?;
        let point = browser.point(&At::Latest, PointKind::Files)?;
        let wish =
            Wish::paths(vec![desk.folder.join("Letters")], Target::Into(desk.folder.join("Restored"))).rights(Rights::Keep);
        self.while_time_passes(|| restore(&browser, &point, &wish, &Arc::new(Meter::default())))?;
        Ok(())
    }

    /// A run while an instrument keeps writing into its file.
    fn restless(&self, desk: &Desk) -> Done {
        let path = desk.folder.join("Logs/echo-sounder.dat");
        fs::write(&path, vec![7; 6 << 20])?;
        let stop = Arc::new(AtomicBool::new(false));
        let writer = {
            let (stop, path) = (Arc::clone(&stop), path.clone());
            std::thread::spawn(move || -> std::io::Result<()> {
                let mut file = OpenOptions::new().append(true).open(path)?;
                while !stop.load(Ordering::Relaxed) {
                    file.write_all(b"depth 4.21 m\n")?;
                    std::thread::sleep(Duration::from_micros(100));
                }
                Ok(())
            })
        };
        let report =
            self.while_time_passes(|| back_up(&desk.home, PointKind::Files, ReadBack::Sample, &Arc::new(Meter::default())));
        stop.store(true, Ordering::Relaxed);
        writer.join().map_err(|_| "the writer panicked")??;
        report?;
        Ok(())
    }

    /// A first backup that is stopped in the middle, as the laptop leaves.
    fn broken_off(&self, desk: &Desk) -> Done {
        let meter = Arc::new(Meter::default());
        let watcher = {
            let meter = Arc::clone(&meter);
            std::thread::spawn(move || {
                while !meter.is_stopped() {
                    let p = meter.progress();
                    if p.bytes_total.is_some_and(|total| p.bytes_done > total / 3) {
                        meter.stop();
                    }
                    std::thread::yield_now();
                }
            })
        };
        let result = self.while_time_passes(|| back_up(&desk.home, PointKind::Files, ReadBack::Sample, &meter));
        meter.stop();
        watcher.join().map_err(|_| "the watcher panicked")?;
        match result {
            Err(ClientError::Stopped) => Ok(()),
            Err(error) => Err(error.into()),
            Ok(_) => Err("the first backup that was to be broken off came to its end".into()),
        }
    }

    /// Lets the office's clock run while `work` goes on: machines and network there are slower than a loopback.
    fn while_time_passes<T>(&self, work: impl FnOnce() -> T) -> T {
        let done = AtomicBool::new(false);
        std::thread::scope(|scope| {
            scope.spawn(|| {
                let (began, start) = (Instant::now(), self.now());
                while !done.load(Ordering::Relaxed) {
                    std::thread::sleep(Duration::from_millis(2));
                    let passed = i64::try_from(began.elapsed().as_millis()).unwrap_or(0) * PACE;
                    self.clock.set(start + SignedDuration::from_millis(passed));
                }
            });
            let result = work();
            done.store(true, Ordering::Relaxed);
            result
        })
    }

    /// A session for the administrator's commands.
    fn keep_administrators_session(&self, service: &Running) -> Done {
        let signed_in = sign_in(&Api::new(&address(service), Some(&service.fingerprint()))?, ADMINISTRATOR)?;
        let session = Session {
            address: address(service),
            fingerprint: service.fingerprint(),
            login: ADMINISTRATOR.into(),
            token: signed_in.token.unwrap_or_default(),
        };
        Ok(StateDir::new(self.directory.join("administrator")).keep_session(&session)?)
    }
}
