//! What containers are said to be.

use gubernum_core::container::{Health, State};
use gubernum_engine::EngineError;
use gubernum_engine::logs::LogQuery;
use gubernum_sim::{Action, Program};
use gubernum_testbed::bed::{Bed, BedKind};
use gubernum_testbed::real::IMAGE;
use serde_json::json;

use crate::{ended, until};

pub(crate) async fn says_what_it_is(bed: &Bed) {
    let facts = bed.engine.facts();
    let expected =
        if matches!(bed.kind, BedKind::Podman | BedKind::SimPodman) { "podman" } else { "dockerd" };
    assert_eq!(facts.kind, expected);
    assert_eq!((facts.os.as_str(), facts.api_version.as_str()), ("linux", "1.41"));
    assert!(!facts.version.is_empty() && !facts.machine.is_empty() && !facts.architecture.is_empty());
    bed.engine.ping(std::time::Duration::from_secs(5)).await.unwrap();
}

pub(crate) async fn lists_with_all_settings(bed: &Bed) {
    let settings = json!({
        "Labels": {"com.docker.compose.project": "frostwatch", "com.docker.compose.service": "api", "note": "ünï"},
        "Env": ["SEASON=late"],
        "StopTimeout": 7,
        "Volumes": {"/scratch": {}},
        "HostConfig": {"RestartPolicy": {"Name": "on-failure"}},
    });
    let id = bed.create("with-settings", &Program::idle(), settings).await.unwrap();
    let all = bed.engine.list().await.unwrap();
    let c = all.iter().find(|c| c.id == id).expect("it is listed");
    assert_eq!((c.name.as_str(), c.image.as_str(), c.state), ("with-settings", IMAGE, State::Created));
    assert_eq!((c.stack.as_deref(), c.service.as_deref()), (Some("frostwatch"), Some("api")));
    assert_eq!(c.labels.get("note").map(String::as_str), Some("ünï"));
    assert_eq!((c.restart_policy.as_str(), c.health, c.terminal), ("on-failure", Health::None, false));
    assert_eq!((c.started, c.finished, c.exit_code), (None, None, None));
    assert!(c.command.contains("sh -c"), "{}", c.command);
    let scratch = c.mounts.iter().find(|m| m.target == "/scratch").expect("its volume");
    assert!(scratch.anonymous && !scratch.read_only && scratch.kind == "volume", "{scratch:?}");
    let age = jiff::Timestamp::now().duration_since(c.created);
    assert!(age.abs() < jiff::SignedDuration::from_mins(2), "created {}", c.created);
    let full = bed.engine.inspect(&id).await.unwrap();
    assert_eq!(full.stop_timeout, Some(7));
    assert!(full.raw["Config"]["Env"].as_array().unwrap().iter().any(|e| e == "SEASON=late"));
}

pub(crate) async fn what_is_missing_is_404(bed: &Bed) {
    let id = "0123456789ab0123456789ab0123456789ab0123456789ab0123456789abcdef";
    let e = &bed.engine;
    let logs = e.logs(id, false, &LogQuery::default()).await.map(|_| ());
    let follow = e.logs(id, false, &LogQuery { follow: true, ..LogQuery::default() }).await.map(|_| ());
    for (what, result) in [
        ("inspect", e.inspect(id).await.map(|_| ())),
        ("start", e.start(id).await.map(|_| ())),
        ("stop", e.stop(id, Some(1)).await.map(|_| ())),
        ("restart", e.restart(id, Some(1)).await.map(|_| ())),
        ("kill", e.kill(id, "SIGKILL").await.map(|_| ())),
        ("remove", e.remove(id, false, false).await.map(|_| ())),
        ("logs", logs),
        ("follow", follow),
    ] {
        let error = result.expect_err(what);
        assert_eq!(error.status(), Some(404), "{what}: {error}");
        assert!(
            error.to_string().to_lowercase().contains("no such container")
                || error.to_string().contains("no container"),
            "{error}"
        );
    }
}

pub(crate) async fn exit_codes_are_reported(bed: &Bed) {
    for code in [0, 3, 127] {
        let program = Program::new(vec![Action::Exit(code)]);
        let id = bed.run(&format!("exits-{code}"), &program, json!({})).await.unwrap();
        let c = ended(bed, &id).await;
        assert_eq!((c.exit_code, c.out_of_memory), (Some(code), false));
        assert!(c.finished.unwrap() >= c.started.unwrap() - jiff::SignedDuration::from_secs(1));
    }
}

pub(crate) async fn a_failing_health_check_shows(bed: &Bed) {
    let settings = json!({"Healthcheck": {
        "Test": ["CMD-SHELL", "echo bad; false"], "Interval": 100_000_000, "Timeout": 2_000_000_000_u64, "Retries": 2,
    }});
    let id = bed.run("sickly", &Program::idle(), settings).await.unwrap();
    if bed.kind == BedKind::Podman {
        // Its service has no timer for checks here: it must say that the check has not decided.
        assert_eq!(until(bed, &id, "starting", |c| c.health == Health::Starting).await.health_output, None);
    } else {
        let c = until(bed, &id, "unhealthy", |c| c.health == Health::Unhealthy).await;
        assert_eq!(c.health_output.as_deref().map(str::trim), Some("bad"));
    }
    bed.engine.remove(&id, true, true).await.unwrap();
}

pub(crate) async fn out_of_memory_shows(bed: &Bed) {
    let program = Program::new(vec![Action::Wait(300), Action::OutOfMemory]);
    let memory = 16 * 1024 * 1024;
    let id = bed
        .run("greedy", &program, json!({"HostConfig": {"Memory": memory, "MemorySwap": memory}}))
        .await
        .unwrap();
    // The shell outlives its child on a real engine, or ends with it: either way the kernel's
    // verdict must be readable once it has ended.
    let seen = tokio::time::timeout(std::time::Duration::from_secs(8), ended(bed, &id)).await;
    if seen.is_err() {
        bed.engine.kill(&id, "SIGKILL").await.unwrap();
    }
    let c = ended(bed, &id).await;
    assert!(c.out_of_memory || bed.kind == BedKind::Podman, "{c:?}");
}

pub(crate) async fn bad_names_never_reach_the_engine(bed: &Bed) {
    for bad in ["", "..", "a/b", "x?force=1", "x y"] {
        assert!(matches!(bed.engine.inspect(bad).await, Err(EngineError::BadId(_))), "{bad:?}");
    }
}
