//! The view: what a member sees of the fleet, and that nothing else comes through, from the start and change by change.

use std::collections::BTreeMap;

use jiff::Timestamp;
use proptest::prelude::*;

use super::*;
use crate::assets::{Image, Network, Volume};
use crate::container::Mount;
use crate::fleet::Observation;
use crate::rights::Held;

const HOSTS: [&str; 3] = ["coldstore", "packhouse", "gatehouse"];
const STACKS: [&str; 3] = ["orchard", "auction", "ledger"];

fn held(scope: &str) -> Held {
    Held { scope: scope.parse().unwrap(), rights: [Right::See].into_iter().collect() }
}

fn sees(scopes: &[&str]) -> Access {
    Access::of(scopes.iter().map(|s| held(s)).collect())
}

fn container(host: &str, stack: &str, n: usize) -> Container {
    let name = format!("{stack}-{n}");
    let id = format!("{host}-{name}");
    let mut c = Container::blank(host, &name, &id);
    c.stack = Some(stack.to_owned());
    c.labels.insert(crate::container::STACK_LABEL.to_owned(), stack.to_owned());
    c.labels.insert("team".to_owned(), format!("team-{n}"));
    c.image_id = format!("sha256:{stack}");
    c.networks = vec![format!("{stack}_default")];
    c.mounts = vec![Mount {
        kind: "volume".to_owned(),
        source: format!("{stack}_data"),
        target: "/data".to_owned(),
        read_only: false,
        anonymous: false,
    }];
    c
}

fn assets() -> Assets {
    let labels = |stack: &str| BTreeMap::from([(crate::container::STACK_LABEL.to_owned(), stack.to_owned())]);
    Assets {
        images: STACKS
            .iter()
            .map(|stack| Image {
                id: (*stack).to_owned(),
                tags: vec![format!("registry.tarnvalley.example/{stack}:1")],
                digests: Vec::new(),
                size: 1,
                shared: None,
                created: Timestamp::UNIX_EPOCH,
                architecture: None,
                labels: BTreeMap::new(),
                layers: Vec::new(),
            })
            .collect(),
        volumes: STACKS
            .iter()
            .map(|stack| Volume {
                name: format!("{stack}_data"),
                driver: "local".to_owned(),
                mount_point: String::new(),
                options: BTreeMap::new(),
                labels: labels(stack),
                created: None,
                size: None,
                anonymous: false,
            })
            .collect(),
        networks: STACKS
            .iter()
            .map(|stack| Network {
                id: format!("{stack}-net"),
                name: format!("{stack}_default"),
                driver: "bridge".to_owned(),
                subnets: Vec::new(),
                internal: false,
                ipv6: false,
                options: BTreeMap::new(),
                labels: labels(stack),
                created: None,
            })
            .collect(),
        written: BTreeMap::new(),
    }
}

fn add(fleet: &mut Fleet, host: &str) -> Option<Delta> {
    let added = Observation::HostAdded {
        name: host.to_owned(),
        address: format!("tcp://{host}.example:2376"),
        link: "tls".to_owned(),
        ports_address: None,
    };
    fleet.apply(added, Timestamp::UNIX_EPOCH)
}

fn see(fleet: &mut Fleet, container: Container) -> Option<Delta> {
    fleet.apply(Observation::Seen { container: Box::new(container) }, Timestamp::UNIX_EPOCH)
}

fn fleet() -> Fleet {
    let mut fleet = Fleet::new();
    for host in HOSTS {
        add(&mut fleet, host);
        for stack in STACKS {
            for n in 0..2 {
                see(&mut fleet, container(host, stack, n));
            }
        }
        fleet.apply(
            Observation::Holds { host: host.to_owned(), assets: Box::new(assets()) },
            Timestamp::UNIX_EPOCH,
        );
    }
    fleet.apply(
        Observation::Grouped { name: "gatehouse".to_owned(), groups: vec!["sheds".to_owned()] },
        Timestamp::UNIX_EPOCH,
    );
    fleet
}

fn names(fleet: &Fleet) -> Vec<String> {
    fleet.containers().map(Container::reference).collect()
}

#[test]
fn who_sees_all_is_shown_the_fleet_as_it_is() {
    let fleet = fleet();
    let view = fleet.seen_by(&Access::everything());
    assert_eq!(names(&view), names(&fleet));
    assert_eq!(view.hosts().collect::<Vec<_>>(), fleet.hosts().collect::<Vec<_>>());
}

