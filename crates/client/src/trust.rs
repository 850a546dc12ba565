//! Which certificate is trusted over TLS: the system's authorities, or one certificate by its fingerprint.

use std::sync::Arc;

use rustls::ClientConfig;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{DigitallySignedStruct, SignatureScheme};

/// Whom to trust.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Trust {
    /// The authorities that the system trusts.
    System,
    /// The one certificate with this SHA-256 fingerprint (64 hex digits; colons and case do not
    /// matter): for the service's self-signed one.
    Fingerprint(String),
}

impl Trust {
    /// How the other side's certificate is checked, for connections that are not made by the HTTP client.
    pub(crate) fn config(&self) -> Result<ClientConfig, rustls::Error> {
        use rustls_platform_verifier::BuilderVerifierExt;
        if let Some(pinned) = self.pinned() {
            return Ok(pinned);
        }
        let provider = Arc::new(ring::default_provider());
        let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
        Ok(builder.with_platform_verifier()?.with_no_client_auth())
    }

    pub(crate) fn pinned(&self) -> Option<ClientConfig> {
        let Self::Fingerprint(fingerprint) = self else { return None };
        let provider = Arc::new(ring::default_provider());
        let wanted =
            fingerprint.chars().filter(char::is_ascii_hexdigit).collect::<String>().to_ascii_lowercase();
        let verifier = Arc::new(Pinned { wanted, provider: provider.clone() });
        let builder =
            ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().ok()?;
        Some(builder.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth())
    }
}

/// Accepts exactly one certificate, whatever its name and time; the handshake's signature still proves
/// that the other side holds its key.
#[derive(Debug)]
struct Pinned {
    wanted: String,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Pinned {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let digest = ::ring::digest::digest(&::ring::digest::SHA256, certificate);
        let shown: String = digest.as_ref().iter().map(|b| format!("{b:02x}")).collect();
        if shown == self.wanted {
            return Ok(ServerCertVerified::assertion());
        }
        Err(rustls::Error::General(format!(
            "the service shows another certificate than the trusted one (its fingerprint is {shown})"
        )))
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(
            message,
            certificate,
            signature,
            &self.provider.signature_verification_algorithms,
        )
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(
            message,
            certificate,
            signature,
            &self.provider.signature_verification_algorithms,
        )
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
