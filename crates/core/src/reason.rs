//! Why a container needs a person: rules over what the engine reports, worst first.
//!
//! Each rule is a plain function from the record to a sentence with its evidence; the first that
//! speaks wins. The list orders itself in [`order`].

use crate::container::{Container, Health, Reason, Severity, State};
use crate::text::shown;

/// Starts within ten minutes from which a container counts as looping.
pub const LOOP_STARTS: u32 = 3;

type Rule = fn(&Container) -> Option<Reason>;

const RULES: &[Rule] = &[out_of_memory, restart_loop, dead, start_failed, unhealthy, failed_exit];

/// Judges one container; `None` when nothing is wrong with it.
pub fn judge(container: &Container) -> Option<Reason> {
    RULES.iter().find_map(|rule| rule(container))
}

/// The order of the attention list: severity, then the rule's weight, then the reference.
pub fn order(reason: &Reason) -> (Severity, u8) {
    let weight = match reason.code.as_str() {
        "host-lost" => 0,
        "restart-loop" => 1,
        "out-of-memory" => 2,
        "unhealthy" => 3,
        "start-failed" => 4,
        "dead" => 5,
        _ => 6,
    };
    (reason.severity, weight)
}

fn trouble(code: &str, sentence: String, advice: &str) -> Option<Reason> {
    Some(Reason { severity: Severity::Trouble, code: code.to_owned(), sentence, advice: advice.to_owned() })
}

fn ended(c: &Container) -> bool {
    matches!(c.state, State::Exited | State::Restarting | State::Dead)
}

fn out_of_memory(c: &Container) -> Option<Reason> {
    if !(c.out_of_memory && ended(c)) {
        return None;
    }
    trouble(
        "out-of-memory",
        "The kernel ended it because it reached its memory limit.".to_owned(),
        "Raise its memory limit or find what grows; its last log lines tell what it was doing.",
    )
}

fn restart_loop(c: &Container) -> Option<Reason> {
    let loops = c.state == State::Restarting || (c.recent_starts >= LOOP_STARTS && c.restart_count > 0);
    if !loops {
        return None;
    }
    let times = match c.restart_count {
        0 => "It keeps ending".to_owned(),
        1 => "It ended and was restarted once".to_owned(),
        n => format!("It keeps ending: restarted {n} times"),
    };
    let code = c.exit_code.filter(|_| c.state != State::Running);
    let last = code.map_or(String::new(), |code| format!(", last with {}", exit_words(code)));
    trouble("restart-loop", format!("{times}{last}."), "Read its last log lines; stop it if it does harm.")
}

fn dead(c: &Container) -> Option<Reason> {
    (c.state == State::Dead).then_some(())?;
    trouble(
        "dead",
        "The engine gave up on it half-way and cannot start it again.".to_owned(),
        "Remove it with force and deploy it anew.",
    )
}

fn start_failed(c: &Container) -> Option<Reason> {
    if !matches!(c.state, State::Created | State::Exited) {
        return None;
    }
    let error = c.error.as_deref().filter(|e| !e.is_empty())?;
    trouble(
        "start-failed",
        format!("It could not be started: {}", shown(error, 240)),
        "Mend what the engine names, then start it.",
    )
}

fn unhealthy(c: &Container) -> Option<Reason> {
    if !(c.health == Health::Unhealthy && c.state == State::Running) {
        return None;
    }
    let output = c.health_output.as_deref().map(str::trim).filter(|o| !o.is_empty());
    let sentence = match output {
        Some(o) => format!("Its health check fails: {}", shown(o, 200)),
        None => "Its health check fails and says nothing.".to_owned(),
    };
    trouble("unhealthy", sentence, "Read its logs; restart it if the cause has passed.")
}

fn failed_exit(c: &Container) -> Option<Reason> {
    let code = c.exit_code.filter(|&code| code != 0 && c.state == State::Exited)?;
    // Somebody or the host asked it to end: not a failure of its own.
    if matches!(code, 130 | 137 | 143) && !c.out_of_memory {
        return None;
    }
    Some(Reason {
        severity: if c.restart_policy == "no" { Severity::Warning } else { Severity::Trouble },
        code: "failed-exit".to_owned(),
        sentence: format!("It ended with {}.", exit_words(code)),
        advice: "Its last log lines tell why; start it again once that is mended.".to_owned(),
    })
}

/// An exit code in words, by the shell's conventions: 126, 127 and 128 + signal.
pub fn exit_words(code: i64) -> String {
    let meaning = match code {
        126 => "the command may not be executed",
        127 => "the command was not found",
        130 => "interrupted",
        132 => "illegal instruction",
        134 => "aborted",
        136 => "arithmetic error",
        137 => "killed",
        139 => "memory access fault",
        141 => "broken pipe",
        143 => "asked to end",
        _ => return format!("exit code {code}"),
    };
    format!("exit code {code} ({meaning})")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn with(change: impl FnOnce(&mut Container)) -> Container {
        let mut c = Container::blank("packhouse", "frost-api", "ab12");
        change(&mut c);
        c
    }

    #[rstest]
    #[case::healthy(with(|_| ()), None)]
    #[case::ended_well(with(|c| { c.state = State::Exited; c.exit_code = Some(0); }), None)]
    #[case::asked_to_end(with(|c| { c.state = State::Exited; c.exit_code = Some(143); }), None)]
    #[case::unhealthy(with(|c| c.health = Health::Unhealthy), Some("unhealthy"))]
    #[case::oom(with(|c| { c.state = State::Exited; c.exit_code = Some(137); c.out_of_memory = true; }), Some("out-of-memory"))]
    #[case::was_oom_but_runs(with(|c| c.out_of_memory = true), None)]
    #[case::looping(with(|c| { c.state = State::Restarting; c.restart_count = 9; c.exit_code = Some(1); }), Some("restart-loop"))]
    #[case::looping_caught_running(with(|c| { c.recent_starts = 4; c.restart_count = 4; }), Some("restart-loop"))]
    #[case::restarted_by_hand(with(|c| c.recent_starts = 4), None)]
    #[case::failed(with(|c| { c.state = State::Exited; c.exit_code = Some(2); }), Some("failed-exit"))]
    #[case::no_start(with(|c| { c.state = State::Created; c.error = Some("port is taken".into()); }), Some("start-failed"))]
    #[case::dead(with(|c| c.state = State::Dead), Some("dead"))]
    fn rules(#[case] c: Container, #[case] code: Option<&str>) {
        assert_eq!(judge(&c).map(|r| r.code), code.map(str::to_owned));
    }

    #[test]
    fn the_sentence_carries_the_evidence() {
        let c = with(|c| {
            c.state = State::Restarting;
            c.restart_count = 9;
            c.exit_code = Some(127);
        });
        let sentence = judge(&c).unwrap().sentence;
        assert_eq!(
            sentence,
            "It keeps ending: restarted 9 times, last with exit code 127 (the command was not found)."
        );
    }

    #[test]
    fn hostile_output_is_shown_not_obeyed() {
        let c = with(|c| {
            c.health = Health::Unhealthy;
            c.health_output = Some("\u{1b}[31mred\u{7}".into());
        });
        let sentence = judge(&c).unwrap().sentence;
        assert!(!sentence.contains('\u{1b}') && !sentence.contains('\u{7}'), "{sentence:?}");
    }
}
