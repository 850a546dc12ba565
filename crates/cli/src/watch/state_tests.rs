//! How keys and messages change what `watch` shows.

use super::*;
use gubernum_api::{Reason, views::FleetSnapshot};

fn key(code: KeyCode) -> KeyEvent {
    KeyEvent::new(code, KeyModifiers::NONE)
}

fn used(name: &str, memory: f64) -> CurrentUsage {
    CurrentUsage {
        host: "packhouse".into(),
        id: name.into(),
        name: name.into(),
        stack: None,
        time: jiff::Timestamp::UNIX_EPOCH,
        figures: gubernum_core::usage::Figures { memory: Some(memory), ..Default::default() },
        memory_has_cache: false,
        recent_processors: Vec::new(),
        recent_memory: Vec::new(),
    }
}

fn with(names: &[&str]) -> State {
    let containers = names.iter().map(|n| Container::blank("packhouse", n, n)).collect();
    let fleet = FleetSnapshot { epoch: "e".into(), revision: 1, hosts: Vec::new(), containers };
    let mut state = State::new();
    state.take(FromServer::Snapshot { id: 1, part: 0, more: false, fleet }, 10);
    state
}

#[test]
fn a_change_is_asked_for_and_confirmed() {
    let mut state = with(&["api", "store"]);
    state.press(key(KeyCode::Char('2')));
    state.press(key(KeyCode::Down));
    let Do::Preview(1, wish) = state.press(key(KeyCode::Char('R'))) else { panic!("previewed") };
    assert_eq!(wish.targets, ["packhouse/store"]);
    assert_eq!(state.press(key(KeyCode::Char('n'))), Do::Nothing);
    assert!(state.asked.is_none(), "anything but y cancels");
    state.press(key(KeyCode::Char('T')));
    assert_eq!(state.press(key(KeyCode::Char('y'))), Do::Nothing, "its preview is not there yet");
    let preview = |can_start| Preview { text: "Stops it.".to_owned(), can_start };
    state.previewed(1, preview(true));
    assert!(state.asked.as_ref().unwrap().preview.is_none(), "that was of the earlier question");
    state.previewed(2, preview(false));
    assert_eq!(state.press(key(KeyCode::Char('y'))), Do::Nothing, "it is refused");
    assert!(state.asked.is_none());
    state.press(key(KeyCode::Char('T')));
    state.previewed(3, preview(true));
    let Do::Change(wish) = state.press(key(KeyCode::Char('y'))) else { panic!("asked") };
    assert_eq!(
        (wish.request.kind(), wish.targets),
        (gubernum_api::Kind::Stop, vec!["packhouse/store".to_owned()])
    );
}

#[test]
fn the_filter_narrows_and_escape_widens() {
    let mut state = with(&["api", "store"]);
    state.press(key(KeyCode::Char('/')));
    for c in "sto".chars() {
        state.press(key(KeyCode::Char(c)));
    }
    assert_eq!(state.rows().len(), 1);
    assert_eq!(state.press(key(KeyCode::Enter)), Do::Nothing);
    assert_eq!(state.press(key(KeyCode::Enter)), Do::Follow("packhouse/store".into()));
    assert_eq!(state.press(key(KeyCode::Esc)), Do::StopFollowing);
    state.press(key(KeyCode::Esc));
    assert_eq!(state.rows().len(), 2);
}

#[test]
fn containers_are_sorted_and_grouped_by_stack() {
    let mut state = with(&["api", "store", "tool"]);
    let in_stack = |name: &str, stack: &str| {
        let mut c = Container::blank("packhouse", name, name);
        c.stack = Some(stack.to_owned());
        Change::ContainerPut { container: Box::new(c) }
    };
    let changes = vec![in_stack("api", "grading"), in_stack("store", "auction")];
    state.take(FromServer::Delta { id: 1, delta: gubernum_api::Delta { revision: 2, changes } }, 10);
    let names = |state: &State| state.rows().iter().map(|c| c.name.clone()).collect::<Vec<_>>();
    state.press(key(KeyCode::Char('g')));
    assert_eq!(names(&state), ["store", "api", "tool"], "by stack, those without one last");
    assert_eq!(state.of_stacks()["grading"], (1, 1));
    state.press(key(KeyCode::Char('g')));
    state.take(FromServer::Used { id: 2, samples: vec![used("api", 5.0), used("tool", 9.0)] }, 10);
    for order in ["CPU", "memory"] {
        state.press(key(KeyCode::Char('o')));
        assert_eq!(state.order.word(), order);
    }
    assert_eq!(names(&state), ["tool", "api", "store"]);
}

#[test]
fn what_needs_attention_leads_and_deltas_change_it() {
    let mut state = with(&["api", "store"]);
    assert!(state.items().is_empty());
    let mut sick = Container::blank("packhouse", "store", "store");
    sick.attention = Some(Reason {
        rank: 0,
        because: None,
        severity: Severity::Trouble,
        code: "unhealthy".into(),
        sentence: "Unhealthy.".into(),
        advice: "Look.".into(),
        evidence: Vec::new(),
    });
    let delta = gubernum_api::Delta {
        revision: 2,
        changes: vec![Change::ContainerPut { container: Box::new(sick) }],
    };
    state.take(FromServer::Delta { id: 1, delta }, 10);
    assert_eq!(state.items()[0].reference, "packhouse/store");
    assert_eq!(state.rows()[0].name, "store");
    assert_eq!(state.target().as_deref(), Some("packhouse/store"));
}

#[test]
fn a_log_is_held_in_place_while_one_reads_back() {
    let mut state = with(&["api"]);
    let line = |n: usize| SourcedLine {
        source: "packhouse/api".into(),
        line: gubernum_api::views::Line {
            time: None,
            stream: gubernum_api::Stream::Stdout,
            text: n.to_string(),
            bytes: None,
            continued: false,
        },
        level: None,
        matches: Vec::new(),
    };
    let lines = |from: usize, to: usize| FromServer::Lines {
        id: 10,
        lines: (from..to).map(line).collect(),
        bytes: 1,
    };
    state.take(lines(0, 50), 10);
    state.page = Page::Logs;
    state.press(key(KeyCode::PageUp));
    assert_eq!(state.back, 15);
    state.take(lines(50, 60), 10);
    assert_eq!(state.back, 25);
    state.take(lines(60, 5000), 10);
    assert_eq!(state.lines.len(), HELD_LINES);
    state.press(key(KeyCode::End));
    assert_eq!(state.back, 0);
}
