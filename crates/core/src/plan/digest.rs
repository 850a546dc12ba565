//! Whether a preview still holds: a digest over the plans, and what changed when it does not.

use std::collections::BTreeMap;

use sha2::{Digest as _, Sha256};

use super::TargetPlan;

/// The digest of plans: the same for the same plans, in 32 hex digits.
///
/// ```
/// use gubernum_core::plan::{TargetPlan, digest::digest};
/// let plan = TargetPlan { name: "frost-api".into(), ..TargetPlan::default() };
/// assert_eq!(digest(&[plan.clone()]), digest(&[plan.clone()]));
/// assert_ne!(digest(&[plan]), digest(&[]));
/// ```
pub fn digest(plans: &[TargetPlan]) -> String {
    let text = serde_json::to_vec(plans).unwrap_or_default();
    Sha256::digest(&text).iter().take(16).map(|b| format!("{b:02x}")).collect()
}

/// What differs between the plans that were looked at and those that hold now, a sentence each, at most
/// twenty.
pub fn difference(before: &[TargetPlan], now: &[TargetPlan]) -> Vec<String> {
    let by_target = |plans: &[TargetPlan]| -> BTreeMap<(String, String), TargetPlan> {
        plans.iter().map(|p| ((p.host.clone(), p.name.clone()), p.clone())).collect()
    };
    let (before, now) = (by_target(before), by_target(now));
    let mut out = Vec::new();
    for (key, old) in &before {
        let name = old.reference();
        match now.get(key) {
            None => out.push(format!("{name} is no longer a target")),
            Some(new) if new == old => {}
            Some(new) if new.refused != old.refused => out.push(match &new.refused {
                Some(why) => format!("{name} is refused now: {why}"),
                None => format!("{name} is no longer refused"),
            }),
            Some(new) if new.id != old.id => out.push(format!("{name} is another container now")),
            Some(new) if new.consequence != old.consequence => {
                out.push(format!("{name}: {}", new.consequence))
            }
            Some(new) if new.steps_in_words != old.steps_in_words => {
                out.push(format!("{name}: the steps changed: {}", new.steps_in_words.join(" ")));
            }
            Some(new) => {
                let words = |p: &TargetPlan| -> Vec<String> {
                    [&p.creates, &p.keeps, &p.recreates, &p.removes, &p.data_at_risk]
                        .into_iter()
                        .flatten()
                        .cloned()
                        .chain(p.differences.iter().map(super::Difference::words))
                        .chain(p.findings.iter().map(|f| f.sentence.clone()))
                        .collect()
                };
                let (a, b) = (words(old), words(new));
                let fresh: Vec<&String> = b.iter().filter(|w| !a.contains(w)).collect();
                let gone: Vec<&String> = a.iter().filter(|w| !b.contains(w)).collect();
                out.extend(fresh.into_iter().map(|w| format!("{name}: now also: {w}")));
                out.extend(gone.into_iter().map(|w| format!("{name}: no longer: {w}")));
            }
        }
    }
    out.extend(
        now.iter()
            .filter(|(k, _)| !before.contains_key(*k))
            .map(|(_, p)| format!("{} is a target now too", p.reference())),
    );
    out.truncate(20);
    out
}
