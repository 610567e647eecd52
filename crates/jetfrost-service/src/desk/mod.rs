//! The use cases of the service: one function each. Who may do it is asked first, transactions are opened here.

mod access;
mod admission;
mod adoption;
mod advice;
mod attention;
mod audit;
mod audit_heads;
pub(crate) mod bounds;
mod certificates;
mod convert;
mod discovery;
mod enrolment;
mod erasure;
mod groups;
mod hand_outs;
mod jobs;
mod keeping;
mod key_slots;
mod limits;
mod machines;
mod mail;
mod metrics;
mod people;
mod places;
mod protection;
mod restores;
mod roster;
mod rules;
mod runs;
mod second_factor;
mod sessions;
mod setting_up;
mod settings;
mod sign_in;
mod soundness;
mod stores;
mod terms;
mod thinning;
mod trial;
mod versions;
mod ways_in;

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use jetfrost_image::crypto::Random;
use jetfrost_image::store::StoreError;
use jetfrost_office::access::{Act, Asker, Role, may};
use jetfrost_office::pace::Pace;
use jetfrost_office::refusals::Refusals;
use jetfrost_office::room::Level;
use jetfrost_wire::WorkstationId;
use jiff::tz::TimeZone;

use crate::announcer::Announcer;
use crate::audit_heads::HeadSigner;
use crate::certificate::Certificates;
use crate::clock::Clock;
use crate::events::Events;
use crate::postman::Postman;
use crate::records::{AccountRow, Records, RecordsError, SessionRow, WorkstationRow, is_duplicate};
use crate::secrets::{SecretKind, hash};
use crate::shelf::{MarkerError, Place, Shelf, ShelfError};
use jobs::Jobs;
use sign_in::Attempts;

pub(crate) use audit::export_header;
pub(crate) use metrics::Readiness;
pub(crate) use sign_in::{installation, new_first_code};
pub(crate) use stores::Arriving;
pub(crate) use versions::Seen;

pub(super) const DAY_MS: i64 = 86_400_000;
/// Runs of a workstation, and restores of a person or a workstation, that may be begun within an hour.
const MOST_RUNS: u32 = 120;
const MOST_RESTORES: u32 = 240;

