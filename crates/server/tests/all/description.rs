//! The description of the interface against what the service really answers: every described call is
//! made, and every answer is checked against the schema that it names.

use std::collections::BTreeSet;

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::Bench;

/// A call of the interface that makes sense, and the status of its answer.
pub(crate) struct Call {
    pub(crate) method: Method,
    /// As it is described.
    pub(crate) path: &'static str,
    /// As it is made.
    pub(crate) real: &'static str,
    pub(crate) body: Option<Value>,
    pub(crate) status: u16,
}

pub(crate) fn call(
    method: Method,
    path: &'static str,
    real: &'static str,
    body: Option<Value>,
    status: u16,
) -> Call {
    Call { method, path, real, body, status }
}

/// Every described call, in an order in which each makes sense.
pub(crate) fn calls() -> Vec<Call> {
    use Method as M;
    let stop = json!({"kind": "stop", "targets": ["packhouse/worker"], "grace_seconds": 1});
    let again = json!({"kind": "stop", "targets": ["packhouse/nothing"]});
    let mut all = vec![
        call(M::GET, "/healthz", "/healthz", None, 200),
        call(M::GET, "/readyz", "/readyz", None, 200),
        call(M::GET, "/metrics", "/metrics", None, 200),
        call(M::GET, "/api/v1/service", "/api/v1/service", None, 200),
        call(
            M::POST,
            "/api/v1/claim",
            "/api/v1/claim",
            Some(json!({"code": "x", "member": "x", "password": "x"})),
            403,
        ),
        call(
            M::POST,
            "/api/v1/sessions",
            "/api/v1/sessions",
            Some(json!({"member": "mara", "password": crate::support::PASSWORD})),
            201,
        ),
        call(M::GET, "/api/v1/sessions", "/api/v1/sessions", None, 200),
        call(
            M::POST,
            "/api/v1/tickets",
            "/api/v1/tickets",
            Some(json!({"path": "/api/v1/logs?reference=*/*"})),
            201,
        ),
        call(M::GET, "/api/v1/figures", "/api/v1/figures?host=packhouse&image=api", None, 200),
        call(M::GET, "/api/v1/sessions/current", "/api/v1/sessions/current", None, 200),
        call(M::DELETE, "/api/v1/sessions/current", "/api/v1/sessions/current", None, 409),
        call(M::DELETE, "/api/v1/sessions/{id}", "/api/v1/sessions/99999", None, 404),
        call(
            M::POST,
            "/api/v1/tokens",
            "/api/v1/tokens",
            Some(json!({"name": "x", "expires_in_days": 3})),
            201,
        ),
        call(M::GET, "/api/v1/tokens", "/api/v1/tokens", None, 200),
        call(M::DELETE, "/api/v1/tokens/{id}", "/api/v1/tokens/99999", None, 404),
        call(M::GET, "/api/v1/hosts", "/api/v1/hosts", None, 200),
        call(M::POST, "/api/v1/hosts/test", "/api/v1/hosts/test", Some(json!({"name": "packhouse"})), 200),
        call(
            M::POST,
            "/api/v1/hosts/test",
            "/api/v1/hosts/test",
            Some(json!({"address": "unix:///nowhere"})),
            200,
        ),
        call(
            M::POST,
            "/api/v1/hosts",
            "/api/v1/hosts",
            Some(json!({"name": "gone", "address": "unix:///nowhere"})),
            201,
        ),
        call(M::GET, "/api/v1/hosts", "/api/v1/hosts", None, 200),
        call(M::DELETE, "/api/v1/hosts/{name}", "/api/v1/hosts/gone", None, 204),
        call(M::GET, "/api/v1/fleet", "/api/v1/fleet", None, 200),
        call(M::GET, "/api/v1/attention", "/api/v1/attention", None, 200),
        call(M::GET, "/api/v1/containers", "/api/v1/containers?host=packhouse", None, 200),
        call(M::GET, "/api/v1/containers/{host}/{container}", "/api/v1/containers/packhouse/api", None, 200),
        call(M::GET, "/api/v1/containers/{host}/{container}", "/api/v1/containers/packhouse/none", None, 404),
        call(
            M::POST,
            "/api/v1/containers/{host}/{container}/reveal",
            "/api/v1/containers/packhouse/api/reveal",
            Some(json!({"variable": "NONE"})),
            404,
        ),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/logs",
            "/api/v1/containers/packhouse/failed/logs",
            None,
            200,
        ),
        call(M::POST, "/api/v1/operations/preview", "/api/v1/operations/preview", Some(stop.clone()), 200),
        call(M::POST, "/api/v1/operations", "/api/v1/operations", Some(stop), 202),
        call(M::POST, "/api/v1/operations", "/api/v1/operations", Some(again), 404),
        call(M::GET, "/api/v1/operations", "/api/v1/operations", None, 200),
        call(M::GET, "/api/v1/operations/{id}", "/api/v1/operations/1", None, 200),
        call(M::POST, "/api/v1/operations/{id}/cancel", "/api/v1/operations/99/cancel", None, 404),
        call(M::GET, "/api/v1/audit", "/api/v1/audit?limit=5", None, 200),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/processes",
            "/api/v1/containers/packhouse/api/processes",
            None,
            200,
        ),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/processes",
            "/api/v1/containers/packhouse/failed/processes",
            None,
            409,
        ),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/changes",
            "/api/v1/containers/packhouse/api/changes",
            None,
            200,
        ),
        call(M::GET, "/api/v1/images", "/api/v1/images?unused=false", None, 200),
        call(
            M::GET,
            "/api/v1/images/{image}",
            "/api/v1/images/registry.tarnvalley.example%2Fapi:1",
            None,
            200,
        ),
        call(M::GET, "/api/v1/images/{image}", "/api/v1/images/nothing", None, 404),
        call(M::GET, "/api/v1/volumes", "/api/v1/volumes", None, 200),
        call(M::GET, "/api/v1/networks", "/api/v1/networks", None, 200),
        call(M::GET, "/api/v1/stacks", "/api/v1/stacks", None, 200),
        call(M::GET, "/api/v1/drift", "/api/v1/drift", None, 200),
        call(M::GET, "/api/v1/jobs", "/api/v1/jobs", None, 200),
        call(
            M::GET,
            "/api/v1/jobs/{host}/{stack}/{service}/runs",
            "/api/v1/jobs/packhouse/frostwatch/report/runs",
            None,
            404,
        ),
        call(M::GET, "/api/v1/job-runs/{id}", "/api/v1/job-runs/1", None, 404),
        call(
            M::PUT,
            "/api/v1/stacks/{host}/{stack}/source",
            "/api/v1/stacks/packhouse/orchard/source",
            Some(
                json!({"url": "https://127.0.0.1:9/a.git", "reference": "main", "paths": ["stack.yaml"], "poll_seconds": 0}),
            ),
            200,
        ),
        call(
            M::GET,
            "/api/v1/stacks/{host}/{stack}/source",
            "/api/v1/stacks/packhouse/orchard/source",
            None,
            200,
        ),
        call(
            M::POST,
            "/api/v1/stacks/{host}/{stack}/source/look",
            "/api/v1/stacks/packhouse/orchard/source/look",
            None,
            202,
        ),
        call(
            M::POST,
            "/api/v1/stacks/{host}/{stack}/source/hook-secret",
            "/api/v1/stacks/packhouse/orchard/source/hook-secret",
            None,
            200,
        ),
        call(M::POST, "/api/v1/hooks/{hook}", "/api/v1/hooks/nobody", Some(json!({})), 401),
        call(
            M::DELETE,
            "/api/v1/stacks/{host}/{stack}/source",
            "/api/v1/stacks/packhouse/orchard/source",
            None,
            204,
        ),
        call(
            M::POST,
            "/api/v1/stacks/check",
            "/api/v1/stacks/check",
            Some(json!({"files": {"a.yaml": "services: {}"}, "main": ["a.yaml"]})),
            200,
        ),
        call(
            M::GET,
            "/api/v1/stacks/{host}/{stack}/revisions/{number}",
            "/api/v1/stacks/packhouse/frostwatch/revisions/1",
            None,
            404,
        ),
        call(
            M::GET,
            "/api/v1/stacks/{host}/{stack}/revisions/{number}/difference",
            "/api/v1/stacks/packhouse/frostwatch/revisions/1/difference",
            None,
            404,
        ),
        call(
            M::GET,
            "/api/v1/stacks/{host}/{stack}/revisions",
            "/api/v1/stacks/packhouse/frostwatch/revisions",
            None,
            200,
        ),
        call(
            M::GET,
            "/api/v1/stacks/{host}/{stack}/drift",
            "/api/v1/stacks/packhouse/frostwatch/drift",
            None,
            404,
        ),
        call(
            M::GET,
            "/api/v1/stacks/{host}/{stack}/text",
            "/api/v1/stacks/packhouse/frostwatch/text",
            None,
            422,
        ),
        call(
            M::POST,
            "/api/v1/stacks/{host}/{stack}/adopt",
            "/api/v1/stacks/packhouse/frostwatch/adopt",
            None,
            422,
        ),
        call(M::GET, "/api/v1/ports", "/api/v1/ports?port=80", None, 200),
        call(M::GET, "/api/v1/ports", "/api/v1/ports?port=x", None, 400),
        call(M::GET, "/api/v1/use", "/api/v1/use?reference=*/*", None, 200),
        call(
            M::GET,
            "/api/v1/usage-ranking",
            "/api/v1/usage-ranking?figure=memory&since=1d&limit=5",
            None,
            200,
        ),
        call(M::GET, "/api/v1/usage-ranking", "/api/v1/usage-ranking?figure=weight", None, 422),
        call(M::GET, "/api/v1/history", "/api/v1/history?host=packhouse&since=1h", None, 200),
        call(M::GET, "/api/v1/history", "/api/v1/history?host=packhouse&since=2999-01-01", None, 422),
        call(M::GET, "/api/v1/timeline", "/api/v1/timeline?kind=access&limit=3", None, 200),
        call(M::GET, "/api/v1/timeline", "/api/v1/timeline?kind=gossip", None, 422),
        call(
            M::POST,
            "/api/v1/kept-logs",
            "/api/v1/kept-logs",
            Some(json!({"scope": "stack", "value": "frostwatch", "days": 3, "bytes": 2_000_000})),
            201,
        ),
        call(M::GET, "/api/v1/kept-logs", "/api/v1/kept-logs", None, 200),
        call(M::DELETE, "/api/v1/kept-logs/{id}", "/api/v1/kept-logs/1", None, 204),
        call(M::GET, "/api/v1/logs", "/api/v1/logs?reference=*/failed", None, 200),
        call(M::GET, "/api/v1/logs", "/api/v1/logs?reference=*/failed&with=(", None, 422),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/shells",
            "/api/v1/containers/packhouse/api/shells",
            None,
            200,
        ),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/folder",
            "/api/v1/containers/packhouse/api/folder?path=/app",
            None,
            200,
        ),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/file",
            "/api/v1/containers/packhouse/api/file?path=/none",
            None,
            404,
        ),
        call(
            M::PUT,
            "/api/v1/containers/{host}/{container}/file",
            "/api/v1/containers/packhouse/api/file?path=none",
            Some(json!({})),
            422,
        ),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/archive",
            "/api/v1/containers/packhouse/api/archive?path=/none",
            None,
            404,
        ),
        call(
            M::PUT,
            "/api/v1/containers/{host}/{container}/archive",
            "/api/v1/containers/packhouse/api/archive?path=none",
            Some(json!({})),
            422,
        ),
        call(
            M::GET,
            "/api/v1/volumes/{host}/{volume}/folder",
            "/api/v1/volumes/packhouse/none/folder?path=/",
            None,
            404,
        ),
        call(
            M::GET,
            "/api/v1/volumes/{host}/{volume}/file",
            "/api/v1/volumes/packhouse/none/file?path=/x",
            None,
            404,
        ),
        call(
            M::PUT,
            "/api/v1/volumes/{host}/{volume}/file",
            "/api/v1/volumes/packhouse/none/file?path=/x",
            Some(json!({})),
            404,
        ),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/file-upload",
            "/api/v1/containers/packhouse/api/file-upload?path=/app/x&upload=frost2026",
            None,
            200,
        ),
        call(
            M::GET,
            "/api/v1/volumes/{host}/{volume}/file-upload",
            "/api/v1/volumes/packhouse/none/file-upload?path=/x&upload=frost2026",
            None,
            404,
        ),
        call(
            M::GET,
            "/api/v1/volumes/{host}/{volume}/archive",
            "/api/v1/volumes/packhouse/none/archive?path=/",
            None,
            404,
        ),
        call(
            M::PUT,
            "/api/v1/volumes/{host}/{volume}/archive",
            "/api/v1/volumes/packhouse/none/archive?path=/",
            Some(json!({})),
            404,
        ),
        call(
            M::POST,
            "/api/v1/volumes/{host}/{volume}/file-changes",
            "/api/v1/volumes/packhouse/none/file-changes",
            Some(json!({"change": "delete", "path": "/x"})),
            404,
        ),
        call(
            M::POST,
            "/api/v1/one-offs",
            "/api/v1/one-offs",
            Some(
                json!({"host": "packhouse", "definition": {"image": "x:1", "restart": {"policy": "always"}}}),
            ),
            422,
        ),
        call(
            M::GET,
            "/api/v1/volumes/{host}/{volume}/data",
            "/api/v1/volumes/packhouse/none/data",
            None,
            404,
        ),
        call(
            M::PUT,
            "/api/v1/volumes/{host}/{volume}/data",
            "/api/v1/volumes/packhouse/none/data",
            Some(json!({})),
            404,
        ),
        call(
            M::GET,
            "/api/v1/hosts/{name}/image-archive",
            "/api/v1/hosts/packhouse/image-archive?image=localhost/none:1",
            None,
            404,
        ),
        call(
            M::POST,
            "/api/v1/hosts/{name}/image-archive",
            "/api/v1/hosts/nowhere/image-archive",
            Some(json!({})),
            404,
        ),
        call(
            M::POST,
            "/api/v1/hosts/{name}/builds",
            "/api/v1/hosts/packhouse/builds?tag=Bad%20Name",
            Some(json!({})),
            422,
        ),
        call(
            M::POST,
            "/api/v1/containers/{host}/{container}/file-changes",
            "/api/v1/containers/packhouse/api/file-changes",
            Some(json!({"change": "create-folder", "path": "/app/trial"})),
            204,
        ),
        call(M::GET, "/api/v1/terminals", "/api/v1/terminals", None, 200),
        call(
            M::POST,
            "/api/v1/terminals",
            "/api/v1/terminals",
            Some(json!({"container": "packhouse/api", "columns": 80, "rows": 24})),
            201,
        ),
        call(M::DELETE, "/api/v1/terminals/{id}", "/api/v1/terminals/none", None, 404),
        call(
            M::POST,
            "/api/v1/containers/{host}/{container}/commands",
            "/api/v1/containers/packhouse/api/commands",
            Some(json!({"command": []})),
            422,
        ),
        call(M::GET, "/api/v1/operations/{id}/containers", "/api/v1/operations/99/containers", None, 404),
        call(M::POST, "/api/v1/operations/{id}/retry", "/api/v1/operations/99/retry", None, 404),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/definition",
            "/api/v1/containers/packhouse/api/definition",
            None,
            200,
        ),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/clone",
            "/api/v1/containers/packhouse/api/clone",
            None,
            200,
        ),
        call(
            M::GET,
            "/api/v1/containers/{host}/{container}/earlier",
            "/api/v1/containers/packhouse/api/earlier",
            None,
            200,
        ),
        call(
            M::POST,
            "/api/v1/definitions/variables",
            "/api/v1/definitions/variables",
            Some(json!({"text": "TZ=UTC\nnonsense"})),
            200,
        ),
        call(
            M::POST,
            "/api/v1/definitions/translate",
            "/api/v1/definitions/translate?host=packhouse",
            Some(json!({"compose": "services:\n  x:\n    image: base/toolbox:1\n    ports: [\"80:80\"]\n"})),
            200,
        ),
        call(
            M::POST,
            "/api/v1/definitions/translate",
            "/api/v1/definitions/translate",
            Some(json!({"compose": "services: ["})),
            422,
        ),
        call(M::GET, "/api/v1/registries", "/api/v1/registries", None, 200),
        call(
            M::PUT,
            "/api/v1/registries",
            "/api/v1/registries",
            Some(json!({"address": "127.0.0.1:1", "plain_http": true})),
            422,
        ),
        call(
            M::POST,
            "/api/v1/registries/test",
            "/api/v1/registries/test",
            Some(json!({"address": "https://r.example"})),
            422,
        ),
        call(M::DELETE, "/api/v1/registries/{address}", "/api/v1/registries/r.example", None, 404),
        call(M::GET, "/api/v1/registry-tags", "/api/v1/registry-tags?image=127.0.0.1:1/x", None, 422),
        call(M::GET, "/api/v1/image-search", "/api/v1/image-search?text=api", None, 200),
        call(M::GET, "/api/v1/leftovers", "/api/v1/leftovers", None, 200),
        call(
            M::PUT,
            "/api/v1/leftovers/keep",
            "/api/v1/leftovers/keep",
            Some(json!({"piece": {"host": "packhouse", "object": "volume", "id": "x"}, "keep": true})),
            204,
        ),
        call(M::GET, "/api/v1/preferences", "/api/v1/preferences", None, 200),
        call(
            M::PUT,
            "/api/v1/preferences",
            "/api/v1/preferences",
            Some(json!({"kept_earlier": 3, "image_check_hours": 0})),
            200,
        ),
        call(M::GET, "/api/v1/image-checks", "/api/v1/image-checks", None, 200),
        call(M::POST, "/api/v1/image-checks", "/api/v1/image-checks", None, 200),
        call(
            M::PATCH,
            "/api/v1/hosts/{name}",
            "/api/v1/hosts/packhouse",
            Some(json!({"ports_address": "packhouse.example"})),
            200,
        ),
    ];
    all.extend(crate::description_members::calls());
    all
}

