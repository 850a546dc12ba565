//! Commands that work on whole stacks.

use std::collections::BTreeMap;
use std::path::PathBuf;

use gubernum_api::requests::{ApplyRequest, NewOperation, OnFailure, Request};
use gubernum_api::views::Drift;
use gubernum_api::{Finding, ObjectKind, Step, TargetPlan, Weight};
use gubernum_client::Client;
use gubernum_core::compose::read;
use gubernum_core::text::shown;

use crate::arguments::Output;
use crate::arguments_act::{DefinitionFlags, Deploy};
use crate::arguments_stacks::StackSource;
use crate::commands::change;
use crate::exit::{FAILED, FINE, Failure};
use crate::stack_files::StackFiles;
use crate::table::{age, say, say_json, table};

/// Makes a stack what its files say.
pub(super) async fn deploy(client: &Client, wish: Deploy, output: Output) -> Result<u8, Failure> {
    let flags = wish.stack;
    // Of what describes one container only variables mean something for a stack; nothing is skipped in silence.
    let for_one = DefinitionFlags { variables: Vec::new(), ..wish.flags.clone() };
    if !for_one.is_empty() {
        let text = "'--to' deploys a stack from its files; settings of a single container do not apply, except '--variable'";
        return Err(Failure::Usage(text.to_owned()));
    }
    let mut request = ApplyRequest {
        revision: flags.revision,
        host_variables: host_variables(&flags.host_variables)?,
        waiting: flags.waiting,
        comment: flags.comment,
        remove_rest: flags.remove_rest,
        on_failure: if flags.stop_on_failure { OnFailure::Stop } else { OnFailure::Return },
        watch_seconds: wish.watch,
        ..ApplyRequest::default()
    };
    if flags.revision.is_some() || flags.waiting {
        request.stack = flags.name.unwrap_or_default();
    } else {
        // What only hosts have is not missing; their own values are the service's to put in.
        let of_hosts =
            request.host_variables.values().flatten().map(|(name, value)| format!("{name}={value}"));
        let of_all = wish.flags.variables;
        let source = StackSource {
            files: wish.targets.iter().map(PathBuf::from).collect(),
            name: flags.name,
            variables: of_hosts.chain(of_all.iter().cloned()).collect(),
            profiles: flags.profiles,
        };
        let files = StackFiles::read(&source)?;
        // Errors are reported here already, with all that is to be said of them.
        let (loaded, stack) = match read::read(&files.given()) {
            Ok(read) => read,
            Err(errors) => {
                errors.iter().for_each(|error| crate::exit::note(&error.to_string()));
                return Ok(FAILED);
            }
        };
        for (name, place) in &loaded.empty {
            let file = loaded.files.get(usize::from(place.file)).map_or("", String::as_str);
            crate::exit::note(&format!(
                "{file}, line {}: the variable '{name}' has no value and is empty",
                place.line
            ));
        }
        files.read_sources(&stack, &mut request)?;
        request.variables =
            of_all.iter().map(|v| crate::stack_files::variable(v)).collect::<Result<_, _>>()?;
        request.stack = stack.name.ok_or_else(|| {
            Failure::Usage("the files have no stack name; add 'name:' to them, or give '--name'".to_owned())
        })?;
    }
    let asked = NewOperation::new(Request::Apply(request), flags.to);
    change::run(client, asked, &wish.manner, output).await
}

/// `packhouse:TAG=2.4` and the like, by host.
fn host_variables(texts: &[String]) -> Result<BTreeMap<String, BTreeMap<String, String>>, Failure> {
    let mut all: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
    for text in texts {
        let parts = text.split_once(':').and_then(|(host, rest)| Some((host, rest.split_once('=')?)));
        let Some((host, (name, value))) =
            parts.filter(|(host, (name, _))| !host.is_empty() && !name.is_empty())
        else {
            let text = format!("'--host-variable {text}' is not HOST:NAME=VALUE");
            return Err(Failure::Usage(text));
        };
        all.entry(host.to_owned()).or_default().insert(name.to_owned(), value.to_owned());
    }
    Ok(all)
}

