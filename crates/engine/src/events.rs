//! Events of containers, images, volumes and networks from the engine, resumed where the stream was interrupted.
//!
//! An engine keeps few past events (dockerd 256), so resuming can be incomplete after a long break:
//! the caller then lists again. Within what the engine keeps, nothing is missed or repeated.

use std::collections::VecDeque;
use std::time::Duration;

use bytes::{Buf, BytesMut};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use jiff::Timestamp;

use crate::client::{Call, Engine};
use crate::error::EngineError;
use crate::hostfs::{HELPER_IMAGE, HELPER_LABEL, HELPER_NAME};
use crate::wire;

/// The longest event that is read, in bytes.
const LONGEST_EVENT: usize = 1024 * 1024;
/// How many events of the last instants are remembered to tell repeats.
const REMEMBERED: usize = 512;
/// How long the head of the stream may take. podman sends it at once for events.
const HEAD_TIMEOUT: Duration = Duration::from_secs(10);
/// Repeats are looked for this far back: podman's `since` is coarse.
const OVERLAP_NANOS: i64 = 2_000_000_000;

/// What an event is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Subject {
    /// A container.
    Container,
    /// An image.
    Image,
    /// A volume.
    Volume,
    /// A network.
    Network,
}

/// One event of one object.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct EngineEvent {
    /// When, in nanoseconds since 1970, by the engine's clock.
    pub nanos: i64,
    /// What it is about.
    pub subject: Subject,
    /// The object's id: a container's id, a volume's name.
    pub id: String,
    /// The object's name, where the engine tells it.
    pub name: String,
    /// The container that it concerns, where it is about a network or a volume.
    pub container: Option<String>,
    /// What else the engine tells, in one line, e.g. an exit code or a signal.
    pub detail: String,
    /// The engine's word, e.g. `die`.
    pub action: String,
    /// It means that the container is gone.
    pub gone: bool,
}

impl EngineEvent {
    /// Whether a container's record may be different after it. Commands run inside, such as
    /// health checks, do not touch it.
    pub fn matters(&self) -> bool {
        self.subject == Subject::Container
            && !(self.action.starts_with("exec_")
                || matches!(self.action.as_str(), "attach" | "resize" | "top" | "archive-path"))
    }
}

/// Where a reader of events stands.
#[derive(Debug, Clone, Default)]
pub struct EventMark {
    last: i64,
    seen: VecDeque<EngineEvent>,
}

impl EventMark {
    /// Notes an event; `false` when it was there before.
    fn note(&mut self, event: &EngineEvent) -> bool {
        if event.nanos <= self.last && (self.seen.contains(event) || event.nanos < self.last - OVERLAP_NANOS)
        {
            return false;
        }
        self.last = self.last.max(event.nanos);
        self.seen.push_back(event.clone());
        while self.seen.len() > REMEMBERED {
            self.seen.pop_front();
        }
        true
    }
}

/// A stream of events.
pub struct EventReader {
    engine: Engine,
    body: Incoming,
    buffer: BytesMut,
    mark: EventMark,
}

impl Engine {
    /// Opens the stream of events, after `mark` when one is given, else from now on.
    ///
    /// # Errors
    /// When the link or the engine fails.
    pub async fn events(&self, mark: Option<EventMark>) -> Result<EventReader, EngineError> {
        // `{"type":["container","image","volume","network"]}`; both engines take the map and the list form.
        let mut path = String::from(
            "/events?filters=%7B%22type%22%3A%5B%22container%22%2C%22image%22%2C%22volume%22%2C%22network%22%5D%7D",
        );
        let mark = mark.unwrap_or_default();
        if mark.last > 0
            && let Ok(since) = Timestamp::from_nanosecond(i128::from(mark.last))
        {
            path.push_str(&format!("&since={}", crate::logs::seconds(since)));
        }
        let body = self.stream(Call::get("events", &path), Some(HEAD_TIMEOUT)).await?;
        Ok(EventReader { engine: self.clone(), body, buffer: BytesMut::new(), mark })
    }
}

