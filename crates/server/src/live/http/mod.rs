//! The live connection of a tab: one WebSocket that carries all its subscriptions.
//!
//! One task reads, selects and writes, so that messages of one connection never overtake each other.
//! A reader that does not take its messages is not waited for by anybody: the fleet's changes pile up
//! to a limit and then it gets a snapshot; log lines wait for its credit in the engine; and when a
//! single message cannot be sent within half a minute, the connection ends.

mod feeds;

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::extract::ws::{Message, WebSocket, WebSocketUpgrade};
use axum::response::Response;
use gubernum_api::jobs::JobRow;
use gubernum_api::live::MOST_SUBSCRIPTIONS;
use gubernum_api::logs::LogRequest;
use gubernum_api::stacks::DriftRow;
use gubernum_api::usage::{CurrentUsage, UsageSubscription};
use gubernum_api::{FromClient, FromServer, Operation, Problem};
use gubernum_core::fleet::ReaderState;
use tokio::sync::{broadcast, mpsc};
use tokio::time::{Instant, timeout};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::access::BudgetKind;
use crate::access::{Identity, RightsChanged, rights_changed_for};
use crate::fleet::{Published, Seen, View};
use crate::live::LiveContext;
use crate::live::LiveError;
use crate::live::logs::LogSubscription;
use crate::live::team::{self, TeamSubscription};
use crate::live::usage::UseSubscription;
use crate::team::Presence;
use crate::web::ApiError;
use crate::web::Contexts;
use crate::web::authenticate::PROTOCOL;
use crate::web::extract;

/// The largest message of a client, in bytes.
const MESSAGE_LIMIT: usize = 64 * 1024;
/// What a connection reads at once, in bytes: clients say little, and every connection holds so much.
const READ_BUFFER: usize = 4096;
/// Samples of use in one message: a message's size stays with its connection.
const SAMPLES_IN_A_MESSAGE: usize = 100;
/// How long sending one message may take.
const SEND_TIMEOUT: Duration = Duration::from_secs(30);
/// How often the other side must be heard of; and how often the session is looked at again.
const PING_EVERY: Duration = Duration::from_secs(20);
const SILENCE: Duration = Duration::from_secs(70);
/// Messages of log subscriptions that wait to be sent.
const LOG_MESSAGES: usize = 8;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new().routes(routes!(connect))
}

impl From<LiveError> for ApiError {
    fn from(error: LiveError) -> Self {
        let sentence = error.to_string();
        match error {
            LiveError::Invalid { field, .. } => Self::invalid(field, sentence),
            LiveError::Reference { field, source } => Self::from(source).at(field),
            LiveError::OverBudget(error) => error.into(),
            LiveError::Log(error) => error.into(),
        }
    }
}

/// Subscribes to the fleet, to operations and to logs over a WebSocket. The messages are the schemas
/// `FromClient` and `FromServer`, as JSON text.
#[utoipa::path(get, path = "/api/v1/live", tag = "live", responses(
    (status = 101, description = "Switching to the live protocol"),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn connect(
    State(context): State<Arc<LiveContext>>,
    who: Identity,
    upgrade: WebSocketUpgrade,
) -> Result<Response, ApiError> {
    let share = context.budgets.take(who.member_id, BudgetKind::Connection, 1)?;
    let upgrade = upgrade
        .protocols([PROTOCOL])
        .max_message_size(MESSAGE_LIMIT)
        .max_frame_size(MESSAGE_LIMIT)
        .read_buffer_size(READ_BUFFER)
        .write_buffer_size(0);
    Ok(upgrade.on_upgrade(move |socket| async move {
        let (end, lease) = (context.end.clone(), who.lease.clone());
        let connection = Connection::new(context, who, socket);
        end.run_until_cancelled(lease.while_good(connection.run())).await;
        drop(share);
    }))
}

struct Connection {
    context: Arc<LiveContext>,
    who: Identity,
    socket: WebSocket,
    /// What the member sees. It holds for as long as the connection: when rights change, the connection ends, and the
    /// next begins with those that hold then.
    view: View,
    rights: broadcast::Receiver<RightsChanged>,
    fleet: Option<(u32, broadcast::Receiver<Arc<Published>>, u64)>,
    /// What was told of the fleet to a member who does not see all of it.
    told: ReaderState,
    operations: Option<(u32, broadcast::Receiver<Arc<Operation>>)>,
    drift: Option<(u32, broadcast::Receiver<Arc<DriftRow>>)>,
    jobs: Option<(u32, broadcast::Receiver<Arc<JobRow>>)>,
    logs: HashMap<u32, LogSubscription>,
    log_sender: mpsc::Sender<FromServer>,
    log_receiver: mpsc::Receiver<FromServer>,
    used: HashMap<u32, UseSubscription>,
    samples: Option<broadcast::Receiver<Arc<Vec<CurrentUsage>>>>,
    team: Option<TeamSubscription>,
    /// Others see the member for as long as they subscribe to the team.
    presence: Option<Presence>,
}

