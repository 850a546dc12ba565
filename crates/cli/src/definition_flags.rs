//! Applies flags to a container's definition: each flag overrides what was there.

use std::collections::BTreeMap;
use std::io::Read;
use std::net::IpAddr;
use std::path::Path;

use gubernum_api::Definition;
use gubernum_api::images::Translate;
use gubernum_client::Client;
use gubernum_core::definition::{
    EnvironmentEntry, MountKind, MountRule, NetworkConnection, NewFolder, PortRule, PullPolicy, compose,
    units, variables,
};

use crate::arguments_act::{DefinitionFlags, Pull};
use crate::exit::Failure;

/// The most that is read of a Compose file.
const LARGEST_FILE: u64 = 1024 * 1024;

fn wrong(flag: &str, text: &str, want: &str) -> Failure {
    Failure::Usage(format!("'{flag} {text}' cannot be read: write {want}"))
}

pub(crate) fn policy(wish: Pull) -> PullPolicy {
    match wish {
        Pull::Always => PullPolicy::Always,
        Pull::Missing => PullPolicy::Missing,
        Pull::Never => PullPolicy::Never,
    }
}

/// Splits 'name=value'.
pub(crate) fn pair(flag: &str, text: &str) -> Result<(String, String), Failure> {
    match text.split_once('=') {
        Some((name, value)) if !name.is_empty() => Ok((name.to_owned(), value.to_owned())),
        _ => Err(wrong(flag, text, "'name=value'")),
    }
}

/// Reads a Compose file, or standard input for '-', by way of the service.
pub(crate) async fn read(client: &Client, file: &str) -> Result<Definition, Failure> {
    let mut text = String::new();
    if file == "-" {
        std::io::stdin().take(LARGEST_FILE).read_to_string(&mut text)?;
    } else {
        let opened =
            std::fs::File::open(file).map_err(|e| Failure::Said(format!("{file} cannot be read: {e}")))?;
        opened.take(LARGEST_FILE).read_to_string(&mut text)?;
    }
    // Paths count from the folder that the text is in.
    let folder =
        if file == "-" { Path::new(".") } else { Path::new(file).parent().unwrap_or(Path::new(".")) };
    translated(client, text, Some(folder)).await
}

/// Turns Compose text into a definition; what has no place in one container is told on standard error.
/// Files that its 'env_file' names are read from 'folder'.
pub(crate) async fn translated(
    client: &Client,
    text: String,
    folder: Option<&Path>,
) -> Result<Definition, Failure> {
    let files = folder.map_or_else(|| Ok(BTreeMap::new()), |folder| named_files(&text, folder))?;
    let view = client.translate(&Translate { compose: Some(text), definition: None, files }, None).await?;
    for left in &view.left {
        crate::exit::note(&format!("line {}: {}", left.line, left.sentence));
    }
    Ok(view.definition)
}

fn named_files(text: &str, folder: &Path) -> Result<BTreeMap<String, String>, Failure> {
    let mut files = BTreeMap::new();
    // A text that cannot be read is refused by the service, with the place.
    for file in compose::environment_files(text).unwrap_or_default() {
        match limited(&folder.join(&file.path)) {
            Ok(text) => drop(files.insert(file.path, text)),
            Err(e) if !file.required && e.kind() == std::io::ErrorKind::NotFound => {
                files.insert(file.path, String::new());
            }
            Err(e) => {
                return Err(Failure::Said(format!("'env_file': {} cannot be read: {e}", file.path)));
            }
        }
    }
    Ok(files)
}

fn limited(path: &Path) -> std::io::Result<String> {
    let mut text = String::new();
    std::fs::File::open(path)?.take(LARGEST_FILE).read_to_string(&mut text)?;
    Ok(text)
}

