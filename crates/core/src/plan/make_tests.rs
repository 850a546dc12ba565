//! What is planned for containers that are made or replaced, and when a preview does not hold any more.

use super::*;
use crate::container::{Mount, State};
use crate::definition::MountRule;
use crate::definition::arbitrary::definition;
use crate::plan::Kind;
use crate::plan::digest::{difference as changed, digest};
use proptest::prelude::*;

fn running() -> Container {
    let mut c = Container::blank("packhouse", "frost-api", "aa");
    c.mounts = vec![Mount {
        kind: "volume".into(),
        source: "0".repeat(64),
        target: "/cache".into(),
        read_only: false,
        anonymous: true,
    }];
    c
}

fn current() -> Definition {
    let mut d = Definition::for_image("frost/api:2");
    d.name = "frost-api".into();
    d.mounts = vec![MountRule {
        kind: MountKind::Volume,
        source: Some("0".repeat(64)),
        target: "/cache".into(),
        ..MountRule::default()
    }];
    d
}

fn planned(kind: Kind, c: &Container, next: &Definition, in_place: bool) -> TargetPlan {
    let now = current();
    replaced(kind, (c, &now), next, in_place, None)
}

fn replaced(
    kind: Kind,
    (container, current): (&Container, &Definition),
    next: &Definition,
    changes_in_place: bool,
    is_newest: Option<bool>,
) -> TargetPlan {
    let volumes = container.mounts.iter().map(|m| m.source.as_str()).collect();
    let with = Replacement { container, current, next, findings: Vec::new(), volumes, changes_in_place };
    match kind {
        Kind::Edit => plan_edit(&EditRequest::default(), with),
        Kind::Update => plan_update(&UpdateRequest::default(), with, UpdateImage { is_newest, pinned: None }),
        _ => plan_rollback(&RollbackRequest::default(), with),
    }
}

fn words(plan: &TargetPlan) -> Vec<&'static str> {
    plan.steps
        .iter()
        .map(|s| match s {
            Step::Pull { .. } => "pull",
            Step::CreateBeside => "beside",
            Step::Stop { .. } => "stop",
            Step::Exchange => "exchange",
            Step::StartNew => "start",
            Step::Watch { .. } => "watch",
            Step::Retire => "retire",
            Step::ChangeInPlace => "in place",
            Step::Rename { .. } => "rename",
            _ => "other",
        })
        .collect()
}

#[test]
fn the_old_one_stops_only_when_the_new_one_is_ready() {
    let mut next = current();
    next.labels.insert("a".into(), "b".into());
    let plan = planned(Kind::Edit, &running(), &next, true);
    assert_eq!(words(&plan), ["pull", "beside", "stop", "exchange", "start", "watch", "retire"]);
    assert!(plan.keeps.iter().any(|k| k.contains("anonymous volume at /cache")), "{plan:?}");
    assert_eq!(plan.differences.len(), 1);
    assert!(plan.downtime.is_some());
    let mut asleep = running();
    asleep.state = State::Exited;
    assert_eq!(words(&planned(Kind::Edit, &asleep, &next, true)), ["pull", "beside", "exchange", "retire"]);
}

#[test]
fn what_can_be_changed_in_place_is() {
    let mut next = current();
    next.limits.memory = Some(1 << 30);
    next.name = "frost".into();
    assert_eq!(words(&planned(Kind::Edit, &running(), &next, true)), ["in place", "rename"]);
    assert_eq!(words(&planned(Kind::Edit, &running(), &next, false)).last(), Some(&"rename"));
    next.limits.memory = None;
    assert_eq!(words(&planned(Kind::Edit, &running(), &next, false)), ["rename"]);
}

#[test]
fn who_wants_the_image_pulled_again_gets_a_container_of_it() {
    let mut next = Definition { pull: PullPolicy::Always, ..current() };
    assert_eq!(words(&planned(Kind::Edit, &running(), &next, true)).first(), Some(&"pull"));
    next.limits.memory = Some(1 << 30);
    assert!(words(&planned(Kind::Edit, &running(), &next, true)).contains(&"beside"));
}

#[test]
fn nothing_is_done_for_nothing_and_gubernum_is_left_alone() {
    let same = planned(Kind::Edit, &running(), &current(), true);
    assert!(same.unchanged.is_some() && same.refused.is_none() && same.steps.is_empty());
    let mut own = running();
    own.is_self = true;
    let mut next = current();
    next.user = Some("1000".into());
    assert!(planned(Kind::Update, &own, &next, true).refused.is_some());
}

#[test]
fn data_that_would_be_lost_is_named() {
    let mut next = current();
    next.mounts.clear();
    let plan = planned(Kind::Edit, &running(), &next, true);
    assert!(plan.data_at_risk.iter().any(|d| d.contains("/cache")), "{plan:?}");
}

#[test]
fn an_error_refuses_and_a_warning_does_not() {
    let finding =
        |weight| Finding { field: "/name".into(), weight, sentence: "it is so".into(), proposal: None };
    let next = current();
    let plan = |weight| {
        let findings = vec![finding(weight)];
        let new = NewContainer { host: "packhouse", next: &next, findings, volumes: Vec::new() };
        plan_deploy(&DeployRequest::default(), new)
    };
    let (error, warning) = (plan(Weight::Error), plan(Weight::Warning));
    assert!(error.refused.is_some() && error.steps.is_empty() && error.steps_in_words.is_empty());
    assert!(warning.refused.is_none() && warning.steps_in_words.len() == warning.steps.len());
}

