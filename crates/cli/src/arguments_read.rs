//! The part of the command line that reads: lists, usage, logs; and the settings of what the service keeps.

use clap::{Args, Subcommand, ValueEnum};
use gubernum_core::guard::Guard;

/// Which operations are listed.
#[derive(Debug, Args)]
pub(crate) struct ListOperations {
    /// Only with this text in a reference or a target's 'host/name'
    #[arg(long, value_name = "TEXT")]
    pub(crate) object: Option<String>,
    /// Only by members with this text in their name
    #[arg(long, value_name = "TEXT")]
    pub(crate) member: Option<String>,
    /// Only this kind, such as 'restart'
    #[arg(long)]
    pub(crate) kind: Option<String>,
    /// Only with this outcome: running, failed (all targets or some) or succeeded
    #[arg(long)]
    pub(crate) outcome: Option<String>,
    /// Only requested since this time: '15m', '2h', '2026-11-23' or '2026-11-23T05:30:00Z'
    #[arg(long, value_name = "TIME")]
    pub(crate) since: Option<String>,
    /// Only requested before this time
    #[arg(long, value_name = "TIME")]
    pub(crate) until: Option<String>,
    /// Only operations before this number, for the next page
    #[arg(long, value_name = "NUMBER")]
    pub(crate) before: Option<u64>,
    /// Maximum number of rows
    #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub(crate) limit: u32,
}

