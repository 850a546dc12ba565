//! Timeline, earlier states, registries, settings and notes: what is kept comes back as it was, sealed where it is secret,
//! and only what is asked for.

use std::path::Path;

use gubernum_core::assets::AssetKind;
use gubernum_core::definition::{Definition, EnvironmentEntry};
use gubernum_core::logs::retention::{KeepScope, NewKeepRule};
use gubernum_core::plan::{ObjectKind, TidyPiece};
use gubernum_core::preferences::{KeepNote, Preferences};
use gubernum_core::registry::NewRegistry;
use gubernum_core::timeline::{EventKind, TimelineEvent};
use jiff::Timestamp;
use rstest::rstest;
use tempfile::TempDir;

use crate::earlier::NewRevision;
use crate::events::EventQuery;
use crate::preferences::MOST_NOTES;
use crate::{Seal, Store, StoreError};

fn open(folder: &Path) -> Store {
    Store::open(&folder.join("gubernum.db"), Seal::open(&folder.join("seal.key")).unwrap()).unwrap()
}

fn fresh() -> (TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    (folder, store)
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_800_000_000 + second).unwrap()
}

/// Whether bytes stand anywhere in the files of a folder.
fn stands_in(folder: &Path, text: &str) -> bool {
    let files = std::fs::read_dir(folder).unwrap().map(|f| std::fs::read(f.unwrap().path()).unwrap());
    files.into_iter().any(|bytes| bytes.windows(text.len()).any(|w| w == text.as_bytes()))
}

fn event(second: i64, name: &str) -> TimelineEvent {
    TimelineEvent {
        id: 0,
        time: at(second),
        kind: EventKind::Engine,
        host: "packhouse".into(),
        object: "container".into(),
        name: name.into(),
        action: "started".into(),
        member: None,
        sentence: "It started.".into(),
        bad: false,
        operation: None,
        folded: 0,
    }
}

fn names(store: &Store, wish: &EventQuery) -> Vec<String> {
    store.events(wish).unwrap().into_iter().map(|e| e.name).collect()
}

fn all() -> EventQuery {
    EventQuery { most: 100, ..EventQuery::default() }
}

#[rstest]
#[case::all(all(), &["d", "c", "b", "a"])]
#[case::few(EventQuery { most: 2, ..all() }, &["d", "c"])]
#[case::since(EventQuery { since: Some(at(2)), ..all() }, &["d", "c", "b"])]
#[case::until(EventQuery { until: Some(at(3)), ..all() }, &["b", "a"])]
#[case::host(EventQuery { host: Some("barn".into()), ..all() }, &["c"])]
#[case::name(EventQuery { name: Some("a".into()), ..all() }, &["a"])]
#[case::member(EventQuery { member: Some("ines".into()), ..all() }, &["d"])]
#[case::kind(EventQuery { kinds: vec![EventKind::Operation], ..all() }, &["d"])]
#[case::kinds(EventQuery { kinds: vec![EventKind::Operation, EventKind::Engine], ..all() }, &["d", "c", "b", "a"])]
#[case::bad(EventQuery { bad: true, ..all() }, &["b"])]
#[case::together(EventQuery { bad: true, host: Some("barn".into()), ..all() }, &[])]
#[case::no_query(EventQuery { name: Some("a' OR '1'='1".into()), ..all() }, &[])]
fn the_timeline_gives_what_is_asked_for(#[case] wish: EventQuery, #[case] wanted: &[&str]) {
    let (_folder, store) = fresh();
    let events = [
        event(1, "a"),
        TimelineEvent { bad: true, ..event(2, "b") },
        TimelineEvent { host: "barn".into(), ..event(3, "c") },
        TimelineEvent {
            kind: EventKind::Operation,
            member: Some("ines".into()),
            operation: Some(7),
            folded: 0,
            ..event(3, "d")
        },
    ];
    store.add_events(&events).unwrap();
    assert_eq!(names(&store, &wish), wanted);
}

#[test]
fn the_timeline_is_read_page_by_page_and_forgotten_in_pieces() {
    let (_folder, store) = fresh();
    // Many of the same moment: none is left out or told twice between two pages.
    let events: Vec<TimelineEvent> = (0..4500).map(|n| event(n / 1500, &n.to_string())).collect();
    store.add_events(&events).unwrap();
    let (mut told, mut before) = (Vec::new(), None);
    loop {
        let page = store.events(&EventQuery { before, most: 700, ..EventQuery::default() }).unwrap();
        let Some(last) = page.last() else { break };
        before = Some((last.time, last.id));
        told.extend(page.into_iter().map(|e| e.name.parse::<usize>().unwrap()));
    }
    assert_eq!(told, (0..4500).rev().collect::<Vec<_>>());
    assert_eq!(store.forget_events(at(2)).unwrap(), 3000);
    assert_eq!(store.events(&EventQuery { most: 9000, ..EventQuery::default() }).unwrap().len(), 1500);
    assert_eq!(store.forget_events(at(0)).unwrap(), 0);
}

