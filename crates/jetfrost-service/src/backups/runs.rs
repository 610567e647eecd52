//! Runs: from their beginning to the commit of their point.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};

use jetfrost_image::format::PointFile;
use jetfrost_image::store::{Store, StoreError};
use jetfrost_office::access::Act;
use jetfrost_office::pace::Pace;
use jetfrost_types::{RunId, WorkstationId};
use jetfrost_wire::Binary;
use jetfrost_wire::event::Event;
use jetfrost_wire::run::{BeginRun, CommitPoint, GiveUp, Outcome, Phase, PointCommitted, Progress, Run, RunBegun};
use jetfrost_wire::workstation::PointKind;

use crate::backups::Backups;
use crate::backups::enrolment::shortened;
use crate::backups::uploads::Upload;
use crate::clock::Moment;
use crate::identity::grants::has_access;
use crate::records::{Connection, Count, Id, NewRun, PointRow, RunRow, StoreRow, WorkstationLine, WorkstationRow};
use crate::secrets::new_id;
use crate::shared::{Caller, Conflict, Invalid, Result, ServiceError, Thing, Traffic, bounds, convert, to_db};
use crate::storage::points;
use crate::storage::points::{NewPoint, insert_point, suspicion_of};

/// A point's body refers to its lists, it does not hold them.
const MOST_POINT: usize = 1 << 20;

impl Backups {
    /// Begins a run. One that is underway for the same workstation is over: its client is gone, for a workstation has one at a time.
    pub(crate) fn begin_run(&self, caller: &Caller, id: &WorkstationId, begin: &BeginRun) -> Result<RunBegun> {
        let line = self.storage.line(caller, id)?;
        caller.may(&Act::AddToStore { workstation: line.workstation.id.as_str() })?;
        self.gate.check_backups()?;
        self.takes_backups(&line)?;
        self.identity.accepted(&line.workstation.id);
        self.admit(&line)?;
        let begun = self.begin_admitted(&line, begin);
        if begun.is_err() {
            self.run_is_over(&line.workstation.id);
        }
        begun
    }

    fn begin_admitted(&self, line: &WorkstationLine, begin: &BeginRun) -> Result<RunBegun> {
        self.pace(&self.runs_begun, Traffic::Backups, line.workstation.id.as_str())?;
        let (_, store) = self.storage.open_store(line)?;
        store.continue_behind(line.store.latest_sequence.unwrap_or_default().get());
        store.end_run();
        store.begin_run();
        self.storage.record_points_on_shelf(line, &store)?;
        self.storage.note_points_off_the_shelf(line, &store)?;
        let latest = store.latest_sound()?;
        let of_kind = self.latest_of_kind(line, &store, begin.kind)?;
        let damaged_points = self.damaged_behind(line, &store, latest.as_ref().map_or(0, |head| head.sequence))?;
        let lost = self.retention.lost_for_run(line, &store)?;
        let (schedule, _) = line.schedule();
        let row = self.records.write(|on| self.insert_run(line, begin, on))?;
        let run = convert::run(&row, self.clock.now());
        self.events.tell(Event::Run { run: run.clone() });
        Ok(RunBegun {
            run,
            store: line.store.id.0.clone(),
            sequence: store.next_sequence(),
            latest: latest.map(|latest| store.point(latest.sequence).map(Binary)).transpose()?,
            latest_of_kind: of_kind.map(|sequence| store.point(sequence).map(Binary)).transpose()?,
            store_is_empty: store.is_empty(),
            lost: lost.names,
            damaged_points,
            lost_more: lost.more,
            rate: schedule.rate,
            exclude: schedule.exclude,
        })
    }

    /// Refuses when the destination is withdrawn, not open to the workstation's account, or the image store was removed.
    pub(crate) fn takes_backups(&self, line: &WorkstationLine) -> Result<()> {
        if line.store.removal.is_some() {
            return Err(ServiceError::Conflict(Conflict::StorePendingRemoval));
        }
        if line.destination.withdrawn.is_some() {
            return Err(ServiceError::Withdrawn(line.destination.name.clone()));
        }
        self.records.read(|on| has_access(&line.account, &line.destination, on))
    }

