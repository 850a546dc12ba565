//! Lets a request through only where the member has the right that the call needs, as the one table of core says
//! ([`gubernum_core::rights::table`]). What the path names is looked up here, in what the member sees: what they do not
//! see is not there, whatever they may not do is refused with the right that it needs.

use std::collections::HashMap;
use std::sync::Arc;

use axum::body::Body;
use axum::extract::{FromRequestParts, MatchedPath, RawPathParams, Request, State};
use axum::http::Method;
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use gubernum_core::assets::AssetKind;
use gubernum_core::guard::{Guard, GuardedChange};
use gubernum_core::mask::looks_secret;
use gubernum_core::rights::table::{Need, need};
use gubernum_core::rights::{Place, Right, Rights};
use gubernum_core::text::shown;
use utoipa::openapi::OpenApi;

use crate::access::{AccessContext, Dangerous, Identity};
use crate::fleet::{Hub, View};
use crate::team::Freezes;
use crate::web::Contexts;
use crate::web::openapi::own_id;
use crate::web::problem::ApiError;

/// What every call needs, by its method and the pattern of its path.
#[derive(Clone)]
pub(crate) struct Gate {
    needs: Arc<HashMap<(Method, String), Need>>,
    access: Arc<AccessContext>,
    hub: Arc<Hub>,
    freezes: Arc<Freezes>,
}

impl axum::extract::FromRef<Gate> for Arc<AccessContext> {
    fn from_ref(gate: &Gate) -> Self {
        gate.access.clone()
    }
}

/// Calls that the table says nothing of.
#[derive(Debug, thiserror::Error)]
#[error("these API calls are missing in the rights table: {}", .0.join(", "))]
pub struct Unguarded(pub(crate) Vec<String>);

/// The operations of a description: method, path, and the id under which they are in the finished text.
pub(crate) fn operations(description: &OpenApi) -> Vec<(Method, String, String)> {
    let mut found = Vec::new();
    for (path, item) in &description.paths.paths {
        for (method, operation) in [
            (Method::GET, &item.get),
            (Method::PUT, &item.put),
            (Method::POST, &item.post),
            (Method::DELETE, &item.delete),
            (Method::PATCH, &item.patch),
        ] {
            if let Some(operation) = operation {
                let id = operation.operation_id.clone().unwrap_or_default();
                found.push((method, path.clone(), id));
            }
        }
    }
    let mut times: HashMap<String, usize> = HashMap::new();
    for (_, _, id) in &found {
        *times.entry(id.clone()).or_default() += 1;
    }
    for (_, path, id) in &mut found {
        *id = own_id(path, id, times.get(id).is_some_and(|n| *n > 1));
    }
    found
}

impl Gate {
    /// The gate before everything that a description reports.
    ///
    /// # Errors
    /// When the table says nothing of a call: such a service does not start.
    pub(crate) fn new(description: &OpenApi, contexts: &Contexts) -> Result<Self, Unguarded> {
        let (mut needs, mut unguarded) = (HashMap::new(), Vec::new());
        for (method, path, id) in operations(description) {
            match need(&id) {
                Some(needed) => {
                    needs.insert((method, path), needed);
                }
                None => unguarded.push(format!("{method} {path} ({id})")),
            }
        }
        if unguarded.is_empty() {
            Ok(Self {
                needs: Arc::new(needs),
                access: contexts.access.clone(),
                hub: contexts.fleet.hub.clone(),
                freezes: contexts.team.freezes.clone(),
            })
        } else {
            Err(Unguarded(unguarded))
        }
    }

