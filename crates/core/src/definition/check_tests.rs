//! Every error that is caught before, once, and that what is right is not complained of.

use super::*;
use crate::assets::{Image, Network, Subnet, Volume};
use crate::container::{Mount, State};
use crate::definition::{EnvironmentEntry, MountRule, NetworkConnection, NewFolder, PortRule};
use crate::host::EngineFacts;
use jiff::Timestamp;
use rstest::rstest;

fn good() -> Definition {
    let mut d = Definition::for_image("registry.tarnvalley.example/frost/api:2.4");
    d.name = "frost-api".into();
    d.ports.push(port(7311));
    d.environment.push(EnvironmentEntry { name: "TZ".into(), value: "UTC".into(), hidden: false });
    d
}

fn port(host: u16) -> PortRule {
    PortRule {
        address: None,
        host_port: Some(host),
        host_port_to: None,
        container_port: 8080,
        protocol: "tcp".into(),
    }
}

fn mount(kind: MountKind, source: &str, target: &str) -> MountRule {
    MountRule { kind, source: Some(source.into()), target: target.into(), ..MountRule::default() }
}

struct World {
    host: Host,
    assets: Assets,
    containers: Vec<Container>,
}

fn world() -> World {
    let mut host = Host::blank("packhouse");
    host.machine.memory_total = Some(8 << 30);
    host.machine.processors = Some(4);
    host.engine = Some(EngineFacts {
        kind: "dockerd".into(),
        version: "20".into(),
        api_version: "1.41".into(),
        os: "linux".into(),
        architecture: "x86_64".into(),
        machine: "m".into(),
    });
    let mut taken = Container::blank("packhouse", "auction", "aa");
    let published = |p| Port {
        address: Some("0.0.0.0".into()),
        host_port: Some(p),
        container_port: 80,
        protocol: "tcp".into(),
    };
    taken.ports = vec![published(8000), published(8001)];
    taken.mounts = vec![Mount {
        kind: "volume".into(),
        source: "bids".into(),
        target: "/d".into(),
        read_only: false,
        anonymous: false,
    }];
    let mut asleep = Container::blank("packhouse", "ledger", "bb");
    asleep.state = State::Exited;
    asleep.ports = vec![published(9000)];
    let network = |name: &str, subnet: &str| Network {
        id: name.into(),
        name: name.into(),
        driver: "bridge".into(),
        subnets: vec![Subnet { subnet: subnet.into(), gateway: Some(subnet.replace(".0.0/16", ".0.1")) }],
        internal: false,
        ipv6: false,
        options: BTreeMap::new(),
        labels: BTreeMap::new(),
        created: None,
    };
    let assets = Assets {
        written: Default::default(),
        images: vec![Image {
            id: "cc".into(),
            tags: vec!["arm-only:1".into()],
            digests: Vec::new(),
            size: 1,
            shared: None,
            created: Timestamp::UNIX_EPOCH,
            architecture: Some("arm64".into()),
            labels: BTreeMap::new(),
            layers: Vec::new(),
        }],
        volumes: vec![Volume {
            name: "bids".into(),
            driver: "local".into(),
            mount_point: "/v".into(),
            options: BTreeMap::from([("type".into(), "nfs".into())]),
            labels: BTreeMap::new(),
            created: None,
            size: None,
            anonymous: false,
        }],
        networks: vec![network("front", "172.30.0.0/16"), network("bridge", "172.17.0.0/16")],
    };
    World { host, assets, containers: vec![taken, asleep] }
}

