//! One container's log: the last entries, kept up to a limit, and readers that wait for more.
//!
//! Long lines are kept in pieces of 16 KiB, each with a time of its own, as dockerd does.

use std::collections::VecDeque;

use bytes::Bytes;
use jiff::Timestamp;
use parking_lot::Mutex;
use tokio::sync::Notify;

/// How many bytes of a log are kept; the oldest go first.
const KEPT: usize = 4 * 1024 * 1024;
const PIECE: usize = 16 * 1024;

/// One entry: a line with its line end, or a piece of one.
#[derive(Debug, Clone)]
pub(crate) struct Entry {
    pub(crate) time: Timestamp,
    pub(crate) stderr: bool,
    pub(crate) bytes: Bytes,
}

#[derive(Debug, Default)]
struct Kept {
    entries: VecDeque<Entry>,
    first: u64,
    bytes: usize,
    last: Option<Timestamp>,
    /// Lines of a flood exist only while they are read.
    flooding: bool,
    closed: bool,
}

#[derive(Debug, Default)]
pub(crate) struct LogBook {
    kept: Mutex<Kept>,
    grown: Notify,
}

impl LogBook {
    /// Writes bytes with whatever line ends they hold; what follows the last one is a piece.
    pub(crate) fn write(&self, stderr: bool, bytes: &[u8]) {
        let mut kept = self.kept.lock();
        for line in bytes.split_inclusive(|&b| b == b'\n') {
            for piece in line.chunks(PIECE) {
                // Times never stand still, so that resuming by time is exact.
                let now = Timestamp::now();
                let time = match kept.last {
                    Some(last) if last >= now => last + jiff::SignedDuration::from_nanos(1),
                    _ => now,
                };
                kept.last = Some(time);
                kept.bytes += piece.len();
                kept.entries.push_back(Entry { time, stderr, bytes: Bytes::copy_from_slice(piece) });
            }
        }
        while kept.bytes > KEPT {
            let Some(oldest) = kept.entries.pop_front() else { break };
            kept.bytes -= oldest.bytes.len();
            kept.first += 1;
        }
        drop(kept);
        self.grown.notify_waiters();
    }

    /// Adds an entry of the past, for a history that is there from the start.
    pub(crate) fn backfill(&self, time: Timestamp, stderr: bool, line: &str) {
        let mut kept = self.kept.lock();
        kept.bytes += line.len() + 1;
        kept.last = Some(time);
        kept.entries.push_back(Entry { time, stderr, bytes: Bytes::from(format!("{line}\n")) });
    }

    pub(crate) fn flood(&self) {
        self.kept.lock().flooding = true;
        self.grown.notify_waiters();
    }

    /// Tells readers whether more can come.
    pub(crate) fn set_closed(&self, closed: bool) {
        let mut kept = self.kept.lock();
        kept.closed = closed;
        kept.flooding &= !closed;
        drop(kept);
        self.grown.notify_waiters();
    }

    /// Entries from `position` on (at most `most`), the position after them, whether it floods and
    /// whether no more can come.
    pub(crate) fn read(&self, position: u64, most: usize) -> (Vec<Entry>, u64, bool, bool) {
        let kept = self.kept.lock();
        let from = position.max(kept.first);
        let skip = usize::try_from(from - kept.first).unwrap_or(usize::MAX);
        let entries: Vec<Entry> = kept.entries.iter().skip(skip).take(most).cloned().collect();
        let next = from + entries.len() as u64;
        let drained = next == kept.first + kept.entries.len() as u64;
        (entries, next, kept.flooding && drained, kept.closed && drained)
    }

    /// The position from which the last `lines` lines begin.
    pub(crate) fn tail(&self, lines: usize, stdout: bool, stderr: bool) -> u64 {
        let kept = self.kept.lock();
        let mut left = lines;
        let mut position = kept.first + kept.entries.len() as u64;
        for entry in kept.entries.iter().rev() {
            let wanted = if entry.stderr { stderr } else { stdout };
            if wanted && entry.bytes.ends_with(b"\n") {
                if left == 0 {
                    return position;
                }
                left -= 1;
            }
            position -= 1;
        }
        kept.first
    }

    /// Waits until something may be different from when `Self::read` was called just before.
    pub(crate) fn grown(&self) -> tokio::sync::futures::Notified<'_> {
        self.grown.notified()
    }
}
