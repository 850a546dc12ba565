//! Sign-in through a directory: who a person is there, and their groups. What groups grant is
//! `gubernum_core::directory`'s; the HTTP routes are `access::http::{openid, directories}`.
//!
//! A member's groups are asked for at every sign-in, and again when what is known is older than the directory's setting. A directory
//! that does not answer removes nothing for [`GRACE`]; after that its members wait until it does.

mod error;
mod fetch;
mod groups;
mod ldap;
mod openid;
mod pending;

use std::collections::HashMap;
use std::sync::{Arc, Weak};
use std::time::Duration;

use gubernum_api::directories::DirectorySettings;
use gubernum_core::directory::{DirectoryKind, GroupGrant};
use gubernum_store::directories::DirectoryRecord;
use jiff::SignedDuration;
use parking_lot::{Mutex, RwLock};
use serde::{Deserialize, Serialize};
use tokio::time::Instant;

use crate::clock::Clock;

pub(crate) use error::DirectoryError;
pub(crate) use groups::{Freshness, refresh_all};
pub(crate) use openid::Tokens;
pub(crate) use pending::{Begun, CompletedSignIn};

/// How long a member's last known groups count while the directory does not answer.
const GRACE: SignedDuration = SignedDuration::from_hours(1);
/// The wait before a directory that did not answer is asked again.
const QUIET: Duration = Duration::from_secs(5);
/// How long a directory may take for everything that one question needs.
const ANSWER_TIMEOUT: Duration = Duration::from_secs(10);

/// What is kept of a directory's settings beside its secret.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Kept {
    pub(crate) settings: DirectorySettings,
    pub(crate) mapping: Vec<GroupGrant>,
    pub(crate) recheck_seconds: u32,
}

/// A directory that is set up.
#[derive(Clone)]
pub(crate) struct SetUp {
    pub(crate) kept: Kept,
    pub(crate) secret: Option<String>,
}

/// Who somebody is in a directory.
#[derive(Debug, Clone)]
pub(crate) struct Person {
    /// What stays when a name changes.
    pub(crate) subject: String,
    pub(crate) name: String,
    pub(crate) groups: Vec<String>,
}

type Turn = Weak<tokio::sync::Mutex<()>>;

/// All directories.
pub(crate) struct Directories {
    clock: Clock,
    all: RwLock<Arc<Vec<SetUp>>>,
    /// What the provider of OpenID Connect says of itself.
    provider: Mutex<Option<Arc<openid::Provider>>>,
    /// Sign-ins that came back from the provider, by their state, so that none comes back twice.
    used: moka::sync::Cache<String, ()>,
    pub(super) arrived: pending::Pending<CompletedSignIn>,
    /// Sign-outs that the provider told us of, so that none counts twice.
    logouts: moka::sync::Cache<String, ()>,
    /// Why a directory could not be asked the last time, and until when it is not asked again.
    failures: Mutex<HashMap<DirectoryKind, (String, Instant)>>,
    /// Whose groups are being asked for: one question for each member at a time.
    turns: Mutex<HashMap<i64, Turn>>,
}

/// The most used nonces that are remembered, and for how long: longer than a token with one is valid.
const MOST_USED: u64 = 10_000;
const USED_SECONDS: u64 = 900;

fn remembered() -> moka::sync::Cache<String, ()> {
    let lifetime = Duration::from_secs(USED_SECONDS);
    moka::sync::Cache::builder().max_capacity(MOST_USED).time_to_live(lifetime).build()
}

impl Directories {
    pub(crate) fn new(clock: Clock) -> Self {
        Self {
            clock,
            all: RwLock::default(),
            provider: Mutex::default(),
            used: remembered(),
            arrived: pending::Pending::new(Duration::from_secs(300)),
            logouts: remembered(),
            failures: Mutex::default(),
            turns: Mutex::default(),
        }
    }

