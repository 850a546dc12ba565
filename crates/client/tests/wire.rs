//! The client against a service that answers whatever a test wants: what is sent, and what becomes of answers that are
//! refusals, nonsense or broken off. That it understands the real service is tested with the service.

// Helpers of tests may stop a test.
#![allow(clippy::unwrap_used)]

mod stub;

use futures_util::stream;
use gubernum_api::requests::{NewHost, NewOperation, Request, SignIn, StartRequest};
use gubernum_client::{
    Client, ClientError, Holder, LogItem, LogOptions, MergedItem, Place, Trust, upload_word,
};
use rstest::rstest;
use stub::{Answer, Stub};

const REFUSAL: &str = r#"{"type":"tag:gubernum,2026:ambiguous","title":"Ambiguous","status":409,"detail":"'api' is on 2 hosts; write 'host/name'","field":"/targets/0"}"#;

fn client(stub: &Stub) -> Client {
    Client::new(&stub.url, Some("gbt_secret".into()), Trust::System).unwrap()
}

#[tokio::test]
async fn nobody_at_the_address_is_said_with_the_address() {
    let address = {
        let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        taken.local_addr().unwrap()
    };
    let client = Client::new(&format!("http://{address}"), None, Trust::System).unwrap();
    let error = client.hosts().await.unwrap_err();
    assert!(matches!(error, ClientError::Unreachable { .. }), "{error:?}");
    let sentence = error.to_string();
    assert!(sentence.contains(&address.to_string()) && sentence.contains("is it running"), "{sentence}");
    assert_eq!(error.kind(), None);
    let live = client.live().await.err().unwrap();
    assert!(matches!(live, ClientError::Unreachable { .. }), "{live:?}");
}

#[tokio::test]
async fn a_refusal_is_the_services_own_sentence() {
    let stub = Stub::answering([Answer::status(409).json(REFUSAL)]).await;
    let error = client(&stub).containers(&[("reference", "api".into())]).await.unwrap_err();
    assert_eq!(error.kind(), Some("ambiguous"));
    assert_eq!(error.to_string(), "'api' is on 2 hosts; write 'host/name'");
}

#[rstest]
#[case::a_refusal_of_something_else(Answer::status(502).text("<html>Bad gateway</html>"), "502")]
#[case::success_of_something_else(Answer::status(200).text("It works!"), "same version")]
#[case::another_record(Answer::status(200).json(r#"{"name":"x"}"#), "same version")]
#[case::nothing(Answer::status(200).text(""), "same version")]
#[tokio::test]
async fn an_answer_that_is_not_ours_says_so(#[case] answer: Answer, #[case] words: &str) {
    let stub = Stub::answering([answer]).await;
    let error = client(&stub).hosts().await.unwrap_err();
    assert!(matches!(error, ClientError::Unreadable { .. }), "{error:?}");
    assert!(error.to_string().contains(words), "{error}");
}

#[tokio::test]
async fn an_answer_that_breaks_off_is_no_answer() {
    let stub = Stub::answering([Answer::status(200).json("[]").cut_after(1)]).await;
    let error = client(&stub).hosts().await.unwrap_err();
    assert!(matches!(error, ClientError::Broken(_)), "{error:?}");
}

