//! Refusals for a missing right, in the audit log: each kind once a minute for a member, so that repeated tries do
//! not fill it.

use std::collections::HashMap;
use std::time::Duration;

use parking_lot::Mutex;
use tokio::time::Instant;

use crate::access::{AccessContext, Identity};

/// How long the same refusal of a member is not written again.
const AGAIN: Duration = Duration::from_secs(60);
/// The most that are remembered; beyond it all are forgotten, and written once more.
const REMEMBERED: usize = 10_000;

/// What was refused lately, by member and words.
#[derive(Default)]
pub(crate) struct Refusals(Mutex<HashMap<(i64, String), Instant>>);

impl Refusals {
    /// Whether a refusal is new, or long enough ago to be written once more.
    fn is_new(&self, member: i64, what: &str, now: Instant) -> bool {
        let mut lately = self.0.lock();
        if lately.len() >= REMEMBERED {
            lately.clear();
        }
        let key = (member, what.to_owned());
        if lately.get(&key).is_some_and(|at| now.duration_since(*at) < AGAIN) {
            return false;
        }
        lately.insert(key, now);
        true
    }
}

impl AccessContext {
    /// Writes that somebody was refused something: what they asked for, and what they were told. That it cannot be written changes
    /// nothing of the refusal.
    pub(crate) async fn note_refusal(&self, who: &Identity, what: &str, told: &str) {
        if !self.refusals.is_new(who.member_id, what, Instant::now()) {
            return;
        }
        let (who, now) = (who.clone(), self.clock.now());
        let (what, told) = (what.to_owned(), format!("refused: {told}"));
        let written =
            self.db.run(move |store| store.audit(who.entry("not-allowed", &what, &told), now)).await;
        if let Err(error) = written {
            tracing::error!("a refusal could not be written to the audit log: {error}");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_refusal_is_new_once_a_minute() {
        let (refusals, now) = (Refusals::default(), Instant::now());
        assert!(refusals.is_new(1, "restart packhouse/api", now));
        assert!(!refusals.is_new(1, "restart packhouse/api", now + AGAIN / 2));
        assert!(refusals.is_new(2, "restart packhouse/api", now));
        assert!(refusals.is_new(1, "stop packhouse/api", now));
        assert!(refusals.is_new(1, "restart packhouse/api", now + AGAIN));
    }
}
