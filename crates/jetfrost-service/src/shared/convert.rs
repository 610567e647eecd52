//! Rows of the records as the API's types.

use jetfrost_office::freshness::{Freshness, freshness, is_lost};
use jetfrost_types::Limit;
use jetfrost_wire::Binary;
use jetfrost_wire::enrolment::{CodeLimit, CodeState, EnrolmentCode};
use jetfrost_wire::job::Job;
use jetfrost_wire::order::{OrderState, RestoreOrder};
use jetfrost_wire::people::{Account, AccountState};
use jetfrost_wire::point::{Marked, PendingRemoval, Point, SuspectPoint};
use jetfrost_wire::restore::Restore;
use jetfrost_wire::run::{ExceptionCounts, Outcome, Phase, Progress, Run};
use jetfrost_wire::service::AuditEntry;
use jetfrost_wire::workstation::{AgentState, Delay, Proof, Wait, WorkstationState};

use crate::clock::{Moment, timestamp};
use crate::records::{
    AccountRow, AgentRow, AuditRow, CodeWithNames, Connection, Count, GivenMark, JobRow, OrderRow, PointRow, ProofRow, Removal,
    Rest, RestoreRow, RunRow, Suspects, WaitRow, WorkstationLine,
};
use crate::shared::Result;
use crate::shared::versions::version;

pub(crate) fn account(row: &AccountRow, on: &mut Connection) -> Result<Account> {
    let groups: Vec<String> = row.groups(on)?.into_iter().map(|group| group.name).collect();
    Ok(Account {
        version: version(&(&row.login, &row.display_name, row.kind.0, row.role.0, &groups, row.quota)),
        id: row.id.0.clone(),
        login: row.login.clone(),
        display_name: row.display_name.clone(),
        kind: row.kind.0,
        role: row.role.0,
        state: if row.disabled.is_some() { AccountState::Disabled } else { AccountState::Active },
        disabled: row.disabled.as_ref().map(|disabled| timestamp(disabled.at)),
        can_sign_in: row.password.is_some(),
        second_factor: row.totp_since.is_some(),
        groups,
        quota: row.quota.map(Count::get),
        workstations: row.workstations(on)?.get(),
        created: timestamp(row.created),
    })
}

pub(crate) fn point(row: &PointRow) -> Point {
    Point {
        sequence: row.sequence.get(),
        kind: row.kind.0,
        committed: timestamp(row.committed),
        files: row.files.get(),
        bytes: row.bytes.get(),
        exceptions: row.exceptions.get(),
        sent: row.sent.get(),
        hold: row.hold.0.clone(),
        pending_removal: row.removal.as_ref().map(pending_removal),
        lost: row.lost,
        changes: row.changes.map(|changes| changes.0),
        suspicion: row.suspicion.map(|suspicion| suspicion.0),
        mark: row.mark.as_ref().map(mark),
    }
}

fn mark(marked: &GivenMark) -> Marked {
    let GivenMark { mark, reason, by, at } = marked;
    Marked { mark: *mark, reason: reason.clone(), by: by.clone(), at: timestamp(*at) }
}

pub(crate) fn suspect_point(suspects: &Suspects) -> SuspectPoint {
    SuspectPoint { point: point(&suspects.latest), last_good: suspects.last_good.as_ref().map(point) }
}

pub(crate) fn pending_removal(removal: &Removal) -> PendingRemoval {
    PendingRemoval { ends: timestamp(removal.ends), by: removal.by.clone() }
}

pub(crate) fn job(row: &JobRow, line: &WorkstationLine) -> Job {
    Job {
        id: row.id.0.clone(),
        kind: row.kind.0,
        workstation: line.workstation.id.0.clone(),
        name: line.workstation.name.clone(),
        state: row.state.0,
        done: row.done.get(),
        total: row.total.get(),
        by: row.by.clone(),
        created: timestamp(row.created),
        started: row.started.map(timestamp),
        ended: row.ended.map(timestamp),
        outcome: row.outcome.clone(),
    }
}

/// The outcome to show: one that has been silent for too long is lost, whatever the row says.
fn shown_outcome(outcome: Outcome, last_heard: Moment, now: Moment) -> Outcome {
    match outcome {
        Outcome::Underway if is_lost(last_heard.ms(), now.ms()) => Outcome::Lost,
        outcome => outcome,
    }
}

