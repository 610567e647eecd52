//! Accounts and groups.

use std::collections::HashMap;

use super::joint::Disabled;
use super::schema::{
    accounts, destination_accounts, destination_groups, destinations, group_members, groups, spare_codes, workstations,
};
use super::{Connection, Count, Id, InJson, Rows, Word};
use diesel::dsl::count_star;
use diesel::prelude::*;
use jetfrost_types::{AccountId, GroupId, ScheduleSettings};
use jetfrost_wire::people::{AccountKind, Role};

use crate::clock::Moment;

#[derive(Debug, Clone, Default, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = accounts, treat_none_as_null = true)]
pub(crate) struct AccountRow {
    pub(crate) id: Id<AccountId>,
    pub(crate) login: String,
    pub(crate) login_key: String,
    pub(crate) display_name: String,
    pub(crate) role: Word<Role>,
    pub(crate) password: Option<Vec<u8>>,
    pub(crate) created: Moment,
    pub(crate) quota: Option<Count>,
    pub(crate) kind: Word<AccountKind>,
    #[diesel(embed)]
    pub(crate) disabled: Disabled,
    /// A removed account stays for the records that name it, and is nowhere else.
    pub(crate) removed: Option<Moment>,
    /// What its authenticator shares with the service; it counts once `totp_since` is set.
    pub(crate) totp: Option<Vec<u8>>,
    pub(crate) totp_since: Option<Moment>,
    /// The last step of which a code was used: none is good twice.
    pub(crate) totp_step: Count,
}

#[derive(Debug, Clone, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = groups, treat_none_as_null = true)]
pub(crate) struct GroupRow {
    pub(crate) id: Id<GroupId>,
    pub(crate) name: String,
    pub(crate) name_key: String,
    pub(crate) default_limit: Option<Count>,
    pub(crate) default_quota: Option<Count>,
    /// What is set of the schedule of its accounts' workstations.
    pub(crate) schedule: InJson<ScheduleSettings>,
}

/// What a group set of schedules: for whose workstations, the group's name, and what.
pub(crate) type SetByGroup = (Id<AccountId>, String, InJson<ScheduleSettings>);

