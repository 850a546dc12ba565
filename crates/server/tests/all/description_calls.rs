//! The calls of the interface about the service, hosts, changes, usage and logs, each with the status of its answer; with those of
//! [`crate::description_objects`] and [`crate::description_members`] all that are described.

use reqwest::Method;
use serde_json::{Value, json};

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
        call(M::GET, "/api/v1/usage", "/api/v1/usage?reference=*/*", None, 200),
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
    ];
    all.extend(crate::description_objects::calls());
    all.extend(crate::description_members::calls());
    all
}
