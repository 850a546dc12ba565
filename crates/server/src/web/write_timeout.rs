//! Closes connections whose peer stops reading, so that an unread download does not hold an engine's stream for ever.
//!
//! Also the limit of open connections, and how long one may be silent at first: silent ones make room for others.
//!
//! Request bodies that stall are handled in `web::bodies`.

use std::collections::{HashMap, VecDeque};
use std::io;
use std::net::IpAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use axum_server::accept::Accept;
use parking_lot::Mutex;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio_io_timeout::TimeoutStream;
use tokio_util::sync::CancellationToken;

use crate::web::proxies::Subnet;

/// How long the other end may take nothing of what is sent. A page in the background and a client that was halted for a
/// moment get over it; who comes later continues from where they stood.
pub(crate) const UNREAD: Duration = Duration::from_secs(300);

/// How long a connection may take to say its first byte. Browsers open some ahead: they open them again.
const FIRST_BYTE: Duration = Duration::from_secs(10);
/// The most connections, and the share of them that one address may have.
const MOST: usize = 8192;
const SHARE_OF_ONE: usize = 4;
/// Descriptors that are left for engines, files and the records.
const RESERVED: usize = 128;

/// Which connections are accepted: up to a maximum in all and a maximum from one address. Those that have not said anything yet make room
/// first, the oldest before the others.
#[derive(Clone)]
pub(crate) struct Admission(Arc<OpenConnection>);

struct OpenConnection {
    most: usize,
    most_of_one: usize,
    /// Their addresses stand for many people.
    proxies: Vec<Subnet>,
    open: Mutex<Open>,
}

#[derive(Default)]
struct Open {
    all: usize,
    of: HashMap<IpAddr, usize>,
    /// Those that have said nothing yet, the oldest first.
    silent: VecDeque<(u64, IpAddr, CancellationToken)>,
    next: u64,
}

/// A connection that was let in; its place is free again when this is dropped.
pub(crate) struct ConnectionPermit {
    admitted: Arc<OpenConnection>,
    address: IpAddr,
}

impl Drop for ConnectionPermit {
    fn drop(&mut self) {
        let mut open = self.admitted.open.lock();
        open.all = open.all.saturating_sub(1);
        let left = open.of.get(&self.address).map_or(0, |n| n.saturating_sub(1));
        if left == 0 {
            open.of.remove(&self.address);
        } else {
            open.of.insert(self.address, left);
        }
    }
}

impl Admission {
    pub(crate) fn new(proxies: Vec<Subnet>) -> Self {
        let descriptors = crate::web::descriptors::limit().unwrap_or(MOST);
        let most = descriptors.saturating_sub(RESERVED).max(descriptors / 2).clamp(1, MOST);
        let most_of_one = (most / SHARE_OF_ONE).max(1);
        Self(Arc::new(OpenConnection { most, most_of_one, proxies, open: Mutex::default() }))
    }

    /// Lets a connection in that has said nothing yet; `None` when there is no room.
    fn enter(&self, address: IpAddr) -> Option<(ConnectionPermit, u64, CancellationToken)> {
        let mut open = self.0.open.lock();
        let is_proxy = self.0.proxies.iter().any(|p| p.contains(address));
        let own = open.of.get(&address).copied().unwrap_or(0);
        if !is_proxy && own >= self.0.most_of_one {
            // A silent one of the same address goes; its place is free at once.
            let at = open.silent.iter().position(|(_, of, _)| *of == address)?;
            open.silent.remove(at)?.2.cancel();
        } else if open.all >= self.0.most {
            open.silent.pop_front()?.2.cancel();
        }
        let (number, left) = (open.next, CancellationToken::new());
        open.next += 1;
        open.all += 1;
        *open.of.entry(address).or_default() += 1;
        open.silent.push_back((number, address, left.clone()));
        Some((ConnectionPermit { admitted: self.0.clone(), address }, number, left))
    }

    /// It has said something, or is gone.
    fn spoke(&self, number: u64) {
        self.0.open.lock().silent.retain(|(n, ..)| *n != number);
    }
}

/// Accepts connections and gives each this long for a write to make progress.
#[derive(Clone)]
pub(crate) struct WriteTimeout {
    unread: Duration,
    admission: Admission,
}

impl WriteTimeout {
    pub(crate) fn new(unread: Duration, admission: Admission) -> Self {
        Self { unread, admission }
    }
}

/// A connection with its place.
pub(crate) struct AdmittedStream {
    stream: Pin<Box<TimeoutStream<TcpStream>>>,
    _place: ConnectionPermit,
}

impl AsyncRead for AdmittedStream {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        self.stream.as_mut().poll_read(cx, buf)
    }
}

