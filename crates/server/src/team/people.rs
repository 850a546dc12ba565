//! Presence: who has the console open, and what each of them looks at. In memory only, as long as the connection.

use std::collections::BTreeMap;
use std::sync::Arc;

use gubernum_core::note::NotedObject;
use jiff::Timestamp;
use parking_lot::Mutex;
use tokio::sync::watch;

/// One open console.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Open {
    pub(crate) member: String,
    pub(crate) since: Timestamp,
    pub(crate) at: Option<NotedObject>,
}

/// All open consoles. Their number is bounded by the budget for connections.
pub(crate) struct People {
    all: Mutex<(u64, BTreeMap<u64, Open>)>,
    changed: Arc<watch::Sender<u64>>,
}

/// An open console's line; it goes when this is dropped.
pub(crate) struct Presence {
    people: Arc<People>,
    number: u64,
}

impl People {
    pub(super) fn new(changed: Arc<watch::Sender<u64>>) -> Arc<Self> {
        Arc::new(Self { all: Mutex::default(), changed })
    }

    /// A console was opened.
    pub(crate) fn come(self: &Arc<Self>, member: &str, since: Timestamp) -> Presence {
        let number = {
            let mut all = self.all.lock();
            all.0 += 1;
            let number = all.0;
            all.1.insert(number, Open { member: member.to_owned(), since, at: None });
            number
        };
        self.changed.send_modify(|n| *n += 1);
        Presence { people: self.clone(), number }
    }

    /// Each member who has a console open once, with what they looked at last.
    pub(crate) fn all(&self) -> Vec<Open> {
        let mut by_member: BTreeMap<String, Open> = BTreeMap::new();
        for open in self.all.lock().1.values() {
            let known = by_member.entry(open.member.clone()).or_insert_with(|| open.clone());
            known.since = known.since.min(open.since);
            known.at = open.at.clone().or(known.at.take());
        }
        by_member.into_values().collect()
    }
}

impl Presence {
    /// The member looks at something else.
    pub(crate) fn looks_at(&self, at: Option<NotedObject>) {
        let changed = match self.people.all.lock().1.get_mut(&self.number) {
            Some(open) if open.at != at => {
                open.at = at;
                true
            }
            _ => false,
        };
        if changed {
            self.people.changed.send_modify(|n| *n += 1);
        }
    }
}

impl Drop for Presence {
    fn drop(&mut self) {
        self.people.all.lock().1.remove(&self.number);
        self.people.changed.send_modify(|n| *n += 1);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_member_is_there_once_for_as_long_as_a_console_is_open() {
        let (changed, heard) = watch::channel(0);
        let people = People::new(Arc::new(changed));
        let (first, second) = (Timestamp::from_second(100).unwrap(), Timestamp::from_second(200).unwrap());
        let one = people.come("mara", first);
        let two = people.come("mara", second);
        let at: NotedObject = "container:packhouse/orchard-web".parse().unwrap();
        two.looks_at(Some(at.clone()));
        let before = *heard.borrow();
        two.looks_at(Some(at.clone()));
        assert_eq!(*heard.borrow(), before, "the same again is no news");
        assert_eq!(people.all(), [Open { member: "mara".into(), since: first, at: Some(at) }]);
        drop(two);
        assert_eq!(people.all()[0].at, None);
        drop(one);
        assert!(people.all().is_empty());
    }
}
