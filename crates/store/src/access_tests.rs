//! Members, sessions and tokens, hosts and the pages of the journal: whose they are, when they end, and what is refused.

use std::path::Path;

use gubernum_core::journal::{OperationState, Target, TargetState};
use gubernum_core::operation_filter::{OperationFilter, OutcomeFilter};
use gubernum_core::plan::request::StopRequest;
use gubernum_core::plan::{self, ObjectKind, Request, Step};
use jiff::Timestamp;
use rstest::rstest;
use tempfile::TempDir;

use crate::credentials::{Kind, NewCredential};
use crate::hosts::HostRecord;
use crate::journal::NewOperation;
use crate::{Seal, Store, StoreError};

fn open(folder: &Path) -> Store {
    Store::open(&folder.join("gubernum.db"), Seal::open(&folder.join("seal.key")).unwrap()).unwrap()
}

/// Records with the members mara and jory; gives their numbers.
fn with_members() -> (TempDir, Store, i64, i64) {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    assert!(store.claim("mara", "h1", at(0)).unwrap());
    store.add_member("jory", "h2", &[], at(0)).unwrap();
    let id = |name| store.member(name).unwrap().unwrap().id;
    let (mara, jory) = (id("mara"), id("jory"));
    (folder, store, mara, jory)
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_800_000_000 + second).unwrap()
}

fn credential<'a>(kind: Kind, hash: &'a [u8], member_id: i64, expires: Option<i64>) -> NewCredential<'a> {
    NewCredential {
        kind,
        hash,
        member_id,
        name: "nightly",
        address: "192.0.2.7",
        expires: expires.map(at),
        bounds: None,
        networks: &[],
        provider: None,
    }
}

#[test]
fn two_members_never_have_one_name() {
    let (_folder, store, ..) = with_members();
    for name in ["mara", "MARA", "Jory"] {
        let error = store.add_member(name, "h", &[], at(1)).unwrap_err();
        assert!(matches!(&error, StoreError::Taken(what) if what.contains(name)), "{error:?}");
        assert!(error.to_string().ends_with("choose another"));
    }
    assert!(!store.claim("third", "h", at(1)).unwrap(), "it is claimed already");
    assert!(store.member("third").unwrap().is_none());
    assert_eq!(store.member("Mara").unwrap().unwrap().password_hash, "h1");
}

#[rstest]
#[case::just_before(99, true)]
#[case::at_its_end(100, false)]
#[case::long_after(1000, false)]
fn a_session_is_good_until_its_end_and_no_longer(#[case] second: i64, #[case] good: bool) {
    let (_folder, store, mara, _) = with_members();
    let id = store.add_credential(&credential(Kind::Session, b"s", mara, Some(100)), at(0)).unwrap();
    let shown = store.present(b"s", at(second)).unwrap();
    assert_eq!(shown.map(|p| (p.id, p.kind, p.member)), good.then(|| (id, Kind::Session, "mara".to_owned())));
    assert_eq!(store.sessions(mara, id, at(second)).unwrap().len(), usize::from(good));
    assert_eq!(store.has_credential_from("mara", "192.0.2.7", at(second)).unwrap(), good);
}

#[test]
fn what_nobody_holds_is_nobodys() {
    let (_folder, store, mara, jory) = with_members();
    store.add_credential(&credential(Kind::Token, b"t", mara, None), at(0)).unwrap();
    for hash in [b"".as_slice(), b"T", b"tt"] {
        assert!(store.present(hash, at(1)).unwrap().is_none());
    }
    assert!(!store.has_credential_from("mara", "192.0.2.8", at(1)).unwrap());
    assert!(!store.has_credential_from("jory", "192.0.2.7", at(1)).unwrap());
    assert!(store.has_credential_from("MARA", "192.0.2.7", at(1)).unwrap(), "names have no case");
    assert!(store.tokens(jory, at(1)).unwrap().is_empty());
}

#[test]
fn nobody_ends_what_is_anothers_or_of_another_kind() {
    let (_folder, store, mara, jory) = with_members();
    let token = store.add_credential(&credential(Kind::Token, b"t", mara, None), at(0)).unwrap();
    let session = store.add_credential(&credential(Kind::Session, b"s", mara, Some(100)), at(0)).unwrap();
    assert!(!store.revoke(jory, token, Kind::Token).unwrap());
    assert!(!store.revoke(mara, token, Kind::Session).unwrap());
    assert!(!store.revoke(mara, session, Kind::Token).unwrap());
    assert_eq!(store.token_name(jory, token).unwrap(), None);
    assert_eq!(store.token_name(mara, session).unwrap(), None);
    assert_eq!(store.token_name(mara, token).unwrap().as_deref(), Some("nightly"));
    assert!(store.revoke(mara, token, Kind::Token).unwrap());
    assert!(!store.revoke(mara, token, Kind::Token).unwrap(), "once is enough");
    assert!(store.present(b"t", at(1)).unwrap().is_none());
    assert!(store.present(b"s", at(1)).unwrap().is_some());
}

