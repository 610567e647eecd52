//! What a roster would make of the office.

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet};

use jetfrost_types::Limit;

use super::{Column, Fault, Line, Machine, Reading, WantedLimit};

use crate::grants::Grants;
use crate::names::key;

/// The office as it is; everything is found by the key of its name ([`crate::names::key`]).
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Office {
    /// Accounts by login name.
    pub accounts: BTreeMap<String, AccountFacts>,
    /// Names of the groups.
    pub groups: BTreeMap<String, String>,
    /// Destinations by name.
    pub destinations: BTreeMap<String, DestinationFacts>,
    /// Workstations by name.
    pub workstations: BTreeMap<String, WorkstationFacts>,
    /// Unused enrolment codes by the machine that they are for.
    pub codes: BTreeMap<String, CodeFacts>,
}

/// What matters of an account.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct AccountFacts {
    /// Login name as it is written.
    pub login: String,
    /// The person's name.
    pub display_name: String,
    /// Keys of its groups.
    pub groups: BTreeSet<String>,
    /// Whether it is disabled.
    pub disabled: bool,
}

/// What matters of a destination.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DestinationFacts {
    /// Its name as it is written.
    pub name: String,
    /// Whether it takes no new backups.
    pub withdrawn: bool,
    /// Whether image stores on it must be encrypted.
    pub encryption_required: bool,
    /// To whom it is open, by keys of names.
    pub openness: Grants,
}

/// What matters of a workstation.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct WorkstationFacts {
    /// Key of its account.
    pub account: String,
    /// Key of the destination of its image store.
    pub destination: String,
    /// The limit of that.
    pub limit: Limit,
    /// Bytes of its disk, where it has told.
    pub disk: Option<u64>,
    /// Whether it encrypts.
    pub encrypted: bool,
    /// Whether it came with a destination from another installation, and no machine has claimed it nor has a code to.
    pub awaits_its_machine: bool,
}

/// What matters of an open enrolment code.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct CodeFacts {
    /// Key of its account.
    pub account: String,
    /// Key of its destination.
    pub destination: String,
    /// The limit that the image store will get; none for the usual one.
    pub limit: Option<Limit>,
    /// Whether the machine is to encrypt.
    pub encrypted: bool,
}

/// One thing that would be done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// A group is added.
    AddGroup {
        /// Its name.
        name: String,
    },
    /// An account is added; it only owns workstations until it gets a password.
    AddAccount {
        /// Login name.
        login: String,
        /// The person's name.
        display_name: String,
        /// Names of its groups.
        groups: Vec<String>,
    },
    /// An account changes.
    ChangeAccount {
        /// Login name.
        login: String,
        /// The person's name before and after, when it changes.
        display_name: Option<(String, String)>,
        /// Names of groups that it joins.
        joins: Vec<String>,
    },
    /// A destination is opened to an account.
    Open {
        /// Name of the destination.
        destination: String,
        /// Login name.
        login: String,
    },
    /// An enrolment code is made for a machine.
    Expect {
        /// Login name.
        login: String,
        /// Name of the machine.
        machine: String,
        /// Name of the destination.
        destination: String,
        /// The limit that its image store will get; none for the usual one.
        limit: Option<Limit>,
        /// Whether it is to encrypt.
        encrypted: bool,
    },
    /// An enrolment code is made that hands a workstation from another installation to its machine.
    HandOver {
        /// Login name.
        login: String,
        /// Name of the workstation.
        machine: String,
    },
    /// What an open enrolment code makes changes. The code itself stays.
    ExpectOtherwise {
        /// Name of the machine.
        machine: String,
        /// Name of the destination.
        destination: String,
        /// The limit that its image store will get; none for the usual one.
        limit: Option<Limit>,
        /// Whether it is to encrypt.
        encrypted: bool,
    },
    /// A workstation's limit changes.
    SetLimit {
        /// Name of the workstation.
        machine: String,
        /// As it is.
        before: Limit,
        /// As it will be.
        after: Limit,
    },
}

