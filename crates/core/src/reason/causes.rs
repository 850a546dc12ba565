//! Tables that find out why a container exited or did not start, from the engine's messages and its last log lines.
//! The phrases are those of dockerd, podman and runc.
//!
//! A row is data: what must appear in the text, the code, and what to say. The first row that fits speaks.

use crate::container::Container;
use crate::host::Host;
use crate::text::shown;

/// Why, with what to try.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cause {
    /// A stable word.
    pub code: &'static str,
    /// One sentence.
    pub sentence: String,
    /// What to try.
    pub advice: &'static str,
    /// What it was read from.
    pub evidence: Vec<String>,
}

/// A row of a table. Every one of `all` must appear in the text, in lower case.
struct Row {
    all: &'static [&'static str],
    code: &'static str,
    /// `{}` is replaced by what the text names: a path, a command or an address.
    sentence: &'static str,
    advice: &'static str,
    names: Names,
}

/// What is picked out of the text for the sentence.
#[derive(Clone, Copy)]
enum Names {
    /// The first thing in quotation marks after `exec`.
    Command,
    /// The first path.
    Path,
    /// The first `address:port`.
    Address,
    Nothing,
}

/// Said where the engine does not tell which port it is.
const PORT_IN_USE: &str = "Cannot start: a published port is already in use: {}.";
/// Said until it is known who has the port; see [`super::links`].
const PORT_TAKEN: &str = "Publish another port, or stop what uses it; then start it.";

const START: &[Row] = &[
    Row {
        all: &["exec format error"],
        code: "wrong-architecture",
        sentence: "Wrong architecture: its program is not built for the host's processor.",
        advice: "Use an image for the host's architecture.",
        names: Names::Nothing,
    },
    Row {
        all: &["not a directory", "mount"],
        code: "mount-mismatch",
        sentence: "Cannot start: a mount puts a folder on a file, or a file on a folder: {}.",
        advice: "Check what is at that path on the host. Mount a file on a file, a folder on a folder.",
        names: Names::Path,
    },
    Row {
        all: &["bind source path does not exist"],
        code: "mount-missing",
        sentence: "Cannot start: the mounted host path {} does not exist.",
        advice: "Create the path on the host, or fix the mount; then start it.",
        names: Names::Path,
    },
    Row {
        all: &["error while creating mount source path"],
        code: "mount-missing",
        sentence: "Cannot start: the mounted host path {} does not exist and cannot be created.",
        advice: "Create the path on the host, or fix the mount; then start it.",
        names: Names::Path,
    },
    Row {
        all: &["statfs", "no such file or directory"],
        code: "mount-missing",
        sentence: "Cannot start: the mounted host path {} does not exist.",
        advice: "Create the path on the host, or fix the mount; then start it.",
        names: Names::Path,
    },
    Row {
        all: &["mount", "no such file or directory", "rootfs"],
        code: "mount-missing",
        sentence: "Cannot start: the mounted host path {} does not exist.",
        advice: "Create the path on the host, or fix the mount; then start it.",
        names: Names::Path,
    },
    Row {
        all: &["executable file not found"],
        code: "command-not-found",
        sentence: "Cannot start: its command {} is not in the image.",
        advice: "Fix the command, or use an image that has it. Minimal images have no shell.",
        names: Names::Command,
    },
    Row {
        all: &["exec", "no such file or directory"],
        code: "command-not-found",
        sentence: "Cannot start: its command {} is not in the image.",
        advice: "Fix the command, or use an image that has it. Minimal images have no shell.",
        names: Names::Command,
    },
    Row {
        all: &["exec", "permission denied"],
        code: "not-executable",
        sentence: "Cannot start: its command {} is not executable.",
        advice: "Make the file executable in the image, or use another command.",
        names: Names::Command,
    },
    Row {
        all: &["port is already allocated"],
        code: "port-taken",
        sentence: PORT_IN_USE,
        advice: PORT_TAKEN,
        names: Names::Address,
    },
    Row {
        all: &["address already in use"],
        code: "port-taken",
        sentence: PORT_IN_USE,
        advice: PORT_TAKEN,
        names: Names::Address,
    },
    Row {
        all: &["no space left on device"],
        code: "no-space",
        sentence: "Cannot start: the host's disk is full.",
        advice: "The host's entry shows what fills it. Free space there, then start it.",
        names: Names::Nothing,
    },
    Row {
        all: &["network", "not found"],
        code: "network-missing",
        sentence: "Cannot start: one of its networks no longer exists.",
        advice: "Create the network again, or deploy the container again.",
        names: Names::Nothing,
    },
    Row {
        all: &["error gathering device information"],
        code: "device-missing",
        sentence: "Cannot start: a device it needs is not on the host: {}.",
        advice: "Attach the device, or remove it from the container's settings.",
        names: Names::Path,
    },
];

