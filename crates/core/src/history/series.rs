//! Coarser steps and answers: rows are aggregated into buckets with minimum, mean and maximum.

use super::chunk::Chunk;
use super::code::{Code, encode_row, scale};
use crate::usage::{FIGURES, Figure};

/// How many columns a coarser row has: minimum, mean and maximum of each figure.
pub const COARSE_COLUMNS: usize = FIGURES * 3;

/// The steps in which history is kept, the finest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Level {
    /// Every sample as it was taken.
    Fine,
    /// Minutes.
    Minute,
    /// Ten minutes.
    TenMinutes,
    /// Hours.
    Hour,
}

impl Level {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Fine, Self::Minute, Self::TenMinutes, Self::Hour];

    /// Seconds between two rows; of samples, the usual.
    pub fn step(self) -> i64 {
        match self {
            Self::Fine => 10,
            Self::Minute => 60,
            Self::TenMinutes => 600,
            Self::Hour => 3600,
        }
    }

    /// Seconds that one chunk spans.
    pub fn span(self) -> i64 {
        match self {
            Self::Fine => 600,
            Self::Minute => 2 * 3600,
            Self::TenMinutes => 86_400,
            Self::Hour => 30 * 86_400,
        }
    }

    /// How it is numbered where it is kept.
    pub fn number(self) -> i64 {
        match self {
            Self::Fine => 0,
            Self::Minute => 1,
            Self::TenMinutes => 2,
            Self::Hour => 3,
        }
    }

    /// How many codes a row has.
    pub fn columns(self) -> usize {
        if self == Self::Fine { FIGURES } else { COARSE_COLUMNS }
    }

    /// The next coarser one.
    pub fn coarser(self) -> Option<Self> {
        Self::ALL.into_iter().find(|l| *l > self)
    }
}

/// The figures of one sample.
pub type Row = [Option<f64>; FIGURES];

/// Minimum, mean and maximum of one figure.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Point {
    /// The least.
    pub min: f64,
    /// The mean over the time in which it was known.
    pub mean: f64,
    /// The most.
    pub max: f64,
}

/// What is known of one step of time.
#[derive(Debug, Clone, PartialEq)]
pub struct Bucket {
    /// Its begin, in seconds since 1970.
    pub time: i64,
    /// Each figure, where it is known.
    pub points: [Option<Point>; FIGURES],
}

/// What one series came to over a time: its mean, its largest value, and the begin of the step that has it. `None` where nothing of the figure is
/// known. Steps count alike, as they are of one length.
pub fn summary(buckets: &[Bucket], figure: usize) -> Option<Summary> {
    let mut known = buckets.iter().filter_map(|b| Some((b.time, b.points.get(figure)?.as_ref()?)));
    let (time, first) = known.next()?;
    let (mut count, mut sum, mut peak, mut at) = (1.0, first.mean, first.max, time);
    for (time, point) in known {
        count += 1.0;
        sum += point.mean;
        if point.max > peak {
            (peak, at) = (point.max, time);
        }
    }
    Some(Summary { mean: sum / count, peak, at })
}

/// What one series came to over a time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Summary {
    /// The mean of the steps of which something is known.
    pub mean: f64,
    /// The peak.
    pub peak: f64,
    /// The begin of the step with the largest value, in seconds since 1970.
    pub at: i64,
}

/// Gathers points into one.
#[derive(Debug, Clone, Copy, Default)]
struct Gather {
    min: f64,
    max: f64,
    sum: f64,
    count: u32,
}

impl Gather {
    fn add(&mut self, point: Point) {
        self.min = if self.count == 0 { point.min } else { self.min.min(point.min) };
        self.max = if self.count == 0 { point.max } else { self.max.max(point.max) };
        self.sum += point.mean;
        self.count += 1;
    }

    fn point(&self) -> Option<Point> {
        let count = f64::from(self.count);
        (self.count > 0).then(|| Point { min: self.min, mean: self.sum / count, max: self.max })
    }
}

/// The buckets of a chunk of this level, as they are kept.
pub fn buckets(level: Level, chunk: &Chunk) -> Vec<Bucket> {
    let mut out = Vec::with_capacity(chunk.times.len());
    if chunk.columns != level.columns() {
        return out;
    }
    for (time, codes) in chunk.rows() {
        let points = std::array::from_fn(|i| {
            let figure = Figure::ALL[i];
            if level == Level::Fine {
                let v = codes[i].figure(figure)?;
                return Some(Point { min: v, mean: v, max: v });
            }
            let at = |n: usize| codes[i * 3 + n].figure(figure);
            Some(Point { min: at(0)?, mean: at(1)?, max: at(2)? })
        });
        out.push(Bucket { time, points });
    }
    out
}

