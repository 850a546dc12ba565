//! Extracts the one file of an archive while it streams: headers are parsed, the file's chunks are passed on without
//! copying.
//!
//! Archives of many entries are in `files`.

use std::io;

use bytes::{Buf, Bytes, BytesMut};
use futures_util::{Stream, StreamExt};
use http_body_util::BodyStream;
use hyper::body::Incoming;
use tokio_tar::{EntryType, Header};

use crate::files::FileError;

/// Entries of an archive are filled up to this.
const BLOCK: usize = 512;
/// The most that a head with long names or attributes may take, in bytes, and how many of them.
const MOST_MORE: u64 = 1024 * 1024;
const MOST_HEADS: usize = 16;

/// The file's size, and its bytes as a stream that is an error when they end early.
///
/// # Errors
/// When it is a folder or something else, or no archive.
pub(crate) async fn unwrapped(
    body: Incoming,
) -> Result<(u64, impl Stream<Item = io::Result<Bytes>> + Send), FileError> {
    let frames = BodyStream::new(body).filter_map(|frame| async move {
        match frame {
            Ok(frame) => frame.into_data().ok().map(Ok),
            Err(error) => Some(Err(io::Error::other(error))),
        }
    });
    let mut read = Reading { frames: Box::pin(frames), held: BytesMut::new() };
    let damaged = FileError::Damaged;
    let mut told_size = None;
    for _ in 0..MOST_HEADS {
        let Some(block) = read.block().await.map_err(damaged)? else {
            return Err(FileError::Missing);
        };
        let header = Header::from_byte_slice(&block);
        let size = header.raw_entry_size().map_err(damaged)?;
        match header.entry_type() {
            EntryType::XHeader => {
                let more = read.exactly(filled(size).min(MOST_MORE)).await.map_err(damaged)?;
                told_size = size_of(&more[..usize::try_from(size).unwrap_or(0).min(more.len())]);
            }
            EntryType::XGlobalHeader | EntryType::GNULongName | EntryType::GNULongLink => {
                read.exactly(filled(size).min(MOST_MORE)).await.map_err(damaged)?;
            }
            EntryType::Regular => {
                let size = told_size.unwrap_or(size);
                return Ok((size, read.rest(size)));
            }
            _ => return Err(FileError::NotAFile),
        }
    }
    Err(damaged(io::Error::other("its header is incomplete")))
}

fn filled(size: u64) -> u64 {
    size.div_ceil(BLOCK as u64).saturating_mul(BLOCK as u64)
}

/// The size that is in extended attributes, for files too large for the head. Format: POSIX pax, `length key=value`.
fn size_of(records: &[u8]) -> Option<u64> {
    let mut rest = records;
    while !rest.is_empty() {
        let space = rest.iter().position(|&b| b == b' ')?;
        let length: usize = std::str::from_utf8(&rest[..space]).ok()?.parse().ok()?;
        let record = rest.get(space + 1..length.checked_sub(1)?)?;
        if let Some(size) = record.strip_prefix(b"size=") {
            return std::str::from_utf8(size).ok()?.parse().ok();
        }
        rest = rest.get(length..)?;
    }
    None
}

struct Reading<S> {
    frames: std::pin::Pin<Box<S>>,
    held: BytesMut,
}

impl<S: Stream<Item = io::Result<Bytes>> + Send + 'static> Reading<S> {
    /// The next block; `None` when the archive ends there.
    async fn block(&mut self) -> io::Result<Option<Bytes>> {
        if self.held.is_empty() && !self.more().await? {
            return Ok(None);
        }
        let block = self.exactly(BLOCK as u64).await?;
        Ok(block.iter().any(|&b| b != 0).then_some(block))
    }

    async fn exactly(&mut self, count: u64) -> io::Result<Bytes> {
        let count = usize::try_from(count).unwrap_or(usize::MAX);
        while self.held.len() < count {
            if !self.more().await? {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
        }
        Ok(self.held.split_to(count).freeze())
    }

    async fn more(&mut self) -> io::Result<bool> {
        match self.frames.next().await {
            Some(piece) => {
                self.held.extend_from_slice(&piece?);
                Ok(true)
            }
            None => Ok(false),
        }
    }

    fn rest(self, size: u64) -> impl Stream<Item = io::Result<Bytes>> + Send {
        let begun = (self.frames, self.held.freeze(), size);
        futures_util::stream::try_unfold(begun, |(mut frames, mut held, left)| async move {
            if left == 0 {
                return Ok(None);
            }
            while !held.has_remaining() {
                held = frames.next().await.unwrap_or_else(|| Err(io::ErrorKind::UnexpectedEof.into()))?;
            }
            let count = usize::try_from(left).unwrap_or(usize::MAX).min(held.len());
            let piece = held.split_to(count);
            Ok(Some((piece, (frames, held, left - count as u64))))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_size_beyond_the_head_is_read() {
        assert_eq!(size_of(b"20 size=10737418240\n"), Some(10_737_418_240));
        assert_eq!(size_of(b"30 mtime=1800000000.123456789\n20 size=10737418240\n"), Some(10_737_418_240));
        assert_eq!(size_of(b"30 mtime=1800000000.123456789\n"), None);
        assert_eq!(size_of(b"999 size=1"), None);
        assert_eq!(size_of(b"x"), None);
        assert_eq!((filled(0), filled(1), filled(512), filled(513)), (0, 512, 512, 1024));
    }
}
