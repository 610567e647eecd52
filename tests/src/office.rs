//! A service on loopback with its own state, run within the test, and workstations on it.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jetfrost_client::api::{Api, Method};
use jetfrost_client::backup::{BackupReport, ReadBack, back_up};
use jetfrost_client::browse::{At, Browser};
use jetfrost_client::drill::{DrillReport, Rehearsal, drill};
use jetfrost_client::join::{FirstWays, join};
use jetfrost_client::progress::Meter;
use jetfrost_client::restore::{RestoreReport, Rights, Wish, restore};
use jetfrost_client::state_dir::StateDir;
use jetfrost_client::{ClientError, RecoveryKey};
use jetfrost_demo::mail_stand_in::MailStandIn;
use jetfrost_image::crypto::SystemRandom;
use jetfrost_service::{Clock, Config, Running, SteppedClock, SystemClock};
use jetfrost_wire::access::Grants;
use jetfrost_wire::alerts::{MailSecurity, MailSettings, SetMail};
use jetfrost_wire::destination::{Destination, DestinationChange, NewDestination};
use jetfrost_wire::enrolment::{Invitation, IssuedCode, NewEnrolmentCode};
use jetfrost_wire::job::Job;
use jetfrost_wire::people::{Account, NewAccount, Role};
use jetfrost_wire::service::{Carry, FirstAdministrator, SignIn, SignedIn};
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use serde::Serialize;
use serde::de::DeserializeOwned;
use tempfile::TempDir;

/// The administrator of every test.
pub const ADMINISTRATOR: &str = "ingrid";
/// The password of every account.
pub const PASSWORD: &str = "a test of ten";
/// The image passphrase of every workstation.
pub const PASSPHRASE: &str = "an image passphrase";

/// A service that was started for a test and ends with it.
pub struct Office {
    /// Everything of the test is in here.
    pub directory: TempDir,
    /// The service; taken out while it is stopped.
    service: Option<Running>,
    clock: Arc<dyn Clock>,
    config: Config,
    /// Signed in as the administrator.
    pub api: Api,
}

impl Office {
    /// An office with a destination and a workstation that has a letter to back up.
    #[must_use]
    pub fn with_station(name: &str) -> (Self, Workstation) {
        let office = Self::open();
        office.destination("shelf");
        let station = office.workstation(name);
        station.write("letter.odt", "what it says");
        (office, station)
    }

    /// An office with an administrator, on the machine's clock.
    #[must_use]
    pub fn open() -> Self {
        Self::with_clock(Arc::new(SystemClock))
    }

    /// An office whose clock stands still until it is set.
    #[must_use]
    pub fn stepped(now: Timestamp) -> (Self, Arc<SteppedClock>) {
        let clock = Arc::new(SteppedClock::new(now));
        (Self::with_clock(clock.clone()), clock)
    }

    /// An office whose own records are in a directory of another volume.
    #[must_use]
    pub fn with_state_on(volume: &Path) -> Self {
        Self::with(Arc::new(SystemClock), Some(&volume.join("state")))
    }

    fn with_clock(clock: Arc<dyn Clock>) -> Self {
        Self::with(clock, None)
    }

    fn with(clock: Arc<dyn Clock>, state: Option<&Path>) -> Self {
        let directory = tempfile::tempdir().expect("a temporary directory");
        let config = Config {
            state_directory: state.map_or_else(|| directory.path().join("state"), Path::to_path_buf),
            listen: ([127, 0, 0, 1], 0).into(),
            public_name: "localhost".into(),
            certificate: None,
            time_zone: jiff::tz::TimeZone::UTC,
        };
        let service = start(&config, &clock);
        let api = first_sign_in(&service);
        // From now on the port stays, so that clients find the service again after a restart.
        let config = Config { listen: service.address(), ..config };
        Self { directory, service: Some(service), clock, config, api }
    }

    /// `host:port`.
    #[must_use]
    pub fn address(&self) -> String {
        format!("localhost:{}", self.config.listen.port())
    }

    /// The port that the service listens on.
    #[must_use]
    pub fn port(&self) -> u16 {
        self.config.listen.port()
    }

    /// Signs the administrator in again, after their session has ended.
    pub fn sign_in_again(&mut self) {
        self.api = self.signed_in(ADMINISTRATOR);
    }

    /// The fingerprint of the service's identity.
    #[must_use]
    pub fn fingerprint(&self) -> String {
        self.service.as_ref().expect("it runs").fingerprint()
    }

    /// The fingerprint of the certificate that browsers see.
    #[must_use]
    pub fn browser_fingerprint(&self) -> String {
        self.service.as_ref().expect("it runs").browser_fingerprint()
    }

    /// The state directory.
    #[must_use]
    pub fn state(&self) -> &Path {
        &self.config.state_directory
    }

