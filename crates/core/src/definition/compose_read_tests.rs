//! Every key of a service, in every form that the Compose Specification has for it, and what is said of each error.

use rstest::rstest;

use super::*;
use crate::definition::PullPolicy;
use crate::definition::compose::{words, write};

/// A service with these further lines; its first own line is the fourth of the text.
fn service(lines: &str) -> String {
    let mut text = String::from("services:\n  a:\n    image: x\n");
    for line in lines.lines() {
        text.push_str(&format!("    {line}\n"));
    }
    text
}

fn definition(lines: &str) -> Definition {
    let read = read(&service(lines)).unwrap_or_else(|e| panic!("{lines}: {e}"));
    assert_eq!(read.left, [], "nothing is left out of {lines}");
    read.definition
}

#[rstest]
#[case::policy("pull_policy: sometimes", "4:18", "must be always, missing, never, build")]
#[case::restart("restart: on-failure:often", "4:14", "must be no, always, unless-stopped")]
#[case::command("command: 'say \"x'", "4:14", "a quote that is not closed")]
#[case::command_of_maps("command: {a: b}", "4:15", "must be a string or a list of strings, not a mapping")]
#[case::truth("privileged: perhaps", "4:17", "'true' or 'false'")]
#[case::number("cpu_shares: -1x", "4:17", "a whole number, not '-1x'")]
#[case::number_too_large("pids_limit: 99999999999999999999", "4:17", "a whole number, not '9999")]
#[case::size("shm_size: 12 parsecs", "4:15", "a size such as '512m' or '2g', not '12 parsecs'")]
#[case::size_too_large("mem_limit: 99999999999t", "4:16", "a size such as")]
#[case::span("stop_grace_period: a while", "4:24", "a duration such as '30s'")]
#[case::ports_of_another_kind("ports: 80", "4:12", "'ports' must be a list")]
#[case::port_zero("ports: [\"0\"]", "4:13", "a number from 1 to 65535")]
#[case::port_range_backwards("ports: [\"90-80:90-80\"]", "4:13", "or a range such as '8000-8010'")]
#[case::port_range_too_long("ports: [\"1-1002\"]", "4:13", "1002 ports; the limit is 1000")]
#[case::port_ranges_that_differ("ports: [\"80-82:80-81\"]", "4:13", "maps 3 host ports to 2")]
#[case::protocol("ports: [\"80/icmp\"]", "4:13", "tcp, udp, sctp, not 'icmp'")]
#[case::protocol_of_the_long_form(
    "ports: [{target: 80, protocol: icmp}]",
    "4:36",
    "tcp, udp, sctp, not 'icmp'"
)]
#[case::port_without_target("ports: [{published: 80}]", "4:14", "a port needs a 'target'")]
#[case::published(
    "ports: [{target: 80, published: x}]",
    "4:14",
    "'published' must be a port from 1 to 65535"
)]
#[case::port_key("ports: [{target: 80, publish: 80}]", "4:35", "did you mean 'published'?")]
#[case::mount_kind(
    "volumes: [{type: pipe, target: /x}]",
    "4:16",
    "one of bind, cluster, image, npipe, tmpfs, volume"
)]
#[case::mount_target("volumes: [{source: data}]", "4:16", "needs a 'target'")]
#[case::mount_key("volumes: [{target: /x, readonly: true}]", "4:39", "did you mean 'read_only'?")]
#[case::mount_option("volumes: [\"data:/x:fast\"]", "4:15", "has the unknown option 'fast'")]
#[case::mount_rest("volumes: [\"data:/x:ro:more\"]", "4:15", "has too many colons")]
#[case::mount_from_here("volumes: [\"./conf:/x\"]", "4:15", "write an absolute path")]
#[case::mount_from_home("volumes: [\"~/conf:/x\"]", "4:15", "write an absolute path")]
#[case::owner(
    "volumes: [{type: bind, source: /s, target: /x, bind: {x-gubernum-owner: \"me:1\"}}]",
    "4:59",
    "in numbers"
)]
#[case::health_test("healthcheck: {test: [\"curl\", \"-f\"]}", "4:25", "must start with 'CMD'")]
#[case::health_span("healthcheck: {interval: often}", "4:29", "a duration such as")]
#[case::health_key("healthcheck: {retry: 3}", "4:26", "did you mean 'retries'?")]
#[case::gpus("gpus: some", "4:11", "'gpus' must be 'all' or a list")]
#[case::two_gpu_entries("gpus: [{count: 1}, {count: 2}]", "4:24", "merge the entries")]
#[case::gpu_count_and_ids(
    "gpus: [{count: 1, device_ids: [a]}]",
    "4:12",
    "'device_ids' and 'count' exclude each other"
)]
#[case::gpu_count_below("gpus: [{count: -2}]", "4:20", "'count' must be from -1 to")]
#[case::gpu_key("gpus: [{driver: x, number: 1}]", "4:32", "a GPU reservation has no 'number'")]
#[case::logging("logging: {driver: local, option: {}}", "4:38", "did you mean 'options'?")]
#[case::limits("deploy: {resources: {limits: {memorry: 1g}}}", "4:44", "did you mean 'memory'?")]
#[case::ulimit("ulimits: {nofile: many}", "4:23", "a whole number, not 'many'")]
#[case::networks("networks: {front: [x]}", "4:23", "must be a mapping")]
#[case::service_key("comand: x", "4:13", "did you mean 'command'?")]
#[case::a_dollar("hostname: $5", "4:15", "no variable name after '$'")]
#[case::an_open_variable("hostname: '${open'", "4:15", "is not closed")]
#[case::an_odd_key("qqq: x", "4:10", "a service has no 'qqq'")]
fn an_error_is_reported_with_its_place(#[case] lines: &str, #[case] place: &str, #[case] words: &str) {
    let error = read(&service(lines)).unwrap_err();
    let sentence = error.to_string();
    assert!(sentence.contains(words), "{lines}: {sentence}");
    let line: u64 = place.split(':').next().unwrap().parse().unwrap();
    let error = error.first().unwrap();
    assert_eq!(error.place.line, line, "{lines}: {sentence}");
    assert!(error.place.column > 3, "inside the service: {sentence}");
}

