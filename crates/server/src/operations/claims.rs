//! Which operation works on which objects, so that their engine events fold under it on the timeline.
//!
//! The runner claims the objects of an operation before it begins and releases them after its end; the recorder asks.

use std::collections::HashMap;
use std::time::Duration;

use gubernum_core::journal::{Operation, Target};
use gubernum_core::plan::steps::{aside_name, beside_name};
use gubernum_core::plan::{ObjectKind, Step};
use parking_lot::Mutex;
use tokio::time::Instant;

/// How long after an operation's end the events of its last step may arrive.
const LATE: Duration = Duration::from_secs(10);

/// A host and what is claimed there, by id or by name.
type Key = (String, String);

/// A claim: the operation, the lasting name of what it works on, and since when it is over.
#[derive(Debug, Clone)]
struct Claim {
    operation: u64,
    name: String,
    over: Option<Instant>,
}

/// All claims.
#[derive(Default)]
pub(crate) struct Claims(Mutex<HashMap<Key, Claim>>);

impl Claims {
    /// Claims what an operation works on.
    pub(crate) fn claim(&self, operation: &Operation) {
        let mut all = self.0.lock();
        all.retain(|_, claim| claim.over.is_none_or(|over| over.elapsed() < LATE));
        for target in operation.targets.iter().filter(|t| !t.state.is_final()) {
            for key in keys(target, operation.id) {
                let claim = Claim { operation: operation.id, name: target.name.clone(), over: None };
                all.insert((target.host.clone(), key), claim);
            }
        }
    }

    /// An operation is over: what comes late still belongs to it.
    pub(crate) fn release(&self, operation: u64) {
        let now = Instant::now();
        let mut all = self.0.lock();
        all.values_mut().filter(|c| c.operation == operation).for_each(|c| c.over = Some(now));
    }

    /// The operation that works on something now, or did a moment ago, with the lasting name of that.
    pub(crate) fn find(&self, host: &str, keys: &[&str]) -> Option<(u64, String)> {
        let all = self.0.lock();
        let mut found = keys.iter().filter(|k| !k.is_empty()).filter_map(|key| {
            let claim = all.get(&(host.to_owned(), (*key).to_owned()))?;
            claim.over.is_none_or(|over| over.elapsed() < LATE).then(|| (claim.operation, claim.name.clone()))
        });
        found.next()
    }
}

/// By what an engine's events name a target.
fn keys(target: &Target, operation: u64) -> Vec<String> {
    let mut keys = vec![target.name.clone()];
    if !target.id.is_empty() {
        keys.push(target.id.clone());
    }
    if target.object == ObjectKind::Container {
        keys.extend([beside_name(&target.name, operation), aside_name(&target.name, operation)]);
    }
    keys.extend(target.steps.iter().filter_map(|step| match step {
        Step::Pull { image, .. } | Step::RemoveImage { image, .. } => Some(image.clone()),
        Step::CopyImage { image, .. } => Some(image.clone()),
        Step::Tag { new_name, .. } => Some(new_name.clone()),
        Step::CreateVolume { name, .. } => Some(name.clone()),
        Step::Rename { to } => Some(to.clone()),
        _ => None,
    }));
    keys
}
