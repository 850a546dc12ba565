use std::collections::BTreeSet;

use rstest::rstest;

use super::*;
use crate::compose::load::StackInput;
use crate::compose::model::{Condition, FailureAction, FileSource, Need};
use crate::definition::{MountKind, PullPolicy};

fn stack(text: &str) -> Result<Stack, Vec<String>> {
    let told = |errors: Vec<FileError>| errors.iter().map(ToString::to_string).collect::<Vec<_>>();
    let files = BTreeMap::from([("stack.yaml".to_owned(), text.to_owned())]);
    let given = StackInput {
        files: &files,
        main: &["stack.yaml".to_owned()],
        name: None,
        variables: &BTreeMap::new(),
        profiles: &BTreeSet::new(),
        wanted: ReadPurpose::Stack,
    };
    read(&given).map(|(_, stack)| stack).map_err(told)
}

const WHOLE: &str = r#"
name: frostwatch
services:
  api:
    image: registry.tarnvalley.example/frost/api:2.4
    command: ["--serve", "--port", "8080"]
    environment: {TZ: Europe/London, WORKERS: 4, EMPTY: ""}
    ports: ["127.0.0.1:7311:8080", "9000-9001:9000-9001/udp", "8000-8010:80", {target: 443, published: "8443"}]
    volumes:
      - frost-data:/data
      - ./conf:/etc/frost:ro
      - /cache
      - {type: tmpfs, target: /run, tmpfs: {size: 64m, mode: 0o1777}}
      - {type: volume, source: frost-data, target: /part, volume: {subpath: part, nocopy: true}}
    networks: {front: {aliases: [frost], ipv4_address: 172.30.0.9}, back: }
    restart: on-failure:3
    healthcheck: {test: "curl -f http://localhost:8080/health", interval: 10s, retries: 5, start_interval: 2s}
    mem_limit: 512m
    cpus: 1.5
    ulimits: {nofile: 1024, nproc: {soft: 10, hard: 20}}
    depends_on: {migrate: {condition: service_completed_successfully}, store: {condition: service_healthy, restart: true}}
    configs: [settings, {source: settings, target: /etc/other, mode: 0440, uid: "7"}]
    secrets: [token]
    deploy: {replicas: 2, update_config: {parallelism: 1, order: start-first, failure_action: rollback, delay: 5s}}
    stop_grace_period: 1m30s
    cpu_quota: 50ms
    pull_policy: every_1w2h
    post_start: [{command: warm up, user: root}]
    uts: host
    blkio_config: {weight: 300, device_read_bps: [{path: /dev/sda, rate: 12mb}]}
  migrate: {build: {context: ./migrate, args: [A=1, B]}, deploy: {mode: replicated-job}}
  store: {image: store, network_mode: none, container_name: the-store, volumes_from: ["container:old:ro"]}
volumes: {frost-data: {driver: local, driver_opts: {type: none}}}
networks: {front: {ipam: {config: [{subnet: 172.30.0.0/24}]}}, back: {external: true, name: shared}}
configs: {settings: {content: "a: 1"}}
secrets: {token: {environment: TOKEN}}
"#;

