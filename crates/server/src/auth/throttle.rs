//! The brakes on guessing: failures are counted by account and by address, and after a few the next
//! try has to wait, longer each time.

use std::collections::HashMap;

use jiff::{SignedDuration, Timestamp};
use parking_lot::Mutex;

/// Failures that cost nothing.
const FREE: u32 = 5;
/// The longest wait in seconds.
const LONGEST: i64 = 300;
/// After so long without a failure, all is forgotten.
const FORGET: SignedDuration = SignedDuration::from_mins(30);
/// So many accounts and addresses are remembered; beyond that the oldest half is forgotten.
const REMEMBERED: usize = 20_000;

#[derive(Debug, Clone, Copy)]
struct Record {
    failures: u32,
    last: Timestamp,
}

/// Counts failures.
#[derive(Default)]
pub(crate) struct Throttle(Mutex<HashMap<String, Record>>);

impl Throttle {
    /// Seconds that must pass before any of these keys may try again; `None` when none must.
    pub(crate) fn wait(&self, keys: &[String], now: Timestamp) -> Option<u64> {
        let records = self.0.lock();
        let longest = keys.iter().filter_map(|k| records.get(k)).map(|r| remaining(*r, now)).max()?;
        u64::try_from(longest).ok().filter(|&s| s > 0)
    }

    /// Notes a failure.
    pub(crate) fn failed(&self, keys: &[String], now: Timestamp) {
        let mut records = self.0.lock();
        if records.len() >= REMEMBERED {
            let mut times: Vec<Timestamp> = records.values().map(|r| r.last).collect();
            times.sort_unstable();
            let middle = times[times.len() / 2];
            records.retain(|_, r| r.last > middle);
        }
        for key in keys {
            let record = records.entry(key.clone()).or_insert(Record { failures: 0, last: now });
            if now.duration_since(record.last) > FORGET {
                record.failures = 0;
            }
            record.failures = record.failures.saturating_add(1);
            record.last = now;
        }
    }

    /// Notes a success: the account starts afresh.
    pub(crate) fn succeeded(&self, key: &str) {
        self.0.lock().remove(key);
    }
}

fn remaining(record: Record, now: Timestamp) -> i64 {
    if record.failures < FREE {
        return 0;
    }
    let wait = 1i64.checked_shl(record.failures - FREE + 1).unwrap_or(LONGEST).clamp(1, LONGEST);
    wait - now.duration_since(record.last).as_secs()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + second).unwrap()
    }

    #[test]
    fn waits_grow_and_end() {
        let throttle = Throttle::default();
        let keys = ["account mara".to_owned(), "address ::1".to_owned()];
        for _ in 0..4 {
            throttle.failed(&keys, at(0));
            assert_eq!(throttle.wait(&keys, at(0)), None);
        }
        throttle.failed(&keys, at(0));
        assert_eq!(throttle.wait(&keys, at(0)), Some(2));
        assert_eq!(throttle.wait(&keys, at(2)), None);
        for _ in 0..40 {
            throttle.failed(&keys, at(2));
        }
        assert_eq!(throttle.wait(&keys[..1], at(2)), Some(300));
        assert_eq!(throttle.wait(&["account other".to_owned()], at(2)), None);
        throttle.succeeded(&keys[0]);
        assert_eq!(throttle.wait(&keys[..1], at(2)), None);
        assert_eq!(throttle.wait(&keys, at(2)), Some(300), "the address still waits");
    }
}
