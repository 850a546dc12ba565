//! `gubernum recover`: access for whoever administers the machine when no admin can sign in. The service may run
//! meanwhile.

use std::path::Path;

use gubernum_core::rights::{ADMIN, Grant, Scope};
use gubernum_server::fresh_link;
use gubernum_store::Store;
use gubernum_store::audit::NewEntry;
use gubernum_store::invitations::NewInvitation;
use jiff::{SignedDuration, Timestamp};

use crate::arguments_serve::Passphrase;
use crate::exit::{FINE, Failure};
use crate::serve::open_store;
use crate::table::say;

/// How long the link is good.
const GOOD_FOR: SignedDuration = SignedDuration::from_hours(1);

/// Prints a link by which somebody becomes an admin of this name, or by which the member of this name chooses a new password and
/// is an admin again.
pub(crate) fn recover(data_dir: &Path, member: &str, passphrase: &Passphrase) -> Result<u8, Failure> {
    if !data_dir.join("gubernum.db").exists() {
        let text = format!("{} is not a data folder: it has no gubernum.db", data_dir.display());
        return Err(Failure::Said(text));
    }
    let store = open_store(data_dir, passphrase.file.as_deref())?;
    let said = |e: &dyn std::fmt::Display| Failure::Said(e.to_string());
    let (secret, hash) = fresh_link().map_err(|e| said(&e))?;
    let now = Timestamp::now();
    let name = give(&store, member, &hash, now).map_err(|e| said(&e))?;
    say(&format!(
        "/welcome#{secret}\n\nOpen this path at the service's address within the hour and choose a new password for {name}, who then is an admin. This is in the audit log."
    ))?;
    Ok(FINE)
}

fn give(
    store: &Store,
    member: &str,
    hash: &[u8],
    now: Timestamp,
) -> Result<String, gubernum_store::StoreError> {
    let admin = Grant { role: ADMIN.to_owned(), scope: Scope::Fleet };
    let known = store.member(member)?;
    let name = known.as_ref().map_or_else(|| member.to_owned(), |m| m.name.clone());
    if let Some(known) = &known {
        let mut grants = store.grants_of(known.id)?;
        if !grants.contains(&admin) {
            grants.push(admin.clone());
        }
        store.set_grants(known.id, &grants)?;
        store.set_deactivated(known.id, None)?;
        // A link is no way around a second factor, and whoever recovers may have lost it.
        store.remove_second_factor(known.id)?;
    }
    let grants = [admin];
    let link = NewInvitation {
        hash,
        name: &name,
        grants: &grants,
        member: known.map(|m| m.id),
        giver: "the machine",
        expires: now + GOOD_FOR,
    };
    store.add_invitation(&link, now)?;
    let entry = NewEntry {
        member: "-",
        address: "this machine",
        action: "recover",
        object: &name,
        outcome: "a link for an admin",
        via: "",
    };
    store.audit(entry, now)?;
    Ok(name)
}
