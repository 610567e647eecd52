//! Whose workstations may put backups where.

use jetfrost_office::access::Act;
use jetfrost_office::grants::{Grants as Granted, Reason};
use jetfrost_office::names;
use jetfrost_wire::access::{AccessCell, AccessLine, AccessQuery, AccessReason, Grants};
use jetfrost_wire::{Page, PageQuery};

use crate::identity::Identity;
use crate::identity::accounts::{account_named, groups_named, ids};
use crate::records::{AccountRow, Connection, DestinationRow, GrantScope, GrantedTo, StoreRow};
use crate::shared::{Caller, Invalid, Result, ServiceError, Thing};

/// All destinations are looked at together; an office has a handful.
const ALL: usize = 1000;

/// Refuses when a destination is not open to an account.
pub(crate) fn has_access(account: &AccountRow, destination: &DestinationRow, on: &mut Connection) -> Result<()> {
    if reasons(account, &openness(destination, on)?, on)?.is_empty() {
        return Err(ServiceError::NoAccess { login: account.login.clone(), destination: Some(destination.name.clone()) });
    }
    Ok(())
}

impl Identity {
    /// What each account has of each destination, and why.
    pub(crate) fn access(&self, caller: &Caller, query: &AccessQuery, page: &PageQuery) -> Result<Page<AccessLine>> {
        caller.may(&Act::SeeOffice)?;
        let size = page.size();
        self.records.read(|on| {
            let destinations = match &query.destination {
                Some(name) => vec![destination_named(name, on)?],
                None => DestinationRow::list("", ALL, on)?,
            };
            let opened: Vec<(DestinationRow, Granted)> = destinations
                .into_iter()
                .map(|row| Ok((openness(&row, on)?, row)).map(|(open, row)| (row, open)))
                .collect::<Result<_>>()?;
            let accounts = match &query.login {
                Some(login) => vec![account_named(login, on)?],
                None => AccountRow::list(page.after.as_deref().unwrap_or_default(), size + 1, on)?,
            };
            let lines = accounts.iter().map(|account| access_line(account, &opened, on)).collect::<Result<_>>()?;
            Ok(Page::from_one_more(lines, size, |line: &AccessLine| names::key(&line.login)))
        })
    }
}

fn access_line(account: &AccountRow, destinations: &[(DestinationRow, Granted)], on: &mut Connection) -> Result<AccessLine> {
    let groups = account.groups(on)?;
    let group_ids: Vec<String> = groups.iter().map(|group| group.id.to_string()).collect();
    let named = |reason: Reason| match reason {
        Reason::Everybody => AccessReason::Everybody,
        Reason::Account => AccessReason::Account,
        Reason::Group(id) => {
            let name = groups.iter().find(|group| group.id.as_str() == id).map_or(id, |group| group.name.clone());
            AccessReason::Group { name }
        }
    };
    let cell = |(destination, open): &(DestinationRow, Granted)| {
        Ok(AccessCell {
            destination: destination.name.clone(),
            reasons: open.reasons(account.id.as_str(), &group_ids).into_iter().map(named).collect(),
            stores: StoreRow::count(&account.id, &destination.id, on)?.get(),
        })
    };
    Ok(AccessLine {
        login: account.login.clone(),
        display_name: account.display_name.clone(),
        role: account.role.0,
        disabled: account.disabled.is_some(),
        cells: destinations.iter().map(cell).collect::<Result<_>>()?,
    })
}

fn reasons(account: &AccountRow, open: &Granted, on: &mut Connection) -> Result<Vec<Reason>> {
    let groups: Vec<String> = account.groups(on)?.into_iter().map(|group| group.id.to_string()).collect();
    Ok(open.reasons(account.id.as_str(), &groups))
}

/// A destination by its name.
pub(crate) fn destination_named(name: &str, on: &mut Connection) -> Result<DestinationRow> {
    let found = DestinationRow::by_key(&names::key(name), on)?;
    found.ok_or_else(|| Invalid::Unknown { what: Thing::Destination, name: name.into() }.into())
}

fn openness(row: &DestinationRow, on: &mut Connection) -> Result<Granted> {
    let GrantedTo { groups, accounts } = row.granted_to(on)?;
    Ok(Granted {
        everybody: row.granted_to.0 == GrantScope::Everybody,
        groups: ids(groups).into_iter().map(|id| id.to_string()).collect(),
        accounts: accounts.into_iter().map(|(id, _)| id.to_string()).collect(),
    })
}

