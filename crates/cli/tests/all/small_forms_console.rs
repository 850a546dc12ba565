//! The smaller forms by real keys: hosts, registries, settings, kept logs, tokens, volumes, networks, one-offs, dialogs. Every
//! field is typed into, copied, cleared, pasted and altered, and what it says at last arrives where the form sends it.

use std::time::Duration;

use gubernum_testbed::browser::Browser;
use thirtyfour::error::WebDriverResult;
use thirtyfour::{By, Key, WebElement};

use crate::acting_console::{press, write};
use crate::console::Page;
use crate::figures_console::asked;
use crate::support::{demo, json, settled, until};

/// The field with this name: by its own label, or by the label that is beside it.
async fn field(page: &Page<'_>, name: &str) -> WebDriverResult<WebElement> {
    let find = "const [name] = arguments; const shown = e => e && e.checkVisibility(); \
        return [...document.querySelectorAll(`[aria-label=\"${name}\"]`)].find(shown) \
        ?? [...document.querySelectorAll('label')].filter(l => l.innerText.trim() === name) \
           .map(l => document.getElementById(l.htmlFor)).find(shown) ?? null";
    page.0.execute(find, vec![name.into()]).await?.element()
}

/// Waits until the field shows this.
async fn shows(page: &Page<'_>, name: &str, wanted: &str) -> Result<(), String> {
    let mut last = None;
    for _ in 0..60 {
        if let Ok(field) = field(page, name).await {
            last = field.prop("value").await.ok().flatten();
            if last.as_deref() == Some(wanted) {
                return Ok(());
            }
        }
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    Err(format!("'{name}' shows {last:?} instead of {wanted:?}"))
}

/// Keys for a field, of which what is drawn again meanwhile is looked for again.
async fn keys(page: &Page<'_>, name: &str, all: &[String]) {
    for attempt in 0.. {
        let done = async {
            let field = field(page, name).await?;
            field.scroll_into_view().await?;
            field.click().await?;
            for keys in all {
                field.send_keys(keys).await?;
            }
            WebDriverResult::Ok(())
        };
        match done.await {
            Ok(()) => return,
            Err(error) => assert!(attempt < 100, "'{name}' takes no keys: {error}"),
        }
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
}

/// Types, copies, clears, pastes and alters: the field shows each, and at last `typed` with `added` behind it.
async fn written(page: &Page<'_>, name: &str, typed: &str, added: &str) {
    let [all, leave] = [chord("a"), Key::Tab.value().to_string()];
    // A password is not given to the clipboard, by design of the browser: its paste is that of an earlier field.
    let secret = field(page, name).await.is_ok() && {
        let found = field(page, name).await.unwrap();
        found.attr("type").await.unwrap().as_deref() == Some("password")
    };
    keys(page, name, &[all.clone(), typed.to_owned(), leave.clone()]).await;
    shows(page, name, typed).await.expect("what is typed stays");
    if !secret {
        keys(page, name, &[all.clone(), chord("c"), leave.clone()]).await;
    }
    keys(page, name, &[all.clone(), Key::Delete.value().to_string(), leave.clone()]).await;
    shows(page, name, "").await.expect("what is cleared stays cleared");
    if secret {
        keys(page, name, &[typed.to_owned(), leave.clone()]).await;
    } else {
        keys(page, name, &[chord("v"), leave.clone()]).await;
    }
    shows(page, name, typed).await.expect("what is pasted stays");
    keys(page, name, &[chord(&Key::End.value().to_string()), added.to_owned(), leave]).await;
    shows(page, name, &format!("{typed}{added}")).await.expect("what is altered stays");
}

/// Presses the button of the dialog that carries the change out, once it can be pressed, and waits until the dialog is gone.
async fn confirm(page: &Page<'_>) {
    for _ in 0..200 {
        if page.count(".bx--modal.is-visible").await == 0 {
            return;
        }
        if let Ok(button) =
            page.0.find(By::Css(".bx--modal.is-visible .bx--btn--primary:not(:disabled)")).await
        {
            let _ = button.click().await;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("the dialog stays: {}", page.text(".bx--modal.is-visible").await);
}

/// A key pressed while Control is held down.
fn chord(key: &str) -> String {
    format!("{}{key}", Key::Control.value())
}

/// Writes several fields so.
async fn all_written(page: &Page<'_>, fields: &[(&str, &str, &str)]) {
    for (name, typed, added) in fields {
        written(page, name, typed, added).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn settings_and_tokens_take_what_is_typed_pasted_altered_and_cleared() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;

    page.go(&demo, "/account").await;
    all_written(&page, &[("Token name", "night sh", "ift"), ("Expires after (days)", "1", "4")]).await;
    press(&page, "Create token").await;
    page.reads("main", "Copy the token now").await;
    let tokens = asked(&demo, "/api/v1/tokens").await;
    let made = tokens.as_array().unwrap().iter().find(|t| t["name"] == "night shift").expect("it is made");
    let days = |key: &str| made[key].as_str().unwrap()[..10].to_owned();
    assert_ne!(days("created"), days("expires"), "{made}");

    page.go(&demo, "/service").await;
    all_written(
        &page,
        &[
            ("Revisions kept of each container", "1", "2"),
            ("Hours unused before Tidy lists an object", "3", "6"),
            ("Hours unused before an object is safe to remove", "20", "0"),
            ("Hours unused before build cache is safe to remove", "10", "0"),
            ("Hours between checks for newer images (0: never)", "1", "3"),
        ],
    )
    .await;
    press(&page, "Save").await;
    page.reads("main", "Settings saved").await;
    let set = asked(&demo, "/api/v1/preferences").await;
    let figures = [
        "kept_earlier",
        "tidy_after_hours",
        "safe_after_hours",
        "cache_safe_after_hours",
        "image_check_hours",
    ];
    assert_eq!(figures.map(|name| set[name].as_u64().unwrap()), [12, 36, 200, 100, 13], "{set}");

    // A registry that nothing answers at: the address arrives as it was written, and nothing in the form is lost.
    press(&page, "Certificate and plain HTTP").await;
    let pem = "-----BEGIN CERTIFICATE-----\nnot one\n-----END CERTIFICATE----";
    all_written(
        &page,
        &[
            ("Address", "127.0.0.1", ":9"),
            ("Account", "packer", "s"),
            ("Secret", "winter mast", " 4711"),
            ("CA certificate (PEM), if it is not a public one", pem, "-"),
        ],
    )
    .await;
    press(&page, "Test and save").await;
    page.reads("main", "certificate").await;
    shows(&page, "Secret", "winter mast 4711").await.unwrap();
    let pem = "CA certificate (PEM), if it is not a public one";
    keys(&page, pem, &[chord("a"), Key::Delete.value().to_string()]).await;
    press(&page, "Test and save").await;
    page.reads("main", "127.0.0.1:9").await;
    shows(&page, "Account", "packers").await.unwrap();
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn hosts_kept_logs_volumes_and_networks_take_what_is_typed() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;

    page.go(&demo, "/hosts").await;
    press(&page, "Connect a host").await;
    all_written(&page, &[("Name", "scale", "s"), ("Engine's address", "tcp://127.0.0.1:", "9")]).await;
    for (name, what) in [
        ("CA certificate (PEM)", "authority"),
        ("Client certificate (PEM)", "ours"),
        ("Client key (PEM); encrypted, never shown again", "key"),
    ] {
        written(&page, name, &format!("-----BEGIN-----\n{what}"), "\n-----END-----").await;
    }
    press(&page, "Test").await;
    page.reads("form", "PEM").await;
    shows(&page, "Engine's address", "tcp://127.0.0.1:9").await.unwrap();
    written(&page, "Engine's address", "unix:///srv/scales", ".sock").await;
    press(&page, "Test").await;
    page.reads("form", "unix:///srv/scales.sock").await;

    page.go(&demo, "/logs?keeping=1").await;
    press(&page, "Kept logs…").await;
    all_written(&page, &[("Which", "gradin", "g"), ("Days", "2", "1"), ("GiB", "1", ".5")]).await;
    press(&page, "Keep").await;
    page.reads("[data-test=kept]", "21 days, at most 1.5 GiB").await;
    let rules = json(&demo, &["list", "kept-logs"]);
    let rule = rules.as_array().unwrap().iter().find(|r| r["value"] == "grading" && r["days"] == 21);
    assert_eq!(rule.expect("it is set")["bytes"].as_u64(), Some(3 << 29), "{rules}");

    page.go(&demo, "/volumes").await;
    press(&page, "Create a volume…").await;
    write(&page, "Host", "packhouse").await;
    let fields =
        [("Name", "crate", "_labels"), ("Driver", "loca", "l"), ("Options", "type=tmpfs, device=tm", "pfs")];
    all_written(&page, &fields).await;
    press(&page, "Create…").await;
    page.reads("[data-test=consequences]", "crate_labels").await;
    confirm(&page).await;
    let volume = || {
        let all = json(&demo, &["list", "volumes", "--host", "packhouse"]);
        all.as_array().unwrap().iter().find(|v| v["name"] == "crate_labels").cloned()
    };
    until("the volume is made", || volume().is_some());
    let shown = json(&demo, &["show", "volume", "packhouse/crate_labels"]);
    assert_eq!(shown["options"]["device"], "tmpfs", "{shown}");

    page.go(&demo, "/networks").await;
    press(&page, "Create a network…").await;
    write(&page, "Host", "packhouse").await;
    all_written(
        &page,
        &[
            ("Name", "scale", "s"),
            ("Driver", "bridg", "e"),
            ("Options", "mtu=140", "0"),
            ("Addresses", "10.91.9.0/2", "4"),
            ("Gateway", "10.91.9.", "1"),
        ],
    )
    .await;
    press(&page, "Create…").await;
    page.reads("[data-test=consequences]", "scales").await;
    confirm(&page).await;
    until("the network is made", || {
        let all = json(&demo, &["list", "networks"]);
        all.as_array().unwrap().iter().any(|n| n["subnets"].to_string().contains("10.91.9.0/24"))
    });

    page.go(&demo, "/containers?inspect=packhouse/auction-web-1").await;
    press(&page, "Connect to network…").await;
    write(&page, "Network to join", "scales").await;
    all_written(&page, &[("Aliases", "front, web", "-8"), ("Address", "10.91.9.", "77")]).await;
    press(&page, "Connect…").await;
    page.reads("[data-test=consequences]", "10.91.9.77").await;
    confirm(&page).await;
    until("it is joined", || {
        let shown = json(&demo, &["show", "container", "packhouse/auction-web-1"]).to_string();
        shown.contains("10.91.9.77") && shown.contains("web-8")
    });
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn one_offs_builds_and_dialogs_take_what_is_typed() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;

    page.go(&demo, "/containers?inspect=packhouse/auction-web-1&tab=terminal").await;
    all_written(&page, &[("User of the terminal", "10", "00"), ("Folder of the terminal", "/ap", "p")]).await;
    let command = ("Command to run", "echo pears and", " plums");
    all_written(&page, &[command, ("User of the command", "10", "01"), ("Time limit (s)", "3", "0")]).await;
    press(&page, "Run").await;
    page.reads("[data-test=run-output]", "pears and plums").await;
    page.reads("[data-test=run-outcome]", "Exit code 0").await;

    page.go(&demo, "/containers?inspect=packhouse/auction-web-1").await;
    press(&page, "Stop…").await;
    written(&page, "Grace period in seconds", "1", "2").await;
    page.reads("[data-test=consequences]", "auction-web-1").await;
    confirm(&page).await;
    until("it is asked so", || {
        // The request, as the operation's step carries it.
        json(&demo, &["list", "operations"]).to_string().contains("\"grace_seconds\":12")
    });

    page.go(&demo, "/containers?inspect=packhouse/auction-web-1&tab=files").await;
    written(&page, "Go to", "/ap", "p").await;

    page.go(&demo, "/images").await;
    press(&page, "Build an image…").await;
    write(&page, "Host", "packhouse").await;
    write(&page, "Source", "git").await;
    press(&page, "Build file, stage, arguments").await;
    all_written(
        &page,
        &[
            ("Name of the image", "frost/build", ":1"),
            ("Git URL", "https://127.0.0.1:9/frost", ".git"),
            ("Build file", "build/Contain", "erfile"),
            ("Stage", "run", "ner"),
            ("Build arguments", "SEASON=la", "te"),
        ],
    )
    .await;
    press(&page, "Build").await;
    page.find("[data-test=build-outcome]").await;
    browser.close().await.unwrap();
}
