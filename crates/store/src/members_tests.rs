//! Members, what they are granted, roles of a team, and links that are good once.

use std::path::Path;

use gubernum_core::rights::{ADMIN, Bound, Grant, Right, VIEWER};
use jiff::Timestamp;
use rstest::rstest;
use tempfile::TempDir;

use crate::credentials::{Kind, NewCredential};
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
