//! The HTTP client of one engine: version negotiation, calls with limits, long-lived streams.
//!
//! Calls share a few kept connections. A stream (events, logs) has a connection of its own and is
//! asked for with HTTP/1.0: engines then send the bytes as they are instead of one chunk per
//! line, which more than doubles the speed.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use gubernum_core::host::{EngineFacts, LinkFault};
use http::{Method, Request, StatusCode, Version, header};
use http_body_util::{BodyExt, Full, LengthLimitError, Limited};
use hyper::body::Incoming;
use hyper_util::client::legacy::Client;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use serde::de::DeserializeOwned;

use crate::dialect::Dialect;
use crate::endpoint::Endpoint;
use crate::error::{EngineError, classify};
use crate::transport::Connector;
use crate::wire;

/// The oldest API version that has all we use.
pub const OLDEST_API: (u32, u32) = (1, 40);
/// The newest API version that we were written against.
pub const NEWEST_API: (u32, u32) = (1, 51);
/// How long an ordinary call may take, body included.
pub const CALL_TIMEOUT: Duration = Duration::from_secs(30);
/// How long agreeing on a version may take.
const NEGOTIATE_TIMEOUT: Duration = Duration::from_secs(10);
/// The most bytes of an ordinary answer.
pub(crate) const ANSWER_LIMIT: usize = 64 * 1024 * 1024;
/// The most bytes of an error's text.
const ERROR_LIMIT: usize = 64 * 1024;

/// A link to one engine. Cheap to clone; clones share their connections.
#[derive(Clone)]
pub struct Engine {
    inner: Arc<Inner>,
}

struct Inner {
    address: String,
    connector: Connector,
    client: Client<Connector, Full<Bytes>>,
    facts: EngineFacts,
    dialect: Dialect,
    /// Held while an image is removed.
    removing: tokio::sync::Mutex<()>,
}

impl std::fmt::Debug for Engine {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Engine({})", self.inner.address)
    }
}

/// A call before it is sent.
pub(crate) struct Call<'a> {
    pub(crate) what: &'static str,
    pub(crate) method: Method,
    pub(crate) path: &'a str,
    pub(crate) body: Option<Bytes>,
    pub(crate) timeout: Duration,
    /// One more header.
    pub(crate) header: Option<(&'static str, String)>,
}

impl<'a> Call<'a> {
    pub(crate) fn get(what: &'static str, path: &'a str) -> Self {
        Self { what, method: Method::GET, path, body: None, timeout: CALL_TIMEOUT, header: None }
    }

    pub(crate) fn post(what: &'static str, path: &'a str) -> Self {
        Self { method: Method::POST, ..Self::get(what, path) }
    }
}

impl Engine {
    /// Connects, makes sure that it is an engine we can speak with, and asks what it is.
    ///
    /// # Errors
    /// [`EngineError::Link`] with the fault told apart.
    ///
    /// ```no_run
    /// # async fn example() -> Result<(), gubernum_engine::EngineError> {
    /// use gubernum_engine::{Endpoint, Engine};
    /// let endpoint = Endpoint::parse("unix:///run/docker.sock", None).expect("an address");
    /// let engine = Engine::open(&endpoint).await?;
    /// for container in engine.list().await? {
    ///     println!("{} {}", container.name, container.state.word());
    /// }
    /// # Ok(())
    /// # }
    /// ```
    pub async fn open(endpoint: &Endpoint) -> Result<Self, EngineError> {
        let address = endpoint.to_string();
        tokio::time::timeout(NEGOTIATE_TIMEOUT, Self::negotiate(endpoint, &address)).await.unwrap_or_else(
            |_| Err(EngineError::link(LinkFault::TimedOut, &address, "no answer within 10 s")),
        )
    }

