//! Parses the output of an engine's builder, line by line.

use hyper::body::Incoming;
use serde_json::Value;
use tokio::io::{AsyncBufReadExt, AsyncRead, AsyncReadExt, BufReader};

use crate::files;

/// The longest line of a builder that is read.
const LONGEST: u64 = 1024 * 1024;

/// One line of a builder.
#[derive(Debug, Default)]
pub(crate) struct BuildSaid {
    /// What it says of its work.
    pub(crate) text: String,
    /// Why it failed.
    pub(crate) problem: Option<String>,
    /// The id of what it made.
    pub(crate) image: Option<String>,
}

/// The lines of a builder.
pub(crate) struct BuildLines {
    lines: BufReader<Box<dyn AsyncRead + Send + Unpin>>,
    held: Vec<u8>,
}

impl BuildLines {
    pub(crate) fn new(said: Incoming) -> Self {
        Self { lines: BufReader::new(Box::new(files::reader(said))), held: Vec::new() }
    }

    /// The next one; `None` at the end. What is no JSON says nothing.
    ///
    /// # Errors
    /// When the connection breaks.
    pub(crate) async fn next(&mut self) -> std::io::Result<Option<BuildSaid>> {
        self.held.clear();
        let mut line = AsyncReadExt::take(&mut self.lines, LONGEST);
        if line.read_until(b'\n', &mut self.held).await? == 0 {
            return Ok(None);
        }
        let line: Value = serde_json::from_slice(&self.held).unwrap_or_default();
        let text = line["stream"].as_str().or_else(|| line["status"].as_str()).unwrap_or_default();
        Ok(Some(BuildSaid {
            text: text.to_owned(),
            problem: line["error"].as_str().map(|error| error.trim().to_owned()),
            image: line["aux"]["ID"].as_str().map(str::to_owned),
        }))
    }
}
