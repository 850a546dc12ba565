//! The command line. Verbs first, full words, references as `host/name`.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

use crate::arguments_act::{
    Build, Copy, Deploy, Edit, Join, Leave, OnHosts, PullImage, Rollback, Rolled, RunOnce, Shell, Tidy,
    Update,
};
pub(crate) use crate::arguments_manage::{Add, Material, Remove, RemoveObject, Test};
pub(crate) use crate::arguments_read::{Keep, List, Logs, OnHost, Only, Set, Usage, UsageOrder};
pub(crate) use crate::arguments_serve::{Audit, Demo, LogFormat, Serve, Simulate};
use crate::exit;
use crate::table::Color;

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
#[command(next_help_heading = "Global options")]
pub(crate) struct Connection {
    /// Address of the service; defaults to where you last signed in
    #[arg(long, global = true, env = "GUBERNUM_URL", value_name = "URL")]
    pub(crate) url: Option<String>,
    /// API token; defaults to the one saved by 'sign-in'
    #[arg(long, global = true, env = "GUBERNUM_TOKEN", value_name = "TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    /// Trust the certificate with this SHA-256 fingerprint
    #[arg(long, global = true, env = "GUBERNUM_FINGERPRINT", value_name = "HEX")]
    pub(crate) fingerprint: Option<String>,
    /// Output format: a table for people or JSON for programs
    #[arg(long, global = true, value_enum, default_value_t = Output::Table)]
    pub(crate) output: Output,
    /// Show tables in full instead of cutting them to the width of the terminal
    #[arg(long, global = true)]
    pub(crate) wide: bool,
    /// When to use colors; auto means on a terminal, unless NO_COLOR is set
    #[arg(long, global = true, value_enum, default_value_t = Color::Auto, value_name = "WHEN")]
    pub(crate) color: Color,
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
    /// Verify the audit log of a data folder on this machine
    #[command(subcommand)]
    Audit(Audit),
    /// Print a link that makes someone an admin, for when nobody can sign in; run it on the service's machine
    Recover {
        /// Data folder of the service
        #[arg(long, env = "GUBERNUM_DATA_DIR", value_name = "DIR", default_value = "gubernum-data")]
        data_dir: PathBuf,
        /// Member to make an admin; created if missing
        #[arg(long, default_value = "admin")]
        member: String,
        #[command(flatten)]
        passphrase: crate::arguments_serve::Passphrase,
    },
    /// Set or remove the passphrase of a data folder's key file; stop the service first
    SealKey(crate::arguments_serve::SealKey),
    /// Check Compose files and report every error; needs no service
    Check(crate::arguments_stacks::Check),
    /// Run the service with a simulated fleet, to try it out
    Demo(Demo),
    /// Run simulated engines only, for measurements
    #[command(hide = true)]
    Simulate(Simulate),
    /// Write docs/reference
    #[command(hide = true)]
    Reference {
        /// Folder to write to
        folder: PathBuf,
    },
    #[command(flatten)]
    Client(ClientCommand),
}

