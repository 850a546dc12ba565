//! Storage: usage history on disk and in queries, and search through kept log lines against ripgrep on the same text.

use std::io::{BufWriter, Write};
use std::path::Path;
use std::process::Command;
use std::time::Instant;

use gubernum_core::history::series::codes;
use gubernum_core::logs::{LogLine, Stream};
use gubernum_sim::Load;
use gubernum_store::history::{HistoryStore, OpenRows};
use gubernum_store::segments::Segments;
use gubernum_testbed::BedError;
use jiff::Timestamp;

use crate::fleet::serve;
use crate::{Row, failed, median};

const CONTAINERS: usize = 200;
const DAY: i64 = 86_400;
/// As much text as the kept lines hold.
const TEXT: usize = 1_000_000_000;
/// Rare: found in one block of twenty.
const RARE: &str = r"timeout after 77\d\d ms|refused by lot 4711\b";
/// Found in every block.
const EVERYWHERE: &str = r"kiosk 5\b";

/// A small source of noise: smooth curves would pack better than real ones.
struct Noise(u64);

impl Noise {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    /// Up to ten percent more or less.
    fn on(&mut self, value: f64) -> f64 {
        value * (0.9 + (self.next() % 2000) as f64 / 10_000.0)
    }
}

fn said(what: &str) -> impl Fn(&dyn std::fmt::Display) -> BedError + '_ {
    move |e| failed(what, &e.to_string())
}

pub(crate) async fn measure(binary: &Path) -> Result<Vec<Row>, BedError> {
    let folder = tempfile::tempdir()?;
    let mut rows = history(&folder.path().join("history.db"))?;
    let text = folder.path().join("kept.txt");
    let size = lines(&folder.path().join("logs"), &text)?;
    let (_service, client, _) = serve(binary, folder.path()).await?;
    let mut times = Vec::new();
    let fields =
        [("host", "packhouse".to_owned()), ("since", "30d".to_owned()), ("points", "1000".to_owned())];
    // The host is not in the fleet; its history is asked for by name.
    let of = [("reference", "packhouse/api-7".to_owned()), fields[1].clone(), fields[2].clone()];
    let host = gubernum_api::requests::NewHost {
        name: "packhouse".into(),
        address: "unix:///nowhere.sock".into(),
        tls: None,
        ports_address: None,
        groups: Vec::new(),
    };
    client.add_host(&host).await.map_err(|e| said("add host")(&e))?;
    for _ in 0..21 {
        let begun = Instant::now();
        let found = client.history(&of).await.map_err(|e| said("history")(&e))?;
        times.push(begun.elapsed().as_secs_f64() * 1e3);
        if found.series.first().is_none_or(|s| s.figures[0].mean.iter().flatten().count() < 600) {
            return Err(failed("history", "a month has too few steps"));
        }
    }
    rows.push(Row::most(
        "history: 30 days of one container, 8 figures",
        median(times),
        4.0,
        "ms",
        "over HTTP".into(),
    ));
    rows.push(search(&client, &text, size, RARE).await?);
    rows.push(search(&client, &text, size, EVERYWHERE).await?);
    Ok(rows)
}

/// Two days of every sample as the service writes them, and a month of one container.
fn history(path: &Path) -> Result<Vec<Row>, BedError> {
    let (store, _) = HistoryStore::open(path).map_err(|e| said("history")(&e))?;
    let end = Timestamp::now().as_second() / 600 * 600;
    let loads: Vec<Load> = (0..CONTAINERS).map(|n| Load::new(&format!("api-{n}"), n as u64)).collect();
    let mut noise = Noise(0x2545_f491_4f6c_dd1d);
    let mut row = |load: &Load, time: i64| {
        let mut figures = load.figures(time as f64, Some(1 << 30));
        // The limit and the number of processes stand still, as they do in earnest.
        for place in [0, 1, 3, 4, 5, 6] {
            figures[place] =
                figures[place].map(|v| if place == 1 { v + noise.on(200_000.0) } else { noise.on(v) });
        }
        codes(&figures)
    };
    let begun = Instant::now();
    let mut start = end - 2 * DAY;
    while start < end {
        let series: Vec<(String, String, OpenRows)> = loads
            .iter()
            .enumerate()
            .map(|(n, load)| {
                let rows = (0..60).map(|i| (start + i * 10, row(load, start + i * 10))).collect();
                ("packhouse".to_owned(), format!("api-{n}"), rows)
            })
            .collect();
        store.close_window(start, &series).map_err(|e| said("history")(&e))?;
        start += 600;
    }
    let took = begun.elapsed().as_secs_f64();
    let (packed, _) = store.size().map_err(|e| said("history")(&e))?;
    let month: OpenRows =
        (0..30 * 144 - 288).map(|i| end - 30 * DAY + i * 600).map(|t| (t, row(&loads[7], t))).collect();
    store
        .import(&[("packhouse".to_owned(), "api-7".to_owned(), month)], end, end)
        .map_err(|e| said("history")(&e))?;
    drop(store);
    let values = (CONTAINERS as i64 * 2 * DAY / 10 * 8) as f64;
    let disk = std::fs::metadata(path)?.len() as f64;
    let more = format!(
        "{:.2} without SQLite; {:.0} windows/s written",
        packed as f64 / values,
        (2 * 144 * CONTAINERS) as f64 / took
    );
    Ok(vec![Row::most("history: bytes a sample on disk, all steps", disk / values, 1.2, "B", more)])
}

