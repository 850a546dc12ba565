//! Real engines and a real registry: deploying, changing and updating, and coming back.

use std::time::Duration;

use gubernum_api::images::NewRegistry;
use gubernum_api::requests::{
    CreateNetworkRequest, DeployRequest, EditRequest, NewHost, NewOperation, PushRequest, Request,
    UpdateRequest,
};
use gubernum_api::{Container, Definition, Operation, OperationState, State};
use gubernum_client::Client;
use gubernum_testbed::hosts::{HostNet, NetHost};
use gubernum_testbed::registry::RealRegistry;
use serde_json::{Value, json};

use crate::support::{claim, start, until};

const GOOD: &[&str] = &["sh", "-c", "trap 'exit 0' TERM; while true; do sleep 1 & wait $!; done"];
const CRASHES: &[&str] = &["sh", "-c", "echo cannot read the ledger >&2; exit 3"];
/// The account of the registry, which wants a sign-in.
const ACCOUNT: (&str, &str) = ("orchard", "winter pears");

/// A service with one real engine, and a registry that both can reach.
struct Ground {
    net: HostNet,
    registry: RealRegistry,
    client: Client,
    service: gubernum_server::Service,
    folder: tempfile::TempDir,
}

impl Ground {
    async fn dockerd(octet: u8) -> Self {
        let mut net = HostNet::new(octet).unwrap();
        net.add("packhouse").unwrap();
        let registry = RealRegistry::start_at(&net.registry_address().unwrap(), Some(ACCOUNT)).unwrap();
        Self::of(net, registry).await
    }

    async fn podman(octet: u8) -> Self {
        let mut net = HostNet::new(octet).unwrap();
        let address = net.registry_address().unwrap();
        net.add_podman("packhouse", &address).unwrap();
        let registry = RealRegistry::start_at(&address, Some(ACCOUNT)).unwrap();
        Self::of(net, registry).await
    }