/// The schema of an answer by its status.
fn schema<'a>(description: &'a Value, call: &Call) -> Option<&'a Value> {
    let method = call.method.as_str().to_lowercase();
    let responses = &description["paths"][call.path][method]["responses"];
    let response = responses.get(call.status.to_string());
    let response =
        response.unwrap_or_else(|| panic!("{} {}: {} is not described", call.method, call.path, call.status));
    response.get("content")?.as_object()?.values().next()?.get("schema")
}

#[tokio::test]
async fn the_description_fits_what_is_answered() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut spec = gubernum_sim::ContainerSpec::new("failed", "base/toolbox:1");
    spec.program = gubernum_sim::Program::new(vec![
        gubernum_sim::Action::Out("one".into()),
        gubernum_sim::Action::Exit(2),
    ]);
    bench.hosts[0].run(spec);
    bench
        .until("failed", async |b| b.one("packhouse", "failed").await.is_some_and(|c| c.exit_code.is_some()))
        .await;
    let (_, text) = bench.client.raw(Method::GET, "/openapi.json", None).await.unwrap();
    let description: Value = serde_json::from_slice(&text).unwrap();
    assert_eq!(description["openapi"], "3.1.0");

    let mut made = BTreeSet::new();
    for call in calls() {
        let body = call.body.as_ref().map(|b| b.to_string().into_bytes());
        let (status, text) = if call.status == 303 {
            // Where it leads is not followed.
            let http =
                reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().unwrap();
            let answer = http.get(format!("{}{}", bench.service.url(), call.real)).send().await.unwrap();
            (answer.status(), answer.bytes().await.unwrap().to_vec())
        } else {
            bench.client.raw(call.method.clone(), call.real, body).await.unwrap()
        };
        let shown = String::from_utf8_lossy(&text);
        assert_eq!(status.as_u16(), call.status, "{} {}: {shown}", call.method, call.real);
        made.insert((call.method.as_str().to_lowercase(), call.path));
        let Some(schema) = schema(&description, &call) else {
            assert!(text.is_empty(), "{} {} answers what is not described", call.method, call.real);
            continue;
        };
        let mut whole = schema.clone();
        whole["components"] = description["components"].clone();
        let validator = jsonschema::validator_for(&whole).unwrap();
        // Of JSON lines each is a value by itself.
        let text = if call.path.ends_with("/export") {
            text.split(|byte| *byte == b'\n').next().unwrap_or_default()
        } else {
            &text[..]
        };
        // An answer in text is its own value.
        let is_text = *schema == json!({"type": "string"});
        let value = if is_text { json!(shown) } else { serde_json::from_slice(text).unwrap() };
        let errors: Vec<String> =
            validator.iter_errors(&value).map(|e| format!("{}: {e}", e.instance_path())).collect();
        assert!(errors.is_empty(), "{} {}: {errors:?}\n{shown}", call.method, call.real);
    }
    // Nothing that is described has been left out; the WebSocket has tests of its own.
    for (path, methods) in description["paths"].as_object().unwrap() {
        for method in methods.as_object().unwrap().keys() {
            let known = made.iter().any(|(m, p)| m == method && p == path)
                || ["/api/v1/live", "/api/v1/terminals/{id}"].contains(&path.as_str());
            assert!(known, "{method} {path} is described and not tried");
        }
    }
}

