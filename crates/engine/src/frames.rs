//! The engine's framing of logs without a terminal: a header of eight bytes, then the payload.
//!
//! The head is the stream (0 to 2), three zero bytes and the payload's length, big end first, as in
//! the engine API's description of attaching to a container.

use gubernum_core::logs::{LineAssembler, LogLine, Stream};

const HEAD: usize = 8;
/// A frame longer than this is not a frame: the stream is out of step.
const LONGEST_FRAME: usize = 16 * 1024 * 1024;

/// Bytes that cannot be frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the log's frames are damaged")]
pub struct DamagedFrame;

/// Takes frames apart, however the bytes are cut.
#[derive(Debug, Default)]
pub struct FrameReader {
    pending: Vec<u8>,
}

impl FrameReader {
    /// Takes bytes and passes the payload of each whole frame on.
    ///
    /// # Errors
    /// When the bytes are not frames.
    ///
    /// ```
    /// use gubernum_core::logs::LineAssembler;
    /// use gubernum_engine::frames::FrameReader;
    /// let (mut reader, mut lines, mut out) = (FrameReader::default(), LineAssembler::new(), Vec::new());
    /// let frame = b"\x01\0\0\0\0\0\0\x1b2026-11-23T05:30:00Z ready\n";
    /// reader.read(&frame[..11], &mut lines, &mut out).unwrap();
    /// assert!(out.is_empty() && reader.is_inside());
    /// reader.read(&frame[11..], &mut lines, &mut out).unwrap();
    /// assert_eq!(out[0].bytes, b"ready");
    /// ```
    pub fn read(
        &mut self,
        bytes: &[u8],
        lines: &mut LineAssembler,
        out: &mut Vec<LogLine>,
    ) -> Result<(), DamagedFrame> {
        let joined;
        let mut rest = if self.pending.is_empty() {
            bytes
        } else {
            self.pending.extend_from_slice(bytes);
            joined = std::mem::take(&mut self.pending);
            &joined[..]
        };
        while let Some((head, after)) = rest.split_at_checked(HEAD) {
            let stream = match head[..4] {
                [0 | 1, 0, 0, 0] => Stream::Stdout,
                [2, 0, 0, 0] => Stream::Stderr,
                _ => return Err(DamagedFrame),
            };
            let length = head[4..].iter().fold(0usize, |sum, &b| sum << 8 | usize::from(b));
            if length > LONGEST_FRAME {
                return Err(DamagedFrame);
            }
            let Some((payload, next)) = after.split_at_checked(length) else { break };
            lines.frame(stream, payload, out);
            rest = next;
        }
        self.pending = rest.to_vec();
        Ok(())
    }

    /// Whether the stream ended inside a frame.
    pub fn is_inside(&self) -> bool {
        !self.pending.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn frame(stream: u8, payload: &[u8]) -> Vec<u8> {
        let mut out = vec![stream, 0, 0, 0];
        out.extend_from_slice(&u32::try_from(payload.len()).unwrap().to_be_bytes());
        out.extend_from_slice(payload);
        out
    }

    proptest! {
        #[test]
        fn any_cut_gives_the_same_lines(texts in proptest::collection::vec("[a-z]{0,40}", 1..20), cut in 1usize..50) {
            let wire: Vec<u8> = texts.iter().enumerate().flat_map(|(i, t)| frame(1 + (i % 2) as u8, format!("{t}\n").as_bytes())).collect();
            let (mut reader, mut lines, mut out) = (FrameReader::default(), LineAssembler::new(), Vec::new());
            for part in wire.chunks(cut) {
                reader.read(part, &mut lines, &mut out).unwrap();
            }
            prop_assert!(!reader.is_inside());
            let got: Vec<_> = out.iter().map(|l| String::from_utf8_lossy(&l.bytes).into_owned()).collect();
            prop_assert_eq!(got, texts);
        }

        #[test]
        fn any_bytes_are_taken_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
            let _ = FrameReader::default().read(&bytes, &mut LineAssembler::new(), &mut Vec::new());
        }
    }
}
