use std::path::Path;

use gubernum_core::journal::{OperationState, Target, TargetState};
use gubernum_core::operation_filter::OperationFilter;
use gubernum_core::plan::request::StopRequest;
use gubernum_core::plan::{ObjectKind, Request, Step};
use jiff::{SignedDuration, Timestamp};
use rstest::rstest;
use tempfile::TempDir;

use crate::audit::{AuditQuery, AuditVerdict, NewEntry};
use crate::credentials::{Kind as CredentialKind, NewCredential};
use crate::hosts::HostRecord;
use crate::journal::NewOperation;
use crate::uploads::{HalfUpload, MOST_UPLOADS};
use crate::{OpenError, Seal, Store, StoreError};

fn open(folder: &Path) -> Result<Store, OpenError> {
    Store::open(&folder.join("gubernum.db"), Seal::open(&folder.join("seal.key")).unwrap())
}

fn fresh() -> (TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path()).unwrap();
    (folder, store)
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_800_000_000 + second).unwrap()
}

fn target(state: TargetState) -> Target {
    Target {
        host: "packhouse".into(),
        id: "ab".into(),
        name: "frost-api".into(),
        object: ObjectKind::Container,
        after: Vec::new(),
        steps: vec![Step::Stop { grace_seconds: Some(3) }],
        at: None,
        progress: None,
        bytes: None,
        state,
        sentence: None,
        began: None,
        ended: None,
    }
}

fn operation<'a>(request: &'a Request, key: Option<(&'a str, &'a [u8])>) -> NewOperation<'a> {
    NewOperation {
        request,
        references: &[],
        author: "mara",
        address: "192.0.2.7",
        created: at(0),
        targets: vec![target(TargetState::Waiting), target(TargetState::Refused)],
        idempotency: key,
    }
}

#[test]
fn the_journal_survives_the_service() {
    let (folder, store) = fresh();
    let request = Request::Stop(StopRequest::default());
    let (op, new) = store.add_operation(operation(&request, None)).unwrap();
    assert!(new && op.state == OperationState::Running);
    let began = Target { state: TargetState::Running, began: Some(at(1)), ..target(TargetState::Waiting) };
    store.set_target(op.id, 0, &began).unwrap();
    drop(store);
    let store = open(folder.path()).unwrap();
    let open = store.open_operations().unwrap();
    assert_eq!(open.len(), 1);
    assert_eq!(open[0].targets[0], began);
    let mut over = open[0].clone();
    over.targets[0] = Target { state: TargetState::Succeeded, ended: Some(at(2)), ..began };
    store.set_target(op.id, 0, &over.targets[0]).unwrap();
    over.state = OperationState::Partly;
    over.ended = Some(at(2));
    store.set_operation(&over).unwrap();
    assert!(store.open_operations().unwrap().is_empty());
    assert_eq!(store.operation(op.id).unwrap().unwrap(), over);
    assert_eq!(store.operations(None, 10, &OperationFilter::default()).unwrap(), [over]);
}

#[test]
fn an_idempotency_key_stands_for_one_operation() {
    let (_folder, store) = fresh();
    let request = Request::Stop(StopRequest::default());
    let (first, new) = store.add_operation(operation(&request, Some(("k", b"h")))).unwrap();
    assert!(new);
    let (again, new) = store.add_operation(operation(&request, Some(("k", b"h")))).unwrap();
    assert_eq!((again.id, new), (first.id, false));
    let other = store.add_operation(operation(&request, Some(("k", b"other"))));
    assert!(matches!(other, Err(StoreError::KeyReused)));
    let later = NewOperation { created: at(25 * 3600), ..operation(&request, Some(("k", b"other"))) };
    assert!(store.add_operation(later).unwrap().1, "the key is free again after a day");
}

