//! Looking for newer images: now and then each name that a container was made with is asked for at its registry.
//!
//! A registry is asked one question at a time with a pause between, the looks of many services do not fall on the same
//! moment, and a registry that asks to wait is not asked for as long as it says. Whether a container is behind is
//! judged in core's `fleet`.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

use gubernum_api::images::ImageCheck;
use gubernum_core::fleet::Observation;
use gubernum_core::image_name::ImageName;
use gubernum_core::plan::PINNED_LABEL;
use gubernum_store::Store;
use gubernum_store::registries::Check;
use jiff::{SignedDuration, Timestamp};

use crate::images::CheckError;
use crate::images::ImagesContext;
use crate::images::registry::RegistryError;

/// How often it is seen whether a look is due.
const WAKE_EVERY: Duration = Duration::from_secs(60);
/// The first look comes when the hosts are there.
const FIRST: Duration = Duration::from_secs(30);
/// The pause between two questions to one registry.
pub(crate) const PAUSE: Duration = Duration::from_millis(300);
/// How long a registry is not asked that wants us to wait without saying how long.
pub(crate) const LEAVE_ALONE: u64 = 3600;
/// The most names of one look.
const MOST_NAMES: usize = 5000;
/// How long answers about unused names are kept.
const FORGET_DAYS: i64 = 30;

/// Looks now and then, as often as it is set, for as long as the service runs.
pub(crate) async fn run(context: Arc<ImagesContext>) {
    publish(&context).await;
    let end = context.end.clone();
    let looking = async {
        tokio::time::sleep(FIRST).await;
        loop {
            if let Err(error) = look(&context, false).await {
                tracing::error!("checking for newer images failed: {error}");
            }
            tokio::time::sleep(WAKE_EVERY).await;
        }
    };
    end.run_until_cancelled(looking).await;
}

/// The names that are worth asking for, by registry.
fn names(context: &ImagesContext) -> BTreeMap<String, Vec<String>> {
    let mut by_registry: BTreeMap<String, Vec<String>> = BTreeMap::new();
    context.hub.look(|fleet| {
        let mut all: Vec<&str> = fleet
            .containers()
            .filter(|c| c.labels.get(PINNED_LABEL).is_none_or(|v| v == "false"))
            .map(|c| c.image.as_str())
            .collect();
        all.sort_unstable();
        all.dedup();
        for text in all.into_iter().take(MOST_NAMES) {
            let Ok(name) = text.parse::<ImageName>() else { continue };
            if !name.is_pinned() && !text.starts_with("sha256:") {
                by_registry.entry(name.registry.clone()).or_default().push(text.to_owned());
            }
        }
    });
    by_registry
}

/// Asks for what is due, or for everything.
pub(crate) async fn look(context: &ImagesContext, everything: bool) -> Result<(), CheckError> {
    let (hours, known) =
        context.db.run(|store| Ok((store.preferences()?.image_check_hours, store.image_checks()?))).await?;
    if hours == 0 && !everything {
        return Ok(());
    }
    let known: HashMap<String, Timestamp> = known.into_iter().map(|(image, _, _, at)| (image, at)).collect();
    let now = context.clock.now();
    let is_due = |image: &String| {
        let after = SignedDuration::from_secs(i64::from(hours) * 3600 + spread(image, hours));
        everything || known.get(image).is_none_or(|at| now.duration_since(*at) >= after)
    };
    let registries = names(context).into_iter().filter_map(|(registry, images)| {
        let due: Vec<String> = images.into_iter().filter(is_due).collect();
        (!due.is_empty()).then_some((registry, due))
    });
    let asking = registries.map(|(registry, due)| ask_registry(context, registry, due));
    let changed = futures_util::future::join_all(asking).await.into_iter().any(|asked| asked);
    if changed {
        let before = now - SignedDuration::from_hours(24 * FORGET_DAYS);
        context.db.run(move |store| store.forget_image_checks(before)).await?;
        publish(context).await;
    }
    Ok(())
}

/// Up to a tenth of the time between looks, by the name.
fn spread(image: &str, hours: u32) -> i64 {
    let sum = image.bytes().fold(0u32, |s, b| s.wrapping_mul(31).wrapping_add(u32::from(b)));
    i64::from(sum % (hours * 360).max(1))
}

/// Asks one registry for its names, one after another; whether anything was learnt.
async fn ask_registry(context: &ImagesContext, registry: String, due: Vec<String>) -> bool {
    if context.registries.is_left_alone(&registry) {
        return false;
    }
    let mut failed = 0;
    for image in &due {
        let answer = context.registries.digest(image).await;
        if let Err(RegistryError::Busy(_, wait)) = &answer {
            let wait = wait.unwrap_or(LEAVE_ALONE).clamp(60, 24 * 3600);
            tracing::warn!(%registry, "rate limit reached; not asked for {wait} s");
            context.registries.leave_alone(&registry, Duration::from_secs(wait));
            return true;
        }
        let unreachable = matches!(answer, Err(RegistryError::Unreachable(..) | RegistryError::Slow(_)));
        let check: Check = match answer {
            Ok(digest) => (image.clone(), Some(digest), None, context.clock.now()),
            Err(error) => (image.clone(), None, Some(error.to_string()), context.clock.now()),
        };
        if let Err(error) = context.db.run(move |store| store.set_image_check(&check)).await {
            tracing::error!("a registry check could not be saved: {error}");
            return true;
        }
        // One that is gone is not asked for every name in turn.
        failed = if unreachable { failed + 1 } else { 0 };
        if failed >= 3 {
            context.registries.leave_alone(&registry, Duration::from_secs(600));
            return true;
        }
        tokio::time::sleep(PAUSE).await;
    }
    true
}

/// Tells the fleet what is known.
async fn publish(context: &ImagesContext) {
    match context.db.run(Store::image_checks).await {
        Ok(checks) => {
            let digests = checks.into_iter().filter_map(|(image, digest, _, _)| Some((image, digest?)));
            let digests = Arc::new(digests.collect::<HashMap<_, _>>());
            context.hub.observe(Observation::Newest { digests }, context.clock.now());
        }
        Err(error) => tracing::error!("saved registry checks cannot be read: {error}"),
    }
}

/// What is known, with the containers that run something older.
pub(crate) async fn checks(context: &ImagesContext) -> Result<Vec<ImageCheck>, CheckError> {
    let known = context.db.run(Store::image_checks).await?;
    let mut outdated: HashMap<String, Vec<String>> = HashMap::new();
    context.hub.look(|fleet| {
        for c in fleet.containers().filter(|c| c.newer_image) {
            outdated.entry(c.image.clone()).or_default().push(c.reference());
        }
    });
    let check = |(image, digest, problem, checked): Check| ImageCheck {
        outdated: outdated.remove(&image).unwrap_or_default(),
        image,
        digest,
        problem,
        checked,
    };
    Ok(known.into_iter().map(check).collect())
}
