//! Mounting: all points of files, served for reading to file managers of this machine by WebDAV (RFC 4918) on the loopback address.
//!
//! The address has a secret in it, and whose program is at the other end of a connection is looked at as well: the address of what is
//! mounted can be read by everybody on the machine.

mod file_system;
mod past;

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, HashSet};
use std::convert::Infallible;
use std::net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use data_encoding::BASE32_NOPAD;
use dav_server::body::Body;
use dav_server::{DavHandler, DavMethodSet};
use http::{HeaderValue, Request, Response, StatusCode, header};
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use jetfrost_image::crypto::random_array;
use jetfrost_platform::{Accounts, Peers, System};
use jetfrost_wire::restore::{BeginRestore, Purpose, Scope};
use jetfrost_wire::run::Phase;
use tokio::sync::Semaphore;

use crate::browse::Browser;
use crate::content_reader::ContentReader;
use crate::error::ClientError;
use crate::progress::Meter;
use crate::store_source::RestoreOnRecord;
use crate::system_random;
use file_system::PastFileSystem;
use past::Past;

type Result<T> = std::result::Result<T, ClientError>;

/// Connections at once; a file manager has a few.
const CONNECTIONS: usize = 64;
/// A connection on which nothing is asked for so long is ended.
const SILENCE: Duration = Duration::from_mins(2);
/// So often is looked whether it is to end.
const LOOK_EVERY: Duration = Duration::from_millis(200);
/// Bytes that are read and sent at once.
const PIECE: usize = 1 << 20;

/// Is told the path of something.
pub type OnDamage = Box<dyn Fn(&[u8]) + Send + Sync>;

/// How points are mounted.
pub struct Mounting {
    /// The port of the loopback address; 0 for any free one.
    pub port: u16,
    /// The account whose programs may read, beside this one.
    pub also: Option<u32>,
    /// Called with the path of what turned out to be damaged, once for each.
    pub on_damage: OnDamage,
}

/// Where it is mounted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Address {
    /// `127.0.0.1:port`.
    pub at: SocketAddr,
    /// The path, which nobody can guess.
    pub path: String,
    /// Points of files.
    pub points: usize,
}

/// What came of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Unmounted {
    /// Bytes of files that were read.
    pub bytes: u64,
    /// Files and folders that were damaged.
    pub damaged: u64,
}

/// What is mounted.
struct Mounted {
    past: Past,
    browser: Browser,
    /// Each point of which something was to be read.
    reading: Mutex<BTreeMap<u64, Reading>>,
    damaged: Mutex<HashSet<Vec<u8>>>,
    on_damage: OnDamage,
}

/// A point of which something is read.
struct Reading {
    record: RestoreOnRecord,
    meter: Arc<Meter>,
    files: HashSet<Arc<[u8]>>,
    damaged: HashSet<Arc<[u8]>>,
}

/// Serves all points until the meter is stopped. `ready` is given the address. Of each point that something is read of, that is put on
/// record as a restore.
///
/// # Errors
/// [`ClientError::File`] when the port cannot be had; what the service said.
pub fn mount(browser: &Browser, how: Mounting, meter: &Meter, ready: impl FnOnce(&Address)) -> Result<Unmounted> {
    let Mounting { port, also, on_damage } = how;
    let failed = || ClientError::file("listening on", format!("port {port}"));
    let mounted = Arc::new(Mounted {
        past: Past::new(browser.clone()),
        browser: browser.clone(),
        reading: Mutex::default(),
        damaged: Mutex::default(),
        on_damage,
    });
    let points = mounted.past.number()?;
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, port)).map_err(failed())?;
    listener.set_nonblocking(true).map_err(failed())?;
    let secret = BASE32_NOPAD.encode(&random_array::<16>(&system_random())).to_lowercase();
    let at = listener.local_addr().map_err(failed())?;
    // File managers show the last part as the name of what is mounted.
    let root = format!("/{secret}/{}", browser.source.workstation().map_or_else(|| "points".into(), plain));
    let handler = DavHandler::builder()
        .filesystem(Box::new(PastFileSystem(Arc::clone(&mounted))))
        .methods(DavMethodSet::WEBDAV_RO)
        .strip_prefix(root.clone())
        .autoindex(true)
        .read_buf_size(PIECE)
        .build_handler();
    let serving = Serving { handler, root: format!("{root}/"), at, own: System::own_ids().0, also };
    let runtime = tokio::runtime::Runtime::new().map_err(failed())?;
    ready(&Address { at, path: serving.root.clone(), points });
    let is_over = || meter.is_stopped() || mounted.is_cancelled();
    let served = runtime.block_on(serving.serve(listener, is_over));
    runtime.shutdown_background();
    served.map_err(failed())?;
    mounted.end()
}

