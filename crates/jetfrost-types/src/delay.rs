//! Why a workstation that is due is not backed up.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels;

/// Why a backup that is due does not run now. The set is fixed: what is none of these is a failed run, with its error.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DelayReason {
    /// A person at the machine paused the agent.
    Paused,
    /// An administrator paused this workstation.
    PausedByOffice,
    /// The machine's clock shows a time that cannot be.
    ClockImplausible,
    /// Another run of this workstation is in progress.
    AnotherRun,
    /// It is outside the allowed hours.
    OutsideHours,
    /// The machine runs on battery.
    OnBattery,
    /// The machine reaches the service over a connection that is paid by the byte.
    MeteredConnection,
    /// The machine has more work than its processors can do.
    MachineBusy,
    /// The service does not answer.
    OfficeUnreachable,
    /// The service accepts no new backups at the moment.
    BackupsPaused,
    /// It waits in the service's queue.
    Queued,
    /// A limit is reached, or the destination is full.
    LimitReached,
    /// The destination is not available, or the account has no access to it.
    DestinationUnavailable,
    /// No secret on this machine unlocks the image store.
    PassphraseNeeded,
    /// Nothing is included, or an included folder or disk is not there.
    SourceMissing,
}

labels!(DelayReason: Paused = "paused", PausedByOffice = "paused_by_office", ClockImplausible = "clock_implausible", AnotherRun = "another_run",
    OutsideHours = "outside_hours", OnBattery = "on_battery", MeteredConnection = "metered_connection", MachineBusy = "machine_busy", OfficeUnreachable = "office_unreachable",
    BackupsPaused = "backups_paused", Queued = "queued", LimitReached = "limit_reached", DestinationUnavailable = "destination_unavailable",
    PassphraseNeeded = "passphrase_needed", SourceMissing = "source_missing");

/// What a machine's power comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum PowerSource {
    /// The mains, or a machine without a battery.
    Mains,
    /// A battery.
    Battery,
}

labels!(PowerSource: Mains = "mains", Battery = "battery");