#[test]
fn a_host_that_is_granted_is_whole_and_others_are_not_there() {
    let fleet = fleet();
    let view = fleet.seen_by(&sees(&["host:packhouse"]));
    assert_eq!(view.hosts().map(|h| h.name.as_str()).collect::<Vec<_>>(), ["packhouse"]);
    assert_eq!(view.host("packhouse"), fleet.host("packhouse"));
    assert_eq!(view.containers().count(), 6);
    let view = fleet.seen_by(&sees(&["group:sheds"]));
    assert_eq!(view.hosts().map(|h| h.name.as_str()).collect::<Vec<_>>(), ["gatehouse"]);
}

#[test]
fn of_a_stack_only_what_it_has_is_seen() {
    let fleet = fleet();
    let view = fleet.seen_by(&sees(&["stack:packhouse/orchard"]));
    assert_eq!(names(&view), ["packhouse/orchard-0", "packhouse/orchard-1"]);
    let host = view.host("packhouse").unwrap();
    assert_eq!(host.address, "", "where its engine is, is the business of whoever sees the host");
    assert_eq!((host.assets.images, host.assets.volumes, host.assets.networks), (1, 1, 1));
    let assets = view.assets_of("packhouse").unwrap();
    assert_eq!(assets.volumes[0].name, "orchard_data");
    assert_eq!(assets.networks[0].name, "orchard_default");
    assert_eq!(assets.images[0].id, "orchard");
}

#[test]
fn what_a_trouble_follows_from_is_not_told_when_it_is_not_seen() {
    let mut fleet = fleet();
    let mut holder = container("packhouse", "ledger", 0);
    holder.ports = vec![crate::container::Port {
        address: Some("0.0.0.0".to_owned()),
        host_port: Some(8080),
        container_port: 80,
        protocol: "tcp".to_owned(),
    }];
    see(&mut fleet, holder);
    let mut late = container("packhouse", "orchard", 0);
    late.state = crate::container::State::Created;
    late.error = Some("Bind for 0.0.0.0:8080 failed: port is already allocated".to_owned());
    see(&mut fleet, late);
    let whole = fleet.container("packhouse", "packhouse-orchard-0").unwrap().attention.clone().unwrap();
    assert_eq!(whole.because.as_deref(), Some("packhouse/ledger-0"), "{whole:?}");
    let view = fleet.seen_by(&sees(&["stack:orchard"]));
    let seen = view.container("packhouse", "packhouse-orchard-0").unwrap().attention.clone().unwrap();
    assert_eq!(seen.because, None);
    assert!(!format!("{} {}", seen.sentence, seen.advice).contains("ledger-0"), "{seen:?}");
}

#[test]
fn a_reader_hears_of_what_comes_into_sight_and_goes() {
    let mut fleet = Fleet::new();
    add(&mut fleet, "packhouse");
    let access = sees(&["stack:orchard"]);
    let mut told = ReaderState::of(&fleet.seen_by(&access));
    let delta = see(&mut fleet, container("packhouse", "ledger", 0)).unwrap();
    assert_eq!(told.next(&delta, &fleet, &access), None);
    let delta = see(&mut fleet, container("packhouse", "orchard", 0)).unwrap();
    let seen = told.next(&delta, &fleet, &access).unwrap();
    assert_eq!(seen.revision, 2, "what was not seen counts for nothing");
    assert!(matches!(&seen.changes[..], [Change::HostPut { .. }, Change::ContainerPut { .. }]), "{seen:?}");
    let gone = Observation::Gone { host: "packhouse".into(), id: "packhouse-orchard-0".into() };
    let delta = fleet.apply(gone, Timestamp::UNIX_EPOCH).unwrap();
    let seen = told.next(&delta, &fleet, &access).unwrap();
    assert!(matches!(&seen.changes[..], [Change::HostGone { .. }]), "{seen:?}");
}

/// What a reader who began with nothing and took all deltas has now.
#[derive(Default)]
struct Reader {
    hosts: BTreeMap<String, Host>,
    containers: BTreeMap<(String, String), Container>,
}