    /// The one gate for all that a workstation writes: it has a run underway, which was accepted when it began, and its destination
    /// still takes its backups.
    pub(crate) fn may_write_now(&self, line: &WorkstationLine) -> Result<()> {
        let underway = line.latest_run.as_ref().filter(|run| run.outcome.0 == Outcome::Underway);
        match underway {
            Some(run) if !jetfrost_office::freshness::is_lost(run.last_heard.ms(), self.clock.now_ms()) => {
                self.takes_backups(line)
            }
            _ => Err(ServiceError::RunOver),
        }
    }

    /// Points behind the latest sound one that are damaged or lost.
    fn damaged_behind(&self, line: &WorkstationLine, store: &Store, latest: u64) -> Result<Vec<u64>> {
        let on_media: BTreeSet<u64> = store.points().into_iter().collect();
        let mut damaged = store.damaged_behind(latest)?;
        damaged
            .extend(points::lost(&self.storage.point_rows(line)?, &on_media).into_iter().filter(|sequence| *sequence > latest));
        Ok(damaged.into_iter().collect())
    }

    /// Refuses when there were too many beginnings within this hour.
    pub(crate) fn pace(&self, pace: &Mutex<Pace>, what: Traffic, who: &str) -> Result<()> {
        let begun = pace.lock().unwrap_or_else(PoisonError::into_inner).begin(who, self.clock.now_ms());
        begun.map_err(|early| ServiceError::TooOften { what, wait_seconds: early.unsigned_abs().div_ceil(1000) })
    }

    /// The latest point of a kind that is as it was committed.
    fn latest_of_kind(&self, line: &WorkstationLine, store: &Store, kind: PointKind) -> Result<Option<u64>> {
        let rows = self.storage.point_rows(line)?;
        let of_kind = rows.iter().filter(|row| row.kind.0 == kind).map(|row| row.sequence.get());
        for sequence in of_kind {
            match store.point_head(sequence) {
                Ok(_) => return Ok(Some(sequence)),
                Err(error @ StoreError::Medium { .. }) => return Err(error.into()),
                Err(_) => {}
            }
        }
        Ok(None)
    }

    fn insert_run(&self, line: &WorkstationLine, begin: &BeginRun, on: &mut Connection) -> Result<RunRow> {
        let now = self.clock.now();
        if let Some(mut earlier) = line.latest_run.clone().filter(|run| run.outcome.0 == Outcome::Underway) {
            end(&mut earlier, Outcome::Lost, Some("the next run began before this one ended"), now);
            if earlier.update_if_underway(on)? {
                WorkstationRow::count_failure(&line.workstation.id, on)?;
            }
        }
        let new = NewRun {
            id: Id(new_id(&*self.random)),
            workstation_id: line.workstation.id.clone(),
            outcome: Outcome::Underway.into(),
            phase: Phase::default().into(),
            files_done: Count::ZERO,
            bytes_done: Count::ZERO,
            sent: Count::ZERO,
            started: now,
            last_heard: now,
            changed_while_read: Count::ZERO,
            unreadable: Count::ZERO,
            disappeared: Count::ZERO,
        };
        let row = RunRow::insert(&new, on)?;
        WorkstationRow::set_latest_run(&line.workstation.id, row.number, on)?;
        WorkstationRow::forget_asked(&line.workstation.id, on)?;
        WorkstationRow::set_seen(&line.workstation.id, now, &shortened(&begin.client_version, bounds::VERSION), on)?;
        Ok(row)
    }

    /// Notes how far a run is.
    pub(crate) fn progress(&self, caller: &Caller, id: &RunId, progress: &Progress) -> Result<Run> {
        let (line, mut row) = self.current_run(caller, id)?;
        let now = self.clock.now();
        set_progress(&mut row, progress)?;
        row.last_heard = now;
        self.records.write(|on| {
            still_underway(row.update_if_underway(on)?)?;
            Ok::<_, ServiceError>(WorkstationRow::set_seen(&line.workstation.id, now, &line.workstation.client_version, on)?)
        })?;
        Ok(self.tell_run(&row))
    }

    /// Where the needs of a run's point go.
    pub(crate) fn upload_of_run(&self, caller: &Caller, id: &RunId) -> Result<Upload> {
        let (line, _) = self.current_run(caller, id)?;
        self.may_write_now(&line)?;
        Ok(Upload { store: self.storage.open_store(&line)?.1, line, arrived: self.admission.arrived() })
    }

