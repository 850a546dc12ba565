//! The service's own certificate: given by the operator, or created and kept in the data folder.

use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use rcgen::{CertificateParams, KeyPair};
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};

/// Why TLS cannot be offered.
#[derive(Debug, thiserror::Error)]
pub enum TlsError {
    /// A file cannot be read or written.
    #[error("{path} cannot be used: {source}")]
    File {
        /// The file.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A file does not hold what it should.
    #[error("{path} does not hold a usable {what}: {detail}")]
    Content {
        /// The file.
        path: PathBuf,
        /// `certificate` or `key`.
        what: &'static str,
        /// Why.
        detail: String,
    },
    /// Making a certificate failed.
    #[error("a certificate could not be created: {0}")]
    Making(#[from] rcgen::Error),
}

/// TLS settings and the certificate's SHA-256 fingerprint in hex.
pub struct Tls {
    /// The settings.
    pub config: Arc<ServerConfig>,
    /// The fingerprint.
    pub fingerprint: String,
    /// It was given, not made here: browsers are meant to trust it.
    pub given: bool,
}

/// How long a certificate that is made here is good, and how long before its end another is made.
const LIFE_DAYS: i64 = 397;
const RENEW_DAYS: i64 = 30;

/// Reads certificate and key.
///
/// # Errors
/// When a file is missing or of no use.
pub fn given(certificate: &Path, key: &Path) -> Result<Tls, TlsError> {
    let content = |path: &Path, what, detail: &dyn std::fmt::Display| TlsError::Content {
        path: path.to_owned(),
        what,
        detail: detail.to_string(),
    };
    let read =
        |path: &Path| std::fs::read(path).map_err(|source| TlsError::File { path: path.to_owned(), source });
    let chain: Result<Vec<CertificateDer<'static>>, _> =
        CertificateDer::pem_slice_iter(&read(certificate)?).collect();
    let chain = chain.map_err(|e| content(certificate, "certificate", &e))?;
    let Some(first) = chain.first() else {
        return Err(content(certificate, "certificate", &"it has none"));
    };
    let digest = ring::digest::digest(&ring::digest::SHA256, first);
    let fingerprint = digest.as_ref().iter().map(|b| format!("{b:02x}")).collect();
    let key_der = PrivateKeyDer::from_pem_slice(&read(key)?).map_err(|e| content(key, "key", &e))?;
    let mut config = ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()
        .map_err(|e| content(key, "key", &e))?
        .with_no_client_auth()
        .with_single_cert(chain, key_der)
        .map_err(|e| content(key, "key", &e))?;
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(Tls { config: Arc::new(config), fingerprint, given: true })
}

/// Reads the self-signed certificate of the data folder, or makes it for these names. One that is about to end, or was
/// made for longer than browsers take, is renewed with the same key.
///
/// # Errors
/// When a file cannot be written or read.
pub fn self_signed(folder: &Path, names: Vec<String>, now: Timestamp) -> Result<Tls, TlsError> {
    let (certificate, key) = (folder.join("tls-certificate.pem"), folder.join("tls-key.pem"));
    let kept = if certificate.exists() { end_of(&certificate) } else { None };
    let day = 24 * 3600;
    let good = kept.is_some_and(|end| {
        let left = end - now.as_second();
        left > RENEW_DAYS * day && left <= (LIFE_DAYS + 1) * day
    });
    if !good || !key.exists() {
        let pair = match std::fs::read_to_string(&key).ok().and_then(|pem| KeyPair::from_pem(&pem).ok()) {
            Some(pair) => pair,
            None => KeyPair::generate()?,
        };
        let mut params = CertificateParams::new(names)?;
        let date = |days: i64| {
            let at = now.as_second() + days * day;
            time::OffsetDateTime::from_unix_timestamp(at).unwrap_or(time::OffsetDateTime::UNIX_EPOCH)
        };
        (params.not_before, params.not_after) = (date(-1), date(LIFE_DAYS - 1));
        let made = params.self_signed(&pair)?;
        write(&key, &pair.serialize_pem())?;
        write(&certificate, &made.pem())?;
    }
    given(&certificate, &key).map(|tls| Tls { given: false, ..tls })
}

/// When a certificate ends, in seconds since 1970.
fn end_of(path: &Path) -> Option<i64> {
    let der = CertificateDer::from_pem_file(path).ok()?;
    let (_, read) = x509_parser::parse_x509_certificate(&der).ok()?;
    Some(read.validity().not_after.timestamp())
}

fn write(path: &Path, text: &str) -> Result<(), TlsError> {
    use std::io::Write;
    let file = std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path);
    file.and_then(|mut f| f.write_all(text.as_bytes()))
        .map_err(|source| TlsError::File { path: path.to_owned(), source })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_of_our_own_is_valid_for_397_days_and_recreated_before_that() {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let folder = tempfile::tempdir().unwrap();
        let now = Timestamp::from_second(1_800_000_000).unwrap();
        let later = |days: i64| Timestamp::from_second(1_800_000_000 + days * 86_400).unwrap();
        let names = || vec!["localhost".to_owned()];
        let first = self_signed(folder.path(), names(), now).unwrap();
        assert!(!first.given);
        let end = end_of(&folder.path().join("tls-certificate.pem")).unwrap();
        assert!((end - 1_800_000_000) / 86_400 <= 397);
        assert_eq!(self_signed(folder.path(), names(), later(300)).unwrap().fingerprint, first.fingerprint);
        let key = std::fs::read(folder.path().join("tls-key.pem")).unwrap();
        assert_ne!(self_signed(folder.path(), names(), later(370)).unwrap().fingerprint, first.fingerprint);
        assert_eq!(std::fs::read(folder.path().join("tls-key.pem")).unwrap(), key, "the key stays");
    }
}
