//! Why the state of things does not allow something now: a case each, with its word for programs and what to say of it.

use jetfrost_types::labels;

/// What is in the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Conflict {
    /// There are as many sessions and tokens as an account may have.
    TooManySessions,
    /// The first administrator was made before.
    HasAdministrator,
    /// The account has a second factor.
    HasSecondFactor,
    /// Somebody removes the account that they are signed in with.
    OwnAccount,
    /// No other administrator could sign in.
    LastAdministrator,
    /// The code was used or cancelled.
    CodeSpent,
    /// The code waits for no machine.
    CodeNotUnused,
    /// A code that hands over a store was shown by a client that cannot take one.
    ClientTooOld,
    /// A code that makes a workstation was to hand over one.
    CodeMakesNew,
    /// Nobody has the credential that is to end.
    NoMachine,
    /// Another store has this id.
    StoreIdTaken,
    /// The workstation's store was removed and waits.
    StorePendingRemoval,
    /// No limit is left to look at.
    NothingToDiagnose,
    /// The restore has ended.
    RestoreEnded,
    /// The job has ended.
    JobEnded,
    /// A store that was to go was undeleted, or is held.
    StoreStays,
    /// Removing at once takes a second factor.
    NeedsSecondFactor,
    /// The point or its store is held.
    PointOnHold,
    /// It stays because a later point is suspect.
    HeldForSuspect,
    /// Somebody else marked the point meanwhile.
    MarkedMeanwhile,
    /// The latest point cannot be removed.
    LatestPointStays,
    /// The store or a point of it is held.
    StoreOnHold,
    /// A store on the destination belongs to this service.
    StoreKnown,
    /// The destination is to be erased.
    ErasurePending,
    /// Only a withdrawn destination can be erased.
    NotWithdrawn,
    /// The second confirmation came without the first.
    ErasureNotAsked,
    /// There are no mail settings.
    NoMailSettings,
    /// The restore is none that is checked off, or was.
    NotToBeChecked,
    /// The order has ended.
    OrderEnded,
    /// The workstation has as many orders as may wait.
    TooManyOrders,
    /// People do not enrol their own machines here.
    NotOwnMachines,
    /// The account has as many machines as a person enrols.
    EnoughMachines,
}

labels!(Conflict: TooManySessions = "too_many_sessions", HasAdministrator = "has_administrator",
    HasSecondFactor = "has_second_factor", OwnAccount = "own_account", LastAdministrator = "last_administrator",
    CodeSpent = "code_spent", CodeNotUnused = "code_not_unused", ClientTooOld = "client_too_old", CodeMakesNew = "code_makes_new",
    NoMachine = "no_machine", StoreIdTaken = "store_id_taken", StorePendingRemoval = "store_pending_removal",
    NothingToDiagnose = "nothing_to_diagnose", RestoreEnded = "restore_ended", JobEnded = "job_ended", StoreStays = "store_stays",
    NeedsSecondFactor = "needs_second_factor", PointOnHold = "point_on_hold", HeldForSuspect = "held_for_suspect", MarkedMeanwhile = "marked_meanwhile", LatestPointStays = "latest_point_stays",
    StoreOnHold = "store_on_hold", StoreKnown = "store_known", ErasurePending = "erasure_pending", NotWithdrawn = "not_withdrawn",
    ErasureNotAsked = "erasure_not_asked", NoMailSettings = "no_mail_settings",
    NotToBeChecked = "not_to_be_checked", OrderEnded = "order_ended", TooManyOrders = "too_many_orders",
    NotOwnMachines = "not_own_machines", EnoughMachines = "enough_machines");

