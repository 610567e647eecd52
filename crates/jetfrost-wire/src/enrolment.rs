//! How a machine becomes a workstation.

use data_encoding::{BASE32_NOPAD, HEXLOWER};
use jetfrost_types::ImageStoreId;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::binary::Binary;
use crate::{AccountId, CodeId, DestinationId, ServiceId, WorkstationId};

/// The state of an enrolment code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CodeState {
    /// It can be used.
    Unused,
    /// It made a workstation.
    Used,
    /// It has expired.
    Expired,
    /// It was cancelled.
    Cancelled,
}

/// An enrolment code on record, without the code.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EnrolmentCode {
    /// The record.
    pub id: CodeId,
    /// Login name of the account that it is for.
    pub login: String,
    /// Name of the destination that the image store will be on.
    pub destination: String,
    /// Its state.
    pub state: CodeState,
    /// When it was made.
    pub created: Timestamp,
    /// When it expires.
    pub expires: Timestamp,
    /// The workstation that it made.
    pub workstation: Option<String>,
    /// The existing workstation that it hands to a machine, if it makes no new one.
    pub claims: Option<String>,
    /// The machine that it is for, if given: the workstation gets this name.
    pub machine: Option<String>,
    /// The limit of the image store.
    pub limit: CodeLimit,
    /// Whether the image store is to be encrypted.
    pub encrypted: bool,
}

/// The limit of the image store that an enrolment code makes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "what", rename_all = "snake_case")]
pub enum CodeLimit {
    /// The default of the account's groups or the destination.
    #[default]
    Usual,
    /// No limit.
    None,
    /// A size.
    Bytes {
        /// Bytes.
        bytes: u64,
    },
}

/// Asks for an enrolment code.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewEnrolmentCode {
    /// Login name of the account that it is for.
    pub login: String,
    /// Name of the destination; optional when there is only one.
    #[serde(default)]
    pub destination: Option<String>,
    /// Hours until it expires, 1 to 720; 48 by default.
    #[serde(default)]
    pub hours: Option<u16>,
    /// Name of a workstation that is retired or unclaimed, or whose machine is replaced: the code hands its image store to a machine
    /// instead of making a new one.
    #[serde(default)]
    pub claims: Option<String>,
    /// The machine that it is for: the workstation gets this name, whatever the machine calls itself.
    #[serde(default)]
    pub machine: Option<String>,
    /// The limit of its image store.
    #[serde(default)]
    pub limit: CodeLimit,
    /// Make an unencrypted image store. Its destination must allow that.
    #[serde(default)]
    pub without_encryption: bool,
}

impl NewEnrolmentCode {
    /// A code for an account, with defaults for everything else.
    #[must_use]
    pub fn new(login: impl Into<String>) -> Self {
        Self { login: login.into(), ..Self::default() }
    }
}

/// Asks for an enrolment code for a machine of one's own.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewOwnCode {
    /// Name of the destination; optional when there is only one that takes backups of the account.
    #[serde(default)]
    pub destination: Option<String>,
}

/// An enrolment code that was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct IssuedCode {
    /// What to type at the workstation; shown once.
    pub code: String,
    /// Its record.
    pub record: EnrolmentCode,
}

/// Asks what an enrolment code is for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LookAtCode {
    /// The secret part of the enrolment code.
    pub secret: Binary,
}

/// What an enrolment code is for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CodeIsFor {
    /// Login name of the account.
    pub login: String,
    /// The destination.
    pub destination: String,
    /// The workstation whose image store it hands over, if it does.
    pub claims: Option<String>,
    /// The name that the workstation will get, if it was given.
    pub machine: Option<String>,
    /// Whether the image store is to be encrypted.
    pub encrypted: bool,
}

/// Makes a machine an existing workstation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Claim {
    /// The secret part of the enrolment code.
    pub secret: Binary,
    /// Its operating system.
    pub platform: String,
    /// The client's version.
    pub client_version: String,
    /// Bytes of its disks, if known.
    pub disk_bytes: Option<u64>,
}

/// Turns a machine into a workstation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Enrol {
    /// The secret part of the enrolment code.
    pub secret: Binary,
    /// The machine's name, used unless the code has one.
    pub name: String,
    /// Its operating system.
    pub platform: String,
    /// The client's version.
    pub client_version: String,
    /// Bytes of its disks, if known.
    pub disk_bytes: Option<u64>,
    /// The description of the image store, `store.cbor`.
    pub store: Binary,
    /// Its key slots.
    pub slots: Vec<Binary>,
}

