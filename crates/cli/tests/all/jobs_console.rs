//! The demo's stored stacks in the console by real keys and clicks: what differs, a job and what it said, a run of it, what waits for
//! approval; and a stack that goes to another host. The pages are held to axe's rules, at desktop and phone size.

use gubernum_testbed::browser::Browser;
use gubernum_testbed::started::Started;
use serde_json::json;

use crate::acting_console::press;
use crate::console::Page;
use crate::stacks_console::{both, confirm};
use crate::support::{binary, json, out, run, settled, until};

const CRATES: &str = "\
services:
  store:
    image: registry.tarnvalley.example/base/rowstore:4.2
    volumes: ['crates:/data']
volumes: {crates: {}}
";

#[test]
fn the_demos_stacks_have_texts_a_past_and_something_that_waits() {
    let demo = Started::demo(binary(), &["--calm"]).unwrap();
    settled(&demo);
    let revisions = json(&demo, &["list", "revisions", "packhouse/frostwatch"]);
    let members: Vec<&str> =
        revisions.as_array().unwrap().iter().map(|r| r["member"].as_str().unwrap()).collect();
    assert_eq!(members, ["mara", "jory", "tess"]);
    until("what differs is told", || {
        let told = json(&demo, &["list", "drift"]);
        let of = |stack: &str| {
            told.as_array().unwrap().iter().find(|r| r["stack"] == stack).cloned().unwrap_or_default()
        };
        let differs = of("grading")["differs"].clone();
        differs.as_array().is_some_and(|d| d.contains(&json!("grading-camera-3-1")))
            && of("coldchain")["differs"] == json!([])
    });
    until("a change waits", || json(&demo, &["show", "source", "packhouse/auction"])["waiting"] == true);
    let preview =
        out(&run(&demo, &["preview", "deploy", "--waiting", "--to", "packhouse", "--name", "auction"]));
    assert!(preview.contains("8.2.0") && preview.contains("8.3.0"), "{preview}");
    until("the update came back", || {
        let all = json(&demo, &["list", "operations", "--limit", "10"]);
        let applied =
            all.as_array().unwrap().iter().filter(|o| o["references"] == json!(["packhouse/frostwatch"]));
        applied.clone().any(|o| o["state"] == "failed")
    });
    until("its worker runs as before", || {
        let all = json(&demo, &["list", "containers", "packhouse/frostwatch-worker-1"]);
        all[0]["state"] == "running"
            && all[0]["image"] == "registry.tarnvalley.example/frostwatch/worker:3.4.1"
    });
    let runs = json(&demo, &["show", "job", "coldstore/coldchain/night-report"]);
    let outcomes: Vec<&str> =
        runs.as_array().unwrap().iter().map(|r| r["outcome"].as_str().unwrap()).collect();
    assert_eq!(outcomes, ["succeeded", "succeeded", "failed", "succeeded", "succeeded"]);
    let run_now = run(&demo, &["run-job", "coldstore/coldchain/night-report"]);
    assert!(run_now.status.success(), "{run_now:?}");
    assert!(out(&run_now).contains("report for 8 rooms written, 0 excursions"), "{run_now:?}");
    let none = run(&demo, &["run-job", "packhouse/frostwatch/api"]);
    assert!(String::from_utf8_lossy(&none.stderr).contains("has no job 'api'"), "{none:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_is_read_and_run_and_a_stack_goes_to_another_host() {
    let demo = Started::demo(binary(), &["--calm"]).unwrap();
    settled(&demo);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("stack.yaml");
    std::fs::write(&file, CRATES).unwrap();
    let deployed = run(
        &demo,
        &["deploy", file.to_str().unwrap(), "--to", "packhouse", "--name", "crates", "--watch", "1"],
    );
    assert!(deployed.status.success(), "{deployed:?}");
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    let mut wrong = Vec::new();

    page.reads("[data-test=attention]", "Drift from revision 1 of the stack grading").await;
    page.go(&demo, "/stacks/coldstore/coldchain?part=jobs").await;
    page.reads("section[aria-label=night-report]", "Succeeded").await;
    page.reads("section[aria-label=night-report]", "Europe/London").await;
    page.click("section[aria-label=night-report] .bx--accordion__heading").await;
    page.reads("section[aria-label=night-report] pre", "report for 8 rooms written").await;
    both(&page, "the jobs of a stack", &mut wrong).await;
    press(&page, "Run now…").await;
    confirm(&page).await;
    page.reads("section[aria-label=night-report]", "6 runs").await;

    page.go(&demo, "/stacks/packhouse/crates").await;
    page.reads("[data-test=stack-services]", "crates-store-1").await;
    page.click(".acts .bx--overflow-menu").await;
    press(&page, "Move…").await;
    let host = ".bx--modal.is-visible select";
    page.find(host).await.send_keys("office").await.unwrap();
    page.reads(".bx--modal.is-visible", "office").await;
    both(&page, "where a stack goes", &mut wrong).await;
    confirm(&page).await;
    // It is watched for ten seconds before the original goes.
    until("it is moved", || json(&demo, &["list", "operations", "--limit", "1"])[0]["state"] == "succeeded");
    page.go(&demo, "/stacks/office/crates").await;
    page.reads("[data-test=stack-services]", "crates-store-1").await;
    page.go(&demo, "/stacks/packhouse/crates").await;
    page.reads("main", "No container of the stack crates is on packhouse.").await;
    assert!(wrong.is_empty(), "{wrong:#?}");
}
