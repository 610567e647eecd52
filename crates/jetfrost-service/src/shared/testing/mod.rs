//! An office for unit tests of the use cases: real records and directories below a temporary one, a clock that is set, no HTTP.

pub(crate) mod machine;

use std::path::PathBuf;
use std::sync::Arc;

use data_encoding::BASE32_NOPAD;
use jetfrost_image::crypto::{Random, SystemRandom};
use jetfrost_wire::access::Grants;
use jetfrost_wire::destination::{Destination, NewDestination};
use jetfrost_wire::people::{NewAccount, Role};
use jetfrost_wire::service::{Carry, ConfirmSecondFactor, FirstAdministrator, SignIn, SpareCodes};
use jiff::tz::TimeZone;
use tempfile::TempDir;
use totp_rs::{Builder, Totp};

use crate::audit_heads::HeadSigner;
use crate::certificate::Certificates;
use crate::clock::{Clock, Moment, SteppedClock};
use crate::downloads::Downloads;
use crate::identity::{installation, new_first_code};
use crate::records::Records;
use crate::services::Services;
use crate::shared::{Basis, Caller, Credential, Installation};
use crate::state_directory;
use crate::state_directory::{DOWNLOADS, RECORDS};

pub(crate) const PASSWORD: &str = "a test of ten";

/// An office with an administrator.
pub(crate) struct Office {
    pub(crate) services: Services,
    pub(crate) clock: Arc<SteppedClock>,
    /// Ingrid, signed in.
    pub(crate) ingrid: Caller,
    pub(crate) records: Records,
    directory: TempDir,
}

impl Office {
    pub(crate) fn open() -> Self {
        // The process may have chosen a provider already; any does.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let directory = tempfile::tempdir().expect("a directory");
        let state = directory.path().join("state");
        state_directory::make(&state).expect("made");
        let clock = Arc::new(SteppedClock::new("2026-10-01T08:00:00Z".parse().expect("a time")));
        let random: Arc<dyn Random> = Arc::new(SystemRandom::default());
        let records = Records::open(&state.join(RECORDS)).expect("new records");
        let service = installation(&records, &*random, clock.now()).expect("an id");
        let certificates = Certificates::open(&state, "localhost", None, clock.now_ms()).expect("made");
        let (heads, _) = HeadSigner::load_or_make(&state, &service, &*random).expect("a key");
        let installation = Installation {
            service,
            public_name: "localhost".into(),
            listen: std::net::Ipv4Addr::LOCALHOST.into(),
            port: 7410,
            certificates: Arc::new(certificates),
            downloads: Arc::new(Downloads::of(state.join(DOWNLOADS))),
        };
        let code = new_first_code(&records, &*random).expect("a code");
        let basis = Basis::new(records.clone(), Arc::<SteppedClock>::clone(&clock), random, installation, TimeZone::UTC);
        let services = Services::new(&basis, state, heads);
        let first = FirstAdministrator { code, login: "ingrid".into(), password: PASSWORD.into() };
        services.identity.first_administrator(&first, "127.0.0.1").expect("made");
        let ingrid = signed_in(&services, "ingrid");
        Self { services, clock, ingrid, records, directory }
    }

    /// A path of this test alone.
    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.directory.path().join(name)
    }

    /// The moment.
    pub(crate) fn now(&self) -> Moment {
        self.clock.now()
    }

    /// Lets time pass.
    pub(crate) fn pass(&self, milliseconds: i64) {
        self.clock.set(crate::clock::timestamp(self.clock.now() + milliseconds));
    }

    /// An account, signed in.
    pub(crate) fn person(&self, login: &str, role: Role) -> Caller {
        let new = NewAccount { password: Some(PASSWORD.into()), ..NewAccount::new(login, role) };
        self.services.identity.add_account(&self.ingrid, &new).expect("added");
        signed_in(&self.services, login)
    }

    /// A second factor for an account; what its authenticator shows.
    pub(crate) fn second_factor(&self, of: &Caller) -> (Totp, SpareCodes) {
        let identity = &self.services.identity;
        let offer = identity.offer_second_factor(of).expect("offered");
        let secret = BASE32_NOPAD.decode(offer.secret.as_bytes()).expect("base 32");
        let totp = Builder::new().with_secret(secret).build().expect("long enough");
        let confirm = ConfirmSecondFactor { code: self.shown_by(&totp), password: PASSWORD.into() };
        let codes = identity.confirm_second_factor(of, &confirm).expect("confirmed");
        (totp, codes)
    }

    /// What an authenticator shows now.
    pub(crate) fn shown_by(&self, totp: &Totp) -> String {
        totp.generate(self.clock.now_ms().unsigned_abs() / 1000).to_string()
    }

    /// A destination that is open to everybody.
    pub(crate) fn destination(&self, name: &str) -> Destination {
        let new = NewDestination {
            name: name.into(),
            directory: self.path(name).display().to_string(),
            reserve: Some(0),
            grants: Grants::everybody(),
            ..NewDestination::default()
        };
        self.services.storage.add_destination(&self.ingrid, &new).expect("added")
    }
}

fn signed_in(services: &Services, login: &str) -> Caller {
    services.identity.authenticate(&credential(services, login)).expect("known")
}

/// What somebody who signed in shows.
pub(crate) fn credential(services: &Services, login: &str) -> Credential {
    let with = SignIn { login: login.into(), password: PASSWORD.into(), code: None, carry: Carry::Token, label: None };
    let secret = services.identity.sign_in(&with, "127.0.0.1").expect("signed in").token;
    Credential { secret, origin: "127.0.0.1".into(), call: "a test".into() }
}
