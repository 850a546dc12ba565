//! Attacks over raw HTTP on loopback: paths that climb, headers and lines that are injected, redirects that lead away, sessions that were
//! fixed before, requests of other sites, addresses that the service is made to ask.

use reqwest::{Method, StatusCode};
use rstest::rstest;
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

use crate::support::{Bench, PASSWORD};

/// Sends bytes as they are and gives the whole answer.
async fn raw(bench: &Bench, request: &str) -> String {
    let mut socket = tokio::net::TcpStream::connect(bench.service.address()).await.unwrap();
    let request = request.replace("HOST", &bench.service.address().to_string());
    socket.write_all(request.as_bytes()).await.unwrap();
    let mut answer = Vec::new();
    let _ = tokio::time::timeout(std::time::Duration::from_secs(10), socket.read_to_end(&mut answer)).await;
    String::from_utf8_lossy(&answer).into_owned()
}

#[rstest]
#[case("/../../../../etc/passwd")]
#[case("/assets/../../../../../etc/passwd")]
#[case("/%2e%2e/%2e%2e/%2e%2e/etc/passwd")]
#[case("/assets/..%2f..%2f..%2f..%2fetc/passwd")]
#[case("/assets/%252e%252e/%252e%252e/etc/passwd")]
#[case("/assets/..\\..\\..\\etc\\passwd")]
#[case("//etc/passwd")]
#[case("/api/v1/containers/..%2f..%2fetc/passwd/files")]
#[case("/gubernum.db")]
#[case("/seal.key")]
#[tokio::test]
async fn a_path_climbs_nowhere(#[case] path: &str) {
    let bench = Bench::with(&[]).await;
    let answer =
        raw(&bench, &format!("GET {path} HTTP/1.1\r\nHost: HOST\r\nConnection: close\r\n\r\n")).await;
    assert!(!answer.contains("root:x:") && !answer.contains("SQLite format"), "{answer}");
    // What is no page of the console is not there; a page is the console itself, which asks for a sign-in.
    let status = answer.split(' ').nth(1).unwrap_or_default();
    assert!(matches!(status, "200" | "400" | "401" | "404"), "{answer}");
}

#[rstest]
#[case("//elsewhere.example/%2e%2e")]
#[case("/\\elsewhere.example")]
#[case("//elsewhere.example")]
#[case("/api/v1/openid/callback?state=x&code=y&iss=https://elsewhere.example")]
#[case("/?next=https://elsewhere.example")]
#[case("/welcome?to=//elsewhere.example")]
#[tokio::test]
async fn no_redirect_leads_away(#[case] path: &str) {
    let bench = Bench::with(&[]).await;
    let answer =
        raw(&bench, &format!("GET {path} HTTP/1.1\r\nHost: HOST\r\nConnection: close\r\n\r\n")).await;
    let location = answer.lines().find_map(|l| l.strip_prefix("location: "));
    assert!(location.is_none_or(|to| to.starts_with("/#")), "{answer}");
}

#[rstest]
#[case::in_a_path("GET /%0d%0aSet-Cookie:%20a=b HTTP/1.1\r\nHost: HOST\r\nConnection: close\r\n\r\n")]
#[case::in_a_query(
    "GET /api/v1/openid/callback?state=x%0d%0aSet-Cookie:%20a=b HTTP/1.1\r\nHost: HOST\r\nConnection: close\r\n\r\n"
)]
#[case::in_a_header(
    "GET / HTTP/1.1\r\nHost: HOST\r\nX-Forwarded-For: a\r\n b: c\r\nConnection: close\r\n\r\n"
)]
#[case::two_lengths(
    "POST /api/v1/sessions HTTP/1.1\r\nHost: HOST\r\nContent-Length: 3\r\nContent-Length: 30\r\n\r\nabc"
)]
#[case::length_and_chunks(
    "POST /api/v1/sessions HTTP/1.1\r\nHost: HOST\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\nConnection: close\r\n\r\n0\r\n\r\nGET /x"
)]
#[case::two_hosts("GET / HTTP/1.1\r\nHost: HOST\r\nHost: elsewhere.example\r\nConnection: close\r\n\r\n")]
#[tokio::test]
async fn no_header_is_injected(#[case] request: &str) {
    let bench = Bench::with(&[]).await;
    let answer = raw(&bench, request).await;
    assert!(!answer.to_lowercase().contains("set-cookie: a=b"), "{answer}");
    assert!(answer.matches("HTTP/1.1 ").count() <= 1, "one request has one answer: {answer}");
    assert!(!answer.contains(" 500 "), "{answer}");
}

#[tokio::test]
async fn no_line_of_the_audit_log_is_injected() {
    let bench = Bench::with(&[]).await;
    let name = "mara\r\n2026-11-30 mara sign-in succeeded\u{1b}[2J\u{202e}";
    let body = json!({"member": name, "password": "x"});
    let url = format!("{}/api/v1/sessions", bench.service.url());
    assert_eq!(reqwest::Client::new().post(url).json(&body).send().await.unwrap().status(), 401);
    let (_, text) = bench.client.raw(Method::GET, "/api/v1/audit/export?action=sign-in", None).await.unwrap();
    let text = String::from_utf8(text.to_vec()).unwrap();
    let refused: Vec<&str> = text.lines().filter(|line| line.contains("refused")).collect();
    assert_eq!(refused.len(), 1, "{text}");
    assert!(!refused[0].chars().any(char::is_control), "{text}");
    for line in text.lines() {
        let entry: Value = serde_json::from_str(line).expect("each line is one entry");
        assert!(entry["outcome"] != "succeeded" || !entry["member"].as_str().unwrap().contains("2026"));
    }
}

