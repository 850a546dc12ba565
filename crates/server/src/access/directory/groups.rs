//! Refreshes the groups of members from a directory, and their grants.

use std::sync::Arc;

use gubernum_api::directories::DirectorySettings;
use gubernum_core::directory::{DirectoryKind, granted};
use gubernum_store::audit::NewEntry;
use jiff::SignedDuration;
use tokio_util::sync::CancellationToken;

use super::openid::Tokens;
use super::{ANSWER_TIMEOUT, DirectoryError, GRACE, SetUp, ldap};
use crate::access::{AccessContext, RightsChanged};

/// How often it is looked whose groups were not asked for in a while.
const LOOK_EVERY: std::time::Duration = std::time::Duration::from_secs(1);

/// How well what is known of a member's groups is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Freshness {
    /// As it was, and that is good enough.
    Known,
    /// It was requested, and may be another.
    Asked,
    /// The directory does not answer, and what is known is too old to count.
    TooOld(String),
}

/// What a directory says now.
enum Now {
    /// These groups; those before when it does not tell.
    Groups(Option<Vec<String>>, Option<Tokens>),
    /// They are not there, or signed out.
    Gone,
}

impl AccessContext {
    /// Makes sure that what a member's groups grant is not older than the directory's setting.
    ///
    /// # Errors
    /// When the records fail.
    pub(crate) async fn freshen(
        &self,
        member: i64,
        kind: DirectoryKind,
        checked: jiff::Timestamp,
    ) -> Result<Freshness, DirectoryError> {
        let Some(set_up) = self.directories.get(kind) else { return Ok(Freshness::Known) };
        let lifetime = SignedDuration::from_secs(i64::from(set_up.kept.recheck_seconds));
        let is_due = |checked: jiff::Timestamp| self.clock.now().duration_since(checked) >= lifetime;
        if !is_due(checked) {
            return Ok(Freshness::Known);
        }
        let began = self.clock.now();
        let turn = self.directories.turn_of(member);
        let _turn = turn.lock().await;
        let Some((_, known)) = self.db.run(move |store| store.directory_of(member)).await? else {
            return Ok(Freshness::Known);
        };
        // Somebody else asked while this one waited for its turn.
        if known.checked > began {
            return Ok(Freshness::Asked);
        }
        let asked = match self.directories.is_quiet(kind) {
            Some(why) => Err(DirectoryError::Unreachable(why)),
            None => {
                let asking = self.ask(&set_up, member, &known.subject);
                let asked =
                    tokio::time::timeout(ANSWER_TIMEOUT, asking).await.unwrap_or(Err(DirectoryError::Silent));
                self.directories.note(kind, asked.as_ref().map(|_| ()));
                asked
            }
        };
        match asked {
            Ok(Now::Groups(groups, tokens)) => {
                self.take_over(&set_up, member, &known.name, groups, tokens).await?;
                Ok(Freshness::Asked)
            }
            Ok(Now::Gone) => {
                self.end_all(member, &known.name).await?;
                Ok(Freshness::Asked)
            }
            Err(error) if self.clock.now().duration_since(known.checked) < GRACE => {
                tracing::warn!("the groups of {} cannot be read: {error}", known.name);
                Ok(Freshness::Known)
            }
            Err(error) => Ok(Freshness::TooOld(error.to_string())),
        }
    }

    async fn ask(&self, set_up: &SetUp, member: i64, subject: &str) -> Result<Now, DirectoryError> {
        match &set_up.kept.settings {
            DirectorySettings::Ldap(settings) => {
                let groups = ldap::groups_now(settings, set_up.secret.as_deref(), subject).await?;
                Ok(groups.map_or(Now::Gone, |groups| Now::Groups(Some(groups), None)))
            }
            DirectorySettings::Openid(_) => {
                let kept = self.db.run(move |store| store.directory_token(member)).await?;
                let tokens = kept.and_then(|kept| serde_json::from_str::<Tokens>(&kept).ok());
                let Some(tokens) = tokens else { return Ok(Now::Gone) };
                let asked = self.directories.openid_groups(subject, tokens).await?;
                Ok(asked.map_or(Now::Gone, |(groups, tokens)| Now::Groups(groups, Some(tokens))))
            }
        }
    }