    /// Whether a state comes back for the first time.
    pub(crate) fn use_state(&self, state: &str) -> bool {
        let mut is_first = false;
        self.used.get_with_by_ref(state, || is_first = true);
        is_first
    }

    /// Takes over what is set up. One that cannot be read is left out and named in the log.
    pub(crate) fn set(&self, records: Vec<DirectoryRecord>) {
        let read = |record: DirectoryRecord| match serde_json::from_str::<Kept>(&record.settings) {
            Ok(kept) => Some(SetUp { kept, secret: record.secret }),
            Err(error) => {
                tracing::error!(
                    "the settings of the directory {} cannot be read: {error}",
                    record.kind.word()
                );
                None
            }
        };
        *self.all.write() = Arc::new(records.into_iter().filter_map(read).collect());
        *self.provider.lock() = None;
        self.failures.lock().clear();
    }

    /// Those that are set up.
    pub(crate) fn all(&self) -> Arc<Vec<SetUp>> {
        self.all.read().clone()
    }

    /// The one of a kind.
    pub(crate) fn get(&self, kind: DirectoryKind) -> Option<SetUp> {
        self.all().iter().find(|set_up| set_up.kept.settings.kind() == kind).cloned()
    }

    /// Why a directory could not be asked the last time.
    pub(crate) fn failure(&self, kind: DirectoryKind) -> Option<String> {
        self.failures.lock().get(&kind).map(|(why, _)| why.clone())
    }

    fn note(&self, kind: DirectoryKind, outcome: Result<(), &DirectoryError>) {
        let mut failures = self.failures.lock();
        match outcome {
            Ok(()) => drop(failures.remove(&kind)),
            Err(error) => drop(failures.insert(kind, (error.to_string(), Instant::now() + QUIET))),
        }
    }

    /// Whether a directory is not asked for a moment because it did not answer.
    fn is_quiet(&self, kind: DirectoryKind) -> Option<String> {
        let failures = self.failures.lock();
        failures.get(&kind).filter(|(_, until)| Instant::now() < *until).map(|(why, _)| why.clone())
    }

    /// Asks the LDAP directory who somebody is who typed this name and password. `None` when there is no such directory, or the
    /// name or password is not right.
    ///
    /// # Errors
    /// When it cannot be asked.
    pub(crate) async fn ldap_sign_in(
        &self,
        name: &str,
        password: &str,
    ) -> Result<Option<Person>, DirectoryError> {
        let Some(set_up) = self.get(DirectoryKind::Ldap) else { return Ok(None) };
        let DirectorySettings::Ldap(settings) = &set_up.kept.settings else { return Ok(None) };
        let asked = ldap::sign_in(settings, set_up.secret.as_deref(), name, password);
        let found = tokio::time::timeout(ANSWER_TIMEOUT, asked).await.unwrap_or(Err(DirectoryError::Silent));
        self.note(DirectoryKind::Ldap, found.as_ref().map(|_| ()));
        found
    }

    fn turn_of(&self, member: i64) -> Arc<tokio::sync::Mutex<()>> {
        let mut turns = self.turns.lock();
        turns.retain(|_, turn| turn.strong_count() > 0);
        let place = turns.entry(member).or_default();
        place.upgrade().unwrap_or_else(|| {
            let turn = Arc::default();
            *place = Arc::downgrade(&turn);
            turn
        })
    }

    /// Tries a directory: what was done, and why the next step failed.
    pub(crate) async fn test(&self, set_up: &SetUp) -> (Vec<String>, Option<DirectoryError>) {
        let mut steps = Vec::new();
        let tried = async {
            match &set_up.kept.settings {
                DirectorySettings::Ldap(settings) => {
                    ldap::test(settings, set_up.secret.as_deref(), &mut steps).await
                }
                DirectorySettings::Openid(settings) => openid::test(settings, &mut steps).await,
            }
        };
        let outcome =
            tokio::time::timeout(ANSWER_TIMEOUT, tried).await.unwrap_or(Err(DirectoryError::Silent));
        (steps, outcome.err())
    }
}
