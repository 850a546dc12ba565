//! The program of a simulated container: a list of actions, optionally repeated.
//!
//! Programs are data, so that a test can send one along in a label when it creates a container
//! through the engine's API.

use serde::{Deserialize, Serialize};

/// The label that carries a program as JSON when a container is created over the API.
pub const PROGRAM_LABEL: &str = "sim.program";

/// One thing that a program does.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Action {
    /// Writes a line to standard output.
    Out(String),
    /// Writes a line to standard error.
    Err(String),
    /// Writes these bytes to standard output as they are, without a line end.
    Bytes(Vec<u8>),
    /// Writes one line of this many letters `x`.
    Long(usize),
    /// Waits this many milliseconds.
    Wait(u64),
    /// Writes lines that look like the chatter of a service, one at this interval in milliseconds, for ever.
    Chatter {
        /// The service's topic, which decides the words.
        topic: String,
        /// Milliseconds between two lines, on average.
        every: u64,
    },
    /// Writes numbered lines as fast as they are read, for ever.
    Flood,
    /// Is ended by the kernel for want of memory.
    OutOfMemory,
    /// Ends.
    Exit(i64),
}

/// A program.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Program {
    /// What it does, in order. After the last action it idles.
    pub actions: Vec<Action>,
    /// Whether it pays no heed to SIGTERM.
    #[serde(default)]
    pub stubborn: bool,
    /// Milliseconds between SIGTERM and its end.
    #[serde(default)]
    pub slow_end: u64,
    /// The error with which every start fails.
    #[serde(default)]
    pub start_error: Option<String>,
}

impl Program {
    /// A program of these actions that ends when it is asked to.
    pub fn new(actions: Vec<Action>) -> Self {
        Self { actions, stubborn: false, slow_end: 30, start_error: None }
    }

    /// A program that only idles.
    pub fn idle() -> Self {
        Self::new(Vec::new())
    }

    /// What a container without a program of its own does, as far as its command is understood: `echo`, `env`, `sleep`,
    /// `true`, `false` and `exit`, alone or as a shell's script. One that is not understood only idles.
    pub fn of_command(command: &[String], environment: &[String]) -> Self {
        let words: Vec<&str> = command.iter().map(String::as_str).collect();
        let script = match words[..] {
            ["sh" | "/bin/sh" | "bash" | "/bin/bash", "-c" | "-lc", script] => script.to_owned(),
            [] => return Self::idle(),
            _ => words.join(" "),
        };
        let mut actions = Vec::new();
        let mut code = 0;
        for line in script.split(';').map(str::trim).filter(|l| !l.is_empty()) {
            let (program, rest) = line.split_once(' ').unwrap_or((line, ""));
            match program {
                "echo" => {
                    let (rest, to_stderr) = rest.strip_suffix(">&2").map_or((rest, false), |r| (r, true));
                    let text = rest.trim().trim_matches(['"', '\'']).to_owned();
                    actions.push(if to_stderr { Action::Err(text) } else { Action::Out(text) });
                }
                "env" => actions.extend(environment.iter().cloned().map(Action::Out)),
                "sleep" => {
                    let seconds: f64 = rest.trim().parse().unwrap_or(0.0);
                    let span = std::time::Duration::from_secs_f64(seconds.clamp(0.0, 1e6));
                    actions.push(Action::Wait(u64::try_from(span.as_millis()).unwrap_or(u64::MAX)));
                }
                "true" | "false" => code = i64::from(program == "false"),
                "exit" => {
                    code = rest.trim().parse().unwrap_or(0);
                    break;
                }
                _ => return Self::idle(),
            }
        }
        actions.push(Action::Exit(code));
        Self::new(actions)
    }

    /// A service that writes a line now and then.
    pub fn service(topic: &str, every: u64) -> Self {
        Self::new(vec![
            Action::Out(format!("{topic}: starting")),
            Action::Wait(400),
            Action::Out(format!("{topic}: ready")),
            Action::Chatter { topic: topic.to_owned(), every },
        ])
    }

