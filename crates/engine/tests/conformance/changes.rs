//! Changing containers.

use std::time::{Duration, Instant};

use gubernum_core::container::State;
use gubernum_engine::Done;
use gubernum_sim::{Action, Program};
use gubernum_testbed::bed::{Bed, BedKind};
use serde_json::json;

use crate::{ended, until};

pub(crate) async fn start_and_stop_tell_change_from_no_change(bed: &Bed) {
    let program = Program::new(vec![Action::Out("ready".into())]);
    let id = bed.create("up-and-down", &program, json!({})).await.unwrap();
    assert_eq!(bed.engine.start(&id).await.unwrap(), Done::Changed);
    let c = until(bed, &id, "running", |c| c.state == State::Running).await;
    assert!(c.started.is_some() && c.exit_code.is_none());
    assert_eq!(bed.engine.start(&id).await.unwrap(), Done::Unchanged);
    // It can only end well once it listens.
    crate::texts::wait_for_line(bed, &id, "ready").await;
    assert_eq!(bed.engine.stop(&id, Some(5)).await.unwrap(), Done::Changed);
    let c = ended(bed, &id).await;
    assert_eq!(c.exit_code, Some(143));
    assert_eq!(bed.engine.stop(&id, Some(5)).await.unwrap(), Done::Unchanged);
}

pub(crate) async fn stop_forces_after_the_grace_period(bed: &Bed) {
    let stubborn = Program { stubborn: true, ..Program::new(vec![Action::Out("ready".into())]) };
    let id = bed.run("stubborn", &stubborn, json!({})).await.unwrap();
    // Its trap must be set before it is asked to end.
    crate::texts::wait_for_line(bed, &id, "ready").await;
    let begun = Instant::now();
    assert_eq!(bed.engine.stop(&id, Some(1)).await.unwrap(), Done::Changed);
    assert!(begun.elapsed() >= Duration::from_millis(900), "{:?}", begun.elapsed());
    assert_eq!(ended(bed, &id).await.exit_code, Some(137));
}

pub(crate) async fn restart_starts_anew_and_starts_what_is_stopped(bed: &Bed) {
    let id = bed.run("again", &Program::idle(), json!({})).await.unwrap();
    let first = until(bed, &id, "running", |c| c.state == State::Running).await.started.unwrap();
    bed.engine.restart(&id, Some(3)).await.unwrap();
    let second =
        until(bed, &id, "running again", |c| c.state == State::Running && c.started > Some(first)).await;
    bed.engine.stop(&id, Some(3)).await.unwrap();
    ended(bed, &id).await;
    bed.engine.restart(&id, None).await.unwrap();
    until(bed, &id, "running once more", |c| c.state == State::Running && c.started > second.started).await;
    bed.engine.remove(&id, true, true).await.unwrap();
}

pub(crate) async fn kill_sends_the_signal_and_conflicts_when_stopped(bed: &Bed) {
    let id = bed.run("struck", &Program::new(vec![Action::Out("ready".into())]), json!({})).await.unwrap();
    crate::texts::wait_for_line(bed, &id, "ready").await;
    assert_eq!(bed.engine.kill(&id, "SIGTERM").await.unwrap(), Done::Changed);
    assert_eq!(ended(bed, &id).await.exit_code, Some(143));
    let error = bed.engine.kill(&id, "SIGKILL").await.unwrap_err();
    assert_eq!(error.status(), Some(409), "{error}");
    bed.engine.start(&id).await.unwrap();
    bed.engine.kill(&id, "SIGKILL").await.unwrap();
    assert_eq!(ended(bed, &id).await.exit_code, Some(137));
}

pub(crate) async fn remove_refuses_what_runs_unless_forced(bed: &Bed) {
    let id = bed.run("staying", &Program::idle(), json!({"Volumes": {"/scratch": {}}})).await.unwrap();
    let error = bed.engine.remove(&id, false, false).await.unwrap_err();
    assert_eq!(error.status(), Some(409), "{error}");
    assert_eq!(bed.engine.inspect(&id).await.unwrap().container.state, State::Running);
    bed.engine.remove(&id, true, true).await.unwrap();
    assert_eq!(bed.engine.inspect(&id).await.unwrap_err().status(), Some(404));
    let id = bed.create("leaving", &Program::idle(), json!({})).await.unwrap();
    bed.engine.remove(&id, false, false).await.unwrap();
    assert!(!bed.engine.list().await.unwrap().iter().any(|c| c.id == id));
}

pub(crate) async fn a_start_that_fails_gives_the_engines_reason(bed: &Bed) {
    let program = Program {
        start_error: Some("exec: \"no-such-command\": executable file not found in $PATH".into()),
        ..Program::idle()
    };
    let id = bed.create("no-start", &program, json!({"Cmd": ["no-such-command"]})).await.unwrap();
    let error = bed.engine.start(&id).await.unwrap_err();
    assert!(error.status().is_some(), "{error}");
    assert!(error.to_string().contains("no-such-command"), "{error}");
    let c = bed.engine.inspect(&id).await.unwrap().container;
    assert!(matches!(c.state, State::Created | State::Exited), "{:?}", c.state);
    if bed.kind != BedKind::Podman {
        // podman 4.3 keeps no error in the record.
        assert!(c.error.as_deref().unwrap_or_default().contains("no-such-command"), "{:?}", c.error);
    }
}

pub(crate) async fn the_restart_policy_restarts(bed: &Bed) {
    let program = Program::new(vec![Action::Wait(100), Action::Exit(1)]);
    let id = bed
        .run("looping", &program, json!({"HostConfig": {"RestartPolicy": {"Name": "always"}}}))
        .await
        .unwrap();
    let c = until(bed, &id, "restarted", |c| c.restart_count >= 2).await;
    assert_eq!(c.restart_policy, "always");
    bed.engine.stop(&id, Some(1)).await.unwrap();
    ended(bed, &id).await;
    bed.engine.remove(&id, true, true).await.unwrap();
}