#[rstest]
#[case("", "no 'services'")]
#[case("- a\n- b\n", "a Compose file must be a mapping, not a list")]
#[case("name: x\n", "no 'services'")]
#[case("services: {}\n", "no 'services'")]
#[case("services:\n", "no 'services'")]
#[case("services: [a]\n", "'services' must be a mapping, not a list")]
#[case("services:\n  a: {}\n", "neither 'image' nor 'build'")]
#[case("services:\n  a: {image: \"\"}\n", "neither 'image' nor 'build'")]
#[case("services:\n  a: {build: .}\n", "needs an 'image'")]
#[case("services:\n  a: x\n", "a service must be a mapping, not a string")]
fn a_text_without_one_service_says_what_is_missing(#[case] text: &str, #[case] words: &str) {
    let sentence = read(text).unwrap_err().to_string();
    assert!(sentence.contains(words), "{text}: {sentence}");
}

#[test]
fn what_is_below_the_services_name_is_enough() {
    let d = read("image: tarn/row:1\ncontainer_name: row\ntty: true\n").unwrap().definition;
    assert_eq!((d.image.as_str(), d.name.as_str(), d.terminal), ("tarn/row:1", "row", true));
}

/// Two ways of writing the same thing.
#[rstest]
#[case("command: [serve, \"--all\"]", "command: serve --all")]
#[case("command: [sh, -c, \"a b\"]", "command: sh -c 'a b'")]
#[case("environment: {A: \"1\", B: x=y}", "environment: [A=1, B=x=y]")]
#[case("environment: {A: 1}", "environment: {A: \"1\"}")]
#[case("labels: {a: b}", "labels: [a=b]")]
#[case("expose: [\"80\"]", "expose: [80/tcp]")]
#[case("ports: [\"80:81\"]", "ports: [{target: 81, published: \"80\"}]")]
#[case(
    "ports: [\"127.0.0.1:80:81/udp\"]",
    "ports: [{target: 81, published: 80, host_ip: 127.0.0.1, protocol: udp}]"
)]
#[case("ports: [\"80-81:90-91\"]", "ports: [\"80:90\", \"81:91\"]")]
#[case("ports: [\"[::1]:80:81\"]", "ports: [{target: 81, published: 80, host_ip: \"::1\"}]")]
#[case("ports: [\"127.0.0.1::81\"]", "ports: [{target: 81, host_ip: 127.0.0.1}]")]
#[case("volumes: [\"data:/x:ro\"]", "volumes: [{source: data, target: /x, read_only: true}]")]
#[case(
    "volumes: [\"/s:/x:rslave\"]",
    "volumes: [{type: bind, source: /s, target: /x, bind: {propagation: rslave}}]"
)]
#[case("volumes: [\"/x\"]", "volumes: [{type: volume, target: /x}]")]
#[case("tmpfs: /run", "volumes: [{type: tmpfs, target: /run}]")]
#[case(
    "tmpfs: [\"/tmp:size=1m,mode=1777\"]",
    "volumes: [{type: tmpfs, target: /tmp, tmpfs: {size: 1m, mode: 0o1777}}]"
)]
#[case("dns: 192.0.2.1", "dns: [192.0.2.1]")]
#[case("extra_hosts: {gate: 192.0.2.1}", "extra_hosts: [\"gate=192.0.2.1\"]")]
#[case("extra_hosts: [\"gate:192.0.2.1\"]", "extra_hosts: [\"gate=192.0.2.1\"]")]
#[case("networks: [front]", "networks: {front: {}}")]
#[case("networks: [front]", "networks: {front: }")]
#[case("ulimits: {nofile: 10}", "ulimits: {nofile: {soft: 10, hard: 10}}")]
#[case("mem_limit: 1g", "deploy: {resources: {limits: {memory: 1024m}}}")]
#[case("cpus: 0.5", "deploy: {resources: {limits: {cpus: \"0.5\"}}}")]
#[case("pids_limit: 9", "deploy: {resources: {limits: {pids: 9}}}")]
#[case("mem_reservation: 64m", "deploy: {resources: {reservations: {memory: 64m}}}")]
#[case("healthcheck: {test: exit 0}", "healthcheck: {test: [CMD-SHELL, exit 0]}")]
#[case("healthcheck: {disable: true}", "healthcheck: {test: [NONE]}")]
#[case("healthcheck: {interval: 90s}", "healthcheck: {interval: 1m30s}")]
#[case("gpus: all", "gpus: [{count: all}]")]
#[case("gpus: all", "gpus: [{}]")]
#[case("gpus: ", "privileged: false")]
#[case("gpus: []", "privileged: false")]
#[case("privileged: \"true\"", "privileged: true")]
#[case("stop_grace_period: 1500ms", "stop_grace_period: 2s")]
#[case("x-anything: {a: [b]}", "")]
#[case("devices: [\"/dev/snd\"]", "devices: [\"/dev/snd:/dev/snd\"]")]
fn two_forms_mean_the_same(#[case] one: &str, #[case] other: &str) {
    let (one, other) = (definition(one), definition(other));
    assert_eq!(one, other);
    let again = read(&write(&one)).unwrap().definition;
    assert_eq!(again, one, "and come back");
}