/// What becomes of one part of a stack, in a word.
fn verb(plan: &TargetPlan) -> &'static str {
    let has = |of: fn(&Step) -> bool| plan.steps.iter().any(of);
    if plan.refused.is_some() {
        "refused"
    } else if plan.steps.is_empty() {
        "unchanged"
    } else if has(|s| matches!(s, Step::CreateBeside)) {
        "recreated"
    } else if has(|s| matches!(s, Step::Create | Step::CreateNetwork { .. } | Step::CreateVolume { .. })) {
        "created"
    } else if has(|s| matches!(s, Step::Remove { .. })) {
        "removed"
    } else if has(|s| matches!(s, Step::ChangeInPlace)) {
        "changed in place"
    } else if has(|s| matches!(s, Step::RemoveVolume { .. } | Step::RemoveNetwork | Step::RemoveImage { .. }))
    {
        "removed"
    } else if has(|s| matches!(s, Step::CopyImage { .. } | Step::CopyVolume { .. })) {
        "copied"
    } else if has(|s| matches!(s, Step::Stop { .. })) {
        "stopped"
    } else if has(|s| matches!(s, Step::Pause)) {
        "paused"
    } else if has(|s| matches!(s, Step::Resume)) {
        "resumed"
    } else if has(|s| matches!(s, Step::Build { .. })) {
        "built"
    } else if has(|s| matches!(s, Step::Pull { .. })) {
        "pulled"
    } else if has(|s| matches!(s, Step::Restart { .. })) {
        "restarted"
    } else {
        "started"
    }
}

/// Why, as far as there is more to say than the word does.
fn details(plan: &TargetPlan) -> String {
    let mut all: Vec<String> = plan.refused.iter().cloned().collect();
    all.extend(plan.differences.iter().map(|d| d.words()));
    let is_left = plan.steps.is_empty() && plan.object == ObjectKind::Container;
    if plan.differences.is_empty() && plan.refused.is_none() {
        let why = plan.unchanged.as_ref().filter(|why| is_left && !why.starts_with("No change"));
        let says_more = plan.steps.iter().any(|s| {
            matches!(
                s,
                Step::CreateBeside
                    | Step::Restart { .. }
                    | Step::Start
                    | Step::Stop { .. }
                    | Step::CopyVolume { .. }
                    | Step::CopyImage { .. }
            )
        });
        all.extend(why.cloned().or_else(|| says_more.then(|| plan.consequence.clone())));
    }
    let weight = |f: &Finding| if f.weight == Weight::Error { "error" } else { "warning" };
    let is_told = |f: &&Finding| plan.refused.as_ref().is_some_and(|why| why.starts_with(&f.sentence));
    all.extend(
        plan.findings.iter().filter(|f| !is_told(f)).map(|f| format!("{}: {}", weight(f), f.sentence)),
    );
    shown(&all.join("; "), 600)
}

/// Each text once, in the order of their first names, with the names of all parts that it is about.
fn by_text<'a>(pairs: impl Iterator<Item = (&'a str, &'a str)>) -> impl Iterator<Item = (&'a str, String)> {
    let mut found: Vec<(&str, Vec<&str>)> = Vec::new();
    for (text, name) in pairs {
        match found.iter_mut().find(|(known, _)| *known == text) {
            Some((_, names)) => names.push(name),
            None => found.push((text, vec![name])),
        }
    }
    found.into_iter().map(|(text, names)| (text, names.join(", ")))
}

