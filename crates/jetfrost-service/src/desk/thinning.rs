//! Thinning: which points go by the rule or after their waiting time, and that they go.

use std::collections::BTreeSet;

use jetfrost_image::store::{GoOn, Store, Tidied, Tidying};
use jetfrost_office::access::Act;
use jetfrost_office::retention::{Fate, Kind, PointFacts, Reason, Rule, fates};
use jetfrost_wire::job::{Job, JobKind};
use jetfrost_wire::keeping::{Keeping, PointFate, StayReason, ThinningPreview};
use jetfrost_wire::run::Outcome;

use super::convert::{self, from_db};
use super::{Caller, Desk, DeskError, Result, to_db};
use crate::clock::timestamp;
use crate::records::{PointRow, StoreRow, WorkstationLine};

/// A store's points are judged together; there are as many as the rule keeps.
const ALL: usize = 1_000_000;
/// All workstations of the office.
const ALL_STORES: usize = 100_000;

/// What is kept of a workstation's points: by its own word, or by its destination's.
pub(super) fn keeping(line: &WorkstationLine) -> Keeping {
    convert::keeping(line.store.keeping.as_ref().unwrap_or(&line.destination.keeping))
}

pub(super) fn rule(line: &WorkstationLine) -> Option<Rule> {
    keeping(line).rule().map(|rule| Rule {
        hours: rule.hours,
        days: rule.days,
        weeks: rule.weeks,
        months: rule.months,
        years: rule.years,
        at_least: rule.at_least,
    })
}

pub(super) fn facts(points: &[PointRow]) -> Vec<PointFacts> {
    let fact = |row: &PointRow| PointFacts {
        sequence: from_db(row.sequence),
        kind: if row.kind == convert::DISK { Kind::Disk } else { Kind::Files },
        created_ms: row.created,
        complete: row.exceptions == 0,
        held: row.held.is_some(),
    };
    points.iter().map(fact).collect()
}

impl Desk {
    /// What the next thinning would do.
    pub(crate) fn preview_thinning(&self, caller: &Caller, store: &str) -> Result<ThinningPreview> {
        let line = self.line_to_see(caller, store)?;
        let rows = self.point_rows(&line)?;
        let fates = self.fates(&line, &rows);
        let going = going(&rows, &fates);
        let (_, store) = self.open_store(&line)?;
        let on_shelf: BTreeSet<u64> = store.points().into_iter().collect();
        let freed = store.room_freed_by(&going.intersection(&on_shelf).copied().collect())?;
        let points = rows.iter().zip(&fates).map(|(row, fate)| point_fate(row, fate)).collect();
        Ok(ThinningPreview { keeping: keeping(&line), points, freed_chunks: freed.chunks, freed_bytes: freed.bytes })
    }

    /// Begins a thinning now.
    pub(crate) fn begin_thinning(&self, caller: &Caller, store: &str) -> Result<Job> {
        caller.may(&Act::ChangeOffice)?;
        let line = self.line_to_see(caller, store)?;
        self.enqueue(JobKind::Thinning, &line, &caller.name())
    }

    /// Asks for all work that is due by now.
    pub(crate) fn tend(&self) -> Result<()> {
        self.reconcile()?;
        self.tend_erasures()?;
        self.tend_own_records()?;
        let lines = self.records.read(|on| Ok::<_, DeskError>(WorkstationLine::list(None, "", ALL_STORES, on)?))?;
        let now = self.now();
        for line in &lines {
            if line.store.leaves.is_some_and(|leaves| leaves <= now) {
                self.enqueue_due(JobKind::Removal, line)?;
            } else {
                let rows = self.point_rows(line)?;
                // Room that is only to be given back can wait for the end of a run.
                let is_untidy = line.store.untidy && !is_underway(line);
                if is_untidy || !going(&rows, &self.fates(line, &rows)).is_empty() {
                    self.enqueue_due(JobKind::Thinning, line)?;
                }
                if self.is_scrub_due(line) {
                    self.enqueue_due(JobKind::Scrub, line)?;
                }
            }
        }
        Ok(())
    }

    /// Lets go what is due and gives the room back. Returns how many points went.
    pub(super) fn thin(&self, line: &WorkstationLine, go_on: GoOn<'_>) -> Result<(usize, Tidied)> {
        let (_, store) = self.open_store(line)?;
        self.note_points_off_the_shelf(line, &store)?;
        let rows = self.point_rows(line)?;
        let going = going(&rows, &self.fates(line, &rows));
        self.take_points(line, &store, &going, "its time was over")?;
        if forgot_its_run(line, &store) {
            // The room comes back after that run; the store stays marked as untidy until then.
            return Ok((going.len(), Tidied::default()));
        }
        let last_run_ended_well = line
            .latest_run
            .as_ref()
            .is_none_or(|run| [Outcome::Complete.word(), Outcome::CompleteWithExceptions.word()].contains(&run.outcome.as_str()));
        let how = Tidying { drop_unfinished: last_run_ended_well, ..Tidying::default() };
        let tidied = store.tidy(&how, go_on)?;
        self.records.write(|on| Ok::<_, DeskError>(StoreRow::set_untidy(&line.store.id, false, on)?))?;
        self.workstation_changed(&line.workstation.id);
        Ok((going.len(), tidied))
    }

