//! The HTTP client for an OpenID Connect provider: no redirects, answers of bounded size and time, and no addresses
//! but those of the provider's own discovery document.

use std::time::Duration;

use gubernum_core::directory::OpenidSettings;
use openidconnect::{HttpRequest, HttpResponse};

use super::error::{DirectoryError, in_words};

/// The largest answer that is read, in bytes.
const LARGEST: usize = 1024 * 1024;
const TIMEOUT: Duration = Duration::from_secs(8);

/// Why a request came to nothing.
#[derive(Debug, thiserror::Error)]
pub(super) enum FetchError {
    #[error("{0}")]
    Request(String),
    #[error("the answer is larger than {} KiB", LARGEST / 1024)]
    TooLarge,
    #[error("the address {0} is neither private nor on this machine")]
    Open(String),
}

impl From<FetchError> for DirectoryError {
    fn from(error: FetchError) -> Self {
        Self::Unreachable(error.to_string())
    }
}

pub(super) fn client(settings: &OpenidSettings) -> Result<reqwest::Client, DirectoryError> {
    let mut builder = reqwest::Client::builder()
        .redirect(reqwest::redirect::Policy::none())
        .timeout(TIMEOUT)
        .no_proxy()
        .user_agent(concat!("gubernum/", env!("CARGO_PKG_VERSION")));
    if let Some(pem) = &settings.ca {
        let certificates = reqwest::Certificate::from_pem_bundle(pem.as_bytes())
            .map_err(|e| DirectoryError::Settings(format!("ca: {}", in_words(&e))))?;
        for certificate in certificates {
            builder = builder.add_root_certificate(certificate);
        }
    }
    builder.build().map_err(|e| DirectoryError::Settings(in_words(&e)))
}

/// Whether what is sent to an address cannot be read on the way.
fn is_private(address: &http::Uri) -> bool {
    let host = address.host().unwrap_or_default().trim_matches(['[', ']']);
    let is_here = host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback());
    address.scheme_str() == Some("https") || is_here
}

/// Sends a request that the protocol's library made.
pub(super) async fn fetch(client: reqwest::Client, request: HttpRequest) -> Result<HttpResponse, FetchError> {
    if !is_private(request.uri()) {
        return Err(FetchError::Open(request.uri().to_string()));
    }
    let (parts, body) = request.into_parts();
    let sent = client
        .request(parts.method, parts.uri.to_string())
        .headers(parts.headers)
        .body(body)
        .send()
        .await
        .map_err(|e| FetchError::Request(in_words(&e)))?;
    read(sent).await
}

async fn read(mut answer: reqwest::Response) -> Result<HttpResponse, FetchError> {
    let mut response = http::Response::new(Vec::new());
    *response.status_mut() = answer.status();
    *response.headers_mut() = answer.headers().clone();
    while let Some(piece) = answer.chunk().await.map_err(|e| FetchError::Request(in_words(&e)))? {
        if response.body().len() + piece.len() > LARGEST {
            return Err(FetchError::TooLarge);
        }
        response.body_mut().extend_from_slice(&piece);
    }
    Ok(response)
}
