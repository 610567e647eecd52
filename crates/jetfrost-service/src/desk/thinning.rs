//! Thinning: which points go by the rule or after their waiting time, and that they go.

use std::collections::BTreeSet;

use jetfrost_image::store::{GoOn, Store, Tidied, Tidying};
use jetfrost_office::access::Act;
use jetfrost_office::protected::Promise;
use jetfrost_office::retention::{Fate, Kind, PointFacts, Reason};
use jetfrost_wire::job::{Job, JobKind};
use jetfrost_wire::keeping::{PointFate, StayReason, ThinningPreview};
use jetfrost_wire::run::Outcome;

use super::convert::{self, from_db};
use super::terms::{keeping, promise};
use super::{Caller, Desk, DeskError, Result, to_db};
use crate::clock::timestamp;
use crate::records::{Connection, PointRow, StoreRow, WorkstationLine};

/// A store's points are judged together; there are as many as the rule keeps.
pub(super) const ALL: usize = 1_000_000;
/// Why points went when a limit was reached.
pub(super) const ROOM: &str = "a limit was reached";
/// All workstations of the office.
pub(super) const ALL_STORES: usize = 100_000;

pub(super) fn facts(points: &[PointRow]) -> Vec<PointFacts> {
    let fact = |row: &PointRow| PointFacts {
        sequence: from_db(row.sequence),
        kind: if row.kind == convert::DISK { Kind::Disk } else { Kind::Files },
        committed_ms: row.committed,
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
        let promise = self.promise(&line)?;
        let fates = self.fates(&line, &rows, &promise);
        let going = going(&rows, &fates);
        let room_from = promise.go_for_room_from(&facts(&rows), self.now());
        let (_, store) = self.open_store(&line)?;
        let on_shelf: BTreeSet<u64> = store.points().into_iter().collect();
        let freed = store.room_freed_by(&going.intersection(&on_shelf).copied().collect())?;
        let keeps_earlier_promises = promise.earlier_still_count(&facts(&rows), &self.zone, self.now());
        let of = |row: &PointRow| room_from.get(&from_db(row.sequence)).copied();
        let points = rows.iter().zip(&fates).map(|(row, fate)| point_fate(row, fate, of(row), self.now())).collect();
        Ok(ThinningPreview {
            keeping: keeping(&line),
            keeps_earlier_promises,
            points,
            freed_chunks: freed.chunks,
            freed_bytes: freed.bytes,
        })
    }

    /// Begins a thinning now.
    pub(crate) fn begin_thinning(&self, caller: &Caller, store: &str) -> Result<Job> {
        caller.may(&Act::ChangeOffice)?;
        let line = self.line_to_see(caller, store)?;
        self.records.write(|on| self.audit(caller, "thinning begun", &line.workstation.name, on))?;
        self.enqueue(JobKind::Thinning, &line, &caller.name())
    }

    /// Asks for all work that is due by now.
    pub(crate) fn tend(&self) -> Result<()> {
        self.reconcile()?;
        self.tend_erasures()?;
        self.tend_own_records()?;
        self.tend_audit()?;
        let lines = self.records.read(|on| Ok::<_, DeskError>(WorkstationLine::list(None, "", ALL_STORES, on)?))?;
        let now = self.now();
        for line in &lines {
            if line.store.leaves.is_some_and(|leaves| leaves <= now) {
                self.enqueue_due(JobKind::Removal, line)?;
            } else {
                let rows = self.point_rows(line)?;
                // Room that is only to be given back can wait for the end of a run.
                let is_untidy = line.store.untidy && !is_underway(line);
                let promise = self.promise(line)?;
                if !promise.earlier.is_empty() {
                    self.forget_earlier_terms(line)?;
                }
                if is_untidy || !going(&rows, &self.fates(line, &rows, &promise)).is_empty() {
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
        self.give_receipts(line, &store)?;
        self.note_points_off_the_shelf(line, &store)?;
        let going =
            self.let_go(line, &store, "its time was over", |line, rows, promise| going(rows, &self.fates(line, rows, promise)))?;
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
        let occupied = to_db(store.used())?;
        self.records.write(|on| {
            StoreRow::set_occupied(&line.store.id, occupied, on)?;
            Ok::<_, DeskError>(StoreRow::set_untidy(&line.store.id, false, on)?)
        })?;
        self.workstation_changed(&line.workstation.id);
        Ok((going.len(), tidied))
    }

    /// Lets points go that `choose` names. They are judged, removed and noted in one transaction that nobody else writes in
    /// between: a hold that was acknowledged counts. Before that they are marked, so that it is known of each that is not there
    /// any more whether it was to go or is lost, also after a crash.
    pub(super) fn let_go(
        &self,
        line: &WorkstationLine,
        store: &Store,
        why: &str,
        mut choose: impl FnMut(&WorkstationLine, &[PointRow], &Promise) -> BTreeSet<u64>,
    ) -> Result<BTreeSet<u64>> {
        let mut judge = |on: &mut Connection| {
            let line = WorkstationLine::by_store(&line.store.id, on)?.ok_or(DeskError::NotFound("image store"))?;
            let rows = PointRow::list(&line.store.id, i64::MAX, ALL, on)?;
            let going = choose(&line, &rows, &promise(&line, on)?);
            Ok::<_, DeskError>((line, rows, going))
        };
        let on_shelf: BTreeSet<u64> = store.points().into_iter().collect();
        let marked = self.records.write(|on| {
            let (line, _, going) = judge(on)?;
            let marked: Vec<i64> = going.intersection(&on_shelf).copied().map(to_db).collect::<Result<_>>()?;
            PointRow::set_going(&line.store.id, &marked, on)?;
            Ok::<_, DeskError>(going)
        })?;
        if marked.is_empty() {
            return Ok(marked);
        }
        self.records.write(|on| {
            let (line, rows, mut going) = judge(on)?;
            // A lost point whose time is over, or that a person removed, is given up.
            let lost: BTreeSet<u64> = going.intersection(&lost(&rows, &on_shelf)).copied().collect();
            if !lost.is_empty() {
                store.give_up_lost(&lost)?;
                self.note_gone(&line, &lost, "it was lost, and its time is over", on)?;
            }
            going.retain(|sequence| on_shelf.contains(sequence) && marked.contains(sequence));
            if !going.is_empty() {
                StoreRow::set_untidy(&line.store.id, true, on)?;
                // Should the records fail after this, the next look at the shelf notes what went.
                store.let_go(&going)?;
                self.note_gone(&line, &going, why, on)?;
                self.audit_as(super::jobs::SERVICE, "", why_in_audit(why), &said_of(&line, &rows, &going), on)?;
            }
            PointRow::set_going(&line.store.id, &[], on)?;
            Ok(going)
        })
    }

    /// Points that the shelf let go just before the service was killed; and how many are lost, which nobody let go.
    pub(super) fn note_points_off_the_shelf(&self, line: &WorkstationLine, store: &Store) -> Result<()> {
        let on_shelf: BTreeSet<u64> = store.points().into_iter().collect();
        self.records.write(|on| {
            let rows = PointRow::list(&line.store.id, i64::MAX, ALL, on)?;
            let lost = lost(&rows, &on_shelf);
            StoreRow::set_lost_points(&line.store.id, to_db(lost.len() as u64)?, on)?;
            for row in rows.iter().filter(|row| row.lost != lost.contains(&from_db(row.sequence))) {
                row.set_lost(!row.lost, on)?;
            }
            let off_shelf = rows.iter().map(|row| from_db(row.sequence)).filter(|sequence| !on_shelf.contains(sequence));
            let gone = off_shelf.filter(|sequence| !lost.contains(sequence)).collect();
            self.note_gone(line, &gone, "its time was over", on)
        })
    }

    /// After a recovery the records are older than the shelf: what is not there and left no receipt was let go meanwhile.
    pub(super) fn mark_what_went_meanwhile(&self, line: &WorkstationLine, store: &Store) -> Result<()> {
        let (on_shelf, lost) = (store.points(), store.lost_points()?);
        self.records.write(|on| {
            let rows = PointRow::list(&line.store.id, i64::MAX, ALL, on)?;
            let is_away = |sequence: u64| !on_shelf.contains(&sequence) && !lost.contains(&sequence);
            let went: Vec<i64> = rows.iter().map(|row| row.sequence).filter(|sequence| is_away(from_db(*sequence))).collect();
            Ok(PointRow::set_going(&line.store.id, &went, on)?)
        })
    }

    fn note_gone(&self, line: &WorkstationLine, gone: &BTreeSet<u64>, why: &str, on: &mut Connection) -> Result<()> {
        for sequence in gone {
            if let Some(mut row) = PointRow::find(&line.store.id, to_db(*sequence)?, on)? {
                row.gone_why = Some(row.leaving_by.as_ref().map_or_else(|| why.to_owned(), |by| format!("removed by {by}")));
                row.gone = Some(self.now());
                row.update(on)?;
                StoreRow::take_points(&line.store.id, 1, on)?;
            }
        }
        Ok(())
    }

    pub(super) fn point_rows(&self, line: &WorkstationLine) -> Result<Vec<PointRow>> {
        self.records.read(|on| Ok::<_, DeskError>(PointRow::list(&line.store.id, i64::MAX, ALL, on)?))
    }

    /// What becomes of points: by the rule, by their waiting time, and by a hold on the whole store.
    fn fates(&self, line: &WorkstationLine, rows: &[PointRow], promise: &Promise) -> Vec<Fate> {
        let mut facts = facts(rows);
        facts.iter_mut().for_each(|fact| fact.held |= line.store.held.is_some());
        let mut fates = promise.fates(&facts, &self.zone, self.now());
        if rows.iter().any(|row| row.lost) {
            // One that is lost stands in for no other: of those that are there, as many are kept as without it.
            let there: Vec<PointFacts> = rows.iter().zip(facts).filter(|(row, _)| !row.lost).map(|(_, fact)| fact).collect();
            let mut of_those = promise.fates(&there, &self.zone, self.now()).into_iter();
            for (_, fate) in rows.iter().zip(&mut fates).filter(|(row, _)| !row.lost) {
                *fate = of_those.next().unwrap_or(*fate);
            }
        }
        rows.iter().zip(fates).map(|(row, fate)| self.or_leaving(line, row, fate)).collect()
    }

    /// Which points go next by themselves, and when: all that go within a day of the first.
    pub(super) fn next_to_go(&self, line: &WorkstationLine) -> Result<Option<(i64, Vec<u64>)>> {
        let rows = self.point_rows(line)?;
        let promise = self.promise(line)?;
        let at = |fate: &Fate| match fate {
            Fate::Goes => Some(self.now()),
            Fate::Stays { until_ms, .. } => *until_ms,
        };
        let fates = self.fates(line, &rows, &promise);
        let ends = rows.iter().zip(&fates).filter_map(|(row, fate)| Some((row.leaves.or(at(fate))?, from_db(row.sequence))));
        let ends: Vec<(i64, u64)> = ends.collect();
        let Some(first) = ends.iter().map(|(at, _)| *at).min() else { return Ok(None) };
        let soon = ends.iter().filter(|(at, _)| *at <= first.saturating_add(super::DAY_MS));
        let last = soon.clone().map(|(at, _)| *at).max().unwrap_or(first);
        Ok(Some((last.max(self.now()), soon.map(|(_, sequence)| *sequence).collect())))
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

/// Points that are not there, though nothing was about to remove them.
pub(super) fn lost(rows: &[PointRow], on_shelf: &BTreeSet<u64>) -> BTreeSet<u64> {
    let is_lost = |row: &&PointRow| !row.going && !on_shelf.contains(&from_db(row.sequence));
    rows.iter().filter(is_lost).map(|row| from_db(row.sequence)).collect()
}

/// Whether a run is under way that counts on promises which a restart of the service made it forget.
pub(super) fn forgot_its_run(line: &WorkstationLine, store: &Store) -> bool {
    is_underway(line) && !store.knows_of_run()
}

fn is_underway(line: &WorkstationLine) -> bool {
    line.latest_run.as_ref().is_some_and(|run| run.outcome == Outcome::Underway.word())
}

fn why_in_audit(why: &str) -> &'static str {
    if why == ROOM { "points went to make room" } else { "points went by the rule" }
}

/// Which points, and of when: for whoever asks later.
pub(super) fn said_of(line: &WorkstationLine, rows: &[PointRow], going: &BTreeSet<u64>) -> String {
    let times = rows.iter().filter(|row| going.contains(&from_db(row.sequence))).map(|row| row.committed);
    let (earliest, latest) = times.fold((i64::MAX, i64::MIN), |(a, b), at| (a.min(at), b.max(at)));
    let day = |at| timestamp(at).to_string().chars().take(10).collect::<String>();
    let plural = if going.len() == 1 { "" } else { "s" };
    format!(
        "{}: {} point{plural} ({}) of {} to {}",
        line.workstation.name,
        going.len(),
        ranges(going),
        day(earliest),
        day(latest)
    )
}

/// Numbers as people write them: 1–4, 7.
fn ranges(numbers: &BTreeSet<u64>) -> String {
    let mut ranges: Vec<(u64, u64)> = Vec::new();
    for n in numbers {
        match ranges.last_mut() {
            Some((_, end)) if *end + 1 == *n => *end = *n,
            _ => ranges.push((*n, *n)),
        }
    }
    let said = |(from, to): (u64, u64)| if from == to { from.to_string() } else { format!("{from}–{to}") };
    ranges.into_iter().map(said).collect::<Vec<_>>().join(", ")
}

fn going(rows: &[PointRow], fates: &[Fate]) -> BTreeSet<u64> {
    rows.iter().zip(fates).filter(|(_, fate)| **fate == Fate::Goes).map(|(row, _)| from_db(row.sequence)).collect()
}

/// `room_from` is from when on the point may go to make room.
fn point_fate(row: &PointRow, fate: &Fate, room_from: Option<i64>, now: i64) -> PointFate {
    let (stays, until) = match (fate, row.leaves) {
        (Fate::Goes, _) => (None, None),
        (Fate::Stays { reason, .. }, Some(leaves)) if *reason != Reason::Held => (Some(StayReason::Leaving), Some(leaves)),
        (Fate::Stays { reason, until_ms }, _) => (Some(stay_reason(*reason)), *until_ms),
    };
    // What may go for room is promised only until it may; from then on it stays while there is room.
    let sure = room_from.filter(|from| stays.is_some() && until.is_none_or(|until| *from < until));
    let (until, while_room) = match sure {
        Some(from) => (Some(from).filter(|from| *from > now), Some(until)),
        None => (until, None),
    };
    PointFate {
        point: convert::point(row),
        stays,
        until: until.map(timestamp),
        goes_for_room: while_room.is_some(),
        while_room_until: while_room.flatten().map(timestamp),
    }
}

fn stay_reason(reason: Reason) -> StayReason {
    match reason {
        Reason::Recent => StayReason::Recent,
        Reason::Protected => StayReason::Protected,
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