/// Why a connection ends.
struct Over;

impl Connection {
    fn new(context: Arc<LiveContext>, who: Identity, socket: WebSocket) -> Self {
        let (log_sender, log_receiver) = mpsc::channel(LOG_MESSAGES);
        let view = View::new(context.hub.clone(), who.access.clone());
        let rights = context.access.rights.subscribe();
        Self {
            view,
            rights,
            told: ReaderState::default(),
            context,
            who,
            socket,
            fleet: None,
            operations: None,
            drift: None,
            jobs: None,
            logs: HashMap::new(),
            log_sender,
            log_receiver,
            used: HashMap::new(),
            samples: None,
            team: None,
            presence: None,
        }
    }

    async fn run(mut self) {
        let mut ping = tokio::time::interval(PING_EVERY);
        let mut heard = Instant::now();
        loop {
            let step = tokio::select! {
                message = self.socket.recv() => {
                    heard = Instant::now();
                    match message {
                        Some(Ok(Message::Text(text))) => self.take(text.as_str()).await,
                        Some(Ok(Message::Close(_)) | Err(_)) | None => Err(Over),
                        Some(Ok(_)) => Ok(()),
                    }
                }
                () = rights_changed_for(self.who.member_id, &mut self.rights) => Err(Over),
                published = next(&mut self.fleet) => self.tell_fleet(published).await,
                operation = next_row(&mut self.operations) => self.tell_operation(operation).await,
                row = next_row(&mut self.drift) => self.tell_drift(row).await,
                row = next_row(&mut self.jobs) => self.tell_job(row).await,
                samples = next_samples(&mut self.samples) => self.tell_use(samples).await,
                () = team::next(&mut self.team) => self.tell_team().await,
                Some(message) = self.log_receiver.recv() => self.tell_log(message).await,
                _ = ping.tick() => if heard.elapsed() > SILENCE || !self.still_valid().await {
                    Err(Over)
                } else {
                    self.write(Message::Ping(Default::default())).await
                },
            };
            if step.is_err() {
                return;
            }
        }
    }

    /// Whether the session or token is still good: a revoked one ends its connections too.
    async fn still_valid(&mut self) -> bool {
        let (hash, now) = (self.who.hash.clone(), self.context.clock.now());
        matches!(self.context.db.run(move |store| store.present(&hash, now)).await, Ok(Some(_)))
    }

    async fn write(&mut self, message: Message) -> Result<(), Over> {
        match timeout(SEND_TIMEOUT, self.socket.send(message)).await {
            Ok(Ok(())) => Ok(()),
            _ => Err(Over),
        }
    }

    async fn send(&mut self, message: &FromServer) -> Result<(), Over> {
        let json = serde_json::to_string(message).map_err(|_| Over)?;
        self.write(Message::Text(json.into())).await
    }

    async fn refuse(&mut self, id: Option<u32>, error: ApiError) -> Result<(), Over> {
        self.context.tally.count(error.problem.word());
        self.send(&FromServer::Refused { id, problem: *error.problem }).await
    }

    async fn take(&mut self, text: &str) -> Result<(), Over> {
        let message = match extract::parse::<FromClient>(text.as_bytes()) {
            Ok(message) => message,
            Err(error) => return self.refuse(None, error).await,
        };
        match message {
            FromClient::Fleet { id, since } => self.begin_fleet(id, since).await,
            FromClient::Operations { id } => {
                self.operations = Some((id, self.context.runner.subscribe()));
                self.drift = Some((id, self.context.drift.subscribe()));
                self.send_drift(id).await?;
                self.jobs = Some((id, self.context.scheduler.subscribe()));
                self.send_jobs(id).await?;
                for operation in self.context.runner.running() {
                    self.send_operation(id, operation).await?;
                }
                Ok(())
            }
            FromClient::Team { id } => self.begin_team(id).await,
            FromClient::Looking { at } => {
                if let Some(presence) = &self.presence {
                    presence.looks_at(at);
                }
                Ok(())
            }
            FromClient::Logs { id, wish } => self.begin_logs(id, &wish).await,
            FromClient::Use { id, wish } => self.begin_use(id, &wish).await,
            FromClient::Taken { id, bytes } => {
                if let Some(log) = self.logs.get(&id) {
                    log.taken(bytes);
                }
                Ok(())
            }
            FromClient::Stop { id } => {
                self.logs.remove(&id);
                self.fleet.take_if(|f| f.0 == id);
                self.operations.take_if(|o| o.0 == id);
                self.drift.take_if(|d| d.0 == id);
                self.jobs.take_if(|j| j.0 == id);
                self.used.remove(&id);
                if self.team.take_if(|t| t.id == id).is_some() {
                    self.presence = None;
                }
                Ok(())
            }
        }
    }

