//! Many members at once: what 200 members with 500 live connections cost compared with one, in processor time,
//! memory, and the delay of a change. Half of the members see the whole fleet, the others a host each.

use std::time::Duration;

use gubernum_api::FromClient;
use gubernum_api::members::{AcceptInvitation, Grant, NewInvitation};
use gubernum_api::requests::NewToken;
use gubernum_client::{Client, ClientError, Trust};
use gubernum_testbed::BedError;
use tokio::task::JoinSet;

use crate::fleet::{Fleet, USUAL, password};
use crate::{Row, failed};

const MEMBERS: usize = 200;
/// With the one that measures: as many as the service holds open.
const CONNECTIONS: usize = 500;
/// What it may cost beside one connection. The whole fleet is held once, so memory grows by what waits to be sent; each change is
/// written to each connection.
const MEMORY: f64 = 2.5;
const DELAY: f64 = 60.0;
const CORES: f64 = 0.25;

fn said(error: ClientError) -> BedError {
    failed("client", &error.to_string())
}

/// A member with a token, which opens live connections as a session does.
async fn session(fleet: &Fleet, n: usize) -> Result<Client, BedError> {
    let scope = if n.is_multiple_of(2) { "fleet".to_owned() } else { format!("host:shed-{n:03}") };
    let scope =
        scope.parse().map_err(|e: gubernum_core::rights::ScopeError| failed("scope", &e.to_string()))?;
    let grants = vec![Grant { role: "viewer".to_owned(), scope }];
    let wish = NewInvitation { name: format!("member-{n:03}"), grants, hours: None };
    let made = fleet.client.invite(&wish).await.map_err(said)?;
    let anonymous = Client::new(fleet.service.url(), None, Trust::System).map_err(said)?;
    let accept = AcceptInvitation { secret: made.secret, password: password().to_owned() };
    let session = anonymous.accept_invitation(&accept).await.map_err(said)?;
    let wish =
        NewToken { name: "bench".to_owned(), expires_in_days: None, bounds: None, networks: Vec::new() };
    let made = session.make_token(&wish).await.map_err(said)?;
    Client::new(fleet.service.url(), Some(made.secret), Trust::System).map_err(said)
}

pub(crate) async fn measure(fleet: &mut Fleet) -> Result<Vec<Row>, BedError> {
    let (cores_of_one, memory_of_one) = fleet.idle().await?;
    let delay_of_one = fleet.event_to_delta().await?;
    let mut members = Vec::new();
    for n in 1..=MEMBERS {
        members.push(session(fleet, n).await?);
    }
    let mut readers = JoinSet::new();
    for n in 1..CONNECTIONS {
        let mut live = members[n % MEMBERS].live().await.map_err(said)?;
        live.send(&FromClient::Fleet { id: 1, since: None }).await.map_err(said)?;
        live.send(&FromClient::Operations { id: 2 }).await.map_err(said)?;
        live.send(&FromClient::Team { id: 3 }).await.map_err(said)?;
        // The snapshot is taken before the next one asks: a crowd does not come in one moment.
        let first = tokio::time::timeout(Duration::from_secs(30), live.next()).await;
        first.map_err(|_| failed("live", "no snapshot within 30 s"))?.map_err(said)?;
        readers.spawn(async move { while let Ok(Some(_)) = live.next().await {} });
    }
    let (cores, memory) = fleet.idle().await?;
    let delay = fleet.event_to_delta().await?;
    if readers.try_join_next().is_some() {
        return Err(failed("live", "a connection ended while it was measured"));
    }
    let more = |of_one: f64, unit: &str| format!("beside {of_one:.2} {unit} of one");
    Ok(vec![
        Row::most(
            "500 live connections: processor, idle",
            cores,
            CORES,
            "cores",
            more(cores_of_one, "cores"),
        ),
        Row::most(
            "500 live connections: memory, against one",
            memory / memory_of_one,
            MEMORY,
            "x",
            format!("{memory:.0} MB beside {memory_of_one:.0} MB"),
        ),
        Row::most(
            "500 live connections: event to delta, 99th percentile",
            delay.0,
            DELAY,
            "ms",
            format!(
                "median {:.1} ms; one: {:.1} ms, median {:.1} ms",
                delay.1, delay_of_one.0, delay_of_one.1
            ),
        ),
    ])
}

/// The fleet that it is measured on.
pub(crate) async fn fleet(binary: &std::path::Path) -> Result<Fleet, BedError> {
    Fleet::start(binary, USUAL, 0).await
}
