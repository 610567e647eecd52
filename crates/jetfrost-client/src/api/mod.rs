//! Calls to the service: the connection, and what holds for every call. Which calls there are is said by [`jetfrost_wire::calls`].

mod bulk;
mod by_path;
mod chunks;
mod events;
mod typed;

use std::io::Read;
use std::net::{Ipv6Addr, SocketAddr, SocketAddrV6};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use bulk::Connections;
use data_encoding::HEXLOWER;
use jetfrost_platform::{Machine, System};
use jetfrost_wire::size::{UNITS_HEADER, Units, show_in};
use jetfrost_wire::{Problem, ROOT};
pub use reqwest::Method;
use reqwest::StatusCode;
use reqwest::blocking::{Client, RequestBuilder, Response};
use reqwest::header::HeaderMap;
use rustls::ClientConfig;
use serde::de::DeserializeOwned;
pub use typed::Query;

use crate::error::ClientError;
use crate::pins::{Learn, Pin, Seen, tls};

type Result<T> = std::result::Result<T, ClientError>;

/// A call of which nothing comes or goes for so long has failed.
const SILENCE: Duration = Duration::from_secs(120);
/// A name that no DNS has (RFC 6761, section 6.4).
const LINK: &str = "on-this-link.invalid";
/// The service takes no body that arrives more slowly, in bytes a second. A home office's uplink may be hardly faster.
const SLOWEST: u64 = 16 << 10;
const CONNECT: Duration = Duration::from_secs(10);
/// How often a passing failure is tried again, and the first pause; it doubles.
const TRIES: u32 = 6;
/// A wait that the service asks for is not longer than this, and all of them together not than that.
const LONGEST_PAUSE: Duration = Duration::from_secs(60);
const PATIENCE: Duration = Duration::from_secs(600);
/// No answer in JSON is longer: a page of a list, a point with its file.
const MOST_JSON: u64 = 64 << 20;
/// No problem document is longer.
const MOST_PROBLEM: u64 = 64 << 10;
const FIRST_PAUSE: Duration = Duration::from_millis(250);
/// Entries of a list that are asked for in one call.
const PAGE: usize = 500;

/// One service, with or without a credential.
#[derive(Clone)]
pub struct Api {
    http: Client,
    bulk: Arc<Connections>,
    address: String,
    /// The same as URLs have it.
    authority: String,
    credential: Option<String>,
    expected: Option<String>,
    seen: Arc<Mutex<Seen>>,
}

impl Api {
    /// Talks to the service at `address` (`host:port`), which must have the identity with this fingerprint
    /// (hexadecimal, 32 digits at least); with `None` any does, and [`Api::fingerprint`] tells which it was.
    ///
    /// # Errors
    /// [`ClientError::Unexpected`] when the fingerprint is not one.
    pub fn new(address: &str, fingerprint: Option<&str>) -> Result<Self> {
        Self::learning(address, fingerprint, None)
    }

    /// As [`Api::new`]; `learn` is called with the fingerprint of the identity that took the place of the one that is known.
    pub(crate) fn learning(address: &str, fingerprint: Option<&str>, learn: Option<Learn>) -> Result<Self> {
        let pin = match fingerprint {
            None => Pin::Unknown,
            Some(text) => {
                let bytes = HEXLOWER.decode(text.to_lowercase().replace(':', "").as_bytes()).ok().filter(|b| b.len() >= 16);
                Pin::Known(bytes.ok_or_else(|| ClientError::Unexpected(format!("'{text}' is not a fingerprint")))?)
            }
        };
        let seen = Arc::new(Mutex::new(Seen::default()));
        let (authority, link) = on_a_link(address).map_or((address.to_owned(), None), |(authority, at)| (authority, Some(at)));
        let tls = tls(pin, Arc::clone(&seen), learn);
        let made = reqwest::blocking::ClientBuilder::from(settings(tls.clone(), link)).timeout(SILENCE).build();
        let http = made.map_err(|e| ClientError::Unexpected(e.to_string()))?;
        let bulk = Arc::new(Connections::new(move || settings(tls.clone(), link).read_timeout(SILENCE)));
        Ok(Self {
            http,
            bulk,
            address: address.to_owned(),
            authority,
            credential: None,
            expected: fingerprint.map(str::to_owned),
            seen,
        })
    }

    /// The same service, with a bearer credential.
    #[must_use]
    pub fn with_credential(mut self, credential: &str) -> Self {
        self.credential = Some(credential.to_owned());
        self
    }

    /// The fingerprint of the identity that the service has now, in hexadecimal.
    #[must_use]
    pub fn fingerprint(&self) -> Option<String> {
        self.seen.lock().ok()?.identity.clone()
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.http.request(method, self.url(path));
        match &self.credential {
            Some(credential) => request.bearer_auth(credential),
            None => request,
        }
    }

