//! Why a container or a host needs attention: rules over what the engine reports, worst first.
//!
//! A rule looks at the state and says whether something is wrong; [`causes`] holds the tables that read
//! the engine's words, exit codes and last log lines and say why. The attention list orders itself in
//! [`order`].

pub mod causes;
pub mod links;

use crate::container::{Container, Health, Reason, Severity, State};
use crate::host::{Host, LinkState};
use crate::jobs::{JobRun, RunOutcome};
use crate::note::Note;
use crate::text::shown;
use causes::{Cause, LAST_OUTPUT, cause};

/// Starts within ten minutes from which a container counts as looping.
pub const LOOP_STARTS: u32 = 3;
/// The share of a disk's space from which it is worth a warning, and from which it is trouble.
const DISK_FILLING: f64 = 0.85;
const DISK_FULL: f64 = 0.95;
/// A clock that differs by more makes log times and certificates doubtful, in milliseconds.
const CLOCK_OFF_MS: u64 = 30_000;

type Rule = fn(&Container, &Host) -> Option<Reason>;

const RULES: &[Rule] =
    &[out_of_memory, restart_loop, dead, start_failed, unhealthy, killed, failed_exit, newer_image];

/// Judges one container on its host; `None` when nothing is wrong with it.
pub fn judge(container: &Container, host: &Host) -> Option<Reason> {
    RULES.iter().find_map(|rule| rule(container, host)).map(ranked)
}

/// Gives a reason its place in the attention list.
fn ranked(mut reason: Reason) -> Reason {
    reason.rank = rank(&reason);
    reason
}

/// Judges a host; `None` when nothing is wrong with it.
pub fn judge_host(host: &Host) -> Option<Reason> {
    if host.state == LinkState::Stale {
        let problem = host.problem.as_ref()?;
        return Some(ranked(Reason {
            severity: Severity::Trouble,
            rank: 0,
            because: None,
            code: "host-lost".to_owned(),
            sentence: problem.sentence.clone(),
            advice: problem.advice.clone(),
            evidence: Vec::new(),
        }));
    }
    disk(host).or_else(|| clock(host)).map(ranked)
}

fn disk(host: &Host) -> Option<Reason> {
    let (total, used) = (host.disk.total.filter(|&t| t > 0)?, host.disk.used?);
    let share = used as f64 / total as f64;
    let full = share >= DISK_FULL;
    if share < DISK_FILLING {
        return None;
    }
    let free = total.saturating_sub(used);
    let part = |name: &str, bytes: Option<u64>| bytes.map(|b| format!("{name}: {}", bytes_words(b)));
    let evidence = [
        part("images", host.disk.images),
        part("volumes", host.disk.volumes),
        part("written by containers", host.disk.containers),
        part("build cache", host.disk.build_cache),
    ];
    Some(Reason {
        severity: if full { Severity::Trouble } else { Severity::Warning },
        rank: 0,
        because: None,
        code: if full { "disk-full" } else { "disk-filling" }.to_owned(),
        sentence: format!(
            "Disk of the engine's data {:.0} % full: {} of {} free.",
            (share * 100.0).floor(),
            bytes_words(free),
            bytes_words(total)
        ),
        advice: disk_advice(host, used),
        evidence: evidence.into_iter().flatten().collect(),
    })
}

/// What can help depends on what fills the disk.
fn disk_advice(host: &Host, used: u64) -> String {
    let d = &host.disk;
    let parts = [
        (d.images, "Mostly images. Tidy removes the unused ones."),
        (d.volumes, "Mostly volumes. Check the largest; remove data only when it is no longer needed."),
        (d.containers, "Mostly files written by containers. Find the one that grows, and where it writes."),
        (d.build_cache, "Mostly build cache. Tidy empties it."),
    ];
    let known: u64 = parts.iter().filter_map(|(bytes, _)| *bytes).sum();
    if known > 0 && known < used / 2 {
        let beside = bytes_words(used - known);
        return format!(
            "Tidying helps little: {beside} are not the engine's. Find what fills the disk on the host, container logs included."
        );
    }
    let most = parts.iter().filter_map(|(bytes, words)| bytes.map(|b| (b, *words))).max_by_key(|(b, _)| *b);
    most.filter(|(b, _)| *b > 0).map_or("Find what fills it on the host.", |(_, words)| words).to_owned()
}