impl AccountRow {
    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(accounts::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn update(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(accounts::table.find(&self.id)).set(self).execute(on).map(drop)
    }

    pub(crate) fn by_id(id: &AccountId, on: &mut Connection) -> Rows<Option<Self>> {
        accounts::table.find(id.as_str()).filter(accounts::removed.is_null()).select(Self::as_select()).get_result(on).optional()
    }

    pub(crate) fn by_key(key: &str, on: &mut Connection) -> Rows<Option<Self>> {
        let known = accounts::login_key.eq(key).and(accounts::removed.is_null());
        accounts::table.filter(known).select(Self::as_select()).get_result(on).optional()
    }

    /// By login, after the key `after`.
    pub(crate) fn list(after: &str, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        accounts::table
            .filter(accounts::login_key.gt(after).and(accounts::removed.is_null()))
            .order(accounts::login_key)
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }

    pub(crate) fn any_with_role(role: &str, on: &mut Connection) -> Rows<bool> {
        let one = accounts::role.eq(role).and(accounts::removed.is_null());
        diesel::select(diesel::dsl::exists(accounts::table.filter(one))).get_result(on)
    }

    /// Accounts other than this one that can sign in now with a role.
    pub(crate) fn others_that_can_be(&self, role: &str, on: &mut Connection) -> Rows<Count> {
        accounts::table
            .filter(accounts::id.ne(&self.id).and(accounts::role.eq(role)))
            .filter(accounts::removed.is_null().and(accounts::disabled.is_null()).and(accounts::password.is_not_null()))
            .select(count_star())
            .get_result(on)
    }

    /// Its groups, by name.
    pub(crate) fn groups(&self, on: &mut Connection) -> Rows<Vec<GroupRow>> {
        group_members::table
            .inner_join(groups::table)
            .filter(group_members::account_id.eq(&self.id))
            .order(groups::name_key)
            .select(GroupRow::as_select())
            .load(on)
    }

    pub(crate) fn set_groups(&self, to: &[Id<GroupId>], on: &mut Connection) -> Rows<()> {
        diesel::delete(group_members::table.filter(group_members::account_id.eq(&self.id))).execute(on)?;
        for group in to {
            diesel::insert_into(group_members::table)
                .values((group_members::group_id.eq(group), group_members::account_id.eq(&self.id)))
                .execute(on)?;
        }
        Ok(())
    }

    pub(crate) fn workstations(&self, on: &mut Connection) -> Rows<Count> {
        workstations::table.filter(workstations::account_id.eq(&self.id)).select(count_star()).get_result(on)
    }

    /// Takes it out of all groups and off all destinations.
    pub(crate) fn leave_everything(&self, on: &mut Connection) -> Rows<()> {
        self.set_groups(&[], on)?;
        self.set_spare_codes(&[], on)?;
        diesel::delete(destination_accounts::table.filter(destination_accounts::account_id.eq(&self.id))).execute(on).map(drop)
    }

    pub(crate) fn set_spare_codes(&self, hashes: &[Vec<u8>], on: &mut Connection) -> Rows<()> {
        diesel::delete(spare_codes::table.filter(spare_codes::account_id.eq(&self.id))).execute(on)?;
        for hash in hashes {
            diesel::insert_into(spare_codes::table)
                .values((spare_codes::account_id.eq(&self.id), spare_codes::code_hash.eq(hash)))
                .execute(on)?;
        }
        Ok(())
    }

    /// Uses a spare code up; says whether it was one.
    pub(crate) fn use_spare_code(&self, hash: &[u8], on: &mut Connection) -> Rows<bool> {
        let found = spare_codes::account_id.eq(&self.id).and(spare_codes::code_hash.eq(hash));
        Ok(diesel::delete(spare_codes::table.filter(found)).execute(on)? > 0)
    }

    pub(crate) fn spare_codes(&self, on: &mut Connection) -> Rows<Count> {
        spare_codes::table.filter(spare_codes::account_id.eq(&self.id)).select(count_star()).get_result(on)
    }
}

/// The groups that each account is in, with their names.
pub(crate) type GroupsOfAccounts = HashMap<Id<AccountId>, Vec<(Id<GroupId>, String)>>;

impl GroupRow {
    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(groups::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn update(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(groups::table.find(&self.id)).set(self).execute(on).map(drop)
    }

    /// Removes it, with all that was open through it.
    pub(crate) fn remove(&self, on: &mut Connection) -> Rows<()> {
        diesel::delete(group_members::table.filter(group_members::group_id.eq(&self.id))).execute(on)?;
        diesel::delete(destination_groups::table.filter(destination_groups::group_id.eq(&self.id))).execute(on)?;
        diesel::delete(groups::table.find(&self.id)).execute(on).map(drop)
    }

    pub(crate) fn by_id(id: &GroupId, on: &mut Connection) -> Rows<Option<Self>> {
        groups::table.find(id.as_str()).select(Self::as_select()).get_result(on).optional()
    }

    pub(crate) fn by_key(key: &str, on: &mut Connection) -> Rows<Option<Self>> {
        groups::table.filter(groups::name_key.eq(key)).select(Self::as_select()).get_result(on).optional()
    }

    pub(crate) fn list(after: &str, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        groups::table
            .filter(groups::name_key.gt(after))
            .order(groups::name_key)
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }

    pub(crate) fn set_schedule(id: &GroupId, to: InJson<ScheduleSettings>, on: &mut Connection) -> Rows<()> {
        diesel::update(groups::table.find(id.as_str())).set(groups::schedule.eq(to)).execute(on).map(drop)
    }

    /// What groups set of schedules; of each account by the names of its groups.
    pub(crate) fn schedules(owner: Option<&AccountId>, on: &mut Connection) -> Rows<Vec<SetByGroup>> {
        let mut query = groups::table
            .inner_join(group_members::table)
            .filter(groups::schedule.ne("{}"))
            .order(groups::name_key)
            .select((group_members::account_id, groups::name, groups::schedule))
            .into_boxed();
        if let Some(owner) = owner {
            query = query.filter(group_members::account_id.eq(owner.as_str().to_owned()));
        }
        query.load(on)
    }

    /// The groups of each account, by their names.
    pub(crate) fn of_accounts(on: &mut Connection) -> Rows<GroupsOfAccounts> {
        let rows: Vec<(Id<AccountId>, Id<GroupId>, String)> = groups::table
            .inner_join(group_members::table)
            .order(groups::name_key)
            .select((group_members::account_id, groups::id, groups::name))
            .load(on)?;
        let mut of_accounts: HashMap<_, Vec<_>> = HashMap::new();
        for (account, group, name) in rows {
            of_accounts.entry(account).or_default().push((group, name));
        }
        Ok(of_accounts)
    }

    pub(crate) fn logins(&self, on: &mut Connection) -> Rows<Vec<String>> {
        group_members::table
            .inner_join(accounts::table)
            .filter(group_members::group_id.eq(&self.id))
            .order(accounts::login_key)
            .select(accounts::login)
            .load(on)
    }

    /// Names of the destinations that are open to it.
    pub(crate) fn destinations(&self, on: &mut Connection) -> Rows<Vec<String>> {
        destination_groups::table
            .inner_join(destinations::table)
            .filter(destination_groups::group_id.eq(&self.id).and(destinations::gone.is_null()))
            .order(destinations::name_key)
            .select(destinations::name)
            .load(on)
    }

    pub(crate) fn set_members(&self, members: &[Id<AccountId>], on: &mut Connection) -> Rows<()> {
        diesel::delete(group_members::table.filter(group_members::group_id.eq(&self.id))).execute(on)?;
        for account in members {
            diesel::insert_into(group_members::table)
                .values((group_members::group_id.eq(&self.id), group_members::account_id.eq(account.as_str())))
                .execute(on)?;
        }
        Ok(())
    }
}
