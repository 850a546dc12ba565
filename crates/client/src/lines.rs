//! A log over HTTP: JSON lines, parsed as they arrive.

use bytes::BytesMut;
use gubernum_api::Problem;
use gubernum_api::logs::{LogNote, SearchProgress, SourcedLine};
use gubernum_api::views::Line;
use reqwest::Response;
use serde::Deserialize;

use crate::error::{ClientError, root};

/// The longest line of JSON that is read: the longest log line, escaped, with its base64 form.
const LONGEST: usize = 64 * 1024 * 1024;

/// Lines of JSON as they come.
pub(crate) struct JsonLines {
    response: Response,
    buffer: BytesMut,
    scanned: usize,
}

impl JsonLines {
    pub(crate) fn new(response: Response) -> Self {
        Self { response, buffer: BytesMut::new(), scanned: 0 }
    }

    pub(crate) async fn next<T: serde::de::DeserializeOwned>(&mut self) -> Result<Option<T>, ClientError> {
        loop {
            if let Some(end) = self.buffer[self.scanned..].iter().position(|&b| b == b'\n') {
                let line = self.buffer.split_to(self.scanned + end + 1);
                self.scanned = 0;
                let read = serde_json::from_slice(&line).map(Some);
                return read.map_err(|e| ClientError::Broken(format!("a line cannot be understood: {e}")));
            }
            self.scanned = self.buffer.len();
            if self.buffer.len() > LONGEST {
                return Err(ClientError::Broken("a line exceeds the limit".to_owned()));
            }
            match self.response.chunk().await {
                Ok(Some(chunk)) => self.buffer.extend_from_slice(&chunk),
                Ok(None) => return Ok(None),
                Err(e) => return Err(ClientError::Broken(root(&e))),
            }
        }
    }
}

/// A stream of log lines. Reading slowly slows the service, and with it the engine.
pub struct LineStream(JsonLines);

#[derive(Deserialize)]
#[serde(untagged)]
enum Item {
    Line(Line),
    Note { note: String },
    Problem { problem: Problem },
}

impl LineStream {
    pub(crate) fn new(response: Response) -> Self {
        Self(JsonLines::new(response))
    }

    /// The next line, notes left out; `None` when the log is over.
    ///
    /// # Errors
    /// When the log is interrupted, with the service's reason where it has one.
    pub async fn next(&mut self) -> Result<Option<Line>, ClientError> {
        loop {
            match self.next_or_note().await? {
                Some(LogItem::Line(line)) => return Ok(Some(line)),
                Some(LogItem::Note(_)) => {}
                None => return Ok(None),
            }
        }
    }

    /// The next line or note; `None` when the log is over.
    ///
    /// # Errors
    /// When the log is interrupted, with the service's reason where it has one.
    pub async fn next_or_note(&mut self) -> Result<Option<LogItem>, ClientError> {
        match self.0.next().await? {
            Some(Item::Line(line)) => Ok(Some(LogItem::Line(line))),
            Some(Item::Note { note }) => Ok(Some(LogItem::Note(note))),
            Some(Item::Problem { problem }) => Err(ClientError::Problem(Box::new(problem))),
            None => Ok(None),
        }
    }
}

/// What is in one container's log.
#[derive(Debug)]
pub enum LogItem {
    /// A line.
    Line(Line),
    /// Something to know about what comes: the engine went away, the container was replaced.
    Note(String),
}

/// A stream of the merged lines of many logs.
pub struct MergedStream(JsonLines);

/// What is in it.
#[derive(Debug, Deserialize)]
#[serde(untagged)]
pub enum MergedItem {
    /// A line with its source.
    Line(SourcedLine),
    /// Something to know.
    Note(LogNote),
    /// How far a search has come.
    Progress(SearchProgress),
}

impl MergedStream {
    pub(crate) fn new(response: Response) -> Self {
        Self(JsonLines::new(response))
    }

    /// What comes next; `None` when all is over.
    ///
    /// # Errors
    /// When the connection breaks.
    pub async fn next(&mut self) -> Result<Option<MergedItem>, ClientError> {
        self.0.next().await
    }
}