#[derive(Debug, Subcommand)]
pub(crate) enum ClientCommand {
    /// Sign in and save a token for later commands
    SignIn(SignIn),
    /// Delete the saved token
    SignOut,
    /// List hosts, containers, images, stacks, operations and more
    #[command(subcommand)]
    List(List),
    /// Show one object in full
    Show {
        /// A container as 'host/name', or a kind and a name; kinds are image, volume, network, stack, drift, revision, difference, source, job and host
        #[arg(required = true, num_args = 1..=2, value_names = ["KIND", "NAME"])]
        what: Vec<String>,
    },
    /// Read the logs of one or more containers, merged by time
    Logs(Logs),
    /// Show resource usage: now, live or in the past
    #[command(alias = "use")]
    Usage(Usage),
    /// Watch the fleet in a full-screen view
    Watch,
    /// Keep logs after their containers are removed
    #[command(subcommand)]
    Keep(Keep),
    /// Change a setting of the service, a host, a member or another object
    #[command(subcommand)]
    Set(Set),
    /// Start containers
    Start(RolledTargets),
    /// Stop containers gracefully; kill them after the grace period
    Stop(Graceful),
    /// Restart containers
    Restart(Graceful),
    /// Pause containers
    Pause(Targets),
    /// Resume paused containers
    Resume(Targets),
    /// Create and start a container, or deploy a stack from Compose files
    Deploy(Box<Deploy>),
    /// Save a running stack as its first revision, without changing it
    Adopt {
        /// Host and stack: 'packhouse/frostwatch'
        #[arg(value_name = "HOST/STACK")]
        stack: String,
        /// Print the Compose text and save nothing
        #[arg(long)]
        preview: bool,
    },
    /// Change how many containers a stack's services run
    Scale(crate::arguments_stacks::Scale),
    /// Move a container, stack or volume to another host with its data
    Move(crate::arguments_stacks::Move),
    /// Clone a container, stack or volume with its data, to this or another host
    Clone(crate::arguments_stacks::Clone),
    /// Change a container's settings; opens your editor when no flag is given
    Edit(Box<Edit>),
    /// Update containers to the newest image; rolls back if the new container does not come up
    Update(Update),
    /// Roll containers back to before an edit or update
    Rollback(Rollback),
    /// Pull an image to hosts
    Pull(PullImage),
    /// Push an image from a host to its registry
    Push(OnHosts),
    /// Tag an image with another name
    Tag {
        #[command(flatten)]
        what: OnHosts,
        /// The new name and tag
        #[arg(long, value_name = "IMAGE")]
        new_name: String,
    },
    /// Connect a container to a network
    Connect(Join),
    /// Disconnect a container from a network
    Disconnect(Leave),
    /// Show unused objects, and remove them
    Tidy(Tidy),
    /// Open a terminal in a container
    Shell(Shell),
    /// Attach to a container's main process; detaching does not stop it
    Attach {
        /// The container
        container: String,
    },
    /// Run a command in a container and return its exit code; with '--image', in a new container that is removed afterwards
    RunOnce(Box<RunOnce>),
    /// Run a job of a stack now and wait for it
    RunJob(crate::arguments_stacks::RunJob),
    /// Copy files, folders or a volume's data from or to this machine
    Copy(Copy),
    /// List a folder of a container or a volume
    Browse {
        /// Folder: 'host/name:/path' or 'volume:host/name:/path'
        place: String,
    },
    /// Create a folder in a container or a volume
    #[command(alias = "make-folder")]
    CreateFolder {
        /// Folder: 'host/name:/path' or 'volume:host/name:/path'
        place: String,
    },
    /// Rename or move a file or folder in a container or a volume
    Rename {
        /// File or folder: 'host/name:/path' or 'volume:host/name:/path'
        place: String,
        /// New path
        to: String,
    },
    /// Delete a file, or a folder with its content, in a container or a volume
    Delete {
        /// File or folder: 'host/name:/path' or 'volume:host/name:/path'
        place: String,
    },
    /// Build an image on a host from a local folder or a Git URL
    Build(Build),
    /// Export an image to an archive, or a stack's files to a folder
    Export {
        /// Image and tag; with '--stack', the stack as 'packhouse/frostwatch' or, for revision 2, 'packhouse/frostwatch@2'
        what: String,
        /// Host that has the image
        #[arg(long, required_unless_present = "stack", conflicts_with = "stack")]
        host: Option<String>,
        /// Export a stack's files, with likely secrets masked
        #[arg(long)]
        stack: bool,
        /// File or folder to write; must not exist yet
        file: PathBuf,
    },
    /// Import images from an archive to a host
    Import {
        /// Archive to read
        file: PathBuf,
        /// The host
        #[arg(long)]
        host: String,
    },
    /// Search images by name, on hosts and at the configured registries
    Search {
        /// Part of the name
        text: String,
    },
    /// Show what a command would do, without doing it
    #[command(disable_help_flag = true)]
    Preview {
        /// The command
        #[arg(required = true, trailing_var_arg = true, allow_hyphen_values = true)]
        words: Vec<String>,
    },
    /// Retry what failed in an operation
    Retry {
        /// Number of the operation
        operation: u64,
    },
    /// Send a signal to containers
    Kill(Kill),
    /// Remove containers, hosts, images, volumes and more
    Remove(Remove),
    /// Cancel an operation
    Cancel {
        /// Number of the operation
        operation: u64,
    },
    /// Add a host, volume, network or registry
    #[command(subcommand)]
    Add(Add),
    /// Test the connection to a host or registry
    #[command(subcommand)]
    Test(Test),
    /// Invite a member with a one-time link
    Invite(crate::arguments_members::Invite),
    /// Freeze part of the fleet: nobody else, and no automation, can change it for a while
    Freeze(crate::arguments_members::FreezeArguments),
    /// Snooze an object's attention items for the whole team
    Snooze(crate::arguments_members::SnoozeArguments),
    /// End a snooze
    Unsnooze {
        /// Number, as in 'list snoozes'
        number: u64,
    },
    /// Write a note on an object, for the team
    Note(crate::arguments_members::NoteArguments),
    /// Lift a freeze
    Unfreeze {
        /// Number, as in 'list freezes'
        number: u64,
    },
    /// Rotate the key that seals the service's secrets, without downtime
    RotateSeal,
    /// Create a link to choose a new password
    ResetPassword {
        /// The member's name
        member: String,
    },
    /// Print shell completions
    Completions {
        /// Shell
        shell: clap_complete::Shell,
    },
    /// Write the man pages to a folder
    Manual {
        /// Folder to write to; created if missing
        folder: PathBuf,
    },
}

