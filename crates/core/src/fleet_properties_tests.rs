//! What holds of a fleet whatever is observed, in whatever order: those who follow the changes know what it knows, and
//! what it says of a container is what its rules say of it now.

use std::collections::BTreeMap;
use std::sync::Arc;

use proptest::collection::{hash_map, vec};
use proptest::option::of;
use proptest::prelude::*;
use proptest::sample::select;

use super::*;
use crate::assets::Image;
use crate::container::{Health, State};
use crate::host::{LinkFault, LinkState};
use crate::reason::judge;
use crate::reason::links::relate;

const HOST: &str = "packhouse";

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_800_000_000 + second).unwrap()
}

fn id() -> impl Strategy<Value = String> {
    "[a-d]"
}

/// What an engine may say, which is anything.
fn said() -> impl Strategy<Value = String> {
    prop_oneof![
        "\\PC{0,30}",
        "[\\x00-\\x1f]{1,4}[a-z]{3}",
        Just("exec: \"frostd\": executable file not found in $PATH".to_owned()),
        Just("driver failed programming external connectivity: Bind for 0.0.0.0:7311 failed: port is already allocated".to_owned()),
        Just("statfs /srv/frames: no such file or directory".to_owned()),
        Just("é".repeat(5000)),
    ]
}

fn times() -> impl Strategy<Value = (Option<Timestamp>, Option<Timestamp>)> {
    (of(0i64..100), of(0i64..100)).prop_map(|(started, finished)| (started.map(at), finished.map(at)))
}

prop_compose! {
    fn container()(
        id in id(), (started, finished) in times(),
        state in select(vec![State::Created, State::Running, State::Paused, State::Restarting, State::Removing, State::Exited, State::Dead, State::Unknown]),
        health in select(vec![Health::None, Health::Starting, Health::Healthy, Health::Unhealthy]),
        exit_code in of(prop_oneof![Just(0i64), 125i64..144, any::<i64>()]), restart_count in 0u64..4,
        policy in select(vec!["no", "always", "on-failure"]), (error, health_output) in (of(said()), of(said())),
        (out_of_memory, memory_limit, failing_checks) in (any::<bool>(), of(any::<u64>()), 0u32..4),
        image in select(vec!["frost/api:2", "frost/api@sha256:aa", "??"]), is_self in any::<bool>(),
    ) -> Container {
        Container {
            started, finished, state, health, exit_code, restart_count, error, health_output, out_of_memory, memory_limit,
            failing_checks, is_self, image: image.to_owned(), image_id: "sha256:img".to_owned(), restart_policy: policy.to_owned(),
            ..Container::blank(HOST, &id, &id)
        }
    }
}

fn engine() -> EngineFacts {
    let text = str::to_owned;
    EngineFacts {
        kind: text("dockerd"),
        version: text("1"),
        api_version: text("1.41"),
        os: text("linux"),
        architecture: text("amd64"),
        machine: text("m"),
    }
}

fn image() -> impl Strategy<Value = Image> {
    (of(select(vec!["amd64", "arm64"])), any::<bool>()).prop_map(|(architecture, told)| Image {
        id: "img".into(),
        tags: vec!["frost/api:2".into()],
        digests: if told { vec!["frost/api@sha256:aa".into()] } else { Vec::new() },
        size: 1,
        shared: None,
        created: at(0),
        architecture: architecture.map(str::to_owned),
        labels: BTreeMap::new(),
        layers: Vec::new(),
    })
}

fn observation() -> impl Strategy<Value = Observation> {
    let host = || HOST.to_owned();
    let problem =
        || LinkProblem { code: LinkFault::TimedOut, sentence: "no answer".into(), advice: "wait".into() };
    prop_oneof![
        2 => vec(container(), 0..4).prop_map(move |mut all| {
            all.sort_by(|a, b| a.id.cmp(&b.id));
            all.dedup_by(|a, b| a.id == b.id);
            Observation::Listing { host: host(), engine: engine(), containers: all }
        }),
        6 => container().prop_map(|c| Observation::Seen { container: Box::new(c) }),
        1 => id().prop_map(move |id| Observation::Gone { host: host(), id }),
        1 => Just(Observation::Lost { host: host(), problem: problem() }),
        1 => Just(Observation::Alive { host: host() }),
        2 => (id(), 0i64..100).prop_map(move |(id, t)| Observation::OutOfMemory { host: host(), id, time: at(t) }),
        2 => id().prop_map(move |id| Observation::AskedToEnd { host: host(), id }),
        2 => (id(), said()).prop_map(move |(id, error)| Observation::StartFailed { host: host(), id, error }),
        2 => (id(), vec(said(), 0..3)).prop_map(move |(id, lines)| Observation::LastLines { host: host(), id, lines }),
        1 => vec(image(), 0..2).prop_map(move |images| {
            Observation::Holds { host: host(), assets: Box::new(Assets { images, ..Assets::default() }) }
        }),
        1 => hash_map(Just("frost/api:2".to_owned()), select(vec!["sha256:aa".to_owned(), "sha256:bb".to_owned()]), 0..2)
            .prop_map(|digests| Observation::Newest { digests: Arc::new(digests) }),
    ]
}

