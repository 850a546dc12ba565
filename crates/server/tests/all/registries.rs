//! Registries that are gone, slow, speak nonsense, want a sign-in or have an authority of their own: each is reported in one
//! sentence, and nothing of it is kept.

use std::time::Duration;

use axum::Router;
use axum::body::Body;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use gubernum_api::images::NewRegistry;
use gubernum_testbed::certs::Authority;
use gubernum_testbed::real::free_address;
use gubernum_testbed::registry::RealRegistry;
use rstest::rstest;

use crate::support::Bench;

const ACCOUNT: (&str, &str) = ("orchard", "winter pears");

fn plain(address: &str) -> NewRegistry {
    NewRegistry { address: address.to_owned(), account: None, secret: None, ca: None, plain_http: true }
}

fn with(status: StatusCode, headers: &[(&'static str, &'static str)], body: &'static str) -> Response {
    let mut all = HeaderMap::new();
    for (name, value) in headers {
        all.insert(*name, value.parse().unwrap());
    }
    (status, all, body).into_response()
}

/// What a registry of this sort answers to everything.
async fn answer(sort: &'static str, path: String) -> Response {
    let json = [("content-type", "application/json")];
    match sort {
        "page" => with(StatusCode::OK, &[("content-type", "text/html")], "<h1>It works</h1>"),
        "unknown" => with(StatusCode::NOT_FOUND, &json, "{}"),
        "broken" => with(StatusCode::INTERNAL_SERVER_ERROR, &json, "{}"),
        "odd-challenge" => with(StatusCode::UNAUTHORIZED, &[("www-authenticate", "Negotiate x")], ""),
        "no-challenge" => with(StatusCode::UNAUTHORIZED, &[], ""),
        "never-lets-in" => with(StatusCode::UNAUTHORIZED, &[("www-authenticate", "Basic realm=\"r\"")], ""),
        "busy" => with(StatusCode::TOO_MANY_REQUESTS, &[("retry-after", "77")], ""),
        "slow" => {
            tokio::time::sleep(Duration::from_secs(60)).await;
            with(StatusCode::OK, &json, "{}")
        }
        "circle" => with(StatusCode::FOUND, &[("location", "/v2/")], ""),
        // These pass for a registry until they are asked for something.
        _ if path == "/v2/" => with(StatusCode::OK, &json, "{}"),
        "garbage" => with(StatusCode::OK, &json, "{\"tags\": [\"1\""),
        "endless" => {
            let piece = || Ok::<_, std::io::Error>(bytes::Bytes::from(vec![b' '; 64 * 1024]));
            let body = futures_util::stream::repeat_with(piece);
            (StatusCode::OK, Body::from_stream(body)).into_response()
        }
        // One page that is its own next one.
        "circular-list" => {
            let next =
                [("content-type", "application/json"), ("link", "</v2/a/b/tags/list?last=1>; rel=\"next\"")];
            with(StatusCode::OK, &next, "{\"tags\": [\"1\"]}")
        }
        _ => with(StatusCode::OK, &json, "[]"),
    }
}

/// A stand-in that answers everything in one way, and its address.
async fn stand_in(sort: &'static str) -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let everything = get(move |uri: axum::http::Uri| answer(sort, uri.path().to_owned()));
    let app = Router::new().fallback_service(everything);
    tokio::spawn(async move { axum::serve(listener, app).await });
    address
}

#[rstest]
#[case("page", "is not a registry: its answer is not a registry's")]
#[case("unknown", "it does not know '/v2/'")]
#[case("broken", "it answers with status 500")]
#[case("odd-challenge", "uses an unsupported authentication scheme")]
#[case("no-challenge", "uses an unsupported authentication scheme")]
#[case("never-lets-in", "check its account")]
#[case("busy", "rate limit")]
#[case("slow", "did not answer within 15 s")]
#[case("circle", "too many redirects")]
#[tokio::test]
async fn one_that_is_none_is_not_kept(#[case] sort: &'static str, #[case] words: &str) {
    let bench = Bench::with(&[]).await;
    let address = stand_in(sort).await;
    let new =
        NewRegistry { account: Some(ACCOUNT.0.into()), secret: Some(ACCOUNT.1.into()), ..plain(&address) };
    let error = bench.client.set_registry(&new).await.unwrap_err().to_string();
    assert!(error.contains(words) && error.contains(&address), "{error}");
    assert!(bench.client.registries().await.unwrap().is_empty());
}

