//! The agent: a process that backs this workstation up by its schedule, and says why when it does not.
//!
//! It looks at its surroundings, lets [`jetfrost_office::schedule`] decide, and does that. Everything it does can be done by hand
//! without it as well. What the office wants of it, it asks for when something changed there, and keeps.

mod change_tracker;
mod control;
mod in_the_way;
mod listening;
mod ordered;
mod record;
mod runs;
mod surroundings;

use std::fs::{File, TryLockError};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::Duration;

use jetfrost_image::medium::FileLock;
use jetfrost_office::schedule::{Conditions, Decision, LOOK_AGAIN_MS, clocks_agree, decide};
use jetfrost_types::{DelayReason, PowerSource, Schedule};
use jetfrost_wire::run::{Progress, QueuePlace};
use jetfrost_wire::schedule::AppliedSchedule;
use jetfrost_wire::workstation::AgentReport;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

pub use control::{Ask, ask};
pub use jetfrost_wire::workstation::Delay;
pub use listening::News;
pub use record::{Failed, Suspect};
pub use surroundings::{Known, Listener, Surroundings, ThisMachine};

use crate::backup::Looked;
use crate::error::ClientError;
use crate::progress::Meter;
use crate::state_dir::StateDir;
use control::{Answer, Control};
use in_the_way::in_the_way;
use ordered::Orders;
use record::Record;

type Result<T> = std::result::Result<T, ClientError>;

/// A pause lasts so long at most: whoever forgets it is backed up again.
pub const MOST_PAUSE: SignedDuration = SignedDuration::from_hours(7 * 24);

/// The service hears of an agent to which nothing happens this often.
const REPORT_AGAIN: SignedDuration = SignedDuration::from_mins(30);

/// A report that the service did not take is made again after this.
const SOON: SignedDuration = SignedDuration::from_secs(3);

/// A service that has not answered for so long is looked for, and again after that.
const SEEK_AFTER: SignedDuration = SignedDuration::from_mins(5);
const SEEK_AGAIN: SignedDuration = SignedDuration::from_hours(1);

/// What the agent is doing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "doing", rename_all = "snake_case")]
pub enum Doing {
    /// Waiting until the next run is due.
    Waiting {
        /// When that is.
        due: Timestamp,
    },
    /// A run is due, and something is in the way.
    Delayed(Delay),
    /// A run is in progress.
    BackingUp {
        /// Since when.
        since: Timestamp,
        /// How far it is.
        progress: Progress,
    },
    /// A restore is being rehearsed.
    Drilling {
        /// Since when.
        since: Timestamp,
        /// How far it is.
        progress: Progress,
    },
}

/// How an agent is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AgentStatus {
    /// Version of its program.
    pub version: String,
    /// Since when it runs.
    pub started: Timestamp,
    /// What it is doing.
    pub now: Doing,
    /// When the last complete run ended.
    pub completed: Option<Timestamp>,
    /// The last run that failed, if none was complete since.
    pub failed: Option<Failed>,
    /// Until when a person paused it.
    pub paused_until: Option<Timestamp>,
    /// Until when an administrator paused this workstation.
    pub paused_by_office_until: Option<Timestamp>,
    /// The schedule that holds, and who set it.
    pub schedule: AppliedSchedule,
    /// Why the command after the last complete run failed, if it did.
    pub after_failed: Option<String>,
    /// A suspect point, until somebody marks it good or resolved.
    #[serde(default)]
    pub suspect: Option<Suspect>,
    /// Where a backup that is due waits in the service's queue.
    pub queue: Option<QueuePlace>,
    /// Why this machine cannot keep what the agent notes, if so.
    pub not_kept: Option<String>,
    /// Where the last run of this agent looked.
    pub looked: Option<Looked>,
    /// How far an order is that is being carried out.
    #[serde(default)]
    pub order: Option<Progress>,
    /// Why the orders could not be seen to the last time.
    #[serde(default)]
    pub orders_trouble: Option<String>,
}

