//! The command line of what works on stacks.

use std::path::PathBuf;

use clap::Args;

use crate::arguments::Manner;

/// Which files a stack is, and what is chosen for them.
#[derive(Debug, Clone, Args)]
pub(crate) struct StackSource {
    /// The Compose files, the later over the earlier; '-' reads standard input
    #[arg(required = true, value_name = "FILE")]
    pub(crate) files: Vec<PathBuf>,
    /// The stack's name; otherwise what the files say
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// A value for a variable of the files, before those of '.env'; as NAME=VALUE
    #[arg(long = "variable", value_name = "NAME=VALUE")]
    pub(crate) variables: Vec<String>,
    /// A profile whose services are wanted too; '*' for all
    #[arg(long = "profile", value_name = "NAME")]
    pub(crate) profiles: Vec<String>,
}

/// What is to be checked.
#[derive(Debug, Clone, Args)]
pub(crate) struct Check {
    #[command(flatten)]
    pub(crate) source: StackSource,
    /// Write a file from before 'services' was there as it is written now, to standard output
    #[arg(long)]
    pub(crate) convert: bool,
}

/// A stack of which the newest revision is applied again with something changed.
#[derive(Debug, Clone, Args)]
pub(crate) struct Again {
    /// The host and the stack: 'packhouse/frostwatch'
    #[arg(value_name = "HOST/STACK")]
    pub(crate) stack: String,
    /// What changes and why, kept with the revision
    #[arg(long)]
    pub(crate) comment: Option<String>,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Scale {
    #[command(flatten)]
    pub(crate) again: Again,
    /// Services, each with its number of containers
    #[arg(required = true, value_name = "SERVICE=NUMBER")]
    pub(crate) services: Vec<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SetVariables {
    #[command(flatten)]
    pub(crate) again: Again,
    /// Variables with their values
    #[arg(required = true, value_name = "NAME=VALUE")]
    pub(crate) variables: Vec<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RemoveStack {
    /// The host and the stack: 'packhouse/frostwatch'
    #[arg(value_name = "HOST/STACK")]
    pub(crate) stack: String,
    /// Remove its volumes too, with their data
    #[arg(long)]
    pub(crate) volumes: bool,
    /// Remove the images of its containers too, where nothing else uses them
    #[arg(long)]
    pub(crate) images: bool,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SetSourceArguments {
    /// The host and the stack: 'packhouse/frostwatch'
    #[arg(value_name = "HOST/STACK")]
    pub(crate) stack: String,
    /// The repository: 'https://…', 'ssh://…' or 'account@host:path'
    #[arg(long)]
    pub(crate) repository: String,
    /// The branch or tag
    #[arg(long, default_value = "main")]
    pub(crate) reference: String,
    /// A file of it that is the stack, the later over the earlier; their folder is the stack's
    #[arg(long = "path", value_name = "PATH", default_value = "compose.yaml")]
    pub(crate) paths: Vec<String>,
    /// The account for the token; otherwise 'git'
    #[arg(long)]
    pub(crate) account: Option<String>,
    /// Read a token for 'https' from standard input
    #[arg(long)]
    pub(crate) token_stdin: bool,
    /// A private key for 'ssh'
    #[arg(long, value_name = "FILE")]
    pub(crate) ssh_key: Option<PathBuf>,
    /// The keys of the SSH server, as 'ssh-keyscan' prints them
    #[arg(long, value_name = "FILE")]
    pub(crate) known_hosts: Option<PathBuf>,
    /// Seconds between two looks; 0 to look only when its hook says so
    #[arg(long, value_name = "SECONDS", default_value_t = 300)]
    pub(crate) poll: u32,
    /// Apply changes by themselves instead of waiting for approval
    #[arg(long)]
    pub(crate) apply: bool,
    /// A value for a variable of the files; as NAME=VALUE
    #[arg(long = "variable", value_name = "NAME=VALUE")]
    pub(crate) variables: Vec<String>,
    /// A profile whose services are wanted too; '*' for all
    #[arg(long = "profile", value_name = "NAME")]
    pub(crate) profiles: Vec<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RunJob {
    /// The host, the stack and the service: 'packhouse/frostwatch/report'
    #[arg(value_name = "HOST/STACK/SERVICE")]
    pub(crate) job: String,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

/// Something that goes to another host with its data.
#[derive(Debug, Clone, Args)]
pub(crate) struct Goes {
    /// The host and what is on it: 'packhouse/frost-api'; with '--stack' a stack, with '--volume' a volume
    #[arg(value_name = "HOST/NAME")]
    pub(crate) reference: String,
    /// The host that it goes to
    #[arg(long, value_name = "HOST")]
    pub(crate) to: String,
    /// It is a stack
    #[arg(long, conflicts_with = "volume")]
    pub(crate) stack: bool,
    /// It is a volume
    #[arg(long)]
    pub(crate) volume: bool,
    /// The name that it has there; otherwise its own
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// Another port there for one that it publishes: '7311=17311'; may be given more than once
    #[arg(long = "port", value_name = "PORT=NEW")]
    pub(crate) ports: Vec<String>,
    /// Copy the data a first time while it runs, so that it stops only for what changed meanwhile
    #[arg(long)]
    pub(crate) first_pass: bool,
    /// Fetch images from their registries instead of copying them from host to host
    #[arg(long)]
    pub(crate) pull: bool,
    /// Do not read the copied data back to compare it
    #[arg(long)]
    pub(crate) unverified: bool,
    /// Seconds that the new one must stay up when it has no health check; otherwise 10
    #[arg(long, value_name = "SECONDS")]
    pub(crate) watch: Option<u32>,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Move {
    #[command(flatten)]
    pub(crate) goes: Goes,
    /// Keep the original, stopped
    #[arg(long)]
    pub(crate) keep: bool,
    /// Remove the original's volumes too, once the copy runs
    #[arg(long)]
    pub(crate) remove_volumes: bool,
}

#[derive(Debug, std::clone::Clone, Args)]
pub(crate) struct Clone {
    #[command(flatten)]
    pub(crate) goes: Goes,
    /// Let the original run on while its data is copied, instead of pausing it
    #[arg(long)]
    pub(crate) running: bool,
}
