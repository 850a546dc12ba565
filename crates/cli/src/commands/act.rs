//! Commands that create and change objects: containers from a definition, images, volumes, networks, registries,
//! tidying.

use std::collections::BTreeMap;
use std::io::{IsTerminal, Read, Write};

use gubernum_api::images::NewRegistry as SetRegistry;
use gubernum_api::requests::{
    ConnectRequest, CreateNetworkRequest, CreateVolumeRequest, DeployRequest, DisconnectRequest, EditRequest,
    NewOperation, PullRequest, PushRequest, Request, RollbackRequest, TagRequest, TidyRequest, UpdateRequest,
};
use gubernum_api::{Definition, Suggestion};
use gubernum_client::Client;
use gubernum_core::definition::{NetworkConnection, compose};
use gubernum_core::plan::{NetworkSettings, Rolling, VolumeSettings};

use crate::arguments::{Output, Targets};
use crate::arguments_act::{
    DefinitionFlags, Deploy, Edit, Join, Leave, NewNetwork, NewRegistry, NewVolume, OnHosts, PullImage,
    RemoveObjects, Rollback, Rolled, Tidy, Update,
};
use crate::arguments_stacks::MoveArguments;
use crate::commands::change;
use crate::definition_flags;
use crate::exit::{FINE, Failure};
use crate::table::{age, say, say_json, table};

/// The references that targets mean, with those of a stack or a label.
pub(crate) async fn references(client: &Client, targets: &Targets) -> Result<Vec<String>, Failure> {
    let mut all = targets.references.clone();
    if targets.stack.is_some() || targets.label.is_some() {
        let label = targets.label.as_deref().map(|l| l.split_once('=').unwrap_or((l, "")));
        let stack = targets.stack.iter().map(|s| ("stack", s.clone())).collect::<Vec<_>>();
        let found = client.containers(&stack).await?;
        let has = |labels: &BTreeMap<String, String>| match label {
            None => true,
            Some((name, "")) => labels.contains_key(name),
            Some((name, value)) => labels.get(name).is_some_and(|v| v == value),
        };
        let before = all.len();
        all.extend(found.iter().filter(|c| has(&c.labels)).map(|c| c.reference()));
        if all.len() == before {
            return Err(Failure::Said("no container has this stack or label".to_owned()));
        }
    }
    Ok(all)
}

pub(crate) fn rolling(rolled: &Rolled) -> Option<Rolling> {
    rolled.rolling.map(|at_once| Rolling { at_once, keep_going: rolled.keep_going })
}

async fn definition(
    client: &Client,
    flags: &DefinitionFlags,
    base: Definition,
) -> Result<Definition, Failure> {
    let mut d = match &flags.file {
        Some(file) => definition_flags::read(client, file).await?,
        None => base,
    };
    definition_flags::apply(flags, &mut d)?;
    Ok(d)
}

pub(super) async fn deploy(client: &Client, wish: Deploy, output: Output) -> Result<u8, Failure> {
    if !wish.stack.to.is_empty() {
        return super::stacks::deploy(client, wish, output).await;
    }
    let d = definition(client, &wish.flags, Definition::default()).await?;
    if d.image.is_empty() {
        return Err(Failure::Usage("no image: give '--image', or a Compose file with '--file'".to_owned()));
    }
    let asked = NewOperation::new(
        Request::Deploy(DeployRequest {
            definition: Box::new(d),
            watch_seconds: wish.watch,
            ..DeployRequest::default()
        }),
        wish.targets,
    );
    change::run(client, asked, &wish.manner, output).await
}

pub(super) async fn edit(client: &Client, wish: Edit, output: Output) -> Result<u8, Failure> {
    let base = client.definition(&wish.container).await?;
    let mut d = if wish.flags.is_empty() && wish.name.is_none() {
        let text = in_editor(&base.compose)?;
        definition_flags::translated(client, text, None).await?
    } else {
        definition(client, &wish.flags, base.definition.clone()).await?
    };
    if let Some(name) = wish.name {
        d.name = name;
    } else if d.name.is_empty() {
        d.name.clone_from(&base.definition.name);
    }
    hide_again(&mut d, &base.definition);
    if output != Output::Json && !wish.manner.preview {
        for change in gubernum_core::definition::difference::difference(&base.definition, &d) {
            crate::exit::note(&format!("change: {}", change.words()));
        }
    }
    let asked = NewOperation::new(
        Request::Edit(EditRequest {
            definition: Box::new(d),
            watch_seconds: wish.watched.watch,
            grace_seconds: wish.watched.grace,
            ..EditRequest::default()
        }),
        vec![wish.container],
    );
    change::run(client, asked, &wish.manner, output).await
}