/// An agent.
pub struct Agent<S> {
    state_dir: StateDir,
    world: S,
    spread: u64,
    started: Timestamp,
    state: Arc<State>,
    _lock: FileLock,
}

/// What the threads of an agent share, and by what they learn of changes.
struct State {
    shared: Mutex<Shared>,
    changed: Condvar,
}

impl State {
    fn lock(&self) -> MutexGuard<'_, Shared> {
        self.shared.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Something may have changed at the service. Says whether anybody still wants to know.
    fn hear(&self, news: News) -> bool {
        let mut shared = self.lock();
        shared.has_heard |= news != News::Orders;
        shared.orders.is_due |= news != News::Workstation;
        self.changed.notify_all();
        !shared.ended
    }
}

struct Shared {
    record: Record,
    doing: Doing,
    has_looked: bool,
    /// This machine's clock at the last step.
    stepped: Timestamp,
    /// By how much the service's clock was ahead of this machine's when it last answered.
    office_ahead: SignedDuration,
    /// Since when the service answers.
    reachable_since: Option<Timestamp>,
    /// When a drill last restored everything, as far as the service said.
    drilled: Option<Timestamp>,
    /// What the service or this machine said to the last attempt, and when it is worth trying again.
    held_back: Option<(DelayReason, Timestamp)>,
    /// What the service was told last, and when.
    reported: Option<(AgentReport, Timestamp)>,
    /// When the service was last looked for.
    sought: Option<Timestamp>,
    /// When the service last took a report, by its own clock.
    taken: Option<Timestamp>,
    /// Whether something may have changed at the service since it was asked.
    has_heard: bool,
    /// When an administrator asked for a backup, if that has not begun.
    asked: Option<Timestamp>,
    /// Why the record could not be kept the last time.
    not_kept: Option<String>,
    /// Where the last run looked.
    looked: Option<Looked>,
    start_now: bool,
    /// Whether the run that waits in the queue is one that somebody asked for.
    waits_for_person: bool,
    /// Where it waits in the queue.
    queue: Option<QueuePlace>,
    ended: bool,
    meter: Option<Arc<Meter>>,
    /// Whether the work that the meter counts is over.
    is_over: bool,
    orders: Orders,
}

impl<S: Surroundings> Agent<S> {
    /// An agent of a workstation.
    ///
    /// # Errors
    /// [`ClientError::NotJoined`]; [`ClientError::AgentRuns`].
    pub fn new(state_dir: StateDir, world: S) -> Result<Self> {
        let membership = state_dir.membership()?;
        let lock = lock(&state_dir)?;
        let record: Record = state_dir.agent_record();
        let started = world.now();
        let shared = Shared {
            record,
            doing: Doing::Waiting { due: started },
            has_looked: false,
            stepped: started,
            office_ahead: SignedDuration::ZERO,
            reachable_since: None,
            drilled: None,
            held_back: None,
            reported: None,
            sought: None,
            taken: None,
            has_heard: true,
            asked: None,
            not_kept: None,
            looked: None,
            start_now: false,
            waits_for_person: false,
            queue: None,
            ended: false,
            meter: None,
            is_over: true,
            orders: Orders::default(),
        };
        let hash = blake3::hash(membership.workstation.as_bytes());
        let spread = u64::from_le_bytes(*hash.as_bytes().first_chunk().expect("a hash has 32 bytes"));
        let state = Arc::new(State { shared: Mutex::new(shared), changed: Condvar::new() });
        Ok(Self { state_dir, world, spread, started, state, _lock: lock })
    }

    /// Works until [`Self::end`]. `changed` is shown what the agent is doing whenever that is something else.
    ///
    /// # Errors
    /// When nobody could ask it anything.
    pub fn run(&self, changed: impl Fn(&AgentStatus) + Send) -> Result<()> {
        let control = Control::open(&self.state_dir)?;
        let (listen, state) = (self.world.listener(self.spread), Arc::clone(&self.state));
        // It waits for the network most of the time, and ends with the process.
        thread::spawn(move || listen(&|news| state.hear(news)));
        thread::scope(|scope| {
            scope.spawn(|| control.serve(|| self.lock().ended, |what| self.answer(what)));
            scope.spawn(|| self.show(changed));
            scope.spawn(|| self.see_to_orders());
            self.work();
            self.end();
        });
        Ok(())
    }

