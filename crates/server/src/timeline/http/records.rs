//! The syslog export of the audit log, and rotation of the seal key.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::records::{SealRotated, SyslogSettings, SyslogState};
use gubernum_store::rotation::RotationError;

use crate::access::Identity;
use crate::timeline::TimelineContext;
use crate::timeline::syslog::{SyslogError, check};
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// Syslog export of the audit log, and its state.
#[utoipa::path(get, path = "/api/v1/syslog", tag = "service", operation_id = "show_syslog", responses(
    (status = 200, body = SyslogState),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn show_syslog(
    State(context): State<Arc<TimelineContext>>,
) -> Result<Json<SyslogState>, ApiError> {
    Ok(Json(context.syslog.state().await?))
}

/// Sends the audit log to a syslog collector (RFC 5424).
#[utoipa::path(put, path = "/api/v1/syslog", tag = "service", operation_id = "set_syslog", request_body = SyslogSettings, responses(
    (status = 200, body = SyslogState),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn set_syslog(
    State(context): State<Arc<TimelineContext>>,
    who: Identity,
    Body(wish): Body<SyslogSettings>,
) -> Result<Json<SyslogState>, ApiError> {
    check(&wish).map_err(|error| {
        let field = match error {
            SyslogError::Certificates | SyslogError::NoCertificates => "/ca",
            _ => "/host",
        };
        ApiError::invalid(field, error.to_string())
    })?;
    let now = context.clock.now();
    context
        .db
        .run(move |store| {
            let words = |s: &SyslogSettings| {
                let transport = serde_json::to_value(s.transport).unwrap_or_default();
                let port = s.port.map_or_else(String::new, |port| format!(":{port}"));
                format!("{}{port} by {}", s.host, transport.as_str().unwrap_or_default())
            };
            let before = store.syslog()?.and_then(|(text, _)| serde_json::from_str(&text).ok());
            let before = before.as_ref().map_or_else(|| "nowhere".to_owned(), words);
            let outcome = format!("{before} → {}", words(&wish));
            store.set_syslog(&serde_json::to_string(&wish).unwrap_or_default())?;
            store.audit(who.entry("set-syslog", "service", &outcome), now)
        })
        .await?;
    context.syslog.set();
    Ok(Json(context.syslog.state().await?))
}

/// Stops sending the audit log.
#[utoipa::path(delete, path = "/api/v1/syslog", tag = "service", operation_id = "remove_syslog", responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove_syslog(
    State(context): State<Arc<TimelineContext>>,
    who: Identity,
) -> Result<StatusCode, ApiError> {
    let now = context.clock.now();
    let removed = context.db.run(move |store| {
        let removed = store.remove_syslog()?;
        if removed {
            store.audit(who.entry("remove-syslog", "service", "succeeded"), now)?;
        }
        Ok(removed)
    });
    if !removed.await? {
        return Err(ApiError::not_found("the audit log is not sent anywhere"));
    }
    context.syslog.set();
    Ok(StatusCode::NO_CONTENT)
}

/// Rotates the key that seals all secrets, without downtime. Earlier backups need the earlier key.
#[utoipa::path(post, path = "/api/v1/seal-rotations", tag = "service", operation_id = "rotate_seal", responses(
    (status = 200, body = SealRotated),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
    (status = 500, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn rotate_seal(
    State(context): State<Arc<TimelineContext>>,
    who: Identity,
) -> Result<Json<SealRotated>, ApiError> {
    let now = context.clock.now();
    let rotated = context.db.run(move |store| {
        let rotated = store.rotate_seal();
        let outcome = match &rotated {
            Ok(sealed) => format!("{sealed} secrets sealed with the new key"),
            Err(error) => format!("failed: {error}"),
        };
        store.audit(who.entry("rotate-seal", "service", &outcome), now)?;
        Ok(rotated)
    });
    match rotated.await? {
        Ok(sealed) => Ok(Json(SealRotated { sealed })),
        Err(RotationError::Store(error)) => Err(error.into()),
        Err(error @ RotationError::Key(_)) => {
            Err(ApiError::new("internal", "Internal error", 500, error.to_string()))
        }
    }
}
