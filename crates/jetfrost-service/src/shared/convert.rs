//! Rows of the records as the API's types.

use jetfrost_office::freshness::{Freshness, freshness, is_lost};
use jetfrost_types::Limit;
use jetfrost_wire::enrolment::{CodeLimit, CodeState, EnrolmentCode};
use jetfrost_wire::job::Job;
use jetfrost_wire::people::{Account, AccountState};
use jetfrost_wire::restore::Restore;
use jetfrost_wire::retention::{Hold, PendingRemoval};
use jetfrost_wire::run::{ExceptionCounts, Outcome, Phase, Progress, Run};
use jetfrost_wire::service::AuditEntry;
use jetfrost_wire::workstation::{Point, WorkstationState};
use jetfrost_wire::{AccountId, CodeId, JobId, RestoreId, RunId, WorkstationId};

use crate::clock::timestamp;
use crate::records::{
    AccountRow, AuditRow, CodeWithNames, Connection, JobRow, PointRow, RestoreRow, RunRow, WorkstationLine, WorkstationRow,
};
use crate::shared::Result;
use crate::shared::versions::version;

/// A number from the records, where none is negative.
pub(crate) fn from_db(number: i64) -> u64 {
    u64::try_from(number).unwrap_or(0)
}

pub(crate) fn some_from_db(number: Option<i64>) -> Option<u64> {
    number.map(from_db)
}

pub(crate) fn account(row: &AccountRow, on: &mut Connection) -> Result<Account> {
    let groups: Vec<String> = row.groups(on)?.into_iter().map(|group| group.name).collect();
    Ok(Account {
        version: version(&(&row.login, &row.display_name, row.kind.0, row.role.0, &groups, row.quota)),
        id: AccountId(row.id.clone()),
        login: row.login.clone(),
        display_name: row.display_name.clone(),
        kind: row.kind.0,
        role: row.role.0,
        state: if row.disabled.is_some() { AccountState::Disabled } else { AccountState::Active },
        disabled: row.disabled.map(timestamp),
        can_sign_in: row.password.is_some(),
        second_factor: row.totp_since.is_some(),
        groups,
        quota: some_from_db(row.quota),
        workstations: from_db(row.workstations(on)?),
        created: timestamp(row.created),
    })
}

pub(crate) fn point(row: &PointRow) -> Point {
    Point {
        sequence: from_db(row.sequence),
        kind: row.kind.0,
        committed: timestamp(row.committed),
        files: from_db(row.files),
        bytes: from_db(row.bytes),
        exceptions: from_db(row.exceptions),
        sent: from_db(row.sent),
        hold: hold(row.held.as_ref(), row.held_by.as_ref()),
        pending_removal: pending_removal(row.removal_ends, row.removal_by.as_ref()),
        lost: row.lost,
    }
}

pub(crate) fn hold(reason: Option<&String>, by: Option<&String>) -> Option<Hold> {
    Some(Hold { reason: reason?.clone(), by: by.cloned().unwrap_or_default() })
}

pub(crate) fn pending_removal(ends: Option<i64>, by: Option<&String>) -> Option<PendingRemoval> {
    Some(PendingRemoval { ends: timestamp(ends?), by: by.cloned().unwrap_or_default() })
}

pub(crate) fn job(row: &JobRow, line: &WorkstationLine) -> Job {
    Job {
        id: JobId(row.id.clone()),
        kind: row.kind.0,
        workstation: WorkstationId(line.workstation.id.clone()),
        name: line.workstation.name.clone(),
        state: row.state.0,
        done: from_db(row.done),
        total: from_db(row.total),
        by: row.by.clone(),
        created: timestamp(row.created),
        started: row.started.map(timestamp),
        ended: row.ended.map(timestamp),
        outcome: row.outcome.clone(),
    }
}

/// The outcome to show: one that has been silent for too long is lost, whatever the row says.
fn shown_outcome(outcome: Outcome, last_heard: i64, now: i64) -> Outcome {
    match outcome {
        Outcome::Underway if is_lost(last_heard, now) => Outcome::Lost,
        outcome => outcome,
    }
}

