//! Which settings go with which kind of change, their limits, and that a mistake names its field.

use super::*;
use crate::definition::EnvironmentEntry;
use rstest::rstest;

type Set = fn(&mut Request);

/// Each setting, given.
fn settings() -> Vec<(&'static str, Set)> {
    vec![
        ("grace_seconds", |r| r.grace_seconds = Some(5)),
        ("signal", |r| r.signal = Some("HUP".into())),
        ("force", |r| r.force = true),
        ("volumes", |r| r.volumes = true),
        ("definition", |r| r.definition = Some(Box::new(Definition::of("frost/api:2")))),
        ("from", |r| r.from = Some("packhouse/frost-api".into())),
        ("image", |r| r.image = Some("frost/api:2".into())),
        ("policy", |r| r.policy = Some(PullPolicy::Always)),
        ("platform", |r| r.platform = Some("linux/arm64".into())),
        ("new_name", |r| r.new_name = Some("frost/api:keep".into())),
        ("keep_parents", |r| r.keep_parents = true),
        ("earlier", |r| r.earlier = Some(3)),
        ("watch_seconds", |r| r.watch_seconds = Some(20)),
        ("rolling", |r| r.rolling = Some(Rolling { at_once: 1, go_on: false })),
        ("volume", |r| r.volume = Some(VolumeWish::default())),
        ("network", |r| r.network = Some(NetworkWish::default())),
        ("join", |r| r.join = Some(joined())),
        ("pieces", |r| r.pieces = vec![piece()]),
    ]
}

fn joined() -> JoinedNetwork {
    JoinedNetwork { name: "orchard".into(), aliases: Vec::new(), address: None, ipv6: None }
}

fn piece() -> TidyPiece {
    TidyPiece { host: "packhouse".into(), object: ObjectKind::Image, id: "ab".into() }
}

/// A request of this kind with what it needs and no more.
fn complete(kind: Kind) -> Request {
    let mut request = Request::of(kind);
    let needs: &[&str] = match kind {
        Kind::Deploy | Kind::Edit => &["definition"],
        Kind::Pull | Kind::Push => &["image"],
        Kind::Tag => &["image", "new_name"],
        Kind::Connect | Kind::Disconnect => &["join"],
        Kind::Tidy => &["pieces"],
        _ => &[],
    };
    settings().into_iter().filter(|(name, _)| needs.contains(name)).for_each(|(_, set)| set(&mut request));
    request
}

#[test]
fn every_setting_goes_with_some_kinds_and_is_refused_by_name_with_the_others() {
    for (field, set) in settings() {
        let mut taken = 0;
        for kind in Kind::ALL {
            let mut request = complete(kind);
            set(&mut request);
            match request.check() {
                Ok(()) => taken += 1,
                Err(error) => {
                    assert_eq!(error.field, field, "{kind}: {error}");
                    assert!(error.sentence.contains(kind.word()), "{error}");
                }
            }
        }
        assert!((1..Kind::ALL.len()).contains(&taken), "{field} goes with {taken} kinds");
    }
}

#[test]
fn what_a_kind_needs_is_missed_by_name() {
    for kind in Kind::ALL {
        complete(kind).check().unwrap();
        let bare = Request::of(kind);
        if bare != complete(kind) {
            let error = bare.check().unwrap_err();
            assert!(!error.sentence.is_empty() && error.sentence.contains(kind.word()), "{error}");
        }
    }
}

#[rstest]
#[case::grace(Request { grace_seconds: Some(MAX_GRACE_SECONDS), ..complete(Kind::Stop) }, None)]
#[case::long_grace(Request { grace_seconds: Some(MAX_GRACE_SECONDS + 1), ..complete(Kind::Stop) }, Some("grace_seconds"))]
#[case::long_watch(Request { watch_seconds: Some(MAX_WATCH_SECONDS + 1), ..complete(Kind::Update) }, Some("watch_seconds"))]
#[case::none_at_once(Request { rolling: Some(Rolling { at_once: 0, go_on: true }), ..complete(Kind::Restart) }, Some("rolling"))]
#[case::all_at_once(Request { rolling: Some(Rolling { at_once: MAX_AT_ONCE, go_on: true }), ..complete(Kind::Restart) }, None)]
#[case::too_many_at_once(Request { rolling: Some(Rolling { at_once: MAX_AT_ONCE + 1, go_on: true }), ..complete(Kind::Restart) }, Some("rolling"))]
#[case::no_signal(Request { signal: Some("\u{1b}[31m".into()), ..complete(Kind::Kill) }, Some("signal"))]
#[case::no_image(Request { image: Some("Frost API".into()), ..complete(Kind::Pull) }, Some("image"))]
#[case::no_name(Request { new_name: Some(":".into()), ..complete(Kind::Tag) }, Some("new_name"))]
#[case::pieces(Request { pieces: vec![piece(); MAX_PIECES], ..complete(Kind::Tidy) }, None)]
#[case::too_many_pieces(Request { pieces: vec![piece(); MAX_PIECES + 1], ..complete(Kind::Tidy) }, Some("pieces"))]
fn limits_are_held(#[case] request: Request, #[case] field: Option<&str>) {
    let outcome = request.check();
    assert_eq!(outcome.as_ref().err().map(|e| e.field), field, "{outcome:?}");
    assert!(outcome.err().is_none_or(|e| !e.sentence.contains('\u{1b}')));
}

#[test]
fn words_of_kinds_are_read_back() {
    for kind in Kind::ALL {
        assert_eq!(kind.word().parse::<Kind>(), Ok(kind));
        assert_eq!(serde_json::to_value(kind).unwrap(), kind.word());
    }
    assert!("dance".parse::<Kind>().is_err());
}

#[test]
fn what_everybody_sees_of_a_request_has_no_secret() {
    let mut request = complete(Kind::Deploy);
    let entry = EnvironmentEntry { name: "LEDGER_PASSWORD".into(), value: "pears".into(), hidden: false };
    request.definition.as_mut().unwrap().environment.push(entry);
    let shown = serde_json::to_string(&request.masked()).unwrap();
    assert!(!shown.contains("pears") && shown.contains("LEDGER_PASSWORD"), "{shown}");
}
