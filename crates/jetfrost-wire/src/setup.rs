//! The set-up list.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

pub use jetfrost_types::Step;

/// How a step stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum StepState {
    /// It is done.
    Done,
    /// It is not decided yet.
    Open,
    /// Somebody decided to leave it as it is.
    Dismissed,
}

/// A line of the set-up list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StepLine {
    /// The step.
    pub step: Step,
    /// How it stands.
    pub state: StepState,
    /// How things are, in a sentence.
    pub says: String,
    /// What to do, while it is open.
    pub next: Option<String>,
    /// Whether the move is at a workstation; else it is the administrator's.
    pub at_a_workstation: bool,
    /// Whether it may be left as it is.
    pub can_be_dismissed: bool,
    /// Who decided to leave it as it is, why and when.
    pub dismissed: Option<Dismissal>,
}

/// A decision to leave a step as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Dismissal {
    /// Why.
    pub why: String,
    /// Who decided.
    pub by: String,
    /// When.
    pub at: Timestamp,
}

/// The set-up list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Setup {
    /// Whether nothing is open.
    pub ready: bool,
    /// All steps, in the order of the work.
    pub steps: Vec<StepLine>,
}

/// Decides to leave a step as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Dismiss {
    /// Why.
    pub why: String,
}
