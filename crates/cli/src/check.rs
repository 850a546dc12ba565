//! `gubernum check`: reads a stack's files and tells every mistake, on this machine alone. For pipelines: the exit code says
//! whether they are right.

use std::collections::BTreeMap;

use gubernum_core::compose::interpolate::Need;
use gubernum_core::compose::model::{Condition, FileSource, Service, Stack};
use gubernum_core::compose::{FileError, Loaded, convert, read};
use gubernum_core::text::shown;
use gubernum_core::yaml::Place;
use serde::Serialize;

use crate::arguments::Output;
use crate::arguments_stacks::Check;
use crate::exit::{FAILED, FINE, Failure};
use crate::stack_files::StackFiles;
use crate::table::{say, say_json, table};

/// Where something stands.
#[derive(Serialize)]
struct At<'a> {
    file: &'a str,
    line: u64,
    column: u64,
}

/// Something to know of a place.
#[derive(Serialize)]
struct Note<'a> {
    #[serde(flatten)]
    at: At<'a>,
    sentence: String,
}

/// A variable that the files ask for.
#[derive(Serialize)]
struct Variable<'a> {
    name: &'a str,
    /// `set`, `required`, `default`, `empty` or `optional`.
    state: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    default: Option<&'a str>,
    #[serde(flatten)]
    at: At<'a>,
}

/// The whole as JSON.
#[derive(Serialize)]
struct Checked<'a> {
    valid: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    stack: Option<Stack>,
    errors: Vec<Note<'a>>,
    variables: Vec<Variable<'a>>,
    without_effect: Vec<Note<'a>>,
}

pub(crate) fn run(wish: &Check, output: Output) -> Result<u8, Failure> {
    let files = StackFiles::read(&wish.source)?;
    if wish.convert {
        return converted(&files);
    }
    let given = files.given();
    match read::read(&given) {
        Err(errors) => wrong(&errors, output),
        Ok((loaded, stack)) => {
            let absent = absent_files(&files, &loaded, &stack)?;
            if !absent.is_empty() {
                return wrong(&absent, output);
            }
            right(&loaded, stack, given.variables, output)?;
            Ok(FINE)
        }
    }
}

/// Writes an old file anew; what of it has no new form is told beside.
fn converted(files: &StackFiles) -> Result<u8, Failure> {
    let [(name, text)] = &files.main()[..] else {
        return Err(Failure::Usage("`--convert` writes one file anew; name one".to_owned()));
    };
    let found = convert::convert(text).map_err(|errors| {
        let lines: Vec<String> = errors.0.iter().map(|e| format!("{name}, {e}")).collect();
        Failure::Said(lines.join("\n"))
    })?;
    let Some(converted) = found else {
        return Err(Failure::Said(format!("{name} has `services` already; there is nothing to convert")));
    };
    for (place, sentence) in &converted.left {
        crate::exit::note(&format!("{name}, line {}, column {}: {sentence}", place.line, place.column));
    }
    say(converted.text.trim_end())?;
    Ok(FINE)
}

fn noted(error: &FileError) -> Note<'_> {
    let FileError { file, place, sentence } = error;
    Note { at: At { file, line: place.line, column: place.column }, sentence: sentence.clone() }
}

fn wrong(errors: &[FileError], output: Output) -> Result<u8, Failure> {
    if output == Output::Json {
        let errors = errors.iter().map(noted).collect();
        let variables = Vec::new();
        say_json(&Checked { valid: false, stack: None, errors, variables, without_effect: Vec::new() })?;
        return Ok(FAILED);
    }
    for error in errors {
        crate::exit::note(&error.to_string());
    }
    let count = errors.len();
    crate::exit::note(&if count == 1 { "1 mistake".to_owned() } else { format!("{count} mistakes") });
    Ok(FAILED)
}

/// Files and folders that containers are to have or are built from, and that are not there.
fn absent_files(files: &StackFiles, loaded: &Loaded, stack: &Stack) -> Result<Vec<FileError>, Failure> {
    let mut absent = Vec::new();
    let mut look = |section: &str, name: &str, path: &str| -> Result<(), Failure> {
        if files.within(path)?.is_none() {
            let entry = loaded.tree.get(section).and_then(|s| s.get(name));
            let place = entry.map_or(Place::START, |node| node.place);
            let file = loaded.files.get(usize::from(place.file)).cloned().unwrap_or_default();
            let sentence = format!("`{}` is not in the stack's folder", shown(path, 120));
            absent.push(FileError { file, place, sentence });
        }
        Ok(())
    };
    for (section, all) in [("configs", &stack.configs), ("secrets", &stack.secrets)] {
        for (name, source) in all {
            if let FileSource::File(path) = source
                && let Some(path) = path.strip_prefix("./")
            {
                look(section, name, path)?;
            }
        }
    }
    for (name, service) in &stack.services {
        let context = service.build.as_ref().filter(|b| !b.context.contains("://")).map(|b| &b.context);
        if let Some(context) = context {
            look("services", name, context)?;
        }
    }
    Ok(absent)
}