/// A step, and the line that asks for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Planned {
    /// The line of the text, from 1.
    pub line: u64,
    /// What would be done.
    pub step: Step,
}

/// What a roster would do.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Plan {
    /// In the order in which it would be done.
    pub steps: Vec<Planned>,
    /// What is wrong; while there is anything, nothing is done.
    pub faults: Vec<Fault>,
    /// How many lines there are.
    pub lines: u64,
    /// How many lines ask for nothing that is not so already.
    pub unchanged: u64,
}

/// Compares a roster with the office. Every line sees what the lines before it would have done.
#[must_use]
pub fn plan(reading: &Reading, office: &Office) -> Plan {
    let mut planner = Planner {
        office: office.clone(),
        named: BTreeMap::new(),
        machines: BTreeMap::new(),
        plan: Plan { faults: reading.faults.clone(), lines: reading.lines.len() as u64, ..Plan::default() },
    };
    for line in &reading.lines {
        let before = (planner.plan.steps.len(), planner.plan.faults.len());
        planner.line(line);
        if before == (planner.plan.steps.len(), planner.plan.faults.len()) {
            planner.plan.unchanged += 1;
        }
    }
    planner.plan.faults.sort_by_key(|fault| (fault.line, fault.column));
    planner.plan
}

struct Planner {
    /// As it would be after the steps so far.
    office: Office,
    /// The name that a line before gave an account, and which line.
    named: BTreeMap<String, (String, u64)>,
    /// The line that names a machine.
    machines: BTreeMap<String, u64>,
    plan: Plan,
}

impl Planner {
    fn step(&mut self, line: &Line, step: Step) {
        self.plan.steps.push(Planned { line: line.number, step });
    }

    fn fault(&mut self, line: &Line, column: Column, what: impl Into<String>) {
        self.plan.faults.push(line.fault(column, what));
    }

    fn line(&mut self, line: &Line) {
        self.groups(line);
        self.account(line);
        if let Some(machine) = &line.machine {
            self.machine(line, machine);
        }
    }

    fn groups(&mut self, line: &Line) {
        for name in &line.groups {
            if let Entry::Vacant(place) = self.office.groups.entry(key(name)) {
                place.insert(name.clone());
                self.step(line, Step::AddGroup { name: name.clone() });
            }
        }
    }

    fn account(&mut self, line: &Line) {
        let account = key(&line.account);
        if let Some(name) = &line.display_name {
            let (first, at) = self.named.entry(account.clone()).or_insert_with(|| (name.clone(), line.number)).clone();
            if first != *name {
                self.fault(line, Column::DisplayName, format!("line {at} says that {} is '{first}'", line.account));
                return;
            }
        }
        let wanted: BTreeSet<String> = line.groups.iter().map(|name| key(name)).collect();
        let Some(known) = self.office.accounts.get_mut(&account) else {
            let display_name = line.display_name.clone().unwrap_or_else(|| line.account.clone());
            let facts =
                AccountFacts { login: line.account.clone(), display_name: display_name.clone(), groups: wanted, disabled: false };
            let groups = self.names_of(&facts.groups);
            self.office.accounts.insert(account, facts);
            return self.step(line, Step::AddAccount { login: line.account.clone(), display_name, groups });
        };
        let login = known.login.clone();
        let other = line.display_name.clone().filter(|name| *name != known.display_name);
        let display_name = other.map(|name| (std::mem::replace(&mut known.display_name, name.clone()), name));
        let joins: BTreeSet<String> = wanted.difference(&known.groups).cloned().collect();
        known.groups.extend(joins.iter().cloned());
        if display_name.is_some() || !joins.is_empty() {
            let joins = self.names_of(&joins);
            self.step(line, Step::ChangeAccount { login, display_name, joins });
        }
    }

