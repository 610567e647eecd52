//! Kinds of recovery points.

use minicbor::{Decode, Encode};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels;

/// What a point is a state of. The numbers are those of the image format.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema, Encode, Decode)]
#[serde(rename_all = "snake_case")]
#[cbor(index_only)]
pub enum PointKind {
    /// Folders and files.
    #[default]
    #[n(1)]
    Files,
    /// A disk.
    #[n(2)]
    Disk,
}

labels!(PointKind: Files = "files", Disk = "disk");

impl PointKind {
    /// What a point of this kind is a state of, in words.
    #[must_use]
    pub fn plural(self) -> &'static str {
        match self {
            Self::Files => "files",
            Self::Disk => "disks",
        }
    }
}
