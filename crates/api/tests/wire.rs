//! The wire forms that clients rely on: they may grow, but not change.

#![allow(clippy::unwrap_used)]

use gubernum_api::live::LogWish;
use gubernum_api::requests::NewOperation;
use gubernum_api::views::Line;
use gubernum_api::{FromClient, FromServer, Kind, Problem, Stream};
use gubernum_core::logs::LogLine;
use serde_json::{Value, json};

#[test]
fn messages_of_a_client_are_read() {
    let read = |value: Value| serde_json::from_value::<FromClient>(value).unwrap();
    assert!(matches!(read(json!({"type": "fleet", "id": 1})), FromClient::Fleet { id: 1, since: None }));
    let resumed = read(json!({"type": "fleet", "id": 1, "since": ["abc", 42]}));
    assert!(matches!(resumed, FromClient::Fleet { since: Some((epoch, 42)), .. } if epoch == "abc"));
    let logs =
        read(json!({"type": "logs", "id": 9, "wish": {"reference": "a/b", "tail": 5, "follow": true}}));
    let FromClient::Logs { id: 9, wish: LogWish { reference, tail: Some(5), follow: true, .. } } = logs
    else {
        unreachable!("it is a wish for a log")
    };
    assert_eq!(reference, "a/b");
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

#[test]
fn requests_refuse_what_they_do_not_know() {
    let read = |value: Value| serde_json::from_value::<NewOperation>(value);
    let fine = read(json!({"kind": "kill", "targets": ["a/b"], "signal": "HUP"})).unwrap();
    assert_eq!((fine.kind, fine.request().signal.as_deref()), (Kind::Kill, Some("HUP")));
    assert!(read(json!({"kind": "kill", "targets": ["a/b"], "sginal": "HUP"})).is_err());
    assert!(read(json!({"targets": ["a/b"]})).is_err());
}
