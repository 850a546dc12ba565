//! Limits of settings, fields of errors, and reading every kind as it is written.

use super::*;
use crate::definition::{Definition, EnvironmentEntry, NetworkConnection};
use crate::plan::ObjectKind;
use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value, json};

fn piece() -> TidyPiece {
    TidyPiece { host: "packhouse".into(), object: ObjectKind::Image, id: "ab".into() }
}

/// The settings that a kind cannot do without.
fn needed(kind: Kind) -> Value {
    match kind {
        Kind::Deploy | Kind::Edit => json!({"definition": {"image": "frost/api:2"}}),
        Kind::Pull | Kind::Push => json!({"image": "frost/api:2"}),
        Kind::Tag => json!({"image": "frost/api:2", "new_name": "frost/api:keep"}),
        Kind::Connect | Kind::Disconnect => json!({"join": {"name": "orchard"}}),
        Kind::Apply | Kind::RemoveStack => json!({"stack": "frostwatch"}),
        Kind::Move | Kind::Clone => json!({"to": "coldstore"}),
        Kind::Run => json!({"stack": "frostwatch", "service": "report"}),
        Kind::Tidy => json!({"pieces": [{"host": "packhouse", "object": "image", "id": "ab"}]}),
        _ => json!({}),
    }
}

/// A request of this kind with what it needs and no more.
fn complete(kind: Kind) -> Request {
    Request::read_settings(kind, needed(kind)).unwrap()
}

#[test]
fn what_a_kind_needs_is_missed_by_name() {
    for &kind in Kind::ALL {
        // A stack comes with files or with the number of a revision; see below.
        if kind != Kind::Apply {
            complete(kind).check().unwrap();
        }
        for missed in needed(kind).as_object().unwrap().keys() {
            let mut settings = needed(kind);
            settings.as_object_mut().unwrap().remove(missed);
            let error = Request::read_settings(kind, settings).unwrap_err().to_string();
            assert!(error.contains(missed), "{kind}: {error}");
        }
    }
}

#[test]
fn every_kind_is_read_as_it_is_written() {
    for &kind in Kind::ALL {
        let request = complete(kind);
        assert_eq!(request.kind(), kind);
        let written = serde_json::to_value(&request).unwrap();
        assert_eq!(written["kind"], kind.word());
        assert_eq!(Request::read_settings(kind, written.clone()).unwrap(), request);
        assert_eq!(serde_json::from_value::<Request>(written).unwrap(), request);
    }
}

/// The first releases wrote these two beside every kind.
#[test]
fn requests_of_old_journals_are_read() {
    for &kind in Kind::ALL {
        let mut old = needed(kind);
        old["kind"] = json!(kind);
        old["force"] = json!(false);
        old["volumes"] = json!(false);
        assert_eq!(serde_json::from_value::<Request>(old).unwrap(), complete(kind));
    }
}

fn update(watch_seconds: u32) -> Request {
    Request::Update(UpdateRequest { watch_seconds: Some(watch_seconds), ..UpdateRequest::default() })
}

fn stop(grace_seconds: u32) -> Request {
    Request::Stop(StopRequest { grace_seconds: Some(grace_seconds), rolling: None })
}

fn restart(at_once: u32) -> Request {
    let rolling = Some(Rolling { at_once, keep_going: true });
    Request::Restart(RestartRequest { rolling, ..RestartRequest::default() })
}

fn kill(signal: &str) -> Request {
    Request::Kill(KillRequest { signal: Some(signal.to_owned()) })
}

fn tidy(pieces: usize) -> Request {
    Request::Tidy(TidyRequest { pieces: vec![piece(); pieces] })
}

#[rstest]
#[case::grace(stop(MAX_GRACE_SECONDS), None)]
#[case::long_grace(stop(MAX_GRACE_SECONDS + 1), Some("grace_seconds"))]
#[case::watch(update(MAX_WATCH_SECONDS), None)]
#[case::long_watch(update(MAX_WATCH_SECONDS + 1), Some("watch_seconds"))]
#[case::none_at_once(restart(0), Some("rolling"))]
#[case::all_at_once(restart(MAX_AT_ONCE), None)]
#[case::too_many_at_once(restart(MAX_AT_ONCE + 1), Some("rolling"))]
#[case::signal(kill("HUP"), None)]
#[case::no_signal(kill("\u{1b}[31m"), Some("signal"))]
#[case::no_image(Request::Pull(PullRequest { image: "Frost API".into(), ..PullRequest::default() }), Some("image"))]
#[case::no_other_image(Request::Update(UpdateRequest { image: Some("Frost API".into()), ..UpdateRequest::default() }), Some("image"))]
#[case::no_name(Request::Tag(TagRequest { image: "frost/api:2".into(), new_name: ":".into() }), Some("new_name"))]
#[case::nothing(tidy(0), Some("pieces"))]
#[case::pieces(tidy(MAX_PIECES), None)]
#[case::too_many_pieces(tidy(MAX_PIECES + 1), Some("pieces"))]
fn limits_are_held(#[case] request: Request, #[case] field: Option<&str>) {
    let outcome = request.check();
    assert_eq!(outcome.as_ref().err().map(|e| e.field), field, "{outcome:?}");
    assert!(outcome.err().is_none_or(|e| !e.sentence.contains('\u{1b}')));
}

