//! Sends the audit log to a syslog collector, entry by entry, in order. Entries that cannot be sent wait in the log
//! itself, also over a restart. The last message before an interruption may be sent twice. The message format is
//! `gubernum_core::syslog`.

use std::io;
use std::sync::Arc;
use std::time::Duration;

use gubernum_api::records::{SyslogSettings, SyslogState, SyslogTransport};
use gubernum_core::syslog::framed;
use gubernum_store::StoreError;
use gubernum_store::audit::AuditQuery;
use jiff::Timestamp;
use parking_lot::Mutex;
use rustls::{ClientConfig, RootCertStore};
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, ServerName};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::sync::Notify;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;

use crate::clock::Clock;
use crate::storage::Db;

/// How often the log is looked at for what is new.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// How long connecting, and taking some messages, may take.
const PATIENCE: Duration = Duration::from_secs(10);
/// The pauses after a failure grow from one to the other.
const FIRST_PAUSE: Duration = Duration::from_secs(1);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);
/// How many entries are read at once.
const AT_ONCE: u32 = 200;

/// Why the log cannot be sent.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SyslogError {
    /// The certificates are invalid.
    #[error("these are not PEM certificates")]
    Certificates,
    /// No certificates for TLS.
    #[error("TLS needs the collector's CA certificates (PEM)")]
    NoCertificates,
    /// The name is invalid.
    #[error("the collector's host is a name or an address")]
    Host,
    /// The collector cannot be reached, or closed the connection.
    #[error("the collector {to}: {source}")]
    Io {
        /// Where.
        to: String,
        /// Why.
        source: io::Error,
    },
    /// The records.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Sends the audit log elsewhere, where somebody wants it.
pub(crate) struct Syslog {
    db: Db,
    clock: Clock,
    host: String,
    changed: Notify,
    told: Mutex<(Option<Timestamp>, Option<String>)>,
}

trait Line: AsyncRead + AsyncWrite + Send + Unpin {}
impl<T: AsyncRead + AsyncWrite + Send + Unpin> Line for T {}

/// Where messages go.
fn address(settings: &SyslogSettings) -> (String, u16) {
    let usual = match settings.transport {
        SyslogTransport::Tls => 6514,
        SyslogTransport::Tcp => 601,
    };
    (settings.host.clone(), settings.port.unwrap_or(usual))
}

/// What TLS needs.
fn secured(settings: &SyslogSettings) -> Result<(Arc<ClientConfig>, ServerName<'static>), SyslogError> {
    let pem = settings.ca.as_deref().filter(|ca| !ca.trim().is_empty()).ok_or(SyslogError::NoCertificates)?;
    let mut roots = RootCertStore::empty();
    for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
        let certificate = certificate.map_err(|_| SyslogError::Certificates)?;
        roots.add(certificate).map_err(|_| SyslogError::Certificates)?;
    }
    if roots.is_empty() {
        return Err(SyslogError::Certificates);
    }
    let name = ServerName::try_from(settings.host.clone()).map_err(|_| SyslogError::Host)?;
    let config = ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
    Ok((Arc::new(config), name))
}

/// Refuses settings with which nothing could be sent.
///
/// # Errors
/// See [`SyslogError`].
pub(crate) fn check(settings: &SyslogSettings) -> Result<(), SyslogError> {
    if ServerName::try_from(settings.host.as_str()).is_err() || settings.port == Some(0) {
        return Err(SyslogError::Host);
    }
    match settings.transport {
        SyslogTransport::Tls => secured(settings).map(drop),
        SyslogTransport::Tcp => Ok(()),
    }
}

async fn connect(settings: &SyslogSettings) -> Result<Box<dyn Line>, SyslogError> {
    let (host, port) = address(settings);
    let to = format!("{host}:{port}");
    let io = |source| SyslogError::Io { to: to.clone(), source };
    let late = |_| io(io::Error::new(io::ErrorKind::TimedOut, "it does not answer"));
    let stream =
        timeout(PATIENCE, TcpStream::connect((host.as_str(), port))).await.map_err(late)?.map_err(io)?;
    if settings.transport == SyslogTransport::Tcp {
        return Ok(Box::new(stream));
    }
    let (config, name) = secured(settings)?;
    let secured = TlsConnector::from(config).connect(name, stream);
    Ok(Box::new(timeout(PATIENCE, secured).await.map_err(late)?.map_err(io)?))
}