/// A workstation that was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Enrolled {
    /// The workstation.
    pub workstation: WorkstationId,
    /// Its name.
    pub name: String,
    /// The device credential; shown once.
    pub credential: String,
    /// The service.
    pub service: ServiceId,
    /// Whose workstation it is.
    pub account: AccountId,
    /// Login name of that account.
    pub login: String,
    /// The destination of its image store.
    pub destination: DestinationId,
    /// That destination's name.
    pub destination_name: String,
    /// Its image store, in hexadecimal.
    pub store: ImageStoreId,
}

/// What an enrolment code carries: where the service is, how to know it, and a secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Invitation {
    /// `host:port` of the service.
    pub address: String,
    /// The first half of the SHA-256 of the service's certificate.
    pub fingerprint: [u8; 16],
    /// The secret, good for one enrolment.
    pub secret: [u8; 10],
}

/// Text that is not an enrolment code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NotAnInvitation {
    /// It does not have the form of one.
    #[error("this is not an enrolment code: one begins with JF1-")]
    Shape,
    /// It looks like one, but is incomplete or mistyped.
    #[error("the enrolment code is incomplete or mistyped: copy it whole")]
    Damaged,
}

const PREFIX: &str = "JF1-";

impl Invitation {
    /// The text to type. It ends with a checksum, so that a mistyped code can be distinguished from an unknown one.
    #[must_use]
    pub fn to_text(&self) -> String {
        let mut bytes = self.fingerprint.to_vec();
        bytes.extend(self.secret);
        bytes.extend(self.address.as_bytes());
        bytes.extend(checksum(&bytes));
        let symbols = BASE32_NOPAD.encode(&bytes);
        let groups: Vec<&str> = symbols.as_bytes().chunks(6).map(|g| std::str::from_utf8(g).expect("base 32 is ASCII")).collect();
        format!("{PREFIX}{}", groups.join("-"))
    }

    /// Reads a typed code; blanks, hyphens and letter case do not matter.
    ///
    /// # Errors
    /// [`NotAnInvitation`].
    pub fn parse(text: &str) -> Result<Self, NotAnInvitation> {
        let compact: String = text.chars().filter(|c| !c.is_whitespace() && *c != '-').collect::<String>().to_uppercase();
        let symbols = compact.strip_prefix("JF1").ok_or(NotAnInvitation::Shape)?;
        let bytes = BASE32_NOPAD.decode(symbols.as_bytes()).map_err(|_| NotAnInvitation::Damaged)?;
        let (body, check) = bytes.split_last_chunk::<2>().ok_or(NotAnInvitation::Damaged)?;
        let (fingerprint, rest) = body.split_first_chunk().ok_or(NotAnInvitation::Damaged)?;
        let (secret, address) = rest.split_first_chunk().ok_or(NotAnInvitation::Damaged)?;
        if checksum(body) != *check {
            return Err(NotAnInvitation::Damaged);
        }
        let address = std::str::from_utf8(address).map_err(|_| NotAnInvitation::Damaged)?.to_owned();
        Ok(Self { address, fingerprint: *fingerprint, secret: *secret })
    }

    /// The fingerprint's first half in hexadecimal, as the service shows it.
    #[must_use]
    pub fn fingerprint_text(&self) -> String {
        HEXLOWER.encode(&self.fingerprint)
    }
}

/// CRC-16/XMODEM: enough to notice a slip of the finger.
fn checksum(bytes: &[u8]) -> [u8; 2] {
    let crc = bytes.iter().fold(0_u16, |crc, byte| {
        (0..8).fold(crc ^ u16::from(*byte) << 8, |crc, _| if crc & 0x8000 == 0 { crc << 1 } else { crc << 1 ^ 0x1021 })
    });
    crc.to_be_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn invitation() -> Invitation {
        Invitation { address: "backup.office.example:7410".into(), fingerprint: [0xab; 16], secret: [7; 10] }
    }

    #[test]
    fn a_code_reads_back_however_it_is_typed() {
        let text = invitation().to_text();
        assert!(text.starts_with("JF1-"));
        for typed in [text.clone(), text.to_lowercase(), text.replace('-', " "), text.replace('-', "")] {
            assert_eq!(Invitation::parse(&typed), Ok(invitation()));
        }
    }

    #[test]
    fn a_slip_is_told_from_something_else() {
        let text = invitation().to_text();
        let cut = &text[..text.len() - 3];
        assert_eq!(Invitation::parse(cut), Err(NotAnInvitation::Damaged));
        assert_eq!(Invitation::parse("hello"), Err(NotAnInvitation::Shape));
        for (i, c) in text.char_indices().skip(4).filter(|(_, c)| *c != '-') {
            let other = if c == 'A' { 'B' } else { 'A' };
            let typed = format!("{}{other}{}", &text[..i], &text[i + 1..]);
            assert_eq!(Invitation::parse(&typed), Err(NotAnInvitation::Damaged), "{typed}");
        }
    }
}
