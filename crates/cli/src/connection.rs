//! Which service a command talks to: flags and environment first, then what `sign-in` saved.

use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;

use gubernum_client::{Client, Trust};
use serde::{Deserialize, Serialize};

use crate::arguments::Connection;
use crate::exit::Failure;

/// Where the service listens unless told otherwise.
pub(crate) const DEFAULT_URL: &str = "http://127.0.0.1:7310";

/// What `sign-in` keeps.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Kept {
    pub(crate) url: String,
    pub(crate) token: String,
    pub(crate) token_id: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) fingerprint: Option<String>,
}

fn path() -> Result<PathBuf, Failure> {
    let folder =
        dirs::config_dir().ok_or_else(|| Failure::Said("no folder for settings; set HOME".to_owned()))?;
    Ok(folder.join("gubernum").join("credentials.toml"))
}

pub(crate) fn kept() -> Result<Option<Kept>, Failure> {
    let path = path()?;
    match std::fs::read_to_string(&path) {
        Ok(text) => toml::from_str(&text).map(Some).map_err(|e| {
            Failure::Said(format!("{} cannot be read ({}); sign in again", path.display(), e.message()))
        }),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(e) => Err(e.into()),
    }
}

pub(crate) fn keep(kept: &Kept) -> Result<PathBuf, Failure> {
    let path = path()?;
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    let text = toml::to_string(kept).map_err(|e| Failure::Said(e.to_string()))?;
    let mut file =
        std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&path)?;
    file.write_all(text.as_bytes())?;
    Ok(path)
}

pub(crate) fn forget() -> Result<(), Failure> {
    match std::fs::remove_file(path()?) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(e.into()),
        _ => Ok(()),
    }
}

pub(crate) fn trust(fingerprint: Option<&String>) -> Trust {
    fingerprint.map_or(Trust::System, |f| Trust::Fingerprint(f.clone()))
}

/// A client for the commands that need to be signed in.
pub(crate) fn client(connection: &Connection) -> Result<Client, Failure> {
    let kept = if connection.token.is_some() && connection.url.is_some() { None } else { kept()? };
    // A kept token goes only to the service that gave it.
    let same = kept.as_ref().filter(|k| connection.url.as_ref().is_none_or(|url| *url == k.url));
    let token = connection.token.clone().or_else(|| same.map(|k| k.token.clone()));
    let url = connection.url.clone().or_else(|| kept.as_ref().map(|k| k.url.clone()));
    let fingerprint = connection.fingerprint.clone().or_else(|| same.and_then(|k| k.fingerprint.clone()));
    let Some(token) = token else {
        let text = "you are not signed in; run 'gubernum sign-in', or set GUBERNUM_URL and GUBERNUM_TOKEN";
        return Err(Failure::NotSignedIn(text.to_owned()));
    };
    Ok(Client::new(url.as_deref().unwrap_or(DEFAULT_URL), Some(token), trust(fingerprint.as_ref()))?)
}