fn found(d: &Definition, change: impl FnOnce(&mut CheckContext<'_>)) -> Vec<Finding> {
    let world = world();
    let mut context = CheckContext {
        host: Some(&world.host),
        containers: world.containers.iter().collect(),
        assets: Some(&world.assets),
        ..CheckContext::default()
    };
    change(&mut context);
    check(d, &context)
}

#[test]
fn what_is_right_is_left_alone() {
    assert_eq!(found(&good(), |_| {}), Vec::new());
}

type Spoil = fn(&mut Definition);

#[rstest]
#[case("/name", Some("frost-api"), |d: &mut Definition| d.name = "registry.example/frost-api:2".into())]
#[case("/name", Some("frost-api"), |d: &mut Definition| d.name = "frost api".into())]
#[case("/name", Some("auction-2"), |d: &mut Definition| d.name = "auction".into())]
#[case("/name", None, |d: &mut Definition| d.name = String::new())]
#[case("/image", None, |d: &mut Definition| d.image = "Frost Api".into())]
#[case("/image", None, |d: &mut Definition| d.image = "arm-only:1".into())]
#[case("/ports/0/host_port", Some("8002"), |d: &mut Definition| d.ports[0].host_port = Some(8000))]
#[case("/ports/1/host_port", Some("7312"), |d: &mut Definition| d.ports.push(port(7311)))]
#[case("/ports/0/host_port", None, |d: &mut Definition| d.ports[0].host_port = Some(0))]
#[case("/ports/0/address", None, |d: &mut Definition| d.ports[0].address = Some("here".into()))]
#[case("/mounts/0/source", None, |d: &mut Definition| d.mounts.push(mount(MountKind::Volume, "/srv/data", "/data")))]
#[case("/mounts/0/source", None, |d: &mut Definition| { let mut m = mount(MountKind::Volume, "bids", "/data"); m.options.insert("type".into(), "tmpfs".into()); d.mounts.push(m) })]
#[case("/mounts/0/source", None, |d: &mut Definition| d.mounts.push(mount(MountKind::Bind, "data", "/data")))]
#[case("/mounts/0/target", None, |d: &mut Definition| d.mounts.push(mount(MountKind::Bind, "/data", "data")))]
#[case("/mounts/1/target", None, |d: &mut Definition| d.mounts = vec![mount(MountKind::Bind, "/a", "/data"), mount(MountKind::Bind, "/b", "/data/")])]
#[case("/environment/0/value", None, |d: &mut Definition| d.environment[0].value = "${TZ}".into())]
#[case("/environment/0/value", None, |d: &mut Definition| d.environment[0].value = "<your time zone>".into())]
#[case("/environment/0/value", None, |d: &mut Definition| d.environment[0].value = "CHANGE_ME".into())]
#[case("/environment/1/name", None, |d: &mut Definition| { let e = d.environment[0].clone(); d.environment.push(e) })]
#[case("/environment/0/name", None, |d: &mut Definition| d.environment[0].name = "A B".into())]
#[case("/auto_remove", None, |d: &mut Definition| { d.auto_remove = true; d.restart.policy = "always".into() })]
#[case("/restart/policy", None, |d: &mut Definition| d.restart.policy = "sometimes".into())]
#[case("/limits/memory", Some("8589934592"), |d: &mut Definition| d.limits.memory = Some(16 << 30))]
#[case("/limits/memory", None, |d: &mut Definition| d.limits.memory = Some(512))]
#[case("/limits/processors", Some("4"), |d: &mut Definition| d.limits.processors = Some(9.0))]
#[case("/network/networks/0/address", None, |d: &mut Definition| d.network.networks = vec![joined("front", Some("172.30.0.1"))])]
#[case("/network/networks/0/aliases", None, |d: &mut Definition| {
    d.network.networks = vec![NetworkConnection { aliases: vec!["frost".into()], ..joined("bridge", None) }];
})]
#[case("/network/networks/0/ipv6", None, |d: &mut Definition| {
    d.network.networks = vec![NetworkConnection { ipv6: Some("192.0.2.1".into()), ..joined("front", None) }];
})]
#[case("/network/networks/0/name", Some("front"), |d: &mut Definition| d.network.networks.push(joined("fronte", None)))]
#[case("/network/networks/0/address", None, |d: &mut Definition| d.network.networks.push(joined("front", Some("192.0.2.1"))))]
#[case("/network/networks/0/address", None, |d: &mut Definition| d.network.networks.push(joined("bridge", Some("172.17.0.9"))))]
#[case("/network/mode", None, |d: &mut Definition| d.network.mode = Some("container:nobody".into()))]
#[case("/network/mode", None, |d: &mut Definition| d.network.mode = Some("front".into()))]
#[case("/hostname", None, |d: &mut Definition| d.hostname = Some("no such name".into()))]
#[case("/health/test", None, |d: &mut Definition| d.health = Some(crate::definition::HealthRule { test: vec!["true".into()], ..Default::default() }))]
fn an_error_is_named_at_its_field(#[case] field: &str, #[case] proposal: Option<&str>, #[case] spoil: Spoil) {
    let mut d = good();
    spoil(&mut d);
    let found = found(&d, |_| {});
    let first = found.first().unwrap_or_else(|| panic!("nothing was found"));
    assert_eq!((first.field.as_str(), first.weight), (field, Weight::Error), "{found:?}");
    if proposal.is_some() {
        assert_eq!(first.proposal.as_deref(), proposal, "{first:?}");
    }
}

