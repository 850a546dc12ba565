//! The audit log over HTTP: searched page by page, and exported whole as JSON lines.

use std::sync::Arc;

use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use gubernum_api::Problem;
use gubernum_api::views::AuditEntry;
use gubernum_store::audit::AuditQuery;
use jiff::Timestamp;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::access::Identity;
use crate::timeline::TimelineContext;
use crate::web::NDJSON;
use crate::web::extract::Params;
use crate::web::problem::ApiError;
use crate::web::query;

/// Entries that are read together for an export.
const PIECE: u32 = 1000;

/// Which entries are wanted.
#[derive(Debug, Clone, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct AuditParams {
    /// Only by this member.
    member: Option<String>,
    /// Only this action, such as `sign-in` or `restart`.
    action: Option<String>,
    /// Only entries with this text in their object, outcome or address.
    text: Option<String>,
    /// Only from this time: RFC 3339, a day, or a span back from now such as `15m`.
    since: Option<String>,
    /// Only before this time.
    until: Option<String>,
    /// Only entries before this number; for the next page, the last number of this one.
    before: Option<u64>,
    /// Maximum number of entries; 100 when absent, at most 1000.
    limit: Option<u32>,
}

fn read(wish: AuditParams, now: Timestamp) -> Result<AuditQuery, ApiError> {
    Ok(AuditQuery {
        before: wish.before,
        after: None,
        since: query::time("since", wish.since.as_deref(), now)?,
        until: query::time("until", wish.until.as_deref(), now)?,
        member: query::text("member", wish.member)?,
        action: query::text("action", wish.action)?,
        text: query::text("text", wish.text)?,
        most: query::page_size(wish.limit)?,
    })
}

/// The audit log, newest first.
#[utoipa::path(get, path = "/api/v1/audit", tag = "fleet", operation_id = "audit", params(AuditParams), responses(
    (status = 200, body = Vec<AuditEntry>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn audit(
    State(context): State<Arc<TimelineContext>>,
    _who: Identity,
    Params(wish): Params<AuditParams>,
) -> Result<Json<Vec<AuditEntry>>, ApiError> {
    let query = read(wish, context.clock.now())?;
    Ok(Json(context.db.run(move |store| store.audit_entries(&query)).await?))
}

/// Exports matching audit entries as JSON lines, oldest first; `limit` and `before` are ignored. The export itself is
/// audited.
#[utoipa::path(get, path = "/api/v1/audit/export", tag = "fleet", operation_id = "export_audit", params(AuditParams), responses(
    (status = 200, body = AuditEntry, content_type = "application/x-ndjson"),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn export(
    State(context): State<Arc<TimelineContext>>,
    who: Identity,
    Params(wish): Params<AuditParams>,
) -> Result<Response, ApiError> {
    let now = context.clock.now();
    let mut query = read(AuditParams { limit: None, before: None, ..wish }, now)?;
    (query.after, query.most) = (Some(0), PIECE);
    context.db.run(move |store| store.audit(who.entry("export-audit", "service", "begun"), now)).await?;
    let db = context.db.clone();
    let pieces = futures_util::stream::unfold(Some(query), move |query| {
        let db = db.clone();
        async move {
            let mut query = query?;
            let asked = query.clone();
            let entries = match db.run(move |store| store.audit_entries(&asked)).await {
                Ok(entries) => entries,
                Err(error) => return Some((Err(std::io::Error::other(error.to_string())), None)),
            };
            query.after = Some(entries.last()?.id);
            let mut out = Vec::new();
            for entry in &entries {
                if serde_json::to_writer(&mut out, entry).is_ok() {
                    out.push(b'\n');
                }
            }
            Some((Ok(Bytes::from(out)), Some(query)))
        }
    });
    let headers = [
        (header::CONTENT_TYPE, NDJSON),
        (header::CONTENT_DISPOSITION, "attachment; filename=\"audit.jsonl\""),
    ];
    Ok((headers, Body::from_stream(pieces)).into_response())
}
