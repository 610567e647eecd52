//! The service's certificate: made at first start, or brought by the administrator.

use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use data_encoding::HEXLOWER;
use rcgen::{CertificateParams, DnType, KeyPair};
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};

use crate::own_records::{CERTIFICATE, CERTIFICATE_KEY};

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
    /// The certificate could not be made.
    #[error("making a certificate: {0}")]
    Make(#[from] rcgen::Error),
    /// Certificate and key do not go together.
    #[error("certificate and key do not go together: {0}")]
    Pair(#[from] rustls::Error),
}

/// A certificate with its key, ready to serve.
pub(crate) struct Certificate {
    pub(crate) config: ServerConfig,
    /// SHA-256 of the certificate (DER).
    pub(crate) fingerprint: [u8; 32],
}

impl Certificate {
    pub(crate) fn fingerprint_text(&self) -> String {
        HEXLOWER.encode(&self.fingerprint)
    }

    /// Reads certificate and key from PEM files.
    pub(crate) fn load(certificate: &Path, key: &Path) -> Result<Self, CertificateError> {
        let content = |path: &Path| {
            let path = path.to_owned();
            move |e: rustls::pki_types::pem::Error| CertificateError::Content { path, why: e.to_string() }
        };
        let chain: Vec<_> = CertificateDer::pem_file_iter(certificate)
            .map_err(content(certificate))?
            .collect::<Result<_, _>>()
            .map_err(content(certificate))?;
        let first =
            chain.first().ok_or(CertificateError::Content { path: certificate.into(), why: "it holds no certificate".into() })?;
        let fingerprint = sha256(first);
        let key = PrivateKeyDer::from_pem_file(key).map_err(content(key))?;
        let config = ServerConfig::builder().with_no_client_auth().with_single_cert(chain, key)?;
        Ok(Self { config, fingerprint })
    }

    /// Loads the certificate in the state directory, and makes it first if there is none.
    pub(crate) fn load_or_make(state: &Path, public_name: &str) -> Result<Self, CertificateError> {
        let (certificate, key) = (state.join(CERTIFICATE), state.join(CERTIFICATE_KEY));
        if !certificate.exists() {
            make(&certificate, &key, public_name)?;
        }
        Self::load(&certificate, &key)
    }
}

fn make(certificate: &Path, key: &Path, public_name: &str) -> Result<(), CertificateError> {
    let pair = KeyPair::generate()?;
    let mut params = CertificateParams::new(vec![public_name.to_owned(), "localhost".into(), "127.0.0.1".into(), "::1".into()])?;
    params.distinguished_name.push(DnType::CommonName, format!("Jetfrost on {public_name}"));
    let made = params.self_signed(&pair)?;
    // The key first: a certificate without a key would not be made again.
    write(key, &pair.serialize_pem(), 0o600)?;
    write(certificate, &made.pem(), 0o644)
}

fn write(path: &Path, text: &str, mode: u32) -> Result<(), CertificateError> {
    let failed = |source| CertificateError::File { path: path.into(), source };
    let temporary = path.with_extension("new");
    let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(mode).open(&temporary).map_err(failed)?;
    file.write_all(text.as_bytes()).and_then(|()| file.sync_all()).map_err(failed)?;
    fs::rename(&temporary, path).map_err(failed)
}

fn sha256(bytes: &[u8]) -> [u8; 32] {
    let digest = ring::digest::digest(&ring::digest::SHA256, bytes);
    digest.as_ref().try_into().expect("SHA-256 has 32 bytes")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_made_once_and_its_key_is_private() {
        use std::os::unix::fs::PermissionsExt;
        let _ = rustls::crypto::ring::default_provider().install_default();
        let state = tempfile::tempdir().expect("a directory");
        let first = Certificate::load_or_make(state.path(), "backup.office.example").expect("made");
        let again = Certificate::load_or_make(state.path(), "another.name").expect("loaded");
        assert_eq!(first.fingerprint, again.fingerprint);
        let mode = fs::metadata(state.path().join("certificate-key.pem")).expect("there").permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
    }
}
