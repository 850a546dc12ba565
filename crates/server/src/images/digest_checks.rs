//! Checks whether registries still have unused images, so that tidying need not guess.
//!
//! One HEAD request for each digest, cached in the records for a day. The limits are those of `update_checks`: one
//! request at a time for each registry, with pauses, and none while a registry asks to wait. What an answer means for
//! a leftover is decided in core's `tidy`.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use gubernum_core::image_name::ImageName;
use gubernum_core::inventory::images;
use jiff::SignedDuration;
use moka::sync::Cache;
use tokio::sync::Notify;

use crate::images::CheckError;
use crate::images::ImagesContext;
use crate::images::registry::RegistryError;
use crate::images::update_checks::{LEAVE_ALONE, PAUSE};

/// How long an answer is valid.
pub(crate) const LATELY: SignedDuration = SignedDuration::from_hours(24);
/// The age from which an answer is refreshed.
const AGAIN: SignedDuration = SignedDuration::from_hours(12);
/// The wait before a registry that failed is asked again.
const TRY_AGAIN: Duration = Duration::from_secs(600);
/// How often it is seen whether a question is due.
const EVERY: Duration = Duration::from_secs(1800);
/// The first look comes when the hosts are there.
const FIRST: Duration = Duration::from_secs(60);
/// The most digests that are asked for in one look.
const MOST: usize = 2000;
/// The most digests of which it is remembered that nobody answered.
const MOST_TRIED: u64 = 20_000;

/// What is under way.
pub(crate) struct DigestChecks {
    wish: Notify,
    /// Digests that were asked for without an answer.
    tried: Cache<String, ()>,
}

impl Default for DigestChecks {
    fn default() -> Self {
        let tried = Cache::builder().max_capacity(MOST_TRIED).time_to_live(TRY_AGAIN).build();
        Self { wish: Notify::default(), tried }
    }
}

impl DigestChecks {
    /// Asks for what is due soon: somebody looks at the leftovers.
    pub(crate) fn ask_soon(&self) {
        self.wish.notify_one();
    }

    fn is_due(&self, digest: &str) -> bool {
        !self.tried.contains_key(digest)
    }
}

/// Asks now and then, and when somebody looks, for as long as the service runs.
pub(crate) async fn run(context: Arc<ImagesContext>) {
    let end = context.end.clone();
    let asking = async {
        let mut pause = FIRST;
        loop {
            let _ = tokio::time::timeout(pause, context.backing.wish.notified()).await;
            if let Err(error) = look(&context, false).await {
                tracing::error!("registries could not be checked for unused images: {error}");
            }
            pause = EVERY;
        }
    };
    end.run_until_cancelled(asking).await;
}

/// The digests of all images that no container of their host uses, by registry.
fn unused(context: &Arc<ImagesContext>) -> BTreeMap<String, BTreeSet<String>> {
    let mut by_registry: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    let copies = images(&context.hub.snapshot()).into_iter().flat_map(|row| row.copies);
    let digests = copies.filter(|c| c.used_by.is_empty()).flat_map(|c| c.image.digests);
    for digest in digests.take(MOST) {
        if let Ok(name) = digest.parse::<ImageName>() {
            by_registry.entry(name.registry).or_default().insert(digest);
        }
    }
    by_registry
}

/// Asks for what is due, or for everything that was not answered within the last minute.
pub(crate) async fn look(context: &Arc<ImagesContext>, everything: bool) -> Result<(), CheckError> {
    let (hours, known) =
        context.db.run(|store| Ok((store.preferences()?.image_check_hours, store.digest_checks()?))).await?;
    if hours == 0 && !everything {
        return Ok(());
    }
    let after = if everything { SignedDuration::from_mins(1) } else { AGAIN };
    let now = context.clock.now();
    let fresh: BTreeSet<String> = known
        .into_iter()
        .filter(|(_, _, at)| now.duration_since(*at) < after)
        .map(|(digest, _, _)| digest)
        .collect();
    let seen = context.clone();
    let all = tokio::task::spawn_blocking(move || unused(&seen)).await?;
    let asking = all.into_iter().map(|(registry, mut digests)| {
        digests.retain(|d| !fresh.contains(d) && (everything || context.backing.is_due(d)));
        ask_registry(context, registry, digests)
    });
    futures_util::future::join_all(asking).await;
    Ok(())
}

async fn ask_registry(context: &ImagesContext, registry: String, digests: BTreeSet<String>) {
    let mut failed = 0;
    for digest in digests {
        if context.registries.is_left_alone(&registry) {
            return;
        }
        let there = match context.registries.digest(&digest).await {
            Ok(_) => Some(true),
            Err(RegistryError::Missing { .. }) => Some(false),
            Err(RegistryError::Busy(_, wait)) => {
                let wait = wait.unwrap_or(LEAVE_ALONE).clamp(60, 24 * 3600);
                tracing::warn!(%registry, "rate limit reached; not asked for {wait} s");
                context.registries.leave_alone(&registry, Duration::from_secs(wait));
                return;
            }
            // One that is gone is not asked for every image in turn.
            Err(RegistryError::Unreachable(..) | RegistryError::Slow(_)) => {
                failed += 1;
                None
            }
            Err(_) => None,
        };
        let now = context.clock.now();
        match there {
            Some(there) => {
                let check = (digest, there, now);
                if let Err(error) =
                    context.db.run(move |store| store.set_digest_check(&check, now - LATELY)).await
                {
                    tracing::error!("a registry check could not be saved: {error}");
                    return;
                }
            }
            None => context.backing.tried.insert(digest, ()),
        }
        if failed >= 3 {
            context.registries.leave_alone(&registry, Duration::from_secs(600));
            return;
        }
        tokio::time::sleep(PAUSE).await;
    }
}