#[test]
fn keys_of_links_are_sealed_at_rest() {
    let (folder, store) = fresh();
    let host = HostRecord {
        name: "coldstore".into(),
        address: "tcp://192.0.2.5:2376".into(),
        tls: Some(("CA".into(), "CERT".into(), "VERY-SECRET-KEY".into())),
        ports_address: None,
        groups: vec!["sheds".into()],
    };
    store.add_host(&host, at(0)).unwrap();
    assert!(matches!(store.add_host(&host, at(0)), Err(StoreError::Taken(_))));
    assert_eq!(store.hosts().unwrap(), [host]);
    drop(store);
    for entry in std::fs::read_dir(folder.path()).unwrap() {
        use std::os::unix::fs::PermissionsExt;
        let mode = entry.as_ref().unwrap().metadata().unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600, "for its owner only");
        let bytes = std::fs::read(entry.unwrap().path()).unwrap();
        assert!(!bytes.windows(15).any(|w| w == b"VERY-SECRET-KEY"));
    }
    std::fs::remove_file(folder.path().join("seal.key")).unwrap();
    let other_key = open(folder.path()).unwrap();
    assert!(matches!(other_key.hosts(), Err(StoreError::Sealed)));
}

#[test]
fn only_one_can_claim() {
    let (_folder, store) = fresh();
    assert!(!store.has_members().unwrap());
    assert!(store.claim("mara", "h", at(0)).unwrap());
    assert!(!store.claim("jory", "h", at(0)).unwrap());
    assert_eq!(store.member("MARA").unwrap().unwrap().name, "mara");
    assert!(store.member("jory").unwrap().is_none());
}

#[test]
fn credentials_end() {
    let (_folder, store) = fresh();
    store.claim("mara", "h", at(0)).unwrap();
    let member_id = store.member("mara").unwrap().unwrap().id;
    let new = |kind, hash, expires| NewCredential {
        kind,
        hash,
        member_id,
        name: "n",
        address: "a",
        expires,
        bounds: None,
        networks: &[],
        provider: None,
    };
    let session = new(CredentialKind::Session, b"s", Some(at(100)));
    let id = store.add_credential(&session, at(0)).unwrap();
    store.add_credential(&new(CredentialKind::Token, b"t", None), at(0)).unwrap();
    assert!(store.present(b"s", at(99)).unwrap().is_some());
    assert!(store.present(b"s", at(100)).unwrap().is_none());
    assert!(store.present(b"t", at(1_000_000)).unwrap().is_some());
    assert!(!store.revoke(member_id, id, CredentialKind::Token).unwrap());
    assert!(store.revoke(member_id, id, CredentialKind::Session).unwrap());
    assert!(store.present(b"s", at(1)).unwrap().is_none());
    assert_eq!(store.tokens(member_id, at(1)).unwrap().len(), 1);
}

#[test]
fn the_audit_log_is_chained_and_append_only() {
    let (folder, store) = fresh();
    for n in 0..5 {
        let entry = NewEntry {
            member: "mara",
            address: "::1",
            action: "stop",
            object: "packhouse/x",
            outcome: "succeeded",
            via: "",
        };
        store.audit(entry, at(n)).unwrap();
    }
    assert!(matches!(store.verify_audit().unwrap(), AuditVerdict::Whole(n) if n > 0));
    let ids = |wish: AuditQuery| -> Vec<u64> {
        store.audit_entries(&AuditQuery { most: 2, ..wish }).unwrap().iter().map(|e| e.id).collect()
    };
    let any = AuditQuery::default;
    assert_eq!(ids(AuditQuery { before: Some(4), ..any() }), [3, 2]);
    assert_eq!(ids(AuditQuery { after: Some(2), ..any() }), [3, 4]);
    assert_eq!(ids(AuditQuery { member: Some("MARA".into()), ..any() }), [5, 4]);
    assert_eq!(
        ids(AuditQuery { text: Some("PACKHOUSE".into()), action: Some("stop".into()), ..any() }),
        [5, 4]
    );
    assert_eq!(ids(AuditQuery { until: Some(at(2)), ..any() }), [2, 1]);
    assert_eq!(ids(AuditQuery { text: Some("100%".into()), ..any() }), [0u64; 0], "nothing is a pattern");
    drop(store);
    let raw = rusqlite::Connection::open(folder.path().join("gubernum.db")).unwrap();
    assert!(raw.execute("UPDATE audit SET member = 'x' WHERE id = 2", []).is_err());
    assert!(raw.execute("DELETE FROM audit WHERE id = 2", []).is_err());
    raw.execute_batch("DROP TRIGGER audit_is_append_only_update; UPDATE audit SET member = 'x' WHERE id = 2")
        .unwrap();
    drop(raw);
    let verdict = open(folder.path()).unwrap().verify_audit().unwrap();
    assert!(matches!(verdict, AuditVerdict::Altered { entry: 2, .. }), "{verdict:?}");
}

