//! Error answers: every one a problem detail (RFC 9457) with a sentence for people.

use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use gubernum_api::Problem;
use gubernum_api::problem::MEDIA_TYPE;
use gubernum_core::plan::RequestError;
use gubernum_core::reference::ReferenceError;
use gubernum_core::text::shown;
use gubernum_engine::EngineError;
use gubernum_store::StoreError;

use crate::access::ProblemType;

/// The most characters of a sentence that is reported.
const LONGEST_DETAIL: usize = 1500;

/// A failure of a request.
#[derive(Debug)]
pub struct ApiError {
    /// What is reported.
    pub problem: Box<Problem>,
    /// Seconds to wait, for a 429.
    pub retry_after: Option<u64>,
}

impl ApiError {
    /// A failure of this kind.
    pub fn new(kind: &str, title: &str, status: u16, detail: impl Into<String>) -> Self {
        Self { problem: Box::new(Problem::new(kind, title, status, detail)), retry_after: None }
    }

    /// A request whose field is invalid.
    pub fn invalid(field: impl Into<String>, detail: impl Into<String>) -> Self {
        Self::new("invalid", "Invalid request", 422, detail).at(field)
    }

    /// Something that is not there.
    pub fn not_found(detail: impl Into<String>) -> Self {
        Self::new("not-found", "Not found", 404, detail)
    }

    /// A host whose link is known to be down: the request does not fit the state of the fleet.
    pub fn host_unreachable(detail: impl Into<String>) -> Self {
        Self::new("host-unreachable", "The host is unreachable", 409, detail)
    }

    /// Not signed in, in one wording whatever the cause.
    pub fn unauthorized() -> Self {
        let detail = "not signed in, or the session or token is no longer valid; sign in, or send a token as 'Authorization: Bearer …'";
        Self::new("not-signed-in", "Not signed in", 401, detail)
    }

    /// Names the place at fault.
    #[must_use]
    pub fn at(mut self, field: impl Into<String>) -> Self {
        self.problem.field = Some(field.into());
        self
    }
}

impl IntoResponse for ApiError {
    fn into_response(mut self) -> Response {
        // What somebody sent, an engine or a program said may appear in it: a person reads it, perhaps on a terminal.
        self.problem.detail = shown(&gubernum_core::mask::text(&self.problem.detail), LONGEST_DETAIL);
        let status = StatusCode::from_u16(self.problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        if status.is_server_error() {
            tracing::error!(kind = self.problem.word(), "{}", self.problem.detail);
        }
        let body = serde_json::to_vec(&self.problem).unwrap_or_default();
        let mut response = (status, body).into_response();
        response.extensions_mut().insert(ProblemType(self.problem.word().to_owned()));
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(MEDIA_TYPE));
        if let Some(seconds) = self.retry_after {
            headers.insert(header::RETRY_AFTER, HeaderValue::from(seconds));
        }
        if status == StatusCode::UNAUTHORIZED {
            headers.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        response
    }
}

impl From<ReferenceError> for ApiError {
    fn from(error: ReferenceError) -> Self {
        let detail = error.to_string();
        match error {
            ReferenceError::Malformed { .. } => Self::new("invalid", "Invalid request", 422, detail),
            ReferenceError::NotFound { near, .. } => {
                let mut e = Self::not_found(detail);
                e.problem.candidates = near;
                e
            }
            ReferenceError::Ambiguous { matches, .. } => {
                let mut e = Self::new("ambiguous", "Ambiguous reference", 409, detail);
                e.problem.candidates = matches;
                e
            }
        }
    }
}

impl From<RequestError> for ApiError {
    fn from(error: RequestError) -> Self {
        Self::invalid(format!("/{}", error.field), error.sentence)
    }
}

impl From<StoreError> for ApiError {
    fn from(error: StoreError) -> Self {
        let detail = error.to_string();
        match error {
            StoreError::Taken(_) => Self::new("taken", "Already exists", 409, detail),
            StoreError::Full { .. } => Self::new("limit", "Limit reached", 409, detail),
            StoreError::KeyReused => {
                Self::new("key-reused", "Idempotency key used before", 422, detail).at("Idempotency-Key")
            }
            _ => Self::new("internal", "Internal error", 500, detail),
        }
    }
}

impl From<EngineError> for ApiError {
    fn from(error: EngineError) -> Self {
        let detail = error.to_string();
        if matches!(error, EngineError::BadId(_)) {
            return Self::not_found(detail);
        }
        match error.status() {
            Some(404) => Self::not_found(detail),
            // What the engine says of the request, it says of the caller's wish.
            Some(409) => Self::new("conflict", "The engine refused", 409, detail),
            Some(400..=499) => Self::new("engine-refused", "The engine refused", 422, detail),
            Some(_) => Self::new("engine-refused", "The engine refused", 502, detail),
            None => Self::new("engine-unreachable", "The engine cannot be reached", 502, detail),
        }
    }
}

#[cfg(test)]
#[path = "problem_tests.rs"]
mod tests;
