use super::*;
use crate::assets::{Assets, Subnet};
use crate::container::{Attachment, Mount, Port};
use crate::fleet::Observation;
use crate::host::EngineFacts;

fn engine() -> EngineFacts {
    EngineFacts {
        kind: "dockerd".into(),
        version: "20".into(),
        api_version: "1.41".into(),
        os: "linux".into(),
        architecture: "amd64".into(),
        machine: "m".into(),
    }
}

fn image(id: &str, tags: &[&str], size: u64) -> Image {
    Image {
        id: id.into(),
        tags: tags.iter().map(|t| (*t).to_owned()).collect(),
        digests: Vec::new(),
        size,
        shared: None,
        created: Timestamp::UNIX_EPOCH,
        architecture: Some("amd64".into()),
        labels: BTreeMap::new(),
        layers: Vec::new(),
    }
}

fn volume(name: &str) -> Volume {
    Volume {
        name: name.into(),
        driver: "local".into(),
        mount_point: String::new(),
        options: BTreeMap::new(),
        labels: BTreeMap::new(),
        created: None,
        size: None,
        anonymous: false,
    }
}

fn network(name: &str) -> Network {
    Network {
        id: format!("id-{name}"),
        name: name.into(),
        driver: "bridge".into(),
        subnets: vec![Subnet { subnet: "172.20.0.0/16".into(), gateway: None }],
        internal: false,
        ipv6: false,
        options: BTreeMap::new(),
        labels: BTreeMap::new(),
        created: None,
    }
}

fn container(name: &str, change: impl FnOnce(&mut Container)) -> Container {
    let mut c = Container::blank("", name, name);
    c.image_id = "sha256:aa".into();
    change(&mut c);
    c
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(second).unwrap()
}

fn fleet(containers: Vec<Container>) -> Fleet {
    let mut fleet = Fleet::new();
    for host in ["coldstore", "packhouse"] {
        let added = Observation::HostAdded {
            name: host.into(),
            address: "unix:///x".into(),
            link: "socket".into(),
            ports_address: (host == "packhouse").then(|| "packhouse.example".into()),
        };
        fleet.apply(added, at(0));
        let mine = if host == "packhouse" { containers.clone() } else { Vec::new() };
        fleet.apply(Observation::Listing { host: host.into(), engine: engine(), containers: mine }, at(1));
        let assets = Box::new(Assets {
            written: Default::default(),
            images: vec![image("aa", &["frost:1"], 100), image("bb", &[], 900)],
            volumes: vec![volume("readings"), volume("lonely")],
            networks: vec![network("bridge"), network("frostwatch_default")],
        });
        fleet.apply(Observation::Holds { host: host.into(), assets }, at(2));
    }
    fleet
}

#[test]
fn one_image_on_two_hosts_is_one_row_with_its_users() {
    let fleet = fleet(vec![container("api", |_| ())]);
    let rows = images(&fleet);
    assert_eq!(
        rows.iter().map(|r| (r.id.as_str(), r.untagged)).collect::<Vec<_>>(),
        [("bb", true), ("aa", false)]
    );
    let of = |host: &str| rows[1].copies.iter().find(|c| c.host == host).unwrap();
    assert_eq!(of("packhouse").used_by, ["packhouse/api"]);
    assert_eq!(of("packhouse").unused_since, None);
    assert_eq!(of("coldstore").unused_since, Some(at(2)));
}

