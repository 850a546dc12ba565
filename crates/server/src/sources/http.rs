//! Git sources over HTTP: set, show, check, remove; and the webhook for pushes.

use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::body::Bytes;
use axum::extract::{FromRequest, Path, Request, State};
use axum::http::{HeaderMap, StatusCode};
use gubernum_api::Problem;
use gubernum_api::sources::{SetSource, StackSource};
use gubernum_core::rights::Right;
use gubernum_core::text::shown;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::access::Identity;
use crate::fleet::View;
use crate::sources::{SourceError, SourcesContext};
use crate::web::authorize::allow;
use crate::web::extract::Body;
use crate::web::{ApiError, Contexts};

/// Where the signature of a push stands, as servers of repositories write it.
const SIGNATURE: &str = "x-hub-signature-256";

/// How long the body of a push may take to come.
const BODY_TIME: Duration = Duration::from_secs(20);

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(show, set, remove))
        .routes(routes!(look))
        .routes(routes!(secret))
        .routes(routes!(pushed))
}

impl From<SourceError> for ApiError {
    fn from(error: SourceError) -> Self {
        let sentence = error.to_string();
        match error {
            SourceError::Place(error) => Self::invalid(format!("/{}", error.field), error.sentence),
            SourceError::TooMany => Self::new("too-many", "Too many sources", 409, sentence),
            SourceError::NotSet(_) => Self::not_found(sentence),
            SourceError::Forged => {
                Self::new("not-signed", "Not signed", 401, sentence).at("X-Hub-Signature-256")
            }
            SourceError::NoRandomness => Self::new("internal", "Internal error", 500, sentence),
            SourceError::Store(error) => error.into(),
        }
    }
}

/// The Git source of a stack.
#[utoipa::path(get, path = "/api/v1/stacks/{host}/{stack}/source", tag = "stacks", operation_id = "stack_source",
    params(("host" = String, Path), ("stack" = String, Path)), responses(
    (status = 200, body = StackSource),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
async fn show(
    State(context): State<Arc<SourcesContext>>,
    _who: Identity,
    Path((host, stack)): Path<(String, String)>,
) -> Result<Json<StackSource>, ApiError> {
    Ok(Json(context.follower.show(&host, &stack).await?))
}

/// Sets the Git source of a stack and checks it at once. A new commit waits for approval, unless changes are deployed
/// automatically.
#[utoipa::path(put, path = "/api/v1/stacks/{host}/{stack}/source", tag = "stacks", operation_id = "set_stack_source",
    request_body = SetSource, params(("host" = String, Path), ("stack" = String, Path)), responses(
    (status = 200, body = StackSource),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
async fn set(
    State(context): State<Arc<SourcesContext>>,
    who: Identity,
    view: View,
    Path((host, stack)): Path<(String, String)>,
    Body(wish): Body<SetSource>,
) -> Result<Json<StackSource>, ApiError> {
    gubernum_core::plan::Request::RemoveStack(gubernum_core::plan::request::RemoveStackRequest {
        stack: stack.clone(),
        ..Default::default()
    })
    .check()?;
    if wish.applies {
        // What comes by itself is applied by the service, which asks nobody: whoever may change no more than a stack could have
        // it reach the host.
        let on = format!("all of {host}, for a source that deploys automatically");
        allow(view.on_host(&host), Right::Stacks, &on).map_err(|e| e.at("/applies"))?;
    }
    let set = context.follower.set(&host, &stack, wish, &who.member).await?;
    let object = format!("{}/{}", shown(&host, 60), shown(&stack, 60));
    context.audit.record(&who, "set-source", object, &shown(&set.place.url, 200)).await?;
    Ok(Json(set))
}

/// Removes the Git source of a stack. The stack stays as it is.
#[utoipa::path(delete, path = "/api/v1/stacks/{host}/{stack}/source", tag = "stacks", operation_id = "remove_stack_source",
    params(("host" = String, Path), ("stack" = String, Path)), responses(
    (status = 204, description = "Removed"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
async fn remove(
    State(context): State<Arc<SourcesContext>>,
    who: Identity,
    Path((host, stack)): Path<(String, String)>,
) -> Result<StatusCode, ApiError> {
    context.follower.remove(&host, &stack).await?;
    let object = format!("{}/{}", shown(&host, 60), shown(&stack, 60));
    context.audit.record(&who, "remove-source", object, "removed").await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Checks a stack's repository now.
#[utoipa::path(post, path = "/api/v1/stacks/{host}/{stack}/source/look", tag = "stacks", operation_id = "look_at_stack_source",
    params(("host" = String, Path), ("stack" = String, Path)), responses(
    (status = 202, body = StackSource),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
async fn look(
    State(context): State<Arc<SourcesContext>>,
    _who: Identity,
    Path((host, stack)): Path<(String, String)>,
) -> Result<(StatusCode, Json<StackSource>), ApiError> {
    let now = context.follower.show(&host, &stack).await?;
    context.follower.want(&host, &stack);
    Ok((StatusCode::ACCEPTED, Json(now)))
}

/// Replaces the webhook secret of a stack's source and returns it once.
#[utoipa::path(post, path = "/api/v1/stacks/{host}/{stack}/source/hook-secret", tag = "stacks",
    operation_id = "fresh_hook_secret", params(("host" = String, Path), ("stack" = String, Path)), responses(
    (status = 200, body = StackSource),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
async fn secret(
    State(context): State<Arc<SourcesContext>>,
    who: Identity,
    Path((host, stack)): Path<(String, String)>,
) -> Result<Json<StackSource>, ApiError> {
    let fresh = context.follower.fresh_hook_secret(&host, &stack).await?;
    let object = format!("{}/{}", shown(&host, 60), shown(&stack, 60));
    context.audit.record(&who, "hook-secret", object, "renewed").await?;
    Ok(Json(fresh))
}

/// Webhook for a push to the repository. Needs no token but a signature: the header `X-Hub-Signature-256` with
/// `sha256=` and the HMAC-SHA256 of the body in hex. The body is not trusted; the repository itself is checked.
#[utoipa::path(post, path = "/api/v1/hooks/{hook}", tag = "stacks", operation_id = "pushed", security(()),
    request_body(content = String, content_type = "application/json"), params(("hook" = String, Path)), responses(
    (status = 202, description = "The repository will be checked"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
async fn pushed(
    State(context): State<Arc<SourcesContext>>,
    Path(hook): Path<String>,
    headers: HeaderMap,
    request: Request,
) -> Result<StatusCode, ApiError> {
    // Anybody may ask: who sends its body too slowly is not waited for. A body that is too large is refused as everywhere.
    let body = match tokio::time::timeout(BODY_TIME, Bytes::from_request(request, &())).await {
        Ok(Ok(body)) => body,
        Ok(Err(error)) => {
            let text = format!("the body cannot be read: {error}");
            return Err(
                ApiError::new("malformed", "Malformed request", error.status().as_u16(), text).at("/")
            );
        }
        Err(_) => {
            let text = format!("the body did not arrive within {} s", BODY_TIME.as_secs());
            return Err(ApiError::new("slow-body", "Body too slow", 408, text));
        }
    };
    let signature = headers.get(SIGNATURE).and_then(|v| v.to_str().ok());
    context.follower.pushed(&hook, &body, signature).await?;
    Ok(StatusCode::ACCEPTED)
}
