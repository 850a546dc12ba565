//! Pulls and pushes images, with progress by layer. Dropping a transfer cancels it at the engine.

use std::time::Duration;

use base64::Engine as _;
use bytes::BytesMut;
use gubernum_core::definition::PullPolicy;
use gubernum_core::image_name::ImageName;
use gubernum_core::journal::{LayerProgress, Progress};
use http_body_util::BodyExt;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::{Value, json};

use crate::calls::Done;
use crate::client::{Call, Engine};
use crate::error::EngineError;
use crate::objects::checked_image;

/// How long an engine may be silent in the middle of a transfer.
const SILENCE: Duration = Duration::from_secs(300);
/// The longest line of progress that is read.
const LONGEST_LINE: usize = 1024 * 1024;
/// The most layers that are told of.
const MOST_LAYERS: usize = 128;

/// Who asks a registry.
#[derive(Clone, PartialEq, Eq)]
pub struct RegistryAccount {
    /// The account.
    pub account: String,
    /// Its secret.
    pub secret: String,
    /// The registry's address.
    pub registry: String,
}

impl std::fmt::Debug for RegistryAccount {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "RegistryAccount({} at {})", self.account, self.registry)
    }
}

impl RegistryAccount {
    /// The header's value. The alphabet for addresses: with the usual one some passwords fail.
    fn header(account: Option<&Self>) -> String {
        let text = match account {
            Some(a) => json!({"username": a.account, "password": a.secret, "serveraddress": a.registry}),
            None => json!({}),
        };
        base64::engine::general_purpose::URL_SAFE.encode(text.to_string())
    }
}

impl Engine {
    /// Fetches an image when the policy says so.
    ///
    /// # Errors
    /// The engine's or the registry's reason, told apart as far as the engine's words allow.
    pub async fn pull(
        &self,
        image: &str,
        policy: PullPolicy,
        platform: Option<&str>,
        account: Option<&RegistryAccount>,
        mut tell: impl FnMut(Progress),
    ) -> Result<Done, EngineError> {
        let before = self.image_id_of(image).await?;
        match (policy, &before) {
            (PullPolicy::Missing | PullPolicy::Never, Some(_)) => return Ok(Done::Unchanged),
            (PullPolicy::Never, None) => {
                let message =
                    format!("the host does not have the image {image}, and the pull policy is never");
                return Err(EngineError::Answer { what: "", status: 404, message });
            }
            _ => {}
        }
        let name: ImageName =
            image.parse().map_err(|_| EngineError::BadId(gubernum_core::text::shown(image, 80)))?;
        let escape = |t: &str| utf8_percent_encode(t, NON_ALPHANUMERIC).to_string();
        let mut path =
            format!("/images/create?fromImage={}&tag={}", escape(&name.base()), escape(name.version()));
        if let Some(platform) = platform {
            path.push_str(&format!("&platform={}", escape(platform)));
        }
        let call = Call {
            header: Some(("X-Registry-Auth", RegistryAccount::header(account))),
            ..Call::post("fetch image", &path)
        };
        self.transfer(call, image, &mut tell).await.map_err(|e| worded(e, image))?;
        let after = self.image_id_of(image).await?;
        match after {
            None => {
                let message = format!("the engine reports that it pulled {image}, but does not have it");
                Err(EngineError::Answer { what: "", status: 500, message })
            }
            after if after == before => Ok(Done::Unchanged),
            _ => Ok(Done::Changed),
        }
    }

