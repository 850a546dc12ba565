//! Deploying, changing and updating containers on simulated hosts: what is planned, what is done, and that what ran
//! before runs again when the new one does not come up.

use std::time::Duration;

use gubernum_api::requests::{
    DeployRequest, EditRequest, NewOperation, Request, RollbackRequest, StopRequest, TidyRequest,
    UpdateRequest,
};
use gubernum_api::{Definition, Operation, OperationState, State, TargetState};
use gubernum_core::plan::{Rolling, TidyPiece};
use gubernum_sim::{Action, PROGRAM_LABEL, Program, RegistryImage, SimRegistry};
use serde_json::{Value, json};

use crate::support::Bench;

/// Asks for a change and waits until it is over.
pub(crate) async fn carried(bench: &Bench, wish: &NewOperation) -> Operation {
    let mut operation = bench.client.submit(wish, None).await.unwrap();
    let deadline = tokio::time::Instant::now() + Duration::from_secs(60);
    while operation.state == OperationState::Running {
        assert!(tokio::time::Instant::now() < deadline, "never over: {operation:?}");
        tokio::time::sleep(Duration::from_millis(20)).await;
        operation = bench.client.operation(operation.id).await.unwrap();
    }
    operation
}

fn sentence(operation: &Operation) -> &str {
    operation.targets[0].sentence.as_deref().unwrap_or_default()
}

fn deploy(definition: Value) -> NewOperation {
    let definition: Definition = serde_json::from_value(definition).unwrap();
    let target = format!("packhouse/{}", definition.name);
    NewOperation::new(
        Request::Deploy(DeployRequest {
            definition: Box::new(definition),
            watch_seconds: Some(1),
            ..DeployRequest::default()
        }),
        vec![target],
    )
}

fn update(name: &str, watch_seconds: u32) -> NewOperation {
    NewOperation::new(
        Request::Update(UpdateRequest { watch_seconds: Some(watch_seconds), ..UpdateRequest::default() }),
        vec![format!("packhouse/{name}")],
    )
}

fn does(program: &Program) -> Vec<(String, String)> {
    vec![(PROGRAM_LABEL.to_owned(), serde_json::to_string(program).unwrap())]
}

/// A bench with a registry that the host fetches from.
async fn with_registry() -> (Bench, SimRegistry, String) {
    let bench = Bench::with(&["packhouse"]).await;
    let registry = SimRegistry::start("", None).await.unwrap();
    let address = registry.address().to_string();
    (bench, registry, address)
}

fn build(registry: &SimRegistry, build: u64, program: &Program) {
    registry.put(RegistryImage {
        build,
        labels: does(program).into_iter().collect(),
        ..RegistryImage::new("tarn/frost-api", "3")
    });
}

#[tokio::test]
async fn a_deployment_is_previewed_carried_out_and_reads_back() {
    let (bench, registry, address) = with_registry().await;
    build(&registry, 1, &Program::idle());
    let wish = deploy(json!({
        "image": format!("{address}/tarn/frost-api:3"), "name": "frost-api",
        "ports": [{"host_port": 7311, "container_port": 8080}, {"host_port": 7312, "container_port": 81, "protocol": "udp"}],
        "mounts": [{"kind": "volume", "source": "frost-data", "target": "/data"}, {"kind": "bind", "source": "/srv/frost", "target": "/srv", "make": {"user": 1000, "group": 1000}}],
        "environment": [{"name": "TZ", "value": "UTC"}, {"name": "DB_PASSWORD", "value": "pears"}],
        "limits": {"memory": 67108864},
    }));
    let preview = bench.client.preview(&wish).await.unwrap();
    let plan = &preview.targets[0];
    assert_eq!(plan.refused, None, "{plan:?}");
    assert!(plan.creates.iter().any(|c| c.contains("frost-data")), "{plan:?}");
    assert!(plan.steps_in_words.iter().any(|c| c.contains("/srv/frost")), "{plan:?}");
    assert!(!serde_json::to_string(&preview).unwrap().contains("pears"), "no secret is shown");
    let wish = NewOperation { digest: Some(preview.digest.clone()), ..wish };
    let operation = carried(&bench, &wish).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    assert!(!serde_json::to_string(&operation).unwrap().contains("pears"), "no secret is kept in sight");
    bench
        .until("it runs", async |b| {
            b.one("packhouse", "frost-api").await.is_some_and(|c| c.state == State::Running)
        })
        .await;
    let view = bench.client.definition("packhouse/frost-api").await.unwrap();
    assert_eq!(view.definition.limits.memory, Some(67_108_864));
    assert!(
        view.compose.contains("frost-data:/data") || view.compose.contains("source: frost-data"),
        "{}",
        view.compose
    );
    let hidden = view.definition.environment.iter().find(|e| e.name == "DB_PASSWORD").unwrap();
    assert!(hidden.hidden && hidden.value != "pears", "{hidden:?}");
    // The same once more: the name and the ports are taken, each at its field.
    let again = bench.client.preview(&NewOperation { digest: None, ..wish }).await.unwrap();
    let fields: Vec<&str> = again.targets[0].findings.iter().map(|f| f.field.as_str()).collect();
    assert!(again.targets[0].refused.is_some() && fields.contains(&"/name"), "{:?}", again.targets[0]);
    assert!(fields.iter().any(|f| f.starts_with("/ports/0")), "{fields:?}");
}

