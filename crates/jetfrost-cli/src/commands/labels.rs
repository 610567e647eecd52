//! State names as a person reads them.

use jetfrost_client::browse::{Cause, EntryKind};
use jetfrost_client::restore::Trouble;
use jetfrost_types::DelayReason;
use jetfrost_wire::access::Grants;
use jetfrost_wire::destination::DestinationState;
use jetfrost_wire::enrolment::CodeState;
use jetfrost_wire::point::{Point, PointMark, Suspicion};
use jetfrost_wire::retention::AtLimit;
use jetfrost_wire::run::{Outcome, QueuePlace};
use jetfrost_wire::workstation::{AgentState, PointKind, ProvedWith, UnlockMethodKind, Workstation, WorkstationState};
use jiff::{SignedDuration, Timestamp};

use crate::ui::{ago, moment, span};

pub(crate) fn outcome(outcome: Outcome) -> String {
    outcome.word().replace('_', " ")
}

/// What a point of this kind counts.
pub(crate) fn noun(kind: PointKind) -> &'static str {
    match kind {
        PointKind::Files => "file",
        PointKind::Disk => "disk",
    }
}

pub(crate) fn workstation(state: WorkstationState) -> &'static str {
    match state {
        WorkstationState::FirstPointAwaited => "first point awaited",
        WorkstationState::Current => "current",
        WorkstationState::Overdue => "overdue",
        WorkstationState::Retired => "retired",
        WorkstationState::Unclaimed => "unclaimed",
    }
}

/// What is in the way of a backup, between "a backup is due, but" and "since".
pub(crate) fn delay(reason: DelayReason) -> &'static str {
    match reason {
        DelayReason::Paused => "the agent has been paused",
        DelayReason::PausedByOffice => "an administrator has paused this workstation",
        DelayReason::Queued => "it has been waiting in the service's queue",
        DelayReason::ClockImplausible => "this machine's clock has been wrong",
        DelayReason::AnotherRun => "another run has been in progress",
        DelayReason::OutsideHours => "it has been outside the allowed hours",
        DelayReason::OnBattery => "the machine has been on battery",
        DelayReason::MeteredConnection => "the connection has been metered",
        DelayReason::MachineBusy => "the machine has been busy",
        DelayReason::OfficeUnreachable => "the service has not answered",
        DelayReason::BackupsPaused => "new backups have been paused at the service",
        DelayReason::LimitReached => "a limit has been reached",
        DelayReason::DestinationUnavailable => "the destination has not been available",
        DelayReason::PassphraseNeeded => "no secret on this machine has unlocked the image store",
        DelayReason::SourceMissing => "nothing has been included, or it has not been there",
    }
}

/// What a suspect point looks like, after its number.
pub(crate) fn suspicion(suspicion: Option<Suspicion>) -> &'static str {
    suspicion.map_or("was marked suspect", Suspicion::in_words)
}

/// What is known against a point; nothing where nothing is.
pub(crate) fn mark(point: &Point) -> &'static str {
    match (&point.mark, point.suspicion) {
        (Some(given), _) if given.mark == PointMark::Good => "",
        (Some(given), _) if given.mark == PointMark::Resolved => "bad; resolved",
        (_, Some(suspicion)) => self::suspicion(Some(suspicion)),
        (Some(_), None) => "marked suspect",
        (None, None) => "",
    }
}

/// A secret that was proved.
pub(crate) fn proved_with(secret: ProvedWith) -> &'static str {
    match secret {
        ProvedWith::Passphrase => "image passphrase",
        ProvedWith::RecoveryKey => "recovery key",
        ProvedWith::OfficeKey => "office key",
    }
}

/// Where a backup waits: `place 3, about 4 min to wait`.
pub(crate) fn queue(queue: QueuePlace) -> String {
    let minutes = queue.expected_seconds.div_ceil(60);
    format!("place {}, about {minutes} min to wait", queue.place)
}

/// In how long a workstation's next backup is due, or for how long it has been late and why: for a list.
pub(crate) fn next_run(workstation: &Workstation, now: Timestamp) -> String {
    match &workstation.agent {
        None => "no agent".into(),
        Some(AgentState { delay: Some(delay), .. }) if delay.reason == DelayReason::Queued && workstation.queued_at.is_some() => {
            format!("at place {} of the queue", workstation.queued_at.unwrap_or_default())
        }
        Some(AgentState { delay: Some(delay), .. }) => {
            format!("late: {} for {}", delay.reason.word().replace('_', " "), span(delay.since, now))
        }
        Some(AgentState { seen, .. }) if is_silent(*seen, now) => format!("not seen for {}", span(*seen, now)),
        Some(AgentState { due: Some(due), .. }) if *due > now => format!("in {}", span(now, *due)),
        Some(_) => "due or in progress".into(),
    }
}

