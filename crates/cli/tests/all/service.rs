//! `gubernum serve` from outside.

use std::process::Command;

use gubernum_client::{Client, Trust};
use gubernum_testbed::started::Started;

use crate::support::{binary, err};

fn serve(folder: &std::path::Path, more: &[&str]) -> Started {
    Started::serve(binary(), folder, &[&["--find-local-engine", "false"], more].concat()).unwrap()
}

#[tokio::test]
async fn it_says_when_it_is_ready_and_stops_when_asked() {
    let folder = tempfile::tempdir().unwrap();
    let mut service = serve(folder.path(), &[]);
    assert!(service.url().starts_with("http://127.0.0.1:"));
    let code = service.text("claim_code").to_owned();
    assert_eq!(code.len(), 24);
    for path in ["/healthz", "/readyz"] {
        assert!(reqwest::get(format!("{}{path}", service.url())).await.unwrap().status().is_success());
    }
    // A second one on the same folder is refused, and harms nothing.
    let second = Command::new(binary())
        .args(["serve", "--listen", "127.0.0.1:0", "--data-dir"])
        .arg(folder.path())
        .output()
        .unwrap();
    assert_eq!(second.status.code(), Some(1));
    assert!(err(&second).contains("another Gubernum is running on it"), "{}", err(&second));
    service.end();
    assert!(service.log_end().contains("shutting down"), "{}", service.log_end());
    // Unclaimed, it has another code at the next start.
    let service = serve(folder.path(), &[]);
    assert_ne!(service.text("claim_code"), code);
}

#[tokio::test]
async fn beyond_loopback_it_speaks_tls_with_a_printed_fingerprint() {
    let folder = tempfile::tempdir().unwrap();
    let service = serve(folder.path(), &["--listen", "0.0.0.0:0"]);
    let fingerprint = service.text("fingerprint").to_owned();
    assert_eq!(fingerprint.len(), 64);
    let url = service.url().replace("0.0.0.0", "127.0.0.1");
    assert!(url.starts_with("https://"));
    let trusting = Client::new(&url, None, Trust::Fingerprint(fingerprint.clone())).unwrap();
    assert!(trusting.service().await.unwrap().unclaimed);
    let wary = Client::new(&url, None, Trust::System).unwrap();
    assert!(wary.service().await.is_err());
    let wrong = Client::new(&url, None, Trust::Fingerprint("ab".repeat(32))).unwrap();
    assert!(wrong.service().await.unwrap_err().to_string().contains("another certificate"));
    drop(service);
    let again = serve(folder.path(), &["--listen", "0.0.0.0:0"]);
    assert_eq!(again.text("fingerprint"), fingerprint, "the certificate is kept");
    drop(again);
    let proxied = serve(folder.path(), &["--listen", "0.0.0.0:0", "--behind-proxy"]);
    assert!(proxied.url().starts_with("http://"), "only by explicit word");
}

#[test]
fn databases_of_others_are_refused_with_a_sentence_and_left_untouched() {
    let folder = tempfile::tempdir().unwrap();
    let database = folder.path().join("gubernum.db");
    let before = b"not a database at all".to_vec();
    std::fs::write(&database, &before).unwrap();
    let output = Command::new(binary())
        .args(["serve", "--listen", "127.0.0.1:0", "--data-dir"])
        .arg(folder.path())
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert!(err(&output).contains("left untouched"), "{}", err(&output));
    assert_eq!(std::fs::read(&database).unwrap(), before);
}

#[test]
fn the_log_is_structured_when_asked() {
    let folder = tempfile::tempdir().unwrap();
    let mut service = serve(folder.path(), &["--log-format", "json"]);
    service.end();
    let log = service.log_end();
    let line = log.lines().find(|l| l.contains("\"level\"")).unwrap_or_else(|| panic!("{log}"));
    let value: serde_json::Value = serde_json::from_str(line).unwrap();
    assert!(value["timestamp"].is_string() && value["fields"]["message"].is_string());
}
