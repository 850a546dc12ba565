//! Assembles the service: the handles and contexts of all capabilities, in order of their dependencies. It is the one
//! place that knows all of them. The service's life, from its listener to its end, is in `service`.

use std::path::Path;
use std::sync::Arc;

use gubernum_store::Store;
use gubernum_store::history::HistoryStore;
use gubernum_store::segments::Segments;
use tokio::sync::Semaphore;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::access::{AccessContext, Budgets, Guards, Tally, claim_code, fresh_secret};
use crate::clock::Clock;
use crate::exec::{ExecContext, MOST_ONE_OFFS, Terminals};
use crate::files::{FilesContext, Uploads};
use crate::fleet::{FleetContext, Hub, LinkParts, Links};
use crate::images::{DigestChecks, ImagesContext, Registries};
use crate::jobs::{JobsContext, Scheduler};
use crate::live::LiveContext;
use crate::logs::{Followers, KEPT_READS, LogsContext, Rules};
use crate::metrics::{MetricsContext, Sources};
use crate::operations::{Claims, OperationQueue, OperationsContext, Runner, RunnerParts};
use crate::service::{ServiceError, ServiceSettings};
use crate::sources::{Follower, Git, SourcesContext};
use crate::stacks::{DriftWatch, StacksContext};
use crate::storage::Db;
use crate::team::{Freezes, Team, TeamContext};
use crate::timeline::{AuditLog, Integrity, Recorder, Syslog, TimelineContext, TimelineWriter};
use crate::usage::{History, UsageContext, Uses};
use crate::web::{Contexts, Names, WebContext};

/// Everything made, nothing begun.
pub(crate) struct Assembly {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) contexts: Contexts,
    pub(crate) history: Arc<History>,
    pub(crate) timeline: TimelineWriter,
    /// The code that makes the first member, while nobody has.
    pub(crate) claim_code: Option<String>,
}

/// How the parts of a service run.
#[derive(Clone)]
pub(crate) struct Running {
    pub(crate) tasks: TaskTracker,
    pub(crate) end: CancellationToken,
    /// Cancelled once the service listens: hosts are connected to from then on, so that they do not delay it.
    pub(crate) listening: CancellationToken,
    /// The runtime on which streams run.
    pub(crate) streams: tokio::runtime::Handle,
}

