//! Reading a roster: CSV (RFC 4180) with a header; commas, semicolons or tabs between the cells, as spreadsheets write them.

use std::collections::BTreeSet;

use super::{Column, Fault, Line, MOST_LINES, Machine, WantedLimit};
use crate::names;

/// What could be read of a roster, and what could not.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Reading {
    /// The lines without a fault.
    pub lines: Vec<Line>,
    /// What is wrong, from the first line on.
    pub faults: Vec<Fault>,
}

/// How a size is read.
pub(super) type ReadSize = fn(&str) -> Option<u64>;

/// Reads the text of a roster. `size` reads sizes.
#[must_use]
pub fn read(text: &str, size: ReadSize) -> Reading {
    let text = text.trim_start_matches('\u{feff}');
    let mut reader =
        csv::ReaderBuilder::new().has_headers(false).flexible(true).delimiter(delimiter(text)).from_reader(text.as_bytes());
    let mut reading = Reading::default();
    let mut records = reader.records();
    let Some(Ok(header)) = records.next() else {
        reading.faults.push(Fault { line: 1, column: None, what: "there is no header: begin with the template".into() });
        return reading;
    };
    let Some(columns) = columns(&header, &mut reading.faults) else { return reading };
    let mut lines = Lines { text, at: 0, line: 1 };
    for record in records {
        let record = match record {
            Ok(record) => record,
            // The text is UTF-8 already and lines may be of any length: there is nothing else that could be wrong.
            Err(error) => {
                reading.faults.push(Fault { line: lines.line, column: None, what: error.to_string() });
                break;
            }
        };
        let line = record.position().map_or(0, |position| lines.line_of(position.byte()));
        if reading.lines.len() == MOST_LINES {
            let what = format!("a roster has {MOST_LINES} lines at most: make two of it");
            reading.faults.push(Fault { line, column: None, what });
            break;
        }
        if record.iter().all(|cell| cell.trim().is_empty()) {
            continue;
        }
        match Cells::of(line, &record, &columns).line(columns.len(), size) {
            Ok(line) => reading.lines.push(line),
            Err(faults) => reading.faults.extend(faults),
        }
    }
    reading
}

/// Counts lines as an editor does. The reader counts a record's line from where the one before ended.
struct Lines<'t> {
    text: &'t str,
    at: usize,
    line: u64,
}

impl Lines<'_> {
    /// The line of the record that begins at a place, or behind the ends of lines there. Places only go forward.
    fn line_of(&mut self, place: u64) -> u64 {
        let bytes = self.text.as_bytes();
        let mut to = usize::try_from(place).unwrap_or(bytes.len()).min(bytes.len());
        while bytes.get(to).is_some_and(|byte| matches!(byte, b'\r' | b'\n')) {
            to += 1;
        }
        let passed = bytes.get(self.at..to).unwrap_or_default();
        self.line += passed.iter().filter(|byte| **byte == b'\n').count() as u64;
        self.at = to.max(self.at);
        self.line
    }
}

/// What stands between the cells of the header: the first of the three that is in it.
fn delimiter(text: &str) -> u8 {
    let header = text.lines().next().unwrap_or_default();
    let known = |c: &char| matches!(c, ',' | ';' | '\t');
    header.chars().find(known).map_or(b',', |c| c as u8)
}

/// Which column each cell of a line is.
fn columns(header: &csv::StringRecord, faults: &mut Vec<Fault>) -> Option<Vec<Column>> {
    let before = faults.len();
    let mut columns = Vec::new();
    let mut seen = BTreeSet::new();
    for (i, cell) in header.iter().enumerate() {
        let name = names::key(cell).replace('_', " ");
        let fault = |what: String| Fault { line: 1, column: Some((i + 1, "header")), what };
        match Column::ALL.into_iter().find(|column| column.name() == name) {
            Some(column) if seen.insert(column) => columns.push(column),
            Some(column) => faults.push(fault(format!("the column '{}' is there twice", column.name()))),
            None => {
                let known = Column::ALL.map(Column::name).join(", ");
                faults.push(fault(format!("there is no column '{}'; the columns are {known}", cell.trim())));
            }
        }
    }
    if !seen.contains(&Column::Account) && faults.len() == before {
        faults.push(Fault { line: 1, column: None, what: "the column 'account' is missing in the header".into() });
    }
    (faults.len() == before).then_some(columns)
}

/// The cells of a line by column.
struct Cells<'r> {
    number: u64,
    count: usize,
    places: [Option<usize>; 8],
    cells: [&'r str; 8],
}