#[test]
fn a_whole_stack_is_read() {
    let stack = stack(WHOLE).unwrap();
    assert_eq!(stack.name.as_deref(), Some("frostwatch"));
    let api = &stack.services["api"];
    let c = &api.container;
    assert_eq!(c.name, "api");
    let ports: Vec<_> = c.ports.iter().map(|p| (p.host_port, p.host_port_to, p.container_port)).collect();
    assert_eq!(
        ports,
        [
            (Some(7311), None, 8080),
            (Some(9000), None, 9000),
            (Some(9001), None, 9001),
            (Some(8000), Some(8010), 80),
            (Some(8443), None, 443)
        ]
    );
    assert_eq!(c.mounts.len(), 5);
    assert_eq!((c.mounts[1].kind, c.mounts[1].source.as_deref()), (MountKind::Bind, Some("./conf")));
    assert_eq!((c.mounts[3].size, c.mounts[3].mode.as_deref()), (Some(64 << 20), Some("1777")));
    assert_eq!((c.mounts[4].no_copy, c.mounts[4].subpath.as_deref()), (true, Some("part")));
    assert_eq!(c.network.networks.iter().map(|n| n.name.as_str()).collect::<Vec<_>>(), ["front", "back"]);
    assert_eq!(c.restart.most_tries, Some(3));
    assert_eq!(c.health.as_ref().unwrap().start_interval_ms, Some(2000));
    assert_eq!((c.limits.memory, c.limits.processors), (Some(512 << 20), Some(1.5)));
    assert_eq!(c.limits.processor_quota, Some(50_000));
    assert_eq!((c.limits.block.weight, c.limits.block.read_bytes[0].rate), (Some(300), 12 << 20));
    assert_eq!(c.grace_seconds, Some(90));
    assert_eq!((api.replicas, api.update.starts_first), (2, Some(true)));
    assert_eq!(api.update.on_failure, Some(FailureAction::Rollback));
    let healthy = Need { condition: Condition::ServiceHealthy, restart: true, required: true };
    assert_eq!(api.needs["store"], healthy);
    assert_eq!(api.needs["migrate"].condition, Condition::ServiceCompletedSuccessfully);
    assert_eq!((api.configs[0].target.as_str(), api.configs[1].mode), ("/settings", Some(0o440)));
    assert_eq!((api.configs[1].user, api.secrets[0].target.as_str()), (Some(7), "/run/secrets/token"));
    assert_eq!(
        (c.pull, api.fetched_again_after_ms),
        (PullPolicy::Missing, Some(169 * 3_600_000 + 3_600_000))
    );
    assert_eq!(api.after_start[0].command, ["warm", "up"]);
    let migrate = &stack.services["migrate"];
    assert!(migrate.is_job);
    let build = migrate.build.as_ref().unwrap();
    assert_eq!(build.context, "migrate");
    assert_eq!(build.arguments["A"].as_deref(), Some("1"));
    assert_eq!(build.arguments["B"], None);
    let store = &stack.services["store"];
    assert!(store.has_fixed_name && store.volumes_from[0].read_only);
    assert_eq!(store.volumes_from[0].of, "container:old");
    assert_eq!(store.container.network.networks, []);
    assert!(stack.networks.contains_key("default"), "migrate is in no other");
    assert_eq!(stack.networks["back"].name.as_deref(), Some("shared"));
    assert_eq!(stack.secrets["token"], FileSource::Environment("TOKEN".to_owned()));
}

