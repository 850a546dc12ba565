//! The part of the command line that adds, tests and removes hosts, registries, volumes, networks, containers,
//! members and more.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use crate::arguments::Targets;
use crate::arguments_act::{NewNetwork, NewRegistry, NewVolume, RemoveImages, RemoveObjects, RemoveVolumes};

#[derive(Debug, Clone, Args)]
#[command(args_conflicts_with_subcommands = true, subcommand_negates_reqs = true)]
pub(crate) struct Remove {
    #[command(subcommand)]
    pub(crate) object: Option<RemoveObject>,
    #[command(flatten)]
    pub(crate) containers: RemoveContainers,
}

#[derive(Debug, Clone, Subcommand)]
pub(crate) enum RemoveObject {
    /// Remove a host from the fleet; nothing on it changes
    Host {
        /// Its name in the fleet
        name: String,
    },
    /// Remove a log retention rule; kept lines expire as before
    KeptLogs {
        /// Number, as in 'list kept-logs'
        rule: u64,
    },
    /// Remove images
    Image(RemoveImages),
    /// Remove volumes and their data
    Volume(RemoveVolumes),
    /// Remove networks
    Network(RemoveObjects),
    /// Remove a stack's containers and networks; volumes stay unless '--volumes' is given
    Stack(crate::arguments_stacks::RemoveStack),
    /// Disconnect a stack from its Git repository; the stack stays as it is
    Source {
        /// Host and stack: 'packhouse/frostwatch'
        #[arg(value_name = "HOST/STACK")]
        stack: String,
    },
    /// Remove a member, its sessions and tokens; its audit entries stay
    Member {
        /// Name
        name: String,
    },
    /// Remove a custom role that nobody has
    Role {
        /// Name
        name: String,
    },
    /// Revoke an invitation
    Invitation {
        /// Number, as in 'list invitations'
        number: u64,
    },
    /// Remove a note
    Note {
        /// Number, as in 'list notes'
        number: u64,
    },
    /// Stop sending the audit log by syslog
    Syslog,
    /// Remove a directory; its members can no longer sign in
    Directory {
        /// 'openid' or 'ldap'
        kind: String,
    },
    /// Remove a registry and its account
    Registry {
        /// Address, from 'list registries'
        address: String,
    },
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RemoveContainers {
    #[command(flatten)]
    pub(crate) targets: Targets,
    /// Kill running containers first
    #[arg(long)]
    pub(crate) force: bool,
    /// Also remove anonymous volumes
    #[arg(long)]
    pub(crate) volumes: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Material {
    /// CA certificate of the engine (PEM)
    #[arg(long, value_name = "FILE")]
    pub(crate) ca: Option<PathBuf>,
    /// Client certificate (PEM)
    #[arg(long, value_name = "FILE")]
    pub(crate) certificate: Option<PathBuf>,
    /// Private key of the client certificate (PEM)
    #[arg(long, value_name = "FILE")]
    pub(crate) key: Option<PathBuf>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Add {
    /// Add a host by its engine's address; tests the connection first
    Host {
        /// Name in the fleet
        name: String,
        /// 'unix:///path' or 'tcp://host:port'
        address: String,
        /// Add the host even if it is unreachable
        #[arg(long)]
        untested: bool,
        #[command(flatten)]
        material: Material,
    },
    /// Create a volume
    Volume(NewVolume),
    /// Create a network
    Network(Box<NewNetwork>),
    /// Add a registry and its account; tests them first
    Registry(NewRegistry),
}

#[derive(Debug, Subcommand)]
pub(crate) enum Test {
    /// Test a registry without saving it
    Registry(NewRegistry),
    /// Test a host of the fleet, or an address before adding it
    Host {
        /// Host name, or an engine's address
        host: String,
        /// Address to test instead of the host's own
        address: Option<String>,
        #[command(flatten)]
        material: Material,
    },
}
