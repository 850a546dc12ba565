//! Reading kept lines of one container's name, on a thread that may block.

use std::collections::VecDeque;
use std::sync::Arc;

use gubernum_core::logs::LogLine;
use gubernum_core::logs::block::{Block, nanos};
use gubernum_store::segments::{Last, Reader, Segment, Segments};
use jiff::Timestamp;

use crate::logs::merger::Plan;
use crate::logs::merger::ring::Ring;

/// What the reader gives.
pub(super) enum Part {
    /// Lines that are wanted, and the time up to which all have been looked at.
    Lines(Vec<LogLine>, Option<Timestamp>),
    /// A part could not be read.
    Damaged(String),
}

/// All kept lines that are wanted of one container, block by block. Whoever reads holds a thread for one block only:
/// a listener who takes nothing for a while keeps nobody else from reading.
pub(super) struct KeptLines {
    plan: Arc<Plan>,
    /// The present container's.
    id: String,
    segments: VecDeque<Segment>,
    open: Option<Reader>,
    last: Option<Last>,
}

impl KeptLines {
    pub(super) fn new(segments: &Segments, host: &str, name: &str, id: String, plan: Arc<Plan>) -> Self {
        Self { plan, id, segments: segments.of(host, name).into(), open: None, last: None }
    }

    /// The parts of the next block; none: there is no more.
    pub(super) fn next(&mut self) -> Option<Vec<Part>> {
        let from = self.plan.since.map_or(i64::MIN, nanos);
        let to = self.plan.until.map_or(i64::MAX, nanos);
        loop {
            let Some(reader) = &mut self.open else {
                let segment = self.segments.pop_front()?;
                match Reader::open(&segment.path) {
                    Ok(reader) => self.open = Some(reader),
                    Err(e) => {
                        let name = segment.path.display();
                        let text = format!("kept lines in {name} cannot be read: {e}");
                        return Some(vec![Part::Damaged(text)]);
                    }
                }
                continue;
            };
            let ours = reader.id() == self.id;
            // To tell where the engine's log continues, the newest line matters whatever range is wanted.
            match reader.next(from, if ours { i64::MAX } else { to }) {
                None => self.open = None,
                Some(Err(e)) => return Some(vec![Part::Damaged(e.to_string())]),
                Some(Ok(block)) => {
                    if ours {
                        let times = block.metas.iter().filter_map(|m| m.nanos);
                        times.for_each(|n| Last::count(&mut self.last, n));
                    }
                    return Some(parts(&block, &self.plan, (from, to)));
                }
            }
        }
    }

    /// The last line that is kept of this very container, as far as was read.
    pub(super) fn last(&self) -> Option<Last> {
        self.last
    }
}

/// The lines of a block that are wanted, in portions.
fn parts(block: &Block, plan: &Plan, range: (i64, i64)) -> Vec<Part> {
    let reached = block.span().and_then(|(_, t)| Timestamp::from_nanosecond(i128::from(t)).ok());
    let mut rest = wanted_lines(block, plan, range).into_iter().peekable();
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

fn wanted_lines(block: &Block, plan: &Plan, (from, to): (i64, i64)) -> Vec<LogLine> {
    let mut lines = Vec::new();
    plan.filter.scan(&block.text, &block.starts, |n, _| {
        let meta = block.metas[n];
        let within = meta.nanos.is_none_or(|t| t >= from && t <= to);
        if within && plan.wants(meta.stream) {
            lines.extend(block.line(n));
        }
    });
    lines
}

/// Puts the last kept lines that are wanted into `ring`; gives the last line that is kept of this very container. Reads
/// from the newest block backwards and holds one block at a time.
pub(super) fn tail(
    segments: &Segments,
    host: &str,
    name: &str,
    id: &str,
    plan: &Plan,
    ring: &mut Ring,
) -> Option<Last> {
    let from = plan.since.map_or(i64::MIN, nanos);
    let to = plan.until.map_or(i64::MAX, nanos);
    let mut newest: Option<Last> = None;
    let mut room = true;
    for segment in segments.of(host, name).iter().rev() {
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
            let Some(block) = reader.block_at(&place) else { continue };
            if counts {
                let mut last = None;
                block.metas.iter().filter_map(|m| m.nanos).for_each(|n| Last::count(&mut last, n));
                newest = match (newest, last) {
                    // Lines of one moment may stand in two blocks.
                    (Some(a), Some(b)) if a.nanos == b.nanos => {
                        Some(Last { nanos: a.nanos, count: a.count + b.count })
                    }
                    (a, b) => a.or(b),
                };
            }
            if wanted {
                room = ring.extend_front(wanted_lines(&block, plan, (from, to)).into_iter().rev());
            }
        }
    }
    newest
}
