//! The roster: a table of people and machines.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::enrolment::IssuedCode;

/// A roster, to be looked at or to be put into effect.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Roster {
    /// Its text: CSV (RFC 4180) with a header.
    pub table: String,
    /// Hours until the enrolment codes that it makes end, 1 to 720; 336, two weeks, unless given.
    #[serde(default)]
    pub hours: Option<u16>,
}

/// What is wrong with a roster, and where.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RosterFault {
    /// The line, from 1.
    pub line: u64,
    /// The place of the cell in the line, from 1; absent when the line as a whole is meant.
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
    /// Something is made that was not there.
    New,
    /// Something that is there changes.
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
    /// How it will be.
    pub says: String,
}

/// What a roster would do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RosterPlan {
    /// What it changes, in the order in which that is done.
    pub steps: Vec<RosterStep>,
    /// What is wrong; while there is anything, nothing is done.
    pub faults: Vec<RosterFault>,
    /// How many lines could be read.
    pub lines: u64,
    /// How many of them ask for nothing that is not so already.
    pub unchanged: u64,
}

/// A roster that was put into effect.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RosterDone {
    /// What was changed.
    pub steps: Vec<RosterStep>,
    /// How many lines asked for nothing that was not so already.
    pub unchanged: u64,
    /// The enrolment codes that were made; they are not shown again.
    pub codes: Vec<IssuedCode>,
}

/// Which roster is asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RosterQuery {
    /// Whether the office as it is stands in it; else it has a header only.
    #[serde(default)]
    pub filled: bool,
}

/// How a hand-out is made.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum HandOutForm {
    /// A page that prints well.
    #[default]
    Html,
    /// PDF.
    Pdf,
}

/// Asks for hand-outs, a page for each code, in one file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AskHandOuts {
    /// Enrolment codes, as they were shown when they were made.
    pub codes: Vec<String>,
    /// How they are made.
    #[serde(default)]
    pub form: HandOutForm,
}
