//! The bounds of numbers, texts and lists in the API description, from the constants that enforce them. A test sends
//! a value beyond each and expects a refusal.

use gubernum_core::definition::{LONGEST_VALUE, MOST_ENTRIES};
use gubernum_core::host::MAX_HOST_NAME;
use gubernum_core::logs::filter::{LONGEST_PATTERN, MOST_PATTERNS};
use gubernum_core::plan::{MAX_AT_ONCE, MAX_GRACE_SECONDS, MAX_PIECES, MAX_WATCH_SECONDS};
use gubernum_core::reference::MAX_REFERENCE;
use serde_json::{Value, json};

use crate::access::http::{sessions, tokens};
use crate::access::{LONGEST_PASSWORD, SHORTEST_PASSWORD};
use crate::exec::{MOST_SECONDS, TERMINAL_COLUMNS, TERMINAL_ROWS};
use crate::images::http::registries;
use crate::logs::http::rules as keeping;
use crate::operations::MOST_REFERENCES;
use crate::operations::http::{operations, tidy};
use crate::usage::http::{ranking, usage};
use crate::web::query;

/// Schema, property, bounds.
fn of_properties() -> Vec<(&'static str, &'static str, Value)> {
    let seconds = json!({"minimum": 1, "maximum": MOST_SECONDS});
    let hours = json!({"minimum": 0, "maximum": tidy::MOST_HOURS});
    let port = json!({"minimum": 0, "maximum": u16::MAX});
    let id = json!({"minimum": 0, "maximum": u32::MAX});
    let entries = json!({"maxItems": MOST_ENTRIES});
    let grace = json!({"minimum": 0, "maximum": MAX_GRACE_SECONDS});
    let watch = json!({"minimum": 0, "maximum": MAX_WATCH_SECONDS});
    vec![
        ("Claim", "member", json!({"minLength": 1, "maxLength": sessions::LONGEST_NAME})),
        ("Claim", "password", json!({"minLength": SHORTEST_PASSWORD, "maxLength": LONGEST_PASSWORD})),
        ("NewTicket", "path", json!({"maxLength": sessions::LONGEST_PATH})),
        ("NewToken", "name", json!({"minLength": 1, "maxLength": tokens::LONGEST_NAME})),
        ("NewToken", "expires_in_days", json!({"minimum": 1, "maximum": tokens::LONGEST_LIFE_DAYS})),
        ("NewHost", "name", json!({"minLength": 1, "maxLength": MAX_HOST_NAME})),
        ("NewRegistry", "address", json!({"minLength": 1, "maxLength": registries::LONGEST_ADDRESS})),
        ("NewRegistry", "account", json!({"maxLength": registries::LONGEST_ACCOUNT})),
        ("NewRegistry", "secret", json!({"maxLength": registries::LONGEST_SECRET})),
        ("NewRegistry", "ca", json!({"maxLength": registries::LONGEST_CERTIFICATE})),
        (
            "NewTerminal",
            "columns",
            json!({"minimum": TERMINAL_COLUMNS.start(), "maximum": TERMINAL_COLUMNS.end()}),
        ),
        ("NewTerminal", "rows", json!({"minimum": TERMINAL_ROWS.start(), "maximum": TERMINAL_ROWS.end()})),
        ("NewKeepRule", "days", json!({"minimum": keeping::DAYS.start(), "maximum": keeping::DAYS.end()})),
        ("NewKeepRule", "bytes", json!({"minimum": keeping::LEAST_BYTES, "maximum": keeping::MOST_BYTES})),
        ("NewKeepRule", "value", json!({"maxLength": keeping::LONGEST_VALUE})),
        ("SetKeepNote", "text", json!({"maxLength": tidy::LONGEST_NOTE})),
        ("Preferences", "kept_earlier", json!({"minimum": 0, "maximum": tidy::MOST_KEPT})),
        ("Preferences", "tidy_after_hours", hours.clone()),
        ("Preferences", "safe_after_hours", hours.clone()),
        ("Preferences", "cache_safe_after_hours", hours),
        ("Preferences", "image_check_hours", json!({"minimum": 0, "maximum": tidy::MOST_CHECK_HOURS})),
        ("Preferences", "session_hours", json!({"minimum": 1, "maximum": tidy::MOST_SESSION_HOURS})),
        ("NewOneOff", "limit_seconds", seconds.clone()),
        ("RunCommand", "limit_seconds", seconds),
        ("NewOperation", "targets", json!({"maxItems": MOST_REFERENCES})),
        ("StopRequest", "grace_seconds", grace.clone()),
        ("RestartRequest", "grace_seconds", grace.clone()),
        ("EditRequest", "grace_seconds", grace.clone()),
        ("UpdateRequest", "grace_seconds", grace.clone()),
        ("RollbackRequest", "grace_seconds", grace),
        ("DeployRequest", "watch_seconds", watch.clone()),
        ("EditRequest", "watch_seconds", watch.clone()),
        ("UpdateRequest", "watch_seconds", watch.clone()),
        ("RollbackRequest", "watch_seconds", watch),
        ("TidyRequest", "pieces", json!({"maxItems": MAX_PIECES})),
        ("Rolling", "at_once", json!({"minimum": 1, "maximum": MAX_AT_ONCE})),
        ("Definition", "environment", entries.clone()),
        ("Definition", "ports", entries.clone()),
        ("Definition", "mounts", entries),
        ("EnvironmentEntry", "value", json!({"maxLength": LONGEST_VALUE})),
        ("PortRule", "host_port", port.clone()),
        ("PortRule", "container_port", port),
        ("NewFolder", "user", id.clone()),
        ("NewFolder", "group", id),
        ("Limits", "out_of_memory_score", json!({"minimum": -1000, "maximum": 1000})),
        ("LogRequest", "tail", json!({"minimum": 0, "maximum": crate::logs::MOST_TAIL})),
        ("LogRequest", "with", json!({"maxItems": MOST_PATTERNS})),
        ("LogRequest", "without", json!({"maxItems": MOST_PATTERNS})),
    ]
}

