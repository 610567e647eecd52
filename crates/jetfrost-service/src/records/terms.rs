//! By what the points of an image store were kept before that was changed.

use super::schema::earlier_terms;
use super::{Connection, Days, Id, Rows, Word, Written};
use diesel::prelude::*;
use jetfrost_types::ImageStoreId;
use jetfrost_wire::retention::{AtLimit, Retention};

use crate::clock::Moment;

#[derive(Debug, Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = earlier_terms)]
pub(crate) struct EarlierTermsRow {
    pub(crate) store_id: Id<ImageStoreId>,
    pub(crate) retention: Written<Retention>,
    pub(crate) protected_days: Days,
    pub(crate) at_limit: Word<AtLimit>,
    /// When other terms came in their place.
    pub(crate) ended: Moment,
}

impl EarlierTermsRow {
    /// Notes them. Terms that were in force before, and are once more until now, are one row: there are no more rows than there
    /// were different terms.
    pub(crate) fn put(&self, on: &mut Connection) -> Rows<()> {
        let same = earlier_terms::table
            .filter(earlier_terms::store_id.eq(&self.store_id))
            .filter(earlier_terms::retention.eq(&self.retention).and(earlier_terms::protected_days.eq(self.protected_days)))
            .filter(earlier_terms::at_limit.eq(&self.at_limit));
        if diesel::update(same).set(earlier_terms::ended.eq(self.ended)).execute(on)? > 0 {
            return Ok(());
        }
        diesel::insert_into(earlier_terms::table).values(self).execute(on).map(drop)
    }

    /// Those that may still count for what is there, oldest first.
    pub(crate) fn of_store(store: &ImageStoreId, on: &mut Connection) -> Rows<Vec<Self>> {
        let of_store = earlier_terms::table.filter(earlier_terms::store_id.eq(store.as_str())).order(earlier_terms::id);
        of_store.select(Self::as_select()).load(on)
    }

    /// Removes those that had ended before `moment`.
    pub(crate) fn remove_ended_before(moment: Moment, store: &ImageStoreId, on: &mut Connection) -> Rows<()> {
        let over = earlier_terms::store_id.eq(store.as_str()).and(earlier_terms::ended.lt(moment));
        diesel::delete(earlier_terms::table.filter(over)).execute(on).map(drop)
    }
}
