//! The effective rights of a credential, from its member's grants and its own bounds; and notifications when they
//! change.

use std::collections::HashMap;
use std::sync::Arc;

use gubernum_core::rights::{Access, Grant, Held, Rights, Role, Scope, VIEWER};
use gubernum_store::credentials::{Kind, Presented};
use jiff::Timestamp;
use parking_lot::Mutex;
use tokio::sync::broadcast;

/// The most credentials whose rights are cached; beyond it the cache is emptied.
const REMEMBERED: usize = 10_000;
/// How many changes somebody who listens may lag behind; a listener that lags assumes that everything changed.
const LAG: usize = 256;

/// What grants allow together.
pub(crate) fn held(grants: &[Grant], roles: &[Role]) -> Vec<Held> {
    let rights = |name: &str| roles.iter().find(|role| role.name == name).map_or(Rights::NONE, Role::rights);
    grants.iter().map(|g| Held { scope: g.scope.clone(), rights: rights(&g.role) }).collect()
}

/// Whether one of the roles that are granted demands a second factor.
pub(crate) fn demands_second_factor(grants: &[Grant], roles: &[Role]) -> bool {
    grants.iter().any(|g| roles.iter().any(|role| role.name == g.role && role.second_factor))
}

/// Whether a credential allows nothing because its member must have a second factor and has none.
pub(crate) fn lacks_second_factor(presented: &Presented, roles: &[Role], for_all: bool) -> bool {
    !presented.second_factor && (for_all || demands_second_factor(&presented.grants, roles))
}

/// What a credential allows at this time.
fn access_of(presented: &Presented, roles: &[Role], for_all: bool, now: Timestamp) -> Access {
    if lacks_second_factor(presented, roles, for_all) {
        return Access::of(Vec::new());
    }
    let own = Access::of(held(&presented.grants, roles));
    let mut access = match &presented.bounds {
        Some(bounds) => own.within(bounds.iter().map(Held::from).collect()),
        None => own,
    };
    if presented.kind == Kind::Session {
        let is_stepped = presented.stepped_until.is_some_and(|until| until > now);
        let lesser = presented.works_as.as_deref().filter(|_| !is_stepped);
        for role in lesser.into_iter().chain(presented.view_as.as_deref()) {
            access = access.within(vec![through(role, roles)]);
        }
    }
    access
}

/// A role on the whole fleet; of one that is no more, what a viewer may.
fn through(role: &str, roles: &[Role]) -> Held {
    let find = |name: &str| roles.iter().find(|role| role.name == name).map(Role::rights);
    Held { scope: Scope::Fleet, rights: find(role).or_else(|| find(VIEWER)).unwrap_or(Rights::NONE) }
}

/// The rights of the credentials in use.
pub(crate) struct RightsInUse {
    known: Mutex<HashMap<i64, Arc<Access>>>,
    changed: broadcast::Sender<Changed>,
}

/// Whose rights changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Changed {
    /// One member's.
    Of(i64),
    /// A role's, so that they may be anybody's.
    Everybodys,
}

impl Default for RightsInUse {
    fn default() -> Self {
        Self { known: Mutex::default(), changed: broadcast::channel(LAG).0 }
    }
}

impl RightsInUse {
    /// What a credential allows: the very same value for as long as that does not change, so that what was worked out for it
    /// can be found again.
    /// With `for_all` nobody may anything who has no second factor.
    pub(crate) fn of(
        &self,
        presented: &Presented,
        roles: &[Role],
        for_all: bool,
        time: Timestamp,
    ) -> Arc<Access> {
        let now = access_of(presented, roles, for_all, time);
        let mut known = self.known.lock();
        if let Some(before) = known.get(&presented.id)
            && **before == now
        {
            return before.clone();
        }
        if known.len() >= REMEMBERED {
            known.clear();
        }
        let now = Arc::new(now);
        known.insert(presented.id, now.clone());
        now
    }

    /// Tells everybody who listens that rights changed.
    pub(crate) fn tell(&self, changed: Changed) {
        // Nobody may listen; that is no failure.
        let _ = self.changed.send(changed);
    }

