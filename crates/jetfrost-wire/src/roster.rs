//! The roster: a table of people and machines.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::enrolment::IssuedCode;

/// A roster to check or import.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Roster {
    /// Its text: CSV (RFC 4180) with a header.
    pub table: String,
    /// Hours until the enrolment codes that it makes expire, 1 to 720; 336 (two weeks) by default.
    #[serde(default)]
    pub hours: Option<u16>,
}

/// A fault in a roster.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RosterFault {
    /// The line, from 1.
    pub line: u64,
    /// The cell's position in the line, from 1; absent for the whole line.
    pub cell: Option<u64>,
    /// Name of its column.
    pub column: Option<String>,
    /// What is wrong.
    pub what: String,
}

/// What kind of change a roster asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RosterAct {
    /// Something new is made.
    New,
    /// Something existing is changed.
    Change,
}

/// A change that a roster asks for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RosterStep {
    /// The line that asks for it, from 1.
    pub line: u64,
    /// What kind of change it is.
    pub act: RosterAct,
    /// What it is about: `group`, `account`, `access`, `enrolment code` or `limit`.
    pub about: String,
    /// Its name.
    pub name: String,
    /// Its new state.
    pub says: String,
}

/// What importing a roster would do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RosterPlan {
    /// The changes, in the order in which they are made.
    pub steps: Vec<RosterStep>,
    /// The faults; if there is any, nothing is imported.
    pub faults: Vec<RosterFault>,
    /// Lines read.
    pub lines: u64,
    /// Lines that change nothing.
    pub unchanged: u64,
}

/// An imported roster.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RosterDone {
    /// The changes made.
    pub steps: Vec<RosterStep>,
    /// Lines that changed nothing.
    pub unchanged: u64,
    /// The new enrolment codes; they are not shown again.
    pub codes: Vec<IssuedCode>,
}

/// Which roster to return.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RosterQuery {
    /// Include the current office; otherwise only the header.
    #[serde(default)]
    pub filled: bool,
}

/// The format of a hand-out.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum HandOutForm {
    /// HTML, ready to print.
    #[default]
    Html,
    /// PDF.
    Pdf,
}

/// Asks for hand-outs, a page for each code, in one file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AskHandOuts {
    /// Enrolment codes as shown when they were made.
    pub codes: Vec<String>,
    /// Their format.
    #[serde(default)]
    pub form: HandOutForm,
}
