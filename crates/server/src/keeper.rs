//! Copies the lines of containers that a rule names into segments, so that they outlive the containers.
//!
//! One task for each such container follows its log from the last line that is on disk; a restart of the
//! service or of the engine goes on from there. Lines are written a few seconds after they come; what
//! was not written yet is read again. Limits of rules are held by letting the oldest segments go.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use gubernum_api::logs::{KeepRule, KeepScope};
use gubernum_core::container::Container;
use gubernum_core::logs::LogLine;
use gubernum_core::logs::block::nanos;
use gubernum_engine::Engine;
use gubernum_engine::logs::LogQuery;
use gubernum_store::segments::{Segment, Writer};
use jiff::Timestamp;
use parking_lot::RwLock;
use tokio::sync::Notify;
use tokio::time::Instant;
use tokio_util::task::AbortOnDropHandle;

use crate::app::App;
use crate::many::has_label;

/// How often it is looked which containers there are.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// How often limits are held.
const LIMIT_EVERY: Duration = Duration::from_secs(60);
/// Lines wait at most so long to be written.
const FLUSH_EVERY: Duration = Duration::from_secs(5);
/// A log that broke off is tried again after this.
const AGAIN: Duration = Duration::from_secs(2);
/// A container's last lines are waited for so long after it is gone.
const LAST_WORDS: Duration = Duration::from_secs(15);
/// The most logs that are kept at once on one host.
const MOST_OF_HOST: usize = 400;

/// The rules, as they hold now.
#[derive(Default)]
pub(crate) struct Rules {
    rules: RwLock<Arc<Vec<KeepRule>>>,
    changed: Notify,
}

impl Rules {
    /// Sets the rules anew.
    pub(crate) fn set(&self, rules: Vec<KeepRule>) {
        *self.rules.write() = Arc::new(rules);
        self.changed.notify_one();
    }

    /// The rules, the narrowest first.
    pub(crate) fn get(&self) -> Arc<Vec<KeepRule>> {
        self.rules.read().clone()
    }
}

/// The rule for a container that is there: the narrowest one that fits.
pub(crate) fn rule_for<'a>(rules: &'a [KeepRule], c: &Container) -> Option<&'a KeepRule> {
    rules.iter().find(|r| match r.scope {
        KeepScope::Container => r.value == c.reference(),
        KeepScope::Label => has_label(c, &r.value),
        KeepScope::Stack => c.stack.as_deref() == Some(r.value.as_str()),
        KeepScope::Host => r.value == c.host,
        KeepScope::All => true,
    })
}

/// A task that keeps, and since when its container has been gone.
struct Keeping {
    task: AbortOnDropHandle<()>,
    gone: Option<Instant>,
}

/// A container that lines are kept of.
type Key = (String, String, String);

/// Keeps until the service ends.
pub(crate) async fn run(app: App) {
    let mut tasks: HashMap<Key, Keeping> = HashMap::new();
    // Which rule a name was last kept by: a container that is gone still counts against it.
    let mut owners: HashMap<(String, String), u64> = HashMap::new();
    let mut next_limit = Instant::now() + Duration::from_secs(5);
    loop {
        let rules = app.rules.get();
        if !rules.is_empty() || !tasks.is_empty() {
            let wanted = wanted(&app, &rules, &mut owners);
            tasks.retain(|key, keeping| {
                let there = wanted.contains_key(key);
                if there {
                    keeping.gone = None;
                }
                let gone = (!there).then(|| *keeping.gone.get_or_insert_with(Instant::now));
                !keeping.task.is_finished() && gone.is_none_or(|since| since.elapsed() < LAST_WORDS)
            });
            for (key, c) in wanted {
                tasks.entry(key).or_insert_with(|| Keeping {
                    task: AbortOnDropHandle::new(app.streams.spawn(keep(app.clone(), c))),
                    gone: None,
                });
            }
        }
        if Instant::now() >= next_limit {
            next_limit = Instant::now() + LIMIT_EVERY;
            let (app, owners) = (app.clone(), owners.clone());
            let held = tokio::task::spawn_blocking(move || hold_limits(&app, &owners)).await;
            if let Ok(Err(error)) = held {
                tracing::error!("old kept lines could not be let go: {error}");
            }
        }
        tokio::select! {
            () = tokio::time::sleep(LOOK_EVERY) => {}
            () = app.rules.changed.notified() => next_limit = Instant::now(),
            () = app.end.cancelled() => return,
        }
    }
}

fn wanted(
    app: &App,
    rules: &[KeepRule],
    owners: &mut HashMap<(String, String), u64>,
) -> HashMap<Key, Container> {
    app.hub.look(|fleet| {
        let mut of_host: HashMap<&str, usize> = HashMap::new();
        let mut out = HashMap::new();
        for c in fleet.containers() {
            let Some(rule) = rule_for(rules, c) else { continue };
            let count = of_host.entry(&c.host).or_default();
            *count += 1;
            if *count > MOST_OF_HOST {
                continue;
            }
            owners.insert((c.host.clone(), c.name.clone()), rule.id);
            out.insert((c.host.clone(), c.name.clone(), c.id.clone()), c.clone());
        }
        out
    })
}

