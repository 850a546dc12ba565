//! The key file: what it holds, how it is written, and its passphrase. What the keys are used for is in [`crate::seal`].
//!
//! A fresh file is 32 bytes: key 1, from which the key for authentication codes is derived. After a rotation, and with a
//! passphrase, it is JSON: `{"version": 2, "keys": [{"number": 2, "key": …}, …], "authentication": …, "anchors": [ … ]}`, the newest
//! key first, each of 32 bytes in base64. With a passphrase all of that is sealed (ChaCha20-Poly1305) under a key that Argon2id
//! makes of the passphrase: `{"version": 2, "sealed": {"memory_kib": …, "passes": …, "salt": …, "box": …}}`, where the box begins with
//! its nonce.

use std::fs::OpenOptions;
use std::io::{self, Read, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use ring::aead::{Aad, CHACHA20_POLY1305, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use ring::hmac;
use ring::rand::{SecureRandom, SystemRandom};
use serde::{Deserialize, Serialize};

const KEY_LENGTH: usize = 32;
/// The largest key file that is read.
const LARGEST: u64 = 64 * 1024;
/// The newest form of the file that is known.
const NEWEST: u32 = 2;
/// What Argon2id takes to make a key of a passphrase: half a second of a small machine.
const MEMORY_KIB: u32 = 64 * 1024;
const PASSES: u32 = 3;
/// What a file may ask for at most: a damaged one must not take all memory.
const MOST_MEMORY_KIB: u32 = 1024 * 1024;
const MOST_PASSES: u32 = 20;
/// The shortest passphrase, in characters.
pub const SHORTEST_PASSPHRASE: usize = 12;

pub(crate) type KeyBytes = [u8; KEY_LENGTH];

/// Why the key file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum KeyError {
    /// Others may read it.
    #[error("the key file {path} may be read by others (mode {mode:o}); run 'chmod 600 {path}'")]
    Open {
        /// The file.
        path: String,
        /// Its mode.
        mode: u32,
    },
    /// It is not a key.
    #[error("the key file {0} does not hold a key; restore it from a backup")]
    Unreadable(String),
    /// It is of a newer Gubernum.
    #[error("the key file {0} was written by a newer Gubernum; start that one")]
    Newer(String),
    /// It needs a passphrase.
    #[error("the key file {0} is sealed with a passphrase; name a file that holds it with --passphrase-file")]
    NeedsPassphrase(String),
    /// The passphrase is another one.
    #[error("this is not the passphrase of the key file {0}, or the file is damaged")]
    WrongPassphrase(String),
    /// The new passphrase is too short.
    #[error("a passphrase has at least {SHORTEST_PASSPHRASE} characters; this one is shorter")]
    Short,
    /// The file system or the source of randomness refused.
    #[error("the key file {path} cannot be read or written: {source}")]
    Io {
        /// The file.
        path: String,
        /// Why.
        source: io::Error,
    },
}

/// What a key file holds.
#[derive(Clone)]
pub(crate) struct Keys {
    /// By number, the newest first.
    pub(crate) sealing: Vec<(u8, KeyBytes)>,
    /// For authentication codes that outlive a rotation.
    pub(crate) standing: KeyBytes,
    /// For the end of the audit log, the newest first.
    pub(crate) anchors: Vec<KeyBytes>,
}

#[derive(Serialize, Deserialize)]
struct Form {
    version: u32,
    #[serde(flatten)]
    content: Content,
}

#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum Content {
    Sealed { sealed: SealedForm },
    Plain(PlainForm),
}

#[derive(Serialize, Deserialize)]
struct PlainForm {
    keys: Vec<NumberedKey>,
    authentication: String,
    anchors: Vec<String>,
}

#[derive(Serialize, Deserialize)]
struct NumberedKey {
    number: u8,
    key: String,
}

#[derive(Serialize, Deserialize)]
struct SealedForm {
    memory_kib: u32,
    passes: u32,
    salt: String,
    #[serde(rename = "box")]
    sealed_box: String,
}

/// The key that is made of a passphrase, with what it was made with.
struct Wrapping {
    key: LessSafeKey,
    salt: Vec<u8>,
    memory_kib: u32,
    passes: u32,
}

/// A key file that was read.
pub(crate) struct KeyFile {
    path: PathBuf,
    pub(crate) keys: Keys,
    wrapping: Option<Wrapping>,
}

fn bytes(text: &str) -> Option<KeyBytes> {
    STANDARD.decode(text).ok()?.try_into().ok()
}

