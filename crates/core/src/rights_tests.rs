//! Rights, scopes and what comes of grants.

use std::collections::BTreeMap;

use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::definition::{Definition, MountKind, MountRule, NetworkConnection};

fn held(scope: &str, rights: &[Right]) -> Held {
    Held { scope: scope.parse().unwrap(), rights: rights.iter().copied().collect() }
}

fn labels(pairs: &[(&str, &str)]) -> BTreeMap<String, String> {
    pairs.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect()
}

#[rstest]
#[case("fleet", true)]
#[case("host:packhouse", true)]
#[case("host:coldstore", false)]
#[case("group:sheds", true)]
#[case("group:yards", false)]
#[case("stack:orchard", true)]
#[case("stack:packhouse/orchard", true)]
#[case("stack:coldstore/orchard", false)]
#[case("stack:auction", false)]
#[case("label:team", true)]
#[case("label:team=frost", true)]
#[case("label:team=ledger", false)]
#[case("label:other", false)]
fn a_scope_covers_what_is_in_it(#[case] scope: &str, #[case] covered: bool) {
    let (groups, labels) = (vec!["sheds".to_owned()], labels(&[("team", "frost")]));
    let place = Place { host: "packhouse", groups: &groups, stack: Some("orchard"), labels: Some(&labels) };
    let scope: Scope = scope.parse().unwrap();
    assert_eq!(scope.covers(&place), covered);
}

#[rstest]
#[case("")]
#[case("fleets")]
#[case("host:")]
#[case("stack:/orchard")]
#[case("stack:packhouse/")]
#[case("label:=frost")]
#[case("rack:7")]
fn what_is_no_scope_is_refused_with_what_to_write(#[case] text: &str) {
    let sentence = text.parse::<Scope>().unwrap_err().to_string();
    assert!(sentence.contains("write"), "{sentence}");
}

#[test]
fn a_scope_of_any_length_is_not_read() {
    let long = format!("host:{}", "a".repeat(LONGEST_SCOPE));
    assert_eq!(long.parse::<Scope>(), Err(ScopeError::TooLong(LONGEST_SCOPE + 5)));
}

#[test]
fn grants_add_up_and_bounds_cut_down() {
    let own = vec![
        held("fleet", &[Right::See]),
        held("host:packhouse", &[Right::See, Right::StartStop, Right::Shell]),
        held("stack:orchard", &[Right::See, Right::Deploy]),
    ];
    let access = Access::of(own);
    let here = Place::stack("packhouse", &[], "orchard");
    let there = Place::stack("coldstore", &[], "orchard");
    let all: Rights = [Right::See, Right::StartStop, Right::Shell, Right::Deploy].into_iter().collect();
    assert_eq!(access.at(&here), all);
    assert_eq!(access.at(&there), [Right::See, Right::Deploy].into_iter().collect());
    assert_eq!(access.on_fleet(), [Right::See].into_iter().collect());
    let token = access.clone().within(vec![held("host:packhouse", &[Right::See, Right::StartStop])]);
    assert_eq!(token.at(&here), [Right::See, Right::StartStop].into_iter().collect());
    assert_eq!(token.at(&there), Rights::NONE);
    assert!(!token.sees_all() && token.somewhere(Right::StartStop) && !token.somewhere(Right::Deploy));
    assert!(token.is_within(&access) && !access.is_within(&token));
}

#[test]
fn without_sight_there_is_nothing() {
    let access = Access::of(vec![held("host:packhouse", &[Right::StartStop])]);
    assert_eq!(access.at(&Place::host("packhouse", &[])), Rights::NONE);
}

#[rstest]
#[case("night-shift", &[Right::See], None)]
#[case("admin", &[Right::See], Some(RoleError::BuiltIn("admin".to_owned())))]
#[case("Night shift", &[Right::See], Some(RoleError::Name))]
#[case("1st", &[Right::See], Some(RoleError::Name))]
#[case("night-shift", &[], Some(RoleError::Nothing))]
#[case("night-shift", &[Right::StartStop], Some(RoleError::Blind))]
fn roles_are_checked(#[case] name: &str, #[case] rights: &[Right], #[case] expected: Option<RoleError>) {
    assert_eq!(check_role(name, rights).err(), expected);
}

