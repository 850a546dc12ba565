//! One container as a Compose file, and back.
//!
//! The form and the text are two views of one [`Definition`]: what [`write`] writes, [`read`] reads as the
//! same. Not here: stacks of several services.

pub use super::compose_read::{EnvironmentFile, environment_files, read, read_with};
pub use super::compose_write::{NAMELESS, write};
pub use crate::text::words;

use super::Definition;
use crate::yaml::Place;

pub(super) use crate::compose::read::OWNER_KEY;

/// Something of a text that a single container has no place for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Left {
    /// Where it is.
    pub place: Place,
    /// What was dropped and why.
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
    use std::collections::BTreeMap;

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
    #[case("services:\n  a: {image: x}\n  b: {image: y}\n", 3, "2 services")]
    #[case("services:\n  a:\n    image: x\n    restart: sometimes\n", 4, "sometimes")]
    #[case("services:\n  a:\n    image: x\n    environment: 5\n", 4, "mapping")]
    #[case("services:\n  a:\n    image: x\n    volumes: [\"data:\"]\n", 4, "SOURCE:/TARGET")]
    #[case("services:\n  a:\n    image: x\n    volumes: [\":/data\"]\n", 4, "SOURCE:/TARGET")]
    #[case("services:\n  a:\n    image: x\n    volumes: [\"\"]\n", 4, "an empty part")]
    #[case("hello", 1, "mapping")]
    #[case("services:\n  a:\n    image: x\n    image: y\n", 4, "")]
    fn errors_are_pointed_at(#[case] text: &str, #[case] line: u64, #[case] has: &str) {
        let error = read(text).unwrap_err();
        assert_eq!(error.first().unwrap().place.line, line, "{error}");
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

    #[test]
    fn a_dollar_that_is_meant_comes_back_wherever_it_is() {
        let text = "services:\n  a:\n    image: x\n    volumes: [\"v:/data\"]\nvolumes:\n  v:\n    name: a$$b\n    driver: c$$d\n";
        let d = read(text).unwrap().definition;
        assert_eq!(
            (d.mounts[0].source.as_deref(), d.mounts[0].driver.as_deref()),
            (Some("a$b"), Some("c$d"))
        );
        assert_eq!(read(&write(&d)).unwrap().definition, Definition { name: "a".into(), ..d });
    }

    proptest! {
        #[test]
        fn reading_never_panics(text in "(services:\n  a:\n)?(    [a-z_]{1,12}: [\\[\\]{}a-z0-9:\"$-]{0,12}\n){0,4}") {
            let _ = read(&text);
        }
    }

    const WITH_FILES: &str = r"
services:
  api:
    image: registry.tarnvalley.example/frost/api:2.4
    environment: {TZ: Europe/London}
    env_file:
      - season.env
      - {path: site.env, required: false}
";

    #[test]
    fn files_of_variables_are_taken_or_named_as_missing() {
        let left = read(WITH_FILES).unwrap().left;
        assert_eq!(left.len(), 1, "what need not be there is not missed: {left:?}");
        assert!(left[0].sentence.contains("season.env") && left[0].sentence.contains("paste"), "{left:?}");
        let files = BTreeMap::from([
            ("season.env".to_owned(), "TZ=UTC\nSEASON=\"late frost\"\nFLAG\n".to_owned()),
            ("site.env".to_owned(), "SEASON=early\n".to_owned()),
        ]);
        let found = read_with(WITH_FILES, &files).unwrap();
        let all: Vec<String> =
            found.definition.environment.iter().map(|e| format!("{}={}", e.name, e.value)).collect();
        assert_eq!(all, ["SEASON=early", "TZ=Europe/London"]);
        assert!(
            found.left.len() == 1 && found.left[0].sentence.contains("season.env, line 3"),
            "{:?}",
            found.left
        );
        let named = environment_files(WITH_FILES).unwrap();
        let named: Vec<(&str, bool)> = named.iter().map(|f| (f.path.as_str(), f.required)).collect();
        assert_eq!(named, [("season.env", true), ("site.env", false)]);
    }
}
