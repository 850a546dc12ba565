//! Stacks as files: revisions, the differences between two of them, and drift.

use std::path::{Component, Path};

use gubernum_api::stacks::{DifferenceLine, LineKind, RevisionDifference, StackDefinition};
use gubernum_client::Client;

use crate::arguments::Output;
use crate::commands::stacks::host_and_stack;
use crate::exit::{FAILED, FINE, Failure};
use crate::table::{age, say, say_json, table};

/// The parts of `host/stack@number`; the newest revision where no number is said.
async fn numbered<'a>(client: &Client, reference: &'a str) -> Result<(&'a str, &'a str, u64), Failure> {
    let (stack, number) = reference.split_once('@').unwrap_or((reference, ""));
    let (host, stack) = host_and_stack(stack)?;
    if !number.is_empty() {
        let wrong = |_| Failure::Usage(format!("'{number}' in '{reference}' is not a revision number"));
        return Ok((host, stack, number.parse().map_err(wrong)?));
    }
    let newest = client.stack_revisions(host, stack).await?.into_iter().next();
    let missing = || Failure::Said(format!("{reference} was not deployed with Gubernum"));
    Ok((host, stack, newest.ok_or_else(missing)?.number))
}

/// A revision with its files.
pub(super) async fn revision(client: &Client, reference: &str, output: Output) -> Result<u8, Failure> {
    let (host, stack, number) = numbered(client, reference).await?;
    let all = client.stack_definition(host, stack, number).await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    say(&words(&all))?;
    Ok(FINE)
}

fn words(all: &StackDefinition) -> String {
    let revision = &all.revision;
    let mut text =
        format!("revision {}, {} ago, {}", revision.number, age(revision.created), revision.member);
    text.extend(revision.comment.iter().map(|comment| format!(": {comment}")));
    text.extend(revision.commit.iter().map(|commit| format!("\ncommit {commit}")));
    let values = all.variables.iter().map(|(name, value)| format!("\nvariable {name}={value}"));
    text.extend(values);
    text.extend(all.scale.iter().map(|(service, count)| format!("\n{count} containers of {service}")));
    text.extend(all.profiles.iter().map(|profile| format!("\nprofile {profile}")));
    for (path, content) in &all.files {
        text.push_str(&format!("\n\n--- {path}\n{}", content.trim_end()));
    }
    text
}

/// What differs in the texts of two revisions. The exit code says whether anything does.
pub(super) async fn difference(client: &Client, reference: &str, output: Output) -> Result<u8, Failure> {
    let (from, reference) = match reference.split_once('@').and_then(|(s, n)| Some((s, n.split_once("..")?)))
    {
        Some((stack, (from, to))) => {
            let wrong = |_| Failure::Usage(format!("'{from}' in '{reference}' is not a revision number"));
            (Some(from.parse().map_err(wrong)?), format!("{stack}@{to}"))
        }
        None => (None, reference.to_owned()),
    };
    let (host, stack, number) = numbered(client, &reference).await?;
    let difference = client.stack_difference(host, stack, number, from).await?;
    let differs = !difference.files.is_empty() || !difference.values.is_empty();
    if output == Output::Json {
        say_json(&difference)?;
    } else if differs {
        say(&difference_words(&difference))?;
    } else {
        say("nothing differs")?;
    }
    Ok(if differs { FAILED } else { FINE })
}

fn difference_words(difference: &RevisionDifference) -> String {
    let line = |l: &DifferenceLine| match l.kind {
        LineKind::Same => format!("  {}", l.text),
        LineKind::Removed => format!("- {}", l.text),
        LineKind::Added => format!("+ {}", l.text),
        LineKind::Gap => "  …".to_owned(),
    };
    let value = |of: &Option<String>| of.clone().unwrap_or_else(|| "(not set)".to_owned());
    let mut blocks: Vec<String> = difference
        .files
        .iter()
        .map(|f| format!("{}\n{}", f.file, f.lines.iter().map(line).collect::<Vec<_>>().join("\n")))
        .collect();
    let values = difference.values.iter();
    let values: Vec<String> =
        values.map(|v| format!("{}: {} → {}", v.what, value(&v.before), value(&v.after))).collect();
    if !values.is_empty() {
        blocks.push(values.join("\n"));
    }
    blocks.join("\n\n")
}

/// Writes the files of a revision into a folder of this machine.
pub(super) async fn export(client: &Client, reference: &str, folder: &Path) -> Result<u8, Failure> {
    let (host, stack, number) = numbered(client, reference).await?;
    let all = client.stack_definition(host, stack, number).await?;
    let cannot =
        |path: &Path, e: &std::io::Error| Failure::Said(format!("{} cannot be written: {e}", path.display()));
    std::fs::create_dir(folder).map_err(|e| cannot(folder, &e))?;
    for (name, content) in &all.files {
        let path = Path::new(name);
        // Names come from a service that somebody else may run.
        if !path.components().all(|part| matches!(part, Component::Normal(_))) {
            return Err(Failure::Said(format!("'{name}' is outside the folder, so it is not written")));
        }
        let path = folder.join(path);
        if let Some(parent) = path.parent() {
            std::fs::create_dir_all(parent).map_err(|e| cannot(parent, &e))?;
        }
        std::fs::write(&path, content).map_err(|e| cannot(&path, &e))?;
    }
    let hidden = all.files.values().any(|text| text.contains(gubernum_core::mask::MASK));
    let note = if hidden { "; values that look like secrets are hidden in them" } else { "" };
    say(&format!("{} files of revision {number} to {}{note}", all.files.len(), folder.display()))?;
    Ok(FINE)
}

/// The stacks that were deployed here. The exit code says whether any is not as it was applied.
pub(super) async fn drifts(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.drifts().await?;
    let code = if all.iter().all(|row| row.differs.is_empty()) { FINE } else { FAILED };
    if output == Output::Json {
        say_json(&all)?;
        return Ok(code);
    }
    if all.is_empty() {
        say("No stack was deployed with Gubernum.")?;
        return Ok(code);
    }
    let rows = all.iter().map(|row| {
        let what = match (&row.unknown, row.differs.is_empty()) {
            (Some(why), _) => format!("unknown: {why}"),
            (None, true) => "no drift".to_owned(),
            (None, false) => format!("drift: {}", row.differs.join(", ")),
        };
        let since = row.since.map(age).unwrap_or_default();
        vec![format!("{}/{}", row.host, row.stack), row.revision.to_string(), since, what]
    });
    say(&table(&["STACK", "REVISION", "SINCE", "STATE"], rows.collect()))?;
    Ok(code)
}
