//! One container as text of the Compose Specification, and back.
//!
//! The form and the text are two views of one [`Definition`]: what [`write`] writes, [`read`] reads as the
//! same. Not here: stacks of several services.

pub use super::compose_read::{read, words};
pub use super::compose_write::write;

use super::Definition;
use crate::yaml::Place;

/// Our own key for what the specification has no word for: the folder that is made for a bind mount.
pub(super) const OWNER_KEY: &str = "x-gubernum-owner";

/// Something of a text that a single container has no place for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Left {
    /// Where it stands.
    pub place: Place,
    /// What it is and what that means.
    pub sentence: String,
}

/// What a text says.
#[derive(Debug, Clone, PartialEq)]
pub struct Read {
    /// The container.
    pub definition: Definition,
    /// What was left out.
    pub left: Vec<Left>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::definition::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const WHOLE: &str = r#"
services:
  frost-api:
    image: registry.tarnvalley.example/frost/api:2.4
    container_name: frost-api
    command: ["--serve", "--port", "8080"]
    environment:
      TZ: Europe/London
      WORKERS: 4
      EMPTY:
    ports:
      - "127.0.0.1:7311:8080"
      - "9000-9001:9000-9001/udp"
      - target: 443
        published: "8443"
        protocol: tcp
    volumes:
      - frost-data:/data
      - /srv/frost:/etc/frost:ro
      - /cache
      - type: tmpfs
        target: /run
        tmpfs: {size: 64m}
    networks:
      front:
        aliases: [frost]
        ipv4_address: 172.30.0.9
    restart: on-failure:3
    healthcheck:
      test: curl -f http://localhost:8080/health
      interval: 10s
      timeout: 2s
      retries: 5
    mem_limit: 512m
    cpus: 1.5
    pids_limit: 200
    ulimits: {nofile: {soft: 1024, hard: 2048}}
    cap_add: [NET_ADMIN]
    read_only: true
    logging: {driver: json-file, options: {max-size: 10m}}
    stop_grace_period: 1m30s
    depends_on: [db]
volumes: {frost-data: {}}
networks: {front: {}}
"#;

    #[test]
    fn a_vendors_text_is_read() {
        let Read { definition: d, left } = read(WHOLE).unwrap();
        assert_eq!(d.name, "frost-api");
        assert_eq!(d.ports.len(), 4);
        assert_eq!(d.ports[0].address.as_deref(), Some("127.0.0.1"));
        assert_eq!((d.ports[2].host_port, d.ports[2].protocol.as_str()), (Some(9001), "udp"));
        assert_eq!(d.mounts.len(), 4);
        assert_eq!((d.mounts[1].kind, d.mounts[1].read_only), (MountKind::Bind, true));
        assert_eq!(d.mounts[2].source, None);
        assert_eq!(d.mounts[3].size, Some(64 << 20));
        assert_eq!(d.restart, RestartRule { policy: "on-failure".into(), most_tries: Some(3) });
        let health = d.health.clone().unwrap();
        assert_eq!(health.test[0], "CMD-SHELL");
        assert_eq!((health.interval_ms, health.retries), (Some(10_000), Some(5)));
        assert_eq!((d.limits.memory, d.limits.processors), (Some(512 << 20), Some(1.5)));
        assert_eq!(d.network.networks[0].address.as_deref(), Some("172.30.0.9"));
        assert_eq!(d.grace_seconds, Some(90));
        assert_eq!(d.environment.iter().find(|e| e.name == "WORKERS").unwrap().value, "4");
        assert!(left.iter().any(|l| l.sentence.contains("depends_on")), "{left:?}");
        assert_eq!(read(&write(&d)).unwrap().definition, d);
    }

