//! The setup list.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

pub use jetfrost_types::Step;

/// The state of a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum StepState {
    /// It is done.
    Done,
    /// It is still open.
    Open,
    /// Somebody dismissed it.
    Dismissed,
}

/// A step of the setup list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StepLine {
    /// The step.
    pub step: Step,
    /// Its state.
    pub state: StepState,
    /// The situation, in a sentence.
    pub says: String,
    /// What to do if it is open.
    pub next: Option<String>,
    /// Whether a workstation has to act; otherwise the administrator.
    pub at_a_workstation: bool,
    /// Whether it can be dismissed.
    pub can_be_dismissed: bool,
    /// Who dismissed it, why and when.
    pub dismissed: Option<Dismissal>,
}

/// The dismissal of a step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Dismissal {
    /// Why.
    pub why: String,
    /// Who dismissed it.
    pub by: String,
    /// When.
    pub at: Timestamp,
}

/// The setup list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Setup {
    /// Whether no step is open.
    pub ready: bool,
    /// All steps, in order.
    pub steps: Vec<StepLine>,
}

/// Dismisses a step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Dismiss {
    /// Why.
    pub why: String,
}
