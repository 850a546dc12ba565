use std::collections::{BTreeMap, BTreeSet};

use rstest::rstest;

use super::desired::{Desired, StackDescription, desired};
use super::plan::{ApplySettings, PlannedPart, plan_stack, whole_or_not};
use super::present::{Present, PresentContainer};
use super::*;
use crate::assets::{Assets, Image, Network, Volume};
use crate::compose::load::{FileError, ReadPurpose, StackInput};
use crate::compose::read::read;
use crate::container::{Container, SERVICE_LABEL, STACK_LABEL, State};
use crate::plan::{ObjectKind, Step, Until};

pub(crate) const FROST: &str = "\
services:
  store:
    image: tarn/store:2
    volumes: [readings:/data]
    environment: {TZ: UTC}
    healthcheck: {test: test -d /data, interval: 1s}
  prepare:
    image: tarn/prepare:1
    depends_on: {store: {condition: service_healthy}}
  api:
    image: tarn/api:3
    depends_on: {prepare: {condition: service_completed_successfully}, store: {condition: service_started}}
    configs: [frost]
    networks: [front, default]
    ports: ['7311:80']
  probe:
    image: tarn/probe:1
    network_mode: service:api
volumes: {readings: {}}
networks: {front: {}}
configs: {frost: {content: 'level: 2'}}
";

pub(crate) fn wanted(text: &str) -> Result<Desired, Vec<FileError>> {
    scaled(text, &[])
}

/// The same with other numbers of containers.
fn scaled(text: &str, scale: &[(&str, u32)]) -> Result<Desired, Vec<FileError>> {
    let scale = scale.iter().map(|(service, count)| ((*service).to_owned(), *count)).collect();
    let files = BTreeMap::from([("stack.yaml".to_owned(), text.to_owned())]);
    let (variables, profiles) = (BTreeMap::new(), BTreeSet::new());
    let main = ["stack.yaml".to_owned()];
    let given = StackInput {
        files: &files,
        main: &main,
        name: Some("frostwatch"),
        variables: &variables,
        profiles: &profiles,
        wanted: ReadPurpose::Stack,
    };
    let (loaded, stack) = read(&given)?;
    let mark = |parts: &[&[u8]]| format!("{:x}", parts.concat().iter().map(|b| u64::from(*b)).sum::<u64>());
    desired(&StackDescription {
        loaded: &loaded,
        stack: &stack,
        name: "frostwatch",
        scale: &scale,
        given: &given,
        mark: &mark,
    })
}

/// A host on which the stack runs as it is to be.
pub(crate) fn running(wanted: &Desired) -> Present<'static> {
    let mut present = Present { host: "packhouse", changes_in_place: true, ..Present::default() };
    for (n, c) in wanted.containers.iter().enumerate() {
        let id = format!("{n:064x}");
        let mut container = Container::blank("packhouse", &c.definition.name, &id);
        container.labels.clone_from(&c.definition.labels);
        container.stack = container.labels.get(STACK_LABEL).cloned();
        container.service = container.labels.get(SERVICE_LABEL).cloned();
        container.image_id = format!("id-of-{}", c.definition.image);
        container.state = if c.is_job { State::Exited } else { State::Running };
        container.exit_code = c.is_job.then_some(0);
        present.names.insert(id, c.definition.name.clone());
        present.containers.push(PresentContainer { container, definition: c.definition.clone() });
    }
    let names = present.names.clone();
    for c in &mut present.containers {
        // As an engine tells it.
        let mode = c.definition.network.mode.as_mut();
        if let Some((mode, name)) = mode.and_then(|m| Some((m.clone(), m)).map(|(t, m)| (m, t)))
            && let Some(name) = name.strip_prefix("container:")
        {
            let id = names.iter().find(|(_, n)| *n == name).map(|(id, _)| id.clone()).unwrap();
            *mode = format!("container:{id}");
        }
    }
    let image = |d: &DesiredContainer| {
        let json = serde_json::json!({"id": format!("id-of-{}", d.definition.image), "tags": [d.definition.image],
            "digests": [], "size": 1, "created": "2026-11-01T00:00:00Z", "labels": {}});
        serde_json::from_value::<Image>(json).unwrap()
    };
    present.assets = Assets {
        images: wanted.containers.iter().map(image).collect(),
        volumes: wanted
            .volumes
            .iter()
            .map(|v| Volume {
                name: v.name.clone(),
                driver: "local".to_owned(),
                mount_point: String::new(),
                options: BTreeMap::new(),
                labels: v.wish.labels.clone(),
                created: None,
                size: None,
                anonymous: false,
            })
            .collect(),
        networks: wanted
            .networks
            .iter()
            .map(|n| Network {
                id: format!("id-{}", n.name),
                name: n.name.clone(),
                driver: "bridge".to_owned(),
                subnets: Vec::new(),
                internal: false,
                ipv6: false,
                options: BTreeMap::new(),
                labels: n.wish.labels.clone(),
                created: None,
            })
            .collect(),
        written: BTreeMap::new(),
    };
    present
}

