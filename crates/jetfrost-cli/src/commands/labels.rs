//! State names as a person reads them.

use jetfrost_wire::access::Grants;
use jetfrost_wire::destination::DestinationState;
use jetfrost_wire::enrolment::CodeState;
use jetfrost_wire::retention::AtLimit;
use jetfrost_wire::run::Outcome;
use jetfrost_wire::workstation::{PointKind, UnlockMethodKind, WorkstationState};

pub(super) fn outcome(outcome: Outcome) -> String {
    outcome.word().replace('_', " ")
}

/// What a point of this kind counts.
pub(super) fn noun(kind: PointKind) -> &'static str {
    match kind {
        PointKind::Files => "file",
        PointKind::Disk => "disk",
    }
}

pub(super) fn workstation(state: WorkstationState) -> &'static str {
    match state {
        WorkstationState::FirstPointAwaited => "first point awaited",
        WorkstationState::Current => "current",
        WorkstationState::Overdue => "overdue",
        WorkstationState::Retired => "retired",
        WorkstationState::Unclaimed => "unclaimed",
    }
}

pub(super) fn destination(state: DestinationState) -> &'static str {
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
pub(super) fn grants(to: &Grants) -> String {
    if to.everybody {
        return "everybody".into();
    }
    let groups = to.groups.iter().map(|group| format!("group {group}"));
    let all: Vec<String> = groups.chain(to.logins.iter().cloned()).collect();
    if all.is_empty() { "nobody".into() } else { all.join(", ") }
}

pub(super) fn code(state: CodeState) -> &'static str {
    match state {
        CodeState::Unused => "unused",
        CodeState::Used => "used",
        CodeState::Expired => "expired",
        CodeState::Cancelled => "cancelled",
    }
}

pub(super) fn at_limit(at_limit: AtLimit) -> &'static str {
    match at_limit {
        AtLimit::Stop => "backups stop",
        AtLimit::ExpireOldest => "the oldest points expire, once their protected time is over",
    }
}

pub(super) fn unlock_method(kind: UnlockMethodKind) -> &'static str {
    match kind {
        UnlockMethodKind::Passphrase => "passphrase",
        UnlockMethodKind::RecoveryKey => "recovery key",
        UnlockMethodKind::OfficeKey => "office key",
        UnlockMethodKind::Unencrypted => "unencrypted",
    }
}

/// With a capital first letter.
pub(super) fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}
