//! Members, what they are granted, roles of a team, and links that are good once.

use std::path::Path;

use gubernum_core::directory::DirectoryKind;
use gubernum_core::note::Note;
use gubernum_core::rights::{ADMIN, Bound, Grant, Granted, Right, VIEWER};
use jiff::Timestamp;
use rstest::rstest;
use tempfile::TempDir;

use crate::credentials::{Kind, NewCredential, ProviderSession};
use crate::directories::{DirectoryRecord, FromDirectory};
use crate::invitations::NewInvitation;
use crate::members::MemberChange;
use crate::roles::RoleRemoval;
use crate::{Seal, Store, StoreError};

fn open(folder: &Path) -> Store {
    Store::open(&folder.join("gubernum.db"), Seal::open(&folder.join("seal.key")).unwrap()).unwrap()
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_800_000_000 + second).unwrap()
}

fn grant(text: &str) -> Grant {
    let (role, scope) = text.split_once('@').unwrap();
    Grant { role: role.to_owned(), scope: scope.parse().unwrap() }
}

/// Records with mara, an admin, and tess, who sees packhouse; gives their numbers.
fn with_members() -> (TempDir, Store, i64, i64) {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    assert!(store.claim("mara", "h1", at(0)).unwrap());
    let mara = store.member("mara").unwrap().unwrap().id;
    let tess = store.add_member("tess", "h2", &[grant("viewer@host:packhouse")], at(1)).unwrap();
    (folder, store, mara, tess)
}

fn token(hash: &[u8], member_id: i64) -> NewCredential<'_> {
    NewCredential {
        kind: Kind::Token,
        hash,
        member_id,
        name: "nightly",
        address: "192.0.2.7",
        expires: None,
        bounds: None,
        networks: &[],
        provider: None,
    }
}

#[test]
fn the_first_member_is_an_admin_and_a_credential_comes_with_what_is_granted() {
    let (_folder, store, mara, tess) = with_members();
    assert_eq!(store.grants_of(mara).unwrap(), [grant("admin@fleet")]);
    let bounds = [Bound { scope: "stack:orchard".parse().unwrap(), rights: vec![Right::See] }];
    let new = NewCredential { bounds: Some(&bounds), ..token(b"t", tess) };
    store.add_credential(&new, at(2)).unwrap();
    let shown = store.present(b"t", at(3)).unwrap().unwrap();
    assert_eq!(shown.grants, [grant("viewer@host:packhouse")]);
    assert_eq!(shown.bounds.as_deref(), Some(&bounds[..]));
    assert_eq!(store.tokens(tess, at(3)).unwrap()[0].bounds.as_deref(), Some(&bounds[..]));
}

#[test]
fn bounds_that_cannot_be_read_make_a_token_of_no_use() {
    let (folder, store, _, tess) = with_members();
    store.add_credential(&token(b"t", tess), at(2)).unwrap();
    drop(store);
    let raw = rusqlite::Connection::open(folder.path().join("gubernum.db")).unwrap();
    raw.execute("UPDATE credentials SET bounds = '[{]'", []).unwrap();
    drop(raw);
    assert!(open(folder.path()).present(b"t", at(3)).is_err(), "never as good as its member");
}

#[test]
fn grants_are_replaced_and_one_that_cannot_be_read_grants_nothing() {
    let (folder, store, _, tess) = with_members();
    let new = [grant("operator@stack:orchard"), grant("viewer@fleet")];
    assert_eq!(store.set_grants(tess, &new).unwrap(), MemberChange::Done);
    assert_eq!(store.grants_of(tess).unwrap(), new);
    assert_eq!(store.set_grants(99, &new).unwrap(), MemberChange::Missing);
    drop(store);
    let raw = rusqlite::Connection::open(folder.path().join("gubernum.db")).unwrap();
    raw.execute("UPDATE grants SET scope = 'everywhere' WHERE scope = 'fleet' AND role = 'viewer'", [])
        .unwrap();
    drop(raw);
    assert_eq!(open(folder.path()).grants_of(tess).unwrap(), [grant("operator@stack:orchard")]);
}

