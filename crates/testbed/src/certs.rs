//! A certificate authority for mutual TLS, with certificates for engines and for the service.

use std::net::IpAddr;
use std::path::{Path, PathBuf};

use gubernum_engine::TlsMaterial;
use rcgen::{
    BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair,
    KeyUsagePurpose, SanType,
};

use crate::BedError;

/// A certificate with its key, as PEM texts.
pub struct Signed {
    /// The certificate.
    pub certificate: String,
    /// The key.
    pub key: String,
}

/// A certificate authority.
pub struct Authority {
    pem: String,
    issuer: Issuer<'static, KeyPair>,
}

impl Authority {
    /// Makes a new one.
    ///
    /// # Errors
    /// When the key cannot be made.
    pub fn new() -> Result<Self, BedError> {
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::default();
        params.distinguished_name.push(DnType::CommonName, "Tarn Valley test authority");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::DigitalSignature];
        let certificate = params.self_signed(&key)?;
        Ok(Self { pem: certificate.pem(), issuer: Issuer::new(params, key) })
    }

    /// Its own certificate.
    pub fn certificate(&self) -> &str {
        &self.pem
    }

    /// Signs a certificate for an engine at `address`; `expired` makes one of the past.
    ///
    /// # Errors
    /// When the key cannot be made.
    pub fn server(&self, address: IpAddr, expired: bool) -> Result<Signed, BedError> {
        let mut params = CertificateParams::new(vec!["localhost".to_owned()])?;
        params.subject_alt_names.push(SanType::IpAddress(address));
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        if expired {
            params.not_before = rcgen::date_time_ymd(2020, 1, 1);
            params.not_after = rcgen::date_time_ymd(2020, 2, 1);
        }
        self.sign(params, "engine")
    }

    /// Signs a certificate for us.
    ///
    /// # Errors
    /// When the key cannot be made.
    pub fn client(&self) -> Result<Signed, BedError> {
        let mut params = CertificateParams::default();
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
        self.sign(params, "gubernum")
    }

    fn sign(&self, mut params: CertificateParams, name: &str) -> Result<Signed, BedError> {
        params.distinguished_name.push(DnType::CommonName, name);
        let key = KeyPair::generate()?;
        let certificate = params.signed_by(&key, &self.issuer)?;
        Ok(Signed { certificate: certificate.pem(), key: key.serialize_pem() })
    }

    /// What our side of a link needs.
    ///
    /// # Errors
    /// When the key cannot be made.
    pub fn material(&self) -> Result<TlsMaterial, BedError> {
        let client = self.client()?;
        Ok(TlsMaterial { ca: self.pem.clone(), certificate: client.certificate, key: client.key })
    }

    /// Writes authority, certificate and key into `folder` as `ca.pem`, `cert.pem` and `key.pem`.
    ///
    /// # Errors
    /// When the files cannot be written.
    pub fn write(&self, folder: &Path, signed: &Signed) -> Result<[PathBuf; 3], BedError> {
        let paths = ["ca.pem", "cert.pem", "key.pem"].map(|n| folder.join(n));
        for (path, text) in paths.iter().zip([&self.pem, &signed.certificate, &signed.key]) {
            std::fs::write(path, text)?;
        }
        Ok(paths)
    }
}
