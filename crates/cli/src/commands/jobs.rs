//! Jobs: their schedules, runs and output, and running one now.

use gubernum_api::jobs::{JobRow, JobRun};
use gubernum_api::requests::{NewOperation, Request, RunRequest};
use gubernum_client::Client;

use crate::arguments::Output;
use crate::arguments_stacks::RunJob;
use crate::commands::change;
use crate::exit::{FAILED, FINE, Failure};
use crate::table::{age, moment, say, say_json, table};

/// `packhouse/frostwatch/report` in its parts.
fn parts(reference: &str) -> Result<(&str, &str, &str), Failure> {
    let parts: Vec<&str> = reference.split('/').collect();
    match parts[..] {
        [host, stack, service] if !host.is_empty() && !stack.is_empty() && !service.is_empty() => {
            Ok((host, stack, service))
        }
        _ => Err(Failure::Usage(format!(
            "'{reference}' does not name a job; write 'packhouse/frostwatch/report': the host, the stack and the service"
        ))),
    }
}

pub(super) async fn run(client: &Client, wish: RunJob, output: Output) -> Result<u8, Failure> {
    let (host, stack, service) = parts(&wish.job)?;
    let request = RunRequest { stack: stack.to_owned(), service: service.to_owned(), due: None };
    let asked = NewOperation::new(Request::Run(request), vec![host.to_owned()]);
    let code = change::run(client, asked, &wish.manner, output).await?;
    let is_told = output == Output::Table && !wish.manner.preview && !wish.manner.no_wait;
    if is_told && let Some(last) = client.job_runs(host, stack, service).await?.first() {
        say(client.job_run(last.id).await?.output.trim_end())?;
    }
    Ok(code)
}

/// All jobs. The exit code says whether the last run of any went wrong.
pub(super) async fn list(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.jobs().await?;
    let is_bad = |row: &JobRow| row.last.as_ref().is_some_and(|run| run.outcome.is_bad());
    let code = if all.iter().any(is_bad) { FAILED } else { FINE };
    if output == Output::Json {
        say_json(&all)?;
        return Ok(code);
    }
    if all.is_empty() {
        say("No jobs. A service with 'x-gubernum-schedule' is one.")?;
        return Ok(code);
    }
    let rows = all.iter().map(|row| {
        let schedule = row.schedule.as_ref().map(|s| s.words()).unwrap_or_default();
        let next = row.next.map_or_else(|| "manual only".to_owned(), moment);
        let last = match (&row.running[..], &row.last) {
            ([id, ..], _) => format!("running (operation {id})"),
            (_, Some(run)) => format!("{} {} ago", run.outcome.word(), age(run.ended)),
            (_, None) => "never run".to_owned(),
        };
        vec![format!("{}/{}/{}", row.host, row.stack, row.service), schedule, next, last]
    });
    say(&table(&["JOB", "SCHEDULE", "NEXT", "LAST RUN"], rows.collect()))?;
    Ok(code)
}

/// The runs of a job, and what the last one said, or that of the number behind an `@`.
pub(super) async fn show(client: &Client, name: &str, output: Output) -> Result<u8, Failure> {
    let (reference, number) = match name.split_once('@') {
        Some((reference, number)) => {
            let wrong = |_| Failure::Usage(format!("'{number}' is not the number of a run"));
            (reference, Some(number.parse::<u64>().map_err(wrong)?))
        }
        None => (name, None),
    };
    let (host, stack, service) = parts(reference)?;
    let runs = client.job_runs(host, stack, service).await?;
    let wanted = match number {
        Some(number) => runs.iter().find(|run| run.id == number),
        None => runs.iter().find(|run| run.operation.is_some()).or(runs.first()),
    };
    let said = match wanted {
        Some(run) => Some(client.job_run(run.id).await?),
        None if number.is_some() => {
            return Err(Failure::Said(format!("no run of {reference} with this number is kept")));
        }
        None => None,
    };
    if output == Output::Json {
        match (&said, number) {
            (Some(said), Some(_)) => say_json(said)?,
            _ => say_json(&runs)?,
        }
        return Ok(FINE);
    }
    if number.is_none() {
        say(&table(&["RUN", "STARTED", "DURATION", "OUTCOME", "REASON"], runs.iter().map(row).collect()))?;
    }
    if let Some(said) = said.filter(|said| !said.output.is_empty()) {
        let from = if said.cut { ", the end of it" } else { "" };
        say(&format!("\nOutput of run {}{from}:", said.run.id))?;
        say(said.output.trim_end())?;
    }
    Ok(FINE)
}

fn row(run: &JobRun) -> Vec<String> {
    let took = run.ended.duration_since(run.began).as_secs();
    let code = run.exit_code.filter(|code| *code != 0).map(|code| format!(" ({code})")).unwrap_or_default();
    vec![
        run.id.to_string(),
        format!("{} ago", age(run.began)),
        if run.operation.is_some() { format!("{took} s") } else { String::new() },
        format!("{}{code}", run.outcome.word()),
        run.sentence.clone().unwrap_or_default(),
    ]
}
