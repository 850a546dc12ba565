//! The fleet at one revision as JSON: whole for an HTTP answer, in parts for a live connection, whose buffers keep
//! the size of the largest message they ever held. Deltas follow: see `hub`.

use std::fmt::Write as _;
use std::sync::Arc;

/// Where a part is full. One record that is larger is a part of its own.
const PART_BYTES: usize = 48 * 1024;

/// The JSON of a `FleetSnapshot`, not put together yet.
#[derive(Debug)]
pub struct FreshFleet {
    epoch: String,
    revision: u64,
    /// Each host as JSON, then each container.
    hosts: Vec<Arc<str>>,
    containers: Vec<Arc<str>>,
}

impl FreshFleet {
    pub(super) fn new(epoch: String, revision: u64, hosts: Vec<Arc<str>>, containers: Vec<Arc<str>>) -> Self {
        Self { epoch, revision, hosts, containers }
    }

    /// All of it as one `FleetSnapshot`.
    pub fn json(&self) -> String {
        self.snapshot(&self.hosts, &self.containers)
    }

    /// The same as several `FleetSnapshot`s, each with some of the hosts or containers; there is one at least.
    pub fn parts(self) -> Parts {
        Parts { fleet: self, at: 0, begun: false }
    }

    fn snapshot(&self, hosts: &[Arc<str>], containers: &[Arc<str>]) -> String {
        let room: usize = hosts.iter().chain(containers).map(|text| text.len() + 1).sum();
        let mut out = String::with_capacity(room + self.epoch.len() + 80);
        // Writing to a text cannot fail.
        let _ = write!(out, r#"{{"epoch":"{}","revision":{},"hosts":["#, self.epoch, self.revision);
        join(hosts, &mut out);
        out.push_str(r#"],"containers":["#);
        join(containers, &mut out);
        out.push_str("]}");
        out
    }
}

fn join(texts: &[Arc<str>], out: &mut String) {
    for (n, text) in texts.iter().enumerate() {
        if n > 0 {
            out.push(',');
        }
        out.push_str(text);
    }
}

/// The parts of a fleet, in order.
#[derive(Debug)]
pub struct Parts {
    fleet: FreshFleet,
    /// How many records, hosts before containers, are given already.
    at: usize,
    begun: bool,
}

impl Iterator for Parts {
    /// The JSON of a `FleetSnapshot`, and whether more of it follows.
    type Item = (String, bool);

    fn next(&mut self) -> Option<Self::Item> {
        let (hosts, containers) = (&self.fleet.hosts, &self.fleet.containers);
        let all = hosts.len() + containers.len();
        if self.begun && self.at >= all {
            return None;
        }
        self.begun = true;
        let records = hosts.iter().chain(containers).skip(self.at);
        let mut room = PART_BYTES;
        let fits = records.take_while(|text| {
            let fits = room > 0;
            room = room.saturating_sub(text.len());
            fits
        });
        let until = self.at + fits.count();
        let of_hosts = hosts.len();
        let part = self.fleet.snapshot(
            &hosts[self.at.min(of_hosts)..until.min(of_hosts)],
            &containers[self.at.saturating_sub(of_hosts)..until.saturating_sub(of_hosts)],
        );
        self.at = until;
        Some((part, until < all))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn texts(lengths: &[usize], letter: char) -> Vec<Arc<str>> {
        lengths.iter().map(|n| format!("\"{}\"", letter.to_string().repeat(*n)).into()).collect()
    }

    proptest! {
        #[test]
        fn the_parts_are_the_whole(
            hosts in proptest::collection::vec(1usize..60_000, 0..6),
            containers in proptest::collection::vec(1usize..9_000, 0..60),
        ) {
            let fleet = || FreshFleet::new("e".into(), 7, texts(&hosts, 'h'), texts(&containers, 'c'));
            let whole: serde_json::Value = serde_json::from_str(&fleet().json()).unwrap();
            let parts: Vec<(String, bool)> = fleet().parts().collect();
            prop_assert!(!parts.is_empty());
            let (mut of_hosts, mut of_containers) = (Vec::new(), Vec::new());
            for (n, (text, more)) in parts.iter().enumerate() {
                prop_assert_eq!(*more, n + 1 < parts.len());
                prop_assert!(text.len() < PART_BYTES + 60_100, "{}", text.len());
                let part: serde_json::Value = serde_json::from_str(text).unwrap();
                prop_assert_eq!(&part["revision"], &whole["revision"]);
                of_hosts.extend(part["hosts"].as_array().unwrap().clone());
                of_containers.extend(part["containers"].as_array().unwrap().clone());
            }
            prop_assert_eq!(&of_hosts, whole["hosts"].as_array().unwrap());
            prop_assert_eq!(&of_containers, whole["containers"].as_array().unwrap());
        }
    }
}
