//! The typed calls: listing, inspecting and the life cycle of containers.

use std::time::Duration;

use futures_util::StreamExt;
use gubernum_core::container::Container;
use gubernum_core::plan::DEFAULT_GRACE_SECONDS;
use http::{Method, StatusCode};

use crate::client::{CALL_TIMEOUT, Call, Engine};
use crate::error::EngineError;
use crate::hostfs::HELPER_LABEL;
use crate::record::{Inspected, inspected};
use crate::wire;

/// How many containers are inspected at once while a host is listed.
/// A helper lives for seconds, or for as long as a file is sent; an older one was left.
const HELPER_AGE: jiff::SignedDuration = jiff::SignedDuration::from_hours(24);
const INSPECT_AT_ONCE: usize = 8;

/// What a change came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Done {
    /// The engine did it.
    Changed,
    /// No change was needed.
    Unchanged,
}

impl Engine {
    /// All containers, running or not, each inspected. One that vanishes meanwhile is left out.
    ///
    /// # Errors
    /// When the listing, or any inspection but of a vanished container, fails.
    pub async fn list(&self) -> Result<Vec<Container>, EngineError> {
        let summaries: Vec<wire::Summary> =
            self.json(Call::get("list containers", "/containers/json?all=1")).await?;
        let mut containers = Vec::with_capacity(summaries.len());
        let mut inspections = futures_util::stream::iter(summaries)
            .map(|s| async move { self.inspect(&s.id).await })
            .buffered(INSPECT_AT_ONCE);
        while let Some(one) = inspections.next().await {
            match one {
                Ok(inspected) if inspected.container.labels.contains_key(HELPER_LABEL) => {
                    self.forget_helper(&inspected.container).await;
                }
                Ok(inspected) => containers.push(inspected.container),
                Err(e) if e.status() == Some(404) => {}
                Err(e) => return Err(e),
            }
        }
        Ok(containers)
    }

    /// Removes a helper that was left when the service ended in the middle of something.
    async fn forget_helper(&self, helper: &Container) {
        let age = jiff::Timestamp::now().duration_since(helper.created);
        if age > HELPER_AGE
            && let Err(error) = self.remove(&helper.id, true, true).await
        {
            tracing::debug!("a leftover helper container could not be removed: {error}");
        }
    }

    /// One container in full, by id or name.
    ///
    /// # Errors
    /// 404 when there is none.
    pub async fn inspect(&self, id: &str) -> Result<Inspected, EngineError> {
        let what = "inspect container";
        let path = format!("/containers/{}/json", checked(id)?);
        let raw = self.json(Call::get(what, &path)).await?;
        inspected(raw).map_err(|e| EngineError::Unreadable { what, detail: e.to_string() })
    }

    /// A light question to learn whether the engine still answers.
    ///
    /// # Errors
    /// When it does not.
    pub async fn ping(&self, timeout: Duration) -> Result<(), EngineError> {
        let call = Call { timeout, ..Call::get("ping", "/_ping") };
        let (_, body) = self.ok(call).await?;
        // Something else may have taken the address meanwhile.
        if body.trim_ascii() == b"OK" {
            return Ok(());
        }
        let detail = format!("it answers '{}'", String::from_utf8_lossy(&body[..body.len().min(60)]));
        Err(EngineError::Unreadable { what: "ping", detail: gubernum_core::text::shown(&detail, 100) })
    }

    /// Starts a container.
    ///
    /// # Errors
    /// The engine's error when it cannot.
    pub async fn start(&self, id: &str) -> Result<Done, EngineError> {
        if !self.dialect().says_unchanged() && self.is_alive(id).await? {
            return Ok(Done::Unchanged);
        }
        let path = format!("/containers/{}/start", checked(id)?);
        // Starting mounts, networks and the process itself can take a while on a loaded host.
        let call = Call { timeout: Duration::from_secs(120), ..Call::post("start", &path) };
        done(self.ok(call).await?)
    }

