//! A stack on real engines: applied, applied again, changed, reduced, rolled back, and left alone when a part of it fails.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use gubernum_api::requests::{ApplyRequest, NewHost, NewOperation, OnFailure, RemoveStackRequest, Request};
use gubernum_api::{Operation, OperationState, TargetState};
use gubernum_client::Client;
use gubernum_testbed::hosts::{HostNet, NetHost};
use gubernum_testbed::real::IMAGE;

use crate::support::{claim, start, until};

/// Ten services with checks, a config, a secret, two networks and a migration that is run once.
const FROST: &str = r#"
x-common: &common
  image: IMAGE
  pull_policy: never
  stop_grace_period: 1s
  command: ["sh", "-c", "trap 'exit 0' TERM; while true; do sleep 1 & wait $$!; done"]
services:
  store:
    <<: *common
    volumes: [readings:/readings]
    networks: [cold, default]
    healthcheck: {test: ["CMD-SHELL", "test -d /readings"], interval: 1s, retries: 5}
  prepare:
    image: IMAGE
    pull_policy: never
    command: ["sh", "-c", "cat /run/secrets/ledger /etc/frost/level > /readings/prepared"]
    volumes: [readings:/readings]
    secrets: [ledger]
    configs: [{source: level, target: /etc/frost/level, mode: 0440}]
    depends_on: {store: {condition: service_healthy}}
  api:
    <<: *common
    environment: {TZ: "${ZONE:-UTC}"}
    secrets: [{source: ledger, target: /run/keys/deep/ledger, uid: "1000", mode: 0400}]
    networks: {cold: {aliases: [frost]}, default: }
    depends_on: {prepare: {condition: service_completed_successfully}}
  web: {<<: *common, depends_on: [api]}
  probe-a: {<<: *common, depends_on: [store]}
  probe-b: {<<: *common, depends_on: [store]}
  probe-c: {<<: *common, networks: [cold]}
  mailer: {<<: *common, environment: [LEVEL=2]}
  clock: {<<: *common, network_mode: none}
  beside: {<<: *common, network_mode: "service:api"}
networks: {cold: {}}
volumes: {readings: {}}
configs: {level: {content: "level 2\n"}}
secrets: {ledger: {environment: LEDGER_KEY}}
"#;

pub(crate) struct Ground {
    net: HostNet,
    pub(crate) client: Client,
    _service: gubernum_server::Service,
    _folder: tempfile::TempDir,
}

impl Ground {
    pub(crate) async fn dockerd(octet: u8) -> Self {
        let mut net = HostNet::new(octet).unwrap();
        net.add("packhouse").unwrap();
        Self::of(net).await
    }

    pub(crate) async fn podman(octet: u8) -> Self {
        let mut net = HostNet::new(octet).unwrap();
        let registry = net.registry_address().unwrap();
        net.add_podman("packhouse", &registry).unwrap();
        Self::of(net).await
    }

    async fn of(net: HostNet) -> Self {
        net.hosts()[0].make_image(net.archive(), IMAGE, &["sh"]).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let service = start(folder.path(), None, Default::default()).await;
        let client = claim(&service).await;
        let address = net.hosts()[0].socket_address();
        let host =
            NewHost { name: "packhouse".into(), address, tls: None, ports_address: None, groups: Vec::new() };
        client.add_host(&host).await.unwrap();
        until("live", Duration::from_secs(20), async || client.hosts().await.unwrap()[0].engine.is_some())
            .await;
        Self { net, client, _service: service, _folder: folder }
    }

    pub(crate) fn host(&self) -> &NetHost {
        &self.net.hosts()[0]
    }

    fn wish(&self, text: &str, zone: &str) -> ApplyRequest {
        ApplyRequest {
            stack: "frostwatch".into(),
            files: BTreeMap::from([("stack.yaml".into(), text.replace("IMAGE", IMAGE))]),
            main: vec!["stack.yaml".into()],
            variables: BTreeMap::from([
                ("ZONE".into(), zone.into()),
                ("LEDGER_KEY".into(), "pears in autumn\n".into()),
            ]),
            profiles: BTreeSet::new(),
            watch_seconds: Some(1),
            ..ApplyRequest::default()
        }
    }