#[rstest]
#[case::a_volume(
    "services:\n  a: {image: x, volumes: [\"dta:/d\"]}\nvolumes: {data: }\n",
    "2:27 the volume 'dta' is not declared; did you mean 'data'?"
)]
#[case::a_network(
    "services:\n  a: {image: x, networks: [front]}\n",
    "2:28 the network 'front' is not declared; add it to the top-level 'networks'"
)]
#[case::a_secret("services:\n  a: {image: x, secrets: [s]}\n", "2:27 the secret 's' is not declared")]
#[case::a_service(
    "services:\n  a: {image: x, depends_on: [stor]}\n  store: {image: y}\n",
    "2:30 'depends_on' names 'stor', which does not exist; did you mean 'store'?"
)]
#[case::left_out(
    "services:\n  a: {image: x, depends_on: [b]}\n  b: {image: y, profiles: [debug]}\n",
    "2:30 'depends_on' names 'b', whose profile is not active"
)]
#[case::a_circle(
    "services:\n  a: {image: x, depends_on: [b]}\n  b: {image: y, links: [\"c:other\"]}\n  c: {image: z, pid: \"service:a\"}\n",
    "4:22 services depend on each other in a circle: a → b → c → a"
)]
#[case::of_itself(
    "services:\n  a: {image: x, depends_on: [a]}\n",
    "2:30 services depend on each other in a circle: a → a"
)]
#[case::no_services("x-a: 1\n", "1:1 the file has no 'services'")]
#[case::only_others(
    "services:\n  a: {image: x, profiles: [p]}\n",
    "1:1 every service has an inactive profile, for example 'a'"
)]
#[case::no_image("services:\n  a: {command: x}\n", "2:3 'a' has neither 'image' nor 'build'")]
#[case::a_port(
    "services:\n  a: {image: x, ports: [{target: 99999}]}\n",
    "2:34 'target' must be from 1 to 65535, not 99999"
)]
#[case::a_published_port(
    "services:\n  a: {image: x, ports: [{target: 80, published: \"70000\"}]}\n",
    "2:49 'published' must be a port from 1 to 65535"
)]
#[case::a_name(
    "name: Frost Watch\nservices:\n  a: {image: x}\n",
    "1:7 'Frost Watch' is not a valid stack name"
)]
#[case::a_service_name("services:\n  \"a b\": {image: x}\n", "2:3 'a b' is not a valid name")]
#[case::limits_differ(
    "services:\n  a: {image: x, mem_limit: 1g, deploy: {resources: {limits: {memory: 2g}}}}\n",
    "2:28 'mem_limit' and 'memory' of 'deploy.resources' differ"
)]
#[case::two_names(
    "services:\n  a: {image: x, container_name: c1}\n  b: {image: x, container_name: c1}\n",
    "3:33 'a' and 'b' have the same 'container_name'"
)]
#[case::a_name_and_replicas(
    "services:\n  a: {image: x, container_name: c1, scale: 2}\n",
    "2:33 a service with 'container_name' can have one replica only"
)]
#[case::a_file_without_content("services:\n  a: {image: x}\nconfigs: {c: {}}\n", "3:11 'c' has no content")]
#[case::two_ways_in(
    "services:\n  a: {image: x, network_mode: host, networks: [b]}\nnetworks: {b: }\n",
    "2:47 'network_mode' and 'networks' exclude each other"
)]
#[case::what_is_there_already(
    "services:\n  a: {image: x}\nnetworks: {b: {external: true, driver: bridge}}\n",
    "3:32 'b' is 'external'"
)]
#[case::our_own_key(
    "services:\n  a: {image: x, x-gubernum-auto-remov: true}\n",
    "2:17 a service has no 'x-gubernum-auto-remov'; did you mean 'x-gubernum-auto-remove'?"
)]
fn what_does_not_fit_together_is_reported(#[case] text: &str, #[case] expected: &str) {
    let told = stack(text).unwrap_err();
    let (place, sentence) = expected.split_once(' ').unwrap();
    let (line, column) = place.split_once(':').unwrap();
    let expected = format!("stack.yaml, line {line}, column {column}: {sentence}");
    assert!(told.len() == 1 && told[0].starts_with(&expected), "{told:#?}\n{expected}");
}

#[test]
fn errors_of_all_kinds_are_reported_at_once() {
    let text = "services:\n  a: {imag: x, depends_on: [stor]}\n  store: {image: y, volumes: [\"data:/d\"]}\n";
    let told = stack(text).unwrap_err();
    let expected = [
        "2:7 a service has no 'imag'",
        "2:29 'depends_on' names 'stor'",
        "3:31 the volume 'data' is not declared",
    ];
    assert_eq!(told.len(), expected.len(), "{told:#?}");
    for (told, expected) in told.iter().zip(expected) {
        let (place, sentence) = expected.split_once(' ').unwrap();
        let (line, column) = place.split_once(':').unwrap();
        assert!(told.starts_with(&format!("stack.yaml, line {line}, column {column}: {sentence}")), "{told}");
    }
}

#[rstest]
#[case("a-b_1", true)]
#[case("1a", true)]
#[case("A", false)]
#[case("-a", false)]
#[case("", false)]
fn names_of_stacks(#[case] name: &str, #[case] expected: bool) {
    assert_eq!(is_stack_name(name), expected);
}
