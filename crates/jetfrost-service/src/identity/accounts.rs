//! Accounts.

use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_types::GroupId;
use jetfrost_types::{AccountId, SessionId};
use jetfrost_wire::event::Event;
use jetfrost_wire::people::{Account, AccountChange, NewAccount, NewPassword, PasswordSet, Role};
use jetfrost_wire::{Page, PageQuery};

use crate::identity::Identity;
use crate::records::{AccountRow, Connection, Count, Deed, GroupRow, Id, SessionRow, WorkstationLine};
use crate::secrets::{hash_password, new_id};
use crate::shared::versions::{Made, Seen};
use crate::shared::{
    Caller, Conflict, Invalid, Result, ServiceError, Thing, checked_name, convert, limit_to_db, shown_limit, taken,
};

impl Identity {
    pub(crate) fn accounts(&self, caller: &Caller, page: &PageQuery) -> Result<Page<Account>> {
        caller.may(&Act::SeeOffice)?;
        let size = page.size();
        let after = page.after.clone().unwrap_or_default();
        self.records.read(|on| {
            let rows = AccountRow::list(&after, size + 1, on)?;
            let items = rows.iter().map(|row| convert::account(row, on)).collect::<Result<_>>()?;
            Ok(Page::from_one_more(items, size, |a: &Account| names::key(&a.login)))
        })
    }

    pub(crate) fn account(&self, caller: &Caller, id: &AccountId) -> Result<Account> {
        caller.may(&Act::SeeOffice)?;
        self.records.read(|on| {
            let row = AccountRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            convert::account(&row, on)
        })
    }

    pub(crate) fn add_account(&self, caller: &Caller, new: &NewAccount) -> Result<Account> {
        caller.may(&Act::ChangeOffice)?;
        let account = self.records.write(|on| self.insert_new_account(caller, new, on))?;
        self.events.tell(Event::Office);
        Ok(account)
    }

    /// Adds an account, within a transaction.
    pub(crate) fn insert_new_account(&self, caller: &Caller, new: &NewAccount, on: &mut Connection) -> Result<Account> {
        let mut row = self.new_account_row(new)?;
        let groups = groups_named(&new.groups, on)?;
        row.quota = match new.quota {
            Some(quota) => limit_to_db(quota)?,
            None => groups.iter().filter_map(|group| group.default_quota).max(),
        };
        insert_account(&row, on)?;
        row.set_groups(&ids(groups), on)?;
        let account = convert::account(&row, on)?;
        self.trail.note_change(caller, "account added", &row.login, None, Some(&said(&account)), on)?;
        Ok(account)
    }

    fn new_account_row(&self, new: &NewAccount) -> Result<AccountRow> {
        let login = checked_name(&new.login)?;
        let display_name = new.display_name.as_deref().map_or(Ok(login.clone()), checked_name)?;
        if let Some(password) = &new.password {
            check_password(password)?;
        }
        Ok(AccountRow {
            id: Id(new_id(&*self.random)),
            login_key: names::key(&login),
            login,
            display_name,
            role: new.role.into(),
            password: new.password.as_ref().map(|password| hash_password(password, &*self.random)),
            created: self.clock.now(),
            kind: new.kind.into(),
            ..AccountRow::default()
        })
    }

    /// Changes what is given. Neither workstations nor sessions notice another login name.
    pub(crate) fn change_account(&self, caller: &Caller, id: &AccountId, change: &AccountChange, seen: &Seen) -> Result<Account> {
        caller.may(&Act::ChangeOffice)?;
        let account = self.records.write(|on| {
            let row = AccountRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            let now = convert::account(&row, on)?;
            let made = Made { subject: None, after: &said(&now) };
            seen.check(&now.version, &made, on)?;
            self.alter_account(caller, row, change, on)
        })?;
        self.events.tell(Event::Office);
        if change.groups.is_some() {
            // Its workstations go by the schedules of its groups.
            self.events.tell(Event::Schedules);
        }
        Ok(account)
    }

