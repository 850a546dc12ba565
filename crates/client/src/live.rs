//! The client side of the live connection.

use std::sync::Arc;

use futures_util::{SinkExt, StreamExt};
use gubernum_api::{FromClient, FromServer};
use http::header::AUTHORIZATION;
use http::{HeaderValue, Uri};
use rustls::pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::client::IntoClientRequest;
use tokio_tungstenite::tungstenite::protocol::WebSocketConfig;

use crate::client::Client;
use crate::error::{ClientError, root};

/// A WebSocket over whatever carries it.
pub(crate) type Socket = WebSocketStream<Box<dyn Stream>>;

pub(crate) trait Stream: AsyncRead + AsyncWrite + Send + Unpin {}
impl<T: AsyncRead + AsyncWrite + Send + Unpin> Stream for T {}

/// The largest message: a snapshot of a large fleet.
const LARGEST: usize = 512 * 1024 * 1024;

/// A live connection.
pub struct Live {
    socket: Socket,
}

impl Live {
    pub(crate) async fn connect(client: &Client) -> Result<Self, ClientError> {
        Ok(Self { socket: websocket(client, "/api/v1/live").await? })
    }

    /// Sends a message.
    ///
    /// # Errors
    /// When the connection is broken.
    pub async fn send(&mut self, message: &FromClient) -> Result<(), ClientError> {
        let json = serde_json::to_string(message).map_err(|e| ClientError::Broken(e.to_string()))?;
        self.send_text(json).await
    }

    /// Sends a text as it is.
    ///
    /// # Errors
    /// When the connection is broken.
    pub async fn send_text(&mut self, text: String) -> Result<(), ClientError> {
        self.socket.send(Message::Text(text.into())).await.map_err(|e| ClientError::Broken(root(&e)))
    }

    /// The next message; `None` when the service ends the connection.
    ///
    /// # Errors
    /// When the connection breaks or a message cannot be understood.
    pub async fn next(&mut self) -> Result<Option<FromServer>, ClientError> {
        while let Some(message) = self.socket.next().await {
            match message.map_err(|e| ClientError::Broken(root(&e)))? {
                Message::Text(text) => {
                    let message = serde_json::from_str(text.as_str());
                    return message
                        .map(Some)
                        .map_err(|e| ClientError::Broken(format!("invalid message: {e}")));
                }
                Message::Close(_) => return Ok(None),
                _ => {}
            }
        }
        Ok(None)
    }
}

/// Opens a WebSocket to the service.
pub(crate) async fn websocket(client: &Client, path: &str) -> Result<Socket, ClientError> {
    let unreachable = |e: &dyn std::error::Error| ClientError::Unreachable {
        url: client.url().to_owned(),
        detail: root(e),
    };
    let url = format!("ws{}{path}", client.url().trim_start_matches("http"));
    let mut request = url.into_client_request().map_err(|_| ClientError::Address(client.url().to_owned()))?;
    if let Some(value) = client.authorization().filter(|a| a.starts_with("Bearer ")) {
        let value = HeaderValue::from_str(value).map_err(|e| unreachable(&e))?;
        request.headers_mut().insert(AUTHORIZATION, value);
    }
    let stream = connect(client, request.uri()).await?;
    let config = WebSocketConfig::default().max_message_size(Some(LARGEST)).max_frame_size(Some(LARGEST));
    let (socket, _) =
        tokio_tungstenite::client_async_with_config(request, stream, Some(config)).await.map_err(|e| {
            use tokio_tungstenite::tungstenite::Error;
            match &e {
                Error::Http(response) => {
                    let problem = response.body().as_deref().and_then(|b| serde_json::from_slice(b).ok());
                    problem.map_or_else(|| unreachable(&e), |p| ClientError::Problem(Box::new(p)))
                }
                _ => unreachable(&e),
            }
        })?;
    Ok(socket)
}

async fn connect(client: &Client, uri: &Uri) -> Result<Box<dyn Stream>, ClientError> {
    let unreachable = |e: &dyn std::error::Error| ClientError::Unreachable {
        url: client.url().to_owned(),
        detail: root(e),
    };
    let secure = uri.scheme_str() == Some("wss");
    let host = uri.host().unwrap_or_default().trim_start_matches('[').trim_end_matches(']').to_owned();
    let port = uri.port_u16().unwrap_or(if secure { 443 } else { 80 });
    let tcp = TcpStream::connect((host.as_str(), port)).await.map_err(|e| unreachable(&e))?;
    if !secure {
        return Ok(Box::new(tcp));
    }
    let config = client.trust().config().map_err(|e| unreachable(&e))?;
    let name = ServerName::try_from(host).map_err(|e| unreachable(&e))?;
    let tls = TlsConnector::from(Arc::new(config)).connect(name, tcp).await.map_err(|e| unreachable(&e))?;
    Ok(Box::new(tls))
}
