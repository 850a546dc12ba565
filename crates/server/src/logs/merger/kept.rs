//! Reads the kept lines of one container name, on blocking threads: blocks are unpacked and searched on all cores.

use std::collections::VecDeque;
use std::sync::Arc;

use gubernum_core::logs::LogLine;
use gubernum_core::logs::block::{DamagedBlock, EncodedBlock, nanos};
use gubernum_core::logs::index::Query;
use gubernum_store::segments::{BlockPlace, Last, PackedBlock, Reader, Segment, Segments, Unpacker};
use jiff::Timestamp;
use rayon::prelude::*;

use crate::logs::merger::Plan;
use crate::logs::merger::ring::Ring;

/// How many blocks are unpacked and searched together. Those of the first releases hold 256 KiB of text: what waits stays
/// below 20 MiB for each reader.
const BLOCKS_TOGETHER: usize = 32;
/// How many segments are looked through together for blocks that may have what is wanted.
const SEGMENTS_TOGETHER: usize = 8;

/// What the reader gives.
pub(super) enum Part {
    /// Lines that are wanted, and the time up to which all have been looked at.
    Lines(Vec<LogLine>, Option<Timestamp>),
    /// A part could not be read.
    Damaged(String),
}

/// All kept lines that are wanted of one container, some blocks at a time. Whoever reads holds a thread for these only:
/// a listener who takes nothing for a while keeps nobody else from reading.
pub(super) struct KeptLines {
    plan: Arc<Plan>,
    /// The present container's.
    id: String,
    segments: VecDeque<Segment>,
    /// What has been found and not been read yet.
    found: VecDeque<Found>,
    last: Option<Last>,
}

/// What was found in a segment.
enum Found {
    Block(Arc<Reader>, BlockPlace),
    Damaged(String),
    /// Everything up to this time has been looked at.
    Reached(i64),
}

impl KeptLines {
    pub(super) fn new(segments: &Segments, host: &str, name: &str, id: String, plan: Arc<Plan>) -> Self {
        let segments = segments.list(host, name).into();
        Self { plan, id, segments, found: VecDeque::new(), last: None }
    }

    /// The parts of the next blocks; none: there is no more.
    pub(super) fn next(&mut self) -> Option<Vec<Part>> {
        if self.found.is_empty() {
            if self.segments.is_empty() {
                return None;
            }
            self.find();
        }
        let together = self.found.len().min(BLOCKS_TOGETHER);
        let plan = &*self.plan;
        let parts = |unpacker: &mut Unpacker, found: Found| match found {
            Found::Block(reader, place) => match reader.packed_at(&place) {
                Ok(packed) => parts_of(&packed, plan, unpacker),
                Err(damaged) => vec![Part::Damaged(damaged.to_string())],
            },
            Found::Damaged(text) => vec![Part::Damaged(text)],
            Found::Reached(nanos) => vec![Part::Lines(Vec::new(), time(nanos))],
        };
        let blocks: Vec<Found> = self.found.drain(..together).collect();
        let all: Vec<Vec<Part>> = blocks.into_par_iter().map_init(Unpacker::default, parts).collect();
        Some(joined(all.into_iter().flatten(), self.plan.portion))
    }

    /// Looks through the next segments for blocks that may have what is wanted.
    fn find(&mut self) {
        let together = self.segments.len().min(SEGMENTS_TOGETHER);
        let segments: Vec<Segment> = self.segments.drain(..together).collect();
        let (plan, id) = (&*self.plan, self.id.as_str());
        let all: Vec<_> = segments.into_par_iter().map(|s| look_through(&s, id, plan)).collect();
        for (last, found) in all {
            self.last = later(self.last, last);
            self.found.extend(found);
        }
    }

    /// The last line that is kept of this very container, as far as was read.
    pub(super) fn last(&self) -> Option<Last> {
        self.last
    }
}

