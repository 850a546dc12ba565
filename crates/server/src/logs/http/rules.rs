//! Log retention rules.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::logs::{KeepRule, KeepScope, NewKeepRule};
use gubernum_core::reference::Reference;
use gubernum_store::Store;

use crate::access::Identity;
use crate::logs::LogsContext;
use crate::logs::keeper::rule_of_name;
use crate::web::extract::Body;
use crate::web::problem::ApiError;

const MOST_RULES: usize = 200;
pub(crate) const LEAST_BYTES: u64 = 1024 * 1024;
/// 1 PiB: more is a slip of the hand, and from 8 EiB on the records could not hold the number.
pub(crate) const MOST_BYTES: u64 = 1 << 50;
/// How long lines can be kept, in days.
pub(crate) const DAYS: std::ops::RangeInclusive<u32> = 1..=3650;
pub(crate) const LONGEST_VALUE: usize = 500;

/// Log retention rules, narrowest first, with the size of what they keep.
#[utoipa::path(get, path = "/api/v1/kept-logs", tag = "logs", responses(
    (status = 200, body = Vec<KeepRule>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<LogsContext>>,
    _who: Identity,
) -> Result<Json<Vec<KeepRule>>, ApiError> {
    let rules = tokio::task::spawn_blocking(move || held(&context)).await;
    Ok(Json(rules.map_err(|e| ApiError::new("internal", "Internal error", 500, e.to_string()))?))
}

fn held(context: &LogsContext) -> Vec<KeepRule> {
    let mut rules: Vec<KeepRule> = context.rules.get().to_vec();
    for (host, name) in context.segments.containers() {
        // A container that is there is counted where its labels put it.
        let there = context.hub.look(|fleet| {
            let found = fleet.containers_of(&host).find(|c| c.name == name).cloned();
            found.and_then(|c| crate::logs::keeper::rule_for(&rules, &c).map(|r| r.id))
        });
        let id = there.or_else(|| rule_of_name(&rules, &HashMap::new(), &host, &name).map(|r| r.id));
        let bytes = context.segments.bytes(&host, &name);
        if let Some(rule) = rules.iter_mut().find(|r| Some(r.id) == id) {
            rule.held += bytes;
            rule.containers += 1;
        }
    }
    rules
}

fn check(rule: &NewKeepRule) -> Result<(), ApiError> {
    if !DAYS.contains(&rule.days) {
        return Err(ApiError::invalid("/days", "'days' must be from 1 to 3650"));
    }
    if rule.bytes < LEAST_BYTES {
        return Err(ApiError::invalid("/bytes", "'bytes' must be at least 1048576 (1 MiB)"));
    }
    if rule.bytes > MOST_BYTES {
        return Err(ApiError::invalid("/bytes", format!("bytes is at most {MOST_BYTES} (1 PiB)")));
    }
    let value = rule.value.trim();
    if rule.value.len() > LONGEST_VALUE {
        return Err(ApiError::invalid("/value", "the value is longer than 500 characters"));
    }
    match rule.scope {
        KeepScope::All if !value.is_empty() => {
            Err(ApiError::invalid("/value", "a rule for all containers has no value; leave it out"))
        }
        KeepScope::All => Ok(()),
        _ if value.is_empty() => {
            Err(ApiError::invalid("/value", format!("enter the {} that the rule is for", rule.scope.word())))
        }
        KeepScope::Container => {
            let reference: Reference = value.parse().map_err(|e| ApiError::from(e).at("/value"))?;
            if reference.has_wildcard() || !value.contains('/') {
                return Err(ApiError::invalid("/value", "name one container as 'host/name'"));
            }
            Ok(())
        }
        _ => Ok(()),
    }
}

/// Adds a log retention rule; starts with the lines that the engines still have.
#[utoipa::path(post, path = "/api/v1/kept-logs", tag = "logs", request_body = NewKeepRule, responses(
    (status = 201, body = KeepRule),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn add(
    State(context): State<Arc<LogsContext>>,
    who: Identity,
    Body(wish): Body<NewKeepRule>,
) -> Result<(StatusCode, Json<KeepRule>), ApiError> {
    check(&wish)?;
    if context.rules.get().len() >= MOST_RULES {
        return Err(ApiError::invalid(
            "/value",
            format!("the limit of {MOST_RULES} rules is reached; remove one first"),
        ));
    }
    let now = context.clock.now();
    let (id, rules) = context
        .db
        .run(move |store| {
            let id = store.add_keep_rule(&wish, &who.member, now)?;
            let object = format!("{} {}", wish.scope.word(), wish.value);
            let outcome = format!("{} days, {} bytes", wish.days, wish.bytes);
            store.audit(who.entry("keep-logs", &object, &outcome), now)?;
            Ok((id, store.keep_rules()?))
        })
        .await
        .map_err(|e| ApiError::from(e).at("/value"))?;
    context.rules.set(rules.clone());
    let rule = rules.into_iter().find(|r| r.id == id);
    rule.map(|r| (StatusCode::CREATED, Json(r)))
        .ok_or_else(|| ApiError::not_found("the rule was removed meanwhile"))
}

/// Removes a log retention rule. Kept lines expire as before.
#[utoipa::path(delete, path = "/api/v1/kept-logs/{id}", tag = "logs", params(("id" = u64, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(context): State<Arc<LogsContext>>,
    who: Identity,
    Path(id): Path<u64>,
) -> Result<StatusCode, ApiError> {
    let now = context.clock.now();
    let removed = context.db.run(move |store: &Store| {
        let removed = store.remove_keep_rule(id)?;
        if removed {
            let object = format!("rule {id}");
            store.audit(who.entry("stop-keeping-logs", &object, "succeeded"), now)?;
        }
        Ok((removed, store.keep_rules()?))
    });
    let (removed, rules) = removed.await?;
    context.rules.set(rules);
    if removed { Ok(StatusCode::NO_CONTENT) } else { Err(ApiError::not_found("no rule has this number")) }
}
