//! Settings of the service: flags override the environment, which overrides the file, which overrides the defaults.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use gubernum_server::{KeepHistory, Subnet, TIMELINE_DAYS};
use serde::Deserialize;

use crate::arguments::{LogFormat, Serve};
use crate::exit::Failure;

/// The file, as docs/gubernum.sample.toml shows it.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct File {
    listen: Option<SocketAddr>,
    data_dir: Option<PathBuf>,
    passphrase_file: Option<PathBuf>,
    tls_certificate: Option<PathBuf>,
    tls_key: Option<PathBuf>,
    behind_proxy: Option<bool>,
    public_url: Option<String>,
    host_names: Option<Vec<String>>,
    trusted_proxies: Option<Vec<String>>,
    metrics_from: Option<Vec<String>>,
    allow_link_local: Option<bool>,
    find_local_engine: Option<bool>,
    own_container: Option<String>,
    log_level: Option<String>,
    log_format: Option<LogFormat>,
    sample_seconds: Option<u64>,
    keep_samples_days: Option<u32>,
    keep_minutes_days: Option<u32>,
    keep_ten_minutes_days: Option<u32>,
    keep_hours_days: Option<u32>,
    keep_timeline_days: Option<u32>,
}

/// Settings that hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Settings {
    pub(crate) listen: SocketAddr,
    pub(crate) data_dir: PathBuf,
    pub(crate) passphrase_file: Option<PathBuf>,
    pub(crate) tls_files: Option<(PathBuf, PathBuf)>,
    pub(crate) behind_proxy: bool,
    pub(crate) public_url: Option<String>,
    pub(crate) host_names: Vec<String>,
    pub(crate) trusted_proxies: Vec<Subnet>,
    pub(crate) metrics_from: Vec<Subnet>,
    pub(crate) allow_link_local: bool,
    pub(crate) find_local_engine: bool,
    pub(crate) own_container: Option<String>,
    pub(crate) log_level: tracing::Level,
    pub(crate) log_format: LogFormat,
    pub(crate) keep_history: KeepHistory,
    pub(crate) timeline_days: u32,
}

impl Settings {
    /// Puts all sources together.
    pub(crate) fn gather(wish: &Serve) -> Result<Self, Failure> {
        let file = wish.config.as_deref().map(read).transpose()?.unwrap_or_default();
        let certificate = wish.tls_certificate.clone().or(file.tls_certificate);
        let key = wish.tls_key.clone().or(file.tls_key);
        let tls_files = match (certificate, key) {
            (Some(certificate), Some(key)) => Some((certificate, key)),
            (None, None) => None,
            _ => {
                return Err(Failure::Usage(
                    "tls_certificate and tls_key go together: give both or neither".to_owned(),
                ));
            }
        };
        let public_url = wish.public_url.clone().or(file.public_url);
        if let Some(url) =
            public_url.as_deref().filter(|u| !(u.starts_with("https://") || u.starts_with("http://")))
        {
            return Err(Failure::Usage(format!("public_url '{url}' must begin with https:// or http://")));
        }
        let path = public_url
            .as_deref()
            .and_then(|u| u.split_once("://"))
            .and_then(|(_, rest)| rest.split_once('/'));
        if let Some((_, path)) = path.filter(|(_, path)| !path.is_empty()) {
            return Err(Failure::Usage(format!(
                "public_url has the path '/{path}': the console answers only at the root of a host name; give it a name of its own"
            )));
        }
        let either = |given: &Vec<String>, file: Option<Vec<String>>| {
            if given.is_empty() { file.unwrap_or_default() } else { given.clone() }
        };
        let host_names = either(&wish.host_names, file.host_names);
        let subnets = |setting: &str, given: Vec<String>| {
            let read = given.iter().map(|text| text.parse::<Subnet>()).collect::<Result<Vec<_>, _>>();
            read.map_err(|e| Failure::Usage(format!("{setting}: {e}")))
        };
        let trusted_proxies =
            subnets("trusted_proxies", either(&wish.trusted_proxies, file.trusted_proxies))?;
        let metrics_from = subnets("metrics_from", either(&wish.metrics_from, file.metrics_from))?;
        let level = wish.log_level.clone().or(file.log_level).unwrap_or_else(|| "info".to_owned());
        let log_level = level.parse().map_err(|_| {
            Failure::Usage(format!("log_level '{level}' is not one of error, warn, info, debug, trace"))
        })?;
        let usual = KeepHistory::default();
        let keep_history = KeepHistory {
            fine_days: days("keep_samples_days", file.keep_samples_days, usual.fine_days)?,
            minute_days: days("keep_minutes_days", file.keep_minutes_days, usual.minute_days)?,
            ten_minute_days: days(
                "keep_ten_minutes_days",
                file.keep_ten_minutes_days,
                usual.ten_minute_days,
            )?,
            hour_days: days("keep_hours_days", file.keep_hours_days, usual.hour_days)?,
            sample_seconds: match file.sample_seconds {
                None => usual.sample_seconds,
                Some(seconds @ 1..=60) => seconds,
                Some(other) => {
                    return Err(Failure::Usage(format!(
                        "sample_seconds is {other}; it is a number from 1 to 60"
                    )));
                }
            },
        };
        let default = SocketAddr::from(([127, 0, 0, 1], 7310));
        Ok(Self {
            listen: wish.listen.or(file.listen).unwrap_or(default),
            data_dir: wish.data_dir.clone().or(file.data_dir).unwrap_or_else(|| "gubernum-data".into()),
            passphrase_file: wish.passphrase_file.clone().or(file.passphrase_file),
            tls_files,
            behind_proxy: wish.behind_proxy.or(file.behind_proxy).unwrap_or(false),
            public_url,
            host_names,
            trusted_proxies,
            metrics_from,
            allow_link_local: wish.allow_link_local.or(file.allow_link_local).unwrap_or(false),
            find_local_engine: wish.find_local_engine.or(file.find_local_engine).unwrap_or(true),
            own_container: wish.own_container.clone().or(file.own_container),
            log_level,
            log_format: wish.log_format.or(file.log_format).unwrap_or(LogFormat::Text),
            keep_history,
            timeline_days: days("keep_timeline_days", file.keep_timeline_days, TIMELINE_DAYS)?,
        })
    }
}

