//! Usage history in the service: samples that are not packed yet, when they are saved and packed, and queries over
//! both.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use gubernum_core::history::series::{coarser, resolution, sample, total};
use gubernum_core::history::{Bucket, Code, Level};
use gubernum_core::usage::FIGURES;
use gubernum_store::StoreError;
use gubernum_store::history::{HistoryStore, OpenRows};
use parking_lot::Mutex;
use tokio::task::spawn_blocking;
use tokio_util::sync::CancellationToken;

use crate::clock::Clock;

/// A window is packed this many seconds after its end.
const GRACE: i64 = 15;
const MINUTE: Duration = Duration::from_secs(60);
const FORGET_EVERY: i64 = 3600;
/// The most containers that one question is about.
pub(crate) const MOST_SERIES: usize = 2000;

/// How many days each step is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeepHistory {
    /// Samples as they were taken.
    pub fine_days: u32,
    /// Minutes.
    pub minute_days: u32,
    /// Ten minutes.
    pub ten_minute_days: u32,
    /// Hours.
    pub hour_days: u32,
    /// Seconds between two samples.
    pub sample_seconds: u64,
}

impl Default for KeepHistory {
    fn default() -> Self {
        Self { fine_days: 2, minute_days: 8, ten_minute_days: 40, hour_days: 400, sample_seconds: 10 }
    }
}

impl KeepHistory {
    fn seconds(&self, level: Level) -> i64 {
        let days = match level {
            Level::Fine => self.fine_days,
            Level::Minute => self.minute_days,
            Level::TenMinutes => self.ten_minute_days,
            Level::Hour => self.hour_days,
        };
        i64::from(days) * 86_400
    }
}

#[derive(Default)]
struct OpenSeries {
    rows: OpenRows,
    /// How many of them have been stored.
    noted: usize,
}

type Open = HashMap<String, HashMap<String, OpenSeries>>;

/// How much history there is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct HistoryTotals {
    /// Bytes of packed pieces.
    pub(crate) bytes: u64,
    /// Packed pieces.
    pub(crate) chunks: u64,
    /// Samples that are not packed yet.
    pub(crate) open_samples: usize,
}

/// Holds the open rows. Cheap to share.
pub(crate) struct History {
    store: Arc<HistoryStore>,
    keep: KeepHistory,
    open: Mutex<Open>,
    /// Set once what was put down before the start is there again.
    loaded: OnceLock<()>,
}

/// An answer before it is put into words.
pub(crate) struct Answer {
    pub(crate) step: i64,
    pub(crate) damaged: u32,
    /// For each series that was requested.
    pub(crate) series: Vec<Vec<Bucket>>,
}

impl History {
    /// Holds nothing yet: [`History::run`] begins by loading what was put down before, so that thousands of series do
    /// not keep the service from answering. Questions about the past wait for it.
    pub(crate) fn new(store: Arc<HistoryStore>, keep: KeepHistory) -> Self {
        Self { store, keep, open: Mutex::default(), loaded: OnceLock::new() }
    }

    /// Takes up what was put down before the start. What has been sampled since comes behind it.
    pub(crate) fn load(&self) -> Result<(), StoreError> {
        let before = self.store.open_minutes();
        let mut open = self.open.lock();
        for (host, name, rows) in before.as_deref().unwrap_or_default() {
            let series = open.entry(host.clone()).or_default().entry(name.clone()).or_default();
            let (loaded, fresh) = series.rows.split_at(series.noted);
            let (mut all, fresh) = (loaded.to_vec(), fresh.to_vec());
            let last = all.last().map_or(i64::MIN, |r| r.0);
            all.extend(rows.iter().filter(|r| r.0 > last).copied());
            series.noted = all.len();
            let last = all.last().map_or(i64::MIN, |r| r.0);
            all.extend(fresh.into_iter().filter(|r| r.0 > last));
            series.rows = all;
        }
        drop(open);
        let _ = self.loaded.set(());
        before.map(drop)
    }

    /// Takes a sample.
    pub(crate) fn push(&self, host: &str, name: &str, time: i64, row: [Code; FIGURES]) {
        let mut open = self.open.lock();
        let of_host = match open.get_mut(host) {
            Some(of_host) => of_host,
            None => open.entry(host.to_owned()).or_default(),
        };
        let series = match of_host.get_mut(name) {
            Some(series) => series,
            None => of_host.entry(name.to_owned()).or_default(),
        };
        if series.rows.last().is_none_or(|r| r.0 < time) {
            series.rows.push((time, row));
        }
    }

