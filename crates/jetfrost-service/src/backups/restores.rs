//! Restores on record.

use jetfrost_office::access::Act;
use jetfrost_types::{RestoreId, WorkstationId};
use jetfrost_wire::event::Event;
use jetfrost_wire::restore::{
    BeginRestore, CheckedItem, CheckedOff, EndRestore, Purpose, ReportedRestore, Restore, RestoreQuery,
};
use jetfrost_wire::run::{GiveUp, Outcome, Progress};
use jetfrost_wire::{Page, PageQuery};

use crate::backups::{Backups, orders};
use crate::clock::Moment;
use crate::records::{Count, Id, InJson, RestoreRow, StoreRow, WorkstationLine};
use crate::secrets::new_id;
use crate::shared::bounds::{CHECKED, MOST_CHECKED};
use crate::shared::{Caller, Conflict, Invalid, Result, ServiceError, Thing, Traffic, convert, number_cursor, to_db};

impl Backups {
    /// Begins a restore from a workstation's store.
    pub(crate) fn begin_restore(&self, caller: &Caller, id: &WorkstationId, begin: &BeginRestore) -> Result<Restore> {
        let line = self.storage.line(caller, id)?;
        caller.may(&act(&line))?;
        self.gate.check_restores()?;
        if begin.purpose == Purpose::Drill && self.admission.has_waiting(self.clock.now_ms()) {
            return Err(ServiceError::DrillWaits);
        }
        let (_, store) = self.storage.open_store(&line)?;
        if let Err(error) = store.point_head(begin.point) {
            return Err(self.why_no_point(&line, begin.point, error)?);
        }
        self.pace(&self.restores_begun, Traffic::Restores, &caller.name())?;
        let now = self.clock.now();
        let mut row = RestoreRow {
            number: 0,
            id: Id(new_id(&*self.random)),
            workstation_id: line.workstation.id.clone(),
            sequence: to_db(begin.point)?,
            scope: begin.scope.into(),
            by: caller.name(),
            outcome: Outcome::Underway.into(),
            files_done: Count::ZERO,
            files_total: None,
            bytes_done: Count::ZERO,
            bytes_total: None,
            sent: Count::ZERO,
            exceptions: Count::ZERO,
            started: now,
            last_heard: now,
            ended: None,
            reason: None,
            purpose: begin.purpose.into(),
            origin: Some(caller.origin.clone()),
            target: begin.target.map(Into::into),
            cancelled_by: None,
            checklist: None,
        };
        let (row, order) = self.records.write(|on| {
            let mut order = None;
            if let Some(given) = &begin.order {
                let open = orders::open_for(caller, id, given, now, on)?;
                // It is theirs who gave the order; where it runs, its address says.
                row.by.clone_from(&open.by);
                order = Some(open);
            }
            let row = row.insert(on)?;
            if let Some(order) = &mut order {
                order.take_up(&row.id, on)?;
            }
            let subject = format!("{} point {}", line.workstation.name, begin.point);
            self.trail.note(caller, begun(begin.purpose), &subject, on)?;
            Ok::<_, ServiceError>((row, order))
        })?;
        if let Some(order) = order {
            self.tell_order(&order, now);
        }
        Ok(self.tell_restore(&row))
    }

    /// Restores, drills and whatever else was read of points, of all workstations; latest first.
    pub(crate) fn restore_report(&self, caller: &Caller, query: &RestoreQuery) -> Result<Page<ReportedRestore>> {
        caller.may(&Act::SeeOffice)?;
        let page = PageQuery { after: query.after.clone(), most: query.most };
        let before = number_cursor(page.after.as_ref())?;
        let within = query.since.map_or(Moment::FIRST, Moment::from)..query.until.map_or(Moment::LAST, Moment::from);
        let rows = self
            .records
            .read(|on| Ok::<_, ServiceError>(RestoreRow::report(within, query.purpose, before, page.size() + 1, on)?))?;
        let rows = Page::from_one_more(rows, page.size(), |(row, ..)| row.number.to_string());
        let now = self.clock.now();
        let reported = |(row, name, login)| ReportedRestore { name, login, restore: convert::restore(&row, now) };
        Ok(Page { items: rows.items.into_iter().map(reported).collect(), next: rows.next })
    }

