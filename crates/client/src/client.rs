//! Calls over HTTP.

use std::time::Duration;

use futures_util::StreamExt;
use gubernum_api::requests::{Claim, NewHost, NewOperation, NewToken, SignIn, TestHost};
use gubernum_api::views::{
    AttentionItem, AuditEntry, ContainerDetail, CreatedToken, FleetSnapshot, HostTest, Me, Preview,
    ServiceState,
};
use gubernum_api::{Container, Host, Operation, Problem};
use reqwest::{Method, RequestBuilder, Response, StatusCode, header};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::error::{ClientError, root};
use crate::lines::LineStream;
use crate::live::Live;
use crate::trust::Trust;

/// How long an ordinary call may take.
pub(crate) const TIMEOUT: Duration = Duration::from_secs(60);
/// The largest answer that is read.
const LARGEST: usize = 512 * 1024 * 1024;

/// A client of one service. Cheap to clone.
#[derive(Debug, Clone)]
pub struct Client {
    http: reqwest::Client,
    base: String,
    secret: Option<String>,
    /// The key of a session, which goes with its cookie.
    key: Option<String>,
    trust: Trust,
}

/// Which lines of a log are wanted.
#[derive(Debug, Clone, Default, Serialize)]
pub struct LogOptions {
    /// Only this many last lines.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tail: Option<u32>,
    /// From this time on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// Up to this time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// Follow new ones as they come.
    pub follow: bool,
    /// Standard output.
    pub stdout: bool,
    /// Standard error.
    pub stderr: bool,
}

impl Client {
    /// A client of the service at `url`, with an API token if there is one.
    ///
    /// # Errors
    /// When the address is invalid.
    pub fn new(url: &str, token: Option<String>, trust: Trust) -> Result<Self, ClientError> {
        let base = url.trim_end_matches('/').to_owned();
        if !(base.starts_with("http://") || base.starts_with("https://")) || base.contains(['?', '#']) {
            return Err(ClientError::Address(url.to_owned()));
        }
        // reqwest panics without one; where there is one already, this changes nothing.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let mut builder = reqwest::Client::builder().connect_timeout(Duration::from_secs(10));
        if let Some(config) = trust.pinned() {
            builder = builder.tls_backend_preconfigured(config);
        }
        let http = builder.build().map_err(|e| ClientError::Address(format!("{url}: {}", root(&e))))?;
        Ok(Self { http, base, secret: token.map(|t| format!("Bearer {t}")), key: None, trust })
    }

    /// The same credentials for the service at another address, as after it has moved.
    ///
    /// # Errors
    /// When the address is invalid.
    pub fn at(&self, url: &str) -> Result<Self, ClientError> {
        let moved = Self::new(url, None, self.trust.clone())?;
        Ok(Self { secret: self.secret.clone(), key: self.key.clone(), ..moved })
    }

    /// The service's address.
    pub fn url(&self) -> &str {
        &self.base
    }

    pub(crate) fn trust(&self) -> &Trust {
        &self.trust
    }

    pub(crate) fn authorization(&self) -> Option<&str> {
        self.secret.as_deref()
    }