fn clock(host: &Host) -> Option<Reason> {
    let ahead = host.machine.clock_ahead_ms.filter(|ms| ms.unsigned_abs() > CLOCK_OFF_MS)?;
    let seconds = ahead.unsigned_abs() / 1000;
    let side = if ahead > 0 { "ahead of" } else { "behind" };
    Some(Reason {
        severity: Severity::Warning,
        rank: 0,
        because: None,
        code: "clock-off".to_owned(),
        sentence: format!("Clock off: {seconds} s {side} the service's, and so are the times of its logs."),
        advice: "Turn on time synchronization on the host.".to_owned(),
        evidence: Vec::new(),
    })
}

/// Bytes in the largest binary unit that fits.
pub fn bytes_words(bytes: u64) -> String {
    const UNITS: [&str; 5] = ["B", "KiB", "MiB", "GiB", "TiB"];
    let mut value = bytes as f64;
    let mut unit = 0;
    while value >= 1024.0 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    if unit == 0 || value >= 100.0 {
        format!("{value:.0} {}", UNITS[unit])
    } else {
        format!("{value:.1} {}", UNITS[unit])
    }
}

/// Why a stack that is not as its newest revision says needs attention; `None` when nothing differs.
pub fn drift(host: &str, stack: &str, revision: u64, differs: &[String]) -> Option<Reason> {
    const NAMED: usize = 3;
    if differs.is_empty() {
        return None;
    }
    let mut names: Vec<String> = differs.iter().take(NAMED).cloned().collect();
    if differs.len() > NAMED {
        names.push(format!("{} more", differs.len() - NAMED));
    }
    let what = names.join(", ");
    Some(ranked(Reason {
        severity: Severity::Warning,
        rank: 0,
        because: None,
        code: "drift".to_owned(),
        sentence: format!("Drift from revision {revision} of the stack {stack}: {what}."),
        advice: "Apply the revision again, or save what runs as a new revision.".to_owned(),
        evidence: vec![format!("'gubernum show drift {host}/{stack}' lists every difference")],
    }))
}

/// A note that a member has pinned to the attention list.
pub fn note(note: &Note) -> Reason {
    let first = note.text.lines().next().unwrap_or_default();
    ranked(Reason {
        severity: Severity::Notice,
        rank: 0,
        because: None,
        code: "note".to_owned(),
        sentence: format!("Note by {}: {}", note.author, crate::text::shown(first, 200)),
        advice: "Unpin or remove the note once it no longer matters.".to_owned(),
        evidence: vec![format!("'gubernum list notes {}' shows all of it", note.on)],
    })
}

/// What is wrong with a job; `None` where its last run was good.
pub fn job(run: &JobRun) -> Option<Reason> {
    if !run.outcome.is_bad() {
        return None;
    }
    let reference = format!("{}/{}/{}", run.host, run.stack, run.service);
    let name = format!("Job {} of {}", run.service, run.stack);
    let is_missed = run.outcome == RunOutcome::Missed;
    let sentence = match &run.sentence {
        _ if is_missed && run.missed > 1 => format!("{name} missed its last {} runs.", run.missed),
        _ if is_missed => format!("{name} missed its scheduled run."),
        Some(why) => format!("{name} failed: {}.", why.trim_end_matches('.')),
        None => format!("{name} failed."),
    };
    Some(ranked(Reason {
        severity: if is_missed { Severity::Warning } else { Severity::Trouble },
        rank: 0,
        because: None,
        code: if is_missed { "job-missed" } else { "job-failed" }.to_owned(),
        sentence,
        advice: if is_missed {
            "Run it now if it cannot wait for its next scheduled run."
        } else {
            "Read its output. Run it again once the cause is fixed."
        }
        .to_owned(),
        evidence: vec![format!("'gubernum show job {reference}' lists its runs and their output")],
    }))
}