    fn work(&self) {
        while !self.lock().ended {
            let again = self.round();
            self.wait(again);
        }
    }

    /// Does what is to be done now, and tells the service how it is. Returns when to look again.
    pub fn round(&self) -> Timestamp {
        let look_again = self.step();
        self.tell_of_suspect();
        self.look_into();
        self.seek();
        if self.report() { look_again } else { look_again.min(self.world.now() + SOON) }
    }

    /// Tells the people at this machine of a suspect point, once; where nobody is there, as soon as somebody is.
    fn tell_of_suspect(&self) {
        let now = self.world.now();
        let Some(suspect) = self.lock().record.to_be_told(now) else { return };
        if self.world.tell_of_suspect(&suspect) {
            let mut shared = self.lock();
            shared.record.told = Some((suspect.sequence, now));
            self.keep(&mut shared);
        }
    }

    /// Finds out why backups are not made, if they are not, and tells the service: the administrator sees it without going to the machine.
    fn look_into(&self) {
        let now = self.world.now();
        let mut shared = self.lock();
        if shared.ended || !shared.record.wants_diagnosis(now) {
            return;
        }
        shared.record.diagnosed = Some(now);
        self.keep(&mut shared);
        // It asks this agent, too.
        drop(shared);
        self.world.diagnose();
    }

    /// Looks for a service that has not answered for a while: its server may have moved. Seldom, since every network hears of it. One that
    /// was followed is left again for the address that a person gave, as soon as it answers there.
    fn seek(&self) {
        let now = self.world.now();
        let mut shared = self.lock();
        let gone = shared.record.delay.filter(|delay| delay.reason == DelayReason::OfficeUnreachable);
        let is_recent = shared.sought.is_some_and(|at| at <= now && now.duration_since(at) < SEEK_AGAIN);
        if shared.ended || is_recent || gone.is_some_and(|delay| now.duration_since(delay.since) < SEEK_AFTER) {
            return;
        }
        shared.sought = Some(now);
        drop(shared);
        if gone.is_none() {
            self.world.go_back();
        } else if self.world.seek() {
            self.state.hear(News::Anything);
        }
    }

    /// Shows what the agent is doing whenever that is something else.
    fn show(&self, changed: impl Fn(&AgentStatus)) {
        let mut shown = None;
        let mut shared = self.lock();
        while !shared.ended {
            // Before the first look there is nothing to show.
            if shared.has_looked && shown.as_ref() != Some(&shared.doing) {
                shown = Some(shared.doing.clone());
                drop(shared);
                changed(&self.status());
                shared = self.lock();
            } else {
                shared = self.state.changed.wait(shared).unwrap_or_else(PoisonError::into_inner);
            }
        }
    }

    fn does(&self, shared: &mut Shared, doing: Doing) {
        if !shared.has_looked || shared.doing != doing {
            (shared.doing, shared.has_looked) = (doing, true);
            self.state.changed.notify_all();
        }
    }

