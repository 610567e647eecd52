//! The service itself, and signing in to it.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::binary::Binary;
use crate::labels::labels;
use crate::people::Account;
use crate::size::Units;
use crate::version::{HasVersion, Version};
use crate::{ServiceId, SessionId};

/// Public information about the service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ServiceInfo {
    /// Id of this installation.
    pub id: ServiceId,
    /// The name by which workstations reach it.
    pub public_name: String,
    /// The program's version.
    pub version: String,
    /// SHA-256 of the certificate of its identity, in hexadecimal; workstations recognise it by this.
    pub fingerprint: String,
    /// Whether the first administrator is still to be created.
    pub awaits_first_administrator: bool,
    /// The time by the service's clock.
    pub now: Timestamp,
    /// The office key, if there is one: it unlocks the image stores of workstations that agreed.
    pub escrow: Option<Escrow>,
    /// Whether people may make workstations of their own machines by signing in.
    #[serde(default)]
    #[schema(required)]
    pub own_machines: bool,
}

/// Settings of the office.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OfficeSettings {
    /// The units in which sizes are shown.
    pub units: Units,
    /// How many backups run at once, 1 to 1,000; absent for as many as the measured rate allows, 16 at most.
    #[serde(default)]
    pub runs_at_once: Option<RunsAtOnce>,
    /// Whether people may make workstations of their own machines by signing in, without a code from an administrator.
    #[serde(default)]
    pub own_machines: bool,
}

/// How many backups run at once: 1 to 1,000.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(try_from = "u32", into = "u32")]
#[schema(value_type = u32, minimum = 1, maximum = 1000)]
pub struct RunsAtOnce(u32);

/// A number of backups that cannot run at once.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("1 to 1,000 backups can run at once, not {0}")]
pub struct NotAtOnce(u32);

impl TryFrom<u32> for RunsAtOnce {
    type Error = NotAtOnce;

    fn try_from(number: u32) -> Result<Self, NotAtOnce> {
        if (1..=1000).contains(&number) { Ok(Self(number)) } else { Err(NotAtOnce(number)) }
    }
}

impl From<RunsAtOnce> for u32 {
    fn from(number: RunsAtOnce) -> Self {
        number.0
    }
}

/// The public half of the office key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Escrow {
    /// X25519 (RFC 7748), 32 bytes.
    pub public_key: Binary,
    /// When workstations were first asked to trust it.
    pub since: Timestamp,
}

/// Sets the office key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewEscrow {
    /// X25519 (RFC 7748), 32 bytes.
    pub public_key: Binary,
    /// Whether workstations are asked to trust it. Otherwise it only encrypts records backups.
    #[serde(default = "yes")]
    pub ask_workstations: bool,
}

fn yes() -> bool {
    true
}

/// How the service's own records are protected: by encrypted backups of them on its destinations.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Protection {
    /// Whether there is a recent records backup.
    pub protected: bool,
    /// The state, and what to do, in a sentence.
    pub says: String,
    /// When the latest one was written.
    pub copied: Option<Timestamp>,
    /// Fingerprint of the office key that unlocks them.
    pub office_key: Option<String>,
}

/// Creates the first administrator.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct FirstAdministrator {
    /// The one-time code that the service printed.
    pub code: String,
    /// Login name.
    pub login: String,
    /// The account's password.
    pub password: String,
}

/// Signs in.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// Login name; letter case does not matter.
    pub login: String,
    /// The account's password.
    pub password: String,
    /// A code from the account's authenticator, or a spare code; required if it has a second factor.
    #[serde(default)]
    pub code: Option<String>,
    /// How the session is carried; a token by default.
    #[serde(default)]
    pub carry: Carry,
    /// A name for the session, shown in the list of sessions.
    #[serde(default)]
    pub label: Option<String>,
}

/// How a session is carried.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Carry {
    /// In a cookie, for browsers.
    Cookie,
    /// In a bearer token, for commands.
    #[default]
    Token,
}

labels!(Carry: Cookie = "cookie", Token = "token");

/// A new session.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// The session.
    pub session: SessionId,
    /// Who signed in.
    pub account: Account,
    /// The bearer token, if requested; shown once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// When it expires.
    pub expires: Timestamp,
}

/// What a session or token may do.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TokenScope {
    /// Everything that its account may do.
    #[default]
    All,
    /// Read what its account may see, except the content of backups.
    See,
}

labels!(TokenScope: All = "all", See = "see");

/// A valid session or token.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// The session.
    pub id: SessionId,
    /// Its name, or the program that started it.
    pub label: String,
    /// How it is carried.
    pub carry: Carry,
    /// Its role.
    pub scope: TokenScope,
    /// The address that it was started from.
    pub from: String,
    /// When it was started.
    pub created: Timestamp,
    /// When it was last used, to the minute.
    pub last_used: Timestamp,
    /// When it expires.
    pub expires: Timestamp,
    /// Whether it is the caller's.
    pub current: bool,
}

