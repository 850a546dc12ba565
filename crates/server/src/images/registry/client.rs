//! The client of one registry, by the OCI distribution API: sign-in, tags, manifests. Caching and limits are in the
//! module above.

use std::collections::{HashMap, HashSet};
use std::time::Duration;

use gubernum_api::images::{NewRegistry, TagRow};
use gubernum_core::definition::check::plain_architecture;
use gubernum_core::image_name::USUAL_REGISTRY;
use moka::sync::Cache;
use reqwest::{Method, header};
use serde::Deserialize;
use serde_json::Value;

use crate::images::registry::redirects as way;
use crate::images::registry::redirects::Turn;
use crate::images::registry::{RegistryError, ResolvedTag};

/// How long one question may take.
const TIMEOUT: Duration = Duration::from_secs(15);
/// The largest answer that is read.
const MOST_BYTES: usize = 8 * 1024 * 1024;
/// The most tags that are listed, and pages that are read for them.
const MOST_TAGS: usize = 10_000;
const MOST_PAGES: usize = 50;
/// The most repositories of a catalogue that are searched.
const MOST_REPOSITORIES: usize = 5000;
/// The most sign-ins that are kept for one registry.
const MOST_TOKENS: u64 = 500;
/// What manifests may be.
const MANIFESTS: &str = "application/vnd.oci.image.index.v1+json, application/vnd.docker.distribution.manifest.list.v2+json, \
    application/vnd.oci.image.manifest.v1+json, application/vnd.docker.distribution.manifest.v2+json";
/// Where the usual registry really answers.
const USUAL_ADDRESS: &str = "registry-1.docker.io";

/// One registry, to ask.
pub(crate) struct Registry {
    address: String,
    pub(super) base: String,
    client: reqwest::Client,
    account: Option<(String, String)>,
    link_local: bool,
    /// What signs in, by scope.
    tokens: Cache<String, String>,
}

#[derive(Deserialize)]
struct Token {
    #[serde(default)]
    token: String,
    #[serde(default)]
    access_token: String,
}

fn words(error: &reqwest::Error) -> String {
    let mut text = error.to_string();
    let mut next = std::error::Error::source(error);
    while let Some(cause) = next {
        text = cause.to_string();
        next = cause.source();
    }
    gubernum_core::text::shown(&text, 200)
}

impl Registry {
    pub(crate) fn new(set: &NewRegistry, link_local: bool) -> Result<Self, RegistryError> {
        let address = set.address.clone();
        let mut builder = way::client(link_local)
            .timeout(TIMEOUT)
            .user_agent(concat!("gubernum/", env!("CARGO_PKG_VERSION")));
        if let Some(ca) = &set.ca {
            let found = reqwest::Certificate::from_pem_bundle(ca.as_bytes()).unwrap_or_default();
            if found.is_empty() {
                return Err(RegistryError::Certificate(address));
            }
            builder = found.into_iter().fold(builder, reqwest::ClientBuilder::add_root_certificate);
        }
        let client = builder.build().map_err(|e| RegistryError::Unreachable(address.clone(), words(&e)))?;
        let host = if address == USUAL_REGISTRY { USUAL_ADDRESS } else { &address };
        let base = format!("{}://{host}", if set.plain_http { "http" } else { "https" });
        way::place(&base, link_local)?;
        let account = set.account.clone().zip(set.secret.clone());
        let tokens = Cache::new(MOST_TOKENS);
        Ok(Self { address, base, client, account, link_local, tokens })
    }

    fn failed(&self, error: &reqwest::Error) -> RegistryError {
        if error.is_timeout() {
            return RegistryError::Slow(self.address.clone());
        }
        let text = words(error);
        if text.contains("UnknownIssuer") {
            let advice = "its certificate is signed by an untrusted authority; set the authority's certificate to trust it".to_owned();
            return RegistryError::Unreachable(self.address.clone(), advice);
        }
        if text.to_ascii_lowercase().contains("corrupt message") || text.contains("InvalidContentType") {
            let advice = "it does not speak TLS; allow plain HTTP if that is intended".to_owned();
            return RegistryError::Unreachable(self.address.clone(), advice);
        }
        RegistryError::Unreachable(self.address.clone(), text)
    }

