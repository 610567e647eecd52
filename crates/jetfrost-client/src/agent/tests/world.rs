//! A world for an agent, which a test lets pass, and what became of it.

use std::io;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};

use jetfrost_image::OrderId;
use jetfrost_wire::Problem;
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::workstation::AgentState;

use super::*;
use crate::backup::BackupReport;

pub(super) const START: &str = "2026-11-30T08:00:00Z";

/// The world, and what became of it.
pub(super) struct World {
    pub(super) now: AtomicI64,
    pub(super) battery: AtomicBool,
    pub(super) reachable: AtomicBool,
    /// How runs end from now on.
    pub(super) ends: Mutex<fn() -> Result<()>>,
    /// A run goes on until it is stopped.
    pub(super) endless: AtomicBool,
    pub(super) runs: AtomicI64,
    pub(super) reports: Mutex<Vec<AgentReport>>,
    pub(super) drills: AtomicI64,
    /// Drills give way to backups.
    pub(super) drills_wait: AtomicBool,
    /// When a drill last succeeded, in milliseconds; 0 for never.
    pub(super) drilled: AtomicI64,
    /// What the office wants.
    pub(super) wanted: Mutex<Known>,
    /// How often it was asked.
    pub(super) asked_times: AtomicI64,
    pub(super) diagnoses: AtomicI64,
    /// How often the service was looked for, and whether it is found.
    pub(super) sought: AtomicI64,
    /// How often the address that a person gave was tried again.
    pub(super) went_back: AtomicI64,
    pub(super) has_moved: AtomicBool,
    pub(super) metered: AtomicBool,
    /// Work for the processors, in percent.
    pub(super) load: AtomicI64,
    /// By how many milliseconds the machine's clock is ahead of the service's.
    pub(super) ahead: AtomicI64,
    /// Whether anybody is at the machine, and of which suspect points they were told.
    pub(super) somebody_is_there: AtomicBool,
    pub(super) told: Mutex<Vec<u64>>,
}

impl Surroundings for &World {
    fn now(&self) -> Timestamp {
        moment(self.now.load(Ordering::SeqCst))
    }

    fn minute(&self) -> u16 {
        600
    }

    fn on_battery(&self) -> io::Result<bool> {
        Ok(self.battery.load(Ordering::SeqCst))
    }

    fn is_metered(&self) -> bool {
        self.metered.load(Ordering::SeqCst)
    }

    fn load_percent(&self) -> Option<u32> {
        u32::try_from(self.load.load(Ordering::SeqCst)).ok()
    }

    fn known(&self) -> Result<Known> {
        let drilled = Some(self.drilled.load(Ordering::SeqCst)).filter(|at| *at > 0).map(moment);
        self.asked_times.fetch_add(1, Ordering::SeqCst);
        let wanted = self.wanted.lock().expect("a lock").clone();
        let now = moment(self.now.load(Ordering::SeqCst) - self.ahead.load(Ordering::SeqCst));
        if self.reachable.load(Ordering::SeqCst) { Ok(Known { now, drilled, ..wanted }) } else { Err(unreachable()) }
    }

    fn listener(&self, _: u64) -> Listener {
        Box::new(|_| {})
    }

    fn yield_to_others(&self) {}

    fn seek(&self) -> bool {
        self.sought.fetch_add(1, Ordering::SeqCst);
        if self.has_moved.load(Ordering::SeqCst) {
            self.reachable.store(true, Ordering::SeqCst);
        }
        self.has_moved.load(Ordering::SeqCst)
    }

    fn go_back(&self) {
        self.went_back.fetch_add(1, Ordering::SeqCst);
    }

    fn diagnose(&self) {
        self.diagnoses.fetch_add(1, Ordering::SeqCst);
    }

    fn tell_of_suspect(&self, suspect: &Suspect) -> bool {
        let is_there = self.somebody_is_there.load(Ordering::SeqCst);
        if is_there {
            self.told.lock().expect("a lock").push(suspect.sequence);
        }
        is_there
    }

    fn see_to_orders(&self, _: &dyn Fn(OrderId, &Arc<Meter>)) -> Result<()> {
        Ok(())
    }

    fn is_declined(&self, _: &OrderId) -> bool {
        false
    }

    fn drill(&self, _: &Arc<Meter>) -> Result<()> {
        self.drills.fetch_add(1, Ordering::SeqCst);
        if self.drills_wait.load(Ordering::SeqCst) { refused(ProblemKind::Queued) } else { Ok(()) }
    }

    fn report(&self, report: &AgentReport) -> Result<AgentState> {
        if !self.reachable.load(Ordering::SeqCst) {
            return Err(unreachable());
        }
        self.reports.lock().expect("a lock").push(report.clone());
        Ok(AgentState { seen: self.now(), due: report.due, delay: report.delay })
    }

    fn back_up(&self, meter: &Arc<Meter>) -> Result<Vec<BackupReport>> {
        self.runs.fetch_add(1, Ordering::SeqCst);
        while self.endless.load(Ordering::SeqCst) {
            if meter.is_stopped() {
                return Err(ClientError::Stopped);
            }
            thread::yield_now();
        }
        (self.ends.lock().expect("a lock"))().map(|()| Vec::new())
    }
}

impl World {
    pub(super) fn new() -> Self {
        let start: Timestamp = START.parse().expect("a time");
        Self {
            now: AtomicI64::new(start.as_millisecond()),
            battery: AtomicBool::new(false),
            reachable: AtomicBool::new(true),
            ends: Mutex::new(|| Ok(())),
            endless: AtomicBool::new(false),
            runs: AtomicI64::new(0),
            reports: Mutex::default(),
            drills: AtomicI64::new(0),
            drills_wait: AtomicBool::new(false),
            drilled: AtomicI64::new(0),
            wanted: Mutex::default(),
            asked_times: AtomicI64::new(0),
            diagnoses: AtomicI64::new(0),
            sought: AtomicI64::new(0),
            went_back: AtomicI64::new(0),
            has_moved: AtomicBool::new(false),
            metered: AtomicBool::new(false),
            load: AtomicI64::new(0),
            ahead: AtomicI64::new(0),
            somebody_is_there: AtomicBool::new(false),
            told: Mutex::default(),
        }
    }

    pub(super) fn pass(&self, minutes: i64) {
        self.now.fetch_add(minutes * 60_000, Ordering::SeqCst);
    }

    /// Sets the machine's clock, which then shows so many days more.
    pub(super) fn set_ahead(&self, days: i64) {
        self.pass(days * 24 * 60);
        self.ahead.fetch_add(days * 24 * 60 * 60_000, Ordering::SeqCst);
    }

    pub(super) fn runs(&self) -> i64 {
        self.runs.load(Ordering::SeqCst)
    }

    /// The office wants something else, and the agent hears that something changed.
    pub(super) fn wants(&self, agent: &Agent<&Self>, want: impl FnOnce(&mut Known)) {
        want(&mut self.wanted.lock().expect("a lock"));
        assert!(agent.state.hear(News::Anything));
    }

    pub(super) fn ends_with(&self, ends: fn() -> Result<()>) {
        *self.ends.lock().expect("a lock") = ends;
    }
}

fn unreachable() -> ClientError {
    ClientError::Unreachable { address: "office:7410".into(), why: "no route".into() }
}

pub(super) fn refused(kind: ProblemKind) -> Result<()> {
    Err(ClientError::Refused(Box::new(Problem::new(kind, "Refused.", "Wait."))))
}
