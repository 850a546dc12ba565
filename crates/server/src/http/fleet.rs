//! The fleet as a whole: the snapshot, what needs a person, and who did what.

use axum::Json;
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use gubernum_api::Problem;
use gubernum_api::views::{AttentionItem, AuditEntry, FleetSnapshot};
use serde::Deserialize;
use utoipa::IntoParams;

use super::extract::Params;
use super::problem::ApiError;
use crate::app::App;
use crate::auth::identity::Identity;
use crate::hub::Beginning;

/// The whole fleet at one revision; `GET /api/v1/live` goes on from there.
#[utoipa::path(get, path = "/api/v1/fleet", tag = "fleet", responses(
    (status = 200, body = FleetSnapshot),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(super) async fn snapshot(State(app): State<App>, _who: Identity) -> Response {
    let json = match app.hub.begin(None).0 {
        Beginning::Fresh(json) => json,
        Beginning::Resumed(_) => String::new(),
    };
    ([(header::CONTENT_TYPE, "application/json")], json).into_response()
}

/// What needs a person now, worst first.
#[utoipa::path(get, path = "/api/v1/attention", tag = "fleet", responses(
    (status = 200, body = Vec<AttentionItem>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(super) async fn attention(State(app): State<App>, _who: Identity) -> Json<Vec<AttentionItem>> {
    let list = app.hub.look(gubernum_core::fleet::Fleet::attention);
    Json(
        list.into_iter()
            .map(|a| AttentionItem { host: a.host, container: a.container, reason: a.reason })
            .collect(),
    )
}

/// A page of a list that grows at its end.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct Page {
    /// Only those with a lower number: the last one of the page before.
    pub(crate) before: Option<u64>,
    /// How many, 100 when absent, at most 1000.
    pub(crate) limit: Option<u32>,
}

impl Page {
    pub(crate) fn limit(&self) -> u32 {
        self.limit.unwrap_or(100).clamp(1, 1000)
    }
}

/// The audit log, newest first.
#[utoipa::path(get, path = "/api/v1/audit", tag = "fleet", params(Page), responses(
    (status = 200, body = Vec<AuditEntry>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(super) async fn audit(
    State(app): State<App>,
    _who: Identity,
    Params(page): Params<Page>,
) -> Result<Json<Vec<AuditEntry>>, ApiError> {
    Ok(Json(app.db.run(move |store| store.audit_entries(page.before, page.limit())).await?))
}
