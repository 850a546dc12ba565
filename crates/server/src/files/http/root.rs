//! File roots: a container, or a volume through a container that mounts it. A volume that no running container mounts
//! is reached through a helper container that is never started.

use std::sync::Arc;

use gubernum_core::container::{Mount, State as Runs};
use gubernum_core::text::shown;
use gubernum_engine::Engine;
use gubernum_engine::hostfs::{PLACE, Stat};

use crate::files::FilesContext;
use crate::files::streams::{checked_path, split};
use crate::fleet::View;
use crate::web::problem::ApiError;

/// The most links that a path may lead through.
const MOST_LINKS: usize = 40;

fn leads_outside(own: &str) -> ApiError {
    let text = format!("'{}' leaves the volume through a link", shown(own, 200));
    ApiError::new("leads-outside", "Path leads outside", 409, text)
}

/// Whether a path is behind this target of a mount.
pub(crate) fn is_behind(path: &str, target: &str) -> bool {
    let target = target.trim_end_matches('/');
    path == target || path.strip_prefix(target).is_some_and(|rest| rest.starts_with('/'))
}

/// Refuses a path behind a folder of the host.
fn allowed(closed: &[Mount], path: &str) -> Result<(), ApiError> {
    let Some(mount) = closed.iter().find(|m| is_behind(path, &m.target)) else { return Ok(()) };
    Err(host_folder(mount))
}

/// Why a folder of the host is not looked into.
pub(crate) fn host_folder(mount: &Mount) -> ApiError {
    let text = format!(
        "'{}' is a host folder ('{}'), and browsing host folders is disabled in the settings",
        mount.target, mount.source
    );
    ApiError::new("host-folder", "A folder of the host", 403, text)
}

/// A place with files.
pub(crate) struct FileRoot {
    pub(crate) engine: Engine,
    pub(crate) host: String,
    /// The container through which it is reached.
    pub(crate) id: String,
    /// That container runs, and its programs can be used.
    pub(crate) runs: bool,
    /// What it is called.
    pub(crate) object: String,
    /// Where in the container it begins; empty for the whole of it.
    base: String,
    mounts: Vec<Mount>,
    helper: Option<HelperCleanup>,
}

