//! A subscription to the team: an update when what this member sees of it changes, at most once a second.

use std::time::Duration;

use gubernum_api::FromServer;
use gubernum_api::team::TeamState;
use tokio::sync::watch;
use tokio::time::{Instant, sleep_until};

/// How often the team is reported at most.
const EVERY: Duration = Duration::from_secs(1);
/// Freezes end by themselves: the interval at which they are looked at without a notification.
const LOOK_AGAIN: Duration = Duration::from_secs(60);

/// What one connection was told.
pub(super) struct TeamSubscription {
    pub(super) id: u32,
    changes: watch::Receiver<u64>,
    told: Option<TeamState>,
    looked: Instant,
    /// Something changed since it was looked at.
    is_due: bool,
}

impl TeamSubscription {
    pub(super) fn new(id: u32, mut changes: watch::Receiver<u64>) -> Self {
        changes.mark_unchanged();
        Self { id, changes, told: None, looked: Instant::now(), is_due: false }
    }

    /// The message that tells the team, unless the member was told the same before.
    pub(super) fn news(&mut self, team: TeamState) -> Option<FromServer> {
        self.looked = Instant::now();
        self.is_due = false;
        if self.told.as_ref() == Some(&team) {
            return None;
        }
        self.told = Some(team.clone());
        Some(FromServer::Team { id: self.id, team: Box::new(team) })
    }
}

/// Waits until the team may be another; forever without a subscription.
pub(super) async fn next(subscription: &mut Option<TeamSubscription>) {
    let Some(subscription) = subscription else { return std::future::pending().await };
    let again = subscription.looked + LOOK_AGAIN;
    if !subscription.is_due {
        tokio::select! {
            changed = subscription.changes.changed() => match changed {
                Ok(()) => subscription.is_due = true,
                Err(_) => std::future::pending().await,
            },
            () = sleep_until(again) => return,
        }
    }
    // Changes in quick succession are sent together. A wait that is cancelled and repeated loses nothing: the change stays noted.
    sleep_until(subscription.looked + EVERY).await;
}
