//! Resource usage: once, live, or back in time.

use std::collections::BTreeMap;
use std::io::{IsTerminal, Write};
use std::time::Duration;

use gubernum_api::usage::{CurrentUsage, History, RankedUsage, UsageSubscription};
use gubernum_api::{Figure, Figures, FromClient, FromServer};
use gubernum_client::Client;
use gubernum_core::reason::bytes_words;
use jiff::Timestamp;

use crate::arguments::{Output, Usage, UsageOrder};
use crate::exit::{FINE, Failure};
use crate::table::{say, say_json, table};

const HEAD: [&str; 8] =
    ["CONTAINER", "PROCESSORS", "MEMORY", "LIMIT", "NETWORK IN", "NETWORK OUT", "DISK R/W", "PROCESSES"];
/// How often the service is asked where the live connection cannot be had.
const ASK_EVERY: Duration = Duration::from_secs(2);
/// Steps of a history on a terminal.
const STEPS: u32 = 60;

pub(super) async fn run(client: &Client, wish: Usage, output: Output) -> Result<u8, Failure> {
    if let Some(span) = &wish.ranking {
        return ranking(client, &wish, span, output).await;
    }
    if let Some(span) = &wish.history {
        return history(client, &wish, span, output).await;
    }
    if wish.live {
        return live(client, &wish, output).await;
    }
    let all = sorted(now(client, &wish).await?, wish.sort);
    if output == Output::Json {
        say_json(&all)?;
    } else if all.is_empty() {
        say("No running container matches, or there are no samples yet.")?;
    } else {
        say(&rows(&all))?;
    }
    Ok(FINE)
}

/// Who used most in a time.
async fn ranking(client: &Client, wish: &Usage, span: &str, output: Output) -> Result<u8, Failure> {
    let (figure, write): (Figure, fn(Option<f64>) -> String) = match wish.sort {
        UsageOrder::Memory => (Figure::Memory, size),
        UsageOrder::Network => (Figure::NetworkIn, rate),
        UsageOrder::Disk => (Figure::DiskWrite, rate),
        UsageOrder::Processors | UsageOrder::Name => (Figure::Processors, processors),
    };
    let mut fields = vec![("figure", figure.word().to_owned()), ("since", span.to_owned())];
    fields.extend(wish.host.iter().map(|h| ("host", h.clone())));
    fields.extend(wish.stack.iter().map(|s| ("stack", s.clone())));
    let found = client.usage_ranking(&fields).await?;
    if output == Output::Json {
        say_json(&found)?;
        return Ok(FINE);
    }
    let rows: Vec<Vec<String>> = found
        .rows
        .iter()
        .map(|row: &RankedUsage| {
            let gone = if row.is_there { "" } else { " (removed)" };
            let at = row.peak_at.strftime("%Y-%m-%d %H:%M UTC").to_string();
            vec![format!("{}/{}{gone}", row.host, row.name), write(Some(row.mean)), write(Some(row.peak)), at]
        })
        .collect();
    if rows.is_empty() {
        say("No data for this period.")?;
    } else {
        say(&table(&["CONTAINER", "MEAN", "PEAK", "PEAK AT"], rows))?;
    }
    Ok(FINE)
}

async fn now(client: &Client, wish: &Usage) -> Result<Vec<CurrentUsage>, Failure> {
    let mut fields: Vec<(&str, String)> = Vec::new();
    fields.extend(wish.stack.iter().map(|s| ("stack", s.clone())));
    fields.extend(wish.host.iter().map(|h| ("host", h.clone())));
    if wish.references.is_empty() {
        return Ok(client.use_now(&fields).await?);
    }
    let mut all = Vec::new();
    for reference in &wish.references {
        let mut fields = fields.clone();
        fields.push(("reference", reference.clone()));
        all.extend(client.use_now(&fields).await?);
    }
    all.dedup_by(|a, b| (&a.host, &a.id) == (&b.host, &b.id));
    Ok(all)
}

/// Processors as people say them: a share of one below one.
/// Processors in use, as a share of one: 174 % are nearly two.
pub(crate) fn processors(value: Option<f64>) -> String {
    value.map_or_else(|| "unknown".to_owned(), |v| format!("{:.1} %", v * 100.0))
}

