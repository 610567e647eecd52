//! Thinning: which points go by the rule or after their waiting time, and that they go.

use std::collections::BTreeSet;

use jetfrost_image::store::{Compacted, Compaction, GoOn, Store};
use jetfrost_office::access::Act;
use jetfrost_office::protected::Promise;
use jetfrost_office::retention::{Fate, PointFacts, StayReason};
use jetfrost_types::ImageStoreId;
use jetfrost_wire::job::{Job, JobKind};
use jetfrost_wire::retention::{PointFate, ThinningPreview};
use jetfrost_wire::run::Outcome;

use crate::clock::{DAY_MS, Moment, timestamp};
use crate::records::{Connection, Count, PointRow, StoreRow, WorkstationLine};
use crate::retention::Retention;
use crate::shared::{Caller, Result, SERVICE, ServiceError, Thing, convert, to_db};
use crate::storage::points::{ALL, fact, facts, is_held_for_suspect, lost};
use crate::storage::removal::store_goes;
use crate::storage::terms::{promise, retention};

/// Why points went when a limit was reached.
pub(crate) const ROOM: &str = "a limit was reached";

impl Retention {
    /// What the next thinning would do.
    pub(crate) fn preview_thinning(&self, caller: &Caller, store: &ImageStoreId) -> Result<ThinningPreview> {
        let line = self.storage.line_to_see(caller, store)?;
        let rows = self.storage.point_rows(&line)?;
        let promise = self.storage.promise(&line)?;
        let fates = self.fates(&line, &rows, &promise);
        let going = going(&rows, &fates);
        let room_from = promise.go_for_room_from(&facts(&line, &rows), self.clock.now_ms());
        let (_, store) = self.storage.open_store(&line)?;
        let on_media: BTreeSet<u64> = store.points().into_iter().collect();
        let freed = store.room_freed_by(&going.intersection(&on_media).copied().collect())?;
        let keeps_earlier_promises = promise.earlier_still_count(&facts(&line, &rows), &self.zone, self.clock.now_ms());
        let fate_of = |(row, fate): (&PointRow, &Fate)| {
            let room_from = room_from.get(&row.sequence.get()).copied().map(Moment::from_ms);
            let fate = if is_only_held_for_suspect(&line, row) { as_suspect(*fate) } else { *fate };
            point_fate(row, &fate, removal_ends(row, &promise), room_from, self.clock.now())
        };
        let points = rows.iter().zip(&fates).map(fate_of).collect();
        Ok(ThinningPreview {
            retention: retention(&line),
            keeps_earlier_promises,
            points,
            freed_chunks: freed.chunks,
            freed_bytes: freed.bytes,
        })
    }

    /// Begins a thinning now.
    pub(crate) fn begin_thinning(&self, caller: &Caller, store: &ImageStoreId) -> Result<Job> {
        caller.may(&Act::ChangeOffice)?;
        let line = self.storage.line_to_see(caller, store)?;
        self.records.write(|on| self.trail.note(caller, "thinning begun", &line.workstation.name, on))?;
        self.enqueue(JobKind::Thinning, &line, &caller.name())
    }