impl Conflict {
    /// What is in the way, as a sentence, and what to do about it.
    pub(crate) fn said(self) -> (&'static str, &'static str) {
        match self {
            Self::TooManySessions => ("This account already has fifty sessions and tokens.", "End some of them first."),
            Self::HasAdministrator => {
                ("This service already has an administrator.", "Sign in, or ask an administrator for an account.")
            }
            Self::HasSecondFactor => ("This account already has a second factor.", "End it first to set up another one."),
            Self::OwnAccount => ("You are signed in with this account.", "Another administrator can remove it."),
            Self::LastAdministrator => {
                ("This is the last administrator who can sign in.", "Make another administrator first. Nothing was changed.")
            }
            Self::NotOwnMachines => (
                "In this office administrators enrol machines.",
                "Ask an administrator for an enrolment code, or to let people enrol their own machines.",
            ),
            Self::EnoughMachines => (
                "This account has five machines or unused enrolment codes already, as many as a person enrols.",
                "Ask an administrator for an enrolment code, or to retire a machine that is gone.",
            ),
            Self::CodeSpent => ("This enrolment code was used or cancelled.", "Make a new one."),
            Self::CodeNotUnused => (
                "Only an unused enrolment code can be cancelled.",
                "List the enrolment codes: it was used or cancelled before, or has expired.",
            ),
            Self::ClientTooOld => (
                "This code hands over an existing image store, which this client cannot take over.",
                "Install a newer client on the workstation, then join again.",
            ),
            Self::CodeMakesNew => (
                "This code makes a new workstation; it does not hand over an existing one.",
                "Join with it as a new workstation, or ask for a code that claims the existing one.",
            ),
            Self::NoMachine => (
                "This workstation is already cut off from its machine.",
                "Nothing is left to do. An enrolment code that claims it hands its backups to another machine.",
            ),
            Self::StoreIdTaken => {
                ("An image store with this id already exists.", "Join again: a new image store is made each time.")
            }
            Self::StorePendingRemoval => (
                "This workstation's image store was removed.",
                "An administrator can undelete it during the waiting time. Nothing was stored.",
            ),
            Self::NothingToDiagnose => {
                ("The destination has no limit that could be checked.", "See the other steps of the diagnosis.")
            }
            Self::RestoreEnded => ("This restore has ended.", "Start a new one."),
            Self::NotToBeChecked => (
                "This is no restore that has ended, or it was checked off already.",
                "What was found first stays on record. Restore again to check off anew.",
            ),
            Self::OrderEnded => ("This order has ended.", "Give a new one if something is still to be restored."),
            Self::TooManyOrders => (
                "Twenty orders wait for this workstation, as many as may.",
                "Withdraw some of them, or wait until its agent has carried them out.",
            ),
            Self::JobEnded => ("This job has ended.", "List the jobs to see its outcome."),
            Self::StoreStays => (
                "This image store stays: it was undeleted, or one of its points is on hold or within its protected time.",
                "Release the hold if it is to be removed; what is protected goes when that time is over.",
            ),
            Self::NeedsSecondFactor => {
                ("Removing without the waiting time needs a second factor.", "Add a second factor to your account first.")
            }
            Self::PointOnHold => ("This recovery point or its image store is on hold.", "Release the hold first."),
            Self::HeldForSuspect => (
                "A later recovery point is suspect, so everything before it stays.",
                "Look at the suspect point and mark it good or resolved first.",
            ),
            Self::MarkedMeanwhile => (
                "This recovery point has another mark than the one to be replaced.",
                "List the points to see who marked it and why, then name that mark. Nothing was changed.",
            ),
            Self::LatestPointStays => (
                "The latest recovery point cannot be removed: the next one builds on it.",
                "Remove another one, or the whole image store.",
            ),
            Self::StoreOnHold => ("This image store or one of its points is on hold.", "Release the hold first."),
            Self::StoreKnown => (
                "This service already knows an image store on this destination.",
                "Look for it in the list of workstations. Nothing was changed.",
            ),
            Self::ErasurePending => ("This destination is about to be erased.", "Cancel the erasure first."),
            Self::NotWithdrawn => ("Only a withdrawn destination can be erased.", "Withdraw it first."),
            Self::ErasureNotAsked => {
                ("The erasure was not confirmed the first time.", "Start with the first confirmation: the destination's name.")
            }
            Self::NoMailSettings => ("Mail is not set up.", "Set the mail server and recipients first."),
        }
    }
}
