//! Where files are reached: inside a container, or in a volume by way of a container that mounts it. A volume that no
//! running container mounts is reached through a helper that is never started.

use gubernum_core::container::{Mount, State as Runs};
use gubernum_core::text::shown;
use gubernum_engine::Engine;
use gubernum_engine::hostfs::{PLACE, Stat};

use super::containers::{engine, find};
use super::problem::ApiError;
use crate::app::App;
use crate::files::{checked_path, split};

/// A place with files.
pub(super) struct Spot {
    pub(super) engine: Engine,
    pub(super) host: String,
    /// The container through which it is reached.
    pub(super) id: String,
    /// That container runs, and its programs can be used.
    pub(super) runs: bool,
    /// What it is called.
    pub(super) object: String,
    /// Where in the container it begins; empty for the whole of it.
    base: String,
    mounts: Vec<Mount>,
    helper: Option<Finally>,
}

impl Spot {
    /// A container.
    pub(super) fn container(app: &App, host: &str, name: &str) -> Result<Self, ApiError> {
        let container = find(app, host, name)?;
        let engine = engine(app, &container.host)?;
        Ok(Self {
            engine,
            runs: container.state == Runs::Running,
            object: container.reference(),
            host: container.host,
            base: String::new(),
            id: container.id,
            mounts: container.mounts,
            helper: None,
        })
    }

    /// A volume; with `write` only what may write into it will do.
    pub(super) async fn volume(app: &App, host: &str, volume: &str, write: bool) -> Result<Self, ApiError> {
        let engine = engine(app, host)?;
        let object = format!("{host}/{volume}");
        let by = app.hub.look(|fleet| {
            let running = fleet.containers_of(host).filter(|c| c.state == Runs::Running);
            running.flat_map(|c| c.mounts.iter().map(move |m| (c, m))).find_map(|(c, m)| {
                let fits = m.kind == "volume" && m.source == volume && !(write && m.read_only);
                fits.then(|| (c.id.clone(), m.target.trim_end_matches('/').to_owned()))
            })
        });
        if let Some((id, base)) = by {
            let host = host.to_owned();
            return Ok(Self { engine, host, id, runs: true, object, base, mounts: Vec::new(), helper: None });
        }
        Self::helped(app, host, volume, !write).await
    }

    /// A volume by way of a helper, whoever else mounts it.
    pub(super) async fn helped(
        app: &App,
        host: &str,
        volume: &str,
        read_only: bool,
    ) -> Result<Self, ApiError> {
        let engine = engine(app, host)?;
        let id = engine.with_volume(volume, read_only).await?.id;
        let helper = Finally { app: app.clone(), engine: engine.clone(), id: id.clone() };
        let (object, base) = (format!("{host}/{volume}"), PLACE.to_owned());
        let host = host.to_owned();
        Ok(Self { engine, host, id, runs: false, object, base, mounts: Vec::new(), helper: Some(helper) })
    }

    /// A path of the place as the container has it, and as it is called: inside the place, and allowed.
    pub(super) async fn path(&self, app: &App, path: &str) -> Result<(String, String), ApiError> {
        let own = checked_path(path)?;
        if self.base.is_empty() {
            self.may(app, &own).await?;
            return Ok((own.clone(), own));
        }
        let mut full = self.base.clone();
        for part in own.split('/').filter(|p| !p.is_empty()) {
            let folder = std::mem::take(&mut full);
            full = format!("{folder}/{part}");
            self.stays(&folder, &full).await?;
        }
        Ok((full, own))
    }

    /// The same for what is renamed or taken away: of a link the link itself is meant, wherever it leads.
    pub(super) async fn path_itself(&self, app: &App, path: &str) -> Result<(String, String), ApiError> {
        let own = checked_path(path)?;
        // The root itself is not for changing.
        let (folder, name) = split(&own)?;
        if self.base.is_empty() {
            self.may(app, &own).await?;
            return Ok((own.clone(), own));
        }
        let (folder, _) = self.path(app, &folder).await?;
        Ok((format!("{folder}/{name}"), own))
    }