#[tokio::test]
async fn what_moved_since_the_preview_is_refused_with_the_difference() {
    let bench = Bench::with(&["packhouse"]).await;
    let wish = NewOperation::new(Request::Stop(StopRequest::default()), vec!["packhouse/api".into()]);
    let preview = bench.client.preview(&wish).await.unwrap();
    carried(&bench, &wish).await;
    bench
        .until("it ended", async |b| {
            b.one("packhouse", "api").await.is_some_and(|c| c.state == State::Exited)
        })
        .await;
    let late = NewOperation { digest: Some(preview.digest), ..wish };
    let error = bench.client.submit(&late, None).await.unwrap_err().to_string();
    assert!(error.contains("packhouse/api") && error.contains("the preview is out of date"), "{error}");
    let unknown = NewOperation { digest: Some("0".repeat(32)), ..late };
    assert!(bench.client.submit(&unknown, None).await.is_err());
}

async fn edited(bench: &Bench, name: &str, change: impl FnOnce(&mut Definition)) -> Operation {
    let mut definition = bench.client.definition(&format!("packhouse/{name}")).await.unwrap().definition;
    change(&mut definition);
    let wish = NewOperation::new(
        Request::Edit(EditRequest {
            definition: Box::new(definition),
            watch_seconds: Some(1),
            ..EditRequest::default()
        }),
        vec![format!("packhouse/{name}")],
    );
    carried(bench, &wish).await
}