    /// Sends an image to its registry.
    ///
    /// # Errors
    /// The engine's or the registry's reason.
    pub async fn push(
        &self,
        image: &str,
        account: Option<&RegistryAccount>,
        mut tell: impl FnMut(Progress),
    ) -> Result<Done, EngineError> {
        let name: ImageName =
            image.parse().map_err(|_| EngineError::BadId(gubernum_core::text::shown(image, 80)))?;
        let tag = name.tag.as_deref().unwrap_or("latest");
        let path = format!(
            "/images/{}/push?tag={}",
            checked_image(&name.base())?,
            utf8_percent_encode(tag, NON_ALPHANUMERIC)
        );
        let path = path.replacen(":latest/push", "/push", 1);
        let call = Call {
            header: Some(("X-Registry-Auth", RegistryAccount::header(account))),
            ..Call::post("send image", &path)
        };
        self.transfer(call, image, &mut tell).await.map_err(|e| worded(e, image))?;
        Ok(Done::Changed)
    }

    /// Reads the lines of a transfer to their end; an error among them is an error.
    async fn transfer(
        &self,
        call: Call<'_>,
        image: &str,
        tell: &mut impl FnMut(Progress),
    ) -> Result<(), EngineError> {
        let what = call.what;
        let mut body = self.stream(call, Some(SILENCE)).await?;
        let mut progress = Progress { doing: format!("resolving {image}"), ..Progress::default() };
        let mut held = BytesMut::new();
        loop {
            let frame = tokio::time::timeout(SILENCE, body.frame())
                .await
                .map_err(|_| self.timed_out(what, SILENCE.as_secs()))?;
            let Some(frame) = frame else { break };
            let frame = frame.map_err(|e| self.broken(&e))?;
            if let Some(data) = frame.data_ref() {
                held.extend_from_slice(data);
            }
            while let Some(end) = memchr::memchr(b'\n', &held) {
                let line = held.split_to(end + 1);
                step(&line, &mut progress)?;
            }
            if held.len() > LONGEST_LINE {
                return Err(EngineError::TooLarge { what, limit: LONGEST_LINE });
            }
            tell(progress.clone());
        }
        step(&held, &mut progress)
    }
}

/// Takes in one line.
fn step(line: &[u8], progress: &mut Progress) -> Result<(), EngineError> {
    let Ok(value) = serde_json::from_slice::<Value>(line) else { return Ok(()) };
    let error = value["errorDetail"]["message"].as_str().or_else(|| value["error"].as_str());
    if let Some(message) = error.filter(|m| !m.is_empty()) {
        return Err(EngineError::Answer {
            what: "",
            status: 500,
            message: gubernum_core::text::shown(message, 1000),
        });
    }
    let status = value["status"].as_str().or_else(|| value["stream"].as_str()).unwrap_or_default().trim();
    let Some(id) =
        value["id"].as_str().filter(|id| id.len() >= 12 && id.bytes().all(|b| b.is_ascii_hexdigit()))
    else {
        if !status.is_empty() {
            progress.doing = gubernum_core::text::shown(status, 200);
        }
        return Ok(());
    };
    let known = progress.layers.iter().position(|l| l.id == id);
    let at = match known {
        Some(at) => at,
        None if progress.layers.len() < MOST_LAYERS => {
            progress
                .layers
                .push(LayerProgress { id: id.chars().take(12).collect(), ..LayerProgress::default() });
            progress.layers.len() - 1
        }
        None => return Ok(()),
    };
    let layer = &mut progress.layers[at];
    layer.doing = gubernum_core::text::shown(status, 60);
    let (current, total) =
        (value["progressDetail"]["current"].as_u64(), value["progressDetail"]["total"].as_u64());
    let lower = status.to_ascii_lowercase();
    if lower.starts_with("extracting") {
        layer.done = layer.total.max(layer.done);
    } else {
        layer.done = current.unwrap_or(layer.done);
        layer.total = total.filter(|t| *t > 0).unwrap_or(layer.total);
    }
    if lower.contains("complete") || lower.contains("exists") || lower.contains("pushed") {
        layer.done = layer.total;
        layer.finished = true;
    }
    progress.done = progress.layers.iter().map(|l| l.done).sum();
    progress.total = progress.layers.iter().map(|l| l.total.max(l.done)).sum();
    progress.doing = gubernum_core::text::shown(status, 60);
    Ok(())
}