#[tokio::test]
async fn a_session_that_was_there_before_is_not_taken_over() {
    let bench = Bench::with(&[]).await;
    let fixed = format!("gbs_{}", "A".repeat(43));
    let http = reqwest::Client::new();
    let url = bench.service.url();
    let body = json!({"member": "mara", "password": PASSWORD});
    let asked = http.post(format!("{url}/api/v1/sessions")).json(&body);
    let asked = asked.header("cookie", format!("gubernum_session={fixed}")).header("origin", &url);
    let answer = asked.send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::CREATED);
    let set: Vec<String> =
        answer.headers().get_all("set-cookie").iter().map(|v| v.to_str().unwrap().to_owned()).collect();
    let session = set.iter().find(|c| c.starts_with("gubernum_session=")).unwrap().clone();
    assert!(!session.contains(&fixed), "{session}");
    for word in ["HttpOnly", "SameSite=Strict", "Path=/"] {
        assert!(set.iter().all(|cookie| cookie.contains(word)), "{set:?}");
    }
    let key = answer.json::<Value>().await.unwrap()["key"].as_str().unwrap().to_owned();
    let before =
        http.get(format!("{url}/api/v1/hosts")).header("cookie", format!("gubernum_session={fixed}"));
    assert_eq!(before.header("gubernum-key", &key).send().await.unwrap().status(), 401);
}

#[rstest]
#[case::another_site("http://elsewhere.example")]
#[case::another_port("http://127.0.0.1:9")]
#[case::no_site("null")]
#[case::a_longer_name("ORIGIN.elsewhere.example")]
#[case::another_scheme("https://HOST")]
#[tokio::test]
async fn a_request_of_another_site_changes_nothing(#[case] origin: &str) {
    let bench = Bench::with(&["packhouse"]).await;
    let url = bench.service.url();
    let origin = origin.replace("ORIGIN", &url).replace("HOST", &bench.service.address().to_string());
    let http = reqwest::Client::new();
    let body = json!({"member": "mara", "password": PASSWORD});
    let answer = http.post(format!("{url}/api/v1/sessions")).json(&body).send().await.unwrap();
    let cookie = answer.headers().get_all("set-cookie").iter().next().unwrap().to_str().unwrap();
    let cookie = cookie.split(';').next().unwrap().to_owned();
    let key = answer.json::<Value>().await.unwrap()["key"].as_str().unwrap().to_owned();
    let freeze = json!({"scope": "fleet", "reason": "mischief", "hours": 1});
    let asked = http.post(format!("{url}/api/v1/freezes")).json(&freeze).header("cookie", &cookie);
    let asked = asked.header("gubernum-key", &key).header("origin", &origin);
    assert_eq!(asked.send().await.unwrap().status(), StatusCode::FORBIDDEN);
    assert!(bench.client.freezes().await.unwrap().is_empty());
    let upgrade = format!(
        "GET /api/v1/live HTTP/1.1\r\nHost: HOST\r\nConnection: Upgrade\r\nUpgrade: websocket\r\nOrigin: {origin}\r\n\
         Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\nCookie: {cookie}\r\n\
         Sec-WebSocket-Protocol: gubernum, gubernum-key.{key}\r\n\r\n"
    );
    let answer = raw(&bench, &upgrade).await;
    assert!(answer.starts_with("HTTP/1.1 403"), "{answer}");
}

#[rstest]
#[case::a_service_of_the_machines_provider("tcp://169.254.169.254:80")]
#[case::the_same_in_the_newer_protocol("tcp://[fe80::1]:80")]
#[case::a_file("file:///etc/passwd")]
#[case::a_page("http://127.0.0.1:1/")]
#[case::another_program("gopher://127.0.0.1:70/")]
#[case::an_account("tcp://root@127.0.0.1:2375")]
#[tokio::test]
async fn the_service_is_not_made_to_ask_elsewhere(#[case] address: &str) {
    let bench = Bench::with(&[]).await;
    let wish = json!({"name": "shed", "address": address}).to_string().into_bytes();
    let (status, text) = bench.client.raw(Method::POST, "/api/v1/hosts", Some(wish)).await.unwrap();
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{}", String::from_utf8_lossy(&text));
    assert!(bench.client.hosts().await.unwrap().is_empty());
    let registry = address.replace("tcp://", "http://");
    if registry.contains("169.254") || registry.contains("fe80") {
        let wish = json!({"address": registry}).to_string().into_bytes();
        let (status, text) =
            bench.client.raw(Method::POST, "/api/v1/registries/test", Some(wish)).await.unwrap();
        let told = String::from_utf8_lossy(&text);
        assert!(status.is_client_error() || told.contains("link-local"), "{status} {told}");
    }
}
