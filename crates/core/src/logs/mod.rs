//! From log bytes to log lines: each line whole, with its stream and the engine's time.
//!
//! Engines prefix each message with its time and hand over messages in pieces: a long line comes as
//! several, each with a time of its own. [`LineAssembler`] joins them again. Splitting the
//! engine's frames from the wire is the engine crate's work.

pub mod block;
pub mod filter;
pub mod index;
pub mod level;
pub mod merge;
pub mod retention;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// The longest line handed on whole, in bytes. A longer one comes in pieces of this size, each but
/// the last marked as continued.
pub const MAX_LINE: usize = 4 * 1024 * 1024;

/// dockerd cuts lines into messages of this many bytes.
const MESSAGE_PIECE: usize = 16 * 1024;

/// Where, inside a long line of a terminal's log, the engine puts the time of the next piece. The
/// log has no frames that would tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pieces {
    /// After every 16 KiB of the line.
    Every16K,
    /// At the beginning of something the engine sent at once, and so of a read.
    AtReads,
}

/// The output stream of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Stream {
    /// Standard output.
    Stdout,
    /// Standard error.
    Stderr,
    /// A terminal, which mixes both.
    Terminal,
}

/// One line of a log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogLine {
    /// The output stream.
    pub stream: Stream,
    /// When the engine got it; absent when the engine did not say.
    pub time: Option<Timestamp>,
    /// Its bytes without the line end; not always UTF-8.
    pub bytes: Vec<u8>,
    /// The line is longer than [`MAX_LINE`] and goes on in the next one of its stream.
    pub continued: bool,
}

#[derive(Debug, Default)]
struct Open {
    begun: bool,
    time: Option<Timestamp>,
    bytes: Vec<u8>,
    /// Bytes since the last time prefix, to find the next one where messages are not framed.
    piece: usize,
}

/// Joins the payloads of frames into lines, each stream on its own.
#[derive(Debug, Default)]
pub struct LineAssembler {
    stdout: Open,
    stderr: Open,
    terminal: Open,
    held: Vec<u8>,
}

impl LineAssembler {
    /// An assembler with nothing in hand.
    pub fn new() -> Self {
        Self::default()
    }

    /// Takes the payload of one frame, which begins with a time.
    ///
    /// ```
    /// use gubernum_core::logs::{LineAssembler, Stream};
    /// let (mut lines, mut out) = (LineAssembler::new(), Vec::new());
    /// lines.frame(Stream::Stdout, b"2026-11-23T05:30:00Z rea", &mut out);
    /// assert!(out.is_empty());
    /// lines.frame(Stream::Stdout, b"2026-11-23T05:30:00Z dy\n", &mut out);
    /// assert_eq!(out[0].bytes, b"ready");
    /// ```
    pub fn frame(&mut self, stream: Stream, payload: &[u8], out: &mut Vec<LogLine>) {
        let open = match stream {
            Stream::Stdout => &mut self.stdout,
            Stream::Stderr => &mut self.stderr,
            Stream::Terminal => &mut self.terminal,
        };
        let mut rest = payload;
        if open.begun
            && let Some((_, after)) = split_time(rest)
        {
            rest = after;
        }
        while !rest.is_empty() {
            if !open.begun {
                rest = open.begin(rest);
            }
            let end = memchr::memchr(b'\n', rest);
            open.push(stream, &rest[..end.unwrap_or(rest.len())], out);
            if end.is_some() {
                open.finish(stream, out);
            }
            rest = end.map_or(&[], |end| &rest[end + 1..]);
        }
    }

    /// Takes bytes of a terminal's log, which has no frames: they may break anywhere.
    pub fn raw(&mut self, bytes: &[u8], pieces: Pieces, out: &mut Vec<LogLine>) {
        let stream = Stream::Terminal;
        let held;
        let mut rest = if self.held.is_empty() {
            bytes
        } else {
            self.held.extend_from_slice(bytes);
            held = std::mem::take(&mut self.held);
            &held[..]
        };
        let open = &mut self.terminal;
        let piece_limit = if pieces == Pieces::AtReads { usize::MAX } else { MESSAGE_PIECE };
        let mut read_begins = pieces == Pieces::AtReads;
        while !rest.is_empty() {
            // A time may appear here, wholly or with its end in the next read.
            let piece_begins = open.begun && (open.piece == piece_limit || std::mem::take(&mut read_begins));
            let expects_time = !open.begun || piece_begins;
            let unfinished =
                rest.len() < TIME_LONGEST && memchr::memchr(b'\n', rest).is_none() && may_be_time(rest);
            if expects_time && unfinished && split_time(rest).is_none() {
                self.held = rest.to_vec();
                return;
            }
            if !open.begun {
                rest = open.begin(rest);
            } else if piece_begins {
                open.piece = 0;
                if let Some((_, after)) = split_time(rest) {
                    rest = after;
                }
            }
            let room = piece_limit - open.piece;
            let window = &rest[..rest.len().min(room)];
            let end = memchr::memchr(b'\n', window);
            let taken = end.unwrap_or(window.len());
            open.push(stream, &window[..taken], out);
            open.piece += taken;
            if end.is_some() {
                if open.bytes.last() == Some(&b'\r') {
                    open.bytes.pop();
                }
                open.finish(stream, out);
            }
            rest = &rest[taken + usize::from(end.is_some())..];
        }
    }

