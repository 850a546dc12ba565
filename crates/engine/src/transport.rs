//! Byte streams to an engine: a Unix socket or mutual TLS over TCP, behind one type.
//!
//! [`Connector`] is the seam for further kinds of link. Not here: HTTP, which is in `client`.

use std::future::Future;
use std::io;
use std::path::PathBuf;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use hyper_util::client::legacy::connect::{Connected, Connection};
use hyper_util::rt::TokioIo;
use rustls::ClientConfig;
use rustls::pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpStream, UnixStream};
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use crate::endpoint::Endpoint;
use crate::error::{EngineError, LookupFailed};

/// How long making a connection may take.
pub(crate) const CONNECT_TIMEOUT: Duration = Duration::from_secs(5);

/// A connected byte stream.
pub(crate) enum LinkStream {
    Unix(UnixStream),
    Tls(Box<TlsStream<TcpStream>>),
}

/// Makes connections to one endpoint.
#[derive(Clone)]
pub(crate) struct Connector {
    way: Arc<Transport>,
}

enum Transport {
    Unix(PathBuf),
    Tls { host: String, port: u16, config: Arc<ClientConfig>, name: ServerName<'static>, link_local: bool },
}

impl Connector {
    pub(crate) fn new(endpoint: &Endpoint) -> Result<Self, EngineError> {
        let way = match endpoint {
            Endpoint::Unix(path) => Transport::Unix(path.clone()),
            Endpoint::Tls { host, port, material, link_local } => {
                let name = ServerName::try_from(host.clone()).map_err(|e| {
                    EngineError::link(
                        gubernum_core::host::LinkFault::NameNotFound,
                        &endpoint.to_string(),
                        &e.to_string(),
                    )
                })?;
                let config = crate::tls::client_config(material)?;
                Transport::Tls { host: host.clone(), port: *port, config, name, link_local: *link_local }
            }
        };
        Ok(Self { way: Arc::new(way) })
    }

    /// Connects within [`CONNECT_TIMEOUT`].
    pub(crate) async fn connect(&self) -> io::Result<LinkStream> {
        tokio::time::timeout(CONNECT_TIMEOUT, self.way.connect())
            .await
            .unwrap_or_else(|_| Err(io::Error::new(io::ErrorKind::TimedOut, "no connection within 5 s")))
    }
}

impl Transport {
    async fn connect(&self) -> io::Result<LinkStream> {
        match self {
            Self::Unix(path) => Ok(LinkStream::Unix(UnixStream::connect(path).await?)),
            Self::Tls { host, port, config, name, link_local } => {
                let addresses: Vec<_> = tokio::net::lookup_host((host.as_str(), *port))
                    .await
                    .map_err(|e| io::Error::other(LookupFailed(e.to_string())))?
                    // A name may lead anywhere, and elsewhere at each look.
                    .filter(|a| *link_local || !gubernum_core::address_policy::is_link_local(a.ip()))
                    .collect();
                if addresses.is_empty() {
                    return Err(io::Error::other(LookupFailed(gubernum_core::address_policy::refusal(host))));
                }
                let tcp = TcpStream::connect(&addresses[..]).await?;
                tcp.set_nodelay(true)?;
                let tls = TlsConnector::from(config.clone()).connect(name.clone(), tcp).await?;
                Ok(LinkStream::Tls(Box::new(tls)))
            }
        }
    }
}

impl tower::Service<http::Uri> for Connector {
    type Response = TokioIo<LinkStream>;
    type Error = io::Error;
    type Future = Pin<Box<dyn Future<Output = io::Result<Self::Response>> + Send>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, _: http::Uri) -> Self::Future {
        let connector = self.clone();
        Box::pin(async move { Ok(TokioIo::new(connector.connect().await?)) })
    }
}

impl Connection for LinkStream {
    fn connected(&self) -> Connected {
        Connected::new()
    }
}

impl AsyncRead for LinkStream {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Unix(s) => Pin::new(s).poll_read(cx, buf),
            Self::Tls(s) => Pin::new(s).poll_read(cx, buf),
        }
    }
}

impl AsyncWrite for LinkStream {
    fn poll_write(self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        match self.get_mut() {
            Self::Unix(s) => Pin::new(s).poll_write(cx, buf),
            Self::Tls(s) => Pin::new(s).poll_write(cx, buf),
        }
    }

    fn poll_flush(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Unix(s) => Pin::new(s).poll_flush(cx),
            Self::Tls(s) => Pin::new(s).poll_flush(cx),
        }
    }

    fn poll_shutdown(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Unix(s) => Pin::new(s).poll_shutdown(cx),
            Self::Tls(s) => Pin::new(s).poll_shutdown(cx),
        }
    }
}
