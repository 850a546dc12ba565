//! The revisions of stacks: what was applied, by whom and why, and what differs from that now.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use gubernum_api::Problem;
use gubernum_api::images::StackRevision;
use gubernum_api::views::{Adoption, Drift};
use gubernum_core::text::shown;

use crate::access::Identity;
use crate::stacks::StacksContext;
use crate::web::problem::ApiError;

/// The revisions of a stack on a host, the newest first. A request to `apply` names one to go back to it.
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
    Ok(Json(context.db.run(move |store| store.stack_revisions(&host, &stack)).await?))
}

/// What differs between a stack as it was applied last and what runs: somebody changed, removed or stopped it by other means.
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
        ApiError::not_found(format!("no stack `{stack}` was deployed to `{host}` by way of Gubernum"))
    };
    found.map(Json).ok_or_else(missing)
}

/// A stack that runs, written down as a text. Keeps nothing.
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

/// Adopts a stack that runs: its text is written from what runs, so that applying it would change nothing, and kept as its newest
/// revision. Touches no container.
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
    let object = format!("{}/{}", shown(&host, 60), shown(&stack, 60));
    context.audit.record(&who, "adopt", object, "kept as a revision").await?;
    Ok(Json(adopted))
}