pub(crate) fn run(row: &RunRow, now: i64) -> Run {
    Run {
        id: RunId(row.id.clone()),
        workstation: WorkstationId(row.workstation_id.clone()),
        outcome: shown_outcome(row.outcome.0, row.last_heard, now),
        progress: Progress {
            phase: row.phase.0,
            files_done: from_db(row.files_done),
            files_total: some_from_db(row.files_total),
            bytes_done: from_db(row.bytes_done),
            bytes_total: some_from_db(row.bytes_total),
            sent: from_db(row.sent),
        },
        started: timestamp(row.started),
        ended: row.ended.map(timestamp),
        point: some_from_db(row.sequence),
        exceptions: ExceptionCounts {
            changed_while_read: from_db(row.changed_while_read),
            unreadable: from_db(row.unreadable),
            disappeared: from_db(row.disappeared),
        },
        reason: row.reason.clone(),
    }
}

pub(crate) fn restore(row: &RestoreRow, now: i64) -> Restore {
    Restore {
        id: RestoreId(row.id.clone()),
        workstation: WorkstationId(row.workstation_id.clone()),
        point: from_db(row.sequence),
        scope: row.scope.0,
        purpose: row.purpose.0,
        by: row.by.clone(),
        outcome: shown_outcome(row.outcome.0, row.last_heard, now),
        progress: Progress {
            phase: Phase::Sending,
            files_done: from_db(row.files_done),
            files_total: some_from_db(row.files_total),
            bytes_done: from_db(row.bytes_done),
            bytes_total: some_from_db(row.bytes_total),
            sent: from_db(row.sent),
        },
        exceptions: from_db(row.exceptions),
        started: timestamp(row.started),
        ended: row.ended.map(timestamp),
        reason: row.reason.clone(),
    }
}

pub(crate) fn workstation_state(row: &WorkstationRow, latest: Option<&PointRow>, now: i64) -> WorkstationState {
    match row.rest.as_deref() {
        Some(WorkstationRow::UNCLAIMED) => return WorkstationState::Unclaimed,
        Some(_) => return WorkstationState::Retired,
        None => {}
    }
    let rhythm_seconds = row.rhythm_seconds;
    match freshness(latest.map(|p| p.committed), from_db(rhythm_seconds), now) {
        Freshness::FirstPointAwaited => WorkstationState::FirstPointAwaited,
        Freshness::Current => WorkstationState::Current,
        Freshness::Overdue => WorkstationState::Overdue,
    }
}

pub(crate) fn enrolment_code(row: &CodeWithNames, now: i64) -> EnrolmentCode {
    let code = &row.code;
    let state = match (code.used, code.cancelled) {
        (Some(_), _) => CodeState::Used,
        (None, Some(_)) => CodeState::Cancelled,
        (None, None) if code.expires <= now => CodeState::Expired,
        (None, None) => CodeState::Unused,
    };
    EnrolmentCode {
        id: CodeId(code.id.clone()),
        login: row.login.clone(),
        destination: row.destination.clone(),
        state,
        created: timestamp(code.created),
        expires: timestamp(code.expires),
        workstation: row.workstation.clone(),
        claims: row.claims.clone(),
        machine: code.machine.clone(),
        limit: match code.limit() {
            None => CodeLimit::Usual,
            Some(Limit::None) => CodeLimit::None,
            Some(Limit::Bytes(bytes)) => CodeLimit::Bytes { bytes },
        },
        encrypted: code.encrypted,
    }
}

pub(crate) fn audit_entry(row: AuditRow) -> AuditEntry {
    AuditEntry {
        number: row.number,
        at: timestamp(row.at),
        who: row.who,
        from: row.origin,
        what: row.what,
        subject: row.subject,
        before: row.before,
        after: row.after,
        refused: row.refused,
        link: row.link.map(|link| data_encoding::HEXLOWER.encode(&link)),
    }
}
