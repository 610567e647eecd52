//! Destinations.

use super::joint::{DestinationShortened, Erasure, Withdrawn};
use super::people::GroupRow;
use super::schema::{accounts, destination_accounts, destination_groups, destinations, groups};
use super::{Connection, Count, Days, Id, InJson, Rows, Word, Written};
use diesel::prelude::*;
use jetfrost_types::labels;
use jetfrost_types::{AccountId, DestinationId, GroupId, ScheduleSettings};
use jetfrost_wire::destination::EncryptionPolicy;
use jetfrost_wire::retention::{AtLimit, Retention};

use crate::clock::Moment;

#[derive(Debug, Clone, Default, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = destinations, treat_none_as_null = true)]
pub(crate) struct DestinationRow {
    pub(crate) id: Id<DestinationId>,
    pub(crate) name: String,
    pub(crate) name_key: String,
    pub(crate) directory: String,
    pub(crate) capacity: Option<Count>,
    pub(crate) reserve: Count,
    pub(crate) created: Moment,
    pub(crate) retention: Written<Retention>,
    pub(crate) at_limit: Word<AtLimit>,
    pub(crate) waiting_days: Days,
    pub(crate) scrub_days: Days,
    pub(crate) granted_to: Word<GrantScope>,
    pub(crate) description: String,
    pub(crate) default_limit: Option<Count>,
    #[diesel(embed)]
    pub(crate) withdrawn: Withdrawn,
    pub(crate) missing_since: Option<Moment>,
    #[diesel(embed)]
    pub(crate) erasure: Erasure,
    /// When all of it went. The row stays for the records that name it.
    pub(crate) gone: Option<Moment>,
    pub(crate) records_backed_up: Option<Moment>,
    pub(crate) records_backup_trouble: Option<String>,
    pub(crate) encryption: Word<EncryptionPolicy>,
    /// How long after its commit nothing makes a point go.
    pub(crate) protected_days: Days,
    #[diesel(embed)]
    pub(crate) shortened: DestinationShortened,
    /// What is set of the schedule of its workstations.
    pub(crate) schedule: InJson<ScheduleSettings>,
}

/// To whom a destination is open.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) enum GrantScope {
    /// To everybody.
    Everybody,
    /// To the groups and accounts of two tables, which may be none.
    #[default]
    Chosen,
}

labels!(GrantScope: Everybody = "everybody", Chosen = "chosen");

/// To whom a destination is open, by name.
#[derive(Debug, Clone, Default)]
pub(crate) struct GrantedTo {
    pub(crate) groups: Vec<GroupRow>,
    /// Id and login.
    pub(crate) accounts: Vec<(Id<AccountId>, String)>,
}

impl DestinationRow {
    pub(crate) fn update(&self, on: &mut Connection) -> Rows<()> {
        diesel::update(destinations::table.find(&self.id)).set(self).execute(on).map(drop)
    }

    pub(crate) fn set_schedule(id: &DestinationId, to: InJson<ScheduleSettings>, on: &mut Connection) -> Rows<()> {
        diesel::update(destinations::table.find(id.as_str())).set(destinations::schedule.eq(to)).execute(on).map(drop)
    }

    pub(crate) fn insert(&self, on: &mut Connection) -> Rows<()> {
        diesel::insert_into(destinations::table).values(self).execute(on).map(drop)
    }

    pub(crate) fn by_id(id: &DestinationId, on: &mut Connection) -> Rows<Option<Self>> {
        destinations::table
            .find(id.as_str())
            .filter(destinations::gone.is_null())
            .select(Self::as_select())
            .get_result(on)
            .optional()
    }

    pub(crate) fn by_key(key: &str, on: &mut Connection) -> Rows<Option<Self>> {
        let known = destinations::name_key.eq(key).and(destinations::gone.is_null());
        destinations::table.filter(known).select(Self::as_select()).get_result(on).optional()
    }

    pub(crate) fn list(after: &str, most: usize, on: &mut Connection) -> Rows<Vec<Self>> {
        destinations::table
            .filter(destinations::name_key.gt(after).and(destinations::gone.is_null()))
            .order(destinations::name_key)
            .limit(most as i64)
            .select(Self::as_select())
            .load(on)
    }

    /// The names of all of them.
    pub(crate) fn names(on: &mut Connection) -> Rows<Vec<String>> {
        destinations::table.filter(destinations::gone.is_null()).select(destinations::name).load(on)
    }

    pub(crate) fn granted_to(&self, on: &mut Connection) -> Rows<GrantedTo> {
        let groups = destination_groups::table
            .inner_join(groups::table)
            .filter(destination_groups::destination_id.eq(&self.id))
            .order(groups::name_key)
            .select(GroupRow::as_select())
            .load(on)?;
        let accounts = destination_accounts::table
            .inner_join(accounts::table)
            .filter(destination_accounts::destination_id.eq(&self.id))
            .order(accounts::login_key)
            .select((accounts::id, accounts::login))
            .load(on)?;
        Ok(GrantedTo { groups, accounts })
    }

    /// Opens it to these groups and accounts, and to no others.
    pub(crate) fn set_granted_to(&self, groups: &[Id<GroupId>], accounts: &[Id<AccountId>], on: &mut Connection) -> Rows<()> {
        diesel::delete(destination_groups::table.filter(destination_groups::destination_id.eq(&self.id))).execute(on)?;
        diesel::delete(destination_accounts::table.filter(destination_accounts::destination_id.eq(&self.id))).execute(on)?;
        for group in groups {
            diesel::insert_into(destination_groups::table)
                .values((destination_groups::destination_id.eq(&self.id), destination_groups::group_id.eq(group)))
                .execute(on)?;
        }
        for account in accounts {
            diesel::insert_into(destination_accounts::table)
                .values((
                    destination_accounts::destination_id.eq(&self.id),
                    destination_accounts::account_id.eq(account.as_str()),
                ))
                .execute(on)?;
        }
        Ok(())
    }

    pub(crate) fn set_missing_since(id: &DestinationId, since: Option<Moment>, on: &mut Connection) -> Rows<()> {
        diesel::update(destinations::table.find(id.as_str())).set(destinations::missing_since.eq(since)).execute(on).map(drop)
    }

    pub(crate) fn set_records_backed_up(id: &DestinationId, at: Moment, on: &mut Connection) -> Rows<()> {
        diesel::update(destinations::table.find(id.as_str()))
            .set((destinations::records_backed_up.eq(at), destinations::records_backup_trouble.eq(None::<String>)))
            .execute(on)
            .map(drop)
    }

    pub(crate) fn set_records_backup_trouble(id: &DestinationId, why: &str, on: &mut Connection) -> Rows<()> {
        diesel::update(destinations::table.find(id.as_str()))
            .set(destinations::records_backup_trouble.eq(why))
            .execute(on)
            .map(drop)
    }
}
