//! What can go wrong on a workstation.

use std::io;
use std::path::PathBuf;

use jetfrost_image::crypto::OpenError;
use jetfrost_image::format::{FormatError, RecoveryKeyError};
use jetfrost_image::store::StoreError;
use jetfrost_wire::Problem;
use jetfrost_wire::enrolment::NotAnInvitation;
use jetfrost_wire::workstation::PointKind;

use crate::browse::of_kind;

/// Why something could not be done.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ClientError {
    /// The service refused or failed, and said why.
    #[error("{}", .0.title)]
    Refused(Box<Problem>),
    /// The service did not answer.
    #[error("{address} does not answer: {why}")]
    Unreachable {
        /// Where it was looked for.
        address: String,
        /// What the network said.
        why: String,
    },
    /// Another service answers there.
    #[error("{address} shows another certificate than the one this machine knows")]
    OtherCertificate {
        /// Where.
        address: String,
        /// What was expected, in hexadecimal.
        expected: String,
        /// What was found, in hexadecimal.
        found: String,
    },
    /// The service answered something that it should not.
    #[error("the service answered something unexpected: {0}")]
    Unexpected(String),
    /// A file of this machine could not be read or written.
    #[error("{doing} {path}")]
    File {
        /// What was being done.
        doing: &'static str,
        /// With which file.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: io::Error,
    },
    /// This machine is no workstation yet.
    #[error("this machine has not joined a service")]
    NotJoined,
    /// It is one already.
    #[error("this machine is already workstation '{0}'")]
    AlreadyJoined(String),
    /// Nobody is signed in.
    #[error("nobody is signed in on this machine")]
    NotSignedIn,
    /// Another run goes on.
    #[error("another backup of this workstation is underway")]
    Busy,
    /// No folder was chosen.
    #[error("no folder has been chosen yet")]
    NothingChosen,
    /// A pattern that cannot be understood.
    #[error("'{pattern}' is not a pattern: {why}")]
    Pattern {
        /// The pattern.
        pattern: String,
        /// What is wrong with it.
        why: String,
    },
    /// A folder that cannot be chosen.
    #[error("{path} cannot be kept: {why}")]
    Folder {
        /// Which.
        path: PathBuf,
        /// Why.
        why: &'static str,
    },
    /// Not an enrolment code.
    #[error(transparent)]
    Invitation(#[from] NotAnInvitation),
    /// Not a recovery key.
    #[error(transparent)]
    RecoveryKey(#[from] RecoveryKeyError),
    /// The image passphrase does not do.
    #[error("{0}")]
    Passphrase(&'static str),
    /// The secret opens none of the store's slots.
    #[error("this secret does not open this workstation's image store")]
    WrongPassphrase,
    /// A point that is not there.
    #[error("there is no recovery point {0}")]
    NoPoint(String),
    /// A point that is of another kind.
    #[error("recovery point {sequence} is one of {}", of_kind(*.found))]
    OtherKind {
        /// Its number.
        sequence: u64,
        /// Its kind.
        found: PointKind,
    },
    /// A path that is not in the point.
    #[error("{0}")]
    NoPath(String),
    /// Stored bytes are damaged or missing.
    #[error("a piece of the image store is damaged or missing")]
    Damaged,
    /// Stored bytes are not in the format.
    #[error(transparent)]
    Format(#[from] FormatError),
    /// The service shows an older state than this workstation has seen.
    #[error("the service shows recovery point {shown} as the latest, but this workstation has made point {seen}")]
    RolledBack {
        /// The latest that the service shows.
        shown: u64,
        /// The latest that was seen.
        seen: u64,
    },
    /// A place that a disk cannot be restored to.
    #[error("{path} is not written to: {why}")]
    Target {
        /// Which.
        path: PathBuf,
        /// Why.
        why: &'static str,
    },
    /// A directory that holds no image store.
    #[error("{path} is no image store: {why}")]
    NotAStore {
        /// Which.
        path: PathBuf,
        /// What it holds.
        why: String,
    },
    /// There is no room for what is to be written.
    #[error("{path} has {free} bytes free, and {wanted} would be written")]
    NoRoomToWrite {
        /// Where the copy was to be.
        path: PathBuf,
        /// Bytes that it takes.
        wanted: u64,
        /// Bytes that are free.
        free: u64,
    },
    /// A drill that would prove nothing.
    #[error("no file of this point was drawn: it has none, or each is larger than what the drill may bring back at most")]
    NothingDrawn,
    /// An image store could not be read from its directory.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A person stopped it.
    #[error("stopped")]
    Stopped,
}

impl ClientError {
    /// For `map_err`: names the operation and the file.
    pub(crate) fn file(doing: &'static str, path: impl Into<PathBuf>) -> impl FnOnce(io::Error) -> Self {
        let path = path.into();
        move |source| Self::File { doing, path, source }
    }

    /// The error in words that name no file: the service does not learn names.
    #[must_use]
    pub fn without_names(&self) -> String {
        match self {
            Self::Stopped => "a person stopped it".into(),
            Self::File { doing, source, .. } => format!("{doing} a file on the workstation failed: {source}"),
            other => other.to_string(),
        }
    }

    /// Whether it says that stored bytes are lost, and not that something failed.
    pub(crate) fn is_loss(&self) -> bool {
        matches!(self, Self::Damaged | Self::Format(_))
    }

    /// Whether the same call may succeed in a while.
    #[must_use]
    pub fn is_passing(&self) -> bool {
        match self {
            Self::Unreachable { .. } => true,
            Self::Refused(problem) => {
                matches!(problem.status, 429 | 502 | 504) || (problem.status == 503 && problem.kind.ends_with("stopping"))
            }
            _ => false,
        }
    }
}

impl From<OpenError> for ClientError {
    fn from(error: OpenError) -> Self {
        match error {
            OpenError::WrongSecret => Self::WrongPassphrase,
            OpenError::Format(format) => Self::Format(format),
            _ => Self::Damaged,
        }
    }
}

impl From<io::Error> for ClientError {
    fn from(source: io::Error) -> Self {
        Self::File { doing: "reading", path: PathBuf::new(), source }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_service_is_told_names_no_file() {
        let error = ClientError::file("reading", "/home/anna/secret plan.odt")(io::Error::other("broken"));
        let told = error.without_names();
        assert!(!told.contains("secret"), "{told}");
        assert!(told.contains("broken"), "{told}");
    }
}
