//! Accounts and groups.

use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_wire::event::Event;
use jetfrost_wire::people::{Account, Group, GroupLogins, NewAccount, NewGroup};
use jetfrost_wire::service::AuditEntry;
use jetfrost_wire::{GroupId, Page, PageQuery};

use super::sign_in::insert_account;
use super::{Caller, Desk, DeskError, Result, checked_name, convert};
use crate::records::{AccountRow, AuditRow, Connection, GroupRow, is_duplicate};
use crate::secrets::{hash_password, new_id};

impl Desk {
    pub(crate) fn accounts(&self, caller: &Caller, page: &PageQuery) -> Result<Page<Account>> {
        caller.may(&Act::SeeOffice)?;
        let size = page.size();
        let after = page.after.clone().unwrap_or_default();
        self.records.read(|on| {
            let rows = AccountRow::list(&after, size + 1, on)?;
            let items = rows.iter().map(|row| Ok(convert::account(row, row.group_names(on)?, row.workstations(on)?)));
            Ok(Page::from_one_more(items.collect::<Result<_>>()?, size, |a: &Account| names::key(&a.login)))
        })
    }

    pub(crate) fn add_account(&self, caller: &Caller, new: &NewAccount) -> Result<Account> {
        caller.may(&Act::ChangeOffice)?;
        let login = checked_name(&new.login)?;
        let display_name = new.display_name.as_deref().map_or(Ok(login.clone()), checked_name)?;
        if let Some(password) = &new.password {
            names::check_password(password).map_err(|e| DeskError::Invalid(e.to_string()))?;
        }
        let row = AccountRow {
            id: new_id(&*self.random),
            login_key: names::key(&login),
            login,
            display_name,
            role: new.role.word().into(),
            password: new.password.as_ref().map(|password| hash_password(password, &*self.random)),
            created: self.now(),
            quota: None,
        };
        let account = self.records.write(|on| {
            insert_account(&row, on)?;
            self.audit(caller, "account added", &row.login, on)?;
            Ok::<_, DeskError>(convert::account(&row, vec![], 0))
        })?;
        self.events.tell(Event::Office);
        Ok(account)
    }

    pub(crate) fn groups(&self, caller: &Caller, page: &PageQuery) -> Result<Page<Group>> {
        caller.may(&Act::SeeOffice)?;
        let size = page.size();
        let after = page.after.clone().unwrap_or_default();
        self.records.read(|on| {
            let rows = GroupRow::list(&after, size + 1, on)?;
            let items = rows.iter().map(|row| group(row, on)).collect::<Result<_>>()?;
            Ok(Page::from_one_more(items, size, |g: &Group| names::key(&g.name)))
        })
    }

    pub(crate) fn add_group(&self, caller: &Caller, new: &NewGroup) -> Result<Group> {
        caller.may(&Act::ChangeOffice)?;
        let name = checked_name(&new.name)?;
        let row = GroupRow { id: new_id(&*self.random), name_key: names::key(&name), name };
        let group = self.records.write(|on| {
            row.insert(on).map_err(|e| if is_duplicate(&e) { DeskError::NameTaken(row.name.clone()) } else { e.into() })?;
            self.audit(caller, "group added", &row.name, on)?;
            group(&row, on)
        })?;
        self.events.tell(Event::Office);
        Ok(group)
    }

    pub(crate) fn set_group_logins(&self, caller: &Caller, id: &str, logins: &GroupLogins) -> Result<Group> {
        caller.may(&Act::ChangeOffice)?;
        let group = self.records.write(|on| {
            let row = GroupRow::by_id(id, on)?.ok_or(DeskError::NotFound("group"))?;
            let mut members = Vec::new();
            for login in &logins.logins {
                let account = AccountRow::by_key(&names::key(login), on)?;
                members.push(account.ok_or_else(|| DeskError::Invalid(format!("there is no account '{login}'")))?.id);
            }
            members.sort_unstable();
            members.dedup();
            row.set_members(&members, on)?;
            self.audit(caller, "group filled", &row.name, on)?;
            group(&row, on)
        })?;
        self.events.tell(Event::Office);
        Ok(group)
    }

    /// The audit log, latest first.
    pub(crate) fn audit_log(&self, caller: &Caller, page: &PageQuery) -> Result<Page<AuditEntry>> {
        caller.may(&Act::SeeOffice)?;
        let before = cursor(page)?;
        let rows = self.records.read(|on| Ok::<_, DeskError>(AuditRow::list(before, page.size() + 1, on)?))?;
        let items = rows.into_iter().map(convert::audit_entry).collect();
        Ok(Page::from_one_more(items, page.size(), |e: &AuditEntry| e.number.to_string()))
    }
}

/// The number in the cursor of a list that goes from the latest back.
pub(super) fn cursor(page: &PageQuery) -> Result<i64> {
    page.after.as_ref().map_or(Ok(i64::MAX), |after| {
        after.parse().map_err(|_| DeskError::Invalid("'after' is not the 'next' of an earlier page".into()))
    })
}

fn group(row: &GroupRow, on: &mut Connection) -> Result<Group> {
    Ok(Group { id: GroupId(row.id.clone()), name: row.name.clone(), logins: row.logins(on)? })
}