/// What there is to look at in a segment; and its last line, wanted or not, where it is this container's: that tells where
/// the engine's log continues.
fn look_through(segment: &Segment, id: &str, plan: &Plan) -> (Option<Last>, Vec<Found>) {
    let mut reader = match Reader::open(&segment.path) {
        Ok(reader) => reader,
        Err(e) => {
            let text = format!("kept lines in {} cannot be read: {e}", segment.path.display());
            return (None, vec![Found::Damaged(text)]);
        }
    };
    let candidates = reader.candidates(range(plan), plan.filter.query());
    let last = (reader.id() == id).then(|| reader.last_line()).flatten();
    let reader = Arc::new(reader);
    let blocks = candidates.places.into_iter().map(|place| Found::Block(reader.clone(), place));
    let damaged = candidates.is_damaged.then(|| Found::Damaged(reader.damaged().to_string()));
    (last, blocks.chain(damaged).chain(candidates.reached.map(Found::Reached)).collect())
}

/// The same lines in as few parts of up to `most` lines as can be: the merger is asked to take each part by itself.
fn joined(parts: impl Iterator<Item = Part>, most: usize) -> Vec<Part> {
    let mut all: Vec<Part> = Vec::new();
    for part in parts {
        match (all.last_mut(), part) {
            (Some(Part::Lines(before, so_far)), Part::Lines(lines, reached))
                if before.len() + lines.len() <= most =>
            {
                before.extend(lines);
                *so_far = reached.or(*so_far);
            }
            (_, part) => all.push(part),
        }
    }
    all
}

fn time(nanos: i64) -> Option<Timestamp> {
    Timestamp::from_nanosecond(i128::from(nanos)).ok()
}

/// The times that are wanted.
fn range(plan: &Plan) -> (i64, i64) {
    (plan.since.map_or(i64::MIN, nanos), plan.until.map_or(i64::MAX, nanos))
}

/// The later of two last lines; of one moment there are as many as both have.
fn later(a: Option<Last>, b: Option<Last>) -> Option<Last> {
    match (a, b) {
        (Some(a), Some(b)) if a.nanos == b.nanos => Some(Last { nanos: a.nanos, count: a.count + b.count }),
        (Some(a), Some(b)) => Some(if a.nanos > b.nanos { a } else { b }),
        (a, b) => a.or(b),
    }
}

/// The lines of a block that are wanted, in portions.
fn parts_of(packed: &PackedBlock, plan: &Plan, unpacker: &mut Unpacker) -> Vec<Part> {
    let bytes = packed.unpack(unpacker);
    let lines = match bytes.and_then(|bytes| wanted_lines(bytes, plan).map_err(|_| packed.damaged())) {
        Ok(lines) => lines,
        Err(damaged) => return vec![Part::Damaged(damaged.to_string())],
    };
    let reached = time(packed.last());
    let mut rest = lines.into_iter().peekable();
    let mut parts = Vec::new();
    loop {
        let portion: Vec<LogLine> = rest.by_ref().take(plan.portion).collect();
        let is_last = rest.peek().is_none();
        parts.push(Part::Lines(portion, reached.filter(|_| is_last)));
        if is_last {
            break;
        }
    }
    parts
}

/// The lines of an encoded block that are wanted: only where there are any is more than its text looked at.
fn wanted_lines(bytes: &[u8], plan: &Plan) -> Result<Vec<LogLine>, DamagedBlock> {
    let block = EncodedBlock::read(bytes)?;
    let (from, to) = range(plan);
    let mut hits: Vec<(usize, &[u8])> = Vec::new();
    plan.filter.scan(block.text, |n, line| hits.push((n, line)));
    let metas = block.metas(hits.last().map_or(0, |(n, _)| n + 1))?;
    let lines = hits.into_iter().filter_map(|(n, line)| {
        let meta = metas.get(n)?;
        let is_within = meta.nanos.is_none_or(|t| t >= from && t <= to);
        (is_within && plan.wants(meta.stream)).then(|| meta.line(line))
    });
    Ok(lines.collect())
}

