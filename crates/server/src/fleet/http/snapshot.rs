//! The fleet as a whole: the snapshot, the attention list and the figures.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use gubernum_api::Problem;
use gubernum_api::views::{AttentionItem, FleetSnapshot};
use gubernum_core::figures::FleetFigures;
use gubernum_core::note::NotedObject;
use gubernum_store::Store;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::fleet::FleetContext;
use crate::fleet::View;
use crate::web::extract::Params;
use crate::web::problem::ApiError;
use crate::web::query::known_host;

/// The whole fleet at one revision; `GET /api/v1/live` continues from there.
#[utoipa::path(get, path = "/api/v1/fleet", tag = "fleet", responses(
    (status = 200, body = FleetSnapshot),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn snapshot(view: View) -> Response {
    ([(header::CONTENT_TYPE, "application/json")], view.snapshot_json()).into_response()
}

/// The attention list, worst first.
#[utoipa::path(get, path = "/api/v1/attention", tag = "fleet", responses(
    (status = 200, body = Vec<AttentionItem>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn attention(
    State(context): State<Arc<FleetContext>>,
    view: View,
) -> Result<Json<Vec<AttentionItem>>, ApiError> {
    // What is wrong with the service itself is for those who look after all of it.
    let of_service = if view.is_whole() { context.integrity.reasons() } else { Vec::new() }.into_iter();
    let list = view.look(gubernum_core::fleet::Fleet::attention).into_iter();
    let of_fleet = list.map(|a| AttentionItem {
        host: a.host,
        container: a.container,
        stack: None,
        reason: a.reason,
        snoozed: None,
    });
    let of_service = of_service.map(|reason| AttentionItem {
        host: String::new(),
        container: None,
        stack: None,
        reason,
        snoozed: None,
    });
    let wants_drift = context.db.run(Store::preferences).await?.drift_needs_attention;
    let of_stacks = if wants_drift { context.drift.rows() } else { Vec::new() };
    let of_stacks = of_stacks.into_iter().filter(|r| view.sees_stack(&r.host, &r.stack)).filter_map(|row| {
        let reason = gubernum_core::reason::drift(&row.host, &row.stack, row.revision, &row.differs)?;
        Some(AttentionItem { host: row.host, container: None, stack: Some(row.stack), reason, snoozed: None })
    });
    let rows = context.scheduler.rows().into_iter().filter(|r| view.sees_stack(&r.host, &r.stack));
    let of_jobs = rows.filter_map(|row| {
        let reason = gubernum_core::reason::job(row.last.as_ref()?)?;
        Some(AttentionItem { host: row.host, container: None, stack: Some(row.stack), reason, snoozed: None })
    });
    let of_notes = context.team.pinned(&view).into_iter().map(|note| AttentionItem {
        host: note.on.host().unwrap_or_default().to_owned(),
        container: match &note.on {
            NotedObject::Container(_, name) => Some(name.clone()),
            _ => None,
        },
        stack: match &note.on {
            NotedObject::Stack(_, stack) => Some(stack.clone()),
            _ => None,
        },
        reason: gubernum_core::reason::note(&note),
        snoozed: None,
    });
    let of_all = of_service.chain(of_stacks).chain(of_jobs).chain(of_fleet).chain(of_notes);
    let mut all: Vec<AttentionItem> = of_all.collect();
    // The fleet's own are in order; what is wrong with the service comes first among its like.
    let (snoozes, now) = (context.team.snoozed(&view), context.clock.now());
    for item in &mut all {
        let on = item.object();
        item.snoozed = snoozes.iter().find(|s| s.covers(&on, &item.reason.code, now)).cloned();
    }
    all.sort_by_key(|item| (item.snoozed.is_some(), item.reason.rank));
    Ok(Json(all))
}

/// What is counted.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct Counted {
    /// Only of this host.
    host: Option<String>,
    /// Containers only of this stack.
    stack: Option<String>,
    /// Images only with this text in their id, a tag or a host.
    image: Option<String>,
}

/// Counts and totals that the pages and the client show.
#[utoipa::path(get, path = "/api/v1/figures", tag = "fleet", operation_id = "figures", params(Counted), responses(
    (status = 200, body = FleetFigures),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn figures(
    view: View,
    Params(wish): Params<Counted>,
) -> Result<Json<FleetFigures>, ApiError> {
    known_host(&view, wish.host.as_deref())?;
    let hub = view.clone();
    let worked_out = tokio::task::spawn_blocking(move || {
        let fleet = hub.snapshot();
        gubernum_core::figures::figures(
            &fleet,
            wish.host.as_deref(),
            wish.stack.as_deref(),
            wish.image.as_deref(),
        )
    });
    let figures =
        worked_out.await.map_err(|e| ApiError::new("internal", "Internal error", 500, e.to_string()))?;
    Ok(Json(figures))
}