    pub(crate) async fn apply(&self, wish: ApplyRequest) -> Operation {
        self.carry_out(Request::Apply(wish)).await
    }

    pub(crate) async fn carry_out(&self, request: Request) -> Operation {
        let wish = NewOperation::new(request, vec!["packhouse".into()]);
        let mut operation = self.client.submit(&wish, None).await.unwrap();
        let deadline = tokio::time::Instant::now() + Duration::from_secs(120);
        while operation.state == OperationState::Running {
            assert!(tokio::time::Instant::now() < deadline, "never over: {operation:#?}");
            tokio::time::sleep(Duration::from_millis(50)).await;
            operation = self.client.operation(operation.id).await.unwrap();
        }
        operation
    }

    /// What a preview says that would differ.
    pub(crate) async fn differs(&self, wish: ApplyRequest) -> Vec<String> {
        let wish = NewOperation::new(Request::Apply(wish), vec!["packhouse".into()]);
        let plans = self.client.preview(&wish).await.unwrap().targets;
        let differs = plans.into_iter().filter(|p| p.unchanged.is_none());
        differs
            .map(|p| {
                let words: Vec<String> = p.differences.iter().map(|d| d.words()).collect();
                format!("{}: {} {}", p.name, p.consequence, words.join("; "))
            })
            .collect()
    }

    /// The stack's containers by name with their ids, as the engine's client tells.
    fn containers(&self) -> BTreeMap<String, String> {
        let format = "{{.Names}} {{.ID}}";
        let all = self.host().tool(&["ps", "--all", "--no-trunc", "--format", format]).unwrap();
        let pairs = all.lines().filter_map(|line| line.split_once(' '));
        pairs.map(|(name, id)| (name.to_owned(), id.to_owned())).collect()
    }

    pub(crate) async fn seen(&self, what: &str) {
        let ours = self.containers().len();
        let of_stack = [("stack", "frostwatch".to_owned())];
        until(what, Duration::from_secs(20), async || {
            self.client.containers(&of_stack).await.unwrap().len() == ours
        })
        .await;
    }
}

/// The names of those that were changed.
fn changed(operation: &Operation) -> Vec<&str> {
    let all = operation.targets.iter().filter(|t| t.state == TargetState::Succeeded);
    all.map(|t| t.name.as_str()).collect()
}

