//! Claiming, signing in, tokens, and what is refused.

use gubernum_api::Problem;
use gubernum_api::requests::{Claim, NewToken, SignIn};
use gubernum_client::{Client, ClientError, Trust};
use reqwest::{Method, StatusCode};
use rstest::rstest;

use crate::support::{Bench, PASSWORD};

fn problem<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Problem {
    match result {
        Err(ClientError::Problem(problem)) => *problem,
        other => panic!("a problem was expected: {other:?}"),
    }
}

fn anonymous(bench: &Bench) -> Client {
    Client::new(&bench.service.url(), None, Trust::System).unwrap()
}

#[tokio::test]
async fn a_claim_code_works_once() {
    let bench = Bench::with(&[]).await;
    let code = bench.service.claim_code().unwrap().to_owned();
    assert!(!anonymous(&bench).service().await.unwrap().unclaimed);
    let again = Claim { code: code.clone(), member: "jory".into(), password: PASSWORD.into() };
    let used = problem(anonymous(&bench).claim(&again).await);
    let wrong = problem(anonymous(&bench).claim(&Claim { code: "AAAA-AAAA".into(), ..again }).await);
    assert_eq!((used.status, used.word()), (403, "claim-refused"));
    assert_eq!(used, wrong, "a used code looks like a wrong one");
    let audit = bench.client.audit().await.unwrap();
    assert_eq!(audit.iter().filter(|e| e.action == "claim" && e.outcome == "refused").count(), 2);
}

#[tokio::test]
async fn weak_passwords_are_refused_and_leave_the_code_valid() {
    let folder = tempfile::tempdir().unwrap();
    let service = crate::support::start(folder.path(), None, Default::default()).await;
    let client = Client::new(&service.url(), None, Trust::System).unwrap();
    let code = service.claim_code().unwrap().to_owned();
    let claim = Claim { code, member: "mara".into(), password: "password1234".into() };
    let refused = problem(client.claim(&claim).await);
    assert_eq!((refused.status, refused.field.as_deref()), (422, Some("/password")));
    crate::support::claim(&service).await;
}

#[tokio::test]
async fn wrong_names_and_wrong_passwords_are_reported_alike_and_slowed_down() {
    let bench = Bench::with(&[]).await;
    let client = anonymous(&bench);
    let sign_in = |member: &str, password: &str| {
        let (client, wish) =
            (client.clone(), SignIn { member: member.into(), password: password.into(), code: None });
        async move { client.sign_in(&wish).await }
    };
    assert_eq!(sign_in("MARA", PASSWORD).await.unwrap().me().await.unwrap().member, "mara");
    let name = problem(sign_in("nobody", PASSWORD).await);
    let password = problem(sign_in("mara", "wrong").await);
    assert_eq!(name, password);
    assert_eq!(name.status, 401);
    for _ in 0..4 {
        let _ = sign_in("mara", "wrong").await;
    }
    let slowed = problem(sign_in("mara", PASSWORD).await);
    assert_eq!((slowed.status, slowed.word()), (429, "slow-down"), "even the right one waits");
    bench.pass(400);
    sign_in("mara", PASSWORD).await.unwrap();
}

#[tokio::test]
async fn tokens_end_and_are_revoked() {
    let bench = Bench::with(&[]).await;
    let made = bench
        .client
        .make_token(&NewToken {
            name: "short".into(),
            expires_in_days: Some(1),
            bounds: None,
            networks: Vec::new(),
        })
        .await
        .unwrap();
    let client = Client::new(&bench.service.url(), Some(made.secret), Trust::System).unwrap();
    assert_eq!(client.me().await.unwrap().by, "token");
    let path = format!("/api/v1/tokens/{}", made.token.id);
    let other = bench
        .client
        .make_token(&NewToken {
            name: "other".into(),
            expires_in_days: None,
            bounds: None,
            networks: Vec::new(),
        })
        .await
        .unwrap();
    let other_client = Client::new(&bench.service.url(), Some(other.secret), Trust::System).unwrap();
    bench.pass(86_401);
    let ended = problem(client.me().await);
    let unknown =
        problem(Client::new(&bench.service.url(), Some("gbt_x".into()), Trust::System).unwrap().me().await);
    assert_eq!(bench.client.raw(Method::DELETE, &path, None).await.unwrap().0, StatusCode::NO_CONTENT);
    let path = format!("/api/v1/tokens/{}", other.token.id);
    assert_eq!(bench.client.raw(Method::DELETE, &path, None).await.unwrap().0, StatusCode::NO_CONTENT);
    let revoked = problem(other_client.me().await);
    assert_eq!((&ended, &unknown), (&unknown, &revoked), "told alike");
    assert_eq!(ended.status, 401);
    assert_eq!(bench.client.raw(Method::DELETE, &path, None).await.unwrap().0, StatusCode::NOT_FOUND);
}

#[tokio::test]
async fn wrong_tokens_are_counted_and_do_not_keep_right_ones_out() {
    let bench = Bench::with(&[]).await;
    let wrong = Client::new(&bench.service.url(), Some("gbt_wrong".into()), Trust::System).unwrap();
    let mut statuses = Vec::new();
    for _ in 0..7 {
        statuses.push(problem(wrong.me().await).status);
    }
    assert_eq!((statuses[0], statuses[6]), (401, 429), "{statuses:?}");
    assert_eq!(bench.client.me().await.unwrap().member, "mara");
}

#[tokio::test]
async fn a_session_ends_with_signing_out() {
    let bench = Bench::with(&[]).await;
    let session = anonymous(&bench)
        .sign_in(&SignIn { member: "mara".into(), password: PASSWORD.into(), code: None })
        .await
        .unwrap();
    assert_eq!(session.me().await.unwrap().by, "session");
    session.sign_out().await.unwrap();
    assert_eq!(problem(session.me().await).status, 401);
}

