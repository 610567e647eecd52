//! The key slots of image stores, as they were added.

use diesel::prelude::*;
use jetfrost_types::ImageStoreId;

use super::schema::{slots, stores};
use super::{Connection, Id, Rows};

#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = slots)]
pub(crate) struct SlotRow {
    pub(crate) store_id: Id<ImageStoreId>,
    pub(crate) id: String,
    pub(crate) bytes: Vec<u8>,
}

impl SlotRow {
    /// Adds a slot, unless this one is there.
    pub(crate) fn put(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_or_ignore_into(slots::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn of_store(store: &ImageStoreId, on: &mut Connection) -> Rows<Vec<Self>> {
        slots::table.filter(slots::store_id.eq(store.as_str())).order(slots::id).select(Self::as_select()).load(on)
    }

    pub(crate) fn remove(store: &ImageStoreId, id: &str, on: &mut Connection) -> Rows<()> {
        diesel::delete(slots::table.find((store.as_str(), id))).execute(on).map(drop)
    }

    /// Forgets those of a store: what is on its disk is taken over the next time.
    pub(crate) fn forget(store: &ImageStoreId, on: &mut Connection) -> Rows<()> {
        diesel::delete(slots::table.filter(slots::store_id.eq(store.as_str()))).execute(on)?;
        Self::set_noted(store, false, on)
    }

    pub(crate) fn set_noted(store: &ImageStoreId, noted: bool, on: &mut Connection) -> Rows<()> {
        diesel::update(stores::table.find(store.as_str())).set(stores::slots_noted.eq(noted)).execute(on).map(drop)
    }
}