    /// Asks for all removals, thinnings and scrubs that are due by now.
    pub(crate) fn enqueue_all_due(&self) -> Result<()> {
        let lines = self.records.read(|on| Ok::<_, ServiceError>(WorkstationLine::all(None, on)?))?;
        let now = self.clock.now();
        for line in &lines {
            if line.store.removal.as_ref().is_some_and(|removal| removal.ends <= now) {
                if self.records.read(|on| store_goes(line, now, on))? {
                    self.enqueue_due(JobKind::Removal, line)?;
                }
            } else {
                let rows = self.storage.point_rows(line)?;
                // Room that is only to be given back can wait for the end of a run.
                let is_uncompacted = line.store.untidy && !is_underway(line);
                let promise = self.storage.promise(line)?;
                if !promise.earlier.is_empty() {
                    self.storage.forget_earlier_terms(line)?;
                }
                if is_uncompacted || !going(&rows, &self.fates(line, &rows, &promise)).is_empty() {
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
    pub(crate) fn thin(&self, line: &WorkstationLine, go_on: GoOn<'_>) -> Result<(usize, Compacted)> {
        let (_, store) = self.storage.open_store(line)?;
        self.storage.give_receipts(line, &store)?;
        self.storage.note_points_off_the_shelf(line, &store)?;
        let going =
            self.expire(line, &store, "its time was over", |line, rows, promise| going(rows, &self.fates(line, rows, promise)))?;
        if forgot_its_run(line, &store) {
            // The room comes back after that run; the store stays marked as untidy until then.
            return Ok((going.len(), Compacted::default()));
        }
        let last_run_ended_well = line
            .latest_run
            .as_ref()
            .is_none_or(|run| matches!(run.outcome.0, Outcome::Complete | Outcome::CompleteWithExceptions));
        let how = Compaction { drop_unfinished: last_run_ended_well, ..Compaction::default() };
        let compacted = store.compact(&how, go_on)?;
        let occupied = to_db(store.used())?;
        self.records.write(|on| {
            StoreRow::set_occupied(&line.store.id, occupied, on)?;
            Ok::<_, ServiceError>(StoreRow::set_uncompacted(&line.store.id, false, on)?)
        })?;
        self.events.workstation_changed(&line.workstation.id);
        Ok((going.len(), compacted))
    }

    /// Lets points go that `choose` names. They are judged, removed and noted in one transaction that nobody else writes in
    /// between: a hold that was acknowledged counts. Before that they are marked, so that it is known of each that is not there
    /// any more whether it was to go or is lost, also after a crash.
    pub(crate) fn expire(
        &self,
        line: &WorkstationLine,
        store: &Store,
        why: &str,
        mut choose: impl FnMut(&WorkstationLine, &[PointRow], &Promise) -> BTreeSet<u64>,
    ) -> Result<BTreeSet<u64>> {
        let mut judge = |on: &mut Connection| {
            let line = WorkstationLine::by_store(&line.store.id, on)?.ok_or(ServiceError::NotFound(Thing::ImageStore))?;
            let rows = PointRow::list(&line.store.id, i64::MAX, ALL, on)?;
            let going = choose(&line, &rows, &promise(&line, on)?);
            Ok::<_, ServiceError>((line, rows, going))
        };
        let on_media: BTreeSet<u64> = store.points().into_iter().collect();
        let marked = self.records.write(|on| {
            let (line, _, going) = judge(on)?;
            let marked: Vec<Count> = going.intersection(&on_media).copied().map(to_db).collect::<Result<_>>()?;
            PointRow::set_going(&line.store.id, &marked, on)?;
            Ok::<_, ServiceError>(going)
        })?;
        if marked.is_empty() {
            return Ok(marked);
        }
        self.records.write(|on| {
            let (line, rows, mut going) = judge(on)?;
            // A lost point whose time is over, or that a person removed, is given up.
            let lost: BTreeSet<u64> = going.intersection(&lost(&rows, &on_media)).copied().collect();
            if !lost.is_empty() {
                store.give_up_lost(&lost)?;
                self.storage.note_gone(&line, &lost, "it was lost, and its time is over", on)?;
            }
            going.retain(|sequence| on_media.contains(sequence) && marked.contains(sequence));
            if !going.is_empty() {
                StoreRow::set_uncompacted(&line.store.id, true, on)?;
                // Should the records fail after this, the next look at the shelf notes what went.
                store.expire(&going)?;
                self.storage.note_gone(&line, &going, why, on)?;
                self.trail.note_as(SERVICE, "", why_in_audit(why), &said_of(&line, &rows, &going), on)?;
            }
            PointRow::set_going(&line.store.id, &[], on)?;
            Ok(going)
        })
    }

    /// What becomes of points: by the rule, by their waiting time, and by a hold on the whole store.
    fn fates(&self, line: &WorkstationLine, rows: &[PointRow], promise: &Promise) -> Vec<Fate> {
        let mut facts = facts(line, rows);
        facts.iter_mut().for_each(|fact| fact.held |= line.store.hold.is_some());
        let mut fates = promise.fates(&facts, &self.zone, self.clock.now_ms());
        if rows.iter().any(|row| row.lost) {
            // One that is lost stands in for no other: of those that are there, as many are kept as without it.
            let there: Vec<PointFacts> = rows.iter().zip(facts).filter(|(row, _)| !row.lost).map(|(_, fact)| fact).collect();
            let mut of_those = promise.fates(&there, &self.zone, self.clock.now_ms()).into_iter();
            for (_, fate) in rows.iter().zip(&mut fates).filter(|(row, _)| !row.lost) {
                *fate = of_those.next().unwrap_or(*fate);
            }
        }
        rows.iter().zip(fates).map(|(row, fate)| self.or_pending(line, row, promise, fate)).collect()
    }

    /// Which points go next by themselves, and when: all that go within a day of the first.
    pub(crate) fn next_to_go(&self, line: &WorkstationLine) -> Result<Option<(Moment, Vec<u64>)>> {
        let rows = self.storage.point_rows(line)?;
        let promise = self.storage.promise(line)?;
        let at = |fate: &Fate| match fate {
            Fate::Goes => Some(self.clock.now()),
            Fate::Stays { until_ms, .. } => until_ms.map(Moment::from_ms),
        };
        let fates = self.fates(line, &rows, &promise);
        let ends = rows
            .iter()
            .zip(&fates)
            .filter_map(|(row, fate)| Some((removal_ends(row, &promise).or(at(fate))?, row.sequence.get())));
        let ends: Vec<(Moment, u64)> = ends.collect();
        let Some(first) = ends.iter().map(|(at, _)| *at).min() else { return Ok(None) };
        let soon = ends.iter().filter(|(at, _)| *at <= first + DAY_MS);
        let last = soon.clone().map(|(at, _)| *at).max().unwrap_or(first);
        Ok(Some((last.max(self.clock.now()), soon.map(|(_, sequence)| *sequence).collect())))
    }

    fn or_pending(&self, line: &WorkstationLine, row: &PointRow, promise: &Promise, by_rule: Fate) -> Fate {
        let is_latest = line.store.latest_sequence == Some(row.sequence);
        let is_held = matches!(by_rule, Fate::Stays { reason: StayReason::Held, .. });
        match removal_ends(row, promise) {
            Some(leaves) if leaves <= self.clock.now() && !is_latest && !is_held => Fate::Goes,
            Some(leaves) if leaves > self.clock.now() && by_rule == Fate::Goes => {
                Fate::Stays { reason: StayReason::Recent, until_ms: Some(leaves.ms()) }
            }
            _ => by_rule,
        }
    }
}

/// Whether nothing else than a suspect point holds it.
fn is_only_held_for_suspect(line: &WorkstationLine, row: &PointRow) -> bool {
    row.hold.is_none() && line.store.hold.is_none() && is_held_for_suspect(line, row)
}

/// The fate of such a point, with the reason that people know.
fn as_suspect(fate: Fate) -> Fate {
    match fate {
        Fate::Stays { reason: StayReason::Held, until_ms } => Fate::Stays { reason: StayReason::Suspect, until_ms },
        other => other,
    }
}

/// When a point that a person removed goes: not before its protected time is over, even where that was made longer since.
fn removal_ends(row: &PointRow, promise: &Promise) -> Option<Moment> {
    let protected = Moment::from_ms(promise.protected_until_ms(&fact(row)));
    row.removal.as_ref().map(|removal| removal.ends.max(protected))
}

/// Whether a run is under way that counts on promises which a restart of the service made it forget.
pub(crate) fn forgot_its_run(line: &WorkstationLine, store: &Store) -> bool {
    is_underway(line) && !store.knows_of_run()
}

fn is_underway(line: &WorkstationLine) -> bool {
    line.latest_run.as_ref().is_some_and(|run| run.outcome.0 == Outcome::Underway)
}

fn why_in_audit(why: &str) -> &'static str {
    if why == ROOM { "points removed to make room" } else { "points removed by retention" }
}

/// Which points, and of when: for whoever asks later.
pub(crate) fn said_of(line: &WorkstationLine, rows: &[PointRow], going: &BTreeSet<u64>) -> String {
    let times = rows.iter().filter(|row| going.contains(&row.sequence.get())).map(|row| row.committed);
    let (earliest, latest) = times.fold((Moment::LAST, Moment::FIRST), |(a, b), at| (a.min(at), b.max(at)));
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
    rows.iter().zip(fates).filter(|(_, fate)| **fate == Fate::Goes).map(|(row, _)| row.sequence.get()).collect()
}

/// `removal_ends` is when it goes because a person removed it, `room_from` is from when on the point may go to make room.
fn point_fate(row: &PointRow, fate: &Fate, removal_ends: Option<Moment>, room_from: Option<Moment>, now: Moment) -> PointFate {
    let (stays, until) = match (fate, removal_ends) {
        (Fate::Goes, _) => (None, None),
        (Fate::Stays { reason, .. }, Some(leaves)) if !matches!(reason, StayReason::Held | StayReason::Suspect) => {
            (Some(StayReason::PendingRemoval), Some(leaves))
        }
        (Fate::Stays { reason, until_ms }, _) => (Some(*reason), until_ms.map(Moment::from_ms)),
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

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::destination::DestinationChange;

    use super::*;
    use crate::shared::Seen;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::Machine;

    fn three_points_of_one_day() -> (Office, Machine) {
        let office = Office::open();
        let shelf = office.destination("shelf");
        let daily = DestinationChange { retention: "90 days, at least 1".parse().ok(), ..DestinationChange::default() };
        office.services.storage.change_destination(&office.ingrid, &shelf.id, &daily, &Seen::Anything).expect("set");
        office.person("tove", Role::Member);
        let mut machine = office.machine("tove", "front desk");
        for content in ["one", "two", "three"] {
            machine.back_up(&office, content.as_bytes()).expect("a point");
            office.pass(3_600_000);
        }
        (office, machine)
    }

    fn sequences(office: &Office, line: &WorkstationLine) -> Vec<u64> {
        let store = office.services.storage.open_store(line).expect("open").1;
        store.points()
    }

    #[test]
    fn points_of_one_day_thin_to_one_after_the_protected_time_and_not_before() {
        let (office, machine) = three_points_of_one_day();
        let thin = || {
            let line = office.services.storage.line_of_store(machine.store()).expect("there");
            office.services.retention.thin(&line, &mut |_| true).expect("thinned");
            sequences(&office, &line)
        };
        office.pass(29 * DAY_MS);
        assert_eq!(thin(), [1, 2, 3], "protected");
        office.pass(DAY_MS);
        assert_eq!(thin(), [3], "the last of that day stays");
    }

    #[test]
    fn the_preview_says_what_thinning_then_does() {
        let (office, machine) = three_points_of_one_day();
        office.pass(40 * DAY_MS);
        let hold = jetfrost_wire::retention::NewHold { reason: "the auditors come".into() };
        office.services.retention.hold_point(&office.ingrid, machine.store(), 2, &hold).expect("held");
        let preview = office.services.retention.preview_thinning(&office.ingrid, machine.store()).expect("previewed");
        let mut stays: Vec<u64> =
            preview.points.iter().filter(|fate| fate.stays.is_some()).map(|fate| fate.point.sequence).collect();
        stays.sort_unstable();
        let line = office.services.storage.line_of_store(machine.store()).expect("there");
        office.services.retention.thin(&line, &mut |_| true).expect("thinned");
        assert_eq!((stays, sequences(&office, &line)), (vec![2, 3], vec![2, 3]));
    }
}
