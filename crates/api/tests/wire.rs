//! The wire forms that clients rely on: they may grow, but not change.

#![allow(clippy::unwrap_used)]

use gubernum_api::requests::{BodyError, NewOperation, Request, StopRequest};
use gubernum_api::views::Line;
use gubernum_api::{FromClient, FromServer, Kind, Problem, Stream};
use gubernum_core::logs::LogLine;
use rstest::rstest;
use serde_json::{Value, json};

#[test]
fn messages_of_a_client_are_read() {
    let read = |value: Value| serde_json::from_value::<FromClient>(value).unwrap();
    assert!(matches!(read(json!({"type": "fleet", "id": 1})), FromClient::Fleet { id: 1, since: None }));
    let resumed = read(json!({"type": "fleet", "id": 1, "since": ["abc", 42]}));
    assert!(matches!(resumed, FromClient::Fleet { since: Some((epoch, 42)), .. } if epoch == "abc"));
    let logs =
        json!({"type": "many-logs", "id": 9, "wish": {"references": ["a/b"], "tail": 5, "follow": true}});
    let FromClient::Logs { id: 9, wish } = read(logs) else { unreachable!("it is a wish for logs") };
    assert_eq!((wish.references, wish.tail, wish.follow), (vec!["a/b".to_owned()], Some(5), true));
    assert!(matches!(
        read(json!({"type": "taken", "id": 9, "bytes": 7})),
        FromClient::Taken { id: 9, bytes: 7 }
    ));
    assert!(serde_json::from_value::<FromClient>(json!({"type": "dance"})).is_err());
}

#[test]
fn messages_of_the_service_name_their_type() {
    let ended = serde_json::to_value(FromServer::Ended { id: 3, problem: None }).unwrap();
    assert_eq!(ended, json!({"type": "ended", "id": 3, "problem": null}));
    let problem = Problem::new("not-found", "Not found", 404, "nothing is called so");
    let refused = serde_json::to_value(FromServer::Refused { id: None, problem }).unwrap();
    assert_eq!(refused["problem"]["type"], "tag:gubernum,2026:not-found");
    assert_eq!(refused["problem"]["status"], 404);
}

#[test]
fn lines_keep_their_bytes_where_text_cannot() {
    let line = |bytes: &[u8]| {
        Line::from(LogLine { stream: Stream::Stderr, time: None, bytes: bytes.to_vec(), continued: false })
    };
    let plain = serde_json::to_value(line(b"frost at 4")).unwrap();
    assert_eq!(plain, json!({"stream": "stderr", "text": "frost at 4"}), "nothing that says nothing");
    let odd = line(b"\xff!");
    assert_eq!((odd.text.as_str(), odd.bytes.as_deref()), ("\u{fffd}!", Some("/yE=")));
}

#[rstest]
#[case::negative(r#"{"kind":"stop","targets":["a/b"],"grace_seconds":-1}"#, "grace_seconds")]
#[case::of_a_replacement(r#"{"grace_seconds":-1,"kind":"update","targets":["a/b"]}"#, "grace_seconds")]
#[case::kind_last(r#"{"signal":7,"targets":["a/b"],"kind":"kill"}"#, "signal")]
#[case::nested(
    r#"{"definition":{"image":"a","ports":[{"host_port":"x"}]},"kind":"deploy","targets":["a/b"]}"#,
    "definition.ports[0].host_port"
)]
#[case::odd_kind(r#"{"kind":"explode","targets":[]}"#, "kind")]
#[case::odd_target(r#"{"kind":"stop","targets":["a/b",7]}"#, "targets[1]")]
#[case::stray(r#"{"kind":"stop","targets":[],"when":"now"}"#, "when")]
#[case::misspelt(r#"{"kind":"kill","targets":["a/b"],"sginal":"HUP"}"#, "sginal")]
#[case::no_kind(r#"{"targets":["a/b"]}"#, ".")]
#[case::no_targets(r#"{"kind":"stop"}"#, ".")]
#[case::missing(r#"{"kind":"tag","targets":["a"],"image":"a/b:1"}"#, ".")]
#[case::twice(r#"{"kind":"kill","targets":["a/b"],"signal":"HUP","signal":"TERM"}"#, ".")]
#[case::list("[]", "")]
#[case::more(r#"{"kind":"pause","targets":[]} x"#, "")]
#[case::nothing("", "")]
fn an_error_in_a_request_is_reported_with_its_place(#[case] body: &str, #[case] place: &str) {
    let error = NewOperation::read(body.as_bytes()).unwrap_err();
    let BodyError::Malformed { path, sentence } = error else { unreachable!("{error}") };
    assert_eq!(path, place, "{sentence}");
    assert!(!sentence.is_empty());
}