    /// Asks, signing in when the registry wants that.
    async fn ask(&self, method: Method, path: &str, scope: &str) -> Result<reqwest::Response, RegistryError> {
        for again in [false, true] {
            let response = self.follow(&method, path, scope).await?;
            let status = response.status();
            if status == 401 && !again {
                let challenge = response
                    .headers()
                    .get(header::WWW_AUTHENTICATE)
                    .and_then(|v| v.to_str().ok())
                    .unwrap_or_default();
                let authorization = self.sign_in(challenge, scope).await?;
                self.tokens.insert(scope.to_owned(), authorization);
                continue;
            }
            return self.judged(response, path);
        }
        Err(RegistryError::Denied(self.address.clone()))
    }

    /// Asks, and goes after redirects as far as they may lead.
    async fn follow(
        &self,
        method: &Method,
        path: &str,
        scope: &str,
    ) -> Result<reqwest::Response, RegistryError> {
        let home = way::place(&self.base, self.link_local)?;
        let mut url = way::place(&format!("{}{path}", self.base), self.link_local)?;
        let token = self.tokens.get(scope);
        for _ in 0..=way::MOST_REDIRECTS {
            let mut request =
                self.client.request(method.clone(), url.clone()).header(header::ACCEPT, MANIFESTS);
            if let Some(token) = token.as_ref().filter(|_| way::same_place(&url, &home)) {
                request = request.header(header::AUTHORIZATION, token);
            }
            let response = request.send().await.map_err(|e| self.failed(&e))?;
            let location = response.headers().get(header::LOCATION).and_then(|v| v.to_str().ok());
            let Some(location) = location.filter(|_| response.status().is_redirection()) else {
                return Ok(response);
            };
            url = match way::turn(&url, &home, location) {
                Turn::Home(to) | Turn::Store(to) => way::place(to.as_str(), self.link_local)?,
                Turn::Astray => {
                    let text = "it redirects to another address".to_owned();
                    return Err(RegistryError::Nonsense(self.address.clone(), text));
                }
            };
        }
        let text = "too many redirects".to_owned();
        Err(RegistryError::Nonsense(self.address.clone(), text))
    }

    fn judged(&self, response: reqwest::Response, path: &str) -> Result<reqwest::Response, RegistryError> {
        let status = response.status();
        match status.as_u16() {
            200..300 => Ok(response),
            401 | 403 => Err(RegistryError::Denied(self.address.clone())),
            404 => {
                let what = path
                    .trim_start_matches("/v2/")
                    .replace("/manifests/sha256:", "@sha256:")
                    .replace("/manifests/", ":")
                    .replace("/tags/list", "");
                let what = what.split('?').next().unwrap_or_default().to_owned();
                Err(RegistryError::Missing { registry: self.address.clone(), what })
            }
            429 => {
                let wait =
                    response.headers().get(header::RETRY_AFTER).and_then(|v| v.to_str().ok()?.parse().ok());
                Err(RegistryError::Busy(self.address.clone(), wait))
            }
            _ => {
                Err(RegistryError::Nonsense(self.address.clone(), format!("it answers with status {status}")))
            }
        }
    }

    /// The value of the authorization header that a challenge asks for.
    async fn sign_in(&self, challenge: &str, scope: &str) -> Result<String, RegistryError> {
        let basic = |(account, secret): &(String, String)| {
            use base64::Engine as _;
            let both = base64::engine::general_purpose::STANDARD.encode(format!("{account}:{secret}"));
            format!("Basic {both}")
        };
        let (scheme, rest) = challenge.split_once(' ').unwrap_or((challenge, ""));
        if scheme.eq_ignore_ascii_case("basic") {
            return self
                .account
                .as_ref()
                .map(basic)
                .ok_or_else(|| RegistryError::Denied(self.address.clone()));
        }
        let parts = parameters(rest);
        let Some(realm) = parts.get("realm").filter(|_| scheme.eq_ignore_ascii_case("bearer")) else {
            let text = "it uses an unsupported authentication scheme".to_owned();
            return Err(RegistryError::Nonsense(self.address.clone(), text));
        };
        let mut query: Vec<(&str, &str)> = Vec::new();
        if let Some(service) = parts.get("service") {
            query.push(("service", service));
        }
        let scope = parts.get("scope").map_or(scope, String::as_str);
        if !scope.is_empty() {
            query.push(("scope", scope));
        }
        let home = way::place(&self.base, self.link_local)?;
        let realm = way::place(realm, self.link_local)?;
        if !way::may_sign_in(&home, &realm) {
            let text = "its sign-in redirects to an address that is not allowed".to_owned();
            return Err(RegistryError::Nonsense(self.address.clone(), text));
        }
        let mut request = self.client.get(realm).query(&query);
        if let Some(account) = &self.account {
            request = request.header(header::AUTHORIZATION, basic(account));
        }
        let response = request.send().await.map_err(|e| self.failed(&e))?;
        if !response.status().is_success() {
            return Err(RegistryError::Denied(self.address.clone()));
        }
        let token: Token = self.json(response).await?;
        let token = if token.token.is_empty() { token.access_token } else { token.token };
        Ok(format!("Bearer {token}"))
    }

