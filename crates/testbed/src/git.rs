//! A Git repository on loopback, over HTTP with an account and over SSH with a key.

use std::net::TcpStream;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use tempfile::TempDir;

use crate::BedError;
use crate::process::{Running, finished, run};
use crate::real::free_address;

/// The account that may read over HTTP.
pub const ACCOUNT: (&str, &str) = ("reader", "russet-pears");

/// A repository with its servers. They end when dropped.
pub struct GitPeer {
    folder: TempDir,
    http: String,
    ssh: String,
    _web: Running,
    _sshd: Running,
}

impl GitPeer {
    /// Makes an empty repository and serves it.
    ///
    /// # Errors
    /// When a program is not installed or does not come up.
    pub fn start() -> Result<Self, BedError> {
        let folder = tempfile::Builder::new().prefix("gubernum-git-").tempdir()?;
        let at = folder.path();
        let repositories = at.join("repositories");
        std::fs::create_dir_all(at.join("web/cgi-bin"))?;
        std::fs::create_dir_all(&repositories)?;
        git(at, &["init", "--quiet", "--bare", "--initial-branch=main", "repositories/frost.git"])?;
        git(at, &["init", "--quiet", "--initial-branch=main", "work"])?;
        let (http, web) = serve_http(at, &repositories)?;
        let (ssh, sshd) = serve_ssh(at)?;
        Ok(Self { folder, http, ssh, _web: web, _sshd: sshd })
    }

    /// The repository's address over HTTP; [`ACCOUNT`] may read it.
    pub fn http_url(&self) -> String {
        format!("http://{}/cgi-bin/git/frost.git", self.http)
    }

    /// The repository's address over SSH.
    pub fn ssh_url(&self) -> String {
        format!("ssh://root@{}{}", self.ssh, self.repository().display())
    }

    fn repository(&self) -> PathBuf {
        self.folder.path().join("repositories/frost.git")
    }

    /// The key that may read over SSH.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn ssh_key(&self) -> Result<String, BedError> {
        Ok(std::fs::read_to_string(self.folder.path().join("member"))?)
    }

    /// What the SSH server is known by.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn known_hosts(&self) -> Result<String, BedError> {
        let key = std::fs::read_to_string(self.folder.path().join("host.pub"))?;
        let (address, port) = self.ssh.split_once(':').unwrap_or((&self.ssh, "22"));
        Ok(format!("[{address}]:{port} {key}"))
    }

    /// Commits files, by their paths, and pushes; returns the commit's name. A file without a text goes.
    ///
    /// # Errors
    /// When the program refuses.
    pub fn push(&self, files: &[(&str, Option<&str>)], subject: &str) -> Result<String, BedError> {
        let work = self.folder.path().join("work");
        for (name, text) in files {
            let path = work.join(name);
            match text {
                Some(text) => {
                    if let Some(parent) = path.parent() {
                        std::fs::create_dir_all(parent)?;
                    }
                    std::fs::write(path, text)?;
                }
                None => std::fs::remove_file(path)?,
            }
        }
        self.push_work(subject)
    }

    /// Commits a link and pushes.
    ///
    /// # Errors
    /// When the program refuses.
    pub fn push_link(&self, name: &str, to: &str, subject: &str) -> Result<String, BedError> {
        let path = self.folder.path().join("work").join(name);
        let _ = std::fs::remove_file(&path);
        std::os::unix::fs::symlink(to, path)?;
        self.push_work(subject)
    }

    fn push_work(&self, subject: &str) -> Result<String, BedError> {
        let work = self.folder.path().join("work");
        git(&work, &["add", "--all"])?;
        git(&work, &["commit", "--quiet", "--allow-empty", "--message", subject])?;
        let to = self.repository().display().to_string();
        git(&work, &["push", "--quiet", &to, "HEAD:main"])?;
        Ok(git(&work, &["rev-parse", "HEAD"])?.trim().to_owned())
    }
}

/// `git` without anybody's settings.
fn git(folder: &Path, arguments: &[&str]) -> Result<String, BedError> {
    let mut command = Command::new("git");
    command.args(arguments).current_dir(folder);
    command.env("GIT_CONFIG_NOSYSTEM", "1").env("GIT_CONFIG_GLOBAL", "/dev/null");
    for who in ["AUTHOR", "COMMITTER"] {
        command.env(format!("GIT_{who}_NAME"), "Mara Quill");
        command.env(format!("GIT_{who}_EMAIL"), "mara@tarnvalley.example");
    }
    finished(command)
}

/// Serves the repositories over HTTP to one account, by way of git's own program behind a small web server.
fn serve_http(at: &Path, repositories: &Path) -> Result<(String, Running), BedError> {
    let script = at.join("web/cgi-bin/git");
    let text = format!(
        "#!/bin/sh\nexport PATH=/usr/local/bin:/usr/bin:/bin GIT_HTTP_EXPORT_ALL=1 GIT_PROJECT_ROOT={}\nexec git http-backend\n",
        repositories.display()
    );
    std::fs::write(&script, text)?;
    std::fs::set_permissions(&script, std::fs::Permissions::from_mode(0o755))?;
    let (account, password) = ACCOUNT;
    std::fs::write(at.join("httpd.conf"), format!("/cgi-bin:{account}:{password}\n"))?;
    let address = free_address()?;
    let mut command = Command::new("busybox");
    command
        .args(["httpd", "-f", "-p", &address, "-h"])
        .arg(at.join("web"))
        .arg("-c")
        .arg(at.join("httpd.conf"));
    let mut web = Running::start(command, &at.join("web.log"), Duration::from_secs(3))?;
    web.wait_until("the web server", 20, || TcpStream::connect(&address).is_ok())?;
    Ok((address, web))
}

/// Serves this machine over SSH to one key.
fn serve_ssh(at: &Path) -> Result<(String, Running), BedError> {
    for name in ["host", "member"] {
        let path = at.join(name).display().to_string();
        run("ssh-keygen", &["-q", "-t", "ed25519", "-N", "", "-C", "testbed", "-f", &path])?;
    }
    let address = free_address()?;
    let (host, port) = address.split_once(':').unwrap_or((&address, "22"));
    let settings = format!(
        "ListenAddress {host}\nPort {port}\nHostKey {0}/host\nAuthorizedKeysFile {0}/member.pub\nStrictModes no\nUsePAM no\nPasswordAuthentication no\nPermitRootLogin prohibit-password\nPidFile none\n",
        at.display()
    );
    std::fs::write(at.join("sshd.conf"), settings)?;
    // It wants this folder, which the system makes when it starts it itself.
    std::fs::create_dir_all("/run/sshd")?;
    let mut command = Command::new("/usr/sbin/sshd");
    command.args(["-D", "-e", "-f"]).arg(at.join("sshd.conf"));
    let mut sshd = Running::start(command, &at.join("sshd.log"), Duration::from_secs(3))?;
    sshd.wait_until("sshd", 20, || TcpStream::connect(&address).is_ok())?;
    Ok((address, sshd))
}
