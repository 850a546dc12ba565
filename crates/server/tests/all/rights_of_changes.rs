//! Every kind of change by everybody, on what they may change and on what they may not; and that nobody reaches beyond the part
//! of the fleet on which they may change things.

use gubernum_client::Client;
use gubernum_core::plan::Kind;
use gubernum_core::rights::Right;
use gubernum_core::rights::table::of_kind;
use reqwest::{Method, StatusCode};
use rstest::rstest;
use serde_json::{Value, json};

use crate::support::Bench;

/// A request of each kind for something on packhouse.
fn request(kind: Kind) -> Value {
    let image = "registry.tarnvalley.example/api:1";
    let join = json!({"name": "bridge"});
    match kind {
        Kind::Deploy => json!({"targets": ["packhouse/new"], "definition": {"image": image}}),
        Kind::Edit => json!({"targets": ["packhouse/api"], "definition": {"image": image, "hostname": "x"}}),
        Kind::Pull | Kind::Push => json!({"targets": ["packhouse"], "image": image}),
        Kind::Tag => json!({"targets": ["packhouse"], "image": image, "new_name": "x:2"}),
        Kind::RemoveImage => json!({"targets": [format!("packhouse/{image}")]}),
        Kind::CreateVolume | Kind::CreateNetwork => json!({"targets": ["packhouse/fresh"]}),
        Kind::RemoveVolume => json!({"targets": ["packhouse/none"]}),
        Kind::RemoveNetwork => json!({"targets": ["packhouse/none"]}),
        Kind::Connect | Kind::Disconnect => json!({"targets": ["packhouse/api"], "join": join}),
        Kind::Tidy => {
            json!({"targets": [], "pieces": [{"host": "packhouse", "object": "volume", "id": "none"}]})
        }
        Kind::Apply => json!({
            "targets": ["packhouse"], "stack": "orchard",
            "files": {"compose.yaml": format!("services: {{web: {{image: \"{image}\"}}}}")}, "main": ["compose.yaml"],
        }),
        Kind::RemoveStack => json!({"targets": ["packhouse"], "stack": "orchard"}),
        Kind::Run => json!({"targets": ["packhouse"], "stack": "orchard", "service": "nightly"}),
        Kind::Move | Kind::Clone => json!({"targets": ["packhouse/api"], "to": "coldstore"}),
        Kind::Start
        | Kind::Stop
        | Kind::Restart
        | Kind::Kill
        | Kind::Pause
        | Kind::Resume
        | Kind::Remove
        | Kind::Update
        | Kind::Rollback => json!({"targets": ["packhouse/api"]}),
    }
}

async fn preview(client: &Client, kind: Kind, mut body: Value) -> (StatusCode, Value) {
    body["kind"] = json!(kind.word());
    let body = body.to_string().into_bytes();
    let (status, text) = client.raw(Method::POST, "/api/v1/operations/preview", Some(body)).await.unwrap();
    (status, serde_json::from_slice(&text).unwrap_or_default())
}

fn is_refused(status: StatusCode, answer: &Value) -> bool {
    status == StatusCode::FORBIDDEN && answer["type"].as_str().is_some_and(|t| t.ends_with("not-allowed"))
}

#[tokio::test]
async fn every_kind_of_change_needs_its_rights_and_no_others() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let mut faults = Vec::new();
    let changing: Vec<Right> = Right::ALL.iter().copied().filter(|r| *r != Right::See).collect();
    for (n, right) in changing.iter().enumerate() {
        // Everything but this one, so that exactly what needs it is refused.
        let rights = Right::ALL.iter().copied().filter(|r| r != right).collect();
        let name = format!("without-{}", right.word());
        let role = gubernum_api::members::NewRole { name: name.clone(), rights, second_factor: false };
        bench.client.set_role(&role).await.unwrap();
        let client = bench.member(&format!("member-{n}"), &[&format!("{name}@fleet")]).await;
        for kind in Kind::ALL {
            let (status, answer) = preview(&client, *kind, request(*kind)).await;
            let expected = of_kind(*kind).contains(right);
            if is_refused(status, &answer) != expected {
                faults.push(format!("{kind} without {right}: {status} {answer}"));
            }
        }
    }
    assert!(faults.is_empty(), "{faults:#?}");
}