#[rstest]
#[case::force(r#"{"kind":"start","targets":[],"force":true}"#, "force", Kind::Remove)]
#[case::needs_more(r#"{"kind":"pull","image":"a","targets":[],"new_name":"b"}"#, "new_name", Kind::Tag)]
#[case::nested(r#"{"kind":"pause","targets":[],"volume":{"driver":"local"}}"#, "volume", Kind::CreateVolume)]
fn a_setting_of_another_kind_is_reported_with_the_kinds_that_have_it(
    #[case] body: &str,
    #[case] name: &str,
    #[case] kind: Kind,
) {
    let error = NewOperation::read(body.as_bytes()).unwrap_err();
    let BodyError::Misplaced { setting, others, .. } = error else { unreachable!("{error}") };
    assert_eq!(setting, name);
    assert!(others.contains(&kind), "{others:?}");
}

/// What clients of the first releases sent beside every kind.
#[test]
fn what_says_nothing_goes_with_every_kind() {
    let old = json!({"kind": "stop", "targets": ["a/b"], "force": false, "volumes": false, "digest": null, "signal": null});
    let read = NewOperation::read(old.to_string().as_bytes()).unwrap();
    assert_eq!(read, NewOperation::new(Request::Stop(StopRequest::default()), vec!["a/b".into()]));
    let again = NewOperation::read(serde_json::to_string(&read).unwrap().as_bytes()).unwrap();
    assert_eq!(again, read);
}

/// Unknown fields of a request are refused, so that a typing error does not go unnoticed.
#[rstest]
#[case::host(serde_json::from_value::<gubernum_api::requests::NewHost>(json!({"name": "a", "address": "unix:///x", "adress": 1})).map(drop))]
#[case::test(serde_json::from_value::<gubernum_api::requests::TestHost>(json!({"name": "a", "nome": 1})).map(drop))]
#[case::token(serde_json::from_value::<gubernum_api::requests::NewToken>(json!({"name": "a", "expires": 1})).map(drop))]
#[case::sign_in(serde_json::from_value::<gubernum_api::requests::SignIn>(json!({"member": "a", "password": "b", "pin": 1})).map(drop))]
#[case::rule(serde_json::from_value::<gubernum_api::logs::NewKeepRule>(json!({"scope": "all", "days": 1, "bytes": 1, "byte": 1})).map(drop))]
#[case::usage(serde_json::from_value::<gubernum_api::usage::UsageSubscription>(json!({"references": [], "reference": 1})).map(drop))]
#[case::logs(serde_json::from_value::<gubernum_api::logs::LogRequest>(json!({"references": [], "follow": true, "tails": 1})).map(drop))]
fn words_that_mean_nothing_are_refused(#[case] read: Result<(), serde_json::Error>) {
    let error = read.unwrap_err().to_string();
    assert!(error.contains("unknown field"), "{error}");
}

#[test]
fn a_problem_is_reported_as_the_standard_has_it() {
    let mut problem = gubernum_api::Problem::new("not-found", "Not found", 404, "no host 'orchid'");
    let bare = serde_json::to_value(&problem).unwrap();
    assert_eq!(
        bare,
        json!({"type": "tag:gubernum,2026:not-found", "title": "Not found", "status": 404, "detail": "no host 'orchid'"})
    );
    problem.field = Some("/host".into());
    problem.candidates = vec!["orchard".into()];
    let whole = serde_json::to_value(&problem).unwrap();
    assert_eq!((&whole["field"], &whole["candidates"]), (&json!("/host"), &json!(["orchard"])));
    assert_eq!(serde_json::from_value::<gubernum_api::Problem>(whole).unwrap(), problem);
    assert_eq!((problem.word(), problem.to_string().as_str()), ("not-found", "no host 'orchid'"));
    let foreign: gubernum_api::Problem = serde_json::from_value(
        json!({"type": "about:blank", "title": "x", "status": 500, "detail": "y", "more": 1}),
    )
    .unwrap();
    assert_eq!(foreign.word(), "about:blank", "a later version may say more");
}

#[test]
fn what_is_used_now_says_nothing_of_what_is_not_known() {
    let wire = json!({
        "host": "packhouse", "id": "ab", "name": "row", "time": "2026-11-20T08:00:00Z", "figures": {"memory": 5.0},
    });
    let now: gubernum_api::usage::CurrentUsage = serde_json::from_value(wire.clone()).unwrap();
    assert_eq!((now.figures.memory, now.figures.processors), (Some(5.0), None));
    let again = serde_json::to_value(&now).unwrap();
    for absent in ["stack", "memory_has_cache", "recent_processors", "recent_memory"] {
        assert!(again.get(absent).is_none(), "{absent}");
    }
}
