//! Trying as a client would: from the server for an account, and from a workstation for itself.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::WhoseMove;

/// What is looked at, in this order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DiagnosisStep {
    /// The account can be used.
    Account,
    /// New backups are accepted.
    Maintenance,
    /// The destination is there, and takes backups.
    Destination,
    /// It is open to the account.
    Access,
    /// Every limit leaves room.
    Capacity,
    /// A probe is written, made durable, read back and removed.
    WriteTest,
}

/// How a step went.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DiagnosisLine {
    /// The step.
    pub step: DiagnosisStep,
    /// Whether it went well.
    pub well: bool,
    /// How it went, in a sentence.
    pub says: String,
    /// What to do, where it did not.
    pub next: Option<String>,
    /// Whose move that is.
    pub whose_move: Option<WhoseMove>,
}

/// A diagnosis. It ends with the first step that does not go well: that one explains the rest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Diagnosis {
    /// Whether all went well.
    pub well: bool,
    /// The steps that were looked at.
    pub steps: Vec<DiagnosisLine>,
}

/// Tries for an account, from the server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DiagnoseFor {
    /// Login name of the account.
    pub login: String,
}
