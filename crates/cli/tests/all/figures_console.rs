//! One figure, asked from the pages, the client and the API of the demo: the same everywhere.

use std::time::Duration;

use gubernum_testbed::browser::Browser;
use gubernum_testbed::started::Started;
use serde_json::Value;

use crate::acting_console::press;
use crate::console::Page;
use crate::support::{binary, demo, json, settled};

pub(crate) async fn asked(demo: &Started, path: &str) -> Value {
    let answer = reqwest::Client::new()
        .get(format!("{}{path}", demo.url()))
        .bearer_auth(demo.text("token"))
        .send()
        .await
        .unwrap();
    answer.json().await.unwrap()
}

fn count(rows: &Value, wanted: impl Fn(&Value) -> bool) -> u64 {
    rows.as_array().into_iter().flatten().filter(|r| wanted(r)).count() as u64
}

fn needs(row: &Value) -> bool {
    row["attention"].is_object() && row["attention"]["severity"] != "notice"
}

/// The first number of a text.
fn number(text: &str) -> Option<u64> {
    text.split(|c: char| !c.is_ascii_digit()).find(|p| !p.is_empty())?.parse().ok()
}

/// What differs now between the three; the demo's fleet never stands still.
async fn differences(demo: &Started, page: &Page<'_>) -> Vec<String> {
    let api = asked(demo, "/api/v1/figures").await;
    let containers = json(demo, &["list", "containers"]);
    let hosts = json(demo, &["list", "hosts"]);
    let unused = json(demo, &["list", "images", "--unused"]);
    let attention = json(demo, &["list", "attention"]);
    let mut found = Vec::new();
    let mut same = |what: &str, api: &Value, other: Option<u64>| {
        if api.as_u64() != other {
            found.push(format!("{what}: {api} and {other:?}"));
        }
    };
    same("containers", &api["containers"], Some(count(&containers, |_| true)));
    same("up", &api["up"], Some(count(&containers, |c| c["state"] == "running")));
    same("paused", &api["paused"], Some(count(&containers, |c| c["state"] == "paused")));
    let troubled = count(&containers, needs) + count(&hosts, needs);
    same("need attention", &api["need_attention"], Some(troubled));
    same("listed", &api["need_attention"], Some(count(&attention, |a| a["reason"]["severity"] != "notice")));
    same("unused images", &api["unused_images"], Some(count(&unused, |_| true)));

    page.go(demo, "/").await;
    page.find("[data-test=attention]").await;
    let title = page.text("h1").await;
    same("page: need attention", &api["need_attention"], number(&title));
    let ups = title.split("newer image; ").last().unwrap_or_default();
    same(
        "page: up",
        &api["up"],
        ups.rsplit(" of ").nth(1).and_then(|t| t.split_whitespace().last()?.parse().ok()),
    );
    same("page: containers", &api["containers"], ups.rsplit(" of ").next().and_then(number));
    page.go(demo, "/images").await;
    page.find("[data-test=frees]").await;
    let buttons = page.text("main").await;
    let shown = buttons.split("Unused ").nth(1).and_then(number);
    same("page: unused images", &api["unused_images"], shown);

    // By stack and by host, from the list of each and from the page of each.
    page.go(demo, "/stacks").await;
    page.find("[data-test=stacks]").await;
    let rows = page.text("[data-test=stacks]").await;
    for stack in json(demo, &["list", "stacks"]).as_array().into_iter().flatten() {
        let name = stack["name"].as_str().unwrap_or_default();
        let of_stack = asked(demo, &format!("/api/v1/figures?stack={name}")).await;
        same(&format!("stack {name}"), &of_stack["need_attention"], stack["troubled"].as_u64());
        let up = format!("{} of {}", stack["running"], stack["wanted"]);
        if !rows.contains(&up) {
            found.push(format!("the page of stacks says nothing of '{up}' for {name}"));
            break;
        }
    }
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_client_and_api_tell_the_same_figures() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    let mut left = Vec::new();
    for _ in 0..20 {
        left = differences(&demo, &page).await;
        if left.is_empty() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    assert!(left.is_empty(), "{left:#?}");
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn sixty_hosts_fold_the_overview_and_are_filtered() {
    let demo = Started::demo(binary(), &["--hosts", "60", "--each", "20"]).unwrap();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    page.reads("main h1", "1,200 of 1,200 containers are up on 60 hosts").await;
    page.reads("[data-test=matrix] tbody tr:first-child", "250 of 250 up").await;
    page.go(&demo, "/hosts").await;
    page.reads("[data-test=hosts]", "shed-050").await;
    page.reads("main", "Show 10 more").await;
    page.find("#filter").await.send_keys("shed-06").await.unwrap();
    page.reads("[data-test=hosts] tbody", "shed-060").await;
    assert_eq!(page.script("return document.querySelectorAll('[data-test=hosts] a.name').length").await, 1);
    page.find("#filter").await.send_keys("7").await.unwrap();
    page.reads("main", "No host matches").await;
    press(&page, "Clear filters").await;
    press(&page, "Show 10 more").await;
    page.reads("[data-test=hosts]", "shed-060").await;
    press(&page, "Need attention 0").await;
    page.reads("main", "No host matches").await;
    browser.close().await.unwrap();
}
