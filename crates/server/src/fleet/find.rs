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

#[cfg(test)]
mod tests {
    use gubernum_core::fleet::Observation;
    use jiff::Timestamp;
    use rstest::rstest;

    use super::*;

    /// Two hosts; `frost-api` is on both of them, `row` on one.
    fn hub() -> Hub {
        let hub = Hub::new("e".into(), None);
        for name in ["packhouse", "coldstore"] {
            let added = Observation::HostAdded {
                name: name.into(),
                address: "unix:///x".into(),
                link: "socket".into(),
                public_address: None,
            };
            hub.observe(added, Timestamp::UNIX_EPOCH);
        }
        for (host, name, id) in [
            ("packhouse", "frost-api", "aa11"),
            ("packhouse", "row", "bb22"),
            ("coldstore", "frost-api", "cc33"),
        ] {
            let id = format!("{id}{}", "0".repeat(60));
            let container = Box::new(Container::blank(host, name, &id));
            hub.observe(Observation::Seen { container }, Timestamp::UNIX_EPOCH);
        }
        hub
    }

    #[rstest]
    #[case("row", "packhouse/row")]
    #[case("packhouse/row", "packhouse/row")]
    #[case("coldstore/frost-api", "coldstore/frost-api")]
    fn a_reference_means_one_container(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(hub().find(text).unwrap().reference(), expected);
    }

    #[rstest]
    #[case("packhouse", "frost-api", "packhouse/frost-api")]
    #[case("packhouse", "bb22", "packhouse/row")]
    #[case("-", "row", "packhouse/row")]
    fn a_host_and_a_name_too(#[case] host: &str, #[case] name: &str, #[case] expected: &str) {
        assert_eq!(hub().find_on(host, name).unwrap().reference(), expected);
    }

    #[rstest]
    #[case("*/row", "without `*`")]
    #[case("frost-api", "means 2 containers")]
    #[case("-/frost-api", "no container matches")]
    #[case("packhouse/rwo", "packhouse/row")]
    #[case("a/b/c", "is not a reference")]
    #[case("", "is not a reference")]
    fn what_means_none_or_several_is_said(#[case] text: &str, #[case] words: &str) {
        let sentence = hub().find(text).unwrap_err().to_string();
        assert!(sentence.contains(words), "{text}: {sentence}");
    }

    #[test]
    fn a_host_that_is_not_there_is_told_with_those_that_are() {
        let hub = hub();
        assert!(hub.know_host("packhouse").is_ok());
        let Err(FleetError::NoHost { name, known }) = hub.know_host("packhuose") else {
            panic!("it is not there")
        };
        assert_eq!(
            (name.as_str(), known),
            ("packhuose", vec!["coldstore".to_owned(), "packhouse".to_owned()])
        );
    }

    #[test]
    fn only_so_many_hosts_are_named() {
        let hub = Hub::new("e".into(), None);
        for n in 0..MOST_NAMES + 5 {
            let added = Observation::HostAdded {
                name: format!("shed-{n:03}"),
                address: "unix:///x".into(),
                link: "socket".into(),
                public_address: None,
            };
            hub.observe(added, Timestamp::UNIX_EPOCH);
        }
        let Err(FleetError::NoHost { known, .. }) = hub.know_host("x") else { panic!("it is not there") };
        assert_eq!(known.len(), MOST_NAMES);
    }
}
