//! Runs, points and restores.

use super::joint::{PointGone, PointHold, PointMarked, PointRemoval};
use super::schema::{accounts, jobs, points, restores, runs, stores, workstations};
use super::{Connection, Count, Id, InJson, Rows, Word};
use diesel::dsl::count_star;
use diesel::prelude::*;
use jetfrost_types::{
    AccountId, Changes, DestinationId, ImageStoreId, JobId, PointMark, RestoreId, RunId, Suspicion, WorkstationId,
};
use jetfrost_wire::job::{JobKind, JobState};
use jetfrost_wire::restore::{CheckedOff, Purpose, RestoreTarget, Scope};
use jetfrost_wire::run::{Outcome, Phase};
use jetfrost_wire::workstation::PointKind;
use std::collections::HashMap;
use std::ops::Range;

use crate::clock::Moment;

#[derive(Debug, Clone, Queryable, Selectable, AsChangeset)]
#[diesel(table_name = runs, treat_none_as_null = true)]
pub(crate) struct RunRow {
    pub(crate) number: i64,
    pub(crate) id: Id<RunId>,
    pub(crate) workstation_id: Id<WorkstationId>,
    pub(crate) outcome: Word<Outcome>,
    pub(crate) phase: Word<Phase>,
    pub(crate) files_done: Count,
    pub(crate) files_total: Option<Count>,
    pub(crate) bytes_done: Count,
    pub(crate) bytes_total: Option<Count>,
    pub(crate) sent: Count,
    pub(crate) started: Moment,
    pub(crate) last_heard: Moment,
    pub(crate) ended: Option<Moment>,
    pub(crate) sequence: Option<Count>,
    pub(crate) changed_while_read: Count,
    pub(crate) unreadable: Count,
    pub(crate) disappeared: Count,
    pub(crate) reason: Option<String>,
}

#[derive(Debug, Clone, Insertable)]
#[diesel(table_name = runs)]
pub(crate) struct NewRun {
    pub(crate) id: Id<RunId>,
    pub(crate) workstation_id: Id<WorkstationId>,
    pub(crate) outcome: Word<Outcome>,
    pub(crate) phase: Word<Phase>,
    pub(crate) files_done: Count,
    pub(crate) bytes_done: Count,
    pub(crate) sent: Count,
    pub(crate) started: Moment,
    pub(crate) last_heard: Moment,
    pub(crate) changed_while_read: Count,
    pub(crate) unreadable: Count,
    pub(crate) disappeared: Count,
}

impl RunRow {
    pub(crate) fn insert(new: &NewRun, on: &mut Connection) -> Rows<Self> {
        diesel::insert_into(runs::table).values(new).returning(Self::as_returning()).get_result(on)
    }

    pub(crate) fn by_id(id: &RunId, on: &mut Connection) -> Rows<Option<Self>> {
        runs::table.filter(runs::id.eq(id.as_str())).select(Self::as_select()).get_result(on).optional()
    }

    /// Writes a run that is still underway on record; false when it is not, and then nothing is written: a late report of
    /// progress must not undo its end.
    pub(crate) fn update_if_underway(&self, on: &mut Connection) -> Rows<bool> {
        let underway = runs::table.find(self.number).filter(runs::outcome.eq(Outcome::Underway.word()));
        diesel::update(underway).set(self).execute(on).map(|rows| rows == 1)
    }

    /// Latest first, before the number `before`.
    pub(crate) fn list(workstation: &WorkstationId, before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        runs::table
            .filter(runs::workstation_id.eq(workstation.as_str()).and(runs::number.lt(before)))
            .order(runs::number.desc())
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }

    /// How many runs ended in each way within a time; of one account only when `owner` is given.
    pub(crate) fn outcomes(
        owner: Option<&AccountId>,
        from: Moment,
        until: Moment,
        on: &mut Connection,
    ) -> Rows<Vec<(Word<Outcome>, Count)>> {
        let ended = runs::ended.ge(from).and(runs::ended.lt(until));
        let Some(owner) = owner else {
            return runs::table.filter(ended).group_by(runs::outcome).select((runs::outcome, count_star())).load(on);
        };
        runs::table
            .inner_join(workstations::table.on(workstations::id.eq(runs::workstation_id)))
            .filter(ended.and(workstations::account_id.eq(owner.as_str())))
            .group_by(runs::outcome)
            .select((runs::outcome, count_star()))
            .load(on)
    }

    pub(crate) fn with_outcome(outcome: &str, on: &mut Connection) -> Rows<Vec<Self>> {
        runs::table.filter(runs::outcome.eq(outcome)).select(Self::as_select()).load(on)
    }
}

