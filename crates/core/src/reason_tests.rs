use super::*;
use crate::host::{EngineFacts, LinkProblem};
use rstest::rstest;

fn with(change: impl FnOnce(&mut Container)) -> Container {
    let mut c = Container::blank("packhouse", "frost-api", "ab12");
    change(&mut c);
    c
}

fn exited(code: i64, change: impl FnOnce(&mut Container)) -> Container {
    with(|c| {
        c.state = State::Exited;
        c.exit_code = Some(code);
        change(c);
    })
}

fn host() -> Host {
    let mut host = Host::blank("packhouse");
    host.state = LinkState::Live;
    host.engine = Some(EngineFacts {
        kind: "dockerd".into(),
        version: "20.10.24".into(),
        api_version: "1.41".into(),
        os: "linux".into(),
        architecture: "amd64".into(),
        machine: "packhouse".into(),
    });
    host
}

fn code_of(c: &Container) -> Option<String> {
    judge(c, &host()).map(|r| r.code)
}

#[rstest]
#[case::healthy(with(|_| ()), None)]
#[case::ended_well(exited(0, |_| ()), None)]
#[case::asked_to_end(exited(143, |c| c.asked_to_end = Some(true)), None)]
#[case::perhaps_asked(exited(137, |_| ()), None)]
#[case::unhealthy(with(|c| c.health = Health::Unhealthy), Some("unhealthy"))]
#[case::oom(exited(137, |c| c.out_of_memory = true), Some("out-of-memory"))]
#[case::was_oom_but_runs(with(|c| c.out_of_memory = true), None)]
#[case::killed(exited(137, |c| c.asked_to_end = Some(false)), Some("killed"))]
#[case::looping(with(|c| { c.state = State::Restarting; c.restart_count = 9; c.exit_code = Some(1); }), Some("restart-loop"))]
#[case::looping_caught_running(with(|c| { c.recent_starts = 4; c.restart_count = 4; }), Some("restart-loop"))]
#[case::restarted_by_hand(with(|c| c.recent_starts = 4), None)]
#[case::failed(exited(2, |_| ()), Some("failed-exit"))]
#[case::crashed(exited(139, |_| ()), Some("crashed"))]
#[case::not_found(exited(127, |_| ()), Some("command-not-found"))]
#[case::no_start(with(|c| { c.state = State::Created; c.error = Some("strange".into()); }), Some("start-failed"))]
#[case::dead(with(|c| c.state = State::Dead), Some("dead"))]
fn rules(#[case] c: Container, #[case] code: Option<&str>) {
    assert_eq!(code_of(&c), code.map(str::to_owned));
}

/// Words that dockerd 20.10 with runc 1.1 and podman 4.3 really said on Debian.
#[rstest]
#[case(
    "failed to create shim task: OCI runtime create failed: runc create failed: unable to start container process: exec: \"frostd\": executable file not found in $PATH: unknown",
    "command-not-found",
    "'frostd'"
)]
#[case(
    "runc create failed: unable to start container process: exec: \"/bin/sh\": stat /bin/sh: no such file or directory: OCI runtime attempted to invoke a command that was not found",
    "command-not-found",
    "'/bin/sh'"
)]
#[case(
    "OCI runtime create failed: runc create failed: unable to start container process: exec: \"/etc/frost.conf\": permission denied: unknown",
    "not-executable",
    "'/etc/frost.conf'"
)]
#[case(
    "driver failed programming external connectivity on endpoint x (5f): Bind for 0.0.0.0:7311 failed: port is already allocated",
    "port-taken",
    "port 7311 is already in use on 'packhouse'"
)]
#[case(
    "driver failed programming external connectivity on endpoint x (5f): Error starting userland proxy: listen tcp4 0.0.0.0:7311: bind: address already in use",
    "port-taken",
    "port 7311 is already in use on 'packhouse'"
)]
#[case(
    "cannot listen on the TCP port: listen tcp4 :7311: bind: address already in use",
    "port-taken",
    "port 7311 is already in use on 'packhouse'"
)]
#[case(
    "invalid mount config for type \"bind\": bind source path does not exist: /srv/frames",
    "mount-missing",
    "'/srv/frames'"
)]
#[case("statfs /srv/frames: no such file or directory", "mount-missing", "'/srv/frames'")]
#[case(
    "OCI runtime create failed: runc create failed: unable to start container process: error during container init: error mounting \"/srv/frost.conf\" to rootfs at \"/etc/frost.conf\": mount /srv/frost.conf:/etc/frost.conf (via /proc/self/fd/6), flags: 0x5000: not a directory: unknown: Are you trying to mount a directory onto a file (or vice-versa)? Check if the specified host path exists and is the expected type",
    "mount-mismatch",
    "'/srv/frost.conf'"
)]
#[case("network 1f2e3d not found", "network-missing", "network")]
#[case("mkdir /var/lib/engine/overlay2/ab: no space left on device", "no-space", "disk is full")]
fn the_engines_words_are_read(#[case] error: &str, #[case] code: &str, #[case] names: &str) {
    let c = with(|c| {
        c.state = State::Created;
        c.error = Some(error.to_owned());
    });
    let reason = judge(&c, &host()).unwrap();
    assert_eq!(reason.code, code, "{reason:?}");
    assert!(reason.sentence.contains(names) && !reason.sentence.contains("{}"), "{}", reason.sentence);
    assert_eq!(reason.evidence.len(), 1, "the engine's words are the evidence");
}