impl Mounted {
    /// Bytes of a file of a point, some or all of those that are asked for; none at its end.
    fn read(&self, point: u64, path: &Arc<[u8]>, file: &ContentReader, at: u64, most: usize) -> Result<Vec<u8>> {
        self.reading(point, |_| ())?;
        let read = file.read(at, most.min(PIECE));
        self.reading(point, |reading| match &read {
            Ok(bytes) => {
                reading.meter.bytes_done(bytes.len() as u64);
                if reading.files.insert(Arc::clone(path)) {
                    reading.meter.file_done();
                }
            }
            Err(error) if error.is_loss() => drop(reading.damaged.insert(Arc::clone(path))),
            Err(_) => {}
        })?;
        read
    }

    /// Notes something of the reading of a point, which is on record from its first moment.
    fn reading(&self, point: u64, note: impl FnOnce(&mut Reading)) -> Result<()> {
        let mut reading = lock(&self.reading);
        note(match reading.entry(point) {
            Entry::Occupied(begun) => begun.into_mut(),
            Entry::Vacant(none) => none.insert(self.begin(point)?),
        });
        Ok(())
    }

    fn begin(&self, point: u64) -> Result<Reading> {
        let meter = Arc::new(Meter::default());
        let begin = BeginRestore { point, scope: Scope::Selection, purpose: Purpose::Mount, target: None, order: None };
        let record = self.browser.source.begin_restore(&begin, &meter)?;
        meter.enter(Phase::Sending);
        Ok(Reading { record, meter, files: HashSet::new(), damaged: HashSet::new() })
    }

    /// Does something with what is at a path, and tells if that is damaged.
    fn noting<T>(&self, path: &[u8], work: impl FnOnce(&Past) -> Result<T>) -> Result<T> {
        let done = work(&self.past);
        if done.as_ref().is_err_and(ClientError::is_loss) && lock(&self.damaged).insert(path.to_vec()) {
            (self.on_damage)(path);
        }
        done
    }

    /// Whether somebody cancelled the reading of a point: then nothing is served any more.
    fn is_cancelled(&self) -> bool {
        lock(&self.reading).values().any(|reading| reading.meter.is_stopped())
    }

    /// Puts on record that all reading has ended; what was cancelled is told after that.
    fn end(&self) -> Result<Unmounted> {
        let mut bytes = 0;
        let mut cancelled = Ok(());
        for Reading { record, meter, damaged, .. } in std::mem::take(&mut *lock(&self.reading)).into_values() {
            bytes += meter.progress().bytes_done;
            match record.end(meter.unless_cancelled(), &meter, |()| damaged.len() as u64) {
                Err(error @ ClientError::Cancelled(_)) => cancelled = Err(error),
                ended => drop(ended?),
            }
        }
        cancelled?;
        Ok(Unmounted { bytes, damaged: lock(&self.damaged).len() as u64 })
    }
}

/// What connections are served with.
#[derive(Clone)]
struct Serving {
    handler: DavHandler,
    /// What every path begins with: the secret and a name.
    root: String,
    at: SocketAddr,
    /// Accounts whose programs are answered, beside root's.
    own: u32,
    also: Option<u32>,
}