impl<'r> Cells<'r> {
    fn of(number: u64, record: &'r csv::StringRecord, columns: &[Column]) -> Self {
        let mut cells = Self { number, count: record.len(), places: [None; 8], cells: [""; 8] };
        for (i, (cell, column)) in record.iter().zip(columns).enumerate() {
            cells.places[*column as usize] = Some(i + 1);
            cells.cells[*column as usize] = unguarded(cell.trim());
        }
        cells
    }

    fn get(&self, column: Column) -> Option<&'r str> {
        Some(self.cells[column as usize]).filter(|cell| !cell.is_empty())
    }

    fn fault(&self, column: Column, what: impl Into<String>) -> Fault {
        let place = self.places[column as usize];
        Fault { line: self.number, column: place.map(|place| (place, column.name())), what: what.into() }
    }

    fn line(&self, columns: usize, size: ReadSize) -> Result<Line, Vec<Fault>> {
        if self.count > columns {
            let what = format!("this line has {} cells, the header has {columns}", self.count);
            return Err(vec![Fault { line: self.number, column: None, what }]);
        }
        let mut faults = Vec::new();
        let account = self.name(Column::Account, &mut faults);
        let display_name = self.name(Column::DisplayName, &mut faults);
        let groups = self.groups(&mut faults);
        let machine = self.machine(size, &mut faults);
        if account.is_none() && self.get(Column::Account).is_none() {
            faults.push(self.fault(Column::Account, "whose line is this? The account is missing"));
        }
        match account {
            Some(account) if faults.is_empty() => {
                Ok(Line { number: self.number, places: self.places, account, display_name, groups, machine })
            }
            _ => Err(faults),
        }
    }

    fn name(&self, column: Column, faults: &mut Vec<Fault>) -> Option<String> {
        match names::check(self.get(column)?) {
            Ok(name) => Some(name.to_owned()),
            Err(error) => {
                faults.push(self.fault(column, error.to_string()));
                None
            }
        }
    }

    fn groups(&self, faults: &mut Vec<Fault>) -> Vec<String> {
        let mut groups: Vec<String> = Vec::new();
        for group in self.get(Column::Groups).unwrap_or_default().split(';').map(str::trim).filter(|group| !group.is_empty()) {
            match names::check(group) {
                Ok(group) if groups.iter().all(|other| names::key(other) != names::key(group)) => groups.push(group.to_owned()),
                Ok(_) => {}
                Err(error) => faults.push(self.fault(Column::Groups, error.to_string())),
            }
        }
        groups
    }

    fn machine(&self, size: ReadSize, faults: &mut Vec<Fault>) -> Option<Machine> {
        let of_machines = [Column::Disk, Column::Destination, Column::Limit, Column::Encryption];
        let disk = self.cell(Column::Disk, faults, |cell| size(cell).ok_or_else(|| not_a_size(cell)));
        let limit = self.cell(Column::Limit, faults, |cell| wanted_limit(cell, size));
        let encrypted = self.cell(Column::Encryption, faults, yes_or_no);
        let destination = self.name(Column::Destination, faults);
        if self.get(Column::Machine).is_none() {
            if let Some(column) = of_machines.into_iter().find(|column| self.get(*column).is_some()) {
                faults.push(self.fault(column, format!("this line names no machine: a '{}' has no meaning", column.name())));
            }
            return None;
        }
        Some(Machine { name: self.name(Column::Machine, faults)?, disk, destination, limit, encrypted })
    }

    fn cell<T>(&self, column: Column, faults: &mut Vec<Fault>, read: impl FnOnce(&str) -> Result<T, String>) -> Option<T> {
        match read(self.get(column)?) {
            Ok(value) => Some(value),
            Err(what) => {
                faults.push(self.fault(column, what));
                None
            }
        }
    }
}

/// A cell that begins like a formula is written with an apostrophe before it, so that no spreadsheet reckons with it.
fn unguarded(cell: &str) -> &str {
    cell.strip_prefix('\'').filter(|rest| rest.starts_with(['=', '+', '-', '@'])).unwrap_or(cell)
}

fn not_a_size(cell: &str) -> String {
    format!("'{cell}' is not a size: give a number and a unit, such as 500 GB or 1.5 TB")
}

fn wanted_limit(cell: &str, size: ReadSize) -> Result<WantedLimit, String> {
    if cell.eq_ignore_ascii_case("none") {
        return Ok(WantedLimit::None);
    }
    let factor = cell.strip_suffix(['x', 'X', '×']).map(|number| number.trim().replace(',', "."));
    match factor {
        Some(number) => match number.parse::<f64>() {
            Ok(factor) if (0.1..=100.0).contains(&factor) => Ok(WantedLimit::Factor(factor)),
            _ => Err(format!("'{cell}' is not a factor of the disk: give one of 0.1x to 100x, such as 2.5x")),
        },
        None => size(cell)
            .map(WantedLimit::Bytes)
            .ok_or_else(|| format!("'{cell}' is not a limit: give a size (1.5 TB), a factor of the disk (2.5x), or none")),
    }
}