    /// How much there is of it.
    pub(crate) async fn totals(&self) -> Result<HistoryTotals, StoreError> {
        let store = self.store.clone();
        let sized = spawn_blocking(move || store.size()).await;
        let (bytes, chunks) = sized.unwrap_or(Ok((0, 0)))?;
        let open = self.open.lock();
        let open_samples = open.values().flat_map(HashMap::values).map(|s| s.rows.len()).sum();
        Ok(HistoryTotals { bytes, chunks, open_samples })
    }

    /// Puts down and packs in time until it is told to end, and then once more.
    pub(crate) async fn run(self: Arc<Self>, clock: Clock, end: CancellationToken) {
        let mut forgotten = 0;
        let this = self.clone();
        if let Ok(Err(error)) = spawn_blocking(move || this.load()).await {
            tracing::error!("the last hour of usage history could not be read: {error}");
        }
        // Whoever waits for it is let go, also where reading failed half-way.
        let _ = self.loaded.set(());
        loop {
            let over = end.run_until_cancelled(tokio::time::sleep(MINUTE)).await.is_none();
            let now = clock.now().as_second();
            let this = self.clone();
            let done = spawn_blocking(move || this.note(now).and_then(|()| this.pack(now))).await;
            if let Ok(Err(error)) = done {
                tracing::error!("usage history could not be written, retrying: {error}");
            }
            if over {
                return;
            }
            if now - forgotten > FORGET_EVERY {
                forgotten = now;
                let this = self.clone();
                let before = Level::ALL.map(|l| (l, now - this.keep.seconds(l)));
                if let Ok(Err(error)) = spawn_blocking(move || this.store.forget(before)).await {
                    tracing::error!("old usage history could not be removed: {error}");
                }
            }
        }
    }

    /// Puts down the rows that are new since the last time.
    pub(crate) fn note(&self, now: i64) -> Result<(), StoreError> {
        let (batch, counts): (Vec<_>, Vec<_>) = {
            let open = self.open.lock();
            open.iter()
                .map(|(host, all)| {
                    let fresh = all.iter().filter(|(_, s)| s.noted < s.rows.len());
                    let rows: Vec<(String, OpenRows)> =
                        fresh.clone().map(|(name, s)| (name.clone(), s.rows[s.noted..].to_vec())).collect();
                    let counts: Vec<(String, usize)> =
                        fresh.map(|(name, s)| (name.clone(), s.rows.len())).collect();
                    ((host.clone(), rows), (host.clone(), counts))
                })
                .filter(|((_, rows), _)| !rows.is_empty())
                .unzip()
        };
        if batch.is_empty() {
            return Ok(());
        }
        self.store.note_minute(now, &batch)?;
        let mut open = self.open.lock();
        for (host, counts) in counts {
            let Some(of_host) = open.get_mut(&host) else { continue };
            for (name, count) in counts {
                if let Some(series) = of_host.get_mut(&name) {
                    series.noted = series.noted.max(count.min(series.rows.len()));
                }
            }
        }
        Ok(())
    }

    /// Packs the windows that are over.
    pub(crate) fn pack(&self, now: i64) -> Result<(), StoreError> {
        let span = Level::Fine.span();
        let over = (now - GRACE).div_euclid(span) * span;
        loop {
            // The oldest window that is over and has rows.
            let window = {
                let open = self.open.lock();
                let firsts = open.values().flat_map(HashMap::values).filter_map(|s| Some(s.rows.first()?.0));
                firsts.min().map(|first| first.div_euclid(span) * span)
            };
            let Some(start) = window.filter(|&start| start < over) else { return Ok(()) };
            let batch: Vec<(String, String, OpenRows)> = {
                let open = self.open.lock();
                let all =
                    open.iter().flat_map(|(host, all)| all.iter().map(move |(name, s)| (host, name, s)));
                all.filter_map(|(host, name, s)| {
                    let count = s.rows.partition_point(|r| r.0 < start + span);
                    (count > 0).then(|| (host.clone(), name.clone(), s.rows[..count].to_vec()))
                })
                .collect()
            };
            self.store.close_window(start, &batch)?;
            let mut open = self.open.lock();
            for (host, name, rows) in batch {
                let Some(of_host) = open.get_mut(&host) else { continue };
                if let Some(series) = of_host.get_mut(&name) {
                    series.rows.drain(..rows.len());
                    series.noted = series.noted.saturating_sub(rows.len());
                    if series.rows.is_empty() {
                        of_host.remove(&name);
                    }
                }
            }
        }
    }

