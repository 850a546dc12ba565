//! The service's own certificate: given by the operator, or made and kept in the data folder.

use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

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
    #[error("a certificate could not be made: {0}")]
    Making(#[from] rcgen::Error),
}

/// TLS settings and the certificate's SHA-256 fingerprint in hex.
pub struct Tls {
    /// The settings.
    pub config: Arc<ServerConfig>,
    /// The fingerprint.
    pub fingerprint: String,
}

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
        return Err(content(certificate, "certificate", &"there is none in it"));
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
    Ok(Tls { config: Arc::new(config), fingerprint })
}

/// Reads the self-signed certificate of the data folder, or makes it for these names.
///
/// # Errors
/// When a file cannot be written or read.
pub fn self_signed(folder: &Path, names: Vec<String>) -> Result<Tls, TlsError> {
    let (certificate, key) = (folder.join("tls-certificate.pem"), folder.join("tls-key.pem"));
    if !certificate.exists() || !key.exists() {
        let made = rcgen::generate_simple_self_signed(names)?;
        write(&key, &made.signing_key.serialize_pem())?;
        write(&certificate, &made.cert.pem())?;
    }
    given(&certificate, &key)
}

fn write(path: &Path, text: &str) -> Result<(), TlsError> {
    use std::io::Write;
    let file = std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path);
    file.and_then(|mut f| f.write_all(text.as_bytes()))
        .map_err(|source| TlsError::File { path: path.to_owned(), source })
}
