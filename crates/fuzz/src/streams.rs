//! Properties of engine streams: however a log is split on its way, the same lines come out.

use gubernum_core::logs::{LineAssembler, LogLine, Pieces};
use gubernum_engine::frames::FrameReader;

/// The bytes of a stream, and how they are cut: the first byte is the size of the pieces.
fn cut(bytes: &[u8]) -> Option<(usize, &[u8])> {
    let (size, rest) = bytes.split_first()?;
    Some((usize::from(*size).max(1), rest))
}

/// Reads framed bytes in pieces of a size; `None` when they are not frames.
fn framed(bytes: &[u8], size: usize) -> Option<Vec<LogLine>> {
    let (mut reader, mut lines, mut out) = (FrameReader::default(), LineAssembler::new(), Vec::new());
    for piece in bytes.chunks(size) {
        reader.read(piece, &mut lines, &mut out).ok()?;
    }
    lines.end(&mut out);
    Some(out)
}

/// Frames: whole or in pieces, they are the same lines, and no line has a line feed in it.
pub fn log_frames(bytes: &[u8]) {
    let Some((size, bytes)) = cut(bytes) else { return };
    let whole = framed(bytes, usize::MAX);
    assert_eq!(framed(bytes, size), whole);
    let lines = whole.unwrap_or_default();
    assert!(lines.iter().all(|line| !line.bytes.contains(&b'\n')), "{lines:?}");
    assert!(lines.iter().map(|line| line.bytes.len()).sum::<usize>() <= bytes.len());
}

/// A terminal's log, which has no frames: nothing is lost but times and line ends, and nothing is made up.
pub fn terminal_logs(bytes: &[u8]) {
    let Some((size, bytes)) = cut(bytes) else { return };
    for pieces in [Pieces::Every16K, Pieces::AtReads] {
        let (mut lines, mut out) = (LineAssembler::new(), Vec::new());
        for piece in bytes.chunks(size) {
            lines.raw(piece, pieces, &mut out);
        }
        lines.end(&mut out);
        assert!(out.iter().all(|line| !line.bytes.contains(&b'\n')), "{out:?}");
        assert!(out.iter().map(|line| line.bytes.len()).sum::<usize>() <= bytes.len());
    }
}
