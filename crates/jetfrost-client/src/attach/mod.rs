//! Attaching: a disk of a recovery point, served for reading as a network block device on this machine.

mod connection;
mod protocol;
mod sessions;

use std::fs;
use std::io;
use std::net::{Ipv4Addr, Shutdown, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use jetfrost_platform::{Listening, LocalListener, LocalSockets};
use jetfrost_wire::restore::{BeginRestore, Purpose, Scope};
use jetfrost_wire::run::{Phase, Progress};

use crate::browse::{Browser, OpenPoint};
use crate::content_reader::ContentReader;
use crate::disk::Disk;
use crate::error::ClientError;
use crate::progress::Meter;
use sessions::{Client, Sessions};

type Result<T> = std::result::Result<T, ClientError>;

/// So often is looked whether it is to end.
const LOOK_EVERY: Duration = Duration::from_millis(200);

/// Where clients connect.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Listen {
    /// A Unix socket that only this user can open; made, and removed in the end.
    Socket(PathBuf),
    /// A TCP port on this machine's loopback address: every user of this machine can read there. 0 for any free one.
    Port(u16),
}

/// Serves a disk until the meter is stopped. `ready` is given the address that clients connect to. The attachment is put on
/// record as a restore.
///
/// # Errors
/// [`ClientError::File`] when nothing can be opened to listen on; what the service said.
pub fn attach(
    browser: &Browser,
    point: &OpenPoint,
    (disk, image): (&Disk, Arc<ContentReader>),
    listen: &Listen,
    meter: &Arc<Meter>,
    ready: impl FnOnce(&str),
) -> Result<Progress> {
    let name = String::from_utf8_lossy(disk.path.rsplit(|byte| *byte == b'/').next().unwrap_or_default()).into_owned();
    let listener = Listener::open(listen)?;
    let begin =
        BeginRestore { point: point.head.sequence, scope: Scope::Selection, purpose: Purpose::Attach, target: None, order: None };
    let record = browser.source.begin_restore(&begin, meter)?;
    meter.enter(Phase::Sending);
    ready(&listener.address(&name)?);
    let result = listener.serve(&image, &name, meter);
    record.end(result.and_then(|()| meter.unless_cancelled()), meter, |()| 0)?;
    Ok(meter.progress())
}

enum Listener {
    Local(LocalListener, PathBuf),
    Tcp(TcpListener),
}

impl Listener {
    fn open(listen: &Listen) -> Result<Self> {
        match listen {
            Listen::Port(port) => {
                let open = || {
                    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, *port))?;
                    listener.set_nonblocking(true)?;
                    Ok(listener)
                };
                open().map(Self::Tcp).map_err(ClientError::file("listening on", format!("port {port}")))
            }
            Listen::Socket(path) => local(path).map_err(ClientError::file("listening on", path)),
        }
    }

    /// The address in the form that clients of the protocol take.
    fn address(&self, export: &str) -> Result<String> {
        let export: String = export.bytes().map(escaped).collect();
        match self {
            Self::Local(_, path) => Ok(format!("nbd+unix:///{export}?socket={}", path.display())),
            Self::Tcp(listener) => {
                let at = listener.local_addr().map_err(ClientError::file("listening on", "a port"))?;
                Ok(format!("nbd://{at}/{export}"))
            }
        }
    }

    /// Takes connections until the meter is stopped.
    fn serve(&self, image: &Arc<ContentReader>, export: &str, meter: &Arc<Meter>) -> Result<()> {
        let sessions = Arc::new(Sessions::default());
        let failed = || ClientError::file("listening on", "the address of the attached disk");
        while !meter.is_stopped() {
            sessions.compact(Instant::now());
            let somebody_waits = self.wait().map_err(failed())?;
            if !sessions.wait_for_room(LOOK_EVERY) {
                if somebody_waits {
                    sessions.make_room(Instant::now());
                }
                continue;
            }
            let session = Session {
                image: Arc::clone(image),
                export: export.to_owned(),
                meter: Arc::clone(meter),
                sessions: Arc::clone(&sessions),
            };
            let began = match self {
                Self::Local(listener, _) => listener.accept().and_then(|(stream, _)| {
                    stream.set_nonblocking(false)?;
                    session.begin(Arc::new(stream), |stream| drop(stream.shutdown(Shutdown::Both)));
                    Ok(())
                }),
                Self::Tcp(listener) => listener.accept().and_then(|(stream, _)| {
                    stream.set_nonblocking(false)?;
                    stream.set_nodelay(true)?;
                    session.begin(Arc::new(stream), |stream| drop(stream.shutdown(Shutdown::Both)));
                    Ok(())
                }),
            };
            match began {
                Err(e) if matches!(e.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::ConnectionAborted) => {}
                other => other.map_err(failed())?,
            }
        }
        Ok(())
    }

    /// Waits until somebody connects, or for a moment. Says whether somebody has.
    fn wait(&self) -> io::Result<bool> {
        match self {
            Self::Local(listener, _) => listener.wait(LOOK_EVERY),
            Self::Tcp(listener) => listener.wait(LOOK_EVERY),
        }
    }
}

impl Drop for Listener {
    fn drop(&mut self) {
        if let Self::Local(_, path) = self {
            // It may be gone already.
            let _ = fs::remove_file(path);
        }
    }
}

fn local(path: &Path) -> io::Result<Listener> {
    Ok(Listener::Local(LocalListener::private(path)?, path.into()))
}

/// A byte of an address, escaped where addresses do not allow it (RFC 3986, § 2.1).
fn escaped(byte: u8) -> String {
    if byte.is_ascii_alphanumeric() || b"-._~".contains(&byte) { char::from(byte).into() } else { format!("%{byte:02X}") }
}

struct Session {
    image: Arc<ContentReader>,
    export: String,
    meter: Arc<Meter>,
    sessions: Arc<Sessions>,
}

impl Session {
    /// Serves a client in a thread of its own, which ends with the connection or with the program.
    fn begin<S>(self, stream: Arc<S>, close: fn(&S))
    where
        S: Send + Sync + 'static,
        for<'s> &'s S: io::Read + io::Write,
    {
        let closed = Arc::clone(&stream);
        let client = self.sessions.begin(Instant::now(), move || close(&closed));
        std::thread::spawn(move || {
            let served = |bytes| self.meter.bytes_done(bytes);
            let stream = Stream { stream, client: Arc::clone(&client) };
            // A client that breaks off or does not keep to the protocol is its own affair.
            let _ = connection::serve(stream, &*self.image, &self.export, &|| client.is_ready(), &served);
            self.sessions.end(&client);
        });
    }
}

/// A stream that several hands may hold, and that notes when its client said something.
struct Stream<S> {
    stream: Arc<S>,
    client: Arc<Client>,
}

impl<S> Clone for Stream<S> {
    fn clone(&self) -> Self {
        Self { stream: Arc::clone(&self.stream), client: Arc::clone(&self.client) }
    }
}

impl<S> io::Read for Stream<S>
where
    for<'s> &'s S: io::Read,
{
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let n = (&*self.stream).read(buf)?;
        self.client.hear();
        Ok(n)
    }
}

impl<S> io::Write for Stream<S>
where
    for<'s> &'s S: io::Write,
{
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        (&*self.stream).write(buf)
    }

    fn flush(&mut self) -> io::Result<()> {
        (&*self.stream).flush()
    }
}