async fn on(ground: Ground) {
    let applied = ground.apply(ground.wish(FROST, "UTC")).await;
    assert_eq!(applied.state, OperationState::Succeeded, "{applied:#?}");
    assert!(!serde_json::to_string(&applied).unwrap().contains("pears"), "no secret is kept in sight");
    let first = ground.containers();
    assert_eq!(first.len(), 10, "{first:?}");
    let inside =
        |name: &str, command: &[&str]| ground.host().tool(&[&["exec", name], command].concat()).unwrap();
    let prepared = inside("frostwatch-store-1", &["cat", "/readings/prepared"]);
    assert_eq!(prepared, "pears in autumn\nlevel 2\n", "the migration had its secret and its config");
    let secret = inside("frostwatch-api-1", &["stat", "-c", "%a %u", "/run/keys/deep/ledger"]);
    assert_eq!(secret.trim(), "400 1000");
    ground.seen("all are listed").await;

    let differs = ground.differs(ground.wish(FROST, "UTC")).await;
    assert_eq!(differs, Vec::<String>::new());
    let again = ground.apply(ground.wish(FROST, "UTC")).await;
    assert!(again.targets.iter().all(|t| t.state == TargetState::Unchanged), "{again:#?}");
    assert_eq!(ground.containers(), first);

    // One variable of one service. What is bound to its network by its id follows, as it must.
    let one = ground.apply(ground.wish(FROST, "CET")).await;
    assert_eq!(changed(&one), ["frostwatch-api-1", "frostwatch-beside-1"], "{one:#?}");
    let second = ground.containers();
    let other: Vec<&String> = first.iter().filter(|(n, id)| second[*n] != **id).map(|(n, _)| n).collect();
    assert_eq!(other, ["frostwatch-api-1", "frostwatch-beside-1"]);
    ground.seen("the new ones are listed").await;

    // A service that the text does not have any more goes when it is asked.
    let without = FROST.replace("  mailer: {<<: *common, environment: [LEVEL=2]}\n", "");
    let left = ground.apply(ground.wish(&without, "CET")).await;
    assert!(ground.containers().contains_key("frostwatch-mailer-1"), "{left:#?}");
    let gone = ground.apply(ApplyRequest { remove_rest: true, ..ground.wish(&without, "CET") }).await;
    assert_eq!(changed(&gone), ["frostwatch-mailer-1"], "{gone:#?}");
    assert!(!ground.containers().contains_key("frostwatch-mailer-1"));
    ground.seen("it is gone").await;

    // A part that fails: all of it is as it was.
    let before = ground.containers();
    let bad = FROST
        .replace("  clock: {<<: *common, network_mode: none}", "  clock: {<<: *common, network_mode: none, command: [\"sh\", \"-c\", \"echo no ledger >&2; exit 3\"]}")
        .replace("networks: {cold: {}}", "networks: {cold: {}, warm: {}}")
        .replace("web: {<<: *common,", "web: {<<: *common, networks: [warm],");
    let failed = ground.apply(ground.wish(&bad, "EET")).await;
    assert_eq!(failed.state, OperationState::Failed, "{failed:#?}");
    assert!(
        failed.targets.iter().any(|t| t.sentence.as_ref().is_some_and(|s| s.contains("no ledger"))),
        "{failed:#?}"
    );
    assert_eq!(ground.containers(), before, "{failed:#?}");
    let networks = ground.host().tool(&["network", "ls", "--format", "{{.Name}}"]).unwrap();
    assert!(!networks.contains("frostwatch_warm"), "{networks}");
    ground.seen("they are back").await;

    // Stopping there instead keeps what succeeded.
    let stopped =
        ground.apply(ApplyRequest { on_failure: OnFailure::Stop, ..ground.wish(&bad, "CET") }).await;
    assert_eq!(stopped.state, OperationState::Partly, "{stopped:#?}");

    // Back to the first revision: all as it was then.
    let revisions = ground.client.stack_revisions("packhouse", "frostwatch").await.unwrap();
    let numbers: Vec<u64> = revisions.iter().map(|r| r.number).collect();
    assert_eq!(numbers.last(), Some(&1), "{numbers:?}");
    ground.seen("all are listed").await;
    let back = ApplyRequest {
        stack: "frostwatch".into(),
        revision: Some(1),
        watch_seconds: Some(1),
        ..ApplyRequest::default()
    };
    let back = ground.apply(back).await;
    assert_eq!(back.state, OperationState::Succeeded, "{back:#?}");
    let zone = inside("frostwatch-api-1", &["sh", "-c", "echo $TZ"]);
    assert_eq!(zone.trim(), "UTC");
    assert!(ground.containers().contains_key("frostwatch-mailer-1"));
    ground.seen("all are listed").await;

    // All of it goes, with its data, and what shares another's network before that one.
    let request = RemoveStackRequest { stack: "frostwatch".into(), volumes: true, images: false };
    let gone = ground.carry_out(Request::RemoveStack(request)).await;
    assert_eq!(gone.state, OperationState::Succeeded, "{gone:#?}");
    assert_eq!(ground.containers(), BTreeMap::new());
    for of in ["network", "volume"] {
        let left = ground.host().tool(&[of, "ls", "--format", "{{.Name}}"]).unwrap();
        assert!(!left.contains("frostwatch"), "{left}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stack_of_ten_on_dockerd() {
    on(Ground::dockerd(74).await).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stack_of_ten_on_podman() {
    on(Ground::podman(75).await).await;
}

/// A stack of another tool, with the labels that all have in common.
fn run_by_hand(host: &NetHost, level: &str) {
    let level = format!("LEVEL={level}");
    let labels = ["project=orchard", "service=web", "container-number=1", "config-hash=ab12"];
    let labels: Vec<String> = labels.iter().map(|l| format!("com.docker.compose.{l}")).collect();
    let mut words =
        vec!["run", "--detach", "--name", "orchard-web-1", "--env", &level, "--restart", "always"];
    for label in &labels {
        words.extend(["--label", label]);
    }
    words.extend(["--volume", "pears:/pears", IMAGE, "sleep", "100000"]);
    host.tool(&words).unwrap();
}

async fn adopted_on(ground: Ground) {
    run_by_hand(ground.host(), "1");
    let of_stack = [("stack", "orchard".to_owned())];
    let ids = async || -> Vec<String> {
        ground.client.containers(&of_stack).await.unwrap().into_iter().map(|c| c.id).collect()
    };
    until("it is seen", Duration::from_secs(20), async || ids().await.len() == 1).await;
    let before = ids().await;
    assert!(ground.client.stack_drift("packhouse", "orchard").await.is_err(), "nobody deployed it");
    let adopted = ground.client.adopt_stack("packhouse", "orchard", true).await.unwrap();
    assert_eq!(adopted.revision, Some(1));
    assert!(adopted.text.contains("LEVEL"), "{}", adopted.text);
    let drift = ground.client.stack_drift("packhouse", "orchard").await.unwrap();
    assert!(drift.targets.is_empty(), "{drift:#?}\n{}", adopted.text);
    assert_eq!(ids().await, before, "nothing was touched");
    until("it is watched from then on", Duration::from_secs(10), async || {
        let rows = ground.client.drifts().await.unwrap();
        rows.iter().any(|row| row.stack == "orchard" && row.differs.is_empty() && row.unknown.is_none())
    })
    .await;

    let watched = async || -> Vec<String> {
        let rows = ground.client.drifts().await.unwrap();
        rows.into_iter().filter(|row| row.stack == "orchard").flat_map(|row| row.differs).collect()
    };

    // Somebody recreates it with another value.
    ground.host().tool(&["rm", "--force", "orchard-web-1"]).unwrap();
    run_by_hand(ground.host(), "2");
    let words = async || -> Vec<String> {
        let drift = ground.client.stack_drift("packhouse", "orchard").await.unwrap();
        drift.targets.iter().flat_map(|t| &t.differences).map(|d| d.words()).collect()
    };
    until("the drift shows", Duration::from_secs(5), async || words().await == ["environment LEVEL: 2 → 1"])
        .await;
    until("it is watched", Duration::from_secs(5), async || watched().await == ["orchard-web-1"]).await;
    let back = ApplyRequest {
        stack: "orchard".into(),
        revision: Some(1),
        watch_seconds: Some(1),
        ..ApplyRequest::default()
    };
    let back = ground.apply(back).await;
    assert_eq!(back.state, OperationState::Succeeded, "{back:#?}");
    let level = ground.host().tool(&["exec", "orchard-web-1", "sh", "-c", "echo $LEVEL"]).unwrap();
    assert_eq!(level.trim(), "1");
    until("nothing differs", Duration::from_secs(10), async || words().await.is_empty()).await;
    until("that is known", Duration::from_secs(10), async || watched().await.is_empty()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stack_of_another_tool_is_adopted_on_dockerd() {
    adopted_on(Ground::dockerd(76).await).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stack_of_another_tool_is_adopted_on_podman() {
    adopted_on(Ground::podman(77).await).await;
}