/// Packhouse with the stack `orchard` and something of others: a volume, a network, a container.
async fn with_stack() -> (Bench, Client) {
    let bench = Bench::with(&["packhouse"]).await;
    let mut spec = gubernum_sim::ContainerSpec::new("orchard-web", "registry.tarnvalley.example/web:1");
    spec.labels.insert("com.docker.compose.project".into(), "orchard".into());
    spec.labels.insert("com.docker.compose.service".into(), "web".into());
    bench.hosts[0].run(spec);
    for kind in ["create-volume", "create-network"] {
        let body = json!({"kind": kind, "targets": ["packhouse/ledger"]}).to_string().into_bytes();
        bench.client.raw(Method::POST, "/api/v1/operations", Some(body)).await.unwrap();
    }
    bench
        .until("all is there", async |b| {
            let is_there = b.client.volumes(&[]).await.unwrap().iter().any(|v| v.volume.name == "ledger");
            is_there && b.one("packhouse", "orchard-web").await.is_some()
        })
        .await;
    let tess = bench.member("tess", &["operator@stack:packhouse/orchard"]).await;
    (bench, tess)
}

fn apply(stack: &str, text: &str) -> Value {
    json!({"targets": ["packhouse"], "stack": stack, "files": {"compose.yaml": text}, "main": ["compose.yaml"]})
}

const IMAGE: &str = "registry.tarnvalley.example/web:1";

#[tokio::test]
async fn of_a_stack_that_is_granted_everything_is_changed_and_of_others_nothing() {
    let (bench, tess) = with_stack().await;
    for kind in [Kind::Restart, Kind::Stop, Kind::Pause] {
        let (status, _) = preview(&tess, kind, json!({"targets": ["packhouse/orchard-web"]})).await;
        assert_eq!(status, StatusCode::OK, "{kind}");
        let (status, _) = preview(&tess, kind, json!({"targets": ["packhouse/api"]})).await;
        assert_eq!(status, StatusCode::NOT_FOUND, "{kind}");
    }
    let plain =
        format!("services:\n  web:\n    image: {IMAGE}\n    volumes: [data:/data]\nvolumes:\n  data: {{}}\n");
    let (status, answer) = preview(&tess, Kind::Apply, apply("orchard", &plain)).await;
    assert_eq!(status, StatusCode::OK, "{answer}");
    let (status, answer) = preview(&tess, Kind::Apply, apply("ledger", &plain)).await;
    assert!(is_refused(status, &answer), "{status} {answer}");
    let (status, answer) =
        preview(&tess, Kind::Pull, json!({"targets": ["packhouse"], "image": IMAGE})).await;
    assert!(is_refused(status, &answer), "{status} {answer}");
    // What stars mean is what is seen.
    let (status, answer) = preview(&tess, Kind::Restart, json!({"targets": ["*/*"]})).await;
    assert_eq!((status, answer["targets"].as_array().map(Vec::len)), (StatusCode::OK, Some(1)), "{answer}");
    let (_, answer) = preview(&bench.client, Kind::Restart, json!({"targets": ["*/*"]})).await;
    assert_eq!(answer["targets"].as_array().map(Vec::len), Some(4));
}