#[rstest]
#[case::cut_off("DROP TRIGGER audit_is_append_only_delete; DELETE FROM audit WHERE id > 3", 3)]
#[case::emptied("DROP TRIGGER audit_is_append_only_delete; DELETE FROM audit", 0)]
#[case::anchor_removed("DELETE FROM audit_head", 5)]
#[case::anchor_moved(
    "DROP TRIGGER audit_is_append_only_delete; DELETE FROM audit WHERE id > 3;
    UPDATE audit_head SET entry = 3, hash = (SELECT hash FROM audit WHERE id = 3)",
    3
)]
fn an_audit_log_whose_end_is_cut_off_is_found(#[case] attack: &str, #[case] at_entry: u64) {
    let (folder, store) = fresh();
    for n in 0..5 {
        let entry = NewEntry {
            member: "mara",
            address: "::1",
            action: "stop",
            object: "x",
            outcome: "succeeded",
            via: "",
        };
        store.audit(entry, at(n)).unwrap();
    }
    assert_eq!(store.verify_audit().unwrap(), AuditVerdict::Whole(5));
    drop(store);
    let raw = rusqlite::Connection::open(folder.path().join("gubernum.db")).unwrap();
    raw.execute_batch(attack).unwrap();
    drop(raw);
    let verdict = open(folder.path()).unwrap().verify_audit().unwrap();
    assert!(matches!(verdict, AuditVerdict::Altered { entry, .. } if entry == at_entry), "{verdict:?}");
}

#[test]
fn records_that_cannot_be_read_are_named_and_the_rest_is_given() {
    let (folder, store) = fresh();
    store
        .set_preferences(&gubernum_core::preferences::Preferences { kept_earlier: 9, ..Default::default() })
        .unwrap();
    let event = |name: &str| gubernum_core::timeline::TimelineEvent {
        id: 0,
        time: at(1),
        kind: gubernum_core::timeline::EventKind::Engine,
        host: "packhouse".into(),
        object: "container".into(),
        name: name.into(),
        action: "start".into(),
        member: None,
        sentence: String::new(),
        bad: false,
        operation: None,
        folded: 0,
    };
    store.add_events(&[event("odd"), event("even")]).unwrap();
    drop(store);
    let raw = rusqlite::Connection::open(folder.path().join("gubernum.db")).unwrap();
    raw.execute_batch(
        "UPDATE events SET kind = 'oracle' WHERE name = 'odd';
         UPDATE preferences SET value = replace(value, '\"image_check_hours\":', '\"image_check_hours\":\"often\",\"x\":')",
    )
    .unwrap();
    drop(raw);
    let store = open(folder.path()).unwrap();
    let wish = crate::events::EventQuery { most: 10, ..Default::default() };
    let names: Vec<String> = store.events(&wish).unwrap().into_iter().map(|e| e.name).collect();
    assert_eq!(names, ["even"]);
    let found = crate::damage::found();
    assert!(found.iter().any(|f| f.contains("oracle")), "{found:?}");
    let preferences = store.preferences().unwrap();
    assert_eq!(preferences.kept_earlier, 9, "what can be read counts");
    let found = crate::damage::found();
    assert!(found.iter().any(|f| f.contains("image_check_hours")), "{found:?}");
}