#[rstest]
#[case::another_role(&["viewer@fleet"])]
#[case::only_a_part(&["admin@host:packhouse"])]
#[case::nothing(&[])]
fn the_last_admin_keeps_the_role(#[case] grants: &[&str]) {
    let (_folder, store, mara, tess) = with_members();
    let grants: Vec<Grant> = grants.iter().map(|g| grant(g)).collect();
    assert_eq!(store.set_grants(mara, &grants).unwrap(), MemberChange::LastAdmin);
    assert_eq!(store.grants_of(mara).unwrap(), [grant("admin@fleet")], "nothing of it was done");
    assert_eq!(store.set_deactivated(mara, Some(at(2))).unwrap(), MemberChange::LastAdmin);
    assert_eq!(store.remove_member(mara).unwrap(), MemberChange::LastAdmin);
    store.set_grants(tess, &[grant("admin@fleet")]).unwrap();
    assert_eq!(store.set_deactivated(tess, Some(at(2))).unwrap(), MemberChange::Done);
    assert_eq!(store.remove_member(mara).unwrap(), MemberChange::LastAdmin, "one who is out does not count");
    store.set_deactivated(tess, None).unwrap();
    assert_eq!(store.set_grants(mara, &grants).unwrap(), MemberChange::Done);
}

#[test]
fn whoever_is_out_holds_nothing() {
    let (_folder, store, _, tess) = with_members();
    let id = store.add_credential(&token(b"t", tess), at(2)).unwrap();
    assert_eq!(store.credentials_of(tess).unwrap(), [id]);
    store.set_deactivated(tess, Some(at(3))).unwrap();
    assert!(store.present(b"t", at(4)).unwrap().is_none());
    assert!(store.member("tess").unwrap().unwrap().deactivated.is_some());
    store.set_deactivated(tess, None).unwrap();
    assert!(store.present(b"t", at(5)).unwrap().is_none(), "it is gone, not asleep");
    store.add_credential(&token(b"u", tess), at(6)).unwrap();
    assert_eq!(store.remove_member(tess).unwrap(), MemberChange::Done);
    assert!(store.present(b"u", at(7)).unwrap().is_none());
    assert!(store.member_record(tess).unwrap().is_none());
    assert!(store.grants_of(tess).unwrap().is_empty());
}

#[test]
fn a_role_that_somebody_has_stays() {
    let (_folder, store, _, tess) = with_members();
    store.set_role("night-shift", &[Right::See, Right::StartStop], false).unwrap();
    let names: Vec<String> = store.roles().unwrap().into_iter().map(|role| role.name).collect();
    assert_eq!(names, [VIEWER, "operator", ADMIN, "night-shift"]);
    store.set_grants(tess, &[grant("night-shift@fleet"), grant("night-shift@host:packhouse")]).unwrap();
    assert_eq!(store.remove_role("night-shift").unwrap(), RoleRemoval::InUse(1));
    let id = store.add_credential(&token(b"t", tess), at(2)).unwrap();
    assert_eq!(store.credentials_with_role("night-shift").unwrap(), [id]);
    store.set_grants(tess, &[]).unwrap();
    assert_eq!(store.remove_role("night-shift").unwrap(), RoleRemoval::Done);
    assert_eq!(store.remove_role("night-shift").unwrap(), RoleRemoval::Missing);
}

fn link<'a>(hash: &'a [u8], name: &'a str, grants: &'a [Grant], member: Option<i64>) -> NewInvitation<'a> {
    NewInvitation { hash, name, grants, member, giver: "mara", expires: at(100) }
}

#[test]
fn a_link_is_good_once_and_for_a_while() {
    let (_folder, store, ..) = with_members();
    let grants = [grant("viewer@fleet")];
    store.add_invitation(&link(b"l", "kit", &grants, None), at(2)).unwrap();
    assert!(store.invitation(b"l", at(100)).unwrap().is_none());
    assert_eq!(store.accept_invitation(b"l", "h", at(100)).unwrap(), None);
    assert_eq!(store.accept_invitation(b"l", "h", at(99)).unwrap(), Some(("kit".to_owned(), Vec::new())));
    assert_eq!(store.accept_invitation(b"l", "h", at(99)).unwrap(), None, "used");
    let kit = store.member("kit").unwrap().unwrap();
    assert_eq!(store.grants_of(kit.id).unwrap(), grants);
}