/// Adds what to do to the engine's words, where they can be told apart.
fn worded(error: EngineError, image: &str) -> EngineError {
    let EngineError::Answer { what, status, message } = error else { return error };
    let m = message.to_ascii_lowercase();
    let has = |words: &[&str]| words.iter().any(|w| m.contains(w));
    let sentence = if has(&[
        "no matching manifest",
        "no image found in",
        "does not match the specified platform",
        "no child with platform",
    ]) {
        Some(format!("{image} has no such architecture at its registry"))
    } else if has(&["no space left", "disk quota"]) {
        Some(format!("the host's disk is full; {image} was not pulled. Tidy the host, then try again"))
    } else if has(&[
        "unauthorized",
        "authentication required",
        "no basic auth",
        "denied",
        "invalid username/password",
        "403 (forbidden)",
        "403 forbidden",
        "status 403",
        "status code 403",
    ]) {
        Some(format!(
            "the registry requires a sign-in for {image}, or denies this account access; check the registry's account"
        ))
    } else if has(&["manifest unknown", "not found", "name unknown", "repository does not exist"]) {
        Some(format!("no image {image} at its registry; check name and tag"))
    } else if has(&["http response to https", "server gave http", "tls", "x509", "certificate"]) {
        Some(format!(
            "the engine does not trust the registry of {image}; its certificate, or plain HTTP, must be allowed in the engine's settings"
        ))
    } else if has(&[
        "connection refused",
        "no such host",
        "i/o timeout",
        "network is unreachable",
        "context deadline",
        "eof",
        "connection reset",
    ]) {
        Some(format!("the host cannot reach the registry of {image}"))
    } else {
        None
    };
    let status = if status == 500 && m.contains("not found") { 404 } else { status };
    match sentence {
        Some(sentence) => EngineError::Answer {
            what: "",
            status,
            message: format!("{sentence} (the engine says: {message})"),
        },
        None => EngineError::Answer { what, status, message },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn layers_add_up() {
        let mut p = Progress::default();
        for line in [
            r#"{"status":"Pulling from x","id":"latest"}"#,
            r#"{"status":"Downloading","progressDetail":{"current":10,"total":100},"id":"aaaaaaaaaaaa"}"#,
            r#"{"status":"Downloading","progressDetail":{"current":50,"total":100},"id":"bbbbbbbbbbbb"}"#,
            r#"{"status":"Pull complete","progressDetail":{},"id":"aaaaaaaaaaaa"}"#,
            "not json",
        ] {
            step(line.as_bytes(), &mut p).unwrap();
        }
        assert_eq!((p.done, p.total, p.layers.len()), (150, 200, 2));
        assert!(step(br#"{"errorDetail":{"message":"boom"},"error":"boom"}"#, &mut p).is_err());
    }

    #[rstest]
    #[case("manifest for x:9 not found: manifest unknown", "no image")]
    #[case("pull access denied for x, repository does not exist or may require authorization", "sign-in")]
    #[case("no matching manifest for linux/amd64 in the manifest list entries", "architecture")]
    #[case("write /var/lib/x: no space left on device", "disk is full")]
    #[case("adding layer with blob \"sha256:4543eb4036\": write /x: no space left on device", "disk is full")]
    #[case("unexpected status code 403 Forbidden", "sign-in")]
    #[case("fetching sha256:ab403cd: connection refused", "cannot reach")]
    #[case("dial tcp 127.0.0.1:5000: connect: connection refused", "cannot reach")]
    #[case("http: server gave HTTP response to HTTPS client", "does not trust")]
    fn reasons_are_distinguished(#[case] words: &str, #[case] has: &str) {
        let error = worded(EngineError::Answer { what: "", status: 500, message: words.into() }, "x:9");
        assert!(error.to_string().contains(has), "{error}");
    }
}
