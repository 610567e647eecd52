//! What the service shows to those who connect: its own identity to workstations, to browsers a certificate that the
//! administrator brought, if there is one.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};
use std::{fs, io};

use data_encoding::HEXLOWER;
use identity::Identity;
use jetfrost_wire::IDENTITY_PROTOCOL;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::{ServerConfig, crypto};

use crate::state_directory::{IDENTITY, OLD_CERTIFICATE, OLD_CERTIFICATE_KEY, RECORDS};

mod identity;
mod pem;

/// The certificate that the identity signed, with its key, in the state directory.
const OWN: &str = "serving.pem";
/// The service renews its own certificate this long before it ends.
const RENEWED_BEFORE_MS: i64 = 60 * 24 * 3600 * 1000;
/// What could not be renewed is tried again after so long.
const TRIED_AGAIN_MS: i64 = 3600 * 1000;

/// Why there is no usable certificate.
#[derive(Debug, thiserror::Error)]
pub enum CertificateError {
    /// A file could not be read or written.
    #[error("{path}: {source}")]
    File {
        /// Which.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// A file is not what it should be.
    #[error("{path}: {why}")]
    Content {
        /// Which.
        path: PathBuf,
        /// What is wrong with it.
        why: String,
    },
    /// A certificate could not be made.
    #[error("making a certificate: {0}")]
    Make(#[from] rcgen::Error),
    /// Certificate and key do not go together.
    #[error("certificate and key do not go together: {0}")]
    Pair(#[from] rustls::Error),
}

type Result<T> = std::result::Result<T, CertificateError>;

/// The certificates of a service. They follow their files while it runs.
#[derive(Debug)]
pub(crate) struct Certificates {
    state: PathBuf,
    /// The names that the service's own certificate is for.
    names: Vec<String>,
    /// A certificate that the administrator brought, and its key.
    brought: Option<(PathBuf, PathBuf)>,
    shown: RwLock<Shown>,
}

/// What is shown at present.
#[derive(Debug, Clone)]
struct Shown {
    identity: [u8; 32],
    to_workstations: Arc<CertifiedKey>,
    to_browsers: Arc<CertifiedKey>,
    /// When the service's own certificate is made anew, or shown with less beside it, in Unix milliseconds.
    renewed: i64,
    standing: Standing,
    /// The files as they were when they were read.
    marks: Vec<Option<Mark>>,
}

/// How the certificate that browsers see stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Standing {
    /// When it ends, in Unix milliseconds.
    pub(crate) ends: i64,
    /// Whether the administrator brought it, and so has to renew it.
    pub(crate) is_brought: bool,
    /// Why what the administrator brought is not shown, or not what lies there now.
    pub(crate) trouble: Option<String>,
}

/// What tells a file from one that took its place.
type Mark = (u64, i64, i64, u64);

/// What looking at the files again came to.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Looked {
    /// Nothing that workstations notice.
    Same,
    /// Another identity took the place of the one before.
    OtherIdentity,
}

impl Certificates {
    /// Reads what there is, and makes what there is not. What the administrator brought may be unfit: workstations do not need it.
    pub(crate) fn open(state: &Path, public_name: &str, brought: Option<(PathBuf, PathBuf)>, now_ms: i64) -> Result<Self> {
        if !identity::exists(state) {
            first_identity(state, brought.as_ref())?.save(state)?;
        }
        let mut names = vec![public_name.to_owned()];
        names.extend(["localhost", "127.0.0.1", "::1"].into_iter().filter(|name| *name != public_name).map(str::to_owned));
        let shown = RwLock::new(read(state, &names, brought.as_ref(), None, now_ms)?);
        Ok(Self { state: state.into(), names, brought, shown })
    }

    /// SHA-256 of the identity's certificate (DER), by which workstations know the service.
    pub(crate) fn fingerprint(&self) -> [u8; 32] {
        self.shown().identity
    }

    /// The same in hexadecimal.
    pub(crate) fn fingerprint_text(&self) -> String {
        HEXLOWER.encode(&self.fingerprint())
    }

