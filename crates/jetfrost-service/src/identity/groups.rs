//! Groups.

use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_wire::event::Event;
use jetfrost_wire::people::{Group, GroupChange, GroupLogins, NewGroup};
use jetfrost_wire::{GroupId, Page, PageQuery};

use crate::identity::Identity;
use crate::identity::accounts::account_named;
use crate::records::{Connection, Count, GroupRow, Id, InJson};
use crate::secrets::new_id;
use crate::shared::versions::{Made, Seen, version};
use crate::shared::{Caller, Result, ServiceError, Thing, checked_name, limit_to_db, shown_limit, taken, to_db};

impl Identity {
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

    pub(crate) fn group(&self, caller: &Caller, id: &GroupId) -> Result<Group> {
        caller.may(&Act::SeeOffice)?;
        self.records.read(|on| {
            let row = GroupRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Group))?;
            group(&row, on)
        })
    }

    pub(crate) fn add_group(&self, caller: &Caller, new: &NewGroup) -> Result<Group> {
        caller.may(&Act::ChangeOffice)?;
        let group = self.records.write(|on| self.insert_group(caller, new, on))?;
        self.events.tell(Event::Office);
        Ok(group)
    }

    /// Adds a group, within a transaction.
    pub(crate) fn insert_group(&self, caller: &Caller, new: &NewGroup, on: &mut Connection) -> Result<Group> {
        let name = checked_name(&new.name)?;
        let row = GroupRow {
            id: Id(new_id(&*self.random)),
            name_key: names::key(&name),
            name,
            default_limit: new.default_limit.map(to_db).transpose()?,
            default_quota: new.default_quota.map(to_db).transpose()?,
            schedule: InJson::default(),
        };
        row.insert(on).map_err(|e| taken(&row.name, e))?;
        let group = group(&row, on)?;
        self.trail.note_change(caller, "group added", &row.name, None, Some(&said(&group)), on)?;
        Ok(group)
    }

    pub(crate) fn change_group(&self, caller: &Caller, id: &GroupId, change: &GroupChange, seen: &Seen) -> Result<Group> {
        self.alter_group(caller, id, "group changed", seen, |row, on| {
            if let Some(name) = &change.name {
                row.name = checked_name(name)?;
                row.name_key = names::key(&row.name);
            }
            if let Some(limit) = change.default_limit {
                row.default_limit = limit_to_db(limit)?;
            }
            if let Some(quota) = change.default_quota {
                row.default_quota = limit_to_db(quota)?;
            }
            if let Some(logins) = &change.logins {
                set_logins(row, logins, on)?;
            }
            row.update(on).map_err(|e| taken(&row.name, e))
        })
    }

    pub(crate) fn set_group_logins(&self, caller: &Caller, id: &GroupId, logins: &GroupLogins, seen: &Seen) -> Result<Group> {
        self.alter_group(caller, id, "group filled", seen, |row, on| set_logins(row, &logins.logins, on))
    }

    /// Removes a group. Its accounts stay; what was open only through it is open to them no more.
    pub(crate) fn remove_group(&self, caller: &Caller, id: &GroupId) -> Result<()> {
        caller.may(&Act::ChangeOffice)?;
        self.records.write(|on| {
            let row = GroupRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Group))?;
            let before = said(&group(&row, on)?);
            row.remove(on)?;
            self.trail.note_change(caller, "group removed", &row.name, Some(&before), None, on)
        })?;
        self.events.tell(Event::Office);
        // What it set of schedules holds no more.
        self.events.tell(Event::Schedules);
        Ok(())
    }

    fn alter_group(
        &self,
        caller: &Caller,
        id: &GroupId,
        what: &str,
        seen: &Seen,
        alter: impl FnOnce(&mut GroupRow, &mut Connection) -> Result<()>,
    ) -> Result<Group> {
        caller.may(&Act::ChangeOffice)?;
        let group = self.records.write(|on| {
            let mut row = GroupRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Group))?;
            let before = group(&row, on)?;
            seen.check(&before.version, &Made { subject: None, after: &said(&before) }, on)?;
            alter(&mut row, on)?;
            let after = group(&row, on)?;
            self.trail.note_change(caller, what, &before.name, Some(&said(&before)), Some(&said(&after)), on)?;
            Ok::<_, ServiceError>(after)
        })?;
        self.events.tell(Event::Office);
        // Whoever is in it now goes by its schedule.
        self.events.tell(Event::Schedules);
        Ok(group)
    }
}

fn set_logins(row: &GroupRow, logins: &[String], on: &mut Connection) -> Result<()> {
    let mut members = Vec::new();
    for login in logins {
        members.push(account_named(login, on)?.id);
    }
    members.sort_unstable();
    members.dedup();
    Ok(row.set_members(&members, on)?)
}

fn group(row: &GroupRow, on: &mut Connection) -> Result<Group> {
    let logins = row.logins(on)?;
    Ok(Group {
        version: version(&(&row.name, &logins, row.default_limit, row.default_quota)),
        id: row.id.0.clone(),
        name: row.name.clone(),
        logins,
        default_limit: row.default_limit.map(Count::get),
        default_quota: row.default_quota.map(Count::get),
        destinations: row.destinations(on)?,
    })
}

/// A group in a line, for the audit log.
fn said(group: &Group) -> String {
    format!(
        "{}: {}; default limit {}, default quota {}",
        group.name,
        if group.logins.is_empty() { "nobody".into() } else { group.logins.join(", ") },
        shown_limit(group.default_limit),
        shown_limit(group.default_quota)
    )
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;

    use super::*;
    use crate::shared::testing::Office;

    #[test]
    fn a_group_goes_and_its_accounts_stay() {
        let office = Office::open();
        let identity = &office.services.identity;
        let tove = office.person("tove", Role::Member);
        let new = |name: &str| NewGroup { name: name.into(), default_limit: None, default_quota: None };
        let group = identity.add_group(&office.ingrid, &new("Accounts")).expect("made");
        assert!(matches!(identity.add_group(&office.ingrid, &new("ACCOUNTS")), Err(ServiceError::NameTaken(_))));
        let to = GroupLogins { logins: vec!["tove".into()] };
        identity.set_group_logins(&office.ingrid, &group.id, &to, &Seen::Anything).expect("set");
        assert_eq!(identity.me(&tove).expect("there").groups, ["Accounts"]);
        identity.remove_group(&office.ingrid, &group.id).expect("removed");
        assert!(identity.me(&tove).expect("still there").groups.is_empty());
        assert!(matches!(identity.group(&office.ingrid, &group.id), Err(ServiceError::NotFound(Thing::Group))));
    }
}
