//! A real registry of this machine on loopback, with or without accounts.

use std::net::{IpAddr, Ipv4Addr};
use std::process::Command;
use std::time::Duration;

use tempfile::TempDir;

use crate::BedError;
use crate::certs::Authority;
use crate::process::{Running, run};
use crate::real::free_address;

/// A running registry. It ends when dropped.
pub struct RealRegistry {
    /// Its address, as it is in images' names.
    pub address: String,
    process: Running,
    _folder: TempDir,
}

impl RealRegistry {
    /// Starts a registry on a free port; with an account it wants a sign-in.
    ///
    /// # Errors
    /// When it is not installed or does not come up.
    pub fn start(account: Option<(&str, &str)>) -> Result<Self, BedError> {
        Self::start_at(&free_address()?, account)
    }

    /// Starts one at an address that is free.
    ///
    /// # Errors
    /// When it is not installed or does not come up.
    pub fn start_at(address: &str, account: Option<(&str, &str)>) -> Result<Self, BedError> {
        Self::start_with(address, account, None)
    }

    /// Starts one that speaks TLS with a certificate of this authority.
    ///
    /// # Errors
    /// When it is not installed or does not come up.
    pub fn start_tls(authority: &Authority, account: Option<(&str, &str)>) -> Result<Self, BedError> {
        Self::start_with(&free_address()?, account, Some(authority))
    }

    fn start_with(
        address: &str,
        account: Option<(&str, &str)>,
        authority: Option<&Authority>,
    ) -> Result<Self, BedError> {
        let folder = tempfile::Builder::new().prefix("gubernum-registry-").tempdir()?;
        let address = address.to_owned();
        let auth = match account {
            Some((name, secret)) => {
                let file = folder.path().join("accounts");
                let hashed = run("htpasswd", &["-nbB", name, secret])?;
                std::fs::write(&file, hashed)?;
                format!("auth:\n  htpasswd:\n    realm: testbed\n    path: {}\n", file.display())
            }
            None => String::new(),
        };
        let tls = match authority {
            Some(authority) => {
                let signed = authority.server(IpAddr::V4(Ipv4Addr::LOCALHOST), false)?;
                let [_, certificate, key] = authority.write(folder.path(), &signed)?;
                format!("  tls:\n    certificate: {}\n    key: {}\n", certificate.display(), key.display())
            }
            None => String::new(),
        };
        let settings = format!(
            "version: 0.1\nlog:\n  level: warn\nstorage:\n  filesystem:\n    rootdirectory: {}\n  delete:\n    enabled: true\nhttp:\n  addr: {address}\n{tls}{auth}",
            folder.path().join("data").display()
        );
        let file = folder.path().join("config.yml");
        std::fs::write(&file, settings)?;
        let mut command = Command::new("docker-registry");
        command.arg("serve").arg(&file);
        let mut process = Running::start(command, &folder.path().join("log"), Duration::from_secs(3))?;
        process.wait_until("docker-registry", 20, || std::net::TcpStream::connect(&address).is_ok())?;
        Ok(Self { address, process, _folder: folder })
    }

    /// Ends it at once, as a power cut does.
    pub fn kill(&mut self) {
        self.process.signal("KILL");
    }
}
