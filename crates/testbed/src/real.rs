//! Real engines of this machine on Unix sockets: dockerd and podman's service, with a small image.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use gubernum_engine::Endpoint;
use tempfile::TempDir;

use crate::BedError;
use crate::process::{Running, finished, run};

/// The image that every real engine of the tests holds: busybox and its links.
pub const IMAGE: &str = "localhost/testbed/busybox:latest";

const LINKS: [&str; 26] = [
    "sh", "sleep", "echo", "cat", "printf", "head", "tail", "dd", "tr", "yes", "seq", "true", "false",
    "date", "ls", "env", "kill", "nc", "ps", "wc", "mv", "rm", "chmod", "chown", "stat", "mkdir",
];

/// A real engine on a Unix socket.
pub struct RealEngine {
    kind: Kind,
    process: Running,
    folder: TempDir,
    socket: PathBuf,
    /// An address of loopback where a registry may be that it speaks plainly with. dockerd does so with all of them.
    pub trusted: String,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Dockerd,
    Podman,
}

/// Makes an image archive with busybox in it and gives its path.
///
/// # Errors
/// When busybox is missing or the files cannot be written.
pub fn image_archive(folder: &Path) -> Result<PathBuf, BedError> {
    let root = folder.join("image");
    std::fs::create_dir_all(root.join("bin"))?;
    std::fs::create_dir_all(root.join("tmp"))?;
    std::fs::copy("/bin/busybox", root.join("bin/busybox"))
        .map_err(|_| BedError::Missing("busybox".into()))?;
    for link in LINKS {
        let path = root.join("bin").join(link);
        if !path.exists() {
            std::os::unix::fs::symlink("busybox", path)?;
        }
    }
    let archive = folder.join("image.tar");
    run("tar", &["-C", &root.to_string_lossy(), "-cf", &archive.to_string_lossy(), "."])?;
    Ok(archive)
}

/// An address of loopback where nothing listens.
///
/// # Errors
/// When there is none.
pub fn free_address() -> Result<String, BedError> {
    Ok(std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.to_string())
}

impl RealEngine {
    /// Starts a dockerd of its own, without networks, in a new folder.
    ///
    /// # Errors
    /// When it is not installed or does not come up.
    pub fn dockerd() -> Result<Self, BedError> {
        let folder = tempfile::Builder::new().prefix("gubernum-bed-").tempdir()?;
        let at = |name: &str| folder.path().join(name);
        let socket = at("engine.sock");
        let mut command = Command::new("dockerd");
        command
            .args(["--bridge=none", "--iptables=false", "--ip-forward=false", "--shutdown-timeout=2"])
            .arg(format!("--data-root={}", at("data").display()))
            .arg(format!("--exec-root={}", at("exec").display()))
            .arg(format!("--host=unix://{}", socket.display()))
            .arg(format!("--pidfile={}", at("pid").display()));
        let process = Running::start(command, &at("log"), Duration::from_secs(20))?;
        let mut engine = Self { kind: Kind::Dockerd, process, folder, socket, trusted: free_address()? };
        engine.finish()?;
        Ok(engine)
    }

    /// Starts a podman service of its own in a new folder.
    ///
    /// # Errors
    /// When it is not installed or does not come up.
    pub fn podman() -> Result<Self, BedError> {
        Self::podman_with(&free_address()?)
    }

    /// Starts a podman service that speaks plainly with the registry at this address.
    ///
    /// # Errors
    /// When it is not installed or does not come up.
    pub fn podman_with(registry: &str) -> Result<Self, BedError> {
        let folder = tempfile::Builder::new().prefix("gubernum-bed-").tempdir()?;
        let at = |name: &str| folder.path().join(name);
        Self::write_podman_settings(folder.path(), registry)?;
        let socket = at("engine.sock");
        let mut command = Self::podman_command(folder.path());
        command.args(["system", "service", "--time=0"]).arg(format!("unix://{}", socket.display()));
        let process = Running::start(command, &at("log"), Duration::from_secs(5))?;
        let mut engine = Self { kind: Kind::Podman, process, folder, socket, trusted: registry.to_owned() };
        engine.finish()?;
        Ok(engine)
    }

    /// Writes podman's own settings into the folder in which it keeps everything.
    pub(crate) fn write_podman_settings(folder: &Path, registry: &str) -> Result<(), BedError> {
        // Limits may not be raised where the tests run.
        std::fs::write(
            folder.join("containers.conf"),
            "[containers]\ndefault_ulimits = [\"nofile=1024:1024\", \"nproc=1024:1024\"]\n",
        )?;
        let plain = format!("[[registry]]\nlocation = \"{registry}\"\ninsecure = true\n");
        Ok(std::fs::write(folder.join("registries.conf"), plain)?)
    }

    /// Names those settings to a command.
    pub(crate) fn podman_settings(command: &mut Command, folder: &Path) {
        command.env("CONTAINERS_CONF", folder.join("containers.conf"));
        command.env("CONTAINERS_REGISTRIES_CONF", folder.join("registries.conf"));
    }

    /// The words that keep a podman and its client in this folder.
    pub(crate) fn podman_words(folder: &Path) -> Vec<String> {
        let places = [("--root", "root"), ("--runroot", "runroot"), ("--tmpdir", "tmp")];
        let places = places.iter().flat_map(|(f, n)| [(*f).to_owned(), folder.join(n).display().to_string()]);
        let others = ["--runtime", "runc", "--cgroup-manager=cgroupfs", "--events-backend=file"];
        places.chain(others.map(str::to_owned)).collect()
    }

    fn podman_command(folder: &Path) -> Command {
        let mut command = Command::new("podman");
        Self::podman_settings(&mut command, folder);
        command.args(Self::podman_words(folder));
        command
    }

    fn finish(&mut self) -> Result<(), BedError> {
        let socket = self.socket.clone();
        let what = if self.kind == Kind::Dockerd { "dockerd" } else { "podman" };
        self.process.wait_until(what, 60, || std::os::unix::net::UnixStream::connect(&socket).is_ok())?;
        let archive = image_archive(self.folder.path())?;
        self.tool(&["import", &archive.to_string_lossy(), IMAGE])?;
        Ok(())
    }

    /// Runs the engine's client against it, as somebody at the host would.
    ///
    /// # Errors
    /// When the client fails.
    pub fn tool(&self, arguments: &[&str]) -> Result<String, BedError> {
        match self.kind {
            Kind::Dockerd => {
                let host = format!("unix://{}", self.socket.display());
                run("docker", &[&["--host", host.as_str()], arguments].concat())
            }
            Kind::Podman => {
                let mut command = Self::podman_command(self.folder.path());
                command.args(arguments);
                finished(command)
            }
        }
    }

    /// Makes an image with this command, as its operator would.
    ///
    /// # Errors
    /// When the client fails.
    pub fn make_image(&self, name: &str, command: &[&str]) -> Result<(), BedError> {
        let change = format!("CMD {}", serde_json::json!(command));
        let archive = self.folder.path().join("image.tar");
        self.tool(&["import", "--change", &change, &archive.to_string_lossy(), name]).map(drop)
    }

    /// Where it listens.
    pub fn endpoint(&self) -> Endpoint {
        Endpoint::Unix(self.socket.clone())
    }
}

impl Drop for RealEngine {
    fn drop(&mut self) {
        if self.kind == Kind::Podman {
            // Its containers outlive the service.
            let _ = self.tool(&["rm", "--all", "--force", "--time", "0"]);
        }
        self.process.end();
    }
}
