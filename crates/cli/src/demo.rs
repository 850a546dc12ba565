//! `gubernum demo`: the service over simulated engines, with members and a past.

use std::io::Write;
use std::net::TcpListener;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use gubernum_client::{Client, Trust};
use gubernum_core::rights::{ADMIN, Grant, OPERATOR, Scope, VIEWER};
use gubernum_server::{Service, ServiceSettings, fresh_token, hash_password};
use gubernum_sim::{Action, ContainerSpec, Program, SimHost, crowd, demo};
use gubernum_store::Store;
use gubernum_store::credentials::{Kind, NewCredential};
use gubernum_store::hosts::HostRecord;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::arguments::{Demo, LogFormat, Simulate};
use crate::exit::{FINE, Failure};
use crate::serve::{DataDir, begin_log, open_store, until_asked};
use crate::{demo_history, demo_past, demo_stacks};

/// Sockets have short paths: the kernel takes 107 bytes.
const LONGEST_SOCKET_FOLDER: usize = 80;

/// How to get in; kept beside the data so that a second start says the same.
#[derive(Debug, Serialize, Deserialize)]
struct Entry {
    member: String,
    password: String,
    token: String,
}

pub(crate) async fn run(wish: Demo) -> Result<u8, Failure> {
    if !wish.listen.ip().is_loopback() {
        return Err(Failure::Usage(
            "the demo listens on loopback only, for example 127.0.0.1:7310".to_owned(),
        ));
    }
    begin_log(tracing::Level::ERROR, LogFormat::Text);
    let temporary = tempfile::Builder::new().prefix("gubernum-demo-").tempdir()?;
    let folder = wish.data_dir.clone().unwrap_or_else(|| temporary.path().join("data"));
    let _data = DataDir::take(&folder)?;
    let sockets = socket_folder(&folder, temporary.path())?;
    let hosts = match wish.hosts {
        Some(hosts) => crowd::start(&sockets, hosts, wish.each, wish.seed)?,
        None => demo::start(&sockets, wish.seed)?,
    };
    let store = open_store(&folder, None)?;
    let entry = enter(&folder, &store)?;
    know_hosts(&store, &hosts)?;
    if wish.hosts.is_none() {
        demo_past::write(&store).map_err(|e| Failure::Said(e.to_string()))?;
    }
    let kept = store.clone();
    let listener = TcpListener::bind(wish.listen).map_err(|e| {
        Failure::Said(format!("cannot listen on {}: {e}; choose another address with --listen", wish.listen))
    })?;
    if wish.hosts.is_none() {
        demo_history::write(&folder, &hosts, wish.history_days)?;
    }
    let registry = match wish.hosts {
        Some(_) => None,
        None => Some(demo::registry(&hosts).await?),
    };
    let places = registry.iter().map(|r| (demo::REGISTRY.to_owned(), r.base())).collect();
    let settings =
        ServiceSettings { registry_places: places, ..ServiceSettings::plain(listener, store, &folder) };
    let service = Service::start(settings).await.map_err(|e| Failure::Said(e.to_string()))?;
    // Before anybody looks, so that nobody sees half of it.
    let _kept = match wish.hosts.is_none() && !wish.without_texts {
        true => {
            let client = Client::new(&service.url(), Some(entry.token.clone()), Trust::System)?;
            Some(demo_stacks::begin(&client, &kept, &folder).await?)
        }
        false => None,
    };
    tell(&service, &entry, wish.ready_json)?;
    let weather = async {
        if wish.hosts.is_none() && !wish.calm {
            demo::weather(&hosts).await;
        }
        std::future::pending::<()>().await;
    };
    tokio::select! {
        asked = until_asked() => asked?,
        () = weather => {}
    }
    service.stop().await;
    Ok(FINE)
}

fn socket_folder(folder: &Path, temporary: &Path) -> Result<PathBuf, Failure> {
    let inside = std::path::absolute(folder)?.join("engines");
    let chosen =
        if inside.as_os_str().len() <= LONGEST_SOCKET_FOLDER { inside } else { temporary.join("engines") };
    std::fs::create_dir_all(&chosen)?;
    Ok(chosen)
}

/// What the demo's members may: one of each role, and one who sees a part of the fleet only.
fn grants_of(member: &str) -> Vec<Grant> {
    let grant = |role: &str, scope| Grant { role: role.to_owned(), scope };
    match member {
        "mara" => vec![grant(ADMIN, Scope::Fleet)],
        "jory" => vec![grant(OPERATOR, Scope::Fleet)],
        "tess" => vec![grant(VIEWER, Scope::Fleet), grant(OPERATOR, Scope::Host("coldstore".to_owned()))],
        _ => vec![grant(OPERATOR, Scope::Stack { host: None, stack: "auction".to_owned() })],
    }
}

