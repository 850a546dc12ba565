//! Operations over HTTP: every change is requested here.

use std::sync::Arc;

use axum::Json;
use axum::extract::{FromRequest, Path, Request, State};
use axum::http::{HeaderMap, StatusCode};
use gubernum_api::requests::{BodyError, NewOperation};
use gubernum_api::views::Preview;
use gubernum_api::{Container, Operation, Problem};
use gubernum_core::operation_filter::{OperationFilter, OutcomeFilter};
use gubernum_core::plan::Kind;
use jiff::Timestamp;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::access::hash_secret;
use crate::access::{AccessContext, Identity, rights_changed_for};
use crate::fleet::View;
use crate::operations::{OperationError, OperationsContext};
use crate::web::extract::{Params, json_bytes, malformed_body};
use crate::web::problem::ApiError;
use crate::web::query;

pub(crate) const LONGEST_KEY: usize = 200;
/// The longest wait in the queue, in seconds.
const MOST_WAIT: u32 = 3600;
/// The most pages of the journal that are read for one filtered page, ...
const MOST_PAGES: usize = 50;
/// ... and the least operations in each: together the whole journal, even for a page of one operation.
const SMALLEST_PAGE: u32 = 200;

/// The body of a request for a change.
pub(crate) struct OperationBody(NewOperation);

impl<S: Send + Sync> FromRequest<S> for OperationBody {
    type Rejection = ApiError;

    async fn from_request(request: Request, state: &S) -> Result<Self, ApiError> {
        let bytes = json_bytes(request, state).await?;
        NewOperation::read(&bytes).map(Self).map_err(|error| match &error {
            BodyError::Malformed { path, sentence } => malformed_body(path, sentence),
            BodyError::Misplaced { setting, .. } => {
                ApiError::invalid(format!("/{setting}"), error.to_string())
            }
        })
    }
}

/// Which operations are wanted.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct OperationParams {
    /// Only with this text in a reference or a target's `host/name`.
    object: Option<String>,
    /// Only by members with this text in their name.
    member: Option<String>,
    /// Only this kind, such as `restart`.
    kind: Option<Kind>,
    /// Only with this outcome: `failed` counts those with at least one target that did not succeed.
    #[param(inline)]
    outcome: Option<OutcomeFilter>,
    /// Only requested since this time: RFC 3339, a day, or a span back from now such as `15m`.
    since: Option<String>,
    /// Only requested before this time.
    until: Option<String>,
    /// Only operations before this number; for the next page, the last number of this one.
    before: Option<u64>,
    /// Maximum number of operations; 100 when absent, at most 1000.
    limit: Option<u32>,
}

impl OperationParams {
    fn filter(self, now: Timestamp) -> Result<OperationFilter, ApiError> {
        Ok(OperationFilter {
            object: query::text("object", self.object)?,
            member: query::text("member", self.member)?,
            kind: self.kind,
            outcome: self.outcome,
            since: query::time("since", self.since.as_deref(), now)?,
            until: query::time("until", self.until.as_deref(), now)?,
        })
    }
}

/// Operations, newest first, running ones included.
#[utoipa::path(get, path = "/api/v1/operations", tag = "operations", params(OperationParams), responses(
    (status = 200, body = Vec<Operation>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<OperationsContext>>,
    who: Identity,
    view: View,
    Params(wish): Params<OperationParams>,
) -> Result<Json<Vec<Operation>>, ApiError> {
    let limit = query::page_size(wish.limit)?;
    let wanted = usize::try_from(limit).unwrap_or(usize::MAX);
    let (mut seen, mut before) = (Vec::new(), wish.before);
    let step = limit.max(SMALLEST_PAGE);
    let filter = Arc::new(wish.filter(context.clock.now())?);
    for _ in 0..MOST_PAGES {
        let narrowed = filter.clone();
        let all = context.db.run(move |store| store.operations(before, step, &narrowed)).await?;
        // Not by how many they are: one that cannot be read is left out.
        let Some(last) = all.last() else { break };
        before = Some(last.id);
        let now = all.into_iter().map(|o| context.runner.one_running(o.id).unwrap_or(o));
        let visible = now.filter_map(|operation| view.operation(operation, &who.member));
        seen.extend(visible.filter(|operation| filter.matches(operation)));
        if seen.len() >= wanted {
            break;
        }
    }
    seen.truncate(wanted);
    Ok(Json(seen))
}

