//! Retention: how long points are kept, what happens at a limit, and what is pending removal.

pub use jetfrost_types::{NotARule, Retention, Rule, StayReason};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels::labels;
use crate::point::Point;

/// What happens when a backup reaches a limit.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AtLimit {
    /// The backup fails with an error.
    #[default]
    Stop,
    /// The workstation's oldest points are removed, as far as the rule's minimum and holds allow.
    ExpireOldest,
}

labels!(AtLimit: Stop = "stop", ExpireOldest = "expire_oldest");

/// Once a month.
#[must_use]
pub fn usual_scrub_days() -> u32 {
    30
}

/// What an administrator sets for one image store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StoreSettings {
    /// Its limit in bytes; absent for none.
    #[serde(default)]
    pub limit: Option<u64>,
    /// Its retention; absent for the destination's.
    #[serde(default)]
    pub retention: Option<Retention>,
}

/// Removes something without its waiting time. Requires password and second factor again.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct RemoveNow {
    /// The caller's account password.
    pub password: String,
    /// A code of the caller's second factor.
    pub code: String,
}

/// Places a hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewHold {
    /// Why.
    pub reason: String,
}

/// What retention does with a point.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PointFate {
    /// The point.
    pub point: Point,
    /// Why it stays; absent when the next thinning removes it.
    pub stays: Option<StayReason>,
    /// Until when it stays for certain if no other point is made; absent for no end, or if it expires now.
    pub until: Option<Timestamp>,
    /// Whether it may be removed after that, or now if `until` is absent, to make room at a limit.
    pub goes_for_room: bool,
    /// Until when it stays while there is room; absent for no end.
    pub while_room_until: Option<Timestamp>,
}

/// What the next thinning of an image store would do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ThinningPreview {
    /// By which rule.
    pub retention: Retention,
    /// Whether older points are kept longer because earlier terms promised it.
    pub keeps_earlier_promises: bool,
    /// All points, latest first.
    pub points: Vec<PointFate>,
    /// Chunks that no point would need any more.
    pub freed_chunks: u64,
    /// Bytes that they occupy.
    pub freed_bytes: u64,
}