impl Assembly {
    /// Makes the handles and contexts.
    ///
    /// # Errors
    /// When the records cannot be read or the machine provides no random numbers.
    pub(crate) async fn new(settings: &ServiceSettings, running: &Running) -> Result<Self, ServiceError> {
        let Running { tasks, end, streams, listening } = running.clone();
        let (db, clock) = (Db::new(settings.store.clone()), settings.clock.clone());
        let audit = AuditLog::new(db.clone(), clock.clone());
        let unclaimed = !db.run(Store::has_members).await?;
        let first_code = if unclaimed { Some(claim_code()?) } else { None };
        let secure = settings.tls.is_some()
            || settings.public_url.as_deref().is_some_and(|url| url.starts_with("https:"));

        let epoch = fresh_secret("")?.chars().take(12).collect();
        let hub = Arc::new(Hub::new(epoch, settings.own_container.clone()));
        let history =
            Arc::new(History::new(Arc::new(open_history(&settings.data_dir)?), settings.keep_history));
        let uses = Arc::new(Uses::new(history.clone(), settings.keep_history.sample_seconds));
        let claims = Arc::new(Claims::default());
        let (recorder, timeline) =
            Recorder::with_writer(db.clone(), clock.clone(), settings.timeline_days, claims.clone());
        let links = Arc::new(Links::new(LinkParts {
            hub: hub.clone(),
            clock: clock.clone(),
            db: db.clone(),
            recorder,
            uses: uses.clone(),
            listening,
            end: end.clone(),
            tasks: tasks.clone(),
        }));
        let allow_link_local = settings.allow_link_local;
        let queue = Arc::new(OperationQueue::default());
        let freezes = Arc::new(Freezes::default());
        freezes.set(
            db.run({
                let now = clock.now();
                move |store| store.freezes(now)
            })
            .await?,
        );
        let guards = Guards::new(db.clone(), clock.clone());
        let registries = Registries::new(db.clone(), settings.registry_places.clone(), allow_link_local);
        let followers = Arc::new(Followers::default());
        let runner = Runner::new(RunnerParts {
            hub: hub.clone(),
            links: links.clone(),
            db: db.clone(),
            clock: clock.clone(),
            tasks: tasks.clone(),
            registries: registries.clone(),
            followers: followers.clone(),
            claims,
            freezes: freezes.clone(),
            guards: guards.clone(),
            queue: queue.clone(),
            in_container: settings.own_container.is_some(),
        });
        let drift = Arc::new(DriftWatch::new(db.clone(), clock.clone(), hub.clone(), runner.clone()));
        let scheduler = Arc::new(Scheduler::new(db.clone(), clock.clone(), runner.clone(), hub.clone()));
        let git = Git::new(&settings.data_dir);
        let sources = Arc::new(Follower::new(db.clone(), clock.clone(), runner.clone(), git));
        let source_audit = audit.clone();
        let budgets = Arc::new(Budgets::default());
        let backing = Arc::new(DigestChecks::default());
        let integrity = Arc::new(Integrity::new(db.clone()));
        let logs = Arc::new(LogsContext {
            db: db.clone(),
            clock: clock.clone(),
            hub: hub.clone(),
            links: links.clone(),
            segments: Segments::new(&settings.data_dir.join("logs")),
            rules: Rules::default(),
            kept_reads: Arc::new(Semaphore::new(KEPT_READS)),
            followers,
            budgets: budgets.clone(),
            streams,
            end: end.clone(),
        });
        let team = Team::new(db.clone(), clock.clone(), freezes.clone(), queue.clone());
        let tally = Arc::new(Tally::default());
        team.read().await?;
        let access = AccessContext::new(db.clone(), clock.clone(), first_code.clone(), secure);
        access.directories.set(db.run(Store::directories).await?);
        let contexts = Contexts {
            access: access.clone(),
            exec: Arc::new(ExecContext {
                db: db.clone(),
                clock: clock.clone(),
                audit: audit.clone(),
                hub: hub.clone(),
                links: links.clone(),
                runner: runner.clone(),
                guards: guards.clone(),
                registries: registries.clone(),
                terminals: Terminals::default(),
                one_offs: Arc::new(Semaphore::new(MOST_ONE_OFFS)),
                tasks: tasks.clone(),
                end: end.clone(),
            }),
            files: Arc::new(FilesContext {
                db: db.clone(),
                clock: clock.clone(),
                audit: audit.clone(),
                hub: hub.clone(),
                links: links.clone(),
                uploads: Uploads::default(),
                tasks: tasks.clone(),
                end: end.clone(),
            }),
            fleet: Arc::new(FleetContext {
                db: db.clone(),
                clock: clock.clone(),
                audit: audit.clone(),
                hub: hub.clone(),
                links: links.clone(),
                integrity: integrity.clone(),
                drift: drift.clone(),
                scheduler: scheduler.clone(),
                team: team.clone(),
                allow_link_local,
            }),
            images: Arc::new(ImagesContext {
                db: db.clone(),
                clock: clock.clone(),
                audit: audit.clone(),
                hub: hub.clone(),
                links: links.clone(),
                registries,
                backing: backing.clone(),
                allow_link_local,
                tasks,
                end: end.clone(),
            }),
            live: Arc::new(LiveContext {
                db: db.clone(),
                access,
                clock: clock.clone(),
                hub: hub.clone(),
                runner: runner.clone(),
                drift: drift.clone(),
                scheduler: scheduler.clone(),
                uses: uses.clone(),
                team: team.clone(),
                tally: tally.clone(),
                logs: logs.clone(),
                budgets: budgets.clone(),
                end: end.clone(),
            }),
            logs,
            metrics: Arc::new(MetricsContext {
                sources: Sources {
                    hub: hub.clone(),
                    runner: runner.clone(),
                    uses: uses.clone(),
                    scheduler: scheduler.clone(),
                    tally: tally.clone(),
                    budgets: budgets.clone(),
                    queue: queue.clone(),
                },
                clock: clock.clone(),
                metrics_from: settings.metrics_from.clone(),
            }),
            operations: Arc::new(OperationsContext {
                db: db.clone(),
                clock: clock.clone(),
                audit: audit.clone(),
                links: links.clone(),
                runner: runner.clone(),
                guards: guards.clone(),
                backing,
            }),
            jobs: Arc::new(JobsContext { db: db.clone(), scheduler: scheduler.clone() }),
            stacks: Arc::new(StacksContext {
                db: db.clone(),
                audit,
                links,
                runner,
                drift,
                scheduler: scheduler.clone(),
            }),
            sources: Arc::new(SourcesContext { follower: sources, audit: source_audit }),
            team: Arc::new(TeamContext { db: db.clone(), clock: clock.clone(), freezes, team }),
            timeline: Arc::new(TimelineContext {
                db: db.clone(),
                clock: clock.clone(),
                syslog: Arc::new(Syslog::new(db.clone(), clock.clone())),
            }),
            usage: Arc::new(UsageContext { clock: clock.clone(), uses }),
            web: Arc::new(WebContext {
                db: db.clone(),
                integrity,
                tally,
                trusted_proxies: settings.trusted_proxies.clone(),
                names: Names::new(&settings.host_names, settings.public_url.as_deref()),
                public_url: settings.public_url.clone(),
                secure,
                strict_transport: settings.tls.as_ref().is_some_and(|tls| tls.given),
                end: end.clone(),
            }),
        };
        Ok(Self { db, clock, contexts, history, timeline, claim_code: first_code })
    }
}

/// Resource history; one that is damaged is put aside.
fn open_history(data_dir: &Path) -> Result<HistoryStore, ServiceError> {
    let (store, aside) = HistoryStore::open(&data_dir.join("history.db"))?;
    if let Some(aside) = aside {
        tracing::error!(
            "usage history was damaged; it was moved to {} and a new one was started",
            aside.display()
        );
    }
    Ok(store)
}
