//! Guards of dangerous changes: the caller has stepped up, or a second member approves. What counts as dangerous, and
//! what a team requires, is core's ([`gubernum_core::guard`]).

use std::collections::HashMap;
use std::sync::Arc;

use gubernum_core::guard::{Guard, GuardedChange};
use gubernum_core::text::shown;
use gubernum_store::approvals::{Asked, NewApproval};
use gubernum_store::audit::NewEntry;
use gubernum_store::{Store, StoreError};
use jiff::{SignedDuration, Timestamp};
use parking_lot::Mutex;
use tokio::task::AbortHandle;

use crate::access::{AccessContext, RightsChanged};
use crate::clock::Clock;
use crate::storage::Db;

/// How long an approval can be given, and used once it is.
const GOOD_FOR: SignedDuration = SignedDuration::from_hours(24);
/// The longest text that the approver is shown.
const LONGEST_DETAIL: usize = 4000;
/// The most stepped-up sessions that are watched; beyond it their end is noticed at their next request.
const MOST_WATCHED: usize = 10_000;

/// The caller's state.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum CallerState {
    /// A session.
    Session,
    /// A session that showed once more who it is.
    SteppedUp(Timestamp),
    /// A token: nobody is there who could.
    Token,
    /// The service itself, for somebody.
    Service,
}

/// A dangerous change that somebody asks for.
#[derive(Debug, Clone)]
pub(crate) struct Dangerous {
    pub(crate) danger: GuardedChange,
    /// The object.
    pub(crate) object: String,
    /// What would be done, for the approver. No secret may appear in it.
    pub(crate) detail: String,
    /// Everything that makes this change the one that it is; only its hash is kept.
    pub(crate) exactly: String,
}

/// Who asks.
#[derive(Debug, Clone)]
pub(crate) struct GuardedCaller {
    pub(crate) member: String,
    pub(crate) address: String,
    pub(crate) via: String,
    pub(crate) standing: CallerState,
}

/// Why a dangerous change is not made yet.
#[derive(Debug, thiserror::Error)]
pub(crate) enum GuardError {
    /// It asks for stepping up.
    #[error("{} needs stepping up with your password or a code; step up first", .0.deed())]
    StepUp(GuardedChange),
    /// A token cannot step up.
    #[error("{} needs stepping up, which a token cannot do; sign in instead", .0.deed())]
    Token(GuardedChange),
    /// The service does it for nobody who is there.
    #[error("{} is guarded, so automation cannot do it; do it yourself", .0.deed())]
    ByItself(GuardedChange),
    /// It waits for a second member.
    #[error("{} needs a second member's approval: approval {id} is waiting. Repeat the change once it is approved", .danger.deed())]
    Waits {
        /// Why the change is guarded.
        danger: GuardedChange,
        /// The approval's number.
        id: u64,
    },
    /// A second member said no.
    #[error("approval {0} was refused; repeating the change requests a new one")]
    Refused(u64),
    /// The records.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// What a passed change used.
#[derive(Debug, Default)]
#[must_use]
pub(crate) struct Passed(Option<u64>);

/// Holds dangerous changes back. Cheap to clone.
#[derive(Clone)]
pub(crate) struct Guards {
    db: Db,
    clock: Clock,
}

impl Guards {
    pub(crate) fn new(db: Db, clock: Clock) -> Self {
        Self { db, clock }
    }

    /// What the team asks for before something.
    pub(crate) async fn asked_for(&self, danger: GuardedChange) -> Result<Guard, StoreError> {
        Ok(danger.guard(&self.db.run(Store::preferences).await?))
    }

    /// Lets a change pass, or says what it asks for.
    ///
    /// # Errors
    /// See [`GuardError`].
    pub(crate) async fn pass(&self, asker: &GuardedCaller, change: Dangerous) -> Result<Passed, GuardError> {
        let guard = self.asked_for(change.danger).await?;
        self.pass_as(guard, asker, change).await
    }

    /// As [`Self::pass`], for what is asked of this change.
    pub(crate) async fn pass_as(
        &self,
        guard: Guard,
        asker: &GuardedCaller,
        change: Dangerous,
    ) -> Result<Passed, GuardError> {
        let danger = change.danger;
        if guard == Guard::None {
            return Ok(Passed(None));
        }
        if asker.standing == CallerState::Service {
            return Err(GuardError::ByItself(danger));
        }
        if guard == Guard::StepUp {
            return match asker.standing {
                CallerState::SteppedUp(until) if until > self.clock.now() => Ok(Passed(None)),
                CallerState::Token => Err(GuardError::Token(danger)),
                _ => Err(GuardError::StepUp(danger)),
            };
        }
        let (asker, now) = (asker.clone(), self.clock.now());
        let asked = self.db.run(move |store| {
            // Secrets may appear in what makes it exactly this one: nobody can try them out without the key.
            let hash =
                store.seal().code("approval", &format!("{danger}\0{}\0{}", change.object, change.exactly));
            let detail = shown(&change.detail, LONGEST_DETAIL);
            let asked = store.ask_approval(
                &NewApproval {
                    member: &asker.member,
                    danger: danger.word(),
                    object: &shown(&change.object, 200),
                    detail: &detail,
                    hash: &hash,
                    expires: now + GOOD_FOR,
                },
                now,
            )?;
            let written = match asked {
                Asked::New(id) => Some(("ask-approval", format!("approval {id}: {detail}"))),
                Asked::Approved(id) => Some(("use-approval", format!("approval {id}"))),
                Asked::Waits(_) | Asked::Refused(_) => None,
            };
            if let Some((action, outcome)) = written {
                let entry = NewEntry {
                    member: &asker.member,
                    address: &asker.address,
                    action,
                    object: &change.object,
                    outcome: &outcome,
                    via: &asker.via,
                };
                store.audit(entry, now)?;
            }
            Ok(asked)
        });
        match asked.await? {
            Asked::Approved(id) => Ok(Passed(Some(id))),
            Asked::New(id) | Asked::Waits(id) => Err(GuardError::Waits { danger, id }),
            Asked::Refused(id) => Err(GuardError::Refused(id)),
        }
    }

    /// Gives back what a change used that did not begin after all.
    pub(crate) async fn give_back(&self, passed: Passed) {
        let Passed(Some(id)) = passed else { return };
        if let Err(error) = self.db.run(move |store| store.give_approval_back(id)).await {
            tracing::error!("approval {id} could not be released: {error}");
        }
    }
}

/// Tells the open connections of sessions that stepped up when that ends.
#[derive(Default)]
pub(crate) struct StepTimers(Mutex<HashMap<i64, AbortHandle>>);

impl StepTimers {
    /// Tells at the end of a step, in place of that of an earlier one.
    pub(crate) fn watch(&self, context: &Arc<AccessContext>, session: i64, member: i64, until: Timestamp) {
        let left = until.duration_since(context.clock.now()).unsigned_abs();
        let telling = context.clone();
        let task = tokio::spawn(async move {
            tokio::time::sleep(left).await;
            telling.steps.forget(session);
            telling.rights.tell(RightsChanged::Of(member));
        });
        let mut all = self.0.lock();
        if all.len() >= MOST_WATCHED {
            task.abort();
            return;
        }
        if let Some(before) = all.insert(session, task.abort_handle()) {
            before.abort();
        }
    }

    fn forget(&self, session: i64) {
        self.0.lock().remove(&session);
    }
}
