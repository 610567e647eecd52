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

/// What anyone may know of the service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ServiceInfo {
    /// Which installation this is.
    pub id: ServiceId,
    /// The name by which workstations reach it.
    pub public_name: String,
    /// The program's version.
    pub version: String,
    /// SHA-256 of the certificate of its identity, in hexadecimal: workstations know it by this.
    pub fingerprint: String,
    /// Whether the first administrator is still to be created.
    pub awaits_first_administrator: bool,
    /// The service's clock.
    pub now: Timestamp,
    /// The office key, if the office keeps one: workstations that agree can be opened with it.
    pub escrow: Option<Escrow>,
}

/// What is decided for all of the office.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OfficeSettings {
    /// Which units sizes are shown in, everywhere.
    pub units: Units,
}

/// The public half of the office key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Escrow {
    /// X25519 (RFC 7748), 32 bytes.
    pub public_key: Binary,
    /// Since when it is asked for.
    pub since: Timestamp,
}

/// Makes an office key the one that workstations are asked to trust.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewEscrow {
    /// X25519 (RFC 7748), 32 bytes.
    pub public_key: Binary,
    /// Whether workstations are asked to trust it, too. Without that it only seals copies of the service's own records.
    #[serde(default = "yes")]
    pub ask_workstations: bool,
}

fn yes() -> bool {
    true
}

/// How the service itself is protected: by copies of its own records on its destinations, sealed for the office key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Protection {
    /// Whether a copy is there that is young enough.
    pub protected: bool,
    /// How, or why not and what to do, in a sentence.
    pub says: String,
    /// When the youngest copy was written.
    pub copied: Option<Timestamp>,
    /// The mark of the office key that opens the copies.
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
    /// The code that the account's authenticator shows, or one of its spare codes; needed when it has a second factor.
    #[serde(default)]
    pub code: Option<String>,
    /// How the session is to be carried; a token unless given.
    #[serde(default)]
    pub carry: Carry,
    /// What the session is for, as the person will see it in a list.
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

/// A session that was begun.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// The session.
    pub session: SessionId,
    /// Who signed in.
    pub account: Account,
    /// The bearer token, if that was asked for; shown once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// When it ends at the latest.
    pub expires: Timestamp,
}

/// What a session or token may do.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TokenScope {
    /// All that its account may.
    #[default]
    All,
    /// See what its account may see; change nothing, and read no backup.
    See,
}

labels!(TokenScope: All = "all", See = "see");

/// A session or token that is not over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// The session.
    pub id: SessionId,
    /// Its name, or what it was begun by.
    pub label: String,
    /// How it is carried.
    pub carry: Carry,
    /// What it may do.
    pub scope: TokenScope,
    /// The address that it was begun from.
    pub from: String,
    /// When it was begun.
    pub created: Timestamp,
    /// When it was last used, to the minute.
    pub last_used: Timestamp,
    /// When it ends at the latest.
    pub expires: Timestamp,
    /// Whether it is the one that asks.
    pub current: bool,
}

/// Makes a token for a program.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewToken {
    /// What it is for.
    pub label: String,
    /// What it may do.
    #[serde(default)]
    pub scope: TokenScope,
    /// Days until it ends, 1 to 730.
    pub days: u16,
    /// The password of the account that asks: a session left open makes no token.
    pub password: String,
}

/// A token that was made.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct IssuedToken {
    /// The bearer token; shown once.
    pub token: String,
    /// Its record.
    pub record: Session,
}

/// How many sessions were ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SessionsEnded {
    /// How many.
    pub ended: u64,
}

/// What an authenticator needs to know (RFC 6238: SHA-1, six digits, 30 seconds). It counts once a code was confirmed.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SecondFactorOffer {
    /// The shared secret in base 32, for typing.
    pub secret: String,
    /// The same as an address that authenticators read.
    pub address: String,
    /// That address as a picture to be scanned (SVG).
    pub picture: String,
}

