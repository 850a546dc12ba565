//! What a live connection reports about the fleet, operations, drift, jobs and the team: whole when it is subscribed to or too much was
//! missed, then each change. Logs and samples of use are in [`super`].

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use axum::extract::ws::Message;
use gubernum_api::jobs::JobRow;
use gubernum_api::stacks::DriftRow;
use gubernum_api::{FromServer, Operation};
use gubernum_core::operation_filter::OperationFilter;
use tokio::sync::broadcast;

use crate::fleet::{FreshFleet, InitialState, Published};
use crate::live::team::TeamSubscription;

use super::{Connection, Over};

/// A number that no other reader has: what one was told is nothing that another can continue from.
fn reader_number() -> u64 {
    static NEXT: AtomicU64 = AtomicU64::new(1);
    NEXT.fetch_add(1, Ordering::Relaxed)
}

impl Connection {
    pub(super) async fn begin_fleet(&mut self, id: u32, since: Option<(String, u64)>) -> Result<(), Over> {
        // Subscribe before reading the state: a change in between is sent twice rather than missed, and
        // dropped by its revision.
        let receiver = self.context.hub.subscribe();
        if !self.view.is_whole() {
            let (fleet, told) = self.context.hub.begin_seen_by(&self.who.access, reader_number());
            self.told = told;
            self.send_fleet(id, fleet).await?;
            self.fleet = Some((id, receiver, 0));
            return Ok(());
        }
        let (beginning, revision) = self.context.hub.begin(since.as_ref());
        match beginning {
            InitialState::Fresh(fleet) => self.send_fleet(id, fleet).await?,
            InitialState::Resumed(deltas) => {
                for delta in deltas {
                    self.send(&FromServer::Delta { id, delta: (*delta).clone() }).await?;
                }
            }
        }
        self.fleet = Some((id, receiver, revision));
        Ok(())
    }

    async fn send_fleet(&mut self, id: u32, fleet: FreshFleet) -> Result<(), Over> {
        for (part, (json, more)) in fleet.parts().enumerate() {
            let text =
                format!(r#"{{"type":"snapshot","id":{id},"part":{part},"more":{more},"fleet":{json}}}"#);
            self.write(Message::Text(text.into())).await?;
        }
        Ok(())
    }

    pub(super) async fn tell_fleet(
        &mut self,
        published: Result<Arc<Published>, broadcast::error::RecvError>,
    ) -> Result<(), Over> {
        let Some((id, _, revision)) = &mut self.fleet else { return Ok(()) };
        let id = *id;
        match published {
            Ok(published) if !self.view.is_whole() => {
                let told = &mut self.told;
                let seen = self.view.judge(|fleet, access| told.next(&published.delta, fleet, access));
                match seen {
                    Some(delta) => self.send(&FromServer::Delta { id, delta }).await,
                    None => Ok(()),
                }
            }
            Ok(published) if published.delta.revision > *revision => {
                *revision = published.delta.revision;
                let text = format!(r#"{{"type":"delta","id":{id},"delta":{}}}"#, published.json);
                self.write(Message::Text(text.into())).await
            }
            Ok(_) => Ok(()),
            Err(broadcast::error::RecvError::Lagged(_)) => self.begin_fleet(id, None).await,
            Err(broadcast::error::RecvError::Closed) => Err(Over),
        }
    }

    pub(super) async fn tell_operation(
        &mut self,
        operation: Result<Arc<Operation>, broadcast::error::RecvError>,
    ) -> Result<(), Over> {
        let Some((id, _)) = &self.operations else { return Ok(()) };
        let id = *id;
        match operation {
            Ok(operation) => self.send_operation(id, (*operation).clone()).await,
            Err(broadcast::error::RecvError::Lagged(_)) => {
                // What was missed is in the journal: tell the newest as they are.
                let newest = self
                    .context
                    .db
                    .run(|store| store.operations(None, 50, &OperationFilter::default()))
                    .await
                    .unwrap_or_default();
                for operation in newest.into_iter().rev() {
                    let operation = self.context.runner.one_running(operation.id).unwrap_or(operation);
                    self.send_operation(id, operation).await?;
                }
                Ok(())
            }
            Err(broadcast::error::RecvError::Closed) => Err(Over),
        }
    }

    /// Tells an operation, as far as it is seen.
    pub(super) async fn send_operation(&mut self, id: u32, operation: Operation) -> Result<(), Over> {
        match self.view.operation(operation, &self.who.member) {
            Some(operation) => self.send(&FromServer::Operation { id, operation: Box::new(operation) }).await,
            None => Ok(()),
        }
    }

    pub(super) async fn send_drift(&mut self, id: u32) -> Result<(), Over> {
        for row in self.context.drift.rows() {
            if self.view.sees_stack(&row.host, &row.stack) {
                self.send(&FromServer::Drift { id, row }).await?;
            }
        }
        Ok(())
    }

    pub(super) async fn send_jobs(&mut self, id: u32) -> Result<(), Over> {
        for row in self.context.scheduler.rows() {
            if self.view.sees_stack(&row.host, &row.stack) {
                self.send(&FromServer::Job { id, row: Box::new(row) }).await?;
            }
        }
        Ok(())
    }

    pub(super) async fn tell_drift(
        &mut self,
        row: Result<Arc<DriftRow>, broadcast::error::RecvError>,
    ) -> Result<(), Over> {
        let Some((id, _)) = &self.drift else { return Ok(()) };
        let id = *id;
        match row {
            Ok(row) if !self.view.sees_stack(&row.host, &row.stack) => Ok(()),
            Ok(row) => self.send(&FromServer::Drift { id, row: (*row).clone() }).await,
            Err(broadcast::error::RecvError::Lagged(_)) => self.send_drift(id).await,
            Err(broadcast::error::RecvError::Closed) => Err(Over),
        }
    }

    pub(super) async fn tell_job(
        &mut self,
        row: Result<Arc<JobRow>, broadcast::error::RecvError>,
    ) -> Result<(), Over> {
        let Some((id, _)) = &self.jobs else { return Ok(()) };
        let id = *id;
        match row {
            Ok(row) if !self.view.sees_stack(&row.host, &row.stack) => Ok(()),
            Ok(row) => self.send(&FromServer::Job { id, row: Box::new((*row).clone()) }).await,
            Err(broadcast::error::RecvError::Lagged(_)) => self.send_jobs(id).await,
            Err(broadcast::error::RecvError::Closed) => Err(Over),
        }
    }

    pub(super) async fn begin_team(&mut self, id: u32) -> Result<(), Over> {
        if self.presence.is_none() && self.who.kind == gubernum_store::credentials::Kind::Session {
            let now = self.context.clock.now();
            self.presence = Some(self.context.team.people.come(&self.who.member, now));
        }
        self.team = Some(TeamSubscription::new(id, self.context.team.subscribe()));
        self.tell_team().await
    }

    /// Tells the team as it is now, when that is another than what was told before.
    pub(super) async fn tell_team(&mut self) -> Result<(), Over> {
        let Some(subscription) = &mut self.team else { return Ok(()) };
        let Ok(mentions) = self.context.team.mentions(&self.who.member).await else { return Ok(()) };
        let team = self.context.team.seen_by(&self.view, &self.who.member, mentions);
        match subscription.news(team) {
            Some(message) => self.send(&message).await,
            None => Ok(()),
        }
    }
}
