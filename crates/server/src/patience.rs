//! Connections whose other end stops taking what is sent to it: they are given up after a while, so that a download
//! that nobody reads does not hold an engine's stream for ever.
//!
//! What is sent here and stops coming is not judged here; see `http::files::stream_of` for bodies.

use std::future::{Ready, ready};
use std::io;
use std::pin::Pin;
use std::time::Duration;

use axum_server::accept::Accept;
use tokio::net::TcpStream;
use tokio_io_timeout::TimeoutStream;

/// How long the other end may take nothing of what is sent. A page in the background and a client that was halted for a
/// moment get over it; who comes later goes on from where they stood.
pub(crate) const UNREAD: Duration = Duration::from_secs(300);

/// Takes connections and is patient with them for so long.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Patience(pub(crate) Duration);

impl<S> Accept<TcpStream, S> for Patience {
    type Stream = Pin<Box<TimeoutStream<TcpStream>>>;
    type Service = S;
    type Future = Ready<io::Result<(Self::Stream, S)>>;

    fn accept(&self, stream: TcpStream, service: S) -> Self::Future {
        // Small answers leave at once; a connection for which that cannot be set is slower and works.
        let _ = stream.set_nodelay(true);
        let mut stream = TimeoutStream::new(stream);
        stream.set_write_timeout(Some(self.0));
        ready(Ok((Box::pin(stream), service)))
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    use tokio::net::TcpListener;

    use super::*;

    const SHORT: Duration = Duration::from_millis(300);

    /// Both ends of a connection, the first of them with little patience.
    async fn ends() -> (Pin<Box<TimeoutStream<TcpStream>>>, TcpStream) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let (far, near) = tokio::join!(TcpStream::connect(listener.local_addr().unwrap()), listener.accept());
        let (stream, ()) = Patience(SHORT).accept(near.unwrap().0, ()).await.unwrap();
        (stream, far.unwrap())
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