    /// The same shell command for a real engine, whose image holds busybox.
    pub fn shell(&self) -> String {
        let mut script = String::new();
        if self.stubborn {
            script.push_str("trap '' TERM; ");
        } else {
            script.push_str("trap 'exit 143' TERM; ");
        }
        for action in &self.actions {
            script.push_str(&shell_action(action));
            script.push_str("; ");
        }
        // In the background, so that the shell's trap is heard at once.
        script.push_str("while true; do sleep 1 & wait $!; done");
        script
    }
}

fn shell_action(action: &Action) -> String {
    let quoted = |text: &str| format!("'{}'", text.replace('\'', "'\\''"));
    match action {
        Action::Out(text) => format!("printf '%s\\n' {}", quoted(text)),
        Action::Err(text) => format!("printf '%s\\n' {} >&2", quoted(text)),
        Action::Bytes(bytes) => {
            let octal: String = bytes.iter().map(|b| format!("\\{b:03o}")).collect();
            format!("printf '{octal}'")
        }
        Action::Long(length) => format!("head -c {length} /dev/zero | tr '\\0' x; echo"),
        Action::Wait(ms) => format!("sleep {}.{:03}", ms / 1000, ms % 1000),
        Action::Chatter { topic, every } => {
            format!("while true; do echo {}; sleep {}.{:03}; done", quoted(topic), every / 1000, every % 1000)
        }
        Action::Flood => {
            "yes 'a line of the flood that is about as long as lines are in earnest, give or take'".to_owned()
        }
        Action::OutOfMemory => "tail /dev/zero".to_owned(),
        Action::Exit(code) => format!("exit {code}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(command: &[&str]) -> Vec<Action> {
        let command: Vec<String> = command.iter().map(|w| (*w).to_owned()).collect();
        Program::of_command(&command, &["TZ=Europe/London".to_owned()]).actions
    }

    #[test]
    fn simple_commands_do_what_they_say() {
        let out = |text: &str| Action::Out(text.to_owned());
        assert_eq!(of(&["echo", "ready", "now"]), [out("ready now"), Action::Exit(0)]);
        assert_eq!(of(&["sh", "-c", "echo 'a b'; exit 3"]), [out("a b"), Action::Exit(3)]);
        let to_stderr = of(&["sh", "-c", "echo oh >&2; false"]);
        assert_eq!(to_stderr, [Action::Err("oh".to_owned()), Action::Exit(1)]);
        assert_eq!(of(&["env"]), [out("TZ=Europe/London"), Action::Exit(0)]);
        assert_eq!(of(&["sleep", "1.5"]), [Action::Wait(1500), Action::Exit(0)]);
        assert_eq!(of(&["sleep", "-4"]), [Action::Wait(0), Action::Exit(0)]);
        assert_eq!(of(&["sh", "-c", "exit 4; echo never"]), [Action::Exit(4)]);
        assert_eq!(of(&["true"]), [Action::Exit(0)]);
    }

    #[test]
    fn what_is_not_understood_idles() {
        let idle = Program::idle().actions;
        assert_eq!(of(&[]), idle);
        assert_eq!(of(&["/bin/row", "--serve"]), idle);
        assert_eq!(of(&["sh", "-c", "echo a; frobnicate"]), idle);
    }

    #[test]
    fn the_same_program_is_written_for_a_real_shell() {
        let mut program = Program::new(vec![
            Action::Out("it's ready".into()),
            Action::Err("oh".into()),
            Action::Bytes(vec![0, 27, b'x']),
            Action::Wait(1050),
            Action::Exit(2),
        ]);
        let script = program.shell();
        for part in [
            "trap 'exit 143' TERM; ",
            "'it'\\''s ready'",
            "'oh' >&2",
            "printf '\\000\\033\\170'",
            "sleep 1.050",
            "exit 2; ",
        ] {
            assert!(script.contains(part), "{part} in {script}");
        }
        program.stubborn = true;
        assert!(program.shell().starts_with("trap '' TERM; "));
        let json = serde_json::to_string(&program).unwrap();
        assert_eq!(serde_json::from_str::<Program>(&json).unwrap(), program, "as it travels in a label");
    }
}
