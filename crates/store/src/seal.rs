//! Sealing of secrets at rest: ChaCha20-Poly1305 under a key file that only its owner may read.
//!
//! Sealed form: one byte of version (1), twelve of nonce, then ciphertext and tag. What is sealed is
//! bound to its purpose, so that a secret cannot be moved to another field.

use std::fs::OpenOptions;
use std::io::{self, Read, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::Path;

use ring::aead::{Aad, CHACHA20_POLY1305, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use ring::hmac;
use ring::rand::{SecureRandom, SystemRandom};

use crate::StoreError;

const VERSION: u8 = 1;
const KEY_LENGTH: usize = 32;

/// Seals and opens secrets.
pub struct Seal {
    key: LessSafeKey,
    /// For what is not secret and must not be altered; derived from the same key file.
    mac_key: hmac::Key,
    random: SystemRandom,
}

/// Why the key file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum KeyError {
    /// Others may read it.
    #[error("the key file {path} may be read by others (mode {mode:o}); run `chmod 600 {path}`")]
    Open {
        /// The file.
        path: String,
        /// Its mode.
        mode: u32,
    },
    /// It is not a key.
    #[error("the key file {0} does not hold {KEY_LENGTH} bytes; restore it from a backup")]
    Length(String),
    /// The file system or the source of randomness refused.
    #[error("the key file {path} cannot be read or made: {source}")]
    Io {
        /// The file.
        path: String,
        /// Why.
        source: io::Error,
    },
}

impl Seal {
    /// Reads the key file, or makes it with mode 0600.
    ///
    /// # Errors
    /// See [`KeyError`].
    pub fn open(path: &Path) -> Result<Self, KeyError> {
        let shown = path.display().to_string();
        let io = |source| KeyError::Io { path: shown.clone(), source };
        let random = SystemRandom::new();
        let mut key = Vec::with_capacity(KEY_LENGTH);
        match OpenOptions::new().write(true).create_new(true).mode(0o600).open(path) {
            Ok(mut file) => {
                key.resize(KEY_LENGTH, 0);
                random.fill(&mut key).map_err(|_| io(io::Error::other("no randomness")))?;
                file.write_all(&key).and_then(|()| file.sync_all()).map_err(io)?;
            }
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
                let file = std::fs::File::open(path).map_err(io)?;
                let mode = file.metadata().map_err(io)?.permissions().mode() & 0o777;
                if mode & 0o077 != 0 {
                    return Err(KeyError::Open { path: shown, mode });
                }
                file.take(KEY_LENGTH as u64 + 1).read_to_end(&mut key).map_err(io)?;
            }
            Err(e) => return Err(io(e)),
        }
        Self::from_bytes(&key).ok_or(KeyError::Length(shown))
    }

    fn from_bytes(key: &[u8]) -> Option<Self> {
        let derived = hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, key), b"gubernum authentication");
        let mac_key = hmac::Key::new(hmac::HMAC_SHA256, derived.as_ref());
        let key = LessSafeKey::new(UnboundKey::new(&CHACHA20_POLY1305, key).ok()?);
        Some(Self { key, mac_key, random: SystemRandom::new() })
    }

    /// An authentication code (HMAC-SHA256) over a text, for a purpose.
    pub fn code(&self, purpose: &str, text: &str) -> Vec<u8> {
        hmac::sign(&self.mac_key, format!("{purpose}\0{text}").as_bytes()).as_ref().to_vec()
    }

    /// Whether a code is that of a text.
    pub fn fits(&self, purpose: &str, text: &str, code: &[u8]) -> bool {
        hmac::verify(&self.mac_key, format!("{purpose}\0{text}").as_bytes(), code).is_ok()
    }

    /// The HMAC-SHA256 of a body with a secret that somebody else has too.
    pub fn signature(secret: &str, body: &[u8]) -> Vec<u8> {
        hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, secret.as_bytes()), body).as_ref().to_vec()
    }

    /// Whether a signature is the HMAC-SHA256 of a body with a secret that somebody else has too.
    pub fn is_signed(secret: &str, body: &[u8], signature: &[u8]) -> bool {
        hmac::verify(&hmac::Key::new(hmac::HMAC_SHA256, secret.as_bytes()), body, signature).is_ok()
    }

    /// Stands for contents without giving anything of them away: the same for the same, in 32 hex digits.
    pub fn mark(&self, purpose: &str, parts: &[&[u8]]) -> String {
        let mut context = hmac::Context::with_key(&self.mac_key);
        context.update(purpose.as_bytes());
        for part in parts {
            // With its length before it, so that nothing can be moved from one into the next.
            context.update(&(part.len() as u64).to_be_bytes());
            context.update(part);
        }
        context.sign().as_ref().iter().take(16).map(|byte| format!("{byte:02x}")).collect()
    }

    /// Seals a secret for a purpose.
    ///
    /// # Errors
    /// When there is no randomness.
    pub fn seal(&self, purpose: &str, secret: &[u8]) -> Result<Vec<u8>, StoreError> {
        let mut nonce = [0u8; NONCE_LEN];
        self.random.fill(&mut nonce).map_err(|_| StoreError::Sealed)?;
        let mut body = secret.to_vec();
        let sealing = Nonce::assume_unique_for_key(nonce);
        self.key
            .seal_in_place_append_tag(sealing, Aad::from(purpose.as_bytes()), &mut body)
            .map_err(|_| StoreError::Sealed)?;
        let mut sealed = vec![VERSION];
        sealed.extend_from_slice(&nonce);
        sealed.extend_from_slice(&body);
        Ok(sealed)
    }

    /// Opens what was sealed for the same purpose.
    ///
    /// # Errors
    /// When it was changed, or sealed with another key or for another purpose.
    pub fn open_sealed(&self, purpose: &str, sealed: &[u8]) -> Result<Vec<u8>, StoreError> {
        let Some((&VERSION, rest)) = sealed.split_first() else { return Err(StoreError::Sealed) };
        let Some((nonce, body)) = rest.split_at_checked(NONCE_LEN) else { return Err(StoreError::Sealed) };
        let nonce = Nonce::try_assume_unique_for_key(nonce).map_err(|_| StoreError::Sealed)?;
        let mut body = body.to_vec();
        let opened = self
            .key
            .open_in_place(nonce, Aad::from(purpose.as_bytes()), &mut body)
            .map_err(|_| StoreError::Sealed)?;
        Ok(opened.to_vec())
    }
}
