use rstest::rstest;

use super::*;
use crate::compose::interpolate::Need;

/// The files of a stack: a line `== path` begins each.
fn files(text: &str) -> BTreeMap<String, String> {
    let mut all: BTreeMap<String, String> = BTreeMap::new();
    let mut path = String::new();
    for line in text.lines() {
        match line.strip_prefix("== ") {
            Some(name) => path = name.to_owned(),
            None => *all.entry(path.clone()).or_default() += &format!("{line}\n"),
        }
    }
    all
}

struct Asked<'a> {
    text: &'a str,
    main: &'a [&'a str],
    variables: &'a [(&'a str, &'a str)],
    profiles: &'a [&'a str],
}

impl<'a> Asked<'a> {
    fn of(text: &'a str) -> Self {
        Self { text, main: &["stack.yaml"], variables: &[], profiles: &[] }
    }

    fn load(&self) -> Result<Loaded, Vec<FileError>> {
        let files = files(self.text);
        let main: Vec<String> = self.main.iter().map(|&m| m.to_owned()).collect();
        let variables = self.variables.iter().map(|&(k, v)| (k.to_owned(), v.to_owned())).collect();
        let profiles = self.profiles.iter().map(|&p| p.to_owned()).collect();
        load(&StackInput {
            files: &files,
            main: &main,
            name: None,
            variables: &variables,
            profiles: &profiles,
            wanted: ReadPurpose::Stack,
        })
    }

