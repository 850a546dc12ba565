//! The part of the command line that runs the service: settings, the demo, simulated engines, and checks of a data
//! folder.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

#[derive(Debug, Subcommand)]
pub(crate) enum Audit {
    /// Check that no entry was altered, removed or cut off
    Verify {
        /// Data folder of the service
        #[arg(long, env = "GUBERNUM_DATA_DIR", value_name = "DIR", default_value = "gubernum-data")]
        data_dir: PathBuf,
        #[command(flatten)]
        passphrase: Passphrase,
    },
}

/// The passphrase of the key file, where it has one.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct Passphrase {
    /// File with the passphrase of the key file seal.key, if it has one
    #[arg(long = "passphrase-file", env = "GUBERNUM_PASSPHRASE_FILE", value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
}

/// Seals the key file with a passphrase.
#[derive(Debug, Clone, Args)]
pub(crate) struct SealKey {
    /// Data folder of the service; must not be in use
    #[arg(long, env = "GUBERNUM_DATA_DIR", value_name = "DIR", default_value = "gubernum-data")]
    pub(crate) data_dir: PathBuf,
    #[command(flatten)]
    pub(crate) passphrase: Passphrase,
    /// File with the new passphrase
    #[arg(long, value_name = "FILE", required_unless_present = "open")]
    pub(crate) new_passphrase_file: Option<PathBuf>,
    /// Remove the passphrase
    #[arg(long, conflicts_with = "new_passphrase_file")]
    pub(crate) open: bool,
}

/// Settings of the service; flags go before the environment, that before the file.
#[derive(Debug, Clone, Args)]
pub(crate) struct Serve {
    /// TOML file with settings; see docs/gubernum.sample.toml
    #[arg(long, env = "GUBERNUM_CONFIG", value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
    /// Address to listen on; uses TLS unless it is loopback [default: 127.0.0.1:7310]
    #[arg(long, env = "GUBERNUM_LISTEN", value_name = "ADDRESS:PORT")]
    pub(crate) listen: Option<SocketAddr>,
    /// File with the passphrase of the key file seal.key, if it has one
    #[arg(long, env = "GUBERNUM_PASSPHRASE_FILE", value_name = "FILE")]
    pub(crate) passphrase_file: Option<PathBuf>,
    /// Data folder [default: ./gubernum-data]
    #[arg(long, env = "GUBERNUM_DATA_DIR", value_name = "DIR")]
    pub(crate) data_dir: Option<PathBuf>,
    /// TLS certificate (PEM); if missing, a self-signed one is created
    #[arg(long, env = "GUBERNUM_TLS_CERTIFICATE", value_name = "FILE", requires = "tls_key")]
    pub(crate) tls_certificate: Option<PathBuf>,
    /// Private key of the certificate (PEM)
    #[arg(long, env = "GUBERNUM_TLS_KEY", value_name = "FILE", requires = "tls_certificate")]
    pub(crate) tls_key: Option<PathBuf>,
    /// Serve plain HTTP on any address, behind a proxy that terminates TLS
    #[arg(long, env = "GUBERNUM_BEHIND_PROXY", num_args = 0..=1, default_missing_value = "true", value_name = "BOOL")]
    pub(crate) behind_proxy: Option<bool>,
    /// Address of the console as browsers see it, behind a proxy
    #[arg(long, env = "GUBERNUM_PUBLIC_URL", value_name = "URL")]
    pub(crate) public_url: Option<String>,
    /// Additional host name that the service answers to; repeatable
    #[arg(long = "host-name", env = "GUBERNUM_HOST_NAMES", value_delimiter = ',', value_name = "NAME")]
    pub(crate) host_names: Vec<String>,
    /// Address or subnet of a proxy whose Forwarded and X-Forwarded-For headers are trusted; repeatable
    #[arg(
        long = "trusted-proxy",
        env = "GUBERNUM_TRUSTED_PROXIES",
        value_delimiter = ',',
        value_name = "ADDRESS"
    )]
    pub(crate) trusted_proxies: Vec<String>,
    /// Address or subnet that may read /metrics without a token; repeatable
    #[arg(
        long = "metrics-from",
        env = "GUBERNUM_METRICS_FROM",
        value_delimiter = ',',
        value_name = "ADDRESS"
    )]
    pub(crate) metrics_from: Vec<String>,
    /// Allow link-local and unspecified addresses for hosts and registries [default: false]
    #[arg(long, env = "GUBERNUM_ALLOW_LINK_LOCAL", num_args = 0..=1, default_missing_value = "true", value_name = "BOOL")]
    pub(crate) allow_link_local: Option<bool>,
    /// Look for an engine on this machine at the first start [default: true]
    #[arg(long, env = "GUBERNUM_FIND_LOCAL_ENGINE", value_name = "BOOL")]
    pub(crate) find_local_engine: Option<bool>,
    /// ID of the container the service runs in, if it cannot be detected
    #[arg(long, env = "GUBERNUM_OWN_CONTAINER", value_name = "ID")]
    pub(crate) own_container: Option<String>,
    /// Log level: error, warn, info, debug or trace [default: info]
    #[arg(long, env = "GUBERNUM_LOG_LEVEL", value_name = "LEVEL")]
    pub(crate) log_level: Option<String>,
    /// Log format on standard error [default: text]
    #[arg(long, env = "GUBERNUM_LOG_FORMAT", value_enum, value_name = "FORMAT")]
    pub(crate) log_format: Option<LogFormat>,
    /// Print a line of JSON on standard output when ready
    #[arg(long)]
    pub(crate) ready_json: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum LogFormat {
    Text,
    Json,
}

#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// Address to listen on; loopback only
    #[arg(long, default_value = "127.0.0.1:7310", value_name = "ADDRESS:PORT")]
    pub(crate) listen: SocketAddr,
    /// Data folder to keep; by default the data is removed at the end
    #[arg(long, value_name = "DIR")]
    pub(crate) data_dir: Option<PathBuf>,
    /// Random seed of the fleet
    #[arg(long, default_value_t = 7)]
    pub(crate) seed: u64,
    /// Simulate this many hosts instead of the demo fleet
    #[arg(long, value_name = "N")]
    pub(crate) hosts: Option<usize>,
    /// Containers on each host
    #[arg(long, default_value_t = 25, value_name = "N", requires = "hosts")]
    pub(crate) each: usize,
    /// Days of generated usage history
    #[arg(long, default_value_t = 30, value_name = "N", conflicts_with = "hosts", value_parser = clap::value_parser!(u32).range(0..=400))]
    pub(crate) history_days: u32,
    /// Keep the remote host's link up instead of dropping it now and then
    #[arg(long)]
    pub(crate) calm: bool,
    /// Start without the Compose files of the stacks, as if they had been deployed elsewhere
    #[arg(long)]
    pub(crate) without_texts: bool,
    /// Print a line of JSON on standard output when ready
    #[arg(long)]
    pub(crate) ready_json: bool,
}

#[derive(Debug, Args)]
pub(crate) struct Simulate {
    /// The folder for the engines' sockets
    #[arg(long)]
    pub(crate) folder: PathBuf,
    #[arg(long, default_value_t = 200)]
    pub(crate) hosts: usize,
    #[arg(long, default_value_t = 25)]
    pub(crate) each: usize,
    /// Change N containers a second
    #[arg(long, default_value_t = 0)]
    pub(crate) churn: u32,
    /// Add a container 'flood' on the first host that writes lines as fast as they are read
    #[arg(long)]
    pub(crate) flood: bool,
}
