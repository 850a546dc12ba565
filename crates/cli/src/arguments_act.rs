//! The part of the command line that creates and changes objects. A container is described by flags or by a Compose
//! file; rare settings exist only in the file.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use crate::arguments::{ChangeOptions, Targets};

/// Settings of a container, as flags. They override those of '--file'.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct DefinitionFlags {
    /// Read the settings from a Compose file with one service; '-' is standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) file: Option<String>,
    /// Image and tag
    #[arg(long)]
    pub(crate) image: Option<String>,
    /// Publish a port: '7311=8080', '127.0.0.1:7311=8080/udp', or '8080' for any free host port; repeatable
    #[arg(long = "port", value_name = "HOST=INNER")]
    pub(crate) ports: Vec<String>,
    /// Unpublish a port, by its host or container number: '7311', '7312/udp'; repeatable
    #[arg(long = "unpublish", value_name = "PORT")]
    pub(crate) unpublish: Vec<String>,
    /// Remove a mount, by its path or source; repeatable
    #[arg(long = "unmount", value_name = "PATH")]
    pub(crate) unmount: Vec<String>,
    /// Mount a volume or a host folder: 'readings=/data', '/srv/in=/in,read-only'; repeatable
    #[arg(long = "mount", value_name = "SOURCE=PATH")]
    pub(crate) mounts: Vec<String>,
    /// Create missing host folders, owned by this user: '1000' or '1000:1000'
    #[arg(long, value_name = "USER")]
    pub(crate) create_folders: Option<String>,
    /// Set an environment variable: 'NAME=value'; repeatable
    #[arg(long = "variable", value_name = "NAME=VALUE")]
    pub(crate) variables: Vec<String>,
    /// Set environment variables from a file of 'NAME=value' lines
    #[arg(long, value_name = "FILE")]
    pub(crate) variables_from: Option<PathBuf>,
    /// Remove an environment variable; repeatable
    #[arg(long = "unset", value_name = "NAME")]
    pub(crate) unset: Vec<String>,
    /// Set a label: 'name=value'; repeatable
    #[arg(long = "label", value_name = "NAME=VALUE")]
    pub(crate) labels: Vec<String>,
    /// Command and arguments, as one string
    #[arg(long)]
    pub(crate) command: Option<String>,
    /// User to run as: name or UID, with ':group' or ':GID'
    #[arg(long)]
    pub(crate) user: Option<String>,
    /// Restart policy: no, on-failure, always or unless-stopped
    #[arg(long)]
    pub(crate) restart: Option<String>,
    /// Memory limit, such as '512MiB'
    #[arg(long)]
    pub(crate) memory: Option<String>,
    /// CPU limit in cores, such as '0.5'
    #[arg(long)]
    pub(crate) processors: Option<f64>,
    /// Connect to a network: 'cold-chain', or 'cold-chain,address=10.91.4.9,alias=frost'; repeatable
    #[arg(long = "join", value_name = "NETWORK")]
    pub(crate) networks: Vec<String>,
    /// Health check command; exit code 0 means healthy
    #[arg(long, value_name = "COMMAND")]
    pub(crate) check: Option<String>,
    /// Pull policy
    #[arg(long, value_enum)]
    pub(crate) pull: Option<Pull>,
}

