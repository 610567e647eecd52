//! Steps of the set-up list that somebody decided to leave as they are.

use super::schema::{accounts, destinations, dismissed, stores};
use super::{Connection, Count, Rows, Word};
use diesel::prelude::*;
use jetfrost_types::Step;

use crate::clock::Moment;

#[derive(Debug, Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = dismissed)]
pub(crate) struct DismissedRow {
    pub(crate) step: Word<Step>,
    pub(crate) why: String,
    pub(crate) by: String,
    pub(crate) at: Moment,
}

impl DismissedRow {
    pub(crate) fn all(on: &mut Connection) -> Rows<Vec<Self>> {
        dismissed::table.select(Self::as_select()).load(on)
    }

    pub(crate) fn put(&self, on: &mut Connection) -> Rows<()> {
        diesel::replace_into(dismissed::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn remove(step: Step, on: &mut Connection) -> Rows<()> {
        diesel::delete(dismissed::table.find(step.word())).execute(on).map(drop)
    }
}

/// How many limits, quotas and capacities are set.
pub(crate) fn limits(on: &mut Connection) -> Rows<Count> {
    let capacities: Count = destinations::table
        .filter(destinations::gone.is_null())
        .filter(destinations::capacity.is_not_null().or(destinations::default_limit.is_not_null()))
        .count()
        .get_result(on)?;
    let quotas: Count =
        accounts::table.filter(accounts::removed.is_null().and(accounts::quota.is_not_null())).count().get_result(on)?;
    let limits: Count =
        stores::table.filter(stores::gone.is_null().and(stores::size_limit.is_not_null())).count().get_result(on)?;
    Ok(capacities + quotas + limits)
}

/// How many accounts are no administrator's, and how many administrators who can sign in have no second factor.
pub(crate) fn people(administrator: &str, on: &mut Connection) -> Rows<(Count, Count)> {
    let others =
        accounts::table.filter(accounts::removed.is_null().and(accounts::role.ne(administrator))).count().get_result(on)?;
    let single = accounts::table
        .filter(accounts::removed.is_null().and(accounts::role.eq(administrator)).and(accounts::disabled.is_null()))
        .filter(accounts::password.is_not_null().and(accounts::totp_since.is_null()))
        .count()
        .get_result(on)?;
    Ok((others, single))
}
