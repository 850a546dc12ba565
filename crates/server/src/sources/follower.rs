//! Checks the repositories of stacks, and applies a new commit or lets it wait for approval.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use gubernum_api::sources::{Commit, SetSource, StackSource};
use gubernum_core::plan::Request;
use gubernum_core::plan::request::ApplyRequest;
use gubernum_core::rights::{Access, Right};
use gubernum_core::stack::source::{GitPlace, LEAST_POLL_SECONDS, MOST_POLL_SECONDS, PlaceError, Transport};
use gubernum_store::sources::{CheckOutcome, FoundCommit, SourceRecord, SourceSettings};
use gubernum_store::{Seal, StoreError};
use parking_lot::Mutex;
use tokio::sync::Notify;
use tokio::time::{Instant, sleep_until};
use tokio_util::sync::CancellationToken;

use crate::access::{AutomationRights, fresh_secret, lent, with_rights_of};
use crate::clock::Clock;
use crate::operations::{Author, OperationError, Runner};
use crate::sources::Git;
use crate::sources::git::GitError;
use crate::storage::Db;

/// How many repositories are looked at at once.
const AT_ONCE: usize = 4;
/// The most sources.
const MOST_SOURCES: usize = 500;
/// The longest token, key or list of known hosts, in bytes.
const LONGEST_SECRET: usize = 64 * 1024;
/// Pushes come in bursts: the shortest time between two checks.
const BETWEEN: Duration = Duration::from_secs(2);
/// When a commit that met another operation on its stack is tried again. Nothing is held meanwhile: rights and settings are those of then.
const BUSY_AGAIN: Duration = Duration::from_secs(10);
/// Who a change is from that is applied without approval.
const AUTHOR: &str = "git";

