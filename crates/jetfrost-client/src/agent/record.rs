//! What an agent keeps over its end: what came of its runs, and what is in the way since when.

use jetfrost_office::schedule::Earlier;
use jetfrost_types::{DelayReason, Suspicion};
use jetfrost_wire::point::Point;
use jetfrost_wire::schedule::AppliedSchedule;
use jetfrost_wire::workstation::{Delay, Wait};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::MOST_PAUSE;

/// A run that failed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failed {
    /// When.
    pub at: Timestamp,
    /// Why, in a sentence.
    pub why: String,
    /// How many failed since the last complete one.
    pub times: u32,
}

/// A suspect point.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Suspect {
    /// Its number.
    pub sequence: u64,
    /// What it looks like; none where only a person marked it.
    pub suspicion: Option<Suspicion>,
    /// When it was committed, by the service's clock.
    pub committed: Timestamp,
}

impl Suspect {
    pub(super) fn of(point: &Point) -> Self {
        Self { sequence: point.sequence, suspicion: point.suspicion, committed: point.committed }
    }
}

/// A file of the state directory. One that cannot be read is none: then a run is due, which harms nothing.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Record {
    /// When the last complete run ended.
    pub(super) completed: Option<Timestamp>,
    pub(super) failed: Option<Failed>,
    pub(super) delay: Option<Delay>,
    /// When a restore was last rehearsed, whatever came of it: that is on record at the service.
    #[serde(default)]
    pub(super) drill_tried: Option<Timestamp>,
    /// Until when a person paused the agent.
    pub(super) paused_until: Option<Timestamp>,
    /// The schedule that the office set, as last heard; it also holds while the service is out of reach.
    #[serde(default)]
    pub(super) schedule: AppliedSchedule,
    /// Until when an administrator paused this workstation.
    #[serde(default)]
    pub(super) paused_by_office_until: Option<Timestamp>,
    /// When an administrator asked for the backup that was begun last because of it.
    #[serde(default)]
    pub(super) obeyed: Option<Timestamp>,
    /// Why the command after the last complete run failed, if it did.
    #[serde(default)]
    pub(super) after_failed: Option<String>,
    /// A suspect point, as last heard.
    #[serde(default)]
    pub(super) suspect: Option<Suspect>,
    /// The suspect point that the people at this machine were told of, and when.
    #[serde(default)]
    pub(super) told: Option<(u64, Timestamp)>,
    /// When it was last found out why backups are not made.
    #[serde(default)]
    pub(super) diagnosed: Option<Timestamp>,
    /// What kept backups waiting and is over, until the service has it on record.
    #[serde(default)]
    pub(super) waited: Vec<Wait>,
}

/// A wait is put on record once it is so long; of more than so many the earliest are forgotten.
const WORTH_A_RECORD: SignedDuration = SignedDuration::from_mins(15);
const MOST_WAITED: usize = 100;

/// The people at this machine are told no sooner again: a service that lies could show them one notice after the other.
const TELL_AGAIN: SignedDuration = SignedDuration::from_hours(1);

/// Why backups are not made is found out again after this, as long as it is so.
const DIAGNOSE_AGAIN: SignedDuration = SignedDuration::from_hours(24);

fn longest_pause(now: Timestamp) -> Timestamp {
    now.checked_add(MOST_PAUSE).unwrap_or(Timestamp::MAX)
}

impl Record {
    /// Whether it is to be found out why backups are not made: the second run in a row failed, or something is in the way that somebody
    /// has to end, and it was not found out of late.
    pub(super) fn wants_diagnosis(&self, now: Timestamp) -> bool {
        let fails = self.failed.as_ref().is_some_and(|failed| failed.times >= 2);
        let is_stuck = self.delay.is_some_and(|delay| {
            matches!(
                delay.reason,
                DelayReason::ClockImplausible
                    | DelayReason::LimitReached
                    | DelayReason::DestinationUnavailable
                    | DelayReason::PassphraseNeeded
                    | DelayReason::SourceMissing
            )
        });
        // A time ahead is of a clock that was set since.
        let is_recent = |at: Timestamp| at <= now && now.duration_since(at) < DIAGNOSE_AGAIN;
        (fails || is_stuck) && !self.diagnosed.is_some_and(is_recent)
    }

    /// The suspect point that the people at this machine are to be told of now, if any.
    pub(super) fn to_be_told(&self, now: Timestamp) -> Option<Suspect> {
        let is_known = |suspect: &Suspect| {
            self.told.is_some_and(|(of, at)| of == suspect.sequence || (at <= now && now.duration_since(at) < TELL_AGAIN))
        };
        self.suspect.filter(|suspect| !is_known(suspect))
    }

    /// Whether some of it lies ahead of this clock: it was noted by one that was wrong, or this one is.
    pub(super) fn is_ahead_of(&self, now: Timestamp) -> bool {
        let noted = [self.completed, self.failed.as_ref().map(|failed| failed.at), self.delay.map(|delay| delay.since)];
        noted.into_iter().flatten().any(|at| at > now) || self.paused_until.is_some_and(|until| until > longest_pause(now))
    }

    /// Has nothing lie ahead of a clock that is known to be right: what was noted by one that was not would keep runs waiting until then.
    pub(super) fn set_back_to(&mut self, now: Timestamp) {
        let earlier = |at: Timestamp| at.min(now);
        self.completed = self.completed.map(earlier);
        self.drill_tried = self.drill_tried.map(earlier);
        self.paused_until = self.paused_until.map(|until| until.min(longest_pause(now)));
        self.failed = self.failed.take().map(|failed| Failed { at: earlier(failed.at), ..failed });
        self.delay = self.delay.map(|delay| Delay { since: earlier(delay.since), ..delay });
        self.waited.retain(|wait| wait.until <= now);
    }

    pub(super) fn earlier(&self) -> Earlier {
        Earlier {
            completed: self.completed.map(Timestamp::as_millisecond),
            failed: self.failed.as_ref().map(|failed| (failed.at.as_millisecond(), failed.times)),
        }
    }

    pub(super) fn complete(&mut self, at: Timestamp) {
        self.end_delay(at);
        (self.completed, self.failed) = (Some(at), None);
    }

    pub(super) fn fail(&mut self, at: Timestamp, why: String) {
        let times = self.failed.as_ref().map_or(0, |failed| failed.times).saturating_add(1);
        self.end_delay(at);
        self.failed = Some(Failed { at, why, times });
    }

    /// Something is in the way; it keeps the time from when it was first.
    pub(super) fn delay(&mut self, reason: DelayReason, at: Timestamp) {
        if self.delay.is_none_or(|delay| delay.reason != reason) {
            self.end_delay(at);
            self.delay = Some(Delay { reason, since: at });
        }
    }

    /// Nothing is in the way any more; says whether something was.
    pub(super) fn end_delay(&mut self, at: Timestamp) -> bool {
        let Some(Delay { reason, since }) = self.delay.take() else { return false };
        if at.duration_since(since) >= WORTH_A_RECORD {
            self.waited.push(Wait { reason, since, until: at });
            self.waited.drain(..self.waited.len().saturating_sub(MOST_WAITED));
        }
        true
    }
}