#[tokio::test]
async fn every_operation_has_an_id_of_its_own_and_no_answer_is_a_wildcard() {
    let bench = Bench::with(&[]).await;
    let (_, text) = bench.client.raw(Method::GET, "/openapi.json", None).await.unwrap();
    let text = String::from_utf8(text.to_vec()).unwrap();
    let description: Value = serde_json::from_str(&text).unwrap();
    let mut ids = std::collections::BTreeSet::new();
    for (path, item) in description["paths"].as_object().unwrap() {
        for (method, operation) in
            item.as_object().unwrap().iter().filter(|(_, o)| o["responses"].is_object())
        {
            let id = operation["operationId"].as_str().unwrap();
            assert!(ids.insert(id.to_owned()), "{method} {path}: '{id}' is used twice");
            for status in operation["responses"].as_object().unwrap().keys() {
                assert!(status.parse::<u16>().is_ok(), "{method} {path}: {status}");
            }
        }
    }
    // Whatever is pointed at is there.
    for (at, _) in text.match_indices("#/components/schemas/") {
        let name = text[at + 21..].split('"').next().unwrap();
        assert!(description["components"]["schemas"].get(name).is_some(), "{name} is missing");
    }
}

/// Values that lie just beyond a schema's bounds.
fn beyond(schema: &Value) -> Vec<Value> {
    let number = |name: &str| schema[name].as_i64();
    let length = |name: &str| schema[name].as_u64().and_then(|n| usize::try_from(n).ok());
    let mut all = Vec::new();
    all.extend(number("maximum").map(|n| json!(n + 1)));
    all.extend(number("minimum").map(|n| json!(n - 1)));
    all.extend(length("maxLength").map(|n| json!("a".repeat(n + 1))));
    all.extend(length("minLength").and_then(|n| n.checked_sub(1)).map(|n| json!("a".repeat(n))));
    all.extend(length("maxItems").map(|n| json!(vec!["packhouse/api"; n + 1])));
    all
}