fn plan(text: &str, present: &Present<'_>) -> Vec<PlannedPart> {
    plan_stack(&wanted(text).unwrap(), present, ApplySettings::default())
}

/// The names of what is done.
fn done(pieces: &[PlannedPart]) -> Vec<&str> {
    pieces.iter().filter(|p| !p.plan.steps.is_empty()).map(|p| p.plan.name.as_str()).collect()
}

fn piece<'a>(pieces: &'a [PlannedPart], name: &str) -> &'a PlannedPart {
    pieces.iter().find(|p| p.plan.name == name).unwrap()
}

/// What a piece waits for, by name.
fn after<'a>(pieces: &'a [PlannedPart], name: &str) -> Vec<(&'a str, Until)> {
    let all = &piece(pieces, name).plan.after;
    all.iter().map(|a| (pieces[a.target as usize].plan.name.as_str(), a.until)).collect()
}

#[test]
fn a_new_stack_is_made_in_order() {
    let empty = Present { host: "packhouse", ..Present::default() };
    let pieces = plan(FROST, &empty);
    let order = |name: &str| pieces.iter().position(|p| p.plan.name == name).unwrap();
    assert!(order("frostwatch_readings") < order("frostwatch-store-1"));
    for (n, piece) in pieces.iter().enumerate() {
        let waits = &piece.plan.after;
        assert!(waits.iter().all(|a| (a.target as usize) < n), "{} waits for a later one", piece.plan.name);
    }
    let prepare = after(&pieces, "frostwatch-prepare-1");
    assert!(prepare.contains(&("frostwatch-store-1", Until::Over)), "{prepare:?}");
    let api = after(&pieces, "frostwatch-api-1");
    for wait in [
        ("frostwatch-store-1", Until::Started),
        ("frostwatch-prepare-1", Until::Over),
        ("frostwatch_front", Until::Over),
        ("frostwatch_default", Until::Over),
        ("tarn/api:3", Until::Over),
    ] {
        assert!(api.contains(&wait), "{wait:?} in {api:?}");
    }
    let steps = &piece(&pieces, "frostwatch-api-1").plan.steps;
    let made = steps.iter().position(|s| *s == Step::Create).unwrap();
    assert_eq!(steps[made + 1], Step::PutFiles { paths: vec!["/frost".to_owned()] });
    assert!(piece(&pieces, "frostwatch-prepare-1").plan.steps.contains(&Step::WaitForEnd));
    assert_eq!(piece(&pieces, "tarn/store:2").plan.object, ObjectKind::Image);
}

#[test]
fn what_runs_as_it_should_is_not_touched() {
    let pieces = plan(FROST, &running(&wanted(FROST).unwrap()));
    assert_eq!(done(&pieces), Vec::<&str>::new(), "{pieces:#?}");
    assert!(pieces.iter().all(|p| p.plan.unchanged.is_some()));
}

#[rstest]
#[case::a_variable(("TZ: UTC", "TZ: CET"), &["frostwatch-store-1"])]
#[case::an_image(("tarn/prepare:1", "tarn/prepare:2"), &["tarn/prepare:2", "frostwatch-prepare-1"])]
#[case::a_config(("level: 2", "level: 3"), &["frostwatch-api-1", "frostwatch-probe-1"])]
#[case::a_limit(("image: tarn/probe:1", "image: tarn/probe:1\n    mem_limit: 64m"), &["frostwatch-probe-1"])]
#[case::one_more(("image: tarn/store:2", "image: tarn/store:2\n    scale: 2"), &["frostwatch-store-2"])]
fn a_change_touches_what_it_must(#[case] (from, to): (&str, &str), #[case] expected: &[&str]) {
    let present = running(&wanted(FROST).unwrap());
    let pieces = plan(&FROST.replace(from, to), &present);
    assert_eq!(done(&pieces), expected, "{pieces:#?}");
}

#[test]
fn a_limit_changes_in_place_and_files_are_reported_in_words() {
    let present = running(&wanted(FROST).unwrap());
    let pieces =
        plan(&FROST.replace("image: tarn/probe:1", "image: tarn/probe:1\n    mem_limit: 64m"), &present);
    assert_eq!(piece(&pieces, "frostwatch-probe-1").plan.steps, [Step::ChangeInPlace]);
    let pieces = plan(&FROST.replace("level: 2", "level: 3"), &present);
    let api = piece(&pieces, "frostwatch-api-1");
    let told: Vec<&str> = api.plan.differences.iter().map(|d| d.setting.as_str()).collect();
    assert_eq!(told, ["configs and secrets"]);
    assert!(api.plan.steps.contains(&Step::CreateBeside));
    assert_eq!(api.files.len(), 1);
}

