//! Reading kept lines of one container's name, on a thread that may block.

use gubernum_core::logs::LogLine;
use gubernum_core::logs::block::nanos;
use gubernum_store::segments::{Last, Reader, Segment, Segments};
use jiff::Timestamp;
use tokio::sync::mpsc;

use super::Plan;
use super::ring::Ring;

/// What the reader gives.
pub(super) enum Part {
    /// Lines that are wanted, and the time up to which all have been looked at.
    Lines(Vec<LogLine>, Option<Timestamp>),
    /// A part could not be read.
    Damaged(String),
    /// The end: the last line that is kept of this very container.
    Over(Option<Last>),
}

/// Lines that are handed on together.
const TOGETHER: usize = 512;

/// Reads all kept lines that are wanted into `sender`. `id` is the present container's.
pub(super) fn read(
    segments: &Segments,
    host: &str,
    name: &str,
    id: &str,
    plan: &Plan,
    sender: &mpsc::Sender<Part>,
) {
    let from = plan.since.map_or(i64::MIN, nanos);
    let to = plan.until.map_or(i64::MAX, nanos);
    let mut last = None;
    for segment in segments.of(host, name) {
        if let Err(part) = one(&segment, id, (from, to), plan, sender, &mut last)
            && sender.blocking_send(part).is_err()
        {
            return;
        }
        if sender.is_closed() {
            return;
        }
    }
    let _ = sender.blocking_send(Part::Over(last));
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
                let mut lines = Vec::new();
                plan.filter.scan(&block.text, &block.starts, |n, _| {
                    let meta = block.metas[n];
                    let within = meta.nanos.is_none_or(|t| t >= from && t <= to);
                    if within && plan.wants(meta.stream) {
                        lines.extend(block.line(n));
                    }
                });
                room = ring.extend_front(lines.into_iter().rev());
            }
        }
    }
    newest
}

fn one(
    segment: &Segment,
    id: &str,
    (from, to): (i64, i64),
    plan: &Plan,
    sender: &mpsc::Sender<Part>,
    last: &mut Option<Last>,
) -> Result<(), Part> {
    let name = segment.path.display();
    let mut reader = Reader::open(&segment.path)
        .map_err(|e| Part::Damaged(format!("kept lines in {name} cannot be read: {e}")))?;
    let ours = reader.id() == id;
    // To tell where the engine's own log goes on, the newest line matters whatever range is wanted.
    while let Some(block) = reader.next(from, if ours { i64::MAX } else { to }) {
        let block = match block {
            Ok(block) => block,
            Err(e) => {
                if sender.blocking_send(Part::Damaged(e.to_string())).is_err() {
                    return Ok(());
                }
                continue;
            }
        };
        if ours {
            block.metas.iter().filter_map(|m| m.nanos).for_each(|n| Last::count(last, n));
        }
        let mut lines = Vec::new();
        let mut take = |n: usize| {
            let meta = block.metas[n];
            let within = meta.nanos.is_none_or(|t| t >= from && t <= to);
            if within && plan.wants(meta.stream) {
                lines.extend(block.line(n));
            }
        };
        plan.filter.scan(&block.text, &block.starts, |n, _| take(n));
        let reached = block.span().and_then(|(_, t)| Timestamp::from_nanosecond(i128::from(t)).ok());
        let mut rest = lines;
        while rest.len() > TOGETHER {
            let after = rest.split_off(TOGETHER);
            if sender.blocking_send(Part::Lines(rest, None)).is_err() {
                return Ok(());
            }
            rest = after;
        }
        if sender.blocking_send(Part::Lines(rest, reached)).is_err() {
            return Ok(());
        }
    }
    Ok(())
}
