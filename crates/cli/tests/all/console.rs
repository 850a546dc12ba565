//! The console in headless Chromium, on the demo fleet and on a fresh service.

use std::time::Duration;

use gubernum_testbed::browser::Browser;
use gubernum_testbed::started::Started;
use thirtyfour::{By, Key, WebDriver, WebElement};

use crate::support::{binary, demo, run, settled};

struct Page<'a>(&'a WebDriver);

impl Page<'_> {
    async fn find(&self, selector: &str) -> WebElement {
        for _ in 0..300 {
            if let Ok(found) = self.0.find(By::Css(selector)).await {
                return found;
            }
            tokio::time::sleep(Duration::from_millis(30)).await;
        }
        panic!(
            "`{selector}` never came on {}: {}",
            self.0.current_url().await.unwrap(),
            self.text("body").await
        )
    }

    async fn click(&self, selector: &str) {
        self.find(selector).await;
        for _ in 0..100 {
            if let Ok(found) = self.0.find(By::Css(selector)).await
                && found.click().await.is_ok()
            {
                return;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("`{selector}` cannot be clicked");
    }

    async fn text(&self, selector: &str) -> String {
        match self.0.find(By::Css(selector)).await {
            Ok(element) => element.text().await.unwrap_or_default(),
            Err(_) => String::new(),
        }
    }

    async fn reads(&self, selector: &str, words: &str) {
        for _ in 0..300 {
            if self.text(selector).await.contains(words) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(30)).await;
        }
        panic!("`{selector}` never read `{words}`: {}", self.text(selector).await);
    }

    async fn count(&self, selector: &str) -> usize {
        self.0.find_all(By::Css(selector)).await.unwrap().len()
    }

    async fn script(&self, code: &str) -> serde_json::Value {
        self.0.execute(code, Vec::new()).await.unwrap().json().clone()
    }

    async fn sign_in(&self, demo: &Started) {
        self.0.goto(demo.url()).await.unwrap();
        self.find("#member").await.send_keys(demo.text("member")).await.unwrap();
        self.find("#password").await.send_keys(demo.text("password")).await.unwrap();
        self.click("button[type=submit]").await;
        self.find("[data-test=matrix] .cell").await;
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
    page.script("window.violations = []; addEventListener('securitypolicyviolation', e => violations.push(e.violatedDirective + ' ' + e.blockedURI))").await;

    // Attention first, then the matrix.
    page.reads("[data-test=attention]", "packhouse/auction-bids-1").await;
    page.reads("[data-test=attention]", "The kernel ended it").await;
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
    page.script("window.violations = []; addEventListener('securitypolicyviolation', e => violations.push(e.violatedDirective + ' ' + e.blockedURI))").await;
    page.reads("[data-test=inspector]", "grading-sorter-1").await;
    page.reads("[data-test=count]", "1 of 32").await;

    // Its log, live, paused without a loss.
    page.click("[data-test=inspector] nav button:nth-child(2)").await;
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
    page.reads("[data-test=consequences]", "It is down while it ends").await;
    page.click(".bx--modal.is-visible .bx--btn--primary").await;
    page.reads("[data-test=running]", "packhouse/grading-sorter-1").await;
    page.reads("[data-test=running]", "done").await;

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
    page.reads("[data-test=inspector]", "could not be started").await;
    page.find("body").await.send_keys(Key::Escape).await.unwrap();

    // Pages, rows and choosing by keys.
    page.find("body").await.send_keys("gc").await.unwrap();
    page.reads("[data-test=count]", "32 of 32").await;
    page.find("body").await.send_keys("jjx").await.unwrap();
    page.reads("[data-test=chosen]", "1 chosen").await;
    page.click("[aria-label='Choose all that are listed']").await;
    page.click("[aria-label='Choose all that are listed']").await;
    page.reads("[data-test=chosen]", "32 chosen").await;
    page.click("[data-test=chosen] button:nth-of-type(3)").await;
    page.reads("[data-test=consequences]", "packhouse/auction-web-1").await;
    page.click(".bx--modal.is-visible .bx--btn--primary").await;
    page.reads("[data-test=running]", "31 done, 1 not as asked").await;
    page.click("[data-test=running] a").await;
    page.reads("[data-test=targets]", "address already in use").await;

    let theme = "return document.documentElement.getAttribute('theme')";
    let before = page.script(theme).await;
    for button in browser.window.find_all(By::Css(".top button.plain")).await.unwrap() {
        if ["Dark", "Light"].contains(&button.text().await.unwrap().as_str()) {
            button.click().await.unwrap();
        }
    }
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
    page.reads("form", "claim code is not valid").await;
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
