//! Problem documents (RFC 9457).

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::run::QueuePlace;

/// Who has to act on a problem.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WhoseMove {
    /// Whoever made the call: the call itself is wrong.
    Caller,
    /// The person at the workstation.
    Workstation,
    /// The administrator.
    Administrator,
    /// Nobody in the office: the service failed.
    Service,
}

macro_rules! kinds {
    ($($(#[$doc:meta])* $name:ident = $word:literal, $status:literal, $whose:ident;)*) => {
        /// The stable kinds of problems.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum ProblemKind { $($(#[$doc])* $name,)* }

        impl ProblemKind {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$name,)*];

            /// The last part of the problem's `type`.
            #[must_use]
            pub fn word(self) -> &'static str {
                match self { $(Self::$name => $word,)* }
            }

            /// The HTTP status.
            #[must_use]
            pub fn status(self) -> u16 {
                match self { $(Self::$name => $status,)* }
            }

            /// Who usually has to act.
            #[must_use]
            pub fn whose_move(self) -> WhoseMove {
                match self { $(Self::$name => WhoseMove::$whose,)* }
            }
        }
    };
}

kinds! {
    /// The request is malformed.
    BadRequest = "bad-request", 400, Caller;
    /// No credential, or one that is not valid.
    NotSignedIn = "not-signed-in", 401, Caller;
    /// The login name or the account's password is wrong.
    WrongPassword = "wrong-password", 401, Caller;
    /// The password was right; a second-factor code is required as well.
    SecondFactorNeeded = "second-factor-needed", 401, Caller;
    /// The second-factor code is wrong or was used before.
    WrongSecondFactor = "wrong-second-factor", 401, Caller;
    /// An enrolment or first-administrator code that is not valid.
    WrongCode = "wrong-code", 403, Administrator;
    /// The credential does not allow this.
    NotAllowed = "not-allowed", 403, Administrator;
    /// The account has no access to the destination.
    NoAccess = "no-access", 403, Administrator;
    /// The account is disabled.
    Disabled = "disabled", 403, Administrator;
    /// There is no such thing.
    NotFound = "not-found", 404, Caller;
    /// The path does not support this method.
    MethodNotAllowed = "method-not-allowed", 405, Caller;
    /// The call does not accept the body's media type.
    UnsupportedMediaType = "unsupported-media-type", 415, Caller;
    /// The current state does not allow this.
    Conflict = "conflict", 409, Caller;
    /// Somebody else changed it since the caller read it.
    ChangedMeanwhile = "changed-meanwhile", 412, Caller;
    /// The name is taken.
    NameTaken = "name-taken", 409, Caller;
    /// The destination takes no new backups.
    Withdrawn = "withdrawn", 409, Administrator;
    /// The run is no longer the store's current one.
    RunOver = "run-over", 409, Workstation;
    /// The body stalled.
    Stalled = "stalled", 408, Caller;
    /// The body is too long.
    TooLarge = "too-large", 413, Caller;
    /// A value is not valid, alone or together with the others.
    Invalid = "invalid", 422, Caller;
    /// The directory cannot be a destination.
    UnfitDirectory = "unfit-directory", 422, Administrator;
    /// The upload is corrupt or incomplete.
    BadFormat = "bad-format", 422, Workstation;
    /// Too much is in progress at once.
    TooMuchAtOnce = "too-much-at-once", 429, Caller;
    /// Too many failed attempts.
    TooManyAttempts = "too-many-attempts", 429, Caller;
    /// Stored data is damaged or lost, and there is no other copy.
    Damaged = "damaged", 500, Administrator;
    /// The service failed.
    Internal = "internal", 500, Service;
    /// Another program has the service's records open.
    RecordsBusy = "records-busy", 503, Service;
    /// The server is out of open files or memory.
    ServerBusy = "server-busy", 503, Administrator;
    /// The destination is not available.
    DestinationMissing = "destination-missing", 503, Administrator;
    /// As many backups are in progress as the service admits at once.
    Queued = "queued", 503, Caller;
    /// New backups or restores are paused.
    Paused = "paused", 503, Administrator;
    /// The service is stopping.
    Stopping = "stopping", 503, Service;
    /// The volume of the service's records is full.
    RecordsFull = "records-full", 507, Administrator;
    /// A limit is reached, or the volume is full.
    NoRoom = "no-room", 507, Administrator;
}

/// A problem document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// `urn:jetfrost:problem:` and the kind's word.
    #[serde(rename = "type")]
    pub kind: String,
    /// What is wrong, in a sentence.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// The details.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// Which of its kind it is, in a word for programs: what is in the way, what is wrong, what was not found.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// What to do.
    pub next_step: String,
    /// Seconds after which the same call may succeed, if waiting helps; the same as the header `Retry-After`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_after: Option<u64>,
    /// Who has to act.
    pub whose_move: WhoseMove,
    /// Where a backup waits in the queue.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub queue: Option<QueuePlace>,
    /// Number of this problem in the service's log.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<String>,
}

const PREFIX: &str = "urn:jetfrost:problem:";

impl Problem {
    /// A backup waits at a place of the queue.
    #[must_use]
    pub fn queued(place: u32, expected_seconds: u64) -> Self {
        let title = format!("The service is busy: this backup is at place {place} in the queue.");
        let next = "Nothing to do: the client keeps asking and starts when its turn comes.";
        let queue = Some(QueuePlace { place, expected_seconds });
        Self { queue, ..Self::new(ProblemKind::Queued, title, next) }
    }

    /// The same, and the call may succeed after so many seconds.
    #[must_use]
    pub fn retry_after(self, seconds: u64) -> Self {
        Self { retry_after: Some(seconds), ..self }
    }

    /// The same, with the word for which of its kind it is.
    #[must_use]
    pub fn with_reason(self, reason: &str) -> Self {
        Self { reason: Some(reason.to_owned()), ..self }
    }

    /// A problem of a kind; `title` says what is wrong, `next_step` what to do.
    #[must_use]
    pub fn new(kind: ProblemKind, title: impl Into<String>, next_step: impl Into<String>) -> Self {
        Self {
            kind: format!("{PREFIX}{}", kind.word()),
            title: title.into(),
            status: kind.status(),
            detail: None,
            reason: None,
            next_step: next_step.into(),
            retry_after: None,
            whose_move: kind.whose_move(),
            queue: None,
            request: None,
        }
    }

    /// Adds the details.
    #[must_use]
    pub fn with_detail(mut self, detail: impl Into<String>) -> Self {
        self.detail = Some(detail.into());
        self
    }

    /// Which of the stable kinds this is; `None` for one from a later version of the service.
    #[must_use]
    pub fn known_kind(&self) -> Option<ProblemKind> {
        let word = self.kind.strip_prefix(PREFIX)?;
        ProblemKind::ALL.iter().copied().find(|kind| kind.word() == word)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shape_is_frozen() {
        let problem = Problem::new(ProblemKind::NoRoom, "There is no room.", "Ask for more.").with_detail("3 bytes are left");
        let json = serde_json::to_string(&problem).expect("serializes");
        assert_eq!(
            json,
            r#"{"type":"urn:jetfrost:problem:no-room","title":"There is no room.","status":507,"detail":"3 bytes are left","next_step":"Ask for more.","whose_move":"administrator"}"#
        );
        assert_eq!(problem.known_kind(), Some(ProblemKind::NoRoom));
    }
}
