//! The audit log sent by syslog, and a fresh key under a service that runs.

use std::net::Ipv4Addr;
use std::sync::Arc;

use gubernum_api::Problem;
use gubernum_api::records::{SyslogSettings, SyslogTransport};
use gubernum_client::ClientError;
use gubernum_testbed::certs::Authority;
use parking_lot::Mutex;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};
use tokio::io::{AsyncRead, AsyncReadExt};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

use crate::support::Bench;

/// What a collector has taken, message by message.
type Taken = Arc<Mutex<Vec<String>>>;

async fn take(mut from: impl AsyncRead + Unpin, taken: Taken) {
    loop {
        let mut length = 0usize;
        loop {
            match from.read_u8().await {
                Ok(digit @ b'0'..=b'9') => length = length * 10 + usize::from(digit - b'0'),
                Ok(b' ') => break,
                _ => return,
            }
        }
        let mut message = vec![0; length];
        if from.read_exact(&mut message).await.is_err() {
            return;
        }
        taken.lock().push(String::from_utf8(message).unwrap());
    }
}

async fn collector(listener: TcpListener, tls: Option<TlsAcceptor>, taken: Taken) {
    while let Ok((stream, _)) = listener.accept().await {
        match &tls {
            Some(tls) => {
                if let Ok(stream) = tls.accept(stream).await {
                    take(stream, taken.clone()).await;
                }
            }
            None => take(stream, taken.clone()).await,
        }
    }
}

async fn listening() -> (TcpListener, u16) {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
    let port = listener.local_addr().unwrap().port();
    (listener, port)
}

fn tcp(port: u16) -> SyslogSettings {
    let transport = SyslogTransport::Tcp;
    SyslogSettings { host: "127.0.0.1".into(), port: Some(port), transport, ca: None }
}

fn begin(listener: TcpListener, tls: Option<TlsAcceptor>) -> (Taken, JoinHandle<()>) {
    let taken = Taken::default();
    (taken.clone(), tokio::spawn(collector(listener, tls, taken)))
}

fn field<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Option<String> {
    match result {
        Err(ClientError::Problem(problem)) => {
            let Problem { field, .. } = *problem;
            field
        }
        other => panic!("a problem was expected: {other:?}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_entry_is_sent_in_order_over_breaks_and_restarts() {
    let bench = Bench::with(&["packhouse"]).await;
    let (listener, port) = listening().await;
    let (taken, task) = begin(listener, None);
    bench.client.set_syslog(&tcp(port)).await.unwrap();
    bench
        .until("that it is sent is sent", async |_| taken.lock().iter().any(|m| m.contains("set-syslog")))
        .await;
    assert!(!taken.lock().iter().any(|m| m.contains("add-host")), "what was before stays here");
    assert!(taken.lock()[0].starts_with("<109>1 "), "{:?}", taken.lock());
    task.abort();
    let _ = task.await;
    // Nobody takes it: it waits, and everything goes on.
    bench.member("tess", &["viewer@fleet"]).await;
    bench.until("why is told", async |b| b.client.syslog().await.unwrap().failed.is_some()).await;
    let bench = bench.end_and_start().await;
    bench.member("wim", &["viewer@fleet"]).await;
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, port)).await.unwrap();
    let (later, _task) = begin(listener, None);
    bench
        .until("all of it has come", async |b| {
            let state = b.client.syslog().await.unwrap();
            state.waiting == 0 && state.failed.is_none() && later.lock().iter().any(|m| m.contains("wim"))
        })
        .await;
    let id = |message: &String| -> u64 {
        message.split("id=\"").nth(1).unwrap().split('"').next().unwrap().parse().unwrap()
    };
    let mut all: Vec<u64> = taken.lock().iter().chain(later.lock().iter()).map(id).collect();
    all.dedup();
    let newest = bench.client.audit().await.unwrap()[0].id;
    let expected: Vec<u64> = (all[0]..=newest).collect();
    all.sort_unstable();
    all.dedup();
    assert_eq!(all, expected, "none is missing");
    bench.client.remove_syslog().await.unwrap();
    assert!(bench.client.syslog().await.unwrap().settings.is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn over_tls_the_collector_has_to_be_known() {
    let bench = Bench::with(&["packhouse"]).await;
    let authority = Authority::new().unwrap();
    let signed = authority.server(Ipv4Addr::LOCALHOST.into(), false).unwrap();
    let chain =
        CertificateDer::pem_slice_iter(signed.certificate.as_bytes()).collect::<Result<_, _>>().unwrap();
    let key = PrivateKeyDer::from_pem_slice(signed.key.as_bytes()).unwrap();
    let config = rustls::ServerConfig::builder().with_no_client_auth().with_single_cert(chain, key).unwrap();
    let (listener, port) = listening().await;
    let (taken, _task) = begin(listener, Some(TlsAcceptor::from(Arc::new(config))));
    let wish = |ca: &str| SyslogSettings {
        host: "127.0.0.1".into(),
        port: Some(port),
        transport: SyslogTransport::Tls,
        ca: Some(ca.to_owned()),
    };
    bench.client.set_syslog(&wish(Authority::new().unwrap().certificate())).await.unwrap();
    bench.until("another's is refused", async |b| b.client.syslog().await.unwrap().failed.is_some()).await;
    assert!(taken.lock().is_empty());
    bench.client.set_syslog(&wish(authority.certificate())).await.unwrap();
    bench.until("it is sent", async |_| taken.lock().iter().any(|m| m.contains("set-syslog"))).await;
}

#[tokio::test]
async fn settings_with_which_nothing_could_be_sent_are_refused() {
    let bench = Bench::with(&["packhouse"]).await;
    let tls = |ca: Option<&str>| SyslogSettings {
        host: "logs.tarnvalley.example".into(),
        port: None,
        transport: SyslogTransport::Tls,
        ca: ca.map(str::to_owned),
    };
    assert_eq!(field(bench.client.set_syslog(&tls(None)).await).as_deref(), Some("/ca"));
    assert_eq!(field(bench.client.set_syslog(&tls(Some("not PEM"))).await).as_deref(), Some("/ca"));
    for host in ["", "a b", "http://logs"] {
        let wish = SyslogSettings { host: host.into(), ..tcp(1) };
        assert_eq!(field(bench.client.set_syslog(&wish).await).as_deref(), Some("/host"), "{host}");
    }
    assert!(bench.client.syslog().await.unwrap().settings.is_none());
}

#[tokio::test]
async fn a_fresh_key_under_a_service_that_runs_ends_nothing() {
    let bench = Bench::with(&["packhouse"]).await;
    let before = std::fs::read(bench.folder.path().join("seal.key")).unwrap();
    let rotated = bench.client.rotate_seal().await.unwrap();
    assert!(std::fs::read(bench.folder.path().join("seal.key")).unwrap() != before);
    bench.client.members().await.expect("tokens and sessions hold");
    let told = bench.client.audit().await.unwrap();
    let told = told.iter().find(|e| e.action == "rotate-seal").unwrap();
    assert_eq!(told.outcome, format!("{} secrets sealed with the new key", rotated.sealed));
    let bench = bench.end_and_start().await;
    bench.until("its hosts are there again", async |b| b.all().await.len() == 3).await;
    assert!(bench.client.rotate_seal().await.is_ok());
}
