//! The log of one container as lines, with bounds and back-pressure.
//!
//! The engine is only read when the caller asks for more, so a slow viewer slows the engine's
//! sending and nothing piles up here.

use std::time::Duration;

use gubernum_core::host::LinkFault;
use gubernum_core::logs::{LineAssembler, LogLine};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use jiff::Timestamp;

use crate::calls::checked;
use crate::client::{Call, Engine};
use crate::error::EngineError;
use crate::frames::FrameReader;

/// How long the head of a log that is not followed may take.
const HEAD_TIMEOUT: Duration = Duration::from_secs(30);

/// Which lines are wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogQuery {
    /// Only this many last lines; all when `None`.
    pub tail: Option<u32>,
    /// Only lines of this time or later.
    pub since: Option<Timestamp>,
    /// Only lines of this time or earlier.
    pub until: Option<Timestamp>,
    /// Follow new lines as they come.
    pub follow: bool,
    /// Standard output.
    pub stdout: bool,
    /// Standard error.
    pub stderr: bool,
}

impl Default for LogQuery {
    fn default() -> Self {
        Self { tail: None, since: None, until: None, follow: false, stdout: true, stderr: true }
    }
}

/// A log being read.
pub struct LogReader {
    engine: Engine,
    body: Incoming,
    terminal: bool,
    frames: FrameReader,
    lines: LineAssembler,
    since: Option<Timestamp>,
    until: Option<Timestamp>,
    over: bool,
    /// The bytes ended inside a frame, which is told after the lines before it.
    broken_off: bool,
}

impl Engine {
    /// Opens a container's log. `terminal` is the container's own setting: it decides how the
    /// engine packs the bytes.
    ///
    /// # Errors
    /// 404 when there is no such container; the engine's error when its log cannot be read.
    pub async fn logs(&self, id: &str, terminal: bool, query: &LogQuery) -> Result<LogReader, EngineError> {
        let mut path = format!(
            "/containers/{}/logs?timestamps=true&stdout={}&stderr={}&follow={}",
            checked(id)?,
            query.stdout,
            query.stderr,
            query.follow
        );
        if let Some(tail) = query.tail {
            path.push_str(&format!("&tail={tail}"));
        }
        if let Some(since) = query.since {
            path.push_str(&format!("&since={}", seconds(since)));
        }
        if let Some(until) = query.until {
            // Engines read it more or less exactly: one second later, and the rest is cut here.
            path.push_str(&format!("&until={}", until.as_second() + 1));
        }
        let call = Call::get("logs", &path);
        let wait = (!query.follow).then_some(HEAD_TIMEOUT);
        let body = if self.dialect().needs_chunks(terminal) {
            self.chunked_stream(call, wait).await?
        } else {
            self.stream(call, wait).await?
        };
        Ok(LogReader {
            engine: self.clone(),
            body,
            terminal,
            frames: FrameReader::default(),
            lines: LineAssembler::new(),
            since: query.since,
            until: query.until,
            over: false,
            broken_off: false,
        })
    }
}

/// The form that both engines read: seconds with nine digits behind the point.
pub(crate) fn seconds(time: Timestamp) -> String {
    format!("{}.{:09}", time.as_second(), time.subsec_nanosecond().max(0))
}

impl LogReader {
    /// The next lines, in order; `None` when the log is over.
    ///
    /// # Errors
    /// When the link breaks or the bytes cannot be understood. What came before is complete.
    pub async fn next(&mut self) -> Result<Option<Vec<LogLine>>, EngineError> {
        let mut out = Vec::new();
        while out.is_empty() {
            if std::mem::take(&mut self.broken_off) {
                let text = "the connection was closed in the middle of a log";
                return Err(EngineError::link(LinkFault::Failed, self.engine.address(), text));
            }
            if self.over {
                return Ok(None);
            }
            match self.body.frame().await {
                Some(Ok(frame)) => {
                    let Ok(bytes) = frame.into_data() else { continue };
                    self.take(&bytes, &mut out)?;
                }
                Some(Err(e)) => return Err(self.engine.broken(&e)),
                None => {
                    self.over = true;
                    self.broken_off = self.frames.is_inside();
                    self.lines.end(&mut out);
                }
            }
            self.keep_wanted(&mut out);
        }
        Ok(Some(out))
    }

    fn take(&mut self, bytes: &[u8], out: &mut Vec<LogLine>) -> Result<(), EngineError> {
        if self.terminal {
            self.lines.raw(bytes, self.engine.dialect().pieces(), out);
            return Ok(());
        }
        let damaged =
            |e: crate::frames::DamagedFrame| EngineError::Unreadable { what: "logs", detail: e.to_string() };
        self.frames.read(bytes, &mut self.lines, out).map_err(damaged)
    }

    /// Holds to the bounds exactly where the engine is coarse; a line's time may itself be cut to
    /// whole seconds, and then counts as any time within that second.
    fn keep_wanted(&self, out: &mut Vec<LogLine>) {
        if let Some(since) = self.since {
            out.retain(|l| {
                l.time.is_none_or(|t| {
                    t >= since || (t.subsec_nanosecond() == 0 && t.as_second() == since.as_second())
                })
            });
        }
        if let Some(until) = self.until {
            out.retain(|l| l.time.is_none_or(|t| t <= until));
        }
    }
}
