//! Moves between two real engines in network namespaces: checksums hold, and a cut link, a small disk or a copy that does not come
//! up leave the original serving as before.

use std::collections::BTreeMap;
use std::time::Duration;

use gubernum_api::requests::{ApplyRequest, MoveKind, MoveRequest, NewHost, NewOperation, Request, TlsFiles};
use gubernum_api::{Operation, OperationState, State, Step, TargetState};
use gubernum_client::Client;
use gubernum_engine::TlsMaterial;
use gubernum_testbed::hosts::{HostNet, NetHost};
use gubernum_testbed::real::IMAGE;

use crate::support::{claim, start, until};

/// A store that serves while `/data/serves` is there, and one that needs it.
const FROST: &str = r#"
x-common: &common
  image: IMAGE
  pull_policy: never
  stop_grace_period: 1s
services:
  store:
    <<: *common
    command: ["sh", "-c", "trap 'exit 0' TERM; while true; do sleep 1 & wait $$!; done"]
    volumes: [readings:/data]
    healthcheck: {test: ["CMD-SHELL", "test -f /data/CHECK"], interval: 1s, retries: 3, start_period: 1s}
  api:
    <<: *common
    command: ["sh", "-c", "trap 'exit 0' TERM; while true; do sleep 1 & wait $$!; done"]
    depends_on: {store: {condition: service_healthy}}
volumes: {readings: {}}
"#;

/// How much data goes along, in megabytes; `GUBERNUM_MOVE_MEGABYTES` asks for more.
fn megabytes() -> u64 {
    std::env::var("GUBERNUM_MOVE_MEGABYTES").ok().and_then(|n| n.parse().ok()).unwrap_or(30)
}

/// What is put into the volume: owners, links, an empty folder, a deep path, a large file, odd names.
const FILL: &str = "cd /data && touch serves && mkdir -p deep/er empty && head -c SIZE /dev/urandom > large \
    && echo cold > deep/er/notes && chown 70:71 deep/er/notes && chmod 640 deep/er/notes && ln -s deep/er/notes short \
    && ln deep/er/notes second && touch 'a b\u{e4}' && chmod 1777 empty";
/// A sum over all names, kinds, modes, owners and contents.
const SUM: &str = "cd /data && (find . | sort | xargs -d '\\n' stat -c '%n %a %u %g %F' ; find . -type f | sort | xargs -d '\\n' md5sum) | grep -v '^\\. ' | md5sum";

struct Ground {
    net: HostNet,
    client: Client,
    _service: gubernum_server::Service,
    _folder: tempfile::TempDir,
}

impl Ground {
    /// The hosts of a net, over their sockets or over links that can be cut.
    async fn of(net: HostNet, over_network: bool) -> Self {
        net.hosts()[0].make_image(net.archive(), IMAGE, &["sh"]).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let service = start(folder.path(), None, Default::default()).await;
        let client = claim(&service).await;
        for host in net.hosts() {
            let TlsMaterial { ca, certificate, key } = net.authority().material().unwrap();
            let (address, tls) = match over_network {
                true => (host.tcp_address(), Some(TlsFiles { ca, certificate, key })),
                false => (host.socket_address(), None),
            };
            let new =
                NewHost { name: host.name.clone(), address, tls, ports_address: None, groups: Vec::new() };
            client.add_host(&new).await.unwrap();
        }
        let ground = Self { net, client, _service: service, _folder: folder };
        ground.live().await;
        ground
    }

    async fn live(&self) {
        until("all are live", Duration::from_secs(60), async || {
            self.client.hosts().await.unwrap().iter().all(|h| h.engine.is_some() && h.problem.is_none())
        })
        .await;
    }

    fn host(&self, name: &str) -> &NetHost {
        self.net.hosts().iter().find(|h| h.name == name).unwrap()
    }

    async fn over(&self, wish: NewOperation) -> Operation {
        let id = self.client.submit(&wish, None).await.unwrap().id;
        self.until_over(id).await
    }

    async fn until_over(&self, id: u64) -> Operation {
        let running = || async { self.client.operation(id).await.unwrap().state != OperationState::Running };
        until("the operation is over", Duration::from_secs(180 + megabytes() / 10), running).await;
        self.client.operation(id).await.unwrap()
    }

    /// The stack runs on the first host, with data in its volume.
    async fn deployed(&self, check: &str) {
        let text = FROST.replace("IMAGE", IMAGE).replace("CHECK", check);
        let request = ApplyRequest {
            stack: "frostwatch".into(),
            files: BTreeMap::from([("stack.yaml".into(), text)]),
            main: vec!["stack.yaml".into()],
            watch_seconds: Some(1),
            ..ApplyRequest::default()
        };
        let first = &self.net.hosts()[0];
        first
            .tool(&[
                "volume",
                "create",
                "--label",
                "com.docker.compose.project=frostwatch",
                "--label",
                "com.docker.compose.volume=readings",
                "frostwatch_readings",
            ])
            .unwrap();
        self.inside(first, &FILL.replace("SIZE", &format!("{}000000", megabytes())));
        let apply = NewOperation::new(Request::Apply(request), vec![first.name.clone()]);
        let operation = self.over(apply).await;
        assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
        self.running_on(&first.name, 2).await;
    }

