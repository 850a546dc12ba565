//! Attacks on the service's doors from loopback: cookies collected by another port, things that outlive their
//! credential, forged addresses, lock-outs, silent connections. Each test is named after what it protects.

use std::net::{IpAddr, Ipv4Addr};
use std::time::Duration;

use gubernum_api::requests::{NewToken, SignIn};
use gubernum_api::terminals::NewTerminal;
use gubernum_api::{FromClient, FromServer};
use gubernum_client::{Client, LogOptions, Trust};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

use crate::support::{Bench, PASSWORD, until};

/// A signed-in browser: its cookie and its key.
struct Browser {
    http: reqwest::Client,
    url: String,
    cookie: String,
    key: String,
}

impl Browser {
    async fn sign_in(bench: &Bench) -> Self {
        let (http, url) = (reqwest::Client::new(), bench.service.url());
        let body = json!({"member": "mara", "password": PASSWORD});
        let answer = http.post(format!("{url}/api/v1/sessions")).json(&body).send().await.unwrap();
        let cookies = answer.headers().get_all("set-cookie").iter().map(|v| v.to_str().unwrap().to_owned());
        let cookie = cookies.map(|c| c.split(';').next().unwrap().to_owned()).collect::<Vec<_>>().join("; ");
        let key = answer.json::<Value>().await.unwrap()["key"].as_str().unwrap().to_owned();
        Self { http, url, cookie, key }
    }

    /// As another program on this host could ask: with the cookie, and whatever Origin it likes.
    fn with_cookie(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        let request = self.http.request(method, format!("{}{path}", self.url));
        request.header("cookie", &self.cookie).header("origin", &self.url)
    }
}

#[tokio::test]
async fn a_collected_cookie_alone_is_of_no_use() {
    let bench = Bench::with(&["packhouse"]).await;
    let browser = Browser::sign_in(&bench).await;
    let status = async |request: reqwest::RequestBuilder| request.send().await.unwrap().status();
    for path in ["/api/v1/hosts", "/api/v1/containers/packhouse/api/logs", "/api/v1/fleet"] {
        assert_eq!(status(browser.with_cookie(Method::GET, path)).await, 401, "{path}");
        let wrong = browser.with_cookie(Method::GET, path).header("gubernum-key", "x");
        assert_eq!(status(wrong).await, 401, "{path}");
        let right = browser.with_cookie(Method::GET, path).header("gubernum-key", &browser.key);
        assert_eq!(status(right).await, 200, "{path}");
    }
    let stop = json!({"kind": "stop", "targets": ["packhouse/api"]});
    let stopping = || browser.with_cookie(Method::POST, "/api/v1/operations").json(&stop);
    assert_eq!(status(stopping()).await, 401);
    assert_eq!(status(stopping().header("gubernum-key", &browser.key)).await, 202);
    let socket = || {
        browser
            .with_cookie(Method::GET, "/api/v1/live")
            .header("connection", "upgrade")
            .header("upgrade", "websocket")
            .header("sec-websocket-version", "13")
            .header("sec-websocket-key", "dGhlIHNhbXBsZSBub25jZQ==")
    };
    assert_eq!(status(socket().header("sec-websocket-protocol", "gubernum")).await, 401);
    let offered = format!("gubernum, gubernum-key.{}", browser.key);
    let opened = socket().header("sec-websocket-protocol", offered).send().await.unwrap();
    assert_eq!(opened.status(), StatusCode::SWITCHING_PROTOCOLS);
    assert_eq!(opened.headers()["sec-websocket-protocol"], "gubernum", "the key is not told again");
}

#[tokio::test]
async fn a_ticket_is_valid_for_one_download_of_one_session_once() {
    let bench = Bench::with(&["packhouse"]).await;
    let (browser, other) = (Browser::sign_in(&bench).await, Browser::sign_in(&bench).await);
    let path = "/api/v1/logs?reference=packhouse/api&format=text";
    let ticket = async || {
        let request =
            browser.with_cookie(Method::POST, "/api/v1/tickets").header("gubernum-key", &browser.key);
        let answer = request.json(&json!({"path": path})).send().await.unwrap();
        assert_eq!(answer.status(), 201);
        answer.json::<Value>().await.unwrap()["address"].as_str().unwrap().to_owned()
    };
    let get = async |browser: &Browser, path: &str| {
        let request = browser.http.get(format!("{}{path}", browser.url)).header("cookie", &browser.cookie);
        request.send().await.unwrap().status().as_u16()
    };
    let address = ticket().await;
    assert_eq!(get(&browser, &address).await, 200);
    assert_eq!(get(&browser, &address).await, 401, "once");
    assert_eq!(get(&other, &ticket().await).await, 401, "of another session");
    let elsewhere = ticket().await.replace("packhouse/api", "packhouse/store");
    assert_eq!(get(&browser, &elsewhere).await, 401, "for another path");
    let without = browser.http.get(format!("{}{}", browser.url, ticket().await)).send().await.unwrap();
    assert_eq!(without.status(), 401, "without the cookie");
}

