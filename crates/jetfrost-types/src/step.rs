//! Steps of setting an office up.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels;

/// A step of setting an office up, in the order of the work.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// There is a place for backups, and it is there.
    Storage,
    /// There are people beside the administrators.
    People,
    /// Every image store must be encrypted, and is.
    Encryption,
    /// Some destination is open to somebody.
    Access,
    /// Something bounds how far history grows.
    Limits,
    /// There is an office key.
    OfficeKey,
    /// The records are backed up.
    Protection,
    /// Every administrator has a second factor.
    SecondFactor,
    /// The service announces itself on the network.
    Discovery,
    /// Alerts are sent by mail.
    Mail,
    /// New backups are accepted.
    Maintenance,
    /// A machine has joined.
    FirstMachine,
    /// Every workstation has a complete point.
    FirstPoint,
    /// A drill brought a point back as it was.
    FirstDrill,
}

labels!(Step: Storage = "storage", People = "people", Encryption = "encryption", Access = "access", Limits = "limits", OfficeKey = "office_key", Protection = "protection", SecondFactor = "second_factor", Discovery = "discovery", Mail = "mail", Maintenance = "maintenance", FirstMachine = "first_machine", FirstPoint = "first_point", FirstDrill = "first_drill");
