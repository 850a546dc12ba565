//! `kill -9` in the middle of an operation, and the truth afterwards.

use gubernum_testbed::started::Started;
use serde_json::Value;

use crate::support::{binary, json, run, settled, until};

#[test]
fn after_kill_nine_the_journal_tells_the_truth() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().to_str().unwrap();
    let start =
        || Started::demo(binary(), &["--calm", "--hosts", "6", "--each", "150", "--data-dir", data]).unwrap();
    let mut demo = start();
    settled(&demo);
    let submitted = json(&demo, &["restart", "*/*", "--no-wait"]);
    let id = submitted["id"].as_u64().unwrap();
    assert_eq!(submitted["targets"].as_array().unwrap().len(), 900);
    let now = |demo: &Started| -> Value {
        let all = json(demo, &["list", "operations"]);
        all.as_array().unwrap().iter().find(|o| o["id"] == id).unwrap().clone()
    };
    let count = |operation: &Value, state: &str| {
        operation["targets"].as_array().unwrap().iter().filter(|t| t["state"] == state).count()
    };
    until("it is in the middle", || count(&now(&demo), "succeeded") >= 5);
    let before = now(&demo);
    demo.kill();
    assert!(count(&before, "waiting") > 0, "the kill came too late to show anything");

    let demo = start();
    settled(&demo);
    until("it is settled", || now(&demo)["state"] != "running");
    let after = now(&demo);
    assert_eq!(after["state"], "interrupted");
    assert_eq!(count(&after, "waiting") + count(&after, "running"), 0);
    // What was known to be done stays done; what had not begun says so.
    for (old, new) in before["targets"].as_array().unwrap().iter().zip(after["targets"].as_array().unwrap()) {
        if old["state"] == "succeeded" {
            assert_eq!(new["state"], "succeeded");
        }
        if new["state"] == "interrupted" {
            assert!(
                new["sentence"].as_str().unwrap().starts_with("the service stopped during the change"),
                "{new}"
            );
        }
    }
    assert!(count(&after, "interrupted") > 0);
    // And nothing is locked any more.
    let host = after["targets"][0]["host"].as_str().unwrap();
    let name = after["targets"][0]["name"].as_str().unwrap();
    assert!(run(&demo, &["restart", &format!("{host}/{name}")]).status.success());
}
