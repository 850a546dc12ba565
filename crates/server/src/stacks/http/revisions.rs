//! Revisions of stacks: what was applied, by whom and why; and drift.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use gubernum_api::Problem;
use gubernum_api::stacks::{
    CheckStack, DriftRow, RevisionDifference, StackDefinition, StackReport, StackRevision,
};
use gubernum_api::views::{Adoption, Drift};
use gubernum_core::text::shown;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::access::Identity;
use crate::fleet::View;
use crate::stacks::StacksContext;
use crate::web::extract::{Body, Params};
use crate::web::problem::ApiError;

/// Revisions of a stack on a host, newest first. An `apply` operation can name one to roll back to it.
#[utoipa::path(get, path = "/api/v1/stacks/{host}/{stack}/revisions", tag = "stacks", operation_id = "stack_revisions",
    params(("host" = String, Path), ("stack" = String, Path)), responses(
    (status = 200, body = Vec<StackRevision>),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<StacksContext>>,
    _who: Identity,
    Path((host, stack)): Path<(String, String)>,
) -> Result<Json<Vec<StackRevision>>, ApiError> {
    Ok(Json(context.runner.revisions(&host, &stack).await?))
}

/// The number of a revision, as it is in an address.
fn number(text: &str) -> Result<u64, ApiError> {
    let wrong = |_| ApiError::not_found(format!("'{}' is not the number of a revision", shown(text, 40)));
    text.parse().map_err(wrong)
}

/// A revision with its files. Likely secrets are masked.
#[utoipa::path(get, path = "/api/v1/stacks/{host}/{stack}/revisions/{number}", tag = "stacks", operation_id = "stack_definition",
    params(("host" = String, Path), ("stack" = String, Path), ("number" = u64, Path)), responses(
    (status = 200, body = StackDefinition),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn definition(
    State(context): State<Arc<StacksContext>>,
    _who: Identity,
    Path((host, stack, which)): Path<(String, String, String)>,
) -> Result<Json<StackDefinition>, ApiError> {
    Ok(Json(context.runner.definition_of(&host, &stack, number(&which)?).await?))
}

/// From where a difference is reported.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct Before {
    /// Revision to compare with; the previous one when absent.
    from: Option<u64>,
}

/// Differences between two revisions of a stack.
#[utoipa::path(get, path = "/api/v1/stacks/{host}/{stack}/revisions/{number}/difference", tag = "stacks",
    operation_id = "stack_difference", params(("host" = String, Path), ("stack" = String, Path), ("number" = u64, Path), Before),
    responses(
    (status = 200, body = RevisionDifference),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn difference(
    State(context): State<Arc<StacksContext>>,
    _who: Identity,
    Path((host, stack, which)): Path<(String, String, String)>,
    Params(before): Params<Before>,
) -> Result<Json<RevisionDifference>, ApiError> {
    Ok(Json(context.runner.difference_of(&host, &stack, number(&which)?, before.from).await?))
}

/// Checks Compose files: every error, the variables and the services, as `gubernum check` does. Changes nothing.
#[utoipa::path(post, path = "/api/v1/stacks/check", tag = "stacks", operation_id = "check_stack", request_body = CheckStack, responses(
    (status = 200, body = StackReport),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn check(
    State(context): State<Arc<StacksContext>>,
    _who: Identity,
    Body(wish): Body<CheckStack>,
) -> Result<Json<StackReport>, ApiError> {
    Ok(Json(context.runner.check_stack(wish).await?))
}

/// Deployed stacks and their drift from the newest revision.
#[utoipa::path(get, path = "/api/v1/drift", tag = "stacks", operation_id = "drifts", responses(
    (status = 200, body = Vec<DriftRow>),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn drifts(
    State(context): State<Arc<StacksContext>>,
    view: View,
) -> Result<Json<Vec<DriftRow>>, ApiError> {
    let rows = context.drift.rows().into_iter();
    Ok(Json(rows.filter(|row| view.sees_stack(&row.host, &row.stack)).collect()))
}

/// Drift: differences between the newest revision of a stack and what runs.
#[utoipa::path(get, path = "/api/v1/stacks/{host}/{stack}/drift", tag = "stacks", operation_id = "stack_drift",
    params(("host" = String, Path), ("stack" = String, Path)), responses(
    (status = 200, body = Drift),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn drift(
    State(context): State<Arc<StacksContext>>,
    _who: Identity,
    Path((host, stack)): Path<(String, String)>,
) -> Result<Json<Drift>, ApiError> {
    let found = context.runner.drift(&host, &stack).await?;
    let missing = || {
        let (host, stack) = (shown(&host, 60), shown(&stack, 60));
        ApiError::not_found(format!("no stack '{stack}' was deployed to '{host}' with Gubernum"))
    };
    found.map(Json).ok_or_else(missing)
}

/// The Compose text of a running stack. Saves nothing.
#[utoipa::path(get, path = "/api/v1/stacks/{host}/{stack}/text", tag = "stacks", operation_id = "stack_text",
    params(("host" = String, Path), ("stack" = String, Path)), responses(
    (status = 200, body = Adoption),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn text(
    State(context): State<Arc<StacksContext>>,
    who: Identity,
    Path((host, stack)): Path<(String, String)>,
) -> Result<Json<Adoption>, ApiError> {
    Ok(Json(context.runner.adopt(&host, &stack, &who.author(), false).await?))
}

/// Adopts a running stack: writes its Compose text so that deploying it would change nothing, and saves it as its
/// first revision. No container changes.
#[utoipa::path(post, path = "/api/v1/stacks/{host}/{stack}/adopt", tag = "stacks", operation_id = "adopt_stack",
    params(("host" = String, Path), ("stack" = String, Path)), responses(
    (status = 200, body = Adoption),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn adopt(
    State(context): State<Arc<StacksContext>>,
    who: Identity,
    Path((host, stack)): Path<(String, String)>,
) -> Result<Json<Adoption>, ApiError> {
    let adopted = context.runner.adopt(&host, &stack, &who.author(), true).await?;
    context.drift.want(&host, &stack);
    context.scheduler.look_again();
    let object = format!("{}/{}", shown(&host, 60), shown(&stack, 60));
    context.audit.record(&who, "adopt", object, "saved as a revision").await?;
    Ok(Json(adopted))
}
