//! Stacks in the console by real keys and clicks: a text is written, errors show at their lines, it is previewed, deployed, changed,
//! compared, looked at as a map, found to differ, put back and removed. Every page is held to axe's rules, at desktop and phone size.

use std::time::Duration;

use gubernum_testbed::browser::Browser;
use serde_json::json;
use thirtyfour::{By, Key};

use crate::acting_console::press;
use crate::console::Page;
use crate::support::{demo, run, settled};

const BAD: &str = r#"services: {store: {image: "registry.tarnvalley.example/base/rowstore:${TAG:?which}", enviroment: {SITE: "${SITE:-none}"}, volumes: ["crates:/data"]}}"#;
/// What its lines and its marks are not about.
const END: &str = "\nvolumes: {crates: {}}";

/// Replaces the whole text of the editor.
async fn write_text(page: &Page<'_>, text: &str) {
    page.click(".cm-content").await;
    let editor = page.find(".cm-content").await;
    editor.send_keys(format!("{}a", Key::Control.value())).await.unwrap();
    // Released, so that the text is no chord.
    editor.send_keys(Key::Null.value().to_string()).await.unwrap();
    editor.send_keys(text).await.unwrap();
}

/// What axe finds wrong with the page.
pub(crate) async fn accessible(page: &Page<'_>, what: &str, wrong: &mut Vec<String>) {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js");
    let axe = std::fs::read_to_string(path).expect("the console's packages are installed");
    // Colours are judged once they have settled: a button that was just enabled fades in.
    let check = "const done = arguments[arguments.length - 1]; \
        const settled = document.getAnimations().filter(a => a.effect?.getComputedTiming().iterations !== Infinity).map(a => a.finished); \
        Promise.race([Promise.allSettled(settled), new Promise(over => setTimeout(over, 2000))]).then(() => axe.run(document, {resultTypes: ['violations']}).then(found => done(found.violations.map(v => \
        `${v.id}: ${v.help}: ${v.nodes.slice(0, 3).map(n => n.html.slice(0, 200)).join(' | ')}`)), e => done([String(e)])))";
    let script = format!("{axe};\n{check}");
    let found = page.0.execute_async(&script, Vec::new()).await.unwrap().json().clone();
    let found = found.as_array().expect("axe gives a list");
    wrong.extend(found.iter().map(|f| format!("{what}: {f}")));
}

/// The same at the size of a phone; nothing may be wider than it.
async fn accessible_on_a_phone(page: &Page<'_>, what: &str, wrong: &mut Vec<String>) {
    let tools = page.0.cdp();
    let phone = json!({"width": 360, "height": 740, "deviceScaleFactor": 1, "mobile": true});
    tools.send_raw("Emulation.setDeviceMetricsOverride", phone).await.unwrap();
    accessible(page, &format!("{what} on a phone"), wrong).await;
    let wide = "const page = document.querySelector('main'); return page.scrollWidth - page.clientWidth";
    let by = page.script(wide).await;
    if by != json!(0) {
        wrong.push(format!("{what} is wider than a phone by {by}"));
    }
    tools.send_raw("Emulation.clearDeviceMetricsOverride", json!({})).await.unwrap();
}

pub(crate) async fn both(page: &Page<'_>, what: &str, wrong: &mut Vec<String>) {
    accessible(page, what, wrong).await;
    accessible_on_a_phone(page, what, wrong).await;
}

