//! Hands messages to the office's mail server (SMTP, RFC 5321).

use std::time::{Duration, SystemTime};

use jetfrost_wire::attention::MailSecurity;
use lettre::address::AddressError;
use lettre::message::header::ContentType;
use lettre::message::{Mailbox, Message};
use lettre::transport::smtp::SmtpTransportBuilder;
use lettre::transport::smtp::authentication::Credentials;
use lettre::{SmtpTransport, Transport};

/// A mail server that says nothing for so long does not answer.
const PATIENCE: Duration = Duration::from_secs(15);

/// The mail server, and how it is spoken to.
#[derive(Debug, Clone)]
pub(crate) struct MailServer {
    pub(crate) host: String,
    pub(crate) port: u16,
    pub(crate) security: MailSecurity,
    /// Name and password, if it wants them.
    pub(crate) credentials: Option<(String, String)>,
}

/// A message in plain text.
#[derive(Debug, Clone)]
pub(crate) struct Letter {
    pub(crate) from: String,
    pub(crate) to: Vec<String>,
    pub(crate) subject: String,
    pub(crate) text: String,
    pub(crate) date: SystemTime,
    /// Unique among all messages (RFC 5322 section 3.6.4), without the brackets.
    pub(crate) id: String,
}

/// Why a message was not taken.
#[derive(Debug, thiserror::Error)]
pub(crate) enum MailError {
    /// An address is none.
    #[error("'{0}' is no mail address")]
    Address(String, #[source] AddressError),
    /// The message could not be put together.
    #[error("the message: {0}")]
    Message(#[from] lettre::error::Error),
    /// The mail server refused, or did not answer.
    #[error("{}", said(.0))]
    Server(#[from] lettre::transport::smtp::Error),
}

/// What the server said, with the cause that the network gave.
fn said(error: &lettre::transport::smtp::Error) -> String {
    let cause = std::error::Error::source(error).map(|cause| format!(": {cause}")).unwrap_or_default();
    format!("{error}{}", if error.to_string().ends_with(cause.trim_start_matches(": ")) { "" } else { &cause })
}

/// Reads a mail address, such as `backups@office.example` or `Backups <backups@office.example>`.
pub(crate) fn mailbox(text: &str) -> Result<Mailbox, MailError> {
    text.parse().map_err(|error| MailError::Address(text.to_owned(), error))
}

/// Hands a message over. It waits for the server's answer, a quarter of a minute a step at most.
pub(crate) fn send(server: &MailServer, letter: &Letter) -> Result<(), MailError> {
    let mut message = Message::builder()
        .from(mailbox(&letter.from)?)
        .subject(&letter.subject)
        .date(letter.date)
        .message_id(Some(format!("<{}>", letter.id)))
        .header(ContentType::TEXT_PLAIN);
    for to in &letter.to {
        message = message.to(mailbox(to)?);
    }
    transport(server)?.send(&message.body(letter.text.clone())?)?;
    Ok(())
}

fn transport(server: &MailServer) -> Result<SmtpTransport, MailError> {
    let builder: SmtpTransportBuilder = match server.security {
        MailSecurity::Tls => SmtpTransport::relay(&server.host)?,
        MailSecurity::Starttls => SmtpTransport::starttls_relay(&server.host)?,
        MailSecurity::None => SmtpTransport::builder_dangerous(&server.host),
    };
    let builder = builder.port(server.port).timeout(Some(PATIENCE));
    Ok(match &server.credentials {
        Some((name, password)) => builder.credentials(Credentials::new(name.clone(), password.clone())),
        None => builder,
    }
    .build())
}
