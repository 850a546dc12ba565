//! The description of the interface against what the service really answers: every described call is
//! made, and every answer is checked against the schema that it names.

use std::collections::BTreeSet;

use reqwest::Method;
use serde_json::{Value, json};

use crate::description_calls::{Call, calls};
use crate::support::Bench;

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

/// Requests for changes with one setting just beyond its bounds: the body, the setting and its value.
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