    /// Hears of changes.
    pub(crate) fn subscribe(&self) -> broadcast::Receiver<Changed> {
        self.changed.subscribe()
    }
}

/// Waits until the rights of a member change.
pub(crate) async fn changed_for(member: i64, changes: &mut broadcast::Receiver<Changed>) {
    loop {
        match changes.recv().await {
            Ok(Changed::Of(other)) if other != member => {}
            Ok(_) | Err(broadcast::error::RecvError::Lagged(_)) => return,
            // Nobody will tell any more: the service ends.
            Err(broadcast::error::RecvError::Closed) => std::future::pending().await,
        }
    }
}

#[cfg(test)]
mod tests {
    use gubernum_core::rights::{ADMIN, Bound, Right, built_in};

    use super::*;

    const AT: Timestamp = Timestamp::UNIX_EPOCH;

    fn presented(role: &str, bounds: Option<Vec<Bound>>) -> Presented {
        let scope = gubernum_core::rights::Scope::Fleet;
        Presented {
            id: 7,
            kind: Kind::Token,
            member_id: 1,
            member: "jory".to_owned(),
            name: "nightly".to_owned(),
            expires: None,
            second_factor: false,
            grants: vec![Grant { role: role.to_owned(), scope }],
            bounds,
            networks: Vec::new(),
            directory: None,
            works_as: None,
            stepped_until: None,
            view_as: None,
        }
    }

    #[test]
    fn the_same_rights_are_the_very_same_value() {
        let (rights, roles) = (RightsInUse::default(), built_in());
        let first = rights.of(&presented(VIEWER, None), &roles, false, AT);
        assert!(Arc::ptr_eq(&first, &rights.of(&presented(VIEWER, None), &roles, false, AT)));
        let cut = rights.of(&presented(VIEWER, Some(Vec::new())), &roles, false, AT);
        assert!(!Arc::ptr_eq(&first, &cut));
        assert!(cut.on_fleet().is_none(), "bounds that allow nothing allow nothing");
    }

    #[test]
    fn a_role_that_is_no_more_allows_nothing() {
        let access = RightsInUse::default().of(&presented("night-shift", None), &built_in(), false, AT);
        assert!(!access.somewhere(Right::See));
    }

    #[test]
    fn lesser_rights_hold_until_one_steps_up() {
        let roles = built_in();
        let session = Presented { kind: Kind::Session, ..presented(ADMIN, None) };
        let lesser = Presented { works_as: Some(VIEWER.to_owned()), ..session };
        let later = AT + jiff::SignedDuration::from_mins(5);
        let may = |p: &Presented, at| access_of(p, &roles, false, at).on_fleet();
        assert!(!may(&lesser, AT).has(Right::Deploy) && may(&lesser, AT).has(Right::See));
        let stepped = Presented { stepped_until: Some(later), ..lesser.clone() };
        assert!(may(&stepped, AT).has(Right::Deploy));
        assert!(!may(&stepped, later).has(Right::Deploy), "it ends by itself");
        let gone = Presented { works_as: Some("night-shift".to_owned()), ..lesser.clone() };
        assert_eq!(may(&gone, AT), may(&lesser, AT), "a role that is no more is a viewer's");
        let token = Presented { kind: Kind::Token, ..lesser };
        assert!(may(&token, AT).has(Right::Deploy), "a token has its own bounds");
    }

    #[test]
    fn viewing_as_a_role_never_allows_more() {
        let roles = built_in();
        let session = Presented { kind: Kind::Session, ..presented(VIEWER, None) };
        let through = Presented { view_as: Some(ADMIN.to_owned()), ..session.clone() };
        let own = access_of(&session, &roles, false, AT).on_fleet();
        assert_eq!(access_of(&through, &roles, false, AT).on_fleet(), own);
    }

    #[tokio::test]
    async fn only_changes_of_ones_own_are_heard() {
        let rights = RightsInUse::default();
        let mut changes = rights.subscribe();
        rights.tell(Changed::Of(2));
        let waiting =
            tokio::time::timeout(std::time::Duration::from_millis(20), changed_for(1, &mut changes));
        assert!(waiting.await.is_err());
        rights.tell(Changed::Everybodys);
        changed_for(1, &mut changes).await;
    }
}
