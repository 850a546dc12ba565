//! Plans for tidying, and the rules by which objects are protected. Core's `tidy` decides what is unused.

use std::collections::HashSet;

use gubernum_api::images::KeepNote;
use gubernum_core::plan::request::TidyRequest;
use gubernum_core::tidy::{Rules, plan_tidy};
use jiff::SignedDuration;

use crate::operations::OperationError;
use crate::operations::planner::{Planned, Planner};

impl Planner {
    /// What protects objects now.
    pub(crate) async fn tidy_rules(&self) -> Result<Rules, OperationError> {
        let hosts: Vec<String> = self.hub.look(|fleet| fleet.hosts().map(|h| h.name.clone()).collect());
        let since = self.clock.now() - crate::images::DIGEST_CHECK_HOLDS;
        let (set, needed, notes, checks) = self
            .db
            .run(move |store| {
                let set = store.preferences()?;
                let mut needed = HashSet::new();
                for host in hosts {
                    let images = store.kept_images(&host)?;
                    needed.extend(images.into_iter().map(|image| (host.clone(), image)));
                }
                Ok((set, needed, store.keep_notes()?, store.digest_checks()?))
            })
            .await?;
        let words = |n: KeepNote| {
            let why = if n.text.is_empty() { String::new() } else { format!(": {}", n.text) };
            (n.piece, format!("kept by {}{why}", n.member))
        };
        let notes = notes.into_iter().map(words).collect();
        let hours = |hours: u32| SignedDuration::from_hours(i64::from(hours));
        let lately = checks.into_iter().filter(|(_, _, checked)| *checked >= since);
        Ok(Rules {
            youngest: hours(set.tidy_after_hours),
            unused_for: hours(set.safe_after_hours),
            cache_unused_for: hours(set.cache_safe_after_hours),
            registry_has: lately.map(|(digest, there, _)| (digest, there)).collect(),
            needed,
            notes,
        })
    }

    pub(super) async fn tidy(&self, request: &TidyRequest) -> Result<Vec<Planned>, OperationError> {
        let rules = self.tidy_rules().await?;
        let (hub, pieces, now) = (self.hub.clone(), request.pieces.clone(), self.clock.now());
        // A large fleet takes a moment: observations go on meanwhile.
        let planning = tokio::task::spawn_blocking(move || plan_tidy(&hub.snapshot(), &pieces, &rules, now));
        Ok(planning.await?.into_iter().map(Planned::from).collect())
    }
}