/// Makes the demo's members and a token, once.
fn enter(folder: &Path, store: &Store) -> Result<Entry, Failure> {
    let path = folder.join("demo.json");
    if let Ok(text) = std::fs::read_to_string(&path)
        && let Ok(entry) = serde_json::from_str(&text)
    {
        return Ok(entry);
    }
    let said = |e: &dyn std::fmt::Display| Failure::Said(e.to_string());
    let (token, hash) = fresh_token().map_err(|e| said(&e))?;
    // The letters of a second secret make a password that can be typed.
    let (letters, _) = fresh_token().map_err(|e| said(&e))?;
    let password: String = letters.chars().skip(4).filter(char::is_ascii_alphanumeric).take(16).collect();
    let hashed = hash_password(&password).ok_or_else(|| said(&"the password could not be hashed"))?;
    let now = Timestamp::now();
    for member in demo_past::MEMBERS.into_iter().chain(["wim"]) {
        store.add_member(member, &hashed, &grants_of(member), now).map_err(|e| said(&e))?;
    }
    let member = demo_past::MEMBERS[0];
    if let Some(found) = store.member(member).map_err(|e| said(&e))? {
        let new = NewCredential {
            kind: Kind::Token,
            hash: &hash,
            member_id: found.id,
            name: "demo",
            address: "127.0.0.1",
            expires: None,
            bounds: None,
            networks: &[],
            provider: None,
        };
        store.add_credential(&new, now).map_err(|e| said(&e))?;
    }
    let entry = Entry { member: member.to_owned(), password, token };
    let text = serde_json::to_string(&entry).map_err(|e| said(&e))?;
    let mut file =
        std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&path)?;
    file.write_all(text.as_bytes())?;
    Ok(entry)
}

/// The sockets may lie elsewhere than last time, so the hosts are rewritten; hosts that somebody
/// added to the demo stay.
fn know_hosts(store: &Store, hosts: &[SimHost]) -> Result<(), Failure> {
    let known = store.hosts().map_err(|e| Failure::Said(e.to_string()))?;
    for host in hosts {
        let groups = known.iter().find(|h| h.name == host.name()).map(|h| h.groups.clone());
        let record = HostRecord {
            name: host.name().to_owned(),
            address: host.address(),
            tls: None,
            ports_address: None,
            groups: groups.unwrap_or_default(),
        };
        let written = store.remove_host(&record.name).and_then(|_| store.add_host(&record, Timestamp::now()));
        written.map_err(|e| Failure::Said(e.to_string()))?;
    }
    Ok(())
}

fn tell(service: &Service, entry: &Entry, json: bool) -> Result<(), Failure> {
    let mut out = std::io::stdout();
    let url = service.url();
    if json {
        let line = serde_json::json!({
            "url": url, "member": entry.member, "password": entry.password, "token": entry.token,
        });
        writeln!(out, "{line}")?;
    } else {
        writeln!(out, "The demo is at {url}\n")?;
        writeln!(out, "  member    {}\n  password  {}\n", entry.member, entry.password)?;
        writeln!(out, "For the command line and for curl:\n")?;
        writeln!(out, "  export GUBERNUM_URL={url}\n  export GUBERNUM_TOKEN={}\n", entry.token)?;
        writeln!(out, "Stop it with Ctrl-C.")?;
    }
    out.flush()?;
    Ok(())
}

/// Runs engines only, in a process of their own.
pub(crate) async fn simulate(wish: Simulate) -> Result<u8, Failure> {
    std::fs::create_dir_all(&wish.folder)?;
    let hosts = crowd::start(&wish.folder, wish.hosts, wish.each, 7)?;
    if let (true, Some(first)) = (wish.flood, hosts.first()) {
        let mut spec = ContainerSpec::new("flood", "registry.tarnvalley.example/base/flood:1");
        spec.program = Program::new(vec![Action::Flood]);
        first.run(spec);
    }
    let mut out = std::io::stdout();
    writeln!(out, "ready")?;
    out.flush()?;
    let mut churned = 0;
    let pause = std::time::Duration::from_secs_f64(1.0 / f64::from(wish.churn.max(1)));
    let mut churn = tokio::time::interval(pause);
    // One line on standard input names a host by number and makes something happen there.
    let mut lines = tokio::io::AsyncBufReadExt::lines(tokio::io::BufReader::new(tokio::io::stdin()));
    loop {
        tokio::select! {
            asked = until_asked() => {
                asked?;
                return Ok(FINE);
            }
            _ = churn.tick(), if wish.churn > 0 && !hosts.is_empty() => {
                // Another host each time, and of it another container.
                hosts[churned % hosts.len()].flip(churned / hosts.len());
                churned += 1;
            }
            line = lines.next_line() => match line? {
                Some(line) => {
                    let number: usize = line.trim().parse().unwrap_or(0);
                    if let Some(host) = hosts.get(number % hosts.len().max(1)) {
                        let id = host.run(ContainerSpec::new(&format!("made-{}", Timestamp::now().as_nanosecond()), "made:1"));
                        writeln!(out, "{id}")?;
                        out.flush()?;
                    }
                }
                None => until_asked().await?,
            }
        }
    }
}