/// Presses the tab with these words.
pub(crate) async fn part(page: &Page<'_>, words: &str) {
    let find = "return [...document.querySelectorAll('[role=tab]')].find(e => e.innerText.trim() === arguments[0]) ?? null";
    for _ in 0..100 {
        let found = page.0.execute(find, vec![words.into()]).await.unwrap().element();
        if let Ok(tab) = found
            && tab.click().await.is_ok()
        {
            return;
        }
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    panic!("there is no tab '{words}'");
}

/// Waits until the operation that is shown is over, and well.
async fn succeeded(page: &Page<'_>) {
    page.find("[data-test=targets] td").await;
    for _ in 0..600 {
        let text = page.text("main").await;
        assert!(!text.contains("failed"), "{text}");
        if text.contains("succeeded") && !text.contains("under way") {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("it is never over: {}", page.text("main").await);
}

/// Presses the button of the dialog, once it can be pressed, and waits until the dialog is gone.
pub(crate) async fn confirm(page: &Page<'_>) {
    let button = ".bx--modal.is-visible .bx--btn--primary:not(:disabled), .bx--modal.is-visible .bx--btn--danger:not(:disabled)";
    page.click(button).await;
    for _ in 0..200 {
        if page.count(".bx--modal.is-visible").await == 0 {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("the dialog stays: {}", page.text(".bx--modal.is-visible").await);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stack_is_written_deployed_compared_mapped_put_back_and_removed() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    // All that axe finds, so that one run tells all of it.
    let mut wrong = Vec::new();

    page.go(&demo, "/stacks").await;
    page.find("[data-test=stacks] td").await;
    both(&page, "the list", &mut wrong).await;
    press(&page, "Deploy a stack").await;
    page.find(".cm-content").await;
    write_text(&page, &format!("{BAD}{END}")).await;
    page.reads("[data-test=problems]", "2 errors").await;
    page.reads("[data-test=problems]", "did you mean environment").await;
    page.find(".cm-lint-marker-error").await;
    both(&page, "the editor with errors", &mut wrong).await;
    write_text(&page, &format!("{}{END}", BAD.replace("enviroment", "environment"))).await;
    page.reads("[data-test=problems]", "1 error").await;
    page.reads("[data-test=variables]", "Required.").await;
    // Those without which nothing goes come first.
    page.find("[data-test=variables] input").await.send_keys("4.2").await.unwrap();
    page.reads("[data-test=problems]", "No errors.").await;
    page.find("select[id]").await.send_keys("packhouse").await.unwrap();
    page.find(".where input").await.send_keys("crates").await.unwrap();
    page.reads("[data-test=tally]", "3 created").await;
    both(&page, "the editor with a preview", &mut wrong).await;
    press(&page, "Deploy stack").await;
    succeeded(&page).await;

    page.go(&demo, "/stacks/packhouse/crates").await;
    page.reads("[data-test=stack-services]", "crates-store-1").await;
    both(&page, "the page of a stack", &mut wrong).await;
    press(&page, "Edit").await;
    page.reads("[data-test=problems]", "No errors.").await;
    let site = page.0.find_all(By::Css("[data-test=variables] input")).await.unwrap();
    let mut fields = Vec::new();
    for field in site {
        fields.push((field.prop("value").await.unwrap().unwrap_or_default(), field));
    }
    let (_, site) = fields.iter().find(|(value, _)| value.is_empty()).expect("one has no value yet");
    site.send_keys("north").await.unwrap();
    page.reads("[data-test=tally]", "1 recreated").await;
    page.find("input[maxlength='500']").await.send_keys("the north site").await.unwrap();
    press(&page, "Apply changes").await;
    succeeded(&page).await;

    page.go(&demo, "/stacks/packhouse/crates?part=revisions").await;
    page.reads("[data-test=revisions]", "the north site").await;
    press(&page, "What changed").await;
    page.reads("[data-test=difference]", "variable SITE").await;
    page.reads("[data-test=difference]", "north").await;
    both(&page, "the revisions", &mut wrong).await;
    part(&page, "Map").await;
    let node = page.find("[data-node='service:packhouse/store']").await;
    both(&page, "the map of a stack", &mut wrong).await;
    node.send_keys(Key::Enter.value().to_string()).await.unwrap();
    page.reads("[data-test=inspector]", "crates-store-1").await;
    page.find("[data-test=inspector] .close").await.click().await.unwrap();
    part(&page, "Compose files").await;
    page.reads(".cm-content", "rowstore").await;
    both(&page, "the text", &mut wrong).await;

    // Somebody stops a part of it by other means.
    assert_eq!(run(&demo, &["stop", "packhouse/crates-store-1"]).status.code(), Some(0));
    page.reads("[data-test=drift]", "crates-store-1").await;
    press(&page, "Differences").await;
    page.reads("[data-test=drift]", "starts it").await;
    both(&page, "what differs", &mut wrong).await;
    press(&page, "Apply again…").await;
    confirm(&page).await;
    for _ in 0..400 {
        if page.count("[data-test=drift]").await == 0 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(page.count("[data-test=drift]").await, 0, "it is as it was applied");

    page.go(&demo, "/map").await;
    page.find("[data-node='stack:packhouse/crates']").await;
    both(&page, "the map of the fleet", &mut wrong).await;
    page.find("[data-node='stack:packhouse/crates']")
        .await
        .send_keys(Key::Enter.value().to_string())
        .await
        .unwrap();
    page.find("[data-node='volume:packhouse/crates_crates']").await;
    page.find("#filter").await.send_keys("frostwatch").await.unwrap();
    page.find("[data-node='stack:packhouse/auction'].dim").await;
    press(&page, "List").await;
    page.reads("[data-test=map-list]", "frostwatch").await;
    both(&page, "the map as a list", &mut wrong).await;

    page.go(&demo, "/stacks/packhouse/crates").await;
    page.find("[data-test=stack-services]").await;
    page.click(".bx--overflow-menu").await;
    press(&page, "Remove…").await;
    page.reads("[data-test=consequences]", "removed").await;
    confirm(&page).await;
    page.reads("main", "No container of the stack crates is on packhouse").await;
    assert!(wrong.is_empty(), "{wrong:#?}");
    assert_eq!(page.script("return window.violations").await, json!([]));
    browser.close().await.unwrap();
}