#[test]
fn what_the_text_does_not_have_goes_only_when_asked() {
    let text = FROST.replace("  probe:\n    image: tarn/probe:1\n    network_mode: service:api\n", "");
    let present = running(&wanted(FROST).unwrap());
    assert_eq!(done(&plan(&text, &present)), Vec::<&str>::new());
    let settings = ApplySettings { remove_rest: true, ..ApplySettings::default() };
    let pieces = plan_stack(&wanted(&text).unwrap(), &present, settings);
    assert_eq!(done(&pieces), ["frostwatch-probe-1"]);
    assert!(matches!(
        piece(&pieces, "frostwatch-probe-1").plan.steps[..],
        [Step::Stop { .. }, Step::Remove { .. }]
    ));
}

#[test]
fn of_several_the_one_with_the_name_counts_and_the_others_go() {
    let mut present = running(&wanted(FROST).unwrap());
    let mut left = present.containers[1].clone();
    let behind = format!("{}-before-3", left.container.name);
    (left.container.id, left.container.name) = ("ef".repeat(32), behind.clone());
    left.definition.name.clone_from(&behind);
    present.containers.insert(0, left);
    assert_eq!(done(&plan(FROST, &present)), [behind]);
}

#[test]
fn what_ended_is_started_and_a_job_is_run_again_when_it_failed() {
    let mut present = running(&wanted(FROST).unwrap());
    for c in &mut present.containers {
        c.container.state = State::Exited;
        c.container.exit_code = Some(1);
    }
    let pieces = plan(FROST, &present);
    let steps = &piece(&pieces, "frostwatch-prepare-1").plan.steps;
    assert_eq!(steps[..], [Step::Start, Step::WaitForEnd]);
    assert!(matches!(piece(&pieces, "frostwatch-api-1").plan.steps[..], [Step::Start, Step::Watch { .. }]));
}

#[test]
fn labels_of_other_tools_and_volumes_without_a_name_are_no_difference() {
    let mut present = running(&wanted(FROST).unwrap());
    let c = &mut present.containers[0];
    c.definition.labels.insert("com.docker.compose.config-hash".to_owned(), "ab12".to_owned());
    c.definition.mounts.push(crate::definition::MountRule {
        source: Some("ab".repeat(32)),
        target: "/scratch".to_owned(),
        ..Default::default()
    });
    assert_eq!(done(&plan(FROST, &present)), Vec::<&str>::new());
}

#[test]
fn what_engines_fill_in_is_no_difference_and_what_was_set_is() {
    let mut present = running(&wanted(FROST).unwrap());
    let limit = crate::definition::ProcessLimit { name: "nofile".to_owned(), soft: 1024, hard: 1024 };
    let store = &mut present.containers[0].definition;
    store.limits.each_process = vec![limit];
    let health = store.health.as_mut().unwrap();
    (health.timeout_ms, health.retries) = (Some(30_000), Some(3));
    assert_eq!(done(&plan(FROST, &present)), Vec::<&str>::new());
    let set = FROST.replace(
        "    volumes: [readings:/data]\n",
        "    volumes: [readings:/data]\n    ulimits: {nofile: 1024}\n",
    );
    let present = running(&wanted(&set).unwrap());
    assert_eq!(done(&plan(&set, &present)), Vec::<&str>::new());
    assert_eq!(done(&plan(FROST, &present)), ["frostwatch-store-1"], "taken out of the text");
}

#[test]
fn a_stack_is_changed_as_a_whole_or_not_at_all() {
    let text = FROST.replace("networks: {front: {}}", "networks: {front: {external: true}}");
    let mut pieces = plan(&text, &Present { host: "packhouse", ..Present::default() });
    assert!(pieces.iter().all(|p| p.plan.refused.is_some()), "{pieces:#?}");
    assert!(piece(&pieces, "front").plan.refused.as_deref().unwrap().contains("create it"));
    pieces.truncate(0);
    whole_or_not(pieces.iter_mut().map(|p| &mut p.plan));
}

