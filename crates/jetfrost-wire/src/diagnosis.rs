//! Diagnosis: the steps that a client takes, tried from the server for an account, or by a workstation for itself.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::WhoseMove;

/// The steps, in the order in which they are tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DiagnosisStep {
    /// The account can be used.
    Account,
    /// New backups are accepted.
    Maintenance,
    /// The destination is available and accepts backups.
    Destination,
    /// The account has access to it.
    Access,
    /// No limit is reached.
    Capacity,
    /// A probe is written, made durable, read back and removed.
    WriteTest,
}

/// The result of a step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DiagnosisLine {
    /// The step.
    pub step: DiagnosisStep,
    /// Whether it passed.
    pub well: bool,
    /// What was found, in a sentence.
    pub says: String,
    /// What to do, if it failed.
    pub next: Option<String>,
    /// Whose move that is.
    pub whose_move: Option<WhoseMove>,
}

/// A diagnosis. It ends with the first step that fails: that one explains the rest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Diagnosis {
    /// Whether all steps passed.
    pub well: bool,
    /// The steps that were tried.
    pub steps: Vec<DiagnosisLine>,
}

/// Diagnoses an account's access from the server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DiagnoseFor {
    /// Login name of the account.
    pub login: String,
}