    async fn of(net: HostNet, registry: RealRegistry) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let service = start(folder.path(), None, Default::default()).await;
        let client = claim(&service).await;
        let address = net.hosts()[0].socket_address();
        let host =
            NewHost { name: "packhouse".into(), address, tls: None, ports_address: None, groups: Vec::new() };
        client.add_host(&host).await.unwrap();
        let set = |secret: &str| NewRegistry {
            address: registry.address.clone(),
            account: Some(ACCOUNT.0.into()),
            secret: Some(secret.into()),
            ca: None,
            plain_http: true,
        };
        let error = client.set_registry(&set("wrong")).await.unwrap_err().to_string();
        assert!(error.contains("refused access"), "{error}");
        let kept = client.set_registry(&set(ACCOUNT.1)).await.unwrap();
        assert!(kept.has_secret && kept.plain_http);
        until("live", Duration::from_secs(20), async || client.hosts().await.unwrap()[0].engine.is_some())
            .await;
        Self { net, registry, client, service, folder }
    }

    fn host(&self) -> &NetHost {
        &self.net.hosts()[0]
    }

    fn image(&self) -> String {
        format!("{}/tarn/frost-api:3", self.registry.address)
    }

    /// Rebuilds the image with this command, pushes it, and removes the host's own copy.
    async fn build(&self, command: &[&str]) {
        let image = self.image();
        self.host().make_image(self.net.archive(), &image, command).unwrap();
        let known =
            || async { self.client.images(&[]).await.unwrap().iter().any(|i| i.tags.contains(&image)) };
        until("the image is known", Duration::from_secs(20), known).await;
        let push =
            NewOperation::new(Request::Push(PushRequest { image: image.clone() }), vec!["packhouse".into()]);
        let done = self.carried(&push).await;
        assert_eq!(done.state, OperationState::Succeeded, "{}", said(&done));
    }

    async fn carried(&self, wish: &NewOperation) -> Operation {
        let operation = self.client.submit(wish, None).await.unwrap();
        self.over(operation.id).await
    }

    async fn over(&self, id: u64) -> Operation {
        let running = || async { self.client.operation(id).await.unwrap().state != OperationState::Running };
        until("the operation is over", Duration::from_secs(90), running).await;
        self.client.operation(id).await.unwrap()
    }

    async fn one(&self, name: &str) -> Option<Container> {
        let all = self.client.containers(&[]).await.unwrap();
        all.into_iter().find(|c| c.name == name)
    }

    fn definition(&self, bind: &str) -> Value {
        let variables: Vec<Value> =
            (1..=11).map(|n| json!({"name": format!("CROP_{n}"), "value": format!("row {n}")})).collect();
        let mut d = json!({
            "image": self.image(), "name": "frost-api",
            "mounts": [
                {"kind": "volume", "source": "readings", "target": "/readings"}, {"kind": "volume", "target": "/scratch"},
                {"kind": "bind", "source": bind, "target": "/exchange", "make": {"user": 1000, "group": 1000}}],
            "environment": variables, "limits": {"memory": 67_108_864, "processors": 0.5, "processes": 200},
            "health": {"test": ["CMD", "true"], "interval_ms": 1000, "retries": 2, "timeout_ms": 3000},
            "labels": {"crop": "pears"}, "restart": {"policy": "unless-stopped"},
        });
        d["environment"].as_array_mut().unwrap().push(json!({"name": "DB_PASSWORD", "value": "pears"}));
        d["ports"] = json!([{"host_port": 7311, "container_port": 81}, {"host_port": 7312, "container_port": 82},
            {"host_port": 7313, "container_port": 83, "protocol": "udp"}]);
        d["network"] =
            json!({"networks": [{"name": "cold-chain", "aliases": ["frost"], "address": "10.91.4.9"}]});
        d
    }

    async fn deploy(&self, definition: Value) -> Operation {
        let definition: Definition = serde_json::from_value(definition).unwrap();
        let target = format!("packhouse/{}", definition.name);
        let wish = NewOperation::new(
            Request::Deploy(DeployRequest {
                definition: Box::new(definition),
                watch_seconds: Some(2),
                ..DeployRequest::default()
            }),
            vec![target],
        );
        self.carried(&wish).await
    }

    fn inside(&self, command: &[&str]) -> String {
        self.host().tool(&[&["exec", "frost-api"], command].concat()).unwrap()
    }

    fn update(&self) -> NewOperation {
        NewOperation::new(
            Request::Update(UpdateRequest { watch_seconds: Some(2), ..UpdateRequest::default() }),
            vec!["packhouse/frost-api".into()],
        )
    }

    async fn old_one_serves(&self, old: &Container, what: &str, operation: &Operation) {
        println!("{what}: {}", said(operation));
        let back = || async {
            let all = self.client.containers(&[]).await.unwrap();
            let serving = all.iter().find(|c| c.name == "frost-api");
            all.iter().filter(|c| c.name.starts_with("frost-api")).count() == 1
                && serving.is_some_and(|c| c.id == old.id && c.state == State::Running)
        };
        until(what, Duration::from_secs(20), back).await;
        let now = self.one("frost-api").await.unwrap();
        assert_eq!((&now.labels, &now.mounts), (&old.labels, &old.mounts), "{what}");
        assert_eq!(
            now.attachments.iter().map(|a| &a.address).collect::<Vec<_>>(),
            old.attachments.iter().map(|a| &a.address).collect::<Vec<_>>()
        );
    }
}

fn said(operation: &Operation) -> String {
    operation.targets.iter().filter_map(|t| t.sentence.clone()).collect::<Vec<_>>().join("; ")
}

/// Deploys with everything, changes one variable, and sees that nothing else is different.
async fn deploys_and_edits(ground: &Ground) {
    ground.build(GOOD).await;
    let wish = NewOperation::new(
        Request::CreateNetwork(CreateNetworkRequest {
            network: Some(serde_json::from_value(json!({"subnet": "10.91.4.0/24"})).unwrap()),
        }),
        vec!["packhouse/cold-chain".into()],
    );
    let done = ground.carried(&wish).await;
    assert_eq!(done.state, OperationState::Succeeded, "{}", said(&done));
    let known = || async {
        ground.client.networks(&[]).await.unwrap().iter().any(|n| n.network.name == "cold-chain")
    };
    until("the network is known", Duration::from_secs(20), known).await;
    let bind = ground.folder.path().join("not/there/yet");
    let done = ground.deploy(ground.definition(&bind.to_string_lossy())).await;
    assert_eq!(done.state, OperationState::Succeeded, "{}", said(&done));
    assert!(bind.is_dir(), "the folder was made");
    until("it is there", Duration::from_secs(20), async || ground.one("frost-api").await.is_some()).await;
    let before = ground.one("frost-api").await.unwrap();
    ground.inside(&[
        "sh",
        "-c",
        "echo 4.2 > /readings/mast; echo note > /scratch/note; echo out > /exchange/out",
    ]);

    let mut definition = ground.client.definition("packhouse/frost-api").await.unwrap().definition;
    definition.environment.iter_mut().find(|e| e.name == "CROP_5").unwrap().value = "row five".into();
    let wish = NewOperation::new(
        Request::Edit(EditRequest { definition: Box::new(definition), ..EditRequest::default() }),
        vec!["packhouse/frost-api".into()],
    );
    let preview = ground.client.preview(&wish).await.unwrap();
    let plan = &preview.targets[0];
    assert_eq!(plan.differences.len(), 1, "{plan:?}");
    let done = ground.carried(&NewOperation { digest: Some(preview.digest), ..wish }).await;
    assert_eq!(done.state, OperationState::Succeeded, "{}", said(&done));
    println!("edit: {}", said(&done));
    until("the new one is there", Duration::from_secs(20), async || {
        ground.one("frost-api").await.is_some_and(|c| c.id != before.id)
    })
    .await;
    let after = ground.one("frost-api").await.unwrap();
    assert_eq!(after.mounts, before.mounts);
    assert_eq!(after.ports, before.ports);
    let read = |what: &str| ground.inside(&["cat", what]).trim().to_owned();
    assert_eq!((read("/readings/mast"), read("/scratch/note")), ("4.2".to_owned(), "note".to_owned()));
    let environment = ground.inside(&["env"]);
    assert!(
        environment.contains("CROP_5=row five") && environment.contains("DB_PASSWORD=pears"),
        "{environment}"
    );
    assert_eq!(after.attachments[0].address.as_deref(), Some("10.91.4.9"));
    assert!(after.attachments[0].aliases.iter().any(|a| a == "frost"), "{:?}", after.attachments);
}