    /// SHA-256 of what browsers see, in hexadecimal.
    pub(crate) fn browser_fingerprint_text(&self) -> String {
        HEXLOWER.encode(&sha256(&self.shown().to_browsers.cert[0]))
    }

    pub(crate) fn standing(&self) -> Standing {
        self.shown().standing
    }

    /// Reads files that changed, and renews what is to be renewed. What cannot be used changes nothing that is shown.
    pub(crate) fn look_again(&self, now_ms: i64) -> Looked {
        let before = self.shown();
        let marks = marks(&self.state, self.brought.as_ref());
        if now_ms < before.renewed && marks == before.marks {
            return Looked::Same;
        }
        let now = read(&self.state, &self.names, self.brought.as_ref(), Some(&before), now_ms).unwrap_or_else(|error| {
            tracing::error!(%error, "the service's own certificate");
            let standing = Standing { trouble: Some(error.to_string()), ..before.standing.clone() };
            Shown { standing, marks, renewed: before.renewed.max(now_ms + TRIED_AGAIN_MS), ..before.clone() }
        });
        let looked = if now.identity == before.identity { Looked::Same } else { Looked::OtherIdentity };
        *self.shown.write().unwrap_or_else(PoisonError::into_inner) = now;
        looked
    }

    /// What a TLS server needs.
    pub(crate) fn config(self: &Arc<Self>) -> ServerConfig {
        ServerConfig::builder().with_no_client_auth().with_cert_resolver(Arc::clone(self) as Arc<dyn ResolvesServerCert>)
    }

