//! Hosts.

use std::io::{BufRead, IsTerminal, Read, Write};

use gubernum_api::requests::{NewHost, SetHost, TestHost, TlsFiles};
use gubernum_api::views::HostTest;
use gubernum_api::{Host, LinkState};
use gubernum_client::Client;

use crate::arguments::{Material, Output};
use crate::exit::{ALL_FAILED, FINE, Failure};
use crate::table::{age, say, say_json, table};

pub(super) async fn list(client: &Client, output: Output) -> Result<u8, Failure> {
    let hosts = client.hosts().await?;
    if output == Output::Json {
        say_json(&hosts)?;
    } else if hosts.is_empty() {
        say("No hosts. 'gubernum add host' connects one.")?;
    } else {
        say(&table(&["HOST", "LINK", "STATE", "ENGINE", "ADDRESS"], hosts.iter().map(row).collect()))?;
    }
    Ok(FINE)
}

fn row(host: &Host) -> Vec<String> {
    let state = match (host.state, host.last_seen, &host.problem) {
        (LinkState::Live, ..) => "live".to_owned(),
        (LinkState::Connecting, ..) => "connecting".to_owned(),
        (LinkState::Stale, seen, problem) => {
            let seen = seen.map_or_else(|| "never seen".to_owned(), |t| format!("seen {} ago", age(t)));
            let why = problem.as_ref().map(|p| p.sentence.as_str()).unwrap_or_default();
            format!("unreachable, {seen}: {why}")
        }
    };
    let engine = host.engine.as_ref().map(|e| format!("{} {}", e.kind, e.version)).unwrap_or_default();
    vec![host.name.clone(), host.link.clone(), state, engine, host.address.clone()]
}

pub(super) async fn set(
    client: &Client,
    name: &str,
    ports_address: Option<String>,
    groups: Vec<String>,
    output: Output,
) -> Result<u8, Failure> {
    let ports_address = match ports_address {
        Some(address) => Some(address),
        // What is not said stays as it is.
        None => client.hosts().await?.into_iter().find(|h| h.name == name).and_then(|h| h.ports_address),
    };
    let given = (!groups.is_empty()).then_some(groups);
    let groups = given.map(|all| all.into_iter().filter(|group| !group.is_empty()).collect());
    let host = client.set_host(name, &SetHost { ports_address, groups }).await?;
    if output == Output::Json {
        say_json(&host)?;
    } else {
        let address = host.ports_address.as_deref().unwrap_or("not set");
        let groups = if host.groups.is_empty() { "none".to_owned() } else { host.groups.join(", ") };
        say(&format!("{}: address for published ports {address}, groups {groups}", host.name))?;
    }
    Ok(FINE)
}

fn files(material: &Material) -> Result<Option<TlsFiles>, Failure> {
    let read = |path: &std::path::Path| {
        std::fs::read_to_string(path)
            .map_err(|e| Failure::Said(format!("{} cannot be read: {e}", path.display())))
    };
    match (&material.ca, &material.certificate, &material.key) {
        (None, None, None) => Ok(None),
        (Some(ca), Some(certificate), Some(key)) => {
            Ok(Some(TlsFiles { ca: read(ca)?, certificate: read(certificate)?, key: read(key)? }))
        }
        _ => Err(Failure::Usage("mutual TLS needs all three: --ca, --certificate and --key".to_owned())),
    }
}

pub(super) async fn add(
    client: &Client,
    name: String,
    address: String,
    untested: bool,
    material: &Material,
    output: Output,
) -> Result<u8, Failure> {
    let tls = files(material)?;
    if !untested {
        let wish = TestHost { name: None, address: Some(address.clone()), tls: tls.clone() };
        let test = client.test_host(&wish).await?;
        if !test.ok && !wanted_all_the_same(&name, &test)? {
            return Ok(ALL_FAILED);
        }
    }
    let host =
        client.add_host(&NewHost { name, address, tls, ports_address: None, groups: Vec::new() }).await?;
    if output == Output::Json {
        say_json(&host)?;
    } else {
        let name = &host.name;
        if untested {
            say(&format!("Added {name}, untested. Test its link with 'gubernum test host {name}'."))?;
        } else {
            say(&format!("Added {name}."))?;
        }
    }
    Ok(FINE)
}

/// Asks whether a host that cannot be reached is to be added; without a terminal it is not.
fn wanted_all_the_same(name: &str, test: &HostTest) -> Result<bool, Failure> {
    let mut out = std::io::stderr();
    writeln!(out, "{}", words(test))?;
    if !std::io::stdin().is_terminal() {
        writeln!(out, "{name} was not added. Add it anyway with --untested.")?;
        return Ok(false);
    }
    write!(out, "Add {name} anyway? [y/N] ")?;
    out.flush()?;
    let mut answer = String::new();
    std::io::stdin().lock().take(100).read_line(&mut answer)?;
    Ok(matches!(answer.trim(), "y" | "Y" | "yes"))
}

pub(super) async fn test(
    client: &Client,
    host: String,
    address: Option<String>,
    material: &Material,
    output: Output,
) -> Result<u8, Failure> {
    let tls = files(material)?;
    let wish = if let Some(address) = address {
        TestHost { name: None, address: Some(address), tls }
    } else if host.contains("://") {
        TestHost { name: None, address: Some(host), tls }
    } else {
        TestHost { name: Some(host), address: None, tls }
    };
    let test = client.test_host(&wish).await?;
    if output == Output::Json {
        say_json(&test)?;
    } else {
        say(&words(&test))?;
    }
    Ok(if test.ok { FINE } else { ALL_FAILED })
}

fn words(test: &HostTest) -> String {
    match (&test.engine, &test.problem) {
        (Some(e), _) => format!(
            "Connected: {} {} answers on {}, API {}, {}/{}.",
            e.kind, e.version, e.machine, e.api_version, e.os, e.architecture
        ),
        (None, Some(p)) => format!("{}\n{}", p.sentence, p.advice),
        (None, None) => "No answer.".to_owned(),
    }
}

pub(super) async fn remove(client: &Client, name: &str) -> Result<u8, Failure> {
    client.remove_host(name).await?;
    say(&format!("{name} is no longer in the fleet; the host itself was not changed."))?;
    Ok(FINE)
}