/// Why a use case was refused or failed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum DeskError {
    /// The records failed.
    #[error(transparent)]
    Records(#[from] RecordsError),
    /// A destination or an image store refused or failed.
    #[error(transparent)]
    Shelf(#[from] ShelfError),
    /// No credential, or one that is not valid.
    #[error("no valid credential")]
    NotSignedIn,
    /// A device credential that no workstation has, or has any more.
    #[error("no workstation has this credential")]
    UnknownDevice,
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
    #[error("too many {what} were begun")]
    TooOften {
        /// Of what.
        what: &'static str,
        /// Seconds to wait.
        wait_seconds: u64,
    },
    /// A recovery point that was there and is gone.
    #[error("recovery point {sequence} is gone")]
    PointGone {
        /// Its number.
        sequence: u64,
        /// Since when, in milliseconds since 1970.
        at: i64,
        /// Why.
        why: String,
    },
    /// A code that opens nothing.
    #[error("{0}")]
    WrongCode(&'static str),
    /// The password was right, and a code of the second factor is needed.
    #[error("a code of the second factor is needed")]
    SecondFactorNeeded,
    /// The code of the second factor is wrong, or was used before.
    #[error("the code of the second factor is wrong")]
    WrongSecondFactor,
    /// The account is disabled, or the workstation was cut off.
    #[error("{0}")]
    Disabled(&'static str),
    /// The destination is not open to the account.
    #[error("{} is not open to '{login}'", destination.as_ref().map_or_else(|| "any destination".to_owned(), |name| format!("'{name}'")))]
    NoAccess {
        /// Login name.
        login: String,
        /// Name of the destination; none when no destination is open to the account.
        destination: Option<String>,
    },
    /// The destination takes no new backups.
    #[error("the destination '{0}' is withdrawn")]
    Withdrawn(String),
    /// Backups or restores are not let in.
    #[error("{what} are not let in")]
    NotLetIn {
        /// Which of both.
        what: &'static str,
        /// From when on they are again by themselves, in milliseconds since 1970, and how many seconds that is from now.
        until: Option<(i64, u64)>,
    },
    /// The caller may not do this.
    #[error("not allowed")]
    NotAllowed,
    /// There is no such thing.
    #[error("there is no such {0}")]
    NotFound(&'static str),
    /// The name is taken.
    #[error("the name '{0}' is taken")]
    NameTaken(String),
    /// A value is not right.
    #[error("{0}")]
    Invalid(String),
    /// The state of things does not allow this now.
    #[error("{0}")]
    Conflict(&'static str),
    /// What is to be changed is not as the caller saw it.
    #[error("it was changed meanwhile")]
    ChangedMeanwhile {
        /// Who changed it, and when, in milliseconds since 1970, where the audit log says so.
        by: Option<(String, i64)>,
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
    pub(crate) level: Level,
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
    /// When, in milliseconds since 1970.
    pub(crate) at: i64,
    /// Bytes.
    pub(crate) bytes: u64,
}

impl From<diesel::result::Error> for DeskError {
    fn from(error: diesel::result::Error) -> Self {
        Self::Records(error.into())
    }
}

impl From<StoreError> for DeskError {
    fn from(error: StoreError) -> Self {
        Self::Shelf(error.into())
    }
}

impl From<MarkerError> for DeskError {
    fn from(error: MarkerError) -> Self {
        Self::Shelf(error.into())
    }
}

type Result<T, E = DeskError> = std::result::Result<T, E>;

/// What a caller showed to say who it is.
#[derive(Debug, Clone)]
pub(crate) struct Credential {
    /// The bearer secret, if any.
    pub(crate) secret: Option<String>,
    /// The address that the call came from.
    pub(crate) origin: String,
    /// Method and path of the call.
    pub(crate) call: String,
}

/// Who calls.
#[derive(Debug, Clone)]
pub(crate) struct Caller {
    pub(crate) who: Who,
    pub(crate) origin: String,
}

/// A person or a workstation.
#[derive(Debug, Clone)]
pub(crate) enum Who {
    Person { account: AccountRow, role: Role, session: SessionRow },
    Device { workstation: WorkstationRow },
}

impl Caller {
    fn asker(&self) -> Asker<'_> {
        match &self.who {
            Who::Person { account, role, session } => {
                Asker::Person { account: &account.id, role: *role, only_sees: session.only_sees() }
            }
            Who::Device { workstation } => Asker::Device { workstation: &workstation.id },
        }
    }

    pub(crate) fn may(&self, act: &Act<'_>) -> Result<()> {
        if may(&self.asker(), act) { Ok(()) } else { Err(DeskError::NotAllowed) }
    }

    /// The caller's name, as people know it.
    pub(crate) fn name(&self) -> String {
        match &self.who {
            Who::Person { account, .. } => account.login.clone(),
            Who::Device { workstation } => format!("workstation {}", workstation.name),
        }
    }

    /// The account whose workstations are all that this caller may see, unless it may see all.
    fn only_own(&self) -> Option<&str> {
        match &self.who {
            Who::Person { account, role: Role::Member, .. } => Some(&account.id),
            Who::Device { workstation } => Some(&workstation.account_id),
            Who::Person { .. } => None,
        }
    }
}

/// What the service is to the outside.
#[derive(Debug, Clone)]
pub(crate) struct Identity {
    pub(crate) service: String,
    pub(crate) public_name: String,
    /// The address that it listens on.
    pub(crate) listen: IpAddr,
    pub(crate) port: u16,
    pub(crate) certificates: Arc<Certificates>,
}

/// Files of the service itself.
#[derive(Debug, Clone, Default)]
pub(crate) struct OwnFiles {
    /// The state directory.
    pub(crate) state: PathBuf,
}

/// Where all use cases live.
pub(crate) struct Desk {
    pub(crate) records: Records,
    pub(crate) shelf: Shelf,
    pub(crate) clock: Arc<dyn Clock>,
    pub(crate) random: Arc<dyn Random>,
    pub(crate) events: Events,
    announcer: Announcer,
    pub(crate) identity: Identity,
    pub(crate) files: OwnFiles,
    /// Where days begin.
    pub(crate) zone: TimeZone,
    attempts: Mutex<Attempts>,
    /// What each workstation was last refused for, so that a refusal is on record once.
    refusals_told: Mutex<BTreeMap<String, String>>,
    jobs: Jobs,
    postman: Postman,
    /// Refusals that repeat.
    refusals: Mutex<Refusals>,
    /// Runs and restores that were begun within the hour, by who began them.
    runs_begun: Mutex<Pace>,
    restores_begun: Mutex<Pace>,
    /// Until when it need not be asked whether a reading of a store is on record.
    readings: Mutex<BTreeMap<(String, String), i64>>,
    heads: HeadSigner,
    /// What contradicts the audit log, as it was last looked.
    audit_altered: Mutex<Option<String>>,
    /// What each image store's oldest points would free, as it was last looked.
    headroom: Mutex<BTreeMap<String, limits::Headroom>>,
}

impl Desk {
    pub(crate) fn new(
        records: Records,
        clock: Arc<dyn Clock>,
        random: Arc<dyn Random>,
        identity: Identity,
        files: OwnFiles,
        heads: HeadSigner,
        zone: TimeZone,
    ) -> Self {
        Self {
            records,
            shelf: Shelf::new(identity.service.clone()),
            clock,
            random,
            events: Events::new(),
            announcer: Announcer::default(),
            identity,
            files,
            zone,
            attempts: Mutex::default(),
            refusals_told: Mutex::default(),
            refusals: Mutex::default(),
            runs_begun: Mutex::new(Pace::new(MOST_RUNS)),
            restores_begun: Mutex::new(Pace::new(MOST_RESTORES)),
            readings: Mutex::default(),
            heads,
            audit_altered: Mutex::default(),
            jobs: Jobs::default(),
            postman: Postman::default(),
            headroom: Mutex::default(),
        }
    }

    fn now(&self) -> i64 {
        self.clock.now_ms()
    }

    /// Finds out who calls.
    pub(crate) fn authenticate(&self, credential: &Credential) -> Result<Caller> {
        let secret = credential.secret.as_deref().ok_or(DeskError::NotSignedIn)?;
        let kind = SecretKind::of(secret).ok_or(DeskError::NotSignedIn)?;
        let hash = hash(secret.as_bytes());
        let who = match kind {
            SecretKind::Session => self.person(&hash)?,
            SecretKind::Device => {
                let found = self.records.read(|on| Ok::<_, DeskError>(WorkstationRow::by_credential(&hash, on)?))?;
                let (workstation, account) = found.ok_or(DeskError::UnknownDevice)?;
                if account.disabled.is_some() {
                    return Err(DeskError::Disabled("this workstation's account is disabled"));
                }
                Who::Device { workstation }
            }
        };
        Ok(Caller { who, origin: credential.origin.clone() })
    }

    fn workstation_changed(&self, id: &str) {
        self.events.tell(jetfrost_wire::event::Event::Workstation { workstation: WorkstationId(id.to_owned()) });
    }
}

/// A destination's place on the shelf.
fn place(row: &crate::records::DestinationRow) -> Place {
    Place { id: row.id.clone(), directory: PathBuf::from(&row.directory) }
}

/// A name that is fit to be one.
fn checked_name(text: &str) -> Result<String> {
    jetfrost_office::names::check(text).map(str::to_owned).map_err(|e| DeskError::Invalid(e.to_string()))
}

/// The number in the cursor of a list that goes from the latest back.
fn number_cursor(after: Option<&String>) -> Result<i64> {
    after.map_or(Ok(i64::MAX), |after| {
        after.parse().map_err(|_| DeskError::Invalid("'after' is not the 'next' of an earlier page".into()))
    })
}

/// What a failed insert or update says when its name is taken.
fn taken(name: &str, error: diesel::result::Error) -> DeskError {
    if is_duplicate(&error) { DeskError::NameTaken(name.to_owned()) } else { error.into() }
}

/// A limit in words.
fn shown_limit(bytes: Option<u64>) -> String {
    bytes.map_or_else(|| "none".into(), jetfrost_wire::size::show)
}

/// A number for the records, whose integers are signed.
fn to_db(number: u64) -> Result<i64> {
    i64::try_from(number).map_err(|_| DeskError::Invalid(format!("{number} is more than can be kept")))
}
