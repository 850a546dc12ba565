//! Merges lines of many logs by time.
//!
//! A line may go out once no source can bring an earlier one: each source says how far it has been read,
//! by its lines or by [`Merge::reach`] when it has none to give. Lines of one source stay in their order
//! whatever their times say.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BinaryHeap};

use jiff::Timestamp;

#[derive(Debug)]
struct Waiting<T> {
    time: Timestamp,
    source: usize,
    number: u64,
    item: T,
}

impl<T> Waiting<T> {
    fn key(&self) -> (Timestamp, usize, u64) {
        (self.time, self.source, self.number)
    }
}

impl<T> PartialEq for Waiting<T> {
    fn eq(&self, other: &Self) -> bool {
        self.key() == other.key()
    }
}

impl<T> Eq for Waiting<T> {}

impl<T> PartialOrd for Waiting<T> {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl<T> Ord for Waiting<T> {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        self.key().cmp(&other.key())
    }
}

/// Merges sources that are numbered by the caller.
#[derive(Debug)]
pub struct Merge<T> {
    heap: BinaryHeap<Reverse<Waiting<T>>>,
    /// How far each source that still reads its past has been read.
    reached: BTreeMap<usize, Timestamp>,
    /// The last time of each source.
    last: BTreeMap<usize, Timestamp>,
    number: u64,
}

impl<T> Merge<T> {
    /// Of these sources, none of which has been read yet.
    pub fn new(sources: impl IntoIterator<Item = usize>) -> Self {
        let reached = sources.into_iter().map(|s| (s, Timestamp::MIN)).collect();
        Self { heap: BinaryHeap::new(), reached, last: BTreeMap::new(), number: 0 }
    }

    /// Adds a source that has not been read yet and that keeps the others waiting.
    pub fn wait_for(&mut self, source: usize) {
        self.reached.insert(source, Timestamp::MIN);
    }

    /// Takes the next line of a source. One without a time is put with the line before it.
    pub fn push(&mut self, source: usize, time: Option<Timestamp>, item: T) {
        let before = self.last.get(&source).copied().unwrap_or(Timestamp::MIN);
        let time = time.map_or(before, |t| t.max(before));
        self.last.insert(source, time);
        self.reach(source, time);
        self.number += 1;
        self.heap.push(Reverse(Waiting { time, source, number: self.number, item }));
    }

    /// A source has been read up to this time; what comes from it is not earlier.
    pub fn reach(&mut self, source: usize, time: Timestamp) {
        if let Some(reached) = self.reached.get_mut(&source) {
            *reached = (*reached).max(time);
        }
    }

    /// A source keeps nobody waiting any more: it has ended, or has come to the present, where lines only
    /// have to ripen (see [`Merge::next`]).
    pub fn release(&mut self, source: usize) {
        self.reached.remove(&source);
    }

    /// Whether a source still reads its past and keeps the others waiting.
    pub fn is_read_back(&self, source: usize) -> bool {
        self.reached.contains_key(&source)
    }

    /// How far all sources that still read their past have been read; `None` when none does.
    pub fn reached(&self) -> Option<Timestamp> {
        self.reached.values().min().copied()
    }

    /// The sources that keep others waiting: those read the least far.
    pub fn behind(&self) -> Vec<usize> {
        let Some(least) = self.reached() else { return Vec::new() };
        self.reached.iter().filter(|(_, t)| **t == least).map(|(s, _)| *s).collect()
    }

    /// How many lines wait.
    pub fn waiting(&self) -> usize {
        self.heap.len()
    }

    /// The next line that may go out, with its source. `ripe` says whether a line has waited long enough
    /// that nothing earlier can still be on its way from a source that has come to the present.
    pub fn next(&mut self, ripe: impl FnOnce(&T) -> bool) -> Option<(usize, T)> {
        let first = &self.heap.peek()?.0;
        if self.reached().is_some_and(|least| first.time > least) || !ripe(&first.item) {
            return None;
        }
        self.heap.pop().map(|Reverse(w)| (w.source, w.item))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    fn drain(merge: &mut Merge<i64>) -> Vec<(usize, i64)> {
        std::iter::from_fn(|| merge.next(|_| true)).collect()
    }

    #[test]
    fn a_line_waits_until_nothing_earlier_can_come() {
        let mut merge = Merge::new([0, 1]);
        merge.push(0, Some(at(10)), 10);
        assert_eq!(drain(&mut merge), []);
        assert_eq!(merge.behind(), [1]);
        merge.push(1, Some(at(5)), 5);
        assert_eq!(drain(&mut merge), [(1, 5)]);
        merge.reach(1, at(12));
        assert_eq!(drain(&mut merge), [(0, 10)]);
        merge.push(1, Some(at(20)), 20);
        merge.release(0);
        merge.release(1);
        assert_eq!(merge.next(|_| false), None);
        assert_eq!(drain(&mut merge), [(1, 20)]);
        assert_eq!((merge.waiting(), merge.reached()), (0, None));
    }

    #[test]
    fn lines_without_a_time_or_out_of_time_stay_in_their_place() {
        let mut merge = Merge::new([0]);
        merge.push(0, Some(at(10)), 1);
        merge.push(0, None, 2);
        merge.push(0, Some(at(3)), 3);
        merge.release(0);
        assert_eq!(drain(&mut merge), [(0, 1), (0, 2), (0, 3)]);
    }

    proptest! {
        #[test]
        fn the_merged_order_is_that_of_the_times(sources in proptest::collection::vec(proptest::collection::vec(0i64..1000, 0..40), 1..6)) {
            let mut merge = Merge::new(0..sources.len());
            let sorted: Vec<Vec<i64>> = sources.into_iter().map(|mut s| { s.sort_unstable(); s }).collect();
            let mut all: Vec<i64> = sorted.iter().flatten().copied().collect();
            all.sort_unstable();
            let mut places = vec![0; sorted.len()];
            let mut out = Vec::new();
            // Only who keeps the others waiting is read, as the service does.
            while merge.reached().is_some() || merge.waiting() > 0 {
                for source in merge.behind() {
                    match sorted[source].get(places[source]) {
                        Some(&second) => { merge.push(source, Some(at(second)), second); places[source] += 1; }
                        None => merge.release(source),
                    }
                }
                out.extend(drain(&mut merge).into_iter().map(|(_, second)| second));
            }
            prop_assert_eq!(out, all);
        }
    }
}