/// A text has no way to say that a value is hidden: one that came back as its mask means what it was.
fn hide_again(d: &mut Definition, before: &Definition) {
    for entry in &mut d.environment {
        let was_hidden =
            before.environment.iter().any(|b| b.name == entry.name && b.hidden && b.value == entry.value);
        entry.hidden |= was_hidden;
    }
}

/// Opens a text in the editor that the environment names.
fn in_editor(text: &str) -> Result<String, Failure> {
    let editor =
        std::env::var("VISUAL").or_else(|_| std::env::var("EDITOR")).unwrap_or_else(|_| "vi".to_owned());
    if !std::io::stdin().is_terminal() {
        return Err(Failure::Usage(
            "nothing to change: give a flag such as '--variable NAME=value', or '--file'".to_owned(),
        ));
    }
    let path = std::env::temp_dir().join(format!("gubernum-edit-{}.yaml", std::process::id()));
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    options.open(&path)?.write_all(text.as_bytes())?;
    let words = compose::words(&editor).unwrap_or_else(|| vec![editor.clone()]);
    let status = words
        .split_first()
        .map(|(program, arguments)| std::process::Command::new(program).args(arguments).arg(&path).status());
    let changed = std::fs::read_to_string(&path);
    let _ = std::fs::remove_file(&path);
    match status {
        Some(Ok(status)) if status.success() => {}
        _ => {
            return Err(Failure::Said(format!("the editor '{editor}' failed; nothing was changed")));
        }
    }
    let changed = changed?;
    if changed == text {
        return Err(Failure::Said("nothing was changed".to_owned()));
    }
    Ok(changed)
}

/// Clones what a container is to be, on ports that are free, and leaves its data behind.
pub(super) async fn clone_settings(
    client: &Client,
    goes: MoveArguments,
    ports: &BTreeMap<u16, u16>,
    output: Output,
) -> Result<u8, Failure> {
    let base = client.definition(&goes.reference).await?;
    let is_published = |port: &u16| base.definition.ports.iter().any(|p| p.host_port == Some(*port));
    if let Some(port) = ports.keys().find(|port| !is_published(port)) {
        return Err(Failure::Usage(format!("port {port} is not published by '{}'", goes.reference)));
    }
    let name = goes.name.unwrap_or_else(|| base.definition.name.clone());
    let clone = client.clone_definition(&goes.reference, &goes.to, &name).await?;
    let mut d = clone.definition;
    name.clone_into(&mut d.name);
    hide_again(&mut d, &base.definition);
    for (before, now) in base.definition.ports.iter().zip(&mut d.ports) {
        let Some(before) = before.host_port else { continue };
        if let Some(wanted) = ports.get(&before) {
            now.host_port = Some(*wanted);
        } else if let Some(now) = now.host_port.filter(|now| *now != before) {
            crate::exit::note(&format!("Port {before} is in use; using {now} instead."));
        }
    }
    let request = DeployRequest {
        definition: Box::new(d),
        from: Some(goes.reference),
        watch_seconds: goes.watch,
        ..DeployRequest::default()
    };
    let asked = NewOperation::new(Request::Deploy(request), vec![format!("{}/{name}", goes.to)]);
    change::run(client, asked, &goes.manner, output).await
}

pub(super) async fn update(client: &Client, wish: Update, output: Output) -> Result<u8, Failure> {
    let asked = NewOperation::new(
        Request::Update(UpdateRequest {
            image: wish.image,
            watch_seconds: wish.watched.watch,
            grace_seconds: wish.watched.grace,
            rolling: rolling(&wish.rolled),
            ..UpdateRequest::default()
        }),
        references(client, &wish.targets).await?,
    );
    change::run(client, asked, &wish.targets.manner, output).await
}

pub(super) async fn rollback(client: &Client, wish: Rollback, output: Output) -> Result<u8, Failure> {
    if let Some(revision) = wish.revision {
        return super::stack_changes::back_to(client, revision, &wish, output).await;
    }
    let asked = NewOperation::new(
        Request::Rollback(RollbackRequest {
            earlier: wish.to,
            watch_seconds: wish.watched.watch,
            grace_seconds: wish.watched.grace,
            rolling: rolling(&wish.rolled),
        }),
        references(client, &wish.targets).await?,
    );
    change::run(client, asked, &wish.targets.manner, output).await
}

pub(super) async fn pull(client: &Client, wish: PullImage, output: Output) -> Result<u8, Failure> {
    let asked = NewOperation::new(
        Request::Pull(PullRequest {
            image: wish.what.image,
            platform: wish.platform,
            policy: wish.policy.map(definition_flags::policy),
        }),
        wish.what.hosts,
    );
    change::run(client, asked, &wish.what.manner, output).await
}

