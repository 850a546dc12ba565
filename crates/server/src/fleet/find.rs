//! Finding what a request names: the one container, its host, and the host's engine.

use gubernum_core::container::Container;
use gubernum_core::reference::{Reference, ReferenceError};
use gubernum_core::text::shown;
use gubernum_engine::Engine;

use crate::fleet::hub::Hub;
use crate::fleet::links::{Link, Links};

/// Stands for "on whatever host" in a path; no host can be called so.
const ANY_HOST: &str = "-";
/// Names of hosts that are told along when one is not found.
const MOST_NAMES: usize = 20;

/// What a request names is not there, or cannot be asked.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FleetError {
    /// The reference means nothing, or more than one thing.
    #[error(transparent)]
    Reference(#[from] ReferenceError),
    /// One is wanted.
    #[error("name one container, without `*`")]
    Wildcard,
    /// No host of that name.
    #[error("there is no host `{}`; the fleet has: {}", shown(.name, 80), .known.join(", "))]
    NoHost {
        /// The name.
        name: String,
        /// What the fleet has instead.
        known: Vec<String>,
    },
    /// The host's link is down.
    #[error("the host `{host}` is out of reach: {why}")]
    Unreachable {
        /// The host.
        host: String,
        /// What the link's last failure was.
        why: String,
    },
}

impl Hub {
    /// The one container that a reference means.
    ///
    /// # Errors
    /// When it means none or several.
    pub(crate) fn find(&self, text: &str) -> Result<Container, FleetError> {
        let reference: Reference = text.parse()?;
        if reference.has_wildcard() {
            return Err(FleetError::Wildcard);
        }
        let found = self
            .look(|fleet| reference.resolve(fleet.containers()).map(|all| all.into_iter().next().cloned()))?;
        found.ok_or(FleetError::Wildcard)
    }

    /// The same of a host and a name, or the beginning of an id; the host `-` means any.
    ///
    /// # Errors
    /// When it means none or several.
    pub(crate) fn find_on(&self, host: &str, name: &str) -> Result<Container, FleetError> {
        if host == ANY_HOST { self.find(name) } else { self.find(&format!("{host}/{name}")) }
    }

    /// Refuses the name of a host that the fleet does not have.
    ///
    /// # Errors
    /// [`FleetError::NoHost`], with the names that there are.
    pub(crate) fn know_host(&self, name: &str) -> Result<(), FleetError> {
        self.look(|fleet| {
            if fleet.host(name).is_some() {
                return Ok(());
            }
            let known = fleet.hosts().map(|h| h.name.clone()).take(MOST_NAMES).collect();
            Err(FleetError::NoHost { name: name.to_owned(), known })
        })
    }
}

impl Links {
    /// The engine of a host, if it can be reached now.
    ///
    /// # Errors
    /// When there is no such host, or its link is down: with what is known of why.
    pub(crate) fn engine(&self, host: &str) -> Result<Engine, FleetError> {
        if let Some(engine) = self.get(host).as_ref().and_then(Link::live) {
            return Ok(engine);
        }
        let hub = self.hub();
        hub.know_host(host)?;
        let why = hub.look(|fleet| fleet.host(host).and_then(|h| h.problem.clone()));
        let why = why.map_or_else(|| "it has not been reached yet".to_owned(), |problem| problem.sentence);
        Err(FleetError::Unreachable { host: host.to_owned(), why })
    }
}