#[test]
fn each_right_says_where_it_comes_from() {
    let grants = [
        Granted { role: VIEWER.to_owned(), scope: Scope::Fleet, from: "member".to_owned() },
        Granted {
            role: ADMIN.to_owned(),
            scope: Scope::Host("packhouse".to_owned()),
            from: "group:operations".to_owned(),
        },
    ];
    let found = effective(&grants, &built_in());
    let by = |right: Right| found.iter().find(|e| e.right == right).unwrap().by.len();
    assert_eq!((by(Right::See), by(Right::Shell)), (2, 1));
    assert_eq!(by(Right::Members), 0, "a right over the service means nothing on one host");
}

#[test]
fn what_reaches_beyond_a_container_is_named() {
    let plain = Definition {
        mounts: vec![MountRule {
            kind: MountKind::Volume,
            source: Some("orchard_data".to_owned()),
            target: "/data".to_owned(),
            ..MountRule::default()
        }],
        ..Definition::for_image("registry.tarnvalley.example/frost:1")
    };
    assert_eq!(host_access(&plain, |_, _| true), Vec::<String>::new());
    assert_eq!(host_access(&plain, |_, _| false), ["the volume orchard_data"]);
    let mut greedy = plain.clone();
    greedy.rights.privileged = true;
    greedy.rights.processes_of = Some("host".to_owned());
    greedy.network.mode = Some("container:ledger".to_owned());
    greedy.network.networks =
        vec![NetworkConnection { name: "ledger".to_owned(), ..NetworkConnection::default() }];
    greedy.mounts.push(MountRule {
        kind: MountKind::Bind,
        source: Some("/".to_owned()),
        target: "/host".to_owned(),
        ..MountRule::default()
    });
    greedy.mounts[0].options.insert("device".to_owned(), "/etc".to_owned());
    let found = host_access(&greedy, |is_volume, _| is_volume).join("; ");
    for word in
        ["privileged", "processes of host", "container:ledger", "folder /", "options of", "network ledger"]
    {
        assert!(found.contains(word), "{word}: {found}");
    }
}

fn any_scope() -> impl Strategy<Value = Scope> {
    let name = "[a-c]";
    prop_oneof![
        Just(Scope::Fleet),
        name.prop_map(Scope::Host),
        name.prop_map(Scope::Group),
        (proptest::option::of(name), name).prop_map(|(host, stack)| Scope::Stack { host, stack }),
        (name, proptest::option::of(name)).prop_map(|(name, value)| Scope::Label { name, value }),
    ]
}

fn any_held() -> impl Strategy<Value = Vec<Held>> {
    let rights = proptest::collection::vec(proptest::sample::select(Right::ALL), 0..6)
        .prop_map(|rights| rights.into_iter().chain([Right::See]).collect());
    proptest::collection::vec((any_scope(), rights).prop_map(|(scope, rights)| Held { scope, rights }), 0..4)
}

proptest! {
    #[test]
    fn a_scope_is_read_as_it_is_written(scope in any_scope()) {
        prop_assert_eq!(scope.to_string().parse::<Scope>(), Ok(scope));
    }

    #[test]
    fn bounds_never_add_and_fewer_grants_never_allow_more(
        own in any_held(),
        bounds in any_held(),
        host in "[a-c]",
        groups in proptest::collection::vec("[a-c]", 0..2),
        stack in proptest::option::of("[a-c]"),
        label in proptest::collection::btree_map("[a-c]", "[a-c]", 0..2),
    ) {
        let place = Place { host: &host, groups: &groups, stack: stack.as_deref(), labels: Some(&label) };
        let access = Access::of(own.clone());
        let cut = access.clone().within(bounds.clone());
        prop_assert!(cut.at(&place).is_within(access.at(&place)));
        prop_assert!(cut.at(&place).is_within(Access::of(bounds).at(&place)));
        prop_assert!(cut.is_within(&access));
        let mut fewer = own;
        fewer.pop();
        prop_assert!(Access::of(fewer).at(&place).is_within(access.at(&place)));
        // What is allowed somewhere is allowed by something.
        for right in access.at(&place).iter() {
            prop_assert!(access.somewhere(right));
        }
    }

    #[test]
    fn who_is_within_another_may_nothing_that_the_other_may_not(
        one in any_held(),
        other in any_held(),
        host in "[a-c]",
        stack in proptest::option::of("[a-c]"),
        label in proptest::collection::btree_map("[a-c]", "[a-c]", 0..2),
    ) {
        let (one, other) = (Access::of(one), Access::of(other));
        if one.is_within(&other) {
            let place = Place { host: &host, groups: &[], stack: stack.as_deref(), labels: Some(&label) };
            prop_assert!(one.at(&place).is_within(other.at(&place)));
            prop_assert!(one.on_fleet().is_within(other.on_fleet()));
        }
    }
}