    fn names_of(&self, groups: &BTreeSet<String>) -> Vec<String> {
        groups.iter().filter_map(|group| self.office.groups.get(group)).cloned().collect()
    }

    fn machine(&mut self, line: &Line, machine: &Machine) {
        let name = key(&machine.name);
        if let Some(first) = self.machines.insert(name.clone(), line.number) {
            return self.fault(line, Column::Machine, format!("line {first} is about '{}' already", machine.name));
        }
        if let Some(known) = self.office.workstations.get(&name).cloned() {
            self.workstation(line, machine, &known);
        } else {
            let known = self.office.codes.get(&name).cloned();
            self.expected(line, machine, known.as_ref());
        }
    }

    /// A machine that is a workstation already: only its limit can be set by a roster.
    fn workstation(&mut self, line: &Line, machine: &Machine, known: &WorkstationFacts) {
        let name = &machine.name;
        if known.account != key(&line.account) {
            let owner = self.login(&known.account);
            return self.fault(line, Column::Machine, format!("'{name}' is a workstation of '{owner}'"));
        }
        if let Some(wanted) = machine.destination.as_ref().filter(|wanted| key(wanted) != known.destination) {
            let there = self.destination_name(&known.destination);
            let what = format!("the image store of '{name}' is on '{there}': a roster does not move it to '{wanted}'");
            return self.fault(line, Column::Destination, what);
        }
        if machine.encrypted.is_some_and(|wanted| wanted != known.encrypted) {
            let is = if known.encrypted { "is encrypted" } else { "is not encrypted" };
            return self.fault(line, Column::Encryption, format!("the image store of '{name}' {is}, and stays so"));
        }
        if known.awaits_its_machine {
            if let Some(destination) = self.office.destinations.get(&known.destination).cloned() {
                self.open(line, &destination);
            }
            let login = self.login(&known.account);
            self.step(line, Step::HandOver { login, machine: name.clone() });
        }
        let Some(after) = self.limit(line, machine, known.disk) else { return };
        if after != known.limit {
            self.step(line, Step::SetLimit { machine: name.clone(), before: known.limit, after });
        }
    }

    /// A machine that is still to join: an enrolment code waits for it, or is made.
    fn expected(&mut self, line: &Line, machine: &Machine, known: Option<&CodeFacts>) {
        if let Some(known) = known.filter(|known| known.account != key(&line.account)) {
            let owner = self.login(&known.account);
            let what = format!("an enrolment code of '{owner}' waits for '{}': cancel it first", machine.name);
            return self.fault(line, Column::Machine, what);
        }
        let before = self.plan.faults.len();
        let destination = self.destination(line, machine, known);
        let limit = self.limit(line, machine, machine.disk);
        let encrypted = machine.encrypted.or(known.map(|known| known.encrypted)).unwrap_or(true);
        if self.office.accounts.get(&key(&line.account)).is_some_and(|account| account.disabled) {
            self.fault(line, Column::Account, format!("the account '{}' is disabled: enable it first", line.account));
        }
        let Some(destination) = destination else { return };
        if !encrypted && destination.encryption_required {
            let what = format!("'{}' takes encrypted image stores only", destination.name);
            self.fault(line, Column::Encryption, what);
        }
        if self.plan.faults.len() > before {
            return;
        }
        let limit = limit.or(known.and_then(|known| known.limit));
        self.open(line, &destination);
        let wanted = CodeFacts { account: key(&line.account), destination: key(&destination.name), limit, encrypted };
        let (machine, destination) = (machine.name.clone(), destination.name);
        match known {
            Some(known) if *known == wanted => {}
            Some(_) => self.step(line, Step::ExpectOtherwise { machine, destination, limit, encrypted }),
            None => {
                let login = self.login(&wanted.account);
                self.step(line, Step::Expect { login, machine, destination, limit, encrypted });
            }
        }
    }

