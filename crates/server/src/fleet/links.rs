//! The links to all hosts: adding, testing and removing them at run time.

use std::collections::BTreeMap;
use std::sync::Arc;

use gubernum_api::requests::TlsFiles;
use gubernum_api::views::HostTest;
use gubernum_core::fleet::Observation;
use gubernum_engine::endpoint::AddressError;
use gubernum_engine::{Endpoint, Engine, TlsMaterial};
use gubernum_store::hosts::HostRecord;
use parking_lot::RwLock;
use tokio::sync::{Notify, Semaphore, watch};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::clock::Clock;
use crate::fleet::hub::Hub;
use crate::fleet::watcher::Watcher;
use crate::storage::Db;
use crate::timeline::Recorder;
use crate::usage::{Sampler, Uses};

/// How many changes are under way on one host at once.
const CHANGES_AT_ONCE: usize = 4;
/// How many logs may be read from one host at once.
const LOGS_AT_ONCE: usize = 64;
/// The most hosts of a fleet.
pub(crate) const MOST_HOSTS: usize = 2000;

/// A link to one host.
#[derive(Clone)]
pub(crate) struct Link {
    pub(crate) endpoint: Endpoint,
    pub(crate) engine: watch::Receiver<Option<Engine>>,
    pub(crate) changes: Arc<Semaphore>,
    pub(crate) logs: Arc<Semaphore>,
    /// Has its disk measured soon: something was removed.
    pub(crate) measure: Arc<Notify>,
    end: CancellationToken,
}

impl Link {
    /// The engine, if it is reachable now.
    pub(crate) fn live(&self) -> Option<Engine> {
        self.engine.borrow().clone()
    }
}

/// All links.
pub(crate) struct Links {
    links: RwLock<BTreeMap<String, Link>>,
    parts: LinkParts,
}

/// What every link's tasks need.
pub(crate) struct LinkParts {
    pub(crate) hub: Arc<Hub>,
    pub(crate) clock: Clock,
    pub(crate) db: Db,
    pub(crate) recorder: Recorder,
    pub(crate) uses: Arc<Uses>,
    /// Nothing is connected to before this is cancelled.
    pub(crate) listening: CancellationToken,
    pub(crate) end: CancellationToken,
    pub(crate) tasks: TaskTracker,
}

impl Links {
    pub(crate) fn new(parts: LinkParts) -> Self {
        Self { links: RwLock::new(BTreeMap::new()), parts }
    }

    /// Does something with each link.
    pub(crate) fn each(&self, what: impl Fn(&Link)) {
        self.links.read().values().for_each(what);
    }

    /// Begins to watch a host.
    pub(crate) fn begin(
        &self,
        name: &str,
        endpoint: Endpoint,
        ports_address: Option<String>,
        groups: Vec<String>,
    ) {
        let parts = &self.parts;
        let (sender, engine) = watch::channel(None);
        let end = parts.end.child_token();
        let observation = Observation::HostAdded {
            name: name.to_owned(),
            address: endpoint.to_string(),
            link: endpoint.link().to_owned(),
            ports_address,
        };
        parts.hub.observe(observation, parts.clock.now());
        if !groups.is_empty() {
            parts.hub.observe(Observation::Grouped { name: name.to_owned(), groups }, parts.clock.now());
        }
        let sampled = engine.clone();
        let measure = Arc::new(Notify::new());
        let link = Link {
            measure: measure.clone(),
            endpoint: endpoint.clone(),
            engine,
            changes: Arc::new(Semaphore::new(CHANGES_AT_ONCE)),
            logs: Arc::new(Semaphore::new(LOGS_AT_ONCE)),
            end: end.clone(),
        };
        self.links.write().insert(name.to_owned(), link);
        let watcher = Watcher {
            name: name.to_owned(),
            endpoint,
            hub: parts.hub.clone(),
            clock: parts.clock.clone(),
            recorder: parts.recorder.clone(),
            db: parts.db.clone(),
            engine: sender,
            measure,
            end: end.clone(),
        };
        let listening = parts.listening.clone();
        parts.tasks.spawn(async move {
            listening.cancelled().await;
            watcher.run().await;
        });
        let sampler = Sampler {
            host: name.to_owned(),
            hub: parts.hub.clone(),
            clock: parts.clock.clone(),
            uses: parts.uses.clone(),
            engine: sampled,
        };
        let listening = parts.listening.clone();
        parts.tasks.spawn(async move {
            listening.cancelled().await;
            end.run_until_cancelled(sampler.run()).await;
        });
    }

    /// Stops watching a host and takes it out of the fleet's state.
    pub(crate) fn end(&self, name: &str) {
        if let Some(link) = self.links.write().remove(name) {
            link.end.cancel();
        }
        self.parts.hub.observe(Observation::HostRemoved { name: name.to_owned() }, self.parts.clock.now());
        self.parts.uses.forget_host(name);
    }

    pub(crate) fn get(&self, name: &str) -> Option<Link> {
        self.links.read().get(name).cloned()
    }

    /// The fleet that the links report to.
    pub(super) fn hub(&self) -> &Hub {
        &self.parts.hub
    }

    pub(crate) fn count(&self) -> usize {
        self.links.read().len()
    }
}

/// Tries an endpoint once.
pub(crate) async fn test(endpoint: &Endpoint) -> HostTest {
    match Engine::open(endpoint).await {
        Ok(engine) => HostTest { ok: true, engine: Some(engine.facts().clone()), problem: None },
        Err(error) => {
            HostTest { ok: false, engine: None, problem: Some(error.as_problem(&endpoint.to_string())) }
        }
    }
}

/// Reads an address with its certificates and makes sure that these can be used.
pub(crate) fn endpoint(
    address: &str,
    tls: Option<&TlsFiles>,
    link_local: bool,
) -> Result<Endpoint, EndpointError> {
    let material =
        tls.map(|t| TlsMaterial { ca: t.ca.clone(), certificate: t.certificate.clone(), key: t.key.clone() });
    if let Some(material) = &material {
        gubernum_engine::tls::client_config(material)?;
    }
    Ok(Endpoint::parse(address, material)?.allowing_link_local(link_local)?)
}

/// An address or its certificates that cannot be used.
#[derive(Debug, thiserror::Error)]
pub(crate) enum EndpointError {
    #[error(transparent)]
    Address(#[from] AddressError),
    #[error(transparent)]
    Material(#[from] gubernum_engine::tls::MaterialError),
}

impl EndpointError {
    /// The field at fault, below the request's body.
    pub(crate) fn field(&self) -> String {
        match self {
            Self::Address(AddressError::NeedsTls | AddressError::TlsOnSocket) => "/tls".to_owned(),
            Self::Address(_) => "/address".to_owned(),
            Self::Material(e) => format!("/tls/{}", e.field),
        }
    }
}

/// The endpoint of a host as it is kept.
pub(crate) fn recorded(record: &HostRecord, link_local: bool) -> Result<Endpoint, EndpointError> {
    let tls = record.tls.as_ref().map(|(ca, certificate, key)| TlsFiles {
        ca: ca.clone(),
        certificate: certificate.clone(),
        key: key.clone(),
    });
    endpoint(&record.address, tls.as_ref(), link_local)
}