pub(crate) fn size(value: Option<f64>) -> String {
    value.map_or_else(|| "unknown".to_owned(), |v| bytes_words(v as u64))
}

pub(crate) fn rate(value: Option<f64>) -> String {
    value.map_or_else(|| "unknown".to_owned(), |v| format!("{}/s", bytes_words(v as u64)))
}

fn row(name: String, f: &Figures, cached: bool) -> Vec<String> {
    vec![
        name,
        processors(f.processors),
        format!("{}{}", size(f.memory), if cached { "*" } else { "" }),
        f.memory_limit.map_or_else(|| "none".to_owned(), |l| bytes_words(l as u64)),
        rate(f.network_in),
        rate(f.network_out),
        format!("{} {}", rate(f.disk_read), rate(f.disk_write)),
        f.processes.map_or_else(|| "unknown".to_owned(), |p| format!("{p:.0}")),
    ]
}

fn rows(all: &[CurrentUsage]) -> String {
    let mut rows: Vec<Vec<String>> =
        all.iter().map(|u| row(format!("{}/{}", u.host, u.name), &u.figures, u.memory_has_cache)).collect();
    if all.len() > 1 {
        let sum = all.iter().fold(Figures::default(), |sum, u| sum.plus(&u.figures));
        rows.push(row(format!("all {}", all.len()), &Figures { memory_limit: None, ..sum }, false));
    }
    let note = if all.iter().any(|u| u.memory_has_cache) {
        "\n\n* including page cache: this engine does not report it separately"
    } else {
        ""
    };
    format!("{}{note}", table(&HEAD, rows))
}

/// Sorts by a figure, the most first.
pub(crate) fn sorted(mut all: Vec<CurrentUsage>, by: UsageOrder) -> Vec<CurrentUsage> {
    let key = |u: &CurrentUsage| {
        let f = &u.figures;
        match by {
            UsageOrder::Processors => f.processors.unwrap_or(-1.0),
            UsageOrder::Memory => f.memory.unwrap_or(-1.0),
            UsageOrder::Network => f.network_in.unwrap_or(0.0) + f.network_out.unwrap_or(0.0),
            UsageOrder::Disk => f.disk_read.unwrap_or(0.0) + f.disk_write.unwrap_or(0.0),
            UsageOrder::Name => 0.0,
        }
    };
    all.sort_by(|a, b| key(b).total_cmp(&key(a)).then_with(|| (&a.host, &a.name).cmp(&(&b.host, &b.name))));
    all
}

/// Goes on in place. Over the live connection every second; where that cannot be had, by asking.
async fn live(client: &Client, wish: &Usage, output: Output) -> Result<u8, Failure> {
    let mut latest: BTreeMap<(String, String), CurrentUsage> = BTreeMap::new();
    let keys: Vec<CurrentUsage> = now(client, wish).await?;
    let references: Vec<String> = if wish.references.is_empty() {
        match (keys.len(), wish.stack.is_none() && wish.host.is_none()) {
            (1..=200, false) => keys.iter().map(|u| format!("{}/{}", u.host, u.name)).collect(),
            _ => vec!["*/*".to_owned()],
        }
    } else {
        wish.references.clone()
    };
    let mut connection = client.live().await.ok();
    if let Some(live) = &mut connection {
        live.send(&FromClient::Use { id: 1, wish: UsageSubscription { references } }).await?;
    }
    let wanted: Vec<(String, String)> = keys.iter().map(|u| (u.host.clone(), u.id.clone())).collect();
    let narrowed = wish.stack.is_some() || wish.host.is_some();
    let terminal = std::io::stdout().is_terminal();
    let mut drawn = tokio::time::Instant::now() - Duration::from_secs(10);
    loop {
        let samples = match &mut connection {
            Some(live) => match live.next().await? {
                Some(FromServer::Used { samples, .. }) => samples,
                Some(FromServer::Refused { problem, .. }) => return Err(Failure::Said(problem.detail)),
                Some(_) => continue,
                None => return Ok(FINE),
            },
            None => {
                tokio::time::sleep(ASK_EVERY).await;
                latest.clear();
                now(client, wish).await?
            }
        };
        if output == Output::Json {
            let mut out = std::io::stdout().lock();
            for sample in &samples {
                serde_json::to_writer(&mut out, sample).map_err(std::io::Error::from)?;
                out.write_all(b"\n")?;
            }
            out.flush()?;
            continue;
        }
        for sample in samples {
            let key = (sample.host.clone(), sample.id.clone());
            if !narrowed || wanted.contains(&key) {
                latest.insert(key, sample);
            }
        }
        // Samples of several hosts come one after another: draw once for all that come together.
        if drawn.elapsed() < Duration::from_millis(300) {
            continue;
        }
        drawn = tokio::time::Instant::now();
        // What has not been heard of for a while does not run any more.
        let newest = latest.values().map(|u| u.time).max();
        latest.retain(|_, u| newest.is_none_or(|n| n.duration_since(u.time).as_secs() < 40));
        let all = sorted(latest.values().cloned().collect(), wish.sort);
        let mut out = std::io::stdout().lock();
        if terminal {
            // Home, the rows, and away with what is left of before.
            write!(out, "\u{1b}[H\u{1b}[2J{}\n\nEnd with Ctrl-C.\n", rows(&all))?;
        } else {
            write!(out, "{}\n\n", rows(&all))?;
        }
        out.flush()?;
    }
}

