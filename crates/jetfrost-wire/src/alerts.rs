//! Alerts, and the mail that reports them.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

pub use jetfrost_types::AlertKind;

use crate::WorkstationId;
use crate::labels::labels;
use crate::version::{HasVersion, Version};

/// Something that needs attention.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Alert {
    /// Its kind.
    pub kind: AlertKind,
    /// The destination or workstation, by name; empty for the service itself.
    pub subject: String,
    /// The workstation that it is about, if it is about one.
    #[serde(default)]
    pub workstation: Option<WorkstationId>,
    /// What is wrong, in a sentence.
    pub says: String,
    /// What to do.
    pub next: String,
    /// A command that shows more, or does it.
    #[serde(default)]
    pub command: Option<String>,
    /// Whether that command is for the workstation, and not for the administrator's machine.
    #[serde(default)]
    #[schema(required)]
    pub at_workstation: bool,
}

impl Alert {
    /// The command, with the machine that it is for where that is the workstation.
    #[must_use]
    pub fn command_with_place(&self) -> Option<String> {
        let place = if self.at_workstation { format!("On {}: ", self.subject) } else { String::new() };
        self.command.as_ref().map(|command| format!("{place}{command}"))
    }

    /// What to do, with the command, in a line.
    #[must_use]
    pub fn next_in_full(&self) -> String {
        let command = self.command_with_place().map(|command| format!(" {command}"));
        format!("{}{}", self.next, command.unwrap_or_default())
    }
}

/// All current alerts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Alerts {
    /// The time by the service's clock.
    pub now: Timestamp,
    /// The most severe first.
    pub alerts: Vec<Alert>,
}

/// How the connection to the mail server is protected.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum MailSecurity {
    /// TLS from the first byte (RFC 8314); usually port 465.
    #[default]
    Tls,
    /// TLS after a plain-text greeting (STARTTLS, RFC 3207), required; usually port 587.
    Starttls,
    /// No encryption: for a mail server on this machine.
    None,
}

labels!(MailSecurity: Tls = "tls", Starttls = "starttls", None = "none");

impl MailSecurity {
    /// The usual port for this.
    #[must_use]
    pub fn usual_port(self) -> u16 {
        match self {
            Self::Tls => 465,
            Self::Starttls => 587,
            Self::None => 25,
        }
    }
}

/// Where mail goes, and when the summary is sent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MailSettings {
    /// The mail server's name or address.
    pub server: String,
    /// Its port.
    #[schema(minimum = 1)]
    pub port: u16,
    /// How the connection is protected.
    pub security: MailSecurity,
    /// The login name at the mail server, if it requires one.
    #[serde(default)]
    pub login: Option<String>,
    /// The sender's address.
    pub sender: String,
    /// The recipients' addresses, 1 to 20.
    #[schema(min_items = 1, max_items = 20)]
    pub recipients: Vec<String>,
    /// The hour of the day, in the office's time zone, at which a summary is sent; absent for none.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 23)]
    pub summary_hour: Option<u8>,
}

/// Sets where mail goes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SetMail {
    /// The settings.
    pub settings: MailSettings,
    /// The password for the mail server; absent to keep the current one.
    #[serde(default)]
    pub password: Option<String>,
}

/// The state of mail.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MailState {
    /// The settings; absent while no mail is sent.
    pub settings: Option<MailSettings>,
    /// Whether a password for the mail server is stored.
    pub has_password: bool,
    /// When the mail server last accepted a message.
    pub delivered: Option<Timestamp>,
    /// The mail server's answer, if it refused the last message for some or all recipients.
    pub trouble: Option<String>,
    /// Since when.
    pub trouble_since: Option<Timestamp>,
    /// Version of the settings, for `If-Match`.
    #[serde(default)]
    #[schema(required)]
    pub version: Version,
}

impl HasVersion for MailState {
    fn version(&self) -> &Version {
        &self.version
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_reads_it_in_a_terminal_sees_the_command_and_where_it_is_for() {
        let alert = |command: Option<&str>, at_workstation| Alert {
            kind: AlertKind::ProofDue,
            subject: "knot".into(),
            workstation: None,
            says: String::new(),
            next: "Do it.".into(),
            command: command.map(Into::into),
            at_workstation,
        };
        assert_eq!(alert(None, false).next_in_full(), "Do it.");
        assert_eq!(alert(Some("jetfrost scrub show knot"), false).next_in_full(), "Do it. jetfrost scrub show knot");
        assert_eq!(alert(Some("jetfrost unlock"), true).next_in_full(), "Do it. On knot: jetfrost unlock");
    }
}
