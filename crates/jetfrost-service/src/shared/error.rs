//! Why a use case was refused or failed.

use jetfrost_image::store::StoreError;
use jetfrost_office::capacity::Usage;

use crate::clock::Moment;
use crate::media::{MarkerError, MediaError};
use crate::records::{Ended, RecordsError};
use crate::shared::conflict::Conflict;
use crate::shared::invalid::Invalid;
use crate::shared::subjects::{CodeFault, Disabled, Thing, Traffic};

/// Why a use case was refused or failed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ServiceError {
    /// The records failed.
    #[error(transparent)]
    Records(#[from] RecordsError),
    /// A destination or an image store refused or failed.
    #[error(transparent)]
    Media(#[from] MediaError),
    /// No credential, or one that is not valid.
    #[error("no valid credential")]
    NotSignedIn,
    /// A device credential that no workstation has, or has any more.
    #[error("no workstation has this credential")]
    UnknownDevice,
    /// A device credential that is over.
    #[error("the credential of '{name}' is over")]
    FormerDevice {
        /// Whose it was.
        name: String,
        /// Why it is over.
        ended: Ended,
        /// Since when.
        at: Moment,
    },
    /// Login name or password are wrong.
    #[error("login name or account password are wrong")]
    WrongPassword,
    /// Too many failures before.
    #[error("too many failed attempts")]
    TooManyAttempts {
        /// Seconds to wait.
        wait_seconds: u64,
    },
    /// More beginnings than one may make within an hour.
    #[error("too many {what} were started")]
    TooOften {
        /// Of what.
        what: Traffic,
        /// Seconds to wait.
        wait_seconds: u64,
    },
    /// As many runs go on as there may be.
    #[error("the run waits at place {place} of the queue")]
    Queued {
        /// At which place it waits, from 1.
        place: u32,
        /// For how long it is likely to.
        expected_seconds: u64,
    },
    /// A drill gives way to runs that wait.
    #[error("a drill gives way to backups that wait")]
    DrillWaits,
    /// A recovery point that was there and is gone.
    #[error("recovery point {sequence} is gone")]
    PointGone {
        /// Its number.
        sequence: u64,
        /// Since when.
        at: Moment,
        /// Why.
        why: String,
    },
    /// A code that is not valid.
    #[error(transparent)]
    WrongCode(CodeFault),
    /// The password was right, and a code of the second factor is needed.
    #[error("a code of the second factor is needed")]
    SecondFactorNeeded,
    /// The code of the second factor is wrong, or was used before.
    #[error("the code of the second factor is wrong")]
    WrongSecondFactor,
    /// An account is disabled.
    #[error(transparent)]
    Disabled(Disabled),
    /// The destination is not open to the account.
    #[error("'{login}' has no access to {}", destination.as_ref().map_or_else(|| "any destination".to_owned(), |name| format!("'{name}'")))]
    NoAccess {
        /// Login name.
        login: String,
        /// Name of the destination; none when no destination is open to the account.
        destination: Option<String>,
    },
    /// The destination takes no new backups.
    #[error("the destination '{0}' is withdrawn")]
    Withdrawn(String),
    /// Backups or restores are paused.
    #[error("new {what} are paused")]
    Paused {
        /// Which of both.
        what: Traffic,
        /// From when on they are again by themselves, and how many seconds that is from now.
        until: Option<(Moment, u64)>,
    },
    /// The caller may not do this.
    #[error("not allowed")]
    NotAllowed,
    /// There is no such thing.
    #[error("there is no such {}", .0.name())]
    NotFound(Thing),
    /// The name is taken.
    #[error("the name '{0}' is taken")]
    NameTaken(String),
    /// A value is not right, alone or beside the others.
    #[error(transparent)]
    Invalid(#[from] Invalid),
    /// The state of things does not allow this now.
    #[error("{}", .0.said().0)]
    Conflict(Conflict),
    /// What is to be changed is not as the caller saw it.
    #[error("it was changed meanwhile")]
    ChangedMeanwhile {
        /// Who changed it, and when, where the audit log says so.
        by: Option<(String, Moment)>,
    },
    /// The run is over.
    #[error("this run is over")]
    RunOver,
    /// There is no room.
    #[error("no room: {0:?}")]
    NoRoom(Box<NoRoom>),
}

/// Which limit leaves no room, and its numbers in bytes.
#[derive(Debug)]
pub(crate) struct NoRoom {
    /// The limit.
    pub(crate) level: Usage,
    /// Whose it is: the name of a workstation, an account or a destination.
    pub(crate) of: String,
    /// What would have been needed.
    pub(crate) wanted: u64,
    /// What is left of it.
    pub(crate) left: u64,
    /// What points that go by themselves give back next, if any do.
    pub(crate) comes: Option<Comes>,
}

/// Room that comes back by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Comes {
    /// When.
    pub(crate) at: Moment,
    /// Bytes.
    pub(crate) bytes: u64,
}

impl From<diesel::result::Error> for ServiceError {
    fn from(error: diesel::result::Error) -> Self {
        Self::Records(error.into())
    }
}

impl From<StoreError> for ServiceError {
    fn from(error: StoreError) -> Self {
        Self::Media(error.into())
    }
}

impl From<MarkerError> for ServiceError {
    fn from(error: MarkerError) -> Self {
        Self::Media(error.into())
    }
}

pub(crate) type Result<T, E = ServiceError> = std::result::Result<T, E>;