    /// Commits the point of a run. Asked a second time for the same point, it answers as the first time.
    pub(crate) fn commit(&self, caller: &Caller, id: &RunId, commit: &CommitPoint) -> Result<PointCommitted> {
        let (line, mut row) = self.run(caller, id)?;
        let (_, store) = self.storage.open_store(&line)?;
        if row.outcome.0 != Outcome::Underway {
            return self.committed_before(&line, &row, &store, commit);
        }
        self.may_write_now(&line)?;
        check_bounds(commit)?;
        let going = self.retention.room_to_make(&line, &store)?;
        let head = match store.commit_point(&commit.point.0, self.clock.now_ms()) {
            Err(StoreError::OutOfOrder { found, .. }) if store.point(found).is_ok_and(|bytes| bytes == commit.point.0) => {
                store.point_head(found)?
            }
            other => other?,
        };
        let outcome = if head.exceptions == 0 { Outcome::Complete } else { Outcome::CompleteWithExceptions };
        set_progress(&mut row, &commit.progress)?;
        row.changed_while_read = to_db(commit.exceptions.changed_while_read)?;
        row.unreadable = to_db(commit.exceptions.unreadable)?;
        row.disappeared = to_db(commit.exceptions.disappeared)?;
        row.sequence = Some(to_db(head.sequence)?);
        let committed = self.storage.committed_at(&store, head.sequence)?;
        end(&mut row, outcome, None, self.clock.now());
        let suspicion = suspicion_of(&store, &head, self.storage.good_before(&line, &head)?);
        let new = NewPoint { head: &head, committed, run: Some(row.number), sent: row.sent, suspicion };
        self.records.write(|on| {
            // The point is there, whatever became of the run meanwhile: it is recorded in any case.
            row.update_if_underway(on)?;
            WorkstationRow::forget_failures(&line.workstation.id, on)?;
            StoreRow::set_occupied(&line.store.id, to_db(store.used())?, on)?;
            insert_point(&line.store.id, &new, on)
        })?;
        if let Err(error) = self.retention.make_room(&line, &store, &going) {
            // The point is there; what has to go is looked at again with the next one.
            tracing::error!(%error, workstation = line.workstation.name, "making room");
        }
        if line.store.lost_chunks > Count::ZERO
            // The run may have brought what was lost.
            && let Err(error) = self.retention.note_lost_chunks(&line, &store)
        {
            tracing::error!(%error, workstation = line.workstation.name, "looking what is lost");
        }
        self.run_is_over(&line.workstation.id);
        let run = self.tell_run(&row);
        self.events.workstation_changed(&line.workstation.id);
        self.committed(&line, &row, run)
    }

    /// The answer to a commit whose first answer was lost on the way.
    fn committed_before(
        &self,
        line: &WorkstationLine,
        row: &RunRow,
        store: &Store,
        commit: &CommitPoint,
    ) -> Result<PointCommitted> {
        let same = row.sequence.is_some_and(|s| store.point(s.get()).is_ok_and(|bytes| bytes == commit.point.0));
        if same { self.committed(line, row, convert::run(row, self.clock.now())) } else { Err(ServiceError::RunOver) }
    }

    fn committed(&self, line: &WorkstationLine, row: &RunRow, run: Run) -> Result<PointCommitted> {
        let sequence = row.sequence.unwrap_or_default();
        let point = self.records.read(|on| Ok::<_, ServiceError>(PointRow::find(&line.store.id, sequence, on)?))?;
        Ok(PointCommitted { point: convert::point(&point.ok_or(ServiceError::NotFound(Thing::Point))?), run })
    }

    /// Ends a run that made no point.
    pub(crate) fn give_up_run(&self, caller: &Caller, id: &RunId, why: &GiveUp) -> Result<Run> {
        let (line, mut row) = self.current_run(caller, id)?;
        let outcome = if why.stopped { Outcome::Stopped } else { Outcome::Failed };
        set_progress(&mut row, &why.progress)?;
        end(&mut row, outcome, Some(&why.reason), self.clock.now());
        self.records.write(|on| {
            still_underway(row.update_if_underway(on)?)?;
            if outcome == Outcome::Failed {
                WorkstationRow::count_failure(&line.workstation.id, on)?;
            }
            Ok::<_, ServiceError>(())
        })?;
        self.run_is_over(&line.workstation.id);
        self.storage.open_store(&line)?.1.end_run();
        Ok(self.tell_run(&row))
    }