    /// Tells the service what this agent is doing, when that is something else, and now and then that it is there at all. A service
    /// that does not answer is told later. False for a report that came too soon after another: it has to be made again.
    fn report(&self) -> bool {
        let now = self.world.now();
        let report = {
            let shared = self.lock();
            let (due, delay) = match &shared.doing {
                Doing::Waiting { due } => (Some(*due), None),
                Doing::Delayed(delay) => (None, Some(*delay)),
                Doing::BackingUp { .. } | Doing::Drilling { .. } => (None, None),
            };
            let failures = shared.record.failed.as_ref().map_or(0, |failed| u64::from(failed.times));
            let report = AgentReport { due, delay, failures, waited: shared.record.waited.clone() };
            let is_known =
                |(said, at): &(AgentReport, Timestamp)| *said == report && *at <= now && now.duration_since(*at) < REPORT_AGAIN;
            let is_gone = report.delay.is_some_and(|delay| delay.reason == DelayReason::OfficeUnreachable);
            if is_gone || shared.reported.as_ref().is_some_and(is_known) {
                return true;
            }
            report
        };
        let Ok(on_record) = self.world.report(&report) else { return true };
        let mut shared = self.lock();
        if shared.taken.replace(on_record.seen) == Some(on_record.seen) {
            // It was not taken: what is on record is the other.
            return false;
        }
        if !report.waited.is_empty() {
            shared.record.waited.clear();
            self.keep(&mut shared);
        }
        shared.reported = Some((AgentReport { waited: Vec::new(), ..report }, now));
        true
    }

    /// Ends: a run in progress stops at the next good moment, and what it sent stays.
    pub fn end(&self) {
        let mut shared = self.lock();
        shared.ended = true;
        if let Some(meter) = &shared.meter {
            meter.stop();
        }
        shared.orders.stop();
        self.state.changed.notify_all();
    }

    /// How it is.
    pub fn status(&self) -> AgentStatus {
        let shared = self.lock();
        let now = match (&shared.doing, &shared.meter) {
            (Doing::BackingUp { since, .. }, Some(meter)) => Doing::BackingUp { since: *since, progress: meter.progress() },
            (Doing::Drilling { since, .. }, Some(meter)) => Doing::Drilling { since: *since, progress: meter.progress() },
            (doing, _) => doing.clone(),
        };
        AgentStatus {
            version: crate::VERSION.into(),
            started: self.started,
            now,
            completed: shared.record.completed,
            failed: shared.record.failed.clone(),
            paused_until: shared.record.paused_until.filter(|until| *until > self.world.now()),
            paused_by_office_until: shared.record.paused_by_office_until.filter(|until| *until > self.world.now()),
            schedule: shared.record.schedule.clone(),
            queue: shared.queue.filter(|_| matches!(shared.doing, Doing::Delayed(Delay { reason: DelayReason::Queued, .. }))),
            after_failed: shared.record.after_failed.clone(),
            suspect: shared.record.suspect,
            not_kept: shared.not_kept.clone(),
            looked: shared.looked,
            order: shared.orders.progress(),
            orders_trouble: shared.orders.trouble.clone(),
        }
    }

    fn answer(&self, what: &Ask) -> Answer {
        match self.obey(what) {
            Ok(()) => Answer::Status(Box::new(self.status())),
            Err(error) => Answer::Refused(error.to_string()),
        }
    }

    /// Does what a command asks.
    ///
    /// # Errors
    /// [`ClientError::Agent`] says why not.
    pub fn obey(&self, what: &Ask) -> Result<()> {
        let now = self.world.now();
        let mut shared = self.lock();
        match *what {
            Ask::Status => return Ok(()),
            Ask::StartNow => shared.start_now = true,
            Ask::Pause { until } if until <= now => return Err(ClientError::Agent("A pause must end in the future.".into())),
            Ask::Pause { until } if until.duration_since(now) > MOST_PAUSE => {
                return Err(ClientError::Agent("A pause lasts seven days at most.".into()));
            }
            Ask::Pause { until } => shared.record.paused_until = Some(until),
            Ask::Resume => shared.record.paused_until = None,
            Ask::SeeToOrders => {
                shared.orders.cancel_if(|order| self.world.is_declined(order));
                shared.orders.is_due = true;
            }
        }
        self.keep(&mut shared);
        self.state.changed.notify_all();
        Ok(())
    }

