//! Making and changing things in the console, in headless Chromium on the demo fleet.

use std::time::Duration;

use gubernum_testbed::browser::Browser;
use serde_json::json as value;
use thirtyfour::error::{WebDriverError, WebDriverErrorInner, WebDriverResult};
use thirtyfour::{By, Key, WebElement};

use crate::console::Page;
use crate::support::{demo, json, out, run, settled, until};

const WEB: &str = "registry.tarnvalley.example/auction/web:8.3.0";

/// Writes into the field that is called so, in place of what is there, by the keys that a person presses, and leaves it
/// with Tab. Of a list the option is chosen.
pub(crate) async fn write(page: &Page<'_>, name: &str, text: &str) {
    let mut last = None;
    // What is not there yet, or is redrawn meanwhile, is looked for again.
    for _ in 0..300 {
        match typed(page, name, text).await {
            Ok(()) => return,
            Err(error) => last = Some(error),
        }
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    panic!("'{name}' takes no keys: {last:?}");
}

/// The field that is called so, by its label or its name for those who do not see it.
pub(crate) async fn field(page: &Page<'_>, name: &str) -> WebDriverResult<WebElement> {
    let find = "const [name] = arguments; \
                const label = [...document.querySelectorAll('label')].find(l => l.textContent.trim() === name && l.htmlFor); \
                return document.querySelector(`[aria-label=\"${CSS.escape(name)}\"]`) ?? (label ? document.getElementById(label.htmlFor) : null)";
    page.0.execute(find, vec![name.into()]).await?.element()
}

async fn typed(page: &Page<'_>, name: &str, text: &str) -> WebDriverResult<()> {
    let field = field(page, name).await?;
    field.scroll_into_view().await?;
    if field.tag_name().await? == "select" {
        for option in field.find_all(By::Tag("option")).await? {
            if option.attr("value").await?.as_deref() == Some(text) || option.text().await?.trim() == text {
                return option.click().await;
            }
        }
        return Err(WebDriverError::from_inner(WebDriverErrorInner::NotFound(
            text.to_owned(),
            name.to_owned(),
        )));
    }
    field.click().await?;
    field.send_keys(Key::Control + "a").await?;
    if text.is_empty() {
        field.send_keys(Key::Delete + Key::Tab).await
    } else {
        field.send_keys(text).await?;
        field.send_keys(Key::Tab + "").await
    }
}

/// Presses what can be pressed and reads so.
pub(crate) async fn press(page: &Page<'_>, words: &str) {
    // Asked in one question: a form has many buttons, and each that is asked alone costs a round trip.
    let find = "return [...document.querySelectorAll('button, summary, a')] \
                .filter(e => e.innerText?.trim() === arguments[0] && e.checkVisibility())";
    for _ in 0..200 {
        let found = page.0.execute(find, vec![words.into()]).await.unwrap().elements().unwrap_or_default();
        for button in found {
            if click_arrives(page, &button).await {
                return;
            }
        }
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    panic!("there is no button '{words}': {}", page.text("body").await);
}

/// Signs out by the member's menu.
pub(crate) async fn sign_out(page: &Page<'_>) {
    page.click("[data-test=own]").await;
    press(page, "Sign out").await;
}

/// Whether a click of the mouse came to this element: what is loaded meanwhile may move it from under the pointer.
pub(crate) async fn click_arrives(page: &Page<'_>, button: &WebElement) -> bool {
    let watch = "window.arrived = false; \
                 arguments[0].addEventListener('click', () => { window.arrived = true }, {once: true, capture: true})";
    let Ok(argument) = button.to_json() else { return false };
    if page.0.execute(watch, vec![argument]).await.is_err() || button.click().await.is_err() {
        return false;
    }
    // Gone with its page: it was a link that was followed.
    page.script("return window.arrived ?? true").await == value!(true)
}

#[tokio::test(flavor = "multi_thread")]
async fn every_error_is_named_at_its_field_and_then_it_is_deployed() {
    let demo = demo();
    settled(&demo);
    let before = json(&demo, &["list", "operations"]).as_array().unwrap().len();
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    page.go(&demo, "/deploy").await;
    write(&page, "Image", WEB).await;
    write(&page, "Host", "packhouse").await;

    // The name: an image in its place, malformed, taken.
    write(&page, "Name", "auction/web:8.3.0").await;
    page.reads("[data-label=Name]", "enter it as the image").await;
    write(&page, "Name", "bad name").await;
    page.reads("[data-label=Name]", "is not a valid name").await;
    write(&page, "Name", "auction-web-1").await;
    page.reads("[data-label=Name]", "is already in use on packhouse").await;

    // Ports: taken with a proposal, and given twice.
    press(&page, "Add a port").await;
    press(&page, "Add a port").await;
    write(&page, "Host port 1", "80").await;
    write(&page, "Container port 1", "3000").await;
    write(&page, "Host port 2", "9555").await;
    write(&page, "Container port 2", "3001").await;
    page.reads("[data-title=Ports]", "Port 80 is in use on packhouse by auction-web-1; 81 is free").await;
    press(&page, "Use 81").await;
    write(&page, "Host port 2", "81").await;
    page.reads("[data-title=Ports]", "is given twice").await;
    write(&page, "Host port 2", "9555").await;

    // Mounts: a folder that is not there.
    press(&page, "Add a mount").await;
    write(&page, "Kind of mount 1", "bind").await;
    write(&page, "Source of mount 1", "/srv/nowhere").await;
    write(&page, "Path of mount 1", "/data").await;
    page.reads("[data-title=Storage]", "/srv/nowhere does not exist on packhouse").await;
    page.click("[data-title=Storage] .make label").await;

    // A placeholder, memory beyond the host's, a policy that contradicts, a network that is not there.
    press(&page, "Paste NAME=value lines").await;
    write(&page, "Lines of NAME=value", "export TZ=\"Europe/London\"\n# a remark\nAPI_KEY=CHANGE_ME").await;
    press(&page, "Add these").await;
    page.reads("[data-title=Configure]", "still has the placeholder").await;
    write(&page, "Memory", "64 GiB").await;
    page.reads("[data-title=Limit]", "more than packhouse has").await;
    write(&page, "Restart", "always").await;
    page.click("[data-title='Restart and health'] .check label").await;
    page.reads("[data-title='Restart and health']", "1 to fix").await;
    page.click("[data-title='Restart and health'] .check label").await;
    page.click("[data-title=Network] > summary").await;
    press(&page, "Add a network").await;
    write(&page, "Network 1", "no-such-network").await;
    page.reads("[data-title=Network]", "no-such-network").await;
    page.reads("[data-title=Network]", "to fix").await;
    assert_eq!(json(&demo, &["list", "operations"]).as_array().unwrap().len(), before, "nothing was sent");

    // All of it mended.
    write(&page, "Name", "trial-web").await;
    write(&page, "Value of API_KEY", "k-1").await;
    write(&page, "Memory", "128 MiB").await;
    page.click("[aria-label='Remove network 1']").await;
    write(&page, "Watch", "1 s").await;
    page.reads("[data-test=consequences]", "Create the folder /srv/nowhere on the host").await;
    press(&page, "Compose text").await;
    let text = page.script("return document.querySelector('[aria-label=\"Compose text\"]').value").await;
    assert!(text.as_str().unwrap().contains("TZ: Europe/London"), "{text}");
    press(&page, "Preview").await;
    for _ in 0..100 {
        if page.count(".end button:disabled").await == 0 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    press(&page, "Deploy container").await;
    page.reads("[data-test=targets]", "succeeded").await;
    let violations = page.script("return window.violations").await;
    assert_eq!(violations, serde_json::json!([]));
    until("it runs", || {
        let shown = json(&demo, &["show", "packhouse/trial-web"]);
        shown["container"]["state"] == "running" && shown["container"]["ports"].to_string().contains("81")
    });
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_compose_text_fills_the_form_and_an_update_comes_back() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    page.go(&demo, "/deploy?host=office").await;
    press(&page, "Compose text").await;
    write(&page, "Compose text", "services: [").await;
    press(&page, "Apply to form").await;
    page.reads(".shown", "'[' is not closed").await;
    let text = format!(
        "services:\n  notes:\n    image: {WEB}\n    ports: ['9777:8080']\n    mem_limit: 64m\n    build: .\n"
    );
    write(&page, "Compose text", &text).await;
    press(&page, "Apply to form").await;
    page.reads(".shown", "Line 6").await;
    let port = page.script("return document.querySelector('[aria-label=\"Host port 1\"]').value").await;
    assert_eq!(port, "9777");
    let memory = page.script("return document.querySelector('[aria-label=Memory]').value").await;
    assert_eq!(memory, "64 MiB");

    // An update that crashes: the old one is back, and the operation says why.
    assert_eq!(run(&demo, &["list", "newer-images", "--check"]).status.code(), Some(0));
    page.go(&demo, "/containers?inspect=packhouse/frostwatch-worker-1").await;
    page.reads("[data-test=inspector]", "newer image is available").await;
    press(&page, "Update…").await;
    page.reads("[data-test=consequences]", "the previous container is restored").await;
    page.click(".bx--modal.is-visible .bx--btn--primary").await;
    page.reads("[data-test=running]", "mast.height").await;
    page.reads("[data-test=running]", "the previous container is running").await;
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn tidying_with_a_look_first() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    page.go(&demo, "/tidy?find=packhouse").await;
    page.reads("[data-test=leftover]", "packhouse").await;
    page.reads("main", "build cache").await;
    page.reads("[data-test=chosen]", "1 selected").await;
    press(&page, "Remove…").await;
    page.reads(".bx--modal.is-visible", "Cached steps of earlier builds").await;
    page.click(".bx--modal.is-visible .bx--btn--primary").await;
    page.reads("[data-test=won]", "freed").await;
    page.reads("[data-test=targets]", "succeeded").await;
    // What somebody wants kept stays, with their words.
    page.go(&demo, "/tidy?kind=named-volume").await;
    page.reads("[data-test=leftover]", "data would be lost").await;
    press(&page, "Keep…").await;
    write(&page, "Reason for keeping it", "the winter's readings").await;
    press(&page, "Keep volume").await;
    until("it is kept", || json(&demo, &["tidy"]).to_string().contains("the winter's readings"));
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_terminal_survives_a_reload_and_passes_its_exit_code_on() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    page.go(&demo, "/containers?inspect=packhouse/auction-web-1&tab=terminal").await;
    press(&page, "Open a terminal").await;
    page.reads("[data-test=terminal]", "/app $").await;
    let keys = async |text: &str| {
        page.find(".xterm-helper-textarea").await.send_keys(text).await.unwrap();
    };
    keys("ls\n").await;
    page.reads("[data-test=terminal]", "settings.toml").await;
    // Its size is the shown one, and follows.
    keys("stty size\n").await;
    let size = "return document.querySelectorAll('.xterm-rows > div').length";
    let rows = page.script(size).await;
    page.reads("[data-test=terminal]", &format!("{rows} ")).await;
    browser.window.set_window_rect(0, 0, 1100, 700).await.unwrap();
    for _ in 0..100 {
        if page.script(size).await != rows {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let smaller = page.script(size).await;
    assert_ne!(smaller, rows, "it is smaller by now");
    keys("stty size\n").await;
    page.reads("[data-test=terminal]", &format!("{smaller} ")).await;
    // Colours are colours.
    assert!(page.count("[data-test=terminal] .xterm-fg-2").await > 0);
    // A paste of 100 kB comes back whole as what the shell says of it.
    copied(&page, &demo).await;
    page.go(&demo, "/containers?inspect=packhouse/auction-web-1&tab=terminal").await;
    page.reads("[data-test=terminal]", "$").await;
    keys(&format!("{}{}", Key::Shift.value(), Key::Insert.value())).await;
    page.reads("[data-test=terminal]", "pasted").await;
    // Escape belongs to the shell; an interrupt gives a fresh line.
    keys("half a line\u{3}").await;
    page.reads("[data-test=terminal]", "^C").await;

    page.go(&demo, "/containers?inspect=packhouse/auction-web-1&tab=terminal").await;
    page.reads("[data-test=terminal]", "^C").await;
    page.find(".xterm-helper-textarea").await.send_keys("exit 6\n").await.unwrap();
    page.reads("[data-test=terminal-ended]", "code 6").await;
    until("it is in the audit log", || {
        out(&run(&demo, &["list", "events", "--kind", "access"])).contains("close-terminal")
    });
    browser.close().await.unwrap();
}

/// Puts two commands, of which one is 100 kB long, onto the clipboard: written elsewhere, doubled by copying, and copied.
async fn copied(page: &Page<'_>, demo: &gubernum_testbed::started::Started) {
    page.go(demo, "/deploy").await;
    press(page, "Paste NAME=value lines").await;
    let field = page.find("[aria-label='Lines of NAME=value']").await;
    field.send_keys("y".repeat(100)).await.unwrap();
    let chord = |key: &str| format!("{}{key}{}", Key::Control.value(), Key::Null.value());
    let [end, home] = [Key::End, Key::Home].map(|key| chord(&key.value().to_string()));
    for _ in 0..10 {
        field.send_keys(format!("{}{}{end}{}", chord("a"), chord("c"), chord("v"))).await.unwrap();
    }
    field.send_keys(format!("{home}echo {end}\necho pasted\n{}{}", chord("a"), chord("c"))).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_browsed_read_and_written() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    page.go(&demo, "/containers?inspect=packhouse/auction-web-1&tab=files").await;
    press(&page, "app/").await;
    page.reads("[data-test=files]", "settings.toml").await;
    press(&page, "settings.toml").await;
    page.reads("[data-test=file-text]", "listen = \"0.0.0.0:8080\"").await;
    press(&page, "Edit").await;
    write(&page, "Text of the file", "log = \"debug\"\n").await;
    press(&page, "Save").await;
    page.reads("[data-test=file-text]", "log = \"debug\"").await;
    // Somebody else is quicker: nothing is written over.
    press(&page, "Edit").await;
    write(&page, "Text of the file", "log = \"mine\"\n").await;
    let scratch = tempfile::tempdir().unwrap();
    let theirs = scratch.path().join("theirs");
    std::fs::write(&theirs, "log = \"theirs\"\n").unwrap();
    tokio::time::sleep(Duration::from_millis(1100)).await;
    let sent = run(&demo, &["copy", &theirs.to_string_lossy(), "packhouse/auction-web-1:/app/settings.toml"]);
    assert_eq!(sent.status.code(), Some(0), "{}", out(&sent));
    press(&page, "Save").await;
    page.reads("[data-test=files-wrong]", "changed by somebody else").await;
    let shown = run(&demo, &["run-once", "packhouse/auction-web-1", "--", "cat", "/app/settings.toml"]);
    assert_eq!(out(&shown), "log = \"theirs\"\n");
    browser.close().await.unwrap();
}
