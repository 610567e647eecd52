//! Connections for much data, each driven by the thread that reads from it. Where a thread of its own drives a connection, every 16 KiB
//! that arrive cost a switch from that thread to the one that waits for them, and one back.

use std::io::{self, Read};
use std::sync::{Mutex, PoisonError};

use bytes::{Buf, Bytes};
use reqwest::{Client, ClientBuilder, RequestBuilder, Response};
use tokio::runtime::{Builder, Runtime};

use crate::error::ClientError;

/// Connections that are kept for whoever reads next; a restore reads from three at once.
const KEPT: usize = 4;

/// Connections to one service.
pub(super) struct Connections {
    settings: Box<dyn Fn() -> ClientBuilder + Send + Sync>,
    idle: Mutex<Vec<Connection>>,
}

impl Connections {
    pub(super) fn new(settings: impl Fn() -> ClientBuilder + Send + Sync + 'static) -> Self {
        Self { settings: Box::new(settings), idle: Mutex::default() }
    }

    /// One for the caller alone, until it is dropped.
    pub(super) fn lend(&self) -> Result<Lent<'_>, ClientError> {
        let idle = self.idle.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let connection = idle.map_or_else(|| Connection::new((self.settings)()), Ok)?;
        Ok(Lent { connections: self, connection: Some(connection) })
    }
}

/// A connection, and what drives it: nothing does while nobody reads.
struct Connection {
    runtime: Option<Runtime>,
    http: Client,
}

impl Connection {
    fn new(settings: ClientBuilder) -> Result<Self, ClientError> {
        let runtime = Builder::new_current_thread().enable_all().build();
        let runtime = runtime.map_err(|error| ClientError::Unexpected(error.to_string()))?;
        let http = settings.build().map_err(|error| ClientError::Unexpected(error.to_string()))?;
        Ok(Self { runtime: Some(runtime), http })
    }

    fn runtime(&self) -> &Runtime {
        self.runtime.as_ref().expect("it is there until it is dropped")
    }
}

/// Whoever drops the last copy of an API may be a task of another runtime, which must not wait for this one.
impl Drop for Connection {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

/// A connection that is lent.
pub(super) struct Lent<'c> {
    connections: &'c Connections,
    connection: Option<Connection>,
}

impl Lent<'_> {
    fn connection(&self) -> &Connection {
        self.connection.as_ref().expect("it is there until it is given back")
    }

    /// What a request is made of.
    pub(super) fn http(&self) -> &Client {
        &self.connection().http
    }

    /// Sends a request, and waits for what the answer begins with.
    pub(super) fn send(&self, request: RequestBuilder) -> Result<Incoming<'_>, reqwest::Error> {
        let runtime = self.connection().runtime();
        // Its clock is that of the runtime: it is made there.
        let response = runtime.block_on(async { request.send().await })?;
        Ok(Incoming { response, runtime, rest: Bytes::new() })
    }
}

impl Drop for Lent<'_> {
    fn drop(&mut self) {
        let mut idle = self.connections.idle.lock().unwrap_or_else(PoisonError::into_inner);
        if idle.len() < KEPT {
            idle.extend(self.connection.take());
        }
    }
}

/// The body of an answer, as it comes.
pub(super) struct Incoming<'c> {
    pub(super) response: Response,
    runtime: &'c Runtime,
    rest: Bytes,
}

impl Read for Incoming<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.rest.is_empty() {
            match self.runtime.block_on(self.response.chunk()).map_err(io::Error::other)? {
                Some(next) => self.rest = next,
                None => return Ok(0),
            }
        }
        let len = buffer.len().min(self.rest.len());
        self.rest.copy_to_slice(&mut buffer[..len]);
        Ok(len)
    }
}