/// Makes a token for a program.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewToken {
    /// What it is for.
    pub label: String,
    /// Its role.
    #[serde(default)]
    pub scope: TokenScope,
    /// Days until it expires, 1 to 730.
    pub days: u16,
    /// The caller's account password: an unattended session cannot make a token.
    pub password: String,
}

/// A new token.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct IssuedToken {
    /// The bearer token; shown once.
    pub token: String,
    /// Its record.
    pub record: Session,
}

/// The number of sessions that were ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SessionsEnded {
    /// Bytes.
    pub ended: u64,
}

/// A secret for an authenticator (RFC 6238: SHA-1, six digits, 30 seconds). It takes effect once a code is confirmed.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SecondFactorOffer {
    /// The shared secret in base 32, for typing.
    pub secret: String,
    /// The secret as an `otpauth` URI.
    pub address: String,
    /// That URI as a QR code (SVG).
    pub picture: String,
}

/// Confirms that the authenticator is set up.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct ConfirmSecondFactor {
    /// The code from the authenticator.
    pub code: String,
    /// The password of the account.
    pub password: String,
}

/// Spare codes, each good for one sign-in without the authenticator.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SpareCodes {
    /// The codes; shown once.
    pub codes: Vec<String>,
}

/// Ends the caller's own second factor.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct EndSecondFactor {
    /// The account's password.
    pub password: String,
}

/// Whether new backups are accepted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "state", rename_all = "snake_case")]
pub enum NewBackups {
    /// They are accepted.
    On,
    /// They are paused until a time.
    Paused {
        /// When they resume.
        until: Timestamp,
    },
    /// They are paused until somebody resumes them.
    Off,
}

/// What is accepted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Maintenance {
    /// New backups.
    pub backups: NewBackups,
    /// Whether new restores are accepted. They continue while backups are paused.
    pub restores: bool,
}

/// What is accepted, and what is in progress.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MaintenanceState {
    /// What is accepted.
    #[serde(flatten)]
    pub maintenance: Maintenance,
    /// Workstations with a run in progress. Pausing does not stop these.
    pub running: Vec<String>,
    /// Restores in progress.
    pub restoring: u64,
    /// Version of the settings, for `If-Match`.
    #[serde(default)]
    #[schema(required)]
    pub version: Version,
}

impl HasVersion for MaintenanceState {
    fn version(&self) -> &Version {
        &self.version
    }
}

/// An entry of the audit log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AuditEntry {
    /// Its number.
    pub number: i64,
    /// When.
    pub at: Timestamp,
    /// Who: a login name, a workstation's name, or the service.
    pub who: String,
    /// The caller's address.
    pub from: String,
    /// The action.
    pub what: String,
    /// What it was done to.
    pub subject: String,
    /// The state before.
    pub before: Option<String>,
    /// The state after.
    pub after: Option<String>,
    /// Whether it was refused.
    pub refused: bool,
    /// The hash of this entry and all before it; absent for entries of the first versions.
    pub link: Option<String>,
}

/// Which entries of the audit log to return.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AuditQuery {
    /// Text to find in action, subject, and states.
    pub text: Option<String>,
    /// Text to find in the name of who did it.
    pub who: Option<String>,
    /// Not before this time.
    pub since: Option<Timestamp>,
    /// Before this time.
    pub until: Option<Timestamp>,
    /// Only refused actions.
    pub refused: Option<bool>,
    /// `next` of the previous page.
    pub after: Option<String>,
    /// Entries per page, 1 to 500; 100 by default.
    #[param(minimum = 1, maximum = 500)]
    pub most: Option<u16>,
}

/// The format of an audit log export.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ExportForm {
    /// Comma-separated values (RFC 4180), with a header.
    #[default]
    Csv,
    /// One JSON object per line.
    JsonLines,
}

/// Selects the format of an export.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ExportQuery {
    /// The format; CSV by default.
    #[param(inline)]
    pub form: Option<ExportForm>,
}

/// The result of verifying the audit log's chain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AuditCheck {
    /// Entries verified.
    pub entries: u64,
    /// Entries of the first versions, which are not chained.
    pub unchained: u64,
    /// The first entry that was altered, or whose predecessor is missing.
    pub broken_at: Option<i64>,
    /// The last link. Compared with an earlier note of it, it shows whether entries were removed from the end.
    pub last_link: Option<String>,
    /// The public half of the key that signs heads (Ed25519), in hexadecimal.
    pub key: String,
    /// The signed heads on the destinations, compared with the log.
    pub heads: Vec<AuditHeads>,
}

/// Signed heads of the audit log on a destination, compared with the log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AuditHeads {
    /// The destination, by name.
    pub destination: String,
    /// Heads signed by this service that agree with the log.
    pub agree: u64,
    /// The entry of the first head that contradicts the log: it was altered or removed.
    pub contradicted_at: Option<i64>,
    /// Heads signed by another key: from before the records were restored, or forged.
    pub by_other_keys: u64,
    /// Lines that are not heads, or whose signature is wrong.
    pub unreadable: u64,
    /// Why the heads could not be read, if they could not.
    pub trouble: Option<String>,
}