#[tokio::test]
async fn an_edit_keeps_volumes_secrets_and_aliases_and_can_be_rolled_back() {
    let (bench, registry, address) = with_registry().await;
    build(&registry, 1, &Program::idle());
    bench.hosts[0].add_network("cold-chain");
    bench
        .until("the network is known", async |b| {
            b.client.networks(&[]).await.unwrap().iter().any(|n| n.network.name == "cold-chain")
        })
        .await;
    let networks = bench.client.networks(&[]).await.unwrap();
    let network = &networks.iter().find(|n| n.network.name == "cold-chain").unwrap().network;
    let fixed = network.subnets[0].subnet.replace(".0.0/16", ".0.9");
    let operation = carried(&bench, &deploy(json!({
        "image": format!("{address}/tarn/frost-api:3"), "name": "frost-api",
        "mounts": [{"kind": "volume", "target": "/scratch"}, {"kind": "volume", "source": "frost-data", "target": "/data"}],
        "environment": [{"name": "TZ", "value": "UTC"}, {"name": "DB_PASSWORD", "value": "pears"}],
        "network": {"networks": [{"name": "cold-chain", "aliases": ["frost"], "address": fixed}]},
    }))).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    bench.until("it is there", async |b| b.one("packhouse", "frost-api").await.is_some()).await;
    let before = bench.one("packhouse", "frost-api").await.unwrap();
    let operation = edited(&bench, "frost-api", |d| d.environment[0].value = "Europe/London".into()).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    assert!(sentence(&operation).contains("it was down for"), "{operation:?}");
    bench
        .until("the new one is there", async |b| {
            b.one("packhouse", "frost-api").await.is_some_and(|c| c.id != before.id)
        })
        .await;
    let after = bench.one("packhouse", "frost-api").await.unwrap();
    assert_eq!(after.mounts, before.mounts, "the anonymous one too");
    assert_eq!(after.attachments[0].aliases, before.attachments[0].aliases);
    assert_eq!(after.attachments[0].address.as_deref(), Some(fixed.as_str()));
    let secret = bench.client.reveal("packhouse/frost-api", "DB_PASSWORD").await.unwrap();
    assert_eq!(secret.value, "pears", "a hidden value is what it was");
    let zone = bench.client.reveal("packhouse/frost-api", "TZ").await.unwrap();
    assert_eq!(zone.value, "Europe/London");
    assert_eq!(bench.all().await.len(), 4, "the old one is gone");

    let earlier = bench.client.earlier("packhouse/frost-api").await.unwrap();
    assert_eq!(earlier.len(), 1);
    assert!(earlier[0].summary.contains("TZ"), "{earlier:?}");
    let wish = NewOperation::new(
        Request::Rollback(RollbackRequest { watch_seconds: Some(1), ..RollbackRequest::default() }),
        vec!["packhouse/frost-api".into()],
    );
    let operation = carried(&bench, &wish).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    assert_eq!(bench.client.reveal("packhouse/frost-api", "TZ").await.unwrap().value, "UTC");
    // A name and a limit are changed in place: the same container.
    bench
        .until("it is known", async |b| {
            b.one("packhouse", "frost-api").await.is_some_and(|c| c.id != after.id)
        })
        .await;
    let id = bench.one("packhouse", "frost-api").await.unwrap().id;
    let operation = edited(&bench, "frost-api", |d| d.limits.memory = Some(1 << 27)).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    bench
        .until("the limit is known", async |b| {
            b.one("packhouse", "frost-api").await.is_some_and(|c| c.memory_limit == Some(1 << 27))
        })
        .await;
    assert_eq!(bench.one("packhouse", "frost-api").await.unwrap().id, id);
}

/// Deploys build 1, then updates to a build that does this; returns the outcome.
async fn update_to(program: Program, health: Option<Value>) -> (Bench, Operation, String) {
    let (bench, registry, address) = with_registry().await;
    build(&registry, 1, &Program::idle());
    let mut definition = json!({"image": format!("{address}/tarn/frost-api:3"), "name": "frost-api",
        "ports": [{"host_port": 7311, "container_port": 8080}], "labels": {"crop": "pears"}});
    if let Some(health) = health {
        definition["health"] = health;
    }
    let operation = carried(&bench, &deploy(definition)).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    bench.until("it is there", async |b| b.one("packhouse", "frost-api").await.is_some()).await;
    let id = bench.one("packhouse", "frost-api").await.unwrap().id;
    build(&registry, 2, &program);
    let operation = carried(&bench, &update("frost-api", 1)).await;
    (bench, operation, id)
}

async fn old_one_serves(bench: &Bench, id: &str) {
    bench
        .until("the old one runs under its name", async |b| {
            b.all().await.len() == 4
                && b.one("packhouse", "frost-api")
                    .await
                    .is_some_and(|c| c.id == id && c.state == State::Running)
        })
        .await;
    let c = bench.one("packhouse", "frost-api").await.unwrap();
    assert_eq!(c.labels.get("crop").map(String::as_str), Some("pears"));
    assert!(c.ports.iter().any(|p| p.host_port == Some(7311)));
}

#[tokio::test]
async fn an_update_that_crashes_brings_the_old_one_back() {
    let crash = Program::new(vec![Action::Err("cannot read the ledger".into()), Action::Exit(3)]);
    let (bench, operation, id) = update_to(crash, None).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:?}");
    let said = sentence(&operation);
    assert!(said.contains("code 3") && said.contains("the previous container is running"), "{said}");
    old_one_serves(&bench, &id).await;
    let again = bench.client.retry(operation.id).await.unwrap();
    assert!(again.id > operation.id, "it can be asked once more");
}