/// Opens everything that stays open in the name of `client`, ends the credential, and waits for all of it to end.
async fn ends_with(bench: &Bench, client: &Client, end: impl AsyncFnOnce()) {
    let mut live = client.live().await.unwrap();
    live.send(&FromClient::Fleet { id: 1, since: None }).await.unwrap();
    assert!(matches!(live.next().await.unwrap(), Some(FromServer::Snapshot { .. })));
    let options = LogOptions { follow: true, stdout: true, stderr: true, ..LogOptions::default() };
    let mut log = client.logs("packhouse/api", &options).await.unwrap();
    let many = [("reference", "packhouse/*".to_owned()), ("follow", "true".to_owned())];
    let mut logs = client.merged_logs(&many).await.unwrap();
    let wish = serde_json::from_value::<NewTerminal>(
        json!({"container": "packhouse/api", "columns": 80, "rows": 24}),
    )
    .unwrap();
    let terminal = client.open_terminal(&wish).await.unwrap();
    let mut held = client.hold_terminal(&terminal.id).await.unwrap();
    end().await;
    let limit = Duration::from_secs(2);
    let over = async {
        while let Ok(Some(_)) = live.next().await {}
        while let Ok(Some(_)) = log.next().await {}
        while let Ok(Some(_)) = logs.next().await {}
        while let gubernum_client::FromTerminal::Text(_) = held.next().await {}
    };
    tokio::time::timeout(limit, over).await.expect("all of it ends within 2 s");
    // The shell itself has ended too, not only the connection to it.
    let shell_ended = async || {
        let audit = bench.client.audit().await.unwrap();
        audit.iter().any(|e| e.action == "close-terminal" && e.outcome.contains("has ended"))
    };
    until("the shell is ended", Duration::from_secs(20), shell_ended).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_outlives_a_revoked_token() {
    let bench = Bench::with(&["packhouse"]).await;
    let made = bench
        .client
        .make_token(&NewToken {
            name: "ci".into(),
            expires_in_days: None,
            bounds: None,
            networks: Vec::new(),
        })
        .await
        .unwrap();
    let client = Client::new(&bench.service.url(), Some(made.secret), Trust::System).unwrap();
    let path = format!("/api/v1/tokens/{}", made.token.id);
    ends_with(&bench, &client, async || {
        assert_eq!(bench.client.raw(Method::DELETE, &path, None).await.unwrap().0, 204);
    })
    .await;
    let audit = bench.client.audit().await.unwrap();
    assert!(
        audit.iter().any(|e| e.action == "revoke-token" && e.object.starts_with("ci (token")),
        "{audit:?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_outlives_a_token_that_expires() {
    let bench = Bench::with(&["packhouse"]).await;
    let made = bench
        .client
        .make_token(&NewToken {
            name: "day".into(),
            expires_in_days: Some(1),
            bounds: None,
            networks: Vec::new(),
        })
        .await
        .unwrap();
    let client = Client::new(&bench.service.url(), Some(made.secret), Trust::System).unwrap();
    ends_with(&bench, &client, async || bench.pass(86_401)).await;
}

#[tokio::test]
async fn an_upload_ends_with_its_credential() {
    let bench = Bench::with(&["packhouse"]).await;
    let made = bench
        .client
        .make_token(&NewToken {
            name: "ci".into(),
            expires_in_days: None,
            bounds: None,
            networks: Vec::new(),
        })
        .await
        .unwrap();
    let (sender, receiver) = tokio::sync::mpsc::channel::<Result<Vec<u8>, std::io::Error>>(1);
    let body = reqwest::Body::wrap_stream(tokio_stream::wrappers::ReceiverStream::new(receiver));
    let address = format!("{}/api/v1/containers/packhouse/api/archive?path=/srv", bench.service.url());
    let request = reqwest::Client::new().put(address).bearer_auth(&made.secret).body(body).send();
    let sending = tokio::spawn(request);
    sender.send(Ok(vec![0; 100])).await.unwrap();
    let path = format!("/api/v1/tokens/{}", made.token.id);
    assert_eq!(bench.client.raw(Method::DELETE, &path, None).await.unwrap().0, 204);
    let outcome = tokio::time::timeout(Duration::from_secs(2), sending).await.expect("it ends").unwrap();
    assert!(outcome.is_err() || !outcome.unwrap().status().is_success());
}

fn from(address: [u8; 4]) -> reqwest::Client {
    let local = IpAddr::V4(Ipv4Addr::from(address));
    reqwest::Client::builder().local_address(local).build().unwrap()
}

async fn try_password(bench: &Bench, http: &reqwest::Client, password: &str, cookie: &str) -> u16 {
    let body = json!({"member": "mara", "password": password});
    let request = http.post(format!("{}/api/v1/sessions", bench.service.url())).json(&body);
    request
        .header("cookie", cookie)
        .header("origin", bench.service.url())
        .send()
        .await
        .unwrap()
        .status()
        .as_u16()
}

#[tokio::test]
async fn nobody_can_lock_an_account_out() {
    let bench = Bench::with(&[]).await;
    let known = Browser::sign_in(&bench).await;
    let stranger = from([127, 0, 0, 77]);
    let mut statuses = Vec::new();
    for _ in 0..13 {
        statuses.push(try_password(&bench, &stranger, "wrong", "").await);
    }
    assert!(statuses.contains(&429), "whoever guesses waits: {statuses:?}");
    assert_eq!(try_password(&bench, &from([127, 0, 0, 1]), PASSWORD, "").await, 201, "others do not");
    // A browser that signed in before passes even from where the guesses come.
    assert_eq!(try_password(&bench, &stranger, PASSWORD, "").await, 429);
    assert_eq!(try_password(&bench, &stranger, PASSWORD, &known.cookie).await, 201);
    let forged = "gubernum_known=abcdef.0000000000000000000000000000000000000000000000000000000000000000";
    assert_eq!(try_password(&bench, &stranger, PASSWORD, forged).await, 429);
}

#[tokio::test]
async fn an_address_is_believed_only_from_a_proxy_that_is_named() {
    let bench = Bench::with(&[]).await;
    let http = reqwest::Client::new();
    let body = json!({"member": "mara", "password": PASSWORD});
    let sign_in = http.post(format!("{}/api/v1/sessions", bench.service.url())).json(&body);
    let answer =
        sign_in.header("x-forwarded-for", "203.0.113.5").header("forwarded", "for=203.0.113.6").send();
    assert_eq!(answer.await.unwrap().status(), 201);
    let audit = bench.client.audit().await.unwrap();
    let entry = audit.iter().find(|e| e.action == "sign-in").unwrap();
    assert_eq!(entry.address, "127.0.0.1", "it was not named");

    let folder = tempfile::tempdir().unwrap();
    let service = crate::support::start_with(folder.path(), |settings| {
        settings.trusted_proxies = vec!["127.0.0.0/8".parse().unwrap()];
    })
    .await;
    let client = crate::support::claim(&service).await;
    for (member, address) in [("mara", "203.0.113.5"), ("nobody", "203.0.113.9")] {
        let body = json!({"member": member, "password": PASSWORD});
        let sign_in = http.post(format!("{}/api/v1/sessions", service.url())).json(&body);
        // What the client wrote itself is before what the proxy added.
        sign_in.header("x-forwarded-for", format!("192.0.2.1, {address}")).send().await.unwrap();
    }
    let audit = client.audit().await.unwrap();
    let addresses: Vec<&str> =
        audit.iter().filter(|e| e.action == "sign-in").map(|e| e.address.as_str()).collect();
    assert_eq!(addresses, ["203.0.113.9", "203.0.113.5"]);
}

#[tokio::test]
async fn another_name_that_leads_here_is_refused() {
    let bench = Bench::with(&[]).await;
    let address = bench.service.address();
    let status = async |host: &str| {
        let mut socket = tokio::net::TcpStream::connect(address).await.unwrap();
        let request = format!("GET /api/v1/service HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n");
        socket.write_all(request.as_bytes()).await.unwrap();
        let mut answer = String::new();
        socket.read_to_string(&mut answer).await.unwrap();
        answer.split(' ').nth(1).unwrap().to_owned()
    };
    assert_eq!(status("elsewhere.example").await, "421");
    assert_eq!(status(&format!("localhost:{}", address.port())).await, "200");
    assert_eq!(status(&address.to_string()).await, "200");
}

#[tokio::test]
async fn silent_connections_and_slow_bodies_end() {
    let bench = Bench::with(&[]).await;
    let address = bench.service.address();
    let mut silent = Vec::new();
    for _ in 0..300 {
        silent.push(tokio::net::TcpStream::connect(address).await.unwrap());
    }
    let health = reqwest::get(format!("{}/healthz", bench.service.url())).await.unwrap();
    assert_eq!(health.status(), 200);
    let mut slow = tokio::net::TcpStream::connect(address).await.unwrap();
    let head = format!(
        "POST /api/v1/sessions HTTP/1.1\r\nHost: {address}\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n"
    );
    slow.write_all(head.as_bytes()).await.unwrap();
    let (mut reading, mut writing) = slow.into_split();
    let dripping = tokio::spawn(async move {
        while writing.write_all(b" ").await.is_ok() {
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
    });
    let mut answer = [0; 12];
    let read = tokio::time::timeout(Duration::from_secs(40), reading.read_exact(&mut answer)).await;
    read.expect("it ends").unwrap();
    assert_eq!(&answer, b"HTTP/1.1 408");
    dripping.abort();
    // By now the silent ones have been closed too.
    for mut socket in silent.into_iter().take(5) {
        let closed = tokio::time::timeout(Duration::from_secs(5), socket.read(&mut answer)).await;
        assert!(matches!(closed.expect("it is closed"), Ok(0) | Err(_)));
    }
}

#[tokio::test]
async fn one_member_cannot_take_all_live_places() {
    let bench = Bench::with(&[]).await;
    let mut open = Vec::new();
    let refused = loop {
        match bench.client.live().await {
            Ok(live) => open.push(live),
            Err(error) => break error,
        }
        assert!(open.len() <= 100, "no end to it");
    };
    assert!(refused.to_string().contains("too many live connections"), "{refused}");
    open.pop();
    until("a place is free again", Duration::from_secs(5), async || bench.client.live().await.is_ok()).await;
}

#[tokio::test]
async fn unread_logs_of_a_member_are_bounded() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut connections = Vec::new();
    let mut refused = 0;
    for _ in 0..4 {
        let mut live = bench.client.live().await.unwrap();
        for id in 0..32 {
            let wish = gubernum_api::logs::LogRequest {
                references: vec!["*/*".into()],
                follow: true,
                ..Default::default()
            };
            live.send(&FromClient::Logs { id, wish }).await.unwrap();
        }
        live.send(&FromClient::Fleet { id: 99, since: None }).await.unwrap();
        loop {
            match live.next().await.unwrap() {
                Some(FromServer::Refused { problem, .. }) => {
                    assert_eq!(problem.status, 429, "{problem:?}");
                    refused += 1;
                }
                Some(FromServer::Snapshot { .. }) => break,
                _ => {}
            }
        }
        connections.push(live);
    }
    assert!(refused >= 64, "{refused}");
}

#[tokio::test]
async fn sign_in_out_and_tests_are_written_down() {
    let bench = Bench::with(&["packhouse"]).await;
    let anonymous = Client::new(&bench.service.url(), None, Trust::System).unwrap();
    let wish = SignIn { member: "mara".into(), password: PASSWORD.into(), code: None };
    let (one, two) = (anonymous.sign_in(&wish).await.unwrap(), anonymous.sign_in(&wish).await.unwrap());
    let sessions: Vec<gubernum_api::views::Session> =
        serde_json::from_slice(&one.raw(Method::GET, "/api/v1/sessions", None).await.unwrap().1).unwrap();
    let other = sessions.iter().find(|s| !s.current).unwrap();
    one.raw(Method::DELETE, &format!("/api/v1/sessions/{}", other.id), None).await.unwrap();
    assert!(two.me().await.is_err() || sessions.len() > 2);
    let test = json!({"name": "packhouse"});
    one.raw(Method::POST, "/api/v1/hosts/test", Some(test.to_string().into_bytes())).await.unwrap();
    one.raw(Method::POST, "/api/v1/image-checks", None).await.unwrap();
    one.raw(Method::PUT, "/api/v1/preferences", Some(json!({"kept_earlier": 7}).to_string().into_bytes()))
        .await
        .unwrap();
    one.sign_out().await.unwrap();
    let audit = bench.client.audit().await.unwrap();
    for action in ["sign-out", "end-session", "test-host", "check-images"] {
        assert!(audit.iter().any(|e| e.action == action), "{action}: {audit:?}");
    }
    let set = audit.iter().find(|e| e.action == "set-preferences").unwrap();
    assert!(set.outcome.contains("kept_earlier: 5 → 7") || set.outcome.contains("→ 7"), "{set:?}");
}
