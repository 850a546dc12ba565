//! Logs over the live connection: limited by the reader's credit, so that they cannot crowd out the other
//! subscriptions.

use std::sync::Arc;

use gubernum_api::FromServer;
use gubernum_api::live::LOG_CREDIT;
use gubernum_api::logs::{LogRequest, SourcedLine};
use gubernum_core::logs::filter::Filter;
use tokio::sync::{Semaphore, mpsc};
use tokio_util::task::AbortOnDropHandle;

use crate::access::{BudgetKind, Share};
use crate::fleet::View;
use crate::live::LiveContext;
use crate::live::LiveError;
use crate::logs::{LogMerger, MergedLine, MergerEvent};

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
fn shares(context: &LiveContext, member: i64) -> Result<[Share; 2], LiveError> {
    let kilobytes = usize::try_from(LOG_CREDIT / 1024).unwrap_or(usize::MAX);
    Ok([
        context.budgets.take(member, BudgetKind::Log, 1)?,
        context.budgets.take(member, BudgetKind::Buffered, kilobytes)?,
    ])
}

impl LogSubscription {
    /// Begins to send the lines of logs into `sender`.
    pub(crate) async fn begin(
        context: &LiveContext,
        (member, view): (i64, &View),
        id: u32,
        wish: &LogRequest,
        sender: mpsc::Sender<FromServer>,
    ) -> Result<Self, LiveError> {
        let shares = shares(context, member)?;
        let mut merger =
            LogMerger::open(&context.logs, (member, view), wish, |field| format!("/wish/{field}"), to_wire)
                .await?;
        let credit = Arc::new(Semaphore::new(usize::try_from(LOG_CREDIT).unwrap_or(usize::MAX)));
        let paid = credit.clone();
        let task = tokio::spawn(async move {
            while let Some(told) = merger.next().await {
                let sent = match told {
                    MergerEvent::Lines(lines) => send(id, lines, &paid, &sender).await,
                    MergerEvent::Note(note) | MergerEvent::Failed(note, _) => {
                        sender.send(FromServer::LogNote { id, note }).await.is_ok()
                    }
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

    /// The reader has taken this many bytes.
    pub(crate) fn taken(&self, bytes: u64) {
        let most = usize::try_from(LOG_CREDIT).unwrap_or(usize::MAX);
        let bytes = usize::try_from(bytes).unwrap_or(usize::MAX);
        // Never more than was given, whatever the other side says.
        self.credit.add_permits(bytes.min(most.saturating_sub(self.credit.available_permits())));
    }
}

fn to_wire(filter: &Filter, lines: Vec<MergedLine>) -> Vec<SourcedLine> {
    lines.into_iter().map(|line| line.into_wire(filter)).collect()
}

/// Sends lines in messages of a bounded size; `false` when nobody takes them any more.
async fn send(
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
        let message = FromServer::Lines { id, lines: batch, bytes: price as u64 };
        if sender.send(message).await.is_err() {
            return false;
        }
    }
    true
}
