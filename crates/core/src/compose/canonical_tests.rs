use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::compose::schema::{FILE, SERVICE};
use crate::yaml::{read, read_numbered};

/// What is told of a text, `line:column sentence` each.
fn errors(text: &str) -> Vec<String> {
    let mut found = Findings::default();
    found.canonical(read(text).unwrap(), &Shape::Record(&FILE), "");
    found.errors.iter().map(|e| format!("{}:{} {}", e.place.line, e.place.column, e.sentence)).collect()
}

/// A value in one line.
fn told(node: &Node) -> String {
    let all = |parts: Vec<String>| parts.join(", ");
    match &node.value {
        Value::List(items) => format!("[{}]", all(items.iter().map(told).collect())),
        Value::Map(entries) => {
            format!("{{{}}}", all(entries.iter().map(|(k, n)| format!("{k}: {}", told(n))).collect()))
        }
        Value::Null => "~".to_owned(),
        _ => node.scalar().unwrap().into_owned(),
    }
}

/// The long form of a service's attribute.
fn long(attribute: &str) -> String {
    let mut found = Findings::default();
    let service = found.canonical(read(attribute).unwrap(), &Shape::Record(&SERVICE), "services.api");
    assert_eq!(found.errors, [], "{attribute}");
    told(&service.entries()[0].1)
}

#[rstest]
#[case("ports: [80]", "[{target: 80, protocol: tcp}]")]
#[case("ports: [\"8080:80\"]", "[{target: 80, published: 8080, protocol: tcp}]")]
#[case(
    "ports: [\"127.0.0.1:53:53/udp\"]",
    "[{target: 53, published: 53, host_ip: 127.0.0.1, protocol: udp}]"
)]
#[case("ports: [\"127.0.0.1::53\"]", "[{target: 53, host_ip: 127.0.0.1, protocol: tcp}]")]
#[case("ports: [\"[::1]:8080:80\"]", "[{target: 80, published: 8080, host_ip: ::1, protocol: tcp}]")]
#[case(
    "ports: [\"8000-8001:80-81\"]",
    "[{target: 80, published: 8000, protocol: tcp}, {target: 81, published: 8001, protocol: tcp}]"
)]
#[case::the_first_free_one(
    "ports: [\"8000-8010:80\"]",
    "[{target: 80, published: 8000-8010, protocol: tcp}]"
)]
#[case("ports: [{target: 80, published: 8080}]", "[{target: 80, published: 8080}]")]
#[case("volumes: [/data]", "[{type: volume, target: /data}]")]
#[case("volumes: [data:/data]", "[{type: volume, source: data, target: /data}]")]
#[case(
    "volumes: [\"./conf:/etc/conf:ro,z\"]",
    "[{type: bind, source: ./conf, target: /etc/conf, read_only: true, bind: {create_host_path: true, selinux: z}}]"
)]
#[case(
    "volumes: [\"data:/data:nocopy\"]",
    "[{type: volume, source: data, target: /data, volume: {nocopy: true}}]"
)]
#[case("build: .", "{context: .}")]
#[case("extends: base", "{service: base}")]
#[case("env_file: a.env", "[{path: a.env}]")]
#[case(
    "env_file: [a.env, {path: b.env, required: false}]",
    "[{path: a.env}, {path: b.env, required: false}]"
)]
#[case("environment: [A=1, \"B=x=y\", C]", "{A: 1, B: x=y, C: ~}")]
#[case("environment: {A: 1, B: true, C: }", "{A: 1, B: true, C: ~}")]
#[case("extra_hosts: [\"a:192.0.2.1\", \"b=::1\"]", "{a: 192.0.2.1, b: ::1}")]
#[case(
    "extra_hosts: [\"a:192.0.2.1\", \"b:192.0.2.3\", \"a=192.0.2.2\", \"a:192.0.2.1\"]",
    "{a: [192.0.2.1, 192.0.2.2], b: 192.0.2.3}"
)]
#[case("depends_on: [a, b]", "{a: {}, b: {}}")]
#[case("networks: [front]", "{front: {}}")]
#[case("networks: {front: , back: {aliases: [x]}}", "{front: {}, back: {aliases: [x]}}")]
#[case("command: serve --name 'a b'", "[serve, --name, a b]")]
#[case("command: []", "[]")]
#[case("command:", "~")]
#[case("healthcheck: {test: curl -f localhost}", "{test: [CMD-SHELL, curl -f localhost]}")]
#[case(
    "ulimits: {nproc: 100, nofile: {soft: 1, hard: 2}}",
    "{nproc: {soft: 100, hard: 100}, nofile: {soft: 1, hard: 2}}"
)]
#[case("devices: [/dev/ttyUSB0]", "[{source: /dev/ttyUSB0, target: /dev/ttyUSB0}]")]
#[case("devices: [\"/dev/a:/dev/b:rw\"]", "[{source: /dev/a, target: /dev/b, permissions: rw}]")]
#[case("devices: [\"/dev/a:r\"]", "[{source: /dev/a, target: /dev/a, permissions: r}]")]
#[case("secrets: [key]", "[{source: key}]")]
#[case("gpus: all", "[{count: all}]")]
#[case("tmpfs: /run", "[/run]")]
#[case("x-note: {anything: [goes]}", "{anything: [goes]}")]
fn each_thing_has_one_long_form(#[case] attribute: &str, #[case] expected: &str) {
    assert_eq!(long(attribute), expected);
    // The long form is its own long form.
    let mut found = Findings::default();
    let once = found.canonical(read(attribute).unwrap(), &Shape::Record(&SERVICE), "services.api");
    let twice = found.canonical(once.clone(), &Shape::Record(&SERVICE), "services.api");
    assert_eq!(told(&once), told(&twice));
}