    /// Stops the service, changes its configuration, and starts it.
    pub fn configure(&mut self, change: impl FnOnce(&mut Config)) {
        self.stop();
        change(&mut self.config);
        self.start();
    }

    /// Stops the service and starts it again on the same state.
    pub fn restart(&mut self) {
        self.stop();
        self.start();
    }

    /// Stops the service.
    pub fn stop(&mut self) {
        self.service.take().expect("it runs").stop().expect("it stops cleanly");
    }

    /// Starts the service after a stop.
    pub fn start(&mut self) {
        self.service = Some(start(&self.config, &self.clock));
    }

    /// Has the service notice what changes without a call.
    pub fn look_around(&self) {
        self.service.as_ref().expect("it runs").look_around().expect("the records answer");
    }

    /// Asks for the work that is due by now, and waits for its end.
    pub fn tend(&self) {
        self.service.as_ref().expect("it runs").tend().expect("the records answer");
        self.finish_jobs();
    }

    /// Waits until all long work has ended, and returns what there was, latest first.
    pub fn finish_jobs(&self) -> Vec<Job> {
        let jobs: Vec<Job> = self.api.list("/jobs").expect("listed");
        let ended = |job: Job| self.api.get(&format!("/jobs/{}?wait_seconds=30", job.id)).expect("a job");
        jobs.into_iter().map(ended).collect()
    }

    /// Sets something, as the administrator.
    ///
    /// # Errors
    /// As the service refuses.
    pub fn put<B: Serialize, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T, ClientError> {
        self.api.send(Method::PUT, path, body)
    }

    /// Changes something, as the administrator.
    ///
    /// # Errors
    /// As the service refuses.
    pub fn patch<B: Serialize, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T, ClientError> {
        self.api.send(Method::PATCH, path, body)
    }

    /// A path within the test's directory.
    #[must_use]
    pub fn path(&self, name: &str) -> PathBuf {
        self.directory.path().join(name)
    }

    /// Adds a destination at a new directory of the test.
    pub fn destination(&self, name: &str) -> Destination {
        self.destination_at(name, &self.path(name), None)
    }

    /// Adds a destination.
    pub fn destination_at(&self, name: &str, directory: &Path, capacity: Option<u64>) -> Destination {
        let new = NewDestination {
            name: name.into(),
            directory: directory.display().to_string(),
            capacity,
            reserve: Some(0),
            grants: Grants::everybody(),
            ..NewDestination::default()
        };
        self.api.post("/destinations", &new).expect("a destination")
    }

    /// Adds a destination without a protected time that keeps what a rule says: for tests of what goes.
    pub fn unprotected(&self, name: &str, retention: &str, capacity: Option<u64>) -> Destination {
        let added = self.destination_at(name, &self.path(name), capacity);
        let change = DestinationChange {
            protected_days: Some(0),
            retention: Some(retention.parse().expect("a rule")),
            ..DestinationChange::default()
        };
        self.patch(&format!("/destinations/{}", added.id), &change).expect("set")
    }

    /// Adds an account that can sign in.
    pub fn account(&self, login: &str, role: Role) -> Account {
        let new = NewAccount { password: Some(PASSWORD.into()), ..NewAccount::new(login, role) };
        self.api.post("/accounts", &new).expect("an account")
    }

    /// The service as an account sees it.
    #[must_use]
    pub fn signed_in(&self, login: &str) -> Api {
        sign_in(&Api::new(&self.address(), Some(&self.fingerprint())).expect("a service"), login)
    }

    /// The service as an account sees it that reaches it by another address, and knows nothing of it.
    #[must_use]
    pub fn signed_in_at(&self, address: &str, login: &str) -> Api {
        sign_in(&Api::new(address.trim_start_matches("https://"), None).expect("a service"), login)
    }

    /// Makes an enrolment code.
    #[must_use]
    pub fn code(&self, login: &str) -> Invitation {
        let issued: IssuedCode = self.api.post("/enrolment-codes", &NewEnrolmentCode::new(login)).expect("a code");
        Invitation::parse(&issued.code).expect("it reads back")
    }

    /// An account and a workstation of it, which keeps a folder of the test.
    #[must_use]
    pub fn workstation(&self, name: &str) -> Workstation {
        self.account(&format!("owner of {name}"), Role::Member);
        let home = StateDir::new(self.path(&format!("{name}-home")));
        let joined = join(
            &home,
            &self.code(&format!("owner of {name}")),
            name,
            &FirstWays::passphrase(PASSPHRASE),
            &SystemRandom::default(),
        )
        .expect("it joins");
        let folder = self.path(&format!("{name}-files"));
        fs::create_dir(&folder).expect("a folder");
        let mut selection = home.selection().expect("readable");
        selection.include(&folder).expect("kept");
        home.write_selection(&selection).expect("written");
        Workstation { home, folder, recovery_key: joined.recovery_key }
    }
}