#[test]
fn a_preview_that_does_not_hold_says_what_differs() {
    let mut next = current();
    next.labels.insert("a".into(), "b".into());
    let before = vec![planned(Kind::Edit, &running(), &next, true)];
    assert_eq!(digest(&before), digest(&before.clone()));
    assert!(changed(&before, &before).is_empty());
    let mut other = running();
    other.id = "bb".into();
    let now = vec![planned(Kind::Edit, &other, &next, true)];
    assert_ne!(digest(&before), digest(&now));
    assert_eq!(changed(&before, &now), ["packhouse/frost-api is another container now"]);
    let mut refused = before.clone();
    refused[0].refuse("it is frozen");
    assert!(changed(&before, &refused)[0].contains("it is frozen"));
    assert_eq!(changed(&before, &[]).len(), 1);
    next.user = Some("1000".into());
    let more = vec![planned(Kind::Edit, &running(), &next, true)];
    assert!(changed(&before, &more)[0].contains("user"), "{:?}", changed(&before, &more));
}

fn anything() -> impl Strategy<Value = (Container, Definition, Definition)> {
    let state = prop::sample::select(vec![
        State::Created,
        State::Running,
        State::Paused,
        State::Restarting,
        State::Exited,
        State::Dead,
    ]);
    let related = (definition().boxed(), definition().boxed(), any::<bool>(), any::<bool>()).prop_map(
        |(from, to, same, named)| {
            let to = if same { from.clone() } else { to };
            // What is edited mostly keeps its name.
            let name = if named { from.name.clone() } else { to.name.clone() };
            (from, Definition { name, ..to })
        },
    );
    (state, related).prop_map(|(state, (from, to))| {
        let mut c = Container::blank("packhouse", &from.name, "aa");
        c.state = state;
        let volumes = from.mounts.iter().filter(|m| m.kind == MountKind::Volume);
        c.mounts = volumes
            .enumerate()
            .map(|(n, m)| Mount {
                kind: "volume".into(),
                source: m.source.clone().unwrap_or_else(|| format!("{n:064x}")),
                target: m.target.clone(),
                read_only: m.read_only,
                anonymous: m.source.is_none(),
            })
            .collect();
        (c, from, to)
    })
}

proptest! {
    #[test]
    fn the_old_one_can_come_back_until_the_new_one_is_well(
        (c, from, to) in anything(),
        kind in prop::sample::select(vec![Kind::Edit, Kind::Update, Kind::Rollback]),
        (in_place, newest) in (any::<bool>(), any::<Option<bool>>()),
    ) {
        let plan = replaced(kind, (&c, &from), &to, in_place, newest);
        prop_assert_eq!(plan.refused.is_some() || plan.unchanged.is_some(), plan.steps.is_empty());
        prop_assert!(!plan.consequence.is_empty());
        let words = words(&plan);
        let at = |w: &str| words.iter().position(|x| *x == w);
        // It is down only where the plan says so, and the plan says so only where it is down.
        prop_assert_eq!(plan.downtime.is_some(), at("stop").is_some());
        prop_assert_eq!(at("retire").is_some(), at("beside").is_some());
        if let Some(beside) = at("beside") {
            let order = [at("pull"), Some(beside), at("stop"), at("exchange"), at("start"), at("watch"), at("retire")];
            let taken: Vec<usize> = order.into_iter().flatten().collect();
            prop_assert!(taken.is_sorted(), "{words:?}");
            prop_assert_eq!(at("pull"), Some(0), "what may be missing is fetched while the old one runs");
            prop_assert_eq!(at("start").is_some(), c.state.is_alive());
            prop_assert_eq!(at("watch").is_some(), c.state.is_alive());
            prop_assert_eq!(at("stop").is_some(), c.state.is_alive());
        } else if plan.refused.is_none() && plan.unchanged.is_none() {
            prop_assert_eq!(kind, Kind::Edit);
            prop_assert!(words.iter().all(|w| matches!(*w, "in place" | "rename")), "{words:?}");
        }
        // Each volume that it has is spoken of: it stays, or it is named.
        if plan.recreates.len() == 1 {
            for m in &c.mounts {
                let spoken = plan.keeps.iter().chain(&plan.data_at_risk).any(|k| {
                    k.contains(&m.source) || (m.anonymous && k.contains(&format!("anonymous volume at {}", m.target)))
                });
                prop_assert!(spoken, "{m:?} in {plan:?}");
            }
        }
    }

    #[test]
    fn a_preview_holds_for_the_same_and_for_nothing_else((c, from, to) in anything(), (_, _, other) in anything()) {
        let plan = |next: &Definition| vec![replaced(Kind::Edit, (&c, &from), next, true, None)];
        let (a, b) = (plan(&to), plan(&other));
        prop_assert_eq!(digest(&a), digest(&plan(&to)));
        prop_assert_eq!(digest(&a) == digest(&b), a == b);
        prop_assert_eq!(changed(&a, &b).is_empty(), a == b, "{:?}", changed(&a, &b));
    }
}
