//! Requests that no honest client sends: begun and left unfinished, or sent a byte at a time.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::Arc;
use std::time::Duration;

use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, ClientConnection, DigitallySignedStruct, Error, SignatureScheme, StreamOwned};

/// An upload that was announced and is under way for as long as this is kept.
pub struct RawUpload {
    stream: StreamOwned<ClientConnection, TcpStream>,
}

impl RawUpload {
    /// Sends the head of an upload of `len` bytes, and no body.
    ///
    /// # Panics
    /// When the service does not answer on loopback.
    #[must_use]
    pub fn begin(address: &str, credential: &str, path: &str, len: usize) -> Self {
        let mut upload = Self { stream: connect(address) };
        upload.send(
            format!(
                "PUT {path} HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {credential}\r\ncontent-type: application/octet-stream\r\n\
                 content-length: {len}\r\n\r\n"
            )
            .as_bytes(),
        );
        upload
    }

    /// Sends bytes of the body.
    ///
    /// # Panics
    /// When the service closed the connection.
    pub fn send(&mut self, bytes: &[u8]) {
        self.stream.write_all(bytes).and_then(|()| self.stream.flush()).expect("sent");
    }

    /// The status line of the answer; empty when the connection was closed without one.
    #[must_use]
    pub fn status(&mut self) -> String {
        let mut answer = [0; 64];
        let n = self.stream.read(&mut answer).unwrap_or(0);
        String::from_utf8_lossy(&answer[..n]).lines().next().unwrap_or_default().to_owned()
    }
}

/// A call that was sent as it is, of which the answer may be left.
pub struct RawCall {
    stream: StreamOwned<ClientConnection, TcpStream>,
}

impl RawCall {
    /// Sends it.
    ///
    /// # Panics
    /// When the service does not answer on loopback.
    #[must_use]
    pub fn send(address: &str, call: &[u8]) -> Self {
        let mut stream = connect(address);
        stream.write_all(call).and_then(|()| stream.flush()).expect("sent");
        Self { stream }
    }

    /// Closes the connection.
    pub fn leave(self) {
        drop(self.stream);
    }

    /// The answer, as far as it comes in one piece.
    ///
    /// # Panics
    /// When the connection fails.
    #[must_use]
    pub fn answer(&mut self) -> String {
        let mut answer = vec![0; 16 << 10];
        let n = self.stream.read(&mut answer).expect("an answer");
        String::from_utf8_lossy(&answer[..n]).into_owned()
    }
}

fn connect(address: &str) -> StreamOwned<ClientConnection, TcpStream> {
    let socket = TcpStream::connect(address).expect("the service listens");
    socket.set_read_timeout(Some(Duration::from_secs(120))).expect("set");
    let name = ServerName::try_from("localhost").expect("a name");
    let connection = ClientConnection::new(Arc::new(trusting()), name).expect("a connection");
    StreamOwned::new(connection, socket)
}

/// Trusts any certificate: these requests go to a test's own service on loopback.
fn trusting() -> ClientConfig {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .expect("the usual versions")
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(Trusting))
        .with_no_client_auth()
}

#[derive(Debug)]
pub(crate) struct Trusting;

impl ServerCertVerifier for Trusting {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        Ok(HandshakeSignatureValid::assertion())
    }

    fn verify_tls13_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        Ok(HandshakeSignatureValid::assertion())
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        rustls::crypto::ring::default_provider().signature_verification_algorithms.supported_schemes()
    }
}
