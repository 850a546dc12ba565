//! What operations hold: a container by its id and by its name, from the reservation to the end of the last target that is it.

use gubernum_core::journal::TargetState;
use gubernum_core::plan::request::RestartRequest;
use gubernum_core::plan::{Request, Step};
use gubernum_core::rights::Access;
use rstest::rstest;

use super::*;

fn planned(id: &str, name: &str) -> Planned {
    let plan = TargetPlan {
        host: "packhouse".into(),
        object: ObjectKind::Container,
        id: id.into(),
        name: name.into(),
        steps: vec![Step::Pause],
        ..TargetPlan::default()
    };
    plan.into()
}

fn target(id: &str, name: &str) -> Target {
    let target = serde_json::json!({
        "host": "packhouse", "id": id, "name": name, "object": "container", "state": "waiting",
    });
    serde_json::from_value(target).unwrap()
}

fn operation(id: u64, targets: Vec<Target>) -> Operation {
    Operation {
        id,
        request: Request::Restart(RestartRequest::default()),
        references: Vec::new(),
        author: "jory".into(),
        state: OperationState::Running,
        cancel_requested: false,
        created: jiff::Timestamp::UNIX_EPOCH,
        ended: None,
        targets,
    }
}

fn author() -> Author {
    Author::service("jory", Access::everything(), String::new())
}

fn active() -> ActiveOperations {
    ActiveOperations::new(Arc::new(OperationQueue::default()))
}

/// Whether a plan for this container would be refused because an operation holds it.
fn is_taken(active: &ActiveOperations, id: &str, name: &str) -> bool {
    let mut plans = [planned(id, name)];
    active.refuse_busy(&mut plans, None)
}

#[rstest]
#[case::the_container_itself("a1", "press", true)]
#[case::the_new_one_that_has_its_name("b2", "press", true)]
#[case::the_old_one_that_was_moved_aside("a1", "press.aside", true)]
#[case::one_that_is_to_be_created_under_the_name("", "press", true)]
#[case::another("c3", "sorter", false)]
fn a_container_is_held_by_its_id_and_by_its_name(
    #[case] id: &str,
    #[case] name: &str,
    #[case] expected: bool,
) {
    let active = active();
    active.add(operation(1, vec![target("a1", "press")]), author(), Vec::new());
    assert_eq!(is_taken(&active, id, name), expected);
}

#[test]
fn an_object_that_is_changed_twice_is_free_after_the_last_of_both() {
    let active = active();
    active.add(operation(1, vec![target("a1", "press"), target("a1", "press")]), author(), Vec::new());
    active.release(&target("a1", "press"));
    assert!(is_taken(&active, "a1", "press"), "the second target has not ended");
    active.release(&target("a1", "press"));
    assert!(!is_taken(&active, "a1", "press"));
}

#[test]
fn a_target_that_has_ended_before_holds_nothing() {
    let active = active();
    let ended = Target { state: TargetState::Succeeded, ..target("a1", "press") };
    active.add(operation(1, vec![ended]), author(), Vec::new());
    assert!(!is_taken(&active, "a1", "press"));
}

#[test]
fn a_reservation_refuses_others_and_is_given_back() {
    let active = active();
    let mut first = [planned("a1", "press"), planned("a1", "press")];
    let (held, is_late) = active.reserve(&mut first, vec![false; 2], (Kind::Pause, "mara")).unwrap();
    assert!(!is_late && first.iter().all(|p| p.plan.refused.is_none()), "one operation may change it twice");
    let mut second = [planned("b2", "press"), planned("c3", "sorter")];
    let (other, is_late) = active.reserve(&mut second, vec![false; 2], (Kind::Stop, "jory")).unwrap();
    assert!(is_late, "the name is taken");
    let told = second[0].plan.refused.as_deref().unwrap();
    assert!(told.contains("pause by mara is about to change it"), "{told}");
    assert_eq!(second[1].plan.refused, None);
    drop((held, other));
    assert!(!is_taken(&active, "b2", "press") && !is_taken(&active, "c3", "sorter"));
}

#[test]
fn a_reservation_that_became_an_operation_stays() {
    let active = active();
    let mut plans = [planned("a1", "press")];
    let (held, _) = active.reserve(&mut plans, vec![false], (Kind::Restart, "jory")).unwrap();
    active.add(operation(4, vec![target("a1", "press")]), author(), Vec::new());
    drop(held);
    let mut later = [planned("a1", "press")];
    assert!(active.refuse_busy(&mut later, None));
    let told = later[0].plan.refused.as_deref().unwrap();
    assert!(told.starts_with("operation 4 (restart by jory, since 00:00 UTC) is changing it"), "{told}");
}

#[test]
fn what_was_replaced_since_the_preview_is_refused_and_not_held() {
    let active = active();
    let mut plans = [planned("a1", "press")];
    let (_held, is_late) = active.reserve(&mut plans, vec![true], (Kind::Restart, "jory")).unwrap();
    assert!(!is_late);
    assert!(plans[0].plan.refused.as_deref().unwrap().contains("check the preview again"));
    assert!(!is_taken(&active, "a1", "press"));
}

#[test]
fn an_earlier_place_in_the_queue_comes_first() {
    let queue = Arc::new(OperationQueue::default());
    let active = ActiveOperations::new(queue.clone());
    let now = jiff::Timestamp::UNIX_EPOCH;
    let first = queue.join("mara", Kind::Restart, &[], now).unwrap();
    let second = queue.join("tess", Kind::Stop, &[], now).unwrap();
    for place in [&first, &second] {
        queue.wants(place.number, ActiveOperations::keys(&[planned("a1", "press")]));
    }
    let mut plans = [planned("a1", "press")];
    assert!(active.refuse_busy(&mut plans, None), "a caller without a place is behind both");
    let told = plans[0].plan.refused.as_deref().unwrap();
    assert_eq!(told, "restart by mara is queued for it since 00:00 UTC; queue behind it");
    assert!(!active.refuse_busy(&mut [planned("a1", "press")], Some(first.number)));
    assert!(active.refuse_busy(&mut [planned("b2", "press")], Some(second.number)), "by its name too");
    let keys = ActiveOperations::keys(&[planned("a1", "press")]);
    assert!(active.is_free(&keys, first.number) && !active.is_free(&keys, second.number));
    drop(first);
    assert!(active.is_free(&keys, second.number));
}
