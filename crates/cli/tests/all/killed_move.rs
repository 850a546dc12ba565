//! `kill -9` of the service at random moments while a stack moves between two real engines: afterwards it runs on one of them, with
//! its data, and the journal says which. `GUBERNUM_KILLS` says how often; a run tells its seed.

use std::time::{Duration, Instant};

use gubernum_testbed::real::{IMAGE, RealEngine};
use serde_json::json;

use crate::killed::{Dice, Ground, kills, until};

const KILLS: u32 = 6;

fn text() -> String {
    let command = ["sh", "-c", "trap 'exit 0' TERM; while true; do sleep 1 & wait $$!; done"];
    let service = |extra: serde_json::Value| {
        let mut service = json!({"image": IMAGE, "pull_policy": "never", "command": command,
            "stop_grace_period": "1s", "network_mode": "none"});
        service.as_object_mut().unwrap().extend(extra.as_object().unwrap().clone());
        service
    };
    json!({"services": {
        "store": service(json!({"volumes": ["readings:/readings"],
            "healthcheck": {"test": ["CMD-SHELL", "true"], "interval": "1s"}})),
        "api": service(json!({"configs": ["level"], "depends_on": {"store": {"condition": "service_healthy"}}})),
    }, "volumes": {"readings": {}}, "configs": {"level": {"content": "two"}}})
    .to_string()
}

/// The names of the stack's containers on an engine, and which of them run.
fn stack(engine: &RealEngine) -> Vec<(String, bool)> {
    let told = engine.tool(&["ps", "--all", "--format", "{{.Names}} {{.Status}}"]).unwrap();
    let mut all: Vec<(String, bool)> = told
        .lines()
        .filter_map(|line| line.split_once(' '))
        .filter(|(name, _)| name.starts_with("frost"))
        .map(|(name, status)| (name.to_owned(), status.starts_with("Up")))
        .collect();
    all.sort();
    all
}

/// What became of each part, a line each.
fn outcomes_of(operation: &serde_json::Value) -> String {
    let line = |t: &serde_json::Value| {
        format!("  {} {} {}: {} {}\n", t["host"], t["object"], t["name"], t["state"], t["sentence"])
    };
    operation["targets"].as_array().unwrap().iter().map(line).collect()
}

fn runs(engine: &RealEngine) -> bool {
    let all = stack(engine);
    all.len() == 2 && all.iter().all(|(_, up)| *up)
}

async fn between(engines: [RealEngine; 2]) {
    let names = ["packhouse", "coldstore"];
    let mut ground = Ground::new(&engines[0]).await;
    let address = engines[1].endpoint().to_string();
    assert!(ground.run(&["add", "host", "coldstore", &address]).status.success());
    ground.settled();
    let file = ground.folder().join("stack.yaml");
    std::fs::write(&file, text()).unwrap();
    ground.told(&["deploy", file.to_str().unwrap(), "--to", "packhouse", "--name", "frost", "--watch", "1"]);
    let serving = "frost-store-1";
    engines[0].tool(&["exec", serving, "sh", "-c", "head -c 3000000 /dev/urandom > /readings/mast"]).unwrap();
    let sum = |at: usize| engines[at].tool(&["exec", serving, "sh", "-c", "md5sum /readings/mast"]).unwrap();
    let data = sum(0);
    let mut at = 0;
    let wish = |at: usize| {
        let from = format!("{}/frost", names[at]);
        let words = [
            "move",
            &from,
            "--stack",
            "--to",
            names[1 - at],
            "--watch",
            "1",
            "--remove-volumes",
            "--first-pass",
        ];
        words.map(str::to_owned)
    };
    let asked = |ground: &Ground, at: usize, more: &[&str]| {
        let words = wish(at);
        let words: Vec<&str> = words.iter().map(String::as_str).chain(more.iter().copied()).collect();
        ground.told(&words)
    };
    // How long one takes that nobody disturbs: the moments are spread over that.
    let begun = Instant::now();
    let whole = asked(&ground, at, &[]);
    assert_eq!(whole["state"], "succeeded", "{whole:#}");
    let usual = u64::try_from(begun.elapsed().as_millis()).unwrap();
    at = 1;
    let kills = kills().unwrap_or(KILLS);
    println!("a move takes {usual} ms");
    let mut dice = Dice::thrown();
    let mut outcomes = std::collections::BTreeMap::<String, u32>::new();
    for _ in 0..kills {
        // Some come after the end of what is tried.
        let moment = dice.below(usual + usual / 6);
        until("the fleet has caught up", || {
            let all = ground.told(&["list", "containers"]);
            let on = |c: &&serde_json::Value| {
                c["host"] == names[at] && c["stack"] == "frost" && c["state"] == "running"
            };
            all.as_array().unwrap().iter().filter(on).count() == 2
        });
        let submitted = asked(&ground, at, &["--no-wait"]);
        let id = submitted["id"].as_u64().unwrap_or_else(|| panic!("{submitted}"));
        // The moment is what is tried here, not something that is waited for.
        std::thread::sleep(Duration::from_millis(moment));
        ground.kill_and_start();
        ground.settled();
        until("it is settled", || ground.operation(id)["state"] != "running");
        let operation = ground.operation(id);
        let told = operation["state"].as_str().unwrap().to_owned();
        if told == "succeeded" {
            at = 1 - at;
        }
        let targets = outcomes_of(&operation);
        let state = || {
            let (here, there) = (stack(&engines[at]), stack(&engines[1 - at]));
            format!("{moment} ms, {told}: {} {here:?}, {} {there:?}\n{targets}", names[at], names[1 - at])
        };
        assert!(runs(&engines[at]), "{}", state());
        assert!(stack(&engines[1 - at]).is_empty(), "{}", state());
        let volumes = engines[1 - at].tool(&["volume", "ls", "--quiet"]).unwrap();
        assert!(!volumes.contains("frost_readings"), "{volumes} {}", state());
        assert_eq!(sum(at), data, "{}", state());
        let kept = ground.told(&["list", "revisions", &format!("{}/frost", names[at])]);
        assert!(!kept.as_array().unwrap().is_empty(), "{}", state());
        *outcomes.entry(told).or_default() += 1;
    }
    println!("{outcomes:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stack_is_here_or_there() {
    between([RealEngine::dockerd().unwrap(), RealEngine::podman().unwrap()]).await;
}
