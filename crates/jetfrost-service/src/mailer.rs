//! Hands messages to the office's mail server (SMTP, RFC 5321).

use std::net::IpAddr;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime};

use jetfrost_wire::alerts::MailSecurity;
use lettre::address::{AddressError, Envelope};
use lettre::message::header::{ContentType, HeaderName, HeaderValue, MIME_VERSION_1_0};
use lettre::message::{Mailbox, Message};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::extension::ClientId;
use lettre::{Address, AsyncSmtpTransport, AsyncTransport, Tokio1Executor};
use tokio::sync::watch;

/// A mail server that says nothing for so long does not answer.
const PATIENCE: Duration = Duration::from_secs(15);
/// A message is handed to all its recipients within this time, however much the server says meanwhile.
const MOST: Duration = Duration::from_secs(60);

/// The mail server, and how it is spoken to.
#[derive(Debug, Clone)]
pub(crate) struct MailServer {
    pub(crate) host: String,
    pub(crate) port: u16,
    pub(crate) security: MailSecurity,
    /// Name and password, if it wants them.
    pub(crate) credentials: Option<(String, String)>,
    /// The name that this service gives itself there (EHLO).
    pub(crate) own_name: String,
}

/// A message in plain text.
#[derive(Debug, Clone)]
pub(crate) struct MailMessage {
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
    /// It answered, and never came to an end.
    #[error("the mail server took longer than {} s", .0.as_secs())]
    TooSlow(Duration),
    /// The service stops.
    #[error("the service was stopped meanwhile")]
    Stopped,
    /// What sends could not be set up.
    #[error("what sends mail could not be set up: {0}")]
    Runtime(#[from] std::io::Error),
}

/// What became of a message that was taken for one recipient at least.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Taken {
    /// Whom it was not taken for, each with what the server said.
    pub(crate) refused: Vec<(String, String)>,
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

/// What hands messages over, one at a time.
pub(crate) struct Mailer {
    stopping: watch::Sender<bool>,
    stopped: (Mutex<bool>, Condvar),
    turn: Mutex<()>,
    /// How long a message may take, with all its recipients.
    most: Duration,
}

impl Default for Mailer {
    fn default() -> Self {
        Self { stopping: watch::Sender::new(false), stopped: Default::default(), turn: Mutex::default(), most: MOST }
    }
}

impl Mailer {
    /// Waits until it is this caller's turn to look at what there is to tell: what two look at at once would be sent twice.
    pub(crate) fn turn(&self) -> MutexGuard<'_, ()> {
        self.turn.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What is being handed over is broken off; nothing is from now on.
    pub(crate) fn stop(&self) {
        self.stopping.send_replace(true);
        *self.stopped.0.lock().unwrap_or_else(PoisonError::into_inner) = true;
        self.stopped.1.notify_all();
    }

    /// Waits. False when it is stopped.
    pub(crate) fn wait(&self, time: Duration) -> bool {
        let stopped = self.stopped.0.lock().unwrap_or_else(PoisonError::into_inner);
        let waited = self.stopped.1.wait_timeout_while(stopped, time, |stopped| !*stopped);
        !*waited.unwrap_or_else(PoisonError::into_inner).0
    }