/// The place of a reason in the attention list: by severity, then by the rule's weight. Equal ones follow each other by
/// host and container.
pub fn rank(reason: &Reason) -> u16 {
    let weight: u16 = match reason.code.as_str() {
        "host-lost" => 0,
        "disk-full" => 1,
        "restart-loop" => 2,
        "out-of-memory" => 3,
        "unhealthy" => 4,
        "killed" | "failed-exit" => 6,
        "dead" => 7,
        "disk-filling" | "clock-off" => 8,
        _ => 5,
    };
    let severity: u16 = match reason.severity {
        Severity::Trouble => 0,
        Severity::Warning => 100,
        Severity::Notice => 200,
    };
    severity + weight
}

fn trouble(code: &str, sentence: String, advice: &str, evidence: Vec<String>) -> Option<Reason> {
    Some(Reason {
        severity: Severity::Trouble,
        rank: 0,
        because: None,
        code: code.to_owned(),
        sentence,
        advice: advice.to_owned(),
        evidence,
    })
}

fn newer_image(c: &Container, _: &Host) -> Option<Reason> {
    c.newer_image.then(|| Reason {
        severity: Severity::Notice,
        rank: 0,
        because: None,
        code: "newer-image".to_owned(),
        sentence: format!("A newer image is available for {}.", shown(&c.image, 120)),
        advice: "Update. The current version stays available for rollback.".to_owned(),
        evidence: Vec::new(),
    })
}

fn ended(c: &Container) -> bool {
    matches!(c.state, State::Exited | State::Restarting | State::Dead)
}

fn out_of_memory(c: &Container, _: &Host) -> Option<Reason> {
    if !(c.out_of_memory && ended(c)) {
        return None;
    }
    let (sentence, advice) = match c.memory_limit {
        Some(limit) => (
            format!("Out of memory: killed at its {} limit.", bytes_words(limit)),
            "Raise its memory limit, or find what grows. Its last log lines show what it was doing.",
        ),
        None => (
            "Out of memory: killed when the host ran out of memory; it has no memory limit.".to_owned(),
            "Check what uses the host's memory. A limit for each container keeps one from starving the others.",
        ),
    };
    let mut evidence = vec!["the engine reports: out of memory".to_owned()];
    evidence.extend(c.exit_code.map(exit_words));
    evidence.extend(causes::tail(c));
    trouble("out-of-memory", sentence, advice, evidence)
}

fn restart_loop(c: &Container, host: &Host) -> Option<Reason> {
    let loops = c.state == State::Restarting || (c.recent_starts >= LOOP_STARTS && c.restart_count > 0);
    if !loops {
        return None;
    }
    let times = match c.restart_count {
        0 => None,
        1 => Some("1 restart".to_owned()),
        n => Some(format!("{n} restarts")),
    };
    let code = c.exit_code.filter(|_| c.state != State::Running);
    let last = code.map(|code| format!("last {}", exit_words(code)));
    let figures: Vec<String> = times.into_iter().chain(last).collect();
    let colon = if figures.is_empty() { "" } else { ": " };
    let found = cause(c, host);
    // The code has been told already.
    let why = found.as_ref().map_or(String::new(), |f| match f.sentence.split_once(LAST_OUTPUT) {
        Some((_, words)) if f.code == "failed-exit" => format!("{LAST_OUTPUT}{words}"),
        _ => format!(" {}", f.sentence),
    });
    let advice = found.as_ref().map_or("Read its last log lines; stop it if it does harm.", |f| f.advice);
    let starts = c.recent_starts.max(1);
    let mut evidence =
        vec![format!("{starts} {} in the last ten minutes", if starts == 1 { "start" } else { "starts" })];
    evidence.extend(found.map(|f| f.evidence).unwrap_or_else(|| causes::tail(c)));
    trouble("restart-loop", format!("Restart loop{colon}{}.{why}", figures.join(", ")), advice, evidence)
}

fn dead(c: &Container, _: &Host) -> Option<Reason> {
    (c.state == State::Dead).then_some(())?;
    trouble(
        "dead",
        "Dead: the engine removed only half of it and cannot start it again.".to_owned(),
        "Remove it with force, then deploy it again.",
        c.error.iter().map(|e| shown(e, 300)).collect(),
    )
}

