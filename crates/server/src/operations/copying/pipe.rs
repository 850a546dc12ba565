//! Pipes an archive from one engine to another, with a limit on how long it may stall.

use std::io;
use std::pin::Pin;
use std::sync::atomic::Ordering;
use std::time::Duration;

use bytes::Bytes;
use futures_util::{Stream, StreamExt};
use gubernum_core::moving::Manifest;
use gubernum_engine::EngineError;
use gubernum_engine::archives::Upload;
use gubernum_engine::hostfs::PLACE;
use hyper::body::Incoming;
use tokio::sync::mpsc;
use tokio_util::io::{ReaderStream, StreamReader};

use super::passes::{Rest, Sent, send_changed, sum_up};
use super::{CopyError, End, VolumeCopy, Way, all_of_it};

/// How long neither end may do anything.
const STALLED: Duration = Duration::from_secs(60);
/// How long one end may take to say why, when the other is over before its time.
const LAST_WORDS: Duration = Duration::from_secs(5);
/// Pieces between the reading and the writing end.
const PIECES: usize = 8;
/// The size of the buffer between reading an archive and writing it on, in bytes.
const PIPE: usize = 256 * 1024;

type Pieces = Pin<Box<dyn Stream<Item = io::Result<Bytes>> + Send>>;

fn pieces(body: Incoming) -> Pieces {
    let pieces = http_body_util::BodyStream::new(body).filter_map(|frame| async move {
        match frame {
            Ok(frame) => frame.into_data().ok().map(Ok),
            Err(error) => Some(Err(io::Error::other(error))),
        }
    });
    Box::pin(pieces)
}

fn uploaded(receiver: mpsc::Receiver<io::Result<Bytes>>) -> Upload {
    Box::pin(tokio_stream::wrappers::ReceiverStream::new(receiver))
}

/// How the pump ended.
enum PipeOutcome {
    /// All of it is through.
    Whole,
    /// The reading end closed.
    Broke(String),
    /// Nobody takes it any more.
    Unwanted,
    /// The writing end takes nothing.
    Stalled,
    /// Somebody called it off.
    CalledOff,
}

/// Moves pieces from the body to everybody who takes them.
///
/// Whoever has read an archive to its end takes nothing of what fills it up after that; the others still do.
async fn pump(body: Incoming, to: &[mpsc::Sender<io::Result<Bytes>>], way: &Way) -> PipeOutcome {
    let mut body = pieces(body);
    let mut takers: Vec<_> = to.iter().collect();
    loop {
        let next = tokio::select! {
            next = tokio::time::timeout(STALLED, body.next()) => next,
            () = way.called_off.cancelled() => {
                break_off(to);
                return PipeOutcome::CalledOff;
            }
        };
        let why = match next {
            Ok(None) => return PipeOutcome::Whole,
            Ok(Some(Ok(piece))) => {
                way.passed.fetch_add(piece.len() as u64, Ordering::Relaxed);
                let mut taking = Vec::with_capacity(takers.len());
                for sender in takers {
                    match tokio::time::timeout(STALLED, sender.send(Ok(piece.clone()))).await {
                        Ok(Ok(())) => taking.push(sender),
                        Ok(Err(_)) => {}
                        Err(_) => return PipeOutcome::Stalled,
                    }
                }
                if taking.is_empty() {
                    return PipeOutcome::Unwanted;
                }
                takers = taking;
                continue;
            }
            Ok(Some(Err(error))) => error.to_string(),
            Err(_) => format!("no data for {} s", STALLED.as_secs()),
        };
        break_off(to);
        return PipeOutcome::Broke(why);
    }
}

/// An archive that ends early must not be taken for a whole one. Whoever has no room for this word at once is cut off by the
/// missing end of the archive.
fn break_off(to: &[mpsc::Sender<io::Result<Bytes>>]) {
    for sender in to {
        let _ = sender.try_send(Err(io::Error::other("the other host closed the connection")));
    }
}

/// Waits for both ends. When one of them is over before its time, the other has a moment to say why, and no more: a connection to
/// a host that is unreachable says nothing for many minutes. Without a word of the writing end there is none.
async fn joined<T>(
    pumping: impl Future<Output = PipeOutcome>,
    writing: impl Future<Output = Result<T, EngineError>>,
) -> (PipeOutcome, Option<Result<T, EngineError>>) {
    tokio::pin!(pumping, writing);
    tokio::select! {
        pumped = &mut pumping => {
            let written = match pumped {
                PipeOutcome::Whole => Some(writing.await),
                _ => tokio::time::timeout(LAST_WORDS, writing).await.ok(),
            };
            (pumped, written)
        }
        written = &mut writing => {
            // Whoever is content has read the archive to its end. The other end may take its time to close: it lets go of what it read,
            // and that can mean that its disk writes for a while. It has until nothing came for too long.
            let pumped = match &written {
                Ok(_) => pumping.await,
                Err(_) => tokio::time::timeout(LAST_WORDS, pumping).await.unwrap_or(PipeOutcome::Unwanted),
            };
            (pumped, Some(written))
        }
    }
}