#[test]
fn the_use_of_a_token_is_noted_to_the_minute() {
    let (_folder, store, mara, _) = with_members();
    store.add_credential(&credential(Kind::Token, b"t", mara, None), at(0)).unwrap();
    let used = || store.tokens(mara, at(500)).unwrap()[0].last_used;
    assert_eq!(used(), None);
    for (second, noted) in [(10, 10), (69, 10), (70, 70), (71, 70), (400, 400)] {
        store.present(b"t", at(second)).unwrap();
        assert_eq!(used(), Some(at(noted)), "used at {second}");
    }
}

#[test]
fn sessions_come_newest_first_and_the_asking_one_is_marked() {
    let (_folder, store, mara, jory) = with_members();
    let add = |hash: &[u8], member, second| {
        store.add_credential(&credential(Kind::Session, hash, member, Some(1000)), at(second)).unwrap()
    };
    let (first, second) = (add(b"1", mara, 1), add(b"2", mara, 2));
    add(b"3", jory, 3);
    let sessions = store.sessions(mara, first, at(10)).unwrap();
    let told: Vec<_> = sessions.iter().map(|s| (i64::try_from(s.id).unwrap(), s.current)).collect();
    assert_eq!(told, [(second, false), (first, true)]);
    assert_eq!((sessions[0].created, sessions[0].expires), (at(2), at(1000)));
}

#[test]
fn there_is_an_end_to_tokens_and_the_oldest_session_makes_room() {
    let (_folder, store, mara, _) = with_members();
    let mut most = 0;
    let refused = loop {
        let hash = format!("t{most}");
        match store.add_credential(&credential(Kind::Token, hash.as_bytes(), mara, None), at(most)) {
            Ok(_) => most += 1,
            Err(error) => break error,
        }
        assert!(most < 100_000, "there is an end");
    };
    assert!(
        matches!(&refused, StoreError::Full { most: limit, .. } if i64::try_from(*limit) == Ok(most)),
        "{refused:?}"
    );
    for n in 0..=most {
        let hash = format!("s{n}");
        store
            .add_credential(&credential(Kind::Session, hash.as_bytes(), mara, Some(1_000_000)), at(n))
            .unwrap();
    }
    assert_eq!(store.sessions(mara, 0, at(0)).unwrap().len(), usize::try_from(most).unwrap());
    assert!(store.present(b"s0", at(1)).unwrap().is_none(), "the oldest is gone");
    assert!(store.present(b"s1", at(1)).unwrap().is_some());
    // What has ended takes no place.
    store.add_credential(&credential(Kind::Session, b"later", mara, Some(3_000_000)), at(2_000_000)).unwrap();
    assert_eq!(store.sessions(mara, 0, at(2_000_000)).unwrap().len(), 1);
}

fn host(name: &str) -> HostRecord {
    HostRecord {
        name: name.into(),
        address: "unix:///run/x".into(),
        tls: None,
        ports_address: None,
        groups: Vec::new(),
    }
}

#[test]
fn hosts_are_kept_by_name_with_where_people_reach_them() {
    let (folder, store, ..) = with_members();
    for name in ["packhouse", "coldstore"] {
        store.add_host(&host(name), at(0)).unwrap();
    }
    assert!(matches!(store.add_host(&host("packhouse"), at(1)), Err(StoreError::Taken(_))));
    assert!(store.set_ports_address("packhouse", Some("packhouse.tarnvalley.example")).unwrap());
    assert!(!store.set_ports_address("orchard", Some("x")).unwrap());
    drop(store);
    let store = open(folder.path());
    let hosts = store.hosts().unwrap();
    let told: Vec<_> = hosts.iter().map(|h| (h.name.as_str(), h.ports_address.as_deref())).collect();
    assert_eq!(told, [("coldstore", None), ("packhouse", Some("packhouse.tarnvalley.example"))]);
    assert!(store.set_ports_address("packhouse", None).unwrap());
    assert!(store.remove_host("coldstore").unwrap() && !store.remove_host("coldstore").unwrap());
    assert_eq!(store.hosts().unwrap(), [host("packhouse")]);
}

#[test]
fn keys_of_links_come_back_and_another_seal_opens_none() {
    let (folder, store, ..) = with_members();
    let tls = Some(("ca".to_owned(), "certificate".to_owned(), "the key itself".to_owned()));
    let far = HostRecord { address: "tcp://192.0.2.2:2376".into(), tls, ..host("coldstore") };
    store.add_host(&far, at(0)).unwrap();
    drop(store);
    assert_eq!(open(folder.path()).hosts().unwrap(), [far]);
    std::fs::remove_file(folder.path().join("seal.key")).unwrap();
    let store =
        Store::open(&folder.path().join("gubernum.db"), Seal::open(&folder.path().join("seal.key")).unwrap());
    assert!(store.is_err() || matches!(store.unwrap().hosts(), Err(StoreError::Sealed)));
}

fn target(state: TargetState) -> Target {
    Target {
        host: "packhouse".into(),
        id: "ab".into(),
        name: "frost-api".into(),
        object: ObjectKind::Container,
        after: Vec::new(),
        steps: vec![Step::Stop { grace_seconds: None }],
        at: None,
        progress: None,
        bytes: None,
        state,
        sentence: None,
        began: None,
        ended: None,
    }
}