pub(crate) fn run(row: &RunRow, now: Moment) -> Run {
    Run {
        id: row.id.0.clone(),
        workstation: row.workstation_id.0.clone(),
        outcome: shown_outcome(row.outcome.0, row.last_heard, now),
        progress: Progress {
            phase: row.phase.0,
            files_done: row.files_done.get(),
            files_total: row.files_total.map(Count::get),
            bytes_done: row.bytes_done.get(),
            bytes_total: row.bytes_total.map(Count::get),
            sent: row.sent.get(),
        },
        started: timestamp(row.started),
        ended: row.ended.map(timestamp),
        point: row.sequence.map(Count::get),
        exceptions: ExceptionCounts {
            changed_while_read: row.changed_while_read.get(),
            unreadable: row.unreadable.get(),
            disappeared: row.disappeared.get(),
        },
        reason: row.reason.clone(),
    }
}

pub(crate) fn order(row: &OrderRow, now: Moment) -> RestoreOrder {
    let state = row.shown_state(now);
    RestoreOrder {
        id: row.id.0.clone(),
        workstation: row.workstation_id.0.clone(),
        by: row.by.clone(),
        origin: row.origin.clone(),
        state,
        created: timestamp(row.created),
        expires: timestamp(row.expires),
        restore: row.restore_id.as_ref().map(|id| id.0.clone()),
        reason: row.reason.clone(),
        ended: row.ended.or((state == OrderState::Expired).then_some(row.expires)).map(timestamp),
        sealed: row.sealed.clone().filter(|_| !state.has_ended()).map(Binary),
    }
}

pub(crate) fn restore(row: &RestoreRow, now: Moment) -> Restore {
    Restore {
        id: row.id.0.clone(),
        workstation: row.workstation_id.0.clone(),
        point: row.sequence.get(),
        scope: row.scope.0,
        purpose: row.purpose.0,
        by: row.by.clone(),
        origin: row.origin.clone(),
        target: row.target.map(|target| target.0),
        cancelled_by: row.cancelled_by.clone(),
        checklist: row.checklist.as_ref().map(|list| list.0.clone()),
        outcome: shown_outcome(row.outcome.0, row.last_heard, now),
        progress: Progress {
            phase: Phase::Sending,
            files_done: row.files_done.get(),
            files_total: row.files_total.map(Count::get),
            bytes_done: row.bytes_done.get(),
            bytes_total: row.bytes_total.map(Count::get),
            sent: row.sent.get(),
        },
        exceptions: row.exceptions.get(),
        started: timestamp(row.started),
        ended: row.ended.map(timestamp),
        reason: row.reason.clone(),
    }
}

pub(crate) fn workstation_state(line: &WorkstationLine, now: Moment) -> WorkstationState {
    match line.workstation.rest.as_ref().map(|rest| rest.why) {
        Some(Rest::Unclaimed) => return WorkstationState::Unclaimed,
        Some(Rest::Retired) => return WorkstationState::Retired,
        None => {}
    }
    match freshness(line.last_point_ms(), line.schedule().0.rhythm_seconds, now.ms()) {
        Freshness::FirstPointAwaited => WorkstationState::FirstPointAwaited,
        Freshness::Current => WorkstationState::Current,
        Freshness::Overdue => WorkstationState::Overdue,
    }
}

pub(crate) fn agent(row: &AgentRow) -> AgentState {
    let delay = row.delay.as_ref().map(|noticed| Delay { reason: noticed.reason, since: timestamp(noticed.since) });
    AgentState { seen: timestamp(row.seen), due: row.due.map(timestamp), delay }
}

pub(crate) fn proof(row: &ProofRow) -> Proof {
    Proof { at: timestamp(row.at), secret: row.secret.0 }
}

pub(crate) fn wait(row: &WaitRow) -> Wait {
    Wait { reason: row.reason.0, since: timestamp(row.since), until: timestamp(row.until) }
}

pub(crate) fn enrolment_code(row: &CodeWithNames, now: Moment) -> EnrolmentCode {
    let code = &row.code;
    let state = match (code.used, code.cancelled) {
        (Some(_), _) => CodeState::Used,
        (None, Some(_)) => CodeState::Cancelled,
        (None, None) if code.expires <= now => CodeState::Expired,
        (None, None) => CodeState::Unused,
    };
    EnrolmentCode {
        id: code.id.0.clone(),
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