pub(super) async fn push(client: &Client, wish: OnHosts, output: Output) -> Result<u8, Failure> {
    let asked = NewOperation::new(Request::Push(PushRequest { image: wish.image }), wish.hosts);
    change::run(client, asked, &wish.manner, output).await
}

pub(super) async fn tag(
    client: &Client,
    wish: OnHosts,
    new_name: String,
    output: Output,
) -> Result<u8, Failure> {
    let asked = NewOperation::new(Request::Tag(TagRequest { image: wish.image, new_name }), wish.hosts);
    change::run(client, asked, &wish.manner, output).await
}

pub(super) async fn join(client: &Client, wish: Join, output: Output) -> Result<u8, Failure> {
    let join = NetworkConnection {
        name: wish.network,
        aliases: wish.aliases,
        address: wish.address,
        ..NetworkConnection::default()
    };
    let asked = NewOperation::new(Request::Connect(ConnectRequest { join }), vec![wish.container]);
    change::run(client, asked, &wish.manner, output).await
}

pub(super) async fn leave(client: &Client, wish: Leave, output: Output) -> Result<u8, Failure> {
    let join = NetworkConnection { name: wish.network, ..NetworkConnection::default() };
    let asked = NewOperation::new(
        Request::Disconnect(DisconnectRequest { join, force: wish.force }),
        vec![wish.container],
    );
    change::run(client, asked, &wish.manner, output).await
}

fn pairs(flag: &str, texts: &[String]) -> Result<BTreeMap<String, String>, Failure> {
    texts.iter().map(|t| definition_flags::pair(flag, t)).collect()
}

pub(super) async fn add_volume(client: &Client, wish: NewVolume, output: Output) -> Result<u8, Failure> {
    let volume = VolumeSettings {
        driver: wish.driver,
        options: pairs("--option", &wish.options)?,
        labels: pairs("--label", &wish.labels)?,
    };
    let asked =
        NewOperation::new(Request::CreateVolume(CreateVolumeRequest { volume: Some(volume) }), wish.targets);
    change::run(client, asked, &wish.manner, output).await
}

pub(super) async fn add_network(client: &Client, wish: NewNetwork, output: Output) -> Result<u8, Failure> {
    let network = NetworkSettings {
        driver: wish.base.driver,
        subnet: wish.subnet,
        gateway: wish.gateway,
        internal: wish.internal,
        ipv6: wish.ipv6,
        options: pairs("--option", &wish.base.options)?,
        labels: pairs("--label", &wish.base.labels)?,
    };
    let asked = NewOperation::new(
        Request::CreateNetwork(CreateNetworkRequest { network: Some(network) }),
        wish.base.targets,
    );
    change::run(client, asked, &wish.base.manner, output).await
}

pub(super) async fn remove_objects(
    client: &Client,
    request: Request,
    wish: RemoveObjects,
    output: Output,
) -> Result<u8, Failure> {
    let asked = NewOperation::new(request, wish.references);
    change::run(client, asked, &wish.manner, output).await
}

/// The registry that flags describe, with its secret asked for.
pub(super) fn registry(wish: NewRegistry) -> Result<SetRegistry, Failure> {
    let secret = match (&wish.account, wish.secret_stdin) {
        (None, _) => None,
        (Some(_), true) => {
            let mut text = String::new();
            std::io::stdin().take(64 * 1024).read_to_string(&mut text)?;
            Some(text.trim_end_matches(['\r', '\n']).to_owned())
        }
        (Some(account), false) => {
            let prompt = format!("Secret of {account} at {}: ", wish.address);
            Some(super::access::ask_secret(&prompt, "--secret-stdin")?)
        }
    };
    let ca = match &wish.ca {
        Some(path) => Some(
            std::fs::read_to_string(path)
                .map_err(|e| Failure::Said(format!("{} cannot be read: {e}", path.display())))?,
        ),
        None => None,
    };
    Ok(SetRegistry { address: wish.address, account: wish.account, secret, ca, plain_http: wish.plain_http })
}

pub(super) async fn add_registry(client: &Client, wish: NewRegistry, output: Output) -> Result<u8, Failure> {
    let set = client.set_registry(&registry(wish)?).await?;
    if output == Output::Json {
        say_json(&set)?;
    } else {
        say(&format!(
            "{} answers and is saved{}",
            set.address,
            set.account.map_or(String::new(), |a| format!(" for {a}"))
        ))?;
    }
    Ok(FINE)
}

