//! What holds for every definition, whatever is set in it.

use proptest::prelude::*;
use serde_json::Value;

use super::arbitrary::definition;
use super::check::{CheckContext, check};
use super::compose::{read, write};
use super::difference::{difference, only_in_place};
use super::*;

/// In an order of its own, as nothing depends on it.
fn in_order(mut d: Definition) -> Definition {
    d.environment.sort_by(|a, b| a.name.cmp(&b.name));
    d.mounts.sort_by(|a, b| a.target.cmp(&b.target));
    d.pull = PullPolicy::Missing;
    d
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(512))]

    #[test]
    fn its_compose_text_says_the_same(d in definition()) {
        let text = write(&d);
        let back = read(&text).map_err(|e| TestCaseError::fail(format!("{e}\n{text}")))?;
        prop_assert_eq!(&back.definition, &d, "{}", text);
        prop_assert!(back.left.is_empty(), "{:?}", back.left);
        prop_assert_eq!(write(&back.definition), text);
    }

    #[test]
    fn its_json_says_the_same(d in definition()) {
        let json = serde_json::to_string(&d).unwrap();
        prop_assert_eq!(serde_json::from_str::<Definition>(&json).unwrap(), d, "{}", json);
    }

    #[test]
    fn what_differs_is_reported_and_nothing_else(a in definition(), b in definition(), shuffled in any::<bool>()) {
        let mut same = a.clone();
        if shuffled {
            same.environment.reverse();
            same.mounts.reverse();
        }
        prop_assert_eq!(difference(&a, &same), []);
        let found = difference(&a, &b);
        prop_assert_eq!(found.is_empty(), in_order(a.clone()) == in_order(b.clone()));
        // The way back is as long, with the sides exchanged.
        let back = difference(&b, &a);
        prop_assert_eq!(back.len(), found.len());
        let mut there: Vec<_> = found.iter().map(|d| (&d.setting, &d.from, &d.to)).collect();
        let mut back: Vec<_> = back.iter().map(|d| (&d.setting, &d.to, &d.from)).collect();
        there.sort();
        back.sort();
        prop_assert_eq!(there, back);
    }

    #[test]
    fn one_changed_setting_is_one_difference(d in definition(), port in 1u16.., memory in 1u64 << 23..1 << 40) {
        let mut other = d.clone();
        other.limits.memory = Some(memory);
        let found = difference(&d, &other);
        prop_assert_eq!(found.len(), usize::from(d.limits.memory != Some(memory)));
        prop_assert!(only_in_place(&found));
        other.ports.push(PortRule { address: None, host_port: Some(port), host_port_to: None, container_port: port, protocol: "tcp".into() });
        prop_assert!(!only_in_place(&difference(&d, &other)));
    }

    #[test]
    fn secrets_are_hidden_everywhere_and_come_back(mut d in definition(), secret in "[a-z]{4}§[a-z]{6}") {
        d.environment.retain(|e| e.name != "LEDGER_PASSWORD");
        d.environment.push(EnvironmentEntry { name: "LEDGER_PASSWORD".into(), value: secret.clone(), hidden: false });
        let mut masked = d.masked();
        prop_assert!(!serde_json::to_string(&masked).unwrap().contains(&secret));
        prop_assert!(!write(&masked).contains(&secret));
        let told = difference(&Definition::for_image("x"), &d);
        prop_assert!(told.iter().all(|t| !t.words().contains(&secret)));
        prop_assert_eq!(masked.clone().unmask(None).is_err(), true, "not known, and not guessed");
        masked.unmask(Some(&d)).unwrap();
        prop_assert_eq!(masked, d);
    }

    #[test]
    fn every_error_points_into_it(d in definition()) {
        let whole = serde_json::to_value(&d).unwrap();
        let mut last = None;
        for finding in check(&d, &CheckContext::default()) {
            prop_assert!(!finding.sentence.is_empty());
            prop_assert!(last <= Some(finding.weight), "errors come first");
            last = Some(finding.weight);
            // The field itself may be absent; what it is a part of is there, or is absent as a whole.
            let mut parts: Vec<&str> = finding.field.split('/').skip(1).collect();
            prop_assert!(!parts.is_empty(), "{finding:?}");
            parts.pop();
            let mut at = &whole;
            for part in parts {
                at = match at {
                    Value::Array(list) => {
                        let n: usize = part.parse().map_err(|_| TestCaseError::fail(format!("{finding:?}")))?;
                        list.get(n).ok_or_else(|| TestCaseError::fail(format!("{finding:?}")))?
                    }
                    other => other.get(part).unwrap_or(&Value::Null),
                };
            }
        }
    }
}
