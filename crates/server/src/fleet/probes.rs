//! Probes beside the event stream: the machine, images, volumes and networks, the disk, and the last log lines of
//! failed containers. Slow answers here delay no event.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use gubernum_core::assets::{Assets, Disk, Image};
use gubernum_core::container::{Container, Health, State};
use gubernum_core::fleet::Observation;
use gubernum_engine::assets::{Inside, Measured};
use gubernum_engine::logs::LogQuery;
use gubernum_engine::{Engine, EngineError};
use tokio::sync::{Notify, mpsc};
use tokio::time::{Instant, sleep_until, timeout};

use crate::fleet::watcher::Watcher;

/// Changes of images, volumes and networks come in bursts: one look after the burst.
const SETTLE: Duration = Duration::from_millis(400);
const MACHINE_EVERY: Duration = Duration::from_secs(60);
/// Measuring the disk makes an engine walk through its data.
const FIRST_MEASURE: Duration = Duration::from_secs(3);
const MEASURE_EVERY: Duration = Duration::from_secs(900);
/// After things came or went it is measured sooner, but never more often than this, and so seldom that it takes the
/// engine a small part of its time.
const MEASURE_PAUSE: Duration = Duration::from_secs(5);
const MEASURE_AFTER_CHANGES: Duration = Duration::from_secs(30);
const MEASURE_SHARE: u32 = 20;
/// The last lines that are looked at, and how long one is at most.
const LAST_LINES: u32 = 20;
const LONGEST_LINE: usize = 400;
const LINES_TIMEOUT: Duration = Duration::from_secs(5);
/// The last words of one container are asked for at most this often.
const WORRY_EVERY: Duration = Duration::from_secs(5);
/// Containers whose last words wait to be asked for; more are left until the next listing.
const WORRIES: usize = 512;

/// How the follower of events tells what to look at.
pub(crate) struct Probes {
    assets: Arc<Notify>,
    worries: mpsc::Sender<(String, bool)>,
}

/// The other end.
pub(crate) struct ProbeRequests {
    assets: Arc<Notify>,
    worries: mpsc::Receiver<(String, bool)>,
}

impl Probes {
    pub(crate) fn new() -> (Self, ProbeRequests) {
        let assets = Arc::new(Notify::new());
        let (sender, receiver) = mpsc::channel(WORRIES);
        (Self { assets: assets.clone(), worries: sender }, ProbeRequests { assets, worries: receiver })
    }

    /// Images, volumes or networks may be different.
    pub(crate) fn look_at_assets(&self) {
        self.assets.notify_one();
    }

    /// Looks at a container's last words if it ended badly.
    pub(crate) fn worry(&self, c: &Container) {
        let badly = match c.state {
            State::Restarting | State::Dead => true,
            State::Exited => c.exit_code != Some(0),
            State::Running => c.health == Health::Unhealthy,
            _ => false,
        };
        if badly {
            let _ = self.worries.try_send((c.id.clone(), c.terminal));
        }
    }
}

impl Watcher {
    /// Worries about everything that a listing brought.
    pub(crate) fn worry_about_all(&self, probes: &Probes) {
        self.hub.look(|fleet| fleet.containers_of(&self.name).for_each(|c| probes.worry(c)));
    }

    /// Looks after the host for as long as the engine answers; returns what went wrong.
    pub(crate) async fn look_after(&self, engine: &Engine, mut requests: ProbeRequests) -> EngineError {
        if let Err(error) = self.remember_unused().await {
            tracing::error!(host = %self.name, "the times of last use cannot be read: {error}");
        }
        let mut known: HashMap<String, Inside> = HashMap::new();
        let mut measured = Measured::default();
        let mut asked: HashMap<String, Instant> = HashMap::new();
        let now = Instant::now();
        let (mut machine_at, mut assets_at, mut measure_at) = (now, Some(now), now + FIRST_MEASURE);
        // Before this it is not measured again.
        let mut rested = now;
        loop {
            let never = Instant::now() + Duration::from_secs(86_400);
            let outcome = tokio::select! {
                () = requests.assets.notified() => {
                    assets_at = Some(assets_at.unwrap_or_else(|| Instant::now() + SETTLE));
                    measure_at = measure_at.min(rested.max(Instant::now() + MEASURE_AFTER_CHANGES));
                    Ok(())
                }
                () = sleep_until(machine_at) => {
                    machine_at = Instant::now() + MACHINE_EVERY;
                    self.see_machine(engine, &measured).await
                }
                () = sleep_until(assets_at.unwrap_or(never)) => {
                    assets_at = None;
                    self.see_assets(engine, &mut known, &measured).await
                }
                () = self.measure.notified() => {
                    measure_at = measure_at.min(rested.max(Instant::now() + SETTLE * 2));
                    Ok(())
                }
                () = sleep_until(measure_at) => {
                    let began = Instant::now();
                    let done = engine.measure(self.clock.now()).await.map(|m| measured = m);
                    measure_at = Instant::now() + MEASURE_EVERY;
                    rested = Instant::now() + (began.elapsed() * MEASURE_SHARE).max(MEASURE_PAUSE);
                    assets_at = Some(Instant::now());
                    machine_at = Instant::now();
                    done
                }
                Some((id, terminal)) = requests.worries.recv() => {
                    let soon = asked.get(&id).is_some_and(|at| at.elapsed() < WORRY_EVERY);
                    if !soon {
                        asked.retain(|_, at| at.elapsed() < WORRY_EVERY);
                        asked.insert(id.clone(), Instant::now());
                        self.see_last_lines(engine, id, terminal).await;
                    }
                    Ok(())
                }
            };
            match outcome {
                Ok(()) => {}
                // The engine answers, but cannot tell this.
                Err(error) if error.status().is_some() || !error.is_link() => {
                    tracing::warn!(host = %self.name, "some facts about the host are missing: {error}");
                }
                Err(error) => return error,
            }
        }
    }

