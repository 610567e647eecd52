//! Versions, so that nobody overwrites what they have not seen.

use std::fmt;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Version of the settings of something when it was read. It changes with each change of a setting, not with
/// figures that change by themselves. Sent back in `If-Match` with a change, which is refused if somebody else
/// made one meanwhile (RFC 9110, section 13.1.1).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
#[schema(value_type = String)]
pub struct Version(pub String);

impl Version {
    /// As an entity tag, for `ETag` and `If-Match` (RFC 9110, section 8.8.3).
    #[must_use]
    pub fn tag(&self) -> String {
        format!("\"{}\"", self.0)
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Something with a version.
pub trait HasVersion {
    /// Its version when it was read.
    fn version(&self) -> &Version;
}
