//! One search over all that an administrator may look for: the few first of each kind, and whether there are more.

use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_wire::office::{Hit, HitKind, SearchResult};

use crate::operations::Operations;
use crate::records::{AccountRow, AuditFilter, AuditRow, CodeWithNames, Connection, DestinationRow, GroupRow, WorkstationLine};
use crate::shared::{Caller, Result, ServiceError};
use crate::storage::workstations::see;

/// So many of a kind are shown.
const MOST: usize = 6;
/// Lists of names are read whole.
const ALL: usize = i64::MAX as usize;

/// What was found so far.
#[derive(Default)]
struct Found(SearchResult);

impl Found {
    /// Adds the first of a kind.
    fn add(&mut self, hits: impl IntoIterator<Item = Hit>) {
        let mut hits = hits.into_iter();
        self.0.hits.extend(hits.by_ref().take(MOST));
        self.0.more.extend(hits.next().map(|hit| hit.kind));
    }
}

impl Operations {
    pub(crate) fn search(&self, caller: &Caller, text: &str) -> Result<SearchResult> {
        let text = text.trim();
        if text.is_empty() {
            return Ok(SearchResult::default());
        }
        let words: Vec<String> = text.split_whitespace().map(names::key).collect();
        let has = |parts: &[&str]| {
            let said = names::key(&parts.join(" "));
            words.iter().all(|word| said.contains(word))
        };
        let mut found = Found::default();
        self.records.read(|on| {
            let lines = WorkstationLine::all(caller.only_own(), on)?;
            let lines = lines.iter().filter(|line| caller.may(&see(line)).is_ok());
            let of = |line: &&WorkstationLine| has(&[&line.workstation.name, &line.account.login, &line.account.display_name]);
            found.add(lines.filter(of).map(workstation));
            if caller.may(&Act::SeeOffice).is_ok() {
                found.add(accounts(on)?.into_iter().filter(|hit| has(&[&hit.name, &hit.detail])));
                found.add(groups(on)?.into_iter().filter(|hit| has(&[&hit.name])));
                found.add(destinations(on)?.into_iter().filter(|hit| has(&[&hit.name, &hit.detail])));
                found.add(codes(on)?.into_iter().filter(|hit| has(&[&hit.name, &hit.detail])));
                found.add(audit_entries(text, on)?);
            }
            Ok::<_, ServiceError>(())
        })?;
        Ok(found.0)
    }
}

fn hit(kind: HitKind, id: &impl ToString, name: impl Into<String>, detail: impl Into<String>) -> Hit {
    Hit { kind, id: id.to_string(), name: name.into(), detail: detail.into() }
}

fn workstation(line: &WorkstationLine) -> Hit {
    hit(HitKind::Workstation, &line.workstation.id.0, &line.workstation.name, &line.account.display_name)
}

fn accounts(on: &mut Connection) -> Result<Vec<Hit>> {
    let rows = AccountRow::list("", ALL, on)?;
    Ok(rows.into_iter().map(|row| hit(HitKind::Account, &row.id.0, row.login, row.display_name)).collect())
}

fn groups(on: &mut Connection) -> Result<Vec<Hit>> {
    Ok(GroupRow::list("", ALL, on)?.into_iter().map(|row| hit(HitKind::Group, &row.id.0, row.name, "")).collect())
}

fn destinations(on: &mut Connection) -> Result<Vec<Hit>> {
    let rows = DestinationRow::list("", ALL, on)?;
    Ok(rows.into_iter().map(|row| hit(HitKind::Destination, &row.id.0, row.name, row.directory)).collect())
}

/// Codes by the machine that they are for, or became.
fn codes(on: &mut Connection) -> Result<Vec<Hit>> {
    let name = |row: &CodeWithNames| row.code.machine.clone().or(row.workstation.clone()).unwrap_or_else(|| "any machine".into());
    let of = |row: CodeWithNames| hit(HitKind::Code, &row.code.id.0, name(&row), format!("{}, {}", row.login, row.destination));
    Ok(CodeWithNames::list(i64::MAX, ALL, on)?.into_iter().map(of).collect())
}

/// The latest entries of the audit log that have the text as it is.
fn audit_entries(text: &str, on: &mut Connection) -> Result<Vec<Hit>> {
    let filter = AuditFilter { text: Some(text.into()), ..AuditFilter::default() };
    let rows = AuditRow::list(&filter, i64::MAX, MOST + 1, on)?;
    Ok(rows
        .into_iter()
        .map(|row| hit(HitKind::AuditEntry, &row.number, row.what, format!("{}, {}", row.subject, row.who)))
        .collect())
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::office::HitKind;

    use super::MOST;
    use crate::shared::Caller;
    use crate::shared::testing::Office;

    fn kinds(office: &Office, caller: &Caller, text: &str) -> Vec<(HitKind, String)> {
        let found = office.services.operations.search(caller, text).expect("found");
        found.hits.into_iter().map(|hit| (hit.kind, hit.name)).collect()
    }

    #[test]
    fn a_few_letters_find_whatever_has_them_and_nobody_sees_what_is_not_theirs() {
        let office = Office::open();
        office.destination("Tern shelf");
        let (tove, marek) = (office.person("tove", Role::Member), office.person("marek", Role::Member));
        office.machine("tove", "tern");
        let found = kinds(&office, &office.ingrid, "TERN");
        assert!(found.contains(&(HitKind::Workstation, "tern".into())), "{found:?}");
        assert!(found.contains(&(HitKind::Destination, "Tern shelf".into())), "{found:?}");
        assert!(found.contains(&(HitKind::Code, "tern".into())), "{found:?}");
        assert!(found.iter().any(|(kind, _)| *kind == HitKind::AuditEntry), "{found:?}");
        assert_eq!(kinds(&office, &tove, "tern"), [(HitKind::Workstation, "tern".into())]);
        assert_eq!(kinds(&office, &marek, "tern"), []);
        assert_eq!(kinds(&office, &office.ingrid, "  "), []);
    }

    #[test]
    fn of_each_kind_a_few_are_shown_and_that_there_are_more_is_said() {
        let office = Office::open();
        for n in 0..=MOST {
            office.person(&format!("guest {n}"), Role::Member);
        }
        let found = office.services.operations.search(&office.ingrid, "guest").expect("found");
        assert_eq!(found.hits.iter().filter(|hit| hit.kind == HitKind::Account).count(), MOST);
        assert!(found.more.contains(&HitKind::Account), "{:?}", found.more);
    }
}
