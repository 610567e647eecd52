//! Runs: attempts to make a recovery point.

use jetfrost_types::ImageStoreId;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::binary::Binary;
use crate::labels::labels;
use crate::point::Point;
use crate::{RunId, WorkstationId};
use jetfrost_types::PointKind;

/// How a run or a restore stands or ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// It goes on.
    Underway,
    /// Everything is as it should be.
    Complete,
    /// It ended well but for what it lists.
    CompleteWithExceptions,
    /// It could not be done.
    Failed,
    /// A person stopped it.
    Stopped,
    /// Nothing was heard of it any more.
    Lost,
}

labels!(Outcome: Underway = "underway", Complete = "complete", CompleteWithExceptions = "complete_with_exceptions", Failed = "failed", Stopped = "stopped", Lost = "lost");

/// What a run is busy with.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Phase {
    /// Counting what there is.
    #[default]
    Counting,
    /// Reading files and sending what is new.
    Sending,
    /// Making the point durable.
    Sealing,
    /// Reading back what was written and comparing it.
    Comparing,
}

labels!(Phase: Counting = "counting", Sending = "sending", Sealing = "sealing", Comparing = "comparing");

/// How far something is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Progress {
    /// What it is busy with.
    pub phase: Phase,
    /// Files done.
    pub files_done: u64,
    /// Files in all, once known.
    pub files_total: Option<u64>,
    /// Bytes of content done.
    pub bytes_done: u64,
    /// Bytes of content in all, once known.
    pub bytes_total: Option<u64>,
    /// Bytes sent over the network.
    pub sent: u64,
}

/// What a point does not hold as it should, by cause. The service does not learn which files these are.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ExceptionCounts {
    /// Kept changing while they were read.
    pub changed_while_read: u64,
    /// Could not be read.
    pub unreadable: u64,
    /// Were gone when they were to be read.
    pub disappeared: u64,
}

impl ExceptionCounts {
    /// All of them.
    #[must_use]
    pub fn total(&self) -> u64 {
        self.changed_while_read + self.unreadable + self.disappeared
    }
}

/// An attempt to make a recovery point.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Run {
    /// The run.
    pub id: RunId,
    /// Its workstation.
    pub workstation: WorkstationId,
    /// How it stands or ended.
    pub outcome: Outcome,
    /// How far it is or came.
    pub progress: Progress,
    /// When it began.
    pub started: Timestamp,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// The point that it made.
    pub point: Option<u64>,
    /// What the point does not hold as it should.
    pub exceptions: ExceptionCounts,
    /// Why it failed, in a sentence.
    pub reason: Option<String>,
}

/// Begins a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BeginRun {
    /// What is to be backed up.
    pub kind: PointKind,
    /// The client's version.
    pub client_version: String,
}

/// A run that was begun.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RunBegun {
    /// The run.
    pub run: Run,
    /// The image store, in hexadecimal.
    pub store: ImageStoreId,
    /// The number of the point that this run will make.
    pub sequence: u64,
    /// The latest point's file, if there is one.
    pub latest: Option<Binary>,
    /// The file of the latest point of this kind, if there is one: the new point is told as a difference to it.
    pub latest_of_kind: Option<Binary>,
    /// Whether the store holds no chunk at all, so that asking for them is needless.
    pub store_is_empty: bool,
    /// Names, 32 bytes each, of chunks that points need and that are damaged or gone. What they belong to is to be read
    /// again, though it did not change.
    pub lost: Binary,
    /// Points that were committed and are damaged or lost at the service: what is latest may be older than what this workstation
    /// made last.
    #[serde(default)]
    pub damaged_points: Vec<u64>,
    /// Whether more are lost than are named: everything is to be read again.
    pub lost_more: bool,
}

/// Commits the point of a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CommitPoint {
    /// The point's file.
    pub point: Binary,
    /// How far the run came.
    pub progress: Progress,
    /// What the point does not hold as it should.
    pub exceptions: ExceptionCounts,
}

/// A point that was committed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PointCommitted {
    /// The point.
    pub point: Point,
    /// The run that made it.
    pub run: Run,
}

/// Ends a run or a restore that did not succeed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GiveUp {
    /// Whether a person stopped it.
    pub stopped: bool,
    /// Why, in a sentence without names of files.
    pub reason: String,
    /// How far it came.
    pub progress: Progress,
}