    /// Changes what is given of an account, within a transaction.
    pub(crate) fn alter_account(
        &self,
        caller: &Caller,
        mut row: AccountRow,
        change: &AccountChange,
        on: &mut Connection,
    ) -> Result<Account> {
        let before = convert::account(&row, on)?;
        if let Some(login) = &change.login {
            row.login = checked_name(login)?;
            row.login_key = names::key(&row.login);
        }
        if let Some(name) = &change.display_name {
            row.display_name = checked_name(name)?;
        }
        if let Some(kind) = change.kind {
            row.kind = kind.into();
        }
        if let Some(role) = change.role {
            if role != Role::Administrator {
                stays_administered(&row, on)?;
            }
            row.role = role.into();
        }
        if let Some(quota) = change.quota {
            row.quota = limit_to_db(quota)?;
        }
        row.update(on).map_err(|e| taken(&row.login, e))?;
        if let Some(groups) = &change.groups {
            row.set_groups(&ids(groups_named(groups, on)?), on)?;
        }
        let after = convert::account(&row, on)?;
        self.trail.note_change(caller, "account changed", &before.login, Some(&said(&before)), Some(&said(&after)), on)?;
        Ok(after)
    }

    /// Sets an account's password. All that was signed in with the old one is signed out; workstations go on.
    pub(crate) fn set_password(&self, caller: &Caller, id: &AccountId, new: &NewPassword) -> Result<PasswordSet> {
        caller.may(&Act::ChangeOffice)?;
        if let Some(password) = &new.password {
            check_password(password)?;
        }
        let set = self.records.write(|on| {
            let mut row = AccountRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            if new.password.is_none() {
                stays_administered(&row, on)?;
            }
            row.password = new.password.as_ref().map(|password| hash_password(password, &*self.random));
            row.update(on)?;
            let what = if row.password.is_some() { "password set" } else { "password taken away" };
            self.trail.note(caller, what, &row.login, on)?;
            // Whoever sets their own password stays where they are.
            self.password_set(&row, caller.session_id(), on)
        })?;
        self.events.tell(Event::Office);
        Ok(set)
    }

    /// Signs out all but one session of an account whose password was set.
    pub(crate) fn password_set(&self, row: &AccountRow, but: Option<&SessionId>, on: &mut Connection) -> Result<PasswordSet> {
        let signed_out = SessionRow::end_all(&row.id, but, on)? as u64;
        let lines = WorkstationLine::all(Some(&row.id), on)?;
        let going_on = lines.into_iter().filter(|line| line.workstation.rest.is_none());
        Ok(PasswordSet { signed_out, unaffected: going_on.map(|line| line.workstation.name).collect() })
    }

    /// Shuts an account out, with all its workstations, until it is enabled again. Nothing stored goes.
    pub(crate) fn disable_account(&self, caller: &Caller, id: &AccountId) -> Result<Account> {
        let now = self.clock.now();
        self.set_disabled(caller, id, "account disabled", |row, on| {
            stays_administered(row, on)?;
            row.disabled.get_or_insert_with(|| Deed { at: now, by: caller.name() });
            SessionRow::end_all(&row.id, None, on)?;
            Ok(())
        })
    }

    pub(crate) fn enable_account(&self, caller: &Caller, id: &AccountId) -> Result<Account> {
        self.set_disabled(caller, id, "account enabled", |row, _| {
            *row.disabled = None;
            Ok(())
        })
    }

    fn set_disabled(
        &self,
        caller: &Caller,
        id: &AccountId,
        what: &str,
        change: impl FnOnce(&mut AccountRow, &mut Connection) -> Result<()>,
    ) -> Result<Account> {
        caller.may(&Act::ChangeOffice)?;
        let account = self.records.write(|on| {
            let mut row = AccountRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            change(&mut row, on)?;
            row.update(on)?;
            self.trail.note(caller, what, &row.login, on)?;
            convert::account(&row, on)
        })?;
        self.events.tell(Event::Office);
        Ok(account)
    }
}

