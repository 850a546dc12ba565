//! A tap on one container's log: opened with bounds, read with back-pressure, on the thread that is
//! kept for streams.
//!
//! Streams run on a runtime of their own with a single thread: that is faster for many small reads than
//! the shared one, and a flood of lines cannot delay anything else.

use futures_util::FutureExt;
use gubernum_core::container::Container;
use gubernum_core::logs::LogLine;
use gubernum_core::moment;
use gubernum_engine::EngineError;
use gubernum_engine::logs::{LogQuery, LogReader};
use jiff::Timestamp;
use tokio::sync::mpsc;
use tokio_util::task::AbortOnDropHandle;

use crate::app::App;
use crate::http::engine_of;
use crate::http::problem::ApiError;

/// How many batches of lines may wait for the reader. A batch is what one read gave, at most some
/// hundred kilobytes, or one line.
const WAITING: usize = 4;

/// How many reads, and about how many lines, are handed on together.
const GATHERED_READS: usize = 32;
const GATHERED_LINES: usize = 512;

/// Which lines are wanted, as people write it.
#[derive(Debug, Clone)]
pub(crate) struct Wish {
    pub(crate) tail: Option<u32>,
    pub(crate) since: Option<String>,
    pub(crate) until: Option<String>,
    pub(crate) follow: bool,
    pub(crate) stdout: bool,
    pub(crate) stderr: bool,
}

/// An open log. Dropping it ends the engine's stream.
pub(crate) struct Tap<T> {
    receiver: mpsc::Receiver<Result<T, EngineError>>,
    _task: AbortOnDropHandle<()>,
}

impl<T: Send + 'static> Tap<T> {
    /// Opens a container's log. `field` names a wish's field for errors; `render` makes of the lines
    /// what the reader takes, on the streams' own thread, so that lines never change threads.
    pub(crate) fn open(
        app: &App,
        container: &Container,
        wish: &Wish,
        field: impl Fn(&str) -> String,
        render: impl Fn(Vec<LogLine>) -> T + Send + 'static,
    ) -> Result<Self, ApiError> {
        let query = query(wish, app.clock.now(), field)?;
        let engine = engine_of(app, &container.host)?;
        let link = app.links.get(&container.host);
        let place = link.and_then(|l| l.logs.try_acquire_owned().ok()).ok_or_else(|| {
            let text =
                format!("too many logs of `{}` are being read; close some and try again", container.host);
            ApiError::new("too-many-logs", "Too many logs", 429, text)
        })?;
        let (sender, receiver) = mpsc::channel(WAITING);
        let (id, terminal) = (container.id.clone(), container.terminal);
        let task = app.streams.spawn(async move {
            let _place = place;
            let opened = tokio::select! {
                () = sender.closed() => return,
                opened = engine.logs(&id, terminal, &query) => opened,
            };
            let mut reader = match opened {
                Ok(reader) => reader,
                Err(error) => {
                    let _ = sender.send(Err(error)).await;
                    return;
                }
            };
            let mut ahead = None;
            loop {
                let next = match ahead.take() {
                    Some(next) => next,
                    None => tokio::select! {
                        () = sender.closed() => return,
                        next = reader.next() => next,
                    },
                };
                let (message, over) = match next {
                    Ok(Some(mut lines)) => {
                        ahead = gather(&mut reader, &mut lines).await;
                        (Ok(render(lines)), false)
                    }
                    Ok(None) => return,
                    Err(error) => (Err(error), true),
                };
                if sender.send(message).await.is_err() || over {
                    return;
                }
            }
        });
        Ok(Self { receiver, _task: AbortOnDropHandle::new(task) })
    }

    /// What the next lines were made into; `None` when the log is over.
    pub(crate) async fn next(&mut self) -> Option<Result<T, EngineError>> {
        self.receiver.recv().await
    }
}

/// What a reader gives.
type Read = Result<Option<Vec<LogLine>>, EngineError>;

/// Takes along what comes right behind: engines write line by line, and handing each on alone would
/// wake the next thread for every one. Waits for nothing. An end or an error that comes up is given
/// back, to be told after the lines.
async fn gather(reader: &mut LogReader, lines: &mut Vec<LogLine>) -> Option<Read> {
    for _ in 0..GATHERED_READS {
        if lines.len() >= GATHERED_LINES {
            break;
        }
        // Lets the connection's own task look at the socket once more.
        tokio::task::yield_now().await;
        match reader.next().now_or_never()? {
            Ok(Some(more)) => lines.extend(more),
            other => return Some(other),
        }
    }
    None
}

fn query(wish: &Wish, now: Timestamp, field: impl Fn(&str) -> String) -> Result<LogQuery, ApiError> {
    let read = |name: &str, text: &Option<String>| {
        let parsed = text.as_deref().map(|t| moment::parse(t, now)).transpose();
        parsed.map_err(|e| ApiError::invalid(field(name), e.to_string()))
    };
    let (since, until) = (read("since", &wish.since)?, read("until", &wish.until)?);
    if let (Some(since), Some(until)) = (since, until)
        && since > until
    {
        return Err(ApiError::invalid(field("until"), "`until` is before `since`; swap them"));
    }
    Ok(LogQuery {
        tail: wish.tail,
        since,
        until,
        follow: wish.follow,
        stdout: wish.stdout,
        stderr: wish.stderr,
    })
}
