//! `gubernum check`: reads a stack's files and reports every error, on this machine alone. For pipelines: the exit
//! code says whether they are valid.

use gubernum_core::compose::model::{FileSource, Stack};
use gubernum_core::compose::report::{FileNote, ServiceNote, StackReport, VariableState, report};
use gubernum_core::compose::{FileError, Loaded, convert};
use gubernum_core::text::shown;
use gubernum_core::yaml::Place;
use serde::Serialize;

use crate::arguments::Output;
use crate::arguments_stacks::Check;
use crate::exit::{FAILED, FINE, Failure};
use crate::stack_files::StackFiles;
use crate::table::{say, say_json, table};

/// The whole as JSON.
#[derive(Serialize)]
struct Checked<'a> {
    #[serde(flatten)]
    report: &'a StackReport,
    #[serde(skip_serializing_if = "Option::is_none")]
    stack: Option<Stack>,
}

pub(crate) fn run(wish: &Check, output: Output) -> Result<u8, Failure> {
    let files = StackFiles::read(&wish.source)?;
    if wish.convert {
        return converted(&files);
    }
    let (mut told, read) = report(&files.given());
    let mut whole = None;
    if let Some((loaded, stack)) = read {
        let absent = absent_files(&files, &loaded, &stack)?;
        told.valid = absent.is_empty();
        told.errors.extend(absent.iter().map(FileNote::from));
        whole = Some(stack).filter(|_| told.valid);
    }
    let code = if told.valid { FINE } else { FAILED };
    if output == Output::Json {
        say_json(&Checked { report: &told, stack: whole.map(masked) })?;
    } else if let Some(stack) = whole {
        right(&told, &stack)?;
    } else {
        wrong(&told.errors);
    }
    Ok(code)
}

/// Converts an old file; what has no equivalent is reported.
fn converted(files: &StackFiles) -> Result<u8, Failure> {
    let [(name, text)] = &files.main()[..] else {
        return Err(Failure::Usage("'--convert' takes one file".to_owned()));
    };
    let found = convert::convert(text).map_err(|errors| {
        let lines: Vec<String> = errors.0.iter().map(|e| format!("{name}, {e}")).collect();
        Failure::Said(lines.join("\n"))
    })?;
    let Some(converted) = found else {
        return Err(Failure::Said(format!("{name} already has 'services'; nothing to convert")));
    };
    for (place, sentence) in &converted.left {
        crate::exit::note(&format!("{name}, line {}, column {}: {sentence}", place.line, place.column));
    }
    say(converted.text.trim_end())?;
    Ok(FINE)
}

fn wrong(errors: &[FileNote]) {
    for error in errors {
        crate::exit::note(&noted(error));
    }
    let count = errors.len();
    crate::exit::note(&if count == 1 { "1 error".to_owned() } else { format!("{count} errors") });
}

fn noted(note: &FileNote) -> String {
    format!("{}, line {}, column {}: {}", note.file, note.line, note.column, note.sentence)
}

/// Files and folders that containers are to have or are built from, and that are not there.
fn absent_files(files: &StackFiles, loaded: &Loaded, stack: &Stack) -> Result<Vec<FileError>, Failure> {
    let mut absent = Vec::new();
    let mut look = |section: &str, name: &str, path: &str| -> Result<(), Failure> {
        if files.within(path)?.is_none() {
            let entry = loaded.tree.get(section).and_then(|s| s.get(name));
            let place = entry.map_or(Place::START, |node| node.place);
            let file = loaded.files.get(usize::from(place.file)).cloned().unwrap_or_default();
            let sentence = format!("'{}' is not in the stack's folder", shown(path, 120));
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

fn right(told: &StackReport, stack: &Stack) -> Result<(), Failure> {
    say(&summary(stack))?;
    say(&table(
        &["SERVICE", "IMAGE", "CONTAINERS", "DEPENDS ON", "PORTS"],
        told.services.iter().map(row).collect(),
    ))?;
    for variable in told.variables.iter().filter(|v| v.state == VariableState::Empty) {
        say(&format!(
            "{}, line {}, column {}: '{}' has no value and is empty",
            variable.file, variable.line, variable.column, variable.name
        ))?;
    }
    for note in &told.without_effect {
        say(&noted(note))?;
    }
    if !told.left_out.is_empty() {
        say(&format!("left out, because their profiles are not active: {}", told.left_out.join(", ")))?;
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
    let name = stack.name.as_deref().unwrap_or("No name yet");
    format!("{name}: {}. No errors.", parts.join(", "))
}

fn row(service: &ServiceNote) -> Vec<String> {
    let needs = service.needs.iter().map(|need| match need.until.as_str() {
        "started" => need.service.clone(),
        until => format!("{} ({until})", need.service),
    });
    let containers = match &service.schedule {
        Some(schedule) => schedule.clone(),
        None if service.job => "once".to_owned(),
        None => service.containers.to_string(),
    };
    vec![
        service.name.clone(),
        service.image.clone(),
        containers,
        needs.collect::<Vec<_>>().join(", "),
        service.ports.join(", "),
    ]
}
