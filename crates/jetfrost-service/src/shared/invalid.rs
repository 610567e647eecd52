//! What can be wrong with what a caller asks for: a case each, with its word for programs and what to say of it.

use jetfrost_office::names::{NameError, PasswordError};
use jetfrost_office::protected::LEAST_DAYS_MAKING_ROOM;
use jetfrost_wire::enrolment::NotAnInvitation;
use jetfrost_wire::size::NotASize;

use crate::clock::Moment;
use crate::hand_out::pdf::PdfError;
use crate::media::{MarkerError, NoDirectory};
use crate::shared::bounds;
use crate::shared::subjects::Thing;

/// What is wrong with a request whose form is right.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Invalid {
    /// A text that cannot be a name.
    #[error(transparent)]
    Name(#[from] NameError),
    /// A text that cannot be a password.
    #[error(transparent)]
    Password(#[from] PasswordError),
    /// A text that is not a size.
    #[error(transparent)]
    Size(#[from] NotASize),
    /// A text that is not an enrolment code.
    #[error(transparent)]
    EnrolmentCode(#[from] NotAnInvitation),
    /// A text that is not a whole number, or one beyond its type.
    #[error("enter a whole number")]
    Number,
    /// A number beyond what the records hold.
    #[error("{0} is too large")]
    TooLarge(u64),
    /// A cursor that no page ended with.
    #[error("'after' must be the 'next' of an earlier page")]
    Cursor,

    /// A description that is too long, or no plain text.
    #[error("a description is plain text of at most {} characters", bounds::DESCRIPTION)]
    Description,
    /// No reason, or too long a one.
    #[error("say why in 1 to {} characters: the next person will want to know", bounds::REASON)]
    Reason,
    /// A directory that is not given from the root.
    #[error("give the directory's full path, such as /backup/office")]
    RelativeDirectory,
    /// A directory that neither exists nor can be made.
    #[error(transparent)]
    NoDirectory(#[from] NoDirectory),
    /// The directory that a destination is to move to is not this destination.
    #[error(transparent)]
    OtherDirectory(#[from] MarkerError),
    /// The volume of a directory cannot be examined.
    #[error("the volume cannot be examined: {0}")]
    Volume(#[source] std::io::Error),

    /// More days than anybody waits.
    #[error("at most {} days are possible", bounds::DAYS)]
    Days,
    /// How long a token lasts.
    #[error("a token lasts 1 to {} days", bounds::TOKEN_DAYS)]
    TokenDays,
    /// How long an enrolment code lasts.
    #[error("an enrolment code lasts 1 to {} hours", bounds::CODE_HOURS)]
    CodeHours,
    /// A pause that is over before it begins.
    #[error("a pause must end in the future")]
    PauseOver,
    /// A pause of a workstation that has no end to speak of.
    #[error("a pause of a workstation ends within 31 days")]
    PauseOfWorkstation,
    /// Too short a protected time where points make room for others.
    #[error(
        "where the oldest points make room at a limit, the protected time is at least {LEAST_DAYS_MAKING_ROOM} days, so that \
         whoever steals a workstation's credential cannot push out what is there"
    )]
    ProtectedTooShort,

    /// No host name or address of a mail server.
    #[error("enter the mail server's host name or address")]
    MailServer,
    /// Port 0.
    #[error("a port is a number from 1 to 65535")]
    Port,
    /// A login name or password at the mail server that is empty or too long.
    #[error("login name and password of the mail server have 1 to {} bytes each", bounds::MAIL_SECRET)]
    MailSecret,
    /// Nobody to send mail to, or too many.
    #[error("enter 1 to {} mail addresses", bounds::RECIPIENTS)]
    Recipients,
    /// A text that is not a mail address.
    #[error("'{}' is not a mail address", .0.escape_debug())]
    MailAddress(String),
    /// An hour that no day has.
    #[error("the hour of the summary is 0 to 23")]
    SummaryHour,
    /// A name that no network interface has, or too many of them.
    #[error("give up to {} interfaces by name, such as eth0", bounds::INTERFACES)]
    Interfaces,
    /// A name that cannot be announced.
    #[error("the announced name has at most {} bytes and no dot", bounds::ANNOUNCED_NAME)]
    AnnouncedName,

    /// A name that nothing has.
    #[error("there is no {} '{name}'", what.name())]
    Unknown {
        /// What was looked for.
        what: Thing,
        /// By which name.
        name: String,
    },
    /// One of several destinations is meant.
    #[error("there are several destinations: say which one")]
    WhichDestination,
    /// Nothing says which volume is meant.
    #[error("give a destination or a directory")]
    WhichVolume,
    /// There is no destination.
    #[error("there is no destination yet: add one first")]
    NoDestination,
    /// The destination takes encrypted image stores only.
    #[error("the destination '{0}' takes encrypted image stores only")]
    EncryptedDestination(String),
    /// The code makes encrypted image stores only.
    #[error("this enrolment code makes encrypted image stores only")]
    EncryptedCode,

    /// No machine can join for a disabled account.
    #[error("the account '{0}' is disabled: enable it first")]
    AccountDisabled(String),
    /// The workstation belongs to another account than the code is for.
    #[error("the workstation '{workstation}' belongs to '{owner}': make the code for that account")]
    OthersWorkstation {
        /// Name of the workstation.
        workstation: String,
        /// Login name of its account.
        owner: String,
    },
    /// The workstation's image store was removed and waits.
    #[error("the image store of '{0}' is pending removal: undelete it first")]
    PendingRemoval(String),
    /// An account cannot be removed before it is decided what becomes of these workstations.
    #[error("this account has workstations ({0}): say whether another account takes them over, or they are retired or removed")]
    HasWorkstations(String),
    /// An account was named as its own heir.
    #[error("an account cannot take over its own workstations")]
    OwnHeir,
    /// Somebody holds backups of this workstation.
    #[error("backups of '{0}' are on hold: release the hold first")]
    OnHold(String),
    /// Something may not go before its protected time is over.
    #[error("{what} is protected until {}: nothing can remove it before", crate::clock::said(*until))]
    Protected {
        /// What.
        what: &'static str,
        /// Until when.
        until: Moment,
    },
    /// A step without which no backup can be relied on.
    #[error("this step cannot be dismissed: without it, no backup can be relied on")]
    CannotBeDismissed,
    /// Another name than that of the destination to be erased.
    #[error("this is not the destination's name")]
    NotItsName,
    /// Another confirmation than the first step answered with.
    #[error("this is not the confirmation that the first step returned")]
    NotTheConfirmation,

    /// A roster that cannot be carried out.
    #[error("line {line}{}: {what}{}", .column.map_or_else(String::new, |name| format!(", {name}")), others(*.more))]
    Roster {
        /// Line of its first fault, from 1.
        line: u64,
        /// Which column of that line.
        column: Option<&'static str>,
        /// What is wrong there.
        what: String,
        /// Faults after it.
        more: usize,
    },
    /// No code for a hand-out, or too many.
    #[error("hand-outs are made for 1 to {} enrolment codes at a time", bounds::HAND_OUTS)]
    HandOutCodes,
    /// A hand-out for a code that nobody can use.
    #[error("one of these enrolment codes cannot be used")]
    CodeNotUsable,
    /// What cannot be set in the font of the hand-out.
    #[error(transparent)]
    HandOut(#[from] PdfError),

    /// A key of another length.
    #[error("the public half of an office key has 32 bytes")]
    OfficeKey,
    /// No key slot, or too many.
    #[error("a new image store has 1 to {} key slots", bounds::SLOTS)]
    SlotCount,
    /// A key slot of another store, or one that an unencrypted store cannot have.
    #[error("one of these key slots does not belong to this image store")]
    ForeignSlot,
    /// A list of needs that is longer than the store can need.
    #[error("the list of chunks that this image store's next point needs has at most {0} bytes")]
    NeedsTooLong(u64),
    /// A file of a point that is too long.
    #[error("a recovery point's file has at most {0} bytes")]
    PointTooLong(usize),
    /// A report of more than anybody reads.
    #[error("a report tells of {0} waits at most")]
    TooManyWaits(usize),
    /// A checklist of more, or of longer texts, than there are.
    #[error("a checklist has forty items at most, with a sentence each")]
    NotAChecklist,
    /// Bytes that cannot be an order, by their length.
    #[error("this is not a sealed order, or one that names too many files: order the folder that they are in")]
    NotAnOrder,
    /// A diagnosis of more steps than there are.
    #[error("a diagnosis has {0} steps at most")]
    TooManySteps(usize),
    /// Segments that would make a store of very many small files.
    #[error("too many short segments in one run: fill them to 16 MiB")]
    ShortSegments,
    /// A body longer than its `Content-Length`.
    #[error("more bytes arrived than announced")]
    MoreThanAnnounced,
}

fn others(more: usize) -> String {
    if more == 0 { String::new() } else { format!("; and {more} more") }
}

impl Invalid {
    /// The word for programs.
    pub(crate) fn word(&self) -> &'static str {
        match self {
            Self::Name(_) => "name",
            Self::Password(_) => "password",
            Self::Size(_) => "size",
            Self::EnrolmentCode(_) => "enrolment_code",
            Self::Number => "number",
            Self::TooLarge(_) => "too_large",
            Self::Cursor => "cursor",
            Self::Description => "description",
            Self::Reason => "reason",
            Self::RelativeDirectory => "relative_directory",
            Self::NoDirectory(_) => "no_directory",
            Self::OtherDirectory(_) => "other_directory",
            Self::Volume(_) => "volume",
            Self::Days => "days",
            Self::TokenDays => "token_days",
            Self::CodeHours => "code_hours",
            Self::PauseOver => "pause_over",
            Self::PauseOfWorkstation => "pause_of_workstation",
            Self::ProtectedTooShort => "protected_too_short",
            Self::MailServer => "mail_server",
            Self::Port => "port",
            Self::MailSecret => "mail_secret",
            Self::Recipients => "recipients",
            Self::MailAddress(_) => "mail_address",
            Self::SummaryHour => "summary_hour",
            Self::Interfaces => "interfaces",
            Self::AnnouncedName => "announced_name",
            Self::Unknown { .. } => "unknown",
            Self::WhichDestination => "which_destination",
            Self::WhichVolume => "which_volume",
            Self::NoDestination => "no_destination",
            Self::EncryptedDestination(_) => "encrypted_destination",
            Self::EncryptedCode => "encrypted_code",
            Self::AccountDisabled(_) => "account_disabled",
            Self::OthersWorkstation { .. } => "others_workstation",
            Self::PendingRemoval(_) => "pending_removal",
            Self::HasWorkstations(_) => "has_workstations",
            Self::OwnHeir => "own_heir",
            Self::OnHold(_) => "on_hold",
            Self::Protected { .. } => "protected",
            Self::CannotBeDismissed => "cannot_be_dismissed",
            Self::NotItsName => "not_its_name",
            Self::NotTheConfirmation => "not_the_confirmation",
            Self::Roster { .. } => "roster",
            Self::HandOutCodes => "hand_out_codes",
            Self::CodeNotUsable => "code_not_usable",
            Self::HandOut(_) => "hand_out",
            Self::OfficeKey => "office_key",
            Self::SlotCount => "slot_count",
            Self::ForeignSlot => "foreign_slot",
            Self::NeedsTooLong(_) => "needs_too_long",
            Self::PointTooLong(_) => "point_too_long",
            Self::TooManyWaits(_) => "too_many_waits",
            Self::NotAChecklist => "not_a_checklist",
            Self::NotAnOrder => "not_an_order",
            Self::TooManySteps(_) => "too_many_steps",
            Self::ShortSegments => "short_segments",
            Self::MoreThanAnnounced => "more_than_announced",
        }
    }
}
