//! One engine of each kind behind one type, so that one suite runs on all of them.

use gubernum_engine::{Endpoint, Engine};
use gubernum_sim::{PROGRAM_LABEL, Program, SimHost};
use http::Method;
use serde_json::{Value, json};
use tempfile::TempDir;

use crate::BedError;
use crate::real::{IMAGE, RealEngine};

/// The kinds of engine that the suite runs on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BedKind {
    /// Our simulated engine.
    Sim,
    /// Our simulated engine where it speaks as podman does.
    SimPodman,
    /// A real dockerd.
    Dockerd,
    /// A real podman.
    Podman,
}

enum Holder {
    Sim { host: SimHost, _folder: TempDir, endpoint: Endpoint },
    Real(RealEngine),
}

/// An engine to test against.
pub struct Bed {
    /// Which it is.
    pub kind: BedKind,
    /// A link to it.
    pub engine: Engine,
    holder: Holder,
}

impl BedKind {
    /// Whether no real engine is behind it.
    pub fn is_simulated(self) -> bool {
        matches!(self, Self::Sim | Self::SimPodman)
    }
}

impl Bed {
    /// Starts an engine of this kind.
    ///
    /// # Errors
    /// When it does not come up.
    pub async fn start(kind: BedKind) -> Result<Self, BedError> {
        let holder = match kind {
            BedKind::Sim | BedKind::SimPodman => {
                let folder = tempfile::tempdir()?;
                let path = folder.path().join("engine.sock");
                let host = SimHost::start(&path, "bed", 7)?;
                host.add_image(Some(IMAGE), 1 << 22, 3, "amd64");
                if kind == BedKind::SimPodman {
                    host.speak_as_podman();
                }
                Holder::Sim { host, _folder: folder, endpoint: Endpoint::Unix(path) }
            }
            BedKind::Dockerd => Holder::Real(RealEngine::dockerd()?),
            BedKind::Podman => Holder::Real(RealEngine::podman()?),
        };
        let engine = Engine::open(&endpoint(&holder)).await?;
        Ok(Self { kind, engine, holder })
    }

    /// Puts a file on the simulated host; nothing on a real one.
    pub fn put_sim_file(&self, path: &str, bytes: &[u8]) {
        if let Holder::Sim { host, .. } = &self.holder {
            host.put_file(path, bytes);
        }
    }

    /// An address of loopback where a registry may be that this engine speaks plainly with.
    pub fn registry_address(&self) -> String {
        match &self.holder {
            Holder::Real(real) => real.trusted.clone(),
            Holder::Sim { .. } => String::new(),
        }
    }

    /// Where it listens.
    pub fn endpoint(&self) -> Endpoint {
        endpoint(&self.holder)
    }

    /// Makes a container that does `program`; `settings` are laid over the engine API's body.
    ///
    /// # Errors
    /// The engine's refusal.
    pub async fn create(&self, name: &str, program: &Program, settings: Value) -> Result<String, BedError> {
        let mut body = json!({
            "Image": IMAGE,
            "Cmd": ["sh", "-c", program.shell()],
            "Labels": {PROGRAM_LABEL: serde_json::to_string(program).unwrap_or_default()},
            "HostConfig": {"NetworkMode": "none"},
        });
        lay_over(&mut body, settings);
        let path = format!("/containers/create?name={name}");
        let (status, answer) = self.engine.call(Method::POST, &path, Some(&body)).await?;
        let value: Value = serde_json::from_slice(&answer).unwrap_or_default();
        match value["Id"].as_str() {
            Some(id) => Ok(id.to_owned()),
            None => Err(BedError::Command {
                command: format!("create {name}"),
                detail: format!("{status}: {}", String::from_utf8_lossy(&answer)),
            }),
        }
    }

    /// Makes and starts a container.
    ///
    /// # Errors
    /// The engine's refusal.
    pub async fn run(&self, name: &str, program: &Program, settings: Value) -> Result<String, BedError> {
        let id = self.create(name, program, settings).await?;
        self.engine.start(&id).await?;
        Ok(id)
    }
}

fn endpoint(holder: &Holder) -> Endpoint {
    match holder {
        Holder::Sim { endpoint, .. } => endpoint.clone(),
        Holder::Real(real) => real.endpoint(),
    }
}

fn lay_over(base: &mut Value, over: Value) {
    match (base, over) {
        (Value::Object(base), Value::Object(over)) => {
            for (key, value) in over {
                lay_over(base.entry(key).or_insert(Value::Null), value);
            }
        }
        (base, over) => *base = over,
    }
}