fn right(
    loaded: &Loaded,
    stack: Stack,
    set: &BTreeMap<String, String>,
    output: Output,
) -> Result<(), Failure> {
    let at = |place: Place| At {
        file: loaded.files.get(usize::from(place.file)).map_or("", String::as_str),
        line: place.line,
        column: place.column,
    };
    let variables: Vec<Variable<'_>> = loaded
        .asked
        .iter()
        .filter_map(|(name, asked)| {
            let (place, need) = asked.uses.first()?;
            let is_empty = loaded.empty.iter().any(|(empty, _)| empty == name);
            let (state, default) = match need {
                _ if set.contains_key(name) => ("set", None),
                Need::Default(text) => ("default", Some(text.as_str())),
                Need::Optional => ("optional", None),
                Need::Empty if is_empty => ("empty", None),
                Need::Empty | Need::Demanded(_) => ("set", None),
            };
            Some(Variable { name, state, default, at: at(*place) })
        })
        .collect();
    let without_effect = loaded.without_effect.iter().map(|w| Note {
        at: at(w.place),
        sentence: format!("`{}` changes nothing here: {}", w.attribute, w.why),
    });
    let without_effect: Vec<Note<'_>> = without_effect.collect();
    if output == Output::Json {
        let stack = Some(masked(stack));
        return say_json(&Checked { valid: true, stack, errors: Vec::new(), variables, without_effect });
    }
    say(&summary(&stack))?;
    say(&table(
        &["SERVICE", "IMAGE", "CONTAINERS", "NEEDS", "PORTS"],
        stack.services.iter().map(row).collect(),
    ))?;
    for variable in variables.iter().filter(|v| v.state == "empty") {
        say(&format!(
            "{}, line {}, column {}: `{}` has no value and is empty",
            variable.at.file, variable.at.line, variable.at.column, variable.name
        ))?;
    }
    for note in &without_effect {
        say(&format!(
            "{}, line {}, column {}: {}",
            note.at.file, note.at.line, note.at.column, note.sentence
        ))?;
    }
    if !loaded.left_out.is_empty() {
        let names: Vec<&str> = loaded.left_out.iter().map(String::as_str).collect();
        say(&format!("not wanted without their profiles: {}", names.join(", ")))?;
    }
    Ok(())
}

/// The stack with what looks like a secret hidden: pipelines keep what is printed.
fn masked(mut stack: Stack) -> Stack {
    for service in stack.services.values_mut() {
        service.container = service.container.masked();
    }
    for (_, source) in stack.secrets.iter_mut() {
        if let FileSource::Content(text) = source {
            gubernum_core::mask::MASK.clone_into(text);
        }
    }
    stack
}

fn summary(stack: &Stack) -> String {
    let count = |n: usize, one: &str, many: &str| match n {
        0 => None,
        1 => Some(format!("1 {one}")),
        n => Some(format!("{n} {many}")),
    };
    let parts = [
        count(stack.services.len(), "service", "services"),
        count(stack.networks.len(), "network", "networks"),
        count(stack.volumes.len(), "volume", "volumes"),
        count(stack.configs.len(), "config", "configs"),
        count(stack.secrets.len(), "secret", "secrets"),
    ];
    let parts: Vec<String> = parts.into_iter().flatten().collect();
    let name = stack.name.as_deref().unwrap_or("a stack without a name");
    format!("{name}: {}. No mistakes.", parts.join(", "))
}

fn row((name, service): (&String, &Service)) -> Vec<String> {
    let needs = service.needs.iter().map(|(other, need)| match need.condition {
        Condition::ServiceStarted => other.clone(),
        Condition::ServiceHealthy => format!("{other} (healthy)"),
        Condition::ServiceCompletedSuccessfully => format!("{other} (completed)"),
    });
    let ports = service.container.ports.iter().map(|p| match (p.host_port, p.host_port_to) {
        (Some(from), Some(to)) => format!("{from}-{to}→{}", p.container_port),
        (Some(port), None) => format!("{port}→{}", p.container_port),
        (None, _) => format!("any→{}", p.container_port),
    });
    let image = match (&service.container.image, &service.build) {
        (image, Some(build)) if image.is_empty() => format!("built from {}", shown(&build.context, 60)),
        (image, _) => image.clone(),
    };
    let containers = if service.is_job { "once".to_owned() } else { service.replicas.to_string() };
    vec![
        name.clone(),
        image,
        containers,
        needs.collect::<Vec<_>>().join(", "),
        ports.collect::<Vec<_>>().join(", "),
    ]
}