    /// Refuses to change files, stacks and hosts in a frozen part of the fleet. Changes that are operations are held off where they
    /// are planned.
    fn frozen(&self, needed: Need, who: &Identity, path: &Named<'_>) -> Result<(), ApiError> {
        let (host, now) = (path.get(&["host", "name"]), self.access.clock.now());
        let view = View::new(self.hub.clone(), who.access.clone());
        let refusal = |place: &Place<'_>, on: &str| self.freezes.refusal(place, on, &who.member, now);
        let sentence = match needed {
            Need::Container(Right::Files) => {
                let Ok(container) = view.find_on(host, path.get(&["container"])) else { return Ok(()) };
                let groups = self.hub.look(|fleet| fleet.groups_of(&container.host).to_vec());
                refusal(&Place::container(&container, &groups), &container.reference())
            }
            Need::Volume(Right::Files) => {
                let name = path.get(&["volume"]);
                self.hub.look(|fleet| {
                    let groups = fleet.groups_of(host);
                    let volumes = fleet.assets_of(host).map_or(&[][..], |assets| &assets.volumes);
                    let place = volumes.iter().find(|v| v.name == name).map_or_else(
                        || Place::host(host, groups),
                        |volume| Place::labelled(host, groups, &volume.labels),
                    );
                    refusal(&place, &format!("{host}/{name}"))
                })
            }
            Need::Stack(Right::Stacks) => {
                let stack = path.get(&["stack"]);
                let groups = self.hub.look(|fleet| fleet.groups_of(host).to_vec());
                refusal(&Place::stack(host, &groups, stack), &format!("{host}/{stack}"))
            }
            Need::Host(Right::Hosts | Right::Deploy) => {
                let groups = self.hub.look(|fleet| fleet.groups_of(host).to_vec());
                refusal(&Place::host(host, &groups), host)
            }
            _ => None,
        };
        match sentence {
            Some(sentence) => Err(ApiError::new("frozen", "Frozen", 409, sentence)),
            None => Ok(()),
        }
    }

    /// Whether somebody may make a call on what its path names.
    fn judge(&self, needed: Need, who: &Identity, path: &Named<'_>) -> Result<(), ApiError> {
        let view = View::new(self.hub.clone(), who.access.clone());
        match needed {
            Need::Nothing | Need::Own | Need::FleetUnlessNamed(_) => Ok(()),
            Need::Somewhere(right) if who.access.somewhere(right) => Ok(()),
            Need::Somewhere(right) => Err(refused(right, "any object")),
            Need::Fleet(right) => allow(who.access.on_fleet(), right, "the whole fleet"),
            Need::Host(right) => {
                let host = path.get(&["host", "name"]);
                view.know_host(host)?;
                allow(view.on_host(host), right, host)
            }
            Need::Container(right) => {
                let (host, name) = (path.get(&["host"]), path.get(&["container"]));
                match view.find_on(host, name) {
                    Ok(container) => allow(view.on(&container), right, &container.reference()),
                    // It may be gone and have left something: whoever has the right on its host is told by the call itself.
                    Err(_) if view.on_host(host).has(right) => Ok(()),
                    Err(error) => Err(error.into()),
                }
            }
            Need::Volume(right) => {
                let (host, name) = (path.get(&["host"]), path.get(&["volume"]));
                view.know_host(host)?;
                let is_there = view.look(|fleet| {
                    fleet.assets_of(host).is_some_and(|a| a.volumes.iter().any(|v| v.name == name))
                });
                if is_there {
                    return allow(
                        view.on_asset(host, AssetKind::Volume, name),
                        right,
                        &format!("{host}/{name}"),
                    );
                }
                if view.on_host(host).has(right) {
                    return Ok(());
                }
                let text = format!("no volume '{}' on {host}", shown(name, 80));
                Err(ApiError::not_found(text))
            }
            Need::Stack(right) => {
                let (host, stack) = (path.get(&["host"]), path.get(&["stack"]));
                view.know_host(host)?;
                let rights = view.on_stack(host, stack);
                if !rights.has(Right::See) {
                    let text = format!("no stack '{}' on {host}", shown(stack, 80));
                    return Err(ApiError::not_found(text));
                }
                allow(rights, right, &format!("{host}/{stack}"))
            }
        }
    }
}

/// What the path of a request names.
struct Named<'a>(Vec<(&'a str, &'a str)>);

impl Named<'_> {
    fn get(&self, names: &[&str]) -> &str {
        self.0.iter().find(|(name, _)| names.contains(name)).map_or("", |(_, value)| value)
    }
}

/// Refuses when a right is not among those that are allowed on something.
///
/// # Errors
/// With the right that is missing.
pub(crate) fn allow(allowed: Rights, right: Right, on: &str) -> Result<(), ApiError> {
    if allowed.has(right) { Ok(()) } else { Err(refused(right, on)) }
}