    /// Runs and restores that were underway and stopped reporting are lost, for good.
    pub(crate) fn note_lost(&self) -> Result<()> {
        let now = self.clock.now();
        let underway = Outcome::Underway.word();
        let lost = self.records.write(|on| {
            let mut lost = Vec::new();
            for mut row in RunRow::with_outcome(underway, on)? {
                if jetfrost_office::freshness::is_lost(row.last_heard.ms(), now.ms()) {
                    let heard = row.last_heard;
                    end(&mut row, Outcome::Lost, Some("nothing was heard of it any more"), heard);
                    if row.update_if_underway(on)? {
                        WorkstationRow::count_failure(&row.workstation_id, on)?;
                        lost.push(row.workstation_id);
                    }
                }
            }
            for mut row in crate::records::RestoreRow::with_outcome(underway, on)? {
                if jetfrost_office::freshness::is_lost(row.last_heard.ms(), now.ms()) {
                    row.outcome = Outcome::Lost.into();
                    row.ended = Some(row.last_heard);
                    row.update_if_underway(on)?;
                }
            }
            Ok::<_, ServiceError>(lost)
        })?;
        lost.iter().for_each(|id| self.run_is_over(id));
        Ok(())
    }

    fn run(&self, caller: &Caller, id: &RunId) -> Result<(WorkstationLine, RunRow)> {
        let row =
            self.records.read(|on| Ok::<_, ServiceError>(RunRow::by_id(id, on)?))?.ok_or(ServiceError::NotFound(Thing::Run))?;
        let line = self.storage.line(caller, &row.workstation_id).map_err(|_| ServiceError::NotFound(Thing::Run))?;
        caller.may(&Act::AddToStore { workstation: line.workstation.id.as_str() })?;
        Ok((line, row))
    }

    fn current_run(&self, caller: &Caller, id: &RunId) -> Result<(WorkstationLine, RunRow)> {
        let (line, row) = self.run(caller, id)?;
        if row.outcome.0 == Outcome::Underway { Ok((line, row)) } else { Err(ServiceError::RunOver) }
    }

    fn tell_run(&self, row: &RunRow) -> Run {
        let run = convert::run(row, self.clock.now());
        self.events.tell(Event::Run { run: run.clone() });
        run
    }
}

/// What a point says of itself must fit the records and the next run's answer: checked before it is committed, since afterwards it
/// is there.
fn check_bounds(commit: &CommitPoint) -> Result<()> {
    if commit.point.0.len() > MOST_POINT {
        return Err(Invalid::PointTooLong(MOST_POINT).into());
    }
    let head = PointFile::from_bytes(&commit.point.0).map_err(StoreError::from)?.head;
    let exceptions = &commit.exceptions;
    let numbers = [head.sequence, head.files, head.bytes, head.exceptions, head.needed, exceptions.changed_while_read];
    let of_changes = head.changes.map(|changes| changes.counts()).unwrap_or_default();
    let mut all = numbers.into_iter().chain([exceptions.unreadable, exceptions.disappeared]).chain(of_changes);
    all.try_for_each(|n| to_db(n).map(drop))
}

fn still_underway(written: bool) -> Result<()> {
    if written { Ok(()) } else { Err(ServiceError::RunOver) }
}

fn set_progress(row: &mut RunRow, progress: &Progress) -> Result<()> {
    row.phase = progress.phase.into();
    row.files_done = to_db(progress.files_done)?;
    row.files_total = progress.files_total.map(to_db).transpose()?;
    row.bytes_done = to_db(progress.bytes_done)?;
    row.bytes_total = progress.bytes_total.map(to_db).transpose()?;
    row.sent = to_db(progress.sent)?;
    Ok(())
}

fn end(row: &mut RunRow, outcome: Outcome, reason: Option<&str>, at: Moment) {
    row.outcome = outcome.into();
    row.reason = reason.map(|reason| reason.chars().take(bounds::WHY_A_RUN_ENDED).collect());
    row.ended = Some(at);
    row.last_heard = at;
}

