//! An operation as it runs, on a terminal's standard error; then its outcome.

use std::collections::BTreeMap;
use std::io::IsTerminal;
use std::time::{Duration, Instant};

use gubernum_api::{Operation, OperationState, TargetState};
use gubernum_client::{Client, ClientError};
use gubernum_core::journal::{Progress, Target};
use gubernum_core::reason::bytes_words;
use gubernum_core::text::shown;
use indicatif::{MultiProgress, ProgressBar, ProgressStyle};

use crate::arguments::Output;
use crate::exit::{ALL_FAILED, FINE, Failure, INTERRUPTED, SOME_FAILED};
use crate::table::{say, say_json, table};

/// The most bars besides the one of the whole.
const MOST_BARS: usize = 12;
const LOOK_EVERY: Duration = Duration::from_millis(200);
/// How many polls in a row may fail before giving up.
const FAILED_LOOKS: u32 = 25;

/// Waits until an operation is over. The first Ctrl-C calls it off, the second gives up waiting.
pub(crate) async fn wait(client: &Client, mut operation: Operation) -> Result<Option<Operation>, Failure> {
    let bars = MultiProgress::new();
    if !std::io::stderr().is_terminal() {
        bars.set_draw_target(indicatif::ProgressDrawTarget::hidden());
    }
    let bar = bars.add(ProgressBar::new(operation.targets.len() as u64));
    let mut hosts = HostBars::default();
    if std::io::stderr().is_terminal() {
        let style = ProgressStyle::with_template("{msg} {bar:30} {pos} of {len}  {elapsed}")
            .map_err(|e| e.to_string())?;
        bar.set_style(style.progress_chars(BLOCKS));
    } else {
        bar.set_draw_target(indicatif::ProgressDrawTarget::hidden());
    }
    let mut failed_looks = 0;
    let mut called_off = false;
    while operation.state == OperationState::Running {
        let over = operation.targets.iter().filter(|t| t.state.is_final()).count();
        bar.set_position(over as u64);
        hosts.show(&bars, &operation);
        bar.set_message(format!("{} (operation {})", operation.request.kind(), operation.id));
        tokio::select! {
            () = tokio::time::sleep(LOOK_EVERY) => {}
            _ = tokio::signal::ctrl_c() => {
                if called_off {
                    bar.abandon();
                    return Ok(None);
                }
                called_off = true;
                bar.println("cancelling: what has started is finished, the rest is not started");
                // It may be over by now, which is as good.
                let _ = client.cancel(operation.id).await;
            }
        }
        match client.operation(operation.id).await {
            Ok(now) => {
                operation = now;
                failed_looks = 0;
            }
            Err(error @ ClientError::Problem(_)) => return Err(error.into()),
            Err(error) if failed_looks >= FAILED_LOOKS => return Err(error.into()),
            Err(_) => failed_looks += 1,
        }
    }
    hosts.clear(&bars);
    bar.finish_and_clear();
    Ok(Some(operation))
}

/// Of what a bar is made: eighths of a column, from full to empty.
pub(crate) const BLOCKS: &str = "█▉▊▋▌▍▎▏ ";

/// A bar for each host that something is on its way to.
#[derive(Default)]
struct HostBars(BTreeMap<String, HostBar>);

/// The bar of a host, and where it began, from which the rate is reported.
struct HostBar {
    bar: ProgressBar,
    began: Instant,
    had: u64,
}

impl HostBar {
    /// Bytes a second since it began; nothing in the first second, which tells too little.
    fn rate(&self, done: u64) -> String {
        let seconds = self.began.elapsed().as_secs_f64();
        if seconds < 1.0 || done <= self.had {
            return String::new();
        }
        format!("  {}/s", bytes_words(((done - self.had) as f64 / seconds) as u64))
    }
}

/// How far a host is.
#[derive(Debug, Default, PartialEq, Eq)]
struct HostProgress {
    doing: String,
    done: u64,
    total: u64,
    layers_done: usize,
    layers: usize,
}

impl HostProgress {
    fn add(&mut self, progress: &Progress) {
        self.doing.clone_from(&progress.doing);
        if progress.layers.is_empty() {
            self.done += progress.done;
            self.total += progress.total;
        }
        for layer in &progress.layers {
            self.done += layer.done;
            self.total += layer.total.max(layer.done);
            self.layers += 1;
            self.layers_done += usize::from(layer.finished);
        }
    }

    fn words(&self) -> String {
        match self.layers {
            0 => self.doing.clone(),
            layers => format!("{} of {layers} layers", self.layers_done),
        }
    }
}

/// How far each host of an operation is, for those on which something is on its way.
fn of_hosts(operation: &Operation) -> BTreeMap<&str, HostProgress> {
    let mut hosts: BTreeMap<&str, HostProgress> = BTreeMap::new();
    for target in operation.targets.iter().filter(|t| !t.state.is_final()) {
        if let Some(progress) = &target.progress {
            hosts.entry(&target.host).or_default().add(progress);
        }
    }
    hosts
}

impl HostBars {
    fn show(&mut self, bars: &MultiProgress, operation: &Operation) {
        let hosts = of_hosts(operation);
        self.0.retain(|host, shown| {
            let stays = hosts.contains_key(host.as_str());
            if !stays {
                bars.remove(&shown.bar);
            }
            stays
        });
        for (host, progress) in hosts.into_iter().take(MOST_BARS) {
            let shown = self.0.entry(host.to_owned()).or_insert_with(|| {
                let bar = bars.add(ProgressBar::new(progress.total));
                if let Ok(style) = ProgressStyle::with_template("  {prefix:16!} {bar:24} {msg}") {
                    bar.set_style(style.progress_chars(BLOCKS));
                }
                bar.set_prefix(host.to_owned());
                HostBar { bar, began: Instant::now(), had: progress.done }
            });
            let total = progress.total.max(progress.done);
            shown.bar.set_length(total);
            shown.bar.set_position(progress.done);
            let bytes = match total {
                0 => String::new(),
                total => format!("  {} of {}", bytes_words(progress.done), bytes_words(total)),
            };
            shown.bar.set_message(format!("{}{bytes}{}", progress.words(), shown.rate(progress.done)));
        }
    }

