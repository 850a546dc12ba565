//! Errors that no handler wrote, such as unreadable paths, wrong methods or a plain GET of a WebSocket, as problem
//! details.

use axum::body::to_bytes;
use axum::extract::Request;
use axum::http::{StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use gubernum_core::text::shown;

use crate::web::problem::ApiError;

/// The most of a refusal's own words that is read.
const MOST_WORDS: usize = 2000;

/// Puts the refusals of the API into problem documents where they are not.
pub(super) async fn as_problems(request: Request, next: Next) -> Response {
    let of_api = request.uri().path().starts_with("/api/");
    let response = next.run(request).await;
    let status = response.status();
    let is_error = status.is_client_error() || status.is_server_error();
    let kind = response.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    if !of_api || !is_error || kind.starts_with("application/problem+json") {
        return response;
    }
    let (parts, body) = response.into_parts();
    let words = to_bytes(body, MOST_WORDS).await.unwrap_or_default();
    let words = shown(String::from_utf8_lossy(&words).trim(), 300);
    let (kind, title, said) = match status {
        StatusCode::METHOD_NOT_ALLOWED => ("method", "Method not allowed", "method not allowed here"),
        StatusCode::UPGRADE_REQUIRED => {
            ("upgrade", "Upgrade required", "this address only accepts WebSocket")
        }
        StatusCode::PAYLOAD_TOO_LARGE => ("too-large", "Body too large", "the body is too large"),
        s if s.is_server_error() => ("internal", "Internal error", "the service failed"),
        _ => ("malformed", "Malformed request", "the request cannot be read"),
    };
    let detail = if words.is_empty() { said.to_owned() } else { format!("{said}: {words}") };
    let mut answer = ApiError::new(kind, title, status.as_u16(), detail).into_response();
    for name in [header::ALLOW, header::UPGRADE, header::CONNECTION, header::RETRY_AFTER] {
        if let Some(value) = parts.headers.get(&name) {
            answer.headers_mut().insert(name, value.clone());
        }
    }
    answer
}
