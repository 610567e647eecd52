//! Orders: restores that somebody asked a workstation's agent to do.

use diesel::prelude::*;
use jetfrost_types::{RestoreId, RestoreOrderId, WorkstationId};
use jetfrost_wire::order::OrderState;

use super::schema::orders;
use super::{Connection, Id, Rows, Word};
use crate::clock::Moment;

#[derive(Debug, Clone, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = orders, treat_none_as_null = true)]
pub(crate) struct OrderRow {
    #[diesel(skip_insertion)]
    pub(crate) number: i64,
    pub(crate) id: Id<RestoreOrderId>,
    pub(crate) workstation_id: Id<WorkstationId>,
    pub(crate) by: String,
    pub(crate) origin: String,
    pub(crate) state: Word<OrderState>,
    pub(crate) created: Moment,
    pub(crate) expires: Moment,
    pub(crate) restore_id: Option<Id<RestoreId>>,
    pub(crate) reason: Option<String>,
    pub(crate) ended: Option<Moment>,
    /// There until it has ended.
    pub(crate) sealed: Option<Vec<u8>>,
}

impl OrderRow {
    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<Self> {
        diesel::insert_into(orders::table).values(self).returning(Self::as_returning()).get_result(on)
    }

    pub(crate) fn by_id(id: &RestoreOrderId, on: &mut Connection) -> Rows<Option<Self>> {
        orders::table.filter(orders::id.eq(id.as_str())).select(Self::as_select()).get_result(on).optional()
    }

    pub(crate) fn update(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(orders::table.find(self.number)).set(self).execute(on).map(drop)
    }

    /// Whether it can still be carried out, or is.
    pub(crate) fn is_open(&self, now: Moment) -> bool {
        !self.shown_state(now).has_ended()
    }

    /// Its state; one whose time went by is over, whether that is on record or not.
    pub(crate) fn shown_state(&self, now: Moment) -> OrderState {
        match self.state.0 {
            OrderState::Waiting | OrderState::Asking if self.expires <= now => OrderState::Expired,
            state => state,
        }
    }

    /// It is being carried out by this restore.
    pub(crate) fn take_up(&mut self, restore: &Id<RestoreId>, on: &mut Connection) -> Rows<()> {
        (self.state, self.restore_id) = (OrderState::Underway.into(), Some(restore.clone()));
        self.update(on)
    }

    /// It is over; what was sealed in it goes.
    pub(crate) fn end(&mut self, state: OrderState, reason: Option<String>, at: Moment) {
        (self.state, self.reason) = (state.into(), reason);
        (self.ended, self.sealed) = (Some(at), None);
    }

    /// Those of a workstation that have not ended on record, the earliest first.
    pub(crate) fn open_of(workstation: &WorkstationId, on: &mut Connection) -> Rows<Vec<Self>> {
        orders::table
            .filter(orders::workstation_id.eq(workstation.as_str()).and(orders::ended.is_null()))
            .order(orders::number)
            .select(Self::as_select())
            .load(on)
    }

    /// All of a workstation, latest first, before the number `before`.
    pub(crate) fn list(workstation: &WorkstationId, before: i64, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        orders::table
            .filter(orders::workstation_id.eq(workstation.as_str()).and(orders::number.lt(before)))
            .order(orders::number.desc())
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }
}