/// Requests for changes whose one setting lies just beyond its bounds: the body, the setting and its value.
fn beyond_the_settings_of_each_kind(description: &Value) -> Vec<(Value, String, Value)> {
    let mut all = Vec::new();
    for variant in description["components"]["schemas"]["Request"]["oneOf"].as_array().unwrap() {
        let parts = variant["allOf"].as_array().cloned().unwrap_or_default();
        let kind = parts.iter().find_map(|p| p.pointer("/properties/kind/enum/0")).cloned();
        let settings =
            parts.iter().find_map(|p| description.pointer(p["$ref"].as_str()?.trim_start_matches('#')));
        for (name, property) in settings.and_then(|s| s["properties"].as_object()).into_iter().flatten() {
            for mut value in beyond(property) {
                if name == "pieces" {
                    let piece = json!({"host": "packhouse", "object": "image", "id": "a"});
                    value = json!(vec![piece; value.as_array().unwrap().len()]);
                }
                let mut body = json!({"kind": kind, "targets": ["packhouse/api"]});
                if ["deploy", "edit"].iter().any(|k| body["kind"] == *k) {
                    body["definition"] = json!({"image": "frost/api:1"});
                }
                body[name] = value.clone();
                all.push((body, name.clone(), value));
            }
        }
    }
    assert!(all.len() >= 15, "{} values", all.len());
    all
}