fn with_host() -> Fleet {
    let mut fleet = Fleet::new();
    let added = Observation::HostAdded {
        name: HOST.into(),
        address: "unix:///x".into(),
        link: "socket".into(),
        ports_address: None,
    };
    fleet.apply(added, at(0)).unwrap();
    fleet
}

/// One who begins with a fleet as it is and hears of its changes.
struct Follower {
    containers: BTreeMap<String, Container>,
    host: Option<Host>,
    revision: u64,
}

impl Follower {
    fn of(fleet: &Fleet) -> Self {
        let host = fleet.host(HOST).cloned();
        Self { containers: BTreeMap::new(), host, revision: fleet.revision() }
    }

    fn take(&mut self, delta: &Delta) {
        assert_eq!(delta.revision, self.revision + 1, "none is left out");
        self.revision = delta.revision;
        for change in &delta.changes {
            match change {
                Change::HostPut { host } => self.host = Some((**host).clone()),
                Change::HostGone { .. } => self.host = None,
                Change::ContainerPut { container } => {
                    self.containers.insert(container.id.clone(), (**container).clone());
                }
                Change::ContainerGone { id, .. } => drop(self.containers.remove(id)),
            }
        }
    }
}

proptest! {
    /// Whoever applies the deltas to an older snapshot arrives at the same fleet.
    #[test]
    fn deltas_lead_to_the_state(all in vec((observation(), 0i64..30, any::<bool>()), 1..40)) {
        let mut fleet = with_host();
        let mut follower = Follower::of(&fleet);
        let mut now = 0;
        for (observation, passes, ticks) in all {
            now += passes;
            if let Some(delta) = fleet.apply(observation, at(now)) {
                follower.take(&delta);
            }
            if ticks && let Some(delta) = fleet.tick(at(now)) {
                follower.take(&delta);
            }
        }
        prop_assert_eq!(follower.containers.values().collect::<Vec<_>>(), fleet.containers().collect::<Vec<_>>());
        prop_assert_eq!(follower.revision, fleet.revision());
        prop_assert_eq!(follower.host.map(|h| h.state), fleet.host(HOST).map(|h| h.state));
    }

    /// Nobody reads an old judgement beside a new fact.
    #[test]
    fn each_is_judged_by_what_is_known_now(all in vec((observation(), 0i64..30), 1..40)) {
        let mut fleet = with_host();
        let mut now = 0;
        for (observation, passes) in all {
            now += passes;
            fleet.apply(observation, at(now));
            let host = fleet.host(HOST).unwrap();
            for c in fleet.containers() {
                let judged = judge(c, host).map(|r| relate(r, c, fleet.containers()));
                prop_assert_eq!(&c.attention, &judged, "{:?}", c);
            }
            let listed = fleet.attention();
            let lost = usize::from(host.state == LinkState::Stale);
            let judged = fleet.containers().filter(|c| c.attention.is_some()).count();
            prop_assert_eq!(listed.len(), judged + lost);
        }
    }

    /// What was seen already is no news.
    #[test]
    fn the_same_again_changes_nothing(before in vec(observation(), 0..10), c in container()) {
        let mut fleet = with_host();
        for observation in before {
            fleet.apply(observation, at(1));
        }
        let seen = || Observation::Seen { container: Box::new(c.clone()) };
        fleet.apply(seen(), at(2));
        prop_assert_eq!(fleet.apply(seen(), at(2)), None);
    }

    /// A judgement can be read by a person and by a terminal, whatever an engine or a program has said.
    #[test]
    fn judgements_can_be_shown(mut c in container(), lines in vec(said(), 0..4)) {
        c.last_lines = lines;
        let fleet = with_host();
        let Some(reason) = judge(&c, fleet.host(HOST).unwrap()) else { return Ok(()) };
        prop_assert!(!reason.sentence.is_empty() && !reason.advice.is_empty() && !reason.code.is_empty());
        for text in std::iter::once(&reason.sentence).chain(&reason.evidence) {
            prop_assert!(text.chars().count() < 700, "{} characters", text.chars().count());
            prop_assert!(!text.chars().any(char::is_control), "{text:?}");
        }
        prop_assert!(reason.evidence.len() <= 20);
    }
}