    fn url(&self, path: &str) -> String {
        format!("https://{}{ROOT}{path}", self.authority)
    }

    fn json<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T> {
        let bytes = self.bounded(self.checked(request)?, MOST_JSON)?;
        // A call that answers with nothing answers with `()`.
        let json: &[u8] = if bytes.is_empty() { b"null" } else { &bytes };
        serde_json::from_slice(json).map_err(|e| ClientError::Unexpected(e.to_string()))
    }

    /// Sends a request and checks the status: anything but success becomes an error.
    fn checked(&self, request: RequestBuilder) -> Result<Response> {
        let response = request.send().map_err(|e| self.failed(&e))?;
        note_units(response.headers());
        let status = response.status();
        if status.is_success() {
            return Ok(response);
        }
        Err(refusal(status, &self.bounded(response, MOST_PROBLEM).unwrap_or_default()))
    }

    /// The bytes of an answer, which may not have more than `most`: a service may answer without end. One that breaks off, because the
    /// service was killed or the network went, is a passing failure like a connection that does not come about.
    fn bounded(&self, response: impl Read, most: u64) -> Result<Vec<u8>> {
        let mut bytes = Vec::new();
        match response.take(most + 1).read_to_end(&mut bytes) {
            Ok(_) if bytes.len() as u64 > most => Err(ClientError::Unexpected(format!("more than {most} bytes in one answer"))),
            Ok(_) => Ok(bytes),
            Err(e) => {
                let why = format!("an answer broke off: {}", e.kind());
                Err(ClientError::Unreachable { address: self.address.clone(), why })
            }
        }
    }

    fn failed(&self, error: &reqwest::Error) -> ClientError {
        let seen = self.seen.lock().map(|seen| seen.clone()).unwrap_or_default();
        match &self.expected {
            Some(expected) if seen.is_refused => ClientError::OtherCertificate {
                address: self.address.clone(),
                expected: expected.clone(),
                found: seen.identity.unwrap_or_default(),
            },
            _ => ClientError::Unreachable { address: self.address.clone(), why: innermost(error) },
        }
    }

    /// Tries again as long as a failure may pass: after as long as the service says, else with growing pauses.
    fn patiently<T>(&self, mut call: impl FnMut() -> Result<T>) -> Result<T> {
        let (mut pause, mut tries, until) = (FIRST_PAUSE, 1, Instant::now() + PATIENCE);
        loop {
            let error = match call() {
                Err(error) if error.is_passing() => error,
                other => return other,
            };
            match error.passes_in() {
                Some(wait) if wait <= LONGEST_PAUSE && Instant::now() + wait < until => std::thread::sleep(wait),
                None if tries < TRIES => {
                    std::thread::sleep(pause);
                    tries += 1;
                    pause *= 2;
                }
                _ => return Err(error),
            }
        }
    }
}

/// How every connection is made.
fn settings(tls: ClientConfig, link: Option<SocketAddr>) -> reqwest::ClientBuilder {
    let mut builder = reqwest::Client::builder();
    if let Some(at) = link {
        builder = builder.resolve(LINK, at);
    }
    // A body may take long, but not a peer that takes none of it: a laptop that changed networks notices by this. Elsewhere the
    // system's own patience holds.
    #[cfg(target_os = "linux")]
    {
        builder = builder.tcp_user_timeout(SILENCE);
    }
    builder
        .tls_backend_preconfigured(tls)
        .http1_only()
        .no_proxy()
        .connect_timeout(CONNECT)
        .pool_idle_timeout(Duration::from_secs(20))
}

/// Sizes are shown as the office wants them.
fn note_units(headers: &HeaderMap) {
    let said = headers.get(UNITS_HEADER).and_then(|value| value.to_str().ok()).and_then(Units::from_word);
    said.into_iter().for_each(show_in);
}

/// What an answer says that is no success.
fn refusal(status: StatusCode, said: &[u8]) -> ClientError {
    match serde_json::from_slice::<Problem>(said) {
        Ok(problem) => ClientError::Refused(Box::new(problem)),
        Err(_) => ClientError::Unexpected(format!("status {status}")),
    }
}

/// What stands in URLs for an address that is good on one link alone, and the address. URLs have no place for the interface: the
/// name never leaves this machine but in the header `Host`.
pub(crate) fn on_a_link(address: &str) -> Option<(String, SocketAddr)> {
    let (host, port) = address.strip_prefix('[')?.split_once("]:")?;
    let (ip, interface) = host.split_once('%')?;
    let (ip, port): (Ipv6Addr, u16) = (ip.parse().ok()?, port.parse().ok()?);
    let scope = System::interface_number(interface)?;
    Some((format!("{LINK}:{port}"), SocketAddrV6::new(ip, port, 0, scope).into()))
}

/// The innermost cause is the one that says something.
fn innermost(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(source) = cause.source() {
        cause = source;
    }
    cause.to_string()
}