fn earlier(store: &Store, name: &str, image: &str, second: i64, most: u32) {
    let mut definition = Definition::for_image(image);
    let (key, value) = ("LEDGER_PASSWORD".to_owned(), "pears-in-a-row".to_owned());
    definition.environment.push(EnvironmentEntry { name: key, value, hidden: false });
    let new = NewRevision {
        host: "packhouse",
        name,
        definition: &definition,
        image_id: &format!("sha256:{image}"),
        summary: "image",
        operation: 4,
        member: "ines",
    };
    store.add_earlier(&new, most, at(second)).unwrap();
}

#[test]
fn earlier_states_are_sealed_counted_and_follow_a_new_name() {
    let (folder, store) = fresh();
    for n in 0..5 {
        earlier(&store, "frost-api", &format!("frost/api:{n}"), n, 3);
    }
    earlier(&store, "ledger", "ledger:1", 9, 3);
    let images = |name: &str| -> Vec<String> {
        store.earlier("packhouse", name).unwrap().into_iter().map(|e| e.image).collect()
    };
    assert_eq!(images("frost-api"), ["frost/api:4", "frost/api:3", "frost/api:2"], "the newest three");
    assert_eq!(images("ledger").len(), 1, "of each container by itself");
    let (newest, id) = store.earlier_state("packhouse", "frost-api", None).unwrap().unwrap();
    assert_eq!((newest.image.as_str(), id.as_str()), ("frost/api:4", "sha256:frost/api:4"));
    assert_eq!(newest.environment[0].value, "pears-in-a-row");
    let third = store.earlier("packhouse", "frost-api").unwrap()[2].id;
    let (old, _) = store.earlier_state("packhouse", "frost-api", Some(third)).unwrap().unwrap();
    assert_eq!(old.image, "frost/api:2");
    assert!(store.earlier_state("packhouse", "ledger", Some(third)).unwrap().is_none(), "not another's");
    let mut kept = store.kept_images("packhouse").unwrap();
    kept.sort();
    assert_eq!(
        kept,
        ["sha256:frost/api:2", "sha256:frost/api:3", "sha256:frost/api:4", "sha256:ledger:1"],
        "what is left of them"
    );
    store.rename_earlier("packhouse", "frost-api", "frost").unwrap();
    assert!(images("frost-api").is_empty() && images("frost").len() == 3);
    drop(store);
    assert!(!stands_in(folder.path(), "pears-in-a-row"), "it is readable at rest");
}

#[test]
fn registries_are_sealed_replaced_and_forgotten() {
    let (folder, store) = fresh();
    let new = |address: &str, secret: Option<&str>| NewRegistry {
        address: address.into(),
        account: Some("ines".into()),
        secret: secret.map(str::to_owned),
        ca: None,
        plain_http: false,
    };
    store.set_registry(&new("registry.tarnvalley.example", Some("plums-in-a-row")), "ines", at(1)).unwrap();
    store.set_registry(&new("a.example", None), "ines", at(2)).unwrap();
    drop(store);
    assert!(!stands_in(folder.path(), "plums-in-a-row"), "it is readable at rest");
    let store = open(folder.path());
    let all = store.registries().unwrap();
    assert_eq!(
        all.iter().map(|r| r.shown.address.as_str()).collect::<Vec<_>>(),
        ["a.example", "registry.tarnvalley.example"]
    );
    assert_eq!(all[1].secret.as_deref(), Some("plums-in-a-row"));
    assert!(!all[0].shown.has_secret && all[1].shown.has_secret);
    // Another secret takes the place of the first.
    store.set_registry(&new("registry.tarnvalley.example", Some("other")), "ines", at(3)).unwrap();
    assert_eq!(store.registries().unwrap()[1].secret.as_deref(), Some("other"));
    assert!(store.remove_registry("a.example").unwrap());
    assert!(!store.remove_registry("a.example").unwrap());
    assert_eq!(store.registries().unwrap().len(), 1);
}

