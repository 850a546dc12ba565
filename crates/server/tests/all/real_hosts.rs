//! Three real engines on hosts of their own: one over a socket, two over mutual TLS.

use std::time::{Duration, Instant};

use gubernum_api::requests::{NewHost, NewOperation, Request, RestartRequest, TestHost, TlsFiles};
use gubernum_api::{LinkFault, LinkState, OperationState, State};
use gubernum_client::{Client, LogOptions};
use gubernum_testbed::certs::Authority;
use gubernum_testbed::hosts::HostNet;
use gubernum_testbed::real::IMAGE;

use crate::support::{claim, start, until};

fn files(authority: &Authority) -> TlsFiles {
    let m = authority.material().unwrap();
    TlsFiles { ca: m.ca, certificate: m.certificate, key: m.key }
}

async fn state(client: &Client, host: &str, name: &str) -> Option<State> {
    let all = client.containers(&[("host", host.to_owned())]).await.unwrap();
    all.into_iter().find(|c| c.name == name).map(|c| c.state)
}

async fn link(client: &Client, host: &str) -> LinkState {
    client.hosts().await.unwrap().into_iter().find(|h| h.name == host).unwrap().state
}

/// Waits until it is seen, and says how long that took.
async fn seen(what: &str, holds: impl AsyncFn() -> bool) {
    let begun = Instant::now();
    until(what, Duration::from_secs(15), async || holds().await).await;
    println!("real hosts: {what} after {:?}", begun.elapsed());
}

#[tokio::test(flavor = "multi_thread")]
async fn three_real_engines_in_one_fleet() {
    let mut net = tokio::task::spawn_blocking(|| HostNet::new(31))
        .await
        .unwrap()
        .expect("the network tools must be there");
    for name in ["packhouse", "coldstore", "orchard-edge"] {
        net.add(name).unwrap_or_else(|e| panic!("dockerd must be there for this test: {e}"));
    }
    let folder = tempfile::tempdir().unwrap();
    let service = start(folder.path(), None, Default::default()).await;
    let client = claim(&service).await;
    let hosts = net.hosts();
    let tls = files(net.authority());
    let over_socket = NewHost {
        name: "packhouse".into(),
        address: hosts[0].socket_address(),
        tls: None,
        ports_address: None,
        groups: Vec::new(),
    };
    client.add_host(&over_socket).await.unwrap();
    for host in &hosts[1..] {
        let wish = NewHost {
            name: host.name.clone(),
            address: host.tcp_address(),
            tls: Some(tls.clone()),
            ports_address: None,
            groups: Vec::new(),
        };
        client.add_host(&wish).await.unwrap();
    }
    until("all live", Duration::from_secs(15), async || {
        client.hosts().await.unwrap().iter().all(|h| h.state == LinkState::Live)
    })
    .await;
    println!(
        "real hosts: {:?}",
        client
            .hosts()
            .await
            .unwrap()
            .iter()
            .map(|h| (&h.name, &h.link, &h.engine.as_ref().unwrap().version))
            .collect::<Vec<_>>()
    );

    // Made with the engines' own tools, seen in one list.
    for host in hosts {
        let script = "echo ready; while true; do date; sleep 1; done";
        host.tool(&["run", "--detach", "--name", "frost-api", IMAGE, "sh", "-c", script]).unwrap();
        seen(&format!("started on {}", host.name), async || {
            state(&client, &host.name, "frost-api").await == Some(State::Running)
        })
        .await;
    }
    let names: Vec<_> =
        client.containers(&[]).await.unwrap().iter().map(gubernum_api::Container::reference).collect();
    assert_eq!(names, ["coldstore/frost-api", "orchard-edge/frost-api", "packhouse/frost-api"]);
    for host in hosts {
        host.tool(&["rename", "frost-api", "frost"]).unwrap();
        seen(&format!("renamed on {}", host.name), async || {
            state(&client, &host.name, "frost").await.is_some()
        })
        .await;
        host.tool(&["kill", "frost"]).unwrap();
        seen(&format!("killed on {}", host.name), async || {
            state(&client, &host.name, "frost").await == Some(State::Exited)
        })
        .await;
        host.tool(&["start", "frost"]).unwrap();
        seen(&format!("started again on {}", host.name), async || {
            state(&client, &host.name, "frost").await == Some(State::Running)
        })
        .await;
    }

    // Logs and changes through TLS.
    let options =
        LogOptions { tail: Some(1), follow: true, stdout: true, stderr: true, ..LogOptions::default() };
    let mut lines = client.logs("coldstore/frost", &options).await.unwrap();
    assert!(lines.next().await.unwrap().unwrap().time.is_some());
    drop(lines);
    let wish = NewOperation::new(
        Request::Restart(RestartRequest { grace_seconds: Some(1), ..RestartRequest::default() }),
        vec!["*/frost".into()],
    );
    let operation = client.submit(&wish, None).await.unwrap();
    until("restarted", Duration::from_secs(20), async || {
        client.operation(operation.id).await.unwrap().state != OperationState::Running
    })
    .await;
    assert_eq!(client.operation(operation.id).await.unwrap().state, OperationState::Succeeded);

    // One link is cut without a word: the host turns stale, the others go on, and it comes back right.
    hosts[1].set_link(false).unwrap();
    until("coldstore is stale", Duration::from_secs(60), async || {
        link(&client, "coldstore").await == LinkState::Stale
    })
    .await;
    hosts[2].tool(&["stop", "--time", "1", "frost"]).unwrap();
    seen("the others go on", async || state(&client, "orchard-edge", "frost").await == Some(State::Exited))
        .await;
    hosts[1].tool(&["rm", "--force", "frost"]).unwrap();
    assert_eq!(state(&client, "coldstore", "frost").await, Some(State::Running), "as it was last seen");
    hosts[1].set_link(true).unwrap();
    until("coldstore is live", Duration::from_secs(60), async || {
        link(&client, "coldstore").await == LinkState::Live
    })
    .await;
    assert_eq!(state(&client, "coldstore", "frost").await, None, "and right again");

    faults_are_distinguished(&client, &net).await;
    service.stop().await;
    tokio::task::spawn_blocking(move || drop(net)).await.unwrap();
}