#[test]
fn every_error_is_reported_at_its_place() {
    let text = "\
servces: {}
services:
  api:
    imagee: a
    ports:
      - \"70000:80\"
      - \"8000-8002:80-81\"
      - \"host:80:80\"
    init: maybe
    mem_limit: much
    stop_grace_period: soon
    depends_on: {db: {condition: service_ready}}
    environment: text
    volumes: [\"data\", \"a:b:c:d\", \"/a:/b:rx\"]
    use_api_socket: true
    command: \"a 'b\"
    cap_add: NET_ADMIN
    oom_score_adj: 1.5
  web: image
networks: [front]
";
    let told = errors(text);
    let expected = [
        ("1:1 a Compose file has no 'servces'", "did you mean 'services'?"),
        ("4:5 a service has no 'imagee'", "did you mean 'image'?"),
        ("6:9 '70000:80' has '70000' as its port on the host", "1 to 65535"),
        ("7:9 '8000-8002:80-81' maps 3 host ports to 2 container ports", "equally long"),
        ("8:9 'host:80:80' has 'host' in place of an address", ""),
        ("9:11 'init' must be 'true' or 'false', not 'maybe'", ""),
        ("10:16 'mem_limit' must be a size such as '512m' or '2g', not 'much'", ""),
        ("11:24 'stop_grace_period' must be a duration", "not 'soon'"),
        ("12:34 'condition' must be one of service_started", "not 'service_ready'"),
        ("13:18 'environment' must be a mapping or a list of 'NAME=value', not a string", ""),
        ("14:15 'data' has no absolute path in the container", ""),
        ("14:23 'a:b:c:d' has too many colons", ""),
        ("14:34 '/a:/b:rx' has the unknown option 'rx'", ""),
        ("15:5 'use_api_socket' is not supported", "remove it"),
        ("16:14 'command' has a quote that is not closed", ""),
        ("17:14 'cap_add' must be a list, not a string", ""),
        ("18:20 'oom_score_adj' must be a whole number, not '1.5'", ""),
        ("19:8 a service must be a mapping, not a string", ""),
        ("20:11 'networks' must be a mapping, not a list", ""),
    ];
    assert_eq!(told.len(), expected.len(), "{told:#?}");
    for (told, (begin, end)) in told.iter().zip(expected) {
        assert!(told.starts_with(begin) && told.contains(end), "{told}\n{begin} … {end}");
    }
}

#[test]
fn what_changes_nothing_is_said_with_its_reason() {
    let mut found = Findings::default();
    let text =
        "version: '3'\nservices: {api: {image: a, attach: false, deploy: {placement: {constraints: []}}}}\n";
    found.canonical(read(text).unwrap(), &Shape::Record(&FILE), "");
    let told: Vec<(&str, u64)> =
        found.without_effect.iter().map(|w| (w.attribute.as_str(), w.place.line)).collect();
    assert_eq!(told, [("version", 1), ("services.api.attach", 2), ("services.api.deploy.placement", 2)]);
    assert!(found.errors.is_empty() && found.without_effect.iter().all(|w| !w.why.is_empty()));
}

#[test]
fn what_is_reset_is_not_checked_and_ones_own_keys_are_left() {
    assert_eq!(errors("services: {api: {ports: !reset whatever}}\nx-mine: [1]\n"), Vec::<String>::new());
    let mut found = Findings::default();
    let file = read_numbered("services: {api: !override {image: a}}", 2).unwrap();
    let long = found.canonical(file, &Shape::Record(&FILE), "");
    let service = long.get("services").unwrap().get("api").unwrap();
    assert_eq!((service.tag, service.place.file), (Some(MergeTag::Override), 2));
}

#[rstest]
#[case("0440", Some(0o440))]
#[case("0o644", Some(0o644))]
#[case("755", Some(0o755))]
#[case("0888", None)]
#[case("77777", None)]
fn rights_of_files_are_octal(#[case] text: &str, #[case] expected: Option<u32>) {
    assert_eq!(mode(text), expected);
}

proptest! {
    #[test]
    fn any_short_form_is_read_or_told(text in "[a-c0-9:/.\\-\\[\\]]{0,20}") {
        for attribute in ["ports", "volumes", "devices", "secrets", "env_file"] {
            let item = Node::new(Value::Text(text.clone()), Place::START);
            let list = Node::new(Value::List(vec![item]), Place::START);
            let key = Key { text: attribute.to_owned(), place: Place::START };
            let service = Node::new(Value::Map(vec![(key, list)]), Place::START);
            let mut found = Findings::default();
            let once = found.canonical(service, &Shape::Record(&SERVICE), "services.api");
            if found.errors.is_empty() {
                let twice = found.canonical(once.clone(), &Shape::Record(&SERVICE), "services.api");
                prop_assert_eq!(told(&once), told(&twice));
                prop_assert_eq!(&found.errors, &[]);
            }
        }
    }
}