#[derive(Debug, Subcommand)]
pub(crate) enum List {
    /// Hosts and their links
    Hosts,
    /// Containers of all hosts
    Containers {
        /// Only these references
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
    /// Operations, newest first
    Operations(ListOperations),
    /// What needs attention, worst first
    Attention,
    /// Images, largest first
    Images(OnHost),
    /// Volumes and what uses them
    Volumes(OnHost),
    /// Networks and their containers
    Networks(OnHost),
    /// Stacks
    Stacks,
    /// Published ports
    Ports {
        /// Only on this host
        #[arg(long)]
        host: Option<String>,
        /// Only this host port
        #[arg(long)]
        port: Option<u16>,
    },
    /// Timeline, newest first
    Events {
        /// Only of this host
        #[arg(long)]
        host: Option<String>,
        /// Only of this object: 'host/name' or a name
        #[arg(long)]
        object: Option<String>,
        /// Only by this member
        #[arg(long)]
        member: Option<String>,
        /// Only this kind: engine, operation, access or host; repeatable
        #[arg(long)]
        kind: Vec<String>,
        /// Only problems
        #[arg(long)]
        bad: bool,
        /// Only from this time: '15m', '2h', '2026-11-23' or '2026-11-23T05:30:00Z'
        #[arg(long, value_name = "TIME")]
        since: Option<String>,
        /// Only before this time
        #[arg(long, value_name = "TIME")]
        until: Option<String>,
        /// Maximum number of rows
        #[arg(long, default_value_t = 50)]
        limit: u32,
    },
    /// Log retention rules
    KeptLogs,
    /// Configured registries
    Registries,
    /// Tags of an image at its registry, with age, size and platforms
    Tags {
        /// Image without a tag
        image: String,
        /// Maximum number of rows
        #[arg(long, default_value_t = 25)]
        limit: usize,
    },
    /// Revisions of a stack
    Revisions {
        /// Host and stack: 'packhouse/frostwatch'
        #[arg(value_name = "HOST/STACK")]
        stack: String,
    },
    /// Deployed stacks and their drift
    Drift,
    /// Jobs: next run and last outcome
    Jobs,
    /// Earlier revisions of a container, available for rollback
    Earlier {
        /// The container
        container: String,
    },
    /// Newer images, and the containers that run older ones
    NewerImages {
        /// Check the registries now
        #[arg(long)]
        check: bool,
    },
    /// Service settings
    Preferences,
    /// Freezes: who, until when and why
    Freezes,
    /// Snoozes: who, until when and why
    Snoozes,
    /// Notes, newest first
    Notes {
        /// Only on this object, such as 'host:packhouse' or 'container:packhouse/orchard-web'
        #[arg(value_name = "OBJECT", value_parser = crate::arguments_members::object)]
        on: Option<gubernum_core::note::NotedObject>,
    },
    /// Who is signed in to the console, and what is queued
    Team,
    /// Changes that wait for a second member's approval
    Approvals,
    /// Audit log, newest first
    Audit {
        /// Only by this member
        #[arg(long)]
        member: Option<String>,
        /// Only this action, such as 'sign-in' or 'restart'
        #[arg(long)]
        action: Option<String>,
        /// Only entries with this text in their object, outcome or address
        #[arg(long)]
        text: Option<String>,
        /// Only from this time: '15m', '2h', '2026-11-23' or '2026-11-23T05:30:00Z'
        #[arg(long, value_name = "TIME")]
        since: Option<String>,
        /// Only before this time
        #[arg(long, value_name = "TIME")]
        until: Option<String>,
        /// Only entries before this number, for the next page
        #[arg(long, value_name = "NUMBER")]
        before: Option<u64>,
        /// Maximum number of rows
        #[arg(long, default_value_t = 50, value_parser = clap::value_parser!(u32).range(1..=1000))]
        limit: u32,
    },
    /// Syslog export of the audit log, and its state
    Syslog,
    /// Directories that members sign in with
    Directories,
    /// Members and their grants
    Members,
    /// Roles and their rights
    Roles,
    /// Open invitations and password resets
    Invitations,
    /// Your effective rights, or another member's, and where each comes from
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
    /// Only unused
    #[arg(long)]
    pub(crate) unused: bool,
}

#[derive(Debug, Args)]
pub(crate) struct Usage {
    /// References such as 'packhouse/frost-api' or '*/frost-*'; defaults to all
    pub(crate) references: Vec<String>,
    /// Only of this stack
    #[arg(long)]
    pub(crate) stack: Option<String>,
    /// Only on this host
    #[arg(long)]
    pub(crate) host: Option<String>,
    /// Refresh every second
    #[arg(long)]
    pub(crate) live: bool,
    /// Show the history of this period, such as '24h' or '30d'
    #[arg(long, value_name = "SPAN", conflicts_with = "live")]
    pub(crate) history: Option<String>,
    /// Rank by usage over this period, such as '7d', with peaks; includes removed containers
    #[arg(long, value_name = "SPAN", num_args = 0..=1, default_missing_value = "7d", conflicts_with_all = ["live", "history"])]
    pub(crate) ranking: Option<String>,
    /// Sort by
    #[arg(long, value_enum, default_value_t = UsageOrder::Processors)]
    pub(crate) sort: UsageOrder,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum UsageOrder {
    Processors,
    Memory,
    Network,
    Disk,
    Name,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Keep {
    /// Copy log lines to the service as they are written
    Logs {
        /// Container as 'host/name'
        #[arg(long, group = "whose")]
        container: Option<String>,
        /// Stack
        #[arg(long, group = "whose")]
        stack: Option<String>,
        /// Label, as 'name' or 'name=value'
        #[arg(long, group = "whose")]
        label: Option<String>,
        /// Host
        #[arg(long, group = "whose")]
        host: Option<String>,
        /// All containers
        #[arg(long, group = "whose")]
        all: bool,
        /// Days to keep
        #[arg(long, default_value_t = 14)]
        days: u32,
        /// MiB on disk; the oldest lines are removed beyond it
        #[arg(long, default_value_t = 2048)]
        mebibytes: u64,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum Set {
    /// Change the settings of a host
    Host {
        /// Name
        name: String,
        /// Address for published ports, shown in links; empty removes it
        #[arg(long, required_unless_present = "group")]
        ports_address: Option<String>,
        /// Groups of the host, for grants and freezes; replaces all before; empty removes all; repeatable
        #[arg(long)]
        group: Vec<String>,
    },
    /// Change the grants or the state of a member
    Member(crate::arguments_members::SetMemberArguments),
    /// Create or change a custom role
    Role(crate::arguments_members::SetRoleArguments),
    /// Change service settings; those not given stay
    Preferences {
        /// Earlier revisions to keep of each container
        #[arg(long, value_name = "N")]
        kept_earlier: Option<u32>,
        /// Hours unused before an object is listed by 'tidy'
        #[arg(long, value_name = "HOURS")]
        tidy_after: Option<u32>,
        /// Hours unused before an object counts as safe to remove
        #[arg(long, value_name = "HOURS")]
        safe_after: Option<u32>,
        /// The same for build cache
        #[arg(long, value_name = "HOURS")]
        cache_safe_after: Option<u32>,
        /// Hours between checks for newer images; 0 disables them
        #[arg(long, value_name = "HOURS")]
        image_checks: Option<u32>,
        /// Record the text of terminal sessions
        #[arg(long, value_name = "BOOL")]
        record_terminals: Option<bool>,
        /// Allow browsing and changing mounted host folders
        #[arg(long, value_name = "BOOL")]
        browse_host_folders: Option<bool>,
        /// Show drift in the attention list
        #[arg(long, value_name = "BOOL")]
        drift_needs_attention: Option<bool>,
        /// Require a second factor from every member
        #[arg(long, value_name = "BOOL")]
        second_factor_for_all: Option<bool>,
        /// Hours until a session ends and its member signs in again
        #[arg(long, value_name = "HOURS")]
        session_hours: Option<u32>,
        /// Guard for removing volumes: none, step-up or approval
        #[arg(long, value_name = "GUARD")]
        guard_remove_volumes: Option<Guard>,
        /// Guard for shells and commands as root
        #[arg(long, value_name = "GUARD")]
        guard_root_shell: Option<Guard>,
        /// Guard for containers with access to their host
        #[arg(long, value_name = "GUARD")]
        guard_host_reach: Option<Guard>,
        /// Guard for changes of members, roles, invitations and directories
        #[arg(long, value_name = "GUARD")]
        guard_members: Option<Guard>,
    },
    /// Send the audit log to a syslog collector (RFC 5424)
    Syslog {
        /// Host name or address of the collector
        host: String,
        /// Port; defaults to 6514 for TLS and 601 for TCP
        #[arg(long)]
        port: Option<u16>,
        /// CA certificates of the collector (PEM)
        #[arg(long, value_name = "FILE", required_unless_present = "tcp")]
        ca: Option<std::path::PathBuf>,
        /// Use TCP without TLS; anyone on the network path can read the entries
        #[arg(long, conflicts_with = "ca")]
        tcp: bool,
    },
    /// Set the directory that members sign in with: OpenID Connect or LDAP
    Directory(crate::arguments_members::SetDirectoryArguments),
    /// Set the Git repository that a stack is deployed from
    Source(Box<crate::arguments_stacks::SetSourceArguments>),
    /// Set variables of a stack and deploy its newest revision with them
    Variable(crate::arguments_stacks::SetVariables),
    /// Change the permissions or the owner of a file or folder
    File {
        /// File or folder: 'host/name:/path' or 'volume:host/name:/path'
        place: String,
        /// Permissions in octal, such as 644
        #[arg(long, required_unless_present_any = ["user", "group"])]
        mode: Option<String>,
        /// Owner UID
        #[arg(long)]
        user: Option<u64>,
        /// Group GID
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
    /// Only lines that match this regular expression; repeatable
    #[arg(long, value_name = "PATTERN")]
    pub(crate) grep: Vec<String>,
    /// Exclude lines that match this regular expression; repeatable
    #[arg(long, value_name = "PATTERN")]
    pub(crate) without: Vec<String>,
    /// Treat patterns as plain text
    #[arg(long)]
    pub(crate) plain: bool,
    /// Ignore case
    #[arg(long, alias = "any-case")]
    pub(crate) ignore_case: bool,
    /// Minimum level: trace, debug, info, warning, error or fatal
    #[arg(long)]
    pub(crate) level: Option<String>,
    /// Only the last N matching lines of each container
    #[arg(long, value_name = "N")]
    pub(crate) tail: Option<u32>,
    /// Only from this time: '15m', '2h', '2026-11-23' or '2026-11-23T05:30:00Z'
    #[arg(long, value_name = "TIME")]
    pub(crate) since: Option<String>,
    /// Only until this time
    #[arg(long, value_name = "TIME")]
    pub(crate) until: Option<String>,
    /// Follow new lines
    #[arg(long)]
    pub(crate) follow: bool,
    /// Show timestamps
    #[arg(long)]
    pub(crate) times: bool,
    /// Only one stream
    #[arg(long, value_enum, value_name = "STREAM")]
    pub(crate) only: Option<Only>,
    /// Write stderr lines to standard error
    #[arg(long, conflicts_with = "only")]
    pub(crate) apart: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Only {
    Stdout,
    Stderr,
}