    pub(crate) fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.http.request(method, format!("{}{path}", self.base));
        match &self.secret {
            Some(secret) if secret.starts_with("Bearer ") => request.header(header::AUTHORIZATION, secret),
            Some(cookie) => request
                .header(header::COOKIE, cookie)
                .header(header::ORIGIN, &self.base)
                .header("Gubernum-Key", self.key.as_deref().unwrap_or_default()),
            None => request,
        }
    }

    pub(crate) async fn send(&self, request: RequestBuilder) -> Result<Response, ClientError> {
        let response = request
            .send()
            .await
            .map_err(|e| ClientError::Unreachable { url: self.base.clone(), detail: root(&e) })?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let body = self.body(response).await?;
        let problem = serde_json::from_slice::<Problem>(&body).map_err(|_| ClientError::Unreadable {
            url: self.base.clone(),
            detail: format!("status {status} without a problem's details"),
        })?;
        Err(ClientError::Problem(Box::new(problem)))
    }

    pub(crate) async fn body(&self, response: Response) -> Result<Vec<u8>, ClientError> {
        let mut body = Vec::new();
        let mut chunks = response.bytes_stream();
        while let Some(chunk) = chunks.next().await {
            let chunk = chunk.map_err(|e| ClientError::Broken(root(&e)))?;
            if body.len() + chunk.len() > LARGEST {
                return Err(ClientError::Unreadable {
                    url: self.base.clone(),
                    detail: "it is too large".to_owned(),
                });
            }
            body.extend_from_slice(&chunk);
        }
        Ok(body)
    }

    pub(crate) async fn json<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, ClientError> {
        let response = self.send(request.timeout(TIMEOUT)).await?;
        self.read(response).await
    }

    async fn read<T: DeserializeOwned>(&self, response: reqwest::Response) -> Result<T, ClientError> {
        let body = self.body(response).await?;
        serde_json::from_slice(&body)
            .map_err(|e| ClientError::Unreadable { url: self.base.clone(), detail: e.to_string() })
    }

    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        self.json(self.request(Method::GET, path)).await
    }

    pub(crate) async fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, ClientError> {
        self.json(self.request(Method::POST, path).json(body)).await
    }

    /// Whether the service waits to be claimed.
    ///
    /// # Errors
    /// When it cannot be reached.
    pub async fn service(&self) -> Result<ServiceState, ClientError> {
        self.get("/api/v1/service").await
    }

    /// Claims a fresh service and gives a client that is signed in.
    ///
    /// # Errors
    /// When the code is wrong or the password weak.
    pub async fn claim(&self, claim: &Claim) -> Result<Self, ClientError> {
        self.signed_in(self.request(Method::POST, "/api/v1/claim").json(claim)).await
    }

    /// Signs in with a password and gives a client that is signed in.
    ///
    /// # Errors
    /// When name or password is wrong.
    pub async fn sign_in(&self, wish: &SignIn) -> Result<Self, ClientError> {
        self.signed_in(self.request(Method::POST, "/api/v1/sessions").json(wish)).await
    }

    /// A client with the session that a call opens.
    pub(crate) async fn opened(&self, path: &str, body: &impl Serialize) -> Result<Self, ClientError> {
        self.signed_in(self.request(Method::POST, path).json(body)).await
    }

    async fn signed_in(&self, request: RequestBuilder) -> Result<Self, ClientError> {
        let response = self.send(request.timeout(TIMEOUT)).await?;
        let cookie = response
            .headers()
            .get(header::SET_COOKIE)
            .and_then(|v| v.to_str().ok())
            .and_then(|v| v.split(';').next())
            .ok_or_else(|| ClientError::Unreadable {
                url: self.base.clone(),
                detail: "it sets no session".to_owned(),
            })?;
        let cookie = cookie.to_owned();
        let body = self.body(response).await?;
        let me: gubernum_api::views::Me = serde_json::from_slice(&body)
            .map_err(|e| ClientError::Unreadable { url: self.base.clone(), detail: e.to_string() })?;
        Ok(Self { secret: Some(cookie), key: me.key, ..self.clone() })
    }

    /// Ends the session that this client holds.
    ///
    /// # Errors
    /// When there is none.
    pub async fn sign_out(&self) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, "/api/v1/sessions/current")).await.map(|_| ())
    }

    /// Who is asking.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn me(&self) -> Result<Me, ClientError> {
        self.get("/api/v1/sessions/current").await
    }

    /// Makes an API token.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn make_token(&self, wish: &NewToken) -> Result<CreatedToken, ClientError> {
        self.post("/api/v1/tokens", wish).await
    }

    /// All hosts.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn hosts(&self) -> Result<Vec<Host>, ClientError> {
        self.get("/api/v1/hosts").await
    }

    /// Adds a host.
    ///
    /// # Errors
    /// When its name is taken or its address is invalid.
    pub async fn add_host(&self, host: &NewHost) -> Result<Host, ClientError> {
        self.post("/api/v1/hosts", host).await
    }

    /// Tries a link.
    ///
    /// # Errors
    /// When there is no such host or the address is invalid; a link that fails is an answer.
    pub async fn test_host(&self, wish: &TestHost) -> Result<HostTest, ClientError> {
        self.post("/api/v1/hosts/test", wish).await
    }

    /// Takes a host out of the fleet.
    ///
    /// # Errors
    /// When there is no such host.
    pub async fn remove_host(&self, name: &str) -> Result<(), ClientError> {
        let path = format!("/api/v1/hosts/{}", encoded(name));
        self.send(self.request(Method::DELETE, &path).timeout(TIMEOUT)).await.map(|_| ())
    }

    /// The containers, as `(name, value)` filters narrow them: `host`, `state`, `stack`, `reference`.
    ///
    /// # Errors
    /// When a filter is invalid.
    ///
    /// ```no_run
    /// # async fn example(client: gubernum_client::Client) -> Result<(), gubernum_client::ClientError> {
    /// let unhealthy = client.containers(&[("reference", "*/frost-*".into()), ("state", "running".into())]).await?;
    /// # let _ = unhealthy;
    /// # Ok(())
    /// # }
    /// ```
    pub async fn containers(&self, filters: &[(&str, String)]) -> Result<Vec<Container>, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/containers").query(filters)).await
    }

    /// The whole fleet.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn fleet(&self) -> Result<FleetSnapshot, ClientError> {
        self.get("/api/v1/fleet").await
    }

    /// What needs a person.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn attention(&self) -> Result<Vec<AttentionItem>, ClientError> {
        self.get("/api/v1/attention").await
    }

    /// The newest audit entries.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn audit(&self) -> Result<Vec<AuditEntry>, ClientError> {
        self.get("/api/v1/audit").await
    }

    /// Audit entries that match, newest first. The fields are those of `GET /api/v1/audit`: `member`, `action`, `text`,
    /// `since`, `until`, `before` and `limit`.
    ///
    /// # Errors
    /// When a field cannot be read, or the right to read the audit log is missing.
    pub async fn audit_where(&self, fields: &[(&str, String)]) -> Result<Vec<AuditEntry>, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/audit").query(fields)).await
    }

    /// One container in full. `reference` is `host/name`, or a name alone that is unique.
    ///
    /// # Errors
    /// When nothing or several match.
    pub async fn container(&self, reference: &str) -> Result<ContainerDetail, ClientError> {
        self.get(&container_path(reference)).await
    }

    /// A container's log.
    ///
    /// # Errors
    /// When nothing or several match.
    pub async fn logs(&self, reference: &str, options: &LogOptions) -> Result<LineStream, ClientError> {
        let path = format!("{}/logs", container_path(reference));
        let response = self.send(self.request(Method::GET, &path).query(options)).await?;
        Ok(LineStream::new(response))
    }

    /// Asks for a change. With a key, a repeated request gives the same operation.
    ///
    /// # Errors
    /// When the request is invalid or nothing matches.
    pub async fn submit(&self, wish: &NewOperation, key: Option<&str>) -> Result<Operation, ClientError> {
        let mut request = self.request(Method::POST, "/api/v1/operations").json(wish);
        if let Some(key) = key {
            request = request.header("Idempotency-Key", key);
        }
        let timeout = TIMEOUT + Duration::from_secs(wish.wait_seconds.unwrap_or_default().into());
        let response = self.send(request.timeout(timeout)).await?;
        self.read(response).await
    }

    /// What a change would do.
    ///
    /// # Errors
    /// As [`Client::submit`].
    pub async fn preview(&self, wish: &NewOperation) -> Result<Preview, ClientError> {
        self.post("/api/v1/operations/preview", wish).await
    }

    /// The newest operations.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn operations(&self, limit: u32) -> Result<Vec<Operation>, ClientError> {
        self.get(&format!("/api/v1/operations?limit={limit}")).await
    }

    /// Operations that match, newest first. The fields are those of `GET /api/v1/operations`: `object`, `member`, `kind`,
    /// `outcome`, `since`, `until`, `before` and `limit`.
    ///
    /// # Errors
    /// When a field cannot be read.
    pub async fn operations_where(&self, fields: &[(&str, String)]) -> Result<Vec<Operation>, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/operations").query(fields)).await
    }

    /// The containers that an operation holds now, which no list shows.
    ///
    /// # Errors
    /// When nothing has that number.
    pub async fn operation_containers(&self, id: u64) -> Result<Vec<Container>, ClientError> {
        self.get(&format!("/api/v1/operations/{id}/containers")).await
    }

    /// One operation.
    ///
    /// # Errors
    /// When nothing has that number.
    pub async fn operation(&self, id: u64) -> Result<Operation, ClientError> {
        self.get(&format!("/api/v1/operations/{id}")).await
    }

    /// Calls an operation off.
    ///
    /// # Errors
    /// When it is over.
    pub async fn cancel(&self, id: u64) -> Result<Operation, ClientError> {
        let path = format!("/api/v1/operations/{id}/cancel");
        self.json(self.request(Method::POST, &path)).await
    }

    /// Opens the live connection.
    ///
    /// # Errors
    /// When it is refused.
    pub async fn live(&self) -> Result<Live, ClientError> {
        Live::connect(self).await
    }

    /// Sends any request and gives status and body: for what has no typed call.
    ///
    /// # Errors
    /// When the service cannot be reached.
    pub async fn raw(
        &self,
        method: Method,
        path: &str,
        body: Option<Vec<u8>>,
    ) -> Result<(StatusCode, Vec<u8>), ClientError> {
        let mut request = self.request(method, path).timeout(TIMEOUT);
        if let Some(body) = body {
            request = request.header(header::CONTENT_TYPE, "application/json").body(body);
        }
        let unreachable =
            |e: reqwest::Error| ClientError::Unreachable { url: self.base.clone(), detail: root(&e) };
        let response = request.send().await.map_err(unreachable)?;
        let status = response.status();
        Ok((status, self.body(response).await?))
    }
}