/// Everything that can go wrong with an update: the old one serves again each time.
async fn comes_back(mut ground: Ground) {
    let old = ground.one("frost-api").await.unwrap();

    ground.build(CRASHES).await;
    let done = ground.carried(&ground.update()).await;
    assert_eq!(done.state, OperationState::Failed);
    // Its restart policy may have started it again already: then what it said tells why.
    assert!(
        said(&done).contains("code 3") || said(&done).contains("cannot read the ledger"),
        "{}",
        said(&done)
    );
    ground.old_one_serves(&old, "crashes", &done).await;

    let mut definition = ground.client.definition("packhouse/frost-api").await.unwrap().definition;
    definition.image = ground.image();
    definition.command = Some(GOOD.iter().map(|w| (*w).to_owned()).collect());
    definition.health.as_mut().unwrap().test = vec!["CMD".into(), "false".into()];
    let wish = NewOperation::new(
        Request::Edit(EditRequest { definition: Box::new(definition), ..EditRequest::default() }),
        vec!["packhouse/frost-api".into()],
    );
    let done = ground.carried(&wish).await;
    assert_eq!(done.state, OperationState::Failed, "{}", said(&done));
    assert!(said(&done).contains("health"), "{}", said(&done));
    ground.old_one_serves(&old, "never healthy", &done).await;

    // A program that nobody can know of here takes the port in between.
    let mut definition = ground.client.definition("packhouse/frost-api").await.unwrap().definition;
    definition.image = ground.image();
    definition.command = Some(GOOD.iter().map(|w| (*w).to_owned()).collect());
    definition.ports[0].host_port = Some(7399);
    let wish = NewOperation::new(
        Request::Edit(EditRequest { definition: Box::new(definition), ..EditRequest::default() }),
        vec!["packhouse/frost-api".into()],
    );
    let preview = ground.client.preview(&wish).await.unwrap();
    assert_eq!(preview.targets[0].refused, None, "{preview:?}");
    let mut thief = ground.host().occupy(7399).unwrap();
    let done = ground.carried(&NewOperation { digest: Some(preview.digest), ..wish }).await;
    assert_eq!(done.state, OperationState::Failed, "{}", said(&done));
    let words = said(&done);
    assert!(["7399", "allocated", "in use"].iter().any(|w| words.contains(w)), "{words}");
    ground.old_one_serves(&old, "port taken", &done).await;
    thief.end();

    let before = ground.one("frost-api").await.unwrap();
    ground.registry.kill();
    let done = ground.carried(&ground.update()).await;
    assert_eq!(done.state, OperationState::Failed, "{}", said(&done));
    assert!(said(&done).contains("what runs was not touched"), "{}", said(&done));
    ground.old_one_serves(&before, "cannot be pulled", &done).await;
    ground.service.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn deploying_changing_and_coming_back_on_dockerd() {
    let ground = Ground::dockerd(61).await;
    deploys_and_edits(&ground).await;
    comes_back(ground).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn deploying_changing_and_coming_back_on_podman() {
    let ground = Ground::podman(63).await;
    deploys_and_edits(&ground).await;
    comes_back(ground).await;
}
