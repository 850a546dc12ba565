//! One container's log: the last entries, up to a limit, and readers that wait for more.
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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn texts(book: &LogBook, from: u64) -> Vec<String> {
        let (entries, ..) = book.read(from, usize::MAX);
        entries.iter().map(|e| String::from_utf8_lossy(&e.bytes).into_owned()).collect()
    }

    #[test]
    fn lines_pieces_and_ends_are_distinguished() {
        let book = LogBook::default();
        book.write(false, b"one\ntwo\nhalf");
        book.write(true, b" a line\n");
        assert_eq!(texts(&book, 0), ["one\n", "two\n", "half", " a line\n"]);
        assert_eq!(texts(&book, 2), ["half", " a line\n"]);
        let (entries, next, flooding, closed) = book.read(0, 2);
        assert_eq!((entries.len(), next, flooding, closed), (2, 2, false, false));
        book.set_closed(true);
        assert!(!book.read(0, 2).3, "more is there to be read");
        assert!(book.read(2, 9).3);
    }

    #[test]
    fn a_long_line_comes_in_pieces_with_a_time_each() {
        let book = LogBook::default();
        book.write(false, &[b'x'; 2 * PIECE + 5]);
        let (entries, ..) = book.read(0, 9);
        assert_eq!(entries.iter().map(|e| e.bytes.len()).collect::<Vec<_>>(), [PIECE, PIECE, 5]);
        assert!(entries.windows(2).all(|w| w[0].time < w[1].time));
    }

    #[test]
    fn the_oldest_leave_and_whoever_reads_goes_on_with_what_is_left() {
        let book = LogBook::default();
        let line = format!("{}\n", "x".repeat(PIECE - 1));
        let count = KEPT / PIECE + 10;
        (0..count).for_each(|_| book.write(false, line.as_bytes()));
        let (entries, next, ..) = book.read(0, usize::MAX);
        assert_eq!((entries.len(), next), (KEPT / PIECE, count as u64));
    }

    #[test]
    fn the_last_lines_are_counted_by_stream_and_by_whole_lines() {
        let book = LogBook::default();
        book.write(false, b"a\n");
        book.write(true, b"b\n");
        book.write(false, b"c");
        book.write(false, b"d\n");
        assert_eq!(texts(&book, book.tail(1, true, true)), ["c", "d\n"]);
        assert_eq!(texts(&book, book.tail(2, true, true)), ["b\n", "c", "d\n"]);
        // Lines of the other stream before it do no harm: who reads one stream leaves them out.
        assert!(book.tail(1, false, true) <= 1);
        assert_eq!(texts(&book, book.tail(9, true, true)).len(), 4);
        assert_eq!(texts(&book, book.tail(0, true, true)), Vec::<String>::new());
    }

    #[test]
    fn a_flood_lasts_until_the_log_is_over() {
        let book = LogBook::default();
        book.write(false, b"a\n");
        book.flood();
        assert!(!book.read(0, 0).2, "what is written comes first");
        assert!(book.read(1, 9).2);
        book.set_closed(true);
        assert!(!book.read(1, 9).2);
    }

    proptest! {
        /// Whatever is written, in whatever portions it is read: the same bytes, and times that only grow.
        #[test]
        fn what_is_read_is_what_was_written(
            written in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..40), 0..20),
            portion in 1usize..7,
        ) {
            let book = LogBook::default();
            written.iter().for_each(|bytes| book.write(false, bytes));
            let (mut position, mut all, mut last) = (0, Vec::new(), None);
            loop {
                let (entries, next, ..) = book.read(position, portion);
                if entries.is_empty() {
                    break;
                }
                for entry in entries {
                    prop_assert!(last.is_none_or(|last| last < entry.time));
                    last = Some(entry.time);
                    all.extend_from_slice(&entry.bytes);
                }
                position = next;
            }
            prop_assert_eq!(all, written.concat());
        }
    }
}
