//! Programs for workstations that the service offers.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A file that anybody may fetch at `/downloads/NAME`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Download {
    /// Its name.
    pub name: String,
    /// Its length.
    pub bytes: u64,
    /// SHA-256 of its content, in hexadecimal.
    pub sha256: String,
}

/// What is offered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Downloads {
    /// By name.
    pub files: Vec<Download>,
}