/// Puts the last kept lines that are wanted into `ring`; returns the last line that is kept of this very container. Reads
/// from the newest block backwards and holds one block at a time.
pub(super) fn tail(
    segments: &Segments,
    host: &str,
    name: &str,
    id: &str,
    plan: &Plan,
    ring: &mut Ring,
) -> Option<Last> {
    let (from, to) = range(plan);
    let mut newest: Option<Last> = None;
    let mut room = true;
    let mut unpacker = Unpacker::default();
    for segment in segments.list(host, name).iter().rev() {
        // A damaged part only means fewer lines here.
        let Ok(mut reader) = Reader::open(&segment.path) else { continue };
        let ours = reader.id() == id;
        if !room && (!ours || newest.is_some()) {
            break;
        }
        for place in reader.places().into_iter().rev() {
            let counts = ours && newest.is_none_or(|l| place.last >= l.nanos);
            let wanted = room && place.last >= from && place.first <= to;
            if !counts && !wanted {
                continue;
            }
            if counts && let Some(block) = reader.block_at(&place, &Query::Anything) {
                let mut last = None;
                block.metas.iter().filter_map(|m| m.nanos).for_each(|n| Last::count(&mut last, n));
                // Lines of one moment may appear in two blocks.
                newest = later(newest, last);
            }
            if wanted && reader.may_have(&place, plan.filter.query()) {
                let packed = reader.packed_at(&place).ok();
                let bytes = packed.as_ref().and_then(|packed| packed.unpack(&mut unpacker).ok());
                let lines = bytes.and_then(|bytes| wanted_lines(bytes, plan).ok()).unwrap_or_default();
                room = ring.extend_front(lines.into_iter().rev());
            }
        }
    }
    newest
}

#[cfg(test)]
mod tests {
    use gubernum_core::logs::Stream;
    use rstest::rstest;

    use super::*;

    fn lines(seconds: &[i64], reached: Option<i64>) -> Part {
        let at = |second: i64| Timestamp::from_second(second).ok();
        let line = |second: &i64| LogLine {
            stream: Stream::Stdout,
            time: at(*second),
            bytes: second.to_string().into_bytes(),
            continued: false,
        };
        Part::Lines(seconds.iter().map(line).collect(), reached.and_then(at))
    }

    /// Parts as text: how many lines and up to when, or that something is damaged.
    fn told(parts: Vec<Part>) -> Vec<String> {
        let part = |part| match part {
            Part::Lines(lines, reached) => {
                format!("{} to {:?}", lines.len(), reached.map(|r: Timestamp| r.as_second()))
            }
            Part::Damaged(text) => text,
        };
        parts.into_iter().map(part).collect()
    }

    #[rstest]
    #[case::blocks_without_a_match(vec![lines(&[], Some(1)), lines(&[], Some(2)), lines(&[], Some(3))], &["0 to Some(3)"])]
    #[case::a_match_in_each(vec![lines(&[1], Some(1)), lines(&[2], Some(2)), lines(&[3], Some(3))], &["3 to Some(3)"])]
    #[case::as_many_as_may_be(vec![lines(&[1, 2, 3], Some(3)), lines(&[4], Some(4)), lines(&[5], Some(5))], &["4 to Some(4)", "1 to Some(5)"])]
    #[case::half_a_block(vec![lines(&[1], Some(1)), lines(&[2, 3], None)], &["3 to Some(1)"])]
    #[case::half_a_block_first(vec![lines(&[1, 2], None), lines(&[3], Some(3))], &["3 to Some(3)"])]
    #[case::nothing(vec![], &[])]
    fn parts_are_as_few_as_can_be(#[case] parts: Vec<Part>, #[case] expected: &[&str]) {
        assert_eq!(told(joined(parts.into_iter(), 4)), expected);
    }

    #[test]
    fn what_is_damaged_stays_where_it_was() {
        let parts = vec![lines(&[1], Some(1)), Part::Damaged("here".into()), lines(&[2], Some(2))];
        assert_eq!(told(joined(parts.into_iter(), 4)), ["1 to Some(1)", "here", "1 to Some(2)"]);
    }

    #[test]
    fn the_later_last_line_counts_and_equal_ones_add_up() {
        let last = |nanos, count| Some(Last { nanos, count });
        let told = |l: Option<Last>| l.map(|l| (l.nanos, l.count));
        assert_eq!(told(later(last(5, 2), last(7, 1))), Some((7, 1)));
        assert_eq!(told(later(last(7, 1), last(5, 2))), Some((7, 1)));
        assert_eq!(told(later(last(7, 1), last(7, 3))), Some((7, 4)));
        assert_eq!((told(later(None, last(7, 3))), told(later(None, None))), (Some((7, 3)), None));
    }
}