    /// Looks, decides, and does what is to be done now. Returns when to look again.
    pub fn step(&self) -> Timestamp {
        self.notice_a_clock_set_back();
        if std::mem::take(&mut self.lock().start_now) {
            return self.back_up(true);
        }
        let has_heard = std::mem::take(&mut self.lock().has_heard);
        if has_heard {
            self.ask_office();
        }
        if self.obeys() || self.takes_up_what_was_asked(has_heard) {
            return self.back_up(true);
        }
        match self.decide() {
            Decision::Start => self.back_up(false),
            Decision::Due(due) => {
                let (due, now) = (moment(due), self.world.now());
                let mut shared = self.lock();
                self.does(&mut shared, Doing::Waiting { due });
                if shared.record.end_delay(now) {
                    self.keep(&mut shared);
                }
                due
            }
            Decision::Delayed(reason, look_again) => {
                self.delay(reason);
                moment(look_again)
            }
        }
    }

    /// What is only known until the agent ends is forgotten when the machine's clock was set back: all of it lies ahead now. What is on
    /// record is, once the service has said whose clock is right.
    fn notice_a_clock_set_back(&self) {
        let now = self.world.now();
        let mut shared = self.lock();
        if now < shared.stepped {
            (shared.held_back, shared.reachable_since, shared.reported) = (None, None, None);
            shared.has_heard = true;
        }
        shared.stepped = now;
    }

    /// Whether to start a backup because an administrator asked for one. Each is begun once: should it fail, it is tried again like any
    /// other. Whoever sits at the machine and paused it is not overruled.
    fn obeys(&self) -> bool {
        let now = self.world.now();
        let mut shared = self.lock();
        let is_paused = shared.record.paused_until.is_some_and(|until| until > now);
        let Some(asked) = shared.asked.filter(|asked| !is_paused && shared.record.obeyed != Some(*asked)) else { return false };
        shared.record.obeyed = Some(asked);
        self.keep(&mut shared);
        true
    }

    /// Whether to ask again for a run that somebody asked for and that waits in the queue. It may be its turn when something was heard.
    fn takes_up_what_was_asked(&self, has_heard: bool) -> bool {
        let now = self.world.now();
        let mut shared = self.lock();
        if has_heard {
            shared.held_back.take_if(|(reason, _)| *reason == DelayReason::Queued);
        }
        shared.waits_for_person && shared.held_back.is_none_or(|(_, until)| until <= now)
    }

    /// Asks the service what it knows of this workstation, and what it wants of it. Says since when it answers.
    fn ask_office(&self) -> Option<Timestamp> {
        let answered = self.world.known();
        let now = self.world.now();
        let mut shared = self.lock();
        match answered {
            Ok(known) => {
                let Known { now: office, completed, drilled, schedule, paused_until, asked, suspect } = known;
                shared.office_ahead = office.duration_since(now);
                let by_this_clock = |at: Timestamp| at.checked_sub(office.duration_since(now)).unwrap_or(now).min(now);
                (shared.drilled, shared.asked) = (drilled.map(by_this_clock), asked);
                let before = shared.record.clone();
                if clocks_agree(ms_of(shared.office_ahead)) {
                    shared.record.set_back_to(now);
                }
                // Somebody may have backed up by hand meanwhile.
                shared.record.completed = shared.record.completed.max(completed.map(by_this_clock));
                (shared.record.schedule, shared.record.paused_by_office_until) = (schedule, paused_until);
                shared.record.suspect = suspect;
                if shared.record != before {
                    self.keep(&mut shared);
                }
            }
            // What else the service says, the run is told as well.
            Err(error) if in_the_way(&error) != Some(DelayReason::OfficeUnreachable) => {}
            Err(_) => {
                // By the time it answers again, either clock may have been set.
                (shared.reachable_since, shared.office_ahead) = (None, SignedDuration::ZERO);
                return None;
            }
        }
        Some(*shared.reachable_since.get_or_insert(now))
    }

