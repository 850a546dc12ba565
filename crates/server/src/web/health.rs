//! Health and readiness of the service, for probes.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use serde::Serialize;
use utoipa::ToSchema;

use crate::web::WebContext;
use crate::web::problem::ApiError;

/// A healthy answer.
#[derive(Serialize, ToSchema)]
pub(crate) struct HealthyAnswer {
    /// Always true.
    ok: bool,
    /// Problems that do not stop the service: an altered audit log, damaged records.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    details: Vec<String>,
}

/// The process answers.
#[utoipa::path(get, path = "/healthz", tag = "service", security(()), responses((status = 200, body = HealthyAnswer)))]
pub(super) async fn healthz() -> Json<HealthyAnswer> {
    Json(HealthyAnswer { ok: true, details: Vec::new() })
}

/// The records can be read and the hosts are being watched.
#[utoipa::path(get, path = "/readyz", tag = "service", security(()), responses(
    (status = 200, body = HealthyAnswer),
    (status = 503, body = gubernum_api::Problem, content_type = "application/problem+json"),
))]
pub(super) async fn readyz(State(context): State<Arc<WebContext>>) -> Result<Json<HealthyAnswer>, ApiError> {
    let not_ready = |why: String| ApiError::new("not-ready", "Not ready", 503, why);
    if context.end.is_cancelled() {
        return Err(not_ready("the service is shutting down".to_owned()));
    }
    context.db.run(gubernum_store::Store::check).await.map_err(|e| not_ready(e.to_string()))?;
    let details = context.integrity.reasons().into_iter().map(|r| r.sentence).collect();
    Ok(Json(HealthyAnswer { ok: true, details }))
}
