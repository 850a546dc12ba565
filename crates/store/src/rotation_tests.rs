//! Keys that change under everything that is sealed, the passphrase of the key file, and the anchor of the audit log with them.

use std::collections::BTreeSet;
use std::path::Path;

use jiff::Timestamp;
use rstest::rstest;

use crate::audit::{AuditVerdict, NewEntry};
use crate::key_file::KeyError;
use crate::rotation::SEALED_COLUMNS;
use crate::{Seal, Store};

const PASSPHRASE: &str = "russet apples in the loft";
/// As whoever has the file would begin.
const UNLOCKED: &str = "DROP TRIGGER audit_is_append_only_update; DROP TRIGGER audit_is_append_only_delete";
const SECRET: &[u8] = b"twenty bytes of key.";

fn seal(folder: &Path) -> Seal {
    Seal::open(&folder.join("seal.key")).unwrap()
}

fn store(folder: &Path) -> Store {
    Store::open(&folder.join("gubernum.db"), seal(folder)).unwrap()
}

fn member(store: &Store) -> i64 {
    store.claim("mara", "hash", Timestamp::UNIX_EPOCH).unwrap();
    store.member("mara").unwrap().unwrap().id
}

fn entry(store: &Store, via: &str) {
    let entry = NewEntry { member: "mara", address: "::1", action: "x", object: "y", outcome: "z", via };
    store.audit(entry, Timestamp::UNIX_EPOCH).unwrap();
}

#[test]
fn every_sealed_column_is_known() {
    let folder = tempfile::tempdir().unwrap();
    let store = store(folder.path());
    let connection = store.connection.lock();
    let mut query = connection
        .prepare("SELECT m.name || '.' || c.name FROM sqlite_schema m, pragma_table_info(m.name) c WHERE m.type = 'table' AND c.type = 'BLOB'")
        .unwrap();
    let all: BTreeSet<String> = query.query_map([], |r| r.get(0)).unwrap().collect::<Result<_, _>>().unwrap();
    // Hashes and codes cannot be opened by anybody.
    let others = [
        "approvals.hash",
        "audit_head.code",
        "credentials.hash",
        "invitations.hash",
        "operations.idempotency_hash",
        "recovery_codes.hash",
    ];
    let known = SEALED_COLUMNS.iter().map(|c| format!("{}.{}", c.table, c.column));
    let known: BTreeSet<String> = known.chain(others.map(str::to_owned)).collect();
    assert_eq!(all, known, "a column that holds bytes is sealed, and in the list, or named here");
}

#[test]
fn a_fresh_key_seals_everything_and_the_old_one_opens_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let store = store(folder.path());
    let old = std::fs::read(folder.path().join("seal.key")).unwrap();
    let member = member(&store);
    store.set_second_factor(member, SECRET, &[]).unwrap();
    entry(&store, "session 1");
    let code = store.seal().code("session key", "abc");
    assert_eq!(store.rotate_seal().unwrap(), 1);
    assert_eq!(store.second_factor(member).unwrap().as_deref(), Some(SECRET));
    assert_eq!(store.seal().code("session key", "abc"), code, "nobody has to sign in again");
    assert_eq!(store.verify_audit().unwrap(), AuditVerdict::Whole(1));
    drop(store);
    let store = self::store(folder.path());
    assert_eq!(store.second_factor(member).unwrap().as_deref(), Some(SECRET));
    assert_eq!(store.seal().code("session key", "abc"), code);
    assert!(!store.seal().is_rotating());
    assert_eq!(store.rotate_seal().unwrap(), 1, "again");
    drop(store);
    std::fs::write(folder.path().join("seal.key"), old).unwrap();
    let store = self::store(folder.path());
    assert!(store.second_factor(member).is_err(), "the old key opens nothing any more");
    let AuditVerdict::Altered { why, .. } = store.verify_audit().unwrap() else {
        panic!("who has the old key cannot anchor the log")
    };
    assert!(why.contains("anchor"), "{why}");
}

#[test]
fn a_change_that_broke_off_is_finished() {
    let folder = tempfile::tempdir().unwrap();
    let store = store(folder.path());
    let member = member(&store);
    store.set_second_factor(member, SECRET, &[]).unwrap();
    entry(&store, "");
    // As a crash right after the fresh key was written leaves it.
    store.seal().begin_rotation().unwrap();
    drop(store);
    let store = self::store(folder.path());
    assert!(store.seal().is_rotating());
    assert_eq!(store.second_factor(member).unwrap().as_deref(), Some(SECRET), "both open meanwhile");
    assert_eq!(store.verify_audit().unwrap(), AuditVerdict::Whole(1));
    store.resume_rotation().unwrap();
    assert!(!store.seal().is_rotating());
    drop(store);
    let store = self::store(folder.path());
    assert_eq!(store.second_factor(member).unwrap().as_deref(), Some(SECRET));
    assert_eq!(store.verify_audit().unwrap(), AuditVerdict::Whole(1));
}

