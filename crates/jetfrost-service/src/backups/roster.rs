//! The roster: many people and machines at once. It is planned against the records as they are, within the transaction that
//! puts it into effect: all of it, or nothing.

use jetfrost_types::Limit;
use std::collections::BTreeSet;
use std::fmt::Write;

use jetfrost_office::access::Act;
use jetfrost_office::grants::Grants;
use jetfrost_office::names::key;
use jetfrost_office::roster::{
    AccountFacts, CodeFacts, Column, DestinationFacts, Fault, Office, Planned, Step, WorkstationFacts, plan, read,
};
use jetfrost_types::WorkstationId;
use jetfrost_wire::destination::EncryptionPolicy;
use jetfrost_wire::enrolment::IssuedCode;
use jetfrost_wire::event::Event;
use jetfrost_wire::people::{AccountChange, NewAccount, NewGroup, Role};
use jetfrost_wire::roster::{Roster, RosterAct, RosterDone, RosterFault, RosterPlan, RosterQuery, RosterStep};
use jetfrost_wire::size;

use crate::backups::Backups;
use crate::backups::enrolment::{Makes, lasting};
use crate::identity::accounts::account_named;
use crate::identity::grants::{destination_named, grants};
use crate::records::{AccountRow, CodeRow, CodeWithNames, Connection, Count, DestinationRow, GroupRow, Rest, WorkstationLine};
use crate::shared::{Caller, Invalid, Result, ServiceError, Thing, csv_line, limit_to_db, shown_limit};
use crate::storage::workstations::said_of_store;

/// A roster is compared with all of the office.
const ALL: usize = 10_000;

/// Hand-outs are printed and carried around.
const USUAL_HOURS: u16 = 336;

/// At most this many faults are listed; whoever has more has another problem.
const MOST_FAULTS: usize = 200;

impl Backups {
    /// What a roster would do; nothing is changed.
    pub(crate) fn plan_roster(&self, caller: &Caller, roster: &Roster) -> Result<RosterPlan> {
        caller.may(&Act::ChangeOffice)?;
        lasting(roster.hours.unwrap_or(USUAL_HOURS))?;
        let office = self.records.read(|on| self.office_of_roster(on))?;
        let plan = plan(&read(&roster.table, read_size), &office);
        Ok(RosterPlan {
            steps: plan.steps.iter().map(shown).collect(),
            faults: plan.faults.into_iter().take(MOST_FAULTS).map(shown_fault).collect(),
            lines: plan.lines,
            unchanged: plan.unchanged,
        })
    }

    /// Puts a roster into effect, if nothing is wrong with it.
    pub(crate) fn apply_roster(&self, caller: &Caller, roster: &Roster) -> Result<RosterDone> {
        caller.may(&Act::ChangeOffice)?;
        let lasts = lasting(roster.hours.unwrap_or(USUAL_HOURS))?;
        let reading = read(&roster.table, read_size);
        let (done, limited) = self.records.write(|on| {
            let plan = plan(&reading, &self.office_of_roster(on)?);
            if let Some(fault) = plan.faults.first() {
                return Err(ServiceError::from(first_of(fault, plan.faults.len())));
            }
            let (mut codes, mut limited) = (Vec::new(), Vec::new());
            for planned in &plan.steps {
                codes.extend(self.do_step(caller, &planned.step, lasts, &mut limited, on)?);
            }
            let steps = plan.steps.iter().map(shown).collect();
            Ok((RosterDone { steps, unchanged: plan.unchanged, codes }, limited))
        })?;
        if !done.steps.is_empty() {
            self.events.tell(Event::Office);
        }
        limited.iter().for_each(|id| self.events.workstation_changed(id));
        Ok(done)
    }