#[tokio::test]
async fn a_session_lasts_as_long_as_it_is_set() {
    let bench = Bench::with(&[]).await;
    let sign_in = SignIn { member: "mara".into(), password: PASSWORD.into(), code: None };
    for (hours, fine) in [(0, false), (2161, false), (12, true)] {
        let mut preferences = bench.client.preferences().await.unwrap();
        preferences.session_hours = hours;
        let set = bench.client.set_preferences(&preferences).await;
        assert_eq!(set.is_ok(), fine, "{hours} h: {set:?}");
        if !fine {
            assert_eq!(problem(set).field.as_deref(), Some("/session_hours"));
        }
    }
    let session = anonymous(&bench).sign_in(&sign_in).await.unwrap();
    bench.pass(12 * 3600 - 60);
    assert_eq!(session.me().await.unwrap().by, "session");
    bench.pass(60);
    assert_eq!(problem(session.me().await).status, 401);
}

#[rstest]
#[case::own(Some("own"), true)]
#[case::none(None, false)]
#[case::other(Some("https://orchard.example"), false)]
#[case::other_port(Some("http://127.0.0.1:1"), false)]
#[case::opaque(Some("null"), false)]
#[tokio::test]
async fn a_session_is_only_good_from_our_own_pages(#[case] origin: Option<&str>, #[case] fine: bool) {
    let bench = Bench::with(&[]).await;
    let url = bench.service.url();
    let http = reqwest::Client::new();
    let body = serde_json::json!({"member": "mara", "password": PASSWORD});
    let answer = http.post(format!("{url}/api/v1/sessions")).json(&body).send().await.unwrap();
    let cookie = answer.headers()["set-cookie"].to_str().unwrap().to_owned();
    let me: serde_json::Value = answer.json().await.unwrap();
    let key = me["key"].as_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let origin = origin.map(|o| if o == "own" { url.clone() } else { o.to_owned() });
    let ask = |request: reqwest::RequestBuilder| match &origin {
        Some(origin) => request.header("origin", origin),
        None => request,
    };
    let body = serde_json::json!({"name": "x"});
    let changing = ask(http
        .post(format!("{url}/api/v1/tokens"))
        .header("cookie", &cookie)
        .header("gubernum-key", &key)
        .json(&body));
    assert_eq!(changing.send().await.unwrap().status().is_success(), fine);
    let protocols = format!("gubernum, gubernum-key.{key}");
    let socket = ask(http.get(format!("{url}/api/v1/live")).header("cookie", &cookie))
        .header("sec-websocket-protocol", protocols)
        .header("connection", "upgrade")
        .header("upgrade", "websocket")
        .header("sec-websocket-version", "13")
        .header("sec-websocket-key", "dGhlIHNhbXBsZSBub25jZQ==");
    assert_eq!(socket.send().await.unwrap().status() == StatusCode::SWITCHING_PROTOCOLS, fine);
    // Reading is harmless: other sites cannot see the answer.
    let reading =
        ask(http.get(format!("{url}/api/v1/hosts")).header("cookie", &cookie).header("gubernum-key", &key));
    assert!(reading.send().await.unwrap().status().is_success());
}

#[tokio::test]
async fn every_answer_carries_strict_headers() {
    let bench = Bench::with(&[]).await;
    for path in ["/", "/api/v1/service", "/api/v1/hosts", "/openapi.json", "/assets/none.js"] {
        let answer = reqwest::get(format!("{}{path}", bench.service.url())).await.unwrap();
        let policy = answer.headers()["content-security-policy"].to_str().unwrap();
        assert!(
            policy.starts_with("default-src 'self'; style-src 'self' 'unsafe-inline';")
                && policy.matches("unsafe").count() == 1,
            "{path}: {policy}"
        );
        assert_eq!(answer.headers()["x-content-type-options"], "nosniff");
    }
}

#[tokio::test]
async fn nothing_but_the_way_in_is_open() {
    let bench = Bench::with(&["packhouse"]).await;
    for path in [
        "hosts",
        "containers",
        "fleet",
        "operations",
        "audit",
        "tokens",
        "sessions",
        "attention",
        "live",
        "containers/packhouse/api",
        "containers/packhouse/api/logs",
    ] {
        let answer = reqwest::get(format!("{}/api/v1/{path}", bench.service.url())).await.unwrap();
        let status = answer.status().as_u16();
        // A plain GET of the WebSocket's address may be told first that it is none.
        assert!(status == 401 || (path == "live" && status == 400), "{path}: {status}");
    }
}

#[tokio::test]
async fn answers_are_whole_when_they_are_packed() {
    let bench = Bench::with(&["packhouse"]).await;
    let path = format!("{}/api/v1/containers", bench.service.url());
    let wish = gubernum_api::requests::NewToken {
        name: "packed".into(),
        expires_in_days: None,
        bounds: None,
        networks: Vec::new(),
    };
    let token = bench.client.make_token(&wish).await.unwrap().secret;
    let ask = async |packing: &str| {
        let request = reqwest::Client::new().get(&path).bearer_auth(&token);
        let answer = request.header("accept-encoding", packing).send().await.unwrap();
        assert_eq!(answer.status(), 200);
        answer.bytes().await.unwrap()
    };
    let plain = ask("identity").await;
    let packed = ask("gzip").await;
    let mut unpacked = Vec::new();
    std::io::Read::read_to_end(&mut flate2::read::GzDecoder::new(&packed[..]), &mut unpacked).unwrap();
    assert_eq!(unpacked, plain);
}