    async fn take_over(
        &self,
        set_up: &SetUp,
        member: i64,
        name: &str,
        groups: Option<Vec<String>>,
        tokens: Option<Tokens>,
    ) -> Result<(), DirectoryError> {
        let now = self.clock.now();
        let given = groups.map(|groups| granted(&groups, &set_up.kept.mapping));
        let name = name.to_owned();
        let changed = self.db.run(move |store| {
            let before = store.member_record(member)?.map(|m| m.directory_grants).unwrap_or_default();
            let after = given.unwrap_or_else(|| before.clone());
            let changed = store.set_directory_grants(member, &after, now)?;
            if let Some(tokens) = tokens {
                store.set_directory_token(member, serde_json::to_string(&tokens).ok().as_deref())?;
            }
            if changed {
                let words = |all: &[gubernum_core::rights::Granted]| {
                    let each = all.iter().map(|g| format!("{} on {}", g.role, g.scope));
                    let all = each.collect::<Vec<_>>().join(", ");
                    if all.is_empty() { "nothing".to_owned() } else { all }
                };
                let outcome = format!("{} → {}", words(&before), words(&after));
                let entry = NewEntry {
                    member: "gubernum",
                    address: "",
                    action: "groups-changed",
                    object: &name,
                    outcome: &outcome,
                    via: "",
                };
                store.audit(entry, now)?;
            }
            Ok((changed, store.credentials_of(member)?))
        });
        let (changed, credentials) = changed.await?;
        if changed {
            self.rights.tell(RightsChanged::Of(member));
            // What is open may be more than is allowed now: it ends, and is opened again where it is.
            credentials.into_iter().for_each(|credential| self.leases.end(credential));
        }
        Ok(())
    }

    async fn end_all(&self, member: i64, name: &str) -> Result<(), DirectoryError> {
        let (now, name) = (self.clock.now(), name.to_owned());
        let ended = self.db.run(move |store| {
            let had_grants = store.set_directory_grants(member, &[], now)?;
            store.set_directory_token(member, None)?;
            let ended = store.credentials_of(member)?;
            let sessions = store.end_sessions(member, None)?;
            if !had_grants && sessions.is_empty() {
                // It was so before, and is in the log once: a token that is left asks again and again.
                return Ok(Vec::new());
            }
            let entry = NewEntry {
                member: "gubernum",
                address: "",
                action: "groups-changed",
                object: &name,
                outcome: "not in the directory, or signed out there: sessions ended",
                via: "",
            };
            store.audit(entry, now)?;
            Ok(ended)
        });
        let ended = ended.await?;
        if !ended.is_empty() {
            self.rights.tell(RightsChanged::Of(member));
        }
        ended.into_iter().for_each(|credential| self.leases.end(credential));
        Ok(())
    }
}

/// Keeps the groups of those fresh who have something open, so that a change reaches open connections too.
pub(crate) async fn refresh_all(context: Arc<AccessContext>, end: CancellationToken) {
    let mut tick = tokio::time::interval(LOOK_EVERY);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    while end.run_until_cancelled(tick.tick()).await.is_some() {
        for set_up in context.directories.all().iter() {
            let kind = set_up.kept.settings.kind();
            if context.directories.is_quiet(kind).is_some() {
                continue;
            }
            // One that is asked at every request is not asked all the time for who asks for nothing.
            let lifetime = i64::from(set_up.kept.recheck_seconds.max(5));
            let now = context.clock.now();
            let before = now - SignedDuration::from_secs(lifetime);
            let stale = context.db.run(move |store| store.stale_directory_members(kind, before, now)).await;
            for member in stale.unwrap_or_default() {
                let asked = context.freshen(member, kind, before - SignedDuration::from_hours(1));
                if let Some(Err(error)) = end.run_until_cancelled(asked).await {
                    tracing::warn!("groups cannot be read: {error}");
                }
            }
        }
    }
}
