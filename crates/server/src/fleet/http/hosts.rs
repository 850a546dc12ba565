//! Hosts of the fleet.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use gubernum_api::requests::{NewHost, SetHost, TestHost};
use gubernum_api::views::HostTest;
use gubernum_api::{Host, Problem};
use gubernum_core::fleet::Observation;
use gubernum_core::host::check_host_name;
use gubernum_store::hosts::HostRecord;

use crate::access::Identity;
use crate::fleet::FleetContext;
use crate::fleet::View;
use crate::fleet::links;
use crate::fleet::links::MOST_HOSTS;
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// All hosts and the state of their links.
#[utoipa::path(get, path = "/api/v1/hosts", tag = "hosts", responses(
    (status = 200, body = Vec<Host>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(view: View) -> Json<Vec<Host>> {
    Json(view.look(|fleet| fleet.hosts().cloned().collect()))
}

/// Adds a host, reachable or not.
#[utoipa::path(post, path = "/api/v1/hosts", tag = "hosts", request_body = NewHost, responses(
    (status = 201, body = Host),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn add(
    State(context): State<Arc<FleetContext>>,
    who: Identity,
    view: View,
    Body(wish): Body<NewHost>,
) -> Result<(StatusCode, Json<Host>), ApiError> {
    check_host_name(&wish.name).map_err(|e| ApiError::invalid("/name", e.to_string()))?;
    let endpoint = links::endpoint(&wish.address, wish.tls.as_ref(), context.allow_link_local)?;
    check_ports_address(wish.ports_address.as_deref())?;
    check_groups(&wish.groups)?;
    if context.links.count() >= MOST_HOSTS {
        return Err(ApiError::invalid("/name", format!("the limit of {MOST_HOSTS} hosts is reached")));
    }
    let now = context.clock.now();
    let record = HostRecord {
        name: wish.name.clone(),
        address: endpoint.to_string(),
        tls: wish.tls.map(|t| (t.ca, t.certificate, t.key)),
        ports_address: wish.ports_address.clone(),
        groups: wish.groups.clone(),
    };
    context
        .db
        .run(move |store| {
            store.add_host(&record, now)?;
            store.audit(who.entry("add-host", &record.name, &record.address), now)
        })
        .await
        .map_err(|e| ApiError::from(e).at("/name"))?;
    context.links.begin(&wish.name, endpoint, wish.ports_address, wish.groups);
    let host = view.look(|fleet| fleet.host(&wish.name).cloned());
    host.map(|h| (StatusCode::CREATED, Json(h)))
        .ok_or_else(|| ApiError::not_found("the host was removed meanwhile"))
}

/// A name or an address that can appear in a link; nothing else.
fn check_ports_address(address: Option<&str>) -> Result<(), ApiError> {
    let Some(address) = address else { return Ok(()) };
    let fits = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-' | b':' | b'_');
    if !address.is_empty() && address.len() <= 253 && address.bytes().all(fits) {
        return Ok(());
    }
    let text = "the address for published ports is a host name or an IP address without a port, such as 'packhouse.example'";
    Err(ApiError::invalid("/ports_address", text))
}

/// The most groups of a host, and the longest name of one.
const MOST_GROUPS: usize = 20;
const LONGEST_GROUP: usize = 63;

/// Names that can appear in a scope.
fn check_groups(groups: &[String]) -> Result<(), ApiError> {
    if groups.len() > MOST_GROUPS {
        let text = format!("a host is in at most {MOST_GROUPS} groups");
        return Err(ApiError::invalid("/groups", text));
    }
    for (n, group) in groups.iter().enumerate() {
        let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_');
        if group.is_empty() || group.len() > LONGEST_GROUP || !group.chars().all(fits) {
            let text = format!(
                "the name of a group has 1 to {LONGEST_GROUP} letters, digits, '.', '_' and '-', such as 'sheds'"
            );
            return Err(ApiError::invalid(format!("/groups/{n}"), text));
        }
    }
    Ok(())
}

/// Changes settings of a host.
#[utoipa::path(patch, path = "/api/v1/hosts/{name}", tag = "hosts", params(("name" = String, Path)),
    request_body = SetHost, responses(
    (status = 200, body = Host),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn set(
    State(context): State<Arc<FleetContext>>,
    who: Identity,
    view: View,
    Path(name): Path<String>,
    Body(wish): Body<SetHost>,
) -> Result<Json<Host>, ApiError> {
    let address = wish.ports_address.filter(|a| !a.is_empty());
    check_ports_address(address.as_deref())?;
    let groups = wish.groups;
    check_groups(groups.as_deref().unwrap_or_default())?;
    let (now, wanted, kept, kept_groups) =
        (context.clock.now(), name.clone(), address.clone(), groups.clone());
    let set = context.db.run(move |store| {
        let set = store.set_ports_address(&wanted, kept.as_deref())?;
        if set {
            let mut outcome = format!("address for published ports {}", kept.as_deref().unwrap_or("none"));
            if let Some(groups) = kept_groups {
                store.set_groups(&wanted, &groups)?;
                let words = if groups.is_empty() { "none".to_owned() } else { groups.join(", ") };
                outcome = format!("{outcome}, groups {words}");
            }
            store.audit(who.entry("set-host", &wanted, &outcome), now)?;
        }
        Ok(set)
    });
    if !set.await? {
        return Err(no_host(&context, &name));
    }
    context.hub.observe(Observation::HostSet { name: name.clone(), ports_address: address }, now);
    if let Some(groups) = groups {
        context.hub.observe(Observation::Grouped { name: name.clone(), groups }, now);
    }
    view.look(|fleet| fleet.host(&name).cloned()).map(Json).ok_or_else(|| no_host(&context, &name))
}

/// Tests the connection to an engine, at an address or of a host in the fleet. Changes nothing.
#[utoipa::path(post, path = "/api/v1/hosts/test", tag = "hosts", request_body = TestHost, responses(
    (status = 200, body = HostTest),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn test(
    State(context): State<Arc<FleetContext>>,
    who: Identity,
    Body(wish): Body<TestHost>,
) -> Result<Json<HostTest>, ApiError> {
    let endpoint = match (&wish.name, &wish.address) {
        (Some(name), None) if wish.tls.is_none() => {
            context.links.get(name).ok_or_else(|| no_host(&context, name))?.endpoint
        }
        (None, Some(address)) => links::endpoint(address, wish.tls.as_ref(), context.allow_link_local)?,
        _ => {
            return Err(ApiError::invalid(
                "/",
                "give either the 'name' of a host of the fleet, or an 'address' (with 'tls' for tcp://)",
            ));
        }
    };
    let tested = links::test(&endpoint).await;
    let object = wish.name.clone().unwrap_or_else(|| endpoint.to_string());
    let outcome = tested.problem.as_ref().map_or_else(|| "succeeded".to_owned(), |p| p.sentence.clone());
    context.audit.record(&who, "test-host", object, outcome).await?;
    Ok(Json(tested))
}

/// Removes a host from the fleet. Nothing on the host changes.
#[utoipa::path(delete, path = "/api/v1/hosts/{name}", tag = "hosts", params(("name" = String, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(context): State<Arc<FleetContext>>,
    who: Identity,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let (now, wanted) = (context.clock.now(), name.clone());
    let removed = context.db.run(move |store| {
        let removed = store.remove_host(&wanted)?;
        if removed {
            store.audit(who.entry("remove-host", &wanted, "succeeded"), now)?;
        }
        Ok(removed)
    });
    if !removed.await? {
        return Err(no_host(&context, &name));
    }
    context.links.end(&name);
    Ok(StatusCode::NO_CONTENT)
}

/// A host that the fleet does not have, with the names that it has.
fn no_host(context: &FleetContext, name: &str) -> ApiError {
    match View::whole(context.hub.clone()).know_host(name) {
        Err(error) => error.into(),
        // It came in just now.
        Ok(()) => ApiError::host_unreachable(format!("the host '{name}' was added a moment ago; try again")),
    }
}
