//! Accounts and groups.

use diesel::dsl::count_star;
use diesel::prelude::*;

use super::schema::{accounts, group_members, groups, workstations};
use super::{Connection, Rows};

#[derive(Debug, Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = accounts)]
pub(crate) struct AccountRow {
    pub(crate) id: String,
    pub(crate) login: String,
    pub(crate) login_key: String,
    pub(crate) display_name: String,
    pub(crate) role: String,
    pub(crate) password: Option<Vec<u8>>,
    pub(crate) created: i64,
    pub(crate) quota: Option<i64>,
}

#[derive(Debug, Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = groups)]
pub(crate) struct GroupRow {
    pub(crate) id: String,
    pub(crate) name: String,
    pub(crate) name_key: String,
}

impl AccountRow {
    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(accounts::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn by_id(id: &str, on: &mut Connection) -> Rows<Option<Self>> {
        accounts::table.find(id).select(Self::as_select()).first(on).optional()
    }

    pub(crate) fn by_key(key: &str, on: &mut Connection) -> Rows<Option<Self>> {
        accounts::table.filter(accounts::login_key.eq(key)).select(Self::as_select()).first(on).optional()
    }

    /// By login, after the key `after`.
    pub(crate) fn list(after: &str, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        accounts::table
            .filter(accounts::login_key.gt(after))
            .order(accounts::login_key)
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }

    pub(crate) fn set_quota(id: &str, quota: Option<i64>, on: &mut Connection) -> Rows<()> {
        diesel::update(accounts::table.find(id)).set(accounts::quota.eq(quota)).execute(on).map(drop)
    }

    pub(crate) fn any_with_role(role: &str, on: &mut Connection) -> Rows<bool> {
        diesel::select(diesel::dsl::exists(accounts::table.filter(accounts::role.eq(role)))).get_result(on)
    }

    pub(crate) fn group_names(&self, on: &mut Connection) -> Rows<Vec<String>> {
        group_members::table
            .inner_join(groups::table)
            .filter(group_members::account_id.eq(&self.id))
            .order(groups::name_key)
            .select(groups::name)
            .load(on)
    }

    pub(crate) fn workstations(&self, on: &mut Connection) -> Rows<i64> {
        workstations::table.filter(workstations::account_id.eq(&self.id)).select(count_star()).first(on)
    }
}

impl GroupRow {
    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(groups::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn by_id(id: &str, on: &mut Connection) -> Rows<Option<Self>> {
        groups::table.find(id).select(Self::as_select()).first(on).optional()
    }

    pub(crate) fn list(after: &str, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        groups::table
            .filter(groups::name_key.gt(after))
            .order(groups::name_key)
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }

    pub(crate) fn logins(&self, on: &mut Connection) -> Rows<Vec<String>> {
        group_members::table
            .inner_join(accounts::table)
            .filter(group_members::group_id.eq(&self.id))
            .order(accounts::login_key)
            .select(accounts::login)
            .load(on)
    }

    pub(crate) fn set_members(&self, members: &[String], on: &mut Connection) -> Rows<()> {
        diesel::delete(group_members::table.filter(group_members::group_id.eq(&self.id))).execute(on)?;
        for account in members {
            diesel::insert_into(group_members::table)
                .values((group_members::group_id.eq(&self.id), group_members::account_id.eq(account)))
                .execute(on)?;
        }
        Ok(())
    }
}
