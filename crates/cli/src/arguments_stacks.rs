//! The command line of what works on stacks.

use std::path::PathBuf;

use clap::Args;

/// Which files a stack is, and what is chosen for them.
#[derive(Debug, Clone, Args)]
pub(crate) struct StackSource {
    /// The Compose files, the later over the earlier; `-` reads standard input
    #[arg(required = true, value_name = "FILE")]
    pub(crate) files: Vec<PathBuf>,
    /// The stack's name; otherwise what the files say
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// A value for a variable of the files, before those of `.env`; as NAME=VALUE
    #[arg(long = "variable", value_name = "NAME=VALUE")]
    pub(crate) variables: Vec<String>,
    /// A profile whose services are wanted too; `*` for all
    #[arg(long = "profile", value_name = "NAME")]
    pub(crate) profiles: Vec<String>,
}

/// What is to be checked.
#[derive(Debug, Clone, Args)]
pub(crate) struct Check {
    #[command(flatten)]
    pub(crate) source: StackSource,
    /// Write a file from before `services` was there as it is written now, to standard output
    #[arg(long)]
    pub(crate) convert: bool,
}