fn submit(store: &Store, second: i64) -> u64 {
    let request = Request::Stop(StopRequest::default());
    let references = ["packhouse/frost-api".to_owned()];
    let new = NewOperation {
        request: &request,
        references: &references,
        author: "mara",
        address: "192.0.2.7",
        created: at(second),
        targets: vec![target(TargetState::Waiting)],
        idempotency: None,
    };
    store.add_operation(new).unwrap().0.id
}

#[test]
fn the_journal_is_read_page_by_page_newest_first() {
    let (_folder, store, ..) = with_members();
    let ids: Vec<u64> = (0..5).map(|n| submit(&store, n)).collect();
    let page = |before, most| -> Vec<u64> {
        store
            .operations(before, most, &OperationFilter::default())
            .unwrap()
            .into_iter()
            .map(|o| o.id)
            .collect()
    };
    assert_eq!(page(None, 2), [ids[4], ids[3]]);
    assert_eq!(page(Some(ids[3]), 2), [ids[2], ids[1]]);
    assert_eq!(page(Some(ids[1]), 9), [ids[0]]);
    assert!(page(Some(ids[0]), 9).is_empty());
    assert!(page(None, 0).is_empty());
    assert!(store.operation(ids[4] + 1).unwrap().is_none());
    assert!(store.whole_request(ids[4] + 1).unwrap().is_none());
    assert_eq!(store.operation_address(ids[0]).unwrap(), "192.0.2.7");
}

#[rstest]
#[case::all(OperationFilter::default(), &[4, 3, 2, 1, 0])]
#[case::part_of_a_reference(OperationFilter { object: Some("PACKhouse/fro".into()), ..OperationFilter::default() }, &[4, 3, 2, 1, 0])]
#[case::another_object(OperationFilter { object: Some("coldstore".into()), ..OperationFilter::default() }, &[])]
#[case::left_to_the_filter(OperationFilter { object: Some("kälte".into()), ..OperationFilter::default() }, &[4, 3, 2, 1, 0])]
#[case::member(OperationFilter { member: Some("MAR".into()), ..OperationFilter::default() }, &[4, 3, 2, 1, 0])]
#[case::another_member(OperationFilter { member: Some("jory".into()), ..OperationFilter::default() }, &[])]
#[case::kind(OperationFilter { kind: Some(plan::Kind::Stop), ..OperationFilter::default() }, &[4, 3, 2, 1, 0])]
#[case::another_kind(OperationFilter { kind: Some(plan::Kind::Start), ..OperationFilter::default() }, &[])]
#[case::running(OperationFilter { outcome: Some(OutcomeFilter::Running), ..OperationFilter::default() }, &[4, 3, 2])]
#[case::failed(OperationFilter { outcome: Some(OutcomeFilter::Failed), ..OperationFilter::default() }, &[1])]
#[case::ended(OperationFilter { outcome: Some(OutcomeFilter::Succeeded), ..OperationFilter::default() }, &[1, 0])]
#[case::times(OperationFilter { since: Some(at(1)), until: Some(at(3)), ..OperationFilter::default() }, &[2, 1])]
fn the_journal_is_narrowed(#[case] filter: OperationFilter, #[case] expected: &[usize]) {
    let (_folder, store, ..) = with_members();
    let ids: Vec<u64> = (0..5).map(|n| submit(&store, n)).collect();
    for (id, state) in ids.iter().zip([TargetState::Succeeded, TargetState::Failed]) {
        store.set_target(*id, 0, &target(state)).unwrap();
        let mut operation = store.operation(*id).unwrap().unwrap();
        operation.ended = Some(at(9));
        store.set_operation(&operation).unwrap();
    }
    let found: Vec<u64> = store.operations(None, 9, &filter).unwrap().into_iter().map(|o| o.id).collect();
    assert_eq!(found, expected.iter().map(|n| ids[*n]).collect::<Vec<_>>());
}

#[test]
fn what_is_over_is_not_open() {
    let (_folder, store, ..) = with_members();
    let (first, second) = (submit(&store, 0), submit(&store, 1));
    let open = || -> Vec<u64> { store.open_operations().unwrap().into_iter().map(|o| o.id).collect() };
    assert_eq!(open(), [first, second]);
    let mut operation = store.operation(first).unwrap().unwrap();
    let mut done = target(TargetState::Succeeded);
    done.sentence = Some("it was down for 1.2 s".into());
    store.set_target(first, 0, &done).unwrap();
    operation.state = OperationState::Succeeded;
    operation.ended = Some(at(9));
    store.set_operation(&operation).unwrap();
    assert_eq!(open(), [second]);
    let read = store.operation(first).unwrap().unwrap();
    assert_eq!((read.state, read.ended), (OperationState::Succeeded, Some(at(9))));
    assert_eq!(read.targets[0].sentence.as_deref(), Some("it was down for 1.2 s"));
    assert_eq!((read.targets[0].state, read.references.len()), (TargetState::Succeeded, 1));
}
