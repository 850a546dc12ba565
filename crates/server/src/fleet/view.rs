//! The fleet as a member sees it: the hub filtered by their access. Handlers read everything from here, never from
//! the hub itself. The filter is `gubernum_core`'s ([`Fleet::seen_by`]).

use std::collections::BTreeSet;
use std::sync::Arc;

use bytes::Bytes;
use gubernum_core::assets::AssetKind;
use gubernum_core::container::Container;
use gubernum_core::fleet::Fleet;
use gubernum_core::journal::{Operation, Target};
use gubernum_core::note::NotedObject;
use gubernum_core::plan::ObjectKind;
use gubernum_core::reference::Reference;
use gubernum_core::rights::{Access, Right, Rights, operation_seen};

use crate::fleet::find::{ANY_HOST, FleetError, MOST_NAMES};
use crate::fleet::hub::{Hub, InitialState};

/// The fleet through an access. Cheap to clone.
#[derive(Clone)]
pub(crate) struct View {
    hub: Arc<Hub>,
    access: Arc<Access>,
}

/// The names of containers that are seen now, those too that are gone where their host is seen.
pub(crate) enum Seen {
    /// All of them.
    Everything,
    /// All of some hosts, and some of others.
    Some {
        /// The hosts that are seen as a whole.
        hosts: BTreeSet<String>,
        /// Host and name of what is seen elsewhere.
        names: BTreeSet<(String, String)>,
    },
}

impl Seen {
    /// What a view sees now.
    pub(crate) fn of(view: &View) -> Self {
        if view.is_whole() {
            return Self::Everything;
        }
        let fleet = view.snapshot();
        let all = fleet.hosts().map(|h| h.name.clone());
        Self::Some {
            hosts: all.filter(|host| view.on_host(host).has(Right::See)).collect(),
            names: fleet.containers().map(|c| (c.host.clone(), c.name.clone())).collect(),
        }
    }

    /// Whether a container is among them.
    pub(crate) fn has(&self, host: &str, name: &str) -> bool {
        match self {
            Self::Everything => true,
            Self::Some { hosts, names } => {
                hosts.contains(host) || names.contains(&(host.to_owned(), name.to_owned()))
            }
        }
    }
}

impl View {
    /// What somebody with this access sees.
    pub(crate) fn new(hub: Arc<Hub>, access: Arc<Access>) -> Self {
        Self { hub, access }
    }

    /// What the service itself sees.
    pub(crate) fn whole(hub: Arc<Hub>) -> Self {
        Self::new(hub, Arc::new(Access::everything()))
    }

    /// The access that it is looked through.
    pub(crate) fn access(&self) -> &Access {
        &self.access
    }

    /// Whether nothing is hidden.
    pub(crate) fn is_whole(&self) -> bool {
        self.access.sees_all()
    }

    /// Looks at what is seen of the fleet. Keep it short: observations wait meanwhile.
    pub(crate) fn look<T>(&self, look: impl FnOnce(&Fleet) -> T) -> T {
        if self.is_whole() { self.hub.look(look) } else { look(&self.snapshot()) }
    }

    /// What is seen of the fleet now, to be worked on for longer than a look.
    pub(crate) fn snapshot(&self) -> Fleet {
        if self.is_whole() { self.hub.snapshot() } else { self.hub.seen_by(&self.access) }
    }

    /// All containers as a JSON array.
    pub(crate) fn listing(&self) -> Bytes {
        if self.is_whole() { self.hub.listing() } else { Bytes::from(self.containers_json(|_| true)) }
    }

    /// The containers that `wanted` picks, as a JSON array.
    pub(crate) fn containers_json(&self, wanted: impl Fn(&Container) -> bool) -> String {
        if self.is_whole() {
            return self.hub.containers_json(wanted);
        }
        let fleet = self.snapshot();
        let found: Vec<&Container> = fleet.containers().filter(|c| wanted(c)).collect();
        serde_json::to_string(&found).unwrap_or_default()
    }

    /// What tells one state of a list from every other, for conditional requests; `None` where it would tell of what is not seen.
    pub(crate) fn tag(&self) -> Option<String> {
        self.is_whole().then(|| self.hub.tag())
    }

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

    /// Refuses the name of a host that is not seen.
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

    /// Looks at the whole fleet to judge what is allowed. What is found must not be told to who does not see it.
    pub(crate) fn judge<T>(&self, judge: impl FnOnce(&Fleet, &Access) -> T) -> T {
        self.hub.look(|fleet| judge(fleet, &self.access))
    }

    /// What is allowed on a host itself.
    pub(crate) fn on_host(&self, host: &str) -> Rights {
        self.hub.look(|fleet| fleet.rights_on_host(&self.access, host))
    }

    /// What is allowed on a container.
    pub(crate) fn on(&self, container: &Container) -> Rights {
        self.hub.look(|fleet| fleet.rights_on(&self.access, container))
    }

