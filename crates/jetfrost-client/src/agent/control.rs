//! How commands on this machine talk to the agent: a line of JSON each way, over a socket that only the agent's own user can open.

use std::io::{self, BufRead, BufReader, ErrorKind, Read, Write};
use std::path::PathBuf;
use std::time::{Duration, Instant};

use jetfrost_platform::{Listening, LocalListener, LocalSockets, LocalStream};
use jiff::Timestamp;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use super::AgentStatus;
use crate::error::ClientError;
use crate::state_dir::StateDir;

/// A line has so many bytes at most.
const MOST_LINE: u64 = 64 * 1024;
/// Whoever connects has this long to say something, and to read the answer.
const FOR_A_QUESTION: Duration = Duration::from_secs(1);
/// A command waits this long for its answer: others may be before it.
const FOR_AN_ANSWER: Duration = Duration::from_secs(15);
/// How soon the agent's end is noticed.
const LOOK: Duration = Duration::from_millis(500);

/// What a command asks of the agent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "ask", rename_all = "snake_case")]
pub enum Ask {
    /// How it is.
    Status,
    /// To start a run now, whatever is in the way.
    StartNow,
    /// To start none before a time.
    Pause {
        /// That time.
        until: Timestamp,
    },
    /// To end a pause.
    Resume,
    /// To look at the orders: somebody at this workstation said something to one.
    SeeToOrders,
}

/// What the agent answers.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum Answer {
    Status(Box<AgentStatus>),
    Refused(String),
}

fn path(state_dir: &StateDir) -> PathBuf {
    state_dir.directory().join("agent.socket")
}

/// Asks the agent of this machine.
///
/// # Errors
/// [`ClientError::NoAgent`] when none runs; [`ClientError::Agent`] when it refuses.
pub fn ask(state_dir: &StateDir, what: &Ask) -> Result<AgentStatus, ClientError> {
    let path = path(state_dir);
    let failed = ClientError::file("asking the agent at", &path);
    let stream = match LocalStream::connect(&path) {
        Err(e) if matches!(e.kind(), ErrorKind::NotFound | ErrorKind::ConnectionRefused) => return Err(ClientError::NoAgent),
        other => other,
    };
    let answer = stream.and_then(|mut stream| {
        write_line(&mut stream, what)?;
        read_line(&mut stream, FOR_AN_ANSWER)
    });
    match answer.map_err(failed)? {
        Answer::Status(status) => Ok(*status),
        Answer::Refused(why) => Err(ClientError::Agent(why)),
    }
}

/// The agent's end of the socket.
pub(super) struct Control {
    listener: LocalListener,
    path: PathBuf,
}

impl Control {
    /// Begins to listen. The caller holds the agent's lock: a socket that is there was left by one that was killed.
    pub(super) fn open(state_dir: &StateDir) -> Result<Self, ClientError> {
        let path = path(state_dir);
        let failed = |e| ClientError::file("listening at", &path)(e);
        match std::fs::remove_file(&path) {
            Err(e) if e.kind() != ErrorKind::NotFound => return Err(failed(e)),
            _ => {}
        }
        let listener = LocalListener::private(&path).map_err(failed)?;
        Ok(Self { listener, path })
    }

    /// Answers whoever asks, one after another, until `ended`. Whoever says nothing holds the next one up for a moment, no longer.
    pub(super) fn serve(&self, ended: impl Fn() -> bool, answer: impl Fn(&Ask) -> Answer) {
        while !ended() {
            if !self.listener.wait(LOOK).unwrap_or(false) {
                continue;
            }
            let Ok((mut stream, _)) = self.listener.accept() else { continue };
            // A command that went away has no use for an answer.
            let _ = read_line(&mut stream, FOR_A_QUESTION).and_then(|what| write_line(&mut stream, &answer(&what)));
        }
    }
}

impl Drop for Control {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.path);
    }
}

fn read_line<T: DeserializeOwned>(stream: &mut LocalStream, patience: Duration) -> io::Result<T> {
    stream.set_nonblocking(false)?;
    let mut line = Vec::new();
    let until = Instant::now() + patience;
    BufReader::new(Within { stream, until }.take(MOST_LINE)).read_until(b'\n', &mut line)?;
    serde_json::from_slice(&line).map_err(|e| io::Error::new(ErrorKind::InvalidData, e))
}

/// Reads until a moment: also from somebody who sends a byte now and then.
struct Within<'s> {
    stream: &'s mut LocalStream,
    until: Instant,
}

impl Read for Within<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let left = self.until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(ErrorKind::TimedOut.into());
        }
        self.stream.set_read_timeout(Some(left))?;
        self.stream.read(into)
    }
}

fn write_line(stream: &mut LocalStream, value: &impl Serialize) -> io::Result<()> {
    stream.set_write_timeout(Some(FOR_A_QUESTION))?;
    let mut line = serde_json::to_vec(value).map_err(|e| io::Error::new(ErrorKind::InvalidData, e))?;
    line.push(b'\n');
    stream.write_all(&line)
}
