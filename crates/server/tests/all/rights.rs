//! Every call of the API by everybody: what the table of rights allows, and nothing else; and nothing of what somebody does
//! not see in anything that they are answered or told.

use std::collections::BTreeMap;
use std::time::Duration;

use gubernum_api::{FromClient, FromServer};
use gubernum_client::{Client, Trust};
use gubernum_core::rights::table::{CALLS, Need, need};
use gubernum_core::rights::{Access, Held, Place, Right, Role, built_in};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::description_calls::calls;
use crate::support::Bench;

/// The operation ids of the description, by method and path.
async fn ids(client: &Client) -> BTreeMap<(String, String), String> {
    let (_, text) = client.raw(Method::GET, "/openapi.json", None).await.unwrap();
    let description: Value = serde_json::from_slice(&text).unwrap();
    let mut found = BTreeMap::new();
    for (path, item) in description["paths"].as_object().unwrap() {
        for (method, operation) in item.as_object().unwrap() {
            if let Some(id) = operation["operationId"].as_str() {
                found.insert((method.clone(), path.clone()), id.to_owned());
            }
        }
    }
    found
}

fn access(grants: &[&str], roles: &[Role]) -> Access {
    let held = grants.iter().map(|text| {
        let (role, scope) = text.split_once('@').unwrap();
        let role = roles.iter().find(|r| r.name == role).unwrap();
        Held { scope: scope.parse().unwrap(), rights: role.rights() }
    });
    Access::of(held.collect())
}

/// Whether the table allows a call on something of packhouse that is in no stack.
fn allowed(needed: Need, path: &str, access: &Access) -> bool {
    match needed {
        Need::Nothing | Need::Own => true,
        Need::Somewhere(right) => access.somewhere(right),
        Need::Fleet(right) | Need::FleetUnlessNamed(right) => access.on_fleet().has(right),
        Need::Host(right) | Need::Container(right) | Need::Volume(right) => {
            access.at(&Place::host("packhouse", &[])).has(right)
        }
        Need::Stack(right) => {
            let stack = path.split('/').nth(5).unwrap_or_default();
            access.at(&Place::stack("packhouse", &[], stack)).has(right)
        }
    }
}

#[tokio::test]
async fn every_call_is_in_the_table_and_every_line_is_a_call() {
    let bench = Bench::with(&[]).await;
    let ids = ids(&bench.client).await;
    for ((method, path), id) in &ids {
        assert!(need(id).is_some(), "{method} {path} ({id}) states no right");
    }
    let known: Vec<&String> = ids.values().collect();
    for (id, _) in CALLS {
        assert!(known.iter().any(|known| known.as_str() == *id), "'{id}' is a line for no call");
    }
}

#[tokio::test]
async fn everybody_may_what_the_table_says_and_nothing_else() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let ids = ids(&bench.client).await;
    // For each right a role that has it alone.
    for right in Right::ALL {
        let name = format!("only-{}", right.word());
        let role =
            gubernum_api::members::NewRole { name, rights: vec![Right::See, *right], second_factor: false };
        bench.client.set_role(&role).await.unwrap();
    }
    let roles = bench.client.roles().await.unwrap();
    assert_eq!(roles.len(), built_in().len() + Right::ALL.len());
    let mut grants: Vec<Vec<String>> =
        roles.iter().map(|role| vec![format!("{}@fleet", role.name)]).collect();
    for scope in ["host:packhouse", "host:coldstore", "stack:orchard", "label:team=frost"] {
        grants.push(vec![format!("operator@{scope}")]);
        grants.push(vec![format!("admin@{scope}")]);
    }
    grants.push(Vec::new());
    let (mut tried, mut faults) = (0, Vec::new());
    for (n, grants) in grants.iter().enumerate() {
        let grants: Vec<&str> = grants.iter().map(String::as_str).collect();
        let client = bench.member(&format!("member-{n}"), &grants).await;
        let access = access(&grants, &roles);
        for call in calls() {
            let key = (call.method.as_str().to_lowercase(), call.path.to_owned());
            let needed = need(&ids[&key]).unwrap();
            let may = allowed(needed, call.real, &access);
            // What is allowed was tried as an admin; here nothing is changed, so that each begins with the same.
            if may && call.method != Method::GET {
                continue;
            }
            let body = call.body.as_ref().map(|b| b.to_string().into_bytes());
            let (status, text) = client.raw(call.method.clone(), call.real, body).await.unwrap();
            tried += 1;
            let refused = String::from_utf8_lossy(&text).contains(":not-allowed\"");
            let is_hidden = status == StatusCode::NOT_FOUND;
            let fine = if may { !refused } else { refused || is_hidden };
            if !fine || status == StatusCode::UNAUTHORIZED {
                faults.push(format!("{grants:?}: {} {} got {status}, {needed:?}", call.method, call.real));
            }
        }
    }
    assert!(tried > 1000, "{tried} calls");
    assert!(faults.is_empty(), "{} of {tried}: {faults:#?}", faults.len());
}