#[test]
fn a_name_has_one_link_and_one_member() {
    let (_folder, store, ..) = with_members();
    store.add_invitation(&link(b"a", "kit", &[], None), at(2)).unwrap();
    store.add_invitation(&link(b"b", "Kit", &[], None), at(3)).unwrap();
    assert!(store.invitation(b"a", at(4)).unwrap().is_none());
    let taken = store.add_invitation(&link(b"c", "Tess", &[], None), at(4)).unwrap_err();
    assert!(matches!(taken, StoreError::Taken(_)), "{taken}");
    store.add_member("kit", "h", &[], at(5)).unwrap();
    assert!(store.accept_invitation(b"b", "h", at(6)).is_err(), "somebody has the name meanwhile");
    let id = store.invitations(at(6)).unwrap()[0].id;
    assert!(store.withdraw_invitation(id).unwrap() && !store.withdraw_invitation(id).unwrap());
}

#[test]
fn a_link_for_a_password_ends_the_sessions_and_goes_with_the_member() {
    let (_folder, store, _, tess) = with_members();
    let session = NewCredential { kind: Kind::Session, expires: Some(at(1000)), ..token(b"s", tess) };
    let id = store.add_credential(&session, at(2)).unwrap();
    store.add_credential(&token(b"t", tess), at(2)).unwrap();
    store.add_invitation(&link(b"l", "tess", &[], Some(tess)), at(3)).unwrap();
    assert_eq!(store.accept_invitation(b"l", "h9", at(4)).unwrap(), Some(("tess".to_owned(), vec![id])));
    assert_eq!(store.member("tess").unwrap().unwrap().password_hash, "h9");
    assert!(store.present(b"s", at(5)).unwrap().is_none());
    assert!(store.present(b"t", at(5)).unwrap().is_some(), "tokens are another matter");
    store.add_invitation(&link(b"m", "tess", &[], Some(tess)), at(6)).unwrap();
    store.set_deactivated(tess, Some(at(7))).unwrap();
    assert!(store.invitation(b"m", at(8)).unwrap().is_none());
}

#[test]
fn sessions_end_but_for_the_one_that_asks() {
    let (_folder, store, _, tess) = with_members();
    let session = |hash| NewCredential { kind: Kind::Session, expires: Some(at(1000)), ..token(hash, tess) };
    let one = store.add_credential(&session(b"1"), at(2)).unwrap();
    let two = store.add_credential(&session(b"2"), at(2)).unwrap();
    store.add_credential(&token(b"t", tess), at(2)).unwrap();
    assert_eq!(store.end_sessions(tess, Some(one)).unwrap(), [two]);
    assert_eq!(store.end_sessions(tess, None).unwrap(), [one]);
    assert!(store.present(b"t", at(3)).unwrap().is_some());
}

fn given(role: &str, scope: &str, from: &str) -> Granted {
    Granted { role: role.into(), scope: scope.parse().unwrap(), from: from.into() }
}

#[test]
fn a_member_of_a_directory_stays_the_same_when_renamed_and_has_what_its_groups_grant() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    store.claim("mara", "h", at(1)).unwrap();
    let night = [given("operator", "host:packhouse", "group:night")];
    let said = |name| FromDirectory { kind: DirectoryKind::Ldap, subject: "uuid:1", name, grants: &night };
    let first = store.put_directory_member(&said("tess"), at(2)).unwrap();
    let again = store.put_directory_member(&said("theresa"), at(3)).unwrap();
    assert_eq!((first.id, again.name.as_str(), again.checked), (again.id, "tess", at(3)));
    let record = store.member_record(first.id).unwrap().unwrap();
    assert_eq!((record.directory, record.directory_grants.len()), (Some(DirectoryKind::Ldap), 1));
    assert_eq!(record.all_grants(), [grant("operator@host:packhouse")]);
    assert!(matches!(
        store.put_directory_member(&FromDirectory { subject: "uuid:2", ..said("MARA") }, at(3)),
        Err(StoreError::Taken(_))
    ));
    let session = NewCredential { kind: Kind::Session, expires: Some(at(1000)), ..token(b"s", first.id) };
    store.add_credential(&session, at(4)).unwrap();
    let presented = store.present(b"s", at(5)).unwrap().unwrap();
    assert_eq!(presented.directory, Some((DirectoryKind::Ldap, at(3))));
    assert_eq!(presented.grants, [grant("operator@host:packhouse")]);
    assert_eq!(store.stale_directory_members(DirectoryKind::Ldap, at(4), at(5)).unwrap(), [first.id]);
    assert!(store.stale_directory_members(DirectoryKind::Ldap, at(3), at(5)).unwrap().is_empty());
    assert!(store.set_directory_grants(first.id, &[], at(6)).unwrap());
    assert!(!store.set_directory_grants(first.id, &[], at(7)).unwrap(), "the same again is no change");
    // An admin of a directory does not count as a way in.
    store.set_grants(first.id, &[grant("admin@fleet")]).unwrap();
    let mara = store.member("mara").unwrap().unwrap().id;
    assert_eq!(store.remove_member(mara).unwrap(), MemberChange::LastAdmin);
}