    /// The stream has ended: hands over what has no line end.
    pub fn end(&mut self, out: &mut Vec<LogLine>) {
        let held = std::mem::take(&mut self.held);
        if !held.is_empty() {
            let open = &mut self.terminal;
            let rest = if open.begun {
                split_time(&held).map_or(&held[..], |(_, rest)| rest)
            } else {
                open.begin(&held)
            };
            open.bytes.extend_from_slice(rest);
        }
        for (stream, open) in [
            (Stream::Stdout, &mut self.stdout),
            (Stream::Stderr, &mut self.stderr),
            (Stream::Terminal, &mut self.terminal),
        ] {
            if open.begun {
                open.finish(stream, out);
            }
        }
    }
}

impl Open {
    fn begin<'a>(&mut self, bytes: &'a [u8]) -> &'a [u8] {
        self.begun = true;
        self.piece = 0;
        match split_time(bytes) {
            Some((time, rest)) => {
                self.time = Some(time);
                rest
            }
            None => bytes,
        }
    }

    fn push(&mut self, stream: Stream, mut bytes: &[u8], out: &mut Vec<LogLine>) {
        while self.bytes.len() + bytes.len() > MAX_LINE {
            let (now, later) = bytes.split_at(MAX_LINE - self.bytes.len());
            self.bytes.extend_from_slice(now);
            bytes = later;
            let full = std::mem::take(&mut self.bytes);
            out.push(LogLine { stream, time: self.time, bytes: full, continued: true });
        }
        self.bytes.extend_from_slice(bytes);
    }

    fn finish(&mut self, stream: Stream, out: &mut Vec<LogLine>) {
        let bytes = std::mem::take(&mut self.bytes);
        out.push(LogLine { stream, time: self.time.take(), bytes, continued: false });
        self.begun = false;
        self.piece = 0;
    }
}

/// The longest time prefix with its space: `2026-11-23T07:11:05.123456789+00:00 `.
const TIME_LONGEST: usize = 36;

/// Splits `2026-11-23T07:11:05.123456789Z rest` into the time and the rest.
pub fn split_time(bytes: &[u8]) -> Option<(Timestamp, &[u8])> {
    let end = memchr::memchr(b' ', &bytes[..bytes.len().min(TIME_LONGEST)]).or_else(|| {
        // An empty line of a terminal may have lost its trailing space.
        memchr::memchr2(b'\n', b'\r', &bytes[..bytes.len().min(TIME_LONGEST)])
    })?;
    if end < 20 || !may_be_time(&bytes[..end]) {
        return None;
    }
    let text = &bytes[..end];
    let time = utc(text).or_else(|| std::str::from_utf8(text).ok()?.parse().ok())?;
    let skip = usize::from(bytes[end] == b' ');
    Some((time, &bytes[end + skip..]))
}

/// Reads the form in which engines write nearly every time, `YYYY-MM-DDTHH:MM:SS[.fraction]Z`, without
/// the cost of reading every form there is: a log has one on each line.
fn utc(text: &[u8]) -> Option<Timestamp> {
    let fraction = text.strip_suffix(b"Z")?.get(19..)?;
    let digits = match fraction.split_first() {
        None => &[][..],
        Some((b'.', digits)) if (1..=9).contains(&digits.len()) && digits.iter().all(u8::is_ascii_digit) => {
            digits
        }
        Some(_) => return None,
    };
    let number = |bytes: &[u8]| bytes.iter().fold(0i64, |n, b| n * 10 + i64::from(b - b'0'));
    let (year, month, day) = (number(&text[..4]), number(&text[5..7]), number(&text[8..10]));
    let (hour, minute, second) = (number(&text[11..13]), number(&text[14..16]), number(&text[17..19]));
    // Anything unusual, leap seconds and wrong days among it, is left to the full reader.
    if !(1970..=9000).contains(&year)
        || !(1..=12).contains(&month)
        || !(1..=28).contains(&day) && !whole_month(year, month, day)
    {
        return None;
    }
    if hour > 23 || minute > 59 || second > 59 {
        return None;
    }
    let nanos = number(digits) * 10i64.pow(9 - u32::try_from(digits.len()).ok()?);
    let seconds = days(year, month, day) * 86_400 + hour * 3600 + minute * 60 + second;
    Timestamp::new(seconds, i32::try_from(nanos).ok()?).ok()
}

fn whole_month(year: i64, month: i64, day: i64) -> bool {
    let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let longest = match month {
        2 if leap => 29,
        2 => 28,
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    };
    (1..=longest).contains(&day)
}

/// Days from 1970-01-01 in the Gregorian calendar, with years that begin in March so that the leap day
/// is the last.
fn days(year: i64, month: i64, day: i64) -> i64 {
    let (year, month) = if month <= 2 { (year - 1, month + 9) } else { (year, month - 3) };
    let day_of_year = (153 * month + 2) / 5 + day - 1;
    365 * year + year / 4 - year / 100 + year / 400 + day_of_year - 719_468
}

/// Whether these bytes look like the beginning of a time.
fn may_be_time(bytes: &[u8]) -> bool {
    const SHAPE: &[u8] = b"0000-00-00T00:00:00";
    bytes.iter().take(19).zip(SHAPE).all(|(b, shape)| match shape {
        b'0' => b.is_ascii_digit(),
        other => b == other,
    })
}

#[cfg(test)]
#[path = "../logs_tests.rs"]
mod tests;
