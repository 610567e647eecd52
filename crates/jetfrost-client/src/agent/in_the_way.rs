//! Which errors of a run are no failure but a reason to wait.

use jetfrost_types::DelayReason;
use jetfrost_wire::problem::ProblemKind;
use jiff::SignedDuration;

use crate::error::ClientError;

/// What an error says is in the way; none when the run failed.
pub(super) fn in_the_way(error: &ClientError) -> Option<DelayReason> {
    match error {
        ClientError::Unreachable { .. } => Some(DelayReason::OfficeUnreachable),
        ClientError::Busy => Some(DelayReason::AnotherRun),
        ClientError::NothingIncluded | ClientError::NothingThere(_) => Some(DelayReason::SourceMissing),
        ClientError::StoreKey(_) | ClientError::WrongPassphrase => Some(DelayReason::PassphraseNeeded),
        ClientError::Refused(problem) => match problem.known_kind()? {
            ProblemKind::Paused => Some(DelayReason::BackupsPaused),
            ProblemKind::Queued => Some(DelayReason::Queued),
            ProblemKind::NoRoom => Some(DelayReason::LimitReached),
            ProblemKind::Withdrawn | ProblemKind::NoAccess | ProblemKind::DestinationMissing => {
                Some(DelayReason::DestinationUnavailable)
            }
            ProblemKind::Stopping | ProblemKind::RecordsBusy | ProblemKind::ServerBusy => Some(DelayReason::OfficeUnreachable),
            _ => None,
        },
        _ => None,
    }
}

/// How long to wait before it is worth trying again: what the service says, within bounds.
pub(super) fn again_after(reason: DelayReason, error: &ClientError) -> SignedDuration {
    let usual = match reason {
        DelayReason::OfficeUnreachable | DelayReason::AnotherRun | DelayReason::Queued => SignedDuration::from_secs(30),
        _ => SignedDuration::from_mins(10),
    };
    let said = match error {
        ClientError::Refused(problem) => problem.retry_after.and_then(|seconds| i64::try_from(seconds).ok()),
        _ => None,
    };
    let least = if reason == DelayReason::Queued { 10 } else { 30 };
    said.map_or(usual, |seconds| SignedDuration::from_secs(seconds.clamp(least, 3600)))
}