impl Serving {
    async fn serve(self, listener: TcpListener, is_over: impl Fn() -> bool) -> std::io::Result<()> {
        let listener = tokio::net::TcpListener::from_std(listener)?;
        let room = Arc::new(Semaphore::new(CONNECTIONS));
        while !is_over() {
            let Ok(accepted) = tokio::time::timeout(LOOK_EVERY, listener.accept()).await else { continue };
            let Ok((stream, _)) = accepted else {
                // As many files are open as may be, or whoever connected has gone.
                tokio::time::sleep(LOOK_EVERY).await;
                continue;
            };
            let Ok(place) = Arc::clone(&room).try_acquire_owned() else { continue };
            let serving = self.clone();
            tokio::spawn(async move {
                // A client that breaks off or does not keep to the protocol is its own affair.
                let _ = serving.connection(stream).await;
                drop(place);
            });
        }
        Ok(())
    }

    async fn connection(
        self,
        stream: tokio::net::TcpStream,
    ) -> std::result::Result<(), Box<dyn std::error::Error + Send + Sync>> {
        let stream = stream.into_std()?;
        let (allowed, stream) = tokio::task::spawn_blocking({
            let serving = self.clone();
            move || (serving.admits(&stream), stream)
        })
        .await?;
        if !allowed {
            return Ok(());
        }
        let io = TokioIo::new(tokio::net::TcpStream::from_std(stream)?);
        let service = service_fn(move |request| {
            let serving = self.clone();
            async move { Ok::<_, Infallible>(serving.answer(request).await) }
        });
        http1::Builder::new().timer(TokioTimer::new()).header_read_timeout(SILENCE).serve_connection(io, service).await?;
        Ok(())
    }

    /// Whether the other end is a program of an account that may read.
    fn admits(&self, stream: &TcpStream) -> bool {
        let account = System::account_behind(stream).ok().flatten();
        account.is_some_and(|account| account == 0 || account == self.own || Some(account) == self.also)
    }

    async fn answer(&self, request: Request<Incoming>) -> Response<Body> {
        let mut answer = if self.is_addressed(&request) {
            self.handler.handle(request).await
        } else {
            let mut unknown = Response::new(Body::empty());
            *unknown.status_mut() = StatusCode::NOT_FOUND;
            unknown
        };
        // What the library says of locks is not so here.
        if let Some(classes) = answer.headers_mut().get_mut("dav") {
            *classes = HeaderValue::from_static("1");
        }
        // What is in the files is not to run in a browser that shows one, nor is the address to be told to others.
        for (name, value) in [
            (header::CONTENT_SECURITY_POLICY, "sandbox; default-src 'none'; img-src 'self'; style-src 'unsafe-inline'"),
            (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
            (header::REFERRER_POLICY, "no-referrer"),
        ] {
            answer.headers_mut().insert(name, HeaderValue::from_static(value));
        }
        answer
    }

    /// Whether the request has the secret, and is for this address: a page of elsewhere can give this one another name.
    fn is_addressed(&self, request: &Request<Incoming>) -> bool {
        let host = request.headers().get(header::HOST).and_then(|host| host.to_str().ok());
        let names = [self.at.to_string(), format!("localhost:{}", self.at.port())];
        // Some ask for the root without the slash behind it.
        let path = format!("{}/", request.uri().path());
        let begin = path.get(..self.root.len()).unwrap_or_default();
        // Hashes are compared in a time that tells nothing.
        host.is_some_and(|host| names.iter().any(|name| name == host))
            && blake3::hash(begin.as_bytes()) == blake3::hash(self.root.as_bytes())
    }
}

/// A name in letters that need no escape in an address.
fn plain(name: &str) -> String {
    name.chars().map(|c| if c.is_ascii_alphanumeric() || "-_".contains(c) { c } else { '-' }).collect()
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
