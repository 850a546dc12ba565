//! Repositories of stacks: their secrets are sealed, what waits is kept until it is applied, and removed stacks are expected by nobody.

use gubernum_core::journal::{Target, TargetState};
use gubernum_core::plan::Request;
use gubernum_core::plan::request::{ApplyRequest, RemoveStackRequest};
use gubernum_core::stack::source::GitPlace;
use jiff::Timestamp;
use serde_json::json;

use crate::journal::NewOperation;
use crate::sources::{CheckOutcome, FoundCommit, SourceRecord, SourceSettings};
use crate::{Seal, Store, StoreError};

const TOKEN: &str = "plums in march";
const HOOK_SECRET: &str = "quinces in may";
const VALUE: &str = "pears in autumn";

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_800_000_000 + second).unwrap()
}

fn open(folder: &std::path::Path) -> Store {
    Store::open(&folder.join("gubernum.db"), Seal::open(&folder.join("seal.key")).unwrap()).unwrap()
}

fn record(stack: &str, hook: &str) -> SourceRecord {
    SourceRecord {
        host: "packhouse".to_owned(),
        stack: stack.to_owned(),
        hook: hook.to_owned(),
        settings: SourceSettings {
            place: GitPlace {
                url: "https://git.tarnvalley.example/frost.git".to_owned(),
                reference: "main".to_owned(),
                paths: vec!["stack.yaml".to_owned()],
            },
            account: None,
            token: Some(TOKEN.to_owned()),
            ssh_key: None,
            known_hosts: None,
            hook_secret: HOOK_SECRET.to_owned(),
            variables: [("STORE_PASSWORD".to_owned(), VALUE.to_owned())].into(),
            profiles: ["debug".to_owned()].into(),
        },
        poll_seconds: 60,
        applies: true,
        found: None,
        waits: false,
        checked: None,
        failed: None,
        member: "mara".to_owned(),
    }
}

fn commit(id: &str) -> FoundCommit {
    FoundCommit { id: id.repeat(40), subject: "Colder".to_owned(), author: "Mara".to_owned(), time: at(0) }
}

fn wish(commit: Option<&str>) -> ApplyRequest {
    ApplyRequest {
        stack: "frostwatch".to_owned(),
        files: [("stack.yaml".to_owned(), format!("a: {VALUE}"))].into(),
        main: vec!["stack.yaml".to_owned()],
        commit: commit.map(|id| id.repeat(40)),
        ..ApplyRequest::default()
    }
}

/// An operation of this request that was carried out.
fn carried(store: &Store, request: Request) {
    let text = json!({"host": "packhouse", "id": "", "name": "api", "object": "container", "state": "running",
        "steps": [{"step": "make"}]});
    let new = NewOperation {
        request: &request,
        references: &["packhouse/frostwatch".to_owned()],
        author: "ines",
        address: "-",
        created: at(0),
        targets: vec![serde_json::from_value(text).unwrap()],
        idempotency: None,
    };
    let operation = store.add_operation(new).unwrap().0;
    let over = |t: &Target| Target { state: TargetState::Succeeded, ended: Some(at(1)), ..t.clone() };
    let targets: Vec<(usize, Target)> = operation.targets.iter().map(over).enumerate().collect();
    store.decide(operation.id, &targets, at(1)).unwrap();
}

#[test]
fn secrets_are_sealed_and_come_back_whole() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    store.set_source(&record("frostwatch", "one")).unwrap();
    store.set_source(&record("ledger", "two")).unwrap();
    drop(store);
    let store = open(folder.path());
    let all = store.sources().unwrap();
    let names: Vec<&str> = all.iter().map(|s| s.stack.as_str()).collect();
    assert_eq!(names, ["frostwatch", "ledger"]);
    let one = store.source("packhouse", "frostwatch").unwrap().unwrap();
    assert_eq!(one.settings.token.as_deref(), Some(TOKEN));
    assert_eq!((one.settings.hook_secret.as_str(), one.poll_seconds, one.applies), (HOOK_SECRET, 60, true));
    assert_eq!(one.settings.variables["STORE_PASSWORD"], VALUE);
    assert_eq!(store.source_of_hook("one").unwrap().unwrap().stack, "frostwatch");
    assert!(store.source_of_hook("three").unwrap().is_none());
    assert!(store.source("coldstore", "frostwatch").unwrap().is_none());
    store
        .set_looked(
            "packhouse",
            "frostwatch",
            &CheckOutcome::Found(commit("a"), Some(Box::new(wish(None)))),
            at(2),
        )
        .unwrap();
    drop(store);
    for file in std::fs::read_dir(folder.path()).unwrap() {
        let bytes = std::fs::read(file.unwrap().path()).unwrap();
        for secret in [TOKEN, HOOK_SECRET, VALUE] {
            assert!(
                !bytes.windows(secret.len()).any(|w| w == secret.as_bytes()),
                "'{secret}' stands in a file"
            );
        }
    }
}