/// The answer to somebody who may not.
pub(crate) fn refused(right: Right, on: &str) -> ApiError {
    ApiError::new("not-allowed", "Not allowed", 403, right.refusal(on))
}

/// Stands before every described call.
pub(super) async fn authorize(
    State(gate): State<Gate>,
    matched: Option<MatchedPath>,
    params: RawPathParams,
    request: Request,
    next: Next,
) -> Response {
    // HEAD is answered as GET is.
    let method = if request.method() == Method::HEAD { Method::GET } else { request.method().clone() };
    let needed = matched.and_then(|path| gate.needs.get(&(method, path.as_str().to_owned())).copied());
    let Some(needed) = needed else {
        // No call: a method that the address does not take, which the router says itself.
        return next.run(request).await;
    };
    if matches!(needed, Need::Nothing | Need::FleetUnlessNamed(_)) {
        return next.run(request).await;
    }
    let (mut parts, body) = request.into_parts();
    let who = match Identity::from_request_parts(&mut parts, &gate).await {
        Ok(who) => who,
        Err(error) => return error.into_response(),
    };
    let named = Named(params.iter().collect());
    let judged = gate.judge(needed, &who, &named);
    let changes = !matches!(parts.method, Method::GET | Method::HEAD);
    let judged = judged.and_then(|()| if changes { gate.frozen(needed, &who, &named) } else { Ok(()) });
    if let Err(mut error) = judged {
        if error.problem.status == 403 {
            if who.lacks_second_factor {
                let text = "a second factor is required, and until you set one up you have no rights; set it up under 'You' in the console";
                error = ApiError::new("second-factor-required", "Second factor required", 403, text);
            }
            let what = format!("{} {}", parts.method, parts.uri.path());
            gate.access.note_refusal(&who, &what, &error.problem.detail).await;
        }
        return error.into_response();
    }
    if changes && needed == Need::Fleet(Right::Members) && !parts.uri.path().ends_with(TRIES) {
        return members_change(&gate.access, &who, Request::from_parts(parts, body), next).await;
    }
    next.run(Request::from_parts(parts, body)).await
}

/// The end of the path of a call that changes nothing.
const TRIES: &str = "/test";
/// The largest body of a change of members.
const LARGEST: usize = 1024 * 1024;

/// Holds a change of members back until the caller has done what the team asks for.
async fn members_change(access: &AccessContext, who: &Identity, request: Request, next: Next) -> Response {
    let guard = match access.guards.asked_for(GuardedChange::Members).await {
        Ok(Guard::None) => return next.run(request).await,
        Ok(guard) => guard,
        Err(error) => return ApiError::from(error).into_response(),
    };
    let (parts, body) = request.into_parts();
    let Ok(body) = axum::body::to_bytes(body, LARGEST).await else {
        return ApiError::invalid("", "the request is too large, or was interrupted").into_response();
    };
    let object = format!("{} {}", parts.method, parts.uri.path());
    let exactly = String::from_utf8_lossy(&body).into_owned();
    let detail = format!("{object}: {}", without_secrets(&body));
    let change = Dangerous { danger: GuardedChange::Members, object, detail, exactly };
    let passed = match access.guards.pass_as(guard, &who.asker(), change).await {
        Ok(passed) => passed,
        Err(error) => return ApiError::from(error).into_response(),
    };
    let response = next.run(Request::from_parts(parts, Body::from(body))).await;
    if !response.status().is_success() {
        access.guards.give_back(passed).await;
    }
    response
}

/// What is asked for, without what looks like a secret.
fn without_secrets(body: &[u8]) -> String {
    fn hide(value: &mut serde_json::Value) {
        match value {
            serde_json::Value::Object(fields) => {
                for (name, value) in fields {
                    match value.as_str() {
                        Some(text) if looks_secret(name, text) => *value = "hidden".into(),
                        _ => hide(value),
                    }
                }
            }
            serde_json::Value::Array(all) => all.iter_mut().for_each(hide),
            _ => {}
        }
    }
    let Ok(mut value) = serde_json::from_slice(body) else { return String::new() };
    hide(&mut value);
    value.to_string()
}
