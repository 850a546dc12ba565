//! The budgets of the design, measured as ratios in one run: `bench BINARY` (by way of `cargo xtask
//! bench`), all of them or only the part `fleet`, `console`, `scale`, `churn` (with a number of seconds), `logs`, `files`, `kept`, `pressure` or `team`. Fails when one is missed.
//!
//! The service and the simulated engines are processes of their own; the log is read from a real
//! dockerd. [`fleet`] measures over 200 hosts, [`logs`] the log, [`files`] a large file, [`kept`] history and search, [`pressure`] what
//! a burst leaves behind, [`team`] many members at once, [`console`] the console.

mod console;
mod files;
mod fleet;
mod kept;
mod logs;
mod moves;
mod pressure;
mod stacks;
mod team;

use std::io::Write;
use std::path::PathBuf;

use gubernum_testbed::BedError;

/// One measured budget.
pub(crate) struct Row {
    pub(crate) what: &'static str,
    pub(crate) measured: f64,
    pub(crate) limit: f64,
    pub(crate) unit: &'static str,
    pub(crate) more: String,
    /// The measured value must reach the limit instead of staying under it.
    pub(crate) at_least: bool,
}

impl Row {
    pub(crate) fn most(
        what: &'static str,
        measured: f64,
        limit: f64,
        unit: &'static str,
        more: String,
    ) -> Self {
        Self { what, measured, limit, unit, more, at_least: false }
    }

    fn kept(&self) -> bool {
        if self.at_least { self.measured >= self.limit } else { self.measured <= self.limit }
    }
}

#[tokio::main]
async fn main() -> Result<(), BedError> {
    let mut arguments = std::env::args_os().skip(1);
    let Some(binary) = arguments.next().map(PathBuf::from) else {
        return Err(failed("bench", "give the program to measure"));
    };
    let only = arguments.next();

    let wanted = |part: &str| only.as_ref().is_none_or(|only| only == part);
    let mut out = std::io::stdout();
    let mut rows = Vec::new();
    if wanted("fleet") {
        writeln!(out, "starting 200 hosts with 25 containers each …")?;
        let mut fleet = fleet::Fleet::start(&binary, fleet::USUAL, 0).await?;
        rows.extend(fleet.measure().await?);
    }
    if wanted("console") {
        writeln!(out, "showing 5,000 and 25,000 containers in a browser …")?;
        rows.extend(console::measure(&binary).await?);
    }
    if wanted("scale") {
        writeln!(out, "starting fleets of several sizes, one after another …")?;
        rows.extend(fleet::scale(&binary, &mut out).await?);
    }
    if wanted("churn") {
        let seconds = arguments.next().and_then(|s| s.to_str()?.parse().ok()).unwrap_or(30);
        writeln!(out, "changing 200 of 5,000 containers each second for {seconds} s …")?;
        let fleet = fleet::Fleet::start(&binary, fleet::USUAL, 200).await?;
        rows.extend(console::churn(&fleet, seconds).await?);
    }
    if wanted("logs") {
        writeln!(out, "filling the log of a real dockerd …")?;
        rows.push(logs::measure(&binary).await?);
    }
    if wanted("files") {
        writeln!(out, "sending two gigabytes into a real container and back …")?;
        rows.extend(files::measure(&binary).await?);
    }
    if wanted("moves") {
        writeln!(out, "copying two gigabytes of a volume from one real dockerd to another …")?;
        rows.extend(moves::measure(&binary).await?);
    }
    if wanted("stacks") {
        writeln!(out, "applying a stack of ten services to a real dockerd …")?;
        rows.push(stacks::measure(&binary).await?);
    }
    if wanted("team") {
        writeln!(out, "opening 500 live connections of 200 members on 200 hosts …")?;
        let mut fleet = team::fleet(&binary).await?;
        rows.extend(team::measure(&mut fleet).await?);
    }
    if wanted("kept") {
        writeln!(out, "keeping two days of 200 containers and a gigabyte of lines …")?;
        rows.extend(kept::measure(&binary).await?);
    }
    if wanted("pressure") {
        writeln!(out, "pressing the service: sign-ins, followed logs, connections that do not read …")?;
        rows.extend(pressure::measure(&binary).await?);
    }
    writeln!(out, "\n{:<52} {:>12} {:>12}  ", "what", "measured", "budget")?;
    for row in &rows {
        let sign = if row.at_least { "≥" } else { "≤" };
        let verdict = if row.kept() { "kept" } else { "MISSED" };
        writeln!(
            out,
            "{:<52} {:>7.2} {:<5} {sign} {:>5} {:<5} {verdict:<7} {}",
            row.what, row.measured, row.unit, row.limit, row.unit, row.more
        )?;
    }
    if rows.iter().all(Row::kept) { Ok(()) } else { Err(failed("bench", "a budget was missed")) }
}

pub(crate) fn failed(command: &str, detail: &str) -> BedError {
    BedError::Command { command: command.to_owned(), detail: detail.to_owned() }
}

pub(crate) fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or(f64::NAN)
}