    async fn negotiate(endpoint: &Endpoint, address: &str) -> Result<Self, EngineError> {
        let connector = Connector::new(endpoint)?;
        let client = Client::builder(TokioExecutor::new())
            .pool_timer(TokioTimer::new())
            .pool_idle_timeout(Duration::from_secs(20))
            .pool_max_idle_per_host(if endpoint.is_local() { 1 } else { 4 })
            .build(connector.clone());
        let facts = EngineFacts {
            kind: String::new(),
            version: String::new(),
            api_version: String::new(),
            os: String::new(),
            architecture: String::new(),
            machine: String::new(),
        };
        let inner = Inner {
            address: address.to_owned(),
            connector,
            client,
            facts,
            dialect: Dialect::Dockerd,
            removing: tokio::sync::Mutex::default(),
        };
        let mut probe = Self { inner: Arc::new(inner) };
        let not_an_engine = |detail: &str| EngineError::link(LinkFault::NotAnEngine, address, detail);
        let (status, version, _) = probe.send(Call::get("version", "/version")).await?;
        if status != StatusCode::OK {
            return Err(not_an_engine(&format!("it answers /version with status {status}")));
        }
        let version: wire::Version = serde_json::from_slice(&version)
            .map_err(|_| not_an_engine("its answer to /version is not an engine's"))?;
        let theirs = wire::api_version(&version.api_version)
            .ok_or_else(|| not_an_engine("its answer to /version names no API version"))?;
        if theirs < OLDEST_API {
            let detail =
                format!("{}; at least {}.{} is needed", version.api_version, OLDEST_API.0, OLDEST_API.1);
            return Err(EngineError::link(LinkFault::ApiTooOld, address, &detail));
        }
        let used = theirs.min(NEWEST_API);
        let dialect = Dialect::from_version(&version);
        probe.set(|inner| {
            inner.facts.api_version = format!("{}.{}", used.0, used.1);
            inner.dialect = dialect;
        });
        let info: wire::Info = probe.json(Call::get("info", "/info")).await?;
        probe.set(|inner| {
            inner.facts.kind = dialect.name().to_owned();
            inner.facts.version = version.version;
            inner.facts.os = version.os;
            inner.facts.architecture = version.arch;
            inner.facts.machine = info.name;
        });
        Ok(probe)
    }

    /// Changes what is not shared yet: only while opening.
    /// Held while an image is removed.
    pub(crate) fn removing(&self) -> &tokio::sync::Mutex<()> {
        &self.inner.removing
    }

    fn set(&mut self, change: impl FnOnce(&mut Inner)) {
        if let Some(inner) = Arc::get_mut(&mut self.inner) {
            change(inner);
        }
    }

    /// What the engine says of itself.
    pub fn facts(&self) -> &EngineFacts {
        &self.inner.facts
    }

    /// The address it was opened with.
    pub fn address(&self) -> &str {
        &self.inner.address
    }

    pub(crate) fn dialect(&self) -> Dialect {
        self.inner.dialect
    }

    /// A connection of its own.
    pub(crate) async fn own_connection(&self) -> Result<crate::transport::LinkStream, EngineError> {
        self.inner.connector.connect().await.map_err(|e| self.broken(&e))
    }

    /// `origin` is what is before the path: the pool needs one, a connection of our own does not.
    pub(crate) fn request(
        &self,
        call: &Call<'_>,
        version: Version,
        origin: &str,
    ) -> Result<Request<Full<Bytes>>, EngineError> {
        let prefix = match self.inner.facts.api_version.as_str() {
            "" => String::new(),
            version => format!("/v{version}"),
        };
        let mut builder = Request::builder()
            .method(call.method.clone())
            .uri(format!("{origin}{prefix}{}", call.path))
            .version(version)
            .header(header::HOST, "engine");
        if let Some((name, value)) = &call.header {
            builder = builder.header(*name, value);
        }
        if call.body.is_some() {
            builder = builder.header(header::CONTENT_TYPE, "application/json");
        }
        builder
            .body(Full::new(call.body.clone().unwrap_or_default()))
            .map_err(|e| EngineError::Unreadable { what: call.what, detail: e.to_string() })
    }

    /// Sends a call and reads the whole answer, whatever its status.
    pub(crate) async fn send(
        &self,
        call: Call<'_>,
    ) -> Result<(StatusCode, Bytes, http::HeaderMap), EngineError> {
        let request = self.request(&call, Version::HTTP_11, "http://engine")?;
        let answer = async {
            let response = self.inner.client.request(request).await.map_err(|e| self.broken(&e))?;
            let (parts, body) = response.into_parts();
            let limit = if parts.status.is_success() { ANSWER_LIMIT } else { ERROR_LIMIT };
            let body = Limited::new(body, limit).collect().await.map_err(|e| {
                if e.is::<LengthLimitError>() {
                    EngineError::TooLarge { what: call.what, limit }
                } else {
                    self.broken(e.as_ref())
                }
            })?;
            Ok((parts.status, body.to_bytes(), parts.headers))
        };
        let seconds = call.timeout.as_secs();
        tokio::time::timeout(call.timeout, answer)
            .await
            .unwrap_or_else(|_| Err(self.timed_out(call.what, seconds)))
    }