#[derive(Debug, Clone, Default, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = points, primary_key(store_id, sequence), treat_none_as_null = true)]
pub(crate) struct PointRow {
    pub(crate) store_id: Id<ImageStoreId>,
    pub(crate) sequence: Count,
    pub(crate) run_number: Option<i64>,
    pub(crate) kind: Word<PointKind>,
    /// When the service committed it, by its own clock.
    pub(crate) committed: Moment,
    pub(crate) files: Count,
    pub(crate) bytes: Count,
    pub(crate) exceptions: Count,
    pub(crate) sent: Count,
    #[diesel(embed)]
    pub(crate) hold: PointHold,
    #[diesel(embed)]
    pub(crate) removal: PointRemoval,
    #[diesel(embed)]
    pub(crate) gone: PointGone,
    /// Whether its files are about to be removed: what is not there and was not about to go is lost.
    pub(crate) going: bool,
    /// Whether its files were lost when it was last looked.
    pub(crate) lost: bool,
    /// How it differs from the one before, as the workstation says.
    pub(crate) changes: Option<InJson<Changes>>,
    /// What it looked like when it was recorded.
    pub(crate) suspicion: Option<Word<Suspicion>>,
    #[diesel(embed)]
    pub(crate) mark: PointMarked,
}

impl PointRow {
    /// Whether it may hold what an incident left, and nobody said that this is dealt with.
    pub(crate) fn is_suspect(&self) -> bool {
        let mark = self.mark.as_ref().map(|mark| mark.mark);
        mark.map_or(self.suspicion.is_some(), |mark| mark == PointMark::Suspect)
    }

    /// The suspect points of image stores, by store and the latest first; of one store only when `store` is given.
    pub(crate) fn suspects(store: Option<&ImageStoreId>, on: &mut Connection) -> Rows<Vec<Self>> {
        let is_suspect = points::mark
            .eq(PointMark::Suspect.word())
            .or(points::mark.is_null().and(points::suspicion.is_not_null()).assume_not_null());
        let mut suspects = points::table.filter(points::gone.is_null().and(is_suspect.assume_not_null())).into_boxed();
        if let Some(store) = store {
            suspects = suspects.filter(points::store_id.eq(store.as_str()));
        }
        suspects.order((points::store_id, points::sequence.desc())).select(Self::as_select()).load(on)
    }

    /// The latest point of a kind before a number against which nothing is known.
    pub(crate) fn last_good(store: &ImageStoreId, kind: PointKind, before: Count, on: &mut Connection) -> Rows<Option<Self>> {
        let good =
            points::mark.eq(PointMark::Good.word()).or(points::mark.is_null().and(points::suspicion.is_null()).assume_not_null());
        points::table
            .filter(points::store_id.eq(store.as_str()).and(points::kind.eq(kind.word())))
            .filter(points::gone.is_null().and(points::sequence.lt(before)).and(good.assume_not_null()))
            .order(points::sequence.desc())
            .select(Self::as_select())
            .first(on)
            .optional()
    }

    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(points::table).values(self).execute(on).map(drop)
    }

    /// A point that is there.
    pub(crate) fn find(store: &ImageStoreId, sequence: Count, on: &mut Connection) -> Rows<Option<Self>> {
        let there = points::table.find((store.as_str(), sequence)).filter(points::gone.is_null());
        there.select(Self::as_select()).get_result(on).optional()
    }

    /// A point that is there or was.
    pub(crate) fn ever(store: &ImageStoreId, sequence: Count, on: &mut Connection) -> Rows<Option<Self>> {
        points::table.find((store.as_str(), sequence)).select(Self::as_select()).get_result(on).optional()
    }

    /// Whether a point was ever recorded.
    pub(crate) fn is_recorded(store: &ImageStoreId, sequence: Count, on: &mut Connection) -> Rows<bool> {
        diesel::select(diesel::dsl::exists(points::table.find((store.as_str(), sequence)))).get_result(on)
    }

    /// Whether there is a hold on any point of a store.
    pub(crate) fn any_held(store: &ImageStoreId, on: &mut Connection) -> Rows<bool> {
        let held =
            points::table.filter(points::store_id.eq(store.as_str()).and(points::gone.is_null()).and(points::held.is_not_null()));
        diesel::select(diesel::dsl::exists(held)).get_result(on)
    }

    /// Marks those that are about to go, and no others.
    pub(crate) fn set_going(store: &ImageStoreId, going: &[Count], on: &mut Connection) -> Rows<()> {
        let marked = points::store_id.eq(store.as_str()).and(points::going).and(points::gone.is_null());
        diesel::update(points::table.filter(marked)).set(points::going.eq(false)).execute(on)?;
        for sequence in going {
            diesel::update(points::table.find((store.as_str(), sequence))).set(points::going.eq(true)).execute(on)?;
        }
        Ok(())
    }

    pub(crate) fn set_lost(&self, lost: bool, on: &mut Connection) -> Rows<()> {
        let row = points::table.find((&self.store_id, self.sequence));
        diesel::update(row).set(points::lost.eq(lost)).execute(on).map(drop)
    }

    pub(crate) fn update(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(points::table.find((&self.store_id, self.sequence))).set(self).execute(on).map(drop)
    }

    /// Latest first, before the number `before`.
    pub(crate) fn list(store: &ImageStoreId, before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        points::table
            .filter(points::store_id.eq(store.as_str()).and(points::sequence.lt(before)).and(points::gone.is_null()))
            .order(points::sequence.desc())
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }
}