fn start_failed(c: &Container, host: &Host) -> Option<Reason> {
    if !matches!(c.state, State::Created | State::Exited) {
        return None;
    }
    let error = c.error.as_deref().filter(|e| !e.is_empty())?;
    match cause(c, host) {
        Some(Cause { code, sentence, advice, evidence }) => trouble(code, sentence, advice, evidence),
        None => trouble(
            "start-failed",
            format!("Cannot start: {}", shown(error, 240)),
            "Fix the cause above, then start it.",
            Vec::new(),
        ),
    }
}

fn unhealthy(c: &Container, _: &Host) -> Option<Reason> {
    if !(c.health == Health::Unhealthy && c.state == State::Running) {
        return None;
    }
    let output = c.health_output.as_deref().map(str::trim).filter(|o| !o.is_empty());
    let sentence = match output {
        Some(o) => format!("Unhealthy: the health check reports {}", shown(o, 200)),
        None => "Unhealthy: the health check fails without output.".to_owned(),
    };
    let mut evidence = Vec::new();
    if c.failing_checks > 0 {
        evidence.push(format!("{} failed checks in a row", c.failing_checks));
    }
    trouble("unhealthy", sentence, "Read its logs; restart it if the cause has passed.", evidence)
}

/// It was ended by a signal, and nobody asked the engine for that.
fn killed(c: &Container, _: &Host) -> Option<Reason> {
    let code = c.exit_code.filter(|_| c.state == State::Exited)?;
    let signal = match code {
        137 => "SIGKILL",
        143 => "SIGTERM",
        130 => "SIGINT",
        129 => "SIGHUP",
        _ => return None,
    };
    if c.asked_to_end != Some(false) {
        return None;
    }
    let mut evidence = vec![exit_words(code), "no stop or kill request reached the engine".to_owned()];
    evidence.extend(causes::tail(c));
    let memory = c
        .memory_limit
        .filter(|_| code == 137)
        .map(|l| format!(" Its memory limit is {}: the kernel may have killed it for that.", bytes_words(l)));
    Some(Reason {
        severity: if c.restart_policy == "no" { Severity::Warning } else { Severity::Trouble },
        rank: 0,
        because: None,
        code: "killed".to_owned(),
        sentence: format!("Killed: {signal} from outside the engine.{}", memory.unwrap_or_default()),
        advice: "Find out who or what kills processes on the host, then start it again.".to_owned(),
        evidence,
    })
}

fn failed_exit(c: &Container, host: &Host) -> Option<Reason> {
    let code = c.exit_code.filter(|&code| code != 0 && c.state == State::Exited)?;
    // Somebody or the host asked it to end: not a failure of its own.
    if matches!(code, 129 | 130 | 137 | 143) && !c.out_of_memory {
        return None;
    }
    let found = cause(c, host);
    let severity = if c.restart_policy == "no" { Severity::Warning } else { Severity::Trouble };
    let (word, sentence, advice, evidence) = match found {
        Some(f) => (f.code, f.sentence, f.advice, f.evidence),
        None => (
            "failed-exit",
            format!("Exited with {}.", code_words(code)),
            "Its last log lines show why. Start it again once that is fixed.",
            causes::tail(c),
        ),
    };
    Some(Reason {
        severity,
        rank: 0,
        because: None,
        code: word.to_owned(),
        sentence,
        advice: advice.to_owned(),
        evidence,
    })
}

/// An exit code in words, by the shell's conventions: 126, 127 and 128 + signal.
pub fn exit_words(code: i64) -> String {
    format!("exit {}", code_words(code))
}

/// The same without the word "exit".
fn code_words(code: i64) -> String {
    let meaning = match code {
        126 => "command not executable",
        127 => "command not found",
        129 => "terminal closed",
        130 => "interrupted",
        132 => "illegal instruction",
        134 => "aborted",
        136 => "arithmetic error",
        137 => "killed",
        139 => "memory access fault",
        141 => "broken pipe",
        143 => "terminated",
        _ => return format!("code {code}"),
    };
    format!("code {code} ({meaning})")
}

#[cfg(test)]
#[path = "../reason_tests.rs"]
mod tests;
