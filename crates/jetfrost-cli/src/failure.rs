//! The one place where errors become words, a next step and an exit code.

use std::process::ExitCode;

use jetfrost_client::{ClientError, StoreError};
use jetfrost_wire::problem::{Problem, ProblemKind, WhoseMove};

/// Exit codes, as `docs/interface.md` lists them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Code {
    Done = 0,
    Failed = 1,
    WithExceptions = 3,
    Refused = 4,
    Unreachable = 5,
    Damage = 6,
    NoRoom = 7,
    Interrupted = 130,
}

impl From<Code> for ExitCode {
    fn from(code: Code) -> Self {
        Self::from(code as u8)
    }
}

/// Why a command failed.
#[derive(Debug)]
pub(crate) enum Failure {
    /// The engine or the service.
    Client(ClientError),
    /// Something at the terminal, with what to do.
    Here(String, String),
}

impl From<ClientError> for Failure {
    fn from(error: ClientError) -> Self {
        Self::Client(error)
    }
}

/// What a person reads.
pub(crate) struct Words {
    pub(crate) what: String,
    pub(crate) detail: Option<String>,
    pub(crate) next: String,
}

impl Failure {
    pub(crate) fn here(what: impl Into<String>, next: impl Into<String>) -> Self {
        Self::Here(what.into(), next.into())
    }

    pub(crate) fn code(&self) -> Code {
        match self {
            Self::Here(..) => Code::Failed,
            Self::Client(error) => match error {
                ClientError::Refused(problem) => code_of(problem),
                ClientError::WrongPassphrase | ClientError::NotSignedIn => Code::Refused,
                ClientError::Unreachable { .. } | ClientError::OtherCertificate { .. } => Code::Unreachable,
                ClientError::Damaged
                | ClientError::CacheDamaged
                | ClientError::HintsWrong
                | ClientError::HintsNotEnough
                | ClientError::DamagedSlots(_)
                | ClientError::NotReadBack
                | ClientError::Format(_)
                | ClientError::Store(_)
                | ClientError::RolledBack { .. } => Code::Damage,
                ClientError::NoRoomToWrite { .. } => Code::NoRoom,
                ClientError::Stopped | ClientError::Cancelled(_) => Code::Interrupted,
                ClientError::Unexpected(_)
                | ClientError::File { .. }
                | ClientError::NotJoined
                | ClientError::AlreadyJoined(_)
                | ClientError::Busy
                | ClientError::NothingIncluded
                | ClientError::NothingThere(_)
                | ClientError::Hook { .. }
                | ClientError::Pattern { .. }
                | ClientError::Folder { .. }
                | ClientError::Invitation(_)
                | ClientError::RecoveryKey(_)
                | ClientError::Passphrase(_)
                | ClientError::StoreKey(_)
                | ClientError::OtherKey
                | ClientError::WeakSlot
                | ClientError::NoPoint(_)
                | ClientError::OtherKind { .. }
                | ClientError::SameName { .. }
                | ClientError::NothingBeside
                | ClientError::NoFile(_)
                | ClientError::NoPath(_)
                | ClientError::Target { .. }
                | ClientError::NotAStore { .. }
                | ClientError::NothingDrawn
                | ClientError::NoAgent
                | ClientError::AgentRuns
                | ClientError::Agent(_) => Code::Failed,
            },
        }
    }

    pub(crate) fn words(&self) -> Words {
        match self {
            Self::Here(what, next) => Words { what: what.clone(), detail: None, next: next.clone() },
            Self::Client(ClientError::Refused(problem)) if problem.whose_move == WhoseMove::Administrator => {
                Words { next: format!("The administrator's move. {}", problem.next_step), ..Words::of_problem(problem) }
            }
            Self::Client(error) => Words::of(error),
        }
    }
}

impl Words {
    /// Those for an error of the engine or the service.
    pub(crate) fn of(error: &ClientError) -> Self {
        match error {
            ClientError::Refused(problem) => Self::of_problem(problem),
            error => {
                let cause = std::error::Error::source(error).map(ToString::to_string);
                Self { what: sentence(&error.to_string()), detail: cause, next: next_step(error).into() }
            }
        }
    }

    fn of_problem(problem: &Problem) -> Self {
        Self { what: problem.title.clone(), detail: problem.detail.clone(), next: problem.next_step.clone() }
    }
}

fn code_of(problem: &Problem) -> Code {
    match problem.known_kind() {
        Some(ProblemKind::NoRoom | ProblemKind::RecordsFull) => Code::NoRoom,
        Some(ProblemKind::Damaged) => Code::Damage,
        Some(
            ProblemKind::NotSignedIn
            | ProblemKind::WrongPassword
            | ProblemKind::WrongCode
            | ProblemKind::NotAllowed
            | ProblemKind::NoAccess
            | ProblemKind::Disabled
            | ProblemKind::SecondFactorNeeded
            | ProblemKind::WrongSecondFactor
            | ProblemKind::TooManyAttempts,
        ) => Code::Refused,
        Some(
            ProblemKind::DestinationMissing
            | ProblemKind::Stopping
            | ProblemKind::Paused
            | ProblemKind::Queued
            | ProblemKind::RecordsBusy,
        ) => Code::Unreachable,
        Some(
            ProblemKind::BadRequest
            | ProblemKind::NotFound
            | ProblemKind::MethodNotAllowed
            | ProblemKind::UnsupportedMediaType
            | ProblemKind::Conflict
            | ProblemKind::ChangedMeanwhile
            | ProblemKind::NameTaken
            | ProblemKind::Withdrawn
            | ProblemKind::RunOver
            | ProblemKind::Stalled
            | ProblemKind::TooLarge
            | ProblemKind::Invalid
            | ProblemKind::UnfitDirectory
            | ProblemKind::BadFormat
            | ProblemKind::TooMuchAtOnce
            | ProblemKind::Internal
            | ProblemKind::ServerBusy,
        )
        // A kind that a later service has.
        | None => Code::Failed,
    }
}

