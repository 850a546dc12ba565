//! Registries, asked through the OCI distribution interface: whether an account is right, which tags there are,
//! what a tag means now, for which architectures.
//!
//! Not here: fetching layers, which the engines do themselves.

mod client;
mod redirects;

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use gubernum_api::images::NewRegistry;
use gubernum_core::image_name::ImageName;
use gubernum_engine::RegistryAccount;
use gubernum_store::registries::RegistryRecord;
use parking_lot::Mutex;

use crate::storage::Db;

pub(crate) use client::Registry;

/// How long an answer about a tag is good for a preview.
const FRESH: Duration = Duration::from_secs(60);
/// How long it is remembered that a registry did not answer.
const SILENT: Duration = Duration::from_secs(10);
/// The most answers that are kept for that.
const MOST_KEPT: usize = 2000;

/// Why a registry gave no answer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum RegistryError {
    #[error("the registry {0} cannot be reached: {1}")]
    Unreachable(String, String),
    #[error("the registry {0} did not answer within 15 s")]
    Slow(String),
    #[error(
        "the registry {0} wants a sign-in, or does not let this account have it; check the registry's account"
    )]
    Denied(String),
    #[error("there is no {what} at {registry}; check name and tag")]
    Missing { registry: String, what: String },
    #[error("the registry {0} asks to wait: its rate limit is reached")]
    Busy(String, Option<u64>),
    #[error("{}", gubernum_core::reach::refusal(.0))]
    Delicate(String),
    #[error("what answers at {0} is not a registry: {1}")]
    Nonsense(String, String),
    #[error("the certificate given for {0} cannot be read; give the authority's certificate as PEM")]
    Certificate(String),
}

/// What a tag means.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Meaning {
    pub(crate) digest: String,
    /// Empty when the registry does not tell without another question.
    pub(crate) architectures: Vec<String>,
}

type Answer = (Instant, Result<Meaning, RegistryError>);

/// All registries.
pub(crate) struct Registries {
    db: Db,
    /// Whether link-local and unspecified addresses may be asked.
    link_local: bool,
    /// Where registries really answer, when that is elsewhere.
    places: HashMap<String, String>,
    kept: Mutex<HashMap<String, Answer>>,
    left_alone: Mutex<HashMap<String, Instant>>,
    /// Registries that did not answer in time just now.
    silent: Mutex<HashMap<String, (Instant, RegistryError)>>,
}

impl Registries {
    pub(crate) fn new(db: Db, places: HashMap<String, String>, link_local: bool) -> Arc<Self> {
        Arc::new(Self {
            db,
            link_local,
            places,
            kept: Mutex::default(),
            left_alone: Mutex::default(),
            silent: Mutex::default(),
        })
    }

    async fn record(&self, address: &str) -> Option<RegistryRecord> {
        let records = self.db.run(gubernum_store::Store::registries).await;
        records.unwrap_or_default().into_iter().find(|r| r.shown.address == address)
    }

    /// The account that engines use for an image.
    pub(crate) async fn account(&self, image: &str) -> Option<RegistryAccount> {
        let name: ImageName = image.parse().ok()?;
        let record = self.record(&name.registry).await?;
        Some(RegistryAccount {
            account: record.shown.account?,
            secret: record.secret?,
            registry: name.registry,
        })
    }

    /// The registry of this address with what is set for it.
    pub(crate) async fn open(&self, address: &str) -> Result<Registry, RegistryError> {
        let set = match self.record(address).await {
            Some(r) => NewRegistry {
                address: r.shown.address,
                account: r.shown.account,
                secret: r.secret,
                ca: r.ca,
                plain_http: r.shown.plain_http,
            },
            None => NewRegistry {
                address: address.to_owned(),
                account: None,
                secret: None,
                ca: None,
                // A registry on this very machine is spoken to plainly by engines too.
                plain_http: is_loopback(address),
            },
        };
        let mut registry = Registry::new(&set, self.link_local)?;
        if let Some(place) = self.places.get(address) {
            registry.base.clone_from(place);
        }
        Ok(registry)
    }

    /// What an image's name means at its registry; asked again after a minute at the earliest unless `anew`.
    pub(crate) async fn meaning(&self, image: &str, anew: bool) -> Result<Meaning, RegistryError> {
        if !anew
            && let Some((at, answer)) = self.kept.lock().get(image)
            && at.elapsed() < FRESH
        {
            return answer.clone();
        }
        let registry = read(image)?.registry;
        // A registry that does not answer is not waited for by each of many targets.
        if let Some((at, error)) = self.silent.lock().get(&registry)
            && at.elapsed() < SILENT
        {
            return Err(error.clone());
        }
        let answer = self.ask(image).await;
        match &answer {
            Err(error @ RegistryError::Slow(_)) => {
                let mut silent = self.silent.lock();
                silent.retain(|_, (at, _)| at.elapsed() < SILENT);
                silent.insert(registry, (Instant::now(), error.clone()));
            }
            _ => drop(self.silent.lock().remove(&registry)),
        }
        let mut kept = self.kept.lock();
        if kept.len() >= MOST_KEPT {
            kept.retain(|_, (at, _)| at.elapsed() < FRESH);
        }
        if kept.len() < MOST_KEPT {
            kept.insert(image.to_owned(), (Instant::now(), answer.clone()));
        }
        answer
    }

    async fn ask(&self, image: &str) -> Result<Meaning, RegistryError> {
        let name = read(image)?;
        let registry = self.open(&name.registry).await?;
        registry.meaning(&name.repository, name.version()).await
    }

    /// The digest that a name means at its registry now.
    pub(crate) async fn digest(&self, image: &str) -> Result<String, RegistryError> {
        let name = read(image)?;
        self.open(&name.registry).await?.digest(&name.repository, name.version()).await
    }

    /// Forgets everything that was heard: accounts have changed.
    pub(crate) fn forget_all(&self) {
        self.kept.lock().clear();
        self.left_alone.lock().clear();
        self.silent.lock().clear();
    }

    /// Leaves a registry alone for a while: it asked for that, or is gone.
    pub(crate) fn leave_alone(&self, address: &str, span: Duration) {
        self.left_alone.lock().insert(address.to_owned(), Instant::now() + span);
    }

    /// Whether it is left alone now.
    pub(crate) fn is_left_alone(&self, address: &str) -> bool {
        let mut left_alone = self.left_alone.lock();
        left_alone.retain(|_, until| *until > Instant::now());
        left_alone.contains_key(address)
    }

    /// Forgets what was heard of an image, because it is being changed.
    pub(crate) fn forget(&self, image: &str) {
        self.kept.lock().remove(image);
    }
}

fn read(image: &str) -> Result<ImageName, RegistryError> {
    image.parse().map_err(|e| RegistryError::Nonsense(image.to_owned(), format!("{e}")))
}

fn is_loopback(address: &str) -> bool {
    let host = address.rsplit_once(':').map_or(address, |(h, _)| h).trim_matches(['[', ']']);
    host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_this_machine_is_spoken_to_plainly() {
        assert!(is_loopback("127.0.0.1:5000") && is_loopback("localhost:5000") && is_loopback("[::1]:5000"));
        assert!(!is_loopback("r.example") && !is_loopback("10.0.0.1:5000"));
    }
}
