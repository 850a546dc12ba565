//! Revisions of stacks: one write decides, what was applied comes back whole, and only so many are kept.

use gubernum_core::journal::{Target, TargetState};
use gubernum_core::plan::Request;
use gubernum_core::plan::request::ApplyRequest;
use jiff::Timestamp;
use serde_json::json;

use crate::journal::NewOperation;
use crate::stacks::MOST_REVISIONS;
use crate::{Seal, Store};

const KEY: &str = "pears in autumn";

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_800_000_000 + second).unwrap()
}

fn target(name: &str) -> Target {
    let text = json!({"host": "packhouse", "id": "", "name": name, "object": "container", "state": "running",
        "after": [{"target": 0, "until": "started"}], "steps": [{"step": "make"}, {"step": "start-new"}]});
    serde_json::from_value(text).unwrap()
}

fn applied(store: &Store, level: &str) -> u64 {
    let request = Request::Apply(ApplyRequest {
        stack: "frostwatch".to_owned(),
        files: [("stack.yaml".to_owned(), format!("level: {level}"))].into(),
        main: vec!["stack.yaml".to_owned()],
        variables: [("DB_PASSWORD".to_owned(), KEY.to_owned())].into(),
        comment: Some(format!("to {level}")),
        ..ApplyRequest::default()
    });
    let new = NewOperation {
        request: &request,
        references: &["packhouse".to_owned()],
        author: "ines",
        address: "-",
        created: at(0),
        targets: vec![target("api"), target("web")],
        idempotency: None,
    };
    store.add_operation(new).unwrap().0.id
}

fn decided(store: &Store, id: u64) {
    let operation = store.operation(id).unwrap().unwrap();
    let over = |t: &Target| Target { state: TargetState::Succeeded, ended: Some(at(1)), ..t.clone() };
    let targets: Vec<(usize, Target)> = operation.targets.iter().map(over).enumerate().collect();
    store.decide(id, &targets, at(1)).unwrap();
}

#[test]
fn one_write_decides_and_the_text_is_the_newest_revision() {
    let folder = tempfile::tempdir().unwrap();
    let open = || {
        Store::open(&folder.path().join("gubernum.db"), Seal::open(&folder.path().join("seal.key")).unwrap())
    };
    let store = open().unwrap();
    let first = applied(&store, "2");
    assert!(!store.is_decided(first).unwrap());
    assert_eq!(store.operation(first).unwrap().unwrap().targets[1], target("web"), "with what it waits for");
    assert_eq!(store.stack_revisions("packhouse", "frostwatch").unwrap(), []);
    decided(&store, first);
    decided(&store, applied(&store, "3"));
    decided(&store, applied(&store, "3"));
    drop(store);
    let store = open().unwrap();
    assert!(store.is_decided(first).unwrap());
    assert!(
        store.operation(first).unwrap().unwrap().targets.iter().all(|t| t.state == TargetState::Succeeded)
    );
    let all = store.stack_revisions("packhouse", "frostwatch").unwrap();
    let told: Vec<(u64, Option<&str>)> = all.iter().map(|r| (r.number, r.comment.as_deref())).collect();
    assert_eq!(told, [(2, Some("to 3")), (1, Some("to 2"))]);
    let text = |number| store.stack_revision("packhouse", "frostwatch", number).unwrap().unwrap();
    assert_eq!(text(Some(1)).files["stack.yaml"], "level: 2");
    assert_eq!(text(None).files["stack.yaml"], "level: 3");
    assert_eq!(text(None).variables["DB_PASSWORD"], KEY);
    assert_eq!(store.stack_revision("packhouse", "frostwatch", Some(9)).unwrap(), None);
    drop(store);
    let files = std::fs::read_dir(folder.path()).unwrap();
    for bytes in files.map(|f| std::fs::read(f.unwrap().path()).unwrap()) {
        assert!(!bytes.windows(KEY.len()).any(|w| w == KEY.as_bytes()), "nothing secret stands in the files");
    }
}

#[test]
fn the_oldest_revisions_go() {
    let folder = tempfile::tempdir().unwrap();
    let seal = Seal::open(&folder.path().join("seal.key")).unwrap();
    let store = Store::open(&folder.path().join("gubernum.db"), seal).unwrap();
    for n in 0..MOST_REVISIONS + 3 {
        decided(&store, applied(&store, &n.to_string()));
    }
    let all = store.stack_revisions("packhouse", "frostwatch").unwrap();
    assert_eq!(all.len(), usize::try_from(MOST_REVISIONS).unwrap());
    assert_eq!(all.last().unwrap().number, 4, "numbers are not given twice");
}

#[test]
fn a_mark_stands_for_its_contents() {
    let folder = tempfile::tempdir().unwrap();
    let seal = Seal::open(&folder.path().join("seal.key")).unwrap();
    let mark = seal.mark("files", &[b"ab", b"c"]);
    assert_eq!(mark, seal.mark("files", &[b"ab", b"c"]));
    assert_ne!(mark, seal.mark("files", &[b"a", b"bc"]), "nothing moves from one into the next");
    assert_ne!(mark, seal.mark("others", &[b"ab", b"c"]));
    let other = tempfile::tempdir().unwrap();
    let other = Seal::open(&other.path().join("seal.key")).unwrap();
    assert_ne!(mark, other.mark("files", &[b"ab", b"c"]), "nobody else can try contents out");
}
