//! Calls to the service.

use std::io::{Read, Write};
use std::net::{Ipv6Addr, SocketAddr, SocketAddrV6};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use bytes::Bytes;
use data_encoding::HEXLOWER;
use jetfrost_image::crypto::{SystemRandom, random_array};
use jetfrost_image::{ChunkName, SegmentHash};
use jetfrost_platform::{Machine, System};
use jetfrost_wire::chunks::{FRAME_HEAD, FrameStatus};
use jetfrost_wire::size::{UNITS_HEADER, Units, show_in};
use jetfrost_wire::{Page, Problem, ROOT, Version};
pub use reqwest::Method;
use reqwest::blocking::{Client, RequestBuilder, Response};
use reqwest::header::IF_MATCH;
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::error::ClientError;
use crate::pins::{Learn, Pin, Seen, tls};

type Result<T> = std::result::Result<T, ClientError>;

/// A call that moves no bytes for so long has failed.
const SILENCE: Duration = Duration::from_secs(120);
/// A name that no DNS has (RFC 6761, section 6.4).
const LINK: &str = "on-this-link.invalid";
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
        let mut builder = Client::builder();
        if let Some(at) = link {
            builder = builder.resolve(LINK, at);
        }
        let http = builder
            .tls_backend_preconfigured(tls(pin, Arc::clone(&seen), learn))
            .http1_only()
            .no_proxy()
            .connect_timeout(CONNECT)
            .timeout(SILENCE)
            .pool_idle_timeout(Duration::from_secs(20))
            .build()
            .map_err(|e| ClientError::Unexpected(e.to_string()))?;
        Ok(Self {
            http,
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

    /// `GET`, JSON.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T> {
        self.patiently(|| self.json(self.request(Method::GET, path)))
    }

    /// All entries of a list, page by page.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn list<T: DeserializeOwned>(&self, path: &str) -> Result<Vec<T>> {
        self.list_at_most(path, &[], usize::MAX)
    }

    /// The first entries of a list, of those that a query is for.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn list_at_most<T: DeserializeOwned>(&self, path: &str, query: &[(&str, Option<String>)], most: usize) -> Result<Vec<T>> {
        let mut items = Vec::new();
        let mut after: Option<String> = None;
        loop {
            let size = (most - items.len()).clamp(1, PAGE).to_string();
            let request =
                || self.request(Method::GET, path).query(query).query(&[("after", &after), ("most", &Some(size.clone()))]);
            let page: Page<T> = self.patiently(|| self.json(request()))?;
            items.extend(page.items);
            items.truncate(most);
            match page.next {
                Some(next) if items.len() < most => after = Some(next),
                _ => return Ok(items),
            }
        }
    }

    /// A call with a JSON body, tried once.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn send<B: Serialize, T: DeserializeOwned>(&self, method: Method, path: &str, body: &B) -> Result<T> {
        self.json(self.request(method, path).json(body))
    }

    /// A change to what had this version when it was read; refused if somebody else changed it since.
    ///
    /// # Errors
    /// What the service or the network said; [`ClientError::is_changed_meanwhile`] tells that refusal.
    pub fn change<B: Serialize, T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: &B,
        version: &Version,
    ) -> Result<T> {
        self.json(self.request(method, path).header(IF_MATCH, version.tag()).json(body))
    }

    /// `POST`, JSON, for calls that answer with nothing.
    ///
    /// # Errors
    /// As for every call.
    pub fn post_without_answer<B: Serialize>(&self, path: &str, body: &B) -> Result<()> {
        self.checked(self.request(Method::POST, path).json(body)).map(drop)
    }

    /// Writes what a path answers with, piece by piece.
    ///
    /// # Errors
    /// As for every call; [`ClientError::Unexpected`] when it cannot be written.
    pub fn download(&self, path: &str, query: &[(&str, Option<String>)], out: &mut dyn Write) -> Result<()> {
        let mut response = self.checked(self.request(Method::GET, path).query(query))?;
        std::io::copy(&mut response, out).map(drop).map_err(|e| ClientError::Unexpected(format!("copying the answer: {e}")))
    }

    /// Writes what a call with a JSON body answers with.
    ///
    /// # Errors
    /// As [`Api::download`].
    pub fn fetch_file<B: Serialize>(&self, path: &str, body: &B, out: &mut dyn Write) -> Result<()> {
        let mut response = self.checked(self.request(Method::POST, path).json(body))?;
        std::io::copy(&mut response, out).map(drop).map_err(|e| ClientError::Unexpected(format!("copying the answer: {e}")))
    }

    /// `GET`, JSON, tried once.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn get_once<T: DeserializeOwned>(&self, path: &str) -> Result<T> {
        self.json(self.request(Method::GET, path))
    }

    /// `POST`, JSON, tried once.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn post<B: Serialize, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T> {
        self.send(Method::POST, path, body)
    }

    /// `POST`, JSON, tried again after passing failures. The call is made once however often it is sent: the service gives the
    /// answer that was lost again.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn post_patiently<B: Serialize, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T> {
        let key = HEXLOWER.encode(&random_array::<16>(&SystemRandom::default()));
        self.patiently(|| self.json(self.request(Method::POST, path).header("idempotency-key", &key).json(body)))
    }

    /// `DELETE`.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn delete(&self, path: &str) -> Result<()> {
        self.checked(self.request(Method::DELETE, path)).map(drop)
    }

    /// Sends a segment; repeating it does no harm.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn put_segment(&self, store: &str, hash: &SegmentHash, bytes: &Bytes) -> Result<()> {
        self.put_bytes(&format!("/stores/{store}/segments/{hash}"), bytes)
    }

    /// Sends bytes to a path; repeating it does no harm.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn put_bytes(&self, path: &str, bytes: &Bytes) -> Result<()> {
        self.patiently(|| self.checked(self.request(Method::PUT, path).body(bytes.clone())).map(drop))
    }

    /// Which of these chunks the store does not have.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn missing(&self, store: &str, names: &[ChunkName]) -> Result<Vec<bool>> {
        let path = format!("/stores/{store}/chunks/missing");
        let answer = self.patiently(|| {
            let response = self.checked(self.request(Method::POST, &path).body(joined(names)))?;
            bounded(response, names.len() as u64)
        })?;
        if answer.len() != names.len() {
            return Err(ClientError::Unexpected("another number of answers than questions".into()));
        }
        Ok(answer.iter().map(|byte| *byte != 0).collect())
    }

    /// Fetches sealed chunks and gives each to `each` in the order of `names`; `None` for one that is damaged or missing.
    ///
    /// # Errors
    /// What the service, the network or `each` said.
    pub fn fetch(
        &self,
        store: &str,
        names: &[ChunkName],
        mut each: impl FnMut(usize, Option<&mut [u8]>) -> Result<()>,
    ) -> Result<()> {
        let path = format!("/stores/{store}/chunks/fetch");
        let (mut done, mut frame) = (0, Vec::new());
        // What has been given out is not fetched again.
        self.patiently(|| {
            let mut response = self.checked(self.request(Method::POST, &path).body(joined(&names[done..])))?;
            while done < names.len() {
                let sealed = self.read_frame(&mut response, &mut frame)?;
                each(done, sealed)?;
                done += 1;
            }
            Ok(())
        })
    }

    /// Reads a frame into `frame`, which may be longer, and gives what it holds if that is sound.
    fn read_frame<'f>(&self, response: &mut Response, frame: &'f mut Vec<u8>) -> Result<Option<&'f mut [u8]>> {
        let broken = |e: std::io::Error| ClientError::Unreachable { address: self.address.clone(), why: e.to_string() };
        let mut head = [0; FRAME_HEAD];
        response.read_exact(&mut head).map_err(broken)?;
        let status = FrameStatus::from_byte(head[0]).ok_or_else(|| ClientError::Unexpected("an unknown frame".into()))?;
        let len = u32::from_le_bytes([head[1], head[2], head[3], head[4]]) as usize;
        if len > 2 * jetfrost_image::format::MAX_CHUNK {
            return Err(ClientError::Unexpected("a chunk longer than chunks are".into()));
        }
        if frame.len() < len {
            frame.resize(len, 0);
        }
        let sealed = &mut frame[..len];
        response.read_exact(sealed).map_err(broken)?;
        Ok((status == FrameStatus::Sound).then_some(sealed))
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.http.request(method, format!("https://{}{ROOT}{path}", self.authority));
        match &self.credential {
            Some(credential) => request.bearer_auth(credential),
            None => request,
        }
    }

    fn json<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T> {
        let bytes = bounded(self.checked(request)?, MOST_JSON)?;
        serde_json::from_slice(&bytes).map_err(|e| ClientError::Unexpected(e.to_string()))
    }

    /// Sends a request and checks the status: anything but success becomes an error.
    fn checked(&self, request: RequestBuilder) -> Result<Response> {
        let response = request.send().map_err(|e| self.failed(&e))?;
        let said = response.headers().get(UNITS_HEADER).and_then(|value| value.to_str().ok()).and_then(Units::from_word);
        said.into_iter().for_each(show_in);
        let status = response.status();
        if status.is_success() {
            return Ok(response);
        }
        let bytes = bounded(response, MOST_PROBLEM).unwrap_or_default();
        Err(match serde_json::from_slice::<Problem>(&bytes) {
            Ok(problem) => ClientError::Refused(Box::new(problem)),
            Err(_) => ClientError::Unexpected(format!("status {status}")),
        })
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

/// What stands in URLs for an address that is good on one link alone, and the address. URLs have no place for the interface: the
/// name never leaves this machine but in the header `Host`.
fn on_a_link(address: &str) -> Option<(String, SocketAddr)> {
    let (host, port) = address.strip_prefix('[')?.split_once("]:")?;
    let (ip, interface) = host.split_once('%')?;
    let (ip, port): (Ipv6Addr, u16) = (ip.parse().ok()?, port.parse().ok()?);
    let scope = System::interface_number(interface)?;
    Some((format!("{LINK}:{port}"), SocketAddrV6::new(ip, port, 0, scope).into()))
}

/// The bytes of an answer, which may not have more than `most`: a service may answer without end.
fn bounded(response: Response, most: u64) -> Result<Vec<u8>> {
    let mut bytes = Vec::new();
    let read = response.take(most + 1).read_to_end(&mut bytes);
    match read {
        Ok(_) if bytes.len() as u64 > most => Err(ClientError::Unexpected(format!("more than {most} bytes in one answer"))),
        Ok(_) => Ok(bytes),
        Err(e) => Err(ClientError::Unexpected(format!("an answer that broke off: {}", e.kind()))),
    }
}

fn joined(names: &[ChunkName]) -> Vec<u8> {
    names.iter().flat_map(|name| *name.as_bytes()).collect()
}

/// The innermost cause is the one that says something.
fn innermost(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(source) = cause.source() {
        cause = source;
    }
    cause.to_string()
}
