//! Kinds of alerts.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels;

/// A kind of trouble, the worst first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AlertKind {
    /// The audit log is not what the service wrote.
    AuditAltered,
    /// A point looks as if somebody had encrypted, deleted or replaced files by the mass.
    SuspectPoint,
    /// Chunks that points need are damaged or gone.
    Damage,
    /// A destination is not there, or another installation's.
    DestinationMissing,
    /// A destination has no room left.
    DestinationFull,
    /// Points went to make room at a limit.
    RoomMade,
    /// Less is kept, or for a shorter time, than before.
    TermsShortened,
    /// A drill did not bring everything back.
    DrillFailed,
    /// The service's own records are copied no more.
    RecordsNotBackedUp,
    /// The certificate that browsers see ends soon, or cannot be used.
    Certificate,
    /// A workstation's runs fail, the second in a row at least.
    Failing,
    /// Something keeps a workstation's backups waiting, and it does not end by itself, or has not for days.
    KeptWaiting,
    /// A workstation's last complete point is too old.
    Overdue,
    /// No drill restored anything of a workstation for too long.
    DrillOverdue,
    /// A workstation joined a while ago and has no point yet.
    NoFirstPoint,
    /// Nobody showed for too long that a secret opens a workstation's image store.
    ProofDue,
}

labels!(AlertKind: AuditAltered = "audit_altered", SuspectPoint = "suspect_point", Damage = "damage", DestinationMissing = "destination_missing",
    DestinationFull = "destination_full", RoomMade = "room_made", TermsShortened = "terms_shortened", DrillFailed = "drill_failed",
    RecordsNotBackedUp = "records_not_backed_up", Certificate = "certificate", Failing = "failing", KeptWaiting = "kept_waiting", Overdue = "overdue", DrillOverdue = "drill_overdue",
    NoFirstPoint = "no_first_point", ProofDue = "proof_due");
