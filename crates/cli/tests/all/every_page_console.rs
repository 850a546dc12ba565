//! Every page of the console, every part of an inspector and the dialogs that a page opens: held to axe's rules in light and dark, at the
//! sizes of a desktop, a tablet and a phone, and nowhere wider than the window. The pages are those of the console's own registry, so that a
//! new one is looked at without being named here.

use gubernum_testbed::browser::Browser;
use gubernum_testbed::started::Started;
use serde_json::json;
use thirtyfour::Key;

use crate::acting_console::press;
use crate::console::Page;
use crate::stacks_console::accessible;
use crate::support::{binary, settled};

/// Width and height.
pub(crate) type Size = (u32, u32);

const DESKTOP: Size = (1280, 800);
const TABLET: Size = (768, 1024);
pub(crate) const PHONE: Size = (360, 740);

/// Parts of pages and of inspectors that have addresses of their own, below the pages of the registry.
const PARTS: &[&str] = &[
    "/operations/1",
    "/operations?inspect=operation:1",
    "/?group=host",
    "/stacks/edit",
    "/stacks/packhouse/frostwatch",
    "/stacks/packhouse/frostwatch?part=map",
    "/stacks/packhouse/frostwatch?part=text",
    "/stacks/packhouse/frostwatch?part=revisions",
    "/stacks/packhouse/frostwatch?part=source",
    "/stacks/packhouse/frostwatch?part=logs",
    "/stacks/packhouse/frostwatch?part=use",
    "/stacks/packhouse/frostwatch?part=events",
    "/stacks/packhouse/frostwatch?part=notes",
    "/stacks/coldstore/coldchain?part=jobs",
    "/deploy?edit=packhouse/frostwatch-api-1",
    "/logs?refs=*/frostwatch-*",
    "/use?refs=packhouse/grading-camera-1-1",
    "/use?view=ranking&figure=processors",
    "/hosts?inspect=host:packhouse",
    "/hosts?inspect=host:packhouse&tab=use",
    "/hosts?inspect=host:packhouse&tab=events",
    "/hosts?inspect=host:packhouse&tab=notes",
    "/volumes?inspect=volume:packhouse/frostwatch_readings",
    "/volumes?inspect=volume:packhouse/frostwatch_readings&tab=files",
    "/networks?inspect=network:packhouse/frostwatch_default",
    "/stacks?inspect=stack:frostwatch",
    "/stacks?inspect=stack:frostwatch&tab=logs",
];

const TABS: &[&str] =
    &["facts", "logs", "use", "inside", "events", "files", "terminal", "earlier", "notes", "raw"];

/// A button that opens a dialog or a form, on the page where it is.
const DIALOGS: &[(&str, &str)] = &[
    ("/", "Freeze changes…"),
    ("/", "Snooze…"),
    ("/containers?inspect=packhouse/auction-web-1", "Restart…"),
    ("/containers?inspect=packhouse/auction-web-1", "Update…"),
    ("/stacks/packhouse/frostwatch", "Restart…"),
    ("/hosts", "Connect a host"),
    ("/tidy", "Remove…"),
    ("/images", "Pull an image…"),
    ("/images", "Build an image…"),
    ("/logs", "Kept logs…"),
    ("/stacks/coldstore/coldchain?part=jobs", "Run now…"),
    ("/stacks/packhouse/frostwatch", "Scale…"),
    ("/stacks/packhouse/frostwatch?part=revisions", "Roll back…"),
    ("/hosts?inspect=host:packhouse", "Change the address for published ports…"),
    ("/members", "Invite"),
    ("/members", "Roles"),
    ("/members", "Directories"),
];

/// The addresses of the registry.
fn registry() -> Vec<String> {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/src/shell/pages.ts");
    let text = std::fs::read_to_string(path).expect("the console's sources are there");
    let paths = text.lines().filter_map(|line| line.trim().strip_prefix("path: \"")?.strip_suffix("\","));
    let paths: Vec<String> = paths.map(str::to_owned).collect();
    assert!(paths.len() >= 18, "the registry is read: {paths:?}");
    paths
}