/// Starts an operation. With an `Idempotency-Key`, a repeated request returns the same operation.
#[utoipa::path(post, path = "/api/v1/operations", tag = "operations", request_body = NewOperation,
    params(("Idempotency-Key" = Option<String>, Header, description = "Idempotency key, valid for a day")), responses(
    (status = 202, body = Operation),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn submit(
    State(context): State<Arc<OperationsContext>>,
    State(access): State<Arc<AccessContext>>,
    who: Identity,
    headers: HeaderMap,
    OperationBody(wish): OperationBody,
) -> Result<(StatusCode, Json<Operation>), ApiError> {
    wish.request.check()?;
    let key = match headers.get("idempotency-key").map(|v| v.to_str()) {
        None => None,
        Some(Ok(key)) if !key.is_empty() && key.len() <= LONGEST_KEY => {
            let body = serde_json::to_string(&wish).unwrap_or_default();
            Some((key.to_owned(), hash_secret(&body)))
        }
        Some(_) => {
            let text = format!("an Idempotency-Key has 1 to {LONGEST_KEY} visible characters");
            return Err(ApiError::invalid("Idempotency-Key", text));
        }
    };
    let what = format!("{} {}", wish.request.kind(), wish.targets.join(" "));
    let digest = wish.digest.as_deref();
    let wait = wish.wait_seconds.unwrap_or_default();
    if wait > MOST_WAIT {
        return Err(ApiError::invalid("/wait_seconds", format!("wait at most {MOST_WAIT} s")));
    }
    let wait = std::time::Duration::from_secs(wait.into());
    let asked = context.runner.submit(wish.request, wish.targets, who.author(), key, digest, wait);
    // Rights may change while somebody waits: then they ask again, with those that hold.
    let submitted = if wait.is_zero() {
        asked.await
    } else {
        let mut changes = access.rights.subscribe();
        tokio::select! {
            submitted = asked => submitted,
            () = rights_changed_for(who.member_id, &mut changes) => return Err(rights_changed()),
            () = who.lease.ended() => return Err(ApiError::unauthorized()),
        }
    };
    if let Err(OperationError::NotAllowed(told)) = &submitted {
        access.note_refusal(&who, &what, told).await;
    }
    Ok((StatusCode::ACCEPTED, Json(submitted?)))
}

fn rights_changed() -> ApiError {
    let text = "your rights changed while the operation was queued; try again";
    ApiError::new("rights-changed", "Rights changed", 409, text)
}

/// Previews an operation. Changes nothing.
#[utoipa::path(post, path = "/api/v1/operations/preview", tag = "operations", request_body = NewOperation, responses(
    (status = 200, body = Preview),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn preview(
    State(context): State<Arc<OperationsContext>>,
    who: Identity,
    OperationBody(wish): OperationBody,
) -> Result<Json<Preview>, ApiError> {
    let (targets, digest) = context.runner.preview(&wish.request, &wish.targets, &who.author()).await?;
    Ok(Json(Preview { kind: wish.request.kind(), targets, digest }))
}

/// Retries the failed targets of an operation.
#[utoipa::path(post, path = "/api/v1/operations/{id}/retry", tag = "operations", params(("id" = u64, Path)), responses(
    (status = 202, body = Operation),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn retry(
    State(context): State<Arc<OperationsContext>>,
    who: Identity,
    view: View,
    Path(id): Path<String>,
) -> Result<(StatusCode, Json<Operation>), ApiError> {
    let operation = find(&context, &view, &who, &id).await?;
    let operation = context.runner.retry(&operation, who.author()).await?;
    Ok((StatusCode::ACCEPTED, Json(operation)))
}

async fn find(
    context: &OperationsContext,
    view: &View,
    who: &Identity,
    id: &str,
) -> Result<Operation, ApiError> {
    let missing = || ApiError::not_found(format!("no operation '{}'", gubernum_core::text::shown(id, 40)));
    let id: u64 = id.parse().map_err(|_| missing())?;
    let found = match context.runner.one_running(id) {
        Some(now) => Some(now),
        None => context.db.run(move |store| store.operation(id)).await?,
    };
    found.and_then(|operation| view.operation(operation, &who.member)).ok_or_else(missing)
}

/// One operation.
#[utoipa::path(get, path = "/api/v1/operations/{id}", tag = "operations", params(("id" = u64, Path)), responses(
    (status = 200, body = Operation),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn show(
    State(context): State<Arc<OperationsContext>>,
    who: Identity,
    view: View,
    Path(id): Path<String>,
) -> Result<Json<Operation>, ApiError> {
    Ok(Json(find(&context, &view, &who, &id).await?))
}

/// Containers that an operation holds: new ones not yet in place, and previous ones kept until then. They are in no
/// list.
#[utoipa::path(get, path = "/api/v1/operations/{id}/containers", tag = "operations", operation_id = "operation_containers",
    params(("id" = u64, Path)), responses(
    (status = 200, body = Vec<Container>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn containers(
    State(context): State<Arc<OperationsContext>>,
    who: Identity,
    view: View,
    Path(id): Path<String>,
) -> Result<Json<Vec<Container>>, ApiError> {
    let operation = find(&context, &view, &who, &id).await?;
    let held = |c: &Container| c.role.as_ref().is_some_and(|role| role.operation == Some(operation.id));
    let hosts: std::collections::BTreeSet<&str> = operation.targets.iter().map(|t| t.host.as_str()).collect();
    let found = view.look(|fleet| {
        hosts.iter().flat_map(|host| fleet.aside_of(host)).filter(|c| held(c)).cloned().collect()
    });
    Ok(Json(found))
}

/// Cancels an operation: targets that have started finish, the others do not start.
#[utoipa::path(post, path = "/api/v1/operations/{id}/cancel", tag = "operations", params(("id" = u64, Path)), responses(
    (status = 202, body = Operation),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn cancel(
    State(context): State<Arc<OperationsContext>>,
    who: Identity,
    view: View,
    Path(id): Path<String>,
) -> Result<(StatusCode, Json<Operation>), ApiError> {
    let operation = find(&context, &view, &who, &id).await?;
    context.runner.may_change(&operation, &who.author())?;
    let Some(operation) = context.runner.cancel(operation.id) else {
        let text =
            format!("operation {} has ended ({}); nothing to cancel", operation.id, operation.state.word());
        return Err(ApiError::new("over", "Operation has ended", 409, text));
    };
    let object = format!("operation {}", operation.id);
    context.audit.record(&who, "cancel", object, "requested").await?;
    Ok((StatusCode::ACCEPTED, Json(operation)))
}
