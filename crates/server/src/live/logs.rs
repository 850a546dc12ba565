//! Logs over the live connection: paid for by the reader's credit, so that they cannot crowd out
//! what else the connection carries.

use std::sync::Arc;

use gubernum_api::FromServer;
use gubernum_api::live::{LOG_CREDIT, LogWish};
use gubernum_api::logs::{LogNote, ManyWish, SourcedLine};
use gubernum_api::views::Line;
use gubernum_core::logs::LogLine;
use tokio::sync::{Semaphore, mpsc};
use tokio_util::task::AbortOnDropHandle;

use crate::access::{BudgetKind, Share};
use crate::app::App;
use crate::live::LiveError;
use crate::live::http::problem;
use crate::logs::{LogMerger, MergerEvent, Tap, TapEvent, Wish};

/// Lines of one message cost at most this, so that no single message takes long.
const MESSAGE_COST: usize = 64 * 1024;
/// What a line costs besides its text.
const LINE_COST: usize = 64;

/// One log that a connection follows. Dropping it ends it.
pub(crate) struct LogSubscription {
    credit: Arc<Semaphore>,
    _task: AbortOnDropHandle<()>,
    _shares: [Share; 2],
}

/// What a subscription takes of its member's budgets.
fn shares(app: &App, member: i64) -> Result<[Share; 2], LiveError> {
    let kilobytes = usize::try_from(LOG_CREDIT / 1024).unwrap_or(usize::MAX);
    Ok([
        app.budgets.take(member, BudgetKind::Log, 1)?,
        app.budgets.take(member, BudgetKind::Buffered, kilobytes)?,
    ])
}

impl LogSubscription {
    /// Begins to send a log's lines into `sender`.
    pub(crate) fn begin(
        app: &App,
        member: i64,
        id: u32,
        wish: &LogWish,
        sender: mpsc::Sender<FromServer>,
    ) -> Result<Self, LiveError> {
        let shares = shares(app, member)?;
        let container = app.hub.find(&wish.reference);
        let container = container.map_err(|source| LiveError::Fleet { field: "/wish/reference", source })?;
        let wish = Wish {
            tail: wish.tail,
            since: wish.since.clone(),
            until: wish.until.clone(),
            follow: wish.follow,
            stdout: true,
            stderr: true,
        };
        let mut tap = Tap::open(app, &container, &wish, |field| format!("/wish/{field}"), to_lines)?;
        let source = container.reference();
        let credit = Arc::new(Semaphore::new(usize::try_from(LOG_CREDIT).unwrap_or(usize::MAX)));
        let paid = credit.clone();
        let task = tokio::spawn(async move {
            let problem = loop {
                match tap.next().await {
                    None => break None,
                    Some(Err(error)) => break Some(problem(error)),
                    Some(Ok(TapEvent::Lines(lines))) => {
                        if !send(id, lines, &paid, &sender).await {
                            return;
                        }
                    }
                    Some(Ok(TapEvent::Note(note))) => {
                        let note = LogNote { source: source.clone(), note };
                        if sender.send(FromServer::LogNote { id, note }).await.is_err() {
                            return;
                        }
                    }
                }
            };
            let _ = sender.send(FromServer::Ended { id, problem }).await;
        });
        Ok(Self { credit, _task: AbortOnDropHandle::new(task), _shares: shares })
    }

    /// Begins to send the merged lines of many logs into `sender`.
    pub(crate) async fn begin_many(
        app: &App,
        member: i64,
        id: u32,
        wish: &ManyWish,
        sender: mpsc::Sender<FromServer>,
    ) -> Result<Self, LiveError> {
        let shares = shares(app, member)?;
        let mut many = LogMerger::open(app, member, wish, |field| format!("/wish/{field}")).await?;
        let credit = Arc::new(Semaphore::new(usize::try_from(LOG_CREDIT).unwrap_or(usize::MAX)));
        let paid = credit.clone();
        let task = tokio::spawn(async move {
            while let Some(told) = many.next().await {
                let sent = match told {
                    MergerEvent::Lines(lines) => send_many(id, lines, &paid, &sender).await,
                    MergerEvent::Note(note) => sender.send(FromServer::LogNote { id, note }).await.is_ok(),
                    MergerEvent::Progress(progress) => {
                        sender.send(FromServer::Searched { id, progress }).await.is_ok()
                    }
                };
                if !sent {
                    return;
                }
            }
            let _ = sender.send(FromServer::Ended { id, problem: None }).await;
        });
        Ok(Self { credit, _task: AbortOnDropHandle::new(task), _shares: shares })
    }

    /// The reader has taken so many bytes.
    pub(crate) fn taken(&self, bytes: u64) {
        let most = usize::try_from(LOG_CREDIT).unwrap_or(usize::MAX);
        let bytes = usize::try_from(bytes).unwrap_or(usize::MAX);
        // Never more than was given, whatever the other side says.
        self.credit.add_permits(bytes.min(most.saturating_sub(self.credit.available_permits())));
    }
}

fn to_lines(lines: Vec<LogLine>) -> Vec<Line> {
    lines.into_iter().map(Line::from).collect()
}

/// Sends lines in messages of a bounded size; `false` when nobody takes them any more.
async fn send(id: u32, lines: Vec<Line>, credit: &Semaphore, sender: &mpsc::Sender<FromServer>) -> bool {
    let mut batch = Vec::new();
    let mut cost = 0;
    for line in lines {
        cost += line.text.len() + line.bytes.as_ref().map_or(0, String::len) + LINE_COST;
        batch.push(line);
        if cost >= MESSAGE_COST && !flush(id, &mut batch, &mut cost, credit, sender).await {
            return false;
        }
    }
    batch.is_empty() || flush(id, &mut batch, &mut cost, credit, sender).await
}

/// The same for lines with their sources.
async fn send_many(
    id: u32,
    lines: Vec<SourcedLine>,
    credit: &Semaphore,
    sender: &mpsc::Sender<FromServer>,
) -> bool {
    let mut lines = lines.into_iter().peekable();
    while lines.peek().is_some() {
        let mut batch = Vec::new();
        let mut cost = 0;
        while cost < MESSAGE_COST
            && let Some(line) = lines.next()
        {
            cost += line.line.text.len() + line.line.bytes.as_ref().map_or(0, String::len) + LINE_COST * 2;
            batch.push(line);
        }
        let price = cost.min(usize::try_from(LOG_CREDIT).unwrap_or(usize::MAX));
        let Ok(permits) = credit.acquire_many(u32::try_from(price).unwrap_or(u32::MAX)).await else {
            return false;
        };
        permits.forget();
        let message = FromServer::ManyLines { id, lines: batch, bytes: price as u64 };
        if sender.send(message).await.is_err() {
            return false;
        }
    }
    true
}

async fn flush(
    id: u32,
    batch: &mut Vec<Line>,
    cost: &mut usize,
    credit: &Semaphore,
    sender: &mpsc::Sender<FromServer>,
) -> bool {
    // A line larger than the whole credit costs the whole credit.
    let price = (*cost).min(usize::try_from(LOG_CREDIT).unwrap_or(usize::MAX));
    let Ok(permits) = credit.acquire_many(u32::try_from(price).unwrap_or(u32::MAX)).await else {
        return false;
    };
    permits.forget();
    *cost = 0;
    let message = FromServer::Lines { id, lines: std::mem::take(batch), bytes: price as u64 };
    sender.send(message).await.is_ok()
}
