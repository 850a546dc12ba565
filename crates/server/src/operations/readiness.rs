//! Waits until a started container is ready: healthy by its check, or up for a while.

use std::time::{Duration, Instant};

use gubernum_core::container::{Container, Health, State};
use gubernum_engine::logs::LogQuery;
use serde_json::Value;

use crate::operations::target_run::{Stopped, TargetRun, seconds};

/// How often it is looked at.
const LOOK_EVERY: Duration = Duration::from_millis(250);
/// The longest wait for a health check, whatever the check's own settings.
const LONGEST: Duration = Duration::from_secs(15 * 60);
/// The longest wait for what runs to its end, such as a migration.
const LONGEST_RUN: Duration = Duration::from_secs(6 * 3600);
/// How many of its last lines are read for why it ended.
const LAST_LINES: u32 = 20;
/// Looks that may fail in a row before it is given up.
const FAILED_LOOKS: u32 = 40;

impl TargetRun<'_> {
    /// Waits until the container is healthy, or up for `wanted` seconds when it has no check; whether it has one.
    pub(super) async fn watch(&self, id: &str, wanted: u32) -> Result<bool, Stopped> {
        let began = Instant::now();
        let (mut first, mut failed, mut checked) =
            (None::<(u64, Option<jiff::Timestamp>)>, 0, Instant::now());
        loop {
            let inspected = match self.engine.inspect(id).await {
                Ok(inspected) => inspected,
                Err(e) if e.status() == Some(404) => {
                    return Err(Stopped::Failed("it exited and the engine removed it".to_owned()));
                }
                Err(error) => {
                    failed += 1;
                    if failed > FAILED_LOOKS {
                        return Err(error.into());
                    }
                    self.pause().await?;
                    continue;
                }
            };
            failed = 0;
            let c = &inspected.container;
            let run = *first.get_or_insert((c.restart_count, c.started));
            let restarted =
                c.restart_count > run.0 || (c.started.is_some() && run.1.is_some() && c.started != run.1);
            if restarted || !matches!(c.state, State::Running | State::Paused) {
                return Err(Stopped::Failed(self.why(c).await));
            }
            let check = &inspected.raw["Config"]["Healthcheck"];
            match c.health {
                Health::Healthy => return Ok(true),
                Health::Unhealthy => return Err(Stopped::Failed(self.why(c).await)),
                Health::Starting => {
                    let most = verdict(check).min(LONGEST);
                    if began.elapsed() > most {
                        let said = self.last_words(c).await;
                        let sentence = format!("it did not become healthy within {}{said}", seconds(most));
                        return Err(Stopped::Failed(sentence));
                    }
                    // Where the engine has no timer for checks of its own, they are run from here.
                    let interval = Duration::from_nanos(check["Interval"].as_u64().unwrap_or(0))
                        .max(Duration::from_secs(1));
                    if checked.elapsed() >= interval.min(Duration::from_secs(30)) {
                        checked = Instant::now();
                        let _ = self.engine.check_health(id).await;
                    }
                }
                Health::None if began.elapsed() >= Duration::from_secs(u64::from(wanted)) => {
                    return Ok(false);
                }
                Health::None => {}
            }
            self.pause().await?;
        }
    }

    /// Waits until the container has come to its end; it is well when its exit code is 0.
    pub(super) async fn wait_for_end(&self, id: &str) -> Result<(), Stopped> {
        let (began, mut failed) = (Instant::now(), 0);
        loop {
            match self.engine.inspect(id).await {
                Ok(inspected) => {
                    failed = 0;
                    let c = &inspected.container;
                    match (c.state, c.exit_code) {
                        (State::Exited, Some(0)) => return Ok(()),
                        (State::Exited | State::Dead, _) => return Err(Stopped::Failed(self.why(c).await)),
                        _ if began.elapsed() > LONGEST_RUN => {
                            let most = seconds(LONGEST_RUN);
                            return Err(Stopped::Failed(format!("it did not exit within {most}")));
                        }
                        _ => {}
                    }
                }
                Err(e) if e.status() == Some(404) => {
                    return Err(Stopped::Failed("it exited and the engine removed it".to_owned()));
                }
                Err(error) => {
                    failed += 1;
                    if failed > FAILED_LOOKS {
                        return Err(error.into());
                    }
                }
            }
            self.pause().await?;
        }
    }

    async fn pause(&self) -> Result<(), Stopped> {
        tokio::select! {
            () = tokio::time::sleep(LOOK_EVERY) => Ok(()),
            () = self.active.cancel.cancelled() => Err(Stopped::CalledOff),
        }
    }

    /// Why it is not up, by the same rules as everywhere.
    async fn why(&self, c: &Container) -> String {
        let mut c = c.clone();
        c.host.clone_from(&self.host);
        c.last_lines = self.lines(&c).await;
        c.asked_to_end = Some(false);
        let judged = self.executor.hub.look(|fleet| {
            fleet.host(&self.host).and_then(|host| gubernum_core::reason::judge(&c, host)).map(|r| r.sentence)
        });
        judged.map_or_else(
            || {
                let code = match c.exit_code {
                    Some(code) => format!(" with code {code}"),
                    None => " and the engine started it again".to_owned(),
                };
                let said = telling(&c.last_lines).map_or_else(String::new, |l| format!("; last output: {l}"));
                format!("the new container exited{code}{said}")
            },
            |sentence| format!("the new container did not come up: {sentence}"),
        )
    }

    async fn last_words(&self, c: &Container) -> String {
        telling(&self.lines(c).await).map_or_else(String::new, |line| format!("; last output: {line}"))
    }

    async fn lines(&self, c: &Container) -> Vec<String> {
        let query = LogQuery { tail: Some(LAST_LINES), ..LogQuery::default() };
        let read = async {
            let mut reader = self.engine.logs(&c.id, c.terminal, &query).await.ok()?;
            let mut lines = Vec::new();
            while let Ok(Some(more)) = reader.next().await {
                lines.extend(more);
            }
            Some(lines)
        };
        let lines =
            tokio::time::timeout(Duration::from_secs(3), read).await.ok().flatten().unwrap_or_default();
        let from = lines.len().saturating_sub(LAST_LINES as usize);
        lines[from..]
            .iter()
            .map(|l| gubernum_core::text::shown(&String::from_utf8_lossy(&l.bytes), 300))
            .collect()
    }
}

/// The last line that reports trouble, else the last.
fn telling(lines: &[String]) -> Option<&String> {
    let grave = |line: &&String| {
        gubernum_core::logs::level::level(line.as_bytes())
            .is_some_and(|l| l >= gubernum_core::logs::level::Level::Error)
    };
    lines.iter().rev().find(grave).or(lines.last())
}

/// When a check has spoken at the latest.
fn verdict(check: &Value) -> Duration {
    let nanos = |key: &str, usual: u64| {
        Duration::from_nanos(check[key].as_u64().filter(|n| *n > 0).unwrap_or(usual * 1_000_000_000))
    };
    let retries = check["Retries"].as_u64().filter(|r| *r > 0).unwrap_or(3);
    let once = nanos("Interval", 30) + nanos("Timeout", 30);
    let start = Duration::from_nanos(check["StartPeriod"].as_u64().unwrap_or(0));
    start + once * u32::try_from(retries + 1).unwrap_or(4) + Duration::from_secs(2)
}
