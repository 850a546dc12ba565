//! Errors of names that match nothing, and the engine of a host. Resolving names is the view's
//! ([`crate::fleet::View`]).

use gubernum_core::reference::ReferenceError;
use gubernum_core::text::shown;
use gubernum_engine::Engine;

use crate::fleet::links::{Link, Links};

/// Stands for "on whatever host" in a path; no host can be called so.
pub(super) const ANY_HOST: &str = "-";
/// Names of hosts that are reported along when one is not found.
pub(super) const MOST_NAMES: usize = 20;

/// What a request names is not there, or cannot be asked.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FleetError {
    /// The reference that is not found or ambiguous.
    #[error(transparent)]
    Reference(#[from] ReferenceError),
    /// One is wanted.
    #[error("name one container, without '*'")]
    Wildcard,
    /// No host of that name.
    #[error("no host '{}'{}", shown(.name, 80), there_are(.known))]
    NoHost {
        /// The name.
        name: String,
        /// What the fleet has instead.
        known: Vec<String>,
    },
    /// The host's link is down.
    #[error("host '{host}' is unreachable: {why}")]
    Unreachable {
        /// The host.
        host: String,
        /// What the link's last failure was.
        why: String,
    },
}

/// The names of the hosts that there are, as the end of a sentence.
fn there_are(known: &[String]) -> String {
    if known.is_empty() { String::new() } else { format!("; the fleet has: {}", known.join(", ")) }
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
        if hub.look(|fleet| fleet.host(host).is_none()) {
            return Err(FleetError::NoHost { name: host.to_owned(), known: Vec::new() });
        }
        let why = hub.look(|fleet| fleet.host(host).and_then(|h| h.problem.clone()));
        let why = why.map_or_else(|| "not reached yet".to_owned(), |problem| problem.sentence);
        Err(FleetError::Unreachable { host: host.to_owned(), why })
    }
}
