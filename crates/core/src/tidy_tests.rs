//! What is offered, what is not, and how many bytes are promised.

use super::*;
use crate::assets::{Layer, Network, Volume};
use crate::container::Mount;
use crate::fleet::Observation;
use crate::host::EngineFacts;
use proptest::prelude::*;

fn at(hours: i64) -> Timestamp {
    Timestamp::from_second(1_800_000_000 + hours * 3600).unwrap()
}

fn image(id: &str, tags: &[&str], layers: &[(&str, u64)]) -> Image {
    Image {
        id: id.into(),
        tags: tags.iter().map(|t| (*t).to_owned()).collect(),
        digests: tags.iter().map(|t| format!("{t}@sha256:x")).collect(),
        size: layers.iter().map(|l| l.1).sum(),
        shared: None,
        created: at(0),
        architecture: None,
        labels: BTreeMap::new(),
        layers: layers.iter().map(|(id, size)| Layer { id: (*id).into(), size: *size }).collect(),
    }
}

fn volume(name: &str, size: Option<u64>) -> Volume {
    Volume {
        name: name.into(),
        driver: "local".into(),
        mount_point: String::new(),
        options: BTreeMap::new(),
        labels: BTreeMap::new(),
        created: None,
        size,
        anonymous: name.len() == 64,
    }
}

fn network(name: &str) -> Network {
    Network {
        id: name.into(),
        name: name.into(),
        driver: "bridge".into(),
        subnets: Vec::new(),
        internal: false,
        ipv6: false,
        options: BTreeMap::new(),
        labels: BTreeMap::new(),
        created: None,
    }
}

fn one(name: &str, image: &str, state: State) -> Container {
    let mut c = Container::blank("packhouse", name, name);
    c.image_id = format!("sha256:{image}");
    c.state = state;
    c.finished = Some(at(0));
    c.exit_code = Some(0);
    c
}

fn fleet(containers: Vec<Container>, assets: Assets) -> Fleet {
    let mut fleet = Fleet::new();
    let host = "packhouse".to_owned();
    let engine = EngineFacts {
        kind: "dockerd".into(),
        version: "1".into(),
        api_version: "1.41".into(),
        os: "linux".into(),
        architecture: "amd64".into(),
        machine: "m".into(),
    };
    fleet.apply(
        Observation::HostAdded {
            name: host.clone(),
            address: "x".into(),
            link: "socket".into(),
            ports_address: None,
        },
        at(0),
    );
    fleet.apply(Observation::Listing { host: host.clone(), engine, containers }, at(0));
    fleet.apply(Observation::Holds { host, assets: Box::new(assets) }, at(0));
    fleet
}

fn offered(fleet: &Fleet, rules: &Rules) -> Vec<(String, Grade, bool)> {
    suggestions(fleet, rules, at(48)).into_iter().map(|s| (s.name, s.grade, s.protected.is_some())).collect()
}

fn named(name: &str, grade: Grade, protected: bool) -> (String, Grade, bool) {
    (name.to_owned(), grade, protected)
}

#[test]
fn nothing_in_use_is_offered() {
    let mut user = one("frost-api", "i1", State::Running);
    user.mounts = vec![Mount {
        kind: "volume".into(),
        source: "data".into(),
        target: "/d".into(),
        read_only: false,
        anonymous: false,
    }];
    user.networks = vec!["front".into()];
    let assets = Assets {
        images: vec![
            image("i1", &["a:1"], &[("l1", 10)]),
            image("i2", &["b:1"], &[("l1", 10), ("l2", 5)]),
            image("i3", &[], &[("l3", 7)]),
        ],
        volumes: vec![
            volume("data", Some(9)),
            volume("old", Some(9)),
            volume("empty", Some(0)),
            volume(&"0".repeat(64), Some(1)),
        ],
        networks: vec![network("front"), network("bridge"), network("back")],
        ..Assets::default()
    };
    let fleet = fleet(vec![user, one("done", "i1", State::Exited)], assets);
    let registry_has = HashMap::from([("b:1@sha256:x".to_owned(), true)]);
    let found = offered(&fleet, &Rules { registry_has, ..Rules::default() });
    assert_eq!(
        found,
        [
            named("done", Grade::Safe, false),
            named("b:1", Grade::Safe, false),
            named("i3", Grade::LookFirst, false),
            named("000000000000", Grade::LookFirst, false),
            named("old", Grade::LookFirst, false),
            named("empty", Grade::Safe, false),
            named("back", Grade::Safe, false),
        ]
    );
}

