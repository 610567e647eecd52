//! Runs, points and restores.

use super::schema::{jobs, points, restores, runs, stores};
use super::{Connection, Rows, Word};
use diesel::prelude::*;
use jetfrost_wire::job::{JobKind, JobState};
use jetfrost_wire::restore::{Purpose, Scope};
use jetfrost_wire::run::{Outcome, Phase};
use jetfrost_wire::workstation::PointKind;

#[derive(Debug, Clone, Queryable, Selectable, AsChangeset)]
#[diesel(table_name = runs, treat_none_as_null = true)]
pub(crate) struct RunRow {
    pub(crate) number: i64,
    pub(crate) id: String,
    pub(crate) workstation_id: String,
    pub(crate) outcome: Word<Outcome>,
    pub(crate) phase: Word<Phase>,
    pub(crate) files_done: i64,
    pub(crate) files_total: Option<i64>,
    pub(crate) bytes_done: i64,
    pub(crate) bytes_total: Option<i64>,
    pub(crate) sent: i64,
    pub(crate) started: i64,
    pub(crate) last_heard: i64,
    pub(crate) ended: Option<i64>,
    pub(crate) sequence: Option<i64>,
    pub(crate) changed_while_read: i64,
    pub(crate) unreadable: i64,
    pub(crate) disappeared: i64,
    pub(crate) reason: Option<String>,
}

#[derive(Debug, Clone, Insertable)]
#[diesel(table_name = runs)]
pub(crate) struct NewRun {
    pub(crate) id: String,
    pub(crate) workstation_id: String,
    pub(crate) outcome: Word<Outcome>,
    pub(crate) phase: Word<Phase>,
    pub(crate) files_done: i64,
    pub(crate) bytes_done: i64,
    pub(crate) sent: i64,
    pub(crate) started: i64,
    pub(crate) last_heard: i64,
    pub(crate) changed_while_read: i64,
    pub(crate) unreadable: i64,
    pub(crate) disappeared: i64,
}

impl RunRow {
    pub(crate) fn insert(new: &NewRun, on: &mut Connection) -> Rows<Self> {
        diesel::insert_into(runs::table).values(new).returning(Self::as_returning()).get_result(on)
    }

    pub(crate) fn by_id(id: &str, on: &mut Connection) -> Rows<Option<Self>> {
        runs::table.filter(runs::id.eq(id)).select(Self::as_select()).get_result(on).optional()
    }

    /// Writes a run that is still underway on record; false when it is not, and then nothing is written: a late report of
    /// progress must not undo its end.
    pub(crate) fn update_if_underway(&self, on: &mut Connection) -> Rows<bool> {
        let underway = runs::table.find(self.number).filter(runs::outcome.eq(Outcome::Underway.word()));
        diesel::update(underway).set(self).execute(on).map(|rows| rows == 1)
    }

    /// Latest first, before the number `before`.
    pub(crate) fn list(workstation: &str, before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        runs::table
            .filter(runs::workstation_id.eq(workstation).and(runs::number.lt(before)))
            .order(runs::number.desc())
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }

    pub(crate) fn with_outcome(outcome: &str, on: &mut Connection) -> Rows<Vec<Self>> {
        runs::table.filter(runs::outcome.eq(outcome)).select(Self::as_select()).load(on)
    }
}

#[derive(Debug, Clone, Default, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = points, primary_key(store_id, sequence), treat_none_as_null = true)]
pub(crate) struct PointRow {
    pub(crate) store_id: String,
    pub(crate) sequence: i64,
    pub(crate) run_number: Option<i64>,
    pub(crate) kind: Word<PointKind>,
    /// When the service committed it, by its own clock.
    pub(crate) committed: i64,
    pub(crate) files: i64,
    pub(crate) bytes: i64,
    pub(crate) exceptions: i64,
    pub(crate) sent: i64,
    /// Why a hold is on it.
    pub(crate) held: Option<String>,
    pub(crate) held_by: Option<String>,
    /// When it goes for good.
    pub(crate) removal_ends: Option<i64>,
    pub(crate) removal_by: Option<String>,
    pub(crate) gone: Option<i64>,
    pub(crate) gone_why: Option<String>,
    /// Whether its files are about to be removed: what is not there and was not about to go is lost.
    pub(crate) going: bool,
    /// Whether its files were lost when it was last looked.
    pub(crate) lost: bool,
}