/// Path, parameter, bounds.
fn of_parameters() -> Vec<(&'static str, &'static str, Value)> {
    let page = json!({"minimum": query::PAGE.start(), "maximum": query::PAGE.end()});
    let pattern = json!({"maxLength": LONGEST_PATTERN});
    let tail = json!({"minimum": 0, "maximum": crate::logs::MOST_TAIL});
    vec![
        ("/api/v1/audit", "limit", page.clone()),
        ("/api/v1/operations", "limit", page.clone()),
        ("/api/v1/timeline", "limit", page),
        (
            "/api/v1/operations",
            "Idempotency-Key",
            json!({"minLength": 1, "maxLength": operations::LONGEST_KEY}),
        ),
        ("/api/v1/usage-ranking", "limit", json!({"minimum": 1, "maximum": ranking::MOST_ROWS})),
        ("/api/v1/history", "points", json!({"minimum": 1, "maximum": usage::MOST_POINTS})),
        ("/api/v1/logs", "tail", tail),
        ("/api/v1/logs", "with", pattern.clone()),
        ("/api/v1/logs", "without", pattern),
        ("/api/v1/logs", "reference", json!({"maxLength": MAX_REFERENCE})),
        ("/api/v1/registry-tags", "limit", json!({"minimum": 1, "maximum": registries::MOST_TAGS})),
        ("/api/v1/image-search", "text", json!({"minLength": 1, "maxLength": registries::LONGEST_SEARCH})),
        ("/api/v1/ports", "port", json!({"minimum": 0, "maximum": u16::MAX})),
    ]
}

fn lay(over: &mut Value, bounds: &Value) {
    for (name, bound) in bounds.as_object().into_iter().flatten() {
        over[name] = bound.clone();
    }
}

/// A property of an object, which may be put together from several.
fn property_of<'a>(schema: &'a mut Value, property: &str) -> Option<&'a mut Value> {
    let pointer = format!("/properties/{property}");
    if schema.pointer(&pointer).is_some() {
        return schema.pointer_mut(&pointer);
    }
    schema["allOf"].as_array_mut()?.iter_mut().find_map(|part| part.pointer_mut(&pointer))
}

/// Writes the bounds into the description; returns the places that are not in it.
pub(super) fn write(description: &mut Value) -> Vec<String> {
    let mut missing = Vec::new();
    for (schema, property, bounds) in of_properties() {
        let place = format!("/components/schemas/{schema}");
        let found = description.pointer_mut(&place).and_then(|schema| property_of(schema, property));
        match found {
            Some(found) => lay(found, &bounds),
            None => missing.push(format!("{place}/properties/{property}")),
        }
    }
    for (path, name, bounds) in of_parameters() {
        let mut found = false;
        let operations = description["paths"][path].as_object_mut().into_iter().flatten();
        for parameter in operations.filter_map(|(_, o)| o.get_mut("parameters")?.as_array_mut()).flatten() {
            if parameter["name"] == name {
                found = true;
                lay(&mut parameter["schema"], &bounds);
            }
        }
        if !found {
            missing.push(format!("{path} {name}"));
        }
    }
    missing
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_bound_has_its_place() {
        let description = crate::web::described().split_for_parts().1;
        let mut all = serde_json::to_value(&description).unwrap();
        assert_eq!(write(&mut all), Vec::<String>::new());
    }
}