    #[rstest]
    #[case("services:\n  a:\n    image: x\n    ports:\n      - \"99999:80\"\n", 5, "99999")]
    #[case("services:\n  a:\n    image: x\n    mem_limit: lots\n", 4, "lots")]
    #[case("services:\n  a:\n    imagee: x\n", 3, "image")]
    #[case("services:\n  a: {image: x}\n  b: {image: y}\n", 2, "2 services")]
    #[case("services:\n  a:\n    image: x\n    restart: sometimes\n", 4, "sometimes")]
    #[case("services:\n  a:\n    image: x\n    environment: 5\n", 4, "mapping")]
    #[case("hello", 1, "mapping")]
    #[case("services:\n  a:\n    image: x\n    image: y\n", 4, "")]
    fn mistakes_are_pointed_at(#[case] text: &str, #[case] line: u64, #[case] has: &str) {
        let error = read(text).unwrap_err();
        assert_eq!(error.place.line, line, "{error}");
        assert!(error.to_string().contains(has), "{error}");
    }

    #[test]
    fn variables_of_the_text_are_filled_from_their_defaults() {
        let d = read("services:\n  a:\n    image: x:${TAG:-2}\n    environment: [\"A=$$x\", \"B=${C}\"]\n")
            .unwrap()
            .definition;
        assert_eq!(d.image, "x:2");
        assert_eq!((d.environment[0].value.as_str(), d.environment[1].value.as_str()), ("$x", "${C}"));
    }

    fn word() -> impl Strategy<Value = String> {
        "[a-z][a-z0-9-]{0,8}[a-z0-9]"
    }

    prop_compose! {
        fn definition()(
            image in word(), name in word(),
            environment in prop::collection::btree_map("[A-Z_]{1,8}", "\\PC{0,12}", 0..4),
            labels in prop::collection::btree_map(word(), "\\PC{0,12}", 0..3),
            ports in prop::collection::vec((any::<Option<u16>>(), 1u16.., prop::sample::select(vec!["tcp", "udp"])), 0..3),
            volumes in prop::collection::vec((prop::option::of(word()), word(), any::<bool>()), 0..3),
            command in prop::option::of(prop::collection::vec("\\PC{1,8}", 1..4)),
            memory in prop::option::of(1u64 << 22..1 << 40), shared in prop::option::of(1u64..1 << 40),
            grace in prop::option::of(0u32..3600), tries in prop::option::of(1u32..9), read_only in any::<bool>(),
            interval in prop::option::of(1u64..100_000), processors in prop::option::of(1u32..64),
            security in prop::collection::vec("[a-z]{1,6}:[a-z]{1,6}", 0..2), init in any::<Option<bool>>(),
        ) -> Definition {
            Definition {
                image, name,
                environment: environment.into_iter().map(|(name, value)| EnvironmentEntry { name, value, hidden: false }).collect(),
                labels,
                ports: ports.into_iter().map(|(host, container, p)| PortRule { address: None, host_port: host.filter(|p| *p > 0), container_port: container, protocol: p.into() }).collect(),
                mounts: volumes.into_iter().map(|(source, target, read_only)| MountRule {
                    kind: MountKind::Volume, source, target: format!("/{target}"), read_only, make: None, propagation: None, size: None, driver: None, options: BTreeMap::new(),
                }).collect(),
                command,
                limits: Limits { memory, shared_memory: shared, processors: processors.map(|p| f64::from(p) / 4.0), ..Limits::default() },
                grace_seconds: grace,
                restart: RestartRule { policy: if tries.is_some() { "on-failure".into() } else { String::new() }, most_tries: tries },
                rights: Rights { read_only, security, ..Rights::default() },
                health: interval.map(|i| HealthRule { test: vec!["CMD".into(), "true".into()], interval_ms: Some(i), ..HealthRule::default() }),
                init,
                ..Definition::default()
            }
        }
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(d in definition()) {
            let text = write(&d);
            let back = read(&text).map_err(|e| TestCaseError::fail(format!("{e}\n{text}")))?;
            prop_assert_eq!(back.definition, d, "{}", text);
        }

        #[test]
        fn reading_never_panics(text in "(services:\n  a:\n)?(    [a-z_]{1,12}: [\\[\\]{}a-z0-9:\"$-]{0,12}\n){0,4}") {
            let _ = read(&text);
        }
    }
}