impl PointRow {
    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(points::table).values(self).execute(on).map(drop)
    }

    /// A point that is there.
    pub(crate) fn find(store: &str, sequence: i64, on: &mut Connection) -> Rows<Option<Self>> {
        let there = points::table.find((store, sequence)).filter(points::gone.is_null());
        there.select(Self::as_select()).get_result(on).optional()
    }

    /// A point that is there or was.
    pub(crate) fn ever(store: &str, sequence: i64, on: &mut Connection) -> Rows<Option<Self>> {
        points::table.find((store, sequence)).select(Self::as_select()).get_result(on).optional()
    }

    /// Whether a point was ever recorded.
    pub(crate) fn is_recorded(store: &str, sequence: i64, on: &mut Connection) -> Rows<bool> {
        diesel::select(diesel::dsl::exists(points::table.find((store, sequence)))).get_result(on)
    }

    /// Whether there is a hold on any point of a store.
    pub(crate) fn any_held(store: &str, on: &mut Connection) -> Rows<bool> {
        let held = points::table.filter(points::store_id.eq(store).and(points::gone.is_null()).and(points::held.is_not_null()));
        diesel::select(diesel::dsl::exists(held)).get_result(on)
    }

    /// Marks those that are about to go, and no others.
    pub(crate) fn set_going(store: &str, going: &[i64], on: &mut Connection) -> Rows<()> {
        let marked = points::store_id.eq(store).and(points::going).and(points::gone.is_null());
        diesel::update(points::table.filter(marked)).set(points::going.eq(false)).execute(on)?;
        for sequence in going {
            diesel::update(points::table.find((store, sequence))).set(points::going.eq(true)).execute(on)?;
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
    pub(crate) fn list(store: &str, before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        points::table
            .filter(points::store_id.eq(store).and(points::sequence.lt(before)).and(points::gone.is_null()))
            .order(points::sequence.desc())
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }
}

/// A job of the service.
#[derive(Debug, Clone, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = jobs, treat_none_as_null = true)]
pub(crate) struct JobRow {
    #[diesel(skip_insertion)]
    pub(crate) number: i64,
    pub(crate) id: String,
    pub(crate) kind: Word<JobKind>,
    pub(crate) store_id: String,
    pub(crate) state: Word<JobState>,
    pub(crate) done: i64,
    pub(crate) total: i64,
    pub(crate) by: String,
    pub(crate) created: i64,
    pub(crate) started: Option<i64>,
    pub(crate) ended: Option<i64>,
    pub(crate) outcome: Option<String>,
}

impl JobRow {
    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<Self> {
        diesel::insert_into(jobs::table).values(self).returning(Self::as_returning()).get_result(on)
    }

    pub(crate) fn by_id(id: &str, on: &mut Connection) -> Rows<Option<Self>> {
        jobs::table.filter(jobs::id.eq(id)).select(Self::as_select()).get_result(on).optional()
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
    pub(crate) fn latest(kind: &str, store: &str, on: &mut Connection) -> Rows<Option<Self>> {
        let of_kind = jobs::table.filter(jobs::store_id.eq(store).and(jobs::kind.eq(kind)));
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
    pub(crate) id: String,
    pub(crate) workstation_id: String,
    pub(crate) sequence: i64,
    pub(crate) scope: Word<Scope>,
    pub(crate) by: String,
    pub(crate) outcome: Word<Outcome>,
    pub(crate) files_done: i64,
    pub(crate) files_total: Option<i64>,
    pub(crate) bytes_done: i64,
    pub(crate) bytes_total: Option<i64>,
    pub(crate) sent: i64,
    pub(crate) exceptions: i64,
    pub(crate) started: i64,
    pub(crate) last_heard: i64,
    pub(crate) ended: Option<i64>,
    pub(crate) reason: Option<String>,
    pub(crate) purpose: Word<Purpose>,
}

impl RestoreRow {
    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<Self> {
        diesel::insert_into(restores::table).values(self).returning(Self::as_returning()).get_result(on)
    }

    pub(crate) fn by_id(id: &str, on: &mut Connection) -> Rows<Option<Self>> {
        restores::table.filter(restores::id.eq(id)).select(Self::as_select()).get_result(on).optional()
    }

    /// As [`RunRow::update_if_underway`].
    pub(crate) fn update_if_underway(&self, on: &mut Connection) -> Rows<bool> {
        let underway = restores::table.find(self.number).filter(restores::outcome.eq(Outcome::Underway.word()));
        diesel::update(underway).set(self).execute(on).map(|rows| rows == 1)
    }

    /// Latest first, before the number `before`.
    pub(crate) fn list(workstation: &str, before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        restores::table
            .filter(restores::workstation_id.eq(workstation).and(restores::number.lt(before)))
            .order(restores::number.desc())
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }

    pub(crate) fn with_outcome(outcome: &str, on: &mut Connection) -> Rows<Vec<Self>> {
        restores::table.filter(restores::outcome.eq(outcome)).select(Self::as_select()).load(on)
    }
}

/// What was added to the image stores of a destination, by day: days since 1970, and bytes. The first point of a store is not
/// growth.
pub(crate) fn added_by_day(destination: &str, on: &mut Connection) -> Rows<Vec<(i64, i64)>> {
    let day = diesel::dsl::sql::<diesel::sql_types::BigInt>("points.committed / 86400000");
    let bytes = diesel::dsl::sql::<diesel::sql_types::BigInt>("sum(points.sent)");
    points::table
        .inner_join(stores::table.on(stores::id.eq(points::store_id)))
        .filter(stores::destination_id.eq(destination).and(points::sequence.gt(1)))
        .group_by(diesel::dsl::sql::<diesel::sql_types::BigInt>("1"))
        .select((day, bytes))
        .load(on)
}