    /// Notes how far a restore is.
    pub(crate) fn restore_progress(&self, caller: &Caller, id: &RestoreId, progress: &Progress) -> Result<Restore> {
        let mut row = self.current_restore(caller, id)?;
        self.set_restore_progress(&mut row, progress)?;
        self.save_restore(&row)
    }

    /// Ends a restore that brought back what it could.
    pub(crate) fn end_restore(&self, caller: &Caller, id: &RestoreId, end: &EndRestore) -> Result<Restore> {
        let mut row = self.current_restore(caller, id)?;
        self.set_restore_progress(&mut row, &end.progress)?;
        row.exceptions = to_db(end.exceptions)?;
        let outcome = if end.exceptions == 0 { Outcome::Complete } else { Outcome::CompleteWithExceptions };
        row.outcome = outcome.into();
        row.ended = Some(self.clock.now());
        self.end_on_record(&row, outcome)
    }

    /// Ends a restore that did not succeed.
    pub(crate) fn give_up_restore(&self, caller: &Caller, id: &RestoreId, why: &GiveUp) -> Result<Restore> {
        let mut row = self.current_restore(caller, id)?;
        self.set_restore_progress(&mut row, &why.progress)?;
        let outcome = if why.stopped { Outcome::Stopped } else { Outcome::Failed };
        row.outcome = outcome.into();
        row.reason = Some(why.reason.chars().take(500).collect());
        row.ended = Some(self.clock.now());
        self.end_on_record(&row, outcome)
    }

    /// Asks whatever program a restore runs in to stop it. A workstation stops only what it began itself: what holds its credential must not
    /// keep anybody else from getting things back.
    pub(crate) fn cancel_restore(&self, caller: &Caller, id: &RestoreId) -> Result<Restore> {
        let missing = || ServiceError::NotFound(Thing::Restore);
        let row = self.records.read(|on| Ok::<_, ServiceError>(RestoreRow::by_id(id, on)?))?.ok_or_else(missing)?;
        let line = self.storage.line(caller, &row.workstation_id).map_err(|_| missing())?;
        caller.may(&act(&line))?;
        if caller.is_workstation() && row.by != caller.name() {
            return Err(ServiceError::NotAllowed);
        }
        let row = self.records.write(|on| {
            let row = RestoreRow::cancel(id, &caller.name(), on)?.ok_or(ServiceError::Conflict(Conflict::RestoreEnded))?;
            self.trail.note(
                caller,
                "restore cancelled",
                &format!("{} point {}", line.workstation.name, row.sequence.get()),
                on,
            )?;
            Ok::<_, ServiceError>(row)
        })?;
        Ok(self.tell_restore(&row))
    }

    /// Puts on record what was found when a whole machine was checked off after a restore. Once; a workstation does for its own alone.
    pub(crate) fn check_off(&self, caller: &Caller, id: &RestoreId, found: &CheckedOff) -> Result<Restore> {
        let missing = || ServiceError::NotFound(Thing::Restore);
        let is_short = |item: &CheckedItem| item.what.len() <= CHECKED && item.found.len() <= CHECKED;
        let row = self.records.write(|on| {
            let mut row = RestoreRow::by_id(id, on)?.ok_or_else(missing)?;
            let line = WorkstationLine::by_id(&row.workstation_id, on)?.ok_or_else(missing)?;
            caller.may(&act(&line)).map_err(|_| missing())?;
            if caller.is_workstation() && row.by != caller.name() {
                return Err(ServiceError::NotAllowed);
            }
            if found.items.is_empty() || found.items.len() > MOST_CHECKED || !found.items.iter().all(is_short) {
                return Err(Invalid::NotAChecklist.into());
            }
            if row.purpose.0 != Purpose::Restore || row.ended.is_none() || !row.check_off(found, on)? {
                return Err(ServiceError::Conflict(Conflict::NotToBeChecked));
            }
            let subject = format!("{} point {}", line.workstation.name, row.sequence.get());
            self.trail.note(caller, "restore checked off", &subject, on)?;
            row.checklist = Some(InJson(found.clone()));
            Ok::<_, ServiceError>(row)
        })?;
        Ok(self.tell_restore(&row))
    }

