//! An example for each command, shown at the end of its help and in the man pages.
//!
//! They are in one table instead of beside each command, so that a test can go through them: every command has one, and
//! every one is a command line that the parser takes.

/// The path of each command, and a line as somebody would type it after `gubernum`.
const EXAMPLES: &[(&str, &str)] = &[
    ("serve", "serve --listen 192.0.2.10:7310 --data-dir /var/lib/gubernum"),
    ("audit verify", "audit verify --data-dir /var/lib/gubernum"),
    ("recover", "recover --data-dir /var/lib/gubernum --member mara"),
    ("seal-key", "seal-key --data-dir /var/lib/gubernum --new-passphrase-file passphrase.txt"),
    ("check", "check compose.yaml compose.override.yaml"),
    ("demo", "demo"),
    ("sign-in", "sign-in https://gubernum.tarnvalley.example:7310 --member mara"),
    ("sign-out", "sign-out"),
    ("list hosts", "list hosts"),
    ("list containers", "list containers '*/frostwatch-*' --state running"),
    ("list operations", "list operations --object packhouse/ --outcome failed --since 24h"),
    ("list attention", "list attention"),
    ("list images", "list images --unused"),
    ("list volumes", "list volumes --host packhouse"),
    ("list networks", "list networks --host packhouse"),
    ("list stacks", "list stacks"),
    ("list ports", "list ports --port 7311"),
    ("list events", "list events --object packhouse/auction-bids-1 --since 2h"),
    ("list kept-logs", "list kept-logs"),
    ("list registries", "list registries"),
    ("list tags", "list tags registry.tarnvalley.example/frostwatch/api"),
    ("list revisions", "list revisions packhouse/frostwatch"),
    ("list drift", "list drift"),
    ("list jobs", "list jobs"),
    ("list earlier", "list earlier packhouse/frostwatch-api-1"),
    ("list newer-images", "list newer-images --check"),
    ("list preferences", "list preferences"),
    ("list freezes", "list freezes"),
    ("list snoozes", "list snoozes"),
    ("list notes", "list notes host:packhouse"),
    ("list team", "list team"),
    ("list approvals", "list approvals"),
    ("list audit", "list audit --member jory --since 24h"),
    ("list syslog", "list syslog"),
    ("list directories", "list directories"),
    ("list members", "list members"),
    ("list roles", "list roles"),
    ("list invitations", "list invitations"),
    ("list rights", "list rights --member jory"),
    ("show", "show packhouse/frostwatch-api-1"),
    ("logs", "logs '*/frostwatch-*' --since 1h --grep 'timeout|refused' --follow"),
    ("usage", "usage --ranking 7d --sort memory"),
    ("watch", "watch"),
    ("keep logs", "keep logs --stack frostwatch --days 14"),
    ("set host", "set host packhouse --ports-address packhouse.tarnvalley.example"),
    ("set member", "set member jory --grant viewer --grant operator@host:packhouse"),
    ("set role", "set role night-shift --right see --right read-logs --right start-stop"),
    ("set preferences", "set preferences --session-hours 12"),
    ("set syslog", "set syslog logs.tarnvalley.example --ca collector-ca.pem"),
    ("set directory", "set directory openid.json --secret-file client-secret.txt --test"),
    (
        "set source",
        "set source packhouse/frostwatch --repository https://git.tarnvalley.example/frostwatch.git",
    ),
    ("set variable", "set variable packhouse/frostwatch TAG=3.4.2 --comment 'fixes the alarm'"),
    ("set file", "set file packhouse/auction-web-1:/app/settings.toml --mode 640"),
    ("start", "start packhouse/frostwatch-worker-1"),
    ("stop", "stop packhouse/frostwatch-worker-1 --grace 30"),
    ("restart", "restart '*/frostwatch-*' --rolling"),
    ("pause", "pause packhouse/frostwatch-worker-1"),
    ("resume", "resume packhouse/frostwatch-worker-1"),
    ("deploy", "deploy compose.yaml --to packhouse --preview"),
    ("adopt", "adopt packhouse/grading --preview"),
    ("scale", "scale packhouse/frostwatch api=3"),
    ("move", "move packhouse/frostwatch --stack --to coldstore --preview"),
    ("clone", "clone packhouse/frostwatch-api-1 --to coldstore --name frostwatch-trial --port 7311=17311"),
    ("edit", "edit packhouse/frostwatch-api-1 --variable LOG_LEVEL=debug --preview"),
    ("update", "update --stack auction --rolling"),
    ("rollback", "rollback packhouse/frostwatch-api-1"),
    ("pull", "pull registry.tarnvalley.example/frostwatch/api:3.5.0 --host '*'"),
    ("push", "push registry.tarnvalley.example/trial/api:1 --host packhouse"),
    ("tag", "tag trial/api:1 --host packhouse --new-name registry.tarnvalley.example/trial/api:1"),
    ("connect", "connect packhouse/trial frostwatch_default --alias trial"),
    ("disconnect", "disconnect packhouse/trial frostwatch_default"),
    ("tidy", "tidy --safe --preview"),
    ("shell", "shell packhouse/auction-web-1"),
    ("attach", "attach packhouse/auction-web-1"),
    ("run-once", "run-once packhouse/auction-web-1 -- ls -l /app"),
    ("run-job", "run-job coldstore/coldchain/night-report"),
    ("copy", "copy packhouse/auction-web-1:/app/settings.toml ."),
    ("browse", "browse packhouse/auction-web-1:/app"),
    ("create-folder", "create-folder packhouse/auction-web-1:/app/cache"),
    ("rename", "rename packhouse/auction-web-1:/app/settings.toml /app/settings.old"),
    ("delete", "delete packhouse/auction-web-1:/app/settings.old"),
    ("build", "build ./trial --host packhouse --tag registry.tarnvalley.example/trial/api:1"),
    ("export", "export packhouse/frostwatch frostwatch-files --stack"),
    ("import", "import trial-images.tar --host packhouse"),
    ("search", "search frostwatch"),
    ("preview", "preview update packhouse/frostwatch-worker-1"),
    ("retry", "retry 12"),
    ("kill", "kill packhouse/frostwatch-worker-1 --signal SIGHUP"),
    ("remove", "remove packhouse/trial --volumes"),
    ("remove host", "remove host annex"),
    ("remove kept-logs", "remove kept-logs 1"),
    ("remove image", "remove image packhouse/grading/classifier:11.9.0"),
    ("remove volume", "remove volume packhouse/grading_frames_2025"),
    ("remove network", "remove network office/ledger_trial"),
    ("remove stack", "remove stack packhouse/frostwatch --preview"),
    ("remove source", "remove source packhouse/frostwatch"),
    ("remove member", "remove member jory"),
    ("remove role", "remove role night-shift"),
    ("remove invitation", "remove invitation 3"),
    ("remove note", "remove note 5"),
    ("remove syslog", "remove syslog"),
    ("remove directory", "remove directory openid"),
    ("remove registry", "remove registry registry.tarnvalley.example"),
    ("cancel", "cancel 12"),
    (
        "add host",
        "add host annex tcp://192.0.2.9:2376 --ca ca.pem --certificate client.pem --key client-key.pem",
    ),
    ("add volume", "add volume packhouse/readings"),
    ("add network", "add network packhouse/cold-chain --subnet 10.91.4.0/24"),
    ("add registry", "add registry registry.tarnvalley.example --account deploy"),
    ("test host", "test host annex"),
    ("test registry", "test registry registry.tarnvalley.example --account deploy"),
    ("invite", "invite tess --grant viewer --grant operator@host:coldstore"),
    ("freeze", "freeze stack:auction --reason 'the sale is on' --hours 3"),
    ("unfreeze", "unfreeze 2"),
    ("snooze", "snooze container:packhouse/grading-sorter-1 --reason 'spare part on Tuesday' --hours 48"),
    ("unsnooze", "unsnooze 1"),
    ("note", "note host:packhouse 'Disk ordered, see @jory' --pin"),
    ("rotate-seal", "rotate-seal"),
    ("reset-password", "reset-password jory"),
    ("completions", "completions bash"),
    ("manual", "manual /usr/local/share/man/man1"),
];