impl Syslog {
    pub(crate) fn new(db: Db, clock: Clock) -> Self {
        let host = gethostname::gethostname().to_string_lossy().into_owned();
        Self { db, clock, host, changed: Notify::new(), told: Mutex::default() }
    }

    /// Where it is sent, and how that goes.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub(crate) async fn state(&self) -> Result<SyslogState, StoreError> {
        let (settings, waiting) = self.db.run(|store| Ok((store.syslog()?, store.syslog_waiting()?))).await?;
        let settings = settings.and_then(|(text, _)| read(&text));
        let (sent, failed) = self.told.lock().clone();
        Ok(SyslogState { settings, waiting, sent, failed })
    }

    /// Hears of other settings.
    pub(crate) fn set(&self) {
        *self.told.lock() = (None, None);
        self.changed.notify_one();
    }

    /// Sends what there is for as long as the service runs.
    pub(crate) async fn run(&self) {
        let mut pause = FIRST_PAUSE;
        loop {
            match self.send().await {
                Ok(()) => {
                    pause = FIRST_PAUSE;
                    continue;
                }
                Err(error) => {
                    let sentence = error.to_string();
                    let mut told = self.told.lock();
                    if told.1.as_ref() != Some(&sentence) {
                        tracing::warn!("the audit log is not sent: {sentence}");
                    }
                    if told.0.is_some() {
                        // Something went since the last failure.
                        pause = FIRST_PAUSE;
                    }
                    told.1 = Some(sentence);
                }
            }
            tokio::select! {
                () = tokio::time::sleep(pause) => pause = (pause * 2).min(LONGEST_PAUSE),
                () = self.changed.notified() => pause = FIRST_PAUSE,
            }
        }
    }

    /// Sends until the settings change.
    async fn send(&self) -> Result<(), SyslogError> {
        let kept = self.db.run(|store| store.syslog()).await?;
        let Some((settings, mut sent)) = kept.and_then(|(text, sent)| Some((read(&text)?, sent))) else {
            self.changed.notified().await;
            return Ok(());
        };
        let mut line = connect(&settings).await?;
        let (host, port) = address(&settings);
        let to = format!("{host}:{port}");
        let io = |source| SyslogError::Io { to: to.clone(), source };
        let mut heard = [0; 512];
        self.told.lock().1 = None;
        loop {
            let query = AuditQuery { after: Some(sent), most: AT_ONCE, ..AuditQuery::default() };
            let entries = self.db.run(move |store| store.audit_entries(&query)).await?;
            let Some(last) = entries.last().map(|entry| entry.id) else {
                tokio::select! {
                    () = tokio::time::sleep(LOOK_EVERY) => continue,
                    () = self.changed.notified() => return Ok(()),
                    // A collector says nothing; what ends here has gone away.
                    read = line.read(&mut heard) => match read {
                        Ok(0) => return Err(io(io::Error::new(io::ErrorKind::UnexpectedEof, "it closed the connection"))),
                        Ok(_) => continue,
                        Err(error) => return Err(io(error)),
                    },
                }
            };
            let messages: Vec<u8> = entries.iter().flat_map(|entry| framed(entry, &self.host)).collect();
            let writing = async {
                line.write_all(&messages).await?;
                line.flush().await
            };
            let late = |_| io(io::Error::new(io::ErrorKind::TimedOut, "it refuses the data"));
            timeout(PATIENCE, writing).await.map_err(late)?.map_err(io)?;
            sent = last;
            self.db.run(move |store| store.set_syslog_sent(last)).await?;
            *self.told.lock() = (Some(self.clock.now()), None);
        }
    }
}

fn read(text: &str) -> Option<SyslogSettings> {
    serde_json::from_str(text)
        .inspect_err(|error| tracing::error!("where the audit log is sent cannot be read: {error}"))
        .ok()
}