    fn current_restore(&self, caller: &Caller, id: &RestoreId) -> Result<RestoreRow> {
        let missing = || ServiceError::NotFound(Thing::Restore);
        let row = self.records.read(|on| Ok::<_, ServiceError>(RestoreRow::by_id(id, on)?))?.ok_or_else(missing)?;
        let line = self.storage.line(caller, &row.workstation_id).map_err(|_| missing())?;
        caller.may(&act(&line))?;
        if row.outcome.0 == Outcome::Underway { Ok(row) } else { Err(ServiceError::Conflict(Conflict::RestoreEnded)) }
    }

    fn set_restore_progress(&self, row: &mut RestoreRow, progress: &Progress) -> Result<()> {
        row.files_done = to_db(progress.files_done)?;
        row.files_total = progress.files_total.map(to_db).transpose()?;
        row.bytes_done = to_db(progress.bytes_done)?;
        row.bytes_total = progress.bytes_total.map(to_db).transpose()?;
        row.sent = to_db(progress.sent)?;
        row.last_heard = self.clock.now();
        Ok(())
    }

    /// Puts the end of a restore on record; that of a drill says something of the image store, too.
    fn end_on_record(&self, row: &RestoreRow, outcome: Outcome) -> Result<Restore> {
        let now = self.clock.now();
        self.records.write(|on| {
            if !row.update_if_underway(on)? {
                return Err(ServiceError::Conflict(Conflict::RestoreEnded));
            }
            let store = WorkstationLine::by_id(&row.workstation_id, on)?.map(|line| line.store.id);
            match (row.purpose.0, store, outcome) {
                (Purpose::Drill, Some(store), Outcome::Complete) => StoreRow::set_drilled(&store, now, row.sequence, on)?,
                // One that could not be done, for the network or the machine, says nothing of the image store.
                (Purpose::Drill, Some(store), Outcome::CompleteWithExceptions) => {
                    StoreRow::set_drill_failed(&store, now, on)?;
                }
                _ => {}
            }
            Ok::<_, ServiceError>(())
        })?;
        if row.purpose.0 == Purpose::Drill {
            self.events.workstation_changed(&row.workstation_id);
        }
        Ok(self.tell_restore(row))
    }

    fn save_restore(&self, row: &RestoreRow) -> Result<Restore> {
        if !self.records.write(|on| Ok::<_, ServiceError>(row.update_if_underway(on)?))? {
            return Err(ServiceError::Conflict(Conflict::RestoreEnded));
        }
        Ok(self.tell_restore(row))
    }

    fn tell_restore(&self, row: &RestoreRow) -> Restore {
        let restore = convert::restore(row, self.clock.now());
        self.events.tell(Event::Restore { restore: restore.clone() });
        restore
    }
}

/// What somebody must be allowed to who puts a restore or a drill on record. A drill is believed of whoever may read the image store: it may be done on
/// another machine, with a secret of a person or the office key, and is on record with who did it and from where.
fn act(line: &WorkstationLine) -> Act<'_> {
    Act::ReadStore { workstation: line.workstation.id.as_str(), owner: line.account.id.as_str() }
}

