//! Moves and copies of a stack between two hosts that are only written down.

use rstest::rstest;

use super::*;
use crate::assets::Volume;
use crate::container::{Container, Mount, State};
use crate::definition::Definition;
use crate::moving::prepare;
use crate::stack::tests_support::{FROST, running, wanted};
use crate::stack::{ApplySettings, plan_stack};

fn request(change: impl FnOnce(&mut MoveRequest)) -> MoveRequest {
    let mut request = MoveRequest {
        what: MoveKind::Stack,
        to: "coldstore".to_owned(),
        from: Some("packhouse/frostwatch".to_owned()),
        ..MoveRequest::default()
    };
    change(&mut request);
    request
}

/// The stack as it runs, with its volume mounted.
fn here() -> Present<'static> {
    let desired = wanted(FROST).unwrap();
    let mut present = running(&desired);
    for (c, wanted) in present.containers.iter_mut().zip(&desired.containers) {
        c.container.mounts = wanted
            .definition
            .mounts
            .iter()
            .filter_map(|m| {
                let (kind, source, target) = ("volume".to_owned(), m.source.clone()?, m.target.clone());
                Some(Mount { kind, source, target, read_only: false, anonymous: false })
            })
            .collect();
    }
    present
}

struct Case {
    present: Present<'static>,
    there: Assets,
    architecture: &'static str,
    free: Option<u64>,
    users: BTreeMap<String, Vec<String>>,
}

impl Default for Case {
    fn default() -> Self {
        Self {
            present: here(),
            there: Assets::default(),
            architecture: "amd64",
            free: None,
            users: BTreeMap::new(),
        }
    }
}

impl Case {
    fn plan(&self, request: &MoveRequest, moves: bool) -> Vec<TargetPlan> {
        let mut desired = wanted(FROST).unwrap();
        let copies = prepare::of_stack(request, moves, &mut desired, &self.present);
        let target = Present { host: "coldstore", assets: self.there.clone(), ..Present::default() };
        let pieces = plan_stack(&desired, &target, ApplySettings::default());
        let others = UsedByOthers::default();
        let original = Original {
            present: &self.present,
            others: &others,
            users: self.users.clone(),
            tells_owners: true,
        };
        let there = Destination {
            host: "coldstore",
            assets: &self.there,
            architecture: self.architecture,
            free: self.free,
        };
        plan_move(request, moves, &original, &there, pieces, &copies).into_iter().map(|p| p.plan).collect()
    }
}

fn at<'a>(plans: &'a [TargetPlan], host: &str, name: &str) -> Vec<(u32, &'a TargetPlan)> {
    (0..).zip(plans).filter(|(_, p)| p.host == host && p.name == name).collect()
}

fn waits_for(plans: &[TargetPlan], one: u32, other: u32) -> bool {
    let direct = &plans[one as usize].after;
    direct.iter().any(|a| a.target == other || waits_for(plans, a.target, other))
}

#[test]
fn the_original_stops_between_the_two_passes_and_the_copy_starts_after_them() {
    let plans = Case::default().plan(&request(|r| r.first_pass = true), true);
    for (n, plan) in (0..).zip(&plans) {
        assert!(plan.after.iter().all(|a| a.target < n), "targets wait for earlier ones only: {plans:#?}");
        assert_eq!(plan.refused, None);
    }
    let volume = at(&plans, "coldstore", "frostwatch_readings");
    let [(first, made), (rest, rested)] = volume[..] else { panic!("{plans:#?}") };
    assert!(matches!(
        made.steps[..],
        [Step::CreateVolume { .. }, Step::CopyVolume { pass: Pass::First, verify: false, .. }]
    ));
    assert!(matches!(rested.steps[..], [Step::CopyVolume { pass: Pass::Rest, verify: true, .. }]));
    let (old, stopped) = at(&plans, "packhouse", "frostwatch-store-1")[0];
    let (new, _) = at(&plans, "coldstore", "frostwatch-store-1")[0];
    assert!(waits_for(&plans, old, first) && waits_for(&plans, rest, old) && waits_for(&plans, new, rest));
    assert!(
        matches!(stopped.steps[..], [Step::Stop { .. }, Step::Remove { volumes: false, .. }]),
        "{stopped:#?}"
    );
    assert!(stopped.downtime.as_deref().is_some_and(|d| d.contains("coldstore")));
    let image = at(&plans, "coldstore", "tarn/store:2")[0].1;
    assert_eq!(image.steps, [Step::CopyImage { from: "packhouse".into(), image: "tarn/store:2".into() }]);
    let kept = at(&plans, "packhouse", "frostwatch_readings")[0].1;
    assert!(kept.steps.is_empty() && kept.unchanged.is_some(), "the data here stays unless it is asked for");
}

