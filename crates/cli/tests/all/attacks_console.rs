//! Another site's page in the member's own browser: it frames the console, posts forms, opens sockets, reads answers and cookies. Each is tried in Chromium
//! with a member signed in, and comes to nothing.

use std::time::Duration;

use axum::Router;
use axum::response::Html;
use axum::routing::get;
use gubernum_testbed::browser::Browser;
use gubernum_testbed::started::Started;
use serde_json::{Value, json};

use crate::console::Page;
use crate::support::{binary, json as told, settled};

/// Serves another site's page, on another address of loopback; returns its address.
async fn another_site(page: String) -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.2:0").await.unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let app = Router::new().route("/", get(move || async move { Html(page) }));
    tokio::spawn(async move { axum::serve(listener, app).await });
    address
}

async fn asked(page: &Page<'_>, code: &str) -> Value {
    let script = format!(
        "const done = arguments[arguments.length - 1]; (async () => {{ {code} }})().then(done, e => done('failed: ' + e.name))"
    );
    page.0.execute_async(&script, Vec::new()).await.unwrap().json().clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn another_sites_page_reaches_nothing() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let service = demo.url().trim_end_matches('/').to_owned();
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;

    // What a script in the console's own page could read: no cookie of the session.
    let cookies = page.script("return document.cookie").await;
    assert!(!cookies.as_str().unwrap().contains("gubernum"), "{cookies}");
    // Text of a member is text: a note with markup runs nothing.
    let note = "<img src=x onerror=\"window.hurt = 1\"><script>window.hurt = 1</script>";
    let wrote = json!({"on": "fleet", "text": note, "pinned": true});
    let key = page.script("return sessionStorage.length + localStorage.length").await;
    assert!(key.as_u64().unwrap() > 0, "the key is kept by the page");
    let client = gubernum_client::Client::new(
        demo.url(),
        Some(demo.text("token").to_owned()),
        gubernum_client::Trust::System,
    );
    client.unwrap().write_note(&serde_json::from_value(wrote).unwrap()).await.unwrap();
    page.reads("[data-test=pinned]", "<img src=x").await;
    assert_eq!(page.script("return window.hurt ?? 0").await, json!(0));

    let form = format!(
        "<!doctype html><title>Another site</title><iframe id=frame src='{service}/'></iframe>\
         <form id=form method=post enctype='text/plain' action='{service}/api/v1/freezes' target=sink>\
         <input name='{{\"scope\":\"fleet\",\"reason\":\"mischief\",\"hours\":1,\"x\":\"' value='\"}}'></form><iframe name=sink></iframe>"
    );
    let site = another_site(form).await;
    page.0.goto(&site).await.unwrap();

    // Framed for a click that is meant for something else.
    let frame = page.find("#frame").await;
    tokio::time::timeout(Duration::from_secs(10), async {
        while asked(&page, "return document.readyState").await != "complete" {
            tokio::task::yield_now().await;
        }
    })
    .await
    .unwrap();
    frame.enter_frame().await.unwrap();
    let framed = page.script("return document.body ? document.body.innerText : ''").await;
    assert!(!framed.as_str().unwrap_or_default().contains("Gubernum"), "{framed}");
    page.0.enter_default_frame().await.unwrap();

    // Read, with the cookie along.
    for path in ["/api/v1/hosts", "/api/v1/sessions/current", "/api/v1/rights", "/api/v1/tokens"] {
        let answer = asked(
            &page,
            &format!("return (await fetch('{service}{path}', {{credentials: 'include'}})).text()"),
        )
        .await;
        assert_eq!(answer, json!("failed: TypeError"), "{path}");
    }
    // Changed without being asked first: a form, a plain text, a beacon.
    let body = r#"{"scope":"fleet","reason":"mischief","hours":1}"#;
    let posted = format!(
        "await fetch('{service}/api/v1/freezes', {{method: 'POST', mode: 'no-cors', credentials: 'include', headers: {{'content-type': 'text/plain'}}, body: '{body}'}}); return 'sent'"
    );
    assert_eq!(asked(&page, &posted).await, json!("sent"));
    asked(&page, &format!("return navigator.sendBeacon('{service}/api/v1/freezes', '{body}')")).await;
    page.script("document.getElementById('form').submit()").await;
    // A socket, with the cookie along.
    let socket = format!(
        "return new Promise(told => {{ const s = new WebSocket('{}/api/v1/live', ['gubernum']); s.onopen = () => told('open'); s.onerror = () => told('refused'); }})",
        service.replace("http://", "ws://")
    );
    assert_eq!(asked(&page, &socket).await, json!("refused"));
    // The console in a window that the other site opened: nothing of it can be touched.
    let opened = format!(
        "const w = window.open('{service}/'); await new Promise(r => setTimeout(r, 500)); try {{ return w.document.body.innerText }} catch (e) {{ return e.name }}"
    );
    let opened = asked(&page, &opened).await;
    assert!(opened == json!("SecurityError") || opened == json!("TypeError") || opened.is_null(), "{opened}");

    // Cut off from what it opened, the other site cannot even close it; the member does.
    let own = page.0.window().await.unwrap();
    for window in page.0.windows().await.unwrap() {
        if window != own {
            page.0.switch_to_window(window).await.unwrap();
            page.0.close_window().await.unwrap();
        }
    }
    page.0.switch_to_window(own).await.unwrap();
    assert_eq!(told(&demo, &["list", "freezes"]), json!([]), "nothing was changed");
    // And the member is still signed in.
    page.0.goto(demo.url()).await.unwrap();
    page.find("[data-test=matrix] .cell").await;
}