    /// Sends a call and takes only success; 304 counts as success.
    pub(crate) async fn ok(&self, call: Call<'_>) -> Result<(StatusCode, Bytes), EngineError> {
        let what = call.what;
        let (status, body, _) = self.send(call).await?;
        if status.is_success() || status == StatusCode::NOT_MODIFIED {
            return Ok((status, body));
        }
        Err(self.refused(status, &body, what))
    }

    pub(crate) fn refused(&self, status: StatusCode, body: &[u8], what: &'static str) -> EngineError {
        let message = gubernum_core::mask::text(&wire::error_text(body, status));
        let status = self.inner.dialect.even_status(status.as_u16(), &message);
        EngineError::Answer { what, status, message }
    }

    pub(crate) async fn json<T: DeserializeOwned>(&self, call: Call<'_>) -> Result<T, EngineError> {
        let what = call.what;
        let (_, body) = self.ok(call).await?;
        serde_json::from_slice(&body).map_err(|e| EngineError::Unreadable { what, detail: e.to_string() })
    }

    /// Opens a stream on a connection of its own. The answer's head is waited for at most `wait`,
    /// or as long as it takes: some engines send it with the first line of a log.
    pub(crate) async fn stream(
        &self,
        call: Call<'_>,
        wait: Option<Duration>,
    ) -> Result<Incoming, EngineError> {
        self.open_stream(call, wait, Version::HTTP_10).await
    }

    /// The same over HTTP/1.1, which keeps what the engine sent at once apart as chunks.
    pub(crate) async fn chunked_stream(
        &self,
        call: Call<'_>,
        wait: Option<Duration>,
    ) -> Result<Incoming, EngineError> {
        self.open_stream(call, wait, Version::HTTP_11).await
    }

    async fn open_stream(
        &self,
        call: Call<'_>,
        wait: Option<Duration>,
        version: Version,
    ) -> Result<Incoming, EngineError> {
        let what = call.what;
        let request = self.request(&call, version, "")?;
        let io = self.inner.connector.connect().await.map_err(|e| self.broken(&e))?;
        let (mut sender, connection) =
            hyper::client::conn::http1::handshake(TokioIo::new(io)).await.map_err(|e| self.broken(&e))?;
        tokio::spawn(async move {
            // Ends with the body: an error here reaches the reader through it.
            let _ = connection.await;
        });
        let head = sender.send_request(request);
        let response = match wait {
            Some(wait) => tokio::time::timeout(wait, head)
                .await
                .map_err(|_| self.timed_out(what, wait.as_secs()))?
                .map_err(|e| self.broken(&e))?,
            None => head.await.map_err(|e| self.broken(&e))?,
        };
        let status = response.status();
        if status.is_success() {
            return Ok(response.into_body());
        }
        let body = Limited::new(response.into_body(), ERROR_LIMIT).collect();
        let body = tokio::time::timeout(CALL_TIMEOUT, body).await;
        let text = body.ok().and_then(Result::ok).map(|b| b.to_bytes()).unwrap_or_default();
        Err(self.refused(status, &text, what))
    }

    pub(crate) fn broken(&self, error: &(dyn std::error::Error + 'static)) -> EngineError {
        let (code, detail) = classify(error);
        EngineError::link(code, &self.inner.address, &detail)
    }

    pub(crate) fn timed_out(&self, what: &str, seconds: u64) -> EngineError {
        let detail = format!("'{what}' took longer than {seconds} s");
        EngineError::link(LinkFault::TimedOut, &self.inner.address, &detail)
    }

    /// Sends any call with an optional JSON body and gives its status and bytes: for set-up in
    /// tests and for calls that have no typed form yet.
    ///
    /// # Errors
    /// Only when no answer comes; a refusal is an answer.
    pub async fn call(
        &self,
        method: Method,
        path: &str,
        body: Option<&serde_json::Value>,
    ) -> Result<(u16, Bytes), EngineError> {
        let body = body.map(|b| Bytes::from(b.to_string()));
        let call = Call { method, body, ..Call::get("call", path) };
        let (status, body, _) = self.send(call).await?;
        Ok((status.as_u16(), body))
    }
}
