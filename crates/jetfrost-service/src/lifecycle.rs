//! Starting and stopping the service.

use std::convert::Infallible;
use std::fs::{File, TryLockError};
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use std::time::Duration;

use actix_web::dev::ServerHandle;
use actix_web::middleware::from_fn;
use actix_web::{App as ActixApp, HttpServer, middleware};
use jetfrost_image::crypto::Random;
use jetfrost_image::medium::FileLock;
use nix::sys::resource::{Resource, getrlimit, setrlimit};
use rustls::ServerConfig;
use tokio::sync::watch;

use crate::audit_heads::HeadSigner;
use crate::certificate::{CertificateError, Certificates};
use crate::clock::Clock;
use crate::config::Config;
use crate::downloads::Downloads;
use crate::http::{App, configure, headers, log, speak};
use crate::identity::{installation, new_first_code};
use crate::records::{Records, RecordsError};
use crate::services::Services;
use crate::shared::{Basis, Installation, ServiceError};
use crate::state_directory;
use crate::state_directory::{DOWNLOADS, RECORDS};

/// Requests in flight may take so long to finish when the service stops.
const PATIENCE_SECONDS: u64 = 20;
/// After the last of them, the records are closed within this.
const CLOSING: Duration = Duration::from_secs(10);
/// Threads that take requests.
const WORKERS: usize = 2;
/// Files that the service wants to be able to have open, and those of them that are not for connections: records, segments of
/// image stores, what jobs read.
const FILES: u64 = 65_536;
const OWN_FILES: u64 = 256;
/// A connection takes its socket, and a file that it writes and one that it reads.
const FILES_OF_A_CONNECTION: u64 = 3;
const MOST_CONNECTIONS: u64 = 4096;
/// Silent runs and work that is due are looked for this often.
const TEND_EVERY: Duration = Duration::from_secs(60);
/// Destinations and network interfaces are looked for this often.
const WATCH_EVERY: Duration = Duration::from_secs(2);

