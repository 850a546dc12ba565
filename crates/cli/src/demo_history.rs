//! The demo's usage history, from the same curves that its simulated engines answer with, so that charts continue
//! where the history ends.

use std::path::Path;

use gubernum_core::history::Level;
use gubernum_core::history::series::codes;
use gubernum_sim::SimHost;
use gubernum_store::history::{HistoryStore, OpenRows};
use jiff::Timestamp;

use crate::exit::Failure;

const DAY: i64 = 86_400;
/// As many days have every sample, as many every minute; before that there is one in ten minutes.
const FINE_DAYS: i64 = 2;
const MINUTE_DAYS: i64 = 8;
/// A host was away for a while: a gap, in hours before now.
const AWAY: (&str, i64, i64) = ("orchard-edge", 9, 7);

/// Writes history for the containers that run, unless there is some.
pub(crate) fn write(folder: &Path, hosts: &[SimHost], days: u32) -> Result<(), Failure> {
    let said = |e: &dyn std::fmt::Display| Failure::Said(e.to_string());
    let (store, _) = HistoryStore::open(&folder.join("history.db")).map_err(|e| said(&e))?;
    if days == 0 || store.size().map_err(|e| said(&e))?.1 > 0 {
        return Ok(());
    }
    let now = Timestamp::now().as_second();
    let span = Level::Fine.span();
    let end = now.div_euclid(span) * span;
    let begin = end - i64::from(days) * DAY;
    let (fine_from, minute_from) = (end - FINE_DAYS * DAY, end - MINUTE_DAYS * DAY);
    let mut times = Vec::new();
    let mut time = begin / span * span;
    while time < end {
        times.push(time);
        time += match time {
            t if t >= fine_from => Level::Fine.step(),
            t if t >= minute_from => Level::Minute.step(),
            _ => Level::TenMinutes.step(),
        };
    }
    for host in hosts {
        let away = |t: i64| host.name() == AWAY.0 && (AWAY.2..AWAY.1).contains(&((now - t) / 3600));
        let series: Vec<(String, String, OpenRows)> = host
            .running()
            .into_iter()
            .map(|(name, limit)| {
                let load = host.load_of(&name);
                let there = times.iter().copied().filter(|t| !away(*t));
                let rows = there.map(|t| (t, codes(&load.figures(t as f64, limit)))).collect();
                (host.name().to_owned(), name, rows)
            })
            .collect();
        store.import(&series, fine_from, minute_from).map_err(|e| said(&e))?;
    }
    Ok(())
}