    /// The names of a host's series: also those of containers that are gone.
    pub(crate) fn names(&self, host: &str) -> Vec<String> {
        let mut names = self.store.names(host);
        let open = self.open.lock();
        names.extend(open.get(host).into_iter().flat_map(HashMap::keys).cloned());
        names.sort();
        names.dedup();
        names
    }

    /// Answers for groups of series, each summed up, from `from` to `to`, in at most `points` steps. Blocks.
    pub(crate) fn answer(
        &self,
        groups: &[Vec<(String, String)>],
        (from, to): (i64, i64),
        points: u32,
        now: i64,
    ) -> Result<Answer, StoreError> {
        self.loaded.wait();
        let (level, step) = resolution(from, to, points, |l| now - self.keep.seconds(l));
        let mut out = Answer { step, damaged: 0, series: Vec::new() };
        let begin = from.div_euclid(step) * step;
        for group in groups {
            let mut parts = Vec::with_capacity(group.len());
            for (host, name) in group {
                let mut read = self.store.read(host, name, level, begin, to)?;
                out.damaged += read.damaged;
                let packed = read.buckets.last().map_or(i64::MIN, |b| b.time + level.step());
                let tail = self.unpacked(host, name, level, packed.max(begin), to, &mut out.damaged)?;
                read.buckets.extend(tail);
                parts.push(coarser(read.buckets, step));
            }
            out.series.push(match parts.len() {
                1 => parts.pop().unwrap_or_default(),
                _ => total(&parts),
            });
        }
        Ok(out)
    }

    /// What a level does not hold yet: made of the finest one and of the open rows.
    fn unpacked(
        &self,
        host: &str,
        name: &str,
        level: Level,
        from: i64,
        to: i64,
        damaged: &mut u32,
    ) -> Result<Vec<Bucket>, StoreError> {
        let mut fine = Vec::new();
        if level != Level::Fine {
            // At most what one step of the level spans can be missing from it.
            let reach = level.coarser().map_or(7200, |c| c.step().max(1800));
            let read = self.store.read(host, name, Level::Fine, from.max(to - reach), to)?;
            *damaged += read.damaged;
            fine = read.buckets;
        }
        let last = fine.last().map_or(from - 1, |b| b.time);
        let open = self.open.lock();
        let rows = open.get(host).and_then(|h| h.get(name)).map_or(&[][..], |s| &s.rows);
        fine.extend(rows.iter().filter(|r| r.0 > last && r.0 >= from && r.0 < to).map(|r| sample(r.0, &r.1)));
        Ok(fine)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use gubernum_core::history::series::codes;

    fn row(value: f64) -> [Code; FIGURES] {
        codes(&[Some(value), Some(value), None, None, None, None, None, None])
    }

    fn history(folder: &std::path::Path) -> History {
        let (store, _) = HistoryStore::open(&folder.join("history.db")).unwrap();
        let history = History::new(Arc::new(store), KeepHistory::default());
        history.load().unwrap();
        history
    }

    fn one() -> Vec<Vec<(String, String)>> {
        vec![vec![("packhouse".to_owned(), "api".to_owned())]]
    }

    #[test]
    fn an_answer_goes_over_what_is_packed_and_what_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let history = history(folder.path());
        let begin = 1_800_000_000 / 3600 * 3600;
        for i in 0..500 {
            history.push("packhouse", "api", begin + i * 10, row(i as f64));
            if i % 6 == 5 {
                history.note(begin + i * 10).unwrap();
                history.pack(begin + i * 10).unwrap();
            }
        }
        let now = begin + 5000;
        let fine = history.answer(&one(), (begin, now), 1000, now).unwrap();
        assert_eq!((fine.step, fine.series[0].len(), fine.damaged), (10, 500, 0));
        let minutes = history.answer(&one(), (begin, now), 84, now).unwrap();
        assert_eq!((minutes.step, minutes.series[0].len()), (60, 84));
        assert_eq!(minutes.series[0].last().unwrap().points[0].unwrap().max.round(), 499.0);
    }

    #[test]
    fn after_a_crash_it_goes_on() {
        let folder = tempfile::tempdir().unwrap();
        let begin = 1_800_000_000 / 3600 * 3600;
        {
            let history = history(folder.path());
            for i in 0..90 {
                history.push("packhouse", "api", begin + i * 10, row(1.0));
            }
            history.note(begin + 900).unwrap();
            history.push("packhouse", "api", begin + 900, row(1.0));
            std::mem::forget(history);
        }
        let history = history(folder.path());
        let now = begin + 1000;
        history.pack(now).unwrap();
        assert_eq!(history.answer(&one(), (begin, now), 1000, now).unwrap().series[0].len(), 90);
    }
}
