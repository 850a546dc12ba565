//! Directories: sign-in through OpenID Connect or LDAP, and what a member's groups there grant here. Querying a
//! directory is `server::access::directory`.

mod settings;

pub use settings::{LdapGroups, LdapSettings, OpenidSettings, SettingError};

use serde::{Deserialize, Serialize};

use crate::rights::{Grant, Granted, Scope};

/// The most lines of a mapping from groups to roles.
pub const MOST_MAPPINGS: usize = 200;
/// The longest name of a group that is looked at, in characters.
pub const LONGEST_GROUP: usize = 300;
/// The most groups of one member that are looked at.
pub const MOST_GROUPS: usize = 2000;
/// Seconds after which a member's groups are asked for again, unless set otherwise.
pub const RECHECK_SECONDS: u32 = 60;
/// The most seconds for which groups may count without being asked for again.
pub const MOST_RECHECK_SECONDS: u32 = 3600;

/// The protocol of a directory.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    strum::IntoStaticStr,
    strum::EnumString,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum DirectoryKind {
    /// OpenID Connect.
    Openid,
    /// LDAP.
    Ldap,
}

impl DirectoryKind {
    /// The word by which it is written.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// Grants for the members of a group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct GroupGrant {
    /// The group's exact name in the directory.
    pub group: String,
    /// The role's name.
    pub role: String,
    /// The part of the fleet, such as `fleet`, `host:packhouse` or `stack:orchard`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub scope: Scope,
}

impl GroupGrant {
    /// The grant that it gives.
    pub fn grant(&self) -> Grant {
        Grant { role: self.role.clone(), scope: self.scope.clone() }
    }
}

/// What somebody in these groups is granted, with the group that gives it. Names of groups are compared as they are written.
pub fn granted(groups: &[String], mapping: &[GroupGrant]) -> Vec<Granted> {
    let mut all: Vec<Granted> = Vec::new();
    for line in mapping.iter().filter(|line| groups.contains(&line.group)) {
        let is_known = all.iter().any(|g| g.role == line.role && g.scope == line.scope);
        if !is_known {
            let from = format!("group:{}", line.group);
            all.push(Granted { role: line.role.clone(), scope: line.scope.clone(), from });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(group: &str, role: &str, scope: &str) -> GroupGrant {
        GroupGrant { group: group.into(), role: role.into(), scope: scope.parse().unwrap() }
    }

    #[test]
    fn groups_give_what_they_are_mapped_to_and_nothing_else() {
        let mapping = [
            line("harvest", "viewer", "fleet"),
            line("night", "viewer", "fleet"),
            line("night", "operator", "host:packhouse"),
            line("Night", "admin", "fleet"),
        ];
        assert!(granted(&[], &mapping).is_empty());
        assert!(granted(&["nobody".into()], &mapping).is_empty());
        let all = granted(&["night".into(), "harvest".into()], &mapping);
        let words: Vec<String> = all.iter().map(|g| format!("{}@{} {}", g.role, g.scope, g.from)).collect();
        assert_eq!(words, ["viewer@fleet group:harvest", "operator@host:packhouse group:night"]);
    }
}