    fn clear(&mut self, bars: &MultiProgress) {
        for shown in self.0.values() {
            bars.remove(&shown.bar);
        }
        self.0.clear();
    }
}

/// Tells the outcome and gives the exit code.
pub(crate) fn outcome(operation: Option<&Operation>, output: Output) -> Result<u8, Failure> {
    let Some(operation) = operation else { return Ok(INTERRUPTED) };
    if output == Output::Json {
        say_json(operation)?;
    } else {
        say(&outcome_table(operation))?;
    }
    Ok(code(operation))
}

/// `31 succeeded, 1 failed, 2 cancelled`: what needed no change counts as succeeded, every other outcome by its own word.
fn counts(targets: &[Target]) -> String {
    let good = targets.iter().filter(|t| t.state.is_good()).count();
    let mut words = vec![format!("{good} succeeded")];
    let mut others: BTreeMap<&str, usize> = BTreeMap::new();
    for target in targets.iter().filter(|t| !t.state.is_good()) {
        *others.entry(target.state.word()).or_default() += 1;
    }
    words.extend(others.into_iter().map(|(word, count)| format!("{count} {word}")));
    words.join(", ")
}

/// Why targets failed, in full and each reason once, however narrow the table above is.
fn reasons(targets: &[&Target]) -> String {
    let mut told: Vec<(&str, &Target, usize)> = Vec::new();
    for target in targets.iter().filter(|t| !t.state.is_good()) {
        let Some(why) = target.sentence.as_deref() else { continue };
        match told.iter_mut().find(|(known, ..)| *known == why) {
            Some((.., more)) => *more += 1,
            None => told.push((why, target, 0)),
        }
    }
    let line = |(why, target, more): (&str, &Target, usize)| {
        let others = if more > 0 { format!(" and {more} more") } else { String::new() };
        format!("{}/{}{others}: {}\n", target.host, target.name, shown(why, 600))
    };
    let lines: String = told.into_iter().map(line).collect();
    if lines.is_empty() { lines } else { format!("{lines}\n") }
}

fn outcome_table(operation: &Operation) -> String {
    // What failed stands last, next to the prompt.
    let mut targets: Vec<_> = operation.targets.iter().collect();
    targets.sort_by_key(|t| !t.state.is_good());
    let rows = targets.iter().map(|t| {
        let note = t.sentence.clone().filter(|_| t.state.is_good()).unwrap_or_default();
        vec![format!("{}/{}", t.host, t.name), t.state.word().to_owned(), note]
    });
    let won: u64 = operation.targets.iter().filter_map(|t| t.bytes).sum();
    let won = if won > 0 { format!(", {} freed", bytes_words(won)) } else { String::new() };
    format!(
        "{}\n\n{}{}: {}{won} (operation {})",
        table(&["TARGET", "OUTCOME", "NOTE"], rows.collect()),
        reasons(&targets),
        operation.request.kind(),
        counts(&operation.targets),
        operation.id
    )
}

fn code(operation: &Operation) -> u8 {
    let good = operation.targets.iter().filter(|t| t.state.is_good()).count();
    if good == operation.targets.len() {
        FINE
    } else if good > 0 && operation.state != OperationState::Failed {
        SOME_FAILED
    } else if operation.targets.iter().all(|t| t.state == TargetState::Cancelled) {
        INTERRUPTED
    } else {
        ALL_FAILED
    }
}

#[cfg(test)]
mod tests {
    use gubernum_core::journal::LayerProgress;

    use super::*;

    #[test]
    fn a_reason_that_many_share_is_reported_once() {
        let target = |name: &str, state: &str, why: &str| -> Target {
            let fields = serde_json::json!({"host": "packhouse", "id": "", "name": name, "state": state, "sentence": why});
            serde_json::from_value(fields).unwrap()
        };
        let all = [
            target("api", "failed", "port 9100 is in use"),
            target("web", "refused", "api is refused"),
            target("job", "refused", "api is refused"),
            target("store", "unchanged", "No change."),
        ];
        let all: Vec<&Target> = all.iter().collect();
        let told = "packhouse/api: port 9100 is in use\npackhouse/web and 1 more: api is refused\n\n";
        assert_eq!(reasons(&all), told);
        assert_eq!(reasons(&all[3..]), "");
    }

    #[test]
    fn a_host_tells_its_layers_and_the_bytes_of_all() {
        let layer =
            |done, total| LayerProgress { done, total, finished: done == total, ..LayerProgress::default() };
        let pulled = Progress {
            doing: "pulling".into(),
            layers: vec![layer(5, 5), layer(2, 8), layer(0, 0)],
            ..Progress::default()
        };
        let mut host = HostProgress::default();
        host.add(&pulled);
        assert_eq!((host.done, host.total), (7, 13));
        assert_eq!(host.words(), "2 of 3 layers");
        let copied = Progress { doing: "copying data".into(), done: 3, total: 9, layers: Vec::new() };
        let mut host = HostProgress::default();
        host.add(&copied);
        assert_eq!((host.done, host.total, host.words().as_str()), (3, 9, "copying data"));
    }
}
