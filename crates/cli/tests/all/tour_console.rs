//! The README's tour without a pointer, and with a finger at the size of a phone: by keys that are pressed and by touches of the screen,
//! never by clicks that a script makes. What the pages say is looked at in `console`.

use gubernum_testbed::browser::Browser;
use gubernum_testbed::started::Started;
use serde_json::json;
use thirtyfour::Key;

use crate::console::Page;
use crate::every_page_console::{PHONE, fits, focus_comes, keys, resize, settle, until_gone};
use crate::support::{binary, settled};

/// More presses of Tab than any way takes here.
const FAR: usize = 40;

/// Presses Tab until the focus is on what reads so, and tells how often.
async fn tab_to(page: &Page<'_>, words: &str) -> usize {
    for n in 1..=FAR {
        keys(page, Key::Tab.value().to_string()).await;
        let at = "const e = document.activeElement; return e?.innerText?.trim() || e?.ariaLabel || ''";
        if page.script(at).await.as_str().is_some_and(|at| at.starts_with(words)) {
            return n;
        }
    }
    panic!("'{words}' is not among {FAR} stops of Tab: {}", page.text("body").await);
}

async fn enter(page: &Page<'_>) {
    keys(page, Key::Enter.value().to_string()).await;
}

/// Waits until the dialog's main button can be pressed.
async fn ready(page: &Page<'_>) {
    page.find(".bx--modal.is-visible .bx--btn--primary:not(:disabled)").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tour_by_keyboard_alone() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.0.goto(demo.url()).await.unwrap();
    page.find("#member").await;
    if page.script("return document.activeElement?.id").await != json!("member") {
        tab_until(&page, "member").await;
    }
    keys(&page, demo.text("member")).await;
    tab_until(&page, "password").await;
    keys(&page, demo.text("password")).await;
    enter(&page).await;
    page.reads("[data-test=attention]", "packhouse/auction-bids-1").await;

    // By its port to the container, and into its log.
    keys(&page, "/").await;
    focus_comes(&page, "#find").await;
    keys(&page, "7402").await;
    page.reads("#found", "grading-sorter-1").await;
    enter(&page).await;
    page.reads("[data-test=inspector]", "belt 2: no answer from the encoder").await;
    focus_comes(&page, ".inspector").await;
    let tabs = tab_to(&page, "Facts").await;
    assert!(tabs <= 6, "the tabs are {tabs} stops away");
    keys(&page, Key::Right.value().to_string()).await;
    page.reads("[data-test=log]", "tray").await;

    // Paused without a loss, and on again.
    tab_to(&page, "Pause").await;
    enter(&page).await;
    page.reads("[data-test=pause]", "waiting").await;
    enter(&page).await;
    page.reads("[data-test=pause]", "Pause").await;

    // A change: its consequence, then its outcome. The dialog takes the focus and gives it back.
    for n in 0.. {
        let back = page.0.action_chain().key_down(Key::Shift).send_keys(Key::Tab).key_up(Key::Shift);
        back.perform().await.unwrap();
        let words = page.script("return document.activeElement?.innerText?.trim() ?? ''").await;
        if words.as_str().is_some_and(|words| words.starts_with("Restart")) {
            break;
        }
        assert!(n < FAR, "no way back to the actions: {words}");
    }
    enter(&page).await;
    focus_comes(&page, ".bx--modal.is-visible").await;
    page.reads("[data-test=consequences]", "Stops it, with its usual grace period").await;
    ready(&page).await;
    tab_to(&page, "Restart").await;
    enter(&page).await;
    until_gone(&page, ".bx--modal.is-visible").await;
    page.reads("[data-test=running]", "packhouse/grading-sorter-1").await;
    page.reads("[data-test=running]", "succeeded").await;

    // The same by a letter for the page, and what was done by whom.
    keys(&page, Key::Escape.value().to_string()).await;
    until_gone(&page, ".inspector").await;
    keys(&page, "gp").await;
    page.reads("[data-test=operations]", "grading-sorter-1").await;
    browser.close().await.unwrap();
}