#[rstest]
#[case::garbage(b"this is not a database, it is a letter to the growers and long enough to fill a header of one hundred bytes and more".to_vec(), "damaged")]
#[case::short(b"SQLite format 3\0".to_vec(), "damaged")]
fn what_is_no_database_is_left_untouched(#[case] bytes: Vec<u8>, #[case] word: &str) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("gubernum.db");
    std::fs::write(&path, &bytes).unwrap();
    let error = open(folder.path()).err().unwrap().to_string();
    assert!(error.contains(word) && error.contains("untouched"), "{error}");
    assert_eq!(std::fs::read(&path).unwrap(), bytes);
}

#[test]
fn foreign_newer_and_damaged_databases_are_left_untouched() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("gubernum.db");
    let raw = rusqlite::Connection::open(&path).unwrap();
    raw.execute_batch("CREATE TABLE apples (id INTEGER)").unwrap();
    drop(raw);
    let before = std::fs::read(&path).unwrap();
    assert!(matches!(open(folder.path()), Err(OpenError::Foreign(_))));
    assert_eq!(std::fs::read(&path).unwrap(), before);
    std::fs::remove_file(&path).unwrap();

    drop(open(folder.path()).unwrap());
    let raw = rusqlite::Connection::open(&path).unwrap();
    raw.pragma_update(None, "user_version", 99).unwrap();
    drop(raw);
    let before = std::fs::read(&path).unwrap();
    assert!(matches!(open(folder.path()), Err(OpenError::Newer { found: 99, .. })));
    assert_eq!(std::fs::read(&path).unwrap(), before);

    // Ours by its head, with its pages overwritten.
    let mut bytes = before;
    bytes.iter_mut().skip(4096).for_each(|b| *b = 0xa5);
    bytes[60..64].copy_from_slice(&1u32.to_be_bytes());
    std::fs::write(&path, &bytes).unwrap();
    assert!(matches!(open(folder.path()), Err(OpenError::Damaged { .. })));
    assert_eq!(std::fs::read(&path).unwrap(), bytes);
}

#[test]
fn a_key_file_that_others_may_read_is_refused() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("seal.key");
    Seal::open(&path).unwrap();
    assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o644)).unwrap();
    assert!(Seal::open(&path).is_err());
}

#[test]
fn time_is_kept_to_the_nanosecond() {
    let time = at(5) + SignedDuration::from_nanos(7);
    assert_eq!(crate::from_nanos(crate::nanos(time)), time);
}

#[test]
fn uploads_are_noted_until_they_are_over() {
    let (_folder, store) = fresh();
    let half = |part: &str| HalfUpload {
        host: "packhouse".into(),
        container: "ab".into(),
        folder: "/srv".into(),
        part: part.into(),
        more: format!("{part}.more"),
    };
    assert!(store.note_upload(&half("a"), at(100)).unwrap());
    assert!(store.note_upload(&half("b"), at(50)).unwrap());
    assert_eq!(store.overdue_uploads(at(50)).unwrap(), [], "not yet");
    assert_eq!(store.overdue_uploads(at(101)).unwrap(), [half("b"), half("a")], "the longest overdue first");
    assert!(store.note_upload(&half("b"), at(200)).unwrap(), "it is resumed");
    assert_eq!(store.overdue_uploads(at(101)).unwrap(), [half("a")]);
    store.forget_upload(&half("a")).unwrap();
    store.forget_upload(&half("a")).unwrap();
    assert_eq!(store.overdue_uploads(at(101)).unwrap(), []);
}

#[test]
fn a_thousand_uploads_and_no_more_are_noted() {
    let (_folder, store) = fresh();
    let half = |n: u32| HalfUpload {
        host: "packhouse".into(),
        container: "ab".into(),
        folder: "/srv".into(),
        part: n.to_string(),
        more: String::new(),
    };
    for n in 0..MOST_UPLOADS {
        assert!(store.note_upload(&half(n), at(1)).unwrap());
    }
    assert!(!store.note_upload(&half(MOST_UPLOADS), at(1)).unwrap());
    assert!(store.note_upload(&half(7), at(2)).unwrap(), "one that is noted already can be put off");
    assert_eq!(store.overdue_uploads(at(9)).unwrap().len(), 100);
    store.forget_upload(&half(8)).unwrap();
    assert!(store.note_upload(&half(MOST_UPLOADS), at(1)).unwrap());
}
