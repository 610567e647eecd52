//! The service itself, and signing in to it.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::binary::Binary;
use crate::id::{ServiceId, SessionId};
use crate::people::Account;

/// What anyone may know of the service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ServiceInfo {
    /// Which installation this is.
    pub id: ServiceId,
    /// The name by which workstations reach it.
    pub public_name: String,
    /// The program's version.
    pub version: String,
    /// SHA-256 of the certificate, in hexadecimal.
    pub fingerprint: String,
    /// Whether the first administrator is still to be created.
    pub awaits_first_administrator: bool,
    /// The service's clock.
    pub now: Timestamp,
    /// The office key, if the office keeps one: workstations that agree can be opened with it.
    pub escrow: Option<Escrow>,
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
    /// What was done.
    pub what: String,
    /// To which thing.
    pub subject: String,
}
