//! Every field of the form by real keys: typed, copied, cleared, pasted, altered, and found again in the text beside it, in
//! the preview and in the container that is made.

use std::time::Duration;

use gubernum_testbed::browser::Browser;
use thirtyfour::error::WebDriverResult;
use thirtyfour::{By, Key};

use crate::acting_console::{field, press, write};
use crate::console::Page;
use crate::support::{demo, json, settled, until};

const WEB: &str = "registry.tarnvalley.example/auction/web:8.3.0";

/// The field, what is typed, what the text says then, what is added at its end, and what the text says at last.
type Case = (&'static str, &'static str, &'static str, &'static str, &'static str);

const FIELDS: &[Case] = &[
    ("Command", "serve --port 80", "[serve, ", "81", "8081]"),
    ("Entry point", "/bin/run", "/bin/run", "ner", "/bin/runner"),
    ("User", "100", "user: 100", "7", "user: 1007"),
    ("Working directory", "/srv", "working_dir: /srv", "/app", "working_dir: /srv/app"),
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
    ("Additional groups", "20", "group_add", "5", "205"),
    ("Sysctls", "net.core.somaxconn=12", "net.core.somaxconn", "8", "128"),
    (
        "Domain name",
        "tarnvalley.exam",
        "domainname: tarnvalley.exam",
        "ple",
        "domainname: tarnvalley.example",
    ),
    ("Exposed ports", "900", "- 900", "1", "- 9001"),
    ("Memory reservation", "64MiB", "mem_reservation: 64m", "", "mem_reservation: 64m"),
    ("Shared memory", "32MiB", "shm_size: 32m", "", "shm_size: 32m"),
    ("Processor weight", "51", "cpu_shares: 51", "2", "cpu_shares: 512"),
    ("OOM score", "10", "oom_score_adj: 10", "0", "oom_score_adj: 100"),
    ("Search domains", "cold.exam", "cold.exam", "ple", "cold.example"),
    ("DNS options", "ndots:", "ndots:", "2", "ndots:2"),
    ("Devices", "/dev/frost0:/dev/frost0:r", "/dev/frost0:/dev/frost0:r", "w", "/dev/frost0:/dev/frost0:rw"),
    ("GPUs", "1", "count: 1", "2", "count: 12"),
    ("Security options", "no-new-privilege", "no-new-privilege", "s", "no-new-privileges"),
    ("PID namespace", "hos", "pid: hos", "t", "pid: host"),
    ("IPC namespace", "shareabl", "ipc: shareabl", "e", "ipc: shareable"),
    ("User namespace", "hos", "userns_mode: hos", "t", "userns_mode: host"),
    ("Log driver", "json-fil", "driver: json-fil", "e", "driver: json-file"),
    ("Log options", "max-size=10", "max-size: 10", "m", "max-size: 10m"),
    ("Platform", "linux/arm", "platform: linux/arm", "64", "platform: linux/arm64"),
    ("Stop signal", "SIGTE", "stop_signal: SIGTE", "RM", "stop_signal: SIGTERM"),
    ("Memory with swap", "600MiB", "memswap_limit: 629145600", "", "memswap_limit: 629145600"),
    ("Processor set", "0", "cpuset: 0", "-1", "cpuset: 0-1"),
    ("Ulimits", "nofile=1024:409", "nofile", "6", "4096"),
    ("MAC address", "02:42:0a:5b:04:0", "02:42:0a:5b:04:0", "9", "02:42:0a:5b:04:09"),
    ("Retry limit", "1", "on-failure:1", "2", "on-failure:12"),
    ("Health check", "test -d /sr", "test -d /sr", "v", "test -d /srv"),
    ("Interval of the check", "20 s", "interval: 20s", "", "interval: 20s"),
    ("Timeout of the check", "3 s", "timeout: 3s", "", "timeout: 3s"),
    ("Retries of the check", "1", "retries: 1", "1", "retries: 11"),
    ("Start period", "4 s", "start_period: 4s", "", "start_period: 4s"),
    ("Address of port 1", "10.91.5.", "10.91.5.", "5", "10.91.5.5"),
    ("Host port 1", "95", "95:", "55", "9555:"),
    ("Container port 1", "30", ":30", "01", ":3001"),
    ("Source of mount 1", "typed-dat", "typed-dat", "a", "typed-data"),
    ("Path of mount 1", "/var/typ", "/var/typ", "ed", "/var/typed"),
    ("Owner of the folder of mount 2", "12", "owner: 12:", "34", "owner: 1234:"),
    ("Group of the folder of mount 2", "56", ":56", "78", ":5678"),
    ("Name of variable 1", "CROP", "CROP", "", "CROP"),
    ("Value of CROP", "quince", "quince", "s", "quinces"),
    ("Network 1", "frostwatch_def", "frostwatch_def", "ault", "frostwatch_default"),
    ("Aliases in network 1", "crate, pal", "pal", "let", "pallet"),
    ("Address in network 1", "10.60.0.", "10.60.0.", "9", "10.60.0.9"),
];

async fn press_keys(page: &Page<'_>, name: &str, all: Vec<thirtyfour::TypingData>) -> WebDriverResult<()> {
    let field = field(page, name).await?;
    for keys in all {
        field.send_keys(keys).await?;
    }
    Ok(())
}

/// The text of the Compose Specification that is beside the form.
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
    write(&page, "Restart", "on-failure").await;
    for row in ["Add a port", "Add a mount", "Add a mount", "Add a variable", "Add a network"] {
        press(&page, row).await;
    }
    write(&page, "Kind of mount 2", "bind").await;
    write(&page, "Source of mount 2", "/srv/nowhere").await;
    write(&page, "Path of mount 2", "/exchange").await;
    page.reads("[data-title=Storage]", "/srv/nowhere does not exist").await;
    page.click("[data-title=Storage] .make label").await;
    let mut faults = Vec::new();
    for (name, typed, ..) in FIELDS {
        write(&page, name, typed).await;
    }
    for (name, _, then, ..) in FIELDS {
        if !says(&page, then, true).await {
            faults.push(format!("{name}: what is typed does not arrive"));
        }
    }
    for (name, ..) in FIELDS {
        let copied = vec![Key::Control + "a", Key::Control + "c", Key::Delete + Key::Tab];
        press_keys(&page, name, copied).await.unwrap();
        press_keys(&page, name, vec![Key::Control + "v", Key::Tab + ""]).await.unwrap();
    }
    for (name, _, then, ..) in FIELDS {
        if !says(&page, then, true).await {
            faults.push(format!("{name}: what is pasted does not arrive"));
        }
    }
    // From the last to the first: with some fields those that follow from them go away.
    for (name, ..) in FIELDS.iter().rev() {
        press_keys(&page, name, vec![Key::Control + "a", Key::Delete + Key::Tab]).await.unwrap();
    }
    for (name, _, then, ..) in FIELDS {
        if !says(&page, then, false).await {
            faults.push(format!("{name}: what is cleared stays"));
        }
    }
    for (name, typed, _, added, _) in FIELDS {
        write(&page, name, typed).await;
        if !added.is_empty() {
            let more = vec![Key::Control + Key::End, (*added).into(), Key::Tab + ""];
            press_keys(&page, name, more).await.unwrap();
        }
    }
    for (name, .., at_last) in FIELDS {
        if !says(&page, at_last, true).await {
            faults.push(format!("{name}: what is altered does not arrive"));
        }
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
            press(&page, "Deploy container").await;
        }
        tokio::time::sleep(Duration::from_millis(1500)).await;
    }
    until("it is made", made);
    page.go(&demo, "/deploy?edit=packhouse/typed-web").await;
    press(&page, "Compose text").await;
    let mut lost = Vec::new();
    // An engine's record of a container tells neither its platform nor who owns the folders that were made for it.
    let told = |name: &str| name != "Platform" && !name.contains("of the folder");
    for (name, .., at_last) in FIELDS.iter().filter(|(name, ..)| told(name)) {
        if !says(&page, at_last, true).await {
            lost.push(name);
        }
    }
    assert!(lost.is_empty(), "{lost:?} not in {}", text(&page).await);
    assert!(before.contains("typed-web"), "{before}");
    browser.close().await.unwrap();
}