/// Lays the flags over a definition.
pub(crate) fn apply(flags: &DefinitionFlags, d: &mut Definition) -> Result<(), Failure> {
    if let Some(image) = &flags.image {
        d.image.clone_from(image);
    }
    for text in &flags.unpublish {
        take_port(d, text)?;
    }
    for text in &flags.ports {
        let new = port(text)?;
        // One place on the host leads to one port: it is replaced.
        let same_place = |p: &PortRule| {
            p.host_port.is_some()
                && (&p.address, p.host_port, &p.protocol) == (&new.address, new.host_port, &new.protocol)
        };
        d.ports.retain(|p| !same_place(p) && *p != new);
        d.ports.push(new);
    }
    for target in &flags.unmount {
        let before = d.mounts.len();
        d.mounts.retain(|m| m.target != *target && m.source.as_ref() != Some(target));
        if d.mounts.len() == before {
            return Err(Failure::Usage(format!("'--unmount {target}': nothing is mounted there")));
        }
    }
    let folder = flags.create_folders.as_deref().map(new_folder).transpose()?;
    for text in &flags.mounts {
        let mount = mount(text, folder.as_ref())?;
        d.mounts.retain(|m| m.target != mount.target);
        d.mounts.push(mount);
    }
    if let Some(file) = &flags.variables_from {
        let shown = file.display();
        let text = limited(file).map_err(|e| Failure::Said(format!("{shown} cannot be read: {e}")))?;
        let read = variables::read(&text);
        if let Some(left) = read.left.iter().find(|l| !l.counts) {
            return Err(Failure::Usage(format!("{shown}, line {}: {}", left.line, left.sentence)));
        }
        for variable in read.variables {
            set(d, (variable.name, variable.value));
        }
    }
    for text in &flags.variables {
        set(d, pair("--variable", text)?);
    }
    for name in &flags.unset {
        let before = d.environment.len();
        d.environment.retain(|e| e.name != *name);
        if d.environment.len() == before {
            return Err(Failure::Usage(format!("'--unset {name}': no such variable is set")));
        }
    }
    for text in &flags.labels {
        let (name, value) = pair("--label", text)?;
        d.labels.insert(name, value);
    }
    if let Some(command) = &flags.command {
        let words = compose::words(command).ok_or_else(|| wrong("--command", command, "closed quotes"))?;
        d.command = Some(words);
    }
    if let Some(user) = &flags.user {
        d.user = Some(user.clone());
    }
    if let Some(restart) = &flags.restart {
        d.restart.policy.clone_from(restart);
    }
    if let Some(memory) = &flags.memory {
        let bytes =
            units::bytes(memory).ok_or_else(|| wrong("--memory", memory, "a size such as '512MiB'"))?;
        d.limits.memory = Some(bytes);
    }
    if flags.processors.is_some() {
        d.limits.processors = flags.processors;
    }
    for text in &flags.networks {
        let join = join(text)?;
        match d.network.networks.iter_mut().find(|n| n.name == join.name) {
            // The bare name says nothing about how it is joined.
            Some(_) if !text.contains(',') => {}
            Some(there) => *there = join,
            None => d.network.networks.push(join),
        }
    }
    if let Some(check) = &flags.check {
        let mut health = d.health.clone().unwrap_or_default();
        health.disabled = false;
        health.test = vec!["CMD-SHELL".to_owned(), check.clone()];
        d.health = Some(health);
    }
    if let Some(pull) = flags.pull {
        d.pull = policy(pull);
    }
    Ok(())
}

/// Removes ports: by the port on the host, the port inside, or both as for '--port'.
fn take_port(d: &mut Definition, text: &str) -> Result<(), Failure> {
    let before = d.ports.len();
    let whole = port(text)?;
    d.ports.retain(|p| match whole.host_port {
        Some(_) => *p != whole,
        None => {
            let number = whole.container_port;
            let by_host = before_has_host(p, number);
            !(p.protocol == whole.protocol
                && (by_host || p.host_port.is_none() && p.container_port == number))
        }
    });
    if d.ports.len() == before && whole.host_port.is_none() {
        // No port of the host has this number: the one inside is meant.
        d.ports.retain(|p| !(p.protocol == whole.protocol && p.container_port == whole.container_port));
    }
    if d.ports.len() == before {
        return Err(Failure::Usage(format!("'--unpublish {text}': no such port is published")));
    }
    Ok(())
}

fn before_has_host(p: &PortRule, number: u16) -> bool {
    p.host_port == Some(number)
}

fn join(text: &str) -> Result<NetworkConnection, Failure> {
    let want = "a network, then ',address=10.91.4.9' and ',alias=frost'";
    let mut parts = text.split(',');
    let name = parts.next().filter(|n| !n.is_empty() && !n.contains('='));
    let name = name.ok_or_else(|| wrong("--join", text, want))?.to_owned();
    let mut joined = NetworkConnection { name, ..NetworkConnection::default() };
    for part in parts {
        match part.split_once('=') {
            Some(("alias", alias)) if !alias.is_empty() => joined.aliases.push(alias.to_owned()),
            Some(("address", address)) => match address.parse() {
                Ok(IpAddr::V4(_)) => joined.address = Some(address.to_owned()),
                Ok(IpAddr::V6(_)) => joined.ipv6 = Some(address.to_owned()),
                Err(_) => return Err(wrong("--join", text, want)),
            },
            _ => return Err(wrong("--join", text, want)),
        }
    }
    Ok(joined)
}