    /// The header of a roster, or all of the office as one. Putting that into effect changes nothing.
    pub(crate) fn roster(&self, caller: &Caller, query: &RosterQuery) -> Result<String> {
        caller.may(&Act::SeeOffice)?;
        let mut text = Column::ALL.map(Column::name).join(",") + "\n";
        if query.filled {
            self.records.write(|on| self.trail.note(caller, "roster exported", "", on))?;
            let office = self.records.read(|on| self.office_of_roster(on))?;
            for (account, facts) in &office.accounts {
                fill(&mut text, account, facts, &office);
            }
        }
        Ok(text)
    }

    fn office_of_roster(&self, on: &mut Connection) -> Result<Office> {
        let mut office = Office::default();
        for row in AccountRow::list("", ALL, on)? {
            let groups = row.groups(on)?.into_iter().map(|group| group.name_key).collect();
            let facts =
                AccountFacts { login: row.login, display_name: row.display_name, groups, disabled: row.disabled.is_some() };
            office.accounts.insert(row.login_key, facts);
        }
        office.groups = GroupRow::list("", ALL, on)?.into_iter().map(|row| (row.name_key, row.name)).collect();
        for row in DestinationRow::list("", ALL, on)? {
            let to = grants(&row, on)?;
            let keys = |names: &[String]| names.iter().map(|name| key(name)).collect();
            let openness = Grants { everybody: to.everybody, groups: keys(&to.groups), accounts: keys(&to.logins) };
            let facts = DestinationFacts {
                name: row.name.clone(),
                withdrawn: row.withdrawn.is_some(),
                encryption_required: row.encryption.0 == EncryptionPolicy::Required,
                openness,
            };
            office.destinations.insert(row.name_key, facts);
        }
        let handed: BTreeSet<String> = CodeRow::claimed(self.clock.now(), on)?.into_iter().collect();
        for line in WorkstationLine::all(None, on)? {
            let facts = WorkstationFacts {
                account: line.account.login_key,
                destination: line.destination.name_key,
                limit: line.store.size_limit.map(Count::get).into(),
                disk: line.workstation.disk_bytes.map(Count::get),
                encrypted: line.store.encrypted,
                awaits_its_machine: line.workstation.rest.as_ref().is_some_and(|rest| rest.why == Rest::Unclaimed)
                    && !handed.contains(line.workstation.id.as_str()),
            };
            office.workstations.insert(line.workstation.name_key, facts);
        }
        for row in CodeWithNames::waiting(self.clock.now(), on)? {
            let facts = CodeFacts {
                account: key(&row.login),
                destination: key(&row.destination),
                limit: row.code.limit(),
                encrypted: row.code.encrypted,
            };
            office.codes.entry(row.code.machine_key.unwrap_or_default()).or_insert(facts);
        }
        Ok(office)
    }