#[tokio::test]
async fn without_signing_in_there_is_nothing_but_what_needs_nothing() {
    let bench = Bench::with(&["packhouse"]).await;
    let ids = ids(&bench.client).await;
    let wrong = Client::new(&bench.service.url(), None, Trust::System).unwrap();
    for call in calls() {
        let key = (call.method.as_str().to_lowercase(), call.path.to_owned());
        if need(&ids[&key]) == Some(Need::Nothing) {
            continue;
        }
        let body = call.body.as_ref().map(|b| b.to_string().into_bytes());
        let (status, _) = wrong.raw(call.method.clone(), call.real, body).await.unwrap();
        assert_eq!(status, StatusCode::UNAUTHORIZED, "{} {}", call.method, call.real);
    }
}

/// Words that appear only on what is hidden.
const HIDDEN: [&str; 5] = ["hiddenbarn", "zebra-store", "zebra_data", "zebra_net", "ZEBRA"];

/// A fleet with something hidden, and a member who sees only the stack `orchard` on packhouse.
async fn with_hidden() -> (Bench, Client) {
    let bench = Bench::with(&["packhouse", "hiddenbarn"]).await;
    for (host, stack, name) in
        [(0, "orchard", "orchard-web"), (0, "zebra", "zebra-store"), (1, "zebra", "zebra-far")]
    {
        let mut spec =
            gubernum_sim::ContainerSpec::new(name, &format!("registry.tarnvalley.example/{name}:1"));
        spec.labels.insert("com.docker.compose.project".into(), stack.into());
        spec.labels.insert("com.docker.compose.service".into(), "web".into());
        spec.environment.push(format!("{}=1", stack.to_uppercase()));
        bench.hosts[host].run(spec);
    }
    bench
        .until("all are seen", async |b| {
            let all = b.all().await;
            ["orchard-web", "zebra-store", "zebra-far"].iter().all(|n| all.iter().any(|c| c.name == *n))
        })
        .await;
    // Something has been done to what is hidden, and to what is not.
    for target in ["packhouse/zebra-store", "hiddenbarn/zebra-far", "packhouse/orchard-web"] {
        let body = json!({"kind": "restart", "targets": [target]}).to_string().into_bytes();
        let (status, _) = bench.client.raw(Method::POST, "/api/v1/operations", Some(body)).await.unwrap();
        assert_eq!(status, StatusCode::ACCEPTED);
    }
    bench
        .until("all is done", async |b| {
            let all = b.client.operations(50).await.unwrap();
            all.iter().all(|o| o.state == gubernum_api::OperationState::Succeeded)
        })
        .await;
    let client = bench.member("tess", &["operator@stack:packhouse/orchard"]).await;
    (bench, client)
}

