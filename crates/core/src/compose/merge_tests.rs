use rstest::rstest;

use super::*;
use crate::compose::canonical::Findings;
use crate::compose::schema::FILE;
use crate::yaml::read;

/// A service's attributes as a whole file in its long form.
fn long(service: &str) -> Node {
    let indented: String = service.lines().map(|l| format!("    {l}\n")).collect();
    let mut found = Findings::default();
    let tree = read(&format!("services:\n  api:\n{indented}")).unwrap();
    let node = found.canonical(tree, &Shape::Record(&FILE), "");
    assert_eq!(found.errors, [], "{service}");
    node
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

/// The attribute of the service that both are about, once `over` is put onto `base`.
fn merged(base: &str, over: &str, attribute: &str) -> String {
    let file = merge(long(base), long(over), &Shape::Record(&FILE));
    let service = file.get("services").unwrap().get("api").unwrap();
    service.get(attribute).map_or_else(|| "-".to_owned(), told)
}

#[rstest]
#[case::a_single_value("image: a:1", "image: a:2", "image", "a:2")]
#[case::what_is_not_said_stays("image: a:1\ninit: true", "image: a:2", "init", "true")]
#[case::nothing_says_nothing("hostname: a", "hostname:", "hostname", "a")]
#[case::command_lines_are_replaced("command: a b", "command: [c]", "command", "[c]")]
#[case::and_cleared("command: a b", "command: ~", "command", "~")]
#[case::the_test_of_a_health_check(
    "healthcheck: {test: a b, retries: 2}",
    "healthcheck: {test: [CMD, c]}",
    "healthcheck",
    "{test: [CMD, c], retries: 2}"
)]
#[case::variables_by_name(
    "environment: [A=1, B=2]",
    "environment: {B: 3, C: }",
    "environment",
    "{A: 1, B: 3, C: ~}"
)]
#[case::labels_by_name("labels: {a: 1}", "labels: [\"a=2\", b=3]", "labels", "{a: 2, b: 3}")]
#[case::lists_are_put_together(
    "dns: 192.0.2.1",
    "dns: [192.0.2.2, 192.0.2.1]",
    "dns",
    "[192.0.2.1, 192.0.2.2]"
)]
#[case::volumes_by_their_place(
    "volumes: [\"data:/data\", \"/srv/a:/etc/a\"]",
    "volumes: [\"other:/data/:ro\"]",
    "volumes",
    "[{type: volume, source: other, target: /data/, read_only: true}, {type: bind, source: /srv/a, target: /etc/a, bind: {create_host_path: true}}]"
)]
#[case::ports_by_all_of_it(
    "ports: [\"8080:80\"]",
    "ports: [\"8080:80/tcp\", \"8080:80/udp\", \"9090:80\"]",
    "ports",
    "[{target: 80, published: 8080, protocol: tcp}, {target: 80, published: 8080, protocol: udp}, {target: 80, published: 9090, protocol: tcp}]"
)]
#[case::secrets_by_their_place(
    "secrets: [key, {source: a, target: b}]",
    "secrets: [{source: key, mode: 0400}, {source: c, target: b}]",
    "secrets",
    "[{source: key, mode: 0400}, {source: c, target: b}]"
)]
#[case::dependencies_by_name(
    "depends_on: [db, cache]",
    "depends_on: {db: {condition: service_healthy}}",
    "depends_on",
    "{db: {condition: service_healthy}, cache: {}}"
)]
#[case::options_of_the_same_log(
    "logging: {driver: local, options: {max-size: 1m}}",
    "logging: {options: {max-file: 2}}",
    "logging",
    "{driver: local, options: {max-size: 1m, max-file: 2}}"
)]
#[case::options_of_another_log(
    "logging: {driver: local, options: {max-size: 1m}}",
    "logging: {driver: json-file, options: {max-file: 2}}",
    "logging",
    "{driver: json-file, options: {max-file: 2}}"
)]
#[case::a_build("build: ./a", "build: {args: [X=1]}", "build", "{context: ./a, args: {X: 1}}")]
#[case::taken_away("ports: [\"80:80\"]", "ports: !reset []", "ports", "-")]
#[case::one_of_them_taken_away(
    "environment: {A: 1, B: 2}",
    "environment: {A: !reset null}",
    "environment",
    "{B: 2}"
)]
#[case::alone(
    "ports: [\"80:80\"]",
    "ports: !override [\"90:90\"]",
    "ports",
    "[{target: 90, published: 90, protocol: tcp}]"
)]
#[case::what_is_reset_in_what_stands_alone(
    "environment: {A: 1}",
    "environment: !override {A: !reset null, B: 2}",
    "environment",
    "{B: 2}"
)]
#[case::what_is_reset_and_was_not_there("image: a", "ports: !reset null", "ports", "-")]
fn files_are_merged_as_the_specification_says(
    #[case] base: &str,
    #[case] over: &str,
    #[case] attribute: &str,
    #[case] expected: &str,
) {
    assert_eq!(merged(base, over, attribute), expected);
}

#[test]
fn a_service_is_taken_away_or_added() {
    let base = read("services: {a: {image: x}, b: {image: y}}").unwrap();
    let over = read("services: {a: !reset null, c: {image: z}}").unwrap();
    let file = merge(base, over, &Shape::Record(&FILE));
    assert_eq!(told(&file), "{services: {b: {image: y}, c: {image: z}}}");
}

#[test]
fn a_value_keeps_the_place_where_it_was_said_last() {
    let base = long("image: a\nenvironment:\n  A: 1\n  B: 1");
    let over = crate::yaml::read_numbered("services:\n  api:\n    environment: {B: 2}\n", 1).unwrap();
    let file = merge(base, over, &Shape::Record(&FILE));
    let variables = file.get("services").unwrap().get("api").unwrap().get("environment").unwrap();
    let files: Vec<(u16, u16)> =
        variables.entries().iter().map(|(key, value)| (key.place.file, value.place.file)).collect();
    assert_eq!(files, [(0, 0), (1, 1)]);
}
