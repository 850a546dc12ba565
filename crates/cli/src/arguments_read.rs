//! The part of the command line that looks: lists, resource use, logs; and that sets how the service keeps them.

use clap::{Args, Subcommand, ValueEnum};
use gubernum_core::guard::Guard;

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
        /// Only of this object, as 'host/name' or a name
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
    /// The revisions of a stack, to which 'deploy --revision' goes back
    Revisions {
        /// The host and the stack: 'packhouse/frostwatch'
        #[arg(value_name = "HOST/STACK")]
        stack: String,
    },
    /// The stacks that were deployed here, and which of them are not as their newest revision says
    Drift,
    /// Services that are run by a schedule: when each is due next, and what its last run came to
    Jobs,
    /// The earlier revisions of a container, available for rollback
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
    /// What is frozen, by whom, until when and why
    Freezes,
    /// What is left out of the attention list, by whom, until when and why
    Snoozes,
    /// Notes of the team, the newest first
    Notes {
        /// What they are on, such as 'host:packhouse' or 'container:packhouse/orchard-web'; all when absent
        #[arg(value_name = "OBJECT", value_parser = crate::arguments_members::object)]
        on: Option<gubernum_core::note::NotedObject>,
    },
    /// Who has the console open and looks at what, and who waits in line
    Team,
    /// Dangerous changes that wait for a second member's word; it is given in the console
    Approvals,
    /// Where the audit log is sent by syslog, and how that goes
    Syslog,
    /// Directories through which members sign in
    Directories,
    /// Who may sign in, and what they may
    Members,
    /// Names for sets of rights
    Roles,
    /// Links by which somebody becomes a member, or chooses a new password
    Invitations,
    /// What you may, or another member, and which grants give it
    Rights {
        /// The member
        #[arg(long)]
        member: Option<String>,
    },
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
    /// References such as 'packhouse/frost-api' or '*/frost-*'; everything when absent
    pub(crate) references: Vec<String>,
    /// Only of this stack
    #[arg(long)]
    pub(crate) stack: Option<String>,
    /// Only on this host
    #[arg(long)]
    pub(crate) host: Option<String>,
    /// Refresh every second, in place
    #[arg(long)]
    pub(crate) live: bool,
    /// Back in time instead: how far, such as '24h' or '30d'
    #[arg(long, value_name = "SPAN", conflicts_with = "live")]
    pub(crate) history: Option<String>,
    /// Who used most in this time, such as '7d', with the peak and when it was; also those that are gone
    #[arg(long, value_name = "SPAN", num_args = 0..=1, default_missing_value = "7d", conflicts_with_all = ["live", "history"])]
    pub(crate) ranking: Option<String>,
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
        /// A container as 'host/name'
        #[arg(long, group = "whose")]
        container: Option<String>,
        /// A stack
        #[arg(long, group = "whose")]
        stack: Option<String>,
        /// A label, as 'name' or 'name=value'
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
        #[arg(long, required_unless_present = "group")]
        public_address: Option<String>,
        /// The groups that it is in, in place of all before: roles can be granted on a group; may be given more than once,
        /// and empty for none
        #[arg(long)]
        group: Vec<String>,
    },
    /// What a member may, and whether it may sign in
    Member(crate::arguments_members::SetMemberArguments),
    /// A role of the team: a name for a set of rights
    Role(crate::arguments_members::SetRoleArguments),
    /// Settings of the whole service; what is not named stays as it is
    Preferences {
        /// Earlier states that are kept of each container
        #[arg(long, value_name = "N")]
        kept_earlier: Option<u32>,
        /// Hours for which a thing must have been unused before tidying offers it
        #[arg(long, value_name = "HOURS")]
        tidy_after: Option<u32>,
        /// Hours for which a thing must have been unused before it counts as safe to remove
        #[arg(long, value_name = "HOURS")]
        safe_after: Option<u32>,
        /// The same for the build cache, since its last use
        #[arg(long, value_name = "HOURS")]
        cache_safe_after: Option<u32>,
        /// Hours between two looks for newer images; 0 for never
        #[arg(long, value_name = "HOURS")]
        image_checks: Option<u32>,
        /// Whether the audit log keeps the text of terminals
        #[arg(long, value_name = "BOOL")]
        record_terminals: Option<bool>,
        /// Whether folders of hosts that containers mount may be browsed and changed
        #[arg(long, value_name = "BOOL")]
        browse_host_folders: Option<bool>,
        /// Whether a stack that is not as it was applied is in the attention list
        #[arg(long, value_name = "BOOL")]
        drift_needs_attention: Option<bool>,
        /// Whether whoever has no second factor may nothing until there is one
        #[arg(long, value_name = "BOOL")]
        second_factor_for_all: Option<bool>,
        /// What is asked for before volumes are removed: none, step-up or approval
        #[arg(long, value_name = "GUARD")]
        guard_remove_volumes: Option<Guard>,
        /// What is asked for before a shell or a command as root
        #[arg(long, value_name = "GUARD")]
        guard_root_shell: Option<Guard>,
        /// What is asked for before a container is made that reaches into its host
        #[arg(long, value_name = "GUARD")]
        guard_host_reach: Option<Guard>,
        /// What is asked for before members, roles, invitations and directories change
        #[arg(long, value_name = "GUARD")]
        guard_members: Option<Guard>,
    },
    /// A collector to which the audit log is sent from now on (syslog, RFC 5424)
    Syslog {
        /// Its name or address
        host: String,
        /// Its port; 6514 for TLS, 601 for TCP when absent
        #[arg(long)]
        port: Option<u16>,
        /// The certificates (PEM) by which the collector is known
        #[arg(long, value_name = "FILE", required_unless_present = "tcp")]
        ca: Option<std::path::PathBuf>,
        /// Plain TCP, which anybody on the way can read
        #[arg(long, conflicts_with = "ca")]
        tcp: bool,
    },
    /// A directory through which members sign in, by OpenID Connect or LDAP
    Directory(crate::arguments_members::SetDirectoryArguments),
    /// The place in a Git repository that a stack follows; it is looked at at once, and a change waits for approval
    Source(Box<crate::arguments_stacks::SetSourceArguments>),
    /// Values of variables of a stack: its newest revision is applied again with them
    Variable(crate::arguments_stacks::SetVariables),
    /// Permissions and owner of a file or folder in a container or a volume
    File {
        /// Which, as 'host/name:/path' or 'volume:host/name:/path'
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
    /// References such as 'packhouse/frost-api' or '*/frost-*'
    #[arg(required_unless_present_any = ["stack", "label"])]
    pub(crate) references: Vec<String>,
    /// All containers of this stack
    #[arg(long)]
    pub(crate) stack: Option<String>,
    /// All containers with this label, as 'name' or 'name=value'
    #[arg(long)]
    pub(crate) label: Option<String>,
    /// Only lines in which this regular expression is found; may be given more than once
    #[arg(long, value_name = "PATTERN")]
    pub(crate) grep: Vec<String>,
    /// Exclude lines in which this regular expression is found; may be given more than once
    #[arg(long, value_name = "PATTERN")]
    pub(crate) without: Vec<String>,
    /// Patterns are plain text
    #[arg(long)]
    pub(crate) plain: bool,
    /// Small and capital letters are the same
    #[arg(long)]
    pub(crate) any_case: bool,
    /// Minimum level: trace, debug, info, warning, error or fatal
    #[arg(long)]
    pub(crate) level: Option<String>,
    /// Only the last so many lines (of each) that are wanted
    #[arg(long, value_name = "N")]
    pub(crate) tail: Option<u32>,
    /// Only from this time on: '15m', '2h', '2026-11-23' or '2026-11-23T05:30:00Z'
    #[arg(long, value_name = "TIME")]
    pub(crate) since: Option<String>,
    /// Only up to this time
    #[arg(long, value_name = "TIME")]
    pub(crate) until: Option<String>,
    /// Follow new lines as they come
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
