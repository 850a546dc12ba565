//! The last lines of a log, bounded in number and in bytes.

use std::collections::VecDeque;

use gubernum_core::logs::LogLine;

/// What a line takes besides its text: its record, the spare room of the queue, and the allocator's rounding.
const LINE_COST: usize = 128;

/// Holds the last lines that were put into it.
pub(super) struct Ring {
    lines: VecDeque<LogLine>,
    bytes: usize,
    most_lines: usize,
    most_bytes: usize,
    cut: bool,
}

fn cost(line: &LogLine) -> usize {
    line.bytes.len() + LINE_COST
}

impl Ring {
    /// The most lines, and the most bytes together.
    pub(super) fn new(most_lines: usize, most_bytes: usize) -> Self {
        Self { lines: VecDeque::new(), bytes: 0, most_lines, most_bytes, cut: false }
    }

    /// Whether nothing is in it.
    pub(super) fn is_empty(&self) -> bool {
        self.lines.is_empty()
    }

    /// Puts lines behind those that are there.
    pub(super) fn extend(&mut self, lines: impl IntoIterator<Item = LogLine>) {
        for line in lines {
            self.bytes += cost(&line);
            self.lines.push_back(line);
            self.shrink();
        }
    }

    /// Puts earlier lines before those that are there, the latest of them first; `false` when there is no room.
    pub(super) fn extend_front(&mut self, latest_first: impl IntoIterator<Item = LogLine>) -> bool {
        for line in latest_first {
            if self.lines.len() >= self.most_lines {
                return false;
            }
            let cost = cost(&line);
            if self.bytes + cost > self.most_bytes && !self.lines.is_empty() {
                self.cut = true;
                return false;
            }
            self.bytes += cost;
            self.lines.push_front(line);
        }
        self.lines.len() < self.most_lines
    }

    fn shrink(&mut self) {
        while self.lines.len() > self.most_lines || (self.bytes > self.most_bytes && self.lines.len() > 1) {
            self.cut |= self.lines.len() <= self.most_lines;
            if let Some(line) = self.lines.pop_front() {
                self.bytes -= cost(&line);
            }
        }
    }

    /// Whether fewer lines are held than were asked for, for want of room.
    pub(super) fn was_cut(&self) -> bool {
        self.cut
    }

    /// The lines, oldest first.
    pub(super) fn into_lines(self) -> VecDeque<LogLine> {
        self.lines
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use gubernum_core::logs::Stream;
    use proptest::prelude::*;

    fn line(n: usize, length: usize) -> LogLine {
        LogLine {
            stream: Stream::Stdout,
            time: None,
            bytes: format!("{n:0length$}").into_bytes(),
            continued: false,
        }
    }

    proptest! {
        /// Whatever is put in at either end, the newest stay, in order and within the bounds.
        #[test]
        fn the_newest_stay(before in 0usize..60, after in 0usize..60, most in 1usize..40, room in 200usize..4000) {
            let mut ring = Ring::new(most, room);
            let all: Vec<LogLine> = (0..before + after).map(|n| line(n, 4)).collect();
            ring.extend_front(all[..before].iter().rev().cloned());
            ring.extend(all[before..].iter().cloned());
            let cut = ring.was_cut();
            let held: Vec<LogLine> = ring.into_lines().into();
            prop_assert!(held.len() <= most);
            prop_assert!(held.iter().map(cost).sum::<usize>() <= room.max(cost(&all.first().cloned().unwrap_or(line(0, 4)))));
            prop_assert_eq!(&held[..], &all[all.len() - held.len()..]);
            prop_assert!(cut || held.len() == most.min(all.len()));
        }
    }
}
