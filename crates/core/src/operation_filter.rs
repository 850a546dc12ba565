//! The filter of the list of operations.
//!
//! The store narrows its query by the same fields; [`OperationFilter::matches`] has the last word, over what the reader may
//! see of an operation.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::journal::Operation;
use crate::plan::Kind;

/// The outcome of an operation, for filters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum OutcomeFilter {
    /// Not every target has ended.
    Running,
    /// At least one target did not succeed.
    Failed,
    /// All targets succeeded, or were as requested already.
    Succeeded,
}

/// Which operations are wanted; an absent field matches all.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct OperationFilter {
    /// Part of a reference or of a target's `host/name`, in any case.
    pub object: Option<String>,
    /// Part of the author's name, in any case.
    pub member: Option<String>,
    /// Only of this kind.
    pub kind: Option<Kind>,
    /// Only with this outcome.
    pub outcome: Option<OutcomeFilter>,
    /// Only requested at this time or later.
    pub since: Option<Timestamp>,
    /// Only requested before this time.
    pub until: Option<Timestamp>,
}

impl OperationFilter {
    /// Whether an operation, as its reader sees it, is wanted.
    pub fn matches(&self, operation: &Operation) -> bool {
        let is_part = |part: &str, text: &str| text.to_lowercase().contains(&part.to_lowercase());
        self.object.as_deref().is_none_or(|part| {
            operation.references.iter().any(|r| is_part(part, r))
                || operation.targets.iter().any(|t| is_part(part, &format!("{}/{}", t.host, t.name)))
        }) && self.member.as_deref().is_none_or(|part| is_part(part, &operation.author))
            && self.kind.is_none_or(|kind| operation.request.kind() == kind)
            && self.outcome.is_none_or(|wanted| outcome(operation) == wanted)
            && self.since.is_none_or(|since| operation.created >= since)
            && self.until.is_none_or(|until| operation.created < until)
    }
}

fn outcome(operation: &Operation) -> OutcomeFilter {
    if operation.targets.iter().any(|t| !t.state.is_final()) {
        OutcomeFilter::Running
    } else if operation.targets.iter().all(|t| t.state.is_good()) {
        OutcomeFilter::Succeeded
    } else {
        OutcomeFilter::Failed
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    fn operation(states: &[&str]) -> Operation {
        let targets: Vec<_> = states
            .iter()
            .zip(["press", "scale", "Gate"])
            .map(|(state, name)| json!({"host": "packhouse", "id": name, "name": name, "object": "container", "state": state}))
            .collect();
        serde_json::from_value(json!({
            "id": 4, "kind": "restart", "references": ["packhouse/label-*"], "author": "Mara", "state": "running",
            "created": "2026-11-23T05:30:00Z", "targets": targets,
        }))
        .unwrap()
    }

    fn filter() -> OperationFilter {
        OperationFilter::default()
    }

    #[rstest]
    #[case::all(filter(), true)]
    #[case::reference(OperationFilter { object: Some("LABEL".into()), ..filter() }, true)]
    #[case::target(OperationFilter { object: Some("packhouse/sc".into()), ..filter() }, true)]
    #[case::case_of_a_name(OperationFilter { object: Some("gate".into()), ..filter() }, true)]
    #[case::another_object(OperationFilter { object: Some("coldstore".into()), ..filter() }, false)]
    #[case::member(OperationFilter { member: Some("mar".into()), ..filter() }, true)]
    #[case::another_member(OperationFilter { member: Some("jory".into()), ..filter() }, false)]
    #[case::kind(OperationFilter { kind: Some(Kind::Restart), ..filter() }, true)]
    #[case::another_kind(OperationFilter { kind: Some(Kind::Stop), ..filter() }, false)]
    #[case::at_its_time(OperationFilter { since: "2026-11-23T05:30:00Z".parse().ok(), ..filter() }, true)]
    #[case::later(OperationFilter { since: "2026-11-23T05:30:01Z".parse().ok(), ..filter() }, false)]
    #[case::until_its_time(OperationFilter { until: "2026-11-23T05:30:00Z".parse().ok(), ..filter() }, false)]
    #[case::before_the_end(OperationFilter { until: "2026-11-23T05:30:01Z".parse().ok(), ..filter() }, true)]
    fn each_field_narrows(#[case] filter: OperationFilter, #[case] expected: bool) {
        assert_eq!(filter.matches(&operation(&["succeeded", "failed", "succeeded"])), expected);
    }

    #[rstest]
    #[case(&["succeeded", "unchanged"], OutcomeFilter::Succeeded)]
    #[case(&["succeeded", "failed"], OutcomeFilter::Failed)]
    #[case(&["refused"], OutcomeFilter::Failed)]
    #[case(&["failed", "running"], OutcomeFilter::Running)]
    #[case(&["waiting"], OutcomeFilter::Running)]
    fn an_outcome_is_one_of_three(#[case] states: &[&str], #[case] expected: OutcomeFilter) {
        for outcome in [OutcomeFilter::Running, OutcomeFilter::Failed, OutcomeFilter::Succeeded] {
            let filter = OperationFilter { outcome: Some(outcome), ..filter() };
            assert_eq!(filter.matches(&operation(states)), outcome == expected, "{outcome:?}");
        }
    }
}
