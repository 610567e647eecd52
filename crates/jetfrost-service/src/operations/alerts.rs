//! What needs somebody's attention.

use jetfrost_office::access::Act;
use jetfrost_office::alerts::{Alert, MachineFacts, PlaceFacts, ServiceFacts};
use jetfrost_office::freshness;
use jetfrost_wire::alerts::{Alert as AlertLine, AlertKind, Alerts};
use jetfrost_wire::destination::{Destination, DestinationState};
use jetfrost_wire::run::Outcome;
use jetfrost_wire::workstation::WorkstationState;

use crate::clock::{Moment, timestamp};
use crate::operations::Operations;
use crate::records::{DestinationRow, Noted, WorkstationLine};
use crate::shared::{Caller, Result, ServiceError, convert};

/// All workstations are looked at together.
const ALL: usize = 100_000;

/// What happened once is shown for two weeks.
const OF_LATE_MS: i64 = 14 * crate::shared::DAY_MS;

impl Operations {
    /// All that needs attention now, the worst first.
    pub(crate) fn alerts_shown(&self, caller: &Caller) -> Result<Alerts> {
        caller.may(&Act::SeeOffice)?;
        Ok(Alerts { now: timestamp(self.clock.now()), alerts: self.alerts()?.iter().map(line).collect() })
    }

    pub(crate) fn alerts(&self) -> Result<Vec<Alert>> {
        let now = self.clock.now();
        let shortened = |row: &DestinationRow| of_late(&row.shortened, now);
        let place =
            |row: DestinationRow| Ok(PlaceFacts { shortened: shortened(&row), ..facts_of(&self.storage.destination(&row)?) });
        let places = self.storage.destination_rows()?.into_iter().map(place).collect::<Result<Vec<_>>>()?;
        let lines = self.records.read(|on| Ok::<_, ServiceError>(WorkstationLine::list(None, "", ALL, on)?))?;
        let machine = |line: &WorkstationLine| MachineFacts {
            name: line.workstation.name.clone(),
            overdue: convert::workstation_state(&line.workstation, line.latest_point.as_ref(), now) == WorkstationState::Overdue,
            lost_chunks: line.store.lost_chunks.get(),
            // What a scrub found is an alert until the next one finds nothing.
            lost_points: line.store.lost_points.get() + u64::from(line.store.findings.is_some()),
            drill_failed: line.store.drill_failed.is_some(),
            room_made: of_late(&line.store.room_made, now),
            shortened: of_late(&line.store.shortened, now),
            failing: freshness::is_failing(last_point(line), has_failed(line), now.ms()) && has_machine(line),
            without_first_point: freshness::lacks_first_point(last_point(line), line.workstation.enrolled.ms(), now.ms())
                && has_machine(line),
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

fn last_point(line: &WorkstationLine) -> Option<i64> {
    line.latest_point.as_ref().map(|point| point.committed.ms())
}

fn has_failed(line: &WorkstationLine) -> bool {
    line.latest_run.as_ref().is_some_and(|run| matches!(run.outcome.0, Outcome::Failed | Outcome::Lost))
}

fn has_machine(line: &WorkstationLine) -> bool {
    line.workstation.rest.is_none()
}

/// An alert with what is wrong and what to do.
pub(crate) fn line(alert: &Alert) -> AlertLine {
    let Alert { kind, subject, detail } = alert;
    let (says, next) = match kind {
        AlertKind::AuditAltered => (
            format!("The audit log is not what the service wrote: {detail}."),
            "jetfrost audit check says where. Somebody wrote to the records file behind the service's back, or an old copy took its place.".into(),
        ),
        AlertKind::Damage => (
            format!("Pieces of the image store of '{subject}' are damaged or gone."),
            format!("jetfrost scrub show {subject}; what the machine still has comes again with its next backup."),
        ),
        AlertKind::DestinationMissing => (
            format!("The destination '{subject}' is missing."),
            format!("jetfrost destination show {subject}; mount its volume again."),
        ),
        AlertKind::DestinationFull => (
            format!("The destination '{subject}' is full: no backup gets in."),
            format!(
                "jetfrost destination set {subject} --capacity SIZE or --at-limit expire-oldest, or more room on its volume."
            ),
        ),
        AlertKind::RoomMade => (
            format!("Points of '{subject}' went to make room at a limit. {detail}."),
            format!(
                "jetfrost workstation set {subject} --limit SIZE for a longer history; if you did not expect it, look what fills the store."
            ),
        ),
        AlertKind::TermsShortened => (
            format!(
                "Retention of '{subject}' is shorter from now on: {detail}. Existing points stay as long as promised."
            ),
            "jetfrost audit list says who changed it; if nobody did, end that administrator's sessions.".into(),
        ),
        AlertKind::Failing => (
            format!("Backups of '{subject}' fail, and the last complete point is more than a day old."),
            format!("jetfrost workstation show {subject} says why the last run failed."),
        ),
        AlertKind::NoFirstPoint => (
            format!("'{subject}' joined more than a week ago and has no point yet."),
            format!("On {subject}: jetfrost status, then jetfrost backup."),
        ),
        AlertKind::DrillFailed => (
            format!("The last drill of '{subject}' did not restore everything exactly."),
            format!("On {subject}: jetfrost drill says what; jetfrost scrub start {subject} looks at the stored bytes."),
        ),
        AlertKind::RecordsNotBackedUp => (
            "The last records backup is too old.".into(),
            "jetfrost destination list; one of them must be there.".into(),
        ),
        AlertKind::Certificate => (
            format!("The certificate that browsers see needs to be looked at: {detail}."),
            "Put a new one in the same files: the service takes it up within seconds. Backups go on without it.".into(),
        ),
        AlertKind::Overdue => (
            format!("The last complete point of '{subject}' is too old."),
            format!("jetfrost workstation show {subject}; see whether the machine is on and reaches the service."),
        ),
    };
    AlertLine { kind: *kind, subject: subject.clone(), says, next }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::{AlertKind, Role};

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
        office.pass(30 * DAY_MS);
        assert_eq!(kinds(&office), [(AlertKind::Overdue, "front desk".to_owned())]);
        machine.back_up(&office, b"two").expect("a point");
        assert_eq!(kinds(&office), []);
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