/// The preview of a stack: a line for each part, what is at risk, and how many of what.
pub(super) fn told(plans: &[TargetPlan]) -> String {
    let rows =
        plans.iter().map(|p| vec![p.object.word().to_owned(), p.reference(), verb(p).to_owned(), details(p)]);
    let mut text = table(&["PART", "NAME", "OUTCOME", "REASON"], rows.collect());
    let done = || plans.iter().filter(|p| !p.steps.is_empty());
    let risks = done().flat_map(|p| p.data_at_risk.iter().map(|risk| (risk.as_str(), p.name.as_str())));
    let downtimes = done().filter_map(|p| Some((p.downtime.as_deref()?, p.name.as_str())));
    let mut notes = String::new();
    notes.extend(by_text(risks).map(|(risk, names)| format!("\nData at risk in {names}: {risk}")));
    notes.extend(by_text(downtimes).map(|(down, names)| format!("\nDown {down}: {names}")));
    // A refusal decides: each reason is reported in full, once, however narrow the table is.
    let mut reasons: Vec<&str> = Vec::new();
    for plan in plans {
        if let Some(why) = plan.refused.as_deref().filter(|why| !reasons.contains(why)) {
            reasons.push(why);
            notes.push_str(&format!("\nRefused: {}: {}", plan.reference(), shown(why, 600)));
        }
    }
    if !notes.is_empty() {
        text.push_str(&format!("\n{notes}"));
    }
    let mut counts: Vec<(&str, usize)> = Vec::new();
    for word in plans.iter().map(verb) {
        match counts.iter_mut().find(|(known, _)| *known == word) {
            Some((_, count)) => *count += 1,
            None => counts.push((word, 1)),
        }
    }
    let counts: Vec<String> = counts.iter().map(|(word, count)| format!("{count} {word}")).collect();
    format!("{text}\n\n{}", counts.join(", "))
}

/// The parts of `host/stack`.
pub(super) fn host_and_stack(reference: &str) -> Result<(&str, &str), Failure> {
    let parts = reference.split_once('/').filter(|(host, stack)| !host.is_empty() && !stack.is_empty());
    parts.ok_or_else(|| Failure::Usage(format!("'{reference}' has no host: write 'host/stack'")))
}

/// What differs between a stack as it was applied last and what runs. The exit code says whether anything does.
pub(super) async fn drift(client: &Client, reference: &str, output: Output) -> Result<u8, Failure> {
    let (host, stack) = host_and_stack(reference)?;
    let drift = client.stack_drift(host, stack).await?;
    let code = if drift.targets.is_empty() { FINE } else { FAILED };
    if output == Output::Json {
        say_json(&drift)?;
        return Ok(code);
    }
    let Drift { revision, targets } = &drift;
    if targets.is_empty() {
        say(&format!("No drift: {reference} matches revision {revision}."))?;
    } else {
        say(&format!(
            "{reference} differs from revision {revision}. Deploying that revision again would do this:\n\n{}\n\nTo do it: gubernum deploy --revision {revision} --to {host} --name {stack}",
            told(targets)
        ))?;
    }
    Ok(code)
}

/// Writes a stack that runs down and keeps the text.
pub(super) async fn adopt(
    client: &Client,
    reference: &str,
    keeps: bool,
    output: Output,
) -> Result<u8, Failure> {
    let (host, stack) = host_and_stack(reference)?;
    let adopted = client.adopt_stack(host, stack, keeps).await?;
    if output == Output::Json {
        say_json(&adopted)?;
        return Ok(FINE);
    }
    say(adopted.text.trim_end())?;
    if let Some(revision) = adopted.revision {
        crate::exit::note(&format!("{reference} is adopted as revision {revision}; nothing was changed"));
    }
    Ok(FINE)
}

/// The revisions of a stack.
pub(super) async fn revisions(client: &Client, reference: &str, output: Output) -> Result<u8, Failure> {
    let (host, stack) = host_and_stack(reference)?;
    let all = client.stack_revisions(host, stack).await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    if all.is_empty() {
        say(&format!("No revisions: '{reference}' was not deployed with Gubernum."))?;
        return Ok(FINE);
    }
    let rows = all.iter().map(|r| {
        vec![
            r.number.to_string(),
            age(r.created),
            r.member.clone(),
            if r.operation == 0 { "adopted".to_owned() } else { format!("operation {}", r.operation) },
            r.comment.clone().unwrap_or_default(),
        ]
    });
    say(&table(&["REVISION", "AGE", "MEMBER", "SOURCE", "COMMENT"], rows.collect()))?;
    Ok(FINE)
}