#[tokio::test]
async fn what_lies_beyond_a_described_bound_is_refused() {
    let bench = Bench::with(&["packhouse"]).await;
    let (status, text) = bench.client.raw(Method::GET, "/openapi.json", None).await.unwrap();
    assert_eq!(status, 200);
    let description: Value = serde_json::from_slice(&text).unwrap();
    let (mut tried, mut faults) = (0, Vec::new());
    for call in calls() {
        let operation = &description["paths"][call.path][call.method.as_str().to_lowercase()];
        let reference = operation.pointer("/requestBody/content/application~1json/schema/$ref");
        let schema = reference.and_then(|r| description.pointer(r.as_str()?.trim_start_matches('#')));
        let parts = schema.into_iter().flat_map(|s| s["allOf"].as_array().into_iter().flatten().chain([s]));
        for (name, property) in parts.filter_map(|part| part["properties"].as_object()).flatten() {
            for value in beyond(property) {
                let mut body = call.body.clone().unwrap();
                body[name] = value.clone();
                let sent = Some(serde_json::to_vec(&body).unwrap());
                let (status, _) = bench.client.raw(call.method.clone(), call.real, sent).await.unwrap();
                tried += 1;
                if !status.is_client_error() {
                    faults.push(format!("{} {}: {name} {value} got {status}", call.method, call.real));
                }
            }
        }
        for parameter in operation["parameters"].as_array().into_iter().flatten() {
            if parameter["in"] != "query" {
                continue;
            }
            let name = parameter["name"].as_str().unwrap();
            for value in beyond(&parameter["schema"]) {
                let sign = if call.real.contains('?') { '&' } else { '?' };
                let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                let path = format!("{}{sign}{name}={text}", call.real);
                let (status, _) = bench.client.raw(call.method.clone(), &path, None).await.unwrap();
                tried += 1;
                if !status.is_client_error() {
                    faults.push(format!("{} {path}: got {status}", call.method));
                }
            }
        }
    }
    for (body, name, value) in beyond_the_settings_of_each_kind(&description) {
        let sent = Some(serde_json::to_vec(&body).unwrap());
        let (status, answer) = bench.client.raw(Method::POST, "/api/v1/operations", sent).await.unwrap();
        tried += 1;
        let problem: Value = serde_json::from_slice(&answer).unwrap();
        let too_large = status == 413;
        if !too_large && (!status.is_client_error() || problem["field"] != format!("/{name}")) {
            let value = gubernum_core::text::shown(&value.to_string(), 60);
            faults.push(format!("{}: {name} {value} got {status}: {problem}", body["kind"]));
        }
    }
    assert!(tried > 70, "{tried} values were tried");
    assert!(faults.is_empty(), "{faults:#?}");
}
