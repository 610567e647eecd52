//! What agents of workstations reported last, and what kept backups waiting before.

use diesel::dsl::count_star;
use diesel::prelude::*;
use jetfrost_types::{AccountId, DelayReason, WorkstationId};

use crate::clock::Moment;
use crate::records::joint::AgentDelay;
use crate::records::schema::{agents, waits, workstations};
use crate::records::{Connection, Count, Id, Rows, Word};

#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = agents, treat_none_as_null = true)]
pub(crate) struct AgentRow {
    pub(crate) workstation_id: Id<WorkstationId>,
    /// When it reported, by the service's clock.
    pub(crate) seen: Moment,
    /// When its next run is due.
    pub(crate) due: Option<Moment>,
    /// What is in the way of a run that is due.
    #[diesel(embed)]
    pub(crate) delay: AgentDelay,
    /// How many runs failed since the last complete one, also those that never began.
    pub(crate) failures: Count,
}

/// What kept a workstation's backups waiting, and is over.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = waits)]
pub(crate) struct WaitRow {
    pub(crate) number: i64,
    pub(crate) reason: Word<DelayReason>,
    pub(crate) since: Moment,
    pub(crate) until: Moment,
}

#[derive(Debug, Insertable)]
#[diesel(table_name = waits)]
pub(crate) struct NewWait {
    pub(crate) workstation_id: Id<WorkstationId>,
    pub(crate) reason: Word<DelayReason>,
    pub(crate) since: Moment,
    pub(crate) until: Moment,
}

/// So many of a workstation are kept, the latest.
const MOST_WAITS: i64 = 1_000;

impl NewWait {
    /// Puts it on record; one that is there already is not put there twice. Of too many the earliest go.
    pub(crate) fn put(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_or_ignore_into(waits::table).values(self).execute(on)?;
        let own = waits::workstation_id.eq(&self.workstation_id);
        let last = waits::table.filter(own).order(waits::number.desc()).offset(MOST_WAITS).select(waits::number);
        let last: Option<i64> = last.limit(1).get_result(on).optional()?;
        match last {
            Some(last) => diesel::delete(waits::table.filter(own.and(waits::number.le(last)))).execute(on).map(drop),
            None => Ok(()),
        }
    }
}

impl WaitRow {
    /// How many backups that were due waited until some moment within a time; of one account only when `owner` is given.
    pub(crate) fn ended(owner: Option<&AccountId>, from: Moment, until: Moment, on: &mut Connection) -> Rows<Count> {
        let mut query = waits::table
            .inner_join(workstations::table.on(workstations::id.eq(waits::workstation_id)))
            .filter(waits::until.ge(from).and(waits::until.lt(until)))
            .select(count_star())
            .into_boxed();
        if let Some(owner) = owner {
            query = query.filter(workstations::account_id.eq(owner.as_str().to_owned()));
        }
        query.get_result(on)
    }

    /// The latest of a workstation before a number.
    pub(crate) fn list(id: &WorkstationId, before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        waits::table
            .filter(waits::workstation_id.eq(id.as_str()).and(waits::number.lt(before)))
            .order(waits::number.desc())
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }
}

impl AgentRow {
    pub(crate) fn of(id: &WorkstationId, on: &mut Connection) -> Rows<Option<Self>> {
        agents::table.find(id.as_str()).select(Self::as_select()).get_result(on).optional()
    }

    pub(crate) fn put(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(agents::table)
            .values(self)
            .on_conflict(agents::workstation_id)
            .do_update()
            .set(self)
            .execute(on)
            .map(drop)
    }

    /// The agent is another machine's from now on, or nobody's.
    pub(crate) fn forget(id: &WorkstationId, on: &mut Connection) -> Rows<()> {
        diesel::delete(agents::table.find(id.as_str())).execute(on).map(drop)
    }
}