/// Why the service did not start.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// The state directory cannot be used.
    #[error("the state directory {path} cannot be used: {source}")]
    State {
        /// Which.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// Another service uses it.
    #[error("another jetfrostd is running with the state directory {0}")]
    InUse(PathBuf),
    /// The address cannot be listened on.
    #[error("cannot listen on {address}: {source}")]
    Listen {
        /// Which.
        address: SocketAddr,
        /// What the system said.
        source: io::Error,
    },
    /// No usable certificate.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// The records cannot be used.
    #[error("{0}")]
    Records(String),
    /// The server could not be run.
    #[error("running the server: {0}")]
    Server(#[from] io::Error),
}

impl From<ServiceError> for StartError {
    fn from(error: ServiceError) -> Self {
        Self::Records(error.to_string())
    }
}

impl From<RecordsError> for StartError {
    fn from(error: RecordsError) -> Self {
        Self::Records(error.to_string())
    }
}

/// A service that runs in threads of its own.
pub struct Running {
    address: SocketAddr,
    certificates: Arc<Certificates>,
    first_code: Option<String>,
    handle: ServerHandle,
    stopping: watch::Sender<bool>,
    services: Arc<Services>,
    workers: Vec<JoinHandle<()>>,
    server: Option<JoinHandle<io::Result<()>>>,
    ended: mpsc::Receiver<()>,
    records_closed: mpsc::Receiver<Infallible>,
    /// Last: whoever starts next finds everything else closed.
    _lock: FileLock,
}

impl Running {
    /// Starts a service. When this returns, it answers.
    ///
    /// # Errors
    /// [`StartError`] says what is in the way.
    pub fn start(config: &Config, clock: Arc<dyn Clock>, random: Arc<dyn Random>) -> Result<Self, StartError> {
        // The process may have chosen a provider already; any does.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let state = &config.state_directory;
        let lock = prepare_state(state)?;
        let certificates = Certificates::open(state, &config.public_name, config.certificate.clone(), clock.now_ms())?;
        let certificates = Arc::new(certificates);
        let (records, records_closed) = Records::open(&state.join(RECORDS))?.watched();
        let service = installation(&records, &*random, clock.now())?;
        let listener =
            TcpListener::bind(config.listen).map_err(|source| StartError::Listen { address: config.listen, source })?;
        let address = listener.local_addr()?;
        let installation = Installation {
            service,
            public_name: config.public_name.clone(),
            listen: address.ip(),
            port: address.port(),
            certificates: Arc::clone(&certificates),
            downloads: Arc::new(Downloads::of(state.join(DOWNLOADS))),
        };
        let (heads, is_new) = HeadSigner::load_or_make(state, &installation.service, &*random)
            .map_err(|source| StartError::State { path: state.clone(), source })?;
        let basis = Basis::new(records, clock, random, installation, config.time_zone.clone());
        let services = Arc::new(Services::new(&basis, state.clone(), heads));
        if is_new {
            services.storage.note_new_audit_key()?;
        }
        let first_code =
            if services.identity.has_administrator()? { None } else { Some(new_first_code(&basis.records, &*basis.random)?) };
        services.backups.note_lost()?;
        services.storage.reconcile()?;
        services.operations.show_as_decided()?;
        services.operations.keep_announced()?;
        let (stopping, watching) = watch::channel(false);
        let workers = vec![
            work("jobs", &services, |services| services.retention.work_on_jobs())?,
            work("mail", &services, |services| services.operations.work_on_mail())?,
        ];
        let app = App::new(Arc::clone(&services), watching);
        let (handle, server, ended) = serve(listener, certificates.config(), app)?;
        let server = Some(server);
        Ok(Self {
            address,
            certificates,
            first_code,
            handle,
            stopping,
            services,
            workers,
            server,
            ended,
            records_closed,
            _lock: lock,
        })
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// SHA-256 of its identity's certificate, by which workstations know it, in hexadecimal.
    #[must_use]
    pub fn fingerprint(&self) -> String {
        self.certificates.fingerprint_text()
    }

    /// SHA-256 of the certificate that browsers see, in hexadecimal.
    #[must_use]
    pub fn browser_fingerprint(&self) -> String {
        self.certificates.browser_fingerprint_text()
    }

    /// The one-time code for the first administrator, while there is none.
    #[must_use]
    pub fn first_code(&self) -> Option<&str> {
        self.first_code.as_deref()
    }

    /// Waits until the server ends by itself, for as long as `patience` at most. True when it has ended.
    #[must_use]
    pub fn has_ended_within(&self, patience: Duration) -> bool {
        !matches!(self.ended.recv_timeout(patience), Err(mpsc::RecvTimeoutError::Timeout))
    }

    /// Notices at once what is noticed without a call: destinations, certificates, network interfaces.
    ///
    /// # Errors
    /// When the records fail.
    pub fn look_around(&self) -> Result<(), StartError> {
        Ok(self.services.operations.watch_surroundings()?)
    }

    /// Asks for all that is noticed without a call, and for all work that is due by now: thinning by the rules, what has waited its time, and mail.
    ///
    /// # Errors
    /// When the records fail.
    pub fn tend(&self) -> Result<(), StartError> {
        self.services.operations.watch_surroundings()?;
        self.services.operations.tend()?;
        Ok(self.services.operations.tend_mail()?)
    }

    /// Stops: event streams end, requests in flight may finish, then connections and the records are closed.
    ///
    /// # Errors
    /// When the server had failed.
    pub fn stop(mut self) -> io::Result<()> {
        let ended = self.end();
        let (_, never) = mpsc::channel();
        let records_closed = std::mem::replace(&mut self.records_closed, never);
        drop(self);
        // The threads that took requests end by themselves.
        if records_closed.recv_timeout(CLOSING) == Err(mpsc::RecvTimeoutError::Timeout) {
            tracing::warn!("the records are still in use");
        }
        ended
    }

    fn end(&mut self) -> io::Result<()> {
        let Some(server) = self.server.take() else { return Ok(()) };
        let _ = self.stopping.send(true);
        // Stop announcing first, so that no client connects during shutdown.
        self.services.operations.fall_silent();
        self.services.retention.stop_jobs();
        self.services.operations.stop_mail();
        let stopped = self.handle.stop(true);
        std::thread::spawn(move || actix_web::rt::System::new().block_on(stopped));
        for worker in self.workers.drain(..) {
            let name = worker.thread().name().unwrap_or_default().to_owned();
            if worker.join().is_err() {
                tracing::error!(name, "a thread of the service panicked");
            }
        }
        server.join().unwrap_or_else(|_| Err(io::Error::other("the server's thread panicked")))
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.end();
    }
}

/// Makes a new one-time code for the first administrator; may be called while the service runs.
///
/// # Errors
/// [`StartError`] when there is an administrator already, or no records.
pub fn first_code(state: &Path, random: &dyn Random) -> Result<String, StartError> {
    let records = Records::open(&state.join(RECORDS))?;
    Ok(new_first_code(&records, random)?)
}

/// Makes the state directory and locks it, so that no two services use the same records and image stores.
fn prepare_state(state: &Path) -> Result<FileLock, StartError> {
    let failed = |source| StartError::State { path: state.into(), source };
    state_directory::make(state).map_err(failed)?;
    let lock = File::create(state.join("lock")).map_err(failed)?;
    FileLock::try_new(lock).map_err(|error| match error {
        TryLockError::WouldBlock => StartError::InUse(state.into()),
        TryLockError::Error(source) => failed(source),
    })
}

fn work(name: &str, services: &Arc<Services>, work: fn(&Services)) -> io::Result<JoinHandle<()>> {
    let services = Arc::clone(services);
    std::thread::Builder::new().name(name.into()).spawn(move || work(&services))
}

type Served = (ServerHandle, JoinHandle<io::Result<()>>, mpsc::Receiver<()>);

fn serve(listener: TcpListener, tls: ServerConfig, app: App) -> Result<Served, StartError> {
    let (tell, told) = mpsc::channel();
    let (end, ended) = mpsc::channel();
    let thread = std::thread::Builder::new().name("server".into()).spawn(move || {
        let result = actix_web::rt::System::new().block_on(async move {
            let (minder, services) = (app.stopping.clone(), Arc::clone(&app.services));
            actix_web::rt::spawn(watch_surroundings(Arc::clone(&services), minder.clone()));
            actix_web::rt::spawn(tend_now_and_then(services, minder));
            let server = HttpServer::new(move || {
                let app = app.clone();
                ActixApp::new()
                    .wrap(from_fn(speak))
                    .wrap(middleware::Compress::default())
                    .wrap(headers())
                    .wrap(from_fn(log))
                    .configure(|c| configure(c, app))
            })
            .workers(WORKERS)
            .max_connections(most_connections() / WORKERS)
            .disable_signals()
            // Short streamed answers would otherwise wait for delayed acknowledgements, 40 ms each.
            .tcp_nodelay(true)
            .shutdown_timeout(PATIENCE_SECONDS)
            .client_request_timeout(Duration::from_secs(30))
            .listen_rustls_0_23(listener, tls)?
            .run();
            let _ = tell.send(server.handle());
            server.await
        });
        let _ = end.send(());
        result
    })?;
    match told.recv() {
        Ok(handle) => Ok((handle, thread, ended)),
        Err(_) => match thread.join() {
            Ok(Err(error)) => Err(error.into()),
            _ => Err(io::Error::other("the server ended at once").into()),
        },
    }
}

/// As many connections as leave files for the work: whoever opens more waits to be taken.
fn most_connections() -> usize {
    let files = raise_file_limit().unwrap_or(1024);
    let most = (files.saturating_sub(OWN_FILES) / FILES_OF_A_CONNECTION).clamp(16, MOST_CONNECTIONS);
    usize::try_from(most).unwrap_or(16)
}

/// Raises what this process may have open (getrlimit(2)), and says how much that is.
fn raise_file_limit() -> nix::Result<u64> {
    let (soft, hard) = getrlimit(Resource::RLIMIT_NOFILE)?;
    let wanted = FILES.min(hard);
    if soft >= wanted {
        return Ok(soft);
    }
    setrlimit(Resource::RLIMIT_NOFILE, wanted, hard)?;
    Ok(wanted)
}

/// Destinations and network interfaces that go missing or come back are noticed within seconds.
async fn watch_surroundings(services: Arc<Services>, mut stopping: watch::Receiver<bool>) {
    loop {
        tokio::select! {
            _ = stopping.wait_for(|stopping| *stopping) => return,
            () = tokio::time::sleep(WATCH_EVERY) => {}
        }
        let services = Arc::clone(&services);
        if let Ok(Err(error)) = actix_web::web::block(move || services.operations.watch_surroundings()).await {
            tracing::error!(%error, "looking for the destinations and the network");
        }
    }
}

/// What falls due by itself happens also when nobody looks.
async fn tend_now_and_then(services: Arc<Services>, mut stopping: watch::Receiver<bool>) {
    loop {
        tokio::select! {
            _ = stopping.wait_for(|stopping| *stopping) => return,
            () = tokio::time::sleep(TEND_EVERY) => {}
        }
        let due = Arc::clone(&services);
        if let Ok(Err(error)) = actix_web::web::block(move || due.backups.note_lost().and_then(|()| due.operations.tend())).await
        {
            tracing::error!(%error, "looking for what is due");
        }
    }
}
