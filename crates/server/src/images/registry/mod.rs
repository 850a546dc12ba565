//! Registries, by the OCI distribution API: whether an account works, which tags exist, and the digest and
//! architectures of a tag.
//!
//! Not here: fetching layers, which the engines do themselves.

mod client;
mod redirects;

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use gubernum_api::images::NewRegistry;
use gubernum_core::image_name::ImageName;
use gubernum_engine::RegistryAccount;
use gubernum_store::registries::RegistryRecord;
use moka::sync::Cache;

use crate::storage::Db;

pub(crate) use client::Registry;

/// How long an answer about a tag is good for a preview.
const FRESH: Duration = Duration::from_secs(60);
/// How long it is remembered that a registry did not answer.
const SILENT: Duration = Duration::from_secs(10);
/// The most answers that are kept for that.
const MOST_KEPT: u64 = 2000;
/// The most registries of which something is remembered.
const MOST_REGISTRIES: u64 = 200;
/// The longest time that a registry is not asked.
const LONGEST_LEFT_ALONE: Duration = Duration::from_secs(24 * 3600);
/// How long a registry's connections and sign-ins are used.
const CLIENT_LIFE: Duration = Duration::from_secs(600);

/// Why a registry gave no answer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum RegistryError {
    #[error("the registry {0} cannot be reached: {1}")]
    Unreachable(String, String),
    #[error("the registry {0} did not answer within 15 s")]
    Slow(String),
    #[error("the registry {0} refused access; check its account")]
    Denied(String),
    #[error("{registry} has no {what}; check name and tag")]
    Missing { registry: String, what: String },
    #[error("the rate limit of registry {0} is reached")]
    Busy(String, Option<u64>),
    #[error("{}", gubernum_core::address_policy::refusal(.0))]
    Delicate(String),
    #[error("what answers at {0} is not a registry: {1}")]
    Nonsense(String, String),
    #[error("the certificate given for {0} cannot be read; give the authority's certificate as PEM")]
    Certificate(String),
}

/// What a tag means.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct ResolvedTag {
    pub(crate) digest: String,
    /// Empty when the registry does not tell without another question.
    pub(crate) architectures: Vec<String>,
}

/// All registries.
pub(crate) struct Registries {
    db: Db,
    /// Whether link-local and unspecified addresses may be asked.
    link_local: bool,
    /// Where registries really answer, when that is elsewhere.
    places: HashMap<String, String>,
    /// What images mean, by name.
    kept: Cache<String, Result<ResolvedTag, RegistryError>>,
    /// Registries that asked to be left alone, with until when.
    left_alone: Cache<String, Instant>,
    /// Registries that did not answer in time just now.
    silent: Cache<String, RegistryError>,
    /// Registries with their connections and sign-ins, by address.
    clients: Cache<String, Arc<Registry>>,
    /// How often accounts have changed: what was read before a change is not kept after it.
    changes: AtomicU64,
}

fn cache<V: Clone + Send + Sync + 'static>(most: u64, life: Duration) -> Cache<String, V> {
    Cache::builder().max_capacity(most).time_to_live(life).build()
}

impl Registries {
    pub(crate) fn new(db: Db, places: HashMap<String, String>, link_local: bool) -> Arc<Self> {
        Arc::new(Self {
            db,
            link_local,
            places,
            kept: cache(MOST_KEPT, FRESH),
            left_alone: cache(MOST_REGISTRIES, LONGEST_LEFT_ALONE),
            silent: cache(MOST_REGISTRIES, SILENT),
            clients: cache(MOST_REGISTRIES, CLIENT_LIFE),
            changes: AtomicU64::new(0),
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

    /// The registry of this address with what is set for it: the same for every question, until accounts change.
    pub(crate) async fn open(&self, address: &str) -> Result<Arc<Registry>, RegistryError> {
        if let Some(known) = self.clients.get(address) {
            return Ok(known);
        }
        let changes = self.changes.load(Ordering::Acquire);
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
        let registry = Arc::new(registry);
        if self.changes.load(Ordering::Acquire) == changes {
            self.clients.insert(address.to_owned(), registry.clone());
        }
        Ok(registry)
    }

    /// What an image's name means at its registry; asked again after a minute at the earliest unless `fresh`.
    pub(crate) async fn meaning(&self, image: &str, fresh: bool) -> Result<ResolvedTag, RegistryError> {
        if !fresh && let Some(answer) = self.kept.get(image) {
            return answer;
        }
        let registry = read(image)?.registry;
        // A registry that does not answer is not waited for by each of many targets.
        if let Some(error) = self.silent.get(&registry) {
            return Err(error);
        }
        let answer = self.ask(image).await;
        match &answer {
            Err(error @ RegistryError::Slow(_)) => self.silent.insert(registry, error.clone()),
            _ => self.silent.invalidate(&registry),
        }
        self.kept.insert(image.to_owned(), answer.clone());
        answer
    }

    async fn ask(&self, image: &str) -> Result<ResolvedTag, RegistryError> {
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
        self.changes.fetch_add(1, Ordering::AcqRel);
        self.kept.invalidate_all();
        self.left_alone.invalidate_all();
        self.silent.invalidate_all();
        self.clients.invalidate_all();
    }

    /// Leaves a registry alone for a while: it asked for that, or is gone.
    pub(crate) fn leave_alone(&self, address: &str, span: Duration) {
        self.left_alone.insert(address.to_owned(), Instant::now() + span);
    }

    /// Whether it is not to be asked now.
    pub(crate) fn is_left_alone(&self, address: &str) -> bool {
        self.left_alone.get(address).is_some_and(|until| until > Instant::now())
    }

    /// Forgets what was heard of an image, because it is being changed.
    pub(crate) fn forget(&self, image: &str) {
        self.kept.invalidate(image);
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
        assert!(!is_loopback("r.example") && !is_loopback("192.0.2.1:5000"));
    }
}
