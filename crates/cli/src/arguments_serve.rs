//! The command line of what runs the service: settings, the demo, simulated engines, the audit log of a data folder.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

#[derive(Debug, Subcommand)]
pub(crate) enum Audit {
    /// Check that no entry was altered, removed or cut off
    Verify {
        /// The service's data folder
        #[arg(long, env = "GUBERNUM_DATA_DIR", value_name = "DIR", default_value = "gubernum-data")]
        data_dir: PathBuf,
        #[command(flatten)]
        passphrase: Passphrase,
    },
}

/// The passphrase of the key file, where it has one.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct Passphrase {
    /// A file that holds the passphrase of the key file seal.key, where that has one
    #[arg(long = "passphrase-file", env = "GUBERNUM_PASSPHRASE_FILE", value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
}

/// Seals the key file with a passphrase.
#[derive(Debug, Clone, Args)]
pub(crate) struct SealKey {
    /// The service's data folder; the service must not run on it
    #[arg(long, env = "GUBERNUM_DATA_DIR", value_name = "DIR", default_value = "gubernum-data")]
    pub(crate) data_dir: PathBuf,
    #[command(flatten)]
    pub(crate) passphrase: Passphrase,
    /// A file that holds the passphrase from now on
    #[arg(long, value_name = "FILE", required_unless_present = "open")]
    pub(crate) new_passphrase_file: Option<PathBuf>,
    /// Take the passphrase away
    #[arg(long, conflicts_with = "new_passphrase_file")]
    pub(crate) open: bool,
}

/// Settings of the service; flags go before the environment, that before the file.
#[derive(Debug, Clone, Args)]
pub(crate) struct Serve {
    /// A TOML file with settings; see docs/gubernum.sample.toml
    #[arg(long, env = "GUBERNUM_CONFIG", value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
    /// Where to listen; any address but loopback speaks TLS [default: 127.0.0.1:7310]
    #[arg(long, env = "GUBERNUM_LISTEN", value_name = "ADDRESS:PORT")]
    pub(crate) listen: Option<SocketAddr>,
    /// A file that holds the passphrase of the key file seal.key, where that has one
    #[arg(long, env = "GUBERNUM_PASSPHRASE_FILE", value_name = "FILE")]
    pub(crate) passphrase_file: Option<PathBuf>,
    /// The folder that holds everything the service keeps [default: ./gubernum-data]
    #[arg(long, env = "GUBERNUM_DATA_DIR", value_name = "DIR")]
    pub(crate) data_dir: Option<PathBuf>,
    /// A certificate (PEM); without one, a self-signed one is made where TLS is needed
    #[arg(long, env = "GUBERNUM_TLS_CERTIFICATE", value_name = "FILE", requires = "tls_key")]
    pub(crate) tls_certificate: Option<PathBuf>,
    /// The certificate's key (PEM)
    #[arg(long, env = "GUBERNUM_TLS_KEY", value_name = "FILE", requires = "tls_certificate")]
    pub(crate) tls_key: Option<PathBuf>,
    /// Speak plain HTTP on any address, because a proxy in front speaks TLS
    #[arg(long, env = "GUBERNUM_BEHIND_PROXY", num_args = 0..=1, default_missing_value = "true", value_name = "BOOL")]
    pub(crate) behind_proxy: Option<bool>,
    /// The console's address as browsers see it, when a proxy stands in front
    #[arg(long, env = "GUBERNUM_PUBLIC_URL", value_name = "URL")]
    pub(crate) public_url: Option<String>,
    /// A further name under which the service may be asked for; may be given more than once
    #[arg(long = "host-name", env = "GUBERNUM_HOST_NAMES", value_delimiter = ',', value_name = "NAME")]
    pub(crate) host_names: Vec<String>,
    /// A proxy, or a subnet of proxies, whose Forwarded and X-Forwarded-For are believed; may be given more than once
    #[arg(
        long = "trusted-proxy",
        env = "GUBERNUM_TRUSTED_PROXIES",
        value_delimiter = ',',
        value_name = "ADDRESS"
    )]
    pub(crate) trusted_proxies: Vec<String>,
    /// An address, or a subnet, that may read /metrics without a token; may be given more than once
    #[arg(
        long = "metrics-from",
        env = "GUBERNUM_METRICS_FROM",
        value_delimiter = ',',
        value_name = "ADDRESS"
    )]
    pub(crate) metrics_from: Vec<String>,
    /// Whether hosts and registries may have link-local or unspecified addresses [default: false]
    #[arg(long, env = "GUBERNUM_ALLOW_LINK_LOCAL", num_args = 0..=1, default_missing_value = "true", value_name = "BOOL")]
    pub(crate) allow_link_local: Option<bool>,
    /// Whether to look for an engine on this machine at the first start [default: true]
    #[arg(long, env = "GUBERNUM_FIND_LOCAL_ENGINE", value_name = "BOOL")]
    pub(crate) find_local_engine: Option<bool>,
    /// The id of the container that the service runs in, where it cannot tell itself
    #[arg(long, env = "GUBERNUM_OWN_CONTAINER", value_name = "ID")]
    pub(crate) own_container: Option<String>,
    /// How much to log: error, warn, info, debug or trace [default: info]
    #[arg(long, env = "GUBERNUM_LOG_LEVEL", value_name = "LEVEL")]
    pub(crate) log_level: Option<String>,
    /// The form of the log on standard error [default: text]
    #[arg(long, env = "GUBERNUM_LOG_FORMAT", value_enum, value_name = "FORM")]
    pub(crate) log_format: Option<LogFormat>,
    /// Print one JSON line on standard output once it answers
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
    /// Where to listen; loopback only
    #[arg(long, default_value = "127.0.0.1:7310", value_name = "ADDRESS:PORT")]
    pub(crate) listen: SocketAddr,
    /// Keep the demo's data in this folder; otherwise it goes away with the demo
    #[arg(long, value_name = "DIR")]
    pub(crate) data_dir: Option<PathBuf>,
    /// The seed that the fleet grows from
    #[arg(long, default_value_t = 7)]
    pub(crate) seed: u64,
    /// Simulate this many hosts instead of the demo's own
    #[arg(long, value_name = "N")]
    pub(crate) hosts: Option<usize>,
    /// Containers on each of them
    #[arg(long, default_value_t = 25, value_name = "N", requires = "hosts")]
    pub(crate) each: usize,
    /// Make up resource history for this many days
    #[arg(long, default_value_t = 30, value_name = "N", conflicts_with = "hosts", value_parser = clap::value_parser!(u32).range(0..=400))]
    pub(crate) history_days: u32,
    /// Leave the far host's link alone instead of letting it drop now and then
    #[arg(long)]
    pub(crate) calm: bool,
    /// Start without the texts of its stacks, as if nobody had deployed them from here
    #[arg(long)]
    pub(crate) without_texts: bool,
    /// Print one JSON line on standard output once it answers
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
    /// Change so many containers a second
    #[arg(long, default_value_t = 0)]
    pub(crate) churn: u32,
    /// Add a container 'flood' on the first host that writes lines as fast as they are read
    #[arg(long)]
    pub(crate) flood: bool,
}