/// A name alone is looked for on every host; the service says when it is not the only one.
pub(crate) fn container_path(reference: &str) -> String {
    let (host, name) = reference.split_once('/').unwrap_or(("-", reference));
    format!("/api/v1/containers/{}/{}", encoded(host), encoded(name))
}

pub(crate) fn encoded(part: &str) -> String {
    part.bytes()
        .map(|b| match b {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'.' | b'~' | b'*' => {
                char::from(b).to_string()
            }
            other => format!("%{other:02X}"),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Trust;

    #[test]
    fn names_cannot_leave_their_place_in_a_path() {
        assert_eq!(container_path("packhouse/frost-api"), "/api/v1/containers/packhouse/frost-api");
        assert_eq!(container_path("frost-api"), "/api/v1/containers/-/frost-api");
        assert_eq!(container_path("a/b/../c?x#y z"), "/api/v1/containers/a/b%2F..%2Fc%3Fx%23y%20z");
        assert_eq!(encoded("größe"), "gr%C3%B6%C3%9Fe");
    }

    #[test]
    fn addresses_that_make_no_sense_are_refused_at_once() {
        for bad in ["", "gubernum.example", "ftp://x", "http://x/?a=b", "http://x/#y"] {
            assert!(matches!(Client::new(bad, None, Trust::System), Err(ClientError::Address(_))), "{bad}");
        }
        assert_eq!(Client::new("http://x:1/", None, Trust::System).unwrap().url(), "http://x:1");
    }

    #[tokio::test]
    async fn a_service_that_is_not_there_is_said_with_its_address() {
        let client = Client::new("http://127.0.0.1:9", None, Trust::System).unwrap();
        let error = client.service().await.unwrap_err().to_string();
        assert!(error.contains("http://127.0.0.1:9") && error.contains("is it running"), "{error}");
    }
}
