use super::*;
use crate::container::State;
use crate::host::LinkFault;
use crate::host::LinkState;

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_800_000_000 + second).unwrap()
}

fn engine() -> EngineFacts {
    EngineFacts {
        kind: "dockerd".into(),
        version: "1".into(),
        api_version: "1.41".into(),
        os: "linux".into(),
        architecture: "amd64".into(),
        machine: "m".into(),
    }
}

fn with_host() -> Fleet {
    let mut fleet = Fleet::new();
    let added = Observation::HostAdded {
        name: "packhouse".into(),
        address: "unix:///x".into(),
        link: "socket".into(),
        ports_address: None,
    };
    fleet.apply(added, at(0)).unwrap();
    fleet
}

fn one(id: &str, started: i64) -> Container {
    let mut c = Container::blank("packhouse", id, id);
    c.started = Some(at(started));
    c
}

fn seen(c: Container) -> Observation {
    Observation::Seen { container: Box::new(c) }
}

fn listing(containers: Vec<Container>) -> Observation {
    Observation::Listing { host: "packhouse".into(), engine: engine(), containers }
}

fn lost() -> Observation {
    let problem =
        LinkProblem { code: LinkFault::TimedOut, sentence: "no answer".into(), advice: "wait".into() };
    Observation::Lost { host: "packhouse".into(), problem }
}

#[test]
fn what_a_listing_leaves_out_is_gone() {
    let mut fleet = with_host();
    fleet.apply(listing(vec![one("a", 0), one("b", 0)]), at(1)).unwrap();
    let delta = fleet.apply(listing(vec![one("b", 0)]), at(2)).unwrap();
    assert_eq!(delta.changes, vec![Change::ContainerGone { host: "packhouse".into(), id: "a".into() }]);
}

#[test]
fn the_same_again_is_no_change() {
    let mut fleet = with_host();
    fleet.apply(listing(vec![one("a", 0)]), at(1)).unwrap();
    let revision = fleet.revision();
    assert_eq!(fleet.apply(listing(vec![one("a", 0)]), at(2)), None);
    assert_eq!(fleet.apply(Observation::Alive { host: "packhouse".into() }, at(3)), None);
    assert_eq!(fleet.revision(), revision);
}

#[test]
fn a_lost_host_keeps_its_containers_and_its_age() {
    let mut fleet = with_host();
    fleet.apply(listing(vec![one("a", 0)]), at(5)).unwrap();
    fleet.apply(lost(), at(60)).unwrap();
    assert_eq!(fleet.apply(lost(), at(61)), None);
    let host = fleet.host("packhouse").unwrap();
    assert_eq!((host.state, host.last_seen), (LinkState::Stale, Some(at(5))));
    assert_eq!(fleet.containers().count(), 1);
    assert_eq!(fleet.attention().len(), 1);
    fleet.apply(listing(vec![one("a", 0)]), at(90)).unwrap();
    assert_eq!(fleet.host("packhouse").unwrap().state, LinkState::Live);
    assert!(fleet.attention().is_empty());
}

#[test]
fn a_restart_loop_is_noticed_and_forgotten() {
    let mut fleet = with_host();
    fleet.apply(listing(vec![]), at(0)).unwrap();
    for n in 0..4 {
        let mut c = one("a", n * 10);
        c.restart_count = n.unsigned_abs();
        fleet.apply(seen(c), at(n * 10 + 1)).unwrap();
    }
    assert_eq!(fleet.attention().first().map(|a| a.reason.code.clone()), Some("restart-loop".into()));
    assert!(fleet.tick(at(100)).is_none());
    fleet.tick(at(2000)).unwrap();
    assert!(fleet.attention().is_empty());
}

#[test]
fn a_loop_from_before_the_service_started_is_noticed_at_once() {
    let mut fleet = with_host();
    let mut looping = one("a", 100);
    (looping.restart_count, looping.finished) = (41, Some(at(99)));
    let mut restarted_long_ago = one("b", 100);
    (restarted_long_ago.restart_count, restarted_long_ago.finished) = (41, Some(at(99)));
    fleet.apply(listing(vec![looping]), at(101)).unwrap();
    assert_eq!(fleet.attention().len(), 1);
    fleet.apply(listing(vec![restarted_long_ago]), at(101 + 3600)).unwrap();
    assert!(fleet.attention().is_empty());
}

#[test]
fn trouble_goes_before_warnings_and_lost_hosts_first() {
    let mut fleet = with_host();
    let mut failed = one("a", 0);
    (failed.state, failed.exit_code) = (State::Exited, Some(2));
    let mut unhealthy = one("b", 0);
    unhealthy.health = crate::container::Health::Unhealthy;
    fleet.apply(listing(vec![failed, unhealthy]), at(1)).unwrap();
    fleet.apply(lost(), at(2)).unwrap();
    let codes: Vec<_> = fleet.attention().into_iter().map(|a| a.reason.code).collect();
    assert_eq!(codes, ["host-lost", "unhealthy", "failed-exit"]);
}

#[test]
fn unknown_hosts_are_ignored() {
    let mut fleet = Fleet::new();
    assert_eq!(fleet.apply(seen(one("a", 0)), at(0)), None);
    assert_eq!(fleet.apply(listing(vec![]), at(0)), None);
}