#[test]
fn without_a_first_pass_all_is_copied_while_it_is_down() {
    let plans = Case::default().plan(&request(|r| r.unverified = true), true);
    let volume = at(&plans, "coldstore", "frostwatch_readings");
    assert!(matches!(volume[0].1.steps[..], [Step::CreateVolume { .. }]));
    assert!(matches!(volume[1].1.steps[..], [Step::CopyVolume { pass: Pass::Whole, verify: false, .. }]));
}

#[test]
fn what_is_kept_is_only_stopped_and_volumes_go_when_asked() {
    let kept = Case::default().plan(&request(|r| r.keep = true), true);
    let here = kept.iter().filter(|p| p.host == "packhouse");
    assert!(here.clone().all(|p| p.steps.iter().all(|s| matches!(s, Step::Stop { .. }))), "{kept:#?}");
    assert!(here.count() > 3);
    let gone = Case::default().plan(&request(|r| r.remove_volumes = true), true);
    let volume = at(&gone, "packhouse", "frostwatch_readings")[0].1;
    assert_eq!(volume.steps, [Step::RemoveVolume { force: false }]);
}

#[test]
fn a_copy_pauses_what_writes_and_touches_nothing_else() {
    let plans = Case::default().plan(&request(|r| r.first_pass = true), false);
    let here: Vec<&TargetPlan> = plans.iter().filter(|p| p.host == "packhouse").collect();
    let steps: Vec<_> = here.iter().map(|p| (p.name.as_str(), p.steps.clone())).collect();
    let name = "frostwatch-store-1";
    assert_eq!(steps, [(name, vec![Step::Pause]), (name, vec![Step::Resume])]);
    let [(paused, _), (resumed, _)] = at(&plans, "packhouse", name)[..] else { panic!() };
    let (rest, _) = at(&plans, "coldstore", "frostwatch_readings")[1];
    assert!(waits_for(&plans, rest, paused) && waits_for(&plans, resumed, rest));
    let running = Case::default().plan(&request(|r| r.running = true), false);
    assert!(running.iter().all(|p| p.host == "coldstore"), "{running:#?}");
}

fn volume(name: &str, size: u64) -> Volume {
    Volume {
        name: name.to_owned(),
        driver: "local".to_owned(),
        mount_point: String::new(),
        options: BTreeMap::new(),
        labels: BTreeMap::new(),
        created: None,
        size: Some(size),
        anonymous: false,
    }
}

/// What the first refusal says that is not that of another part.
fn refusal(plans: &[TargetPlan]) -> String {
    assert!(plans.iter().all(|p| p.steps.is_empty()), "nothing is begun: {plans:#?}");
    let own = plans.iter().filter(|p| !p.dependent);
    own.filter_map(|p| p.refused.clone()).collect::<Vec<_>>().join("; ")
}

#[rstest]
#[case::volume_there(|c: &mut Case| c.there.volumes.push(volume("frostwatch_readings", 1)), "the data would be mixed")]
#[case::no_room(|c: &mut Case| { c.present.assets.volumes[0].size = Some(5 << 30); c.free = Some(1 << 30) }, "1.0 GiB free")]
#[case::others_write(|c: &mut Case| drop(c.users.insert("frostwatch_readings".into(), vec!["probe".into()])), "probe on packhouse uses")]
#[case::architecture(|c: &mut Case| { c.architecture = "arm64"; c.present.assets.images[0].architecture = Some("amd64".into()) }, "coldstore is arm64")]
fn what_cannot_work_is_refused_as_a_whole(#[case] change: fn(&mut Case), #[case] words: &str) {
    let mut case = Case::default();
    change(&mut case);
    let said = refusal(&case.plan(&request(|_| ()), true));
    assert!(said.contains(words), "{said}");
}