#[test]
fn secrets_of_directories_are_sealed_and_go_with_them() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let record = DirectoryRecord {
        kind: DirectoryKind::Openid,
        settings: "{}".into(),
        secret: Some("quince-and-medlar".into()),
    };
    store.set_directory(&record).unwrap();
    let member = FromDirectory { kind: DirectoryKind::Openid, subject: "s", name: "tess", grants: &[] };
    let tess = store.put_directory_member(&member, at(1)).unwrap().id;
    store.set_directory_token(tess, Some("damson-token")).unwrap();
    let provider = ProviderSession { id: Some("sid-1"), id_token: "medlar-token" };
    let session = NewCredential {
        kind: Kind::Session,
        expires: Some(at(1000)),
        provider: Some(provider),
        ..token(b"s", tess)
    };
    let id = store.add_credential(&session, at(2)).unwrap();
    assert_eq!(store.directories().unwrap()[0].secret.as_deref(), Some("quince-and-medlar"));
    assert_eq!(store.directory_token(tess).unwrap().as_deref(), Some("damson-token"));
    assert_eq!(store.id_token(id).unwrap().as_deref(), Some("medlar-token"));
    for file in std::fs::read_dir(folder.path()).unwrap() {
        let bytes = std::fs::read(file.unwrap().path()).unwrap();
        for secret in ["quince-and-medlar", "damson-token", "medlar-token"] {
            assert!(!bytes.windows(secret.len()).any(|w| w == secret.as_bytes()), "{secret} lies open");
        }
    }
    assert!(
        store.end_provider_sessions(None, None).unwrap().is_empty(),
        "who is not named is not signed out"
    );
    assert!(store.end_provider_sessions(Some("another"), None).unwrap().is_empty());
    assert!(store.end_provider_sessions(Some("s"), Some("sid-2")).unwrap().is_empty());
    assert_eq!(store.end_provider_sessions(Some("s"), Some("sid-1")).unwrap(), [id]);
    assert!(store.remove_directory(DirectoryKind::Openid).unwrap().is_some());
    assert!(store.remove_directory(DirectoryKind::Openid).unwrap().is_none());
}

#[test]
fn notes_keep_whom_they_mention_and_who_has_seen_them() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let mut note = Note {
        id: 0,
        on: "host:packhouse".parse().unwrap(),
        text: "ask @tess".into(),
        pinned: false,
        author: "mara".into(),
        created: at(1),
        edited: None,
        mentions: vec!["tess".into()],
        is_new: false,
    };
    note.id = store.add_note(&note).unwrap();
    let new = |reader: &str| store.notes(reader).unwrap()[0].is_new;
    assert!(new("TESS") && !new("jory"));
    store.seen_mentions("tess", &[note.id, 99]).unwrap();
    assert!(!new("tess"));
    note.mentions = vec!["Tess".into(), "jory".into()];
    note.text = "ask @Tess or @jory".into();
    assert!(store.change_note(&note, at(2)).unwrap());
    assert!(!new("tess") && new("jory"), "who was called is not called again");
    note.pinned = true;
    store.change_note(&note, at(3)).unwrap();
    let kept = open(folder.path()).note(note.id).unwrap().unwrap();
    assert_eq!((kept.edited, kept.pinned, kept.mentions.len()), (Some(at(2)), true, 2));
    assert!(store.remove_note(note.id).unwrap() && !store.remove_note(note.id).unwrap());
    assert!(!store.change_note(&note, at(4)).unwrap());
}