    /// Runs a command with the volume mounted, as an operator would.
    fn inside(&self, host: &NetHost, command: &str) -> String {
        let words = [
            "run",
            "--rm",
            "--network",
            "none",
            "-v",
            "frostwatch_readings:/data",
            IMAGE,
            "sh",
            "-c",
            command,
        ];
        host.tool(&words).unwrap()
    }

    async fn running_on(&self, host: &str, count: usize) {
        until("they run", Duration::from_secs(30), async || {
            let all = self.client.containers(&[("stack", "frostwatch".to_owned())]).await.unwrap();
            let running = all.iter().filter(|c| c.host == host && c.state == State::Running).count();
            running == count
        })
        .await;
    }

    fn wish(&self, change: impl FnOnce(&mut MoveRequest)) -> NewOperation {
        let mut wish = MoveRequest {
            what: MoveKind::Stack,
            to: "coldstore".into(),
            watch_seconds: Some(1),
            ..MoveRequest::default()
        };
        change(&mut wish);
        NewOperation::new(Request::Move(wish), vec!["packhouse/frostwatch".into()])
    }

    async fn as_before(&self, sum: &str) {
        self.running_on("packhouse", 2).await;
        self.running_on("coldstore", 0).await;
        assert_eq!(self.inside(self.host("packhouse"), SUM), sum);
        let volumes = self.host("coldstore").tool(&["volume", "ls", "--quiet"]).unwrap();
        assert!(!volumes.contains("frostwatch"), "{volumes}");
        let left = self.host("coldstore").tool(&["ps", "--all", "--quiet"]).unwrap();
        assert_eq!(left.trim(), "", "no helper stays");
    }
}

fn said(operation: &Operation) -> String {
    operation.targets.iter().filter_map(|t| t.sentence.clone()).collect::<Vec<_>>().join("; ")
}

async fn there_and_checked(net: HostNet, tells_owners: bool) {
    let ground = Ground::of(net, false).await;
    ground.deployed("serves").await;
    let sum = ground.inside(ground.host("packhouse"), SUM);
    let operation = ground.over(ground.wish(|w| w.first_pass = true)).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    assert!(said(&operation).contains("verified, checksum"), "{}", said(&operation));
    ground.running_on("coldstore", 2).await;
    ground.running_on("packhouse", 0).await;
    if tells_owners {
        assert_eq!(ground.inside(ground.host("coldstore"), SUM), sum);
    }
    let drift = ground.client.stack_drift("coldstore", "frostwatch").await.unwrap();
    assert!(drift.targets.is_empty(), "{drift:#?}");
    let left = ground.host("coldstore").tool(&["ps", "--all", "--quiet"]).unwrap();
    assert_eq!(left.lines().count(), 2, "no helper stays: {left}");
}

#[tokio::test(flavor = "multi_thread")]
async fn from_dockerd_to_dockerd() {
    let mut net = HostNet::new(78).unwrap();
    net.add("packhouse").unwrap();
    net.add("coldstore").unwrap();
    there_and_checked(net, true).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn from_dockerd_to_podman() {
    let mut net = HostNet::new(79).unwrap();
    let registry = net.registry_address().unwrap();
    net.add("packhouse").unwrap();
    net.add_podman("coldstore", &registry).unwrap();
    there_and_checked(net, true).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_fails_the_original_serves_as_before() {
    let mut net = HostNet::new(80).unwrap();
    net.add("packhouse").unwrap();
    net.add_cramped("coldstore", 96).unwrap();
    let ground = Ground::of(net, true).await;
    ground.deployed("serves").await;
    let sum = ground.inside(ground.host("packhouse"), SUM);

    // It does not come up there: what it looks for is not in the data any more when it starts.
    let here = ground.host("packhouse");
    ground.inside(here, "rm /data/serves");
    let sum_without = ground.inside(here, SUM);
    let operation = ground.over(ground.wish(|_| ())).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:#?}");
    ground.as_before(&sum_without).await;
    ground.inside(here, "touch /data/serves");

    // The link to the other host is cut while data is on its way.
    let begun = ground.client.submit(&ground.wish(|_| ()), None).await.unwrap().id;
    until("data is on its way", Duration::from_secs(60), async || {
        let now = ground.client.operation(begun).await.unwrap();
        let copies = |t: &&gubernum_api::Target| t.steps.iter().any(|s| matches!(s, Step::CopyVolume { .. }));
        now.targets.iter().filter(copies).any(|t| t.state == TargetState::Running && t.steps.len() == 1)
    })
    .await;
    ground.host("coldstore").set_link(false).unwrap();
    let cut = std::time::Instant::now();
    ground.running_on("packhouse", 2).await;
    assert!(cut.elapsed() < Duration::from_secs(30), "{:?} after the cut", cut.elapsed());
    println!("it ran again {:?} after the cut", cut.elapsed());
    ground.host("coldstore").set_link(true).unwrap();
    let operation = ground.until_over(begun).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:#?}");
    ground.live().await;
    assert_eq!(ground.inside(here, SUM), sum);
    let _ = ground.host("coldstore").tool(&["volume", "rm", "--force", "frostwatch_readings"]);

    // There is no room.
    ground.inside(here, "head -c 150000000 /dev/zero > /data/more");
    let sum = ground.inside(here, SUM);
    let operation = ground.over(ground.wish(|_| ())).await;
    assert!(matches!(operation.state, OperationState::Failed), "{operation:#?}");
    assert!(
        said(&operation).contains("no space left") || said(&operation).contains("free"),
        "{}",
        said(&operation)
    );
    ground.as_before(&sum).await;
}
