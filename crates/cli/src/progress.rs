//! An operation as it runs, on a terminal's standard error; then its outcome.

use std::collections::BTreeMap;
use std::io::IsTerminal;
use std::time::Duration;

use gubernum_api::{Operation, OperationState, TargetState};
use gubernum_client::{Client, ClientError};
use gubernum_core::journal::Target;
use indicatif::{MultiProgress, ProgressBar, ProgressStyle};

use crate::arguments::Output;
use crate::exit::{ALL_FAILED, FINE, Failure, INTERRUPTED, SOME_FAILED};
use crate::table::{say, say_json, table};

/// So many bars at most beside the one of the whole.
const MOST_BARS: usize = 12;
const LOOK_EVERY: Duration = Duration::from_millis(200);
/// So many looks in a row may fail before it is given up.
const FAILED_LOOKS: u32 = 25;

/// Waits until an operation is over. The first Ctrl-C calls it off, the second gives up waiting.
pub(crate) async fn wait(client: &Client, mut operation: Operation) -> Result<Option<Operation>, Failure> {
    let bars = MultiProgress::new();
    if !std::io::stderr().is_terminal() {
        bars.set_draw_target(indicatif::ProgressDrawTarget::hidden());
    }
    let bar = bars.add(ProgressBar::new(operation.targets.len() as u64));
    let mut layers = Layers::default();
    if std::io::stderr().is_terminal() {
        let style = ProgressStyle::with_template("{msg} [{bar:30}] {pos}/{len} {elapsed}")
            .map_err(|e| e.to_string())?;
        bar.set_style(style.progress_chars("=> "));
    } else {
        bar.set_draw_target(indicatif::ProgressDrawTarget::hidden());
    }
    let mut failed_looks = 0;
    let mut called_off = false;
    while operation.state == OperationState::Running {
        let over = operation.targets.iter().filter(|t| t.state.is_final()).count();
        bar.set_position(over as u64);
        layers.show(&bars, &operation);
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
    layers.clear(&bars);
    bar.finish_and_clear();
    Ok(Some(operation))
}

/// A bar for each layer that is on its way.
#[derive(Default)]
struct Layers(BTreeMap<(String, String), ProgressBar>);

impl Layers {
    fn show(&mut self, bars: &MultiProgress, operation: &Operation) {
        let mut under_way: BTreeMap<(String, String), (String, u64, u64)> = BTreeMap::new();
        for target in &operation.targets {
            let Some(progress) = &target.progress else { continue };
            if progress.layers.is_empty() {
                let told = (progress.doing.clone(), progress.done, progress.total);
                under_way.insert((target.host.clone(), String::new()), told);
            }
            for layer in progress.layers.iter().filter(|l| l.total == 0 || l.done < l.total) {
                let told = (layer.doing.clone(), layer.done, layer.total);
                under_way.insert((target.host.clone(), layer.id.clone()), told);
            }
        }
        self.0.retain(|key, bar| {
            let stays = under_way.contains_key(key);
            if !stays {
                bars.remove(bar);
            }
            stays
        });
        for (key, (doing, done, total)) in under_way.into_iter().take(MOST_BARS) {
            let message = format!("{} {} {doing}", key.0, key.1);
            let bar = self.0.entry(key).or_insert_with(|| {
                let bar = bars.add(ProgressBar::new(total));
                if let Ok(style) = ProgressStyle::with_template(
                    "  {msg:44!} [{bar:24}] {bytes}/{total_bytes} {binary_bytes_per_sec}",
                ) {
                    bar.set_style(style.progress_chars("=> "));
                }
                bar
            });
            bar.set_length(total.max(done));
            bar.set_position(done);
            bar.set_message(message);
        }
    }

    fn clear(&mut self, bars: &MultiProgress) {
        for bar in self.0.values() {
            bars.remove(bar);
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

fn outcome_table(operation: &Operation) -> String {
    // What failed stands last, next to the prompt.
    let mut targets: Vec<_> = operation.targets.iter().collect();
    targets.sort_by_key(|t| !t.state.is_good());
    let rows = targets.into_iter().map(|t| {
        vec![
            format!("{}/{}", t.host, t.name),
            t.state.word().to_owned(),
            t.sentence.clone().unwrap_or_default(),
        ]
    });
    let won: u64 = operation.targets.iter().filter_map(|t| t.bytes).sum();
    let won =
        if won > 0 { format!(", {} freed", gubernum_core::reason::bytes_words(won)) } else { String::new() };
    format!(
        "{}\n\n{}: {}{won} (operation {})",
        table(&["TARGET", "OUTCOME", "REASON"], rows.collect()),
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
