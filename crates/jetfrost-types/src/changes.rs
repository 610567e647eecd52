//! How a point differs from the one before, and what that looks like.

use minicbor::{Decode, Encode};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels;

/// How a point of files differs from the one before: counts of files and bytes, made by the workstation from its own walk. The numbers of the
/// fields are those of the image format.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema, Encode, Decode)]
#[serde(deny_unknown_fields)]
#[cbor(map)]
pub struct Changes {
    /// Files in the point before.
    #[n(0)]
    pub files_before: u64,
    /// Bytes of content in the point before.
    #[n(1)]
    pub bytes_before: u64,
    /// New files.
    #[n(2)]
    pub added: u64,
    /// Bytes in them.
    #[n(3)]
    pub added_bytes: u64,
    /// Files with other content.
    #[n(4)]
    pub changed: u64,
    /// Bytes in them.
    #[n(5)]
    pub changed_bytes: u64,
    /// Files that are gone.
    #[n(6)]
    pub gone: u64,
    /// Bytes that were in them.
    #[n(7)]
    pub gone_bytes: u64,
    /// Files that have the same content at another path.
    #[n(8)]
    pub renamed: u64,
    /// Files whose content was recognisable and looks random or blank now: changed ones, and new ones in the place of ones that are gone.
    #[n(9)]
    pub scrambled: u64,
    /// Bytes in them.
    #[n(10)]
    pub scrambled_bytes: u64,
    /// Files that changed together with the ending of their name, to the ending that most of them have now.
    #[n(11)]
    pub relabelled: u64,
    /// Of the files that are gone, those that had not changed for 30 days.
    #[n(12)]
    pub old_gone: u64,
    /// Bytes that were in them.
    #[n(13)]
    pub old_gone_bytes: u64,
    /// Whether something else was selected: then what is gone may only be left out.
    #[n(14)]
    pub selection_changed: bool,
}

impl Changes {
    /// Every count, for whoever checks their bounds.
    #[must_use]
    pub fn counts(&self) -> [u64; 14] {
        [
            self.files_before,
            self.bytes_before,
            self.added,
            self.added_bytes,
            self.changed,
            self.changed_bytes,
            self.gone,
            self.gone_bytes,
            self.renamed,
            self.scrambled,
            self.scrambled_bytes,
            self.relabelled,
            self.old_gone,
            self.old_gone_bytes,
        ]
    }
}

/// What a point looks like that no normal work makes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Suspicion {
    /// Many files lost what made them recognisable, as if somebody had encrypted or blanked them.
    Scrambled,
    /// Most of what had been there for long is gone.
    Deleted,
    /// Most of what the store kept for the point before is not in this one, whatever the workstation says of it.
    Replaced,
}

impl Suspicion {
    /// What a point with this suspicion does, in words that follow its number.
    #[must_use]
    pub fn in_words(self) -> &'static str {
        match self {
            Self::Scrambled => "looks like mass encryption",
            Self::Deleted => "looks like mass deletion",
            Self::Replaced => "shares almost nothing with the point before",
        }
    }
}

labels!(Suspicion: Scrambled = "scrambled", Deleted = "deleted", Replaced = "replaced");

/// What a person found out about a point.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum PointMark {
    /// It is as it should be. It holds no older point any more.
    Good,
    /// It may hold what an incident left. All older points stay.
    Suspect,
    /// It holds what an incident left, and that is dealt with. Older points go by the rule again.
    Resolved,
}

labels!(PointMark: Good = "good", Suspect = "suspect", Resolved = "resolved");