#[cfg(test)]
mod tests {
    use jetfrost_wire::PageQuery;

    use super::*;
    use crate::records::Ended;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::{Machine, office_with_points};

    fn office() -> (Office, Machine) {
        office_with_points([])
    }

    #[test]
    fn a_commit_whose_answer_was_lost_is_answered_again_and_makes_no_second_point() {
        let (office, mut machine) = office();
        let run = machine.begin(&office).expect("begun");
        machine.send(&office, b"one").expect("sent");
        let commit = machine.close(&office, &run).expect("closed");
        let backups = &office.services.backups;
        let (first, again) =
            (backups.commit(&machine.caller, &run.run.id, &commit), backups.commit(&machine.caller, &run.run.id, &commit));
        assert_eq!(first.expect("committed").point, again.expect("the same").point);
        let points = backups.points(&office.ingrid, &machine.enrolled.workstation, &PageQuery::default()).expect("listed");
        assert_eq!(points.items.len(), 1);
    }

    #[test]
    fn a_later_run_ends_the_earlier_one_which_commits_nothing_any_more() {
        let (office, mut machine) = office();
        let earlier = machine.begin(&office).expect("begun");
        machine.send(&office, b"one").expect("sent");
        let commit = machine.close(&office, &earlier).expect("closed");
        let later = machine.begin(&office).expect("begun");
        let backups = &office.services.backups;
        assert!(matches!(backups.commit(&machine.caller, &earlier.run.id, &commit), Err(ServiceError::RunOver)));
        assert!(matches!(backups.progress(&machine.caller, &earlier.run.id, &Progress::default()), Err(ServiceError::RunOver)));
        let runs = backups.runs(&office.ingrid, &machine.enrolled.workstation, &PageQuery::default()).expect("listed").items;
        let outcomes: Vec<_> = runs.iter().map(|run| (&run.id, run.outcome)).collect();
        assert_eq!(outcomes, [(&later.run.id, Outcome::Underway), (&earlier.run.id, Outcome::Lost)]);
    }

    #[test]
    fn a_run_that_stops_reporting_is_lost_and_what_it_sent_is_not_sent_again() {
        let (office, mut machine) = office();
        let run = machine.begin(&office).expect("begun");
        machine.send(&office, b"one").expect("sent");
        office.pass(24 * 3_600_000);
        let backups = &office.services.backups;
        backups.note_lost().expect("noted");
        assert!(matches!(machine.send(&office, b"two"), Err(ServiceError::RunOver)));
        let runs = backups.runs(&office.ingrid, &machine.enrolled.workstation, &PageQuery::default()).expect("listed").items;
        assert_eq!((&runs[0].id, runs[0].outcome), (&run.run.id, Outcome::Lost));
        assert!(!machine.begin(&office).expect("begun").store_is_empty, "the chunk is there");
    }

    #[test]
    fn a_workstation_that_begins_run_after_run_is_told_to_wait() {
        let (office, machine) = office();
        let refused = (0..1_000).find_map(|_| machine.begin(&office).err()).expect("a bound");
        assert!(matches!(refused, ServiceError::TooOften { what: Traffic::Backups, wait_seconds } if wait_seconds <= 3600));
        office.pass(3_600_000);
        machine.begin(&office).expect("an hour later");
    }

    #[test]
    fn another_workstation_and_a_retired_one_add_nothing() {
        let (office, mut machine) = office();
        let mut other = office.machine("tove", "back office");
        let run = machine.begin(&office).expect("begun");
        let progress = office.services.backups.progress(&other.caller, &run.run.id, &Progress::default());
        assert!(matches!(progress, Err(ServiceError::NotFound(Thing::Run) | ServiceError::NotAllowed)), "{progress:?}");
        office.services.backups.retire(&office.ingrid, &other.enrolled.workstation).expect("retired");
        assert!(matches!(office.device(&other.enrolled), Err(ServiceError::FormerDevice { ended: Ended::Retired, .. })));
        machine.back_up(&office, b"one").expect("the other goes on");
        assert!(other.send(&office, b"late").is_err(), "a connection from before the retirement");
    }
}
