//! The queue of operations behind others that are changing the same objects. First come, first served; a caller that
//! does not queue is told what is queued. A place lasts as long as the waiting request: a client that disconnects
//! leaves the queue, and so does the service's end.

use std::collections::BTreeMap;
use std::sync::Arc;

use gubernum_core::plan::Kind;
use jiff::Timestamp;
use parking_lot::Mutex;
use tokio::sync::watch;

/// A host and what is worked on there.
pub(super) type ObjectKey = (String, String);

/// The most who wait at once.
pub(crate) const MOST_WAITING: usize = 200;

/// Somebody who waits.
#[derive(Debug, Clone)]
pub(crate) struct Waiter {
    pub(crate) member: String,
    pub(crate) kind: Kind,
    pub(crate) targets: Vec<String>,
    pub(crate) hosts: Vec<String>,
    pub(crate) since: Timestamp,
    keys: Vec<ObjectKey>,
}

/// All who wait, in order.
pub(crate) struct OperationQueue {
    all: Mutex<(u64, BTreeMap<u64, Waiter>)>,
    /// Goes up whenever something may be worked on again.
    freed: watch::Sender<u64>,
    /// Goes up whenever the queue changes.
    changed: Arc<watch::Sender<u64>>,
}

impl Default for OperationQueue {
    fn default() -> Self {
        Self { all: Mutex::default(), freed: watch::Sender::new(0), changed: Arc::new(watch::Sender::new(0)) }
    }
}

/// A place in the queue; it is given up when dropped.
pub(super) struct QueuePlace {
    queue: Arc<OperationQueue>,
    pub(super) number: u64,
}

impl OperationQueue {
    /// Tells when the queue changes, and whatever else its holder tells through it.
    pub(crate) fn news(&self) -> Arc<watch::Sender<u64>> {
        self.changed.clone()
    }

    /// Takes a place at the end; `None` when too many wait.
    pub(super) fn join(
        self: &Arc<Self>,
        member: &str,
        kind: Kind,
        targets: &[String],
        since: Timestamp,
    ) -> Option<QueuePlace> {
        let number = {
            let mut all = self.all.lock();
            if all.1.len() >= MOST_WAITING {
                return None;
            }
            all.0 += 1;
            let number = all.0;
            let waiter = Waiter {
                member: member.to_owned(),
                kind,
                targets: targets.to_vec(),
                hosts: Vec::new(),
                since,
                keys: Vec::new(),
            };
            all.1.insert(number, waiter);
            number
        };
        Some(QueuePlace { queue: self.clone(), number })
    }

    /// What the holder of a place waits for.
    pub(super) fn wants(&self, number: u64, keys: Vec<ObjectKey>) {
        let is_news = match self.all.lock().1.get_mut(&number) {
            Some(waiter) if waiter.keys != keys => {
                waiter.hosts = keys.iter().map(|(host, _)| host.clone()).collect();
                waiter.hosts.sort();
                waiter.hosts.dedup();
                waiter.keys = keys;
                true
            }
            _ => false,
        };
        if is_news {
            self.changed.send_modify(|n| *n += 1);
        }
    }

    /// Who waits for something before the holder of a place, or before a caller without one.
    pub(super) fn before(&self, key: &ObjectKey, number: Option<u64>) -> Option<Waiter> {
        let all = self.all.lock();
        let earlier = all.1.range(..number.unwrap_or(u64::MAX));
        earlier.map(|(_, waiter)| waiter).find(|waiter| waiter.keys.contains(key)).cloned()
    }

    /// All who wait, those first who came first.
    pub(crate) fn all(&self) -> Vec<Waiter> {
        self.all.lock().1.values().filter(|waiter| !waiter.keys.is_empty()).cloned().collect()
    }

    /// Something may be worked on again.
    pub(super) fn free(&self) {
        self.freed.send_modify(|n| *n += 1);
    }

    /// Hears when something may be worked on again.
    pub(super) fn subscribe(&self) -> watch::Receiver<u64> {
        self.freed.subscribe()
    }
}

impl Drop for QueuePlace {
    fn drop(&mut self) {
        let waiter = self.queue.all.lock().1.remove(&self.number);
        // The next in the queue may start.
        self.queue.free();
        if waiter.is_some_and(|waiter| !waiter.keys.is_empty()) {
            self.queue.changed.send_modify(|n| *n += 1);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(name: &str) -> ObjectKey {
        ("packhouse".to_owned(), name.to_owned())
    }

    #[test]
    fn whoever_came_first_is_first() {
        let queue = Arc::new(OperationQueue::default());
        let now = Timestamp::from_second(100).unwrap();
        let first = queue.join("mara", Kind::Restart, &[], now).unwrap();
        let second = queue.join("jory", Kind::Stop, &[], now).unwrap();
        queue.wants(first.number, vec![key("a"), key("b")]);
        queue.wants(second.number, vec![key("b")]);
        assert!(queue.before(&key("b"), Some(first.number)).is_none());
        assert_eq!(queue.before(&key("b"), Some(second.number)).unwrap().member, "mara");
        assert_eq!(
            queue.before(&key("b"), None).unwrap().member,
            "mara",
            "whoever does not wait is behind all"
        );
        assert!(queue.before(&key("c"), None).is_none());
        let mut freed = queue.subscribe();
        freed.mark_unchanged();
        drop(first);
        assert!(freed.has_changed().unwrap());
        assert!(queue.before(&key("b"), Some(second.number)).is_none());
        assert_eq!(queue.all().len(), 1);
    }

    #[test]
    fn the_queue_has_a_limit() {
        let queue = Arc::new(OperationQueue::default());
        let now = Timestamp::from_second(100).unwrap();
        let all: Vec<_> =
            (0..MOST_WAITING).map(|_| queue.join("mara", Kind::Stop, &[], now).unwrap()).collect();
        assert!(queue.join("jory", Kind::Stop, &[], now).is_none());
        drop(all);
        assert!(queue.join("jory", Kind::Stop, &[], now).is_some());
    }
}
