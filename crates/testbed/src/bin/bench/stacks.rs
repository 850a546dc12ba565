//! A stack of ten services applied to a real dockerd, against the same calls of its engine one after another.

use std::path::Path;
use std::time::{Duration, Instant};

use gubernum_api::OperationState;
use gubernum_api::requests::{ApplyRequest, NewHost, NewOperation, Request};
use gubernum_core::compose::read::read;
use gubernum_core::container::Health;
use gubernum_engine::Engine;
use gubernum_testbed::BedError;
use gubernum_testbed::real::{IMAGE, RealEngine};
use serde_json::json;

use crate::fleet::serve;
use crate::{Row, failed};

/// One store, six that need it healthy, and three that need two of those.
fn text() -> String {
    let mut services = serde_json::Map::new();
    let mut add = |name: &str, needs: &[&str]| {
        let needs: serde_json::Map<String, serde_json::Value> =
            needs.iter().map(|n| ((*n).to_owned(), json!({"condition": "service_healthy"}))).collect();
        services.insert(
            name.to_owned(),
            json!({"image": IMAGE, "pull_policy": "never", "network_mode": "none", "depends_on": needs,
                "command": ["sh", "-c", "trap 'exit 0' TERM; while true; do sleep 1 & wait $$!; done"],
                "healthcheck": {"test": ["CMD-SHELL", "true"], "interval": "500ms"},
                "configs": ["level"], "volumes": ["readings:/readings"]}),
        );
    };
    add("store", &[]);
    let middle: Vec<String> = (1..=6).map(|n| format!("reader-{n}")).collect();
    for name in &middle {
        add(name, &["store"]);
    }
    for n in 0..3 {
        add(&format!("web-{n}"), &[&middle[2 * n], &middle[2 * n + 1]]);
    }
    json!({"services": services, "volumes": {"readings": {}}, "configs": {"level": {"content": "two"}}})
        .to_string()
}

fn request() -> ApplyRequest {
    ApplyRequest {
        stack: "frost".into(),
        files: [("stack.yaml".to_owned(), text())].into(),
        main: vec!["stack.yaml".into()],
        ..ApplyRequest::default()
    }
}

/// Removes everything of the stack again.
fn clear(dockerd: &RealEngine) -> Result<(), BedError> {
    let all = dockerd.tool(&["ps", "--all", "--quiet"])?;
    let ids: Vec<&str> = all.split_whitespace().collect();
    if !ids.is_empty() {
        dockerd.tool(&[&["rm", "--force"], &ids[..]].concat())?;
    }
    dockerd.tool(&["volume", "rm", "--force", "frost_readings"])?;
    Ok(())
}

/// What the plan of it asks an engine for, one after another: each is made, started and waited for.
async fn one_by_one(engine: &Engine) -> Result<(), BedError> {
    let said = |error: gubernum_engine::EngineError| failed("engine", &error.to_string());
    let request = request();
    let (_, stack) = read(&request.given()).map_err(|e| failed("read", &format!("{e:?}")))?;
    engine.make_volume("frost_readings", &Default::default()).await.map_err(said)?;
    let mut names: Vec<&String> = stack.services.keys().collect();
    names.sort_by_key(|name| (!name.starts_with("store"), !name.starts_with("reader")));
    for name in names {
        let mut definition = stack.services[name].container.clone();
        for mount in &mut definition.mounts {
            mount.source = Some("frost_readings".to_owned());
        }
        let id = engine.make(&format!("frost-{name}-1"), &definition, None, None).await.map_err(said)?;
        let file = gubernum_core::stack::PlacedFile {
            path: "/level".to_owned(),
            user: 0,
            group: 0,
            mode: 0o444,
            content: b"two".to_vec(),
        };
        engine.put_files(&id, &[file]).await.map_err(said)?;
        engine.start(&id).await.map_err(said)?;
        while engine.inspect(&id).await.map_err(said)?.container.health != Health::Healthy {
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    Ok(())
}

pub(crate) async fn measure(binary: &Path) -> Result<Row, BedError> {
    let dockerd = RealEngine::dockerd()?;
    let folder = tempfile::tempdir()?;
    let (_service, client, _) = serve(binary, folder.path()).await?;
    let said = |error: gubernum_client::ClientError| failed("client", &error.to_string());
    let address = dockerd.endpoint().to_string();
    let host =
        NewHost { name: "packhouse".into(), address, tls: None, ports_address: None, groups: Vec::new() };
    client.add_host(&host).await.map_err(said)?;
    while !client.hosts().await.is_ok_and(|hosts| hosts.iter().all(|h| h.engine.is_some())) {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let engine = Engine::open(&dockerd.endpoint()).await.map_err(|e| failed("engine", &e.to_string()))?;
    let (mut applied, mut serial) = (f64::INFINITY, f64::INFINITY);
    for _ in 0..3 {
        clear(&dockerd)?;
        let begun = Instant::now();
        one_by_one(&engine).await?;
        serial = serial.min(begun.elapsed().as_secs_f64());
        clear(&dockerd)?;
        while !client.containers(&[]).await.is_ok_and(|all| all.is_empty()) {
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        let wish = NewOperation::new(Request::Apply(request()), vec!["packhouse".into()]);
        let begun = Instant::now();
        let mut operation = client.submit(&wish, None).await.map_err(said)?;
        while operation.state == OperationState::Running {
            tokio::time::sleep(Duration::from_millis(20)).await;
            operation = client.operation(operation.id).await.map_err(said)?;
        }
        if operation.state != OperationState::Succeeded {
            return Err(failed("apply", &format!("{:?}", operation.targets)));
        }
        applied = applied.min(begun.elapsed().as_secs_f64());
    }
    Ok(Row {
        what: "ten services applied / the calls one by one",
        measured: applied / serial,
        limit: 0.6,
        unit: "x",
        more: format!("{applied:.1} s against {serial:.1} s"),
        at_least: false,
    })
}