impl FileRoot {
    /// A container.
    pub(crate) fn container(
        context: &FilesContext,
        view: &View,
        host: &str,
        name: &str,
    ) -> Result<Self, ApiError> {
        let container = view.find_on(host, name)?;
        let engine = context.links.engine(&container.host)?;
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
    pub(crate) async fn volume(
        context: &Arc<FilesContext>,
        host: &str,
        volume: &str,
        write: bool,
    ) -> Result<Self, ApiError> {
        let engine = context.links.engine(host)?;
        let object = format!("{host}/{volume}");
        let by = context.hub.look(|fleet| {
            let running = fleet.containers_of(host).filter(|c| c.state == Runs::Running);
            running.flat_map(|c| c.mounts.iter().map(move |m| (c, m))).find_map(|(c, m)| {
                let fits = m.kind == "volume" && m.source == volume && !(write && m.read_only);
                fits.then(|| (c.id.clone(), m.target.trim_end_matches('/').to_owned(), c.mounts.clone()))
            })
        });
        if let Some((id, base, mounts)) = by {
            let host = host.to_owned();
            return Ok(Self { engine, host, id, runs: true, object, base, mounts, helper: None });
        }
        Self::helped(context, host, volume, !write).await
    }

    /// A volume by way of a helper, whoever else mounts it.
    pub(crate) async fn helped(
        context: &Arc<FilesContext>,
        host: &str,
        volume: &str,
        read_only: bool,
    ) -> Result<Self, ApiError> {
        let engine = context.links.engine(host)?;
        let id = engine.with_volume(volume, read_only).await?.id;
        let helper = HelperCleanup { context: context.clone(), engine: engine.clone(), id: id.clone() };
        let (object, base) = (format!("{host}/{volume}"), PLACE.to_owned());
        let host = host.to_owned();
        Ok(Self { engine, host, id, runs: false, object, base, mounts: Vec::new(), helper: Some(helper) })
    }

    /// A path of the place as the container has it, and as it is called: inside the place, and allowed. Links on the way
    /// are followed here, part by part, so that none leads where the path may not.
    pub(crate) async fn path(
        &self,
        context: &FilesContext,
        path: &str,
    ) -> Result<(String, String), ApiError> {
        let own = checked_path(path)?;
        let full = self.resolved(context, &own, true).await?;
        Ok((full, own))
    }

    /// The same for what is renamed or removed: of a link the link itself is meant, wherever it leads.
    pub(crate) async fn path_itself(
        &self,
        context: &FilesContext,
        path: &str,
    ) -> Result<(String, String), ApiError> {
        let own = checked_path(path)?;
        // The root itself is not for changing.
        split(&own)?;
        let full = self.resolved(context, &own, false).await?;
        Ok((full, own))
    }

    /// Folders of the host that a container mounts may be looked into only where a setting allows it. Gives those that
    /// may not.
    pub(crate) async fn closed(&self, context: &FilesContext) -> Result<Vec<Mount>, ApiError> {
        let binds: Vec<Mount> = self.mounts.iter().filter(|m| m.kind == "bind").cloned().collect();
        if binds.is_empty() || context.db.run(|store| store.preferences()).await?.browse_host_folders {
            return Ok(Vec::new());
        }
        Ok(binds)
    }

    async fn resolved(&self, context: &FilesContext, own: &str, last_too: bool) -> Result<String, ApiError> {
        let closed = self.closed(context).await?;
        let wanted = format!("{}{own}", self.base);
        if self.base.is_empty() && closed.is_empty() {
            // Links stay within the container, and all of it may be looked at.
            return Ok(own.to_owned());
        }
        let mut left: Vec<String> =
            own.split('/').rev().filter(|p| !p.is_empty()).map(str::to_owned).collect();
        let mut done: Vec<String> = Vec::new();
        let mut links = 0;
        while let Some(part) = left.pop() {
            match part.as_str() {
                "" | "." => continue,
                ".." => {
                    if done.pop().is_none() && !self.base.is_empty() {
                        return Err(leads_outside(own));
                    }
                    continue;
                }
                _ => done.push(part),
            }
            let full = format!("{}/{}", self.base, done.join("/"));
            allowed(&closed, &full)?;
            if left.is_empty() && !last_too {
                break;
            }
            let link = match self.engine.stat(&self.id, &full).await {
                Ok(stat) => stat.link,
                Err(e) if e.status() == Some(404) => None,
                Err(e) => return Err(e.into()),
            };
            let Some(target) = link else { continue };
            links += 1;
            if links > MOST_LINKS {
                return Err(leads_outside(own));
            }
            done.pop();
            let inner = match target.strip_prefix('/') {
                None => target.as_str(),
                Some(_) if self.base.is_empty() => {
                    done.clear();
                    target.as_str()
                }
                // An absolute target is the container's; it stays in the volume only below its place.
                Some(_) => {
                    let inner =
                        target.strip_prefix(&self.base).filter(|r| r.is_empty() || r.starts_with('/'));
                    done.clear();
                    inner.ok_or_else(|| leads_outside(own))?
                }
            };
            left.extend(inner.split('/').rev().filter(|p| !p.is_empty()).map(str::to_owned));
        }
        let full = format!("{}/{}", self.base, done.join("/"));
        let full = if done.is_empty() && !self.base.is_empty() { self.base.clone() } else { full };
        tracing::trace!("{wanted} is {full}");
        Ok(full)
    }

    /// The entry at a path in the container. Errors name it as the caller does.
    pub(crate) async fn stat(&self, full: &str, own: &str) -> Result<Stat, ApiError> {
        self.engine.stat(&self.id, full).await.map_err(|e| match e.status() {
            Some(404) => ApiError::not_found(format!("'{}' does not exist", shown(own, 200))),
            _ => e.into(),
        })
    }

    /// Something is mounted at a path or below it.
    pub(crate) fn mounted_at(&self, path: &str) -> bool {
        self.mounts.iter().any(|m| {
            let target = m.target.trim_end_matches('/');
            target == path || target.starts_with(&format!("{path}/"))
        })
    }

    /// Why programs cannot be used in it.
    pub(crate) fn without_programs(&self) -> ApiError {
        let text = if self.base.is_empty() {
            format!(
                "{} is not running; engines can only read and write files of a stopped container. Start it to rename or delete",
                self.object
            )
        } else {
            format!(
                "no running container mounts {} read-write, which renaming and deleting in a volume need; start one that does",
                self.object
            )
        };
        ApiError::new("not-running", "The container is not running", 409, text)
    }

    /// What must be held until a stream that comes from here is over.
    pub(crate) fn held(self) -> Option<HelperCleanup> {
        self.helper
    }
}

/// Removes a helper when it is not needed any more, however that comes.
pub(crate) struct HelperCleanup {
    context: Arc<FilesContext>,
    engine: Engine,
    id: String,
}

impl Drop for HelperCleanup {
    fn drop(&mut self) {
        let (engine, id) = (self.engine.clone(), self.id.clone());
        self.context.tasks.spawn(async move {
            if let Err(error) = engine.remove(&id, true, false).await {
                tracing::debug!("a helper container could not be removed, retrying later: {error}");
            }
        });
    }
}