/// To whom a destination is open, by name.
pub(crate) fn grants(row: &DestinationRow, on: &mut Connection) -> Result<Grants> {
    let GrantedTo { groups, accounts } = row.granted_to(on)?;
    Ok(Grants {
        everybody: row.granted_to.0 == GrantScope::Everybody,
        groups: groups.into_iter().map(|group| group.name).collect(),
        logins: accounts.into_iter().map(|(_, login)| login).collect(),
    })
}

/// Opens a destination to these, and to no others. The row is to be written by the caller.
pub(crate) fn set_grants(row: &mut DestinationRow, to: &Grants, on: &mut Connection) -> Result<()> {
    row.granted_to = if to.everybody { GrantScope::Everybody } else { GrantScope::Chosen }.into();
    let groups = ids(groups_named(&to.groups, on)?);
    let mut accounts = Vec::new();
    for login in &to.logins {
        accounts.push(account_named(login, on)?.id);
    }
    accounts.sort_unstable();
    accounts.dedup();
    Ok(row.set_granted_to(&groups, &accounts, on)?)
}

/// To whom it is open, in words.
pub(crate) fn said(to: &Grants) -> String {
    if to.everybody {
        return "everybody".into();
    }
    let groups = to.groups.iter().map(|group| format!("group {group}"));
    let all: Vec<String> = groups.chain(to.logins.iter().cloned()).collect();
    if all.is_empty() { "nobody".into() } else { all.join(", ") }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::destination::DestinationChange;
    use jetfrost_wire::people::{GroupLogins, NewGroup};

    use super::*;
    use crate::shared::testing::Office;
    use crate::shared::versions::Seen;

    #[test]
    fn access_says_why_and_ends_with_its_reason() {
        let office = Office::open();
        let (identity, shelf) = (&office.services.identity, office.destination("shelf"));
        office.person("tove", Role::Member);
        let group = identity
            .add_group(&office.ingrid, &NewGroup { name: "Accounts".into(), default_limit: None, default_quota: None })
            .expect("made");
        let logins = |logins: &[&str]| GroupLogins { logins: logins.iter().map(ToString::to_string).collect() };
        identity.set_group_logins(&office.ingrid, &group.id, &logins(&["tove"]), &Seen::Anything).expect("set");
        let grant = |to: Grants| {
            let change = DestinationChange { grants: Some(to), ..DestinationChange::default() };
            office.services.storage.change_destination(&office.ingrid, &shelf.id, &change, &Seen::Anything).expect("granted");
        };
        let reasons = || {
            let query = AccessQuery { login: Some("tove".into()), destination: None };
            let mut lines = identity.access(&office.ingrid, &query, &PageQuery::default()).expect("seen").items;
            lines.pop().and_then(|mut line| line.cells.pop()).expect("a cell").reasons
        };
        let of_group = || vec![AccessReason::Group { name: "Accounts".into() }];
        assert_eq!(reasons(), vec![AccessReason::Everybody]);
        grant(Grants { groups: vec!["accounts".into()], logins: vec!["tove".into()], ..Grants::default() });
        let (mut both, mut wanted) = (reasons(), vec![AccessReason::Account, of_group().remove(0)]);
        both.sort_by_key(|reason| format!("{reason:?}"));
        wanted.sort_by_key(|reason| format!("{reason:?}"));
        assert_eq!(both, wanted);
        grant(Grants { groups: vec!["Accounts".into()], ..Grants::default() });
        assert_eq!(reasons(), of_group());
        identity.set_group_logins(&office.ingrid, &group.id, &logins(&[]), &Seen::Anything).expect("set");
        assert_eq!(reasons(), vec![]);
    }

    #[test]
    fn access_for_somebody_unknown_is_refused_by_name() {
        let office = Office::open();
        let shelf = office.destination("shelf");
        let to = Grants { logins: vec!["nobody".into()], ..Grants::default() };
        let change = DestinationChange { grants: Some(to), ..DestinationChange::default() };
        let set = office.services.storage.change_destination(&office.ingrid, &shelf.id, &change, &Seen::Anything);
        assert!(matches!(set, Err(ServiceError::Invalid(Invalid::Unknown { what: Thing::Account, name })) if name == "nobody"));
    }
}