pub(super) async fn test_registry(client: &Client, wish: NewRegistry) -> Result<u8, Failure> {
    let asked = registry(wish)?;
    client.test_registry(&asked).await?;
    say(&format!("{} answers", asked.address))?;
    Ok(FINE)
}

pub(super) async fn tidy(client: &Client, wish: Tidy, output: Output) -> Result<u8, Failure> {
    let all = client.leftovers().await?;
    let known: Vec<&str> = all.iter().map(|s| s.leftover.word()).collect();
    const KINDS: [&str; 7] = [
        "stopped-container",
        "unused-image",
        "untagged-image",
        "anonymous-volume",
        "named-volume",
        "unused-network",
        "build-cache",
    ];
    if let Some(odd) =
        wish.kinds.iter().find(|k| !KINDS.contains(&k.as_str()) && !known.contains(&k.as_str()))
    {
        return Err(Failure::Usage(format!(
            "'--kind {odd}' does not exist; use one of {}",
            KINDS.join(", ")
        )));
    }
    let mut found: Vec<Suggestion> = all
        .into_iter()
        .filter(|s| wish.host.as_deref().is_none_or(|h| h == s.piece.host))
        .filter(|s| wish.kinds.is_empty() || wish.kinds.iter().any(|k| k == s.leftover.word()))
        .collect();
    if !(wish.safe || wish.all || wish.manner.preview) {
        if output == Output::Json {
            say_json(&found)?;
        } else {
            say(&listed(&found))?;
        }
        return Ok(FINE);
    }
    found.retain(|s| s.protected.is_none() && (wish.all || s.grade == gubernum_core::tidy::Grade::Safe));
    if found.is_empty() {
        say("nothing to remove")?;
        return Ok(FINE);
    }
    let pieces = found.into_iter().map(|s| s.piece).collect();
    let asked = NewOperation::new(Request::Tidy(TidyRequest { pieces }), Vec::new());
    change::run(client, asked, &wish.manner, output).await
}

fn listed(found: &[Suggestion]) -> String {
    let rows = found.iter().map(|s| {
        let word = match s.grade {
            gubernum_core::tidy::Grade::Safe => "safe",
            gubernum_core::tidy::Grade::LookFirst => "look first",
        };
        let since = s.since.map_or_else(String::new, age);
        let user = s.last_user.as_ref().map(|u| format!(" Last used by {u}.")).unwrap_or_default();
        let why =
            s.protected.as_ref().map_or_else(|| format!("{}{user}", s.reason), |p| format!("Stays: {p}."));
        vec![
            s.piece.host.clone(),
            s.leftover.word().to_owned(),
            s.name.clone(),
            if s.protected.is_some() { "kept".to_owned() } else { word.to_owned() },
            s.size.map_or_else(|| "unknown".to_owned(), gubernum_core::reason::bytes_words),
            since,
            why,
        ]
    });
    let safe = found.iter().filter(|s| s.protected.is_none() && s.grade == gubernum_core::tidy::Grade::Safe);
    let bytes: u64 = safe.clone().filter_map(|s| s.size).sum();
    format!(
        "{}\n\n{} of {} are safe to remove, at least {}: 'gubernum tidy --safe', with '--preview' first",
        table(&["HOST", "KIND", "NAME", "RISK", "SIZE", "UNUSED SINCE", "REASON"], rows.collect()),
        safe.count(),
        found.len(),
        gubernum_core::reason::bytes_words(bytes)
    )
}

/// A command's outcome when it is only asked what would happen.
pub(super) async fn preview_of(
    words: Vec<String>,
    connection: &crate::arguments::Connection,
) -> Result<u8, Failure> {
    use clap::Parser;
    // `preview stack.yaml --to packhouse`: the one change that is a file.
    let is_file = words.iter().any(|w| w == "--to" || w.starts_with("--to="))
        && words.first().is_some_and(|w| w != "deploy");
    let words = is_file.then(|| "deploy".to_owned()).into_iter().chain(words);
    let asked =
        std::iter::once("gubernum".to_owned()).chain(words).chain(std::iter::once("--preview".to_owned()));
    let parsed =
        crate::arguments::Arguments::try_parse_from(asked).map_err(|e| Failure::Usage(e.to_string()))?;
    match parsed.command {
        crate::arguments::Command::Client(command) => Box::pin(super::run(command, connection)).await,
        _ => Err(Failure::Usage("only commands that change something have a preview".to_owned())),
    }
}

/// Asks once more for what failed.
pub(super) async fn retry(client: &Client, id: u64, output: Output) -> Result<u8, Failure> {
    let operation = client.retry(id).await?;
    let over = crate::progress::wait(client, operation).await?;
    crate::progress::outcome(over.as_ref(), output)
}