impl Reader {
    fn take(&mut self, delta: Delta) {
        for change in delta.changes {
            match change {
                Change::HostPut { host } => {
                    self.hosts.insert(host.name.clone(), *host);
                }
                Change::HostGone { host } => {
                    self.hosts.remove(&host);
                    self.containers.retain(|(of, _), _| *of != host);
                }
                Change::ContainerPut { container } => {
                    self.containers.insert((container.host.clone(), container.id.clone()), *container);
                }
                Change::ContainerGone { host, id } => {
                    self.containers.remove(&(host, id));
                }
            }
        }
    }
}

fn any_scope() -> impl Strategy<Value = String> {
    prop_oneof![
        proptest::sample::select(&HOSTS[..]).prop_map(|h| format!("host:{h}")),
        Just("group:sheds".to_owned()),
        proptest::sample::select(&STACKS[..]).prop_map(|s| format!("stack:{s}")),
        (proptest::sample::select(&HOSTS[..]), proptest::sample::select(&STACKS[..]))
            .prop_map(|(h, s)| format!("stack:{h}/{s}")),
        (0..3usize).prop_map(|n| format!("label:team=team-{n}")),
    ]
}

proptest! {
    #[test]
    fn deltas_and_views_come_to_the_same(
        scopes in proptest::collection::vec(any_scope(), 0..3),
        steps in proptest::collection::vec((0..6u8, 0..3usize, 0..3usize, 0..3usize), 1..40),
    ) {
        let access = Access::of(scopes.iter().map(|s| held(s)).collect());
        let mut fleet = Fleet::new();
        let mut told = ReaderState::of(&fleet.seen_by(&access));
        let mut reader = Reader::default();
        for (what, host, stack, n) in steps {
            let (host, c) = (HOSTS[host].to_owned(), container(HOSTS[host], STACKS[stack], n));
            let delta = match what {
                0 => add(&mut fleet, &host),
                1 => fleet.apply(Observation::Gone { host, id: c.id }, Timestamp::UNIX_EPOCH),
                2 => fleet.apply(Observation::Holds { host, assets: Box::new(assets()) }, Timestamp::UNIX_EPOCH),
                3 if n == 0 => fleet.apply(Observation::HostRemoved { name: host }, Timestamp::UNIX_EPOCH),
                _ => see(&mut fleet, c),
            };
            if let Some(seen) = delta.and_then(|delta| told.next(&delta, &fleet, &access)) {
                reader.take(seen);
            }
        }
        let view = fleet.seen_by(&access);
        let hosts: Vec<&Host> = reader.hosts.values().collect();
        prop_assert_eq!(view.hosts().collect::<Vec<_>>(), hosts);
        let mut seen: Vec<&Container> = view.containers().collect();
        seen.sort_by_key(|c| (c.host.clone(), c.id.clone()));
        prop_assert_eq!(seen, reader.containers.values().collect::<Vec<_>>());
        for c in view.containers() {
            prop_assert!(fleet.rights_on(&access, c).has(Right::See));
        }
    }
}

/// Notes are seen by whoever sees what they are on; what is not there is judged as its host.
#[rstest::rstest]
#[case("fleet", &["stack:orchard"], true)]
#[case("fleet", &[], false)]
#[case("host:packhouse", &["host:packhouse"], true)]
#[case("host:packhouse", &["stack:packhouse/orchard"], true)]
#[case("host:packhouse", &["host:coldstore"], false)]
#[case("host:nowhere", &["fleet"], false)]
#[case("container:packhouse/orchard-1", &["stack:orchard"], true)]
#[case("container:packhouse/auction-1", &["stack:orchard"], false)]
#[case("container:packhouse/gone", &["stack:orchard"], false)]
#[case("container:packhouse/gone", &["host:packhouse"], true)]
#[case("stack:packhouse/orchard", &["stack:orchard"], true)]
#[case("stack:packhouse/orchard", &["stack:coldstore/orchard"], false)]
#[case("volume:packhouse/orchard_data", &["stack:orchard"], true)]
#[case("volume:packhouse/auction_data", &["stack:orchard"], false)]
fn notes_are_seen_with_what_they_are_on(#[case] on: &str, #[case] scopes: &[&str], #[case] seen: bool) {
    let (fleet, access) = (fleet(), sees(scopes));
    let view = fleet.seen_by(&access);
    let on: crate::note::NotedObject = on.parse().unwrap();
    assert_eq!(on.rights(&fleet, &view, &access).has(Right::See), seen);
}
