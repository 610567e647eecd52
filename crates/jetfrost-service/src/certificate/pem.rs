//! Certificates and keys in PEM files (RFC 7468).

use std::fs::OpenOptions;
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use jetfrost_image::medium::replace_file;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use x509_parser::prelude::{FromDer, X509Certificate};

use super::CertificateError;

/// A key, and the certificate of it with those that come after it.
pub(super) struct Pair {
    pub(super) key: PrivateKeyDer<'static>,
    pub(super) chain: Vec<CertificateDer<'static>>,
}

/// Reads a key and certificates; they may be in one file.
pub(super) fn read(certificates: &Path, key: &Path) -> Result<Pair, CertificateError> {
    let content = |path: &Path| {
        let path = path.to_owned();
        move |e: rustls::pki_types::pem::Error| match e {
            rustls::pki_types::pem::Error::Io(source) => CertificateError::File { path, source },
            other => CertificateError::Content { path, why: other.to_string() },
        }
    };
    let chain: Vec<_> = CertificateDer::pem_file_iter(certificates)
        .map_err(content(certificates))?
        .collect::<Result<_, _>>()
        .map_err(content(certificates))?;
    if chain.is_empty() {
        return Err(CertificateError::Content { path: certificates.into(), why: "it holds no certificate".into() });
    }
    Ok(Pair { key: PrivateKeyDer::from_pem_file(key).map_err(content(key))?, chain })
}

/// Writes a file that only the service can read, durably and at once: a reader sees the one before or this.
pub(super) fn write(path: &Path, text: &str) -> Result<(), CertificateError> {
    replace_file(path, OpenOptions::new().mode(0o600), |file| file.write_all(text.as_bytes()))
        .map_err(|source| CertificateError::File { path: path.into(), source })
}

/// A certificate as PEM.
pub(super) fn text(certificate: &CertificateDer<'_>) -> String {
    let body = data_encoding::BASE64.encode(certificate);
    let lines: Vec<&str> = (0..body.len()).step_by(64).map(|at| &body[at..body.len().min(at + 64)]).collect();
    format!("-----BEGIN CERTIFICATE-----\n{}\n-----END CERTIFICATE-----\n", lines.join("\n"))
}

/// What is read of a certificate.
pub(super) struct Facts {
    /// When it ends, in Unix milliseconds.
    pub(super) ends: i64,
    /// The names that it is for.
    pub(super) names: Vec<String>,
    /// Its issuer's name as it stands there (DER).
    pub(super) issuer: Vec<u8>,
    /// Its own name as it stands there (DER).
    pub(super) subject: Vec<u8>,
}

/// Reads a certificate (RFC 5280).
pub(super) fn facts(certificate: &CertificateDer<'_>) -> io::Result<Facts> {
    let bad = |e: String| io::Error::new(io::ErrorKind::InvalidData, e);
    let (_, parsed) = X509Certificate::from_der(certificate).map_err(|e| bad(e.to_string()))?;
    let alternative = parsed.subject_alternative_name().map_err(|e| bad(e.to_string()))?;
    let names = alternative.iter().flat_map(|names| &names.value.general_names).map(shown_name).collect();
    Ok(Facts {
        ends: parsed.validity().not_after.timestamp().saturating_mul(1000),
        names,
        issuer: parsed.issuer().as_raw().to_vec(),
        subject: parsed.subject().as_raw().to_vec(),
    })
}

fn shown_name(name: &x509_parser::extensions::GeneralName<'_>) -> String {
    use x509_parser::extensions::GeneralName;
    match name {
        GeneralName::DNSName(name) => (*name).to_owned(),
        GeneralName::IPAddress(bytes) => match bytes.len() {
            4 => <[u8; 4]>::try_from(*bytes).map(|b| std::net::Ipv4Addr::from(b).to_string()).unwrap_or_default(),
            _ => <[u8; 16]>::try_from(*bytes).map(|b| std::net::Ipv6Addr::from(b).to_string()).unwrap_or_default(),
        },
        other => other.to_string(),
    }
}