    /// Does a step; notes the workstations whose limit it sets.
    fn do_step(
        &self,
        caller: &Caller,
        step: &Step,
        lasts: i64,
        limited: &mut Vec<WorkstationId>,
        on: &mut Connection,
    ) -> Result<Option<IssuedCode>> {
        match step {
            Step::AddGroup { name } => {
                let new = NewGroup { name: name.clone(), default_limit: None, default_quota: None };
                self.identity.insert_group(caller, &new, on)?;
            }
            Step::AddAccount { login, display_name, groups } => {
                let mut new = NewAccount::new(login, Role::Member);
                new.display_name = Some(display_name.clone());
                new.groups.clone_from(groups);
                self.identity.insert_new_account(caller, &new, on)?;
            }
            Step::ChangeAccount { login, display_name, joins } => {
                let row = account_named(login, on)?;
                let names = row.groups(on)?.into_iter().map(|group| group.name);
                let change = AccountChange {
                    display_name: display_name.as_ref().map(|(_, after)| after.clone()),
                    groups: Some(names.chain(joins.iter().cloned()).collect()),
                    ..AccountChange::default()
                };
                self.identity.alter_account(caller, row, &change, on)?;
            }
            Step::Open { destination, login } => self.storage.open_also_to(caller, destination, login, on)?,
            Step::Expect { login, machine, destination, limit, encrypted } => {
                let (account, destination) = (account_named(login, on)?, destination_named(destination, on)?);
                let makes = Makes {
                    account: &account,
                    destination: &destination,
                    claims: None,
                    machine: Some(machine),
                    limit: *limit,
                    encrypted: *encrypted,
                };
                return self.insert_code(caller, &makes, lasts, on).map(Some);
            }
            Step::HandOver { login, machine } => {
                let account = account_named(login, on)?;
                let line = WorkstationLine::by_name(&key(machine), on)?.ok_or(ServiceError::NotFound(Thing::Workstation))?;
                let makes = Makes {
                    account: &account,
                    destination: &line.destination,
                    claims: Some(&line),
                    machine: None,
                    limit: None,
                    encrypted: line.store.encrypted,
                };
                return self.insert_code(caller, &makes, lasts, on).map(Some);
            }
            Step::ExpectOtherwise { machine, destination, limit, encrypted } => {
                let destination = destination_named(destination, on)?;
                let waiting = CodeWithNames::waiting(self.clock.now(), on)?;
                let row = waiting.into_iter().find(|row| row.code.machine_key.as_deref() == Some(&key(machine)));
                let row = row.ok_or(ServiceError::NotFound(Thing::EnrolmentCode))?;
                row.code.set_makes(&destination.id, limit.map(limit_to_db).transpose()?, *encrypted, on)?;
                self.trail.note_change(caller, "enrolment code changed", machine, None, Some(&shown_step(step).says), on)?;
            }
            Step::SetLimit { machine, after, .. } => {
                let mut line = WorkstationLine::by_name(&key(machine), on)?.ok_or(ServiceError::NotFound(Thing::Workstation))?;
                let was = said_of_store(&line.store);
                line.store.size_limit = limit_to_db(*after)?;
                line.store.update(on)?;
                let is = said_of_store(&line.store);
                self.trail.note_change(caller, "image store changed", machine, Some(&was), Some(&is), on)?;
                limited.push(line.workstation.id.0);
            }
        }
        Ok(None)
    }
}

fn read_size(text: &str) -> Option<u64> {
    size::parse(text).ok()
}

/// The first fault in a sentence; the plan tells the others.
fn first_of(fault: &Fault, all: usize) -> Invalid {
    Invalid::Roster { line: fault.line, column: fault.column.map(|(_, name)| name), what: fault.what.clone(), more: all - 1 }
}

fn shown_fault(fault: Fault) -> RosterFault {
    let (cell, column) = fault.column.map_or((None, None), |(place, name)| (Some(place as u64), Some(name.to_owned())));
    RosterFault { line: fault.line, cell, column, what: fault.what }
}

fn shown(planned: &Planned) -> RosterStep {
    RosterStep { line: planned.line, ..shown_step(&planned.step) }
}

fn shown_step(step: &Step) -> RosterStep {
    let (act, about, name, says) = match step {
        Step::AddGroup { name } => (RosterAct::New, "group", name, String::new()),
        Step::AddAccount { login, display_name, groups } => {
            let within = if groups.is_empty() { String::new() } else { format!(", in {}", groups.join(", ")) };
            (RosterAct::New, "account", login, format!("{display_name}{within}"))
        }
        Step::ChangeAccount { login, display_name, joins } => {
            let renamed = display_name.as_ref().map(|(before, after)| format!("'{before}' becomes '{after}'"));
            let joins = (!joins.is_empty()).then(|| format!("joins {}", joins.join(", ")));
            let says: Vec<String> = renamed.into_iter().chain(joins).collect();
            (RosterAct::Change, "account", login, says.join("; "))
        }
        Step::Open { destination, login } => (RosterAct::New, "access", login, format!("to '{destination}'")),
        Step::Expect { login, machine, destination, limit, encrypted } => {
            let makes = said_makes(destination, *limit, *encrypted);
            (RosterAct::New, "enrolment code", machine, format!("of {login}, {makes}"))
        }
        Step::HandOver { login, machine } => {
            (RosterAct::New, "enrolment code", machine, format!("of {login}, hands over the backups that it has"))
        }
        Step::ExpectOtherwise { machine, destination, limit, encrypted } => {
            (RosterAct::Change, "enrolment code", machine, said_makes(destination, *limit, *encrypted))
        }
        Step::SetLimit { machine, before, after } => (
            RosterAct::Change,
            "limit",
            machine,
            format!("{} becomes {}", shown_limit(before.bytes()), shown_limit(after.bytes())),
        ),
    };
    RosterStep { line: 0, act, about: about.into(), name: name.clone(), says }
}