/// A sample as a bucket.
pub fn sample(time: i64, codes: &[Code; FIGURES]) -> Bucket {
    let points = std::array::from_fn(|i| {
        let v = codes[i].figure(Figure::ALL[i])?;
        Some(Point { min: v, mean: v, max: v })
    });
    Bucket { time, points }
}

/// Gathers buckets, in the order of time, into steps of `step` seconds that begin at whole multiples of
/// it. Steps of which nothing is known are left out: that is a gap.
pub fn coarser(buckets: impl IntoIterator<Item = Bucket>, step: i64) -> Vec<Bucket> {
    let step = step.max(1);
    let mut out: Vec<Bucket> = Vec::new();
    let mut open: Option<(i64, [Gather; FIGURES])> = None;
    let close = |open: Option<(i64, [Gather; FIGURES])>, out: &mut Vec<Bucket>| {
        if let Some((time, gathers)) = open {
            out.push(Bucket { time, points: gathers.map(|g| g.point()) });
        }
    };
    for bucket in buckets {
        let time = bucket.time.div_euclid(step) * step;
        if open.as_ref().is_none_or(|(t, _)| *t != time) {
            close(open.take(), &mut out);
            open = Some((time, [Gather::default(); FIGURES]));
        }
        if let Some((_, gathers)) = &mut open {
            for (gather, point) in gathers.iter_mut().zip(bucket.points) {
                if let Some(point) = point {
                    gather.add(point);
                }
            }
        }
    }
    close(open, &mut out);
    out
}

/// Packs coarser buckets into rows of a chunk.
pub fn push_coarse(chunk: &mut Chunk, buckets: &[Bucket]) {
    for bucket in buckets {
        let mut row = [Code::UNKNOWN; COARSE_COLUMNS];
        for (i, point) in bucket.points.iter().enumerate() {
            if let Some(p) = point {
                let code = |v: f64| Code::new((v * scale(Figure::ALL[i])).round() as u64);
                row[i * 3..i * 3 + 3].copy_from_slice(&[code(p.min), code(p.mean), code(p.max)]);
            }
        }
        chunk.push(bucket.time, &row);
    }
}

/// A sample's figures as they are kept.
pub fn codes(row: &Row) -> [Code; FIGURES] {
    encode_row(row)
}

/// Adds up series of different containers, step by step: the sum of what is known in each step.
pub fn total(all: &[Vec<Bucket>]) -> Vec<Bucket> {
    let mut sums: std::collections::BTreeMap<i64, [Option<Point>; FIGURES]> =
        std::collections::BTreeMap::new();
    for bucket in all.iter().flatten() {
        let sum = sums.entry(bucket.time).or_insert([None; FIGURES]);
        for (sum, point) in sum.iter_mut().zip(bucket.points) {
            *sum = match (*sum, point) {
                (Some(a), Some(b)) => {
                    Some(Point { min: a.min + b.min, mean: a.mean + b.mean, max: a.max + b.max })
                }
                (a, b) => a.or(b),
            };
        }
    }
    sums.into_iter().map(|(time, points)| Bucket { time, points }).collect()
}

/// Steps that people can read, in seconds; beyond the last, whole weeks.
const STEPS: [i64; 16] =
    [10, 20, 30, 60, 120, 300, 600, 1200, 1800, 3600, 7200, 10_800, 21_600, 43_200, 86_400, 604_800];

/// The level and the step that answer a range with at most `points` buckets, given how far back each
/// level reaches (seconds since 1970 of its oldest row that is kept).
pub fn resolution(from: i64, to: i64, points: u32, oldest: impl Fn(Level) -> i64) -> (Level, i64) {
    let wanted = ceil((to - from).max(1), i64::from(points.max(1)));
    let finest = Level::ALL.into_iter().find(|l| oldest(*l) <= from).unwrap_or(Level::Hour);
    let least = wanted.max(finest.step());
    let step = STEPS.into_iter().find(|s| *s >= least && s % finest.step() == 0);
    let step = step.unwrap_or_else(|| ceil(least, 604_800) * 604_800);
    // The coarsest level of which a step is whole: it has the fewest rows to be read.
    let fits = |l: &Level| *l >= finest && step % l.step() == 0;
    (Level::ALL.into_iter().rev().find(fits).unwrap_or(finest), step)
}

/// Divides and rounds up; both are positive.
fn ceil(a: i64, b: i64) -> i64 {
    (a + b - 1) / b
}

#[cfg(test)]
#[path = "../history_tests.rs"]
mod tests;
