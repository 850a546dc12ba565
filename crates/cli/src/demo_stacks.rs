//! The stacks of the demo: revisions of the last weeks, one with drift, one that follows a Git repository with a
//! commit waiting, a nightly job, and an update that was rolled back.
//!
//! Texts are written from what runs, as anybody's would be; the rest is asked for through the interface.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use gubernum_api::requests::{ApplyRequest, NewOperation, Request};
use gubernum_api::sources::SetSource;
use gubernum_client::Client;
use gubernum_core::jobs::{JobRun, RunOutcome};
use gubernum_core::mask::MASK;
use gubernum_core::stack::adopt::FILE;
use gubernum_sim::demo::FROST_SECRETS;
use gubernum_sim::{SimCommit, SimRepository};
use gubernum_store::Store;
use jiff::{SignedDuration, Timestamp};

use crate::exit::Failure;

/// How long the hosts may take to be there.
const HOSTS: Duration = Duration::from_secs(20);

/// The stack that follows a repository.
const FOLLOWS: (&str, &str) = ("packhouse", "auction");
/// The one of which an update fails.
const FAILS: (&str, &str) = ("packhouse", "frostwatch");
/// The one with a job.
const NIGHTLY: (&str, &str) = ("coldstore", "coldchain");
/// What its runs said, from the last night backwards, with their exit codes.
const NIGHTS: [(&str, i64); 5] = [
    ("report for 8 rooms written, 0 excursions\n", 0),
    ("report for 8 rooms written, 1 excursion: room 5 at 02:12, 1.4 above\n", 0),
    (
        "rooms read: 8\nlevel=error msg=\"cannot write the report\" path=/srv/reports reason=\"no space left on device\"\n",
        2,
    ),
    ("report for 8 rooms written, 0 excursions\n", 0),
    ("report for 8 rooms written, 0 excursions\n", 0),
];

/// What keeps the demo's repository served.
pub(crate) struct Kept {
    _repository: Option<SimRepository>,
}

/// Creates all of it, unless it exists; the repository is served at each start.
pub(crate) async fn begin(client: &Client, store: &Arc<Store>, folder: &Path) -> Result<Kept, Failure> {
    let is_new = store.kept_stacks().map_err(|e| e.to_string())?.is_empty();
    let text = text_of(client, FOLLOWS).await?;
    let repository = repository(&folder.join("repository"), &text).await;
    if is_new {
        let frost = with_secrets(&text_of(client, FAILS).await?);
        past(store, FAILS, &frost)?;
        past_nights(store)?;
        client.adopt_stack(FAILS.0, FAILS.1, true).await?;
        client.adopt_stack(FOLLOWS.0, FOLLOWS.1, true).await?;
        changed_by_hand(client, store).await?;
        nightly(client).await?;
        failing_update(client, &frost).await?;
    }
    if let Some(repository) = &repository {
        let source = SetSource {
            url: repository.url().to_owned(),
            reference: "main".to_owned(),
            paths: vec![FILE.to_owned()],
            poll_seconds: 300,
            ..SetSource::default()
        };
        client.set_stack_source(FOLLOWS.0, FOLLOWS.1, &source).await?;
    }
    Ok(Kept { _repository: repository })
}

