//! Command lines as people write them: what is taken, and what is refused before anything is asked of the service.

use clap::error::ErrorKind;
use clap::{CommandFactory, Parser};
use gubernum_core::definition::compose::words;
use rstest::rstest;

use super::*;

fn parse(line: &str) -> Result<Arguments, clap::Error> {
    let line = words(line).unwrap_or_else(|| panic!("a quote is open: {line}"));
    Arguments::try_parse_from(std::iter::once("gubernum".to_owned()).chain(line))
}

#[test]
fn the_tree_of_commands_is_sound() {
    Arguments::command().debug_assert();
}

#[rstest]
#[case("serve")]
#[case("serve --listen 127.0.0.1:7310 --data-dir /srv/gubernum")]
#[case("serve --behind-proxy --public-url https://gubernum.tarnvalley.example")]
#[case("serve --behind-proxy false")]
#[case("serve --tls-certificate c.pem --tls-key k.pem")]
#[case("serve --host-name a --host-name b")]
#[case("demo --calm")]
#[case("demo --hosts 200 --each 25")]
#[case("audit verify")]
#[case("sign-in")]
#[case("sign-out")]
#[case("list hosts")]
#[case("list containers")]
#[case("list containers 'packhouse/*' --state running --output json")]
#[case("list containers --host packhouse --stack frostwatch")]
#[case("list images")]
#[case("list volumes --host packhouse")]
#[case("list networks")]
#[case("list stacks")]
#[case("list drift")]
#[case("scale packhouse/frostwatch api=3 --preview")]
#[case("set variable packhouse/frostwatch TAG=2 --comment later")]
#[case(
    "set source packhouse/frostwatch --repository https://git.tarnvalley.example/a.git --path stack.yaml --token-stdin"
)]
#[case("deploy --waiting --to packhouse --name frostwatch")]
#[case("rollback packhouse/frostwatch --revision 3")]
#[case("export packhouse/frostwatch@2 kept --stack")]
#[case("remove stack packhouse/frostwatch --volumes")]
#[case("remove source packhouse/frostwatch")]
#[case("list ports")]
#[case("list operations")]
#[case("list operations --member mara --kind restart --outcome failed --until 1h --before 40 --limit 5")]
#[case("list attention")]
#[case("list audit --member mara --action restart --since 24h --limit 10")]
#[case("show packhouse/frost-api")]
#[case("show host packhouse")]
#[case("logs '*/frost-*' --follow")]
#[case("logs packhouse/frost-api --tail 50 --since 15m --times")]
#[case("logs --stack frostwatch --grep timeout --grep refused --without health --ignore-case")]
#[case("logs packhouse/frost-api --only stderr")]
#[case("logs packhouse/frost-api --apart")]
#[case("use --live")]
#[case("use packhouse/frost-api --history 24h")]
#[case("watch")]
#[case("keep logs --all")]
#[case("keep logs --container packhouse/frost-api --days 3 --mebibytes 100")]
#[case("start packhouse/frost-api")]
#[case("stop packhouse/a packhouse/b --grace 5")]
#[case("restart '*/frost-*' --rolling --keep-going")]
#[case("restart '*/frost-*' --rolling 3")]
#[case("restart --stack frostwatch --preview")]
#[case("restart packhouse/a --no-wait --key once")]
#[case("kill packhouse/a --signal HUP")]
#[case("pause packhouse/a")]
#[case("resume packhouse/a")]
#[case("deploy packhouse/row --image tarn/row:1 --port 7311=8080 --port 53=53/udp")]
#[case("deploy packhouse/row coldstore/row --image tarn/row:1 --memory 512MiB --processors 0.5")]
#[case("deploy packhouse/row --file row.yaml --preview")]
#[case("deploy packhouse/row --file -")]
#[case("edit packhouse/row")]
#[case("edit packhouse/row --variable A=1 --unset B --unpublish 7311")]
#[case("clone packhouse/row --to packhouse --name row-2 --settings-only")]
#[case("update packhouse/row --image tarn/row:2 --watch 30")]
#[case("rollback packhouse/row")]
#[case("pull tarn/row:1 --host packhouse")]
#[case("tidy")]
#[case("tidy --safe --preview")]
#[case("tidy --all --host packhouse")]
#[case("shell packhouse/row")]
#[case("attach packhouse/row")]
#[case("run-once packhouse/row -- ls -l /data")]
#[case("run-once packhouse --image tarn/row:1 --mount data=/data --join front -- row --check")]
#[case("browse packhouse/row:/data")]
#[case("copy packhouse/row:/data/x .")]
#[case("preview update packhouse/row")]
#[case("retry 7")]
#[case("cancel 7")]
#[case("add host coldstore unix:///run/engine.sock")]
#[case("test host coldstore")]
#[case("remove packhouse/row")]
#[case("completions bash")]
#[case("manual /tmp/manual")]
fn lines_that_are_taken(#[case] line: &str) {
    if let Err(error) = parse(line) {
        panic!("'gubernum {line}': {error}");
    }
}