#[rstest]
#[case::privileged("privileged: true", "privileged")]
#[case::a_job("x-gubernum-schedule: '30 2 * * *'\n    privileged: true", "privileged")]
#[case::a_folder_of_the_host("volumes: [/etc:/host]", "the folder /etc")]
#[case::capabilities("cap_add: [SYS_ADMIN]", "SYS_ADMIN")]
#[case::processes_of_the_host("pid: host", "processes of host")]
#[case::network_of_the_host("network_mode: host", "network of host")]
#[case::devices("devices: [/dev/sda:/dev/sda]", "devices")]
#[case::anothers_volume("volumes: [ledger:/data]", "the volume ledger")]
#[case::anothers_network("networks: [ledger]", "the network ledger")]
#[case::loosened("security_opt: [\"seccomp:unconfined\"]", "security option")]
#[tokio::test]
async fn nobody_reaches_beyond_the_stack_that_is_granted(#[case] line: &str, #[case] words: &str) {
    let (bench, tess) = with_stack().await;
    let text = format!(
        "services:\n  web:\n    image: {IMAGE}\n    {line}\nvolumes:\n  ledger: {{external: true}}\nnetworks:\n  ledger: {{external: true}}\n"
    );
    let (status, answer) = preview(&tess, Kind::Apply, apply("orchard", &text)).await;
    assert!(is_refused(status, &answer), "{status} {answer}");
    assert!(answer["detail"].as_str().unwrap().contains(words), "{answer}");
    let (status, answer) = preview(&bench.client, Kind::Apply, apply("orchard", &text)).await;
    assert_eq!(status, StatusCode::OK, "{answer}");
}

#[tokio::test]
async fn a_container_cannot_be_edited_out_of_where_it_may_be_changed() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut spec = gubernum_sim::ContainerSpec::new("frost-web", IMAGE);
    spec.labels.insert("team".into(), "frost".into());
    bench.hosts[0].run(spec);
    bench.until("it is there", async |b| b.one("packhouse", "frost-web").await.is_some()).await;
    let tess = bench.member("tess", &["operator@label:team=frost"]).await;
    let edit = |labels: Value, rights: Value| {
        json!({"targets": ["packhouse/frost-web"],
            "definition": {"image": IMAGE, "hostname": "x", "labels": labels, "rights": rights}})
    };
    let (status, answer) = preview(&tess, Kind::Edit, edit(json!({"team": "frost"}), json!({}))).await;
    assert_eq!(status, StatusCode::OK, "{answer}");
    for (labels, rights) in
        [(json!({"team": "ledger"}), json!({})), (json!({"team": "frost"}), json!({"privileged": true}))]
    {
        let (status, answer) = preview(&tess, Kind::Edit, edit(labels, rights)).await;
        assert!(is_refused(status, &answer), "{status} {answer}");
    }
    let made = |labels: Value| json!({"targets": ["packhouse/fresh"], "definition": {"image": IMAGE, "labels": labels}});
    let (status, answer) = preview(&tess, Kind::Deploy, made(json!({"team": "frost"}))).await;
    assert_eq!(status, StatusCode::OK, "{answer}");
    let (status, answer) = preview(&tess, Kind::Deploy, made(json!({}))).await;
    assert!(is_refused(status, &answer), "{status} {answer}");
}

#[tokio::test]
async fn a_source_that_applies_by_itself_needs_the_whole_host() {
    let (bench, tess) = with_stack().await;
    let set = |applies: bool| {
        let body = json!({"url": "https://127.0.0.1:1/orchard.git", "reference": "main", "paths": ["compose.yaml"],
            "poll_seconds": 0, "applies": applies});
        Some(body.to_string().into_bytes())
    };
    let path = "/api/v1/stacks/packhouse/orchard/source";
    let (status, text) = tess.raw(Method::PUT, path, set(true)).await.unwrap();
    let answer: Value = serde_json::from_slice(&text).unwrap();
    assert!(is_refused(status, &answer) && answer["field"] == "/applies", "{status} {answer}");
    for (client, applies) in [(&tess, false), (&bench.client, true)] {
        let (status, text) = client.raw(Method::PUT, path, set(applies)).await.unwrap();
        assert_eq!(status, StatusCode::OK, "{}", String::from_utf8_lossy(&text));
    }
}
