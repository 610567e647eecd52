//! What needs somebody's attention.

use std::collections::HashMap;

use jetfrost_office::access::Act;
use jetfrost_office::alerts::{Alert, MachineFacts, PlaceFacts, ServiceFacts};
use jetfrost_office::freshness;
use jetfrost_types::{DelayReason, Suspicion, WorkstationId};
use jetfrost_wire::alerts::{Alert as AlertLine, AlertKind, Alerts};
use jetfrost_wire::destination::{Destination, DestinationState};
use jetfrost_wire::workstation::WorkstationState;

use crate::clock::{Moment, timestamp};
use crate::operations::Operations;
use crate::records::{DestinationRow, Noted, Suspects, Word, WorkstationLine};
use crate::shared::{Caller, Result, ServiceError, convert};

/// What happened once is shown for two weeks.
const OF_LATE_MS: i64 = 14 * crate::shared::DAY_MS;

impl Operations {
    /// All that needs attention now, the worst first.
    pub(crate) fn alerts_shown(&self, caller: &Caller) -> Result<Alerts> {
        caller.may(&Act::SeeOffice)?;
        let (lines, places) =
            self.records.read(|on| Ok::<_, ServiceError>((WorkstationLine::all(None, on)?, DestinationRow::names(on)?)))?;
        let ids: HashMap<&str, &WorkstationId> =
            lines.iter().map(|line| (line.workstation.name.as_str(), &line.workstation.id.0)).collect();
        let workstation = |alert: &Alert| {
            let is_of_place = matches!(alert.kind, AlertKind::DestinationMissing | AlertKind::DestinationFull)
                || (alert.kind == AlertKind::TermsShortened && places.contains(&alert.subject));
            if is_of_place { None } else { ids.get(alert.subject.as_str()).map(|id| (*id).clone()) }
        };
        let shown = |alert: &Alert| AlertLine { workstation: workstation(alert), ..line(alert) };
        Ok(Alerts { now: timestamp(self.clock.now()), alerts: self.alerts()?.iter().map(shown).collect() })
    }

    pub(crate) fn alerts(&self) -> Result<Vec<Alert>> {
        let now = self.clock.now();
        let shortened = |row: &DestinationRow| of_late(&row.shortened, now);
        let place =
            |row: DestinationRow| Ok(PlaceFacts { shortened: shortened(&row), ..facts_of(&self.storage.destination(&row)?) });
        let places = self.storage.destination_rows()?.into_iter().map(place).collect::<Result<Vec<_>>>()?;
        let lines = self.records.read(|on| Ok::<_, ServiceError>(WorkstationLine::all(None, on)?))?;
        let machine = |line: &WorkstationLine| MachineFacts {
            name: line.workstation.name.clone(),
            suspect: line.suspect.as_ref().map(said_of_suspects),
            overdue: convert::workstation_state(line, now) == WorkstationState::Overdue,
            lost_chunks: line.store.lost_chunks.get(),
            // What a scrub found is an alert until the next one finds nothing.
            lost_points: line.store.lost_points.get() + u64::from(line.store.findings.is_some()),
            drill_failed: line.store.drill_failed.is_some(),
            room_made: of_late(&line.store.room_made, now),
            shortened: of_late(&line.store.shortened, now),
            failing: freshness::is_failing(line.failures()) && has_machine(line),
            kept_waiting: kept_waiting(line, now).filter(|_| has_machine(line)),
            without_first_point: has_machine(line) && lacks_first_point(line, now),
            drill_overdue: has_machine(line) && line.drill_overdue(now),
            proof_overdue: line.proof_due().is_some_and(|due| due <= now),
        };
        let machines: Vec<MachineFacts> = lines.iter().filter(|line| line.store.removal.is_none()).map(machine).collect();
        let protection = self.storage.protection()?;
        let unprotected = protection.office_key.is_some() && protection.copied.is_some() && !protection.protected;
        let service = ServiceFacts {
            unprotected,
            audit_altered: self.storage.lock_audit_altered().clone(),
            certificate: self.certificate_trouble(),
        };
        Ok(jetfrost_office::alerts::alerts(&places, &machines, &service))
    }
}