#[rstest]
#[case("", ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand)]
#[case("frobnicate", ErrorKind::InvalidSubcommand)]
#[case("list", ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand)]
#[case("list fruit", ErrorKind::InvalidSubcommand)]
#[case("list containers --state asleep --frob", ErrorKind::UnknownArgument)]
#[case("list hosts --output xml", ErrorKind::InvalidValue)]
#[case("list hosts --color mauve", ErrorKind::InvalidValue)]
#[case("list audit --limit 0", ErrorKind::ValueValidation)]
#[case("serve --listen", ErrorKind::InvalidValue)]
#[case("serve --tls-certificate c.pem", ErrorKind::MissingRequiredArgument)]
#[case("serve --tls-key k.pem", ErrorKind::MissingRequiredArgument)]
#[case("serve --behind-proxy perhaps", ErrorKind::InvalidValue)]
#[case("demo --each 3", ErrorKind::MissingRequiredArgument)]
#[case("show", ErrorKind::MissingRequiredArgument)]
#[case("logs packhouse/a --only both", ErrorKind::InvalidValue)]
#[case("logs packhouse/a --only stdout --apart", ErrorKind::ArgumentConflict)]
#[case("logs packhouse/a --tail many", ErrorKind::ValueValidation)]
#[case("logs packhouse/a --tail -1", ErrorKind::UnknownArgument)]
#[case("use --live --history 24h", ErrorKind::ArgumentConflict)]
#[case("restart packhouse/a --preview --no-wait", ErrorKind::ArgumentConflict)]
#[case("restart packhouse/a --keep-going", ErrorKind::MissingRequiredArgument)]
#[case("restart packhouse/a --grace soon", ErrorKind::ValueValidation)]
#[case("restart packhouse/a --rolling all", ErrorKind::ValueValidation)]
#[case("deploy --image tarn/row:1", ErrorKind::MissingRequiredArgument)]
#[case("deploy packhouse/row --pull sometimes", ErrorKind::InvalidValue)]
#[case("tidy --safe --all", ErrorKind::ArgumentConflict)]
#[case("clone packhouse/row --to packhouse --settings-only --volume", ErrorKind::ArgumentConflict)]
#[case("run-once packhouse/row --mount data=/data -- ls", ErrorKind::MissingRequiredArgument)]
#[case("run-once packhouse/row --memory 1g -- ls", ErrorKind::MissingRequiredArgument)]
#[case("retry", ErrorKind::MissingRequiredArgument)]
#[case("retry seven", ErrorKind::ValueValidation)]
#[case("cancel -1", ErrorKind::UnknownArgument)]
#[case("add host coldstore", ErrorKind::MissingRequiredArgument)]
#[case("completions tea", ErrorKind::InvalidValue)]
#[case("keep logs --days many --all", ErrorKind::ValueValidation)]
fn lines_that_are_refused(#[case] line: &str, #[case] kind: ErrorKind) {
    match parse(line) {
        Ok(_) => panic!("'gubernum {line}' is taken"),
        Err(error) => assert_eq!(error.kind(), kind, "'gubernum {line}': {error}"),
    }
}

#[rstest]
#[case("restrat packhouse/a", "restart")]
#[case("list container", "containers")]
#[case("logs packhouse/a --folow", "--follow")]
fn a_slip_is_reported_with_what_was_meant(#[case] line: &str, #[case] meant: &str) {
    let sentence = parse(line).err().map(|error| error.to_string()).unwrap_or_default();
    assert!(sentence.contains(meant), "{sentence}");
}

/// Every command says in a line what it does, and every option too: help, manual pages and completions are made of it.
#[test]
fn everything_is_described() {
    fn check(command: &clap::Command, path: &str, silent: &mut Vec<String>) {
        let path = format!("{path} {}", command.get_name());
        if command.get_about().is_none() {
            silent.push(path.clone());
        }
        for argument in command.get_arguments().filter(|a| !a.is_hide_set()) {
            if argument.get_help().is_none_or(|help| help.to_string().is_empty()) {
                silent.push(format!("{path}: {}", argument.get_id()));
            }
        }
        for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
            check(sub, &path, silent);
        }
    }
    let mut silent = Vec::new();
    check(&Arguments::command(), "", &mut silent);
    assert!(silent.is_empty(), "these say nothing: {silent:#?}");
}