    /// Asks the process to end and ends it by force after the grace period (the container's own
    /// when `None`).
    ///
    /// # Errors
    /// The engine's error when it cannot.
    pub async fn stop(&self, id: &str, grace: Option<u32>) -> Result<Done, EngineError> {
        if !self.dialect().says_unchanged() && !self.is_alive(id).await? {
            return Ok(Done::Unchanged);
        }
        self.graceful("stop", id, grace).await
    }

    /// Stops and starts.
    ///
    /// # Errors
    /// The engine's error when it cannot.
    pub async fn restart(&self, id: &str, grace: Option<u32>) -> Result<Done, EngineError> {
        self.graceful("restart", id, grace).await
    }

    async fn graceful(&self, what: &'static str, id: &str, grace: Option<u32>) -> Result<Done, EngineError> {
        let (query, seconds) = match grace {
            Some(seconds) => (format!("?t={seconds}"), seconds),
            None => {
                let own = self.inspect(id).await?.stop_timeout;
                (String::new(), own.unwrap_or(DEFAULT_GRACE_SECONDS))
            }
        };
        let path = format!("/containers/{}/{what}{query}", checked(id)?);
        let timeout = Duration::from_secs(u64::from(seconds)) + Duration::from_secs(60);
        done(self.ok(Call { timeout, ..Call::post(what, &path) }).await?)
    }

    /// Sends a signal to the main process.
    ///
    /// # Errors
    /// 409 when it does not run.
    pub async fn kill(&self, id: &str, signal: &str) -> Result<Done, EngineError> {
        let path = format!("/containers/{}/kill?signal={}", checked(id)?, checked(signal)?);
        done(self.ok(Call::post("kill", &path)).await?)
    }

    /// Removes a container, by force even while it runs, if wanted with its anonymous volumes.
    ///
    /// # Errors
    /// 409 when it runs and force is not given.
    pub async fn remove(&self, id: &str, force: bool, volumes: bool) -> Result<Done, EngineError> {
        let anonymous: Vec<String> = if volumes {
            let mounts = self.inspect(id).await?.container.mounts;
            mounts.into_iter().filter(|m| m.anonymous).map(|m| m.source).collect()
        } else {
            Vec::new()
        };
        let path = format!("/containers/{}?force={force}&v={volumes}", checked(id)?);
        let timeout = CALL_TIMEOUT + Duration::from_secs(60);
        let done =
            done(self.ok(Call { method: Method::DELETE, timeout, ..Call::get("remove", &path) }).await?)?;
        for volume in anonymous {
            // One that came from a replaced container counts as named for the engine, which leaves it.
            match self.remove_volume_once(&volume, false).await {
                Err(e) if !matches!(e.status(), Some(404 | 409)) => return Err(e),
                _ => {}
            }
        }
        Ok(done)
    }

    async fn is_alive(&self, id: &str) -> Result<bool, EngineError> {
        Ok(self.inspect(id).await?.container.state.is_alive())
    }
}

fn done((status, _): (StatusCode, bytes::Bytes)) -> Result<Done, EngineError> {
    Ok(if status == StatusCode::NOT_MODIFIED { Done::Unchanged } else { Done::Changed })
}

/// Lets only what can be an id or a name into a path.
pub(crate) fn checked(id: &str) -> Result<&str, EngineError> {
    let allowed = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'.' | b'-');
    let fine = !id.is_empty() && id.len() <= 256 && id.bytes().all(allowed) && !id.starts_with('.');
    if fine { Ok(id) } else { Err(EngineError::BadId(gubernum_core::text::shown(id, 80))) }
}

#[cfg(test)]
mod tests {
    use super::checked;

    #[test]
    fn only_ids_and_names_reach_a_path() {
        assert!(checked("frost-api_1.x").is_ok());
        for bad in ["", "..", "../etc", "a/b", "a?b", "a b", "a%2f", "ä"] {
            assert!(checked(bad).is_err(), "{bad:?}");
        }
    }
}
