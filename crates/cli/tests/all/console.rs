//! The console in headless Chromium, on the demo fleet and on a fresh service.

use std::time::Duration;

use gubernum_testbed::browser::Browser;
use gubernum_testbed::started::Started;
use thirtyfour::{By, Key, WebDriver, WebElement};

use crate::acting_console::{click_arrives, press};
use crate::stacks_console::{confirm, part};
use crate::support::{binary, demo, run, settled};

pub(crate) struct Page<'a>(pub(crate) &'a WebDriver);

impl Page<'_> {
    pub(crate) async fn find(&self, selector: &str) -> WebElement {
        for _ in 0..300 {
            if let Ok(found) = self.0.find(By::Css(selector)).await {
                return found;
            }
            tokio::time::sleep(Duration::from_millis(30)).await;
        }
        panic!(
            "'{selector}' never came on {}: {}",
            self.0.current_url().await.unwrap(),
            self.text("body").await
        )
    }

    pub(crate) async fn click(&self, selector: &str) {
        self.find(selector).await;
        for _ in 0..100 {
            if let Ok(found) = self.0.find(By::Css(selector)).await
                && click_arrives(self, &found).await
            {
                return;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("'{selector}' cannot be clicked");
    }

    pub(crate) async fn text(&self, selector: &str) -> String {
        match self.0.find(By::Css(selector)).await {
            Ok(element) => element.text().await.unwrap_or_default(),
            Err(_) => String::new(),
        }
    }

    pub(crate) async fn reads(&self, selector: &str, words: &str) {
        for _ in 0..300 {
            if self.text(selector).await.contains(words) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(30)).await;
        }
        panic!("'{selector}' never read '{words}': {}", self.text(selector).await);
    }

    pub(crate) async fn count(&self, selector: &str) -> usize {
        self.0.find_all(By::Css(selector)).await.unwrap().len()
    }

    pub(crate) async fn script(&self, code: &str) -> serde_json::Value {
        self.0.execute(code, Vec::new()).await.unwrap().json().clone()
    }

    /// Opens a page and counts from then on what the content policy forbids.
    pub(crate) async fn go(&self, demo: &Started, path: &str) {
        self.0.goto(format!("{}{path}", demo.url())).await.unwrap();
        self.watch_violations().await;
    }

    pub(crate) async fn watch_violations(&self) {
        self.script("window.violations = []; addEventListener('securitypolicyviolation', e => violations.push(e.violatedDirective + ' ' + e.blockedURI))").await;
    }

    pub(crate) async fn sign_in(&self, demo: &Started) {
        self.0.goto(demo.url()).await.unwrap();
        self.find("#member").await.send_keys(demo.text("member")).await.unwrap();
        self.find("#password").await.send_keys(demo.text("password")).await.unwrap();
        self.click("button[type=submit]").await;
        self.find("[data-test=matrix] tbody tr").await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tour_of_the_readme() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    // Whatever the content policy forbids is counted from the first page on.
    page.sign_in(&demo).await;
    page.watch_violations().await;

    // Attention first, then the matrix.
    page.reads("[data-test=attention]", "packhouse/auction-bids-1").await;
    page.reads("[data-test=attention]", "Out of memory: killed").await;
    page.reads("[data-test=matrix]", "classifier").await;

    // Find the one container by its port.
    page.click("a[href='/containers']").await;
    page.reads("[data-test=count]", "32 of 32").await;
    page.find("#filter").await.send_keys(":7402").await.unwrap();
    page.reads("[data-test=count]", "1 of 32").await;
    page.click("[data-test=row] .name").await;
    page.reads("[data-test=inspector]", "grading-sorter-1").await;
    page.reads("[data-test=inspector]", "belt 2: no answer from the encoder").await;
    let address = browser.window.current_url().await.unwrap();
    assert!(address.query().unwrap().contains("inspect=packhouse/grading-sorter-1"), "{address}");

    // The same address leads there again: a deep link.
    browser.window.goto(address.as_str()).await.unwrap();
    page.watch_violations().await;
    page.reads("[data-test=inspector]", "grading-sorter-1").await;
    page.reads("[data-test=count]", "1 of 32").await;

    // Its log, live, paused without a loss.
    part(&page, "Logs").await;
    page.reads("[data-test=log]", "tray").await;
    let lines = page.count("[data-test=log] .line").await;
    page.click("[data-test=pause]").await;
    page.reads("[data-test=pause]", "waiting").await;
    let paused = page.count("[data-test=log] .line").await;
    assert!(paused >= lines);
    page.click("[data-test=pause]").await;
    page.reads("[data-test=pause]", "Pause").await;
    for _ in 0..100 {
        if page.count("[data-test=log] .line").await > paused {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert!(page.count("[data-test=log] .line").await > paused);

    // A change: first its consequence, then its outcome.
    page.click("[data-test=inspector] .acts button").await;
    page.reads("[data-test=consequences]", "Stops it, with its usual grace period").await;
    page.click(".bx--modal.is-visible .bx--btn--primary").await;
    page.reads("[data-test=running]", "packhouse/grading-sorter-1").await;
    page.reads("[data-test=running]", "succeeded").await;

    // What another member does appears by itself, with their failure and its reason.
    assert_eq!(run(&demo, &["start", "coldstore/label-printer"]).status.code(), Some(5));
    page.reads("[data-test=running]", "coldstore/label-printer").await;
    page.reads("[data-test=running]", "address already in use").await;

    let violations = page.script("return window.violations").await;
    assert_eq!(violations, serde_json::json!([]));
    println!("browser: {}", page.script("return navigator.userAgent").await);
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_themes_and_many_at_once() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    let body = page.find("body").await;
    body.send_keys("?").await.unwrap();
    page.reads(".bx--modal.is-visible", "find anything").await;
    page.find("body").await.send_keys(Key::Escape).await.unwrap();
    for _ in 0..100 {
        if page.count(".bx--modal.is-visible").await == 0 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(30)).await;
    }

    // Search box from the keyboard.
    page.find("body").await.send_keys("/").await.unwrap();
    page.find("#find").await.send_keys("label-pr").await.unwrap();
    page.reads("#found", "coldstore/label-printer").await;
    page.find("#find").await.send_keys(Key::Enter).await.unwrap();
    page.reads("[data-test=inspector]", "is already in use").await;
    page.find("body").await.send_keys(Key::Escape).await.unwrap();

    // Pages, rows and choosing by keys.
    page.find("body").await.send_keys("gc").await.unwrap();
    page.reads("[data-test=count]", "32 of 32").await;
    page.find("body").await.send_keys("jjx").await.unwrap();
    page.reads("[data-test=chosen]", "1 selected").await;
    page.click("[aria-label='Select all listed']").await;
    page.click("[aria-label='Select all listed']").await;
    page.reads("[data-test=chosen]", "32 selected").await;
    press(&page, "Restart…").await;
    page.reads("[data-test=consequences]", "packhouse/auction-web-1").await;
    page.click(".bx--modal.is-visible .bx--btn--primary").await;
    page.reads("[data-test=running]", "31 succeeded, 1 failed").await;
    page.click("[data-test=running] a").await;
    page.reads("[data-test=targets]", "address already in use").await;

    let theme = "return document.documentElement.getAttribute('theme')";
    let before = page.script(theme).await;
    page.click("[data-test=own]").await;
    press(&page, "Dark theme").await;
    assert_ne!(page.script(theme).await, before);
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn claiming_a_fresh_service_and_connecting_a_host() {
    let folder = tempfile::tempdir().unwrap();
    let service = Started::serve(binary(), folder.path(), &["--find-local-engine", "false"]).unwrap();
    let socket = folder.path().join("engine.sock");
    let host = gubernum_sim::SimHost::start(&socket, "packhouse", 3).unwrap();
    host.run(gubernum_sim::ContainerSpec::new("frost-api", "registry.tarnvalley.example/frostwatch/api:3"));
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    browser.window.goto(service.url()).await.unwrap();
    page.find("#code").await.send_keys("AAAA-BBBB").await.unwrap();
    page.find("#member").await.send_keys("mara").await.unwrap();
    page.find("#password").await.send_keys("russet ladder harvest moon").await.unwrap();
    page.click("button[type=submit]").await;
    page.reads("form", "Wrong or used claim code").await;
    page.find("#code").await.clear().await.unwrap();
    page.find("#code").await.send_keys(service.text("claim_code")).await.unwrap();
    page.click("button[type=submit]").await;
    page.reads("main", "The fleet is empty").await;

    page.click("main a[href='/hosts']").await;
    page.click(".head button").await;
    page.find("#host-name").await.send_keys("packhouse").await.unwrap();
    let address = page.find("#host-address").await;
    address.clear().await.unwrap();
    address.send_keys("unix:///nowhere.sock").await.unwrap();
    page.click("form .buttons button").await;
    page.reads("form", "There is no socket at unix:///nowhere.sock").await;
    let address = page.find("#host-address").await;
    address.clear().await.unwrap();
    address.send_keys(format!("unix://{}", socket.display())).await.unwrap();
    page.click("form .buttons button").await;
    page.reads("form", "answers on packhouse").await;
    page.click("form button[type=submit]").await;
    page.reads("[data-test=hosts]", "1 of 1 up").await;

    // What happens there appears without a reload.
    page.click("a[href='/containers']").await;
    page.reads("[data-test=count]", "1 of 1").await;
    host.run(gubernum_sim::ContainerSpec::new(
        "frost-worker",
        "registry.tarnvalley.example/frostwatch/worker:3",
    ));
    page.reads("[data-test=count]", "2 of 2").await;
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_shows_the_fleet() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    let go = async |path: &str| page.go(&demo, path).await;
    go("/stacks").await;
    page.reads("[data-test=stacks]", "0 of 1").await;
    go("/images").await;
    page.reads("main", "Unused 8").await;
    page.click("[data-test=image]").await;
    page.reads("[data-test=inspector]", "History").await;
    page.reads("[data-test=inspector]", "COPY app /app").await;
    go("/volumes?show=unused").await;
    page.reads("main", "grading_frames_2025").await;
    page.click("[data-test=volume]").await;
    page.reads("[data-test=inspector]", "None, for").await;
    go("/networks").await;
    page.reads("main", "ledger_trial").await;
    page.click("[data-test=network]").await;
    page.reads("[data-test=inspector]", "Containers").await;
    go("/hosts?inspect=host:coldstore").await;
    page.reads("[data-test=inspector]", "217 GiB of 240 GiB used").await;
    page.reads("[data-test=hosts]", "used by the engine").await;
    go("/timeline?object=packhouse/auction-bids-1").await;
    page.reads("[data-test=events]", "exit code 1").await;
    // A published port becomes a link when the host's address for published ports is set.
    go("/hosts").await;
    page.click("[aria-label='Actions for packhouse']").await;
    press(&page, "Address for published ports…").await;
    page.find("#ports-address").await.send_keys("packhouse.example").await.unwrap();
    confirm(&page).await;
    go("/ports?find=7402").await;
    page.find("[data-test=port] a[href='http://packhouse.example:7402/']").await;
    // The search box reaches ports, images and actions.
    page.find("body").await.send_keys("/").await.unwrap();
    page.find("#find").await.send_keys("7311").await.unwrap();
    page.reads("#found", "packhouse: 7311/tcp").await;
    page.find("#find").await.clear().await.unwrap();
    page.find("#find").await.send_keys("restart sorter").await.unwrap();
    page.reads("#found", "Restart packhouse/grading-sorter-1").await;
    page.find("#find").await.send_keys(Key::Enter).await.unwrap();
    page.reads("[data-test=consequences]", "grading-sorter-1").await;
    assert_eq!(page.script("return window.violations").await, serde_json::json!([]));
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn use_and_logs_of_many() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    let go = async |path: &str| page.go(&demo, path).await;
    go("/use?refs=packhouse/grading-camera-1-1,packhouse/frostwatch-database-1").await;
    page.reads("[data-test=total]", "23 containers").await;
    page.find("[data-test=chart] canvas").await;
    page.find("[data-test=use-now]").await;
    assert_eq!(page.script("return window.violations").await, serde_json::json!([]));
    go("/containers?inspect=orchard-edge/radio-relay&tab=use").await;
    page.find("[data-test=chart] canvas").await;
    page.reads("[data-test=inspector]", "Steps of").await;
    go("/containers?inspect=packhouse/frostwatch-api-1&tab=inside").await;
    page.reads("[data-test=processes]", "/app/run").await;
    go("/containers?inspect=packhouse/auction-bids-1&tab=events").await;
    page.reads("[data-test=events]", "exit code 1").await;
    go("/containers?inspect=packhouse/auction-queue-1").await;
    page.reads("[data-test=evidence]", "exit code 1").await;
    // Merged, filtered, with matches shown; a pattern that is wrong is pointed at.
    go("/logs?refs=*/frostwatch-*").await;
    page.reads("[data-test=log]", "packhouse/frostwatch-api-1").await;
    page.reads("[data-test=log]", "orchard-edge/frostwatch-mast-1-1").await;
    page.find("[data-test=with]").await.send_keys("warning not (sent|heard)\n").await.unwrap();
    page.find("[data-test=log] .hit").await;
    page.reads("[data-test=progress]", "match").await;
    let texts = page.text("[data-test=log]").await;
    assert!(
        texts.lines().filter(|l| l.contains("level=")).all(|l| l.contains("warning not sent")),
        "{texts}"
    );
    page.find("[data-test=with]").await.clear().await.unwrap();
    page.find("[data-test=with]").await.send_keys("mast (M\n").await.unwrap();
    page.reads("[data-test=refused]", "unclosed group (at character 6)").await;
    // JSON lines fold out.
    go("/logs?stack=coldchain").await;
    page.click("[data-test=log] .fold").await;
    page.find("[data-test=log] dl dt").await;
    assert_eq!(page.script("return window.violations").await, serde_json::json!([]));
    browser.close().await.unwrap();
}
