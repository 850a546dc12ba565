//! `kill -9` of the service in the middle of replacing a container of a real engine: whatever the moment, one container
//! serves afterwards under the name, with its labels and its data.

use std::cell::Cell;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::time::{Duration, Instant};

use gubernum_testbed::real::{IMAGE, RealEngine};
use gubernum_testbed::started::Started;
use serde_json::{Value, json};

use crate::support::{binary, json as told, run};

/// Serves until it is asked to end.
const GOOD: &str = "trap 'exit 0' TERM; while true; do sleep 1 & wait $$!; done";
const CRASHES: &str = "sleep 1; echo cannot read the ledger >&2; exit 3";

pub(crate) fn until(what: &str, holds: impl Fn() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(60), "never: {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A service on one folder with a token of its own, which can be killed and started again.
pub(crate) struct Ground {
    service: Option<Started>,
    token: String,
    folder: tempfile::TempDir,
}

impl Ground {
    pub(crate) async fn new(engine: &RealEngine) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let service = Started::serve(binary(), folder.path(), &["--find-local-engine", "false"]).unwrap();
        let client =
            gubernum_client::Client::new(service.url(), None, gubernum_client::Trust::System).unwrap();
        let claim = gubernum_api::requests::Claim {
            code: service.text("claim_code").to_owned(),
            member: "ines".into(),
            password: "russet ladder harvest moon".into(),
        };
        let session = client.claim(&claim).await.unwrap();
        let wish = gubernum_api::requests::NewToken {
            name: "tests".into(),
            expires_in_days: None,
            bounds: None,
            networks: Vec::new(),
        };
        let token = session.make_token(&wish).await.unwrap().secret;
        let ground = Self { service: Some(service), token, folder };
        let address = engine.endpoint().to_string();
        assert!(ground.run(&["add", "host", "packhouse", &address]).status.success());
        ground.settled();
        ground
    }

    pub(crate) fn token(&self) -> &str {
        &self.token
    }

    pub(crate) fn service(&self) -> &Started {
        self.service.as_ref().unwrap()
    }

    pub(crate) fn run(&self, words: &[&str]) -> std::process::Output {
        run(self.service(), &[words, &["--token", &self.token]].concat())
    }

    pub(crate) fn told(&self, words: &[&str]) -> Value {
        told(self.service(), &[words, &["--token", &self.token]].concat())
    }

    pub(crate) fn folder(&self) -> &std::path::Path {
        self.folder.path()
    }

    pub(crate) fn settled(&self) {
        until("the host is live", || {
            self.told(&["list", "hosts"]).as_array().is_some_and(|h| h.iter().all(|h| h["state"] == "live"))
        });
    }

    pub(crate) fn kill(&mut self) {
        if let Some(mut service) = self.service.take() {
            service.kill();
        }
    }

    pub(crate) fn kill_and_start(&mut self) {
        self.kill();
        let again = Started::serve(binary(), self.folder.path(), &["--find-local-engine", "false"]);
        self.service = Some(again.unwrap());
    }

    pub(crate) fn operation(&self, id: u64) -> Value {
        let all = self.told(&["list", "operations"]);
        all.as_array().unwrap().iter().find(|o| o["id"] == id).unwrap().clone()
    }
}

/// What the engine itself says of the containers of this name and those beside it.
fn at_the_engine(engine: &RealEngine) -> Vec<Value> {
    let names = engine.tool(&["ps", "--all", "--format", "{{.Names}}"]).unwrap();
    let ours = names.lines().filter(|n| n.starts_with("frost-api")).map(str::to_owned);
    let look = |name: String| -> Option<Value> {
        let text = engine.tool(&["inspect", &name]).ok()?;
        serde_json::from_str::<Value>(&text).ok()?.get(0).cloned()
    };
    ours.filter_map(look).collect()
}

fn serves(engine: &RealEngine) -> bool {
    let all = at_the_engine(engine);
    all.len() == 1
        && all[0]["State"]["Running"] == true
        && all[0]["Name"].as_str().unwrap_or_default().trim_start_matches('/') == "frost-api"
}

async fn on(engine: RealEngine) {
    let mut ground = Ground::new(&engine).await;
    let file = ground.folder.path().join("frost.yaml");
    let with = |command: &str, crop: &str| {
        let text = json!({"services": {"frost-api": {
            "image": IMAGE, "command": ["sh", "-c", command], "network_mode": "none", "labels": {"crop": crop},
            "volumes": ["readings:/readings"], "restart": "no", "pull_policy": "never"}},
            "volumes": {"readings": {}}});
        std::fs::write(&file, text.to_string()).unwrap();
    };
    let path = file.to_str().unwrap();
    with(GOOD, "pears");
    let output = ground.run(&["deploy", "packhouse/frost-api", "--file", path, "--watch", "1"]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    engine.tool(&["exec", "frost-api", "sh", "-c", "echo 4.2 > /readings/mast"]).unwrap();

    // At every step of it, for one that ends badly and for one that would come up.
    let steps = Cell::new(0);
    for (command, what) in [(CRASHES, "one that crashes"), (GOOD, "one that comes up")] {
        for step in 0.. {
            with(command, &format!("pears-{what}-{step}"));
            let submitted =
                ground.told(&["edit", "packhouse/frost-api", "--file", path, "--watch", "2", "--no-wait"]);
            let id = submitted["id"].as_u64().unwrap_or_else(|| panic!("{submitted}"));
            let all = submitted["targets"][0]["steps"].as_array().map_or(0, Vec::len);
            if step >= all {
                until("it is over", || ground.operation(id)["state"] != "running");
                break;
            }
            // Killed once it has come to this step, or is over.
            until("it has come so far", || {
                let now = ground.operation(id);
                now["state"] != "running" || now["targets"][0]["at"].as_u64().unwrap_or(0) >= step as u64
            });
            let killed = Instant::now();
            ground.kill_and_start();
            until("something serves", || serves(&engine));
            let without = killed.elapsed();
            ground.settled();
            until("it is settled", || ground.operation(id)["state"] != "running");
            until("something serves still", || serves(&engine));
            let sentence = ground.operation(id)["targets"][0]["sentence"].clone();
            println!(
                "{what}, step {step} of {all}: {:.1} s until it served: {sentence}",
                without.as_secs_f64()
            );
            let now = &at_the_engine(&engine)[0];
            assert!(now["Config"]["Labels"]["crop"].as_str().unwrap().starts_with("pears"), "{now}");
            let data = engine.tool(&["exec", "frost-api", "cat", "/readings/mast"]).unwrap();
            assert_eq!(data.trim(), "4.2");
            steps.set(steps.get() + 1);
        }
    }
    assert!(steps.get() >= 8, "{} steps were tried", steps.get());
}

#[tokio::test(flavor = "multi_thread")]
async fn at_every_step_on_dockerd() {
    on(RealEngine::dockerd().unwrap()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn at_every_step_on_podman() {
    on(RealEngine::podman().unwrap()).await;
}

/// Numbers that no run has in common with another.
pub(crate) struct Dice(u64);

impl Dice {
    /// With a seed of their own, which is reported.
    pub(crate) fn thrown() -> Self {
        let seed = RandomState::new().build_hasher().finish() | 1;
        println!("seed {seed}");
        Self(seed)
    }

    pub(crate) fn below(&mut self, most: u64) -> u64 {
        // xorshift64: enough to choose a moment.
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % most.max(1)
    }
}

/// How often somebody wants it killed, instead of what the test does by itself.
pub(crate) fn kills() -> Option<u32> {
    std::env::var("GUBERNUM_KILLS").ok()?.parse().ok()
}