#[tokio::test]
async fn what_is_not_seen_is_in_no_answer() {
    let (bench, tess) = with_hidden().await;
    let asked = [
        "/api/v1/fleet",
        "/api/v1/attention",
        "/api/v1/containers",
        "/api/v1/containers?reference=*/*",
        "/api/v1/hosts",
        "/api/v1/figures",
        "/api/v1/images",
        "/api/v1/volumes",
        "/api/v1/networks",
        "/api/v1/stacks",
        "/api/v1/ports",
        "/api/v1/timeline?limit=1000",
        "/api/v1/operations?limit=1000",
        "/api/v1/usage",
        "/api/v1/history?reference=*/*",
        "/api/v1/history?host=packhouse",
        "/api/v1/logs?reference=*/*&tail=10",
        "/api/v1/leftovers",
        "/api/v1/drift",
        "/api/v1/jobs",
        "/api/v1/image-search?text=registry",
        "/api/v1/image-checks",
        "/api/v1/terminals",
        "/api/v1/tokens",
        "/api/v1/rights",
        "/api/v1/sessions",
        // What is named and not there is answered as what never was.
        "/api/v1/containers/packhouse/zebra",
        "/api/v1/containers/-/zebra",
        "/api/v1/containers?host=hiddenbar",
        "/api/v1/history?reference=packhouse/zebr",
        "/api/v1/logs?reference=packhouse/zebr",
        "/api/v1/audit",
        "/api/v1/members",
        "/metrics",
    ];
    let mut faults = Vec::new();
    for path in asked {
        let (status, text) = tess.raw(Method::GET, path, None).await.unwrap();
        let text = String::from_utf8_lossy(&text).into_owned();
        if let Some(word) = HIDDEN.iter().find(|word| text.contains(**word)) {
            faults.push(format!("{path} ({status}) tells of {word}: {text}"));
        }
    }
    assert!(faults.is_empty(), "{faults:#?}");
    let seen: Vec<String> =
        tess.containers(&[]).await.unwrap().iter().map(gubernum_api::Container::reference).collect();
    assert_eq!(seen, ["packhouse/orchard-web"]);
    let operations = tess.operations(100).await.unwrap();
    assert_eq!(operations.len(), 1, "{operations:?}");
    assert!(bench.client.operations(100).await.unwrap().len() >= 3);
    // Nor is it found by asking for it.
    for (field, text) in [("object", "zebra"), ("object", "hiddenbarn/"), ("kind", "stop")] {
        let found = tess.operations_where(&[(field, text.to_owned())]).await.unwrap();
        assert_eq!(found.len(), 0, "{field}={text}");
    }
    let own = tess.operations_where(&[("object", "Orchard".to_owned()), ("since", "1h".to_owned())]).await;
    assert_eq!(own.unwrap().len(), 1);
}

