//! The team at work together: freezes hold others off, whatever way they come, and end.

use gubernum_api::Problem;
use gubernum_api::team::{Freeze, NewFreeze};
use gubernum_client::{Client, ClientError};
use reqwest::{Method, StatusCode};
use rstest::rstest;
use serde_json::{Value, json};

use crate::support::Bench;

fn problem<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Problem {
    match result {
        Err(ClientError::Problem(problem)) => *problem,
        other => panic!("a problem was expected: {other:?}"),
    }
}

async fn freeze(client: &Client, scope: &str) -> Result<Freeze, ClientError> {
    let reason = "the harvest is counted".to_owned();
    client.freeze(&NewFreeze { scope: scope.parse().unwrap(), reason, hours: 2 }).await
}

async fn preview(client: &Client, body: Value) -> (StatusCode, Value) {
    let body = Some(body.to_string().into_bytes());
    let (status, text) = client.raw(Method::POST, "/api/v1/operations/preview", body).await.unwrap();
    (status, serde_json::from_slice(&text).unwrap())
}

fn restart(targets: &[&str]) -> Value {
    json!({"kind": "restart", "targets": targets})
}

#[tokio::test]
async fn others_are_held_off_and_hear_who_until_when_and_why() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    let set = freeze(&jory, "host:packhouse").await.unwrap();
    let (status, answer) = preview(&bench.client, restart(&["packhouse/api"])).await;
    assert_eq!((status, answer["type"].as_str().unwrap().ends_with("frozen")), (StatusCode::CONFLICT, true));
    for words in ["packhouse/api", "jory", "the harvest is counted"] {
        assert!(answer["detail"].as_str().unwrap().contains(words), "{answer}");
    }
    // Of several targets those that are not frozen are changed.
    let (status, answer) = preview(&bench.client, restart(&["*/api"])).await;
    assert_eq!(status, StatusCode::OK);
    let refused: Vec<&Value> =
        answer["targets"].as_array().unwrap().iter().filter(|t| t["refused"].is_string()).collect();
    assert!(refused.len() == 1 && refused[0]["host"] == "packhouse", "{answer}");
    let (status, _) = preview(&jory, restart(&["packhouse/api"])).await;
    assert_eq!(status, StatusCode::OK, "whoever set it may");
    assert_eq!(bench.client.freezes().await.unwrap(), std::slice::from_ref(&set));
    // Whoever is no admin lifts their own only.
    let tess = bench.member("tess", &["operator@fleet"]).await;
    assert_eq!(problem(tess.lift_freeze(set.id).await).word(), "not-allowed");
    bench.client.lift_freeze(set.id).await.unwrap();
    let (status, _) = preview(&bench.client, restart(&["packhouse/api"])).await;
    assert_eq!(status, StatusCode::OK);
    let audit = bench.client.audit().await.unwrap();
    let told = |member: &str, action: &str| audit.iter().any(|e| e.member == member && e.action == action);
    assert!(told("jory", "freeze") && told("mara", "lift-freeze"), "{audit:?}");
}

#[tokio::test]
async fn a_freeze_ends_by_itself_and_outlives_a_restart() {
    let mut bench = Bench::with(&["packhouse"]).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    freeze(&jory, "fleet").await.unwrap();
    bench.restart().await;
    bench.until("all is listed again", async |b| b.all().await.len() == 3).await;
    let (status, _) = preview(&bench.client, restart(&["packhouse/api"])).await;
    assert_eq!(status, StatusCode::CONFLICT);
    bench.pass(2 * 3600 + 1);
    let (status, _) = preview(&bench.client, restart(&["packhouse/api"])).await;
    assert_eq!(status, StatusCode::OK);
    assert!(bench.client.freezes().await.unwrap().is_empty());
}

#[rstest]
#[case::a_file(Method::PUT, "/api/v1/containers/packhouse/api/file?path=/etc/motd")]
#[case::files(Method::POST, "/api/v1/containers/packhouse/api/file-changes")]
#[case::a_volume(Method::PUT, "/api/v1/volumes/packhouse/data/file?path=/x")]
#[case::a_source(Method::DELETE, "/api/v1/stacks/packhouse/orchard/source")]
#[case::a_host(Method::DELETE, "/api/v1/hosts/packhouse")]
#[case::a_build(Method::POST, "/api/v1/hosts/packhouse/builds?tag=x:1")]
#[tokio::test]
async fn what_is_no_operation_is_held_off_too(#[case] method: Method, #[case] path: &str) {
    let bench = Bench::with(&["packhouse"]).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    freeze(&jory, "host:packhouse").await.unwrap();
    let (status, text) = bench.client.raw(method, path, Some(b"{}".to_vec())).await.unwrap();
    let text = String::from_utf8_lossy(&text);
    assert!(status == StatusCode::CONFLICT && text.contains("frozen"), "{status} {text}");
}

#[rstest]
#[case("operator@host:packhouse", "host:packhouse", true)]
#[case("operator@host:packhouse", "host:coldstore", false)]
#[case("operator@host:packhouse", "fleet", false)]
#[case("viewer@fleet", "host:packhouse", false)]
#[case("operator@stack:orchard", "stack:packhouse/orchard", true)]
#[tokio::test]
async fn nobody_freezes_what_they_may_not_deploy_to(
    #[case] grant: &str,
    #[case] scope: &str,
    #[case] may: bool,
) {
    let bench = Bench::with(&["packhouse"]).await;
    let tess = bench.member("tess", &[grant]).await;
    assert_eq!(freeze(&tess, scope).await.is_ok(), may);
}

#[tokio::test]
async fn a_freeze_is_shown_to_those_whom_it_concerns() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    freeze(&bench.client, "host:coldstore").await.unwrap();
    let tess = bench.member("tess", &["viewer@host:packhouse"]).await;
    assert!(tess.freezes().await.unwrap().is_empty());
    freeze(&bench.client, "fleet").await.unwrap();
    assert_eq!(tess.freezes().await.unwrap().len(), 1);
}