#[rstest]
fn every_kind_that_takes_it_holds_its_limits(
    #[values(("grace_seconds", MAX_GRACE_SECONDS), ("watch_seconds", MAX_WATCH_SECONDS))] setting: (
        &'static str,
        u32,
    ),
) {
    let (name, most) = setting;
    let mut taken = 0;
    for &kind in Kind::ALL {
        let mut settings = needed(kind);
        settings[name] = json!(most + 1);
        let request = Request::read_settings(kind, settings).unwrap();
        if serde_json::to_value(&request).unwrap().get(name).is_some() {
            assert_eq!(request.check().unwrap_err().field, name, "{kind}");
            taken += 1;
        }
    }
    assert!((1..Kind::ALL.len()).contains(&taken), "{name} goes with {taken} kinds");
}

#[rstest]
#[case("make-volume", Kind::CreateVolume)]
#[case("make-network", Kind::CreateNetwork)]
fn earlier_words_of_kinds_are_read(#[case] word: &str, #[case] kind: Kind) {
    assert_eq!(word.parse::<Kind>(), Ok(kind));
    assert_eq!(serde_json::from_value::<Kind>(json!(word)).unwrap(), kind);
    let mut old = needed(kind);
    old["kind"] = json!(word);
    assert_eq!(serde_json::from_value::<Request>(old).unwrap(), complete(kind));
    assert_eq!(serde_json::to_value(kind).unwrap(), kind.word());
}

#[test]
fn words_of_kinds_are_read_back() {
    for &kind in Kind::ALL {
        assert_eq!(kind.word().parse::<Kind>(), Ok(kind));
        assert_eq!(serde_json::to_value(kind).unwrap(), kind.word());
    }
    assert!("dance".parse::<Kind>().is_err());
}

#[test]
fn what_everybody_sees_of_a_request_has_no_secret() {
    let mut definition = Definition::for_image("frost/api:2");
    let entry = EnvironmentEntry { name: "LEDGER_PASSWORD".into(), value: "pears".into(), hidden: false };
    definition.environment.push(entry);
    let definition = Box::new(definition);
    let deploy = DeployRequest { definition: definition.clone(), ..DeployRequest::default() };
    let edit = EditRequest { definition, ..EditRequest::default() };
    for request in [Request::Deploy(deploy), Request::Edit(edit)] {
        let shown = serde_json::to_string(&request.masked()).unwrap();
        assert!(!shown.contains("pears") && shown.contains("LEDGER_PASSWORD"), "{shown}");
    }
}

#[test]
fn of_a_moved_stack_nobody_sees_the_text() {
    let Request::Apply(definition) = apply(|_| ()) else { panic!() };
    let wish = MoveRequest {
        to: "coldstore".into(),
        definition: Some(Box::new(definition)),
        ..MoveRequest::default()
    };
    for request in [Request::Move(wish.clone()), Request::Clone(wish)] {
        let shown = serde_json::to_string(&request.masked()).unwrap();
        assert!(!shown.contains("pears") && !shown.contains("services"), "{shown}");
    }
}

proptest! {
    #[test]
    fn what_does_not_go_with_a_kind_changes_nothing(kind in prop::sample::select(Kind::ALL), name in "x_[a-z]{1,12}", value in any::<i64>()) {
        let mut settings = needed(kind);
        settings[name] = json!(value);
        prop_assert_eq!(Request::read_settings(kind, settings).unwrap(), complete(kind));
    }

    #[test]
    fn networks_keep_their_names(network in "[a-z][a-z0-9-]{0,20}") {
        let join = NetworkConnection { name: network, ..NetworkConnection::default() };
        let request = Request::Connect(ConnectRequest { join });
        let written = serde_json::to_value(&request).unwrap();
        prop_assert_eq!(serde_json::from_value::<Request>(written).unwrap(), request);
    }
}

fn apply(change: impl FnOnce(&mut ApplyRequest)) -> Request {
    let text = "services: {a: {image: x, environment: [KEY=$KEY]}}";
    let mut request = ApplyRequest {
        stack: "frostwatch".to_owned(),
        files: [("stack.yaml".to_owned(), text.to_owned())].into(),
        main: vec!["stack.yaml".to_owned()],
        variables: [("DB_PASSWORD".to_owned(), "pears".to_owned()), ("TZ".to_owned(), "UTC".to_owned())]
            .into(),
        ..ApplyRequest::default()
    };
    change(&mut request);
    Request::Apply(request)
}

#[rstest]
#[case::whole(apply(|_| ()), None)]
#[case::a_revision(apply(|r| { r.files.clear(); r.main.clear(); r.revision = Some(3); }), None)]
#[case::both(apply(|r| r.revision = Some(3)), Some("revision"))]
#[case::nothing(apply(|r| r.main.clear()), Some("main"))]
#[case::not_given(apply(|r| r.main.push("site.yaml".to_owned())), Some("main"))]
#[case::an_odd_name(apply(|r| r.stack = "Frost".to_owned()), Some("stack"))]
#[case::a_long_comment(apply(|r| r.comment = Some("x".repeat(501))), Some("comment"))]
fn a_stack_has_files_or_a_revision(#[case] request: Request, #[case] field: Option<&str>) {
    assert_eq!(request.check().err().map(|e| e.field), field);
}

#[test]
fn the_texts_and_secrets_of_a_stack_are_for_nobody_else() {
    let masked = serde_json::to_string(&apply(|_| ()).masked()).unwrap();
    assert!(masked.contains("stack.yaml") && masked.contains("UTC"));
    assert!(!masked.contains("pears") && !masked.contains("services"), "{masked}");
}