#[rstest::rstest]
#[case::asked_and_there(Some(true), Grade::Safe, "still has it")]
#[case::asked_and_gone(Some(false), Grade::LookFirst, "does not have it")]
#[case::not_asked_lately(None, Grade::LookFirst, "has not been checked")]
fn a_digest_alone_makes_no_image_safe(
    #[case] answer: Option<bool>,
    #[case] grade: Grade,
    #[case] words: &str,
) {
    let assets = Assets { images: vec![image("i1", &["a:1"], &[("l", 1)])], ..Assets::default() };
    let fleet = fleet(Vec::new(), assets);
    let registry_has = answer.map(|a| ("a:1@sha256:x".to_owned(), a)).into_iter().collect();
    let found = suggestions(&fleet, &Rules { registry_has, ..Rules::default() }, at(48));
    assert_eq!(found[0].grade, grade);
    assert!(found[0].reason.contains(words), "{}", found[0].reason);
}

#[test]
fn nothing_is_safe_before_it_was_unused_for_long() {
    let mut made = one("made", "i1", State::Created);
    (made.created, made.finished, made.exit_code) = (at(47), None, None);
    let mut long_over = one("long-over", "i1", State::Exited);
    long_over.finished = Some(at(-24 * 30));
    let assets = Assets {
        images: vec![image("i1", &["a:1"], &[("l", 1)]), image("i2", &["b:1"], &[("m", 1)])],
        volumes: vec![volume("empty", Some(0))],
        networks: vec![network("back")],
        ..Assets::default()
    };
    let fleet = fleet(vec![made, long_over], assets);
    let rules = Rules {
        unused_for: SignedDuration::from_hours(24 * 7),
        registry_has: HashMap::from([("b:1@sha256:x".to_owned(), true)]),
        ..Rules::default()
    };
    let safe = |hours| -> Vec<String> {
        let all = suggestions(&fleet, &rules, at(hours)).into_iter();
        all.filter(|s| s.grade == Grade::Safe).map(|s| s.name).collect()
    };
    // What the engine itself tells counts at once; what was only seen needs its time.
    assert_eq!(safe(48), ["long-over"]);
    assert_eq!(safe(24 * 7 + 47), ["long-over", "made", "b:1", "empty", "back"]);
    let words = suggestions(&fleet, &rules, at(48));
    assert!(
        words.iter().any(|s| s.name == "made" && s.reason.contains("Unused for less than 7 days")),
        "{words:?}"
    );
}

#[rstest::rstest]
#[case(Some(at(30)), Grade::LookFirst)]
#[case(Some(at(20)), Grade::Safe)]
#[case(None, Grade::LookFirst)]
fn a_build_cache_is_safe_a_day_after_its_last_use(#[case] used: Option<Timestamp>, #[case] grade: Grade) {
    let mut fleet = fleet(Vec::new(), Assets::default());
    let disk = crate::assets::Disk { build_cache: Some(5), cache_used: used, ..Default::default() };
    fleet.apply(Observation::Machine { host: "packhouse".into(), machine: Box::default(), disk }, at(1));
    let rules = Rules { cache_unused_for: SignedDuration::from_hours(24), ..Rules::default() };
    assert_eq!(suggestions(&fleet, &rules, at(48))[0].grade, grade);
}

