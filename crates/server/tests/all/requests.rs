//! What bad requests get.

use gubernum_api::Problem;
use reqwest::Method;
use rstest::rstest;

use crate::support::Bench;

#[rstest]
#[case::unknown_kind("/api/v1/operations", r#"{"kind":"explode","targets":["a/b"]}"#, 400, "/kind")]
#[case::unknown_field("/api/v1/operations", r#"{"kind":"stop","targets":["a/b"],"when":1}"#, 400, "/when")]
#[case::wrong_type("/api/v1/operations", r#"{"kind":"stop","targets":["a/b", 3]}"#, 400, "/targets/1")]
#[case::not_json("/api/v1/operations", "{", 400, "/")]
#[case::no_targets("/api/v1/operations", r#"{"kind":"stop","targets":[]}"#, 422, "/targets")]
#[case::misplaced(
    "/api/v1/operations",
    r#"{"kind":"start","targets":["packhouse/api"],"force":true}"#,
    422,
    "/force"
)]
#[case::bad_signal(
    "/api/v1/operations",
    r#"{"kind":"kill","targets":["packhouse/api"],"signal":"LOUD"}"#,
    422,
    "/signal"
)]
#[case::bad_reference(
    "/api/v1/operations",
    r#"{"kind":"stop","targets":["packhouse/api","a/b/c"]}"#,
    422,
    "/targets/1"
)]
#[case::no_match("/api/v1/operations", r#"{"kind":"stop","targets":["packhouse/appi"]}"#, 404, "/targets/0")]
#[case::host_name("/api/v1/hosts", r#"{"name":"a b","address":"unix:///x"}"#, 422, "/name")]
#[case::host_taken("/api/v1/hosts", r#"{"name":"packhouse","address":"unix:///x"}"#, 409, "/name")]
#[case::host_address("/api/v1/hosts", r#"{"name":"x","address":"ftp://x"}"#, 422, "/address")]
#[case::open_tcp("/api/v1/hosts", r#"{"name":"x","address":"tcp://x:2375"}"#, 422, "/tls")]
#[case::bad_pem(
    "/api/v1/hosts",
    r#"{"name":"x","address":"tcp://x","tls":{"ca":"no","certificate":"no","key":"no"}}"#,
    422,
    "/tls/ca"
)]
#[case::token_name("/api/v1/tokens", r#"{"name":"  "}"#, 422, "/name")]
#[tokio::test]
async fn the_place_at_fault_is_named(
    #[case] path: &str,
    #[case] body: &str,
    #[case] status: u16,
    #[case] field: &str,
) {
    let bench = Bench::with(&["packhouse"]).await;
    let before = bench.client.operations(10).await.unwrap().len();
    let (answered, text) = bench.client.raw(Method::POST, path, Some(body.into())).await.unwrap();
    let problem: Problem = serde_json::from_slice(&text).unwrap();
    assert_eq!(
        (answered.as_u16(), problem.status, problem.field.as_deref()),
        (status, status, Some(field)),
        "{problem:?}"
    );
    assert!(problem.kind.starts_with("tag:gubernum,2026:") && problem.detail.len() > 20);
    assert_eq!(bench.client.operations(10).await.unwrap().len(), before, "nothing was done");
}

#[tokio::test]
async fn near_matches_and_candidates_are_listed() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let ask = async |target: &str| -> Problem {
        let body = format!(r#"{{"kind":"stop","targets":["{target}"]}}"#);
        let (_, text) =
            bench.client.raw(Method::POST, "/api/v1/operations", Some(body.into())).await.unwrap();
        serde_json::from_slice(&text).unwrap()
    };
    let near = ask("packhouse/wroker").await;
    assert_eq!((near.status, near.word()), (404, "not-found"));
    assert!(near.candidates.contains(&"packhouse/worker".to_owned()), "{near:?}");
    let ambiguous = ask("api").await;
    assert_eq!((ambiguous.status, ambiguous.word()), (409, "ambiguous"));
    assert_eq!(ambiguous.candidates, ["coldstore/api", "packhouse/api"]);
}

#[rstest]
#[case(Method::GET, "/api/v1/nothing", None, 404)]
#[case(Method::PUT, "/api/v1/operations", None, 405)]
#[case(Method::GET, "/api/v1/containers?colour=red", None, 400)]
#[case(Method::GET, "/api/v1/containers?state=sleepy", None, 400)]
#[case(Method::GET, "/api/v1/operations/many", None, 404)]
#[case(Method::GET, "/api/v1/containers/packhouse/api/logs?since=yesterday", None, 422)]
#[case(Method::GET, "/api/v1/containers/packhouse/api/logs?since=2999-01-01", None, 422)]
#[case(Method::GET, "/api/v1/containers/packhouse/api/logs?since=1m&until=1h", None, 422)]
#[case(Method::GET, "/api/v1/containers/packhouse/api/logs?stdout=false&stderr=false", None, 422)]
#[case(Method::GET, "/api/v1/containers/packhouse/*/logs", None, 422)]
#[case(Method::DELETE, "/api/v1/hosts/nowhere", None, 404)]
#[tokio::test]
async fn every_failure_is_a_problem(
    #[case] method: Method,
    #[case] path: &str,
    #[case] body: Option<Vec<u8>>,
    #[case] status: u16,
) {
    let bench = Bench::with(&["packhouse"]).await;
    let (answered, text) = bench.client.raw(method, path, body).await.unwrap();
    let problem: Problem =
        serde_json::from_slice(&text).unwrap_or_else(|e| panic!("{e}: {}", String::from_utf8_lossy(&text)));
    assert_eq!((answered.as_u16(), problem.status), (status, status), "{problem:?}");
}

#[tokio::test]
async fn a_body_too_large_is_refused() {
    let bench = Bench::with(&[]).await;
    let body = format!(r#"{{"name":"{}"}}"#, "x".repeat(600_000));
    let (status, text) = bench.client.raw(Method::POST, "/api/v1/tokens", Some(body.into())).await.unwrap();
    let problem: Problem = serde_json::from_slice(&text).unwrap();
    assert_eq!((status.as_u16(), problem.word()), (413, "too-large"));
}