#[rstest]
#[case("garbage", "its answer cannot be read")]
#[case("endless", "its answer is too large")]
#[tokio::test]
async fn nonsense_instead_of_tags(#[case] sort: &'static str, #[case] words: &str) {
    let bench = Bench::with(&[]).await;
    let address = stand_in(sort).await;
    bench.client.set_registry(&plain(&address)).await.unwrap();
    let error = bench.client.tags(&format!("{address}/a/b"), 5).await.unwrap_err().to_string();
    assert!(error.contains(words), "{error}");
}

#[tokio::test]
async fn lists_that_never_end_do_end() {
    let bench = Bench::with(&[]).await;
    let address = stand_in("circular-list").await;
    bench.client.set_registry(&plain(&address)).await.unwrap();
    let list = bench.client.tags(&format!("{address}/a/b"), 3).await.unwrap();
    assert!(list.tags.iter().all(|t| t.tag == "1" && t.problem.is_some()), "{list:?}");
}

#[tokio::test]
async fn one_that_is_gone() {
    let bench = Bench::with(&[]).await;
    let address = free_address().unwrap();
    let error = bench.client.set_registry(&plain(&address)).await.unwrap_err().to_string();
    assert!(error.contains("cannot be reached") && error.contains("refused"), "{error}");
    let error = bench.client.tags(&format!("{address}/a/b"), 3).await.unwrap_err().to_string();
    assert!(error.contains("cannot be reached"), "{error}");
}

#[tokio::test]
async fn an_authority_of_its_own_is_trusted_only_by_word() {
    let bench = Bench::with(&[]).await;
    let (authority, other) = (Authority::new().unwrap(), Authority::new().unwrap());
    let registry = RealRegistry::start_tls(&authority, Some(ACCOUNT)).unwrap();
    let new = |ca: Option<&str>, secret: &str| NewRegistry {
        account: Some(ACCOUNT.0.into()),
        secret: Some(secret.into()),
        ca: ca.map(str::to_owned),
        plain_http: false,
        ..plain(&registry.address)
    };
    let refused = async |new: NewRegistry| bench.client.test_registry(&new).await.unwrap_err();
    for ca in [None, Some(other.certificate())] {
        let error = refused(new(ca, ACCOUNT.1)).await.to_string();
        assert!(error.contains("certificate"), "{error}");
    }
    let unreadable = refused(new(Some("no certificate"), ACCOUNT.1)).await;
    assert!(unreadable.to_string().contains("give the authority's certificate as PEM"), "{unreadable}");
    let wrong = refused(new(Some(authority.certificate()), "summer apples")).await.to_string();
    assert!(wrong.contains("check its account"), "{wrong}");
    // Plainly it is not a registry that could be spoken to.
    assert!(bench.client.test_registry(&plain(&registry.address)).await.is_err());
    let kept = bench.client.set_registry(&new(Some(authority.certificate()), ACCOUNT.1)).await.unwrap();
    assert!(kept.has_secret && !kept.plain_http);
    let missing = bench.client.tags(&format!("{}/a/b", registry.address), 3).await.unwrap_err().to_string();
    assert!(missing.contains("has no a/b"), "{missing}");

    // And TLS where none is spoken.
    let plainly = RealRegistry::start(None).unwrap();
    let error = refused(NewRegistry { plain_http: false, ..plain(&plainly.address) }).await.to_string();
    assert!(error.contains("does not speak TLS; allow plain HTTP"), "{error}");
}
