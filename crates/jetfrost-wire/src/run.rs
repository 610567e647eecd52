//! Runs: attempts to make a recovery point.

use jetfrost_types::ImageStoreId;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::binary::Binary;
use crate::labels::labels;
use crate::point::Point;
use crate::{RunId, WorkstationId};
use jetfrost_types::{PointKind, RateLimit, Templates, known_templates};

/// The state or outcome of a run or a restore.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// It is in progress.
    Underway,
    /// It succeeded.
    Complete,
    /// It succeeded with exceptions.
    CompleteWithExceptions,
    /// It failed.
    Failed,
    /// A person cancelled it.
    Stopped,
    /// The workstation stopped reporting.
    Lost,
}

labels!(Outcome: Underway = "underway", Complete = "complete", CompleteWithExceptions = "complete_with_exceptions", Failed = "failed", Stopped = "stopped", Lost = "lost");

/// The phase of a run.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Phase {
    /// Counting files.
    #[default]
    Counting,
    /// Reading files and sending new content.
    Sending,
    /// Committing the point.
    Sealing,
    /// Reading back and comparing what was written.
    Comparing,
}

labels!(Phase: Counting = "counting", Sending = "sending", Sealing = "sealing", Comparing = "comparing");

/// The progress of a run or a restore.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Progress {
    /// Its phase.
    pub phase: Phase,
    /// Files done.
    pub files_done: u64,
    /// Total number of files, once known.
    pub files_total: Option<u64>,
    /// Bytes of content done.
    pub bytes_done: u64,
    /// Total bytes of content, once known.
    pub bytes_total: Option<u64>,
    /// Bytes sent over the network.
    pub sent: u64,
}

/// Files that a point does not contain exactly, by cause. The service does not learn which files these are.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ExceptionCounts {
    /// Changed while they were read.
    pub changed_while_read: u64,
    /// Could not be read.
    pub unreadable: u64,
    /// Disappeared before they were read.
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
    /// Its state or outcome.
    pub outcome: Outcome,
    /// Its progress.
    pub progress: Progress,
    /// When it started.
    pub started: Timestamp,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// The point that it made.
    pub point: Option<u64>,
    /// Files that the point does not contain exactly.
    pub exceptions: ExceptionCounts,
    /// Why it failed, in a sentence.
    pub reason: Option<String>,
}

/// Starts a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BeginRun {
    /// What is to be backed up.
    pub kind: PointKind,
    /// The client's version.
    pub client_version: String,
}

/// Where a backup waits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct QueuePlace {
    /// At which place, from 1.
    pub place: u32,
    /// For how long it is likely to wait, in seconds.
    pub expected_seconds: u64,
}

/// A started run.
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
    /// The file of the latest point of this kind, if there is one: the new point is encoded as a difference from it.
    pub latest_of_kind: Option<Binary>,
    /// Whether the store has no chunks at all, so that no query is needed.
    pub store_is_empty: bool,
    /// Names, 32 bytes each, of required chunks that are damaged or missing. The files that they belong to must be read
    /// again, even if unchanged.
    pub lost: Binary,
    /// Committed points that are damaged or lost at the service: the latest sound one may be older than this workstation's last
    /// one.
    #[serde(default)]
    pub damaged_points: Vec<u64>,
    /// Whether more chunks are lost than are listed: everything must be read again.
    pub lost_more: bool,
    /// How fast this run may send.
    #[serde(default)]
    #[schema(required)]
    pub rate: RateLimit,
    /// What this run leaves out beside what the workstation itself excludes.
    #[serde(default, deserialize_with = "known_templates")]
    #[schema(required)]
    pub exclude: Templates,
}

/// Commits the point of a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CommitPoint {
    /// The point's file.
    pub point: Binary,
    /// The run's final progress.
    pub progress: Progress,
    /// Files that the point does not contain exactly.
    pub exceptions: ExceptionCounts,
}

/// A committed point.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PointCommitted {
    /// The point.
    pub point: Point,
    /// The run that made it.
    pub run: Run,
}

/// Ends a failed or cancelled run or restore.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GiveUp {
    /// Whether a person cancelled it.
    pub stopped: bool,
    /// The reason, in a sentence without file names.
    pub reason: String,
    /// Its final progress.
    pub progress: Progress,
}