/// What is suspect of an image store.
#[derive(Debug, Clone)]
pub(crate) struct Suspects {
    /// The latest suspect point: it and all older ones stay.
    pub(crate) latest: PointRow,
    /// The latest point of its kind before the first suspect one against which nothing is known.
    pub(crate) last_good: Option<PointRow>,
}

impl Suspects {
    /// By store; of one store only when `store` is given.
    pub(crate) fn list(store: Option<&ImageStoreId>, on: &mut Connection) -> Rows<HashMap<Id<ImageStoreId>, Self>> {
        let rows = PointRow::suspects(store, on)?;
        let of_stores = rows.chunk_by(|one, other| one.store_id == other.store_id);
        of_stores
            .filter_map(|rows| Some((rows.first()?, rows)))
            .map(|(latest, rows)| {
                let first = rows.iter().filter(|row| row.kind == latest.kind).map(|row| row.sequence).min();
                let good = PointRow::last_good(&latest.store_id, latest.kind.0, first.unwrap_or(latest.sequence), on)?;
                Ok((latest.store_id.clone(), Self { latest: latest.clone(), last_good: good }))
            })
            .collect()
    }
}

/// A job of the service.
#[derive(Debug, Clone, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = jobs, treat_none_as_null = true)]
pub(crate) struct JobRow {
    #[diesel(skip_insertion)]
    pub(crate) number: i64,
    pub(crate) id: Id<JobId>,
    pub(crate) kind: Word<JobKind>,
    pub(crate) store_id: Id<ImageStoreId>,
    pub(crate) state: Word<JobState>,
    pub(crate) done: Count,
    pub(crate) total: Count,
    pub(crate) by: String,
    pub(crate) created: Moment,
    pub(crate) started: Option<Moment>,
    pub(crate) ended: Option<Moment>,
    pub(crate) outcome: Option<String>,
}

impl JobRow {
    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<Self> {
        diesel::insert_into(jobs::table).values(self).returning(Self::as_returning()).get_result(on)
    }

    pub(crate) fn by_id(id: &JobId, on: &mut Connection) -> Rows<Option<Self>> {
        jobs::table.filter(jobs::id.eq(id.as_str())).select(Self::as_select()).get_result(on).optional()
    }

    pub(crate) fn update(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(jobs::table.find(self.number)).set(self).execute(on).map(drop)
    }

    /// Latest first, before the number `before`.
    pub(crate) fn list(before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        let page = jobs::table.filter(jobs::number.lt(before)).order(jobs::number.desc()).limit(most as i64);
        page.select(Self::as_select()).load(on)
    }

    /// The latest of a kind for a store.
    pub(crate) fn latest(kind: &str, store: &ImageStoreId, on: &mut Connection) -> Rows<Option<Self>> {
        let of_kind = jobs::table.filter(jobs::store_id.eq(store.as_str()).and(jobs::kind.eq(kind)));
        of_kind.order(jobs::number.desc()).select(Self::as_select()).first(on).optional()
    }

    /// Those that have not ended, oldest first.
    pub(crate) fn unfinished(on: &mut Connection) -> Rows<Vec<Self>> {
        jobs::table.filter(jobs::ended.is_null()).order(jobs::number).select(Self::as_select()).load(on)
    }
}