#[test]
fn unused_since_stays_until_somebody_uses_it() {
    let mut fleet = fleet(Vec::new());
    let again = |fleet: &mut Fleet, second| {
        let assets = Box::new(fleet.assets_of("packhouse").unwrap().clone());
        fleet.apply(Observation::Holds { host: "packhouse".into(), assets }, at(second))
    };
    assert!(again(&mut fleet, 50).is_none(), "nothing is different");
    assert_eq!(fleet.unused_since("packhouse", AssetKind::Volume, "lonely"), Some(at(2)));
    let known = vec![(AssetKind::Volume, "lonely".to_owned(), at(-500), None)];
    fleet.apply(Observation::UnusedBefore { host: "packhouse".into(), known }, at(60));
    assert_eq!(fleet.unused_since("packhouse", AssetKind::Volume, "lonely"), Some(at(-500)));
    let mut user = container("user", |c| {
        c.mounts = vec![Mount {
            kind: "volume".into(),
            source: "lonely".into(),
            target: "/d".into(),
            read_only: true,
            anonymous: false,
        }];
    });
    user.host = "packhouse".into();
    fleet.apply(Observation::Seen { container: Box::new(user) }, at(70));
    assert!(again(&mut fleet, 71).is_some());
    assert_eq!(fleet.unused_since("packhouse", AssetKind::Volume, "lonely"), None);
    let row =
        volumes(&fleet).into_iter().find(|v| v.host == "packhouse" && v.volume.name == "lonely").unwrap();
    assert_eq!((row.used_by[0].container.as_str(), row.used_by[0].read_only), ("packhouse/user", true));
    // The built-in network is nobody's leftover.
    assert_eq!(fleet.unused_since("packhouse", AssetKind::Network, "id-bridge"), None);
    assert!(fleet.unused_since("packhouse", AssetKind::Network, "id-frostwatch_default").is_some());
}

#[test]
fn members_have_their_addresses() {
    let fleet = fleet(vec![container("api", |c| {
        c.networks = vec!["frostwatch_default".into()];
        c.attachments = vec![Attachment {
            network: "frostwatch_default".into(),
            address: Some("172.20.0.4".into()),
            ipv6: None,
            aliases: vec!["api".into()],
        }];
    })]);
    let row = networks(&fleet).into_iter().find(|n| n.host == "packhouse" && !n.built_in).unwrap();
    assert_eq!(row.members[0].address.as_deref(), Some("172.20.0.4"));
    assert_eq!(row.members[0].aliases, ["api"]);
}

#[test]
fn a_stack_counts_what_is_wanted() {
    let of = |name: &str, state: State, code: Option<i64>, policy: &str| {
        container(name, |c| {
            c.stack = Some("frostwatch".into());
            c.service = Some(name.trim_end_matches(char::is_numeric).into());
            c.state = state;
            c.exit_code = code;
            c.restart_policy = policy.into();
        })
    };
    let mut once = of("api9", State::Exited, Some(0), "always");
    once.labels.insert(ONE_OFF_LABEL.into(), "True".into());
    let fleet = fleet(vec![
        of("api1", State::Running, None, "always"),
        of("api2", State::Exited, Some(0), "always"),
        of("job1", State::Exited, Some(0), "no"),
        once,
    ]);
    let rows = stacks(&fleet);
    assert_eq!((rows.len(), rows[0].wanted, rows[0].running), (1, 2, 1));
    let api = &rows[0].services[0];
    assert_eq!((api.name.as_str(), api.wanted, api.running, api.containers.len()), ("api", 2, 1, 3));
}

#[test]
fn ports_tell_who_listens_and_who_clashes() {
    let port = |address: &str, host_port, container_port| Port {
        address: Some(address.into()),
        host_port,
        container_port,
        protocol: "tcp".into(),
    };
    let fleet = fleet(vec![
        container("api", |c| c.ports = vec![port("0.0.0.0", Some(7311), 8080)]),
        container("old", |c| {
            c.ports = vec![port("127.0.0.1", Some(7311), 80)];
            c.state = State::Exited;
        }),
        container("relay", |c| {
            c.networks = vec!["host".into()];
            c.ports =
                vec![Port { address: None, host_port: None, container_port: 9000, protocol: "udp".into() }];
        }),
        container("inner", |c| {
            c.ports =
                vec![Port { address: None, host_port: None, container_port: 5400, protocol: "tcp".into() }]
        }),
    ]);
    let rows = ports(&fleet);
    assert_eq!(rows.iter().map(|r| r.port).collect::<Vec<_>>(), [7311, 7311, 9000]);
    assert!(rows[0].clash && rows[1].clash && !rows[2].clash);
    assert_eq!(rows[0].url.as_deref(), Some("http://packhouse.example:7311/"));
    assert_eq!(rows[1].url.as_deref(), Some("http://127.0.0.1:7311/"));
    assert_eq!((rows[1].listening, rows[2].host_network), (false, true));
}