fn facts_of(destination: &Destination) -> PlaceFacts {
    PlaceFacts {
        name: destination.name.clone(),
        missing: matches!(destination.state, DestinationState::Missing | DestinationState::Foreign),
        full: destination.state == DestinationState::Full,
        shortened: None,
    }
}

/// What happened lately enough to need attention.
fn of_late(noted: &Option<Noted>, now: Moment) -> Option<String> {
    let late = noted.as_ref().filter(|noted| now - noted.at < OF_LATE_MS);
    late.map(|noted| noted.what.clone())
}

fn lacks_first_point(line: &WorkstationLine, now: Moment) -> bool {
    let rhythm = line.schedule().0.rhythm_seconds;
    freshness::lacks_first_point(line.last_point_ms(), rhythm, line.workstation.enrolled.ms(), now.ms())
}

/// What its agent finds in the way of its backups, once that lasts for too long.
fn kept_waiting(line: &WorkstationLine, now: Moment) -> Option<DelayReason> {
    let delay = line.agent.as_ref()?.delay.as_ref()?;
    let rhythm = line.schedule().0.rhythm_seconds;
    freshness::is_kept_waiting(delay.reason, rhythm, delay.since.ms(), now.ms()).then_some(delay.reason)
}

/// The number of the point that looks like an incident, how, and what there is to go back to.
fn said_of_suspects(suspects: &Suspects) -> String {
    let Suspects { latest, last_good } = suspects;
    let sequence = latest.sequence.get();
    let looks = match latest.suspicion {
        Some(Word(Suspicion::Scrambled)) => format!("{sequence} looks like mass encryption"),
        Some(Word(Suspicion::Deleted)) => format!("{sequence} looks like mass deletion"),
        Some(Word(Suspicion::Replaced)) => format!("{sequence} shares almost nothing with the one before"),
        None => format!("{sequence} was marked suspect"),
    };
    match last_good {
        Some(good) => format!("{looks}; last good point: {}", good.sequence.get()),
        None => format!("{looks}; there is no good point before it"),
    }
}

fn has_machine(line: &WorkstationLine) -> bool {
    line.workstation.rest.is_none()
}

/// An alert with what is wrong and what to do.
pub(crate) fn line(alert: &Alert) -> AlertLine {
    let Alert { kind, subject, .. } = alert;
    let (next, command) = what_to_do(alert);
    let (command, at_workstation) = match command {
        At::Nowhere => (None, false),
        At::Administrator(command) => (Some(command), false),
        At::Workstation(command) => (Some(command), true),
    };
    AlertLine {
        kind: *kind,
        subject: subject.clone(),
        workstation: None,
        says: what_is_wrong(alert),
        next: next.into(),
        command,
        at_workstation,
    }
}

/// What is wrong, in a sentence.
fn what_is_wrong(Alert { kind, subject, detail }: &Alert) -> String {
    match kind {
        AlertKind::AuditAltered => format!("The audit log is not what the service wrote: {detail}."),
        AlertKind::SuspectPoint => format!("On '{subject}', point {detail}. Everything before it is kept until you decide."),
        AlertKind::Damage => format!("Pieces of the image store of '{subject}' are damaged or gone."),
        AlertKind::DestinationMissing => format!("The destination '{subject}' is missing."),
        AlertKind::DestinationFull => format!("The destination '{subject}' is full: no backup gets in."),
        AlertKind::RoomMade => format!("Points of '{subject}' went to make room at a limit. {detail}."),
        AlertKind::TermsShortened => {
            format!("Retention of '{subject}' is shorter from now on: {detail}. Existing points stay as long as promised.")
        }
        AlertKind::Failing => format!("Backups of '{subject}' fail, one after another."),
        AlertKind::KeptWaiting => format!("Backups of '{subject}' do not start: {}.", waits_for(detail)),
        AlertKind::DrillOverdue => format!("No drill has restored anything of '{subject}' for too long."),
        AlertKind::NoFirstPoint => format!("'{subject}' joined days ago and has no point yet."),
        AlertKind::ProofDue => {
            format!("Nobody has proved lately that the passphrase or recovery key of '{subject}' still works.")
        }
        AlertKind::DrillFailed => format!("The last drill of '{subject}' did not restore everything exactly."),
        AlertKind::RecordsNotBackedUp => "The last records backup is too old.".into(),
        AlertKind::Certificate => format!("The certificate that browsers see needs to be looked at: {detail}."),
        AlertKind::Overdue => format!("The last complete point of '{subject}' is too old."),
    }
}

