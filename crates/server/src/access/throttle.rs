//! Throttling of guesses: failures are counted, and after a few the next try has to wait, longer each time.
//!
//! Failures count by account and address together, so that nobody can lock somebody else out; an address alone has more
//! tries, because many people may share it. Beyond that an account that is guessed at from many addresses answers more
//! slowly, except to browsers and addresses that have signed in to it before.

use std::collections::HashMap;
use std::net::IpAddr;
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use parking_lot::Mutex;

/// The longest wait in seconds.
const LONGEST: i64 = 300;
/// Failures are forgotten after this long without another.
const FORGET: SignedDuration = SignedDuration::from_mins(30);
/// The most accounts and addresses that are remembered; beyond it the oldest half is forgotten.
const REMEMBERED: usize = 20_000;
/// Failures of an account, from wherever, after which it answers more slowly, and by how much at most.
const SLOW_AFTER: u32 = 20;
const SLOWEST: Duration = Duration::from_millis(1500);

/// What failures are counted by.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct Key {
    text: String,
    /// Failures that cost nothing.
    free: u32,
}

impl Key {
    /// A key with few free tries.
    pub(crate) fn new(text: impl Into<String>) -> Self {
        Self { text: text.into(), free: 5 }
    }

    /// An account from an address, or from a browser that has signed in to it before.
    pub(crate) fn account_from(account: &str, origin: &str) -> Self {
        Self::new(format!("account {account} from {origin}"))
    }

    /// An address with all that comes from it.
    pub(crate) fn address(address: &str) -> Self {
        Self { text: format!("sign-in from {address}"), free: 25 }
    }

    /// An account, from wherever: never waits, but slows down.
    pub(crate) fn account(account: &str) -> Self {
        Self { text: format!("account {account}"), free: u32::MAX }
    }
}

/// The part of an address that one person has: all of an IPv4 address, the first 64 bits of an IPv6 one.
pub(crate) fn network_of(address: &str) -> String {
    match address.parse() {
        Ok(IpAddr::V6(v6)) => match v6.to_ipv4_mapped() {
            Some(v4) => v4.to_string(),
            None => {
                let [a, b, c, d, ..] = v6.segments();
                format!("{a:x}:{b:x}:{c:x}:{d:x}::/64")
            }
        },
        _ => address.to_owned(),
    }
}

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
    pub(crate) fn wait(&self, keys: &[Key], now: Timestamp) -> Option<u64> {
        let records = self.0.lock();
        let longest =
            keys.iter().filter_map(|k| Some(remaining(*records.get(&k.text)?, k.free, now))).max()?;
        u64::try_from(longest).ok().filter(|&s| s > 0)
    }

    /// How much more slowly an account answers that is guessed at from many places.
    pub(crate) fn delay(&self, key: &Key, now: Timestamp) -> Duration {
        let record = self.0.lock().get(&key.text).copied();
        let recent = record.filter(|r| now.duration_since(r.last) <= FORGET);
        let over = recent.map_or(0, |r| r.failures.saturating_sub(SLOW_AFTER));
        (Duration::from_millis(50) * over).min(SLOWEST)
    }

    /// Notes a failure.
    pub(crate) fn failed(&self, keys: &[Key], now: Timestamp) {
        let mut records = self.0.lock();
        if records.len() >= REMEMBERED {
            let mut times: Vec<Timestamp> = records.values().map(|r| r.last).collect();
            times.sort_unstable();
            let middle = times[times.len() / 2];
            records.retain(|_, r| r.last > middle);
        }
        for key in keys {
            let record = records.entry(key.text.clone()).or_insert(Record { failures: 0, last: now });
            if now.duration_since(record.last) > FORGET {
                record.failures = 0;
            }
            record.failures = record.failures.saturating_add(1);
            record.last = now;
        }
    }

    /// Notes a success: what was counted for this is forgotten.
    pub(crate) fn succeeded(&self, key: &Key) {
        self.0.lock().remove(&key.text);
    }

    /// Takes one failure back that was counted ahead of a try which then succeeded.
    pub(crate) fn took_back(&self, key: &Key) {
        if let Some(record) = self.0.lock().get_mut(&key.text) {
            record.failures = record.failures.saturating_sub(1);
        }
    }
}

fn remaining(record: Record, free: u32, now: Timestamp) -> i64 {
    if record.failures < free {
        return 0;
    }
    let wait = 1i64.checked_shl(record.failures - free + 1).unwrap_or(LONGEST).clamp(1, LONGEST);
    wait - now.duration_since(record.last).as_secs()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + second).unwrap()
    }

    #[test]
    fn waits_grow_and_end() {
        let throttle = Throttle::default();
        let keys = [Key::account_from("mara", "::1"), Key::new("claim from ::1")];
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
        assert_eq!(throttle.wait(&[Key::account_from("other", "::1")], at(2)), None);
        throttle.succeeded(&keys[0]);
        assert_eq!(throttle.wait(&keys[..1], at(2)), None);
        assert_eq!(throttle.wait(&keys, at(2)), Some(300), "the other still waits");
    }

    #[test]
    fn nobody_locks_somebody_else_out() {
        let throttle = Throttle::default();
        let account = Key::account("mara");
        for n in 0..500 {
            throttle.failed(&[Key::account_from("mara", &format!("192.0.2.{n}")), account.clone()], at(0));
        }
        assert_eq!(throttle.wait(&[Key::account_from("mara", "198.51.100.7"), account.clone()], at(0)), None);
        assert_eq!(throttle.delay(&account, at(0)), SLOWEST, "it only answers more slowly");
        assert_eq!(throttle.delay(&account, at(3600)), Duration::ZERO);
    }

    #[rstest]
    #[case("192.0.2.9", "192.0.2.9")]
    #[case("::ffff:192.0.2.9", "192.0.2.9")]
    #[case("2001:db8:1:2:aaaa::1", "2001:db8:1:2::/64")]
    fn one_person_has_one_network(#[case] address: &str, #[case] network: &str) {
        assert_eq!(network_of(address), network);
    }
}
