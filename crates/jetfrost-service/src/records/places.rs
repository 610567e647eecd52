//! Destinations, and the installation itself.

use diesel::prelude::*;

use super::schema::{destinations, installation, stores};
use super::{Connection, Rows};

#[derive(Debug, Clone, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = destinations, treat_none_as_null = true)]
pub(crate) struct DestinationRow {
    pub(crate) id: String,
    pub(crate) name: String,
    pub(crate) name_key: String,
    pub(crate) directory: String,
    pub(crate) capacity: Option<i64>,
    pub(crate) reserve: i64,
    pub(crate) created: i64,
    pub(crate) keeping: String,
    pub(crate) at_limit: String,
    pub(crate) waiting_days: i64,
    pub(crate) scrub_days: i64,
}

impl DestinationRow {
    pub(crate) fn update(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(destinations::table.find(&self.id)).set(self).execute(on).map(drop)
    }

    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(destinations::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn by_id(id: &str, on: &mut Connection) -> Rows<Option<Self>> {
        destinations::table.find(id).select(Self::as_select()).first(on).optional()
    }

    pub(crate) fn by_key(key: &str, on: &mut Connection) -> Rows<Option<Self>> {
        destinations::table.filter(destinations::name_key.eq(key)).select(Self::as_select()).first(on).optional()
    }

    pub(crate) fn list(after: &str, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        destinations::table
            .filter(destinations::name_key.gt(after))
            .order(destinations::name_key)
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }

    /// The ids of its image stores.
    pub(crate) fn stores(&self, on: &mut Connection) -> Rows<Vec<String>> {
        let there = stores::destination_id.eq(&self.id).and(stores::gone.is_null());
        stores::table.filter(there).select(stores::id).load(on)
    }
}

/// The installation's id, made at first start.
pub(crate) fn installation_id(on: &mut Connection) -> Rows<Option<String>> {
    installation::table.select(installation::id).first(on).optional()
}

pub(crate) fn insert_installation(id: &str, created: i64, on: &mut Connection) -> Rows<()> {
    diesel::insert_into(installation::table)
        .values((installation::id.eq(id), installation::created.eq(created)))
        .execute(on)
        .map(drop)
}

pub(crate) fn first_code_hash(on: &mut Connection) -> Rows<Option<Vec<u8>>> {
    installation::table.select(installation::first_code_hash).first(on)
}

pub(crate) fn set_first_code_hash(hash: Option<&[u8]>, on: &mut Connection) -> Rows<()> {
    diesel::update(installation::table).set(installation::first_code_hash.eq(hash)).execute(on).map(drop)
}

/// The public half of the office key and since when it is asked for.
pub(crate) fn escrow(on: &mut Connection) -> Rows<Option<(Vec<u8>, i64)>> {
    let found: Option<(Option<Vec<u8>>, Option<i64>)> =
        installation::table.select((installation::escrow_key, installation::escrow_since)).first(on).optional()?;
    Ok(found.and_then(|(key, since)| key.zip(since)))
}

pub(crate) fn set_escrow(to: Option<(&[u8], i64)>, on: &mut Connection) -> Rows<()> {
    let (key, since) = to.unzip();
    diesel::update(installation::table)
        .set((installation::escrow_key.eq(key), installation::escrow_since.eq(since)))
        .execute(on)
        .map(drop)
}
