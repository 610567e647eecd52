//! The roster: a table of people and their machines, and what it would make of the office.
//!
//! Reading and planning are apart: [`read`] finds what is wrong with the text alone, [`plan()`] compares what it says with
//! the office as it is. Neither changes anything. A roster only adds and sets; it takes nothing and nobody away.

mod plan;
mod read;

pub use plan::{AccountFacts, CodeFacts, DestinationFacts, Office, Plan, Planned, Step, WorkstationFacts, plan};
pub use read::{Reading, read};

/// The most lines that a roster may have.
pub const MOST_LINES: usize = 5000;

/// A column of the roster. Columns may come in any order; all but the first may be left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Column {
    /// Login name of the account.
    Account,
    /// The person's name.
    DisplayName,
    /// Groups that the account is to be in, with semicolons between them.
    Groups,
    /// Name of the machine.
    Machine,
    /// Size of the machine's disk.
    Disk,
    /// Name of the destination of its image store.
    Destination,
    /// Limit of its image store: a size, a factor of the disk such as `2.5x`, or `none`.
    Limit,
    /// Whether the machine encrypts: `yes` or `no`.
    Encryption,
}

impl Column {
    /// All, in the order of the template.
    pub const ALL: [Self; 8] = [
        Self::Account,
        Self::DisplayName,
        Self::Groups,
        Self::Machine,
        Self::Disk,
        Self::Destination,
        Self::Limit,
        Self::Encryption,
    ];

    /// Its name in the header.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Account => "account",
            Self::DisplayName => "display name",
            Self::Groups => "groups",
            Self::Machine => "machine",
            Self::Disk => "disk",
            Self::Destination => "destination",
            Self::Limit => "limit",
            Self::Encryption => "encryption",
        }
    }
}

/// What is wrong with a roster, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// The line of the text, from 1.
    pub line: u64,
    /// The column's place in that line, from 1, and which it is; none when the line as a whole is meant.
    pub column: Option<(usize, &'static str)>,
    /// What is wrong, in a sentence without a full stop.
    pub what: String,
}

/// How large an image store may become.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum WantedLimit {
    /// Without a limit.
    None,
    /// This many bytes.
    Bytes(u64),
    /// This many times the machine's disk.
    Factor(f64),
}

/// A line that could be read.
#[derive(Debug, Clone, PartialEq)]
pub struct Line {
    /// Which line of the text, from 1.
    pub number: u64,
    /// Where each column is in the line, from 1.
    pub(crate) places: [Option<usize>; 8],
    /// Login name.
    pub account: String,
    /// The person's name, where it is given.
    pub display_name: Option<String>,
    /// Groups.
    pub groups: Vec<String>,
    /// The machine, where there is one.
    pub machine: Option<Machine>,
}

/// A machine in a line.
#[derive(Debug, Clone, PartialEq)]
pub struct Machine {
    /// Its name.
    pub name: String,
    /// Bytes of its disk.
    pub disk: Option<u64>,
    /// Where its image store is to be.
    pub destination: Option<String>,
    /// How large that may become.
    pub limit: Option<WantedLimit>,
    /// Whether it encrypts.
    pub encrypted: Option<bool>,
}

impl Line {
    fn fault(&self, column: Column, what: impl Into<String>) -> Fault {
        let place = self.places[column as usize];
        Fault { line: self.number, column: place.map(|place| (place, column.name())), what: what.into() }
    }
}
