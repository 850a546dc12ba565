//! `GET /metrics`: what it tells is right, who may read it, and both formats as other programs read them.

use std::io::Write as _;
use std::net::IpAddr;
use std::process::{Command, Stdio};

use gubernum_api::requests::{NewOperation, NewToken, Request, StopRequest};
use gubernum_sim::Fault;
use reqwest::Method;

use crate::support::{Bench, claim, start_with};

/// What is answered, as text.
async fn read(bench: &Bench) -> String {
    let (status, text) = bench.client.raw(Method::GET, "/metrics", None).await.unwrap();
    assert_eq!(status, 200);
    String::from_utf8(text).unwrap()
}

/// The value of a line.
fn value(text: &str, line: &str) -> Option<f64> {
    text.lines().find_map(|l| l.strip_prefix(line)?.strip_prefix(' ')?.parse().ok())
}

/// What `promtool check metrics` says; nothing when it is clean.
pub(crate) fn checked(text: &str) -> Result<(), String> {
    let mut tool = Command::new("promtool")
        .args(["check", "metrics"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(|e| e.to_string())?;
    tool.stdin.take().unwrap().write_all(text.as_bytes()).map_err(|e| e.to_string())?;
    let out = tool.wait_with_output().map_err(|e| e.to_string())?;
    let said = [out.stdout, out.stderr].concat();
    let said = String::from_utf8_lossy(&said).into_owned();
    if out.status.success() && said.trim().is_empty() { Ok(()) } else { Err(said) }
}

#[tokio::test]
async fn figures_are_those_of_the_fleet_and_promtool_finds_nothing() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    bench.hosts[0].run(gubernum_sim::ContainerSpec::new("a \"quoted\" one", "base/toolbox:1"));
    let stop = NewOperation::new(Request::Stop(StopRequest::default()), vec!["packhouse/worker".to_owned()]);
    bench.client.submit(&stop, None).await.unwrap();
    bench
        .until("stopped", async |b| {
            let text = read(b).await;
            value(&text, r#"gubernum_containers{host="packhouse",state="exited"}"#) == Some(1.0)
                && value(&text, r#"gubernum_operations_total{kind="stop",outcome="succeeded"}"#) == Some(1.0)
        })
        .await;
    let text = read(&bench).await;
    checked(&text).unwrap();
    for (line, expected) in [
        ("gubernum_hosts", 2.0),
        (r#"gubernum_containers{host="coldstore",state="running"}"#, 3.0),
        (r#"gubernum_containers{host="coldstore",state="exited"}"#, 0.0),
        (r#"gubernum_link_up{host="coldstore",link="socket"}"#, 1.0),
    ] {
        assert_eq!(value(&text, line), Some(expected), "{line} in\n{text}");
    }
    assert!(value(&text, "process_resident_memory_bytes").unwrap() > 1e6);
    assert!(value(&text, "process_cpu_seconds_total").is_some());
    // A host that is gone is reported as one.
    bench.hosts[1].set_fault(Fault::Refusing).unwrap();
    bench
        .until("its link is down", async |b| {
            value(&read(b).await, r#"gubernum_link_up{host="coldstore",link="socket"}"#) == Some(0.0)
        })
        .await;
    bench.pass(600);
    let lag = value(&read(&bench).await, r#"gubernum_link_lag_seconds{host="coldstore"}"#).unwrap();
    assert!(lag >= 600.0, "{lag}");
}

#[tokio::test]
async fn openmetrics_is_answered_to_those_who_ask_for_it() {
    let bench = Bench::with(&["packhouse"]).await;
    let made = bench
        .client
        .make_token(&NewToken {
            name: "monitoring".into(),
            expires_in_days: None,
            bounds: None,
            networks: Vec::new(),
        })
        .await;
    let answer = reqwest::Client::new()
        .get(format!("{}/metrics", bench.service.url()))
        .bearer_auth(made.unwrap().secret)
        .header("accept", "application/openmetrics-text;version=1.0.0,text/plain;version=0.0.4;q=0.5")
        .send()
        .await
        .unwrap();
    let kind = answer.headers()["content-type"].to_str().unwrap().to_owned();
    assert!(kind.starts_with("application/openmetrics-text; version=1.0.0"), "{kind}");
    let text = answer.text().await.unwrap();
    assert!(text.ends_with("# EOF\n") && text.contains("# TYPE gubernum_samples counter\n"), "{text}");
}

#[tokio::test]
async fn it_needs_a_token_or_an_address_that_the_settings_name() {
    let folder = tempfile::tempdir().unwrap();
    let service = start_with(folder.path(), |_| {}).await;
    claim(&service).await;
    let status = async |url: String| reqwest::get(format!("{url}/metrics")).await.unwrap().status().as_u16();
    assert_eq!(status(service.url()).await, 401);
    service.stop().await;
    for (named, expected) in [("127.0.0.0/8", 200), ("192.0.2.0/24", 401)] {
        let folder = tempfile::tempdir().unwrap();
        let service = start_with(folder.path(), |s| s.metrics_from = vec![named.parse().unwrap()]).await;
        assert_eq!(status(service.url()).await, expected, "{named}");
        // A header that no proxy of ours wrote opens nothing.
        let forged: IpAddr = "192.0.2.7".parse().unwrap();
        let answer = reqwest::Client::new()
            .get(format!("{}/metrics", service.url()))
            .header("x-forwarded-for", forged.to_string())
            .send()
            .await
            .unwrap();
        assert_eq!(answer.status().as_u16(), expected, "{named}, forged");
        service.stop().await;
    }
}

#[tokio::test]
async fn limits_that_are_reached_are_reported() {
    let bench = Bench::with(&[]).await;
    let _live = bench.client.live().await.unwrap();
    let _ = bench.client.raw(Method::GET, "/api/v1/hosts/nowhere", None).await;
    let stranger =
        gubernum_client::Client::new(&bench.service.url(), None, gubernum_client::Trust::System).unwrap();
    for _ in 0..3 {
        assert!(stranger.hosts().await.is_err());
    }
    let text = read(&bench).await;
    checked(&text).unwrap();
    assert_eq!(value(&text, r#"gubernum_refusals_total{kind="not-signed-in"}"#), Some(3.0), "{text}");
    assert_eq!(value(&text, r#"gubernum_open{what="connections"}"#), Some(1.0));
    assert_eq!(value(&text, r#"gubernum_open_limit{what="connections"}"#), Some(500.0));
    assert_eq!(value(&text, "gubernum_waiting_operations"), Some(0.0));
}