#[rstest]
#[case("services: {a: {build: .}}", "the file 'Dockerfile' is missing")]
#[case("services: {a: {build: ../b}}", "leaves the stack's folder")]
#[case("services: {a: {build: /srv/frost}}", "is outside the stack's folder")]
#[case("services: {a: {image: x, volumes: ['./in:/in']}}", "relative to the stack's folder")]
#[case("services: {a: {image: x, scale: 2, ports: ['80:80']}}", "write a range")]
#[case("services: {a: {image: x, secrets: [s]}}\nsecrets: {s: {environment: KEY}}", "'KEY' has no value")]
#[case("services: {a: {image: x, secrets: [s]}}\nsecrets: {s: {file: ./key}}", "'key' is missing")]
#[case(
    "services: {a: {image: x, post_start: [{command: ls, environment: {A_PASSWORD: russet}}]}}",
    "readable by everybody"
)]
#[case("services: {a: {image: x, pre_stop: [{user: root}]}}", "needs a 'command'")]
#[case("services: {a: {image: x, deploy: {update_config: {delay: 2h}}}}", "at most 1 h")]
#[case(
    "services: {a: {image: x, ports: ['80:80'], deploy: {update_config: {order: start-first}}}}",
    "the same host port"
)]
#[case(
    "services: {a: {image: x, read_only: true, configs: [c]}}\nconfigs: {c: {content: y}}",
    "root filesystem is read-only"
)]
fn what_cannot_be_carried_out_is_refused_at_its_place(#[case] text: &str, #[case] words: &str) {
    let told: Vec<String> = wanted(text).unwrap_err().iter().map(ToString::to_string).collect();
    assert!(told.iter().any(|t| t.contains(words)), "{told:?}");
}

#[rstest]
#[case::as_deployed(|_: &mut Present<'_>| ())]
#[case::of_another_tool(|present: &mut Present<'_>| {
    for c in &mut present.containers {
        c.container.labels.insert("com.docker.compose.config-hash".to_owned(), "ab12".to_owned());
        c.definition.labels.insert("com.docker.compose.version".to_owned(), "9".to_owned());
    }
    present.containers[0].container.name = "frostwatch_store_1".to_owned();
    present.containers[0].definition.name = "frostwatch_store_1".to_owned();
})]
#[case::with_names_of_its_own(|present: &mut Present<'_>| {
    present.assets.volumes[0].labels.clear();
    present.containers[0].container.name = "ledger".to_owned();
    present.containers[0].definition.name = "ledger".to_owned();
})]
fn what_runs_is_written_down_without_a_change(#[case] change: fn(&mut Present<'_>)) {
    let text = FROST.replace("    configs: [frost]\n", "    command: [sh, -c, 'echo $$HOME']\n");
    let text = text.replace("configs: {frost: {content: 'level: 2'}}\n", "");
    let mut present = running(&wanted(&text).unwrap());
    change(&mut present);
    let written = adopt::written("frostwatch", &present).unwrap();
    assert_eq!(adopt::differing(&written, "frostwatch", &present), Vec::<String>::new(), "{written}");
    assert!(
        written.contains("service_completed_successfully") && written.contains("service:api"),
        "{written}"
    );
    let again = wanted(&written).unwrap();
    assert_eq!(again.containers.len(), 4);
}

#[test]
fn what_cannot_be_written_down_says_why() {
    let present = running(&wanted(FROST).unwrap());
    let told = adopt::written("frostwatch", &present).unwrap_err();
    assert!(told[0].contains("frostwatch-api-1") && told[0].contains("from its files"), "{told:?}");
    let empty = Present { host: "packhouse", ..Present::default() };
    assert_eq!(
        adopt::written("frostwatch", &empty).unwrap_err(),
        ["packhouse has no container of the stack 'frostwatch'"]
    );
    let mut two = running(&wanted("services: {a: {image: x, scale: 2}}").unwrap());
    two.containers[1].definition.user = Some("1000".to_owned());
    let told = adopt::written("frostwatch", &two).unwrap_err();
    assert!(told[0].contains("differ") && told[0].contains("make them equal first"), "{told:?}");
}

#[path = "build_tests.rs"]
mod builds;
#[path = "properties_tests.rs"]
mod properties;

#[test]
fn services_have_the_number_that_is_asked_for() {
    let text = FROST.replace("    ports: ['7311:80']\n", "");
    let now = wanted(&text).unwrap();
    let more = scaled(&text, &[("store", 3)]).unwrap();
    let pieces = plan_stack(&more, &running(&now), ApplySettings::default());
    let made: Vec<&str> = pieces
        .iter()
        .filter(|p| p.plan.steps.contains(&Step::Create))
        .map(|p| p.plan.name.as_str())
        .collect();
    assert_eq!(made, ["frostwatch-store-2", "frostwatch-store-3"]);
    // One too many goes without being asked for.
    let pieces = plan_stack(&now, &running(&more), ApplySettings::default());
    let gone = pieces.iter().filter(|p| p.plan.steps.iter().any(|s| matches!(s, Step::Remove { .. })));
    assert_eq!(gone.count(), 2);
    for (scale, words) in [(("stoer", 2), "no such service"), (("api", 2), "one host port")] {
        let errors = scaled(FROST, &[scale]).unwrap_err();
        assert!(errors[0].sentence.contains(words), "{errors:?}");
    }
}