#[tokio::test]
async fn an_update_that_never_gets_healthy_brings_the_old_one_back() {
    let (bench, registry, address) = with_registry().await;
    build(&registry, 1, &Program::idle());
    let health = json!({"test": ["CMD", "true"], "interval_ms": 100, "retries": 1});
    let definition = json!({"image": format!("{address}/tarn/frost-api:3"), "name": "frost-api", "health": health,
        "ports": [{"host_port": 7311, "container_port": 8080}], "labels": {"crop": "pears"}});
    let operation = carried(&bench, &deploy(definition)).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    bench.until("it is there", async |b| b.one("packhouse", "frost-api").await.is_some()).await;
    let id = bench.one("packhouse", "frost-api").await.unwrap().id;
    let operation = edited(&bench, "frost-api", |d| {
        d.health.as_mut().unwrap().test = vec!["CMD".into(), "false".into()];
    })
    .await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:?}");
    assert!(sentence(&operation).contains("health"), "{operation:?}");
    old_one_serves(&bench, &id).await;
}

#[tokio::test]
async fn an_update_whose_image_cannot_be_had_touches_nothing() {
    let (bench, registry, address) = with_registry().await;
    build(&registry, 1, &Program::idle());
    let definition = json!({"image": format!("{address}/tarn/frost-api:3"), "name": "frost-api",
        "ports": [{"host_port": 7311, "container_port": 8080}], "labels": {"crop": "pears"}});
    let operation = carried(&bench, &deploy(definition)).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    bench.until("it is there", async |b| b.one("packhouse", "frost-api").await.is_some()).await;
    let id = bench.one("packhouse", "frost-api").await.unwrap().id;
    drop(registry);
    let operation = carried(&bench, &update("frost-api", 1)).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:?}");
    assert!(sentence(&operation).contains("was not touched"), "{operation:?}");
    old_one_serves(&bench, &id).await;
}

#[tokio::test]
async fn a_pinned_container_and_one_that_is_the_newest_are_left_alone() {
    let (bench, registry, address) = with_registry().await;
    build(&registry, 1, &Program::idle());
    for (name, labels) in [("held", json!({"gubernum.pinned": "true"})), ("free", json!({}))] {
        let definition =
            json!({"image": format!("{address}/tarn/frost-api:3"), "name": name, "labels": labels});
        let operation = carried(&bench, &deploy(definition)).await;
        assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    }
    bench.until("both are there", async |b| b.all().await.len() == 5).await;
    bench
        .until("the image is known", async |b| {
            b.client
                .images(&[])
                .await
                .unwrap()
                .iter()
                .any(|i| i.tags.iter().any(|t| t.ends_with("frost-api:3")))
        })
        .await;
    let newest = bench.client.preview(&update("free", 1)).await.unwrap();
    let plan = &newest.targets[0];
    assert!(plan.refused.is_none() && plan.steps.is_empty(), "{plan:?}");
    assert_eq!(plan.unchanged.as_deref(), Some("Up to date: nothing to do."));
    let operation = carried(&bench, &update("free", 1)).await;
    assert_eq!(operation.state, OperationState::Succeeded, "up to date is no failure: {operation:?}");
    assert_eq!(operation.targets[0].state, TargetState::Unchanged);
    build(&registry, 2, &Program::idle());
    let pinned = bench.client.preview(&update("held", 1)).await.unwrap();
    assert!(pinned.targets[0].refused.as_deref().is_some_and(|r| r.contains("pinned")), "{pinned:?}");
    // The look for newer images finds the one that is free, and only that.
    let checks = bench.client.check_images().await.unwrap();
    let check = checks.iter().find(|c| c.image.ends_with("frost-api:3")).unwrap();
    assert_eq!(check.outdated, ["packhouse/free"], "{checks:?}");
    let free = bench.one("packhouse", "free").await.unwrap();
    assert!(free.newer_image && free.attention.is_some_and(|a| a.code == "newer-image"));
    let operation = carried(&bench, &update("free", 1)).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    bench
        .until("it is the newest", async |b| b.one("packhouse", "free").await.is_some_and(|c| !c.newer_image))
        .await;
}