#[test]
fn the_most_telling_line_is_quoted() {
    let c = exited(1, |c| {
        c.last_lines = [
            "Traceback (most recent call last):",
            "  File \"/app/run.py\", line 12, in <module>",
            "ValueError: no season given",
            "",
        ]
        .map(str::to_owned)
        .to_vec();
    });
    let reason = judge(&c, &host()).unwrap();
    assert_eq!(reason.sentence, "Exited with code 1. Last output: ValueError: no season given");
    assert!(reason.evidence.iter().any(|e| e.contains("exit code 1")));
}

#[test]
fn another_architecture_is_found_in_the_log_and_in_the_image() {
    let by_log = exited(1, |c| c.last_lines = vec!["exec /bin/frostd: exec format error".into()]);
    assert_eq!(code_of(&by_log).as_deref(), Some("wrong-architecture"));
    let by_image = exited(255, |c| c.architecture = Some("arm64".into()));
    let reason = judge(&by_image, &host()).unwrap();
    assert!(reason.sentence.contains("arm64") && reason.sentence.contains("amd64"), "{reason:?}");
    let same = exited(1, |c| c.architecture = Some("x86_64".into()));
    assert_eq!(code_of(&same).as_deref(), Some("failed-exit"));
}

#[test]
fn a_loop_says_why() {
    let c = with(|c| {
        c.state = State::Restarting;
        c.restart_count = 9;
        c.exit_code = Some(127);
    });
    let sentence = judge(&c, &host()).unwrap().sentence;
    assert!(
        sentence.starts_with("Restart loop: 9 restarts, last exit code 127 (command not found)."),
        "{sentence}"
    );
}

#[rstest]
#[case(Some(16 << 20), "killed at its 16.0 MiB limit")]
#[case(None, "the host ran out of memory")]
fn whose_memory_ran_out_is_reported(#[case] limit: Option<u64>, #[case] words: &str) {
    let c = exited(137, |c| (c.out_of_memory, c.memory_limit) = (true, limit));
    let reason = judge(&c, &host()).unwrap();
    assert!(reason.sentence.contains(words), "{reason:?}");
}

#[test]
fn hostile_output_is_shown_not_obeyed() {
    let c = with(|c| {
        c.health = Health::Unhealthy;
        c.health_output = Some("\u{1b}[31mred\u{7}".into());
    });
    let sentence = judge(&c, &host()).unwrap().sentence;
    assert!(!sentence.contains('\u{1b}') && !sentence.contains('\u{7}'), "{sentence:?}");
}

#[rstest]
#[case(84, None)]
#[case(86, Some("disk-filling"))]
#[case(96, Some("disk-full"))]
fn a_disk_that_fills_is_reported(#[case] used: u64, #[case] code: Option<&str>) {
    let mut host = host();
    host.disk.total = Some(100 << 30);
    host.disk.used = Some(used << 30);
    assert_eq!(judge_host(&host).map(|r| r.code), code.map(str::to_owned));
}

#[test]
fn a_lost_host_comes_before_its_disk() {
    let mut host = host();
    host.machine.clock_ahead_ms = Some(-45_000);
    assert_eq!(judge_host(&host).unwrap().code, "clock-off");
    host.state = LinkState::Stale;
    host.problem = Some(LinkProblem {
        code: crate::host::LinkFault::Refused,
        sentence: "Nothing listens.".into(),
        advice: "Start it.".into(),
    });
    assert_eq!(judge_host(&host).unwrap().code, "host-lost");
}

#[rstest]
#[case(0, "0 B")]
#[case(1023, "1023 B")]
#[case(1536, "1.5 KiB")]
#[case(200 << 20, "200 MiB")]
#[case(5 << 40, "5.0 TiB")]
fn bytes_in_words(#[case] bytes: u64, #[case] words: &str) {
    assert_eq!(bytes_words(bytes), words);
}
