//! The command line. Verbs first, full words, references as `host/name`.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

use crate::arguments_act::{
    Build, Copy, Deploy, Duplicate, Edit, Join, Leave, NewNetwork, NewRegistry, NewVolume, OnHosts,
    PullImage, Rollback, Rolled, RunOnce, Shell, Things, Tidy, Update,
};
pub(crate) use crate::arguments_read::{Keep, List, Logs, OnHost, Only, Set, SortUse, Use};
pub(crate) use crate::arguments_serve::{Audit, Demo, LogFormat, Serve, Simulate};
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
    /// An API token; otherwise what 'sign-in' has kept
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
    /// Print a link by which somebody becomes an admin, for whoever has the machine and can sign in no more
    Recover {
        /// The service's data folder
        #[arg(long, env = "GUBERNUM_DATA_DIR", value_name = "DIR", default_value = "gubernum-data")]
        data_dir: PathBuf,
        /// The member who will be an admin; a new one when there is none of that name
        #[arg(long, default_value = "admin")]
        member: String,
        #[command(flatten)]
        passphrase: crate::arguments_serve::Passphrase,
    },
    /// Seal the key file of a data folder with a passphrase, or open it again, while the service does not run
    SealKey(crate::arguments_serve::SealKey),
    /// Read the Compose files of a stack and tell every mistake, without a service
    Check(crate::arguments_stacks::Check),
    /// Run the service with a simulated fleet to try it out
    Demo(Demo),
    /// Run simulated engines only, for measurements
    #[command(hide = true)]
    Simulate(Simulate),
    #[command(flatten)]
    Client(ClientCommand),
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
        /// A container as 'host/name'; or a kind (image, volume, network, stack, drift, revision, difference, source, job, host) and a name
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
    /// Write a stack that runs down as a text that changes nothing, and keep that as its newest revision
    Adopt {
        /// The host and the stack: 'packhouse/frostwatch'
        #[arg(value_name = "HOST/STACK")]
        stack: String,
        /// Only show the text
        #[arg(long)]
        preview: bool,
    },
    /// Give services of a stack another number of containers: its newest revision is applied again with that
    Scale(crate::arguments_stacks::Scale),
    /// Move a container, a stack or a volume to another host with its data; the original goes once the copy is well
    Move(crate::arguments_stacks::Move),
    /// Make a copy of a container, a stack or a volume with its data, on another host or under another name
    Clone(crate::arguments_stacks::Clone),
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
    /// Run one command and pass its output and exit code on: in a container, or with '--image' in one that is made for it
    /// and taken away afterwards
    RunOnce(Box<RunOnce>),
    /// Run a job of a stack now, to its end: a service with a schedule, or one that runs to its end
    RunJob(crate::arguments_stacks::RunJob),
    /// Copy a file, a folder as a tar archive, or a volume's data, from or to this machine
    Copy(Copy),
    /// List a folder of a container or a volume
    Browse {
        /// Where, as 'host/name:/path' or 'volume:host/name:/path'
        place: String,
    },
    /// Make a folder in a container or a volume
    MakeFolder {
        /// Where, as 'host/name:/path' or 'volume:host/name:/path'
        place: String,
    },
    /// Give a file or folder in a container or a volume another name or place
    Rename {
        /// Which, as 'host/name:/path' or 'volume:host/name:/path'
        place: String,
        /// Its new path there
        to: String,
    },
    /// Delete a file, or a folder with all that is in it, in a container or a volume
    Delete {
        /// Which, as 'host/name:/path' or 'volume:host/name:/path'
        place: String,
    },
    /// Build an image on a host from a folder here or a Git address
    Build(Build),
    /// Write an image of a host to an archive, or the files of a stack into a folder
    Export {
        /// The image with its tag; with '--stack' the host and the stack, 'packhouse/frostwatch', perhaps with '@' and the
        /// number of a revision
        what: String,
        /// The host of the image
        #[arg(long, required_unless_present = "stack", conflicts_with = "stack")]
        host: Option<String>,
        /// Write the files of a stack; values that look like secrets are hidden in them
        #[arg(long)]
        stack: bool,
        /// The file to write, or the folder, which must not be there yet
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
    /// Say what a command would do, such as 'preview update packhouse/frost-api'
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
    /// Invite somebody by a link that is good once
    Invite(crate::arguments_members::Invite),
    /// Hold changes to a part of the fleet by others, and by jobs and sources, for a while
    Freeze(crate::arguments_members::FreezeArguments),
    /// Leave what needs attention on something out of the attention list for a while, for the whole team
    Snooze(crate::arguments_members::SnoozeArguments),
    /// Bring back what was snoozed
    Unsnooze {
        /// Its number, as 'list snoozes' shows it
        number: u64,
    },
    /// Write a note on something, for the team
    Note(crate::arguments_members::NoteArguments),
    /// Lift a freeze
    Unfreeze {
        /// Its number, as 'list freezes' shows it
        number: u64,
    },
    /// Make a fresh key and seal all secrets of the service with it, while everything goes on
    RotateSeal,
    /// Make a link by which a member chooses a new password
    ResetPassword {
        /// The member's name
        member: String,
    },
    /// Print completions for a shell
    Completions {
        /// The shell they are for
        shell: clap_complete::Shell,
    },
    /// Write the manual pages into a folder
    Manual {
        /// Where they are written; made when it is missing
        folder: PathBuf,
    },
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
    /// References such as 'packhouse/frost-api' or '*/frost-*'
    #[arg(required_unless_present_any = ["stack", "label"])]
    pub(crate) references: Vec<String>,
    /// All containers of this stack too
    #[arg(long)]
    pub(crate) stack: Option<String>,
    /// All containers with this label too, as 'name' or 'name=value'
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
    /// Wait in line, at most so many seconds, while another operation is at work on the same
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u32).range(1..=3600), conflicts_with = "preview")]
    pub(crate) in_line: Option<u32>,
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
    Host {
        /// Its name in the fleet
        name: String,
    },
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
    /// Remove a stack: its containers and networks; its volumes stay unless it is said otherwise
    Stack(crate::arguments_stacks::RemoveStack),
    /// Take the Git repository of a stack away; the stack stays as it is
    Source {
        /// The host and the stack: 'packhouse/frostwatch'
        #[arg(value_name = "HOST/STACK")]
        stack: String,
    },
    /// Remove a member with its sessions and tokens; what it did stays in the audit log
    Member {
        /// Its name
        name: String,
    },
    /// Remove a role of the team that nobody has
    Role {
        /// Its name
        name: String,
    },
    /// Take an invitation back
    Invitation {
        /// Its number, as 'list invitations' shows it
        number: u64,
    },
    /// Remove a note
    Note {
        /// Its number, as 'list notes' shows it
        number: u64,
    },
    /// Send the audit log nowhere any more
    Syslog,
    /// Forget a directory; its members cannot sign in any more
    Directory {
        /// 'openid' or 'ldap'
        kind: String,
    },
    /// Forget a registry with its account
    Registry {
        /// Its address, as 'list registries' shows it
        address: String,
    },
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
        /// 'unix:///path' or 'tcp://host:port'
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
    /// Try a host of the fleet, or an address before adding it: 'test host packhouse tcp://198.51.100.7:2376'
    Host {
        /// A host's name, or an address
        host: String,
        /// The address to try for a host of that name
        address: Option<String>,
        #[command(flatten)]
        material: Material,
    },
}

#[cfg(test)]
#[path = "arguments_tests.rs"]
mod tests;