fn set(d: &mut Definition, (name, value): (String, String)) {
    match d.environment.iter_mut().find(|e| e.name == name) {
        Some(entry) => (entry.value, entry.hidden) = (value, false),
        None => d.environment.push(EnvironmentEntry { name, value, hidden: false }),
    }
}

fn port(text: &str) -> Result<PortRule, Failure> {
    let want = "'7311=8080', '7311:8080', '127.0.0.1:7311=8080/udp' or '8080'";
    let (bare, protocol) = text.rsplit_once('/').unwrap_or((text, "tcp"));
    let number = |t: &str| t.parse::<u16>().map_err(|_| wrong("--port", text, want));
    // Compose files write a colon.
    let (outer, inner) = match bare.split_once('=').or_else(|| bare.rsplit_once(':')) {
        Some((outer, inner)) => (Some(outer), inner),
        None => (None, bare),
    };
    let (address, host_port) = match outer {
        None => (None, None),
        Some(outer) => match outer.rsplit_once(':') {
            Some((address, port)) => (Some(address.trim_matches(['[', ']']).to_owned()), Some(number(port)?)),
            None => (None, Some(number(outer)?)),
        },
    };
    Ok(PortRule {
        address,
        host_port,
        host_port_to: None,
        container_port: number(inner)?,
        protocol: protocol.to_owned(),
    })
}

fn new_folder(text: &str) -> Result<NewFolder, Failure> {
    let want = "a user's number, such as '1000' or '1000:1000'";
    let number = |t: &str| t.parse::<u32>().map_err(|_| wrong("--create-folders", text, want));
    let (user, group) = match text.split_once(':') {
        Some((user, group)) => (number(user)?, number(group)?),
        None => (number(text)?, number(text)?),
    };
    Ok(NewFolder { user, group, mode: None })
}