#[tokio::test]
async fn a_rolling_update_stops_at_the_first_failure_and_the_rest_is_retried() {
    let (bench, registry, address) = with_registry().await;
    build(&registry, 1, &Program::idle());
    for name in ["row-a", "row-b", "row-c"] {
        let definition =
            json!({"image": format!("{address}/tarn/frost-api:3"), "name": name, "labels": {"row": "r"}});
        let operation = carried(&bench, &deploy(definition)).await;
        assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    }
    bench.until("all are there", async |b| b.all().await.len() == 6).await;
    build(&registry, 2, &Program::new(vec![Action::Exit(1)]));
    let wish = NewOperation::new(
        Request::Update(UpdateRequest {
            rolling: Some(Rolling { at_once: 1, keep_going: false }),
            watch_seconds: Some(1),
            ..UpdateRequest::default()
        }),
        ["row-a", "row-b", "row-c"].map(|n| format!("packhouse/{n}")).to_vec(),
    );
    let operation = carried(&bench, &wish).await;
    let states: Vec<TargetState> = operation.targets.iter().map(|t| t.state).collect();
    assert_eq!(
        states,
        [TargetState::Failed, TargetState::Cancelled, TargetState::Cancelled],
        "{operation:?}"
    );
    build(&registry, 3, &Program::idle());
    let again = bench.client.retry(operation.id).await.unwrap();
    bench
        .until("all succeeded", async |b| {
            b.client.operation(again.id).await.unwrap().state == OperationState::Succeeded
        })
        .await;
}

#[tokio::test]
async fn the_service_ends_in_the_middle_and_the_old_one_serves_again() {
    let (bench, registry, address) = with_registry().await;
    build(&registry, 1, &Program::idle());
    let definition = json!({"image": format!("{address}/tarn/frost-api:3"), "name": "frost-api",
        "ports": [{"host_port": 7311, "container_port": 8080}], "labels": {"crop": "pears"}});
    let operation = carried(&bench, &deploy(definition)).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:?}");
    bench.until("it is there", async |b| b.one("packhouse", "frost-api").await.is_some()).await;
    let id = bench.one("packhouse", "frost-api").await.unwrap().id;
    build(&registry, 2, &Program::idle());
    // It is watched for long, so that the service ends while the new one is being tried.
    let wish = update("frost-api", 600);
    let operation = bench.client.submit(&wish, None).await.unwrap();
    bench
        .until("the new one is tried", async |b| {
            b.one("packhouse", "frost-api").await.is_some_and(|c| c.id != id)
        })
        .await;
    let bench = bench.end_and_start().await;
    bench
        .until("it is settled", async |b| {
            b.client.operation(operation.id).await.unwrap().state != OperationState::Running
        })
        .await;
    let over = bench.client.operation(operation.id).await.unwrap();
    assert_eq!(over.state, OperationState::Interrupted, "{over:?}");
    assert!(sentence(&over).contains("the previous container is running"), "{over:?}");
    old_one_serves(&bench, &id).await;
}