fn joined(name: &str, address: Option<&str>) -> NetworkConnection {
    NetworkConnection {
        name: name.into(),
        address: address.map(str::to_owned),
        ..NetworkConnection::default()
    }
}

#[test]
fn what_only_the_host_can_tell_is_used() {
    let mut d = good();
    d.mounts.push(mount(MountKind::Bind, "/srv/frost", "/data"));
    let at = |what| {
        move |a: &mut CheckContext<'_>| {
            a.paths.insert("/srv/frost".into(), what);
        }
    };
    assert_eq!(found(&d, |_| {}), Vec::new());
    assert_eq!(found(&d, at(PathEntry::Folder)), Vec::new());
    assert_eq!(found(&d, at(PathEntry::Nothing))[0].field, "/mounts/0/source");
    d.mounts[0].make = Some(NewFolder::default());
    assert_eq!(found(&d, at(PathEntry::Nothing)), Vec::new());
    assert!(found(&d, at(PathEntry::File))[0].weight == Weight::Warning, "a file may be meant");
    d.mounts[0].make = Some(NewFolder { user: 1000, ..NewFolder::default() });
    assert_eq!(
        found(&d, at(PathEntry::File))[0].weight,
        Weight::Error,
        "but not by who gives it to somebody"
    );
    let foreign = found(&good(), |a| {
        a.foreign_ports.insert((7311, "tcp".into()));
    });
    assert_eq!(
        (foreign[0].field.as_str(), foreign[0].proposal.as_deref()),
        ("/ports/0/host_port", Some("7312"))
    );
    let arm = found(&good(), |a| a.architectures = Some(vec!["arm64".into()]));
    assert_eq!(arm[0].field, "/image");
    assert!(found(&good(), |a| a.architectures = Some(vec!["arm64".into(), "amd64".into()])).is_empty());
}

#[test]
fn a_replaced_container_is_not_in_its_own_way() {
    let mut d = good();
    d.name = "auction".into();
    d.ports[0].host_port = Some(8000);
    assert_eq!(found(&d, |a| a.replaces = Some("aa")), Vec::new());
    assert_eq!(found(&d, |_| {}).len(), 2);
}

#[test]
fn one_that_sleeps_only_earns_a_warning() {
    let mut d = good();
    d.ports[0].host_port = Some(9000);
    let found = found(&d, |_| {});
    assert_eq!((found[0].weight, found[0].proposal.as_deref()), (Weight::Warning, Some("9001")));
}

#[rstest]
#[case("s3cret", false)]
#[case("http://x/<p>y</p>", false)]
#[case("${HOST}/x", true)]
#[case("{{ token }}", true)]
#[case("your-key", true)]
#[case("yourself", false)]
#[case("put-token-here", true)]
#[case("", false)]
fn placeholders(#[case] value: &str, #[case] is: bool) {
    assert_eq!(is_placeholder(value), is);
}
