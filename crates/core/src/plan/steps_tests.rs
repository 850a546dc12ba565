//! Steps in words and on the wire: the words are in previews, the wire form in journals of years ago.

use rstest::rstest;
use serde_json::{Value, json};

use super::*;
use crate::definition::check::{Finding, Weight};
use crate::plan::TargetPlan;

#[rstest]
#[case(json!({"step": "start"}), "Start it.")]
#[case(json!({"step": "stop", "grace_seconds": 5}), "Stop it, with 5 s of grace.")]
#[case(json!({"step": "stop", "grace_seconds": null}), "Stop it, with its usual grace period.")]
#[case(json!({"step": "restart", "grace_seconds": 0}), "Restart it, with 0 s of grace.")]
#[case(json!({"step": "kill", "signal": "SIGHUP"}), "Send SIGHUP.")]
#[case(json!({"step": "pause"}), "Pause its processes.")]
#[case(json!({"step": "resume"}), "Resume its processes.")]
#[case(json!({"step": "remove", "force": true, "volumes": false}), "Remove it.")]
#[case(json!({"step": "remove", "force": false, "volumes": true}), "Remove it with its anonymous volumes.")]
#[case(json!({"step": "pull", "image": "tarn/row:1", "policy": "always"}), "Pull tarn/row:1.")]
#[case(json!({"step": "pull", "image": "tarn/row:1", "policy": "missing"}), "Pull tarn/row:1 if the host does not have it.")]
#[case(json!({"step": "pull", "image": "tarn/row:1", "policy": "never", "platform": "linux/arm64"}), "Check that tarn/row:1 is on the host.")]
#[case(json!({"step": "push", "image": "tarn/row:1"}), "Push tarn/row:1 to its registry.")]
#[case(json!({"step": "tag", "image": "ab12", "new_name": "tarn/row:2"}), "Tag ab12 as tarn/row:2.")]
#[case(json!({"step": "remove-image", "image": "tarn/row:1", "force": false, "keep_parents": false}), "Remove the image tarn/row:1.")]
#[case(json!({"step": "remove-volume", "force": false}), "Remove the volume row and the data in it.")]
#[case(json!({"step": "remove-network"}), "Remove the network row.")]
#[case(json!({"step": "disconnect", "network": "front", "force": true}), "Disconnect it from the network front.")]
#[case(json!({"step": "create"}), "Create the container row.")]
#[case(json!({"step": "create-beside"}), "Create the new container beside the old one.")]
#[case(json!({"step": "exchange"}), "Rename the new one; keep the old one aside.")]
#[case(json!({"step": "start-new"}), "Start the new one.")]
#[case(
    json!({"step": "watch", "seconds": 10}),
    "Wait until it is healthy (without a check: up for 10 s); otherwise roll back."
)]
#[case(json!({"step": "retire"}), "Remove the old one; its settings are saved for a rollback.")]
#[case(json!({"step": "change-in-place"}), "Change limits and restart policy while it runs.")]
#[case(json!({"step": "rename", "to": "row-2"}), "Rename it to row-2.")]
#[case(json!({"step": "empty-cache"}), "Empty the build cache.")]
fn a_step_is_read_told_and_written_again(#[case] wire: Value, #[case] words: &str) {
    let step: Step = serde_json::from_value(wire.clone()).unwrap();
    assert_eq!(step.words("row"), words);
    let mut again = serde_json::to_value(&step).unwrap();
    if wire["platform"].is_null()
        && let Some(object) = again.as_object_mut()
    {
        assert!(!object.contains_key("platform"), "what is not said is not written");
        object.remove("platform");
    }
    assert_eq!(again, wire);
}

#[rstest]
#[case(json!({"step": "make"}), "create")]
#[case(json!({"step": "make-beside"}), "create-beside")]
fn earlier_words_of_steps_are_read(#[case] earlier: Value, #[case] word: &str) {
    let step: Step = serde_json::from_value(earlier).unwrap();
    assert_eq!(serde_json::to_value(step).unwrap(), json!({"step": word}));
}

#[test]
fn names_for_the_time_being_tell_the_operation() {
    assert_eq!(aside_name("row", 7), "row-before-7");
    assert_eq!(beside_name("row", 7), "row-next-7");
}

fn plan(steps: Vec<Step>) -> TargetPlan {
    TargetPlan { host: "packhouse".into(), name: "row".into(), steps, ..TargetPlan::default() }
}

fn finding(weight: Weight, sentence: &str) -> Finding {
    Finding { field: "/image".into(), weight, sentence: sentence.into(), proposal: None }
}

#[test]
fn a_first_container_is_reported_otherwise_than_a_replacement() {
    let made = plan(vec![Step::Create, Step::StartNew, Step::Watch { seconds: 5 }]).finished();
    assert_eq!(
        made.steps_in_words,
        [
            "Create the container row.",
            "Start it.",
            "Wait until it is healthy (without a check: up for 5 s); otherwise remove it again."
        ]
    );
    let watched = plan(vec![Step::Start, Step::Watch { seconds: 5 }]).finished();
    assert_eq!(watched.steps_in_words[1], "Wait until it is healthy (without a check: up for 5 s).");
    let replaced = plan(vec![Step::CreateBeside, Step::StartNew, Step::Watch { seconds: 5 }]).finished();
    assert_eq!(replaced.steps_in_words[1], "Start the new one.");
    assert!(replaced.steps_in_words[2].ends_with("otherwise roll back."));
}

#[test]
fn an_error_refuses_the_plan_and_a_warning_does_not() {
    let mut warned = plan(vec![Step::Create]);
    warned.findings = vec![finding(Weight::Warning, "it has no limit")];
    let warned = warned.finished();
    assert_eq!((warned.refused.as_deref(), warned.steps.len()), (None, 1));
    let mut wrong = plan(vec![Step::Create, Step::StartNew]);
    wrong.findings = vec![
        finding(Weight::Warning, "it has no limit"),
        finding(Weight::Error, "no image"),
        finding(Weight::Error, "no name"),
    ];
    let wrong = wrong.finished();
    assert_eq!(wrong.refused.as_deref(), Some("no image (and 1 more error)"));
    assert!(wrong.steps.is_empty() && wrong.steps_in_words.is_empty(), "nothing is done");
    assert_eq!(wrong.reference(), "packhouse/row");
}

#[test]
fn what_is_refused_for_another_reason_keeps_it() {
    let mut refused = plan(vec![Step::Create]);
    refused.refuse("the host is away");
    refused.findings = vec![finding(Weight::Error, "no image")];
    assert_eq!(refused.finished().refused.as_deref(), Some("the host is away"));
    let mut idle = plan(vec![Step::Start]);
    idle.nothing_to_do("it runs");
    let idle = idle.finished();
    assert_eq!((idle.unchanged.as_deref(), idle.refused, idle.steps), (Some("it runs"), None, vec![]));
}