/// A source that is refused, or a hook.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SourceError {
    /// A field of it is invalid.
    #[error("{0}")]
    Place(#[from] PlaceError),
    /// There are as many as there can be.
    #[error("the limit of {MOST_SOURCES} sources is reached; remove one first")]
    TooMany,
    /// The stack has none.
    #[error("no repository is set for the stack '{0}' on this host")]
    NotSet(String),
    /// There is no such hook, or it is not signed as it should be. One sentence for both.
    #[error("unknown webhook, or wrong signature in 'X-Hub-Signature-256'")]
    Forged,
    /// No random numbers are available.
    #[error("the machine provides no random numbers")]
    NoRandomness,
    /// The records.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// A host and a stack.
type Which = (String, String);

/// Looks at the repositories.
pub(crate) struct Follower {
    db: Db,
    clock: Clock,
    runner: Arc<Runner>,
    git: Git,
    /// Those that somebody wants looked at now.
    wanted: Mutex<BTreeSet<Which>>,
    wake: Notify,
}

impl Follower {
    pub(crate) fn new(db: Db, clock: Clock, runner: Arc<Runner>, git: Git) -> Self {
        Self { db, clock, runner, git, wanted: Mutex::default(), wake: Notify::new() }
    }

    /// Looks until the service ends.
    pub(crate) async fn run(&self, end: CancellationToken) {
        let mut looked: BTreeMap<Which, Instant> = BTreeMap::new();
        let mut under_way: BTreeSet<Which> = BTreeSet::new();
        let mut busy: BTreeSet<Which> = BTreeSet::new();
        let mut looks = FuturesUnordered::new();
        loop {
            let all = match self.db.run(|store| store.sources()).await {
                Ok(all) => all,
                Err(error) => {
                    tracing::error!("the sources of stacks cannot be read: {error}");
                    Vec::new()
                }
            };
            looked.retain(|which, _| all.iter().any(|s| s.host == which.0 && s.stack == which.1));
            busy.retain(|which| looked.contains_key(which));
            let mut next = Instant::now() + Duration::from_secs(60);
            for source in all {
                let which = (source.host.clone(), source.stack.clone());
                if under_way.contains(&which) {
                    continue;
                }
                let last = looked.get(&which).copied();
                let is_wanted = self.wanted.lock().contains(&which);
                let earliest = last.map(|at| at + BETWEEN);
                let due = match (is_wanted, source.poll_seconds, last) {
                    (true, _, _) => earliest.unwrap_or_else(Instant::now),
                    (false, _, Some(at)) if busy.contains(&which) => at + BUSY_AGAIN,
                    (false, 0, _) => continue,
                    (false, _, None) => Instant::now(),
                    (false, seconds, Some(at)) => at + Duration::from_secs(u64::from(seconds)),
                };
                if due <= Instant::now() && looks.len() < AT_ONCE {
                    self.wanted.lock().remove(&which);
                    looked.insert(which.clone(), Instant::now());
                    under_way.insert(which.clone());
                    looks.push(async move {
                        let is_busy = self.look(&source).await;
                        (which, is_busy)
                    });
                } else {
                    next = next.min(due.max(Instant::now() + Duration::from_millis(50)));
                }
            }
            tokio::select! {
                () = end.cancelled() => return,
                () = self.wake.notified() => {}
                Some((which, is_busy)) = looks.next() => {
                    under_way.remove(&which);
                    if is_busy {
                        busy.insert(which);
                    } else {
                        busy.remove(&which);
                    }
                }
                () = sleep_until(next) => {}
            }
        }
    }

    /// Has a stack's repository looked at as soon as can be.
    pub(crate) fn want(&self, host: &str, stack: &str) {
        self.wanted.lock().insert((host.to_owned(), stack.to_owned()));
        self.wake.notify_one();
    }

    /// Checks a repository, and applies its commit where that needs no approval. Tells whether another operation on the stack was in the way.
    async fn look(&self, source: &SourceRecord) -> bool {
        let looked = match self.found(source).await {
            Ok(looked) => looked,
            Err(error) => CheckOutcome::Failed(error.to_string()),
        };
        let applies = source.applies && matches!(looked, CheckOutcome::Found(_, Some(_)));
        let (host, stack, now) = (source.host.clone(), source.stack.clone(), self.clock.now());
        let written = self.db.run(move |store| store.set_looked(&host, &stack, &looked, now)).await;
        if let Err(error) = written {
            tracing::error!("the newest commit of a repository could not be saved: {error}");
        } else if applies || (source.applies && source.waits && source.failed.is_some()) {
            // Also a commit that could not be submitted before. One that was tried and rolled back waits for a person or for the next
            // commit: repeating it would take the stack down each time.
            return self.apply(source).await;
        }
        false
    }

    async fn found(&self, source: &SourceRecord) -> Result<CheckOutcome, GitError> {
        let newest = self.git.newest(&source.settings).await?;
        if source.found.as_ref().is_some_and(|found| found.id == newest) {
            return Ok(CheckOutcome::Same);
        }
        let (commit, request) = self.git.fetch(&source.stack, &source.settings).await?;
        let (host, stack) = (source.host.clone(), source.stack.clone());
        let newest = self.db.run(move |store| store.stack_revision(&host, &stack, None)).await;
        // Should the records fail, the worst is that somebody is asked for what is there already.
        let is_known = newest.ok().flatten().is_some_and(|newest| newest.is_same_text(&request));
        Ok(CheckOutcome::Found(commit, (!is_known).then(|| Box::new(request))))
    }

    /// Applies the commit that waits. Its outcome is the operation's; what prevents the operation is the source's. Tells whether another
    /// operation on the stack did.
    async fn apply(&self, source: &SourceRecord) -> bool {
        let (is_busy, failed) = match self.submit(source).await {
            Ok(true) | Err(OperationError::NotFound { .. }) => return false,
            Ok(false) => {
                (true, "another operation is changing the stack; the commit is applied after it".to_owned())
            }
            Err(error) => (false, error.to_string()),
        };
        let (host, stack, now) = (source.host.clone(), source.stack.clone(), self.clock.now());
        let looked = CheckOutcome::Failed(failed);
        if let Err(error) = self.db.run(move |store| store.set_looked(&host, &stack, &looked, now)).await {
            tracing::error!("a failed deployment of a commit could not be saved: {error}");
        }
        is_busy
    }

    /// Submits the commit that waits; `false`, and nothing is submitted, while another operation is changing the stack.
    async fn submit(&self, source: &SourceRecord) -> Result<bool, OperationError> {
        let request = ApplyRequest { stack: source.stack.clone(), waiting: true, ..ApplyRequest::default() };
        let (request, targets) = (Request::Apply(request), vec![source.host.clone()]);
        let author = self.author(source).await?;
        let (plans, _) = self.runner.preview(&request, &targets, &author).await?;
        if plans.iter().any(|plan| plan.busy) {
            return Ok(false);
        }
        self.runner.submit(request, targets, author, None, None, Duration::ZERO).await?;
        Ok(true)
    }

    /// As whom a source applies: with what the member may who set it. One of before that was kept does as it did.
    async fn author(&self, source: &SourceRecord) -> Result<Author, OperationError> {
        let access = if source.member.is_empty() {
            Access::everything()
        } else {
            match lent(&self.db, &source.member, [Right::See, Right::Stacks].into_iter().collect()).await? {
                AutomationRights::Rights(access) => access,
                AutomationRights::Nobody => {
                    let text = format!(
                        "{}, whose rights it uses, is no longer a member; set the repository again",
                        source.member
                    );
                    return Err(OperationError::NotAllowed(text));
                }
            }
        };
        Ok(Author::service(AUTHOR, access, with_rights_of(&source.member)))
    }

    async fn record(&self, host: &str, stack: &str) -> Result<SourceRecord, SourceError> {
        let (host, name) = (host.to_owned(), stack.to_owned());
        let found = self.db.run(move |store| store.source(&host, &name)).await?;
        found.ok_or_else(|| SourceError::NotSet(gubernum_core::text::shown(stack, 60)))
    }

    /// The source of a stack.
    pub(crate) async fn show(&self, host: &str, stack: &str) -> Result<StackSource, SourceError> {
        Ok(view(self.record(host, stack).await?, None))
    }

    /// Sets a stack's source and has it looked at. What it applies by itself it applies with the rights of this member.
    pub(crate) async fn set(
        &self,
        host: &str,
        stack: &str,
        wish: SetSource,
        member: &str,
    ) -> Result<StackSource, SourceError> {
        let before = match self.record(host, stack).await {
            Ok(before) => Some(before),
            Err(SourceError::NotSet(_)) => None,
            Err(error) => return Err(error),
        };
        if before.is_none() && self.db.run(|store| store.sources()).await?.len() >= MOST_SOURCES {
            return Err(SourceError::TooMany);
        }
        let settings = settings(wish.clone(), before.as_ref())?;
        let random = |_| SourceError::NoRandomness;
        let (hook, secret) = match &before {
            Some(before) => (before.hook.clone(), None),
            None => (fresh_secret("").map_err(random)?, Some(fresh_secret("").map_err(random)?)),
        };
        let hook_secret =
            before.map_or_else(|| secret.clone().unwrap_or_default(), |b| b.settings.hook_secret);
        let record = SourceRecord {
            host: host.to_owned(),
            stack: stack.to_owned(),
            hook,
            settings: SourceSettings { hook_secret, ..settings },
            poll_seconds: wish.poll_seconds,
            applies: wish.applies,
            found: None,
            waits: false,
            checked: None,
            failed: None,
            member: member.to_owned(),
        };
        let kept = record.clone();
        self.db.run(move |store| store.set_source(&kept)).await?;
        self.want(host, stack);
        Ok(view(record, secret))
    }

    /// Gives a stack's hook another secret.
    pub(crate) async fn fresh_hook_secret(
        &self,
        host: &str,
        stack: &str,
    ) -> Result<StackSource, SourceError> {
        let mut record = self.record(host, stack).await?;
        let secret = fresh_secret("").map_err(|_| SourceError::NoRandomness)?;
        record.settings.hook_secret.clone_from(&secret);
        let kept = record.clone();
        self.db.run(move |store| store.set_source(&kept)).await?;
        // What was found before is found again.
        self.want(host, stack);
        Ok(view(record, Some(secret)))
    }

    /// Removes a stack's source. The stack stays as it is.
    pub(crate) async fn remove(&self, host: &str, stack: &str) -> Result<(), SourceError> {
        let (at, name) = (host.to_owned(), stack.to_owned());
        if self.db.run(move |store| store.remove_source(&at, &name)).await? {
            return Ok(());
        }
        Err(SourceError::NotSet(gubernum_core::text::shown(stack, 60)))
    }

    /// Somebody says that something was pushed.
    pub(crate) async fn pushed(
        &self,
        hook: &str,
        body: &[u8],
        signature: Option<&str>,
    ) -> Result<(), SourceError> {
        let named = hook.to_owned();
        let source = self.db.run(move |store| store.source_of_hook(&named)).await?;
        let signature = signature.and_then(|s| s.strip_prefix("sha256=")).and_then(from_hex);
        // Compared in any case, so that nobody learns from the time which hooks there are.
        let secret = source.as_ref().map_or("-", |s| s.settings.hook_secret.as_str());
        let is_signed = Seal::is_signed(secret, body, &signature.unwrap_or_default());
        let Some(source) = source.filter(|_| is_signed) else { return Err(SourceError::Forged) };
        self.want(&source.host, &source.stack);
        Ok(())
    }
}

fn from_hex(text: &str) -> Option<Vec<u8>> {
    if text.len() != 64 || !text.is_ascii() {
        return None;
    }
    (0..text.len()).step_by(2).map(|n| u8::from_str_radix(text.get(n..n + 2)?, 16).ok()).collect()
}

fn view(record: SourceRecord, hook_secret: Option<String>) -> StackSource {
    let commit = |c: FoundCommit| Commit { id: c.id, subject: c.subject, author: c.author, time: c.time };
    StackSource {
        place: record.settings.place,
        has_token: record.settings.token.is_some(),
        has_ssh_key: record.settings.ssh_key.is_some(),
        poll_seconds: record.poll_seconds,
        applies: record.applies,
        hook: format!("/api/v1/hooks/{}", record.hook),
        hook_secret,
        commit: record.found.map(commit),
        waiting: record.waits,
        checked: record.checked,
        failed: record.failed,
    }
}

/// The settings of a wish, with the secrets that were set before for the same address.
fn settings(wish: SetSource, before: Option<&SourceRecord>) -> Result<SourceSettings, PlaceError> {
    let place = GitPlace { url: wish.url, reference: wish.reference, paths: wish.paths };
    let transport = place.check()?;
    let wrong =
        |field: &'static str, sentence: &str| Err(PlaceError { field, sentence: sentence.to_owned() });
    let is_poll =
        wish.poll_seconds == 0 || (LEAST_POLL_SECONDS..=MOST_POLL_SECONDS).contains(&wish.poll_seconds);
    if !is_poll {
        let sentence = format!(
            "poll every {LEAST_POLL_SECONDS} to {MOST_POLL_SECONDS} seconds, or 0 to check only when the webhook is called"
        );
        return Err(PlaceError { field: "poll_seconds", sentence });
    }
    for (field, text) in
        [("token", &wish.token), ("ssh_key", &wish.ssh_key), ("known_hosts", &wish.known_hosts)]
    {
        if text.as_ref().is_some_and(|t| t.len() > LONGEST_SECRET || t.contains('\0')) {
            return wrong(field, "it is longer than 64 KiB or not text");
        }
    }
    let kept = before.map(|b| &b.settings).filter(|b| b.place.url == place.url);
    let or_kept = |new: Option<String>, old: fn(&SourceSettings) -> &Option<String>| {
        new.filter(|t| !t.is_empty()).or_else(|| kept.and_then(|k| old(k).clone()))
    };
    let settings = SourceSettings {
        account: wish.account.filter(|a| !a.is_empty()),
        token: or_kept(wish.token, |s| &s.token),
        ssh_key: or_kept(wish.ssh_key, |s| &s.ssh_key),
        known_hosts: or_kept(wish.known_hosts, |s| &s.known_hosts),
        hook_secret: String::new(),
        variables: wish.variables,
        profiles: wish.profiles,
        place,
    };
    match transport {
        Transport::Http { is_safe: false }
            if settings.token.is_some() && !is_loopback(&settings.place.url) =>
        {
            wrong("token", "a token cannot be sent over unencrypted 'http'; use 'https'")
        }
        Transport::Ssh if settings.ssh_key.is_none() => {
            wrong("ssh_key", "a repository over 'ssh' needs a private key with read access")
        }
        Transport::Ssh if settings.known_hosts.is_none() => {
            wrong("known_hosts", "the server's host keys are needed, as printed by 'ssh-keyscan'")
        }
        _ => Ok(settings),
    }
}

fn is_loopback(url: &str) -> bool {
    let rest = url.split_once("://").map_or("", |(_, rest)| rest);
    let authority = rest.split('/').next().unwrap_or_default();
    authority.starts_with("127.")
        || authority.starts_with("[::1]")
        || authority.split(':').next() == Some("localhost")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn wish(url: &str) -> SetSource {
        SetSource {
            url: url.into(),
            reference: "main".into(),
            paths: vec!["stack.yaml".into()],
            poll_seconds: 60,
            ..SetSource::default()
        }
    }

    #[rstest]
    #[case("http://git.tarnvalley.example/a.git", Some("t"), "token")]
    #[case("http://127.0.0.1:8080/a.git", Some("t"), "")]
    #[case("https://git.tarnvalley.example/a.git", Some("t"), "")]
    #[case("ssh://git@git.tarnvalley.example/a.git", None, "ssh_key")]
    fn secrets_go_only_where_nobody_reads_along(
        #[case] url: &str,
        #[case] token: Option<&str>,
        #[case] field: &str,
    ) {
        let wish = SetSource { token: token.map(str::to_owned), ..wish(url) };
        let wrong = settings(wish, None).err().map_or("", |e| e.field);
        assert_eq!(wrong, field);
    }

    #[test]
    fn a_secret_stays_for_the_same_address_only() {
        let first = settings(
            SetSource { token: Some("russet".into()), ..wish("https://git.tarnvalley.example/a.git") },
            None,
        );
        let before = SourceRecord {
            host: "packhouse".into(),
            stack: "frost".into(),
            hook: "h".into(),
            settings: first.unwrap(),
            poll_seconds: 60,
            applies: false,
            found: None,
            waits: false,
            checked: None,
            failed: None,
            member: "mara".into(),
        };
        let same = settings(wish("https://git.tarnvalley.example/a.git"), Some(&before)).unwrap();
        assert_eq!(same.token.as_deref(), Some("russet"));
        let other = settings(wish("https://elsewhere.example/a.git"), Some(&before)).unwrap();
        assert_eq!(other.token, None, "another address does not get it");
        assert!(
            settings(SetSource { poll_seconds: 3, ..wish("https://git.tarnvalley.example/a.git") }, None)
                .is_err()
        );
    }

    #[test]
    fn signatures_are_read_from_hex() {
        assert_eq!(from_hex(&"0f".repeat(32)), Some(vec![15; 32]));
        assert_eq!(from_hex("0f"), None);
        assert_eq!(from_hex(&"zz".repeat(32)), None);
        assert_eq!(from_hex(&"ä".repeat(32)), None);
    }
}
