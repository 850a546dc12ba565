//! Conditional requests (RFC 9110, section 13): an answer carries an entity tag, and a request with that tag is answered with 304 and
//! no body while nothing has changed.

use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};

/// Whether a request shows this tag.
fn is_known(headers: &HeaderMap, tag: &str) -> bool {
    let shown = headers.get_all(header::IF_NONE_MATCH).iter().filter_map(|value| value.to_str().ok());
    shown.flat_map(|value| value.split(',')).map(str::trim).any(|one| {
        // A packed answer is another representation of the same: weak comparison.
        one == "*" || one.strip_prefix("W/").unwrap_or(one).trim_matches('"') == tag
    })
}

/// The answer to a request for what has this tag: what `body` gives, or that it is unchanged. `tag` is taken before the
/// body is made, so that it never reports less than the body does.
pub(crate) fn unless_known<B: IntoResponse>(
    headers: &HeaderMap,
    tag: &str,
    body: impl FnOnce() -> B,
) -> Response {
    let mut response = match is_known(headers, tag) {
        true => StatusCode::NOT_MODIFIED.into_response(),
        false => body().into_response(),
    };
    let out = response.headers_mut();
    if let Ok(value) = HeaderValue::from_str(&format!("W/\"{tag}\"")) {
        out.insert(header::ETAG, value);
        // It may be kept by the one who asked, and is asked for each time.
        out.insert(header::CACHE_CONTROL, HeaderValue::from_static("private, no-cache"));
    }
    response
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::none(&[], false)]
    #[case::it(&["\"e-5\""], true)]
    #[case::weak(&["W/\"e-5\""], true)]
    #[case::any(&["*"], true)]
    #[case::another(&["\"e-6\"", "W/\"e-50\""], false)]
    #[case::among_others(&["\"e-4\", W/\"e-5\"", "\"e-6\""], true)]
    #[case::a_part(&["\"e-\""], false)]
    fn a_tag_is_known_when_it_is_shown(#[case] shown: &[&str], #[case] known: bool) {
        let mut headers = HeaderMap::new();
        for value in shown {
            headers.append(header::IF_NONE_MATCH, HeaderValue::from_str(value).unwrap());
        }
        let mut was_made = false;
        let response = unless_known(&headers, "e-5", || was_made = true);
        let expected = if known { StatusCode::NOT_MODIFIED } else { StatusCode::OK };
        assert_eq!((response.status(), was_made), (expected, !known));
        assert_eq!(response.headers()[header::ETAG], "W/\"e-5\"");
    }
}
