//! Knowing the service by its identity: a key that signs the certificates it shows, and stays the same while they come and go.

use std::fmt;
use std::sync::{Arc, Mutex};

use data_encoding::HEXLOWER;
use jetfrost_wire::IDENTITY_PROTOCOL;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, SignatureScheme};
use webpki::{EndEntityCert, KeyUsage, anchor_from_trusted_cert};
use x509_parser::prelude::{FromDer, X509Certificate};

/// Certificates that are looked at; an honest service shows two, and two more for each identity that went before.
const MOST_CERTIFICATES: usize = 12;

/// What is known of the service's identity.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Pin {
    /// The first bytes of the SHA-256 of its certificate, all 32 or the 16 of an enrolment code.
    Known(Vec<u8>),
    /// Nothing yet: whatever is shown is noted, for a person to compare.
    Unknown,
}

/// What the latest connection was shown.
#[derive(Debug, Clone, Default)]
pub(crate) struct Seen {
    /// The fingerprint of the identity, in hexadecimal.
    pub(crate) identity: Option<String>,
    /// Whether it is not the one that is known, and nothing leads to it.
    pub(crate) is_refused: bool,
}

/// What a connection finds out: it is called with the fingerprint of the identity that the service has now, in hexadecimal.
pub(crate) type Learn = Box<dyn Fn(&str) + Send + Sync>;

/// Accepts a certificate that the pinned identity signed, or that one does to which it leads. That the peer holds the
/// certificate's key is checked as always.
struct PinVerifier {
    pin: Pin,
    seen: Arc<Mutex<Seen>>,
    learn: Option<Learn>,
    provider: Arc<CryptoProvider>,
}

impl fmt::Debug for PinVerifier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("PinVerifier").field("pin", &self.pin).finish_non_exhaustive()
    }
}

impl PinVerifier {
    /// Whether a service that shows this is accepted.
    fn judge(&self, certificate: &CertificateDer<'_>, more: &[CertificateDer<'_>]) -> bool {
        let identity = identity_of(certificate, more);
        let text = HEXLOWER.encode(&identity);
        let (is_known, is_accepted) = match &self.pin {
            Pin::Unknown => (true, true),
            Pin::Known(pin) => (identity.starts_with(pin), is_vouched_for(pin, certificate, more)),
        };
        if let (Some(learn), true, false) = (&self.learn, is_accepted, is_known) {
            learn(&text);
        }
        if let Ok(mut seen) = self.seen.lock() {
            *seen = Seen { identity: Some(text), is_refused: !is_accepted };
        }
        is_accepted
    }
}

impl ServerCertVerifier for PinVerifier {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        more: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        if more.len() > MOST_CERTIFICATES {
            return Err(CertificateError::BadEncoding.into());
        }
        if !self.judge(certificate, more) {
            return Err(CertificateError::ApplicationVerificationFailure.into());
        }
        Ok(ServerCertVerified::assertion())
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

/// The identity that the service has now: the next certificate, if its key signed the first; otherwise that one itself.
fn identity_of(certificate: &CertificateDer<'_>, more: &[CertificateDer<'_>]) -> [u8; 32] {
    let signed_it = |issuer: &&CertificateDer<'_>| is_signed_by(certificate, issuer, &[]);
    sha256(more.first().filter(signed_it).unwrap_or(certificate))
}

/// Whether the pinned certificate is shown and leads to the service's own.
fn is_vouched_for(pin: &[u8], certificate: &CertificateDer<'_>, more: &[CertificateDer<'_>]) -> bool {
    let is_pinned = |one: &CertificateDer<'_>| pin.len() >= 16 && sha256(one).starts_with(pin);
    is_pinned(certificate) || more.iter().any(|one| is_pinned(one) && is_signed_by(certificate, one, more))
}

/// Whether a way of signatures leads from `issuer` to `certificate` (RFC 5280, section 6). Names are not looked at, since an
/// identity signs for one service alone; nor are dates: the clock of a workstation may be wrong, and the service stops showing
/// what is over.
fn is_signed_by(certificate: &CertificateDer<'_>, issuer: &CertificateDer<'_>, between: &[CertificateDer<'_>]) -> bool {
    let (Ok(leaf), Ok(anchor)) = (EndEntityCert::try_from(certificate), anchor_from_trusted_cert(issuer)) else {
        return false;
    };
    let Some(time) = begins(certificate) else { return false };
    leaf.verify_for_usage(webpki::ALL_VERIFICATION_ALGS, &[anchor], between, time, KeyUsage::server_auth(), None, None).is_ok()
}

/// When a certificate begins to be valid.
fn begins(certificate: &CertificateDer<'_>) -> Option<UnixTime> {
    let (_, parsed) = X509Certificate::from_der(certificate).ok()?;
    let seconds = u64::try_from(parsed.validity().not_before.timestamp()).ok()?;
    Some(UnixTime::since_unix_epoch(std::time::Duration::from_secs(seconds)))
}

fn sha256(bytes: &[u8]) -> [u8; 32] {
    let digest = ring::digest::digest(&ring::digest::SHA256, bytes);
    digest.as_ref().try_into().expect("SHA-256 has 32 bytes")
}

/// A TLS configuration that accepts the pinned identity only; `seen` receives what each connection is shown.
pub(crate) fn tls(pin: Pin, seen: Arc<Mutex<Seen>>, learn: Option<Learn>) -> ClientConfig {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let verifier = PinVerifier { pin, seen, learn, provider: Arc::clone(&provider) };
    let mut config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .expect("the provider knows TLS 1.2 and 1.3")
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(verifier))
        .with_no_client_auth();
    config.alpn_protocols = vec![IDENTITY_PROTOCOL.to_vec(), b"http/1.1".to_vec()];
    config
}

