//! The key by which workstations know the service. It is made once and signs whatever certificate the service shows them, so that
//! these come and go without anybody noticing.

use std::fs;
use std::path::Path;

use super::{CertificateError, pem, sha256};
use rcgen::{BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose};
use rustls::pki_types::{CertificateDer, PrivatePkcs8KeyDer};
use time::OffsetDateTime;

use crate::state_directory::IDENTITY;

/// A certificate is made for so long. Browsers take none that is for more than 398 days.
const LEAF_DAYS: i64 = 397;
/// A workstation that knows the identity before this one is led to it for so long.
pub(super) const OVERLAP_DAYS: i64 = 400;
const DAY_MS: i64 = 24 * 3600 * 1000;

/// The key, with the certificates that say whose it is.
pub(super) struct Identity {
    key: KeyPair,
    /// Signed by the key itself. Its SHA-256 is what workstations pin.
    certificate: CertificateDer<'static>,
    /// What leads here from identities before this one: the certificate of this key that the one before signed, that one's own,
    /// and so on.
    before: Vec<CertificateDer<'static>>,
}

impl Identity {
    pub(super) fn load(state: &Path, now_ms: i64) -> Result<Self, CertificateError> {
        let path = state.join(IDENTITY);
        let pair = pem::read(&path, &path)?;
        let key = KeyPair::try_from(&pair.key)?;
        let mut chain = pair.chain.into_iter();
        let certificate = chain.next().ok_or(CertificateError::Content { path, why: "it holds no certificate".into() })?;
        Ok(Self { key, certificate, before: current(chain.as_slice(), now_ms) })
    }

    /// Makes one that workstations have not seen yet.
    pub(super) fn make() -> Result<Self, CertificateError> {
        let key = KeyPair::generate()?;
        let certificate = own_params(&key)?.self_signed(&key)?.der().clone();
        Ok(Self { key, certificate, before: Vec::new() })
    }

    /// Goes on with a certificate that workstations pinned already.
    pub(super) fn adopt(certificate: &Path, key: &Path) -> Result<Self, CertificateError> {
        let pair = pem::read(certificate, key)?;
        let adopted = Self { key: KeyPair::try_from(&pair.key)?, certificate: pair.chain[0].clone(), before: Vec::new() };
        let unfit = |why: &str| CertificateError::Content { path: certificate.into(), why: why.into() };
        let (signed, _) = adopted.sign(&["localhost".into()], 0)?;
        let facts = |certificate| pem::facts(certificate).map_err(|e| unfit(&e.to_string()));
        if facts(&signed)?.issuer != facts(&adopted.certificate)?.subject {
            return Err(unfit("its name cannot be written as an issuer's"));
        }
        Ok(adopted)
    }

    /// The one that takes the place of this one; with `overlap`, whoever knows this one is led to it.
    pub(super) fn succeed(&self, overlap: bool, now_ms: i64) -> Result<Self, CertificateError> {
        let mut next = Self::make()?;
        if overlap {
            let mut params = own_params(&next.key)?;
            params.not_before = at(now_ms - DAY_MS);
            params.not_after = at(now_ms + OVERLAP_DAYS * DAY_MS);
            let led_to = params.signed_by(&next.key, &self.issuer()?)?.der().clone();
            next.before = [led_to, self.certificate.clone()].into_iter().chain(self.before.iter().cloned()).collect();
        }
        Ok(next)
    }

    pub(super) fn save(&self, state: &Path) -> Result<(), CertificateError> {
        let certificates = [&self.certificate].into_iter().chain(&self.before).map(|one| pem::text(one));
        let text: String = [self.key.serialize_pem()].into_iter().chain(certificates).collect();
        pem::write(&state.join(IDENTITY), &text)
    }

    pub(super) fn fingerprint(&self) -> [u8; 32] {
        sha256(&self.certificate)
    }

    pub(super) fn certificate_text(&self) -> String {
        pem::text(&self.certificate)
    }

    /// When something that leads here is over, in Unix milliseconds.
    pub(super) fn changes(&self) -> Option<i64> {
        self.before.chunks_exact(2).filter_map(|pair| pem::facts(&pair[0]).ok()).map(|led_to| led_to.ends).min()
    }

    /// What is shown after a certificate that this key signed.
    pub(super) fn chain(&self) -> impl Iterator<Item = CertificateDer<'static>> {
        [&self.certificate].into_iter().chain(&self.before).cloned()
    }

    /// Whether this key signed a certificate, as far as its names tell.
    pub(super) fn is_issuer_of(&self, certificate: &CertificateDer<'_>) -> bool {
        let facts = |certificate| pem::facts(certificate).ok();
        facts(certificate).zip(facts(&self.certificate)).is_some_and(|(leaf, own)| leaf.issuer == own.subject)
    }

    /// A certificate for these names, and its key.
    pub(super) fn sign(&self, names: &[String], now_ms: i64) -> Result<(CertificateDer<'static>, KeyPair), CertificateError> {
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::new(names)?;
        params.distinguished_name.push(DnType::CommonName, format!("Jetfrost on {}", names[0]));
        // The clock of a workstation or browser may be behind.
        params.not_before = at(now_ms - DAY_MS);
        params.not_after = at(now_ms + LEAF_DAYS * DAY_MS);
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        params.use_authority_key_identifier_extension = true;
        let certificate = params.signed_by(&key, &self.issuer()?)?.der().clone();
        Ok((certificate, key))
    }

    fn issuer(&self) -> Result<Issuer<'static, KeyPair>, CertificateError> {
        let key = KeyPair::try_from(&PrivatePkcs8KeyDer::from(self.key.serialized_der()))?;
        Ok(Issuer::from_ca_cert_der(&self.certificate, key)?)
    }
}

/// What a certificate of an identity's own key says. Two identities of one name could be taken for each other by whoever looks for
/// a way from one to the other.
fn own_params(key: &KeyPair) -> Result<CertificateParams, CertificateError> {
    let mark = data_encoding::HEXLOWER.encode(&sha256(key.public_key_raw())[..4]);
    let mut params = CertificateParams::new(Vec::new())?;
    params.distinguished_name = rcgen::DistinguishedName::new();
    params.distinguished_name.push(DnType::CommonName, format!("Jetfrost identity {mark}"));
    params.is_ca = IsCa::Ca(BasicConstraints::Constrained(1));
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::DigitalSignature];
    Ok(params)
}

/// Of what leads here, in pairs, that which has not ended.
fn current(before: &[CertificateDer<'static>], now_ms: i64) -> Vec<CertificateDer<'static>> {
    let ends = |pair: &&[CertificateDer<'_>]| pem::facts(&pair[0]).is_ok_and(|led_to| led_to.ends > now_ms);
    before.chunks_exact(2).take_while(ends).flatten().cloned().collect()
}

/// Whether the state directory has an identity.
pub(super) fn exists(state: &Path) -> bool {
    fs::exists(state.join(IDENTITY)).unwrap_or(true)
}

fn at(ms: i64) -> OffsetDateTime {
    OffsetDateTime::from_unix_timestamp(ms.div_euclid(1000)).unwrap_or(OffsetDateTime::UNIX_EPOCH)
}