    /// What is allowed on a stack of a host.
    pub(crate) fn on_stack(&self, host: &str, stack: &str) -> Rights {
        self.hub.look(|fleet| fleet.rights_on_stack(&self.access, host, stack))
    }

    /// What is allowed on a volume, an image or a network of a host.
    pub(crate) fn on_asset(&self, host: &str, kind: AssetKind, key: &str) -> Rights {
        self.hub.look(|fleet| fleet.rights_on_asset(&self.access, host, kind, key))
    }

    /// What is allowed on an object that notes are on.
    pub(crate) fn rights_on_object(&self, on: &NotedObject) -> Rights {
        if let NotedObject::Host(_) = on {
            let seen = self.snapshot();
            return self.judge(|fleet, access| on.rights(fleet, &seen, access));
        }
        self.judge(|fleet, access| on.rights(fleet, fleet, access))
    }

    /// Whether a stack of a host is seen.
    pub(crate) fn sees_stack(&self, host: &str, stack: &str) -> bool {
        self.is_whole() || self.on_stack(host, stack).has(Right::See)
    }

    /// Whether a target of an operation is seen.
    pub(crate) fn sees_target(&self, target: &Target) -> bool {
        if self.is_whole() || self.on_host(&target.host).has(Right::See) {
            return true;
        }
        self.look(|fleet| match target.object {
            ObjectKind::Container => {
                let mut all = fleet.users_of(&target.host);
                all.any(|c| c.name == target.name || (!target.id.is_empty() && c.id == target.id))
            }
            ObjectKind::Volume | ObjectKind::Network => fleet.assets_of(&target.host).is_some_and(|assets| {
                assets.volumes.iter().any(|v| v.name == target.name)
                    || assets.networks.iter().any(|n| n.name == target.name)
            }),
            ObjectKind::Image | ObjectKind::Cache => false,
        })
    }

    /// An operation as it is seen; `None` when it is not. What somebody asked for themselves they see as a whole.
    pub(crate) fn operation(&self, operation: Operation, member: &str) -> Option<Operation> {
        if self.is_whole() || operation.author == member {
            return Some(operation);
        }
        match operation.request.stack().map(str::to_owned) {
            Some(stack) => operation_seen(operation, |t| self.sees_stack(&t.host, &stack)),
            None => operation_seen(operation, |target| self.sees_target(target)),
        }
    }

    /// The whole of what is seen, as the JSON of a `FleetSnapshot`.
    pub(crate) fn snapshot_json(&self) -> String {
        if !self.is_whole() {
            return self.hub.begin_seen_by(&self.access, 0).0.json();
        }
        match self.hub.begin(None).0 {
            InitialState::Fresh(fleet) => fleet.json(),
            InitialState::Resumed(_) => String::new(),
        }
    }
}

#[cfg(test)]
mod tests {
    use gubernum_core::fleet::Observation;
    use jiff::Timestamp;
    use rstest::rstest;

    use super::*;

    /// Two hosts; `frost-api` is on both of them, `row` on one.
    fn view() -> View {
        let hub = Hub::new("e".into(), None);
        for name in ["packhouse", "coldstore"] {
            let added = Observation::HostAdded {
                name: name.into(),
                address: "unix:///x".into(),
                link: "socket".into(),
                ports_address: None,
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
        View::whole(Arc::new(hub))
    }

    #[rstest]
    #[case("row", "packhouse/row")]
    #[case("packhouse/row", "packhouse/row")]
    #[case("coldstore/frost-api", "coldstore/frost-api")]
    fn a_reference_means_one_container(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(view().find(text).unwrap().reference(), expected);
    }

    #[rstest]
    #[case("packhouse", "frost-api", "packhouse/frost-api")]
    #[case("packhouse", "bb22", "packhouse/row")]
    #[case("-", "row", "packhouse/row")]
    fn a_host_and_a_name_too(#[case] host: &str, #[case] name: &str, #[case] expected: &str) {
        assert_eq!(view().find_on(host, name).unwrap().reference(), expected);
    }

    #[rstest]
    #[case("*/row", "without '*'")]
    #[case("frost-api", "matches 2 containers")]
    #[case("-/frost-api", "no container matches")]
    #[case("packhouse/rwo", "packhouse/row")]
    #[case("a/b/c", "is not a reference")]
    #[case("", "is not a reference")]
    fn what_means_none_or_several_is_said(#[case] text: &str, #[case] words: &str) {
        let sentence = view().find(text).unwrap_err().to_string();
        assert!(sentence.contains(words), "{text}: {sentence}");
    }

    #[test]
    fn a_host_that_is_not_there_is_reported_with_those_that_are() {
        let hub = view();
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
                ports_address: None,
            };
            hub.observe(added, Timestamp::UNIX_EPOCH);
        }
        let Err(FleetError::NoHost { known, .. }) = View::whole(Arc::new(hub)).know_host("x") else {
            panic!("it is not there")
        };
        assert_eq!(known.len(), MOST_NAMES);
    }
}