/// Where a command is for.
enum At {
    Nowhere,
    Administrator(String),
    Workstation(String),
}

/// What to do, and a command that shows more or does it.
fn what_to_do(Alert { kind, subject, detail }: &Alert) -> (&'static str, At) {
    let office = |command: &str| At::Administrator(format!("jetfrost {command}"));
    let there = |command: &str| At::Workstation(format!("jetfrost {command}"));
    match kind {
        AlertKind::AuditAltered => (
            "Somebody wrote to the records file behind the service's back, or an old copy took its place. Check where.",
            office("audit check"),
        ),
        AlertKind::SuspectPoint => {
            let point = detail.split_whitespace().next().unwrap_or_default();
            (
                "If nobody meant it, disconnect the machine and restore from the last good point. If it was work, mark the point good.",
                office(&format!("point mark {subject} {point} good --because WHY")),
            )
        }
        AlertKind::Damage => (
            "See what is lost; what the machine still has comes again with its next backup.",
            office(&format!("scrub show {subject}")),
        ),
        AlertKind::DestinationMissing => ("Mount its volume again.", office(&format!("destination show {subject}"))),
        AlertKind::DestinationFull => (
            "Raise its capacity, let the oldest points expire at the limit, or make room on its volume.",
            office(&format!("destination set {subject} --capacity SIZE")),
        ),
        AlertKind::RoomMade => (
            "Raise the limit for a longer history. If you did not expect it, look what fills the store.",
            office(&format!("workstation set {subject} --limit SIZE")),
        ),
        AlertKind::TermsShortened => {
            ("See who changed it. If nobody did, end that administrator's sessions.", office("audit list"))
        }
        AlertKind::Failing => ("See why the last run failed.", office(&format!("workstation show {subject}"))),
        AlertKind::KeptWaiting => ("See since when.", office(&format!("workstation show {subject}"))),
        AlertKind::DrillOverdue => {
            ("An agent does it by itself when the machine is on. See why it does not.", there("agent status"))
        }
        AlertKind::NoFirstPoint => ("See at the machine what is in the way.", there("diagnose")),
        AlertKind::ProofDue => (
            "Have its person show that a secret opens it. If the secret is lost, make a new one there while the machine still runs.",
            there("unlock"),
        ),
        AlertKind::DrillFailed => {
            ("See what did not come back, and have the stored bytes read.", office(&format!("scrub start {subject}")))
        }
        AlertKind::RecordsNotBackedUp => ("One of the destinations must be there.", office("destination list")),
        AlertKind::Certificate => {
            ("Put a new one in the same files: the service takes it up within seconds. Backups go on without it.", At::Nowhere)
        }
        AlertKind::Overdue => {
            ("See whether the machine is on and reaches the service.", office(&format!("workstation show {subject}")))
        }
    }
}