    /// A value by its path, in one line.
    fn value(&self, path: &str) -> String {
        let loaded = self.load().unwrap_or_else(|e| panic!("{e:?}"));
        let found = path.split('.').try_fold(&loaded.tree, |node, key| node.get(key));
        found.map_or_else(|| "-".to_owned(), told)
    }
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

/// What is told of a stack.
fn errors(text: &str) -> Vec<String> {
    Asked::of(text).load().unwrap_err().iter().map(ToString::to_string).collect()
}

const SEVERAL: &str = "\
== stack.yaml
name: coldchain
services:
  reader:
    image: registry.tarnvalley.example/coldchain/reader:${TAG:-1}
    environment: {LEVEL: info, SITE: }
    env_file: [conf/reader.env, {path: absent.env, required: false}]
    volumes: [\"./conf:/etc/reader\"]
  debug:
    image: toolbox
    profiles: [debug]
== site.yaml
services:
  reader:
    environment: [LEVEL=debug]
    ports: [\"8080:80\"]
== .env
TAG=2
SITE=tarn
== conf/reader.env
LEVEL=warn
ROOM=\"${SITE}-cold\"
";

#[rstest]
#[case("name", "coldchain")]
#[case("services.reader.image", "registry.tarnvalley.example/coldchain/reader:2")]
#[case("services.reader.environment", "{ROOM: tarn-cold, LEVEL: debug, SITE: tarn}")]
#[case("services.reader.ports", "[{target: 80, published: 8080, protocol: tcp}]")]
#[case("services.debug", "-")]
fn files_are_merged_and_filled(#[case] path: &str, #[case] expected: &str) {
    let asked = Asked { main: &["stack.yaml", "site.yaml"], ..Asked::of(SEVERAL) };
    assert_eq!(asked.value(path), expected);
}

#[test]
fn profiles_bring_services_in() {
    for profiles in [&["debug"][..], &["*"]] {
        let loaded = Asked { profiles, ..Asked::of(SEVERAL) }.load().unwrap();
        assert!(loaded.tree.get("services").unwrap().get("debug").is_some());
    }
    let loaded = Asked::of(SEVERAL).load().unwrap();
    assert_eq!(loaded.left_out, BTreeSet::from(["debug".to_owned()]));
    assert_eq!(loaded.name.as_deref(), Some("coldchain"));
}

#[test]
fn what_is_given_counts_more_than_files() {
    let asked = Asked { variables: &[("TAG", "9")], ..Asked::of(SEVERAL) };
    assert!(asked.value("services.reader.image").ends_with(":9"));
}

#[test]
fn variables_are_listed_with_what_becomes_of_them() {
    let text = "== stack.yaml\nservices:\n  a:\n    image: x:${TAG}\n    command: ${WORDS:-serve}\n    environment: [PASSED]\n";
    let loaded = Asked::of(text).load().unwrap();
    let needs: Vec<(&str, &Need)> = loaded.asked.iter().map(|(n, a)| (n.as_str(), &a.uses[0].1)).collect();
    assert_eq!(
        needs,
        [("PASSED", &Need::Optional), ("TAG", &Need::Empty), ("WORDS", &Need::Default("serve".to_owned()))]
    );
    assert_eq!(loaded.empty, [("TAG".to_owned(), Place { file: 0, line: 3, column: 14 })]);
}

const EXTENDING: &str = "\
== stack.yaml
services:
  web:
    extends: {file: base/common.yaml, service: served}
    environment: {LEVEL: debug}
    ports: [\"8081:80\"]
  more: {extends: web, hostname: more}
== base/common.yaml
services:
  served:
    extends: plain
    environment: {LEVEL: info, TZ: UTC}
    volumes: [\"./conf:/etc/conf\"]
    env_file: own.env
  plain: {image: registry.tarnvalley.example/web:3, ports: [\"8080:80\"]}
== base/own.env
FROM=file
";

#[rstest]
#[case("services.web.image", "registry.tarnvalley.example/web:3")]
#[case("services.web.environment", "{FROM: file, LEVEL: debug, TZ: UTC}")]
#[case("services.web.extends", "-")]
#[case(
    "services.web.ports",
    "[{target: 80, published: 8080, protocol: tcp}, {target: 80, published: 8081, protocol: tcp}]"
)]
#[case(
    "services.web.volumes",
    "[{type: bind, source: ./base/conf, target: /etc/conf, bind: {create_host_path: true}}]"
)]
#[case("services.more.environment.TZ", "UTC")]
#[case("services.more.hostname", "more")]
fn services_extend_each_other(#[case] path: &str, #[case] expected: &str) {
    assert_eq!(Asked::of(EXTENDING).value(path), expected);
}

const INCLUDING: &str = "\
== stack.yaml
include:
  - store/stack.yaml
  - {path: [gate/a.yaml, gate/b.yaml], env_file: gate/gate.env}
services:
  api: {image: \"api:${TAG}\", depends_on: [store]}
== .env
TAG=1
== store/stack.yaml
include: [deep/stack.yaml]
services:
  store: {image: \"store:${STORE_TAG}-${TAG}\", volumes: [\"data:/data\", \"./conf:/conf\"], networks: [inner]}
volumes: {data: }
networks: {inner: }
== store/.env
STORE_TAG=7
TAG=own
== store/deep/stack.yaml
networks: {inner: }
== gate/a.yaml
services: {gate: {image: \"gate:${GATE}\"}}
== gate/b.yaml
services: {gate: {hostname: gate}}
== gate/gate.env
GATE=4
";

#[rstest]
#[case("services.store.image", "store:7-1")]
#[case("services.gate", "{image: gate:4, hostname: gate}")]
#[case(
    "services.store.volumes",
    "[{type: volume, source: data, target: /data}, {type: bind, source: ./store/conf, target: /conf, bind: {create_host_path: true}}]"
)]
#[case("volumes", "{data: {}}")]
#[case("include", "-")]
fn files_are_included(#[case] path: &str, #[case] expected: &str) {
    assert_eq!(Asked::of(INCLUDING).value(path), expected);
}

#[rstest]
#[case::a_file_that_is_not_there(
    "== stack.yaml\ninclude: [other.yaml]\n",
    &["stack.yaml, line 1, column 11: the file 'other.yaml' is missing; add it"]
)]
#[case::outside_by_dots(
    "== stack.yaml\ninclude: [../other.yaml]\n",
    &["stack.yaml, line 1, column 11: '../other.yaml' leaves the stack's folder"]
)]
#[case::outside_by_an_absolute_path(
    "== stack.yaml\nservices:\n  a: {image: x, env_file: /etc/a.env}\n",
    &["stack.yaml, line 2, column 27: '/etc/a.env' is outside the stack's folder"]
)]
#[case::a_home_folder(
    "== stack.yaml\nservices:\n  a: {image: x, volumes: [\"~/a:/a\"]}\n",
    &["stack.yaml, line 2, column 27: '~/a' starts in a home folder"]
)]
#[case::included_by_itself(
    "== stack.yaml\ninclude: [a/b.yaml]\n== a/b.yaml\ninclude: [../stack.yaml]\n",
    &["a/b.yaml, line 1, column 11: 'stack.yaml' includes itself"]
)]
#[case::extended_in_a_circle(
    "== stack.yaml\nservices:\n  a: {extends: b}\n  b: {extends: {service: a}}\n",
    &["line 2, column 16: 'extends' is circular: b → a → b", "line 3, column 26: 'extends' is circular: a → b → a"]
)]
#[case::extending_what_is_not_there(
    "== stack.yaml\nservices:\n  a: {extends: {file: b.yaml, service: c}}\n== b.yaml\nservices: {d: {image: x}}\n",
    &["stack.yaml, line 2, column 40: no service 'c' in b.yaml"]
)]
#[case::a_conflict(
    "== stack.yaml\ninclude: [b.yaml]\nservices: {a: {image: x}}\n== b.yaml\nservices: {a: {image: y}}\n",
    &["stack.yaml, line 1, column 11: 'services.a' is also defined in b.yaml"]
)]
#[case::a_demanded_variable(
    "== stack.yaml\nservices:\n  a: {image: \"x:${TAG:?which one}\"}\n",
    &["stack.yaml, line 2, column 14: 'TAG' must be set: which one"]
)]
#[case::errors_of_several_files(
    "== stack.yaml\nservices:\n  a: {imag: x}\ninclude: [b.yaml]\n== b.yaml\nservices:\n  b: {image: x, init: perhaps}\n",
    &["stack.yaml, line 2, column 7: a service has no 'imag'; did you mean 'image'?", "b.yaml, line 2, column 23: 'init' must be 'true' or 'false'"]
)]
#[case::from_before_services(
    "== stack.yaml\nweb:\n  image: x\n",
    &["stack.yaml, line 1, column 1: this file is in the old format without 'services'"]
)]
#[case::a_broken_file_of_variables(
    "== stack.yaml\nservices:\n  a: {image: x, env_file: a.env}\n== a.env\nA=1\n2B C\n",
    &["a.env, line 2, column 1: '2B C' is not a variable name"]
)]
fn errors_are_reported_where_they_are(#[case] text: &str, #[case] expected: &[&str]) {
    let told = errors(text);
    assert_eq!(told.len(), expected.len(), "{told:#?}");
    for (told, expected) in told.iter().zip(expected) {
        assert!(told.contains(expected), "{told}\n{expected}");
    }
}

