//! The command line. Verbs first, full words, references as `host/name`.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

use crate::exit;

#[derive(Debug, Parser)]
#[command(
    name = "gubernum",
    version,
    about = "Watches and changes the containers of a fleet of hosts",
    after_help = exit::HELP,
    max_term_width = 100
)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) connection: Connection,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Where the service is and how to answer.
#[derive(Debug, Clone, Args)]
pub(crate) struct Connection {
    /// The service's address; otherwise where you last signed in
    #[arg(long, global = true, env = "GUBERNUM_URL", value_name = "URL")]
    pub(crate) url: Option<String>,
    /// An API token; otherwise what `sign-in` has kept
    #[arg(long, global = true, env = "GUBERNUM_TOKEN", value_name = "TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    /// Trust the service's certificate by its SHA-256 fingerprint
    #[arg(long, global = true, env = "GUBERNUM_FINGERPRINT", value_name = "HEX")]
    pub(crate) fingerprint: Option<String>,
    /// A table for people or JSON for programs
    #[arg(long, global = true, value_enum, default_value_t = Output::Table)]
    pub(crate) output: Output,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Output {
    Table,
    Json,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Run the service
    Serve(Box<Serve>),
    /// Run the service with a simulated fleet to try it out
    Demo(Demo),
    /// Run simulated engines only, for measurements
    #[command(hide = true)]
    Simulate(Simulate),
    #[command(flatten)]
    Client(ClientCommand),
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
    /// Leave the far host's link alone instead of letting it drop now and then
    #[arg(long)]
    pub(crate) calm: bool,
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
    /// Add a container `flood` on the first host that writes lines as fast as they are read
    #[arg(long)]
    pub(crate) flood: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ClientCommand {
    /// Sign in and keep a token for later commands
    SignIn(SignIn),
    /// Forget the kept token
    SignOut,
    /// List hosts, containers, operations or what needs attention
    #[command(subcommand)]
    List(List),
    /// Show one container
    Show {
        /// `host/name`, or the beginning of an id
        reference: String,
    },
    /// Read a container's log
    Logs(Logs),
    /// Start containers
    Start(Targets),
    /// Stop containers: ask, and after the grace period force
    Stop(Graceful),
    /// Restart containers
    Restart(Graceful),
    /// Send a signal to containers
    Kill(Kill),
    /// Remove containers, or take a host out of the fleet
    Remove(Remove),
    /// Call an operation off
    Cancel {
        /// Its number
        operation: u64,
    },
    /// Add to the fleet
    #[command(subcommand)]
    Add(Add),
    /// Try a link
    #[command(subcommand)]
    Test(Test),
    /// Print completions for a shell
    Completions { shell: clap_complete::Shell },
    /// Write the manual pages into a folder
    Manual { folder: PathBuf },
}

#[derive(Debug, Args)]
pub(crate) struct SignIn {
    /// The service's address
    pub(crate) address: Option<String>,
    /// Your name; asked for when absent
    #[arg(long)]
    pub(crate) member: Option<String>,
    /// Claim a fresh service with the code that it printed
    #[arg(long, value_name = "CODE")]
    pub(crate) claim: Option<String>,
    /// Read the password from standard input
    #[arg(long)]
    pub(crate) password_stdin: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum List {
    /// Hosts and how their links stand
    Hosts,
    /// Containers of all hosts
    Containers {
        /// Only what these references mean
        references: Vec<String>,
        /// Only on this host
        #[arg(long)]
        host: Option<String>,
        /// Only in this state
        #[arg(long)]
        state: Option<String>,
        /// Only of this stack
        #[arg(long)]
        stack: Option<String>,
    },
    /// The newest operations
    Operations {
        /// How many
        #[arg(long, default_value_t = 20)]
        limit: u32,
    },
    /// What needs a person, worst first
    Attention,
}

#[derive(Debug, Args)]
pub(crate) struct Logs {
    /// The container
    pub(crate) reference: String,
    /// Only the last so many lines
    #[arg(long, value_name = "N")]
    pub(crate) tail: Option<u32>,
    /// Only from this time on: `15m`, `2h`, `2026-11-23` or `2026-11-23T05:30:00Z`
    #[arg(long, value_name = "TIME")]
    pub(crate) since: Option<String>,
    /// Only up to this time
    #[arg(long, value_name = "TIME")]
    pub(crate) until: Option<String>,
    /// Go on with new lines as they come
    #[arg(long)]
    pub(crate) follow: bool,
    /// Begin each line with its time
    #[arg(long)]
    pub(crate) times: bool,
    /// Only standard output, or only standard error
    #[arg(long, value_enum, value_name = "STREAM")]
    pub(crate) only: Option<Only>,
    /// Write lines of standard error to standard error
    #[arg(long, conflicts_with = "only")]
    pub(crate) apart: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Only {
    Stdout,
    Stderr,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Targets {
    /// References such as `packhouse/frost-api` or '*/frost-*'
    #[arg(required = true)]
    pub(crate) references: Vec<String>,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Manner {
    /// Say what would happen and do nothing
    #[arg(long)]
    pub(crate) preview: bool,
    /// Do not wait for the end
    #[arg(long, conflicts_with = "preview")]
    pub(crate) no_wait: bool,
    /// A key that makes a repeated command safe, for a day
    #[arg(long, value_name = "KEY")]
    pub(crate) key: Option<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Graceful {
    #[command(flatten)]
    pub(crate) targets: Targets,
    /// Seconds between asking and forcing; otherwise the container's own
    #[arg(long, value_name = "SECONDS")]
    pub(crate) grace: Option<u32>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Kill {
    #[command(flatten)]
    pub(crate) targets: Targets,
    /// The signal
    #[arg(long, default_value = "SIGKILL")]
    pub(crate) signal: String,
}

#[derive(Debug, Clone, Args)]
#[command(args_conflicts_with_subcommands = true, subcommand_negates_reqs = true)]
pub(crate) struct Remove {
    #[command(subcommand)]
    pub(crate) host: Option<RemoveHost>,
    #[command(flatten)]
    pub(crate) containers: RemoveContainers,
}

#[derive(Debug, Clone, Subcommand)]
pub(crate) enum RemoveHost {
    /// Take a host out of the fleet; nothing is done to it
    Host { name: String },
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RemoveContainers {
    #[command(flatten)]
    pub(crate) targets: Targets,
    /// End it first if it runs
    #[arg(long)]
    pub(crate) force: bool,
    /// Take its anonymous volumes away too
    #[arg(long)]
    pub(crate) volumes: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Material {
    /// The authority that signed the engine's certificate (PEM)
    #[arg(long, value_name = "FILE")]
    pub(crate) ca: Option<PathBuf>,
    /// Our certificate (PEM)
    #[arg(long, value_name = "FILE")]
    pub(crate) certificate: Option<PathBuf>,
    /// Our certificate's key (PEM)
    #[arg(long, value_name = "FILE")]
    pub(crate) key: Option<PathBuf>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Add {
    /// Add a host by its engine's address
    Host {
        /// The name to give it
        name: String,
        /// `unix:///path` or `tcp://host:port`
        address: String,
        #[command(flatten)]
        material: Material,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum Test {
    /// Try a host of the fleet, or an address before adding it
    Host {
        /// A host's name, or an address
        host: String,
        #[command(flatten)]
        material: Material,
    },
}
