//! The access of a member: the rights of all grants, limited by the bounds on them.

use serde::{Deserialize, Serialize};

use super::{Place, Right, Rights, Scope};

/// Rights on a part of the fleet.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Held {
    /// The part of the fleet.
    pub scope: Scope,
    /// What is allowed there.
    pub rights: Rights,
}

impl Held {
    /// Rights on the whole fleet.
    pub fn on_fleet(rights: Rights) -> Self {
        Self { scope: Scope::Fleet, rights }
    }
}

/// A role on a part of the fleet.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Grant {
    /// The role's name.
    pub role: String,
    /// The part of the fleet, such as `fleet`, `host:packhouse` or `stack:orchard`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub scope: Scope,
}

/// A restriction of a token: these rights, on this part of the fleet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Bound {
    /// The part of the fleet, such as `fleet`, `host:packhouse` or `stack:orchard`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub scope: Scope,
    /// The rights.
    pub rights: Vec<Right>,
}

impl From<&Bound> for Held {
    fn from(bound: &Bound) -> Self {
        Self { scope: bound.scope.clone(), rights: bound.rights.iter().copied().collect() }
    }
}

/// What somebody may do, and where.
///
/// It has one layer for the member's own grants and one more for everything that cuts them down: a token's bounds, a
/// session that works with less, a role that is looked through. A layer allows what any of its parts allows; what is
/// allowed in the end is what every layer allows.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Access {
    layers: Vec<Vec<Held>>,
}

impl Access {
    /// What the service itself may.
    pub fn everything() -> Self {
        Self::of(vec![Held::on_fleet(Rights::all())])
    }

    /// What these grants allow together. No grants allow nothing.
    pub fn of(grants: Vec<Held>) -> Self {
        Self { layers: vec![grants] }
    }

    /// The same within further bounds.
    #[must_use]
    pub fn within(mut self, bounds: Vec<Held>) -> Self {
        self.layers.push(bounds);
        self
    }

    /// What is allowed on something that is there. Without the right to see it, nothing is.
    pub fn at(&self, place: &Place<'_>) -> Rights {
        let of_layer = |layer: &Vec<Held>| {
            let covering = layer.iter().filter(|held| held.scope.covers(place));
            covering.fold(Rights::NONE, |all, held| all.and(held.rights))
        };
        seeing(self.layers.iter().map(of_layer).fold(Rights::all(), Rights::within))
    }

    /// What is allowed on the whole fleet and on the service itself.
    pub fn on_fleet(&self) -> Rights {
        let of_layer = |layer: &Vec<Held>| {
            let whole = layer.iter().filter(|held| held.scope == Scope::Fleet);
            whole.fold(Rights::NONE, |all, held| all.and(held.rights))
        };
        seeing(self.layers.iter().map(of_layer).fold(Rights::all(), Rights::within))
    }

    /// Whether a right may be allowed on something, somewhere: what is asked of it there is judged by [`Access::at`].
    pub fn somewhere(&self, right: Right) -> bool {
        self.layers.iter().all(|layer| layer.iter().any(|held| held.rights.has(right)))
    }

    /// Whether something is granted on a host by its name, be there anything on it yet or not: the host is seen then.
    pub fn names(&self, host: &Place<'_>) -> bool {
        let is_named = |held: &Held| {
            let by_name = matches!(&held.scope, Scope::Stack { host: Some(name), .. } if name == host.host);
            held.rights.has(Right::See) && (by_name || held.scope.covers(host))
        };
        self.layers.iter().all(|layer| layer.iter().any(is_named))
    }

    /// Whether everything is seen.
    pub fn sees_all(&self) -> bool {
        self.on_fleet().has(Right::See)
    }

    /// Whether this allows nothing that the other does not, wherever that is. It may say no where a closer look would say
    /// yes, never the other way round.
    pub fn is_within(&self, other: &Self) -> bool {
        other
            .layers
            .iter()
            .all(|bounds| self.layers.iter().any(|layer| layer.iter().all(|held| is_covered(held, bounds))))
    }
}

/// Whether some parts of a layer allow together what another part allows.
fn is_covered(held: &Held, layer: &[Held]) -> bool {
    let covering = layer.iter().filter(|other| takes_in(&other.scope, &held.scope));
    held.rights.is_within(covering.fold(Rights::NONE, |all, other| all.and(other.rights)))
}

/// Whether one scope includes all of another, as far as their texts tell.
fn takes_in(wide: &Scope, narrow: &Scope) -> bool {
    match (wide, narrow) {
        (Scope::Fleet, _) => true,
        (Scope::Host(wide), Scope::Stack { host: Some(host), .. }) => wide == host,
        (Scope::Stack { host: None, stack: wide }, Scope::Stack { stack, .. }) => wide == stack,
        (Scope::Label { name: wide, value: None }, Scope::Label { name, .. }) => wide == name,
        _ => wide == narrow,
    }
}

fn seeing(rights: Rights) -> Rights {
    if rights.has(Right::See) { rights } else { Rights::NONE }
}
