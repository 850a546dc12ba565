//! Copies the lines of containers under a retention rule to segments, so that they outlive the containers.
//!
//! One task for each such container follows its log from the last line that is on disk; a restart of the
//! service or of the engine continues from there. Lines are written a few seconds after they come; what
//! was not written yet is read again. Limits of rules are held by letting the oldest segments go.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use gubernum_api::logs::{KeepRule, KeepScope};
use gubernum_core::container::Container;
use gubernum_core::logs::block::nanos;
use gubernum_engine::EngineError;
use gubernum_engine::logs::LogQuery;
use gubernum_store::segments::{Segment, Writer};
use parking_lot::RwLock;
use tokio::sync::Notify;
use tokio::time::Instant;
use tokio_util::task::AbortOnDropHandle;

use crate::logs::LogsContext;
use crate::logs::follow::{Follow, Next, Skip, Turn, remainder, since};
use crate::logs::merger::has_label;

/// How often it is looked which containers there are.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// How often limits are held.
const LIMIT_EVERY: Duration = Duration::from_secs(60);
/// The longest time before lines are written.
const FLUSH_EVERY: Duration = Duration::from_secs(5);
/// A log that was interrupted is tried again after this.
const AGAIN: Duration = Duration::from_secs(2);
/// How long to wait for a container's last lines after it is gone.
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
    /// Replaces the rules.
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

/// A name on a host of which lines are kept: a container that is replaced goes on under it.
type Key = (String, String);

/// Keeps until the service ends.
pub(crate) async fn run(context: Arc<LogsContext>) {
    let mut tasks: HashMap<Key, Keeping> = HashMap::new();
    // Which rule a name was last kept by: a container that is gone still counts against it.
    let mut owners: HashMap<Key, u64> = HashMap::new();
    let mut next_limit = Instant::now() + Duration::from_secs(5);
    loop {
        let rules = context.rules.get();
        if !rules.is_empty() || !tasks.is_empty() {
            let wanted = wanted(&context, &rules, &mut owners);
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
                    task: AbortOnDropHandle::new(tokio::spawn(keep(context.clone(), c))),
                    gone: None,
                });
            }
        }
        if Instant::now() >= next_limit {
            next_limit = Instant::now() + LIMIT_EVERY;
            let (context, owners) = (context.clone(), owners.clone());
            let held = tokio::task::spawn_blocking(move || hold_limits(&context, &owners)).await;
            if let Ok(Err(error)) = held {
                tracing::error!("old kept lines could not be removed: {error}");
            }
        }
        tokio::select! {
            () = tokio::time::sleep(LOOK_EVERY) => {}
            () = context.rules.changed.notified() => next_limit = Instant::now(),
            () = context.end.cancelled() => return,
        }
    }
}

fn wanted(
    context: &LogsContext,
    rules: &[KeepRule],
    owners: &mut HashMap<(String, String), u64>,
) -> HashMap<Key, Container> {
    context.hub.look(|fleet| {
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
            out.insert((c.host.clone(), c.name.clone()), c.clone());
        }
        out
    })
}

/// Keeps the lines of one name, over replacements of its container, until the task is ended.
async fn keep(context: Arc<LogsContext>, c: Container) {
    let mut follow = Follow::new(&context, &c.host, &c.name);
    let mut writing: Option<(String, Writer)> = None;
    loop {
        let turn = match follow.next(None).await {
            Next::Turn(turn) => turn,
            Next::Note(note) => {
                tracing::debug!(container = %c.reference(), "log lines are waiting to be saved: {note}");
                continue;
            }
            Next::Gone => return,
        };
        let writer = match writing.take() {
            Some((id, writer)) if id == turn.id => writer,
            before => {
                // What waits is written before another segment begins.
                drop_on_disk_thread(before.map(|(_, writer)| writer)).await;
                match open(&context, &c, &turn.id).await {
                    Some(writer) => writer,
                    None => return,
                }
            }
        };
        let (writer, outcome) = copy(&c, &turn, writer, &mut follow).await;
        follow.ended();
        if let Err(error) = outcome {
            tracing::warn!(container = %c.reference(), "copying the log was interrupted, retrying: {error}");
            tokio::time::sleep(AGAIN).await;
        }
        writing = writer.map(|writer| (turn.id, writer));
    }
}