/// In the audit log.
fn begun(purpose: Purpose) -> &'static str {
    match purpose {
        Purpose::Restore => "restore begun",
        Purpose::Drill => "drill begun",
        Purpose::Attach => "disk attached",
        Purpose::Mount => "point mounted",
        Purpose::Export => "export begun",
        Purpose::Browse => "point browsed",
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::restore::{CheckState, Purpose, Scope};

    use super::*;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::office_with_points;

    #[test]
    fn a_restore_is_on_record_with_who_asked_and_ends_once() {
        let (office, machine) = office_with_points([b"one"]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let begin = |point| BeginRestore { point, scope: Scope::Selection, purpose: Purpose::Restore, target: None, order: None };
        assert!(backups.begin_restore(&office.ingrid, id, &begin(2)).is_err(), "there is no such point");
        let restore = backups.begin_restore(&office.ingrid, id, &begin(1)).expect("begun");
        let end = EndRestore { progress: Progress::default(), exceptions: 0 };
        backups.end_restore(&office.ingrid, &restore.id, &end).expect("ended");
        let late = GiveUp { stopped: true, reason: "late".into(), progress: Progress::default() };
        let late = backups.give_up_restore(&office.ingrid, &restore.id, &late);
        assert!(matches!(late, Err(ServiceError::Conflict(Conflict::RestoreEnded))));
        let listed = backups.restores(&office.ingrid, id, &PageQuery::default()).expect("listed").items;
        let shown: Vec<_> = listed.iter().map(|restore| (restore.by.as_str(), restore.outcome)).collect();
        assert_eq!(shown, [("ingrid", Outcome::Complete)]);
    }

    #[test]
    fn a_report_of_progress_does_not_undo_that_somebody_cancelled() {
        let (office, machine) = office_with_points([b"one"]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let begin = BeginRestore { point: 1, scope: Scope::Selection, purpose: Purpose::Export, target: None, order: None };
        let restore = backups.begin_restore(&machine.caller, id, &begin).expect("begun");
        let read_before = backups.current_restore(&machine.caller, &restore.id).expect("underway");
        let cancelled = backups.cancel_restore(&office.ingrid, &restore.id).expect("cancelled");
        assert_eq!((cancelled.outcome, cancelled.cancelled_by.as_deref()), (Outcome::Underway, Some("ingrid")));
        backups.save_restore(&read_before).expect("a report that was under way meanwhile");
        let heard = backups.restore_progress(&machine.caller, &restore.id, &Progress::default()).expect("the next one");
        assert_eq!(heard.cancelled_by.as_deref(), Some("ingrid"));
        let end = GiveUp { stopped: true, reason: "it was cancelled".into(), progress: Progress::default() };
        backups.give_up_restore(&machine.caller, &restore.id, &end).expect("ended");
        let late = backups.cancel_restore(&office.ingrid, &restore.id);
        assert!(matches!(late, Err(ServiceError::Conflict(Conflict::RestoreEnded))));
    }

    #[test]
    fn a_restore_that_has_ended_is_checked_off_once_and_by_no_workstation_for_somebody_else() {
        let (office, machine) = office_with_points([b"one"]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let list = |found: &str| CheckedOff {
            items: vec![CheckedItem { what: "Entries".into(), state: CheckState::Right, found: found.into() }],
        };
        let begin = |purpose| BeginRestore { point: 1, scope: Scope::Everything, purpose, target: None, order: None };
        let restore = backups.begin_restore(&office.ingrid, id, &begin(Purpose::Restore)).expect("begun");
        let early = backups.check_off(&office.ingrid, &restore.id, &list("all"));
        assert!(matches!(early, Err(ServiceError::Conflict(Conflict::NotToBeChecked))));
        let end = EndRestore { progress: Progress::default(), exceptions: 0 };
        backups.end_restore(&office.ingrid, &restore.id, &end).expect("ended");
        assert!(matches!(backups.check_off(&machine.caller, &restore.id, &list("all")), Err(ServiceError::NotAllowed)));
        for wrong in [CheckedOff { items: Vec::new() }, list(&"all ".repeat(200))] {
            let refused = backups.check_off(&office.ingrid, &restore.id, &wrong);
            assert!(matches!(refused, Err(ServiceError::Invalid(Invalid::NotAChecklist))));
        }
        let checked = backups.check_off(&office.ingrid, &restore.id, &list("all")).expect("checked off");
        assert_eq!(checked.checklist, Some(list("all")));
        let again = backups.check_off(&office.ingrid, &restore.id, &list("none"));
        assert!(matches!(again, Err(ServiceError::Conflict(Conflict::NotToBeChecked))));
        let drill = backups.begin_restore(&machine.caller, id, &begin(Purpose::Drill)).expect("begun");
        backups.end_restore(&machine.caller, &drill.id, &end).expect("ended");
        let no_restore = backups.check_off(&machine.caller, &drill.id, &list("all"));
        assert!(matches!(no_restore, Err(ServiceError::Conflict(Conflict::NotToBeChecked))));
    }

    #[test]
    fn what_holds_a_workstations_credential_cancels_nobody_elses_restore() {
        let (office, machine) = office_with_points([b"one"]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let begin = BeginRestore { point: 1, scope: Scope::Selection, purpose: Purpose::Browse, target: None, order: None };
        let restore = backups.begin_restore(&office.ingrid, id, &begin).expect("begun");
        assert!(matches!(backups.cancel_restore(&machine.caller, &restore.id), Err(ServiceError::NotAllowed)));
        let liv = office.person("liv", Role::Member);
        assert!(matches!(backups.cancel_restore(&liv, &restore.id), Err(ServiceError::NotFound(Thing::Restore))));
    }

    #[test]
    fn a_report_has_what_began_in_its_period_page_by_page_and_members_do_not_see_it() {
        let (office, machine) = office_with_points([b"one"]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let begin = |who: &Caller, purpose| {
            let begin = BeginRestore { point: 1, scope: Scope::Selection, purpose, target: None, order: None };
            let restore = backups.begin_restore(who, id, &begin).expect("begun");
            office.pass(3_600_000);
            restore
        };
        let first = begin(&office.ingrid, Purpose::Restore);
        let drill = begin(&machine.caller, Purpose::Drill);
        let last = begin(&office.ingrid, Purpose::Export);
        let report = |query: RestoreQuery| {
            let page = backups.restore_report(&office.ingrid, &query).expect("seen");
            (page.items.iter().map(|line| line.restore.id.clone()).collect::<Vec<_>>(), page.next)
        };
        let all = report(RestoreQuery::default());
        assert_eq!(all, (vec![last.id.clone(), drill.id.clone(), first.id.clone()], None));
        let within = RestoreQuery { since: Some(drill.started), until: Some(last.started), ..RestoreQuery::default() };
        assert_eq!(report(within).0, std::slice::from_ref(&drill.id));
        assert_eq!(
            report(RestoreQuery { purpose: Some(Purpose::Drill), ..RestoreQuery::default() }).0,
            std::slice::from_ref(&drill.id)
        );
        let (shown, next) = report(RestoreQuery { most: Some(2), ..RestoreQuery::default() });
        assert_eq!(shown, [last.id, drill.id]);
        assert_eq!(report(RestoreQuery { after: next, most: Some(2), ..RestoreQuery::default() }), (vec![first.id], None));
        let ona = office.person("ona", Role::Member);
        assert!(matches!(backups.restore_report(&ona, &RestoreQuery::default()), Err(ServiceError::NotAllowed)));
    }

    #[test]
    fn one_member_does_not_restore_what_another_has() {
        let office = Office::open();
        office.destination("shelf");
        office.person("tove", Role::Member);
        let liv = office.person("liv", Role::Member);
        let mut machine = office.machine("tove", "front desk");
        machine.back_up(&office, b"one").expect("a point");
        let begin = BeginRestore { point: 1, scope: Scope::Everything, purpose: Purpose::Restore, target: None, order: None };
        let refused = office.services.backups.begin_restore(&liv, &machine.enrolled.workstation, &begin);
        assert!(matches!(refused, Err(ServiceError::NotFound(Thing::Workstation))), "{refused:?}");
    }
}