impl PlainForm {
    fn of(keys: &Keys) -> Self {
        Self {
            keys: keys
                .sealing
                .iter()
                .map(|(number, key)| NumberedKey { number: *number, key: STANDARD.encode(key) })
                .collect(),
            authentication: STANDARD.encode(keys.standing),
            anchors: keys.anchors.iter().map(|key| STANDARD.encode(key)).collect(),
        }
    }

    fn read(&self) -> Option<Keys> {
        let sealing = self.keys.iter().map(|k| Some((k.number, bytes(&k.key)?)));
        let keys = Keys {
            sealing: sealing.collect::<Option<_>>()?,
            standing: bytes(&self.authentication)?,
            anchors: self.anchors.iter().map(|key| bytes(key)).collect::<Option<_>>()?,
        };
        (!keys.sealing.is_empty() && !keys.anchors.is_empty()).then_some(keys)
    }
}

impl Wrapping {
    fn of(passphrase: &str, salt: Vec<u8>, memory_kib: u32, passes: u32) -> Option<Self> {
        if memory_kib > MOST_MEMORY_KIB || passes > MOST_PASSES {
            return None;
        }
        let wish = argon2::Params::new(memory_kib, passes, 1, Some(KEY_LENGTH)).ok()?;
        let maker = argon2::Argon2::new(argon2::Algorithm::Argon2id, argon2::Version::V0x13, wish);
        let mut key = [0; KEY_LENGTH];
        maker.hash_password_into(passphrase.as_bytes(), &salt, &mut key).ok()?;
        let key = LessSafeKey::new(UnboundKey::new(&CHACHA20_POLY1305, &key).ok()?);
        Some(Self { key, salt, memory_kib, passes })
    }

    fn wrap(&self, text: &str) -> Option<SealedForm> {
        let mut nonce = [0; NONCE_LEN];
        SystemRandom::new().fill(&mut nonce).ok()?;
        let mut body = text.as_bytes().to_vec();
        let with = Nonce::assume_unique_for_key(nonce);
        self.key.seal_in_place_append_tag(with, Aad::from(&self.salt), &mut body).ok()?;
        let mut sealed = nonce.to_vec();
        sealed.extend_from_slice(&body);
        Some(SealedForm {
            memory_kib: self.memory_kib,
            passes: self.passes,
            salt: STANDARD.encode(&self.salt),
            sealed_box: STANDARD.encode(sealed),
        })
    }

    fn unwrap(&self, sealed: &str) -> Option<PlainForm> {
        let sealed = STANDARD.decode(sealed).ok()?;
        let (nonce, body) = sealed.split_at_checked(NONCE_LEN)?;
        let mut body = body.to_vec();
        let with = Nonce::try_assume_unique_for_key(nonce).ok()?;
        let opened = self.key.open_in_place(with, Aad::from(&self.salt), &mut body).ok()?;
        serde_json::from_slice(opened).ok()
    }
}

/// The keys of a fresh file.
fn first(key: KeyBytes) -> Keys {
    let derived = hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, &key), b"gubernum authentication");
    let mut standing = [0; KEY_LENGTH];
    standing.copy_from_slice(derived.as_ref());
    Keys { sealing: vec![(1, key)], standing, anchors: vec![standing] }
}

fn random<const N: usize>() -> io::Result<[u8; N]> {
    let mut fresh = [0; N];
    SystemRandom::new().fill(&mut fresh).map_err(|_| io::Error::other("no randomness"))?;
    Ok(fresh)
}