#[test]
fn a_change_of_keys_hides_no_altered_log() {
    let folder = tempfile::tempdir().unwrap();
    let store = store(folder.path());
    entry(&store, "");
    entry(&store, "");
    store.connection.lock().execute_batch(UNLOCKED).unwrap();
    store.connection.lock().execute("DELETE FROM audit WHERE id = 2", []).unwrap();
    store
        .connection
        .lock()
        .execute("UPDATE audit_head SET entry = 1, hash = (SELECT hash FROM audit)", [])
        .unwrap();
    store.rotate_seal().unwrap();
    assert!(matches!(store.verify_audit().unwrap(), AuditVerdict::Altered { .. }));
}

#[test]
fn by_what_it_was_done_cannot_be_altered() {
    let folder = tempfile::tempdir().unwrap();
    let store = store(folder.path());
    entry(&store, "token nightly (3)");
    entry(&store, "");
    assert_eq!(store.verify_audit().unwrap(), AuditVerdict::Whole(2));
    store.connection.lock().execute_batch(UNLOCKED).unwrap();
    for (id, via) in [(1i64, "session 1"), (1, ""), (2, "session 1")] {
        let change = store.connection.lock().execute("UPDATE audit SET via = ?1 WHERE id = ?2", (via, id));
        assert_eq!(change.unwrap(), 1);
        let verdict = store.verify_audit().unwrap();
        assert!(
            matches!(verdict, AuditVerdict::Altered { entry, .. } if entry == id.unsigned_abs()),
            "{verdict:?}"
        );
        let was = if id == 1 { "token nightly (3)" } else { "" };
        store.connection.lock().execute("UPDATE audit SET via = ?1 WHERE id = ?2", (was, id)).unwrap();
    }
}

#[test]
fn a_passphrase_keeps_the_key_from_whoever_has_the_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("seal.key");
    let plain = Seal::open(&path).unwrap();
    let sealed = plain.seal("test", SECRET).unwrap();
    let code = plain.code("test", "text");
    assert!(matches!(plain.set_passphrase(Some("short")), Err(KeyError::Short)));
    plain.set_passphrase(Some(PASSPHRASE)).unwrap();
    assert!(matches!(Seal::open(&path), Err(KeyError::NeedsPassphrase(_))));
    assert!(matches!(Seal::open_with(&path, Some("another passphrase")), Err(KeyError::WrongPassphrase(_))));
    let opened = Seal::open_with(&path, Some(PASSPHRASE)).unwrap();
    assert!(opened.has_passphrase());
    assert_eq!(opened.open_sealed("test", &sealed).unwrap(), SECRET);
    assert_eq!(opened.code("test", "text"), code);
    opened.begin_rotation().unwrap();
    assert!(matches!(Seal::open(&path), Err(KeyError::NeedsPassphrase(_))), "a change of keys keeps it");
    opened.set_passphrase(None).unwrap();
    assert_eq!(Seal::open(&path).unwrap().open_sealed("test", &sealed).unwrap(), SECRET);
    use std::os::unix::fs::PermissionsExt;
    assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
}

#[rstest]
#[case(b"", "restore")]
#[case(b"{\"version\": 3}", "newer")]
#[case(b"{\"version\": 2}", "restore")]
#[case(b"{\"version\": 2, \"keys\": [], \"authentication\": \"\", \"anchors\": []}", "restore")]
#[case(b"{\"version\": 2, \"sealed\": {\"memory_kib\": 4294967295, \"passes\": 3, \"salt\": \"aaaa\", \"box\": \"\"}}", "restore")]
#[case(b"thirty-one bytes are no key at al", "restore")]
fn what_is_no_key_file_is_refused(#[case] content: &[u8], #[case] told: &str) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("seal.key");
    Seal::open(&path).unwrap();
    std::fs::write(&path, content).unwrap();
    let error = Seal::open_with(&path, Some(PASSPHRASE)).err().unwrap().to_string();
    assert!(error.contains(told), "{error}");
    assert_eq!(std::fs::read(&path).unwrap(), content, "it is left as it is");
}