    async fn json<T: serde::de::DeserializeOwned>(
        &self,
        mut response: reqwest::Response,
    ) -> Result<T, RegistryError> {
        let mut held = Vec::new();
        while let Some(piece) = response.chunk().await.map_err(|e| self.failed(&e))? {
            if held.len() + piece.len() > MOST_BYTES {
                return Err(RegistryError::Nonsense(
                    self.address.clone(),
                    "its answer is too large".to_owned(),
                ));
            }
            held.extend_from_slice(&piece);
        }
        serde_json::from_slice(&held).map_err(|e| {
            RegistryError::Nonsense(self.address.clone(), format!("its answer cannot be read: {e}"))
        })
    }

    /// Whether it is a registry and takes the account.
    pub(crate) async fn test(&self) -> Result<(), RegistryError> {
        let response = self.ask(Method::GET, "/v2/", "").await.map_err(|e| match e {
            RegistryError::Missing { registry, .. } => {
                RegistryError::Nonsense(registry, "it does not know '/v2/'".to_owned())
            }
            other => other,
        })?;
        // Anything may answer with 200; a registry says so in a header or with JSON.
        let says = response.headers().contains_key("docker-distribution-api-version");
        let json = response
            .headers()
            .get(header::CONTENT_TYPE)
            .and_then(|v| v.to_str().ok())
            .is_some_and(|t| t.contains("json"));
        if says || json {
            return Ok(());
        }
        Err(RegistryError::Nonsense(self.address.clone(), "its answer is not a registry's".to_owned()))
    }

    /// The digest of what a tag means, by a question that registries do not count as a pull.
    pub(crate) async fn digest(&self, repository: &str, version: &str) -> Result<String, RegistryError> {
        let scope = format!("repository:{repository}:pull");
        let path = format!("/v2/{repository}/manifests/{version}");
        let told = match self.ask(Method::HEAD, &path, &scope).await {
            Ok(response) => digest_of(&response),
            // Some answer only to the whole question.
            Err(RegistryError::Nonsense(..)) => None,
            Err(error) => return Err(error),
        };
        match told {
            Some(digest) => Ok(digest),
            None => Ok(self.meaning(repository, version).await?.digest),
        }
    }

    /// What a tag or digest means.
    pub(crate) async fn meaning(
        &self,
        repository: &str,
        version: &str,
    ) -> Result<ResolvedTag, RegistryError> {
        let scope = format!("repository:{repository}:pull");
        let path = format!("/v2/{repository}/manifests/{version}");
        let response = self.ask(Method::GET, &path, &scope).await?;
        let digest = digest_of(&response);
        let manifest: Value = self.json(response).await?;
        let Some(digest) = digest else {
            return Err(RegistryError::Nonsense(self.address.clone(), "it reports no digest".to_owned()));
        };
        Ok(ResolvedTag { digest, architectures: architectures(&manifest) })
    }

    /// All tags of a repository.
    pub(crate) async fn tags(&self, repository: &str) -> Result<Vec<String>, RegistryError> {
        let scope = format!("repository:{repository}:pull");
        let key = "tags";
        self.pages(format!("/v2/{repository}/tags/list?n=1000"), &scope, key, MOST_TAGS).await
    }

    /// The repositories of its catalogue, where it has one.
    pub(crate) async fn catalogue(&self) -> Result<Vec<String>, RegistryError> {
        self.pages("/v2/_catalog?n=1000".to_owned(), "registry:catalog:*", "repositories", MOST_REPOSITORIES)
            .await
    }

    async fn pages(
        &self,
        first: String,
        scope: &str,
        key: &str,
        most: usize,
    ) -> Result<Vec<String>, RegistryError> {
        let mut found: Vec<String> = Vec::new();
        let mut seen: HashSet<String> = HashSet::new();
        let mut path = first;
        for _ in 0..MOST_PAGES {
            let response = self.ask(Method::GET, &path, scope).await?;
            let link = response.headers().get(header::LINK).and_then(|v| v.to_str().ok()).unwrap_or_default();
            let next = link.split_once('<').and_then(|(_, r)| r.split_once('>')).map(|(l, _)| l.to_owned());
            let page: Value = self.json(response).await?;
            let before = found.len();
            let told = page[key].as_array().into_iter().flatten().filter_map(Value::as_str);
            found.extend(told.filter(|t| seen.insert((*t).to_owned())).map(str::to_owned));
            match next.filter(|n| n.starts_with("/v2/")) {
                // A page that tells nothing new is followed by no others.
                Some(next) if found.len() < most && found.len() > before => path = next,
                _ => break,
            }
        }
        found.truncate(most);
        Ok(found)
    }