fn yes_or_no(cell: &str) -> Result<bool, String> {
    match cell.to_lowercase().as_str() {
        "yes" => Ok(true),
        "no" => Ok(false),
        _ => Err(format!("'{cell}' is neither yes nor no")),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Sizes of the tests are in GB.
    fn gigabytes(text: &str) -> Option<u64> {
        text.strip_suffix("GB")?.trim().parse::<u64>().ok()?.checked_mul(1_000_000_000)
    }

    fn faults(text: &str) -> Vec<(u64, Option<(usize, &'static str)>)> {
        read(text, gigabytes).faults.into_iter().map(|fault| (fault.line, fault.column)).collect()
    }

    #[test]
    fn columns_may_come_in_any_order_and_be_divided_as_spreadsheets_do() {
        let comma = "account,display name,groups,machine,limit\nanna,Anna Lind,crew; deck,knot,2.5x\n";
        let semicolon = "\u{feff}Account;Display_Name;Groups;Machine;Limit\r\nanna;Anna Lind;\"crew; deck\";knot;2,5x\r\n";
        let moved = "limit\tmachine\taccount\tgroups\tdisplay name\n2.5×\tknot\tanna\tcrew;deck\tAnna Lind";
        for text in [comma, semicolon, moved] {
            let reading = read(text, gigabytes);
            assert_eq!(reading.faults, [], "{text}");
            let line = &reading.lines[0];
            assert_eq!((line.number, line.account.as_str(), line.groups.len()), (2, "anna", 2), "{text}");
            let machine = line.machine.as_ref().expect("a machine");
            assert_eq!((machine.name.as_str(), machine.limit), ("knot", Some(WantedLimit::Factor(2.5))));
        }
    }

    #[test]
    fn every_fault_is_told_with_its_line_and_column() {
        let text = "account,machine,disk,limit,encryption\n,knot,,,\nben,fid,500,2.5,maybe\n\ncleo,,1GB,,\ndag,a,b,c,d,e\n";
        let told = faults(text);
        let expected = [
            (2, Some((1, "account"))),
            (3, Some((3, "disk"))),
            (3, Some((4, "limit"))),
            (3, Some((5, "encryption"))),
            (5, Some((3, "disk"))),
            (6, None),
        ];
        assert_eq!(told, expected);
    }

    #[test]
    fn a_header_that_is_not_one_is_said_at_once() {
        assert_eq!(faults(""), [(1, None)]);
        assert_eq!(faults("anna,Anna Lind\n"), [(1, Some((1, "header"))), (1, Some((2, "header")))]);
        assert_eq!(faults("machine\nknot\n"), [(1, None)]);
        assert_eq!(faults("account,account\n"), [(1, Some((2, "header")))]);
    }

    #[test]
    fn a_cell_that_would_be_a_formula_reads_back() {
        let reading = read("account\n'=anna\n'anna\n", gigabytes);
        let accounts: Vec<&str> = reading.lines.iter().map(|line| line.account.as_str()).collect();
        assert_eq!(accounts, ["=anna", "'anna"]);
    }

    #[test]
    fn a_roster_has_an_end() {
        let text = format!("account\n{}", "anna\n".repeat(MOST_LINES + 3));
        let reading = read(&text, gigabytes);
        assert_eq!((reading.lines.len(), reading.faults.len()), (MOST_LINES, 1));
    }

    proptest! {
        #[test]
        fn no_text_is_too_much_for_it(text in "(account|machine|limit|\"|,|;|\n|\r|x|0|\\PC){0,80}") {
            let reading = read(&text, gigabytes);
            let all = text.lines().count() as u64 + 1;
            prop_assert!(reading.lines.iter().all(|line| !line.account.is_empty() && (1..=all).contains(&line.number)));
            prop_assert!(reading.faults.iter().all(|fault| (1..=all).contains(&fault.line)), "{:?}", reading.faults);
        }

        #[test]
        fn what_is_quoted_reads_back(account in "[^\\p{C}]{1,20}") {
            prop_assume!(!account.trim().is_empty() && !account.trim().starts_with('\''));
            let text = format!("account\n\"{}\"\n", account.replace('"', "\"\""));
            let reading = read(&text, gigabytes);
            prop_assert_eq!(reading.lines[0].account.as_str(), account.trim());
        }
    }
}
