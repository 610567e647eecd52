//! Runs and drills of an agent: each in a thread of its own, with an eye on the machine's power and connection; and what comes of them.

use std::sync::{Arc, PoisonError};
use std::thread;
use std::time::Duration;

use jetfrost_office::schedule::is_drill_due;
use jetfrost_types::{DelayReason, Schedule};
use jetfrost_wire::run::Progress;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;

use super::in_the_way::{again_after, in_the_way};
use super::record::Suspect;
use super::{Agent, Delay, Doing, Result, State, Surroundings, soon};
use crate::backup::BackupReport;
use crate::error::ClientError;
use crate::progress::Meter;

/// While a run goes on, the machine's power is looked at this often.
const WATCH: Duration = Duration::from_secs(5);
/// Its connection is looked at with every so many of those looks: that takes another program.
const CONNECTION_LOOKS: u32 = 6;

impl<S: Surroundings> Agent<S> {
    /// A run, and what comes of it; then a drill, if one is due.
    pub(super) fn back_up(&self, a_person_asked: bool) -> Timestamp {
        let since = self.world.now();
        let doing = Doing::BackingUp { since, progress: Progress::default() };
        let (result, stopped_by) = self.watched(doing, a_person_asked, |meter| self.world.back_up(meter));
        let is_complete = result.is_ok();
        let queue = match &result {
            Err(ClientError::Refused(problem)) => problem.queue,
            _ => None,
        };
        {
            let mut shared = self.lock();
            (shared.queue, shared.waits_for_person) = (queue, queue.is_some() && a_person_asked);
        }
        let look_again = self.note(result, stopped_by);
        if is_complete {
            self.drill_if_due();
        }
        look_again
    }

    /// Rehearses a restore now and then: after a complete run, when there is something to restore and the service is there.
    pub(super) fn drill_if_due(&self) {
        let since = self.world.now();
        let before = {
            let mut shared = self.lock();
            let ms = |at: Option<Timestamp>| at.map(Timestamp::as_millisecond);
            let (every, tried) = (shared.record.schedule.values.drill_days, ms(shared.record.drill_tried));
            if shared.ended || !is_drill_due(every, ms(shared.drilled), tried, since.as_millisecond()) {
                return;
            }
            let before = shared.record.drill_tried.replace(since);
            self.keep(&mut shared);
            before
        };
        let doing = Doing::Drilling { since, progress: Progress::default() };
        let (result, _) = self.watched(doing, false, |meter| self.world.drill(meter));
        // What came of it is on record at the service, and an alert there if it failed. One that gave way to backups was not tried.
        if result.is_err_and(|error| in_the_way(&error) == Some(DelayReason::Queued)) {
            let mut shared = self.lock();
            shared.record.drill_tried = before;
            self.keep(&mut shared);
        }
    }

    /// Does something that takes a while, in a thread of its own, and looks at the machine's power and connection meanwhile. Says with
    /// its result for which of them it was stopped, if so.
    fn watched<T: Send>(
        &self,
        doing: Doing,
        a_person_asked: bool,
        work: impl FnOnce(&Arc<Meter>) -> Result<T> + Send,
    ) -> (Result<T>, Option<DelayReason>) {
        let meter = Arc::new(Meter::default());
        let mut once_begun = Some(doing);
        {
            let mut shared = self.lock();
            // A run that asks again from the queue still waits, until it is admitted.
            if !matches!(shared.doing, Doing::Delayed(Delay { reason: DelayReason::Queued, .. })) {
                once_begun.take().into_iter().for_each(|doing| self.does(&mut shared, doing));
            }
            shared.meter = Some(Arc::clone(&meter));
            shared.is_over = false;
            // Whoever ended the agent just before found nothing to stop.
            if shared.ended {
                meter.stop();
            }
        }
        let done = thread::scope(|scope| {
            let running = scope.spawn(|| {
                let _over = Over(&self.state);
                if self.schedule().low_priority && !a_person_asked {
                    self.world.yield_to_others();
                }
                work(&meter)
            });
            let stopped_by = self.watch(&meter, a_person_asked, once_begun);
            (running.join().unwrap_or_else(|_| Err(ClientError::Unexpected("the work panicked".into()))), stopped_by)
        });
        self.lock().meter = None;
        done
    }

    /// Looks at the machine's power and connection while a run goes on, and stops it when it has to. Says for what it did. What it does
    /// is shown once it has begun, if not before.
    fn watch(&self, meter: &Meter, a_person_asked: bool, mut once_begun: Option<Doing>) -> Option<DelayReason> {
        let mut shared = self.lock();
        let mut looks = 0_u32;
        while !shared.is_over {
            let (again, _) = self.state.changed.wait_timeout(shared, WATCH).unwrap_or_else(PoisonError::into_inner);
            shared = again;
            if meter.has_begun() {
                once_begun.take().into_iter().for_each(|doing| self.does(&mut shared, doing));
            }
            if shared.is_over || a_person_asked {
                continue;
            }
            let Schedule { on_battery, on_metered, .. } = shared.record.schedule.values;
            looks += 1;
            let stopped_by = if !on_battery && self.world.on_battery().unwrap_or(false) {
                DelayReason::OnBattery
            } else if !on_metered && looks.is_multiple_of(CONNECTION_LOOKS) && self.world.is_metered() {
                DelayReason::MeteredConnection
            } else {
                continue;
            };
            meter.stop();
            return Some(stopped_by);
        }
        None
    }

    /// Notes what came of a run.
    fn note(&self, result: Result<Vec<BackupReport>>, stopped_by: Option<DelayReason>) -> Timestamp {
        let now = self.world.now();
        match result {
            Ok(reports) => {
                let mut shared = self.lock();
                shared.record.complete(now);
                shared.looked = reports.iter().find(|report| report.point.kind == PointKind::Files).map(|report| report.looked);
                let suspect = reports.iter().map(|report| &report.point).find(|point| point.is_suspect());
                shared.record.suspect = suspect.map(Suspect::of).or(shared.record.suspect);
                shared.record.after_failed = reports.into_iter().find_map(|report| report.after_failed);
                shared.held_back = None;
                self.keep(&mut shared);
                now
            }
            Err(ClientError::Stopped) => match stopped_by {
                Some(reason) => {
                    self.delay(reason);
                    soon(now)
                }
                // The agent itself ends.
                None => now,
            },
            Err(error) => {
                if let Some(reason) = in_the_way(&error) {
                    let until = now + again_after(reason, &error);
                    let mut shared = self.lock();
                    if reason == DelayReason::OfficeUnreachable {
                        shared.reachable_since = None;
                    }
                    shared.held_back = Some((reason, until));
                    drop(shared);
                    self.delay(reason);
                    return until;
                }
                let mut shared = self.lock();
                shared.record.fail(now, error.to_string());
                self.keep(&mut shared);
                now
            }
        }
    }

    pub(super) fn delay(&self, reason: DelayReason) {
        let now = self.world.now();
        let mut shared = self.lock();
        let before = shared.record.delay;
        shared.record.delay(reason, now);
        if let Some(delay) = shared.record.delay {
            self.does(&mut shared, Doing::Delayed(delay));
        }
        if shared.record.delay != before {
            self.keep(&mut shared);
        }
    }
}

/// Says that work is over, also when it panicked.
struct Over<'a>(&'a State);

impl Drop for Over<'_> {
    fn drop(&mut self) {
        self.0.lock().is_over = true;
        self.0.changed.notify_all();
    }
}
