//! Every described call about members, roles and invitations.

use reqwest::Method as M;
use serde_json::json;

use crate::description_calls::{Call, call};
use crate::support::PASSWORD;

/// In an order in which each makes sense. The one member is number 1.
pub(crate) fn calls() -> Vec<Call> {
    let night = json!({"name": "night-shift", "rights": ["see", "read-logs", "start-stop"]});
    let tess =
        json!({"name": "tess", "grants": [{"role": "night-shift", "scope": "host:packhouse"}], "hours": 4});
    let openid = json!({
        "settings": {"openid": {"issuer": "http://127.0.0.1:9", "client_id": "gubernum", "service_address": "http://127.0.0.1:7310"}},
        "mapping": [{"group": "harvest", "role": "viewer", "scope": "fleet"}],
    });
    let ldap = json!({
        "settings": {"ldap": {"address": "http://127.0.0.1:9", "base": "dc=orchard"}}, "mapping": [],
    });
    let note = json!({"on": "fleet", "text": "the press is cleaned on Fridays", "pinned": true});
    vec![
        call(M::GET, "/api/v1/directories", "/api/v1/directories", None, 200),
        call(M::PUT, "/api/v1/directories/{kind}", "/api/v1/directories/ldap", Some(ldap), 422),
        call(M::DELETE, "/api/v1/directories/{kind}", "/api/v1/directories/ldap", None, 404),
        call(
            M::POST,
            "/api/v1/directories/{kind}/test",
            "/api/v1/directories/openid/test",
            Some(openid),
            200,
        ),
        call(M::GET, "/api/v1/openid/begin", "/api/v1/openid/begin", None, 404),
        call(M::GET, "/api/v1/openid/callback", "/api/v1/openid/callback?state=none", None, 303),
        call(
            M::POST,
            "/api/v1/openid/sessions",
            "/api/v1/openid/sessions",
            Some(json!({"ticket": "none"})),
            401,
        ),
        call(M::POST, "/api/v1/openid/logout", "/api/v1/openid/logout", Some(json!({})), 400),
        call(M::GET, "/api/v1/openid/end", "/api/v1/openid/end", None, 200),
        call(M::GET, "/api/v1/team", "/api/v1/team", None, 200),
        call(M::POST, "/api/v1/notes", "/api/v1/notes", Some(note), 201),
        call(M::GET, "/api/v1/notes", "/api/v1/notes?on=fleet", None, 200),
        call(M::PATCH, "/api/v1/notes/{id}", "/api/v1/notes/1", Some(json!({"pinned": false})), 200),
        call(M::DELETE, "/api/v1/notes/{id}", "/api/v1/notes/1", None, 204),
        call(M::POST, "/api/v1/mentions/seen", "/api/v1/mentions/seen", Some(json!({"notes": [1]})), 204),
        call(M::GET, "/api/v1/profile", "/api/v1/profile", None, 200),
        call(M::PUT, "/api/v1/profile", "/api/v1/profile", Some(json!({"clock": "12h"})), 200),
        call(M::PUT, "/api/v1/profile", "/api/v1/profile", Some(json!({"time_zone": "none"})), 422),
        call(M::POST, "/api/v1/step-up", "/api/v1/step-up", Some(json!({"password": PASSWORD})), 409),
        call(M::DELETE, "/api/v1/step-up", "/api/v1/step-up", None, 409),
        call(M::PUT, "/api/v1/view-as", "/api/v1/view-as", Some(json!({"role": "viewer"})), 409),
        call(M::DELETE, "/api/v1/view-as", "/api/v1/view-as", None, 409),
        call(M::GET, "/api/v1/approvals", "/api/v1/approvals", None, 200),
        call(M::POST, "/api/v1/approvals/{id}", "/api/v1/approvals/1", Some(json!({"approve": true})), 404),
        call(M::DELETE, "/api/v1/approvals/{id}", "/api/v1/approvals/1", None, 404),
        call(M::GET, "/api/v1/syslog", "/api/v1/syslog", None, 200),
        call(
            M::PUT,
            "/api/v1/syslog",
            "/api/v1/syslog",
            Some(json!({"host": "127.0.0.1", "port": 9, "transport": "tcp"})),
            200,
        ),
        call(M::DELETE, "/api/v1/syslog", "/api/v1/syslog", None, 204),
        call(M::POST, "/api/v1/seal-rotations", "/api/v1/seal-rotations", None, 200),
        call(M::GET, "/api/v1/rights", "/api/v1/rights", None, 200),
        call(M::GET, "/api/v1/roles", "/api/v1/roles", None, 200),
        call(M::PUT, "/api/v1/roles", "/api/v1/roles", Some(night), 200),
        call(
            M::PUT,
            "/api/v1/roles",
            "/api/v1/roles",
            Some(json!({"name": "admin", "rights": ["see"]})),
            422,
        ),
        call(M::POST, "/api/v1/invitations", "/api/v1/invitations", Some(tess), 201),
        call(M::GET, "/api/v1/invitations", "/api/v1/invitations", None, 200),
        call(M::DELETE, "/api/v1/invitations/{id}", "/api/v1/invitations/1", None, 204),
        call(
            M::POST,
            "/api/v1/invitations/show",
            "/api/v1/invitations/show",
            Some(json!({"secret": "gbi_none"})),
            403,
        ),
        call(
            M::POST,
            "/api/v1/invitations/accept",
            "/api/v1/invitations/accept",
            Some(json!({"secret": "gbi_none", "password": PASSWORD})),
            403,
        ),
        call(M::DELETE, "/api/v1/roles/{name}", "/api/v1/roles/night-shift", None, 204),
        call(M::GET, "/api/v1/members", "/api/v1/members", None, 200),
        call(M::GET, "/api/v1/members/{id}", "/api/v1/members/1", None, 200),
        call(
            M::PATCH,
            "/api/v1/members/{id}",
            "/api/v1/members/1",
            Some(json!({"grants": [{"role": "admin", "scope": "fleet"}]})),
            200,
        ),
        call(M::PATCH, "/api/v1/members/{id}", "/api/v1/members/1", Some(json!({"deactivated": true})), 409),
        call(M::POST, "/api/v1/members/{id}/reset", "/api/v1/members/1/reset", None, 201),
        call(M::DELETE, "/api/v1/members/{id}/sessions", "/api/v1/members/1/sessions", None, 204),
        call(M::DELETE, "/api/v1/members/{id}", "/api/v1/members/99", None, 404),
        call(
            M::POST,
            "/api/v1/second-factor",
            "/api/v1/second-factor",
            Some(json!({"password": PASSWORD})),
            409,
        ),
        call(M::PUT, "/api/v1/second-factor", "/api/v1/second-factor", Some(json!({"code": "123456"})), 409),
        call(
            M::DELETE,
            "/api/v1/second-factor",
            "/api/v1/second-factor",
            Some(json!({"code": "123456"})),
            409,
        ),
        call(M::GET, "/api/v1/audit/export", "/api/v1/audit/export?action=claim&since=1h", None, 200),
        call(M::GET, "/api/v1/audit", "/api/v1/audit?since=yesterdayish", None, 422),
        call(M::GET, "/api/v1/snoozes", "/api/v1/snoozes", None, 200),
        call(
            M::POST,
            "/api/v1/snoozes",
            "/api/v1/snoozes",
            Some(
                json!({"on": "host:packhouse", "code": "disk-full", "reason": "a disk is ordered", "hours": 8}),
            ),
            201,
        ),
        call(M::DELETE, "/api/v1/snoozes/{id}", "/api/v1/snoozes/99", None, 404),
        call(M::GET, "/api/v1/freezes", "/api/v1/freezes", None, 200),
        call(
            M::POST,
            "/api/v1/freezes",
            "/api/v1/freezes",
            Some(json!({"scope": "stack:none", "reason": "a test", "hours": 1})),
            201,
        ),
        call(M::DELETE, "/api/v1/freezes/{id}", "/api/v1/freezes/99", None, 404),
        call(
            M::POST,
            "/api/v1/password",
            "/api/v1/password",
            Some(json!({"current": PASSWORD, "new": PASSWORD})),
            409,
        ),
    ]
}
