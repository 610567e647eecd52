//! Restores: attempts to get something back.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::labels::labels;
use crate::run::{Outcome, Progress};
use crate::{RestoreId, RestoreOrderId, WorkstationId};

/// How much is restored. The service does not learn names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Scope {
    /// Everything in the point.
    Everything,
    /// Chosen files or folders.
    Selection,
}

labels!(Scope: Everything = "everything", Selection = "selection");

/// What a restore is for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Purpose {
    /// To get something back.
    #[default]
    Restore,
    /// A drill, which proves that a point can be restored.
    Drill,
    /// A disk served to the tools of a machine, for as long as it is attached.
    Attach,
    /// Points shown in a file manager; counted is what was read of the point.
    Mount,
    /// An archive, or a file written to standard output.
    Export,
    /// A point looked through in the console, where the key stays in the browser; counted is what was previewed or downloaded.
    Browse,
}

labels!(Purpose: Restore = "restore", Drill = "drill", Attach = "attach", Mount = "mount", Export = "export", Browse = "browse");

/// Where a restore puts things. The names of folders stay with the workstation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RestoreTarget {
    /// Where they were.
    Original,
    /// Where they were, under names with the point's time.
    Beside,
    /// Another folder, or a new image file.
    Elsewhere,
    /// A disk of the machine.
    Device,
}

labels!(RestoreTarget: Original = "original", Beside = "beside", Elsewhere = "elsewhere", Device = "device");

/// An attempt to get something back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Restore {
    /// The restore.
    pub id: RestoreId,
    /// From whose image store.
    pub workstation: WorkstationId,
    /// From which point.
    pub point: u64,
    /// How much is restored.
    pub scope: Scope,
    /// What it is for.
    pub purpose: Purpose,
    /// Who asked: a workstation's or an account's name.
    pub by: String,
    /// The address from which it was begun. One of an earlier version has none.
    pub origin: Option<String>,
    /// Where to, of a restore. One of an earlier version has none.
    pub target: Option<RestoreTarget>,
    /// Who asked for it to be cancelled; it ends as soon as its program hears of that.
    pub cancelled_by: Option<String>,
    /// What was found when a whole machine was checked off after it.
    pub checklist: Option<CheckedOff>,
    /// Its state or outcome.
    pub outcome: Outcome,
    /// Its progress.
    pub progress: Progress,
    /// What could not be restored.
    pub exceptions: u64,
    /// When it started.
    pub started: Timestamp,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// Why it failed, in a sentence.
    pub reason: Option<String>,
}

/// What an item of a checklist says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CheckState {
    /// It is as it should be.
    Right,
    /// It is as well as it can be, and somebody should know of it.
    Known,
    /// It is not as it should be.
    Wrong,
}

/// An item of a checklist, without names of files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckedItem {
    /// What was looked at.
    pub what: String,
    /// What it comes to.
    pub state: CheckState,
    /// What was found, in a sentence with its figures.
    pub found: String,
}

/// What was found when a whole machine was checked off after a restore.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckedOff {
    /// What was looked at, in order.
    pub items: Vec<CheckedItem>,
}

impl CheckedOff {
    /// What all of it comes to.
    #[must_use]
    pub fn state(&self) -> CheckState {
        self.items.iter().map(|item| item.state).max().unwrap_or(CheckState::Right)
    }
}

/// A restore with whose it was, for a report.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReportedRestore {
    /// The workstation's name.
    pub name: String,
    /// Login name of its account.
    pub login: String,
    /// The restore.
    pub restore: Restore,
}

/// Which restores to report.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RestoreQuery {
    /// Started not before this time.
    pub since: Option<Timestamp>,
    /// Started before this time.
    pub until: Option<Timestamp>,
    /// Only those for this.
    pub purpose: Option<Purpose>,
    /// `next` of the previous page.
    pub after: Option<String>,
    /// Entries per page, 1 to 500; 100 by default.
    #[param(minimum = 1, maximum = 500)]
    pub most: Option<u16>,
}

/// Starts a restore.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BeginRestore {
    /// From which point.
    pub point: u64,
    /// How much is restored.
    pub scope: Scope,
    /// What it is for.
    #[serde(default)]
    pub purpose: Purpose,
    /// Where to, of a restore.
    pub target: Option<RestoreTarget>,
    /// The order that it carries out, if it does.
    #[serde(default)]
    pub order: Option<RestoreOrderId>,
}

/// Ends a restore.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EndRestore {
    /// Its final progress.
    pub progress: Progress,
    /// What could not be restored.
    pub exceptions: u64,
}
