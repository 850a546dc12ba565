//! `gubernum serve`: runs the service until it is told to stop.

use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Write};
use std::net::{IpAddr, TcpListener};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::Path;
use std::sync::Arc;

use gubernum_server::{Clock, Service, ServiceSettings, local, tls};
use gubernum_store::{Seal, Store};
use tokio::signal::unix::{SignalKind, signal};
use tracing_subscriber::prelude::*;

use crate::arguments::{LogFormat, Serve};
use crate::exit::{FINE, Failure};
use crate::settings::Settings;

/// A data folder that nobody else uses while this is held.
pub(crate) struct DataDir {
    _lock: File,
}

impl DataDir {
    /// Makes the folder if need be and locks it.
    pub(crate) fn take(path: &Path) -> Result<Self, Failure> {
        let said =
            |what: &str| Failure::Said(format!("the data folder {} cannot be used: {what}", path.display()));
        let mut builder = std::fs::DirBuilder::new();
        std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
        builder.recursive(true).create(path).map_err(|e| said(&e.to_string()))?;
        narrow(path, 0o700).map_err(|e| said(&e.to_string()))?;
        let lock_path = path.join("gubernum.lock");
        let lock = OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(&lock_path);
        let lock = lock.map_err(|e| said(&e.to_string()))?;
        narrow(&lock_path, 0o600).map_err(|e| said(&e.to_string()))?;
        match lock.try_lock() {
            Ok(()) => Ok(Self { _lock: lock }),
            Err(TryLockError::WouldBlock) => {
                Err(said("another Gubernum is running on it; stop that one, or choose another --data-dir"))
            }
            Err(TryLockError::Error(e)) => Err(said(&e.to_string())),
        }
    }
}

/// Removes what others may do with a file or folder of ours, and says so.
fn narrow(path: &Path, mode: u32) -> std::io::Result<()> {
    let permissions = std::fs::metadata(path)?.permissions();
    if permissions.mode() & 0o077 == 0 {
        return Ok(());
    }
    tracing::warn!("{} was readable by others; its mode is now {mode:o}", path.display());
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode))
}

/// The longest passphrase that is read.
const LONGEST_PASSPHRASE: u64 = 4096;

/// Reads a passphrase from a file; the end of its line does not belong to it.
pub(crate) fn passphrase(file: &Path) -> Result<String, Failure> {
    let said =
        |why: &str| Failure::Said(format!("the passphrase in {} cannot be read: {why}", file.display()));
    let opened = File::open(file).map_err(|e| said(&e.to_string()))?;
    let mut text = String::new();
    opened.take(LONGEST_PASSPHRASE).read_to_string(&mut text).map_err(|e| said(&e.to_string()))?;
    let text = text.trim_end_matches(['\r', '\n']);
    if text.is_empty() { Err(said("the file is empty")) } else { Ok(text.to_owned()) }
}

/// Reads the key file of a data folder, with the passphrase in a file where there is one.
pub(crate) fn open_seal(folder: &Path, passphrase_file: Option<&Path>) -> Result<Seal, Failure> {
    let passphrase = passphrase_file.map(passphrase).transpose()?;
    Seal::open_with(&folder.join("seal.key"), passphrase.as_deref()).map_err(|e| Failure::Said(e.to_string()))
}

/// Opens the records in a data folder.
pub(crate) fn open_store(folder: &Path, passphrase_file: Option<&Path>) -> Result<Arc<Store>, Failure> {
    let seal = open_seal(folder, passphrase_file)?;
    let store = Store::open(&folder.join("gubernum.db"), seal).map_err(|e| Failure::Said(e.to_string()))?;
    Ok(Arc::new(store))
}

/// Sends the log to standard error.
pub(crate) fn begin_log(level: tracing::Level, format: LogFormat) {
    let (filter, handle) = tracing_subscriber::reload::Layer::new(filter(level));
    let form = tracing_subscriber::fmt::layer().with_writer(std::io::stderr).with_target(false);
    let form = match format {
        LogFormat::Text => form.with_ansi(false).boxed(),
        LogFormat::Json => form.json().boxed(),
    };
    // A second start in one process, as in tests, keeps the first one's log.
    if tracing_subscriber::registry().with(filter).with(form).try_init().is_ok() {
        let set = move |level| handle.reload(self::filter(level)).is_ok();
        let _ = LEVEL.set(Box::new(set));
    }
}

/// Changes how much is logged.
static LEVEL: std::sync::OnceLock<Box<dyn Fn(tracing::Level) -> bool + Send + Sync>> =
    std::sync::OnceLock::new();

fn filter(level: tracing::Level) -> tracing_subscriber::EnvFilter {
    tracing_subscriber::EnvFilter::new(format!(
        "warn,gubernum={level},gubernum_server={level},gubernum_store={level},gubernum_engine={level},tower_http={level}"
    ))
}

fn set_level(level: tracing::Level) {
    if LEVEL.get().is_some_and(|set| !set(level)) {
        tracing::error!("the log level could not be changed");
    }
}

