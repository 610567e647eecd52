//! What is kept how long, what happens at a limit, and what waits to go.

pub use jetfrost_types::{NotARule, Retention, Rule, StayReason};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels::labels;
use crate::point::Point;

/// What happens when a backup meets a limit.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AtLimit {
    /// The backup stops and says so.
    #[default]
    Stop,
    /// The workstation's oldest points go, as far as the rule's least number and holds allow.
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
    /// Bytes it may occupy; absent for no limit of its own.
    #[serde(default)]
    pub limit: Option<u64>,
    /// Which points are kept; absent for what the destination says.
    #[serde(default)]
    pub retention: Option<Retention>,
}

/// Removes at once what an administrator could bring back otherwise: who asks shows password and second factor again.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct RemoveNow {
    /// The password of the account that asks.
    pub password: String,
    /// A code of its second factor.
    pub code: String,
}

/// Puts a hold on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewHold {
    /// Why.
    pub reason: String,
}

/// What becomes of a point.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PointFate {
    /// The point.
    pub point: Point,
    /// Why it stays; absent when it goes with the next thinning.
    pub stays: Option<StayReason>,
    /// Until when it stays for certain, if no other point is made; absent for no end, or when it goes.
    pub until: Option<Timestamp>,
    /// Whether it may go after that, or now if `until` is absent, to make room at a limit.
    pub goes_for_room: bool,
    /// Where it may go for room: until when it stays while there is room; absent for no end.
    pub while_room_until: Option<Timestamp>,
}

/// What the next thinning of an image store would do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ThinningPreview {
    /// By which rule.
    pub retention: Retention,
    /// Whether terms were changed, and points that were there before are kept longer, as the earlier terms promised.
    pub keeps_earlier_promises: bool,
    /// All points, latest first.
    pub points: Vec<PointFate>,
    /// Chunks that nothing would need any more.
    pub freed_chunks: u64,
    /// Bytes that they take.
    pub freed_bytes: u64,
}
