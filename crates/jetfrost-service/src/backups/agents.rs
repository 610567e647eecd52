//! What agents report: when a workstation's next run is due, and what is in its way.

use jetfrost_office::access::Act;
use jetfrost_types::WorkstationId;
use jetfrost_wire::workstation::{AgentReport, AgentState};

use crate::backups::Backups;
use crate::clock::Moment;
use crate::records::{AgentDelay, AgentRow, Noticed};
use crate::shared::{Caller, Result, ServiceError, convert};

/// Reports that come faster change nothing: an agent sees by the answer whether its own was taken, and repeats it.
const NOT_WITHIN_MS: i64 = 2_000;

impl Backups {
    /// Notes what a workstation's agent says of itself. It decides nothing: whether a workstation is overdue depends on its points.
    /// Returns what is on record then.
    pub(crate) fn report_agent(&self, caller: &Caller, id: &WorkstationId, report: &AgentReport) -> Result<AgentState> {
        let line = self.storage.line(caller, id)?;
        caller.may(&Act::AddToStore { workstation: line.workstation.id.as_str() })?;
        let now = self.clock.now();
        let row = AgentRow {
            workstation_id: line.workstation.id.clone(),
            seen: now,
            due: report.due.map(Moment::from),
            // The workstation's clock may be ahead.
            delay: AgentDelay(
                report.delay.map(|delay| Noticed { reason: delay.reason, since: Moment::from(delay.since).min(now) }),
            ),
        };
        let (before, on_record) = self.records.write(|on| {
            let before = AgentRow::of(id, on)?;
            if let Some(before) = before.clone().filter(|before| (0..NOT_WITHIN_MS).contains(&(now - before.seen))) {
                return Ok((Some(before.clone()), before));
            }
            row.put(on)?;
            Ok::<_, ServiceError>((before, row))
        })?;
        if before.is_none_or(|before| (before.due, &before.delay) != (on_record.due, &on_record.delay)) {
            self.events.workstation_changed(id);
        }
        Ok(convert::agent(&on_record))
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::{DelayReason, Role};
    use jetfrost_wire::workstation::Delay;

    use super::*;
    use crate::clock::timestamp;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::office_with_points;

    #[test]
    fn a_report_is_the_workstations_own_and_its_clock_decides_nothing() {
        let office = Office::open();
        office.destination("shelf");
        office.person("tove", Role::Member);
        let (machine, other) = (office.machine("tove", "front desk"), office.machine("tove", "back office"));
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let ahead = timestamp(office.now() + 3_600_000);
        let report = AgentReport { due: None, delay: Some(Delay { reason: DelayReason::OnBattery, since: ahead }) };
        for stranger in [&other.caller, &office.ingrid] {
            let refused = backups.report_agent(stranger, id, &report);
            assert!(matches!(refused, Err(ServiceError::NotAllowed | ServiceError::NotFound(_))), "{refused:?}");
        }
        let on_record = backups.report_agent(&machine.caller, id, &report).expect("noted");
        let delay = Delay { reason: DelayReason::OnBattery, since: timestamp(office.now()) };
        assert_eq!((on_record.seen, on_record.delay), (timestamp(office.now()), Some(delay)));
        let shown = backups.workstation(&office.ingrid, id).expect("there").agent.expect("reported");
        assert_eq!(shown.delay, Some(delay));
    }

    #[test]
    fn reports_in_a_loop_are_not_written_and_the_answer_says_what_is() {
        let (office, machine) = office_with_points([]);
        let due = |seconds: i64| AgentReport { due: Some(timestamp(office.now() + seconds * 1000)), delay: None };
        let report = |due: &AgentReport| {
            let taken = office.services.backups.report_agent(&machine.caller, &machine.enrolled.workstation, due);
            taken.expect("answered").due == due.due
        };
        assert!(report(&due(60)));
        assert!(!report(&due(90)), "too soon");
        office.pass(2_000);
        assert!(report(&due(90)));
    }

    #[test]
    fn whoever_takes_a_workstation_over_does_not_inherit_what_its_agent_said() {
        let (office, machine) = office_with_points([]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        backups.report_agent(&machine.caller, id, &AgentReport { due: None, delay: None }).expect("noted");
        backups.retire(&office.ingrid, id).expect("retired");
        assert_eq!(backups.workstation(&office.ingrid, id).expect("there").agent, None);
    }
}