#[test]
fn what_the_text_takes_for_granted_comes_along_where_it_is_not() {
    let case = Case::default();
    let text = FROST.replace(
        "volumes: {readings: {}}",
        "volumes: {readings: {external: true, name: frostwatch_readings}}",
    );
    let mut there = Assets::default();
    for is_there in [false, true] {
        let mut desired = wanted(&text).unwrap();
        let mut copies = prepare::of_stack(&request(|_| ()), true, &mut desired, &case.present);
        prepare::bring_external(&mut desired, &case.present.assets, &there, &mut copies);
        assert_eq!(copies.contains_key("frostwatch_readings"), !is_there);
        assert_eq!(desired.volumes[0].external, is_there);
        there.volumes.push(volume("frostwatch_readings", 1));
    }
}

#[test]
fn another_image_of_the_same_name_is_not_taken_for_it() {
    let mut case = Case::default();
    let mut image = case.present.assets.images.iter().find(|i| i.tags == ["tarn/api:3"]).unwrap().clone();
    image.id = "another".to_owned();
    case.there.images.push(image);
    let plans = case.plan(&request(|_| ()), true);
    let (copied, plan) = at(&plans, "coldstore", "tarn/api:3")[0];
    assert!(matches!(plan.steps[..], [Step::CopyImage { .. }]), "{plan:#?}");
    assert!(waits_for(&plans, at(&plans, "coldstore", "frostwatch-api-1")[0].0, copied));
    let pulled = case.plan(&request(|r| r.pull = true), true);
    assert!(pulled.iter().all(|p| !p.steps.iter().any(|s| matches!(s, Step::CopyImage { .. }))));
}

#[rstest]
#[case(true, State::Running)]
#[case(true, State::Exited)]
#[case(false, State::Running)]
fn one_container_goes_with_its_anonymous_volume(#[case] moves: bool, #[case] state: State) {
    let anonymous = "ab".repeat(32);
    let mut container = Container::blank("packhouse", "talk", "id-talk");
    container.state = state;
    container.image_id = "id-image".to_owned();
    let mount = |source: &str| Mount {
        kind: "volume".to_owned(),
        source: source.to_owned(),
        target: "/data".to_owned(),
        read_only: false,
        anonymous: true,
    };
    container.mounts = vec![mount(&anonymous)];
    let mut definition = Definition::for_image("tarn/talk:1");
    definition.name = "talk".to_owned();
    definition.mounts = vec![
        serde_json::from_value(serde_json::json!({"kind": "volume", "source": anonymous, "target": "/data"}))
            .unwrap(),
        serde_json::from_value(serde_json::json!({"kind": "bind", "source": "/srv", "target": "/srv"}))
            .unwrap(),
    ];
    let mut present = Present { host: "packhouse", ..Present::default() };
    present.assets.volumes.push(volume(&anonymous, 10));
    present.containers.push(PresentContainer { container, definition });
    let wish = request(|r| {
        r.what = MoveKind::Container;
        r.from = Some("packhouse/talk".into());
    });
    let (desired, copies) =
        prepare::of_container(&wish, moves, &present.containers[0], Vec::new(), &present.assets);
    let name = copies.keys().next().unwrap().clone();
    assert_eq!((copies[&name].as_str(), name == anonymous, name.len()), (anonymous.as_str(), moves, 64));
    let target = Present { host: "coldstore", ..Present::default() };
    let pieces = plan_stack(&desired, &target, ApplySettings::default());
    let others = UsedByOthers::default();
    let original =
        Original { present: &present, others: &others, users: BTreeMap::new(), tells_owners: false };
    let assets = Assets::default();
    let there = Destination { host: "coldstore", assets: &assets, architecture: "", free: None };
    let pieces = plan_move(&wish, moves, &original, &there, pieces, &copies);
    let made = pieces.iter().find(|p| p.plan.host == "coldstore" && p.plan.name == "talk").unwrap();
    assert_eq!(made.next.as_ref().unwrap().mounts[0].source, Some(name));
    assert_eq!(made.plan.steps.iter().any(Step::starts), state == State::Running, "{made:#?}");
    assert!(made.plan.findings.iter().any(|f| f.sentence.contains("/srv on packhouse are not copied")));
    let volume = pieces.iter().find(|p| p.plan.object == ObjectKind::Volume).unwrap();
    assert!(volume.plan.findings.iter().any(|f| f.sentence.contains("root")), "podman tells no owners");
    let old: Vec<&Step> =
        pieces.iter().filter(|p| p.plan.id == "id-talk").flat_map(|p| &p.plan.steps).collect();
    let removes = old.iter().any(|s| matches!(s, Step::Remove { .. }));
    assert_eq!(removes, moves);
}