/// Sends mail to the administrator by a stand-in for a mail server.
#[must_use]
pub fn mail_to(server: &MailStandIn) -> SetMail {
    mail_to_port(server.address().port())
}

/// Sends mail to the administrator by what listens on a port of this machine.
#[must_use]
pub fn mail_to_port(port: u16) -> SetMail {
    let settings = MailSettings {
        server: "127.0.0.1".into(),
        port,
        security: MailSecurity::None,
        login: None,
        sender: "Backups <backups@office.example>".into(),
        recipients: vec![format!("{ADMINISTRATOR}@office.example")],
        summary_hour: None,
    };
    SetMail { settings, password: None }
}

fn start(config: &Config, clock: &Arc<dyn Clock>) -> Running {
    Running::start(config, Arc::clone(clock), Arc::new(SystemRandom::default())).expect("the service starts")
}

fn sign_in(api: &Api, login: &str) -> Api {
    let call = SignIn { login: login.into(), password: PASSWORD.into(), code: None, carry: Carry::Token, label: None };
    let signed_in: SignedIn = api.post("/sessions", &call).expect("signs in");
    api.clone().with_credential(&signed_in.token.expect("a token"))
}

fn first_sign_in(service: &Running) -> Api {
    let api = Api::new(&format!("localhost:{}", service.address().port()), Some(&service.fingerprint())).expect("a service");
    let code = service.first_code().expect("a new service has no administrator").to_owned();
    let first = FirstAdministrator { code, login: ADMINISTRATOR.into(), password: PASSWORD.into() };
    let _: Account = api.post("/first-administrator", &first).expect("the first administrator");
    sign_in(&api, ADMINISTRATOR)
}

/// A workstation of a test.
pub struct Workstation {
    /// Its settings and keys.
    pub home: StateDir,
    /// What it keeps.
    pub folder: PathBuf,
    /// As printed when it joined.
    pub recovery_key: RecoveryKey,
}

impl Workstation {
    /// Writes a file of the kept folder.
    pub fn write(&self, path: &str, bytes: impl AsRef<[u8]>) {
        let path = self.folder.join(path);
        fs::create_dir_all(path.parent().expect("in the folder")).expect("a folder");
        fs::write(path, bytes).expect("written");
    }

    /// The path of its image store in the API.
    #[must_use]
    pub fn store(&self) -> String {
        format!("/stores/{}", self.home.membership().expect("joined").store)
    }

    /// Makes a recovery point.
    ///
    /// # Errors
    /// As the engine.
    pub fn back_up(&self) -> Result<BackupReport, ClientError> {
        back_up(&self.home, PointKind::Files, ReadBack::Sample, &Arc::new(Meter::default()))
    }

    /// Keeps a disk from now on.
    pub fn keep_disk(&self, disk: &Path) {
        let mut selection = self.home.selection().expect("readable");
        selection.include_disk(disk).expect("a disk");
        self.home.write_selection(&selection).expect("written");
    }

    /// Makes a recovery point of the disks.
    ///
    /// # Errors
    /// As the engine.
    pub fn back_up_disks(&self) -> Result<BackupReport, ClientError> {
        back_up(&self.home, PointKind::Disk, ReadBack::Sample, &Arc::new(Meter::default()))
    }

    /// Restores everything into a directory. The kept folder is then found by [`Workstation::restored`].
    ///
    /// # Errors
    /// As the engine.
    pub fn restore_all(&self, into: &Path) -> Result<RestoreReport, ClientError> {
        self.restore(&At::Latest, &Wish::everything(into).rights(Rights::Keep))
    }

    /// Restores what is wished for.
    ///
    /// # Errors
    /// As the engine.
    pub fn restore(&self, at: &At, wish: &Wish) -> Result<RestoreReport, ClientError> {
        let browser = Browser::open(&self.home)?;
        let point = browser.point(at, PointKind::Files)?;
        restore(&browser, &point, wish, &Arc::new(Meter::default()))
    }

    /// Rehearses a restore of so many files of a hundred.
    ///
    /// # Errors
    /// As the engine.
    pub fn drill(&self, share: u8) -> Result<DrillReport, ClientError> {
        let browser = Browser::open(&self.home)?;
        let point = browser.point(&At::Latest, PointKind::Files)?;
        let how = Rehearsal { share, most: 1 << 30, scratch: self.home.directory().into(), memory: None };
        drill(&browser, &point, &how, &Arc::new(Meter::default()))
    }

    /// Where the kept folder is below a directory into which everything was restored.
    #[must_use]
    pub fn restored(&self, into: &Path) -> PathBuf {
        into.join(self.folder.strip_prefix("/").expect("absolute"))
    }
}
