//! Knowing the service by its certificate's fingerprint.

use std::sync::{Arc, Mutex};

use data_encoding::HEXLOWER;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, Error, SignatureScheme};

/// What is known of the service's certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Pin {
    /// The first bytes of its SHA-256, all 32 or the 16 of an enrolment code.
    Known(Vec<u8>),
    /// Nothing yet: whatever is shown is noted, for a person to compare.
    Unknown,
}

/// Accepts the one certificate that is pinned. That the peer holds its key is checked as always.
#[derive(Debug)]
struct PinVerifier {
    pin: Pin,
    seen: Arc<Mutex<Option<String>>>,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for PinVerifier {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let digest = ring::digest::digest(&ring::digest::SHA256, certificate);
        if let Ok(mut seen) = self.seen.lock() {
            *seen = Some(HEXLOWER.encode(digest.as_ref()));
        }
        match &self.pin {
            Pin::Known(pin) if !digest.as_ref().starts_with(pin) || pin.len() < 16 => {
                Err(Error::InvalidCertificate(rustls::CertificateError::ApplicationVerificationFailure))
            }
            Pin::Known(_) | Pin::Unknown => Ok(ServerCertVerified::assertion()),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, certificate, signature, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signature, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

/// A TLS configuration that accepts the pinned certificate only; `seen` receives the fingerprint that was shown.
pub(crate) fn tls(pin: Pin, seen: Arc<Mutex<Option<String>>>) -> ClientConfig {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let verifier = PinVerifier { pin, seen, provider: Arc::clone(&provider) };
    ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .expect("the provider knows TLS 1.2 and 1.3")
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(verifier))
        .with_no_client_auth()
}