    /// Paths behind a bind mount are the host's own: only where that is allowed.
    async fn may(&self, app: &App, path: &str) -> Result<(), ApiError> {
        let binds = self.mounts.iter().filter(|m| m.kind == "bind");
        let behind = |target: &str| {
            let target = target.trim_end_matches('/');
            path == target || path.strip_prefix(target).is_some_and(|rest| rest.starts_with('/'))
        };
        let Some(mount) = binds.into_iter().find(|m| behind(&m.target)) else { return Ok(()) };
        if app.db.run(|store| store.preferences()).await?.browse_host_folders {
            return Ok(());
        }
        let text = format!(
            "`{}` is a folder of the host (`{}`); that such folders may be browsed and changed is a setting of the service, which is off",
            mount.target, mount.source
        );
        Err(ApiError::new("host-folder", "A folder of the host", 403, text))
    }

    /// A link in a volume that leads out of it leads into whatever container mounts it.
    async fn stays(&self, folder: &str, full: &str) -> Result<(), ApiError> {
        let link = match self.engine.stat(&self.id, full).await {
            Ok(stat) => stat.link,
            Err(e) if e.status() == Some(404) => None,
            Err(e) => return Err(e.into()),
        };
        let Some(target) = link else { return Ok(()) };
        let whole = if target.starts_with('/') { target.clone() } else { format!("{folder}/{target}") };
        let mut parts: Vec<&str> = Vec::new();
        for part in whole.split('/') {
            match part {
                "" | "." => {}
                ".." => drop(parts.pop()),
                part => parts.push(part),
            }
        }
        let whole = format!("/{}", parts.join("/"));
        if whole == self.base || whole.strip_prefix(&self.base).is_some_and(|r| r.starts_with('/')) {
            return Ok(());
        }
        let own = full.strip_prefix(&self.base).unwrap_or(full);
        let text = format!("`{}` is a link that leads out of the volume", shown(own, 200));
        Err(ApiError::new("leads-outside", "It leads outside", 409, text))
    }

    /// What there is at a path, as the container has it; told of as it is called.
    pub(super) async fn stat(&self, full: &str, own: &str) -> Result<Stat, ApiError> {
        self.engine.stat(&self.id, full).await.map_err(|e| match e.status() {
            Some(404) => ApiError::not_found(format!("there is nothing at `{}`", shown(own, 200))),
            _ => e.into(),
        })
    }

    /// Something is mounted at a path or below it.
    pub(super) fn mounted_at(&self, path: &str) -> bool {
        self.mounts.iter().any(|m| {
            let target = m.target.trim_end_matches('/');
            target == path || target.starts_with(&format!("{path}/"))
        })
    }

    /// Why programs cannot be used in it.
    pub(super) fn without_programs(&self) -> ApiError {
        let text = if self.base.is_empty() {
            format!(
                "{} does not run, and engines can only read and write files of one that is stopped; start it to rename or delete",
                self.object
            )
        } else {
            format!(
                "no running container mounts {} for writing, and engines have no other means to rename or delete in a volume; start one that does",
                self.object
            )
        };
        ApiError::new("not-running", "The container does not run", 409, text)
    }

    /// What must be held until a stream that comes from here is over.
    pub(super) fn held(self) -> Option<Finally> {
        self.helper
    }
}

/// Takes a helper away when it is not needed any more, however that comes.
pub(super) struct Finally {
    app: App,
    engine: Engine,
    id: String,
}

impl Drop for Finally {
    fn drop(&mut self) {
        let (engine, id) = (self.engine.clone(), self.id.clone());
        self.app.tasks.spawn(async move {
            if let Err(error) = engine.remove(&id, true, false).await {
                tracing::debug!("a helper stays behind for now: {error}");
            }
        });
    }
}
