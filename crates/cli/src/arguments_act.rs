//! The part of the command line that makes and changes things. What a container is to be is either told setting by
//! setting or as Compose text; rare settings are in the text only.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use crate::arguments::{Manner, Targets};

/// Settings of a container, as flags. They go over those of '--file'.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct DefinitionFlags {
    /// Read everything from a Compose file with one service; '-' is standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) file: Option<String>,
    /// The image with its tag
    #[arg(long)]
    pub(crate) image: Option<String>,
    /// Publish a port too: '7311=8080', '7311:8080', '127.0.0.1:7311=8080/udp', or '8080' for any free port; may be given
    /// more than once
    #[arg(long = "port", value_name = "HOST=INNER")]
    pub(crate) ports: Vec<String>,
    /// Take a published port away, by its number on the host or inside: '7311', '7312/udp'; may be given more than once
    #[arg(long = "unpublish", value_name = "PORT")]
    pub(crate) unpublish: Vec<String>,
    /// Take a mount away, by its path inside or by its source; may be given more than once
    #[arg(long = "unmount", value_name = "PATH")]
    pub(crate) unmount: Vec<String>,
    /// Mount a volume or a folder: 'readings=/data', '/srv/in=/in,read-only'; may be given more than once
    #[arg(long = "mount", value_name = "SOURCE=PATH")]
    pub(crate) mounts: Vec<String>,
    /// Make folders of the host that are mounted and missing, for this user: '1000' or '1000:1000'
    #[arg(long, value_name = "USER")]
    pub(crate) make_folders: Option<String>,
    /// Set a variable: 'NAME=value'; may be given more than once
    #[arg(long = "variable", value_name = "NAME=VALUE")]
    pub(crate) variables: Vec<String>,
    /// Set the variables of a file of 'NAME=value' lines
    #[arg(long, value_name = "FILE")]
    pub(crate) variables_from: Option<PathBuf>,
    /// Take a variable away; may be given more than once
    #[arg(long = "unset", value_name = "NAME")]
    pub(crate) unset: Vec<String>,
    /// Set a label: 'name=value'; may be given more than once
    #[arg(long = "label", value_name = "NAME=VALUE")]
    pub(crate) labels: Vec<String>,
    /// The command with its arguments, as one text
    #[arg(long)]
    pub(crate) command: Option<String>,
    /// The user it runs as: name or number
    #[arg(long)]
    pub(crate) user: Option<String>,
    /// When the engine starts it again: no, on-failure, always or unless-stopped
    #[arg(long)]
    pub(crate) restart: Option<String>,
    /// The most memory, such as '512MiB'
    #[arg(long)]
    pub(crate) memory: Option<String>,
    /// The most processors, such as '0.5'
    #[arg(long)]
    pub(crate) processors: Option<f64>,
    /// Join a network: 'cold-chain', or 'cold-chain,address=10.91.4.9,alias=frost'; may be given more than once
    #[arg(long = "join", value_name = "NETWORK")]
    pub(crate) networks: Vec<String>,
    /// A command that tells by its exit code whether it is well
    #[arg(long, value_name = "COMMAND")]
    pub(crate) check: Option<String>,
    /// When the image is fetched
    #[arg(long, value_enum)]
    pub(crate) pull: Option<Pull>,
}