/// Keeps one container's lines for as long as it is there.
async fn keep(app: App, c: Container) {
    let (segments, host, name, id) = (app.segments.clone(), c.host.clone(), c.name.clone(), c.id.clone());
    let opened = tokio::task::spawn_blocking(move || segments.write(&host, &name, &id)).await;
    let mut writer = match opened {
        Ok(Ok(writer)) => writer,
        Ok(Err(error)) => {
            tracing::error!(container = %c.reference(), "its lines cannot be kept: {error}");
            tokio::time::sleep(AGAIN * 10).await;
            return;
        }
        Err(_) => return,
    };
    loop {
        if let Some(engine) = app.links.get(&c.host).and_then(|l| l.live())
            && let Err(error) = copy(&engine, &c, &mut writer).await
        {
            tracing::warn!(container = %c.reference(), "keeping its lines broke off, it is tried again: {error}");
        }
        flush(&mut writer, &c);
        if app.hub.look(|fleet| fleet.container(&c.host, &c.id).is_none()) {
            return;
        }
        tokio::time::sleep(AGAIN).await;
    }
}

fn flush(writer: &mut Writer, c: &Container) {
    if let Err(error) = tokio::task::block_in_place(|| writer.flush()) {
        tracing::error!(container = %c.reference(), "kept lines could not be written, it is tried again: {error}");
    }
}

/// Follows the log from the last kept line until it ends.
async fn copy(
    engine: &Engine,
    c: &Container,
    writer: &mut Writer,
) -> Result<(), gubernum_engine::EngineError> {
    // Lines that wait and are not on disk would be read again.
    flush(writer, c);
    let last = writer.last();
    let since = last.and_then(|l| Timestamp::from_nanosecond(i128::from(l.nanos)).ok());
    let mut skip = last;
    let query = LogQuery { since, follow: true, ..LogQuery::default() };
    let mut reader = engine.logs(&c.id, c.terminal, &query).await?;
    let mut flush_at = Instant::now() + FLUSH_EVERY;
    loop {
        let next = tokio::select! {
            next = reader.next() => Some(next?),
            () = tokio::time::sleep_until(flush_at), if writer.is_waiting() => None,
        };
        match next {
            Some(Some(lines)) => {
                let fresh = lines.into_iter().filter(|line| match (&mut skip, line.time.map(nanos)) {
                    (Some(l), Some(time)) if time == l.nanos && l.count > 0 => {
                        l.count -= 1;
                        false
                    }
                    (Some(l), Some(time)) => time >= l.nanos,
                    _ => true,
                });
                let fresh: Vec<LogLine> = fresh.collect();
                if !writer.is_waiting() {
                    flush_at = Instant::now() + FLUSH_EVERY;
                }
                let taken = tokio::task::block_in_place(|| fresh.iter().try_for_each(|l| writer.push(l)));
                if let Err(error) = taken {
                    tracing::error!(container = %c.reference(), "kept lines could not be written: {error}");
                }
            }
            Some(None) => return Ok(()),
            None => {
                flush(writer, c);
                flush_at = Instant::now() + FLUSH_EVERY;
            }
        }
    }
}

/// Lets the oldest segments go that are beyond a rule's limits. Lines of names that no rule is known for
/// any more fall under the narrowest rule that their name alone fits, or stay a month.
pub(crate) fn hold_limits(app: &App, owners: &HashMap<(String, String), u64>) -> std::io::Result<()> {
    let rules = app.rules.get();
    let now = nanos(app.clock.now());
    const DAY: i64 = 86_400_000_000_000;
    let mut of_rule: HashMap<u64, Vec<Segment>> = HashMap::new();
    for (host, name) in app.segments.containers() {
        let rule = rule_of_name(&rules, owners, &host, &name);
        let days = rule.map_or(30, |r| i64::from(r.days));
        for segment in app.segments.of(&host, &name) {
            if segment.written < now - days * DAY {
                app.segments.remove(&segment)?;
            } else if let Some(rule) = rule {
                of_rule.entry(rule.id).or_default().push(segment);
            }
        }
    }
    for rule in rules.iter() {
        let mut all = of_rule.remove(&rule.id).unwrap_or_default();
        all.sort_by_key(|s| s.written);
        let mut bytes: u64 = all.iter().map(|s| s.bytes).sum();
        for segment in all {
            if bytes <= rule.bytes {
                break;
            }
            bytes -= segment.bytes;
            app.segments.remove(&segment)?;
        }
    }
    Ok(())
}

/// The rule that a name's segments count against.
pub(crate) fn rule_of_name<'a>(
    rules: &'a [KeepRule],
    owners: &HashMap<(String, String), u64>,
    host: &str,
    name: &str,
) -> Option<&'a KeepRule> {
    let owner = owners.get(&(host.to_owned(), name.to_owned()));
    owner.and_then(|id| rules.iter().find(|r| r.id == *id)).or_else(|| {
        rules.iter().find(|r| match r.scope {
            KeepScope::Container => r.value == format!("{host}/{name}"),
            KeepScope::Host => r.value == host,
            KeepScope::All => true,
            // A name alone does not tell its labels; a rule for them is only known while it is there.
            KeepScope::Label | KeepScope::Stack => false,
        })
    })
}