async fn faults_are_distinguished(client: &Client, net: &HostNet) {
    let host = &net.hosts()[1];
    let good = files(net.authority());
    let stranger = Authority::new().unwrap();
    let code = async |address: String, tls: TlsFiles| {
        let wish = TestHost { name: None, address: Some(address), tls: Some(tls) };
        let asked = async || {
            let test = client.test_host(&wish).await.unwrap();
            test.problem.unwrap_or_else(|| panic!("it went well: {:?}", test.engine))
        };
        let mut problem = asked().await;
        if problem.code == LinkFault::TimedOut {
            // A machine that was busy for this long says nothing about the link.
            problem = asked().await;
        }
        println!("real hosts: {:?}: {} {}", problem.code, problem.sentence, problem.advice);
        problem.code
    };
    // Another authority than the one that signed the engine's certificate.
    let distrusting = TlsFiles { ca: stranger.certificate().to_owned(), ..good.clone() };
    assert_eq!(code(host.tcp_address(), distrusting).await, LinkFault::TlsNotTrusted);
    // Our certificate is signed by somebody whom the engine does not know.
    let unknown = TlsFiles { ca: good.ca.clone(), ..files(&stranger) };
    assert_eq!(code(host.tcp_address(), unknown).await, LinkFault::TlsFailed);
    assert_eq!(code(format!("tcp://{}:9", host.address), good.clone()).await, LinkFault::Refused);
    assert_eq!(
        code("tcp://nowhere.tarnvalley.example:2376".into(), good.clone()).await,
        LinkFault::NameNotFound
    );
    assert_eq!(code(expired_server(net.authority()).await, good.clone()).await, LinkFault::TlsExpired);
    // Something that takes connections and never says a word.
    let silent = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("tcp://{}", silent.local_addr().unwrap());
    assert_eq!(code(address, good).await, LinkFault::TimedOut);
}

/// A TLS port whose certificate is out of its time.
async fn expired_server(authority: &Authority) -> String {
    use rustls::pki_types::pem::PemObject;
    use rustls::pki_types::{CertificateDer, PrivateKeyDer};
    let signed = authority.server("127.0.0.1".parse().unwrap(), true).unwrap();
    let chain = vec![CertificateDer::from_pem_slice(signed.certificate.as_bytes()).unwrap()];
    let key = PrivateKeyDer::from_pem_slice(signed.key.as_bytes()).unwrap();
    let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(chain, key)
        .unwrap();
    let acceptor = tokio_rustls::TlsAcceptor::from(std::sync::Arc::new(config));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("tcp://{}", listener.local_addr().unwrap());
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let _ = acceptor.accept(stream).await;
        }
    });
    address
}
