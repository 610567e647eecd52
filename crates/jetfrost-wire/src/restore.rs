//! Restores: attempts to bring something back.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels::labels;
use crate::run::{Outcome, Progress};
use crate::{RestoreId, WorkstationId};

/// How much was asked for. The service does not learn names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Scope {
    /// Everything in the point.
    Everything,
    /// Chosen files or folders.
    Selection,
}

labels!(Scope: Everything = "everything", Selection = "selection");

/// What a restore is for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Purpose {
    /// Somebody wants something back.
    #[default]
    Restore,
    /// A rehearsal, which proves that a point can be restored.
    Drill,
}

labels!(Purpose: Restore = "restore", Drill = "drill");

/// An attempt to bring something back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Restore {
    /// The restore.
    pub id: RestoreId,
    /// From whose image store.
    pub workstation: WorkstationId,
    /// From which point.
    pub point: u64,
    /// How much was asked for.
    pub scope: Scope,
    /// What it is for.
    pub purpose: Purpose,
    /// Who asked: a workstation's or an account's name.
    pub by: String,
    /// How it stands or ended.
    pub outcome: Outcome,
    /// How far it is or came.
    pub progress: Progress,
    /// What could not be brought back.
    pub exceptions: u64,
    /// When it began.
    pub started: Timestamp,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// Why it failed, in a sentence.
    pub reason: Option<String>,
}

/// Begins a restore.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BeginRestore {
    /// From which point.
    pub point: u64,
    /// How much is asked for.
    pub scope: Scope,
    /// What it is for.
    #[serde(default)]
    pub purpose: Purpose,
}

/// Ends a restore.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EndRestore {
    /// How far it came.
    pub progress: Progress,
    /// What could not be brought back.
    pub exceptions: u64,
}