/// Presses Tab until the focus is on the field with this id.
async fn tab_until(page: &Page<'_>, id: &str) {
    for _ in 0..FAR {
        keys(page, Key::Tab.value().to_string()).await;
        if page.script("return document.activeElement?.id").await == json!(id) {
            return;
        }
    }
    panic!("'{id}' is not among {FAR} stops of Tab");
}

/// Touches the first thing that the selector finds, and that reads so, with a finger.
async fn tap(page: &Page<'_>, selector: &str, words: &str) {
    let middle = "const [selector, words] = arguments; \
        const found = [...document.querySelectorAll(selector)].find(e => e.checkVisibility() && (e.innerText ?? '').trim().startsWith(words)); \
        if (!found) return null; \
        found.scrollIntoView({block: 'center'}); \
        const r = found.getBoundingClientRect(); \
        const [x, y] = [r.left + r.width / 2, r.top + r.height / 2]; \
        const on = document.elementFromPoint(x, y); \
        window.tapped = false; \
        found.addEventListener('click', () => { window.tapped = true }, {once: true, capture: true}); \
        return found === on || found.contains(on) ? [x, y, r.width, r.height] : null";
    for _ in 0..200 {
        let place = page.0.execute(middle, vec![selector.into(), words.into()]).await.unwrap();
        if let Some([x, y, wide, tall]) = place.json().as_array().map(Vec::as_slice) {
            assert!(
                wide.as_f64().unwrap_or(0.0) >= 16.0 && tall.as_f64().unwrap_or(0.0) >= 14.0,
                "'{words}' is too small for a finger: {place:?}"
            );
            let cdp = page.0.cdp();
            let at = json!({"type": "touchStart", "touchPoints": [{"x": x, "y": y}]});
            cdp.send_raw("Input.dispatchTouchEvent", at).await.unwrap();
            cdp.send_raw("Input.dispatchTouchEvent", json!({"type": "touchEnd", "touchPoints": []}))
                .await
                .unwrap();
            // Gone with its page: a link that was followed.
            if page.script("return window.tapped ?? true").await == json!(true) {
                return;
            }
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("'{selector}' with '{words}' takes no touch: {}", page.text("body").await);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tour_by_touch() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    resize(&page, PHONE).await;
    let touch = json!({"enabled": true, "maxTouchPoints": 1});
    page.0.cdp().send_raw("Emulation.setTouchEmulationEnabled", touch).await.unwrap();
    page.sign_in(&demo).await;
    settle(&page).await;

    // What is wrong, and its log.
    page.reads("[data-test=attention]", "packhouse/grading-sorter-1").await;
    tap(&page, "[data-test=attention] a", "packhouse/grading-sorter-1").await;
    page.reads("[data-test=inspector]", "belt 2: no answer from the encoder").await;
    tap(&page, ".inspector [role=tab]", "Logs").await;
    page.reads("[data-test=log]", "tray").await;
    tap(&page, "[data-test=pause]", "").await;
    page.reads("[data-test=pause]", "waiting").await;
    tap(&page, "[data-test=pause]", "").await;
    page.reads("[data-test=pause]", "Pause").await;

    // Restarted, after a look at what it does.
    tap(&page, ".inspector button", "Restart").await;
    page.reads("[data-test=consequences]", "Stops it, with its usual grace period").await;
    ready(&page).await;
    tap(&page, ".bx--modal.is-visible .bx--btn--primary", "Restart").await;
    until_gone(&page, ".bx--modal.is-visible").await;
    page.reads("[data-test=running]", "succeeded").await;
    let mut wrong = Vec::new();
    fits(&page, "an operation at the foot", &mut wrong).await;
    assert!(wrong.is_empty(), "{wrong:?}");
    tap(&page, ".inspector button[aria-label='Close the inspector'], .inspector .close", "").await;
    until_gone(&page, ".inspector").await;

    // By the menu to a list; a row is a card that opens.
    tap(&page, "button.bx--header__menu-trigger", "").await;
    tap(&page, ".bx--side-nav button", "Workloads").await;
    tap(&page, ".bx--side-nav a", "Containers").await;
    page.find("[data-test=row]").await;
    tap(&page, "[data-test=row] .name", "grading-classifier-1").await;
    page.reads("[data-test=inspector]", "grading-classifier-1").await;
    browser.close().await.unwrap();
}
