//! `kill -9` of the service at any moment while a stack of a real engine is changed: afterwards the stack is either wholly
//! what it was or wholly the new one, and the journal says which.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use gubernum_testbed::real::{IMAGE, RealEngine};
use serde_json::json;

use crate::killed::{Dice, Ground, kills, until};

/// Moments at which it is killed, in milliseconds after the operation was taken; `GUBERNUM_KILLS` asks for this many at random instead.
const MOMENTS: [u64; 8] = [0, 150, 400, 700, 1100, 1600, 2200, 3000];

/// `usual` is how long a change takes that nobody disturbs, in milliseconds; some moments come after the end of what is tried.
fn moments(usual: u64) -> Vec<u64> {
    let Some(kills) = kills() else { return MOMENTS.to_vec() };
    let mut dice = Dice::thrown();
    (0..kills).map(|_| dice.below(usual + usual / 4)).collect()
}

fn text(level: &str) -> String {
    let command = ["sh", "-c", "trap 'exit 0' TERM; while true; do sleep 1 & wait $$!; done"];
    let service = |extra: serde_json::Value| {
        let mut service = json!({"image": IMAGE, "pull_policy": "never", "command": command,
            "environment": {"LEVEL": level}, "stop_grace_period": "1s", "network_mode": "none"});
        service.as_object_mut().unwrap().extend(extra.as_object().unwrap().clone());
        service
    };
    json!({"services": {
        "store": service(json!({"volumes": ["readings:/readings"],
            "healthcheck": {"test": ["CMD-SHELL", "true"], "interval": "1s"}})),
        "api": service(json!({"configs": ["level"], "depends_on": {"store": {"condition": "service_healthy"}}})),
        "web": service(json!({"depends_on": ["api"], "deploy": {"update_config": {"order": "start-first"}}})),
    }, "volumes": {"readings": {}}, "configs": {"level": {"content": level}}})
    .to_string()
}

/// The stack's containers with what each was made with and whether it runs, as the engine's client tells.
fn stack(engine: &RealEngine) -> BTreeMap<String, (String, String, bool)> {
    let names = engine.tool(&["ps", "--all", "--format", "{{.Names}}"]).unwrap();
    let look = |name: &str| {
        let text = engine.tool(&["inspect", name]).ok()?;
        let record: serde_json::Value = serde_json::from_str(&text).ok()?;
        let variables = record[0]["Config"]["Env"].as_array()?;
        let level = variables.iter().find_map(|v| v.as_str()?.strip_prefix("LEVEL="))?.to_owned();
        let id = record[0]["Id"].as_str()?.to_owned();
        Some((name.to_owned(), (level, id, record[0]["State"]["Running"] == true)))
    };
    names.lines().filter_map(look).collect()
}

async fn on(engine: RealEngine) {
    let mut ground = Ground::new(&engine).await;
    let file = ground.folder().join("stack.yaml");
    let path = file.to_str().unwrap().to_owned();
    let words = ["deploy", &path, "--to", "packhouse", "--name", "frost", "--watch", "1"];
    std::fs::write(&file, text("0")).unwrap();
    ground.told(&words);
    assert_eq!(stack(&engine).len(), 3, "{:?}", stack(&engine));
    let mut outcomes = BTreeMap::<String, u32>::new();
    let mut current = "new".to_owned();
    std::fs::write(&file, text(&current)).unwrap();
    let begun = Instant::now();
    ground.told(&words);
    let usual = u64::try_from(begun.elapsed().as_millis()).unwrap();
    println!("a change takes {usual} ms");
    for (n, moment) in moments(usual).into_iter().enumerate() {
        let before = stack(&engine);
        let ids: Vec<&String> = before.values().map(|(_, id, _)| id).collect();
        until("the fleet has caught up", || {
            let all = ground.told(&["list", "containers"]);
            let shown = |id: &&String| all.as_array().unwrap().iter().any(|c| c["id"] == **id);
            ids.iter().all(shown)
        });
        let next = format!("{}", n + 1);
        std::fs::write(&file, text(&next)).unwrap();
        let submitted = ground.told(&[&words[..], &["--no-wait"]].concat());
        let id = submitted["id"].as_u64().unwrap_or_else(|| panic!("{submitted}"));
        // The moment is what is tried here, not something that is waited for.
        std::thread::sleep(Duration::from_millis(moment));
        ground.kill_and_start();
        ground.settled();
        until("it is settled", || ground.operation(id)["state"] != "running");
        let after = stack(&engine);
        let operation = ground.operation(id);
        let told = operation["state"].as_str().unwrap().to_owned();
        let levels: Vec<&str> = after.values().map(|(level, _, _)| level.as_str()).collect();
        assert_eq!(after.len(), 3, "{after:?}\n{operation:#}");
        assert!(after.values().all(|(_, _, runs)| *runs), "{after:?}\n{operation:#}");
        if told == "succeeded" {
            assert!(levels.iter().all(|l| *l == next), "{moment} ms: {after:?}\n{operation:#}");
            current = next;
        } else {
            assert!(levels.iter().all(|l| *l == current), "{moment} ms: {after:?}\n{operation:#}");
            assert_eq!(after, before, "the same containers as before\n{operation:#}");
        }
        let revisions = ground.told(&["list", "revisions", "packhouse/frost"]);
        let is_newest = revisions[0]["operation"] == id;
        assert_eq!(is_newest, told == "succeeded", "{revisions}");
        *outcomes.entry(told).or_default() += 1;
    }
    println!("{outcomes:?}");
    assert!(outcomes.contains_key("interrupted"), "{outcomes:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stack_is_old_or_new_on_dockerd() {
    on(RealEngine::dockerd().unwrap()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stack_is_old_or_new_on_podman() {
    on(RealEngine::podman().unwrap()).await;
}