    async fn begin_logs(&mut self, id: u32, wish: &LogRequest) -> Result<(), Over> {
        self.logs.remove(&id);
        if self.logs.len() >= MOST_SUBSCRIPTIONS {
            let text = format!("at most {MOST_SUBSCRIPTIONS} logs per connection; stop one of them");
            return self.refuse(Some(id), ApiError::new("too-many-logs", "Too many logs", 429, text)).await;
        }
        match LogSubscription::begin(
            &self.context,
            (self.who.member_id, &self.view),
            id,
            wish,
            self.log_sender.clone(),
        )
        .await
        {
            Ok(subscription) => {
                self.logs.insert(id, subscription);
                Ok(())
            }
            Err(error) => self.refuse(Some(id), error.into()).await,
        }
    }

    async fn begin_use(&mut self, id: u32, wish: &UsageSubscription) -> Result<(), Over> {
        self.used.remove(&id);
        if self.used.len() >= MOST_SUBSCRIPTIONS {
            let text = format!("at most {MOST_SUBSCRIPTIONS} selections per connection; stop one of them");
            return self
                .refuse(Some(id), ApiError::new("too-many", "Too many subscriptions", 429, text))
                .await;
        }
        let subscription = match UseSubscription::begin(&self.context, &self.view, wish) {
            Ok(subscription) => subscription,
            Err(error) => return self.refuse(Some(id), error.into()).await,
        };
        if self.samples.is_none() {
            self.samples = Some(self.context.uses.subscribe());
        }
        let seen = Seen::of(&self.view);
        let samples = self.context.uses.now(|u| subscription.wants(u) && seen.has(&u.host, &u.name));
        self.used.insert(id, subscription);
        if samples.is_empty() {
            return self.send(&FromServer::Used { id, samples }).await;
        }
        for part in samples.chunks(SAMPLES_IN_A_MESSAGE) {
            self.send(&FromServer::Used { id, samples: part.to_vec() }).await?;
        }
        Ok(())
    }

    async fn tell_use(
        &mut self,
        samples: Result<Arc<Vec<CurrentUsage>>, broadcast::error::RecvError>,
    ) -> Result<(), Over> {
        match samples {
            Ok(samples) => {
                let seen = Seen::of(&self.view);
                let mut told = Vec::new();
                for (id, subscription) in &self.used {
                    let wanted: Vec<CurrentUsage> = samples
                        .iter()
                        .filter(|s| subscription.wants(s) && seen.has(&s.host, &s.name))
                        .cloned()
                        .collect();
                    if !wanted.is_empty() {
                        told.push(FromServer::Used { id: *id, samples: wanted });
                    }
                }
                for message in told {
                    self.send(&message).await?;
                }
                Ok(())
            }
            // The next ones make up for what was missed.
            Err(broadcast::error::RecvError::Lagged(_)) => Ok(()),
            Err(broadcast::error::RecvError::Closed) => Err(Over),
        }
    }

    async fn tell_log(&mut self, message: FromServer) -> Result<(), Over> {
        let (FromServer::Lines { id, .. }
        | FromServer::LogNote { id, .. }
        | FromServer::Searched { id, .. }
        | FromServer::Ended { id, .. }) = &message
        else {
            return Ok(());
        };
        let id = *id;
        // Lines of a subscription that was stopped meanwhile are nobody's.
        if !self.logs.contains_key(&id) {
            return Ok(());
        }
        if matches!(message, FromServer::Ended { .. }) {
            self.logs.remove(&id);
        }
        self.send(&message).await
    }
}

async fn next(
    fleet: &mut Option<(u32, broadcast::Receiver<Arc<Published>>, u64)>,
) -> Result<Arc<Published>, broadcast::error::RecvError> {
    match fleet {
        Some((_, receiver, _)) => receiver.recv().await,
        None => std::future::pending().await,
    }
}

async fn next_row<T: Clone>(
    rows: &mut Option<(u32, broadcast::Receiver<Arc<T>>)>,
) -> Result<Arc<T>, broadcast::error::RecvError> {
    match rows {
        Some((_, receiver)) => receiver.recv().await,
        None => std::future::pending().await,
    }
}

async fn next_samples(
    samples: &mut Option<broadcast::Receiver<Arc<Vec<CurrentUsage>>>>,
) -> Result<Arc<Vec<CurrentUsage>>, broadcast::error::RecvError> {
    match samples {
        Some(receiver) => receiver.recv().await,
        None => std::future::pending().await,
    }
}
