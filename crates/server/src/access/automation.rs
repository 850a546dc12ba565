//! The rights of automation: those of the member it acts for, limited to what the work needs.

use gubernum_core::rights::{Access, Held, Rights, Scope};
use gubernum_store::StoreError;

use crate::access::{demands_second_factor, held};
use crate::storage::Db;

/// What somebody lends to the service.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum AutomationRights {
    /// So much.
    Rights(Access),
    /// Nothing: the member is gone or may not sign in any more.
    Nobody,
}

/// What a member may at this moment, and of that no more than these rights.
///
/// # Errors
/// When the records cannot be read.
pub(crate) async fn lent(db: &Db, member: &str, most: Rights) -> Result<AutomationRights, StoreError> {
    let name = member.to_owned();
    let found = db.run(move |store| {
        let Some(member) = store.member(&name)?.filter(|m| m.deactivated.is_none()) else { return Ok(None) };
        let Some(record) = store.member_record(member.id)? else { return Ok(None) };
        Ok(Some((record, store.roles()?, store.preferences()?.second_factor_for_all)))
    });
    let Some((record, roles, for_all)) = found.await? else { return Ok(AutomationRights::Nobody) };
    let grants = record.all_grants();
    if !record.second_factor && (for_all || demands_second_factor(&grants, &roles)) {
        return Ok(AutomationRights::Rights(Access::of(Vec::new())));
    }
    let own = Access::of(held(&grants, &roles));
    Ok(AutomationRights::Rights(own.within(vec![Held { scope: Scope::Fleet, rights: most }])))
}

/// Whose rights are used, for the audit log; nothing where that is nobody's.
pub(crate) fn with_rights_of(member: &str) -> String {
    if member.is_empty() { String::new() } else { format!("the rights of {member}") }
}
