//! The command line. Verbs first, full words, references as `host/name`.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

use crate::arguments_act::{
    Build, Copy, Deploy, Duplicate, Edit, Join, Leave, NewNetwork, NewRegistry, NewVolume, OnHosts,
    PullImage, Rollback, Rolled, RunOnce, Shell, Things, Tidy, Update,
};
pub(crate) use crate::arguments_read::{Keep, List, Logs, OnHost, Only, Set, SortUse, Use};
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
    /// Look after the audit log of a data folder on this machine
    #[command(subcommand)]
    Audit(Audit),
    /// Run the service with a simulated fleet to try it out
    Demo(Demo),
    /// Run simulated engines only, for measurements
    #[command(hide = true)]
    Simulate(Simulate),
    #[command(flatten)]
    Client(ClientCommand),
}

#[derive(Debug, Subcommand)]
pub(crate) enum Audit {
    /// Check that no entry was altered, removed or cut off
    Verify {
        /// The service's data folder
        #[arg(long, env = "GUBERNUM_DATA_DIR", value_name = "DIR", default_value = "gubernum-data")]
        data_dir: PathBuf,
    },
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
    /// List hosts, containers, images, volumes, networks, stacks, ports, events, operations or what needs attention
    #[command(subcommand)]
    List(List),
    /// Show one container, image, volume, network, stack or host in full
    Show {
        /// A container as `host/name`; or a kind (image, volume, network, stack, host) and a name
        #[arg(required = true, num_args = 1..=2, value_names = ["KIND", "NAME"])]
        what: Vec<String>,
    },
    /// Read the logs of one or many containers, merged by time
    Logs(Logs),
    /// Tell what containers use: now, live or back in time
    Use(Use),
    /// Watch the fleet on the whole terminal
    Watch,
    /// Keep log lines beyond their containers
    #[command(subcommand)]
    Keep(Keep),
    /// Change settings of a host
    #[command(subcommand)]
    Set(Set),
    /// Start containers
    Start(RolledTargets),
    /// Stop containers: ask, and after the grace period force
    Stop(Graceful),
    /// Restart containers
    Restart(Graceful),
    /// Freeze the processes of containers
    Pause(Targets),
    /// Let frozen processes go on
    Resume(Targets),
    /// Make a container and start it
    Deploy(Box<Deploy>),
    /// Change settings of a container; without any flag its Compose text opens in your editor
    Edit(Box<Edit>),
    /// Make a second container like one that is there, on free ports
    Duplicate(Box<Duplicate>),
    /// Update containers to the newest image; rolled back when the new container does not come up
    Update(Update),
    /// Put containers back to what they were before an edit or an update
    Rollback(Rollback),
    /// Fetch an image to hosts
    Pull(PullImage),
    /// Send an image from a host to its registry
    Push(OnHosts),
    /// Give an image another name
    Tag {
        #[command(flatten)]
        what: OnHosts,
        /// The new name with its tag
        #[arg(long, value_name = "IMAGE")]
        new_name: String,
    },
    /// Put a container into a network
    Connect(Join),
    /// Take a container out of a network
    Disconnect(Leave),
    /// Show what nothing uses, and take it away
    Tidy(Tidy),
    /// Open a terminal in a container
    Shell(Shell),
    /// Join a container's own process: see what it says, type what it reads; leaving does not end it
    Attach {
        /// The container
        container: String,
    },
    /// Run one command and pass its output and exit code on: in a container, or with `--image` in one that is made for it
    /// and taken away afterwards
    RunOnce(Box<RunOnce>),
    /// Copy a file, a folder as a tar archive, or a volume's data, from or to this machine
    Copy(Copy),
    /// List a folder of a container or a volume
    Browse {
        /// Where, as `host/name:/path` or `volume:host/name:/path`
        place: String,
    },
    /// Make a folder in a container or a volume
    MakeFolder {
        /// Where, as `host/name:/path` or `volume:host/name:/path`
        place: String,
    },
    /// Give a file or folder in a container or a volume another name or place
    Rename {
        /// Which, as `host/name:/path` or `volume:host/name:/path`
        place: String,
        /// Its new path there
        to: String,
    },
    /// Delete a file, or a folder with all that is in it, in a container or a volume
    Delete {
        /// Which, as `host/name:/path` or `volume:host/name:/path`
        place: String,
    },
    /// Build an image on a host from a folder here or a Git address
    Build(Build),
    /// Write an image of a host to an archive
    Export {
        /// The image with its tag
        image: String,
        /// The host
        #[arg(long)]
        host: String,
        /// The file to write
        file: PathBuf,
    },
    /// Take the images of an archive in on a host
    Import {
        /// The file to read
        file: PathBuf,
        /// The host
        #[arg(long)]
        host: String,
    },
    /// Search images by name, on the hosts and at the registries that are set
    Search {
        /// A part of the name
        text: String,
    },
    /// Say what a command would do, such as `preview update packhouse/frost-api`
    #[command(disable_help_flag = true)]
    Preview {
        /// The command
        #[arg(required = true, trailing_var_arg = true, allow_hyphen_values = true)]
        words: Vec<String>,
    },
    /// Ask once more for what failed of an operation
    Retry {
        /// Its number
        operation: u64,
    },
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

#[derive(Debug, Clone, Args)]
pub(crate) struct Targets {
    /// References such as `packhouse/frost-api` or '*/frost-*'
    #[arg(required_unless_present_any = ["stack", "label"])]
    pub(crate) references: Vec<String>,
    /// All containers of this stack too
    #[arg(long)]
    pub(crate) stack: Option<String>,
    /// All containers with this label too, as `name` or `name=value`
    #[arg(long)]
    pub(crate) label: Option<String>,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RolledTargets {
    #[command(flatten)]
    pub(crate) targets: Targets,
    #[command(flatten)]
    pub(crate) rolled: Rolled,
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
    #[command(flatten)]
    pub(crate) rolled: Rolled,
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
    /// End keeping log lines by a rule; what it has kept goes when it is too old
    KeptLogs {
        /// Its number
        rule: u64,
    },
    /// Take images away
    Image(Things),
    /// Take volumes and their data away
    Volume(Things),
    /// Take networks away
    Network(Things),
    /// Forget a registry with its account
    Registry { address: String },
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
    /// Add a host by its engine's address; the address is tested first
    Host {
        /// The name to give it
        name: String,
        /// `unix:///path` or `tcp://host:port`
        address: String,
        /// Add it whether it can be reached or not
        #[arg(long)]
        untested: bool,
        #[command(flatten)]
        material: Material,
    },
    /// Make a volume
    Volume(NewVolume),
    /// Make a network
    Network(Box<NewNetwork>),
    /// Set a registry with its account; it is tried first
    Registry(NewRegistry),
}

#[derive(Debug, Subcommand)]
pub(crate) enum Test {
    /// Try a registry without keeping it
    Registry(NewRegistry),
    /// Try a host of the fleet, or an address before adding it: `test host packhouse tcp://198.51.100.7:2376`
    Host {
        /// A host's name, or an address
        host: String,
        /// The address to try for a host of that name
        address: Option<String>,
        #[command(flatten)]
        material: Material,
    },
}