const LAST_LINES: &[Row] = &[
    Row {
        all: &["exec format error"],
        code: "wrong-architecture",
        sentence: "Wrong architecture: its program is not built for the host's processor.",
        advice: "Use an image for the host's architecture.",
        names: Names::Nothing,
    },
    Row {
        all: &["no space left on device"],
        code: "no-space",
        sentence: "Exited: no space left on the disk.",
        advice: "Free space on the host's disk or in the volume, then start it.",
        names: Names::Nothing,
    },
    Row {
        all: &["address already in use"],
        code: "port-taken",
        sentence: "Exited: the address it listens on is already in use: {}.",
        advice: "Find what listens there, in this container or, with host networking, on the host; then start it.",
        names: Names::Address,
    },
];

/// Words by which the most telling of the last lines is found.
pub(super) const TELLING: &[&str] = &[
    "panic",
    "fatal",
    "exception",
    "traceback",
    "error",
    "cannot",
    "could not",
    "failed",
    "refused",
    "denied",
];

/// What is before the line that tells most.
pub(super) const LAST_OUTPUT: &str = " Last output: ";

/// How many of the last lines are shown as evidence.
const SHOWN_LINES: usize = 3;

/// Reads the cause, if the texts tell one.
pub fn cause(c: &Container, host: &Host) -> Option<Cause> {
    if let Some(error) = c.error.as_deref().filter(|e| !e.is_empty())
        && let Some(found) = find(START, error, error, c, host)
    {
        return Some(found);
    }
    // From an image of another architecture even a plain failure has that cause, when it ran for no time.
    let ours = host.engine.as_ref().map(|e| family(&e.architecture));
    let mismatch = c.architecture.as_deref().map(family).zip(ours).filter(|(image, host)| image != host);
    for line in c.last_lines.iter().rev() {
        if let Some(found) = find(LAST_LINES, line, line, c, host) {
            return Some(found);
        }
    }
    if let Some((image, host)) = mismatch
        && matches!(c.exit_code, Some(1 | 126 | 127 | 255))
    {
        return Some(Cause {
            code: "wrong-architecture",
            sentence: format!("Wrong architecture: the image is for {image}, the host is {host}."),
            advice: "Use an image for the host's architecture.",
            evidence: tail(c),
        });
    }
    let code = c.exit_code.filter(|&code| code != 0)?;
    let (word, begin, advice) = match code {
        127 => (
            "command-not-found",
            "Exited: a command it runs is not in the image",
            "Fix the command, or use an image that has it.",
        ),
        126 => (
            "not-executable",
            "Exited: a command it runs is not executable",
            "Make the file executable in the image, or name another command.",
        ),
        139 => (
            "crashed",
            "Crashed: memory access fault (SIGSEGV)",
            "Report it to the program's maintainers; try the previous version.",
        ),
        134 => (
            "crashed",
            "Crashed: the program aborted (SIGABRT)",
            "Its last lines show why; report it to the program's maintainers.",
        ),
        _ => return said(c, code),
    };
    let words = last_word(c).map_or(String::new(), |line| format!("{LAST_OUTPUT}{line}"));
    let mut evidence = vec![super::exit_words(code)];
    evidence.extend(tail(c));
    Some(Cause { code: word, sentence: format!("{begin}.{words}"), advice, evidence })
}

/// It ended by itself and its log says something.
fn said(c: &Container, code: i64) -> Option<Cause> {
    let line = last_word(c)?;
    let mut evidence = vec![super::exit_words(code)];
    evidence.extend(tail(c));
    Some(Cause {
        code: "failed-exit",
        sentence: format!("Exited with {}.{LAST_OUTPUT}{line}", super::code_words(code)),
        advice: "Fix the cause above, then start it again.",
        evidence,
    })
}