/// Shows that the authenticator is set up.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct ConfirmSecondFactor {
    /// The code that it shows.
    pub code: String,
    /// The password of the account.
    pub password: String,
}

/// Codes that open once each when the authenticator is lost.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SpareCodes {
    /// Shown once.
    pub codes: Vec<String>,
}

/// Ends the caller's own second factor.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct EndSecondFactor {
    /// The account's password.
    pub password: String,
}

/// Whether backups are let in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "state", rename_all = "snake_case")]
pub enum NewBackups {
    /// They are.
    On,
    /// Not until a time.
    Paused {
        /// From then on they are again.
        until: Timestamp,
    },
    /// They are not, until somebody lets them in again.
    Off,
}

/// What is let in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Maintenance {
    /// Backups.
    pub backups: NewBackups,
    /// Whether restores are let in. They go on while backups are not.
    pub restores: bool,
}

/// What is let in, and what is underway.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MaintenanceState {
    /// What is let in.
    #[serde(flatten)]
    pub maintenance: Maintenance,
    /// Workstations whose run is underway. A run that was let in comes to its end: pausing stops none.
    pub running: Vec<String>,
    /// Restores that are underway.
    pub restoring: u64,
    /// Stands for how it is set, for `If-Match`.
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
    /// From which address.
    pub from: String,
    /// What was done, or refused.
    pub what: String,
    /// To which thing.
    pub subject: String,
    /// How it was before.
    pub before: Option<String>,
    /// How it was after.
    pub after: Option<String>,
    /// Whether it was refused.
    pub refused: bool,
    /// The hash of this entry and of all before it; absent for entries of the first versions.
    pub link: Option<String>,
}

/// Which entries of the audit log are wished.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AuditQuery {
    /// Text that is somewhere in what was done, to what, and how it was.
    pub text: Option<String>,
    /// Part of the name of who did it.
    pub who: Option<String>,
    /// Not before this time.
    pub since: Option<Timestamp>,
    /// Before this time.
    pub until: Option<Timestamp>,
    /// Only what was refused.
    pub refused: Option<bool>,
    /// `next` of the page before.
    pub after: Option<String>,
    /// Entries a page, 1 to 500; 100 unless given.
    #[param(minimum = 1, maximum = 500)]
    pub most: Option<u16>,
}

/// In which form the audit log is exported.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ExportForm {
    /// Comma-separated values (RFC 4180), with a header.
    #[default]
    Csv,
    /// An object of JSON a line.
    JsonLines,
}

/// Asks for the form of an export.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ExportQuery {
    /// The form; CSV unless given.
    #[param(inline)]
    pub form: Option<ExportForm>,
}

/// What a check of the audit log's chain found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AuditCheck {
    /// Entries that were looked at.
    pub entries: u64,
    /// Entries of the first versions, which are not chained.
    pub unchained: u64,
    /// The first entry that is not what it was when it was made, or whose forerunner is gone.
    pub broken_at: Option<i64>,
    /// The last link. Whoever wrote it down earlier can tell whether entries were taken off the end since.
    pub last_link: Option<String>,
    /// The public half of the key that signs heads (Ed25519), in hexadecimal.
    pub key: String,
    /// What the heads on the destinations say.
    pub heads: Vec<AuditHeads>,
}

/// Signed heads of the audit log on a destination, held against the log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AuditHeads {
    /// The destination, by name.
    pub destination: String,
    /// Heads that this service signed and the log agrees with.
    pub agree: u64,
    /// The entry of the first head that the log contradicts: altered, or gone.
    pub contradicted_at: Option<i64>,
    /// Heads that another key signed: before the service started again from a copy of its records, or by somebody else.
    pub by_other_keys: u64,
    /// Lines that are no heads, or whose signature is wrong.
    pub unreadable: u64,
    /// Why the heads could not be read, if they could not.
    pub trouble: Option<String>,
}