    /// The destination that is named, or that the machine's code has, or the only one that is open to the account.
    fn destination(&mut self, line: &Line, machine: &Machine, known: Option<&CodeFacts>) -> Option<DestinationFacts> {
        let wanted = machine.destination.as_ref().map(|name| key(name)).or(known.map(|known| known.destination.clone()));
        if let Some(wanted) = wanted {
            let found = self.office.destinations.get(&wanted).cloned();
            return match found {
                None => {
                    let name = machine.destination.as_deref().unwrap_or_default();
                    self.fault(line, Column::Destination, format!("there is no destination '{name}'"));
                    None
                }
                Some(found) if found.withdrawn => {
                    self.fault(line, Column::Destination, format!("'{}' is withdrawn: it takes no new backups", found.name));
                    None
                }
                found => found,
            };
        }
        let mut open = self.office.destinations.values().filter(|one| !one.withdrawn && self.is_open(line, one));
        match (open.next().cloned(), open.next()) {
            (Some(only), None) => Some(only),
            (Some(_), Some(_)) => {
                let what = format!("'{}' has access to several destinations: say which", line.account);
                self.fault(line, Column::Destination, what);
                None
            }
            (None, _) => {
                let what = format!("'{}' has access to no destination: name one, and access is granted", line.account);
                self.fault(line, Column::Destination, what);
                None
            }
        }
    }

    fn is_open(&self, line: &Line, destination: &DestinationFacts) -> bool {
        let account = key(&line.account);
        let groups: Vec<String> =
            self.office.accounts.get(&account).map(|facts| facts.groups.iter().cloned().collect()).unwrap_or_default();
        !destination.openness.reasons(&account, &groups).is_empty()
    }

    /// Whoever puts a machine on a destination wants it to be open to the machine's account.
    fn open(&mut self, line: &Line, destination: &DestinationFacts) {
        if self.is_open(line, destination) {
            return;
        }
        if let Some(facts) = self.office.destinations.get_mut(&key(&destination.name)) {
            facts.openness.accounts.insert(key(&line.account));
        }
        let login = self.login(&key(&line.account));
        self.step(line, Step::Open { destination: destination.name.clone(), login });
    }

    /// The limit in bytes, when one is asked for and can be worked out.
    fn limit(&mut self, line: &Line, machine: &Machine, disk: Option<u64>) -> Option<Limit> {
        match (machine.limit?, machine.disk.or(disk)) {
            (WantedLimit::None, _) => Some(Limit::None),
            (WantedLimit::Bytes(bytes), _) => Some(Limit::Bytes(bytes)),
            (WantedLimit::Factor(factor), Some(disk)) => Some(Limit::Bytes((factor * disk as f64).round() as u64)),
            (WantedLimit::Factor(_), None) => {
                self.fault(line, Column::Limit, "a factor needs the size of the disk: add it in the column 'disk'");
                None
            }
        }
    }

    fn login(&self, account: &str) -> String {
        self.office.accounts.get(account).map_or_else(|| account.to_owned(), |facts| facts.login.clone())
    }