pub(crate) async fn run(wish: Serve) -> Result<u8, Failure> {
    let settings = Settings::gather(&wish)?;
    begin_log(settings.log_level, settings.log_format);
    let _data = DataDir::take(&settings.data_dir)?;
    let store = open_store(&settings.data_dir, settings.passphrase_file.as_deref())?;
    let tls = tls(&settings)?;
    let fingerprint = tls.as_ref().map(|t| t.fingerprint.clone());
    let listener = listen(&settings)?;
    let service = Service::start(ServiceSettings {
        listener,
        tls,
        store,
        data_dir: settings.data_dir.clone(),
        keep_history: settings.keep_history,
        timeline_days: settings.timeline_days,
        clock: Clock::system(),
        public_url: settings.public_url.clone(),
        host_names: settings.host_names.clone(),
        trusted_proxies: settings.trusted_proxies.clone(),
        metrics_from: settings.metrics_from.clone(),
        allow_link_local: settings.allow_link_local,
        registry_places: Default::default(),
        own_container: settings.own_container.clone().or_else(local::own_container),
        find_local_engine: settings.find_local_engine,
    })
    .await
    .map_err(|e| Failure::Said(e.to_string()))?;
    tell(&service, fingerprint.as_deref(), wish.ready_json)?;
    let mut again = signal(SignalKind::hangup())?;
    let mut renew = tokio::time::interval(RENEW_EVERY);
    renew.tick().await;
    loop {
        tokio::select! {
            asked = until_asked() => {
                asked?;
                break;
            }
            _ = again.recv() => reload(&wish, &service, &settings),
            // A certificate of our own that is about to expire is renewed.
            _ = renew.tick() => take_certificate(&service, &settings),
        }
    }
    tracing::info!("shutting down");
    service.stop().await;
    Ok(FINE)
}

/// How often it is looked whether a certificate of our own nears its end.
const RENEW_EVERY: std::time::Duration = std::time::Duration::from_secs(12 * 3600);

/// Reads the settings again (SIGHUP): the certificate and how much is logged hold at once. What is wrong is said, and
/// changes nothing.
fn reload(wish: &Serve, service: &Service, before: &Settings) {
    match Settings::gather(wish) {
        Ok(now) => {
            set_level(now.log_level);
            take_certificate(service, &now);
            let held = Settings { log_level: before.log_level, tls_files: before.tls_files.clone(), ..now };
            if held != *before {
                tracing::warn!("settings other than the certificate and log_level apply after a restart");
            }
        }
        Err(error) => tracing::error!("the settings were not applied: {error}"),
    }
}

fn take_certificate(service: &Service, settings: &Settings) {
    match tls(settings) {
        Ok(Some(tls)) => {
            service.set_certificate(&tls);
            tracing::info!(fingerprint = %tls.fingerprint, "the certificate was reloaded");
        }
        Ok(None) => {}
        Err(error) => tracing::error!("the certificate was not reloaded: {error}"),
    }
}

pub(crate) fn listen(settings: &Settings) -> Result<TcpListener, Failure> {
    TcpListener::bind(settings.listen).map_err(|e| {
        Failure::Said(format!(
            "cannot listen on {}: {e}; choose another address with --listen",
            settings.listen
        ))
    })
}

fn tls(settings: &Settings) -> Result<Option<tls::Tls>, Failure> {
    if let Some((certificate, key)) = &settings.tls_files {
        return tls::given(certificate, key).map(Some).map_err(|e| Failure::Said(e.to_string()));
    }
    let ip = settings.listen.ip();
    if ip.is_loopback() || settings.behind_proxy {
        return Ok(None);
    }
    let mut names = vec!["localhost".to_owned()];
    if !ip.is_unspecified() {
        names.push(ip.to_string());
    }
    tls::self_signed(&settings.data_dir, names, jiff::Timestamp::now())
        .map(Some)
        .map_err(|e| Failure::Said(e.to_string()))
}

fn tell(service: &Service, fingerprint: Option<&str>, json: bool) -> Result<(), Failure> {
    let mut out = std::io::stdout();
    if json {
        let mut line = serde_json::json!({"url": service.url(), "claim_code": service.claim_code()});
        if let Some(fingerprint) = fingerprint {
            line["fingerprint"] = fingerprint.into();
        }
        writeln!(out, "{line}")?;
    } else {
        let unspecified = matches!(service.address().ip(), IpAddr::V4(ip) if ip.is_unspecified());
        let everywhere = if unspecified { " (on every address of this machine)" } else { "" };
        writeln!(out, "Listening on {}{everywhere}", service.url())?;
        if let Some(fingerprint) = fingerprint {
            writeln!(out, "Certificate fingerprint (SHA-256): {fingerprint}")?;
        }
        if let Some(code) = service.claim_code() {
            writeln!(out, "Not claimed yet. Claim code: {code}")?;
        }
    }
    out.flush()?;
    Ok(())
}

/// Waits for SIGINT or SIGTERM.
pub(crate) async fn until_asked() -> Result<(), Failure> {
    let mut term = signal(SignalKind::terminate())?;
    tokio::select! {
        asked = tokio::signal::ctrl_c() => asked?,
        _ = term.recv() => {}
    }
    Ok(())
}
