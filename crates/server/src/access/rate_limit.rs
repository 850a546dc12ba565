//! The rate limit of one session or token: a token bucket. A runaway script slows itself down, and nobody else.

use std::collections::HashMap;

use parking_lot::Mutex;
use tokio::time::Instant;

/// Requests a second in the long run, and how many may come at once. A console with every page open asks for less than one a second.
const PER_SECOND: f64 = 200.0;
const AT_ONCE: f64 = 2000.0;
/// The most credentials that are remembered; those whose bucket is full again make room.
const REMEMBERED: usize = 20_000;

/// The buckets by credential: what is left, and when that was so.
#[derive(Default)]
pub(crate) struct RateLimit(Mutex<HashMap<i64, (f64, Instant)>>);

impl RateLimit {
    /// Takes one request; the seconds to wait when there is none left.
    pub(crate) fn take(&self, credential: i64, now: Instant) -> Result<(), u64> {
        let mut all = self.0.lock();
        let filled = |left: f64, since: Instant| {
            (left + now.saturating_duration_since(since).as_secs_f64() * PER_SECOND).min(AT_ONCE)
        };
        if all.len() >= REMEMBERED {
            all.retain(|_, (left, since)| filled(*left, *since) < AT_ONCE);
        }
        let (left, since) = all.entry(credential).or_insert((AT_ONCE, now));
        let now_left = filled(*left, *since);
        *since = now;
        if now_left < 1.0 {
            *left = now_left;
            return Err(1);
        }
        *left = now_left - 1.0;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn who_asks_too_fast_waits_and_nobody_else_does() {
        let (limit, now) = (RateLimit::default(), Instant::now());
        let taken = (0..5000).take_while(|_| limit.take(1, now).is_ok()).count();
        assert_eq!(taken, 2000);
        assert_eq!(limit.take(1, now), Err(1));
        assert!(limit.take(2, now).is_ok(), "another is not held up");
        let later = now + Duration::from_secs(1);
        assert_eq!((0..5000).take_while(|_| limit.take(1, later).is_ok()).count(), 200);
        let much_later = later + Duration::from_secs(3600);
        assert_eq!((0..5000).take_while(|_| limit.take(1, much_later).is_ok()).count(), 2000);
    }
}