#[test]
fn labels_age_and_earlier_states_protect() {
    let mut kept = volume("old", Some(1));
    kept.labels.insert(KEEP_LABEL.into(), "season 2026".into());
    let assets =
        Assets { images: vec![image("i1", &["a:1"], &[])], volumes: vec![kept], ..Assets::default() };
    let fleet = fleet(Vec::new(), assets);
    let rules =
        Rules { needed: HashSet::from([("packhouse".to_owned(), "i1".to_owned())]), ..Rules::default() };
    assert!(offered(&fleet, &rules).iter().all(|(_, _, protected)| *protected));
    let young = Rules { youngest: SignedDuration::from_hours(72), ..Rules::default() };
    assert!(offered(&fleet, &young).iter().all(|(_, _, protected)| *protected));
    let pieces: Vec<TidyPiece> = suggestions(&fleet, &rules, at(48)).into_iter().map(|s| s.piece).collect();
    assert!(
        plan_tidy(&fleet, &pieces, &rules, at(48)).iter().all(|p| p.refused.is_some() && p.steps.is_empty())
    );
}

#[test]
fn what_came_into_use_since_is_not_touched() {
    let assets = Assets { images: vec![image("i1", &["a:1"], &[("l", 1)])], ..Assets::default() };
    let piece = TidyPiece { host: "packhouse".into(), object: ObjectKind::Image, id: "i1".into() };
    let fleet = fleet(vec![one("new", "i1", State::Running)], assets);
    let plans = plan_tidy(&fleet, &[piece], &Rules::default(), at(48));
    assert!(plans[0].refused.as_deref().unwrap().contains("in use"));
}

#[test]
fn an_image_goes_with_the_containers_that_hold_it() {
    let assets = Assets { images: vec![image("i1", &["a:1"], &[("l", 5)])], ..Assets::default() };
    let piece = |object, id: &str| TidyPiece { host: "packhouse".into(), object, id: id.into() };
    let fleet = fleet(vec![one("done", "i1", State::Exited)], assets);
    let both = [piece(ObjectKind::Image, "i1"), piece(ObjectKind::Container, "done")];
    let plans = plan_tidy(&fleet, &both, &Rules::default(), at(48));
    assert_eq!(
        plans.iter().map(|p| p.object).collect::<Vec<_>>(),
        [ObjectKind::Container, ObjectKind::Image]
    );
    assert!(plans.iter().all(|p| p.refused.is_none()), "{plans:?}");
    assert_eq!(plans[1].bytes, Some(5));
    assert!(plan_tidy(&fleet, &both[..1], &Rules::default(), at(48))[0].refused.is_some());
}

proptest! {
    /// The bytes of the plans add up to what is gone from the disk: layers of all images before, less those after.
    #[test]
    fn promised_bytes_are_the_layers_that_go(
        chains in prop::collection::vec(prop::collection::vec(0u8..6, 0..5), 1..12),
        go in prop::collection::vec(any::<bool>(), 12),
    ) {
        let images: Vec<Image> = chains.iter().enumerate().map(|(n, chain)| {
            let mut seen = Vec::new();
            let mut id = String::new();
            for l in chain {
                id = format!("{id}.{l}");
                seen.push((id.clone(), u64::from(*l) * 10 + 1));
            }
            image(&format!("i{n}"), &["t:1"], &seen.iter().map(|(i, s)| (i.as_str(), *s)).collect::<Vec<_>>())
        }).collect();
        let on_disk = |all: &[&Image]| -> u64 {
            let layers: BTreeMap<&str, u64> = all.iter().flat_map(|i| &i.layers).map(|l| (l.id.as_str(), l.size)).collect();
            layers.values().sum()
        };
        let before = on_disk(&images.iter().collect::<Vec<_>>());
        let stay: Vec<&Image> = images.iter().zip(&go).filter(|(_, g)| !**g).map(|(i, _)| i).collect();
        let pieces: Vec<TidyPiece> = images.iter().zip(&go).filter(|(_, g)| **g)
            .map(|(i, _)| TidyPiece { host: "packhouse".into(), object: ObjectKind::Image, id: i.id.clone() }).collect();
        let after = on_disk(&stay);
        let fleet = fleet(Vec::new(), Assets { images, ..Assets::default() });
        let promised: u64 = plan_tidy(&fleet, &pieces, &Rules::default(), at(48)).iter().filter_map(|p| p.bytes).sum();
        prop_assert_eq!(promised, before - after);
    }
}