/// An account by its login name.
pub(crate) fn account_named(login: &str, on: &mut Connection) -> Result<AccountRow> {
    let found = AccountRow::by_key(&names::key(login), on)?;
    found.ok_or_else(|| Invalid::Unknown { what: Thing::Account, name: login.into() }.into())
}

/// Groups by their names, each once.
pub(crate) fn groups_named(wanted: &[String], on: &mut Connection) -> Result<Vec<GroupRow>> {
    let mut found: Vec<GroupRow> = Vec::new();
    for name in wanted {
        let group = GroupRow::by_key(&names::key(name), on)?;
        let group = group.ok_or_else(|| Invalid::Unknown { what: Thing::Group, name: name.clone() })?;
        if found.iter().all(|other| other.id != group.id) {
            found.push(group);
        }
    }
    Ok(found)
}

pub(crate) fn ids(groups: Vec<GroupRow>) -> Vec<Id<GroupId>> {
    groups.into_iter().map(|group| group.id).collect()
}

pub(crate) fn insert_account(row: &AccountRow, on: &mut Connection) -> Result<()> {
    row.insert(on).map_err(|e| taken(&row.login, e))
}

pub(crate) fn check_password(password: &str) -> Result<()> {
    names::check_password(password).map_err(|e| Invalid::from(e).into())
}

/// Refuses to take an administrator away when nobody else could do the work.
pub(crate) fn stays_administered(row: &AccountRow, on: &mut Connection) -> Result<()> {
    let administrator = Role::Administrator.word();
    if row.role.0 == Role::Administrator && row.others_that_can_be(administrator, on)? == Count::ZERO {
        return Err(ServiceError::Conflict(Conflict::LastAdministrator));
    }
    Ok(())
}

/// An account in a line, for the audit log.
fn said(account: &Account) -> String {
    let groups = if account.groups.is_empty() { String::new() } else { format!(", in {}", account.groups.join(", ")) };
    format!(
        "{}, '{}', {} {}{groups}, quota {}",
        account.login,
        account.display_name,
        account.kind.word(),
        account.role.word(),
        shown_limit(account.quota)
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::shared::Who;
    use crate::shared::testing::Office;

    #[test]
    fn somebody_who_can_administer_the_office_stays() {
        let office = Office::open();
        let identity = &office.services.identity;
        let Who::Person { account, .. } = &office.ingrid.who else { panic!("a person") };
        let demote = AccountChange { role: Some(Role::Helpdesk), ..AccountChange::default() };
        let refused = identity.change_account(&office.ingrid, &account.id, &demote, &Seen::Anything);
        assert!(matches!(refused, Err(ServiceError::Conflict(Conflict::LastAdministrator))), "{refused:?}");
        office.person("sture", Role::Administrator);
        identity.change_account(&office.ingrid, &account.id, &demote, &Seen::Anything).expect("now there is another");
    }

    #[test]
    fn of_two_who_change_an_account_the_second_changes_nothing() {
        let office = Office::open();
        let sture = office.person("sture", Role::Administrator);
        let identity = &office.services.identity;
        let tove = identity.add_account(&office.ingrid, &NewAccount::new("tove", Role::Member)).expect("added");
        let named = |name: &str| AccountChange { display_name: Some(name.into()), ..AccountChange::default() };
        let seen = Seen::OneOf(vec![tove.version]);
        identity.change_account(&sture, &tove.id, &named("Tove Lund"), &seen).expect("nobody was faster");
        match identity.change_account(&office.ingrid, &tove.id, &named("T. Lund"), &seen) {
            Err(ServiceError::ChangedMeanwhile { by: Some((who, at)) }) => {
                assert_eq!((who.as_str(), at), ("sture", office.now()));
            }
            other => panic!("{other:?}"),
        }
        assert_eq!(identity.account(&office.ingrid, &tove.id).expect("there").display_name, "Tove Lund");
    }
}