    /// What to do now. The service is only asked when nothing else is in the way.
    fn decide(&self) -> Decision {
        let now = self.world.now();
        let held_back = self.lock().held_back.filter(|(_, until)| *until > now);
        if let Some((reason, until)) = held_back {
            return Decision::Delayed(reason, until.as_millisecond());
        }
        // If the clock was wrong, or is, the service knows.
        let is_in_doubt = |shared: &Shared| shared.record.is_ahead_of(now) || !clocks_agree(ms_of(shared.office_ahead));
        if is_in_doubt(&self.lock()) {
            self.ask_office();
        }
        // What takes longer to find out is found out when nothing else is in the way; last of all, whether the service answers.
        let mut seen = Seen { reachable_since: Some(i64::MIN), is_metered: false, load_percent: 0 };
        let mut decision = self.decide_with(now, &seen);
        if decision == Decision::Start {
            // A machine that does not say is not kept from being backed up.
            (seen.is_metered, seen.load_percent) = (self.world.is_metered(), self.world.load_percent().unwrap_or(0));
            decision = self.decide_with(now, &seen);
        }
        if decision == Decision::Start {
            seen.reachable_since = self.ask_office().map(Timestamp::as_millisecond);
            decision = self.decide_with(now, &seen);
        }
        decision
    }

    fn decide_with(&self, now: Timestamp, seen: &Seen) -> Decision {
        let shared = self.lock();
        let Seen { reachable_since, is_metered, load_percent } = *seen;
        let power = if self.world.on_battery().unwrap_or(false) { PowerSource::Battery } else { PowerSource::Mains };
        let conditions = Conditions {
            now: now.as_millisecond(),
            minute: self.world.minute(),
            power,
            reachable_since,
            is_metered,
            load_percent,
            paused_until: shared.record.paused_until.map(Timestamp::as_millisecond),
            paused_by_office_until: shared.record.paused_by_office_until.map(Timestamp::as_millisecond),
            office_ahead: ms_of(shared.office_ahead),
            spread: self.spread,
        };
        decide(&shared.record.schedule.values, &shared.record.earlier(), &conditions)
    }

    /// Waits until a moment of the machine's clock, or until somebody asks something. A machine that slept is noticed soon.
    fn wait(&self, until: Timestamp) {
        let shared = self.lock();
        if shared.ended || shared.start_now || shared.has_heard {
            return;
        }
        let left = until.duration_since(self.world.now());
        let most = Duration::from_millis(LOOK_AGAIN_MS.unsigned_abs());
        let left = Duration::try_from(left).unwrap_or_default().min(most);
        drop(self.state.changed.wait_timeout(shared, left));
    }

    /// Keeps the record. A machine that cannot, for example because its disk is full, is backed up all the same: that is when it
    /// matters. What came of it is known until the agent ends.
    fn keep(&self, shared: &mut Shared) {
        shared.not_kept = self.state_dir.keep_agent_record(&shared.record).err().map(|error| error.to_string());
    }

    fn schedule(&self) -> Schedule {
        self.lock().record.schedule.values
    }

    fn lock(&self) -> MutexGuard<'_, Shared> {
        self.state.lock()
    }
}

/// What an agent finds out of its surroundings only when a run is due.
struct Seen {
    reachable_since: Option<i64>,
    is_metered: bool,
    load_percent: u32,
}

fn moment(ms: i64) -> Timestamp {
    Timestamp::from_millisecond(ms).unwrap_or(if ms < 0 { Timestamp::MIN } else { Timestamp::MAX })
}

fn ms_of(duration: SignedDuration) -> i64 {
    i64::try_from(duration.as_millis()).unwrap_or(if duration.is_negative() { i64::MIN } else { i64::MAX })
}

fn soon(now: Timestamp) -> Timestamp {
    now + SignedDuration::from_millis(LOOK_AGAIN_MS)
}

/// One agent a state directory.
fn lock(state_dir: &StateDir) -> Result<FileLock> {
    let path = state_dir.directory().join("agent.lock");
    let file = File::create(&path).map_err(ClientError::file("opening", &path))?;
    FileLock::try_new(file).map_err(|error| match error {
        TryLockError::WouldBlock => ClientError::AgentRuns,
        TryLockError::Error(e) => ClientError::file("locking", &path)(e),
    })
}

#[cfg(test)]
mod tests;