    /// Removes points from the shelf, then notes in the records that they are gone and why.
    pub(super) fn take_points(&self, line: &WorkstationLine, store: &Store, going: &BTreeSet<u64>, why: &str) -> Result<()> {
        if going.is_empty() {
            return Ok(());
        }
        // Noted first: should this be cut off, the rest is done at the next opportunity.
        self.records.write(|on| Ok::<_, DeskError>(StoreRow::set_untidy(&line.store.id, true, on)?))?;
        store.let_go(going)?;
        self.note_gone(line, going, why)
    }

    /// Points that the shelf let go just before the service was killed.
    pub(super) fn note_points_off_the_shelf(&self, line: &WorkstationLine, store: &Store) -> Result<()> {
        let on_shelf: BTreeSet<u64> = store.points().into_iter().collect();
        let recorded: BTreeSet<u64> = self.point_rows(line)?.iter().map(|row| from_db(row.sequence)).collect();
        self.note_gone(line, &recorded.difference(&on_shelf).copied().collect(), "its time was over")
    }

    fn note_gone(&self, line: &WorkstationLine, gone: &BTreeSet<u64>, why: &str) -> Result<()> {
        let now = self.now();
        self.records.write(|on| {
            for sequence in gone {
                if let Some(mut row) = PointRow::find(&line.store.id, to_db(*sequence)?, on)? {
                    row.gone_why = Some(row.leaving_by.as_ref().map_or_else(|| why.to_owned(), |by| format!("removed by {by}")));
                    row.gone = Some(now);
                    row.update(on)?;
                    StoreRow::take_points(&line.store.id, 1, on)?;
                }
            }
            Ok(())
        })
    }

    pub(super) fn point_rows(&self, line: &WorkstationLine) -> Result<Vec<PointRow>> {
        self.records.read(|on| Ok::<_, DeskError>(PointRow::list(&line.store.id, i64::MAX, ALL, on)?))
    }

    /// What becomes of points: by the rule, by their waiting time, and by a hold on the whole store.
    fn fates(&self, line: &WorkstationLine, rows: &[PointRow]) -> Vec<Fate> {
        let mut facts = facts(rows);
        facts.iter_mut().for_each(|fact| fact.held |= line.store.held.is_some());
        let fates = fates(&facts, rule(line).as_ref(), &self.zone, self.now());
        rows.iter().zip(fates).map(|(row, fate)| self.or_leaving(line, row, fate)).collect()
    }

    fn or_leaving(&self, line: &WorkstationLine, row: &PointRow, by_rule: Fate) -> Fate {
        let is_latest = line.store.latest_sequence == Some(row.sequence);
        let is_held = matches!(by_rule, Fate::Stays { reason: Reason::Held, .. });
        match row.leaves {
            Some(leaves) if leaves <= self.now() && !is_latest && !is_held => Fate::Goes,
            Some(leaves) if leaves > self.now() && by_rule == Fate::Goes => {
                Fate::Stays { reason: Reason::Recent, until_ms: Some(leaves) }
            }
            _ => by_rule,
        }
    }
}

/// Whether a run is under way that counts on promises which a restart of the service made it forget.
pub(super) fn forgot_its_run(line: &WorkstationLine, store: &Store) -> bool {
    is_underway(line) && !store.knows_of_run()
}

fn is_underway(line: &WorkstationLine) -> bool {
    line.latest_run.as_ref().is_some_and(|run| run.outcome == Outcome::Underway.word())
}

fn going(rows: &[PointRow], fates: &[Fate]) -> BTreeSet<u64> {
    rows.iter().zip(fates).filter(|(_, fate)| **fate == Fate::Goes).map(|(row, _)| from_db(row.sequence)).collect()
}

fn point_fate(row: &PointRow, fate: &Fate) -> PointFate {
    let (stays, until) = match (fate, row.leaves) {
        (Fate::Goes, _) => (None, None),
        (Fate::Stays { reason, .. }, Some(leaves)) if *reason != Reason::Held => (Some(StayReason::Leaving), Some(leaves)),
        (Fate::Stays { reason, until_ms }, _) => (Some(stay_reason(*reason)), *until_ms),
    };
    PointFate { point: convert::point(row), stays, until: until.map(timestamp) }
}

fn stay_reason(reason: Reason) -> StayReason {
    match reason {
        Reason::Recent => StayReason::Recent,
        Reason::Day => StayReason::Day,
        Reason::Week => StayReason::Week,
        Reason::Month => StayReason::Month,
        Reason::Year => StayReason::Year,
        Reason::AtLeast => StayReason::AtLeast,
        Reason::FromTheFuture => StayReason::FromTheFuture,
        Reason::Latest => StayReason::Latest,
        Reason::Held => StayReason::Held,
    }
}
