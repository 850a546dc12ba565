use super::remove::{UsedByOthers, plan_remove_stack};
use super::tests::{FROST, running, wanted};
use crate::plan::request::RemoveStackRequest;
use crate::plan::{ObjectKind, Step, TargetPlan};

fn plans(volumes: bool, images: bool, others: &UsedByOthers) -> Vec<TargetPlan> {
    let present = running(&wanted(FROST).unwrap());
    let request = RemoveStackRequest { stack: "frostwatch".into(), volumes, images };
    plan_remove_stack(&request, &present, others)
}

fn at(plans: &[TargetPlan], name: &str) -> u32 {
    let position = plans.iter().position(|p| p.name == name);
    u32::try_from(position.unwrap_or_else(|| panic!("no {name} in {plans:#?}"))).unwrap()
}

#[test]
fn who_needs_another_goes_first_and_what_is_used_last() {
    let plans = plans(true, true, &UsedByOthers::default());
    let needs = |one: &str, other: &str| {
        let other = at(&plans, other);
        plans[at(&plans, one) as usize].after.iter().any(|a| a.target == other)
    };
    assert!(
        needs("frostwatch-store-1", "frostwatch-api-1")
            && needs("frostwatch-store-1", "frostwatch-prepare-1")
    );
    assert!(needs("frostwatch-api-1", "frostwatch-probe-1"), "it shares its network");
    assert!(
        needs("frostwatch_readings", "frostwatch-store-1") && needs("frostwatch_front", "frostwatch-api-1")
    );
    // Targets wait for earlier ones only.
    for (n, plan) in (0..).zip(&plans) {
        assert!(plan.after.iter().all(|a| a.target < n), "{plans:#?}");
    }
    let done = &plans[at(&plans, "frostwatch-prepare-1") as usize];
    assert!(!done.steps.iter().any(|s| matches!(s, Step::Stop { .. })), "what has ended is not stopped");
    let volume = &plans[at(&plans, "frostwatch_readings") as usize];
    assert_eq!(volume.data_at_risk, ["everything in the volume frostwatch_readings"]);
    assert_eq!(plans.iter().filter(|p| p.object == ObjectKind::Image && !p.steps.is_empty()).count(), 4);
}

#[test]
fn data_and_what_others_use_stays() {
    let others = UsedByOthers {
        networks: ["frostwatch_front".to_owned()].into(),
        volumes: ["frostwatch_readings".to_owned()].into(),
        images: [running(&wanted(FROST).unwrap()).assets.images[0].id.clone()].into(),
    };
    let kept = plans(false, false, &UsedByOthers::default());
    let volume = &kept[at(&kept, "frostwatch_readings") as usize];
    assert!(volume.steps.is_empty() && volume.unchanged.is_some(), "{volume:#?}");
    assert!(kept.iter().all(|p| p.object != ObjectKind::Image));
    let shared = plans(true, true, &others);
    for name in ["frostwatch_front", "frostwatch_readings"] {
        assert!(shared[at(&shared, name) as usize].steps.is_empty(), "{shared:#?}");
    }
    assert_eq!(shared.iter().filter(|p| p.object == ObjectKind::Image && p.steps.is_empty()).count(), 1);
}

#[test]
fn nothing_goes_when_one_is_refused() {
    let mut present = running(&wanted(FROST).unwrap());
    present.containers[0].container.is_self = true;
    let request = RemoveStackRequest { stack: "frostwatch".into(), ..RemoveStackRequest::default() };
    let plans = plan_remove_stack(&request, &present, &UsedByOthers::default());
    assert!(plans.iter().all(|p| p.steps.is_empty() || p.refused.is_some()), "{plans:#?}");
}