/// What an end of the copy says counts more than that the other one noticed.
fn outcome<T>(
    from: &End,
    to: &End,
    pumped: PipeOutcome,
    written: Option<Result<T, EngineError>>,
) -> Result<T, CopyError> {
    match (pumped, written) {
        (PipeOutcome::CalledOff, _) => Err(CopyError::CalledOff),
        (PipeOutcome::Broke(why), _) => Err(CopyError::Source { host: from.host.clone(), why }),
        (PipeOutcome::Stalled, _) => Err(CopyError::Target {
            host: to.host.clone(),
            why: format!("it accepted no data for {} s", STALLED.as_secs()),
        }),
        (_, Some(Err(error))) => Err(CopyError::Target { host: to.host.clone(), why: error.to_string() }),
        (PipeOutcome::Whole, Some(Ok(done))) => Ok(done),
        (_, None | Some(Ok(_))) => Err(CopyError::Target {
            host: to.host.clone(),
            why: "it stopped reading before the end".to_owned(),
        }),
    }
}

/// Passes a body on as it is.
pub(super) async fn pass_on<W: Future<Output = Result<(), EngineError>>>(
    from: &End,
    to: &End,
    body: Incoming,
    way: &Way,
    write: impl FnOnce(Upload) -> W,
) -> Result<(), CopyError> {
    let (sender, receiver) = mpsc::channel(PIECES);
    // The sender goes with the pump: its end is the archive's.
    let pumping = async move { pump(body, &[sender], way).await };
    let (pumped, written) = joined(pumping, write(uploaded(receiver))).await;
    outcome(from, to, pumped, written)
}

/// All of a volume, summed up on its way.
pub(super) async fn through(copy: &VolumeCopy, reader: &str, writer: &str) -> Result<Manifest, CopyError> {
    let body = copy.from.engine.read_archive(reader, &all_of_it()).await?;
    let (to_engine, for_engine) = mpsc::channel(PIECES);
    let (to_sum, for_sum) = mpsc::channel(PIECES);
    let summing =
        tokio::spawn(sum_up(StreamReader::new(tokio_stream::wrappers::ReceiverStream::new(for_sum))));
    let way: &Way = &copy.way;
    let pumping = async move { pump(body, &[to_engine, to_sum], way).await };
    let writing = copy.to.engine.write_archive(writer, PLACE, uploaded(for_engine));
    let (pumped, written) = joined(pumping, writing).await;
    let summed = tokio_util::task::AbortOnDropHandle::new(summing);
    if matches!(pumped, PipeOutcome::Whole | PipeOutcome::Unwanted) && matches!(written, Some(Ok(()))) {
        // The engine is content. Whether it had all of the archive, its sum tells: it was read to its end as well.
        return unreadable(&copy.from, summed.await);
    }
    outcome(&copy.from, &copy.to, pumped, written)?;
    unreadable(&copy.from, summed.await)
}

/// What a reader of an archive came to.
fn unreadable<T>(from: &End, read: Result<io::Result<T>, tokio::task::JoinError>) -> Result<T, CopyError> {
    let why = match read {
        Ok(Ok(done)) => return Ok(done),
        Ok(Err(error)) => format!("its archive cannot be read: {error}"),
        Err(error) => error.to_string(),
    };
    Err(CopyError::Source { host: from.host.clone(), why })
}

/// What changed since the first pass.
pub(super) async fn changed(
    copy: &VolumeCopy,
    reader: &str,
    writer: &str,
    rest: Rest<'_>,
) -> Result<Sent, CopyError> {
    let body = copy.from.engine.read_archive(reader, &all_of_it()).await?;
    let (to_sift, for_sift) = mpsc::channel(PIECES);
    let (out, part) = tokio::io::duplex(PIPE);
    let way: &Way = &copy.way;
    let pumping = async move { pump(body, &[to_sift], way).await };
    let archive = StreamReader::new(tokio_stream::wrappers::ReceiverStream::new(for_sift));
    let (mark, marked) = tokio::sync::oneshot::channel::<()>();
    let sifting = async move {
        let sifted = send_changed(archive, out, rest).await;
        if sifted.is_ok() {
            let _ = mark.send(());
        }
        sifted
    };
    // A pipe that ends early looks like an end: the engine must not take half an archive for a whole one.
    let ends = futures_util::stream::once(async move {
        marked.await.map(|()| Bytes::new()).map_err(|_| io::Error::other("the archive ended early"))
    });
    let upload: Upload = Box::pin(ReaderStream::with_capacity(part, 64 * 1024).chain(ends));
    let writing = copy.to.engine.write_archive(writer, PLACE, upload);
    let (ends, sifted) = tokio::join!(joined(pumping, writing), sifting);
    let pumped = match ends.0 {
        // The archive was read to its end; what fills it up after that is nobody's.
        PipeOutcome::Unwanted if sifted.is_ok() => PipeOutcome::Whole,
        other => other,
    };
    outcome(&copy.from, &copy.to, pumped, ends.1)?;
    unreadable(&copy.from, Ok(sifted))
}

/// Reads a volume and only sums it up.
pub(super) async fn read(end: &End, reader: &str, way: &Way) -> Result<Manifest, CopyError> {
    let body = end.engine.read_archive(reader, &all_of_it()).await?;
    let (to_sum, for_sum) = mpsc::channel(PIECES);
    let pumping = async move { pump(body, &[to_sum], way).await };
    let summing = sum_up(StreamReader::new(tokio_stream::wrappers::ReceiverStream::new(for_sum)));
    let (pumped, summed) = tokio::join!(pumping, summing);
    match pumped {
        PipeOutcome::Broke(why) => return Err(CopyError::Source { host: end.host.clone(), why }),
        PipeOutcome::CalledOff => return Err(CopyError::CalledOff),
        _ => {}
    }
    unreadable(end, Ok(summed))
}