#[test]
fn every_setting_reaches_its_field() {
    let d = definition(
        "platform: linux/arm64\npull_policy: if_not_present\nuser: \"1000:1000\"\nworking_dir: /srv\n\
         hostname: row\ndomainname: tarnvalley.example\nstop_signal: SIGINT\ninit: true\nstdin_open: true\n\
         memswap_limit: -1\nmem_reservation: 64m\nshm_size: 16m\ncpuset: 0-1\noom_score_adj: -100\n\
         read_only: true\ncap_add: [NET_ADMIN]\ncap_drop: [ALL]\nsecurity_opt: [\"no-new-privileges:true\"]\n\
         group_add: [audio]\nsysctls: {net.core.somaxconn: 1024}\npid: host\nipc: shareable\n\
         userns_mode: host\nnetwork_mode: bridge\ndns_search: [tarnvalley.example]\ndns_opt: [\"ndots:2\"]\n\
         mac_address: \"02:42:ac:11:00:02\"\ndevices: [\"/dev/a:/dev/b:rw\"]\nrestart: on-failure:5\n\
         logging: {driver: local, options: {max-size: 10m}}\nx-gubernum-auto-remove: false",
    );
    let (l, r, n) = (&d.limits, &d.rights, &d.network);
    assert_eq!((d.platform.as_deref(), d.pull), (Some("linux/arm64"), PullPolicy::Missing));
    assert_eq!((d.user.as_deref(), d.working_folder.as_deref()), (Some("1000:1000"), Some("/srv")));
    assert_eq!((d.hostname.as_deref(), d.domain.as_deref()), (Some("row"), Some("tarnvalley.example")));
    assert_eq!((d.stop_signal.as_deref(), d.init, d.input), (Some("SIGINT"), Some(true), true));
    assert_eq!((l.memory_and_swap, l.memory_reserved), (Some(-1), Some(64 << 20)));
    assert_eq!((l.shared_memory, l.processor_set.as_deref()), (Some(16 << 20), Some("0-1")));
    assert_eq!((l.out_of_memory_score, r.read_only), (Some(-100), true));
    assert_eq!(
        (r.add.as_slice(), r.drop.as_slice()),
        (&["NET_ADMIN".to_owned()][..], &["ALL".to_owned()][..])
    );
    assert_eq!((r.security[0].as_str(), r.groups[0].as_str()), ("no-new-privileges:true", "audio"));
    assert_eq!((r.kernel["net.core.somaxconn"].as_str(), r.processes_of.as_deref()), ("1024", Some("host")));
    assert_eq!((r.memory_of.as_deref(), r.users_of.as_deref()), (Some("shareable"), Some("host")));
    assert_eq!((n.mode.as_deref(), n.dns_search[0].as_str()), (None, "tarnvalley.example"));
    assert_eq!(n.dns_options[0], "ndots:2");
    assert_eq!(n.hardware_address.as_deref(), Some("02:42:ac:11:00:02"));
    let device = &r.devices[0];
    assert_eq!((device.host.as_str(), device.container.as_deref()), ("/dev/a", Some("/dev/b")));
    assert_eq!(device.permissions.as_deref(), Some("rw"));
    assert_eq!((d.restart.policy.as_str(), d.restart.most_tries), ("on-failure", Some(5)));
    assert_eq!((d.log.driver.as_deref(), d.log.options["max-size"].as_str()), (Some("local"), "10m"));
    assert_eq!(read(&write(&d)).unwrap().definition, d);
}

