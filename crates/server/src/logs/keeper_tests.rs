//! Which rule keeps whose lines: the narrowest one that fits, and for names that are gone what can still be told.

use jiff::Timestamp;
use rstest::rstest;

use super::*;

fn rule(id: u64, scope: KeepScope, value: &str) -> KeepRule {
    KeepRule {
        id,
        scope,
        value: value.into(),
        days: 14,
        bytes: 1 << 30,
        member: "mara".into(),
        created: Timestamp::UNIX_EPOCH,
        held: 0,
        containers: 0,
    }
}

/// One rule of each scope, in the order in which the records give them: the narrowest first.
fn rules() -> Vec<KeepRule> {
    vec![
        rule(1, KeepScope::Container, "packhouse/frost-api"),
        rule(2, KeepScope::Label, "tarn.keep=yes"),
        rule(3, KeepScope::Label, "tarn.keep"),
        rule(4, KeepScope::Stack, "frostwatch"),
        rule(5, KeepScope::Host, "coldstore"),
        rule(6, KeepScope::All, ""),
    ]
}

fn container(host: &str, name: &str, stack: Option<&str>, label: Option<(&str, &str)>) -> Container {
    let mut c = Container::blank(host, name, "aa");
    c.stack = stack.map(str::to_owned);
    c.labels.extend(label.map(|(k, v)| (k.to_owned(), v.to_owned())));
    c
}

#[rstest]
#[case::by_its_name(container("packhouse", "frost-api", Some("frostwatch"), Some(("tarn.keep", "yes"))), 1)]
#[case::of_the_same_name_elsewhere(container("orchard", "frost-api", None, None), 6)]
#[case::by_its_label_and_value(container("packhouse", "row", Some("frostwatch"), Some(("tarn.keep", "yes"))), 2)]
#[case::by_its_label(container("packhouse", "row", Some("frostwatch"), Some(("tarn.keep", "no"))), 3)]
#[case::by_its_stack(container("coldstore", "row", Some("frostwatch"), None), 4)]
#[case::by_its_host(container("coldstore", "row", Some("other"), None), 5)]
#[case::as_everything(container("orchard", "row", None, Some(("tarn.other", "yes"))), 6)]
fn the_narrowest_rule_that_fits_keeps_a_container(#[case] c: Container, #[case] expected: u64) {
    assert_eq!(rule_for(&rules(), &c).map(|r| r.id), Some(expected));
}

#[test]
fn without_a_rule_that_fits_nothing_is_kept() {
    let c = container("orchard", "row", None, None);
    assert!(rule_for(&[], &c).is_none());
    assert!(rule_for(&rules()[..5], &c).is_none());
}

#[rstest]
#[case::its_own("packhouse", "frost-api", Some(1))]
#[case::its_hosts("coldstore", "gone", Some(5))]
#[case::everybodys("orchard", "gone", Some(6))]
fn a_name_that_is_gone_falls_under_what_its_name_tells(
    #[case] host: &str,
    #[case] name: &str,
    #[case] expected: Option<u64>,
) {
    let found = |owners: &HashMap<_, _>| rule_of_name(&rules(), owners, host, name).map(|r| r.id);
    assert_eq!(found(&HashMap::new()), expected);
    // Whoever kept it last counts more, as long as that rule is there.
    let key = (host.to_owned(), name.to_owned());
    assert_eq!(found(&HashMap::from([(key.clone(), 4)])), Some(4));
    assert_eq!(found(&HashMap::from([(key, 99)])), expected);
}

#[test]
fn a_label_or_a_stack_is_not_told_by_a_name() {
    let rules = [rule(1, KeepScope::Label, "row"), rule(2, KeepScope::Stack, "row")];
    assert!(rule_of_name(&rules, &HashMap::new(), "packhouse", "row").is_none());
}

#[test]
fn rules_that_are_set_are_those_that_count() {
    let all = Rules::default();
    assert!(all.get().is_empty());
    let before = all.get();
    all.set(rules());
    assert_eq!((before.len(), all.get().len()), (0, 6), "who reads on has what he had");
    all.set(Vec::new());
    assert!(all.get().is_empty());
}
