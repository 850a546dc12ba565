//! The freezes in force, in memory for every change: read once, and updated as they change.

use std::sync::Arc;

use gubernum_core::freeze::{Freeze, held_off};
use gubernum_core::rights::Place;
use jiff::Timestamp;
use parking_lot::RwLock;

/// All freezes.
#[derive(Default)]
pub(crate) struct Freezes(RwLock<Arc<Vec<Freeze>>>);

impl Freezes {
    /// Takes over those that the records have.
    pub(crate) fn set(&self, all: Vec<Freeze>) {
        *self.0.write() = Arc::new(all);
    }

    /// Those that there are; some may have ended.
    pub(crate) fn all(&self) -> Arc<Vec<Freeze>> {
        self.0.read().clone()
    }

    /// What a member is told who may not change what is there, if something holds them off.
    pub(crate) fn refusal(
        &self,
        place: &Place<'_>,
        on: &str,
        member: &str,
        now: Timestamp,
    ) -> Option<String> {
        let all = self.all();
        held_off(&all, place, member, now).map(|freeze| freeze.refusal(on))
    }
}
