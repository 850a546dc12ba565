//! Builds, hooks, the order of a replacement, and services that become jobs.

use super::*;
use crate::stack::hooks::Hooks;

const BUILT: &str = "\
services:
  api:
    build: {context: api, args: {LEVEL: 2}}
    deploy: {replicas: 2}
";

fn built(text: &str, steps: &str) -> Result<Desired, Vec<FileError>> {
    let files =
        [("stack.yaml", text), ("api/Dockerfile", steps), ("api/frost.conf", "level"), ("other", "x")];
    let files = files.map(|(path, text)| (path.to_owned(), text.to_owned())).into();
    let (variables, profiles, scale) = (BTreeMap::new(), BTreeSet::new(), BTreeMap::new());
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
    let mark = |parts: &[&[u8]]| blake3::hash(&parts.concat()).to_hex().to_string();
    let (name, scale) = ("frostwatch", &scale);
    desired(&StackDescription { loaded: &loaded, stack: &stack, name, scale, given: &given, mark: &mark })
}

#[test]
fn an_image_is_built_once_from_the_files_of_its_folder() {
    let wanted = built(BUILT, "FROM scratch").unwrap();
    let build = wanted.containers[0].build.as_ref().unwrap();
    assert_eq!(build.context.keys().collect::<Vec<_>>(), ["Dockerfile", "frost.conf"]);
    assert_eq!(build.arguments["LEVEL"], "2");
    let pieces =
        plan_stack(&wanted, &Present { host: "packhouse", ..Present::default() }, ApplySettings::default());
    let images: Vec<&PlannedPart> = pieces.iter().filter(|p| p.plan.object == ObjectKind::Image).collect();
    assert_eq!(images.len(), 1, "both containers have the same");
    assert_eq!(images[0].plan.steps, [Step::Build { image: build.image.clone() }]);
    let at = u32::try_from(pieces.iter().position(|p| p.plan.object == ObjectKind::Image).unwrap()).unwrap();
    for name in ["frostwatch-api-1", "frostwatch-api-2"] {
        assert!(piece(&pieces, name).plan.after.iter().any(|a| a.target == at && a.until == Until::Over));
    }
}

#[test]
fn another_file_makes_another_image_and_the_same_files_none() {
    let before = built(BUILT, "FROM scratch").unwrap();
    let present = running(&before);
    let same = plan_stack(&before, &present, ApplySettings::default());
    assert_eq!(done(&same), Vec::<&str>::new(), "{same:#?}");
    let after = built(BUILT, "FROM scratch\nCOPY frost.conf /").unwrap();
    assert_ne!(before.containers[0].definition.image, after.containers[0].definition.image);
    let pieces = plan_stack(&after, &present, ApplySettings::default());
    assert_eq!(done(&pieces).len(), 3, "{pieces:#?}");
    // Going back finds the image that is there.
    let back = running(&after);
    let mut back = Present { assets: present.assets.clone(), ..back };
    back.assets.images.extend(running(&after).assets.images);
    let pieces = plan_stack(&before, &back, ApplySettings::default());
    assert!(pieces.iter().all(|p| p.plan.object != ObjectKind::Image), "{pieces:#?}");
}

#[test]
fn steps_may_be_in_the_file() {
    let text = "services: {api: {build: {context: ., dockerfile_inline: 'FROM scratch'}}}";
    let wanted = built(text, "").unwrap();
    let build = wanted.containers[0].build.as_ref().unwrap();
    assert_eq!(build.context[&build.file], b"FROM scratch");
}

#[test]
fn what_starts_first_is_not_down() {
    let text = "services: {a: {image: x, deploy: {update_config: {order: start-first}}}}";
    let present = running(&wanted(text).unwrap());
    let pieces = plan(&text.replace("image: x", "image: x, environment: {A: 1}"), &present);
    let plan = &piece(&pieces, "frostwatch-a-1").plan;
    let place = |of: fn(&Step) -> bool| plan.steps.iter().position(of).unwrap();
    let watched = place(|s| matches!(s, Step::Watch { .. }));
    assert!(place(|s| *s == Step::StartNew) < watched);
    assert!(watched < place(|s| matches!(s, Step::Stop { .. })));
    assert!(place(|s| *s == Step::Exchange) < place(|s| *s == Step::Retire));
    assert_eq!(plan.downtime, None);
}

#[test]
fn hooks_go_with_the_container_and_are_reported_in_words() {
    let text = "services: {a: {image: x, post_start: [{command: [warm, up], user: root}], pre_stop: [{command: drain}]}}";
    let now = wanted(text).unwrap();
    let hooks = Hooks::of(&now.containers[0].definition.labels);
    assert_eq!((hooks.post_start[0].command.join(" "), hooks.pre_stop.len()), ("warm up".to_owned(), 1));
    assert_eq!(hooks.post_start[0].user.as_deref(), Some("root"));
    let pieces = plan(&text.replace("drain", "close"), &running(&now));
    let told: Vec<&str> =
        piece(&pieces, "frostwatch-a-1").plan.differences.iter().map(|d| d.setting.as_str()).collect();
    assert_eq!(told, ["hooks"]);
}

#[test]
fn the_container_of_a_service_that_becomes_a_job_goes() {
    let present = running(&wanted("services: {a: {image: x}, report: {image: y}}").unwrap());
    let text = "services: {a: {image: x}, report: {image: y, x-gubernum-schedule: '30 2 * * *'}}";
    let pieces = plan(text, &present);
    assert_eq!(done(&pieces), ["frostwatch-report-1"]);
    assert!(matches!(
        piece(&pieces, "frostwatch-report-1").plan.steps[..],
        [Step::Stop { .. }, Step::Remove { .. }]
    ));
}

#[test]
fn replicas_that_are_replaced_wait_for_each_other_as_long_as_the_text_says() {
    let text = "services: {a: {image: x, deploy: {replicas: 3, update_config: {delay: 5s, failure_action: continue}}}}";
    let pieces =
        plan(&text.replace("image: x", "image: x, environment: {A: 1}"), &running(&wanted(text).unwrap()));
    let delays = |name: &str| piece(&pieces, name).plan.steps.contains(&Step::Delay { seconds: 5 });
    assert!(!delays("frostwatch-a-1") && delays("frostwatch-a-2") && delays("frostwatch-a-3"), "{pieces:#?}");
    let says = Some(crate::compose::model::FailureAction::Continue);
    assert!(pieces.iter().filter(|p| p.current.is_some()).all(|p| p.on_failure == says));
    let new = plan(text, &Present { host: "packhouse", ..Present::default() });
    assert!(
        new.iter().all(|p| !p.plan.steps.iter().any(|s| matches!(s, Step::Delay { .. }))),
        "nothing is replaced"
    );
}