    /// One tag in full: age, size and architectures.
    pub(crate) async fn tag(&self, repository: &str, tag: &str) -> TagRow {
        let mut row = TagRow {
            tag: tag.to_owned(),
            digest: None,
            created: None,
            size: None,
            architectures: Vec::new(),
            problem: None,
        };
        if let Err(error) = self.fill(repository, &mut row).await {
            row.problem = Some(error.to_string());
        }
        row
    }

    async fn fill(&self, repository: &str, row: &mut TagRow) -> Result<(), RegistryError> {
        let scope = format!("repository:{repository}:pull");
        let path = format!("/v2/{repository}/manifests/{}", row.tag);
        let response = self.ask(Method::GET, &path, &scope).await?;
        row.digest = digest_of(&response);
        let mut manifest: Value = self.json(response).await?;
        row.architectures = architectures(&manifest);
        if let Some(first) = first_image(&manifest) {
            let path = format!("/v2/{repository}/manifests/{first}");
            manifest = self.json(self.ask(Method::GET, &path, &scope).await?).await?;
        }
        if manifest["config"].is_null() && manifest["layers"].is_null() && manifest["history"].is_null() {
            let text = "its tag does not name an image manifest".to_owned();
            return Err(RegistryError::Nonsense(self.address.clone(), text));
        }
        let layers = manifest["layers"].as_array();
        row.size = layers.map(|l| l.iter().filter_map(|x| x["size"].as_u64()).sum());
        if let Some(config) = manifest["config"]["digest"].as_str() {
            let path = format!("/v2/{repository}/blobs/{config}");
            let config: Value = self.json(self.ask(Method::GET, &path, &scope).await?).await?;
            row.created = config["created"].as_str().and_then(|t| t.parse().ok());
            if row.architectures.is_empty() {
                row.architectures
                    .extend(config["architecture"].as_str().map(|a| plain_architecture(a).to_owned()));
            }
        }
        Ok(())
    }
}

fn digest_of(response: &reqwest::Response) -> Option<String> {
    let told = response.headers().get("docker-content-digest").and_then(|v| v.to_str().ok());
    told.filter(|d| !d.is_empty()).map(str::to_owned)
}

fn first_image(manifest: &Value) -> Option<&str> {
    let all = manifest["manifests"].as_array()?;
    let image = all.iter().find(|m| m["platform"]["architecture"].as_str().is_some_and(|a| a != "unknown"));
    image.or(all.first())?["digest"].as_str()
}

fn architectures(manifest: &Value) -> Vec<String> {
    let mut found: Vec<String> = manifest["manifests"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|m| m["platform"]["architecture"].as_str())
        .filter(|a| *a != "unknown")
        .map(|a| plain_architecture(a).to_owned())
        .collect();
    found.sort();
    found.dedup();
    found
}

/// `realm="https://x",service="y"` as pairs.
fn parameters(text: &str) -> HashMap<String, String> {
    let mut out = HashMap::new();
    let mut rest = text;
    while let Some((key, after)) = rest.split_once('=') {
        let key = key.trim_matches([' ', ',']).to_ascii_lowercase();
        let (value, left) = match after.strip_prefix('"') {
            Some(quoted) => quoted.split_once('"').unwrap_or((quoted, "")),
            None => after.split_once(',').unwrap_or((after, "")),
        };
        out.insert(key, value.to_owned());
        rest = left;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn challenges_are_read() {
        let p = parameters(
            r#"realm="https://auth.example/token",service="r.example",scope="repository:a/b:pull,push""#,
        );
        assert_eq!(p["realm"], "https://auth.example/token");
        assert_eq!(p["scope"], "repository:a/b:pull,push");
    }

    #[test]
    fn architectures_of_an_index() {
        let index = json!({"manifests": [{"digest": "a", "platform": {"architecture": "unknown"}}, {"digest": "b", "platform": {"architecture": "arm64"}}]});
        assert_eq!((architectures(&index), first_image(&index)), (vec!["arm64".to_owned()], Some("b")));
    }
}