#[derive(Debug, Clone, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = restores, treat_none_as_null = true)]
pub(crate) struct RestoreRow {
    #[diesel(skip_insertion)]
    pub(crate) number: i64,
    pub(crate) id: Id<RestoreId>,
    pub(crate) workstation_id: Id<WorkstationId>,
    pub(crate) sequence: Count,
    pub(crate) scope: Word<Scope>,
    pub(crate) by: String,
    pub(crate) outcome: Word<Outcome>,
    pub(crate) files_done: Count,
    pub(crate) files_total: Option<Count>,
    pub(crate) bytes_done: Count,
    pub(crate) bytes_total: Option<Count>,
    pub(crate) sent: Count,
    pub(crate) exceptions: Count,
    pub(crate) started: Moment,
    pub(crate) last_heard: Moment,
    pub(crate) ended: Option<Moment>,
    pub(crate) reason: Option<String>,
    pub(crate) purpose: Word<Purpose>,
    pub(crate) origin: Option<String>,
    pub(crate) target: Option<Word<RestoreTarget>>,
    /// Set by [`RestoreRow::cancel`] alone: a report of progress that was read before must not undo it.
    #[diesel(skip_update)]
    pub(crate) cancelled_by: Option<String>,
    /// Set by [`RestoreRow::check_off`] alone.
    #[diesel(skip_update)]
    pub(crate) checklist: Option<InJson<CheckedOff>>,
}

impl RestoreRow {
    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<Self> {
        diesel::insert_into(restores::table).values(self).returning(Self::as_returning()).get_result(on)
    }

    pub(crate) fn by_id(id: &RestoreId, on: &mut Connection) -> Rows<Option<Self>> {
        restores::table.filter(restores::id.eq(id.as_str())).select(Self::as_select()).get_result(on).optional()
    }

    /// As [`RunRow::update_if_underway`].
    pub(crate) fn update_if_underway(&self, on: &mut Connection) -> Rows<bool> {
        let underway = restores::table.find(self.number).filter(restores::outcome.eq(Outcome::Underway.word()));
        diesel::update(underway).set(self).execute(on).map(|rows| rows == 1)
    }

    /// Notes who cancelled one that is underway; whoever was first stays. `None` when it has ended.
    pub(crate) fn cancel(id: &RestoreId, by: &str, on: &mut Connection) -> Rows<Option<Self>> {
        let underway = restores::table.filter(restores::id.eq(id.as_str()).and(restores::outcome.eq(Outcome::Underway.word())));
        diesel::update(underway.filter(restores::cancelled_by.is_null())).set(restores::cancelled_by.eq(by)).execute(on)?;
        underway.select(Self::as_select()).get_result(on).optional()
    }

    /// Notes what was found after it; what was found first stays.
    pub(crate) fn check_off(&self, found: &CheckedOff, on: &mut Connection) -> Rows<bool> {
        let unchecked = restores::table.find(self.number).filter(restores::checklist.is_null());
        diesel::update(unchecked).set(restores::checklist.eq(InJson(found.clone()))).execute(on).map(|rows| rows == 1)
    }

    /// Latest first, before the number `before`.
    pub(crate) fn list(workstation: &WorkstationId, before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        restores::table
            .filter(restores::workstation_id.eq(workstation.as_str()).and(restores::number.lt(before)))
            .order(restores::number.desc())
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }

    /// Those of all workstations that started within a time, with the name and login of each; latest first, before the number `before`.
    pub(crate) fn report(
        within: Range<Moment>,
        purpose: Option<Purpose>,
        before: i64,
        most: usize,
        on: &mut Connection,
    ) -> Rows<Vec<(Self, String, String)>> {
        let mut rows = restores::table
            .inner_join(workstations::table.on(workstations::id.eq(restores::workstation_id)))
            .inner_join(accounts::table.on(accounts::id.eq(workstations::account_id)))
            .filter(restores::started.ge(within.start).and(restores::started.lt(within.end)).and(restores::number.lt(before)))
            .into_boxed();
        if let Some(purpose) = purpose {
            rows = rows.filter(restores::purpose.eq(purpose.word()));
        }
        rows.order(restores::number.desc())
            .limit(most as i64)
            .select((Self::as_select(), workstations::name, accounts::login))
            .load(on)
    }

    pub(crate) fn with_outcome(outcome: &str, on: &mut Connection) -> Rows<Vec<Self>> {
        restores::table.filter(restores::outcome.eq(outcome)).select(Self::as_select()).load(on)
    }
}

/// What was added to the image stores of a destination, by day: days since 1970, and bytes. The first point of a store is not
/// growth.
pub(crate) fn added_by_day(destination: &DestinationId, on: &mut Connection) -> Rows<Vec<(i64, Count)>> {
    let day = diesel::dsl::sql::<diesel::sql_types::BigInt>("points.committed / 86400000");
    let bytes = diesel::dsl::sql::<diesel::sql_types::BigInt>("sum(points.sent)");
    points::table
        .inner_join(stores::table.on(stores::id.eq(points::store_id)))
        .filter(stores::destination_id.eq(destination.as_str()).and(points::sequence.gt(1)))
        .group_by(diesel::dsl::sql::<diesel::sql_types::BigInt>("1"))
        .select((day, bytes))
        .load(on)
}