    /// Hands a message over, within a minute. One recipient whom the server refuses keeps it from no other.
    ///
    /// # Errors
    /// [`MailError`] when nobody got it.
    pub(crate) fn send(&self, server: &MailServer, message: &MailMessage) -> Result<Taken, MailError> {
        let mut stopping = self.stopping.subscribe();
        // One that serves this message alone: what is dropped with it is broken off.
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        runtime.block_on(async {
            tokio::select! {
                _ = stopping.wait_for(|stopping| *stopping) => Err(MailError::Stopped),
                () = tokio::time::sleep(self.most) => Err(MailError::TooSlow(self.most)),
                sent = send_to_all(server, message) => sent,
            }
        })
    }
}

async fn send_to_all(server: &MailServer, message: &MailMessage) -> Result<Taken, MailError> {
    let from = mailbox(&message.from)?.email;
    let to = message.to.iter().map(|to| Ok(mailbox(to)?.email)).collect::<Result<Vec<Address>, MailError>>()?;
    let (transport, bytes) = (transport(server)?, mime(message)?.formatted());
    let all = transport.send_raw(&Envelope::new(Some(from.clone()), to.clone())?, &bytes).await;
    let first = match all {
        Ok(_) => return Ok(Taken::default()),
        // Who is refused ends it for all of them; the server has taken nothing then.
        Err(error) if to.len() > 1 && (error.is_permanent() || error.is_transient()) => error,
        Err(error) => return Err(error.into()),
    };
    let mut refused = Vec::new();
    for one in &to {
        match transport.send_raw(&Envelope::new(Some(from.clone()), vec![one.clone()])?, &bytes).await {
            Ok(_) => {}
            Err(error) => refused.push((one.to_string(), said(&error))),
        }
    }
    if refused.len() == to.len() { Err(first.into()) } else { Ok(Taken { refused }) }
}

fn mime(mail: &MailMessage) -> Result<Message, MailError> {
    let mut message = Message::builder()
        .from(mailbox(&mail.from)?)
        .subject(&mail.subject)
        .date(mail.date)
        .message_id(Some(format!("<{}>", mail.id)))
        .header(MIME_VERSION_1_0)
        .header(ContentType::TEXT_PLAIN);
    for to in &mail.to {
        message = message.to(mailbox(to)?);
    }
    let mut message = message.body(mail.text.clone())?;
    // Nobody's absence is to answer (RFC 3834, section 5).
    let name = HeaderName::new_from_ascii_str("Auto-Submitted");
    message.headers_mut().insert_raw(HeaderValue::new(name, "auto-generated".into()));
    Ok(message)
}

fn transport(server: &MailServer) -> Result<AsyncSmtpTransport<Tokio1Executor>, MailError> {
    type Smtp = AsyncSmtpTransport<Tokio1Executor>;
    let builder = match server.security {
        MailSecurity::Tls => Smtp::relay(&server.host)?,
        MailSecurity::Starttls => Smtp::starttls_relay(&server.host)?,
        MailSecurity::None => Smtp::builder_dangerous(&server.host),
    };
    let own_name = match server.own_name.parse() {
        Ok(IpAddr::V4(address)) => ClientId::Ipv4(address),
        Ok(IpAddr::V6(address)) => ClientId::Ipv6(address),
        Err(_) => ClientId::Domain(server.own_name.clone()),
    };
    let builder = builder.port(server.port).timeout(Some(PATIENCE)).hello_name(own_name);
    Ok(match &server.credentials {
        Some((name, password)) => builder.credentials(Credentials::new(name.clone(), password.clone())),
        None => builder,
    }
    .build())
}

#[cfg(test)]
mod tests {
    use std::io::Write;
    use std::net::TcpListener;

    use super::*;

    /// A mail server that goes on speaking and never comes to an end; it ends when the client has gone.
    fn dripping() -> (u16, std::thread::JoinHandle<()>) {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = listener.local_addr().expect("an address").port();
        let thread = std::thread::spawn(move || {
            let (mut client, _) = listener.accept().expect("it comes");
            while client.write_all(b"220-wait a little\r\n").is_ok() {
                std::thread::park_timeout(Duration::from_millis(20));
            }
        });
        (port, thread)
    }

    fn send(mailer: &Mailer, port: u16) -> Result<Taken, MailError> {
        let server = MailServer {
            host: "127.0.0.1".into(),
            port,
            security: MailSecurity::None,
            credentials: None,
            own_name: "backup.office.example".into(),
        };
        let message = MailMessage {
            from: "backups@office.example".into(),
            to: vec!["ingrid@office.example".into()],
            subject: "Hello".into(),
            text: "Hello.".into(),
            date: SystemTime::UNIX_EPOCH,
            id: "1@backup.office.example".into(),
        };
        mailer.send(&server, &message)
    }

    #[test]
    fn a_mail_server_that_drips_is_left_after_a_time() {
        let (port, dripping) = dripping();
        let mailer = Mailer { most: Duration::from_millis(300), ..Mailer::default() };
        assert!(matches!(send(&mailer, port), Err(MailError::TooSlow(_))));
        dripping.join().expect("the connection was closed");
    }

    #[test]
    fn a_mail_server_that_drips_does_not_hold_up_the_end() {
        let (port, dripping) = dripping();
        let mailer = Mailer::default();
        std::thread::scope(|scope| {
            let sending = scope.spawn(|| send(&mailer, port));
            mailer.stop();
            assert!(matches!(sending.join().expect("no panic"), Err(MailError::Stopped)));
        });
        assert!(!mailer.wait(Duration::from_secs(3600)), "it is over at once");
        drop(dripping);
    }
}