/// An agent reports every 30 minutes: one that has not for so long is off, or away.
const SILENT: SignedDuration = SignedDuration::from_hours(2);

pub(crate) fn is_silent(seen: Timestamp, now: Timestamp) -> bool {
    now.duration_since(seen) > SILENT
}

/// The same in a sentence.
pub(crate) fn agent(agent: Option<&AgentState>, now: Timestamp) -> String {
    match agent {
        None => "none has reported. Next, at the workstation: jetfrost agent install".into(),
        Some(AgentState { seen, delay: Some(late), .. }) => {
            format!("a backup is due, but {} since {} (reported {})", delay(late.reason), moment(late.since), ago(*seen, now))
        }
        Some(AgentState { seen, .. }) if is_silent(*seen, now) => {
            format!("last seen {}: the machine is off or away, or the agent has ended", ago(*seen, now))
        }
        Some(AgentState { seen, due: Some(due), .. }) if *due > now => {
            format!("next backup due at {} (reported {})", moment(*due), ago(*seen, now))
        }
        Some(AgentState { seen, .. }) => format!("a backup is due or in progress (reported {})", ago(*seen, now)),
    }
}

pub(crate) fn destination(state: DestinationState) -> &'static str {
    match state {
        DestinationState::Ready => "ready",
        DestinationState::Full => "full",
        DestinationState::Missing => "missing",
        DestinationState::Foreign => "foreign",
        DestinationState::Withdrawn => "withdrawn",
        DestinationState::Erasing => "erasing",
    }
}

/// Who has access to a destination.
pub(crate) fn grants(to: &Grants) -> String {
    if to.everybody {
        return "everybody".into();
    }
    let groups = to.groups.iter().map(|group| format!("group {group}"));
    let all: Vec<String> = groups.chain(to.logins.iter().cloned()).collect();
    if all.is_empty() { "nobody".into() } else { all.join(", ") }
}

pub(crate) fn code(state: CodeState) -> &'static str {
    match state {
        CodeState::Unused => "unused",
        CodeState::Used => "used",
        CodeState::Expired => "expired",
        CodeState::Cancelled => "cancelled",
    }
}

pub(crate) fn at_limit(at_limit: AtLimit) -> &'static str {
    match at_limit {
        AtLimit::Stop => "backups stop",
        AtLimit::ExpireOldest => "the oldest points expire, once their protected time is over",
    }
}

pub(crate) fn unlock_method(kind: UnlockMethodKind) -> &'static str {
    match kind {
        UnlockMethodKind::Passphrase => "passphrase",
        UnlockMethodKind::RecoveryKey => "recovery key",
        UnlockMethodKind::OfficeKey => "office key",
        UnlockMethodKind::Unencrypted => "unencrypted",
    }
}

/// What made an exception of an entry, as in JSON.
pub(crate) fn cause(cause: Cause) -> &'static str {
    match cause {
        Cause::ChangedWhileRead => "changed_while_read",
        Cause::Unreadable => "unreadable",
        Cause::Disappeared => "disappeared",
    }
}

/// What an entry is, as in JSON.
pub(crate) fn entry_kind(kind: EntryKind) -> &'static str {
    match kind {
        EntryKind::File => "file",
        EntryKind::Directory => "directory",
        EntryKind::Symlink => "symlink",
        EntryKind::Fifo => "fifo",
        EntryKind::CharDevice => "char_device",
        EntryKind::BlockDevice => "block_device",
        EntryKind::Socket => "socket",
    }
}

/// Why something was not restored exactly, as in JSON.
pub(crate) fn trouble(trouble: Trouble) -> &'static str {
    match trouble {
        Trouble::Exists => "exists",
        Trouble::Damaged => "damaged",
        Trouble::System => "system",
        Trouble::Unsettled => "unsettled",
        Trouble::NoRoom => "no_room",
        Trouble::Unsupported => "unsupported",
        Trouble::Differs => "differs",
    }
}

/// With a capital first letter.
pub(crate) fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}