#[test]
fn a_seal_belongs_to_its_stack() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    store.set_source(&record("frostwatch", "one")).unwrap();
    let connection = rusqlite::Connection::open(folder.path().join("gubernum.db")).unwrap();
    connection.execute("UPDATE stack_sources SET stack = 'ledger'", []).unwrap();
    assert!(matches!(store.source("packhouse", "ledger"), Err(StoreError::Sealed)), "moved to another stack");
}

#[test]
fn a_commit_waits_until_it_is_applied() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let source = |store: &Store| store.source("packhouse", "frostwatch").unwrap().unwrap();
    store.set_source(&record("frostwatch", "one")).unwrap();
    assert_eq!(store.waiting_commit("packhouse", "frostwatch").unwrap(), None);
    let found = |id: &str| CheckOutcome::Found(commit(id), Some(Box::new(wish(Some(id)))));
    store.set_looked("packhouse", "frostwatch", &found("a"), at(2)).unwrap();
    let now = source(&store);
    assert_eq!((now.waits, now.found, now.checked), (true, Some(commit("a")), Some(at(2))));
    assert_eq!(store.waiting_commit("packhouse", "frostwatch").unwrap(), Some(wish(Some("a"))));

    // A look that fails says why and removes nothing; one that goes well forgets that.
    store.set_looked("packhouse", "frostwatch", &CheckOutcome::Failed("it hangs".to_owned()), at(3)).unwrap();
    let now = source(&store);
    assert_eq!((now.waits, now.failed.as_deref(), now.checked), (true, Some("it hangs"), Some(at(3))));
    store.set_looked("packhouse", "frostwatch", &CheckOutcome::Same, at(4)).unwrap();
    assert_eq!((source(&store).waits, source(&store).failed), (true, None));

    // Another text of the stack is not that commit.
    carried(&store, Request::Apply(wish(None)));
    carried(&store, Request::Apply(wish(Some("b"))));
    assert!(source(&store).waits);
    let other = ApplyRequest { variables: [("TAG".to_owned(), "2".to_owned())].into(), ..wish(Some("a")) };
    carried(&store, Request::Apply(other));
    let now = source(&store);
    assert_eq!((now.waits, now.found), (false, Some(commit("a"))), "it is applied and still the newest");
    assert_eq!(store.waiting_commit("packhouse", "frostwatch").unwrap(), None);
    let newest = &store.stack_revisions("packhouse", "frostwatch").unwrap()[0];
    assert_eq!(newest.commit, Some("a".repeat(40)));

    // What is there already does not wait.
    store.set_looked("packhouse", "frostwatch", &CheckOutcome::Found(commit("c"), None), at(5)).unwrap();
    assert!(!source(&store).waits);
    assert!(store.remove_source("packhouse", "frostwatch").unwrap());
    assert!(!store.remove_source("packhouse", "frostwatch").unwrap());
}

#[test]
fn a_removed_stack_is_expected_by_nobody_until_it_is_back() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    assert_eq!(store.kept_stacks().unwrap(), []);
    carried(&store, Request::Apply(wish(None)));
    let other = ApplyRequest { profiles: ["debug".to_owned()].into(), ..wish(None) };
    carried(&store, Request::Apply(other));
    let kept = [("packhouse".to_owned(), "frostwatch".to_owned(), 2)];
    assert_eq!(store.kept_stacks().unwrap(), kept);
    let remove = RemoveStackRequest { stack: "frostwatch".to_owned(), ..RemoveStackRequest::default() };
    carried(&store, Request::RemoveStack(remove.clone()));
    assert_eq!(store.kept_stacks().unwrap(), []);
    assert_eq!(store.stack_revisions("packhouse", "frostwatch").unwrap().len(), 2, "the way back stays");
    // The same text once more makes no revision, and it is expected again.
    let again = ApplyRequest { profiles: ["debug".to_owned()].into(), ..wish(None) };
    carried(&store, Request::Apply(again));
    assert_eq!(store.kept_stacks().unwrap(), kept);
    carried(&store, Request::RemoveStack(remove));
    let adopted = store.adopt("packhouse", &wish(None), "ines", at(9)).unwrap();
    assert_eq!((adopted, store.kept_stacks().unwrap().len()), (3, 1), "adopted, it is expected too");
}

#[test]
fn signatures_are_those_of_the_body_and_the_secret() {
    let signed = Seal::signature(HOOK_SECRET, b"{}");
    assert!(Seal::is_signed(HOOK_SECRET, b"{}", &signed));
    assert!(!Seal::is_signed(HOOK_SECRET, b"{} ", &signed));
    assert!(!Seal::is_signed(TOKEN, b"{}", &signed));
    assert!(!Seal::is_signed(HOOK_SECRET, b"{}", &signed[..31]));
    assert!(!Seal::is_signed(HOOK_SECRET, b"{}", &[]));
    // RFC 4231, test case 2.
    let hex: String =
        Seal::signature("Jefe", b"what do ya want for nothing?").iter().map(|b| format!("{b:02x}")).collect();
    assert_eq!(hex, "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843");
}