    fn destination_name(&self, destination: &str) -> String {
        self.office.destinations.get(destination).map_or_else(|| destination.to_owned(), |facts| facts.name.clone())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::roster::read;

    const GB: u64 = 1_000_000_000;

    fn gigabytes(text: &str) -> Option<u64> {
        text.strip_suffix("GB")?.trim().parse::<u64>().ok()?.checked_mul(GB)
    }

    /// Anna has the workstation Knot; a code waits for Ben's Fid. The Quay is open to the crew, the Loft to nobody.
    fn office() -> Office {
        let account = |login: &str, groups: &[&str]| AccountFacts {
            login: login.into(),
            display_name: login.into(),
            groups: groups.iter().map(|group| (*group).to_owned()).collect(),
            disabled: false,
        };
        let quay = DestinationFacts {
            name: "Quay".into(),
            encryption_required: true,
            openness: Grants { groups: ["crew".to_owned()].into(), ..Grants::default() },
            ..DestinationFacts::default()
        };
        let loft = DestinationFacts { name: "Loft".into(), ..DestinationFacts::default() };
        Office {
            accounts: [("anna".into(), account("Anna", &["crew"])), ("ben".into(), account("ben", &["crew"]))].into(),
            groups: [("crew".into(), "Crew".into())].into(),
            destinations: [("quay".into(), quay), ("loft".into(), loft)].into(),
            workstations: [(
                "knot".into(),
                WorkstationFacts {
                    account: "anna".into(),
                    destination: "quay".into(),
                    limit: Limit::Bytes(500 * GB),
                    disk: Some(250 * GB),
                    encrypted: true,
                    awaits_its_machine: false,
                },
            )]
            .into(),
            codes: [(
                "fid".into(),
                CodeFacts { account: "ben".into(), destination: "quay".into(), limit: None, encrypted: true },
            )]
            .into(),
        }
    }

    fn planned(rows: &str) -> Plan {
        let text = format!("account,display name,groups,machine,disk,destination,limit,encryption\n{rows}");
        plan(&read(&text, gigabytes), &office())
    }

    fn steps(rows: &str) -> Vec<Step> {
        let plan = planned(rows);
        assert_eq!(plan.faults, [], "{rows}");
        plan.steps.into_iter().map(|planned| planned.step).collect()
    }

    fn fault(rows: &str) -> (u64, String) {
        let plan = planned(rows);
        assert_eq!(plan.faults.len(), 1, "{plan:?}");
        (plan.faults[0].line, plan.faults[0].what.clone())
    }

    #[test]
    fn what_is_so_already_is_left_alone() {
        let plan = planned("ANNA,,crew,Knot,,quay,500GB,yes\nben,,,fid,,,,\nAnna,,,,,,,\n");
        assert_eq!((plan.steps, plan.faults, plan.lines, plan.unchanged), (vec![], vec![], 3, 3));
    }

    #[test]
    fn one_more_line_adds_a_person_a_group_and_a_machine() {
        let expected = [
            Step::AddGroup { name: "Deck".into() },
            Step::AddAccount { login: "cleo".into(), display_name: "Cleo Ek".into(), groups: vec!["Crew".into(), "Deck".into()] },
            Step::Expect {
                login: "cleo".into(),
                machine: "toggle".into(),
                destination: "Quay".into(),
                limit: Some(Limit::Bytes(1280 * GB)),
                encrypted: true,
            },
        ];
        assert_eq!(steps("cleo,Cleo Ek,Deck; crew,toggle,512GB,,2.5x,\n"), expected);
    }

    #[test]
    fn a_machine_on_a_destination_that_is_closed_to_its_account_opens_it_once() {
        let steps = steps("ben,,,marlin,,Loft,none,no\nben,,,spike,,Loft,,\n");
        let opened = steps.iter().filter(|step| matches!(step, Step::Open { .. })).count();
        assert_eq!((opened, steps.len()), (1, 3));
        assert_eq!(steps[0], Step::Open { destination: "Loft".into(), login: "ben".into() });
    }

    #[test]
    fn limits_of_workstations_and_open_codes_change_and_their_accounts_do_not() {
        assert_eq!(
            steps("anna,,,knot,,,3x,\n"),
            [Step::SetLimit { machine: "knot".into(), before: Limit::Bytes(500 * GB), after: Limit::Bytes(750 * GB) }]
        );
        assert!(matches!(&steps("ben,,,fid,,,none,\n")[..], [Step::ExpectOtherwise { limit: Some(Limit::None), .. }]));
        assert_eq!(fault("ben,,,knot,,,,\n").1, "'knot' is a workstation of 'Anna'");
        assert_eq!(fault("anna,,,fid,,,,\n").1, "an enrolment code of 'ben' waits for 'fid': cancel it first");
    }

    #[test]
    fn a_workstation_from_another_installation_is_handed_to_its_machine_once() {
        let mut office = office();
        office.workstations.get_mut("knot").expect("known").awaits_its_machine = true;
        let reading = read("account,machine\nanna,knot\n", gigabytes);
        let first = plan(&reading, &office);
        assert_eq!(first.steps[0].step, Step::HandOver { login: "Anna".into(), machine: "knot".into() });
        assert_eq!(plan(&reading, &after(&first, office)).steps, []);
    }

    #[test]
    fn what_cannot_be_is_said_before_anything_is_done() {
        for (rows, line) in [
            ("anna,,,knot,,Loft,,\n", 2),
            ("anna,,,knot,,,,no\n", 2),
            ("anna,,,new,,Attic,,\n", 2),
            ("anna,,,new,,,2x,\n", 2),
            ("anna,,,new,,Quay,,no\n", 2),
            ("dora,,,new,,,,\n", 2),
            ("anna,,,new,,Quay,,\nben,,,NEW,,Quay,,\n", 3),
            ("dora,Dora,,,,,,\ndora,Theodora,,,,,,\n", 3),
        ] {
            assert_eq!(fault(rows).0, line, "{rows}");
        }
    }

    /// The office after the steps of a plan.
    fn after(plan: &Plan, mut office: Office) -> Office {
        for planned in &plan.steps {
            match planned.step.clone() {
                Step::AddGroup { name } => drop(office.groups.insert(key(&name), name)),
                Step::AddAccount { login, display_name, groups } => {
                    let groups = groups.iter().map(|group| key(group)).collect();
                    office.accounts.insert(key(&login), AccountFacts { login, display_name, groups, disabled: false });
                }
                Step::ChangeAccount { login, display_name, joins } => {
                    let account = office.accounts.get_mut(&key(&login)).expect("known");
                    account.groups.extend(joins.iter().map(|group| key(group)));
                    if let Some((_, name)) = display_name {
                        account.display_name = name;
                    }
                }
                Step::Open { destination, login } => {
                    office.destinations.get_mut(&key(&destination)).expect("known").openness.accounts.insert(key(&login));
                }
                Step::Expect { login, machine, destination, limit, encrypted } => {
                    let code = CodeFacts { account: key(&login), destination: key(&destination), limit, encrypted };
                    office.codes.insert(key(&machine), code);
                }
                Step::HandOver { machine, .. } => {
                    office.workstations.get_mut(&key(&machine)).expect("known").awaits_its_machine = false;
                }
                Step::ExpectOtherwise { machine, destination, limit, encrypted } => {
                    let code = office.codes.get_mut(&key(&machine)).expect("known");
                    (code.destination, code.limit, code.encrypted) = (key(&destination), limit, encrypted);
                }
                Step::SetLimit { machine, after, .. } => {
                    office.workstations.get_mut(&key(&machine)).expect("known").limit = after;
                }
            }
        }
        office
    }

    proptest! {
        #[test]
        fn done_twice_is_as_done_once(rows in prop::collection::vec(
            ("(anna|Anna|ben|cleo)", "(|Anna Lind|Ben)", "(|crew|deck|deck;crew)", "(|knot|fid|toggle|spike)",
             "(|100GB)", "(|Quay|loft)", "(|none|5GB|2x)", "(|yes|no)"), 1..6)) {
            let text: String = rows.iter().map(|(a, n, g, m, d, p, l, e)| match m.as_str() {
                "" => format!("{a},{n},{g},,,,,\n"),
                _ => format!("{a},{n},{g},{m},{d},{p},{l},{e}\n"),
            }).collect();
            let text = format!("account,display name,groups,machine,disk,destination,limit,encryption\n{text}");
            let reading = read(&text, gigabytes);
            let first = plan(&reading, &office());
            if first.faults.is_empty() {
                let second = plan(&reading, &after(&first, office()));
                prop_assert_eq!(second.steps, vec![]);
                prop_assert_eq!(second.faults, vec![]);
            }
        }
    }
}
