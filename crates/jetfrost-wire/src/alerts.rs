//! What needs somebody's attention, and the mail that tells of it.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

pub use jetfrost_types::AlertKind;

use crate::labels::labels;
use crate::version::{HasVersion, Version};

/// Something that needs attention.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Alert {
    /// What kind it is.
    pub kind: AlertKind,
    /// The destination or workstation, by name; empty for the service itself.
    pub subject: String,
    /// What is wrong, in a sentence.
    pub says: String,
    /// What to do.
    pub next: String,
}

/// All that needs attention now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Alerts {
    /// The service's clock.
    pub now: Timestamp,
    /// The worst first.
    pub alerts: Vec<Alert>,
}

/// How the way to the mail server is protected.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum MailSecurity {
    /// TLS from the first byte (RFC 8314); usually port 465.
    #[default]
    Tls,
    /// TLS after a greeting in clear (STARTTLS, RFC 3207), and nothing without it; usually port 587.
    Starttls,
    /// In clear: for a mail server on this machine.
    None,
}

labels!(MailSecurity: Tls = "tls", Starttls = "starttls", None = "none");

impl MailSecurity {
    /// The port that such a server usually has.
    #[must_use]
    pub fn usual_port(self) -> u16 {
        match self {
            Self::Tls => 465,
            Self::Starttls => 587,
            Self::None => 25,
        }
    }
}

/// Where mail goes, and from when on a summary is sent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MailSettings {
    /// The mail server's name or address.
    pub server: String,
    /// Its port.
    #[schema(minimum = 1)]
    pub port: u16,
    /// How the way there is protected.
    pub security: MailSecurity,
    /// The name to sign in with there, if it wants one.
    #[serde(default)]
    pub login: Option<String>,
    /// The address that mail comes from.
    pub sender: String,
    /// The addresses that it goes to, one to twenty.
    #[schema(min_items = 1, max_items = 20)]
    pub recipients: Vec<String>,
    /// The hour of the day, by the office's clocks, at which a summary of everything is sent; absent for none.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 23)]
    pub summary_hour: Option<u8>,
}

/// Decides where mail goes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SetMail {
    /// Where to.
    pub settings: MailSettings,
    /// The password for the mail server; absent to leave it as it is.
    #[serde(default)]
    pub password: Option<String>,
}

/// How mail stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MailState {
    /// What is decided; absent while no mail is sent.
    pub settings: Option<MailSettings>,
    /// Whether a password for the mail server is kept.
    pub has_password: bool,
    /// When the mail server last took a message.
    pub delivered: Option<Timestamp>,
    /// What it said instead, if the last message was not taken, or not for everybody.
    pub trouble: Option<String>,
    /// Since when.
    pub trouble_since: Option<Timestamp>,
    /// Stands for how it is set, for `If-Match`.
    #[serde(default)]
    #[schema(required)]
    pub version: Version,
}

impl HasVersion for MailState {
    fn version(&self) -> &Version {
        &self.version
    }
}