impl DefinitionFlags {
    /// Nothing was told.
    pub(crate) fn is_empty(&self) -> bool {
        let texts = [&self.file, &self.image, &self.make_folders, &self.command, &self.user, &self.restart];
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
    /// Seconds that the new one must stay up when it has no health check; otherwise 10
    #[arg(long, value_name = "SECONDS")]
    pub(crate) watch: Option<u32>,
    /// Seconds between asking the old one to end and forcing it; otherwise its own
    #[arg(long, value_name = "SECONDS")]
    pub(crate) grace: Option<u32>,
}

/// One after another.
#[derive(Debug, Clone, Args)]
pub(crate) struct Rolled {
    /// N at a time, waiting until each is healthy; stops at the first failure
    #[arg(long, value_name = "AT_ONCE", num_args = 0..=1, default_missing_value = "1")]
    pub(crate) rolling: Option<u32>,
    /// Continue with the rest when one fails
    #[arg(long, requires = "rolling")]
    pub(crate) go_on: bool,
}

/// How a stack is deployed.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = "Stacks")]
pub(crate) struct StackFlags {
    /// The host of a stack; may be given more than once
    #[arg(long, value_name = "HOST")]
    pub(crate) to: Vec<String>,
    /// The stack's name; otherwise what its files say
    #[arg(long, requires = "to")]
    pub(crate) name: Option<String>,
    /// A profile whose services are wanted too; '*' for all
    #[arg(long = "profile", value_name = "NAME", requires = "to")]
    pub(crate) profiles: Vec<String>,
    /// Go back to a revision, as 'list revisions' numbers them, instead of reading files
    #[arg(long, value_name = "NUMBER", requires = "to", requires = "name", conflicts_with = "targets")]
    pub(crate) revision: Option<u64>,
    /// Approve the commit of its Git repository that waits, instead of reading files
    #[arg(long, requires = "to", requires = "name", conflicts_with_all = ["targets", "revision"])]
    pub(crate) waiting: bool,
    /// Remove containers of services that the files do not have any more
    #[arg(long, requires = "to")]
    pub(crate) remove_rest: bool,
    /// When a part fails, keep what succeeded instead of taking all of it back
    #[arg(long, requires = "to")]
    pub(crate) stop_on_failure: bool,
    /// A value for a variable of the files on one host, before those of '--variable'; as HOST:NAME=VALUE
    #[arg(long = "host-variable", value_name = "HOST:NAME=VALUE", requires = "to")]
    pub(crate) host_variables: Vec<String>,
    /// What changes and why, kept with the revision
    #[arg(long, requires = "to")]
    pub(crate) comment: Option<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Deploy {
    /// Where and under which name: 'packhouse/frost-api'; may be several. With '--to': the Compose files of a stack, the
    /// later over the earlier
    #[arg(required_unless_present_any = ["revision", "waiting"], value_name = "HOST/NAME|FILE")]
    pub(crate) targets: Vec<String>,
    #[command(flatten)]
    pub(crate) stack: StackFlags,
    #[command(flatten)]
    pub(crate) wished: DefinitionFlags,
    /// Seconds that it must stay up when it has no health check; otherwise 10
    #[arg(long, value_name = "SECONDS")]
    pub(crate) watch: Option<u32>,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Edit {
    /// The container
    pub(crate) container: String,
    #[command(flatten)]
    pub(crate) wished: DefinitionFlags,
    /// Give it another name
    #[arg(long)]
    pub(crate) name: Option<String>,
    #[command(flatten)]
    pub(crate) watched: Watched,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Duplicate {
    /// The container
    pub(crate) container: String,
    /// Where the second one is to be, and under which name
    #[arg(value_name = "HOST/NAME")]
    pub(crate) target: String,
    #[command(flatten)]
    pub(crate) wished: DefinitionFlags,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Update {
    #[command(flatten)]
    pub(crate) targets: Targets,
    /// Another image or tag instead of the newest under the same name
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
    /// Which earlier state, as 'list earlier' numbers them; otherwise the last
    #[arg(long, value_name = "NUMBER")]
    pub(crate) to: Option<u64>,
    /// A stack, named as 'packhouse/frostwatch', is put back to this revision, as 'list revisions' numbers them
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
    /// The image with its tag
    pub(crate) image: String,
    /// On which hosts; '*' stands for anything
    #[arg(long = "host", required = true, value_name = "HOST")]
    pub(crate) hosts: Vec<String>,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct PullImage {
    #[command(flatten)]
    pub(crate) what: OnHosts,
    /// For which platform, such as 'linux/arm64'
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
    /// Only this kind: stopped-container, unused-image, untagged-image, anonymous-volume, named-volume, unused-network or
    /// build-cache; may be given more than once
    #[arg(long = "kind", value_name = "KIND")]
    pub(crate) kinds: Vec<String>,
    /// Remove what is safe to remove; without this or '--all' leftovers are only listed
    #[arg(long, conflicts_with = "all")]
    pub(crate) safe: bool,
    /// Remove everything that is listed, including what should be checked first
    #[arg(long)]
    pub(crate) all: bool,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Join {
    /// The container
    pub(crate) container: String,
    /// The network
    pub(crate) network: String,
    /// A name under which others in the network find it; may be given more than once
    #[arg(long = "alias")]
    pub(crate) aliases: Vec<String>,
    /// Its address there
    #[arg(long)]
    pub(crate) address: Option<String>,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Leave {
    /// The container
    pub(crate) container: String,
    /// The network
    pub(crate) network: String,
    /// Even when it does not answer
    #[arg(long)]
    pub(crate) force: bool,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct NewVolume {
    /// Where and under which name: 'packhouse/readings'
    #[arg(required = true, value_name = "HOST/NAME")]
    pub(crate) targets: Vec<String>,
    /// Its driver
    #[arg(long)]
    pub(crate) driver: Option<String>,
    /// An option of the driver: 'name=value'; may be given more than once
    #[arg(long = "option", value_name = "NAME=VALUE")]
    pub(crate) options: Vec<String>,
    /// A label: 'name=value'; may be given more than once
    #[arg(long = "label", value_name = "NAME=VALUE")]
    pub(crate) labels: Vec<String>,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct NewNetwork {
    #[command(flatten)]
    pub(crate) base: NewVolume,
    /// Its addresses, such as '10.91.4.0/24'
    #[arg(long)]
    pub(crate) subnet: Option<String>,
    /// Its gateway
    #[arg(long)]
    pub(crate) gateway: Option<String>,
    /// No way out
    #[arg(long)]
    pub(crate) internal: bool,
    /// It speaks IPv6
    #[arg(long)]
    pub(crate) ipv6: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct NewRegistry {
    /// Its address, without 'https://'
    pub(crate) address: String,
    /// The account
    #[arg(long)]
    pub(crate) account: Option<String>,
    /// Read the account's secret from standard input; otherwise it is asked for
    #[arg(long, requires = "account")]
    pub(crate) secret_stdin: bool,
    /// The authority that signed its certificate (PEM)
    #[arg(long, value_name = "FILE")]
    pub(crate) ca: Option<PathBuf>,
    /// Speak with it without TLS: anybody on the way can read and change what is fetched
    #[arg(long)]
    pub(crate) plain_http: bool,
}

/// Things, other than containers, that can be taken away.
#[derive(Debug, Clone, Args)]
pub(crate) struct Things {
    /// As 'host/name'; '*' stands for anything
    #[arg(required = true, value_name = "HOST/NAME")]
    pub(crate) references: Vec<String>,
    /// Even when it has several tags or ended containers use it
    #[arg(long)]
    pub(crate) force: bool,
    #[command(flatten)]
    pub(crate) manner: Manner,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Shell {
    /// The container
    pub(crate) container: String,
    /// The shell; otherwise the most comfortable that is there
    #[arg(long, value_name = "PATH")]
    pub(crate) shell: Option<String>,
    /// As whom; otherwise the container's own user
    #[arg(long)]
    pub(crate) user: Option<String>,
    /// Where it begins; otherwise the container's own folder
    #[arg(long, value_name = "PATH")]
    pub(crate) folder: Option<String>,
    /// A command instead of a shell, after '--'
    #[arg(last = true)]
    pub(crate) command: Vec<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Copy {
    /// From: a path here, 'host/name:/path' in a container, 'volume:host/name:/path' in a volume, or 'volume:host/name' for
    /// all its data as a tar archive
    pub(crate) from: String,
    /// To: the same
    pub(crate) to: String,
    /// The path in the container is a folder, and the file here a tar archive of it
    #[arg(long)]
    pub(crate) archive: bool,
    /// Permissions of the file that is written, in octal digits
    #[arg(long)]
    pub(crate) mode: Option<String>,
    /// The number of its owner
    #[arg(long)]
    pub(crate) user: Option<u64>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Build {
    /// The folder with what is built from, or a Git address
    pub(crate) context: String,
    /// The host that builds it
    #[arg(long)]
    pub(crate) host: String,
    /// The name it gets, with its tag
    #[arg(long)]
    pub(crate) tag: String,
    /// The build file's path in the context
    #[arg(long, value_name = "PATH")]
    pub(crate) file: Option<String>,
    /// An argument of the build: 'NAME=value'; may be given more than once
    #[arg(long = "argument", value_name = "NAME=VALUE")]
    pub(crate) arguments: Vec<String>,
    /// The stage at which it ends
    #[arg(long)]
    pub(crate) stage: Option<String>,
    /// For which platform, such as 'linux/arm64'
    #[arg(long)]
    pub(crate) platform: Option<String>,
    /// The network of its steps, such as 'none'
    #[arg(long)]
    pub(crate) network: Option<String>,
    /// Without what earlier builds left
    #[arg(long)]
    pub(crate) anew: bool,
    /// Fetch its base image even when the host has it
    #[arg(long)]
    pub(crate) pull: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RunOnce {
    /// The container; with '--image' the host
    #[arg(value_name = "HOST/NAME|HOST")]
    pub(crate) place: String,
    /// Make a container from this image for the command, and take it away afterwards
    #[arg(long)]
    pub(crate) image: Option<String>,
    /// With '--image': mount a volume or a folder: 'readings=/data', '/srv/in=/in,read-only'; may be given more than once
    #[arg(long = "mount", value_name = "SOURCE=PATH", requires = "image")]
    pub(crate) mounts: Vec<String>,
    /// With '--image': join a network; may be given more than once
    #[arg(long = "join", value_name = "NETWORK", requires = "image")]
    pub(crate) networks: Vec<String>,
    /// With '--image': the most memory, such as '512MiB'
    #[arg(long, requires = "image")]
    pub(crate) memory: Option<String>,
    /// With '--image': when the image is fetched
    #[arg(long, value_enum, requires = "image")]
    pub(crate) pull: Option<Pull>,
    /// As whom; otherwise the container's own user
    #[arg(long)]
    pub(crate) user: Option<String>,
    /// Where it begins; otherwise the container's own folder
    #[arg(long, value_name = "PATH")]
    pub(crate) folder: Option<String>,
    /// A variable beside the container's own: 'NAME=value'; may be given more than once
    #[arg(long = "variable", value_name = "NAME=VALUE")]
    pub(crate) variables: Vec<String>,
    /// After so many seconds it is left alone; with '--image' it is ended
    #[arg(long, value_name = "SECONDS", default_value_t = 300)]
    pub(crate) limit: u32,
    /// The command with its arguments, after '--'; an image may have its own
    #[arg(last = true, required_unless_present = "image")]
    pub(crate) command: Vec<String>,
}