fn find(table: &[Row], text: &str, evidence: &str, c: &Container, host: &Host) -> Option<Cause> {
    let lower = text.to_lowercase();
    let row = table.iter().find(|row| row.all.iter().all(|part| lower.contains(part)))?;
    let named = match row.names {
        Names::Command => quoted_after_exec(text).or_else(|| c.command.split(' ').next().map(str::to_owned)),
        Names::Path => path(text),
        Names::Address => address(text),
        Names::Nothing => None,
    };
    let mut sentence = match named {
        Some(named) => row.sentence.replace("{}", &format!("'{}'", shown(&named, 120))),
        None => row.sentence.replace(": {}", "").replace(" {}", ""),
    };
    if row.code == "wrong-architecture"
        && let (Some(image), Some(engine)) = (c.architecture.as_deref(), &host.engine)
        && family(image) != family(&engine.architecture)
    {
        sentence = format!(
            "Wrong architecture: the image is for {}, the host is {}.",
            family(image),
            family(&engine.architecture)
        );
    }
    if row.sentence == PORT_IN_USE
        && let Some((_, port)) = address(text).as_deref().and_then(|a| a.rsplit_once(':'))
    {
        sentence = format!("Cannot start: port {port} is already in use on '{}'.", c.host);
    }
    Some(Cause { code: row.code, sentence, advice: row.advice, evidence: vec![shown(evidence.trim(), 400)] })
}

/// One name for each architecture: engines use two.
fn family(architecture: &str) -> &str {
    match architecture {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        "armv7l" | "armhf" => "arm",
        other => other,
    }
}

/// `exec: "frost": executable…` and ``exec: \"frost\": …`` name `frost`; `exec /bin/frost: …` too.
fn quoted_after_exec(text: &str) -> Option<String> {
    let plain = text.replace("\\\"", "\"");
    let after = plain.split("exec").skip(1).find(|part| {
        part.starts_with(": \"")
            || part.starts_with(" \"")
            || part.starts_with(": `")
            || part.starts_with(" /")
    });
    let after = after?;
    let quote = after.find(['"', '`']);
    let found = match quote {
        Some(begin) if begin < 4 => after[begin + 1..].split(['"', '`']).next(),
        _ => after.trim_start_matches([':', ' ']).split([':', ' ']).next(),
    };
    found.filter(|f| !f.is_empty()).map(str::to_owned)
}

fn path(text: &str) -> Option<String> {
    let begins = |at: usize| at == 0 || !text.as_bytes()[at - 1].is_ascii_alphanumeric();
    let at = text.match_indices('/').map(|(at, _)| at).find(|&at| {
        begins(at) && text[at + 1..].starts_with(|c: char| c.is_alphanumeric() || c == '.' || c == '_')
    })?;
    let end = text[at..]
        .find(|c: char| c.is_whitespace() || matches!(c, '"' | '\'' | ',' | ':' | '`' | '\\' | ';'))
        .unwrap_or(text.len() - at);
    Some(text[at..at + end].to_owned())
}

pub(super) fn address(text: &str) -> Option<String> {
    text.split(|c: char| c.is_whitespace() || matches!(c, '"' | '\'' | ',')).find_map(|word| {
        let word = word.trim_end_matches([':', '.', ')']);
        let (host, port) = word.rsplit_once(':')?;
        let is_port = !port.is_empty() && port.len() <= 5 && port.bytes().all(|b| b.is_ascii_digit());
        let is_host = host.is_empty()
            || host.bytes().all(|b| b.is_ascii_digit() || matches!(b, b'.' | b':' | b'[' | b']'));
        (is_port && is_host).then(|| word.to_owned())
    })
}

/// The most telling of the last lines: the last one with a word of trouble, else the last one.
fn last_word(c: &Container) -> Option<String> {
    let lines = || c.last_lines.iter().rev().map(|l| l.trim()).filter(|l| !l.is_empty());
    let telling = lines().take(10).find(|l| {
        let lower = l.to_lowercase();
        TELLING.iter().any(|word| lower.contains(word))
    });
    telling.or_else(|| lines().next()).map(|l| shown(l, 200))
}

/// The last lines as evidence.
pub(super) fn tail(c: &Container) -> Vec<String> {
    let from = c.last_lines.len().saturating_sub(SHOWN_LINES);
    c.last_lines[from..].iter().map(|l| format!("log: {}", shown(l.trim_end(), 300))).collect()
}