    fn shown(&self) -> Shown {
        self.shown.read().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl ResolvesServerCert for Certificates {
    /// Workstations say by ALPN (RFC 7301) that they know the identity.
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let knows_identity = hello.alpn().is_some_and(|mut offered| offered.any(|one| one == IDENTITY_PROTOCOL));
        let shown = self.shown();
        Some(if knows_identity { shown.to_workstations } else { shown.to_browsers })
    }
}

/// The first identity: what workstations pinned of a service of the version before goes on.
fn first_identity(state: &Path, brought: Option<&(PathBuf, PathBuf)>) -> Result<Identity> {
    let old = (state.join(OLD_CERTIFICATE), state.join(OLD_CERTIFICATE_KEY));
    let pinned = brought.filter(|_| state.join(RECORDS).exists()).or_else(|| old.0.exists().then_some(&old));
    let Some((certificate, key)) = pinned else {
        if state.join(RECORDS).exists() {
            tracing::warn!(
                "there are records and no identity, so a new one was made; workstations know the one before: \
                 put {IDENTITY} back from a copy, or give them the new fingerprint (jetfrost accept-identity)"
            );
        }
        return Identity::make();
    };
    Identity::adopt(certificate, key).or_else(|error| {
        tracing::warn!(%error, "workstations know the service by a certificate that cannot be gone on with: they need new codes");
        Identity::make()
    })
}

/// Puts another identity in the place of the one in a state directory; a service that runs there takes it up. With `overlap`,
/// workstations that come by within 400 days learn it by themselves; without, each has to be told by hand.
///
/// # Errors
/// [`CertificateError`]; the identity is then as it was.
pub fn renew_identity(state: &Path, overlap: bool, now_ms: i64) -> Result<()> {
    Identity::load(state, now_ms)?.succeed(overlap, now_ms)?.save(state)
}

/// The identity's own certificate as PEM, and its SHA-256 in hexadecimal.
///
/// # Errors
/// [`CertificateError`] when there is none.
pub fn show_identity(state: &Path, now_ms: i64) -> Result<(String, String)> {
    let identity = Identity::load(state, now_ms)?;
    Ok((identity.certificate_text(), HEXLOWER.encode(&identity.fingerprint())))
}

/// Reads everything; what is to be renewed is.
fn read(
    state: &Path,
    names: &[String],
    brought: Option<&(PathBuf, PathBuf)>,
    before: Option<&Shown>,
    now_ms: i64,
) -> Result<Shown> {
    // First: what changes while it is read is read again.
    let marks = marks(state, brought);
    let identity = Identity::load(state, now_ms)?;
    let (own, ends) = own(state, &identity, names, now_ms)?;
    let own_standing = Standing { ends, is_brought: false, trouble: None };
    let (to_browsers, standing) = match brought.map(|(certificate, key)| load_brought(certificate, key)) {
        None => (Arc::clone(&own), own_standing),
        Some(Ok((shown, ends))) => (shown, Standing { ends, is_brought: true, trouble: None }),
        Some(Err(error)) => {
            tracing::warn!(%error, "the certificate that is to be shown to browsers cannot be");
            let (shown, standing) = before
                .map_or((Arc::clone(&own), own_standing), |before| (Arc::clone(&before.to_browsers), before.standing.clone()));
            (shown, Standing { trouble: Some(error.to_string()), ..standing })
        }
    };
    let renewed = identity.changes().unwrap_or(i64::MAX).min(ends - RENEWED_BEFORE_MS);
    Ok(Shown { identity: identity.fingerprint(), to_workstations: own, to_browsers, renewed, standing, marks })
}

/// The service's own certificate; made anew when it ends soon, when the service has another name, or another identity.
fn own(state: &Path, identity: &Identity, names: &[String], now_ms: i64) -> Result<(Arc<CertifiedKey>, i64)> {
    let path = state.join(OWN);
    let ends = |certificate: &CertificateDer<'_>| pem::facts(certificate).map(|facts| facts.ends).unwrap_or_default();
    if let Ok(kept) = pem::read(&path, &path) {
        let facts = pem::facts(&kept.chain[0]).ok();
        let is_fit = facts.is_some_and(|facts| facts.names == names && now_ms < facts.ends - RENEWED_BEFORE_MS);
        if is_fit && identity.is_issuer_of(&kept.chain[0]) {
            let ends = ends(&kept.chain[0]);
            return Ok((certified(kept.chain[0].clone(), identity, kept.key)?, ends));
        }
    }
    let (certificate, key) = identity.sign(names, now_ms)?;
    pem::write(&path, &(key.serialize_pem() + &pem::text(&certificate)))?;
    let ends = ends(&certificate);
    Ok((certified(certificate, identity, PrivatePkcs8KeyDer::from(key.serialize_der()).into())?, ends))
}

fn certified(leaf: CertificateDer<'static>, identity: &Identity, key: PrivateKeyDer<'static>) -> Result<Arc<CertifiedKey>> {
    let chain = [leaf].into_iter().chain(identity.chain()).collect();
    Ok(Arc::new(CertifiedKey::from_der(chain, key, &crypto::ring::default_provider())?))
}

fn load_brought(certificate: &Path, key: &Path) -> Result<(Arc<CertifiedKey>, i64)> {
    let pair = pem::read(certificate, key)?;
    let facts =
        pem::facts(&pair.chain[0]).map_err(|e| CertificateError::Content { path: certificate.into(), why: e.to_string() })?;
    Ok((Arc::new(CertifiedKey::from_der(pair.chain, pair.key, &crypto::ring::default_provider())?), facts.ends))
}

fn marks(state: &Path, brought: Option<&(PathBuf, PathBuf)>) -> Vec<Option<Mark>> {
    let mark = |path: &Path| fs::metadata(path).ok().map(|m| (m.ino(), m.mtime(), m.mtime_nsec(), m.len()));
    let brought = brought.map(|(certificate, key)| [mark(certificate), mark(key)]);
    [mark(&state.join(IDENTITY)), mark(&state.join(OWN))].into_iter().chain(brought.into_iter().flatten()).collect()
}

fn sha256(bytes: &[u8]) -> [u8; 32] {
    let digest = ring::digest::digest(&ring::digest::SHA256, bytes);
    digest.as_ref().try_into().expect("SHA-256 has 32 bytes")
}