#[test]
fn what_tags_were_found_to_mean_grows_old() {
    let (_folder, store) = fresh();
    let check = |image: &str, second: i64| (image.to_owned(), Some("sha256:aa".to_owned()), None, at(second));
    store.set_image_check(&check("a:1", 1)).unwrap();
    store.set_image_check(&check("b:1", 5)).unwrap();
    store.set_image_check(&("a:1".into(), None, Some("no answer".into()), at(2))).unwrap();
    let all = store.image_checks().unwrap();
    assert_eq!(all[0], ("a:1".into(), None, Some("no answer".into()), at(2)), "the newest of each");
    store.forget_image_checks(at(3)).unwrap();
    assert_eq!(store.image_checks().unwrap(), [check("b:1", 5)]);
}

#[test]
fn settings_last_and_unknown_ones_of_a_later_version_change_nothing() {
    let (folder, store) = fresh();
    assert_eq!(store.preferences().unwrap(), Preferences::default());
    let all = Preferences { kept_earlier: 9, record_terminals: true, ..Preferences::default() };
    store.set_preferences(&all).unwrap();
    drop(store);
    assert_eq!(open(folder.path()).preferences().unwrap(), all);
    let database = rusqlite::Connection::open(folder.path().join("gubernum.db")).unwrap();
    database.execute("UPDATE preferences SET value = '{\"from_the_future\": 1}'", []).unwrap();
    drop(database);
    assert_eq!(open(folder.path()).preferences().unwrap(), Preferences::default());
}

#[test]
fn notes_are_of_one_thing_each() {
    let (_folder, store) = fresh();
    let piece = |object, id: &str| TidyPiece { host: "packhouse".into(), object, id: id.into() };
    let note = |text: &str| KeepNote {
        piece: piece(ObjectKind::Volume, "readings"),
        text: text.into(),
        member: "ines".into(),
    };
    assert!(store.keep(&note("until the audit"), at(1)).unwrap());
    assert!(store.keep(&note("until spring"), at(2)).unwrap());
    assert_eq!(store.keep_notes().unwrap(), [note("until spring")]);
    assert!(!store.let_go(&piece(ObjectKind::Image, "readings")).unwrap(), "another kind of object");
    assert!(store.let_go(&piece(ObjectKind::Volume, "readings")).unwrap());
    assert!(store.keep_notes().unwrap().is_empty());
}

#[test]
fn there_is_an_end_to_notes() {
    let (_folder, store) = fresh();
    let note = |n: u32| KeepNote {
        piece: TidyPiece { host: "packhouse".into(), object: ObjectKind::Image, id: n.to_string() },
        text: String::new(),
        member: "ines".into(),
    };
    for n in 0..MOST_NOTES {
        assert!(store.keep(&note(n), at(1)).unwrap());
    }
    assert!(!store.keep(&note(MOST_NOTES), at(2)).unwrap());
    assert!(store.keep(&note(3), at(2)).unwrap(), "one that is noted can be noted again");
}

#[test]
fn rules_for_kept_lines_come_in_the_order_in_which_they_count() {
    let (_folder, store) = fresh();
    let rule = |scope, value: &str| NewKeepRule { scope, value: value.into(), days: 14, bytes: 1 << 31 };
    let scopes = KeepScope::ALL;
    for &scope in scopes.iter().rev() {
        store.add_keep_rule(&rule(scope, "x"), "ines", at(1)).unwrap();
    }
    let told: Vec<KeepScope> = store.keep_rules().unwrap().into_iter().map(|r| r.scope).collect();
    assert!(told.is_sorted() && told.len() == scopes.len(), "{told:?}");
    let twice = store.add_keep_rule(&rule(scopes[0], "x"), "mara", at(2)).unwrap_err();
    assert!(matches!(twice, StoreError::Taken(_)), "{twice}");
    let first = store.keep_rules().unwrap()[0].id;
    assert!(store.remove_keep_rule(first).unwrap());
    assert!(!store.remove_keep_rule(first).unwrap());
}

#[test]
fn since_when_things_are_unused_is_of_one_host_and_replaced_as_a_whole() {
    let (_folder, store) = fresh();
    let unused =
        |key: &str, second| (AssetKind::Volume, key.to_owned(), at(second), Some("frost-api".to_owned()));
    store.set_unused("packhouse", &[unused("a", 1), unused("b", 2)]).unwrap();
    store.set_unused("barn", &[unused("a", 3)]).unwrap();
    store.set_unused("packhouse", &[unused("b", 2)]).unwrap();
    assert_eq!(store.unused("packhouse").unwrap(), [unused("b", 2)]);
    assert_eq!(store.unused("barn").unwrap(), [unused("a", 3)]);
}