impl EventReader {
    /// The next event; `None` when the engine ends the stream, as it does when it shuts down.
    ///
    /// # Errors
    /// When the link breaks or what comes is not an event.
    pub async fn next(&mut self) -> Result<Option<EngineEvent>, EngineError> {
        loop {
            while let Some(event) = self.parse()? {
                if self.mark.note(&event) {
                    return Ok(Some(event));
                }
            }
            match self.body.frame().await {
                Some(Ok(frame)) => {
                    if let Ok(bytes) = frame.into_data() {
                        self.buffer.extend_from_slice(&bytes);
                    }
                    if self.buffer.len() > LONGEST_EVENT {
                        return Err(EngineError::TooLarge { what: "events", limit: LONGEST_EVENT });
                    }
                }
                Some(Err(e)) => return Err(self.engine.broken(&e)),
                None => return Ok(None),
            }
        }
    }

    /// Where it is, to continue from after a break.
    pub fn mark(&self) -> EventMark {
        self.mark.clone()
    }

    fn parse(&mut self) -> Result<Option<EngineEvent>, EngineError> {
        while let Some(end) = memchr::memchr(b'\n', &self.buffer) {
            let line = self.buffer.split_to(end);
            self.buffer.advance(1);
            if line.iter().all(u8::is_ascii_whitespace) {
                continue;
            }
            let event: wire::Event = serde_json::from_slice(&line)
                .map_err(|e| EngineError::Unreadable { what: "events", detail: e.to_string() })?;
            let subject = match event.kind.as_str() {
                "container" => Subject::Container,
                "image" => Subject::Image,
                "volume" => Subject::Volume,
                "network" => Subject::Network,
                // podman sends other kinds in spite of the filter.
                _ => continue,
            };
            // podman names an image that was fetched, and leaves its id out.
            let name = event.actor.attributes.get("name").cloned().unwrap_or_default();
            let id = if event.actor.id.is_empty() && subject != Subject::Container {
                name.clone()
            } else {
                event.actor.id
            };
            if id.is_empty() {
                continue;
            }
            let gone = subject == Subject::Container && self.engine.dialect().is_gone(&event.action);
            let nanos =
                if event.time_nano == 0 { event.time.saturating_mul(1_000_000_000) } else { event.time_nano };
            let attributes = event.actor.attributes;
            // What Gubernum itself makes to look into a host is no news.
            if attributes.contains_key(HELPER_LABEL)
                || name.starts_with(HELPER_NAME)
                || name.contains(HELPER_IMAGE)
            {
                continue;
            }
            let detail = detail(&attributes);
            let container = attributes.get("container").filter(|c| !c.is_empty()).cloned();
            let action = event.action;
            return Ok(Some(EngineEvent { nanos, subject, id, name, container, detail, action, gone }));
        }
        Ok(None)
    }
}

/// The telling attributes of an event in one line.
fn detail(attributes: &std::collections::BTreeMap<String, String>) -> String {
    const TELLING: [(&str, &str); 6] = [
        ("exitCode", "exit code"),
        ("containerExitCode", "exit code"),
        ("signal", "signal"),
        ("container", "container"),
        ("destination", "at"),
        ("oldName", "before"),
    ];
    let parts = TELLING.iter().filter_map(|(key, words)| {
        let value = attributes.get(*key).filter(|v| !v.is_empty())?;
        Some(format!("{words} {}", gubernum_core::text::shown(value, 80)))
    });
    parts.collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(nanos: i64, action: &str) -> EngineEvent {
        EngineEvent {
            nanos,
            subject: Subject::Container,
            id: "ab".into(),
            name: String::new(),
            container: None,
            detail: String::new(),
            action: action.into(),
            gone: false,
        }
    }

    #[test]
    fn repeats_are_dropped_and_equal_times_are_not() {
        let mut mark = EventMark::default();
        let base = 1_800_000_000_000_000_000;
        assert!(mark.note(&event(base, "start")));
        assert!(mark.note(&event(base, "die")));
        assert!(!mark.note(&event(base, "start")));
        assert!(mark.note(&event(base + 1, "start")));
        // A late event within the overlap is news, one from long ago is a repeat of what was let go.
        assert!(mark.note(&event(base - 5, "create")));
        assert!(!mark.note(&event(base - OVERLAP_NANOS - 5, "create")));
    }

    #[test]
    fn commands_run_inside_do_not_matter() {
        assert!(!event(1, "exec_start: sh").matters());
        assert!(event(1, "health_status: unhealthy").matters());
    }
}
