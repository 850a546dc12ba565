//! Every field of the form by real keys: typed, copied, cleared, pasted, altered, and found again in the text beside it, in
//! the preview and in the container that is made.

use std::time::Duration;

use gubernum_testbed::browser::Browser;
use thirtyfour::error::WebDriverResult;
use thirtyfour::{By, Key};

use crate::acting_console::{press, write};
use crate::console::Page;
use crate::support::{demo, json, settled, until};

const WEB: &str = "registry.tarnvalley.example/auction/web:8.3.0";

/// The field, what is typed, what the text says then, what is added at its end, and what the text says at last.
type Case = (&'static str, &'static str, &'static str, &'static str, &'static str);

const FIELDS: &[Case] = &[
    ("Command", "serve --port 80", "[serve, ", "81", "8081]"),
    ("Entry point", "/bin/run", "/bin/run", "ner", "/bin/runner"),
    ("User", "100", "user: 100", "7", "user: 1007"),
    ("Working folder", "/srv", "working_dir: /srv", "/app", "working_dir: /srv/app"),
    ("Hostname", "pear", "hostname: pear", "tree", "hostname: peartree"),
    ("Labels", "season=late", "season: late", "r", "season: later"),
    ("Memory", "256MiB", "mem_limit: 256m", "", "mem_limit: 256m"),
    ("Processors", "1", "cpus: 1", ".5", "cpus: 1.5"),
    ("Processes", "20", "pids_limit: 20", "5", "pids_limit: 205"),
    ("Grace period", "7 s", "stop_grace_period: 7s", "", "stop_grace_period: 7s"),
    ("Name servers", "10.91.4.1", "10.91.4.1", "7", "10.91.4.17"),
    ("Extra hosts", "mast:10.91.4.3", "mast:10.91.4.3", "8", "mast:10.91.4.38"),
    ("Capabilities added", "SYS_NIC", "SYS_NIC", "E", "SYS_NICE"),
    ("Capabilities dropped", "MKNO", "MKNO", "D", "MKNOD"),
    ("Further groups", "20", "group_add", "5", "205"),
    ("Kernel settings", "net.core.somaxconn=12", "net.core.somaxconn", "8", "128"),
    (
        "Domain name",
        "tarnvalley.exam",
        "domainname: tarnvalley.exam",
        "ple",
        "domainname: tarnvalley.example",
    ),
    ("Inner ports", "900", "- 900", "1", "- 9001"),
    ("Memory reserved", "64MiB", "mem_reservation: 64m", "", "mem_reservation: 64m"),
    ("Shared memory", "32MiB", "shm_size: 32m", "", "shm_size: 32m"),
    ("Processor weight", "51", "cpu_shares: 51", "2", "cpu_shares: 512"),
    ("Out of memory score", "10", "oom_score_adj: 10", "0", "oom_score_adj: 100"),
    ("Search domains", "cold.exam", "cold.exam", "ple", "cold.example"),
    ("Name server options", "ndots:", "ndots:", "2", "ndots:2"),
];

async fn press_keys(page: &Page<'_>, name: &str, all: Vec<thirtyfour::TypingData>) -> WebDriverResult<()> {
    let field = page.0.find(By::Css(format!("[aria-label='{name}']"))).await?;
    for keys in all {
        field.send_keys(keys).await?;
    }
    Ok(())
}

/// The text of the Compose Specification that stands beside the form.
async fn text(page: &Page<'_>) -> String {
    let found =
        page.script("return document.querySelector('[aria-label=\"Compose text\"]')?.value ?? ''").await;
    found.as_str().unwrap_or_default().to_owned()
}

/// Whether the text comes to have these words, or to have them no more; quotation marks do not count.
async fn says(page: &Page<'_>, words: &str, wanted: bool) -> bool {
    for _ in 0..100 {
        if text(page).await.replace('"', "").contains(words) == wanted {
            return true;
        }
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    false
}

#[tokio::test(flavor = "multi_thread")]
async fn every_field_takes_what_is_typed_pasted_altered_and_cleared() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    page.go(&demo, "/deploy").await;
    write(&page, "Image", WEB).await;
    write(&page, "Host", "packhouse").await;
    write(&page, "Name", "typed-web").await;
    press(&page, "Compose text").await;
    // What is folded is opened as one would: by pressing on it.
    for title in page.0.find_all(By::Css("[data-test=part]:not([open]) > summary")).await.unwrap() {
        title.scroll_into_view().await.unwrap();
        title.click().await.unwrap();
    }
    let mut faults = Vec::new();
    for (name, typed, then, added, at_last) in FIELDS {
        write(&page, name, typed).await;
        let mut holds = vec![("typed", says(&page, then, true).await)];
        let copied = vec![Key::Control + "a", Key::Control + "c", Key::Delete + Key::Tab];
        press_keys(&page, name, copied).await.unwrap();
        holds.push(("cleared", says(&page, then, false).await));
        press_keys(&page, name, vec![Key::Control + "v", Key::Tab + ""]).await.unwrap();
        holds.push(("pasted", says(&page, then, true).await));
        if !added.is_empty() {
            let more = vec![Key::Control + Key::End, (*added).into(), Key::Tab + ""];
            press_keys(&page, name, more).await.unwrap();
        }
        holds.push(("altered", says(&page, at_last, true).await));
        let failed = holds.into_iter().filter(|(_, held)| !held);
        faults.extend(failed.map(|(how, _)| format!("{name}: what is {how} does not arrive")));
    }
    assert!(faults.is_empty(), "{faults:#?} in {}", text(&page).await);
    let before = text(&page).await;
    write(&page, "Watch", "1 s").await;
    press(&page, "Preview").await;
    page.reads("[data-test=consequences]", "typed-web").await;
    for _ in 0..200 {
        if page.count(".end button:not(:disabled)").await > 0 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_ne!(page.count(".end button:not(:disabled)").await, 0, "{}", page.text("main").await);
    // A look that comes back late asks for a second one: then the button is pressed again, as a person would.
    let made = || {
        json(&demo, &["list", "containers", "packhouse/typed-web"]).as_array().is_some_and(|c| !c.is_empty())
    };
    for _ in 0..20 {
        if made() {
            break;
        }
        if page.count(".end button:not(:disabled)").await > 0 {
            press(&page, "Deploy it").await;
        }
        tokio::time::sleep(Duration::from_millis(1500)).await;
    }
    until("it is made", made);
    page.go(&demo, "/deploy?edit=packhouse/typed-web").await;
    press(&page, "Compose text").await;
    for (name, .., at_last) in FIELDS {
        assert!(says(&page, at_last, true).await, "{name} in {}", text(&page).await);
    }
    assert!(before.contains("typed-web"), "{before}");
    browser.close().await.unwrap();
}