/// A gigabyte of lines, kept and as plain text.
fn lines(kept: &Path, text: &Path) -> Result<usize, BedError> {
    let segments = Segments::new(kept);
    let mut writer = segments.write("packhouse", "auction", "ab12")?;
    let mut plain = BufWriter::with_capacity(1 << 20, std::fs::File::create(text)?);
    let mut noise = Noise(99);
    let mut size = 0;
    let mut nanos: i64 = 1_790_000_000_000_000_000;
    while size < TEXT {
        let n = noise.next();
        let line = match n % 20 {
            0 => format!(
                "level=warn msg=\"upstream slow\" lot={} cause=\"timeout after {} ms\"",
                n % 90_000,
                n / 7 % 100_000
            ),
            1 => {
                format!("level=error msg=\"bid refused by lot {}\" member={}", n / 3 % 100_000, n / 11 % 4000)
            }
            2..9 => format!(
                "GET /lots/{}/bids 200 {}ms agent=\"kiosk {}\"",
                n % 100_000,
                n / 13 % 300,
                n / 17 % 60
            ),
            _ => format!(
                "level=info msg=\"bid taken\" lot={} member={} cents={} took_us={}",
                n % 100_000,
                n / 5 % 4000,
                n / 7 % 99_999,
                n / 19 % 5000
            ),
        };
        nanos += i64::try_from(n % 3_000_000).unwrap_or(0);
        plain.write_all(line.as_bytes())?;
        plain.write_all(b"\n")?;
        size += line.len() + 1;
        let time = Timestamp::from_nanosecond(i128::from(nanos)).ok();
        writer.push(&LogLine { stream: Stream::Stdout, time, bytes: line.into_bytes(), continued: false })?;
    }
    writer.flush()?;
    plain.flush()?;
    Ok(size)
}

/// The same pattern over the same text: the service's whole answer against ripgrep's.
async fn search(
    client: &gubernum_client::Client,
    text: &Path,
    size: usize,
    pattern: &'static str,
) -> Result<Row, BedError> {
    let theirs = || -> Result<(f64, usize), BedError> {
        let begun = Instant::now();
        let output = Command::new("rg").arg("--no-filename").arg(pattern).arg(text).output();
        let output = output.map_err(|_| BedError::Missing("rg".to_owned()))?;
        Ok((begun.elapsed().as_secs_f64(), output.stdout.iter().filter(|&&b| b == b'\n').count()))
    };
    let fields = [("reference", "packhouse/auction".to_owned()), ("with", pattern.to_owned())];
    let (mut ours_all, mut theirs_all) = (Vec::new(), Vec::new());
    for _ in 0..3 {
        let (took, lines) = theirs()?;
        theirs_all.push(took);
        let begun = Instant::now();
        let mut stream = client.merged_logs(&fields).await.map_err(|e| said("search")(&e))?;
        let mut found = 0;
        while let Some(item) = stream.next().await.map_err(|e| said("search")(&e))? {
            found += usize::from(matches!(item, gubernum_client::MergedItem::Line(_)));
        }
        ours_all.push(begun.elapsed().as_secs_f64());
        if found != lines {
            return Err(failed("search", &format!("{found} lines instead of {lines}")));
        }
    }
    let (ours, theirs) = (median(ours_all), median(theirs_all));
    let more = format!("{ours:.2} s against {theirs:.2} s, {} MB, same lines", size / 1_000_000);
    let (what, limit) = match pattern {
        RARE => ("search 1 GB of kept lines, rare matches / ripgrep on the plain text", 0.5),
        _ => ("search 1 GB of kept lines, matches in every block / ripgrep", 2.0),
    };
    Ok(Row::most(what, ours / theirs, limit, "x", more))
}
