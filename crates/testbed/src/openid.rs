//! A provider of OpenID Connect on loopback: the `oidc-provider` package under Node.js, with people who can be changed while it runs.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use serde_json::{Value, json};
use tempfile::TempDir;

use crate::BedError;
use crate::process::Running;
use crate::real::free_address;

/// The client's id and secret at the provider.
pub const CLIENT: (&str, &str) = ("gubernum", "quince-and-medlar-quince-and-medlar");
/// Everybody's password there.
pub const PASSWORD: &str = "damson jam in the larder";

/// A provider. It ends when dropped.
pub struct OpenidPeer {
    folder: TempDir,
    address: String,
    _running: Running,
}

impl OpenidPeer {
    /// Starts a provider that sends browsers back to a service at this address, with people by name and their groups.
    ///
    /// # Errors
    /// When Node.js or the package is not installed, or it does not come up.
    pub fn start(service: &str, people: &[(&str, &[&str])]) -> Result<Self, BedError> {
        let folder = tempfile::Builder::new().prefix("gubernum-openid-").tempdir()?;
        let root = Path::new(env!("CARGO_MANIFEST_DIR"));
        let console = root.join("../../console");
        if !console.join("node_modules/oidc-provider").exists() {
            return Err(BedError::Missing("oidc-provider".to_owned()));
        }
        let address = free_address()?;
        let port = address.rsplit(':').next().unwrap_or_default();
        let file = folder.path().join("people.json");
        write_people(&file, people)?;
        let mut command = Command::new("node");
        command.arg(root.join("peers/openid-provider.mjs")).arg(console.canonicalize()?).arg(port);
        command.arg(&file).arg(service.trim_end_matches('/'));
        let log = folder.path().join("provider.log");
        let mut running = Running::start(command, &log, Duration::from_secs(2))?;
        running.wait_until("the provider of OpenID Connect", 30, || {
            std::net::TcpStream::connect(&address).is_ok()
        })?;
        Ok(Self { folder, address, _running: running })
    }

    /// The issuer.
    pub fn issuer(&self) -> String {
        format!("http://{}", self.address)
    }

    fn file(&self) -> PathBuf {
        self.folder.path().join("people.json")
    }

    /// Changes who there is and in which groups.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn set_people(&self, people: &[(&str, &[&str])]) -> Result<(), BedError> {
        write_people(&self.file(), people)
    }
}

fn write_people(file: &Path, people: &[(&str, &[&str])]) -> Result<(), BedError> {
    let each = people.iter().map(|(name, groups)| {
        let person = json!({"name": name, "password": PASSWORD, "groups": groups});
        (format!("subject-of-{name}"), person)
    });
    let all: serde_json::Map<String, Value> = each.collect();
    // Whole or not at all: the provider may be reading it.
    let fresh = file.with_extension("new");
    std::fs::write(&fresh, Value::Object(all).to_string())?;
    std::fs::rename(fresh, file)?;
    Ok(())
}
