//! The web console, built into the binary.
//!
//! Any address that is not a file gets the page itself, which finds its way by the address.

use axum::body::Body;
use axum::http::{HeaderValue, Method, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

const PAGE: &str = "index.html";
const NOT_BUILT: &str = "The console was not built into this binary. Build it with 'cargo xtask console', then build the service again.\n";

pub(super) async fn serve(method: Method, uri: Uri) -> Response {
    if method != Method::GET && method != Method::HEAD {
        return (StatusCode::METHOD_NOT_ALLOWED, "only GET works here\n").into_response();
    }
    let path = uri.path().trim_start_matches('/');
    let (name, file) = match Files::get(path).filter(|_| !path.is_empty()) {
        Some(file) => (path, file),
        // A file that is not there is an error; a page is the console's own matter.
        None if path.starts_with("assets/") => {
            return (StatusCode::NOT_FOUND, "no such file\n").into_response();
        }
        None => match Files::get(PAGE) {
            Some(file) => (PAGE, file),
            None => return (StatusCode::SERVICE_UNAVAILABLE, NOT_BUILT).into_response(),
        },
    };
    let kind = mime_guess::from_path(name).first_or_octet_stream();
    let mut response = Response::new(Body::from(file.data));
    let headers = response.headers_mut();
    if let Ok(value) = HeaderValue::from_str(kind.as_ref()) {
        headers.insert(header::CONTENT_TYPE, value);
    }
    // Names of assets carry a hash of their content.
    let caching =
        if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static(caching));
    response
}
