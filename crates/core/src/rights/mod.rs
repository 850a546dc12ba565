//! Rights: single rights, roles made of them, grants of a role on a part of the fleet, and the access that follows
//! from all grants.
//!
//! The part of the fleet that an object is in is a [`Place`]; which of the fleet is seen is cut out by [`crate::fleet::Fleet::seen_by`]; what each
//! call of the API and each kind of change needs is in [`table`]. Who a member is, and where grants are kept, is not here.

mod access;
mod effective;
mod host_access;
mod operations;
mod roles;
mod scope;
pub mod table;

use serde::{Deserialize, Serialize};

use crate::text::shown;

pub use access::{Access, Bound, Grant, Held};
pub use effective::{EffectiveRight, Granted, effective};
pub use host_access::host_access;
pub use operations::operation_seen;
pub use roles::{
    ADMIN, LONGEST_ROLE_NAME, MOST_ROLES, OPERATOR, Role, RoleError, VIEWER, built_in, check_role,
};
pub use scope::{LONGEST_SCOPE, Place, Scope, ScopeError};

/// A right.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[derive(strum::IntoStaticStr, strum::EnumString, strum::VariantArray, strum::Display)]
#[strum(serialize_all = "kebab-case")]
pub enum Right {
    /// See that something is there, and how it is.
    See,
    /// See values that are hidden because they look like secrets.
    SeeSecrets,
    /// Read logs.
    ReadLogs,
    /// Open terminals and run commands in containers.
    Shell,
    /// Read and change files in containers and volumes.
    Files,
    /// Start, stop, restart, pause and resume, and run jobs.
    StartStop,
    /// Make containers and change them; images, volumes and networks too.
    Deploy,
    /// Remove containers, images, volumes and networks.
    Remove,
    /// Remove what is unused.
    Tidy,
    /// Move and copy things between hosts.
    Move,
    /// Apply, change and remove stacks.
    Stacks,
    /// Add, change and remove registries.
    Registries,
    /// Add, change and remove hosts.
    Hosts,
    /// Invite members, and change what they may.
    Members,
    /// Change settings of the service.
    Settings,
    /// Read the audit log.
    Audit,
}

impl Right {
    /// All of them, in the order in which they are shown.
    pub const ALL: &[Self] = <Self as strum::VariantArray>::VARIANTS;

    /// The word used in the API, the client and the records.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// What it allows, as the end of "may …".
    pub fn deed(self) -> &'static str {
        match self {
            Self::See => "see objects and their state",
            Self::SeeSecrets => "reveal masked values",
            Self::ReadLogs => "read logs",
            Self::Shell => "open terminals and run commands",
            Self::Files => "read and change files",
            Self::StartStop => "start, stop and restart containers",
            Self::Deploy => "create and change containers",
            Self::Remove => "remove containers, images, volumes and networks",
            Self::Tidy => "remove what is unused",
            Self::Move => "move and clone",
            Self::Stacks => "deploy and change stacks",
            Self::Registries => "change registries",
            Self::Hosts => "change hosts",
            Self::Members => "change members",
            Self::Settings => "change settings",
            Self::Audit => "read the audit log",
        }
    }

    /// What somebody is told who does not have it on something.
    pub fn refusal(self, on: &str) -> String {
        let on = shown(on, 120);
        format!("you cannot {} on {on}: you need the right '{self}'; ask an admin", self.deed())
    }

    /// Whether it is about the service as a whole, so that it means nothing on a part of the fleet.
    pub fn is_of_service(self) -> bool {
        matches!(self, Self::Registries | Self::Members | Self::Settings | Self::Audit)
    }

    const fn bit(self) -> u32 {
        1 << self as u32
    }
}

/// A set of rights.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Rights(u32);

impl Rights {
    /// None at all.
    pub const NONE: Self = Self(0);

    /// Every right that there is.
    pub fn all() -> Self {
        Right::ALL.iter().copied().collect()
    }

    /// Whether a right is among them.
    pub const fn has(self, right: Right) -> bool {
        self.0 & right.bit() != 0
    }

    /// These and those.
    #[must_use]
    pub const fn and(self, others: Self) -> Self {
        Self(self.0 | others.0)
    }

    /// Those that are in both.
    #[must_use]
    pub const fn within(self, bounds: Self) -> Self {
        Self(self.0 & bounds.0)
    }

    /// Whether all of these are among those.
    pub const fn is_within(self, bounds: Self) -> bool {
        self.0 & !bounds.0 == 0
    }

    /// Whether it is none.
    pub const fn is_none(self) -> bool {
        self.0 == 0
    }

    /// One after the other, in the order of [`Right::ALL`].
    pub fn iter(self) -> impl Iterator<Item = Right> {
        Right::ALL.iter().copied().filter(move |right| self.has(*right))
    }
}

impl FromIterator<Right> for Rights {
    fn from_iter<T: IntoIterator<Item = Right>>(rights: T) -> Self {
        Self(rights.into_iter().fold(0, |bits, right| bits | right.bit()))
    }
}

impl std::fmt::Debug for Rights {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_set().entries(self.iter().map(Right::word)).finish()
    }
}

#[cfg(test)]
#[path = "../rights_tests.rs"]
mod tests;