#[rstest]
#[case("build: .", "'build' is dropped")]
#[case("depends_on: [b]", "'depends_on' is dropped")]
#[case("deploy: {replicas: 3}", "'deploy.replicas' is dropped")]
#[case("environment: [TZ]", "'TZ' has no value")]
#[case("networks: {front: {priority: 1}}", "'services.a.networks.front.priority' has no effect")]
fn what_cannot_be_carried_out_is_named(#[case] lines: &str, #[case] words: &str) {
    let read = read(&service(lines)).unwrap();
    assert_eq!(read.left.len(), 1, "{:?}", read.left);
    assert!(read.left[0].sentence.contains(words), "{:?}", read.left);
    assert_eq!(read.left[0].place.line, 4);
}

#[test]
fn names_are_those_under_which_things_are_declared() {
    let text = "services:\n  a:\n    image: x\n    networks: [front, other]\n    volumes: [\"data:/x\"]\n\
                networks:\n  front: {name: orchard-front}\n\
                volumes:\n  data: {name: orchard-data, driver: local, driver_opts: {type: nfs}}\n";
    let d = read(text).unwrap().definition;
    let names: Vec<&str> = d.network.networks.iter().map(|n| n.name.as_str()).collect();
    assert_eq!(names, ["orchard-front", "other"]);
    let mount = &d.mounts[0];
    assert_eq!((mount.source.as_deref(), mount.driver.as_deref()), (Some("orchard-data"), Some("local")));
    assert_eq!(mount.options["type"], "nfs");
}

#[rstest]
#[case("${TAG:-2}", "2")]
#[case("${TAG-2}", "2")]
#[case("${TAG:-}", "")]
#[case("${TAG}", "${TAG}")]
#[case("a$$b", "a$b")]
#[case("${TAG:?which}", "${TAG}")]
#[case("$${TAG}", "${TAG}")]
#[case("a${A:-1}b${B:-2}", "a1b2")]
fn variables_with_a_default_are_filled_in(#[case] text: &str, #[case] expected: &str) {
    assert_eq!(definition(&format!("hostname: '{text}'")).hostname.as_deref(), Some(expected));
}

#[rstest]
#[case("a b", Some(&["a", "b"][..]))]
#[case("  a\t'b c' ", Some(&["a", "b c"][..]))]
#[case(r#""a \"b\" \$c \d" e\ f"#, Some(&[r#"a "b" $c \d"#, "e f"][..]))]
#[case("'' \"\"", Some(&["", ""][..]))]
#[case("", Some(&[][..]))]
#[case("'open", None)]
#[case("\"open", None)]
#[case("end\\", None)]
fn lines_are_taken_apart_as_a_shell_does(#[case] line: &str, #[case] expected: Option<&[&str]>) {
    let expected = expected.map(|words| words.iter().map(|w| (*w).to_owned()).collect::<Vec<_>>());
    assert_eq!(words(line), expected);
}