    async fn remember_unused(&self) -> Result<(), gubernum_store::StoreError> {
        let host = self.name.clone();
        let known = self.db.run(move |store| store.unused(&host)).await?;
        self.observe(Observation::UnusedBefore { host: self.name.clone(), known });
        Ok(())
    }

    async fn see_machine(&self, engine: &Engine, measured: &Measured) -> Result<(), EngineError> {
        let machine = Box::new(engine.machine(|| self.clock.now()).await?);
        let mut disk = measured.disk;
        if let Some((total, used)) = engine.file_system().await {
            // To the nearest 16 MiB: logs and temporary files move it all the time.
            disk = Disk { total: Some(total), used: Some(used >> 24 << 24), ..disk };
        }
        self.observe(Observation::Machine { host: self.name.clone(), machine, disk });
        Ok(())
    }

    async fn see_assets(
        &self,
        engine: &Engine,
        known: &mut HashMap<String, Inside>,
        measured: &Measured,
    ) -> Result<(), EngineError> {
        let mut assets: Assets = engine.holds(known).await?;
        let inside = |i: &Image| {
            let inside = Inside { architecture: i.architecture.clone(), layers: i.layers.clone() };
            i.architecture.is_some().then(|| (i.id.clone(), inside))
        };
        *known = assets.images.iter().filter_map(inside).collect();
        assets.written = measured.written.iter().map(|(id, bytes)| (id.clone(), *bytes)).collect();
        for image in &mut assets.images {
            image.shared = measured.shared.get(&image.id).copied();
        }
        for volume in &mut assets.volumes {
            volume.size = measured.volumes.get(&volume.name).copied();
        }
        let host = self.name.clone();
        let before: HashSet<_> = self.hub.look(|f| f.unused_of(&host)).into_iter().collect();
        self.observe(Observation::Holds { host: host.clone(), assets: Box::new(assets) });
        let unused = self.hub.look(|f| f.unused_of(&host));
        if unused.len() != before.len() || unused.iter().any(|u| !before.contains(u)) {
            let kept = self.db.run(move |store| store.set_unused(&host, &unused)).await;
            if let Err(error) = kept {
                tracing::error!(host = %self.name, "the times of last use could not be saved: {error}");
            }
        }
        Ok(())
    }

    async fn see_last_lines(&self, engine: &Engine, id: String, terminal: bool) {
        let query = LogQuery { tail: Some(LAST_LINES), ..LogQuery::default() };
        let read = async {
            let mut reader = engine.logs(&id, terminal, &query).await?;
            let mut lines = Vec::new();
            while let Some(more) = reader.next().await? {
                lines.extend(more);
            }
            Ok::<_, EngineError>(lines)
        };
        // A log that cannot be read, by its driver or because it is gone, only means less evidence.
        let Ok(Ok(lines)) = timeout(LINES_TIMEOUT, read).await else { return };
        let from = lines.len().saturating_sub(LAST_LINES as usize);
        let text = |bytes: &[u8]| {
            gubernum_core::text::shown(
                &String::from_utf8_lossy(&bytes[..bytes.len().min(LONGEST_LINE * 4)]),
                LONGEST_LINE,
            )
        };
        let lines = lines[from..].iter().map(|l| text(&l.bytes)).collect();
        self.observe(Observation::LastLines { host: self.name.clone(), id, lines });
    }
}