#[cfg(test)]
mod tests {
    use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};

    use super::*;

    /// A key with a certificate that it signed itself.
    struct Identity {
        key: KeyPair,
        params: CertificateParams,
        own: CertificateDer<'static>,
    }

    impl Identity {
        fn named(name: &str) -> Self {
            let key = KeyPair::generate().expect("a key");
            let mut params = CertificateParams::default();
            params.distinguished_name.push(DnType::CommonName, name);
            params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
            let own = params.self_signed(&key).expect("signed").der().clone();
            Self { key, params, own }
        }

        fn sign(&self, params: &CertificateParams, key: &KeyPair) -> CertificateDer<'static> {
            let issuer = Issuer::from_params(&self.params, &self.key);
            params.signed_by(key, &issuer).expect("signed").der().clone()
        }

        fn leaf(&self) -> CertificateDer<'static> {
            let mut params = CertificateParams::new(["backup.office.example".to_owned()]).expect("a name");
            // Long over by any clock.
            params.not_before = rcgen::date_time_ymd(2001, 1, 1);
            params.not_after = rcgen::date_time_ymd(2002, 1, 1);
            self.sign(&params, &KeyPair::generate().expect("a key"))
        }

        fn pin(&self) -> Vec<u8> {
            sha256(&self.own)[..16].to_vec()
        }
    }

    /// What a verifier says, and what it learned.
    fn verify(pin: Vec<u8>, chain: &[&CertificateDer<'static>]) -> (bool, Option<String>) {
        let learned = Arc::new(Mutex::new(None));
        let learn: Learn = {
            let learned = Arc::clone(&learned);
            Box::new(move |text: &str| *learned.lock().expect("a lock") = Some(text.to_owned()))
        };
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let verifier = PinVerifier { pin: Pin::Known(pin), seen: Arc::default(), learn: Some(learn), provider };
        let more: Vec<_> = chain[1..].iter().map(|one| (*one).clone()).collect();
        let name = ServerName::try_from("elsewhere.example").expect("a name");
        let verified = verifier.verify_server_cert(chain[0], &more, &name, &[], UnixTime::now()).is_ok();
        let learned = learned.lock().expect("a lock").take();
        (verified, learned)
    }

    #[test]
    fn whatever_the_pinned_identity_signed_is_accepted_under_any_name_and_at_any_time() {
        let identity = Identity::named("identity");
        assert_eq!(verify(identity.pin(), &[&identity.leaf(), &identity.own]), (true, None));
        assert_eq!(verify(identity.pin(), &[&identity.own]), (true, None), "as services of the version before show it");
    }

    #[test]
    fn a_certificate_that_only_lies_beside_the_pinned_one_is_refused() {
        let identity = Identity::named("identity");
        let impostor = Identity::named("identity");
        assert_eq!(verify(identity.pin(), &[&impostor.leaf(), &identity.own]), (false, None));
        assert_eq!(verify(identity.pin(), &[&impostor.leaf(), &impostor.own, &identity.own]), (false, None));
        assert_eq!(verify(identity.pin(), &[&impostor.own, &identity.own, &identity.leaf()]), (false, None));
        assert_eq!(verify(identity.pin(), &[&identity.leaf()]), (false, None), "who signed it is not shown");
        assert_eq!(verify(identity.pin()[..8].to_vec(), &[&identity.leaf(), &identity.own]), (false, None), "a short pin");
        let many = vec![&identity.own; MOST_CERTIFICATES + 2];
        assert_eq!(verify(identity.pin(), &many), (false, None));
    }

    #[test]
    fn the_next_identity_is_learned_from_the_pinned_one_and_from_no_other() {
        let (before, now) = (Identity::named("before"), Identity::named("now"));
        let led_to = before.sign(&now.params, &now.key);
        let leaf = now.leaf();
        let learned = Some(HEXLOWER.encode(&sha256(&now.own)));
        assert_eq!(verify(before.pin(), &[&leaf, &now.own, &led_to, &before.own]), (true, learned));
        assert_eq!(verify(now.pin(), &[&leaf, &now.own, &led_to, &before.own]), (true, None));
        // Somebody who made a way of their own.
        let impostor = Identity::named("before");
        let forged = impostor.sign(&now.params, &now.key);
        assert_eq!(verify(before.pin(), &[&leaf, &now.own, &forged, &before.own]), (false, None));
        // A certificate that the identity signed for a name signs nothing itself.
        let key = KeyPair::generate().expect("a key");
        let mut params = CertificateParams::new(["backup.office.example".to_owned()]).expect("a name");
        params.distinguished_name.push(DnType::CommonName, "leaf");
        let stolen = Identity { own: before.sign(&params, &key), key, params };
        assert_eq!(verify(before.pin(), &[&stolen.leaf(), &stolen.own, &before.own]), (false, None));
    }
}
