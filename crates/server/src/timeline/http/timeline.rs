//! The timeline over HTTP.

use std::sync::Arc;

use axum::Json;
use axum::extract::{RawQuery, State};
use gubernum_api::Problem;
use gubernum_api::timeline::{EventKind, TimelineEvent};
use gubernum_core::moment;
use gubernum_core::rights::Right;
use gubernum_store::events::EventQuery;
use jiff::Timestamp;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::fleet::View;
use crate::timeline::TimelineContext;
use crate::web::extract::pairs;
use crate::web::problem::ApiError;

/// The fields of a question about the timeline; `kind` may be given more than once.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[allow(dead_code, reason = "only its description is used; the query itself may repeat fields")]
pub(crate) struct TimelineParams {
    /// `engine`, `operation`, `access` or `host`.
    kind: Option<EventKind>,
    /// Only of this host.
    host: Option<String>,
    /// Only of this object: its name, or `host/name`.
    object: Option<String>,
    /// Only of this stack and its containers.
    stack: Option<String>,
    /// Only by this member.
    member: Option<String>,
    /// Only of this operation, including the engine events folded under it.
    operation: Option<u64>,
    /// Only problems.
    bad: Option<bool>,
    /// Only from this time.
    since: Option<String>,
    /// Only before this time.
    until: Option<String>,
    /// Only events after this one: `time,number` of the last event of the page before.
    before: Option<String>,
    /// Maximum number of entries; 100 when absent, at most 1000.
    limit: Option<u32>,
}

fn read(query: Option<&str>, now: Timestamp) -> Result<EventQuery, ApiError> {
    let mut out = EventQuery { most: 100, ..EventQuery::default() };
    for (name, value) in pairs(query) {
        let at = format!("?{name}");
        let time = |text: &str| moment::parse(text, now).map_err(|e| ApiError::invalid(&at, e.to_string()));
        match name.as_str() {
            "kind" => {
                let kind = value.parse::<EventKind>().ok();
                let text = format!("unknown kind '{value}'; use engine, operation, access or host");
                out.kinds.push(kind.ok_or_else(|| ApiError::invalid(&at, text))?);
            }
            "host" => out.host = Some(value),
            "object" => match value.split_once('/') {
                Some((host, name)) => {
                    out.host = Some(host.to_owned());
                    out.name = Some(name.to_owned());
                }
                None => out.name = Some(value),
            },
            // Which containers those are, the fleet knows.
            "stack" => out.names = Some(vec![value]),
            "member" => out.member = Some(value),
            "operation" => {
                let number = value.parse::<u64>();
                let number = number.map_err(|_| ApiError::invalid(&at, "'operation' must be a number"))?;
                out.operation = Some(number);
            }
            "bad" => out.bad = value == "true",
            "since" => out.since = Some(time(&value)?),
            "until" => out.until = Some(time(&value)?),
            "before" => {
                let parts =
                    value.split_once(',').and_then(|(t, id)| Some((t.parse().ok()?, id.parse().ok()?)));
                let text = "'before' must be 'time,number' of an event";
                out.before = Some(parts.ok_or_else(|| ApiError::invalid(&at, text))?);
            }
            "limit" => {
                let limit = value.parse::<u32>().ok().filter(|l| crate::web::query::PAGE.contains(l));
                out.most = limit.ok_or_else(|| ApiError::invalid(&at, "'limit' must be from 1 to 1000"))?;
            }
            _ => {
                let text = format!("the query cannot be read: unknown field '{name}'");
                return Err(ApiError::new("malformed", "Malformed request", 400, text).at(at));
            }
        }
    }
    Ok(out)
}

/// The timeline, newest first: engine events, operations, sign-ins and changes of hosts.
#[utoipa::path(get, path = "/api/v1/timeline", tag = "fleet", params(TimelineParams), responses(
    (status = 200, body = Vec<TimelineEvent>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<TimelineContext>>,
    view: View,
    RawQuery(query): RawQuery,
) -> Result<Json<Vec<TimelineEvent>>, ApiError> {
    let mut wish = read(query.as_deref(), context.clock.now())?;
    if let Some(names) = &mut wish.names {
        view.look(|fleet| {
            let of_stack: Vec<String> = fleet
                .containers()
                .filter(|c| names.first() == c.stack.as_ref())
                .map(|c| c.name.clone())
                .collect();
            names.extend(of_stack);
        });
    }
    wish.seen = seen(&view);
    Ok(Json(context.db.run(move |store| store.events(&wish)).await?))
}

/// The hosts and the objects whose events are seen; `None` for all. What stood under a grant on a stack or a label and is gone
/// is not among them: only whoever sees its host still hears of it.
fn seen(view: &View) -> Option<(Vec<String>, Vec<String>)> {
    if view.is_whole() {
        return None;
    }
    let hosts = view.look(|fleet| fleet.hosts().map(|h| h.name.clone()).collect::<Vec<_>>());
    let hosts = hosts.into_iter().filter(|host| view.on_host(host).has(Right::See)).collect();
    let objects = view.look(|fleet| {
        let containers = fleet.containers().map(|c| (c.host.clone(), c.name.clone()));
        let assets = fleet.hosts().flat_map(|h| {
            let assets = fleet.assets_of(&h.name);
            let volumes = assets.into_iter().flat_map(|a| a.volumes.iter().map(|v| v.name.clone()));
            let networks = assets.into_iter().flat_map(|a| a.networks.iter().map(|n| n.name.clone()));
            volumes.chain(networks).map(|name| (h.name.clone(), name)).collect::<Vec<_>>()
        });
        containers.chain(assets).map(|(host, name)| format!("{host}/{name}")).collect()
    });
    Some((hosts, objects))
}
