//! Every call of the interface with what is invalid: each is refused in a sentence that a person can read, at a place
//! where it is wrong, and nothing breaks.

use std::time::Duration;

use gubernum_client::Client;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::description_calls::calls;
use crate::support::{Bench, until};

/// Values that no field is meant to have; a field of that kind may still take one of them.
fn odd_values() -> Vec<Value> {
    vec![
        Value::Null,
        json!(true),
        json!(-1),
        json!(1e300),
        json!(""),
        json!("\u{0}\u{1b}[31m\u{202e}"),
        json!("-–'\"; DROP TABLE hosts; --"),
        json!("../../../etc/passwd"),
        json!("a".repeat(70_000)),
        json!([]),
        json!({"x": {"y": []}}),
        json!([[[[[[[[["deep"]]]]]]]]]),
    ]
}

/// The body with each of its fields set to something odd, left out, and with one that nobody knows; and what is no body.
fn odd_bodies(body: &Value) -> Vec<Vec<u8>> {
    let deep = format!("{}1{}", "[".repeat(5_000), "]".repeat(5_000));
    let mut all: Vec<Vec<u8>> = vec![
        b"".to_vec(),
        b"{".to_vec(),
        b"\xff\xfe\x00".to_vec(),
        b"null".to_vec(),
        b"[]".to_vec(),
        deep.into_bytes(),
    ];
    let Some(fields) = body.as_object() else { return all };
    let mut put = |changed: Value| all.push(changed.to_string().into_bytes());
    for name in fields.keys() {
        for value in odd_values() {
            let mut changed = body.clone();
            changed[name] = value;
            put(changed);
        }
        let mut without = body.clone();
        without.as_object_mut().unwrap().remove(name);
        put(without);
    }
    let mut more = body.clone();
    more["nobody_knows_this"] = json!(1);
    put(more);
    all
}

/// Paths with something odd in place of each name and each value of the query.
fn odd_paths(path: &str, real: &str) -> Vec<String> {
    const ODD: [&str; 6] = ["%00", "%2e%2e", "..%2f..%2fetc", "%F0%9F%90%B3", "%27%22%3B--", "%"];
    let (place, query) = real.split_once('?').unwrap_or((real, ""));
    let long = "x".repeat(6_000);
    let mut all = Vec::new();
    for odd in ODD.into_iter().chain([long.as_str()]) {
        let described = path.split('/').zip(place.split('/'));
        let parts: Vec<&str> = described.map(|(d, r)| if d.starts_with('{') { odd } else { r }).collect();
        all.push(format!("{}?{query}", parts.join("/")));
        for (n, _) in query.split('&').enumerate().filter(|(_, pair)| !pair.is_empty()) {
            let changed = query.split('&').enumerate().map(|(m, pair)| match pair.split_once('=') {
                Some((name, _)) if m == n => format!("{name}={odd}"),
                _ => pair.to_owned(),
            });
            all.push(format!("{place}?{}", changed.collect::<Vec<_>>().join("&")));
        }
    }
    all.push(format!("{place}?{query}&nobody_knows_this=1"));
    all
}

async fn is_refused_or_done(
    client: &Client,
    method: &Method,
    path: &str,
    body: Option<Vec<u8>>,
) -> StatusCode {
    let sent = body.as_ref().map(|b| String::from_utf8_lossy(&b[..b.len().min(200)]).into_owned());
    let place = &path[..path.len().min(120)];
    let answer = client.raw(method.clone(), path, body).await;
    let (status, text) = answer.unwrap_or_else(|e| panic!("{method} {place} {sent:?}: {e}"));
    // An engine or a registry that cannot be reached is no fault of the service's.
    let fine = status.is_success() || status.is_client_error() || status == StatusCode::BAD_GATEWAY;
    assert!(fine, "{method} {place} {sent:?}: {status} {}", String::from_utf8_lossy(&text));
    if !status.is_success() && !text.is_empty() {
        let problem: Value = serde_json::from_slice(&text).unwrap_or_else(|e| {
            panic!("{method} {place} {sent:?}: {status}: {e}: {}", String::from_utf8_lossy(&text))
        });
        let detail = problem["detail"].as_str().unwrap_or_default();
        assert!(!detail.is_empty() && detail.chars().count() < 2_000, "{method} {place} {sent:?}: {problem}");
        assert!(
            !detail.contains('\u{1b}') && !detail.contains('\0'),
            "{method} {place} {sent:?}: {detail:?}"
        );
        assert_eq!(problem["status"], status.as_u16(), "{method} {place}");
    }
    status
}

#[tokio::test(flavor = "multi_thread")]
async fn odd_bodies_are_refused_and_nothing_breaks() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut refused = 0;
    for call in calls() {
        let Some(body) = call.body.as_ref().filter(|_| call.status < 300 || call.status == 422) else {
            continue;
        };
        for odd in odd_bodies(body) {
            let status = is_refused_or_done(&bench.client, &call.method, call.real, Some(odd)).await;
            refused += usize::from(status.is_client_error());
        }
    }
    assert!(refused > 500, "{refused} were refused");
    still_serves(&bench).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn odd_paths_are_refused_and_nothing_breaks() {
    let bench = Bench::with(&["packhouse"]).await;
    for call in calls().into_iter().filter(|c| c.method == Method::GET || c.real.contains('?')) {
        for path in odd_paths(call.path, call.real) {
            let body = call.body.as_ref().map(|b| b.to_string().into_bytes());
            is_refused_or_done(&bench.client, &call.method, &path, body).await;
        }
    }
    still_serves(&bench).await;
}

/// The service lives, knows its fleet, and its records are whole.
async fn still_serves(bench: &Bench) {
    until("it knows its fleet", Duration::from_secs(20), async || {
        bench.client.containers(&[("host", "packhouse".into())]).await.is_ok_and(|all| all.len() >= 3)
    })
    .await;
    assert!(!bench.client.audit().await.unwrap().is_empty());
    bench.client.operations(100).await.unwrap();
    assert_eq!(bench.client.raw(Method::GET, "/readyz", None).await.unwrap().0, StatusCode::OK);
}
