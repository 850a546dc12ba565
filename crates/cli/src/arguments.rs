//! The command line. Verbs first, full words, references as `host/name`.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

use crate::arguments_act::{
    Build, Copy, Deploy, Duplicate, Edit, Join, Leave, NewNetwork, NewRegistry, NewVolume, OnHosts,
    PullImage, Rollback, Rolled, RunOnce, Shell, Things, Tidy, Update,
};
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
    /// Put containers on the newest image; what was before comes back when the new one does not come up
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
    /// Images of all hosts, the largest first
    Images(OnHost),
    /// Volumes and who mounts them
    Volumes(OnHost),
    /// Networks and who is in them
    Networks(OnHost),
    /// Stacks as their containers' labels tell
    Stacks,
    /// What listens where
    Ports {
        /// Only on this host
        #[arg(long)]
        host: Option<String>,
        /// Only this port of the hosts
        #[arg(long)]
        port: Option<u16>,
    },
    /// What has happened, newest first
    Events {
        /// Only of this host
        #[arg(long)]
        host: Option<String>,
        /// Only of this object, as `host/name` or a name
        #[arg(long)]
        object: Option<String>,
        /// Only what this member did
        #[arg(long)]
        member: Option<String>,
        /// Only of this kind: engine, operation, access or host; may be given more than once
        #[arg(long)]
        kind: Vec<String>,
        /// Only what went wrong
        #[arg(long)]
        bad: bool,
        /// Only from this time on
        #[arg(long, value_name = "TIME")]
        since: Option<String>,
        /// Only before this time
        #[arg(long, value_name = "TIME")]
        until: Option<String>,
        /// How many
        #[arg(long, default_value_t = 50)]
        limit: u32,
    },
    /// The rules by which log lines are kept
    KeptLogs,
    /// The registries that are set
    Registries,
    /// The tags of an image at its registry, with age, size and architectures
    Tags {
        /// The image, without a tag
        image: String,
        /// How many
        #[arg(long, default_value_t = 25)]
        limit: usize,
    },
    /// The earlier states of a container that can be gone back to
    Earlier {
        /// The container
        container: String,
    },
    /// What is known of newer images, and which containers run something older
    NewerImages {
        /// Ask the registries now
        #[arg(long)]
        check: bool,
    },
    /// Settings of the whole service
    Preferences,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct OnHost {
    /// Only on this host
    #[arg(long)]
    pub(crate) host: Option<String>,
    /// Only what nothing uses
    #[arg(long)]
    pub(crate) unused: bool,
}

#[derive(Debug, Args)]
pub(crate) struct Use {
    /// References such as `packhouse/frost-api` or '*/frost-*'; everything when absent
    pub(crate) references: Vec<String>,
    /// Only of this stack
    #[arg(long)]
    pub(crate) stack: Option<String>,
    /// Only on this host
    #[arg(long)]
    pub(crate) host: Option<String>,
    /// Go on every second, in place
    #[arg(long)]
    pub(crate) live: bool,
    /// Back in time instead: how far, such as `24h` or `30d`
    #[arg(long, value_name = "SPAN", conflicts_with = "live")]
    pub(crate) history: Option<String>,
    /// By what the rows are sorted
    #[arg(long, value_enum, default_value_t = SortUse::Processors)]
    pub(crate) sort: SortUse,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum SortUse {
    Processors,
    Memory,
    Network,
    Disk,
    Name,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Keep {
    /// Copy lines to the service as they are written, within limits
    Logs {
        /// A container as `host/name`
        #[arg(long, group = "whose")]
        container: Option<String>,
        /// A stack
        #[arg(long, group = "whose")]
        stack: Option<String>,
        /// A label, as `name` or `name=value`
        #[arg(long, group = "whose")]
        label: Option<String>,
        /// A host
        #[arg(long, group = "whose")]
        host: Option<String>,
        /// Every container
        #[arg(long, group = "whose")]
        all: bool,
        /// Lines older than so many days go
        #[arg(long, default_value_t = 14)]
        days: u32,
        /// Beyond so many MiB on disk the oldest go
        #[arg(long, default_value_t = 2048)]
        mebibytes: u64,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum Set {
    /// Settings of a host
    Host {
        /// Its name
        name: String,
        /// The name or address at which people reach what it publishes; empty for none
        #[arg(long)]
        public_address: String,
    },
    /// Settings of the whole service; what is not named stays as it is
    Preferences {
        /// Earlier states that are kept of each container
        #[arg(long, value_name = "N")]
        kept_earlier: Option<u32>,
        /// Hours for which a thing must have been unused before tidying offers it
        #[arg(long, value_name = "HOURS")]
        tidy_after: Option<u32>,
        /// Hours between two looks for newer images; 0 for never
        #[arg(long, value_name = "HOURS")]
        image_checks: Option<u32>,
        /// Whether the audit log keeps the text of terminals
        #[arg(long, value_name = "BOOL")]
        record_terminals: Option<bool>,
        /// Whether folders of hosts that containers mount may be browsed and changed
        #[arg(long, value_name = "BOOL")]
        browse_host_folders: Option<bool>,
    },
    /// Permissions and owner of a file or folder in a container or a volume
    File {
        /// Which, as `host/name:/path` or `volume:host/name:/path`
        place: String,
        /// Permissions in octal digits, such as 644
        #[arg(long, required_unless_present_any = ["user", "group"])]
        mode: Option<String>,
        /// The number of its owner
        #[arg(long)]
        user: Option<u64>,
        /// The number of its group
        #[arg(long)]
        group: Option<u64>,
    },
}

#[derive(Debug, Args)]
pub(crate) struct Logs {
    /// References such as `packhouse/frost-api` or '*/frost-*'
    #[arg(required_unless_present_any = ["stack", "label"])]
    pub(crate) references: Vec<String>,
    /// All containers of this stack
    #[arg(long)]
    pub(crate) stack: Option<String>,
    /// All containers with this label, as `name` or `name=value`
    #[arg(long)]
    pub(crate) label: Option<String>,
    /// Only lines in which this regular expression is found; may be given more than once
    #[arg(long, value_name = "PATTERN")]
    pub(crate) grep: Vec<String>,
    /// Leave out lines in which this regular expression is found; may be given more than once
    #[arg(long, value_name = "PATTERN")]
    pub(crate) without: Vec<String>,
    /// Patterns are plain text
    #[arg(long)]
    pub(crate) plain: bool,
    /// Small and capital letters are the same
    #[arg(long)]
    pub(crate) any_case: bool,
    /// Only lines at least this grave: trace, debug, info, warning, error or fatal
    #[arg(long)]
    pub(crate) level: Option<String>,
    /// Only the last so many lines (of each) that are wanted
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
    /// Add a host by its engine's address
    Host {
        /// The name to give it
        name: String,
        /// `unix:///path` or `tcp://host:port`
        address: String,
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
    /// Try a host of the fleet, or an address before adding it
    Host {
        /// A host's name, or an address
        host: String,
        #[command(flatten)]
        material: Material,
    },
}