#[derive(Debug, Args)]
pub(crate) struct SignIn {
    /// Address of the service
    pub(crate) address: Option<String>,
    /// Your name; asked for if missing
    #[arg(long)]
    pub(crate) member: Option<String>,
    /// Claim a new service with the code that it printed
    #[arg(long, value_name = "CODE")]
    pub(crate) claim: Option<String>,
    /// Read the password from standard input
    #[arg(long)]
    pub(crate) password_stdin: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Targets {
    /// References such as 'packhouse/frost-api' or '*/frost-*'
    #[arg(required_unless_present_any = ["stack", "label"])]
    pub(crate) references: Vec<String>,
    /// Also all containers of this stack
    #[arg(long)]
    pub(crate) stack: Option<String>,
    /// Also all containers with this label, as 'name' or 'name=value'
    #[arg(long)]
    pub(crate) label: Option<String>,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RolledTargets {
    #[command(flatten)]
    pub(crate) targets: Targets,
    #[command(flatten)]
    pub(crate) rolled: Rolled,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct ChangeOptions {
    /// Show what would happen and change nothing
    #[arg(long)]
    pub(crate) preview: bool,
    /// Return at once instead of waiting until it is done
    #[arg(long, conflicts_with = "preview")]
    pub(crate) no_wait: bool,
    /// Idempotency key: the same command with the same key runs once a day
    #[arg(long, value_name = "KEY")]
    pub(crate) key: Option<String>,
    /// Queue behind another operation on the same object, for up to this long
    #[arg(long, alias = "in-line", value_name = "SECONDS", value_parser = clap::value_parser!(u32).range(1..=3600), conflicts_with = "preview")]
    pub(crate) queue: Option<u32>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Graceful {
    #[command(flatten)]
    pub(crate) targets: Targets,
    /// Grace period before the container is killed; defaults to its own
    #[arg(long, value_name = "SECONDS")]
    pub(crate) grace: Option<u32>,
    #[command(flatten)]
    pub(crate) rolled: Rolled,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Kill {
    #[command(flatten)]
    pub(crate) targets: Targets,
    /// Signal to send
    #[arg(long, default_value = "SIGKILL")]
    pub(crate) signal: String,
}

#[cfg(test)]
#[path = "arguments_tests.rs"]
mod tests;