impl KeyFile {
    /// Reads a key file, or makes it with mode 0600.
    pub(crate) fn open(path: &Path, passphrase: Option<&str>) -> Result<Self, KeyError> {
        let shown = path.display().to_string();
        let io = |source| KeyError::Io { path: shown.clone(), source };
        match OpenOptions::new().write(true).create_new(true).mode(0o600).open(path) {
            Ok(mut file) => {
                let key = random().map_err(io)?;
                file.write_all(&key).and_then(|()| file.sync_all()).map_err(io)?;
                return Ok(Self { path: path.to_owned(), keys: first(key), wrapping: None });
            }
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
            Err(e) => return Err(io(e)),
        }
        let file = std::fs::File::open(path).map_err(io)?;
        let mode = file.metadata().map_err(io)?.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            return Err(KeyError::Open { path: shown, mode });
        }
        let mut content = Vec::new();
        file.take(LARGEST).read_to_end(&mut content).map_err(io)?;
        let (keys, wrapping) = read(&content, passphrase, &shown)?;
        Ok(Self { path: path.to_owned(), keys, wrapping })
    }

    pub(crate) fn has_passphrase(&self) -> bool {
        self.wrapping.is_some()
    }

    pub(crate) fn set_passphrase(&mut self, passphrase: Option<&str>) -> Result<(), KeyError> {
        let wrapping = match passphrase {
            Some(text) if text.chars().count() < SHORTEST_PASSPHRASE => return Err(KeyError::Short),
            Some(text) => {
                let salt = random::<16>().map_err(|e| self.failed(e))?.to_vec();
                let made = Wrapping::of(text, salt, MEMORY_KIB, PASSES);
                Some(made.ok_or_else(|| {
                    self.failed(io::Error::other("not enough memory to derive a key from the passphrase"))
                })?)
            }
            None => None,
        };
        self.put(&self.keys, wrapping.as_ref())?;
        self.wrapping = wrapping;
        Ok(())
    }

    /// The keys with a further one before them.
    pub(crate) fn with_another_key(&self) -> Result<Keys, KeyError> {
        let mut keys = self.keys.clone();
        let before = keys.sealing.first().map_or(0, |(number, _)| *number);
        let number = if before == u8::MAX { 1 } else { before + 1 };
        keys.sealing.retain(|(known, _)| *known != number);
        keys.sealing.insert(0, (number, random().map_err(|e| self.failed(e))?));
        keys.anchors.insert(0, random().map_err(|e| self.failed(e))?);
        Ok(keys)
    }

    /// Puts these keys into the file, in place of those that it held.
    pub(crate) fn write(&mut self, keys: Keys) -> Result<(), KeyError> {
        self.put(&keys, self.wrapping.as_ref())?;
        self.keys = keys;
        Ok(())
    }

    fn failed(&self, source: io::Error) -> KeyError {
        KeyError::Io { path: self.path.display().to_string(), source }
    }

    /// Writes beside the file and puts that in its place, so that a crash leaves the one or the other.
    fn put(&self, keys: &Keys, wrapping: Option<&Wrapping>) -> Result<(), KeyError> {
        let plain = PlainForm::of(keys);
        let content = match wrapping {
            Some(wrapping) => {
                let sealed = wrapping.wrap(&json(&plain).map_err(|e| self.failed(e))?);
                Content::Sealed {
                    sealed: sealed.ok_or_else(|| self.failed(io::Error::other("no randomness")))?,
                }
            }
            None => Content::Plain(plain),
        };
        let text = json(&Form { version: NEWEST, content }).map_err(|e| self.failed(e))?;
        let beside = self.path.with_extension("key.new");
        let written = (|| {
            match std::fs::remove_file(&beside) {
                Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
                _ => {}
            }
            let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&beside)?;
            file.write_all(text.as_bytes())?;
            file.sync_all()?;
            std::fs::rename(&beside, &self.path)?;
            match self.path.parent() {
                Some(folder) => std::fs::File::open(folder)?.sync_all(),
                None => Ok(()),
            }
        })();
        written.map_err(|e| self.failed(e))
    }
}

fn json(form: &impl Serialize) -> io::Result<String> {
    serde_json::to_string(form).map_err(io::Error::other)
}

fn read(content: &[u8], passphrase: Option<&str>, path: &str) -> Result<(Keys, Option<Wrapping>), KeyError> {
    if let Ok(key) = KeyBytes::try_from(content) {
        return Ok((first(key), None));
    }
    let unreadable = || KeyError::Unreadable(path.to_owned());
    let form: serde_json::Value = serde_json::from_slice(content).map_err(|_| unreadable())?;
    if form["version"].as_u64().is_some_and(|version| version > u64::from(NEWEST)) {
        return Err(KeyError::Newer(path.to_owned()));
    }
    let form: Form = serde_json::from_value(form).map_err(|_| unreadable())?;
    match form.content {
        Content::Plain(plain) => Ok((plain.read().ok_or_else(unreadable)?, None)),
        Content::Sealed { sealed } => {
            let Some(passphrase) = passphrase else {
                return Err(KeyError::NeedsPassphrase(path.to_owned()));
            };
            let salt = STANDARD.decode(&sealed.salt).map_err(|_| unreadable())?;
            let wrapping =
                Wrapping::of(passphrase, salt, sealed.memory_kib, sealed.passes).ok_or_else(unreadable)?;
            let wrong = || KeyError::WrongPassphrase(path.to_owned());
            let plain = wrapping.unwrap(&sealed.sealed_box).ok_or_else(wrong)?;
            Ok((plain.read().ok_or_else(unreadable)?, Some(wrapping)))
        }
    }
}