/// The command line with an example in the help of each command.
pub(crate) fn with_examples(command: clap::Command) -> clap::Command {
    below(command, "")
}

fn below(command: clap::Command, path: &str) -> clap::Command {
    command.mut_subcommands(|sub| {
        let path = format!("{path} {}", sub.get_name()).trim_start().to_owned();
        let example = EXAMPLES.iter().find(|(of, _)| *of == path);
        let sub = match example {
            Some((_, line)) => sub.after_help(format!("Example:\n  gubernum {line}")),
            None => sub,
        };
        below(sub, &path)
    })
}

#[cfg(test)]
mod tests {
    use clap::{CommandFactory, Parser};
    use gubernum_core::definition::compose::words;

    use super::*;
    use crate::arguments::Arguments;

    fn paths(command: &clap::Command, path: &str, all: &mut Vec<String>) {
        for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
            let path = format!("{path} {}", sub.get_name()).trim_start().to_owned();
            if !sub.has_subcommands() || sub.is_args_conflicts_with_subcommands_set() {
                all.push(path.clone());
            }
            paths(sub, &path, all);
        }
    }

    #[test]
    fn every_command_has_an_example_and_every_example_a_command() {
        let mut all = Vec::new();
        paths(&Arguments::command(), "", &mut all);
        let told: Vec<&str> = EXAMPLES.iter().map(|(path, _)| *path).collect();
        let without: Vec<&String> = all.iter().filter(|path| !told.contains(&path.as_str())).collect();
        let strange: Vec<&&str> = told.iter().filter(|path| !all.iter().any(|p| p == **path)).collect();
        assert!(
            without.is_empty() && strange.is_empty(),
            "without one: {without:?}, no command: {strange:?}"
        );
    }

    #[test]
    fn every_example_is_a_line_that_is_taken() {
        for (path, line) in EXAMPLES {
            let line_words = words(line).unwrap();
            assert!(line.starts_with(path), "{path}: {line}");
            let parsed = Arguments::try_parse_from(std::iter::once("gubernum".to_owned()).chain(line_words));
            assert!(parsed.is_ok(), "gubernum {line}: {}", parsed.unwrap_err());
        }
    }

    #[test]
    fn the_help_ends_with_the_example() {
        let mut command = with_examples(Arguments::command());
        let restart = command.find_subcommand_mut("restart").unwrap();
        let help = restart.render_help().to_string();
        assert!(help.ends_with("Example:\n  gubernum restart '*/frostwatch-*' --rolling\n"), "{help}");
    }
}
