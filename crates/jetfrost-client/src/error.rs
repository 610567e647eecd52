//! What can go wrong on a workstation.

use std::io;
use std::path::PathBuf;
use std::time::Duration;

use jetfrost_image::crypto::OpenError;
use jetfrost_image::format::{FormatError, RecoveryKeyError};
use jetfrost_image::store::StoreError;
use jetfrost_wire::Problem;
use jetfrost_wire::enrolment::NotAnInvitation;
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::workstation::PointKind;

/// Why something could not be done.
#[derive(Debug, thiserror::Error)]
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
    /// Another service answers there, or the service has another identity.
    #[error("{address} is another service than the one this machine knows, or has a new identity")]
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
    /// A command before or after a backup cannot be set or run, or failed.
    #[error("{when}: {why}")]
    Hook {
        /// In what.
        when: &'static str,
        /// Why.
        why: String,
    },
    /// No folder was chosen.
    #[error("no folder is included yet")]
    NothingIncluded,
    /// Nothing of what was chosen is there: a point would hold nothing, and look like one.
    #[error("nothing of what is included is there: {}", listed(.0))]
    NothingThere(Vec<PathBuf>),
    /// A pattern that cannot be understood.
    #[error("'{pattern}' is not a pattern: {why}")]
    Pattern {
        /// The pattern.
        pattern: String,
        /// What is wrong with it.
        why: String,
    },
    /// A folder that cannot be chosen.
    #[error("{path} cannot be included: {why}")]
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
    /// The store key cannot be had on this machine.
    #[error("{0}")]
    StoreKey(&'static str),
    /// The image passphrase is refused.
    #[error("{0}")]
    Passphrase(&'static str),
    /// The secret opens none of the store's slots.
    #[error("this secret does not open this workstation's image store")]
    WrongPassphrase,
    /// The secret opens none of the slots that can be read, and others are damaged.
    #[error("this secret opens none of the key slots that can be read, and {0} cannot be: it may belong to one of those")]
    DamagedSlots(usize),
    /// Something changed of which the system told nothing.
    #[error("files changed, and the system did not tell this program of it")]
    HintsWrong,
    /// Where something changed does not say where else it changed.
    #[error("everything has to be looked at")]
    HintsNotEnough,
    /// What this machine remembers of the last backup is damaged.
    #[error("what this machine remembers of the last backup is damaged")]
    CacheDamaged,
    /// Something that was handed over does not come back as it was.
    #[error("what was just sent does not come back from the service as it was")]
    NotReadBack,
    /// A slot gives another key than this workstation's.
    #[error("a key slot holds another key than the one that this workstation made its backups with")]
    OtherKey,
    /// A slot asks for so little work, or there are so many, that trying the passphrase would give it away.
    #[error("the service's key slots are not such as this program makes: too many of them, or too cheap to guess at")]
    WeakSlot,
    /// A point that is not there.
    #[error("there is no recovery point {0}")]
    NoPoint(String),
    /// A point that is of another kind.
    #[error("recovery point {sequence} is one of {}", .found.plural())]
    OtherKind {
        /// Its number.
        sequence: u64,
        /// Its kind.
        found: PointKind,
    },
    /// Two paths that would be put in the same place.
    #[error("{one} and {other} have the same name, and would be put in the same place")]
    SameName {
        /// One.
        one: PathBuf,
        /// The other.
        other: PathBuf,
    },
    /// A whole point that was to be put beside itself.
    #[error("a whole recovery point cannot be restored beside itself")]
    NothingBeside,
    /// Something that is no file, of which a file's content was wanted.
    #[error("{} is not a file", .0.display())]
    NoFile(PathBuf),
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
    /// No agent runs for this state directory.
    #[error("no agent is running for this workstation")]
    NoAgent,
    /// An agent runs already for this state directory.
    #[error("an agent is already running for this workstation")]
    AgentRuns,
    /// The agent does not do what it was asked.
    #[error("{0}")]
    Agent(String),
    /// A person stopped it.
    #[error("stopped")]
    Stopped,
    /// Somebody else cancelled it, at the service.
    #[error("cancelled by {0}")]
    Cancelled(String),
}

/// Words that may be sent to the service: only [`ClientError::without_names`] makes them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Told(String);

impl Told {
    /// The words.
    #[must_use]
    pub fn into_text(self) -> String {
        self.0
    }
}

/// Paths, as a person reads them.
fn listed(paths: &[PathBuf]) -> String {
    paths.iter().map(|path| path.display().to_string()).collect::<Vec<_>>().join(", ")
}

impl ClientError {
    /// Whether the service could not write its records, for their volume is full.
    pub(crate) fn is_full_records(&self) -> bool {
        matches!(self, Self::Refused(problem) if problem.known_kind() == Some(ProblemKind::RecordsFull))
    }

    /// A secret that opened nothing, where so many slots could not be read.
    pub(crate) fn wrong_secret(damaged: usize) -> Self {
        if damaged == 0 { Self::WrongPassphrase } else { Self::DamagedSlots(damaged) }
    }

    /// For `map_err`: names the operation and the file.
    pub(crate) fn file(doing: &'static str, path: impl Into<PathBuf>) -> impl FnOnce(io::Error) -> Self {
        let path = path.into();
        move |source| Self::File { doing, path, source }
    }

    /// Why it failed, in words that the service may know: nothing of this machine's is in them, neither a path nor a pattern
    /// nor what a person typed. Each kind has words of its own here, so that a new one does not go out by default.
    #[must_use]
    pub fn without_names(&self) -> Told {
        let words: &str = match self {
            Self::Stopped => "a person stopped it",
            Self::Cancelled(_) => "it was cancelled",
            Self::File { doing, source, .. } => {
                return Told(format!("{doing} a file on the workstation failed: {}", source.kind()));
            }
            Self::Refused(problem) => return Told(problem.title.clone()),
            Self::Unreachable { .. } => "the service did not answer",
            Self::OtherCertificate { .. } => "another service answered there",
            Self::Unexpected(_) => "the service answered something unexpected",
            Self::NotJoined | Self::AlreadyJoined(_) | Self::NotSignedIn => {
                "the workstation has not joined, or nobody is signed in"
            }
            Self::Busy => "another backup of this workstation was underway",
            Self::NothingIncluded => "nothing is included in the backup",
            Self::NothingThere(_) => "nothing of what is included is there",
            Self::Hook { .. } => "a command before or after the backup failed",
            Self::Pattern { .. } => "a pattern cannot be understood",
            Self::Folder { .. } => "a folder cannot be included",
            Self::Invitation(_) | Self::RecoveryKey(_) | Self::Passphrase(_) | Self::WrongPassphrase => {
                "a secret or a code was not right"
            }
            Self::StoreKey(_) => "the store key is not to be had on the workstation",
            Self::HintsNotEnough => "everything has to be looked at",
            Self::HintsWrong => "the workstation's system did not tell of all changes",
            Self::CacheDamaged => "what the workstation remembers of the last backup is damaged",
            Self::NotReadBack => "what was sent did not come back as it was",
            Self::DamagedSlots(_) => "key slots are damaged",
            Self::OtherKey | Self::WeakSlot => "the service's key slots are not this workstation's",
            Self::NoPoint(_) | Self::OtherKind { .. } => "there is no such recovery point",
            Self::NoPath(_) => "something that was asked for is not in the recovery point",
            Self::NoFile(_) => "the content of something that is no file was asked for",
            Self::NothingBeside => "a whole recovery point was to be put beside itself",
            Self::SameName { .. } => "two things of one name were asked for",
            Self::Damaged | Self::Format(_) | Self::Store(_) => "a piece of the image store is damaged or missing",
            Self::RolledBack { .. } => "the service shows an older state than this workstation has seen",
            Self::Target { .. } => "the target is not written to",
            Self::NotAStore { .. } => "there is no image store",
            Self::NoRoomToWrite { .. } => "there is no room for what is to be written",
            Self::NothingDrawn => "no file was drawn",
            Self::NoAgent | Self::AgentRuns | Self::Agent(_) => "the workstation's agent did not answer as asked",
        };
        Told(words.to_owned())
    }

    /// Whether it says that stored bytes are lost, and not that something failed.
    pub(crate) fn is_loss(&self) -> bool {
        match self {
            Self::Damaged | Self::Format(_) => true,
            Self::Refused(problem) => problem.known_kind() == Some(ProblemKind::Damaged),
            _ => false,
        }
    }

    /// Whether the service says that what was sent does not fit what it has.
    #[must_use]
    pub(crate) fn is_not_believed(&self) -> bool {
        matches!(self, Self::Refused(problem) if problem.known_kind() == Some(ProblemKind::BadFormat))
    }

    /// After how long the same call may succeed, if the service says so.
    pub(crate) fn passes_in(&self) -> Option<Duration> {
        match self {
            Self::Refused(problem) => problem.retry_after.map(Duration::from_secs),
            _ => None,
        }
    }

    /// Whether a change was refused because somebody else changed the same thing since it was read.
    #[must_use]
    pub fn is_changed_meanwhile(&self) -> bool {
        matches!(self, Self::Refused(problem) if problem.known_kind() == Some(ProblemKind::ChangedMeanwhile))
    }

    /// Whether an administrator paused this kind of work: it goes on when they resume it.
    #[must_use]
    pub(crate) fn is_paused(&self) -> bool {
        matches!(self, Self::Refused(problem) if problem.known_kind() == Some(ProblemKind::Paused))
    }

    /// Whether the same call may succeed in a while.
    #[must_use]
    pub fn is_passing(&self) -> bool {
        match self {
            // Whoever waits in the queue wants to know, and may want to stop.
            Self::Refused(problem) if problem.known_kind() == Some(ProblemKind::Queued) => false,
            Self::Unreachable { .. } => true,
            Self::Refused(problem) => {
                matches!(problem.status, 408 | 502 | 504)
                    || (matches!(problem.status, 429 | 503) && problem.retry_after.is_some())
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
        let path = || PathBuf::from("/home/anna/secret plan.odt");
        let errors = [
            ClientError::file("reading", path())(io::Error::other("cannot read /home/anna/secret plan.odt")),
            ClientError::NoPath("there is no '/home/anna/secret plan.odt' in it".into()),
            ClientError::Folder { path: path(), why: "it is not there" },
            ClientError::NothingThere(vec![path()]),
            ClientError::Pattern { pattern: "secret*".into(), why: "no".into() },
            ClientError::NothingBeside,
            ClientError::NoFile(path()),
            ClientError::SameName { one: path(), other: path() },
            ClientError::Target { path: path(), why: "it is in use" },
            ClientError::NotAStore { path: path(), why: "no secret".into() },
            ClientError::NoRoomToWrite { path: path(), wanted: 1, free: 0 },
            ClientError::Unexpected("copying /home/anna/secret plan.odt".into()),
            ClientError::NoPoint("secret".into()),
        ];
        for error in errors {
            let told = error.without_names().into_text();
            assert!(!told.contains("secret") && !told.contains('/') && !told.is_empty(), "{told}");
        }
    }
}