impl DefinitionFlags {
    /// Nothing was told.
    pub(crate) fn is_empty(&self) -> bool {
        let texts = [&self.file, &self.image, &self.create_folders, &self.command, &self.user, &self.restart];
        let lists = [
            &self.ports,
            &self.unpublish,
            &self.unmount,
            &self.mounts,
            &self.variables,
            &self.unset,
            &self.labels,
            &self.networks,
        ];
        texts.iter().all(|t| t.is_none())
            && lists.iter().all(|l| l.is_empty())
            && self.memory.is_none()
            && self.variables_from.is_none()
            && self.processors.is_none()
            && self.check.is_none()
            && self.pull.is_none()
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Pull {
    Always,
    Missing,
    Never,
}

/// How long a new container is watched.
#[derive(Debug, Clone, Args)]
pub(crate) struct Watched {
    /// Seconds the new container must stay up if it has no health check; defaults to 10
    #[arg(long, value_name = "SECONDS")]
    pub(crate) watch: Option<u32>,
    /// Grace period for the old container; defaults to its own
    #[arg(long, value_name = "SECONDS")]
    pub(crate) grace: Option<u32>,
}

/// One after another.
#[derive(Debug, Clone, Args)]
pub(crate) struct Rolled {
    /// Change N containers at a time, waiting until each is healthy; stops at the first failure
    #[arg(long, value_name = "N", num_args = 0..=1, default_missing_value = "1")]
    pub(crate) rolling: Option<u32>,
    /// Continue when one fails
    #[arg(long, requires = "rolling")]
    pub(crate) keep_going: bool,
}

/// How a stack is deployed.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = "Stacks")]
pub(crate) struct StackFlags {
    /// Host to deploy the stack to; repeatable
    #[arg(long, value_name = "HOST")]
    pub(crate) to: Vec<String>,
    /// Name of the stack; defaults to the one in its files
    #[arg(long, requires = "to")]
    pub(crate) name: Option<String>,
    /// Activate a profile; '*' for all; repeatable
    #[arg(long = "profile", value_name = "NAME", requires = "to")]
    pub(crate) profiles: Vec<String>,
    /// Deploy an earlier revision instead of reading files; see 'list revisions'
    #[arg(long, value_name = "NUMBER", requires = "to", requires = "name", conflicts_with = "targets")]
    pub(crate) revision: Option<u64>,
    /// Deploy the Git commit that waits for approval, instead of reading files
    #[arg(long, requires = "to", requires = "name", conflicts_with_all = ["targets", "revision"])]
    pub(crate) waiting: bool,
    /// Remove containers of services that are no longer in the files
    #[arg(long, requires = "to")]
    pub(crate) remove_rest: bool,
    /// On a failure, keep what succeeded instead of rolling back
    #[arg(long, requires = "to")]
    pub(crate) stop_on_failure: bool,
    /// Set a variable of the files for one host; overrides '--variable'; repeatable
    #[arg(long = "host-variable", value_name = "HOST:NAME=VALUE", requires = "to")]
    pub(crate) host_variables: Vec<String>,
    /// Comment, saved with the revision
    #[arg(long, requires = "to")]
    pub(crate) comment: Option<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Deploy {
    /// Containers to create, as 'packhouse/frost-api'; with '--to', the Compose files of a stack, where later files override earlier ones
    #[arg(required_unless_present_any = ["revision", "waiting"], value_name = "HOST/NAME|FILE")]
    pub(crate) targets: Vec<String>,
    #[command(flatten)]
    pub(crate) stack: StackFlags,
    #[command(flatten)]
    pub(crate) flags: DefinitionFlags,
    /// Seconds the container must stay up if it has no health check; defaults to 10
    #[arg(long, value_name = "SECONDS")]
    pub(crate) watch: Option<u32>,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Edit {
    /// The container
    pub(crate) container: String,
    #[command(flatten)]
    pub(crate) flags: DefinitionFlags,
    /// New name
    #[arg(long)]
    pub(crate) name: Option<String>,
    #[command(flatten)]
    pub(crate) watched: Watched,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Update {
    #[command(flatten)]
    pub(crate) targets: Targets,
    /// Update to this image or tag instead of the newest of the current one
    #[arg(long)]
    pub(crate) image: Option<String>,
    #[command(flatten)]
    pub(crate) watched: Watched,
    #[command(flatten)]
    pub(crate) rolled: Rolled,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Rollback {
    #[command(flatten)]
    pub(crate) targets: Targets,
    /// Earlier revision to roll back to, see 'list earlier'; defaults to the last
    #[arg(long, value_name = "NUMBER")]
    pub(crate) to: Option<u64>,
    /// Roll a stack, given as 'packhouse/frostwatch', back to this revision; see 'list revisions'
    #[arg(long, value_name = "NUMBER", conflicts_with_all = ["to", "stack", "label", "rolling"])]
    pub(crate) revision: Option<u64>,
    #[command(flatten)]
    pub(crate) watched: Watched,
    #[command(flatten)]
    pub(crate) rolled: Rolled,
}

/// An image on hosts.
#[derive(Debug, Clone, Args)]
pub(crate) struct OnHosts {
    /// Image and tag
    pub(crate) image: String,
    /// Host; '*' matches anything; repeatable
    #[arg(long = "host", required = true, value_name = "HOST")]
    pub(crate) hosts: Vec<String>,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct PullImage {
    #[command(flatten)]
    pub(crate) what: OnHosts,
    /// Platform, such as 'linux/arm64'
    #[arg(long)]
    pub(crate) platform: Option<String>,
    /// Pull policy
    #[arg(long, value_enum)]
    pub(crate) policy: Option<Pull>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Tidy {
    /// Only on this host
    #[arg(long)]
    pub(crate) host: Option<String>,
    /// Only this kind: stopped-container, unused-image, untagged-image, anonymous-volume, named-volume, unused-network or build-cache; repeatable
    #[arg(long = "kind", value_name = "KIND")]
    pub(crate) kinds: Vec<String>,
    /// Remove what is safe to remove; without this or '--all', nothing is removed
    #[arg(long, conflicts_with = "all")]
    pub(crate) safe: bool,
    /// Remove everything listed, including what should be checked first
    #[arg(long)]
    pub(crate) all: bool,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Join {
    /// The container
    pub(crate) container: String,
    /// The network
    pub(crate) network: String,
    /// DNS alias in the network; repeatable
    #[arg(long = "alias")]
    pub(crate) aliases: Vec<String>,
    /// Fixed IP address in the network
    #[arg(long)]
    pub(crate) address: Option<String>,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Leave {
    /// The container
    pub(crate) container: String,
    /// The network
    pub(crate) network: String,
    /// Disconnect even if the container does not respond
    #[arg(long)]
    pub(crate) force: bool,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct NewVolume {
    /// Host and name: 'packhouse/readings'; several may be given
    #[arg(required = true, value_name = "HOST/NAME")]
    pub(crate) targets: Vec<String>,
    /// Driver
    #[arg(long)]
    pub(crate) driver: Option<String>,
    /// Driver option: 'name=value'; repeatable
    #[arg(long = "option", value_name = "NAME=VALUE")]
    pub(crate) options: Vec<String>,
    /// Label: 'name=value'; repeatable
    #[arg(long = "label", value_name = "NAME=VALUE")]
    pub(crate) labels: Vec<String>,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct NewNetwork {
    #[command(flatten)]
    pub(crate) base: NewVolume,
    /// Subnet, such as '10.91.4.0/24'
    #[arg(long)]
    pub(crate) subnet: Option<String>,
    /// Gateway address
    #[arg(long)]
    pub(crate) gateway: Option<String>,
    /// Internal network: no access to the outside
    #[arg(long)]
    pub(crate) internal: bool,
    /// Enable IPv6
    #[arg(long)]
    pub(crate) ipv6: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct NewRegistry {
    /// Address, without 'https://'
    pub(crate) address: String,
    /// Account name
    #[arg(long)]
    pub(crate) account: Option<String>,
    /// Read the account's password or token from standard input instead of asking for it
    #[arg(long, requires = "account")]
    pub(crate) secret_stdin: bool,
    /// CA certificate of the registry (PEM)
    #[arg(long, value_name = "FILE")]
    pub(crate) ca: Option<PathBuf>,
    /// Use HTTP without TLS; anyone on the network path can read and alter the traffic
    #[arg(long)]
    pub(crate) plain_http: bool,
}

/// Objects other than containers that can be removed.
#[derive(Debug, Clone, Args)]
pub(crate) struct RemoveObjects {
    /// References as 'host/name'; '*' matches anything
    #[arg(required = true, value_name = "HOST/NAME")]
    pub(crate) references: Vec<String>,
    #[command(flatten)]
    pub(crate) manner: ChangeOptions,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RemoveImages {
    #[command(flatten)]
    pub(crate) base: RemoveObjects,
    /// Remove even if it has several tags or stopped containers use it
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RemoveVolumes {
    #[command(flatten)]
    pub(crate) base: RemoveObjects,
    /// Remove even if the volume's driver refuses
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Shell {
    /// The container
    pub(crate) container: String,
    /// Shell to run; defaults to the best one found
    #[arg(long, value_name = "PATH")]
    pub(crate) shell: Option<String>,
    /// User; defaults to the container's
    #[arg(long)]
    pub(crate) user: Option<String>,
    /// Working directory; defaults to the container's
    #[arg(long, value_name = "PATH")]
    pub(crate) folder: Option<String>,
    /// Command to run instead of a shell, after '--'
    #[arg(last = true)]
    pub(crate) command: Vec<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Copy {
    /// Source: a local path, 'host/name:/path' in a container, 'volume:host/name:/path' in a volume, or 'volume:host/name' for all its data as a tar archive
    pub(crate) from: String,
    /// Destination, in the same forms
    pub(crate) to: String,
    /// Copy a folder as a tar archive
    #[arg(long)]
    pub(crate) archive: bool,
    /// Permissions of the written file, in octal
    #[arg(long)]
    pub(crate) mode: Option<String>,
    /// Owner UID of the written file
    #[arg(long)]
    pub(crate) user: Option<u64>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Build {
    /// Build context: a folder or a Git URL
    pub(crate) context: String,
    /// Host to build on
    #[arg(long)]
    pub(crate) host: String,
    /// Name and tag of the image
    #[arg(long)]
    pub(crate) tag: String,
    /// Path of the build file in the context
    #[arg(long, value_name = "PATH")]
    pub(crate) file: Option<String>,
    /// Build argument: 'NAME=value'; repeatable
    #[arg(long = "argument", value_name = "NAME=VALUE")]
    pub(crate) arguments: Vec<String>,
    /// Target stage
    #[arg(long)]
    pub(crate) stage: Option<String>,
    /// Platform, such as 'linux/arm64'
    #[arg(long)]
    pub(crate) platform: Option<String>,
    /// Network for the build steps, such as 'none'
    #[arg(long)]
    pub(crate) network: Option<String>,
    /// Build without the cache
    #[arg(long, alias = "anew")]
    pub(crate) no_cache: bool,
    /// Pull the base image even if the host has it
    #[arg(long)]
    pub(crate) pull: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RunOnce {
    /// The container; with '--image', the host
    #[arg(value_name = "HOST/NAME|HOST")]
    pub(crate) place: String,
    /// Run in a new container of this image, removed afterwards
    #[arg(long)]
    pub(crate) image: Option<String>,
    /// With '--image': mount a volume or a host folder: 'readings=/data', '/srv/in=/in,read-only'; repeatable
    #[arg(long = "mount", value_name = "SOURCE=PATH", requires = "image")]
    pub(crate) mounts: Vec<String>,
    /// With '--image': connect to a network; repeatable
    #[arg(long = "join", value_name = "NETWORK", requires = "image")]
    pub(crate) networks: Vec<String>,
    /// With '--image': memory limit, such as '512MiB'
    #[arg(long, requires = "image")]
    pub(crate) memory: Option<String>,
    /// With '--image': pull policy
    #[arg(long, value_enum, requires = "image")]
    pub(crate) pull: Option<Pull>,
    /// User; defaults to the container's
    #[arg(long)]
    pub(crate) user: Option<String>,
    /// Working directory; defaults to the container's
    #[arg(long, value_name = "PATH")]
    pub(crate) folder: Option<String>,
    /// Extra environment variable: 'NAME=value'; repeatable
    #[arg(long = "variable", value_name = "NAME=VALUE")]
    pub(crate) variables: Vec<String>,
    /// Time limit in seconds; afterwards the command is detached, with '--image' killed
    #[arg(long, value_name = "SECONDS", default_value_t = 300)]
    pub(crate) limit: u32,
    /// Command and arguments, after '--'; optional with '--image'
    #[arg(last = true, required_unless_present = "image")]
    pub(crate) command: Vec<String>,
}
