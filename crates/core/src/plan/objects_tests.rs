//! What is planned for images, volumes and networks: nothing that is in use goes, and what goes is said.

use super::*;
use crate::plan::Kind;
use proptest::prelude::*;
use rstest::rstest;

fn known(object: ObjectKind, name: &str) -> KnownObject {
    KnownObject {
        host: "packhouse".into(),
        object,
        id: "ab12".into(),
        name: name.into(),
        there: true,
        ..KnownObject::default()
    }
}

fn used(mut known: KnownObject, users: &[(&str, bool)]) -> KnownObject {
    known.users = users.iter().map(|(n, r)| ((*n).to_owned(), *r)).collect();
    known
}

fn image() -> KnownObject {
    known(ObjectKind::Image, "frost/api:2")
}

/// The plan of this kind, with force or without.
fn planned(kind: Kind, force: bool, known: &KnownObject) -> TargetPlan {
    let image = "frost/api:2".to_owned();
    match kind {
        Kind::Pull => plan_pull(&PullRequest { image, ..PullRequest::default() }, known),
        Kind::Push => plan_push(&PushRequest { image }, known),
        Kind::Tag => plan_tag(&TagRequest { image, new_name: "frost/api:keep".into() }, known),
        Kind::RemoveImage => plan_remove_image(&RemoveImageRequest { force, keep_parents: false }, known),
        Kind::CreateVolume => plan_create_volume(&CreateVolumeRequest::default(), known),
        Kind::RemoveVolume => plan_remove_volume(&RemoveVolumeRequest { force }, known),
        Kind::CreateNetwork => plan_create_network(&CreateNetworkRequest::default(), known),
        Kind::RemoveNetwork => plan_remove_network(known),
        other => unreachable!("{other} is no change of such an object"),
    }
}

#[rstest]
#[case::newer(true, None, "newer image if the registry has one")]
#[case::there(true, Some(PullPolicy::Missing), "Already on the host")]
#[case::never(false, Some(PullPolicy::Never), "pull policy is never")]
#[case::fetched(false, None, "running containers stay as they are")]
fn a_pull_says_what_it_comes_to(
    #[case] there: bool,
    #[case] policy: Option<PullPolicy>,
    #[case] words: &str,
) {
    let request = PullRequest { image: "frost/api:2".into(), policy, platform: Some("linux/arm64".into()) };
    let plan = plan_pull(&request, &KnownObject { there, ..image() });
    assert!(plan.consequence.contains(words), "{plan:?}");
    let policy = policy.unwrap_or(PullPolicy::Always);
    let step = Step::Pull { image: "frost/api:2".into(), policy, platform: Some("linux/arm64".into()) };
    assert_eq!(plan.steps, [step]);
}

#[rstest]
fn what_is_not_there_is_neither_sent_nor_named_nor_removed(
    #[values(Kind::Push, Kind::Tag, Kind::RemoveImage, Kind::RemoveVolume, Kind::RemoveNetwork)] kind: Kind,
) {
    let nothing = KnownObject { there: false, object: kind.object(), ..image() };
    let plan = planned(kind, false, &nothing);
    assert!(plan.refused.is_some() && plan.steps.is_empty(), "{plan:?}");
    let there = planned(kind, false, &KnownObject { object: kind.object(), ..image() });
    assert!(there.refused.is_none() && there.steps.len() == 1 && !there.consequence.is_empty(), "{there:?}");
}

#[rstest]
#[case::unused(&[], false, None)]
#[case::running(&[("packhouse/frost-api", true)], false, Some("in use by running containers (packhouse/frost-api)"))]
#[case::running_and_forced(&[("packhouse/frost-api", true)], true, Some("in use by running containers"))]
#[case::ended(&[("packhouse/frost-api", false)], false, Some("use force"))]
#[case::ended_and_forced(&[("packhouse/frost-api", false)], true, None)]
fn an_image_in_use_stays(#[case] users: &[(&str, bool)], #[case] force: bool, #[case] refused: Option<&str>) {
    let plan = planned(Kind::RemoveImage, force, &KnownObject { size: Some(7), ..used(image(), users) });
    match refused {
        Some(words) => assert!(plan.refused.as_ref().is_some_and(|r| r.contains(words)), "{plan:?}"),
        None => {
            assert_eq!(plan.bytes, Some(7));
            assert_eq!(plan.removes, ["image frost/api:2"]);
            assert_eq!(plan.consequence.contains("cannot be started again"), !users.is_empty());
        }
    }
}