fn next_step(error: &ClientError) -> &'static str {
    match error {
        ClientError::Unreachable { .. } => {
            "Look whether this machine is in the office's network and the service runs; then try again. What was sent stays."
        }
        ClientError::OtherCertificate { .. } => {
            "Do not go on. Ask the administrator whether the service has a new identity: then jetfrost accept-identity FINGERPRINT. If it has not, something else answers there."
        }
        ClientError::NotJoined => "Ask the administrator for an enrolment code, then run: jetfrost join CODE",
        ClientError::AlreadyJoined(_) => {
            "To replace it: jetfrost leave, then join. To keep both: jetfrost --state-directory DIR join; every command for the second one then takes --state-directory DIR, or JETFROST_HOME."
        }
        ClientError::NotSignedIn => "Run: jetfrost sign-in ADDRESS",
        ClientError::Busy => "Wait until it has ended; 'jetfrost history' shows it.",
        ClientError::Hook { .. } => {
            "See what is set: jetfrost hook show. What the command printed stands above, or in the system's log."
        }
        ClientError::NothingIncluded => "Choose what is backed up: jetfrost include FOLDER",
        ClientError::NothingThere(_) => {
            "Mount its volume or put it back; take out what is gone for good: jetfrost include --drop FOLDER"
        }
        ClientError::Pattern { .. } => "See 'jetfrost exclude --help' for how patterns are written.",
        ClientError::Folder { .. } => "Give the path of a folder that is there.",
        ClientError::Invitation(_) => "Copy the enrolment code whole, beginning with JF1-, or ask for a new one.",
        ClientError::RecoveryKey(_) => "Compare it with the printed recovery key.",
        ClientError::StoreKey(_) => "Put it back with the image passphrase or the recovery key: jetfrost unlock",
        ClientError::Passphrase(_) => "Choose another image passphrase.",
        ClientError::WrongPassphrase => {
            "Enter the image passphrase chosen when this workstation joined, or its printed recovery key; not your account password."
        }
        ClientError::CacheDamaged | ClientError::HintsWrong | ClientError::HintsNotEnough => {
            "Try again: the next backup reads everything."
        }
        ClientError::NotReadBack => {
            "No recovery point was made of it. An administrator scrubs the image store (jetfrost scrub start NAME); the next backup sends again what is damaged."
        }
        ClientError::DamagedSlots(_) => {
            "Try another passphrase, the printed recovery key or the office key. Through the service a scrub writes damaged slots again: jetfrost scrub start NAME"
        }
        ClientError::NoAgent => {
            "Start it: jetfrost agent install, or in the foreground jetfrost agent run. Backups work without it: jetfrost backup"
        }
        ClientError::AgentRuns => "See what it does: jetfrost agent status",
        ClientError::Agent(_) => "Give another time.",
        ClientError::NoPoint(_) => "Run 'jetfrost points' to see which there are.",
        ClientError::OtherKind { .. } => {
            "Files: 'look' and 'restore'. Disks: 'disks', 'rebuild --disk' and 'attach'. 'jetfrost points' says which point is which."
        }
        ClientError::Target { .. } => {
            "Give a name that is not there yet, or for a disk a block device that is free and large enough."
        }
        ClientError::NotAStore { .. } => "Give the directory of one image store: the one with 'segments' in it.",
        ClientError::NoRoomToWrite { .. } => {
            "Give a directory on a volume with more room: where the copy goes, or with --in where a drill puts its files."
        }
        ClientError::Store(StoreError::NoStore) => {
            "If this is the right directory, its description is lost: jetfrost salvage STORE --preview says what can be had."
        }
        ClientError::Store(_) => "Salvage it: jetfrost salvage STORE --preview",
        ClientError::NoFile(_) => "Name a file; a folder can be exported: jetfrost export",
        ClientError::NothingBeside => "Name the files or folders, or give another directory: --to DIR.",
        ClientError::SameName { .. } => "Restore them one after the other, each into a directory of its own.",
        ClientError::NoPath(_) => {
            "See which points have it: jetfrost versions PATH. What is there: jetfrost look, jetfrost disks."
        }
        ClientError::Damaged => {
            "Tell the administrator: the image store needs to be checked. An earlier or later point may be sound."
        }
        ClientError::Format(_) => {
            "If a newer program wrote it, use that one; otherwise tell the administrator: the image store needs to be checked."
        }
        ClientError::RolledBack { .. } => {
            "Tell the administrator: the service or its volume was set back to an earlier state. Once it is clear why: jetfrost backup --go-on-from-older"
        }
        ClientError::OtherKey => {
            "Do not go on. Tell the administrator: the service hands out a key slot that is not of this workstation's making."
        }
        ClientError::WeakSlot => {
            "Tell the administrator: the service asks for guesses at the passphrase that cost nothing. No secret was tried."
        }
        ClientError::NothingDrawn => "Let it restore more: jetfrost drill --most SIZE",
        ClientError::Stopped => "Run it again: it goes on where it was.",
        ClientError::Cancelled(_) => "Ask them why. Run it again if it is still wanted: it goes on where it was.",
        ClientError::Refused(_) | ClientError::Unexpected(_) | ClientError::File { .. } => {
            "See what the system says, then try again."
        }
    }
}

fn sentence(text: &str) -> String {
    let mut chars = text.chars();
    let first = chars.next().map(|c| c.to_uppercase().to_string()).unwrap_or_default();
    format!("{first}{}.", chars.as_str())
}