#[tokio::test]
async fn a_token_goes_as_a_header_and_a_session_with_its_key() {
    let me = r#"{"member":"mara","by":"session","key":"session-key"}"#;
    let signed_in =
        Answer::status(201).json(me).header("Set-Cookie: gubernum_session=abc; HttpOnly; SameSite=Strict");
    let stub =
        Stub::answering([Answer::status(200).json("[]"), signed_in, Answer::status(200).json("[]")]).await;
    client(&stub).hosts().await.unwrap();
    let bare = Client::new(&stub.url, None, Trust::System).unwrap();
    let wish = SignIn { member: "mara".into(), password: "long enough a word".into(), code: None };
    let mara = bare.sign_in(&wish).await.unwrap();
    mara.hosts().await.unwrap();
    let asked = stub.asked();
    assert!(asked[0].contains("authorization: Bearer gbt_secret\r\n"), "{}", asked[0]);
    assert!(!asked[1].contains("authorization:") && !asked[1].contains("cookie:"), "{}", asked[1]);
    assert!(asked[1].ends_with(r#"{"member":"mara","password":"long enough a word"}"#), "{}", asked[1]);
    assert!(asked[2].contains("cookie: gubernum_session=abc\r\n"), "{}", asked[2]);
    assert!(asked[2].contains("gubernum-key: session-key\r\n"), "{}", asked[2]);
    assert!(asked[2].contains(&format!("origin: {}\r\n", stub.url)), "{}", asked[2]);
}

#[tokio::test]
async fn a_sign_in_that_sets_no_session_is_none() {
    let stub = Stub::answering([Answer::status(201).json(r#"{"member":"mara","by":"session"}"#)]).await;
    let bare = Client::new(&stub.url, None, Trust::System).unwrap();
    let wish = SignIn { member: "mara".into(), password: "x".into(), code: None };
    let error = bare.sign_in(&wish).await.unwrap_err();
    assert!(error.to_string().contains("sets no session"), "{error}");
}

#[tokio::test]
async fn names_and_patterns_stay_in_their_place() {
    let answers = std::iter::repeat_with(|| Answer::status(404).json(REFUSAL)).take(5);
    let stub = Stub::answering(answers).await;
    let client = client(&stub);
    let _ = client.remove_host("odd/../name?x").await;
    let _ = client.container("packhouse/frost api").await;
    let _ = client.containers(&[("reference", "*/frost-*&x=1".into()), ("state", "running".into())]).await;
    let options = LogOptions { tail: Some(5), stdout: true, ..LogOptions::default() };
    let _ = client.logs("frost-api", &options).await;
    let _ = client.folder(Holder::Volume("packhouse/data".into()), "/a b").await;
    let lines: Vec<String> =
        stub.asked().iter().map(|a| a.lines().next().unwrap_or_default().to_owned()).collect();
    assert_eq!(
        lines,
        [
            "DELETE /api/v1/hosts/odd%2F..%2Fname%3Fx HTTP/1.1",
            "GET /api/v1/containers/packhouse/frost%20api HTTP/1.1",
            "GET /api/v1/containers?reference=*%2Ffrost-*%26x%3D1&state=running HTTP/1.1",
            "GET /api/v1/containers/-/frost-api/logs?tail=5&follow=false&stdout=true&stderr=false HTTP/1.1",
            "GET /api/v1/volumes/packhouse/data/folder?path=%2Fa+b HTTP/1.1",
        ]
    );
}

#[tokio::test]
async fn a_change_has_the_key_that_makes_a_repeat_safe() {
    let stub = Stub::answering([Answer::status(409).json(REFUSAL), Answer::status(409).json(REFUSAL)]).await;
    let client = client(&stub);
    let wish = NewOperation::new(Request::Start(StartRequest::default()), vec!["packhouse/api".into()]);
    let _ = client.submit(&wish, Some("once")).await;
    let _ = client.submit(&wish, None).await;
    let asked = stub.asked();
    assert!(asked[0].contains("idempotency-key: once\r\n"), "{}", asked[0]);
    assert!(asked[0].ends_with(r#"{"kind":"start","targets":["packhouse/api"]}"#), "{}", asked[0]);
    assert!(!asked[1].contains("idempotency-key"), "{}", asked[1]);
}

#[tokio::test]
async fn a_host_without_tls_says_nothing_of_it() {
    let stub = Stub::answering([Answer::status(409).json(REFUSAL)]).await;
    let host = NewHost {
        name: "coldstore".into(),
        address: "tcp://192.0.2.2:2375".into(),
        tls: None,
        ports_address: None,
        groups: Vec::new(),
    };
    let _ = client(&stub).add_host(&host).await;
    assert!(
        stub.asked()[0].ends_with(r#"{"name":"coldstore","address":"tcp://192.0.2.2:2375"}"#),
        "{}",
        stub.asked()[0]
    );
}

/// A log of one container: a line, a note between, a line.
const LOG: &str = concat!(
    r#"{"stream":"stdout","time":"2026-11-20T08:00:00Z","text":"ready, Öpfel"}"#,
    "\n",
    r#"{"note":"packhouse/api was replaced; the log goes on."}"#,
    "\n",
    r#"{"stream":"stderr","time":"2026-11-20T08:00:01Z","text":"late"}"#,
    "\n"
);

#[rstest]
#[tokio::test]
async fn lines_come_whole_wherever_the_wire_cuts_them(#[values(1, 3, 7, 64, 4096)] piece: usize) {
    let stub = Stub::answering([Answer::status(200).text(LOG).in_pieces(piece)]).await;
    let mut log = client(&stub).logs("packhouse/api", &LogOptions::default()).await.unwrap();
    assert_eq!(log.next().await.unwrap().unwrap().text, "ready, Öpfel");
    let note = log.next_or_note().await.unwrap().unwrap();
    assert!(matches!(&note, LogItem::Note(text) if text.contains("was replaced")), "{note:?}");
    assert_eq!(log.next().await.unwrap().unwrap().text, "late");
    assert!(log.next().await.unwrap().is_none());
}

#[rstest]
#[case::nonsense("no JSON\n".to_owned(), "cannot be understood")]
#[case::another_record("{\"x\":1}\n".to_owned(), "cannot be understood")]
#[case::a_problem(format!("{{\"problem\":{REFUSAL}}}\n"), "is on 2 hosts")]
#[tokio::test]
async fn a_log_that_goes_wrong_says_why_after_what_was_good(#[case] rest: String, #[case] words: &str) {
    let stub = Stub::answering([Answer::status(200).text(&format!("{LOG}{rest}"))]).await;
    let mut log = client(&stub).logs("packhouse/api", &LogOptions::default()).await.unwrap();
    assert!(log.next().await.unwrap().is_some() && log.next().await.unwrap().is_some());
    let error = log.next().await.unwrap_err();
    assert!(error.to_string().contains(words), "{error}");
}

#[tokio::test]
async fn a_log_that_breaks_off_is_not_taken_for_a_whole_one() {
    let stub = Stub::answering([Answer::status(200).text(LOG).cut_after(40)]).await;
    let mut log = client(&stub).logs("packhouse/api", &LogOptions::default()).await.unwrap();
    let error = log.next().await.unwrap_err();
    assert!(matches!(error, ClientError::Broken(_)), "{error:?}");
}

#[tokio::test]
async fn merged_lines_notes_and_progress_are_distinguished() {
    let text = concat!(
        r#"{"source":"packhouse/api","stream":"stdout","time":"2026-11-20T08:00:00Z","text":"timeout","level":"error","matches":[[0,7]]}"#,
        "\n",
        r#"{"source":"coldstore/api","note":"the host is unreachable"}"#,
        "\n",
        r#"{"reached":"2026-11-20T08:00:00Z"}"#,
        "\n"
    );
    let stub = Stub::answering([Answer::status(200).text(text)]).await;
    let mut merged = client(&stub).merged_logs(&[("reference", "*/api".into())]).await.unwrap();
    let mut kinds = Vec::new();
    while let Some(item) = merged.next().await.unwrap() {
        kinds.push(match item {
            MergedItem::Line(line) => format!("{} {:?}", line.line.text, line.matches),
            MergedItem::Note(note) => note.source,
            MergedItem::Progress(_) => "progress".to_owned(),
        });
    }
    assert_eq!(kinds, ["timeout [(0, 7)]", "coldstore/api", "progress"]);
}

#[tokio::test]
async fn a_file_is_sent_with_its_size_and_fetched_from_where_it_broke_off() {
    let answers = [
        Answer::status(204),
        Answer::status(200).json(r#"{"received":6}"#),
        Answer::status(200).text("6789"),
        Answer::status(200).text("whole").cut_after(2),
    ];
    let stub = Stub::answering(answers).await;
    let client = client(&stub);
    let place = Place::File { of: "packhouse/api".into(), path: "/data/a b".into() };
    let body =
        stream::iter([Ok(bytes::Bytes::from_static(b"01234")), Ok(bytes::Bytes::from_static(b"56789"))]);
    client.put(&place, Some(10), body, &[("upload", "w1".into())]).await.unwrap();
    assert_eq!(client.received(&place, "w1").await.unwrap(), 6);
    let mut rest = client.fetch(&place, 6).await.unwrap();
    assert_eq!((rest.size, rest.next().await.unwrap().unwrap().as_ref()), (Some(4), b"6789".as_ref()));
    assert!(rest.next().await.unwrap().is_none());
    let mut broken = client.fetch(&place, 0).await.unwrap();
    let outcome = async {
        while broken.next().await?.is_some() {}
        Ok::<_, ClientError>(())
    };
    assert!(matches!(outcome.await, Err(ClientError::Broken(_))), "what was interrupted is not whole");
    let asked = stub.asked();
    assert!(asked[0].starts_with("PUT /api/v1/containers/packhouse/api/file?path=%2Fdata%2Fa+b&upload=w1 "));
    assert!(asked[0].contains("content-length: 10\r\n") && asked[0].ends_with("0123456789"), "{}", asked[0]);
    assert!(asked[1].starts_with("GET /api/v1/containers/packhouse/api/file-upload?"), "{}", asked[1]);
    assert!(asked[2].contains("&from=6 ") && !asked[3].contains("from="), "{asked:?}");
}

#[tokio::test]
async fn archives_of_images_are_taken_in_and_answers_that_are_none_are_said() {
    let stub = Stub::answering([
        Answer::status(200).json(r#"{"said":"Loaded image: localhost/tarn/row:1"}"#),
        Answer::status(200).text("loaded"),
        Answer::status(422).json(REFUSAL),
    ])
    .await;
    let client = client(&stub);
    let archive = || stream::iter([Ok(bytes::Bytes::from_static(b"tar"))]);
    assert!(client.import_images("packhouse", archive()).await.is_ok());
    let error = client.import_images("packhouse", archive()).await.unwrap_err();
    assert!(matches!(error, ClientError::Unreadable { .. }), "{error:?}");
    let error = client.import_images("packhouse", archive()).await.unwrap_err();
    assert_eq!(error.kind(), Some("ambiguous"));
}

#[tokio::test]
async fn a_live_connection_that_is_refused_says_why() {
    let stub = Stub::answering([Answer::status(401).json(REFUSAL), Answer::status(200).text("hello")]).await;
    let client = client(&stub);
    let error = client.live().await.err().unwrap();
    assert_eq!(error.kind(), Some("ambiguous"), "{error:?}");
    let error = client.live().await.err().unwrap();
    assert!(matches!(error, ClientError::Unreachable { .. }), "{error:?}");
    assert!(
        stub.asked()[0].contains("sec-websocket-version: 13")
            || stub.asked()[0].contains("Sec-WebSocket-Version: 13")
    );
}

#[tokio::test]
async fn any_request_can_be_sent_and_its_refusal_is_an_answer() {
    let stub = Stub::answering([Answer::status(418).text("short and stout")]).await;
    let method = http::Method::PATCH;
    let (status, body) = client(&stub).raw(method, "/api/v1/odd", Some(b"{}".to_vec())).await.unwrap();
    assert_eq!((status.as_u16(), body.as_slice()), (418, b"short and stout".as_slice()));
    assert!(stub.asked()[0].contains("content-type: application/json\r\n"));
}

#[tokio::test]
async fn the_same_credentials_go_to_the_service_at_another_address() {
    let (before, after) =
        (Stub::answering([]).await, Stub::answering([Answer::status(200).json("[]")]).await);
    let moved = client(&before).at(&after.url).unwrap();
    moved.hosts().await.unwrap();
    assert!(after.asked()[0].contains("authorization: Bearer gbt_secret\r\n"));
    assert!(matches!(moved.at("nowhere"), Err(ClientError::Address(_))));
}

#[test]
fn words_for_uploads_are_never_the_same() {
    let words: std::collections::BTreeSet<String> = (0..100).map(|_| upload_word().unwrap()).collect();
    assert_eq!(words.len(), 100);
    assert!(words.iter().all(|w| w.len() == 20 && w.bytes().all(|b| b.is_ascii_hexdigit())));
}