#[tokio::test]
async fn tidying_takes_only_what_nothing_uses_and_tells_the_bytes() {
    let bench = Bench::with(&["packhouse"]).await;
    let host = &bench.hosts[0];
    host.add_image(Some("registry.tarnvalley.example/old:1"), 50 << 20, 90, "amd64");
    host.add_image(None, 20 << 20, 90, "amd64");
    host.add_volume("forgotten", 7 << 20, 30);
    host.add_network("left-over");
    bench.until("all is known", async |b| b.client.leftovers().await.unwrap().len() >= 5).await;
    let found = bench.client.leftovers().await.unwrap();
    assert!(!found.iter().any(|s| s.name.contains("api") || s.name.contains("worker")), "{found:?}");
    let pieces: Vec<TidyPiece> = found.iter().map(|s| s.piece.clone()).collect();
    let volume = pieces.iter().find(|p| p.id == "forgotten").unwrap().clone();
    bench.client.keep(&volume, true, "the winter's readings").await.unwrap();
    let wish = NewOperation::new(Request::Tidy(TidyRequest { pieces: pieces.clone() }), Vec::new());
    let preview = bench.client.preview(&wish).await.unwrap();
    let kept = preview.targets.iter().find(|t| t.name == "forgotten").unwrap();
    assert!(kept.refused.as_deref().is_some_and(|r| r.contains("the winter's readings")), "{kept:?}");
    let promised: u64 = preview.targets.iter().filter_map(|t| t.bytes.filter(|_| t.refused.is_none())).sum();
    let operation = carried(&bench, &wish).await;
    assert_eq!(operation.state, OperationState::Partly, "{operation:?}");
    let won: u64 = operation.targets.iter().filter_map(|t| t.bytes).sum();
    assert_eq!(won, promised, "{operation:?}");
    bench.client.keep(&volume, false, "").await.unwrap();
    bench
        .until("only the volume is left", async |b| {
            let left = b.client.leftovers().await.unwrap();
            left.iter().filter(|s| s.leftover.word() != "build-cache").count() == 1
        })
        .await;
    // What comes into use after the preview is not touched.
    let wish = NewOperation::new(Request::Tidy(TidyRequest { pieces: vec![volume] }), Vec::new());
    let preview = bench.client.preview(&wish).await.unwrap();
    assert!(preview.targets[0].data_at_risk.len() == 1, "{preview:?}");
    let mut user = gubernum_sim::ContainerSpec::new("reader", "registry.tarnvalley.example/api:1");
    user.volumes.push(gubernum_sim::VolumeSpec {
        source: "forgotten".into(),
        target: "/in".into(),
        read_only: true,
    });
    bench.hosts[0].run(user);
    bench.until("its user is known", async |b| b.one("packhouse", "reader").await.is_some()).await;
    let operation = carried(&bench, &wish).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:?}");
    assert!(sentence(&operation).contains("in use"), "{operation:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_an_operation_holds_is_shown_inside_it_and_nowhere_else() {
    let (bench, registry, address) = with_registry().await;
    build(&registry, 1, &Program::idle());
    let image = format!("{address}/tarn/frost-api:3");
    let first = carried(&bench, &deploy(json!({"image": image, "name": "frost-api"}))).await;
    assert_eq!(first.state, OperationState::Succeeded, "{first:?}");
    build(&registry, 2, &Program::idle());
    let wish = update("frost-api", 3);
    let operation = bench.client.submit(&wish, None).await.unwrap();
    let mut roles = std::collections::BTreeSet::new();
    let deadline = tokio::time::Instant::now() + Duration::from_secs(30);
    while bench.client.operation(operation.id).await.unwrap().state == OperationState::Running {
        assert!(tokio::time::Instant::now() < deadline);
        for held in bench.client.operation_containers(operation.id).await.unwrap() {
            let role = held.role.unwrap();
            assert_eq!(role.of, "frost-api");
            roles.insert(format!("{:?}", role.kind));
        }
        let listed = bench.client.containers(&[]).await.unwrap();
        assert!(listed.iter().all(|c| c.role.is_none() && !c.name.contains("-next-")), "{listed:?}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    assert!(roles.contains("Previous"), "{roles:?}");
    assert!(bench.client.operation_containers(operation.id).await.unwrap().is_empty());
}

#[tokio::test]
async fn a_clone_is_proposed_with_a_free_name_and_free_ports() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let first = json!({
        "image": "registry.tarnvalley.example/api:1", "name": "frost-api", "pull": "missing",
        "ports": [{"host_port": 7399, "container_port": 80}], "labels": {"com.docker.compose.project": "frostwatch", "team": "frost"},
    });
    assert_eq!(carried(&bench, &deploy(first)).await.state, OperationState::Succeeded);
    bench.until("it is there", async |b| b.one("packhouse", "frost-api").await.is_some()).await;
    let here =
        bench.client.clone_definition("packhouse/frost-api", "packhouse", "frost-api-2").await.unwrap();
    assert_eq!(here.host.as_deref(), Some("packhouse"));
    assert!(here.definition.labels.contains_key("team") && here.definition.labels.len() == 1, "{here:?}");
    assert_ne!(here.definition.ports[0].host_port, Some(7399), "that one is taken");
    assert!(here.findings.iter().all(|f| !f.field.starts_with("/ports")), "{:?}", here.findings);
    let there = bench.client.clone_definition("packhouse/frost-api", "coldstore", "frost-api").await.unwrap();
    assert_eq!(there.definition.ports[0].host_port, Some(7399), "nobody has it there");
    let path = "/api/v1/containers/packhouse/frost-api/clone";
    let (_, text) = bench.client.raw(reqwest::Method::GET, path, None).await.unwrap();
    assert_eq!(serde_json::from_slice::<Value>(&text).unwrap()["definition"]["name"], "frost-api-2");
    let nowhere =
        bench.client.clone_definition("packhouse/frost-api", "nowhere", "frost-api").await.unwrap_err();
    assert!(nowhere.to_string().contains("nowhere"), "{nowhere}");
}
