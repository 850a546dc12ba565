//! The tools that the chores need, and how they are installed.

use std::path::Path;
use std::process::{Command, Stdio};

use crate::run::{Chore, ChoreError, root, say};

/// Programs that the tests use, each with the Debian package that brings it.
const NEEDED: &[(&str, &str)] = &[
    ("dockerd", "docker.io"),
    ("podman", "podman"),
    ("conmon", "conmon"),
    ("runc", "runc"),
    ("docker-registry", "docker-registry"),
    ("htpasswd", "apache2-utils"),
    ("busybox", "busybox-static"),
    ("chromium", "chromium"),
    ("chromedriver", "chromium-driver"),
    ("ip", "iproute2"),
    ("iptables", "iptables"),
    ("nsenter", "util-linux"),
    ("tar", "tar"),
    ("curl", "curl"),
    ("rg", "ripgrep"),
    ("tmux", "tmux"),
    ("promtool", "prometheus"),
    ("git", "git"),
    ("ssh", "openssh-client"),
    ("sshd", "openssh-server"),
    ("slapd", "slapd"),
];

/// Packages without a program of their own.
const ALSO: &[(&str, &str)] = &[
    ("/usr/share/containers/containers.conf", "golang-github-containers-common"),
    ("/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf", "fonts-dejavu-core"),
];

fn is_there(program: &str) -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let more = ["/usr/sbin", "/sbin"].map(Path::new);
    std::env::split_paths(&path)
        .chain(more.iter().map(|p| p.to_path_buf()))
        .any(|folder| folder.join(program).is_file())
}

/// Installs the Debian packages that are missing, then the console's packages.
pub(crate) fn setup(chore: &mut Chore) -> Result<(), ChoreError> {
    let programs = NEEDED.iter().filter(|(program, _)| !is_there(program)).map(|(_, package)| *package);
    let files = ALSO.iter().filter(|(file, _)| !Path::new(file).exists()).map(|(_, package)| *package);
    let mut missing: Vec<&str> = programs.chain(files).collect();
    missing.dedup();
    // Debian's own docker command may be shadowed by another; the engine is what counts.
    if missing.is_empty() {
        say("All Debian packages that the tests need are there.");
    } else {
        say(&format!("Missing: {}", missing.join(" ")));
        chore.run(&mut apt(&["update", "-q"]))?;
        chore.run(&mut apt(&[&["install", "-q", "-y", "--no-install-recommends"], &missing[..]].concat()))?;
    }
    node(chore)
}

fn apt(arguments: &[&str]) -> Command {
    let mut command = Command::new("apt-get");
    // Run level 1: packages that bring a service must not start it.
    command.args(arguments).env("DEBIAN_FRONTEND", "noninteractive").env("RUNLEVEL", "1");
    command
}

/// Makes sure of Node.js and of the console's packages as the lock file names them.
pub(crate) fn node(chore: &mut Chore) -> Result<(), ChoreError> {
    let version = Command::new("node").arg("--version").stdin(Stdio::null()).output();
    let major = version.ok().and_then(|out| {
        let text = String::from_utf8_lossy(&out.stdout).trim().trim_start_matches('v').to_owned();
        text.split('.').next()?.parse::<u32>().ok()
    });
    if major.is_none_or(|major| major < 20) {
        return Err(ChoreError::Missing {
            program: "node 20 or later".to_owned(),
            remedy: "install Node.js with npm, e.g. 'apt-get install nodejs npm'".to_owned(),
        });
    }
    let console = root().join("console");
    let time = |path: &Path| std::fs::metadata(path).and_then(|m| m.modified()).ok();
    let installed = time(&console.join("node_modules/.package-lock.json"));
    if installed.is_some() && installed >= time(&console.join("package-lock.json")) {
        return Ok(());
    }
    chore.npm(&["ci", "--ignore-scripts"])
}