fn days(name: &str, given: Option<u32>, usual: u32) -> Result<u32, Failure> {
    match given {
        None => Ok(usual),
        Some(days @ 1..=3650) => Ok(days),
        Some(other) => {
            Err(Failure::Usage(format!("{name} is {other}; it is a number of days from 1 to 3650")))
        }
    }
}

fn read(path: &Path) -> Result<File, Failure> {
    let text = std::fs::read_to_string(path)
        .map_err(|e| Failure::Usage(format!("the settings file {} cannot be read: {e}", path.display())))?;
    toml::from_str(&text)
        .map_err(|e| Failure::Usage(format!("the settings file {} is invalid: {e}", path.display())))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::arguments::{Arguments, Command};
    use clap::Parser;

    fn gather(arguments: &[&str]) -> Result<Settings, Failure> {
        let all = [&["gubernum", "serve"], arguments].concat();
        let Command::Serve(wish) = Arguments::parse_from(all).command else { panic!("serve") };
        Settings::gather(&wish)
    }

    fn file(text: &str) -> tempfile::NamedTempFile {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), text).unwrap();
        file
    }

    #[test]
    fn the_shipped_sample_is_read_whole() {
        let sample = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/gubernum.sample.toml");
        let settings = gather(&["--config", sample]).unwrap();
        assert_eq!(settings, gather(&[]).unwrap(), "the sample shows the defaults");
        // With every line in use, none may be unknown.
        let text = std::fs::read_to_string(sample).unwrap();
        let all: String =
            text.lines().map(|l| l.strip_prefix("#: ").unwrap_or(l)).collect::<Vec<_>>().join("\n");
        let used = file(&all);
        let settings = gather(&["--config", used.path().to_str().unwrap()]).unwrap();
        assert!(
            settings.tls_files.is_some() && settings.public_url.is_some() && settings.own_container.is_some()
        );
    }

    #[test]
    fn flags_go_before_the_file() {
        let used = file("listen = \"127.0.0.1:1\"\nlog_level = \"debug\"\n");
        let path = used.path().to_str().unwrap();
        let settings = gather(&["--config", path, "--listen", "127.0.0.1:2"]).unwrap();
        assert_eq!((settings.listen.port(), settings.log_level), (2, tracing::Level::DEBUG));
    }

    #[test]
    fn errors_are_pointed_at() {
        let used = file("listen = \"127.0.0.1:1\"\nlissten = 2\n");
        let error = gather(&["--config", used.path().to_str().unwrap()]).unwrap_err().to_string();
        assert!(error.contains("line 2") && error.contains("lissten"), "{error}");
        assert!(gather(&["--log-level", "loud"]).is_err());
        let error = gather(&["--public-url", "https://tarn.example/gubernum"]).unwrap_err().to_string();
        assert!(error.contains("'/gubernum'"), "{error}");
        assert!(gather(&["--public-url", "https://tarn.example/"]).is_ok());
        assert!(
            gather(&["--trusted-proxy", "proxy.example"])
                .unwrap_err()
                .to_string()
                .contains("trusted_proxies")
        );
        let proxies = gather(&["--trusted-proxy", "192.0.2.0/24,2001:db8::1"]).unwrap().trusted_proxies;
        assert_eq!(proxies.len(), 2);
        let used = file("tls_key = \"/x\"\n");
        assert!(gather(&["--config", used.path().to_str().unwrap()]).is_err());
    }
}