const SPARKS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// A curve of one line; gaps are spaces.
pub(crate) fn spark(values: &[Option<f64>]) -> String {
    let most = values.iter().flatten().copied().fold(0.0, f64::max);
    let place = |v: f64| if most > 0.0 { ((v / most * 7.0).round() as usize).min(7) } else { 0 };
    values.iter().map(|v| v.map_or(' ', |v| SPARKS[place(v)])).collect()
}

async fn history(client: &Client, wish: &Usage, span: &str, output: Output) -> Result<u8, Failure> {
    let mut fields: Vec<(&str, String)> = vec![("since", span.to_owned())];
    fields.extend(wish.references.iter().map(|r| ("reference", r.clone())));
    fields.extend(wish.stack.iter().map(|s| ("stack", s.clone())));
    fields.extend(wish.host.iter().map(|h| ("host", h.clone())));
    if fields.len() == 1 {
        fields.push(("reference", "*/*".to_owned()));
    }
    if output == Output::Json {
        say_json(&client.history(&fields).await?)?;
        return Ok(FINE);
    }
    fields.push(("points", STEPS.to_string()));
    say(&describe(&client.history(&fields).await?))?;
    Ok(FINE)
}

fn describe(history: &History) -> String {
    let mut out = String::new();
    for series in &history.series {
        out.push_str(&format!("{}\n", series.name));
        let mut rows = Vec::new();
        for f in &series.figures {
            let known: Vec<f64> = f.mean.iter().flatten().copied().collect();
            if known.is_empty() || f.figure == Figure::MemoryLimit {
                continue;
            }
            let words = |v: f64| match f.figure {
                Figure::Processors => processors(Some(v)),
                Figure::Memory | Figure::MemoryLimit => size(Some(v)),
                Figure::Processes => format!("{v:.0}"),
                _ => rate(Some(v)),
            };
            let least = f.min.iter().flatten().copied().fold(f64::MAX, f64::min);
            let most = f.max.iter().flatten().copied().fold(0.0, f64::max);
            let mean = known.iter().sum::<f64>() / known.len() as f64;
            rows.push(vec![
                f.figure.word().to_owned(),
                words(least),
                words(mean),
                words(most),
                spark(&f.mean),
            ]);
        }
        out.push_str(&table(&["METRIC", "MIN", "MEAN", "MAX", "OVER TIME"], rows));
        out.push_str("\n\n");
    }
    let end: Timestamp = history.to;
    out.push_str(&format!("from {:.0} to {end:.0} in steps of {} s", history.from, history.step));
    if history.damaged > 0 {
        out.push_str(&format!("; {} damaged parts were skipped", history.damaged));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn curves_show_gaps_and_heights() {
        assert_eq!(spark(&[Some(0.0), None, Some(5.0), Some(10.0)]), "▁ ▅█");
        assert_eq!(spark(&[Some(0.0), Some(0.0)]), "▁▁");
    }

    #[test]
    fn words_for_processors() {
        assert_eq!(processors(Some(0.125)), "12.5 %");
        assert_eq!(processors(Some(2.5)), "250.0 %");
        assert_eq!(processors(None), "unknown");
    }
}
