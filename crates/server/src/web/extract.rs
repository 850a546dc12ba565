//! Parses requests: bodies and query strings, with errors that name the place.

use axum::body::Bytes;
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::header;
use axum::http::request::Parts;
use serde::de::DeserializeOwned;

use crate::web::problem::ApiError;

/// The largest body of a request, in bytes.
pub(crate) const BODY_LIMIT: usize = 512 * 1024;

/// How long a JSON body may take to come.
const BODY_TIME: std::time::Duration = std::time::Duration::from_secs(20);

/// A JSON body.
pub(crate) struct Body<T>(pub(crate) T);

/// A query string.
pub(crate) struct Params<T>(pub(crate) T);

/// Reads JSON; the error names the place as a JSON pointer.
pub(crate) fn parse<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, ApiError> {
    let mut json = serde_json::Deserializer::from_slice(bytes);
    let value: T = serde_path_to_error::deserialize(&mut json)
        .map_err(|e| malformed_body(&e.path().to_string(), &e.inner().to_string()))?;
    json.end().map_err(|e| {
        ApiError::new("malformed", "Malformed request", 400, format!("text after the body's JSON: {e}"))
            .at("/")
    })?;
    Ok(value)
}

/// A body with an error at a path such as `targets[0].name`.
pub(crate) fn malformed_body(path: &str, sentence: &str) -> ApiError {
    let text = format!("invalid body: {}", quoted(sentence));
    ApiError::new("malformed", "Malformed request", 400, text).at(pointer(path))
}

/// A sentence of a parser, which marks names as code, as people read it.
fn quoted(sentence: &str) -> String {
    sentence.replace('`', "'")
}

/// `targets[0].name` as `/targets/0/name`.
fn pointer(path: &str) -> String {
    // A question mark stands where reading ended before a name was known.
    let path = path.trim_end_matches('?').trim_end_matches('.');
    if path.is_empty() {
        return "/".to_owned();
    }
    format!("/{}", path.replace('[', ".").replace(']', "").replace("..", ".").replace('.', "/"))
}

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Body<T> {
    type Rejection = ApiError;

    async fn from_request(request: Request, state: &S) -> Result<Self, ApiError> {
        parse(&json_bytes(request, state).await?).map(Self)
    }
}

/// The bytes of a JSON body.
///
/// # Errors
/// When it is no JSON by its own words, too large, or too slow.
pub(crate) async fn json_bytes<S: Send + Sync>(request: Request, state: &S) -> Result<Bytes, ApiError> {
    let json = request.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).is_some_and(|v| {
        v.split(';').next().unwrap_or_default().trim().eq_ignore_ascii_case("application/json")
    });
    if !json {
        let text = "the body must be JSON; send it with 'Content-Type: application/json'";
        return Err(ApiError::new("media-type", "Unsupported media type", 415, text).at("Content-Type"));
    }
    let read = tokio::time::timeout(BODY_TIME, Bytes::from_request(request, state)).await;
    let read = read.map_err(|_| {
        let text = format!("the body did not arrive within {} s", BODY_TIME.as_secs());
        ApiError::new("slow-body", "Body too slow", 408, text)
    })?;
    read.map_err(|e| {
        if e.status() == axum::http::StatusCode::PAYLOAD_TOO_LARGE {
            let text = format!("the body is larger than the limit of {BODY_LIMIT} bytes");
            ApiError::new("too-large", "Body too large", 413, text).at("/")
        } else {
            ApiError::new(
                "malformed",
                "Malformed request",
                400,
                format!("the body could not be received: {e}"),
            )
            .at("/")
        }
    })
}

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for Params<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, ApiError> {
        let query = parts.uri.query().unwrap_or_default();
        let pairs = serde_urlencoded::Deserializer::new(url_pairs(query));
        serde_path_to_error::deserialize(pairs).map(Self).map_err(|e| {
            let path = e.path().to_string();
            let field = if path == "." { "?".to_owned() } else { format!("?{path}") };
            ApiError::new(
                "malformed",
                "Malformed request",
                400,
                format!("invalid query: {}", quoted(&e.inner().to_string())),
            )
            .at(field)
        })
    }
}

/// The fields of a query string that may repeat them.
pub(crate) fn pairs(query: Option<&str>) -> impl Iterator<Item = (String, String)> + '_ {
    url_pairs(query.unwrap_or_default()).into_owned()
}

fn url_pairs(query: &str) -> form_urlencoded::Parse<'_> {
    form_urlencoded::parse(query.as_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;
    use gubernum_api::requests::NewHost;
    use rstest::rstest;

    #[rstest]
    #[case(r#"{"name":"packhouse","address":7}"#, "/address")]
    #[case(r#"{"name":"packhouse","address":"tcp://b","when":"now"}"#, "/when")]
    #[case(r#"{"name":"packhouse"}"#, "/")]
    #[case(r#"{"name":"packhouse","address":"tcp://b"} x"#, "/")]
    #[case("", "/")]
    fn the_place_is_named(#[case] body: &str, #[case] field: &str) {
        let error = parse::<NewHost>(body.as_bytes()).err().unwrap();
        assert_eq!((error.problem.status, error.problem.field.as_deref()), (400, Some(field)));
    }

    #[test]
    fn nested_places_too() {
        let body = r#"{"name":"a","address":"tcp://b","tls":{"ca":1,"certificate":"","key":""}}"#;
        assert_eq!(
            parse::<NewHost>(body.as_bytes()).err().unwrap().problem.field.as_deref(),
            Some("/tls/ca")
        );
    }
}