fn addresses() -> Vec<String> {
    let tabs = TABS.iter().map(|tab| format!("/containers?inspect=packhouse/frostwatch-api-1&tab={tab}"));
    registry().into_iter().chain(PARTS.iter().map(|part| (*part).to_owned())).chain(tabs).collect()
}

pub(crate) async fn resize(page: &Page<'_>, (width, height): Size) {
    let metrics = json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 400});
    page.0.cdp().send_raw("Emulation.setDeviceMetricsOverride", metrics).await.unwrap();
}

/// Waits until the page, and what is inspected, have come and nothing is being fetched any more.
pub(crate) async fn settle(page: &Page<'_>) {
    let settled = "const main = document.querySelector('#main'); \
        const busy = [...document.querySelectorAll('main, .inspector')].some(e => /(Loading|Fetching)…/.test(e.innerText) || e.querySelector('.bx--loading')); \
        const wanted = new URLSearchParams(location.search).has('inspect'); \
        return !!main && main.innerText.trim() !== '' && !busy && (!wanted || !!document.querySelector('.inspector h2'))";
    for _ in 0..200 {
        if page.script(settled).await == json!(true) {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("it never settles: {}: {}", page.0.current_url().await.unwrap(), page.text("body").await);
}

/// What is wider than the window: a table that has to be may scroll in a frame of its own.
pub(crate) async fn fits(page: &Page<'_>, what: &str, wrong: &mut Vec<String>) {
    let wide = "const wide = []; const root = document.documentElement; \
        if (root.scrollWidth > root.clientWidth) wide.push(`the window by ${root.scrollWidth - root.clientWidth}`); \
        for (const name of ['main', '.inspector']) { const e = document.querySelector(name); \
            if (e && e.scrollWidth > e.clientWidth) wide.push(`${name} by ${e.scrollWidth - e.clientWidth}`) } \
        return wide";
    for found in page.script(wide).await.as_array().into_iter().flatten() {
        wrong.push(format!("{what}: wider than {}", found.as_str().unwrap_or_default()));
    }
}

async fn look(page: &Page<'_>, what: &str, sizes: &[Size], wrong: &mut Vec<String>) {
    for size in sizes {
        resize(page, *size).await;
        let what = format!("{what} at {}", size.0);
        accessible(page, &what, wrong).await;
        fits(page, &what, wrong).await;
    }
    resize(page, DESKTOP).await;
}

async fn every_page(theme: &str, sizes: &[Size]) {
    let demo = Started::demo(binary(), &["--calm"]).unwrap();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    settle(&page).await;
    resize(&page, DESKTOP).await;
    page.click("[data-test=own]").await;
    let other = if theme == "dark" { "Dark theme" } else { "Light theme" };
    // The system's choice may be either.
    if page.text("header").await.contains(other) {
        press(&page, other).await;
    }
    let mut wrong = Vec::new();
    for address in addresses() {
        page.go(&demo, &address).await;
        settle(&page).await;
        look(&page, &format!("{address} in {theme}"), sizes, &mut wrong).await;
    }
    for (address, button) in DIALOGS {
        page.go(&demo, address).await;
        settle(&page).await;
        press(&page, button).await;
        until_shown(&page).await;
        look(&page, &format!("{button} on {address} in {theme}"), sizes, &mut wrong).await;
    }
    assert!(wrong.is_empty(), "{} findings: {wrong:#?}", wrong.len());
    // What is planted is found: an empty list above could mean that nothing was looked at.
    page.go(&demo, "/").await;
    settle(&page).await;
    page.script("document.querySelector('main').append(Object.assign(new Image(), {src: '/mark.svg'}))")
        .await;
    accessible(&page, "planted", &mut wrong).await;
    assert!(wrong.iter().any(|found| found.contains("image-alt")), "{wrong:?}");
    browser.close().await.unwrap();
}

/// Waits until the dialog or the form stands still.
async fn until_shown(page: &Page<'_>) {
    page.find(".bx--modal.is-visible, main form").await;
    for _ in 0..200 {
        if !page.text("body").await.contains("Loading preview…") {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("the preview never came: {}", page.text("body").await);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_in_light() {
    every_page("light", &[DESKTOP, TABLET, PHONE]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_in_dark() {
    every_page("dark", &[DESKTOP, PHONE]).await;
}

/// Whether the focus is within what the selector finds.
async fn focus_in(page: &Page<'_>, selector: &str) -> bool {
    let within = format!("return !!document.activeElement?.closest({selector:?})");
    page.script(&within).await == json!(true)
}

pub(crate) async fn focus_comes(page: &Page<'_>, selector: &str) {
    for _ in 0..200 {
        if focus_in(page, selector).await {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(30)).await;
    }
    let at = page.script("return document.activeElement?.outerHTML.slice(0, 200)").await;
    panic!("the focus never comes into '{selector}': it is on {at}");
}

pub(crate) async fn keys(page: &Page<'_>, text: impl AsRef<str>) {
    page.0.action_chain().send_keys(text.as_ref()).perform().await.unwrap();
}

/// A container is found, read and restarted without a pointer, and each step gives the focus back.
#[tokio::test(flavor = "multi_thread")]
async fn by_keyboard_alone() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    settle(&page).await;
    keys(&page, "gc").await;
    page.find("[data-test=row]").await;
    assert!(
        page.0.title().await.unwrap().ends_with("Containers · Gubernum"),
        "{}",
        page.0.title().await.unwrap()
    );
    keys(&page, "jj").await;
    focus_comes(&page, "[role=grid]").await;
    let row = "const grid = document.activeElement; return document.getElementById(grid.getAttribute('aria-activedescendant'))?.querySelector('.name')?.innerText";
    let name = page.script(row).await;
    keys(&page, Key::Enter.value().to_string()).await;
    focus_comes(&page, ".inspector").await;
    page.reads(".inspector h2", name.as_str().unwrap()).await;
    // Its first action, in a few tabs.
    for n in 0.. {
        keys(&page, Key::Tab.value().to_string()).await;
        let words = page.script("return document.activeElement?.innerText?.trim()").await;
        if words.as_str().is_some_and(|words| words.ends_with('…')) {
            break;
        }
        assert!(n < 6, "the first action is {n} tabs away: {words}");
    }
    keys(&page, Key::Enter.value().to_string()).await;
    page.find(".bx--modal.is-visible").await;
    focus_comes(&page, ".bx--modal.is-visible").await;
    keys(&page, Key::Escape.value().to_string()).await;
    until_gone(&page, ".bx--modal.is-visible").await;
    focus_comes(&page, ".inspector").await;
    keys(&page, Key::Escape.value().to_string()).await;
    until_gone(&page, ".inspector").await;
    focus_comes(&page, "[role=grid]").await;
    // Chosen rows are counted, and the menu of the member opens and closes.
    keys(&page, "x").await;
    page.reads("[data-test=chosen]", "1 selected").await;
    keys(&page, "?").await;
    page.reads(".bx--modal.is-visible", "find anything").await;
    keys(&page, Key::Escape.value().to_string()).await;
    until_gone(&page, ".bx--modal.is-visible").await;
    browser.close().await.unwrap();
}

pub(crate) async fn until_gone(page: &Page<'_>, selector: &str) {
    for _ in 0..200 {
        if page.count(selector).await == 0 {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(30)).await;
    }
    panic!("'{selector}' stays: {}", page.text(selector).await);
}

/// On a phone the areas are in a menu, a row is a card, and what is inspected takes the screen.
#[tokio::test(flavor = "multi_thread")]
async fn on_a_phone() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    resize(&page, PHONE).await;
    page.sign_in(&demo).await;
    settle(&page).await;
    page.click("button.bx--header__menu-trigger").await;
    press(&page, "Workloads").await;
    press(&page, "Containers").await;
    page.find("[data-test=row]").await;
    page.click("[data-test=row] .name").await;
    page.find(".inspector h2").await;
    let covers =
        "const r = document.querySelector('.inspector').getBoundingClientRect(); return [r.left, r.right]";
    assert_eq!(page.script(covers).await, json!([0, 360]));
    page.click("[aria-label='Close the inspector'], .inspector .close").await;
    until_gone(&page, ".inspector").await;
    press(&page, "Filters").await;
    page.find("aside[aria-label=Filters]").await;
    let mut wrong = Vec::new();
    fits(&page, "the filters", &mut wrong).await;
    assert!(wrong.is_empty(), "{wrong:?}");
    browser.close().await.unwrap();
}