/// Why backups do not start, from the word for it.
fn waits_for(reason: &str) -> &'static str {
    match DelayReason::from_word(reason) {
        Some(DelayReason::Paused) => "somebody has paused them at the machine for days",
        Some(DelayReason::PausedByOffice) => "an administrator has paused the workstation for days",
        Some(DelayReason::ClockImplausible) => "its clock is wrong",
        Some(DelayReason::AnotherRun) => "another run has been in progress for days",
        Some(DelayReason::OutsideHours) => "it has not been on within its allowed hours for days",
        Some(DelayReason::OnBattery) => "it has been on battery for days",
        Some(DelayReason::MeteredConnection) => "its connection has been metered for days",
        Some(DelayReason::MachineBusy) => "it has been busy for days",
        Some(DelayReason::BackupsPaused) => "new backups have been paused at the service for days",
        Some(DelayReason::Queued) => "it has been waiting in the queue for days",
        Some(DelayReason::LimitReached) => "a limit is reached",
        Some(DelayReason::DestinationUnavailable) => "its destination is not available to it",
        Some(DelayReason::PassphraseNeeded) => "it needs its passphrase",
        Some(DelayReason::SourceMissing) => "nothing is included, or what is included is not there",
        Some(DelayReason::OfficeUnreachable) | None => "something is in the way",
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::{AlertKind, DelayReason, Role};
    use jetfrost_wire::restore::{BeginRestore, EndRestore, Purpose, Scope};
    use jetfrost_wire::run::{GiveUp, Progress};
    use jetfrost_wire::workstation::{AgentReport, Delay, NewProof, ProvedWith};

    use crate::clock::timestamp;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::office_with_points;
    use crate::shared::{DAY_MS, ServiceError};

    fn kinds(office: &Office) -> Vec<(AlertKind, String)> {
        let alerts = office.services.operations.alerts_shown(&office.ingrid).expect("seen").alerts;
        alerts.into_iter().map(|alert| (alert.kind, alert.subject)).collect()
    }

    #[test]
    fn a_late_workstation_is_an_alert_until_it_is_backed_up() {
        let (office, mut machine) = office_with_points([b"one"]);
        assert_eq!(kinds(&office), []);
        office.pass(10 * DAY_MS);
        assert_eq!(kinds(&office), [(AlertKind::Overdue, "front desk".to_owned())]);
        machine.back_up(&office, b"two").expect("a point");
        assert_eq!(kinds(&office), []);
    }

    #[test]
    fn a_secret_that_nobody_proves_is_an_alert_until_somebody_does() {
        let (office, mut machine) = office_with_points([b"one"]);
        let due = || kinds(&office).contains(&(AlertKind::ProofDue, "front desk".to_owned()));
        office.pass(13 * DAY_MS);
        assert!(!due());
        office.pass(DAY_MS);
        assert!(due(), "nobody ever did");
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let new = NewProof { secret: ProvedWith::RecoveryKey };
        assert!(backups.prove(&office.ingrid, id, &new).is_err(), "only its own word counts");
        backups.prove(&machine.caller, id, &new).expect("on record");
        let store = backups.workstation(&office.ingrid, id).expect("there").store;
        assert_eq!((store.proof.map(|proof| proof.secret), store.proof_due), (Some(ProvedWith::RecoveryKey), None));
        office.pass(89 * DAY_MS);
        assert!(!due());
        office.pass(DAY_MS);
        assert!(due(), "90 days are the usual interval");
        machine.back_up(&office, b"two").expect("a point");
        assert!(due(), "a backup proves no secret");
    }

    #[test]
    fn a_workstation_that_no_drill_proves_is_an_alert_until_one_does() {
        let (office, mut machine) = office_with_points([b"one"]);
        let overdue = || kinds(&office).contains(&(AlertKind::DrillOverdue, "front desk".to_owned()));
        office.pass(15 * DAY_MS);
        machine.back_up(&office, b"two").expect("a point");
        assert!(!overdue());
        office.pass(1);
        assert!(overdue(), "backups alone prove nothing");
        let begin = BeginRestore { point: 1, scope: Scope::Selection, purpose: Purpose::Drill, target: None, order: None };
        let backups = &office.services.backups;
        let drill = backups.begin_restore(&machine.caller, &machine.enrolled.workstation, &begin).expect("begun");
        let end = |exceptions| EndRestore { progress: Progress::default(), exceptions };
        backups.end_restore(&machine.caller, &drill.id, &end(1)).expect("ended");
        assert!(overdue(), "it did not bring everything back");
        let drill = backups.begin_restore(&machine.caller, &machine.enrolled.workstation, &begin).expect("begun");
        backups.end_restore(&machine.caller, &drill.id, &end(0)).expect("ended");
        assert!(!overdue());
    }

    #[test]
    fn a_second_failure_in_a_row_is_an_alert_and_neither_a_stop_nor_a_single_one_is() {
        let (office, mut machine) = office_with_points([b"one"]);
        let ends = |stopped| {
            let run = machine.begin(&office).expect("begun").run.id;
            let why = GiveUp { stopped, reason: "the disk could not be read".into(), progress: Progress::default() };
            office.services.backups.give_up_run(&machine.caller, &run, &why).expect("noted");
            kinds(&office)
        };
        assert_eq!([ends(false), ends(true)], [vec![], vec![]]);
        let failing = vec![(AlertKind::Failing, "front desk".to_owned())];
        assert_eq!([ends(false), ends(true)], [failing.clone(), failing.clone()], "a stop makes nothing good");
        machine.back_up(&office, b"two").expect("a point");
        assert_eq!(kinds(&office), []);
        for _ in 0..2 {
            machine.begin(&office).expect("begun");
            office.pass(DAY_MS);
            office.services.backups.note_lost().expect("noted");
        }
        assert_eq!(kinds(&office), failing, "whoever is not heard of any more fails as well");
    }

    #[test]
    fn failures_that_never_got_here_count_as_the_agent_tells_them() {
        let (office, machine) = office_with_points([b"one"]);
        let report = AgentReport { failures: 2, ..AgentReport::default() };
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        backups.report_agent(&machine.caller, id, &report).expect("noted");
        assert_eq!(kinds(&office), [(AlertKind::Failing, "front desk".to_owned())]);
    }

    #[test]
    fn what_keeps_backups_waiting_is_an_alert_by_who_has_to_end_it_and_told_anew_when_it_is_another() {
        let (office, machine) = office_with_points([b"one"]);
        let report = |reason| {
            let delay = Delay { reason, since: timestamp(office.now()) };
            let report = AgentReport { delay: Some(delay), ..AgentReport::default() };
            office.services.backups.report_agent(&machine.caller, &machine.enrolled.workstation, &report).expect("noted");
        };
        report(DelayReason::LimitReached);
        office.pass(3_600_000);
        assert_eq!(kinds(&office), [], "the next one may get through");
        office.pass(1);
        assert_eq!(kinds(&office), [(AlertKind::KeptWaiting, "front desk".to_owned())]);
        report(DelayReason::OnBattery);
        office.pass(2 * DAY_MS);
        assert_eq!(kinds(&office), []);
        office.pass(DAY_MS + 1);
        let kept = kinds(&office).into_iter().map(|(kind, _)| kind).collect::<Vec<_>>();
        assert!(kept.contains(&AlertKind::KeptWaiting), "{kept:?}");
        let says = office.services.operations.alerts_shown(&office.ingrid).expect("seen").alerts;
        assert!(says.iter().any(|alert| alert.says.contains("on battery for days")), "{says:?}");
        office.services.backups.retire(&office.ingrid, &machine.enrolled.workstation).expect("retired");
        assert_eq!(kinds(&office), [], "nobody waits for it any more");
    }

    #[test]
    fn a_workstation_whose_first_point_does_not_come_is_an_alert_after_its_tolerance() {
        let (office, _machine) = office_with_points([]);
        office.pass(3 * DAY_MS);
        assert_eq!(kinds(&office), []);
        office.pass(1);
        assert_eq!(kinds(&office), [(AlertKind::NoFirstPoint, "front desk".to_owned())]);
    }

    #[test]
    fn a_destination_that_is_not_mounted_is_an_alert_and_members_do_not_see_it() {
        let office = Office::open();
        office.destination("shelf");
        let tove = office.person("tove", Role::Member);
        std::fs::rename(office.path("shelf"), office.path("unplugged")).expect("moved");
        assert_eq!(kinds(&office), [(AlertKind::DestinationMissing, "shelf".to_owned())]);
        assert!(matches!(office.services.operations.alerts_shown(&tove), Err(ServiceError::NotAllowed)));
        std::fs::rename(office.path("unplugged"), office.path("shelf")).expect("moved back");
        assert_eq!(kinds(&office), []);
    }
}
