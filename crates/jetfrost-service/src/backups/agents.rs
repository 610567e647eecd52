//! What agents report: when a workstation's next run is due, and what is in its way.

use jetfrost_office::access::Act;
use jetfrost_types::WorkstationId;
use jetfrost_wire::workstation::{AgentReport, AgentState, Wait};
use jetfrost_wire::{Page, PageQuery};

use crate::backups::Backups;
use crate::clock::Moment;
use crate::records::{AgentDelay, AgentRow, Connection, Id, NewWait, Noticed, WaitRow, WorkstationRow};
use crate::shared::{Caller, Invalid, Result, ServiceError, Who, convert, number_cursor, to_db};

/// Reports that come faster change nothing: an agent sees by the answer whether its own was taken, and repeats it.
const NOT_WITHIN_MS: i64 = 2_000;
/// An agent that was away for long tells the latest.
const MOST_WAITED: usize = 100;

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
            failures: to_db(report.failures)?,
        };
        if report.waited.len() > MOST_WAITED {
            return Err(Invalid::TooManyWaits(MOST_WAITED).into());
        }
        let (before, on_record) = self.records.write(|on| {
            still_has(caller, on)?;
            let before = AgentRow::of(id, on)?;
            if let Some(before) = before.clone().filter(|before| (0..NOT_WITHIN_MS).contains(&(now - before.seen))) {
                return Ok((Some(before.clone()), before));
            }
            row.put(on)?;
            for wait in &report.waited {
                waited(id, wait, now).put(on)?;
            }
            Ok::<_, ServiceError>((before, row))
        })?;
        if before.is_none_or(|before| {
            (before.due, &before.delay, before.failures) != (on_record.due, &on_record.delay, on_record.failures)
        }) {
            self.events.workstation_changed(id);
        }
        Ok(convert::agent(&on_record))
    }

    /// What kept a workstation's backups waiting, the latest first.
    pub(crate) fn waits(&self, caller: &Caller, id: &WorkstationId, page: &PageQuery) -> Result<Page<Wait>> {
        self.storage.line(caller, id)?;
        let before = number_cursor(page.after.as_ref())?;
        let rows = self.records.read(|on| Ok::<_, ServiceError>(WaitRow::list(id, before, page.size() + 1, on)?))?;
        let last = rows.get(page.size().saturating_sub(1)).map_or(0, |row| row.number);
        Ok(Page::from_one_more(rows.iter().map(convert::wait).collect(), page.size(), |_: &Wait| last.to_string()))
    }
}

/// Refuses a machine whose credential ended since its call was let in: what it says is not of the machine that has the workstation now.
pub(crate) fn still_has(caller: &Caller, on: &mut Connection) -> Result<()> {
    let Who::Device { workstation } = &caller.who else { return Ok(()) };
    let found = WorkstationRow::by_credential(&workstation.credential_hash, on)?;
    found.map(drop).ok_or(ServiceError::UnknownDevice)
}

/// A wait as an agent says it. Its clock may be ahead, or have been set back.
fn waited(id: &WorkstationId, wait: &Wait, now: Moment) -> NewWait {
    let until = Moment::from(wait.until).min(now);
    let since = Moment::from(wait.since).min(until);
    NewWait { workstation_id: Id(id.clone()), reason: wait.reason.into(), since, until }
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
        let report = AgentReport {
            due: None,
            delay: Some(Delay { reason: DelayReason::OnBattery, since: ahead }),
            ..AgentReport::default()
        };
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
        let due = |seconds: i64| AgentReport {
            due: Some(timestamp(office.now() + seconds * 1000)),
            delay: None,
            ..AgentReport::default()
        };
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
    fn what_kept_backups_waiting_is_on_record_once_whatever_the_workstations_clock_says() {
        let (office, machine) = office_with_points([]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let wait = |since: i64, until: i64| Wait {
            reason: DelayReason::OnBattery,
            since: timestamp(office.now() + since),
            until: timestamp(office.now() + until),
        };
        let told = [wait(-7_200_000, -3_600_000), wait(3_600_000, 7_200_000), wait(-60_000, -120_000)];
        let report = |waited: &[Wait]| {
            let report = AgentReport { waited: waited.to_vec(), ..AgentReport::default() };
            backups.report_agent(&machine.caller, id, &report)
        };
        let first = office.now();
        report(&told).expect("noted");
        office.pass(2_000);
        report(&told[..1]).expect("the answer to the first was lost");
        let page =
            |after: Option<String>| backups.waits(&office.ingrid, id, &PageQuery { after, most: Some(2) }).expect("listed");
        let latest = page(None);
        let spans: Vec<(i64, i64)> =
            latest.items.iter().map(|w| (w.since.as_millisecond() - first.ms(), w.until.as_millisecond() - first.ms())).collect();
        assert_eq!(spans, [(-120_000, -120_000), (0, 0)], "no wait ends before it began, or in the future");
        let earliest = page(latest.next);
        assert_eq!((earliest.items, earliest.next), (vec![told[0]], None));
        office.pass(2_000);
        let refused = report(&vec![told[0]; MOST_WAITED + 1]);
        assert!(matches!(refused, Err(ServiceError::Invalid(Invalid::TooManyWaits(_)))), "{refused:?}");
    }

    #[test]
    fn whoever_takes_a_workstation_over_does_not_inherit_what_its_agent_said() {
        let (office, machine) = office_with_points([]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        backups
            .report_agent(&machine.caller, id, &AgentReport { due: None, delay: None, ..AgentReport::default() })
            .expect("noted");
        backups.retire(&office.ingrid, id).expect("retired");
        assert_eq!(backups.workstation(&office.ingrid, id).expect("there").agent, None);
    }
}