/// The text of what runs, as soon as its host is there.
async fn text_of(client: &Client, (host, stack): (&str, &str)) -> Result<String, Failure> {
    let began = tokio::time::Instant::now();
    loop {
        match client.adopt_stack(host, stack, false).await {
            Ok(adoption) => return Ok(adoption.text),
            Err(error) if began.elapsed() > HOSTS => return Err(error.into()),
            Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    }
}

/// A text as it was shown, with what is hidden in it.
fn with_secrets(shown: &str) -> String {
    let line = |line: &str| {
        let known = FROST_SECRETS.iter().find(|(name, _)| line.trim_start().starts_with(&format!("{name}:")));
        match known.filter(|_| line.contains(MASK)) {
            Some((name, value)) => {
                let indent = line.len() - line.trim_start().len();
                format!("{}{name}: \"{value}\"\n", " ".repeat(indent))
            }
            None => format!("{line}\n"),
        }
    };
    shown.lines().map(line).collect()
}

fn request(stack: &str, text: &str, comment: &str) -> ApplyRequest {
    ApplyRequest {
        stack: stack.to_owned(),
        files: [(FILE.to_owned(), text.to_owned())].into(),
        main: vec![FILE.to_owned()],
        comment: Some(comment.to_owned()),
        ..ApplyRequest::default()
    }
}

/// Earlier revisions of a stack: what ran before.
fn past(store: &Store, (host, stack): (&str, &str), now_text: &str) -> Result<(), Failure> {
    let before = now_text.replace("frostwatch/api:3.4.1", "frostwatch/api:3.4.0");
    let first = before.replace("frostwatch/worker:3.4.1", "frostwatch/worker:3.3.2");
    for (days, member, text, comment) in
        [(23, "tess", &first, "from the old machine"), (9, "jory", &before, "the worker that knows mast 3")]
    {
        let when = Timestamp::now() - SignedDuration::from_hours(24 * days);
        store.adopt(host, &request(stack, text, comment), member, when).map_err(|e| e.to_string())?;
    }
    Ok(())
}

/// A text that says something else than what runs: somebody changed it by other means.
async fn changed_by_hand(client: &Client, store: &Store) -> Result<(), Failure> {
    let (host, stack) = ("packhouse", "grading");
    let text = text_of(client, (host, stack)).await?;
    // The text gives the third camera twice of what it runs with.
    let at = text.find("camera-3:").unwrap_or(text.len());
    let other =
        format!("{}{}", &text[..at], text[at..].replacen("mem_limit: \"1g\"", "mem_limit: \"2g\"", 1));
    let when = Timestamp::now() - SignedDuration::from_hours(30);
    let comment = "the third camera has two lenses now";
    store.adopt(host, &request(stack, &other, comment), "jory", when).map_err(|e| e.to_string())?;
    Ok(())
}

/// The report of every night, as a job.
async fn nightly(client: &Client) -> Result<(), Failure> {
    let (host, stack) = NIGHTLY;
    let text = text_of(client, (host, stack)).await?;
    let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
    if let Some(at) = lines.iter().position(|line| line.trim() == "night-report:") {
        let indent = " ".repeat(lines[at].len() - lines[at].trim_start().len() + 2);
        let says = "sleep 2; echo report for 8 rooms written, 0 excursions";
        let schedule = "{cron: \"10 2 * * *\", time_zone: Europe/London, missed_runs: once}";
        lines.insert(at + 1, format!("{indent}entrypoint: [\"sh\", \"-c\", \"{says}\"]"));
        lines.insert(at + 1, format!("{indent}x-gubernum-schedule: {schedule}"));
    }
    let wish = request(stack, &(lines.join("\n") + "\n"), "the night report has a schedule");
    client.submit(&NewOperation::new(Request::Apply(wish), vec![host.to_owned()]), None).await?;
    Ok(())
}

fn past_nights(store: &Store) -> Result<(), Failure> {
    let (host, stack) = NIGHTLY;
    for (days, (said, code)) in (1..).zip(NIGHTS).collect::<Vec<_>>().into_iter().rev() {
        let began = Timestamp::now() - SignedDuration::from_hours(24 * days - 5);
        let run = JobRun {
            id: 0,
            host: host.to_owned(),
            stack: stack.to_owned(),
            service: "night-report".to_owned(),
            operation: None,
            due: Some(began),
            began,
            ended: began + SignedDuration::from_secs(13),
            outcome: if code == 0 { RunOutcome::Succeeded } else { RunOutcome::Failed },
            exit_code: Some(code),
            sentence: (code != 0).then(|| {
                let last = said.lines().last().unwrap_or_default();
                format!("exited with code {code}; last output: {last}")
            }),
            missed: 0,
        };
        store.add_job_run(&run, said, false, 20).map_err(|e| e.to_string())?;
    }
    Ok(())
}

/// An update to an image that does not come up: it is tried for real, and the stack is what it was a moment later.
async fn failing_update(client: &Client, text: &str) -> Result<(), Failure> {
    let (host, stack) = FAILS;
    let text = text.replace("frostwatch/worker:3.4.1", "frostwatch/worker:3.5.0");
    let mut wish = request(stack, &text, "the newest worker");
    wish.watch_seconds = Some(3);
    client.submit(&NewOperation::new(Request::Apply(wish), vec![host.to_owned()]), None).await?;
    Ok(())
}

/// The repository, with what runs and a change of it; `None` where there is no `git` on this machine.
async fn repository(folder: &Path, text: &str) -> Option<SimRepository> {
    let newer = text.replace("auction/web:8.2.0", "auction/web:8.3.0");
    let readme = "The auction: the text of what runs in the packhouse.\n";
    let day = 24 * 3600;
    let now = Timestamp::now().as_second();
    let commits = [
        SimCommit {
            files: &[(FILE, text), ("README.md", readme)],
            subject: "The auction as it runs",
            author: "Tess",
            time: now - 12 * day,
        },
        SimCommit {
            files: &[(FILE, &newer)],
            subject: "Web 8.3.0: bids on a phone",
            author: "Jory",
            time: now - day / 12,
        },
    ];
    match SimRepository::start(folder, &commits).await {
        Ok(repository) => Some(repository),
        Err(error) => {
            crate::exit::note(&format!("the demo has no Git repository: {error}"));
            None
        }
    }
}