fn killed(id: &str, finished: i64) -> Container {
    let mut c = one(id, 5);
    c.state = State::Exited;
    c.exit_code = Some(137);
    c.finished = Some(at(finished));
    c
}

fn code(fleet: &Fleet, id: &str) -> Option<String> {
    fleet.container("packhouse", id)?.attention.as_ref().map(|r| r.code.clone())
}

#[test]
fn an_end_that_nobody_asked_for_is_distinguished_from_one_that_somebody_did() {
    let asked = |id: &str| Observation::AskedToEnd { host: "packhouse".into(), id: id.into() };
    let mut fleet = with_host();
    for id in ["a", "b", "c"] {
        fleet.apply(seen(one(id, 5)), at(6));
    }
    fleet.apply(asked("a"), at(20));
    fleet.apply(seen(killed("a", 21)), at(21));
    assert_eq!(code(&fleet, "a"), None, "it was stopped");
    fleet.apply(seen(killed("b", 21)), at(21));
    assert_eq!(code(&fleet, "b").as_deref(), Some("killed"));
    // Some engines tell of the stop after the end.
    assert!(fleet.apply(asked("b"), at(22)).is_some());
    assert_eq!(code(&fleet, "b"), None);
    // What ended while nobody watched is not judged.
    let listing = Observation::Listing {
        host: "packhouse".into(),
        engine: engine(),
        containers: vec![killed("c", 21)],
    };
    fleet.apply(listing, at(30));
    assert_eq!(code(&fleet, "c"), None);
}

#[test]
fn memory_that_ran_out_is_known_from_the_event_when_the_record_does_not_say_it() {
    let ran_out = |id: &str, time: i64| Observation::OutOfMemory {
        host: "packhouse".into(),
        id: id.into(),
        time: at(time),
    };
    let mut fleet = with_host();
    for id in ["before", "after", "long-ago"] {
        fleet.apply(seen(one(id, 5)), at(6));
    }
    fleet.apply(ran_out("before", 21), at(21));
    assert_eq!(code(&fleet, "before"), None, "it runs");
    fleet.apply(seen(killed("before", 21)), at(21));
    assert_eq!(code(&fleet, "before").as_deref(), Some("out-of-memory"));
    fleet.apply(seen(killed("after", 21)), at(21));
    assert_eq!(code(&fleet, "after").as_deref(), Some("killed"));
    assert!(fleet.apply(ran_out("after", 22), at(22)).is_some());
    assert_eq!(code(&fleet, "after").as_deref(), Some("out-of-memory"));
    fleet.apply(ran_out("long-ago", 6), at(6));
    fleet.apply(seen(killed("long-ago", 80)), at(80));
    assert_eq!(code(&fleet, "long-ago").as_deref(), Some("killed"), "a child of it, an age before");
    // One that is not known yet, and a new life of one that is.
    fleet.apply(ran_out("short", 21), at(21));
    fleet.apply(seen(killed("short", 21)), at(22));
    assert_eq!(code(&fleet, "short").as_deref(), Some("out-of-memory"));
    fleet.apply(seen(one("short", 90)), at(90));
    assert_eq!(code(&fleet, "short"), None);
}

#[test]
fn why_a_start_failed_is_remembered_until_it_starts() {
    let mut fleet = with_host();
    let mut made = Container::blank("packhouse", "a", "a");
    made.state = State::Created;
    fleet.apply(seen(made.clone()), at(6));
    let failed = Observation::StartFailed {
        host: "packhouse".into(),
        id: "a".into(),
        error: "statfs /srv/frames: no such file or directory".into(),
    };
    assert!(fleet.apply(failed, at(7)).is_some());
    assert_eq!(code(&fleet, "a").as_deref(), Some("mount-missing"));
    fleet.apply(seen(made), at(8));
    assert_eq!(code(&fleet, "a").as_deref(), Some("mount-missing"), "the engine's record has not changed");
    fleet.apply(seen(one("a", 9)), at(9));
    assert_eq!(code(&fleet, "a"), None);
}

#[test]
fn last_lines_stay_with_the_run_that_said_them() {
    let mut fleet = with_host();
    let mut ended = killed("a", 21);
    ended.exit_code = Some(1);
    fleet.apply(seen(ended.clone()), at(22));
    let lines = vec!["ValueError: no season given".to_owned()];
    fleet.apply(Observation::LastLines { host: "packhouse".into(), id: "a".into(), lines }, at(23));
    fleet.apply(seen(ended), at(24));
    let said = fleet.container("packhouse", "a").unwrap().attention.clone().unwrap().sentence;
    assert!(said.contains("no season given"), "{said}");
    fleet.apply(seen(one("a", 30)), at(30));
    assert!(fleet.container("packhouse", "a").unwrap().last_lines.is_empty());
}

#[test]
fn a_life_too_short_to_be_seen_alive_was_watched_all_the_same() {
    let ended = |id: &str| {
        let mut c = one(id, 10);
        (c.state, c.exit_code, c.finished) = (State::Exited, Some(137), Some(at(11)));
        c
    };
    let mut fleet = with_host();
    fleet.apply(listing(vec![ended("old")]), at(12)).unwrap();
    fleet.apply(seen(ended("short")), at(12)).unwrap();
    let asked = |id| fleet.container("packhouse", id).unwrap().asked_to_end;
    assert_eq!((asked("old"), asked("short")), (None, Some(false)));
}