impl AsyncWrite for AdmittedStream {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        self.stream.as_mut().poll_write(cx, buf)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream.as_mut().poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream.as_mut().poll_shutdown(cx)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bufs: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        self.stream.as_mut().poll_write_vectored(cx, bufs)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }
}

impl<S: Send + 'static> Accept<TcpStream, S> for WriteTimeout {
    type Stream = AdmittedStream;
    type Service = S;
    type Future = Pin<Box<dyn Future<Output = io::Result<(Self::Stream, S)>> + Send>>;

    fn accept(&self, stream: TcpStream, service: S) -> Self::Future {
        let (unread, admission) = (self.unread, self.admission.clone());
        Box::pin(async move {
            let address = stream.peer_addr()?.ip().to_canonical();
            let entered = admission.enter(address);
            let (place, number, left) =
                entered.ok_or_else(|| io::Error::other("too many open connections"))?;
            // Small answers leave at once; a connection for which that cannot be set is slower and works.
            let _ = stream.set_nodelay(true);
            let mut first = [0];
            let spoke = tokio::select! {
                spoke = tokio::time::timeout(FIRST_BYTE, stream.peek(&mut first)) => spoke,
                () = left.cancelled() => Ok(Err(io::ErrorKind::ConnectionAborted.into())),
            };
            admission.spoke(number);
            spoke.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))??;
            let mut stream = TimeoutStream::new(stream);
            stream.set_write_timeout(Some(unread));
            Ok((AdmittedStream { stream: Box::pin(stream), _place: place }, service))
        })
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    use tokio::net::TcpListener;

    use super::*;

    const SHORT: Duration = Duration::from_millis(300);

    /// Both ends of a connection, the first of them with little patience.
    async fn ends() -> (AdmittedStream, TcpStream) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let (far, near) = tokio::join!(TcpStream::connect(listener.local_addr().unwrap()), listener.accept());
        let mut far = far.unwrap();
        far.write_all(b"h").await.unwrap();
        let timeout = WriteTimeout::new(SHORT, Admission::new(Vec::new()));
        let (mut stream, ()) = timeout.accept(near.unwrap().0, ()).await.unwrap();
        stream.read_exact(&mut [0]).await.unwrap();
        (stream, far)
    }

    #[test]
    fn silent_connections_make_room_and_one_address_cannot_take_all() {
        let admission = Admission::new(Vec::new());
        let (most, most_of_one) = (admission.0.most, admission.0.most_of_one);
        let one: IpAddr = "192.0.2.1".parse().unwrap();
        let mut held: Vec<_> = (0..most_of_one).map(|_| admission.enter(one).unwrap()).collect();
        // Another of the same address: the oldest silent one goes.
        let next = admission.enter(one).unwrap();
        assert!(held[0].2.is_cancelled() && !held[1].2.is_cancelled());
        // Those that speak stay, and then there is no room for more of them.
        held.iter().for_each(|(_, number, _)| admission.spoke(*number));
        admission.spoke(next.1);
        assert!(admission.enter(one).is_none());
        let other: IpAddr = "192.0.2.2".parse().unwrap();
        assert!(most > most_of_one && admission.enter(other).is_some(), "others come in");
        held.clear();
        assert!(admission.enter(one).is_some(), "places are given back");
    }

    #[tokio::test]
    async fn who_takes_nothing_is_given_up() {
        let (mut near, _far) = ends().await;
        let piece = vec![0; 1 << 20];
        let error = async {
            loop {
                if let Err(error) = near.write_all(&piece).await {
                    return error;
                }
            }
        };
        let error = tokio::time::timeout(Duration::from_secs(30), error).await.expect("it ends");
        assert_eq!(error.kind(), io::ErrorKind::TimedOut);
    }

    #[tokio::test]
    async fn who_takes_little_by_little_is_served() {
        let (mut near, mut far) = ends().await;
        let sent = tokio::spawn(async move {
            for _ in 0..64 {
                near.write_all(&vec![7; 256 << 10]).await?;
            }
            near.shutdown().await
        });
        let (mut got, mut piece) = (0, vec![0; 1 << 20]);
        loop {
            let n = far.read(&mut piece).await.unwrap();
            if n == 0 {
                break;
            }
            got += n;
            // Slower than it is sent, and never as long as the patience.
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        sent.await.unwrap().unwrap();
        assert_eq!(got, 64 * (256 << 10));
    }

    #[tokio::test]
    async fn silence_on_both_sides_is_no_fault() {
        let (mut near, mut far) = ends().await;
        tokio::time::sleep(SHORT * 3).await;
        far.write_all(b"still here").await.unwrap();
        let mut said = [0; 10];
        near.read_exact(&mut said).await.unwrap();
        near.write_all(&said).await.unwrap();
        far.read_exact(&mut said).await.unwrap();
        assert_eq!(&said, b"still here");
    }
}
