//! A member's effective rights, and which grant gives each of them.

use serde::{Deserialize, Serialize};

use super::{Right, Role, Scope};

/// A grant: a role on a part of the fleet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Granted {
    /// The role's name.
    pub role: String,
    /// The part of the fleet.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub scope: Scope,
    /// The origin: `member`, or a directory group such as `group:operations`.
    pub from: String,
}

/// A right with the grants that give it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EffectiveRight {
    /// The right.
    pub right: Right,
    /// The grants that give it; none when the member does not have it.
    pub by: Vec<Granted>,
}

/// Every right with the grants that give it.
pub fn effective(grants: &[Granted], roles: &[Role]) -> Vec<EffectiveRight> {
    let gives = |grant: &Granted, right: Right| {
        let role = roles.iter().find(|role| role.name == grant.role);
        // A right over the service means nothing on a part of the fleet.
        let means = !right.is_of_service() || grant.scope == Scope::Fleet;
        means && role.is_some_and(|role| role.rights.contains(&right) && role.rights.contains(&Right::See))
    };
    Right::ALL
        .iter()
        .map(|&right| {
            let by = grants.iter().filter(|grant| gives(grant, right)).cloned().collect();
            EffectiveRight { right, by }
        })
        .collect()
}