async fn open(context: &LogsContext, c: &Container, id: &str) -> Option<Writer> {
    let (segments, host, name, id) =
        (context.segments.clone(), c.host.clone(), c.name.clone(), id.to_owned());
    let opened = tokio::task::spawn_blocking(move || segments.write(&host, &name, &id)).await;
    match opened {
        Ok(Ok(writer)) => Some(writer),
        Ok(Err(error)) => {
            tracing::error!(container = %c.reference(), "the log cannot be copied: {error}");
            tokio::time::sleep(AGAIN * 10).await;
            None
        }
        Err(_) => None,
    }
}

async fn drop_on_disk_thread(writer: Option<Writer>) {
    if let Some(writer) = writer {
        let _ = tokio::task::spawn_blocking(move || drop(writer)).await;
    }
}

/// Does something with a writer on a thread that may wait for the disk.
async fn on_disk(
    mut writer: Writer,
    c: &Container,
    work: impl FnOnce(&mut Writer) -> std::io::Result<()> + Send + 'static,
) -> Option<Writer> {
    let done = tokio::task::spawn_blocking(move || {
        let outcome = work(&mut writer);
        (writer, outcome)
    });
    let (writer, outcome) = done.await.ok()?;
    if let Err(error) = outcome {
        tracing::error!(container = %c.reference(), "kept lines could not be written, retrying: {error}");
    }
    Some(writer)
}

/// Follows one container's log from the last kept line until it ends. Gives the writer back, unless its thread broke.
async fn copy(
    c: &Container,
    turn: &Turn,
    writer: Writer,
    follow: &mut Follow,
) -> (Option<Writer>, Result<(), EngineError>) {
    // Lines that wait and are not on disk would be read again.
    let Some(mut writer) = on_disk(writer, c, Writer::flush).await else { return (None, Ok(())) };
    let last = writer.last();
    follow.opened(&turn.id, last);
    let query = LogQuery { since: since(last), follow: true, ..LogQuery::default() };
    let mut skip = Skip::after(last);
    let mut reader = match turn.engine.logs(&turn.id, turn.terminal, &query).await {
        Ok(reader) => reader,
        Err(error) if error.status() == Some(404) || error.is_link() => return (Some(writer), Ok(())),
        Err(error) => return (Some(writer), Err(error)),
    };
    let (mut flush_at, mut is_remainder) = (Instant::now() + FLUSH_EVERY, false);
    let outcome = loop {
        let next = tokio::select! {
            next = reader.next() => Some(next),
            () = tokio::time::sleep_until(flush_at), if writer.is_waiting() => None,
            () = follow.superseded() => break Ok(()),
        };
        let written = match next {
            Some(Ok(Some(mut lines))) => {
                skip.apply(&mut lines);
                follow.count(&lines);
                if !writer.is_waiting() {
                    flush_at = Instant::now() + FLUSH_EVERY;
                }
                on_disk(writer, c, move |w| lines.iter().try_for_each(|l| w.push(l))).await
            }
            Some(Ok(None)) if is_remainder => break Ok(()),
            Some(Ok(None)) => {
                let last = *follow.last();
                match remainder(&turn.engine, (&turn.id, turn.terminal), &query, last).await {
                    Some(more) => ((reader, skip), is_remainder) = (more, true),
                    None => break Ok(()),
                }
                continue;
            }
            Some(Err(error)) if error.is_link() => break Ok(()),
            Some(Err(error)) => break Err(error),
            None => {
                flush_at = Instant::now() + FLUSH_EVERY;
                on_disk(writer, c, Writer::flush).await
            }
        };
        match written {
            Some(back) => writer = back,
            None => return (None, Ok(())),
        }
    };
    (on_disk(writer, c, Writer::flush).await, outcome)
}

/// Lets the oldest segments go that are beyond a rule's limits. Lines of names that no rule is known for
/// any more fall under the narrowest rule that their name alone fits, or stay a month.
pub(crate) fn hold_limits(
    context: &LogsContext,
    owners: &HashMap<(String, String), u64>,
) -> std::io::Result<()> {
    let rules = context.rules.get();
    let now = nanos(context.clock.now());
    const DAY: i64 = 86_400_000_000_000;
    let mut of_rule: HashMap<u64, Vec<Segment>> = HashMap::new();
    for (host, name) in context.segments.containers() {
        let rule = rule_of_name(&rules, owners, &host, &name);
        let days = rule.map_or(30, |r| i64::from(r.days));
        for segment in context.segments.list(&host, &name) {
            if segment.written < now - days * DAY {
                context.segments.remove(&segment)?;
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
            context.segments.remove(&segment)?;
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

#[cfg(test)]
#[path = "keeper_tests.rs"]
mod tests;