#[tokio::test]
async fn what_is_not_there_and_what_is_not_seen_are_refused_alike() {
    let (_bench, tess) = with_hidden().await;
    let calls: [(Method, &str); 8] = [
        (Method::GET, "/api/v1/containers/NAME"),
        (Method::GET, "/api/v1/containers/NAME/logs"),
        (Method::GET, "/api/v1/containers/NAME/processes"),
        (Method::GET, "/api/v1/containers/NAME/definition"),
        (Method::GET, "/api/v1/containers/NAME/folder?path=/"),
        (Method::GET, "/api/v1/stacks/NAME/revisions"),
        (Method::GET, "/api/v1/volumes/NAME/folder?path=/"),
        (Method::POST, "/api/v1/containers/NAME/commands"),
    ];
    let mut faults = Vec::new();
    for (method, path) in calls {
        let mut answers = Vec::new();
        for name in
            ["packhouse/zebra-store", "packhouse/wholly-none", "hiddenbarn/zebra-far", "nowherebar/zebra-far"]
        {
            let body = (method == Method::POST).then(|| br#"{"command": ["id"]}"#.to_vec());
            let real = path.replace("NAME", name);
            let (status, text) = tess.raw(method.clone(), &real, body).await.unwrap();
            // But for the name that was requested, the words are the same.
            let (host, object) = name.split_once('/').unwrap();
            let text = String::from_utf8_lossy(&text).replace(object, "OBJECT").replace(host, "HOST");
            answers.push((status, text));
        }
        if answers[0] != answers[1] || answers[2] != answers[3] || answers[0].0 != StatusCode::NOT_FOUND {
            faults.push(format!("{method} {path}: {answers:#?}"));
        }
    }
    for kind in ["restart", "remove", "update"] {
        let mut answers = Vec::new();
        for name in ["packhouse/zebra-store", "packhouse/wholly-none"] {
            let body = json!({"kind": kind, "targets": [name]}).to_string().into_bytes();
            let (status, text) =
                tess.raw(Method::POST, "/api/v1/operations/preview", Some(body)).await.unwrap();
            let object = name.split_once('/').unwrap().1;
            answers.push((status, String::from_utf8_lossy(&text).replace(object, "OBJECT")));
        }
        if answers[0] != answers[1] {
            faults.push(format!("{kind}: {answers:#?}"));
        }
    }
    assert!(faults.is_empty(), "{faults:#?}");
}

#[tokio::test]
async fn what_is_in_the_way_is_reported_without_its_name() {
    let (bench, tess) = with_hidden().await;
    let mut spec =
        gubernum_sim::ContainerSpec::new("zebra-front", "registry.tarnvalley.example/zebra-store:1");
    spec.ports.push(gubernum_sim::PortSpec { host: Some(7420), container: 80, protocol: "tcp".into() });
    bench.hosts[0].run(spec);
    bench.until("it is there", async |b| b.one("packhouse", "zebra-front").await.is_some()).await;
    let text = "services: {web: {image: 'registry.tarnvalley.example/web:1', ports: ['7420:80']}}";
    let apply = json!({"kind": "apply", "targets": ["packhouse"], "stack": "orchard",
        "files": {"a.yaml": text}, "main": ["a.yaml"]});
    let body = || Some(apply.to_string().into_bytes());
    let path = "/api/v1/operations/preview";
    let (_, whole) = bench.client.raw(Method::POST, path, body()).await.unwrap();
    assert!(String::from_utf8_lossy(&whole).contains("zebra-front"), "whoever sees it is told");
    let (_, seen) = tess.raw(Method::POST, path, body()).await.unwrap();
    let seen = String::from_utf8_lossy(&seen);
    assert!(seen.contains("7420") && seen.contains("another object"), "{seen}");
    assert!(!seen.contains("zebra"), "{seen}");
    // Nor is a name that is taken explained, and paths of the host are not probed.
    let compose = "services: {x: {image: 'registry.tarnvalley.example/web:1', volumes: ['/etc:/x']}}";
    let body = json!({"compose": compose}).to_string().into_bytes();
    let path = "/api/v1/definitions/translate?host=packhouse";
    let (status, text) = tess.raw(Method::POST, path, Some(body)).await.unwrap();
    assert_eq!(status, StatusCode::OK, "{}", String::from_utf8_lossy(&text));
    let path = "/api/v1/containers/packhouse/orchard-web/clone?host=hiddenbarn";
    let (status, _) = tess.raw(Method::GET, path, None).await.unwrap();
    assert_eq!(status, StatusCode::NOT_FOUND);
}

#[tokio::test]
async fn nothing_that_is_not_seen_comes_over_the_live_connection() {
    let (bench, tess) = with_hidden().await;
    let mut live = tess.live().await.unwrap();
    live.send(&FromClient::Fleet { id: 1, since: None }).await.unwrap();
    live.send(&FromClient::Operations { id: 2 }).await.unwrap();
    let wish = gubernum_api::usage::UsageSubscription { references: vec!["*/*".into()] };
    live.send(&FromClient::Use { id: 3, wish }).await.unwrap();
    for target in ["packhouse/zebra-store", "hiddenbarn/zebra-far", "packhouse/orchard-web"] {
        let body = json!({"kind": "stop", "targets": [target]}).to_string().into_bytes();
        bench.client.raw(Method::POST, "/api/v1/operations", Some(body)).await.unwrap();
    }
    // What is seen was done last: until then everything else has had its time.
    let (mut revision, mut over) = (None, false);
    while !over {
        let message = tokio::time::timeout(Duration::from_secs(20), live.next()).await.expect("a message");
        let message = message.unwrap().unwrap();
        let text = serde_json::to_string(&message).unwrap();
        assert!(!HIDDEN.iter().any(|word| text.contains(word)), "{text}");
        match message {
            FromServer::Snapshot { fleet, .. } => revision = Some(fleet.revision),
            FromServer::Delta { delta, .. } => {
                assert_eq!(Some(delta.revision), revision.map(|r| r + 1), "no gap tells of what is hidden");
                revision = Some(delta.revision);
                over = text.contains("exited");
            }
            _ => {}
        }
    }
}

#[tokio::test]
async fn a_change_of_grants_reaches_what_is_open_at_once() {
    let bench = Bench::with(&["packhouse"]).await;
    let tess = bench.member("tess", &["operator@fleet"]).await;
    let id = bench.client.members().await.unwrap().into_iter().find(|m| m.name == "tess").unwrap().id;
    let mut live = tess.live().await.unwrap();
    live.send(&FromClient::Fleet { id: 1, since: None }).await.unwrap();
    assert!(matches!(live.next().await, Ok(Some(FromServer::Snapshot { .. }))));
    let grants =
        vec![gubernum_api::members::Grant { role: "viewer".into(), scope: "stack:orchard".parse().unwrap() }];
    let began = std::time::Instant::now();
    let wish =
        gubernum_api::members::SetMember { grants: Some(grants), deactivated: None, second_factor: None };
    bench.client.set_member(id, &wish).await.unwrap();
    loop {
        let next = tokio::time::timeout(Duration::from_secs(5), live.next()).await.expect("it ends");
        if !matches!(next, Ok(Some(_))) {
            break;
        }
    }
    assert!(began.elapsed() < Duration::from_secs(1), "{:?}", began.elapsed());
    assert_eq!(tess.containers(&[]).await.unwrap().len(), 0);
}