#[rstest]
#[case("", "a/./b", Some("a/b"))]
#[case("x", "../b", Some("b"))]
#[case("x", "../../b", None)]
#[case("", "/b", None)]
#[case("", "~/b", None)]
#[case("x/y", ".", Some("x/y"))]
fn paths_are_joined(#[case] folder: &str, #[case] path: &str, #[case] expected: Option<&str>) {
    assert_eq!(crate::compose::joined(folder, path).as_deref(), expected);
}

/// A text that is short for what it asks for.
#[rstest]
#[case::extended_by_many(
    format!(
        "== stack.yaml\nservices:\n  base: {{image: x, environment: {{{}}}}}\n{}",
        (0..2000).map(|n| format!("A{n}: 1")).collect::<Vec<_>>().join(", "),
        (0..400).map(|n| format!("  s{n}: {{extends: base}}\n")).collect::<String>()
    ),
    "more than 300000 values"
)]
#[case::included_again_and_again(
    format!(
        "== stack.yaml\ninclude: [{}]\nservices: {{a: {{image: x}}}}\n== b.yaml\nservices: {{b: {{image: x, environment: {{{}}}}}}}\n",
        (0..900).map(|n| format!("{{path: b.yaml, project_directory: d{n}}}")).collect::<Vec<_>>().join(", "),
        (0..500).map(|n| format!("A{n}: 1")).collect::<Vec<_>>().join(", ")
    ),
    "more than 300000 values"
)]
#[case::variables_that_double(
    format!(
        "== stack.yaml\nservices: {{a: {{image: x}}}}\n== .env\nA0={}\n{}",
        "x".repeat(1000),
        (1..40).map(|n| format!("A{n}=${{A{}}}${{A{}}}\n", n - 1, n - 1)).collect::<String>()
    ),
    "after substitution"
)]
#[case::one_value_many_times(
    format!(
        "== stack.yaml\nservices:\n  a: {{image: x, environment: [{}]}}\n== .env\nBIG={}\n",
        (0..900).map(|n| format!("\"A{n}=$BIG\"")).collect::<Vec<_>>().join(", "),
        "x".repeat(100_000)
    ),
    "after substitution"
)]
#[case::ports("== stack.yaml\nservices: {a: {image: x, ports: [\"1-1000:1-1000\", \"2001:2001\"]}}\n".to_owned(), "'ports' has more than 1000 entries")]
#[case::names(
    format!("== stack.yaml\nservices:\n{}", (0..5001).map(|n| format!("  s{n}: {{image: x}}\n")).collect::<String>()),
    "'services' has more than 5000 names"
)]
fn what_grows_without_end_is_refused(#[case] text: String, #[case] words: &str) {
    let told = errors(&text);
    assert!(told.iter().any(|t| t.contains(words)), "{told:#?}");
}
