//! Sealing of secrets at rest: ChaCha20-Poly1305 under keys that are in a file which only its owner may read.
//!
//! Sealed form: one byte of version (2), one with the key's number, twelve of nonce, then ciphertext and tag; version 1 has no
//! number and is of key 1. What is sealed is bound to its purpose, so that a secret cannot be moved to another field. How the file
//! is written, and its passphrase, is in [`crate::key_file`]; how a key is put in another's place, in [`crate::rotation`].

use std::path::Path;

use parking_lot::{Mutex, RwLock};
use ring::aead::{Aad, CHACHA20_POLY1305, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use ring::hmac;
use ring::rand::{SecureRandom, SystemRandom};

use crate::StoreError;
use crate::key_file::{KeyBytes, KeyError, KeyFile, Keys};

const FIRST_VERSION: u8 = 1;
const VERSION: u8 = 2;

/// Seals and opens secrets.
pub struct Seal {
    ring: RwLock<Ring>,
    /// For what is not secret and must not be altered; stays when keys change.
    standing: hmac::Key,
    file: Mutex<KeyFile>,
    random: SystemRandom,
}

/// The keys in use.
struct Ring {
    /// By number, the newest first: that one seals, all open.
    keys: Vec<(u8, LessSafeKey)>,
    /// For the end of the audit log, the newest first.
    anchors: Vec<hmac::Key>,
}

impl Ring {
    fn of(keys: &Keys) -> Option<Self> {
        let read = |(number, key): &(u8, KeyBytes)| {
            let key = UnboundKey::new(&CHACHA20_POLY1305, key).ok()?;
            Some((*number, LessSafeKey::new(key)))
        };
        let anchors = keys.anchors.iter().map(|key| hmac::Key::new(hmac::HMAC_SHA256, key)).collect();
        Some(Self { keys: keys.sealing.iter().map(read).collect::<Option<_>>()?, anchors })
    }
}

impl Seal {
    /// Reads the key file, or makes it with mode 0600.
    ///
    /// # Errors
    /// See [`KeyError`].
    pub fn open(path: &Path) -> Result<Self, KeyError> {
        Self::open_with(path, None)
    }

    /// As [`Self::open`], with the passphrase of the file, if it has one.
    ///
    /// # Errors
    /// See [`KeyError`].
    pub fn open_with(path: &Path, passphrase: Option<&str>) -> Result<Self, KeyError> {
        let file = KeyFile::open(path, passphrase)?;
        let ring = Ring::of(&file.keys).ok_or_else(|| KeyError::Unreadable(path.display().to_string()))?;
        let standing = hmac::Key::new(hmac::HMAC_SHA256, &file.keys.standing);
        Ok(Self { ring: RwLock::new(ring), standing, file: Mutex::new(file), random: SystemRandom::new() })
    }

    /// Whether the key file needs a passphrase.
    pub fn has_passphrase(&self) -> bool {
        self.file.lock().has_passphrase()
    }

    /// Seals the key file with a passphrase, or with none any more.
    ///
    /// # Errors
    /// When the file cannot be written; it is as it was then.
    pub fn set_passphrase(&self, passphrase: Option<&str>) -> Result<(), KeyError> {
        self.file.lock().set_passphrase(passphrase)
    }

    /// Whether an older key is still kept, because something may be sealed with it.
    pub fn is_rotating(&self) -> bool {
        self.file.lock().keys.sealing.len() > 1
    }

    /// Creates another key, which seals from now on, and writes it next to the older ones.
    ///
    /// # Errors
    /// When the file cannot be written; nothing has changed then.
    pub(crate) fn begin_rotation(&self) -> Result<(), KeyError> {
        let mut file = self.file.lock();
        let keys = file.with_another_key()?;
        file.write(keys)?;
        if let Some(ring) = Ring::of(&file.keys) {
            *self.ring.write() = ring;
        }
        Ok(())
    }

    /// Forgets the older keys in the file. Whoever is reading something that was sealed with one can still open it.
    pub(crate) fn end_rotation(&self) -> Result<(), KeyError> {
        let mut file = self.file.lock();
        let mut keys = file.keys.clone();
        keys.sealing.truncate(1);
        keys.anchors.truncate(1);
        file.write(keys)?;
        self.ring.write().anchors.truncate(1);
        Ok(())
    }

    /// Whether a sealed text is of the newest key.
    pub(crate) fn is_newest(&self, sealed: &[u8]) -> bool {
        let newest = self.ring.read().keys.first().map(|(number, _)| *number);
        match sealed {
            [FIRST_VERSION, ..] => newest == Some(1),
            [VERSION, number, ..] => newest == Some(*number),
            _ => false,
        }
    }

    /// An authentication code (HMAC-SHA256) over a text, for a purpose.
    pub fn code(&self, purpose: &str, text: &str) -> Vec<u8> {
        hmac::sign(&self.standing, format!("{purpose}\0{text}").as_bytes()).as_ref().to_vec()
    }

    /// The code that holds the end of the audit log.
    pub(crate) fn anchor(&self, purpose: &str, text: &str) -> Vec<u8> {
        let ring = self.ring.read();
        let key = ring.anchors.first().unwrap_or(&self.standing);
        hmac::sign(key, format!("{purpose}\0{text}").as_bytes()).as_ref().to_vec()
    }

    /// Whether a code holds the end of the audit log.
    pub(crate) fn is_anchor(&self, purpose: &str, text: &str, code: &[u8]) -> bool {
        let text = format!("{purpose}\0{text}");
        self.ring.read().anchors.iter().any(|key| hmac::verify(key, text.as_bytes(), code).is_ok())
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
        let mut context = hmac::Context::with_key(&self.standing);
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
    /// When no random numbers are available.
    pub fn seal(&self, purpose: &str, secret: &[u8]) -> Result<Vec<u8>, StoreError> {
        let mut nonce = [0u8; NONCE_LEN];
        self.random.fill(&mut nonce).map_err(|_| StoreError::Sealed)?;
        let mut body = secret.to_vec();
        let sealing = Nonce::assume_unique_for_key(nonce);
        let ring = self.ring.read();
        let (number, key) = ring.keys.first().ok_or(StoreError::Sealed)?;
        key.seal_in_place_append_tag(sealing, Aad::from(purpose.as_bytes()), &mut body)
            .map_err(|_| StoreError::Sealed)?;
        let mut sealed = vec![VERSION, *number];
        sealed.extend_from_slice(&nonce);
        sealed.extend_from_slice(&body);
        Ok(sealed)
    }

    /// Opens what was sealed for the same purpose.
    ///
    /// # Errors
    /// When it was changed, or sealed with another key or for another purpose.
    pub fn open_sealed(&self, purpose: &str, sealed: &[u8]) -> Result<Vec<u8>, StoreError> {
        let (number, rest) = match sealed {
            [FIRST_VERSION, rest @ ..] => (1, rest),
            [VERSION, number, rest @ ..] => (*number, rest),
            _ => return Err(StoreError::Sealed),
        };
        let Some((nonce, body)) = rest.split_at_checked(NONCE_LEN) else { return Err(StoreError::Sealed) };
        let nonce = Nonce::try_assume_unique_for_key(nonce).map_err(|_| StoreError::Sealed)?;
        let mut body = body.to_vec();
        let ring = self.ring.read();
        let (_, key) = ring.keys.iter().find(|(known, _)| *known == number).ok_or(StoreError::Sealed)?;
        let opened = key
            .open_in_place(nonce, Aad::from(purpose.as_bytes()), &mut body)
            .map_err(|_| StoreError::Sealed)?;
        Ok(opened.to_vec())
    }
}
