//! The labels that Gubernum itself writes and reads: `gubernum.pinned`, `gubernum.keep`, `gubernum.files` and others.
//!
//! Early versions wrote them with another prefix. Those are still read: [`current`] renames them where labels come in, so
//! that nothing else has to know of them. Which labels there are is beside what they are for.

use std::collections::BTreeMap;

/// What the labels of early versions begin with, before the present name.
const FORMER: &str = "org.";
/// What all labels of our own begin with.
const PREFIX: &str = "gubernum.";

/// Labels with those of early versions under their present names; where both are there, the present one counts.
///
/// ```
/// use gubernum_core::own_labels::current;
///
/// let old = [("org.gubernum.keep".to_owned(), "true".to_owned())].into();
/// assert_eq!(current(old)["gubernum.keep"], "true");
/// ```
#[must_use]
pub fn current(mut labels: BTreeMap<String, String>) -> BTreeMap<String, String> {
    let former = |name: &String| name.strip_prefix(FORMER).filter(|rest| rest.starts_with(PREFIX)).is_some();
    let old: Vec<String> = labels.keys().filter(|name| former(name)).cloned().collect();
    for name in old {
        if let Some(value) = labels.remove(&name) {
            labels.entry(name[FORMER.len()..].to_owned()).or_insert(value);
        }
    }
    labels
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn the_present_name_counts_before_the_former() {
        let both = [("org.gubernum.keep", "old"), ("gubernum.keep", "new"), ("org.other", "x")];
        let labels = current(both.map(|(k, v)| (k.to_owned(), v.to_owned())).into());
        assert_eq!(labels.len(), 2);
        assert_eq!((labels["gubernum.keep"].as_str(), labels["org.other"].as_str()), ("new", "x"));
    }

    proptest! {
        #[test]
        fn labels_of_others_stay_as_they_are_and_twice_is_once(
            labels in proptest::collection::btree_map("(org\\.)?(gubernum\\.)?[a-z]{1,4}", "[a-z]{0,3}", 0..8)
        ) {
            let once = current(labels.clone());
            prop_assert_eq!(&current(once.clone()), &once);
            for (name, value) in &labels {
                if !name.starts_with("org.gubernum.") {
                    prop_assert_eq!(once.get(name), Some(value));
                }
            }
            prop_assert!(once.keys().all(|name| !name.starts_with("org.gubernum.")));
        }
    }
}