#[test]
fn one_of_several_names_goes_and_the_image_stays() {
    let image = KnownObject { other_names: vec!["frost/api:keep".into()], size: Some(7), ..image() };
    let image = used(image, &[("packhouse/frost-api", true)]);
    let plan = planned(Kind::RemoveImage, false, &image);
    assert!(plan.refused.is_none() && plan.consequence.contains("stays as frost/api:keep"), "{plan:?}");
    assert_eq!(plan.bytes, None, "nothing is won by that");
    // By its id it is meant with all its names.
    let whole = KnownObject { name: image.id.clone(), ..image };
    assert!(planned(Kind::RemoveImage, false, &whole).refused.is_some());
}

#[rstest]
#[case::forced("frost/api:2", true, "ab12")]
#[case::nameless("", false, "ab12")]
#[case::named("frost/api:2", false, "frost/api:2")]
fn an_image_goes_by_its_name_or_by_its_id(#[case] name: &str, #[case] force: bool, #[case] by: &str) {
    let request = RemoveImageRequest { force, keep_parents: true };
    let plan = plan_remove_image(&request, &KnownObject { name: name.into(), ..image() });
    assert_eq!(plan.steps, [Step::RemoveImage { image: by.into(), force, keep_parents: true }]);
}

#[rstest]
#[case("readings", false, None)]
#[case("readings", true, Some("already"))]
#[case("read ings", false, Some("not a"))]
#[case("-readings", false, Some("not a"))]
#[case("r", false, Some("two or more"))]
fn what_is_made_needs_a_free_and_proper_name(
    #[values(Kind::CreateVolume, Kind::CreateNetwork)] kind: Kind,
    #[case] name: &str,
    #[case] there: bool,
    #[case] refused: Option<&str>,
) {
    let plan = planned(kind, false, &KnownObject { there, ..known(kind.object(), name) });
    assert_eq!(plan.refused.is_some(), refused.is_some(), "{plan:?}");
    if let Some(words) = refused {
        assert!(plan.refused.unwrap().contains(words));
    } else {
        assert_eq!(plan.creates, [format!("{} readings", kind.object().word())]);
    }
}

#[test]
fn a_volume_is_data_and_its_users_hold_it() {
    let volume = KnownObject { size: Some(4096), ..known(ObjectKind::Volume, "readings") };
    let plan = planned(Kind::RemoveVolume, false, &volume);
    assert_eq!(plan.data_at_risk, ["everything in the volume readings"]);
    assert_eq!((plan.bytes, plan.steps), (Some(4096), vec![Step::RemoveVolume { force: false }]));
    // One that has ended may be started again and need it.
    let held = used(volume, &[("packhouse/frost-api", false)]);
    let plan = planned(Kind::RemoveVolume, true, &held);
    assert!(plan.refused.unwrap().contains("packhouse/frost-api"));
}

#[test]
fn networks_of_the_engine_and_those_with_members_stay() {
    let network = known(ObjectKind::Network, "orchard");
    assert_eq!(plan_remove_network(&network).steps, [Step::RemoveNetwork]);
    let own = plan_remove_network(&KnownObject { built_in: true, ..network.clone() });
    assert!(own.refused.unwrap().contains("built-in"));
    let many: Vec<(String, bool)> = (0..9).map(|n| (format!("packhouse/worker-{n}"), true)).collect();
    let refused = plan_remove_network(&KnownObject { users: many, ..network }).refused.unwrap();
    assert!(refused.contains("worker-5, others") && !refused.contains("worker-6"), "{refused}");
}

fn of_objects() -> Vec<Kind> {
    Kind::ALL.iter().copied().filter(|k| k.object() != ObjectKind::Container).collect()
}

prop_compose! {
    fn any_known()(
        name in "[a-z]{1,4}", there in any::<bool>(), users in prop::collection::vec(("[a-z]{3}", any::<bool>()), 0..3),
        other_names in prop::collection::vec("[a-z]{5}", 0..2), size in any::<Option<u64>>(), built_in in any::<bool>(),
    ) -> KnownObject {
        KnownObject { host: "packhouse".into(), id: "ab12".into(), name, there, users, other_names, size, built_in, ..KnownObject::default() }
    }
}

proptest! {
    #[test]
    fn what_runs_never_loses_what_it_uses(
        known in any_known(),
        kind in prop::sample::select(of_objects()),
        force in any::<bool>(),
    ) {
        let known = KnownObject { object: kind.object(), ..known };
        let plan = planned(kind, force, &known);
        prop_assert_eq!(plan.refused.is_some(), plan.steps.is_empty());
        prop_assert_eq!(plan.steps_in_words.len(), plan.steps.len());
        let takes_away = matches!(kind, Kind::RemoveImage | Kind::RemoveVolume | Kind::RemoveNetwork);
        prop_assert_eq!(!plan.removes.is_empty(), takes_away && plan.refused.is_none());
        let only_a_name = kind == Kind::RemoveImage && !known.other_names.is_empty();
        if takes_away && plan.refused.is_none() && !only_a_name {
            prop_assert!(known.users.iter().all(|(_, runs)| !runs), "{plan:?}");
        }
    }
}