fn mount(text: &str, folder: Option<&NewFolder>) -> Result<MountRule, Failure> {
    let want = "'readings=/data' or '/srv/in=/in,read-only'";
    let (source, rest) = text.split_once('=').ok_or_else(|| wrong("--mount", text, want))?;
    let (target, read_only) = match rest.split_once(',') {
        None => (rest, false),
        Some((target, "read-only")) => (target, true),
        Some(_) => return Err(wrong("--mount", text, want)),
    };
    if source.is_empty() || !target.starts_with('/') {
        return Err(wrong("--mount", text, want));
    }
    let bind = source.starts_with('/');
    Ok(MountRule {
        kind: if bind { MountKind::Bind } else { MountKind::Volume },
        source: Some(source.to_owned()),
        target: target.to_owned(),
        read_only,
        make: folder.filter(|_| bind).cloned(),
        ..MountRule::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("7311=8080", None, Some(7311), 8080, "tcp")]
    #[case("127.0.0.1:7311=8080/udp", Some("127.0.0.1"), Some(7311), 8080, "udp")]
    #[case("[::1]:7311=8080", Some("::1"), Some(7311), 8080, "tcp")]
    #[case("8080", None, None, 8080, "tcp")]
    #[case("7380:8080", None, Some(7380), 8080, "tcp")]
    #[case("127.0.0.1:7380:8080/udp", Some("127.0.0.1"), Some(7380), 8080, "udp")]
    #[case("[::1]:7380:8080", Some("::1"), Some(7380), 8080, "tcp")]
    fn ports_are_read(
        #[case] text: &str,
        #[case] address: Option<&str>,
        #[case] host: Option<u16>,
        #[case] inner: u16,
        #[case] protocol: &str,
    ) {
        let p = port(text).unwrap();
        assert_eq!((p.address.as_deref(), p.host_port, p.container_port), (address, host, inner));
        assert_eq!(p.protocol, protocol);
    }

    #[rstest]
    #[case("7311:")]
    #[case("x=1")]
    #[case("99999=1")]
    fn ports_that_make_no_sense(#[case] text: &str) {
        assert!(port(text).unwrap_err().to_string().contains("7311=8080"));
    }

    #[test]
    fn networks_are_joined_with_what_is_said_of_them() {
        let mut d = Definition::for_image("x");
        let joins = |words: &[&str]| DefinitionFlags {
            networks: words.iter().map(|w| (*w).to_owned()).collect(),
            ..DefinitionFlags::default()
        };
        apply(
            &joins(&["cold-chain,address=10.91.4.9,alias=frost,alias=ice,address=fd00::9", "back"]),
            &mut d,
        )
        .unwrap();
        let cold = &d.network.networks[0];
        assert_eq!((cold.address.as_deref(), cold.ipv6.as_deref()), (Some("10.91.4.9"), Some("fd00::9")));
        assert_eq!((cold.aliases.len(), d.network.networks[1].name.as_str()), (2, "back"));
        let before = d.clone();
        apply(&joins(&["cold-chain"]), &mut d).unwrap();
        assert_eq!(d, before, "the bare name changes nothing");
        for wrong in ["", "a,b", "a,address=x", "alias=frost", "a,alias="] {
            assert!(apply(&joins(&[wrong]), &mut d).unwrap_err().to_string().contains("--join"), "{wrong}");
        }
    }

    #[test]
    fn ports_and_mounts_come_to_what_was_there_or_take_their_own_away() {
        let mut d = Definition::for_image("x");
        let words = |list: &[&str]| list.iter().map(|w| (*w).to_owned()).collect::<Vec<_>>();
        let ports = |d: &Definition| -> Vec<(Option<u16>, u16)> {
            d.ports.iter().map(|p| (p.host_port, p.container_port)).collect()
        };
        apply(
            &DefinitionFlags { ports: words(&["7311=8080", "7312=81/udp"]), ..DefinitionFlags::default() },
            &mut d,
        )
        .unwrap();
        apply(&DefinitionFlags { ports: words(&["7313:82"]), ..DefinitionFlags::default() }, &mut d).unwrap();
        assert_eq!(ports(&d), [(Some(7311), 8080), (Some(7312), 81), (Some(7313), 82)], "the others stay");
        apply(&DefinitionFlags { ports: words(&["7311=9090"]), ..DefinitionFlags::default() }, &mut d)
            .unwrap();
        assert!(ports(&d).contains(&(Some(7311), 9090)) && d.ports.len() == 3, "the same place is replaced");
        apply(
            &DefinitionFlags { unpublish: words(&["7313", "7312/udp"]), ..DefinitionFlags::default() },
            &mut d,
        )
        .unwrap();
        assert_eq!(ports(&d), [(Some(7311), 9090)]);
        apply(&DefinitionFlags { unpublish: words(&["9090"]), ..DefinitionFlags::default() }, &mut d)
            .unwrap();
        assert!(d.ports.is_empty());
        assert!(
            apply(&DefinitionFlags { unpublish: words(&["9090"]), ..DefinitionFlags::default() }, &mut d)
                .is_err()
        );
        apply(
            &DefinitionFlags {
                mounts: words(&["readings=/data", "cold=/cold"]),
                ..DefinitionFlags::default()
            },
            &mut d,
        )
        .unwrap();
        apply(&DefinitionFlags { unmount: words(&["/data"]), ..DefinitionFlags::default() }, &mut d).unwrap();
        assert_eq!(d.mounts.len(), 1);
        assert!(
            apply(&DefinitionFlags { unmount: words(&["/data"]), ..DefinitionFlags::default() }, &mut d)
                .is_err()
        );
    }

    #[test]
    fn flags_go_over_what_was_there() {
        let mut d = Definition::for_image("base/toolbox:1");
        d.environment = vec![EnvironmentEntry { name: "TZ".into(), value: "UTC".into(), hidden: true }];
        let flags = DefinitionFlags {
            variables: vec!["TZ=Europe/London".into(), "A=b=c".into()],
            mounts: vec!["/srv/in=/in,read-only".into(), "readings=/data".into()],
            create_folders: Some("1000".into()),
            memory: Some("64MiB".into()),
            command: Some("serve --name 'frost api'".into()),
            ..DefinitionFlags::default()
        };
        apply(&flags, &mut d).unwrap();
        assert_eq!((d.environment[0].value.as_str(), d.environment[0].hidden), ("Europe/London", false));
        assert_eq!(d.environment[1].value, "b=c");
        assert!(d.mounts[0].read_only && d.mounts[0].make.is_some() && d.mounts[1].make.is_none());
        assert_eq!(d.limits.memory, Some(64 << 20));
        assert_eq!(d.command.unwrap(), ["serve", "--name", "frost api"]);
        assert!(DefinitionFlags::default().is_empty() && !flags.is_empty());
        let unset = DefinitionFlags { unset: vec!["NONE".into()], ..DefinitionFlags::default() };
        assert!(apply(&unset, &mut Definition::for_image("x")).is_err());
    }
}
