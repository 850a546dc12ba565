//! `GET /metrics`: who may read it, and which of the two text formats is answered.

mod text;

use std::sync::Arc;

use axum::extract::{FromRef, FromRequestParts, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use gubernum_core::rights::Right;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::access::{AccessContext, ClientAddress, Identity};
use crate::metrics::FiguresError;
use crate::metrics::MetricsContext;
use crate::web::ApiError;
use crate::web::Contexts;
use crate::web::authorize::allow;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new().routes(routes!(metrics))
}

impl From<FiguresError> for ApiError {
    fn from(error: FiguresError) -> Self {
        match error {
            FiguresError::Store(error) => error.into(),
            FiguresError::Counting(_) => Self::new("internal", "Internal error", 500, error.to_string()),
        }
    }
}

/// OpenMetrics 1.0.
const OPENMETRICS: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";
/// The older text format, which every reader understands.
const PLAIN: &str = "text/plain; version=0.0.4; charset=utf-8";

/// Somebody who may read metrics: with a token or a session, or from an address that the settings name.
pub(crate) struct Reader;

impl<S: Send + Sync> FromRequestParts<S> for Reader
where
    Arc<AccessContext>: FromRef<S>,
    Arc<MetricsContext>: FromRef<S>,
{
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        let context = Arc::<MetricsContext>::from_ref(state);
        let address = parts.extensions.get::<ClientAddress>().map(|a| a.0);
        if address.is_some_and(|address| context.metrics_from.iter().any(|subnet| subnet.contains(address))) {
            return Ok(Self);
        }
        let who = Identity::from_request_parts(parts, state).await?;
        allow(who.access.on_fleet(), Right::See, "the whole fleet").map(|()| Self)
    }
}

/// Whether OpenMetrics is asked for. Who does not say gets the older format.
fn wants_openmetrics(headers: &HeaderMap) -> bool {
    let accepted = headers.get_all(header::ACCEPT).iter().filter_map(|v| v.to_str().ok());
    accepted.flat_map(|v| v.split(',')).any(|part| {
        let mut pieces = part.split(';').map(str::trim);
        pieces.next().is_some_and(|kind| kind.eq_ignore_ascii_case("application/openmetrics-text"))
            && !pieces.any(|piece| matches!(piece, "q=0" | "q=0.0" | "q=0.00" | "q=0.000"))
    })
}

/// Metrics of the fleet and the service, in OpenMetrics text
///
/// Counts of the fleet by host and state, links and their lag, operations, sampling and history, and the process. In
/// OpenMetrics 1.0 when `Accept` asks for `application/openmetrics-text`, else in the text format 0.0.4. Needs a token, unless
/// the setting `metrics_from` names the reader's address.
#[utoipa::path(get, path = "/metrics", tag = "service", responses(
    (status = 200, description = "The figures", body = String, content_type = "text/plain"),
    (status = "4XX", body = gubernum_api::Problem, content_type = "application/problem+json"),
))]
async fn metrics(
    State(context): State<Arc<MetricsContext>>,
    _: Reader,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    let figures = context.sources.figures(context.clock.now()).await?;
    let text = text::openmetrics(&figures);
    let (kind, text) =
        if wants_openmetrics(&headers) { (OPENMETRICS, text) } else { (PLAIN, text::plain(&text)) };
    Ok(([(header::CONTENT_TYPE, kind)], text).into_response())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("*/*", false)]
    #[case("text/plain", false)]
    #[case("application/openmetrics-text;version=1.0.0,text/plain;q=0.5", true)]
    #[case("text/html, Application/OpenMetrics-Text ; q=0.3", true)]
    #[case("application/openmetrics-text;q=0", false)]
    fn the_format_is_negotiated(#[case] accept: &str, #[case] expected: bool) {
        let mut headers = HeaderMap::new();
        headers.insert(header::ACCEPT, accept.parse().unwrap());
        assert_eq!(wants_openmetrics(&headers), expected);
    }
}