fn said_makes(destination: &str, limit: Option<Limit>, encrypted: bool) -> String {
    let limit = limit.map_or_else(|| "the usual limit".into(), |limit| format!("limit {}", shown_limit(limit.bytes())));
    format!("on '{destination}', {limit}{}", if encrypted { "" } else { ", not encrypted" })
}

/// The lines of an account: one for each of its machines, or one without.
fn fill(text: &mut String, account: &str, facts: &AccountFacts, office: &Office) {
    let groups: Vec<&str> = facts.groups.iter().filter_map(|group| office.groups.get(group)).map(String::as_str).collect();
    let person = [facts.login.clone(), facts.display_name.clone(), groups.join("; ")];
    let there = |destination: &str| office.destinations.get(destination).map_or_else(String::new, |facts| facts.name.clone());
    let exact = |bytes: u64| format!("{bytes} B");
    let exact_limit = |limit: Limit| limit.bytes().map_or_else(|| "none".into(), exact);
    let yes = |encrypted: bool| if encrypted { "yes" } else { "no" }.to_owned();
    let joined = office.workstations.iter().filter(|(_, machine)| machine.account == account).map(|(name, machine)| {
        let limit = exact_limit(machine.limit);
        let disk = machine.disk.map_or_else(String::new, exact);
        [name.clone(), disk, there(&machine.destination), limit, yes(machine.encrypted)]
    });
    let expected = office.codes.iter().filter(|(_, code)| code.account == account).map(|(name, code)| {
        let limit = code.limit.map_or_else(String::new, exact_limit);
        [name.clone(), String::new(), there(&code.destination), limit, yes(code.encrypted)]
    });
    let mut machines: Vec<[String; 5]> = joined.chain(expected).collect();
    if machines.is_empty() {
        machines.push(Default::default());
    }
    for machine in machines {
        let _ = writeln!(text, "{}", csv_line(person.iter().chain(&machine).map(String::as_str)));
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;

    use super::*;
    use crate::shared::testing::Office;

    #[test]
    fn a_roster_with_one_fault_changes_nothing_and_says_where_it_is() {
        let office = Office::open();
        office.destination("shelf");
        let backups = &office.services.backups;
        let header = backups.roster(&office.ingrid, &RosterQuery { filled: false }).expect("a header");
        let columns = header.lines().next().expect("a line").split(',').count();
        let line = |login: &str| format!("{login}{}", ",".repeat(columns - 1));
        let table = format!("{}\n{}\n{},too many\n", header.trim_end(), line("liv"), line("odd"));
        let refused = backups.apply_roster(&office.ingrid, &Roster { table, hours: None });
        assert!(matches!(&refused, Err(ServiceError::Invalid(Invalid::Roster { line: 3, .. }))), "{refused:?}");
        let accounts = office.services.identity.accounts(&office.ingrid, &jetfrost_wire::PageQuery::default()).expect("listed");
        assert_eq!(accounts.items.len(), 1, "nobody was added");
    }

    #[test]
    fn only_administrators_import_people() {
        let office = Office::open();
        let desk = office.person("desk", Role::Helpdesk);
        let roster = Roster { table: String::new(), hours: None };
        assert!(matches!(office.services.backups.apply_roster(&desk, &roster), Err(ServiceError::NotAllowed)));
    }
}
