//! The client side of a mutual TLS link, from PEM texts.

use std::sync::Arc;

use gubernum_core::host::LinkFault;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ClientConfig, RootCertStore};

use crate::endpoint::TlsMaterial;
use crate::error::EngineError;

/// PEM texts that cannot be used, with the one at fault.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the {field} cannot be used: {why}; give it as PEM text")]
pub struct MaterialError {
    /// `ca`, `certificate` or `key`.
    pub field: &'static str,
    /// What is wrong.
    pub why: String,
}

/// Builds the TLS settings. Only the given authority is trusted, never the system's.
///
/// # Errors
/// When a text holds no usable certificate or key, or when key and certificate do not belong together.
pub fn client_config(material: &TlsMaterial) -> Result<Arc<ClientConfig>, MaterialError> {
    let mut roots = RootCertStore::empty();
    for certificate in certificates("ca", &material.ca)? {
        roots.add(certificate).map_err(|e| MaterialError { field: "ca", why: e.to_string() })?;
    }
    let chain = certificates("certificate", &material.certificate)?;
    let key = PrivateKeyDer::from_pem_slice(material.key.as_bytes())
        .map_err(|e| MaterialError { field: "key", why: e.to_string() })?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| MaterialError { field: "certificate", why: e.to_string() })?
        .with_root_certificates(roots)
        .with_client_auth_cert(chain, key)
        .map_err(|e| MaterialError { field: "key", why: e.to_string() })?;
    Ok(Arc::new(config))
}

fn certificates(field: &'static str, pem: &str) -> Result<Vec<CertificateDer<'static>>, MaterialError> {
    let all: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(pem.as_bytes()).collect();
    let all = all.map_err(|e| MaterialError { field, why: e.to_string() })?;
    if all.is_empty() {
        return Err(MaterialError { field, why: "there is no certificate in it".to_owned() });
    }
    Ok(all)
}

impl From<MaterialError> for EngineError {
    fn from(error: MaterialError) -> Self {
        EngineError::link(LinkFault::TlsFailed, "the host", &error.to_string())
    }
}
