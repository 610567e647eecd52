//! A stand-in for the office's mail server, for the demo and the tests: it takes messages and keeps each as a file. SMTP
//! (RFC 5321) with AUTH PLAIN (RFC 4954), as far as a client that only sends needs it.

use std::fs;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

/// A client that says nothing for so long is gone.
const PATIENCE: Duration = Duration::from_secs(30);
/// A line has so many bytes at most, a message so many lines.
const MOST_LINE: u64 = 64 << 10;
const MOST_LINES: usize = 100_000;
/// There is no mailbox of this name, at any domain.
const UNKNOWN: &str = "nobody@";

/// A mail server that only takes messages.
pub struct MailStandIn {
    address: SocketAddr,
    shared: Arc<Shared>,
    thread: Option<JoinHandle<()>>,
}

struct Shared {
    directory: PathBuf,
    /// What `AUTH PLAIN` must say, in base64; none when anybody may send.
    credentials: Option<String>,
    taken: AtomicU64,
    messages: Mutex<Vec<String>>,
    stopping: AtomicBool,
}

impl MailStandIn {
    /// Takes messages at an address, and keeps them in a directory. `credentials` is what `AUTH PLAIN` must say, in base64, if
    /// not everybody may send.
    ///
    /// # Errors
    /// When the directory cannot be made, or the address is taken.
    pub fn start(listen: SocketAddr, directory: &Path, credentials: Option<String>) -> io::Result<Self> {
        fs::create_dir_all(directory)?;
        let listener = TcpListener::bind(listen)?;
        let address = listener.local_addr()?;
        let shared = Arc::new(Shared {
            taken: AtomicU64::new(fs::read_dir(directory)?.count() as u64),
            directory: directory.into(),
            credentials,
            messages: Mutex::default(),
            stopping: AtomicBool::new(false),
        });
        let serving = Arc::clone(&shared);
        let thread = std::thread::spawn(move || {
            for client in listener.incoming() {
                if serving.stopping.load(Ordering::SeqCst) {
                    return;
                }
                let Ok(client) = client else { continue };
                let shared = Arc::clone(&serving);
                // A client that breaks off has sent nothing.
                std::thread::spawn(move || drop(converse(&client, &shared)));
            }
        });
        Ok(Self { address, shared, thread: Some(thread) })
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The messages that it took, as they came.
    #[must_use]
    pub fn messages(&self) -> Vec<String> {
        self.shared.messages.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Drop for MailStandIn {
    fn drop(&mut self) {
        self.shared.stopping.store(true, Ordering::SeqCst);
        // Wakes the thread, which then sees that it is over.
        let _ = TcpStream::connect(self.address);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn converse(client: &TcpStream, shared: &Shared) -> io::Result<()> {
    client.set_read_timeout(Some(PATIENCE))?;
    let mut from = BufReader::new(client);
    let mut to = client;
    let mut say = |text: &str| to.write_all(format!("{text}\r\n").as_bytes());
    say("220 stand-in for a mail server")?;
    let mut known = shared.credentials.is_none();
    let mut name = String::new();
    while let Some(line) = line(&mut from)? {
        let mut words = line.split_whitespace();
        let verb = words.next().unwrap_or_default().to_uppercase();
        match verb.as_str() {
            "EHLO" => {
                words.next().unwrap_or_default().clone_into(&mut name);
                say("250-stand-in\r\n250-AUTH PLAIN\r\n250 8BITMIME")?;
            }
            "AUTH" => {
                known = known || words.nth(1) == shared.credentials.as_deref();
                say(if known { "235 you are known" } else { "535 5.7.8 the name or the password is wrong" })?;
            }
            "MAIL" if !known => say("530 5.7.0 sign in first")?,
            "RCPT" if line.to_lowercase().contains(UNKNOWN) => say("550 5.1.1 there is no such mailbox here")?,
            "HELO" | "MAIL" | "RCPT" | "RSET" | "NOOP" => say("250 OK")?,
            "DATA" => {
                say("354 end with a dot on a line of its own")?;
                // As every mail server says where a message came from (RFC 5321 section 4.4).
                let message = format!("Received: from {name} by stand-in\n{}", message(&mut from)?);
                keep(shared, message)?;
                say("250 2.0.0 taken")?;
            }
            "QUIT" => return say("221 good-bye"),
            _ => say("502 5.5.1 not understood")?,
        }
    }
    Ok(())
}

/// A line without its end; none when the client has gone.
fn line(from: &mut impl BufRead) -> io::Result<Option<String>> {
    let mut bytes = Vec::new();
    let n = from.take(MOST_LINE).read_until(b'\n', &mut bytes)?;
    Ok((n > 0).then(|| String::from_utf8_lossy(&bytes).trim_end_matches(['\r', '\n']).to_owned()))
}

/// A message up to the dot, with the dots undone that were put before others (RFC 5321 section 4.5.2).
fn message(from: &mut impl BufRead) -> io::Result<String> {
    let mut message = String::new();
    for _ in 0..MOST_LINES {
        match line(from)?.as_deref() {
            None => return Err(io::ErrorKind::UnexpectedEof.into()),
            Some(".") => return Ok(message),
            Some(line) => {
                message.push_str(line.strip_prefix('.').unwrap_or(line));
                message.push('\n');
            }
        }
    }
    Err(io::ErrorKind::InvalidData.into())
}

fn keep(shared: &Shared, message: String) -> io::Result<()> {
    let number = shared.taken.fetch_add(1, Ordering::SeqCst) + 1;
    fs::write(shared.directory.join(format!("{number:04}.eml")), &message)?;
    shared.messages.lock().unwrap_or_else(PoisonError::into_inner).push(message);
    Ok(())
}
