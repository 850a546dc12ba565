//! Streamed answers: events and logs, written only as fast as they are read.

use std::convert::Infallible;
use std::sync::Arc;

use axum::body::Body;
use bytes::{BufMut, Bytes, BytesMut};
use futures_util::{Stream, StreamExt};
use jiff::Timestamp;
use serde::Deserialize;
use tokio_stream::wrappers::ReceiverStream;
use tokio_util::sync::CancellationToken;

use crate::engine::SimEngine;
use crate::logbook::Entry;

#[derive(Debug, Deserialize)]
pub(crate) struct LogParams {
    #[serde(default)]
    pub(crate) stdout: String,
    #[serde(default)]
    pub(crate) stderr: String,
    #[serde(default)]
    pub(crate) follow: String,
    #[serde(default)]
    pub(crate) timestamps: String,
    pub(crate) tail: Option<String>,
    pub(crate) since: Option<String>,
    pub(crate) until: Option<String>,
}

pub(crate) fn truth(text: &str) -> bool {
    matches!(text, "1" | "true" | "True")
}

/// Seconds with a fraction, as the engine's `since` and `until` take them.
fn instant(text: &str) -> Option<Timestamp> {
    let (seconds, fraction) = text.split_once('.').unwrap_or((text, ""));
    let nanos: i32 = format!("{fraction:0<9}").get(..9)?.parse().ok()?;
    Timestamp::new(seconds.parse().ok()?, nanos).ok()
}

fn body(stream: impl Stream<Item = Bytes> + Send + 'static) -> Body {
    Body::from_stream(stream.map(Ok::<_, Infallible>))
}

/// Events after `since` (if any), then as they happen.
pub(crate) fn events(engine: &Arc<SimEngine>, since: Option<&str>) -> Body {
    let since = since.and_then(instant).map(|t| i64::try_from(t.as_nanosecond()).unwrap_or(i64::MAX));
    let state = engine.state.lock();
    let mut live = engine.live.subscribe();
    let past: Vec<Arc<str>> = match since {
        Some(since) => state.events.iter().filter(|(n, _)| *n >= since).map(|(_, e)| e.clone()).collect(),
        None => Vec::new(),
    };
    drop(state);
    let (sender, receiver) = tokio::sync::mpsc::channel(64);
    tokio::spawn(async move {
        // An empty piece sends the head at once.
        if sender.send(Bytes::from_static(b"\n")).await.is_err() {
            return;
        }
        for event in past {
            if sender.send(Bytes::copy_from_slice(event.as_bytes())).await.is_err() {
                return;
            }
        }
        loop {
            tokio::select! {
                () = sender.closed() => return,
                event = live.recv() => match event {
                    Ok((_, event)) if sender.send(Bytes::copy_from_slice(event.as_bytes())).await.is_ok() => {}
                    // Lagging behind or gone: the stream breaks and the reader lists again.
                    _ => return,
                }
            }
        }
    });
    body(ReceiverStream::new(receiver))
}

struct Writer {
    terminal: bool,
    stdout: bool,
    stderr: bool,
    timestamps: bool,
    since: Option<Timestamp>,
    until: Option<Timestamp>,
}

impl Writer {
    fn write(&self, entry: &Entry, out: &mut BytesMut) {
        let wanted = self.terminal || if entry.stderr { self.stderr } else { self.stdout };
        let early = self.since.is_some_and(|s| entry.time < s);
        let late = self.until.is_some_and(|u| entry.time > u);
        if !wanted || early || late {
            return;
        }
        let stamp = if self.timestamps { format!("{:.9} ", entry.time) } else { String::new() };
        if self.terminal {
            out.put_slice(stamp.as_bytes());
            match entry.bytes.strip_suffix(b"\n") {
                Some(text) => {
                    out.put_slice(text);
                    out.put_slice(b"\r\n");
                }
                None => out.put_slice(&entry.bytes),
            }
            return;
        }
        let length = u32::try_from(stamp.len() + entry.bytes.len()).unwrap_or(u32::MAX);
        out.put_slice(&[if entry.stderr { 2 } else { 1 }, 0, 0, 0]);
        out.put_u32(length);
        out.put_slice(stamp.as_bytes());
        out.put_slice(&entry.bytes);
    }
}

/// One container's log in the engine's framing. A hasty one that is followed ends without its newest line.
pub(crate) fn logs(
    engine: &Arc<SimEngine>,
    id: &str,
    params: &LogParams,
    is_hasty: bool,
    cut: CancellationToken,
) -> Option<Body> {
    let state = engine.state.lock();
    let c = state.containers.get(id)?;
    let log = c.log.clone();
    let writer = Writer {
        terminal: c.spec.terminal,
        stdout: truth(&params.stdout),
        stderr: truth(&params.stderr),
        timestamps: truth(&params.timestamps),
        since: params.since.as_deref().and_then(instant),
        until: params.until.as_deref().and_then(instant),
    };
    let follow = truth(&params.follow);
    let by_piece = writer.terminal && engine.podman.load(std::sync::atomic::Ordering::Relaxed);
    drop(state);
    let tail = params.tail.as_deref().and_then(|t| t.parse::<usize>().ok());
    let mut position =
        tail.map_or(0, |n| log.tail(n, writer.stdout || writer.terminal, writer.stderr || writer.terminal));
    let (sender, receiver) = tokio::sync::mpsc::channel(4);
    tokio::spawn(async move {
        let mut number = 0u64;
        loop {
            let grown = log.grown();
            tokio::pin!(grown);
            grown.as_mut().enable();
            let (mut entries, mut next, flooding, closed) = log.read(position, 256);
            if is_hasty && follow && entries.pop().is_some() && !closed {
                // It is reported when another comes, and never when none does.
                next -= 1;
            }
            position = next;
            let mut out = BytesMut::new();
            for entry in &entries {
                writer.write(entry, &mut out);
                // podman sends each piece of a terminal's line by itself.
                if by_piece && sender.send(out.split().freeze()).await.is_err() {
                    return;
                }
            }
            if flooding && follow {
                for _ in 0..256 {
                    number += 1;
                    let text = format!(
                        "line {number:012} of the flood, about as long as lines are in earnest, give or take\n"
                    );
                    writer.write(
                        &Entry { time: Timestamp::now(), stderr: false, bytes: text.into() },
                        &mut out,
                    );
                }
            }
            if !out.is_empty() && sender.send(out.freeze()).await.is_err() {
                return;
            }
            if entries.is_empty() && !(flooding && follow) {
                if closed || !follow {
                    return;
                }
                tokio::select! {
                    () = &mut grown => {}
                    () = sender.closed() => return,
                    () = cut.cancelled() => return,
                }
            }
        }
    });
    Some(body(ReceiverStream::new(receiver)))
}
