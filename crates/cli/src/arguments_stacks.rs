//! The part of the command line for stacks.

use std::path::PathBuf;

use clap::Args;

use crate::arguments::ChangeOptions;

/// Which files a stack is, and what is chosen for them.
#[derive(Debug, Clone, Args)]
pub(crate) struct StackSource {
    /// Compose files; later files override earlier ones; '-' reads standard input
    #[arg(required = true, value_name = "FILE")]
    pub(crate) files: Vec<PathBuf>,
    /// Name of the stack; defaults to the one in the files
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// Set a variable of the files; overrides '.env'; repeatable
    #[arg(long = "variable", value_name = "NAME=VALUE")]
    pub(crate) variables: Vec<String>,
    /// Activate a profile; '*' for all; repeatable
    #[arg(long = "profile", value_name = "NAME")]
    pub(crate) profiles: Vec<String>,
}

/// What is to be checked.
#[derive(Debug, Clone, Args)]
pub(crate) struct Check {
    #[command(flatten)]
    pub(crate) source: StackSource,
    /// Convert a file of the old format without 'services', and print it
    #[arg(long)]
    pub(crate) convert: bool,
}

/// A stack of which the newest revision is applied again with something changed.
#[derive(Debug, Clone, Args)]
pub(crate) struct StackChange {
    /// Host and stack: 'packhouse/frostwatch'
    #[arg(value_name = "HOST/STACK")]
    pub(crate) stack: String,
    /// Comment, saved with the revision
    #[arg(long)]
    pub(crate) comment: Option<String>,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Scale {
    #[command(flatten)]
    pub(crate) again: StackChange,
    /// Services and their number of containers
    #[arg(required = true, value_name = "SERVICE=NUMBER")]
    pub(crate) services: Vec<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SetVariables {
    #[command(flatten)]
    pub(crate) again: StackChange,
    /// Variables and their values
    #[arg(required = true, value_name = "NAME=VALUE")]
    pub(crate) variables: Vec<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RemoveStack {
    /// Host and stack: 'packhouse/frostwatch'
    #[arg(value_name = "HOST/STACK")]
    pub(crate) stack: String,
    /// Also remove its volumes and their data
    #[arg(long)]
    pub(crate) volumes: bool,
    /// Also remove its images, unless something else uses them
    #[arg(long)]
    pub(crate) images: bool,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SetSourceArguments {
    /// Host and stack: 'packhouse/frostwatch'
    #[arg(value_name = "HOST/STACK")]
    pub(crate) stack: String,
    /// Repository: 'https://…', 'ssh://…' or 'account@host:path'
    #[arg(long)]
    pub(crate) repository: String,
    /// Branch or tag
    #[arg(long, default_value = "main")]
    pub(crate) reference: String,
    /// Compose file in the repository; later files override earlier ones; repeatable
    #[arg(long = "path", value_name = "PATH", default_value = "compose.yaml")]
    pub(crate) paths: Vec<String>,
    /// Account for the token; defaults to 'git'
    #[arg(long)]
    pub(crate) account: Option<String>,
    /// Read an access token for 'https' from standard input
    #[arg(long)]
    pub(crate) token_stdin: bool,
    /// Private key for 'ssh'
    #[arg(long, value_name = "FILE")]
    pub(crate) ssh_key: Option<PathBuf>,
    /// Host keys of the SSH server, as printed by 'ssh-keyscan'
    #[arg(long, value_name = "FILE")]
    pub(crate) known_hosts: Option<PathBuf>,
    /// Poll interval in seconds; 0 checks only when the webhook is called
    #[arg(long, value_name = "SECONDS", default_value_t = 300)]
    pub(crate) poll: u32,
    /// Deploy changes automatically instead of waiting for approval
    #[arg(long)]
    pub(crate) apply: bool,
    /// Set a variable of the files; repeatable
    #[arg(long = "variable", value_name = "NAME=VALUE")]
    pub(crate) variables: Vec<String>,
    /// Activate a profile; '*' for all; repeatable
    #[arg(long = "profile", value_name = "NAME")]
    pub(crate) profiles: Vec<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RunJob {
    /// Host, stack and service: 'packhouse/frostwatch/report'
    #[arg(value_name = "HOST/STACK/SERVICE")]
    pub(crate) job: String,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

/// Something that goes to another host with its data.
#[derive(Debug, Clone, Args)]
pub(crate) struct MoveArguments {
    /// What to move or clone: 'packhouse/frost-api'; with '--stack' a stack, with '--volume' a volume
    #[arg(value_name = "HOST/NAME")]
    pub(crate) reference: String,
    /// Target host
    #[arg(long, value_name = "HOST")]
    pub(crate) to: String,
    /// The reference is a stack
    #[arg(long, conflicts_with = "volume")]
    pub(crate) stack: bool,
    /// The reference is a volume
    #[arg(long)]
    pub(crate) volume: bool,
    /// New name; defaults to the same
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// Change a published port: '7311=17311'; repeatable
    #[arg(long = "port", value_name = "PORT=NEW")]
    pub(crate) ports: Vec<String>,
    /// Copy the data once while it runs, to shorten the downtime
    #[arg(long)]
    pub(crate) first_pass: bool,
    /// Pull images from their registries instead of copying them between hosts
    #[arg(long)]
    pub(crate) pull: bool,
    /// Do not verify the copied data
    #[arg(long)]
    pub(crate) unverified: bool,
    /// Seconds the new container must stay up if it has no health check; defaults to 10
    #[arg(long, value_name = "SECONDS")]
    pub(crate) watch: Option<u32>,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Move {
    #[command(flatten)]
    pub(crate) goes: MoveArguments,
    /// Keep the original, stopped
    #[arg(long)]
    pub(crate) keep: bool,
    /// Also remove the original's volumes once the new one runs
    #[arg(long)]
    pub(crate) remove_volumes: bool,
}

#[derive(Debug, std::clone::Clone, Args)]
pub(crate) struct Clone {
    #[command(flatten)]
    pub(crate) goes: MoveArguments,
    /// Do not pause the original while its data is copied
    #[arg(long)]
    pub(crate) running: bool,
    /// Clone a container without its data; published ports in use are changed to free ones
    #[arg(long, conflicts_with_all = ["stack", "volume", "running", "first_pass", "pull", "unverified"])]
    pub(crate) settings_only: bool,
}
