//! Nothing prints a secret: one is planted in every place where a secret can enter, and then looked for in the service's log, its files,
//! every answer of the API, live messages, the audit log and the pages of the console.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use gubernum_api::live::FromClient;
use gubernum_api::requests::{Claim, NewToken};
use gubernum_client::{Client, Trust};
use gubernum_sim::{ContainerSpec, SimHost};
use gubernum_testbed::browser::Browser;
use gubernum_testbed::certs::Authority;
use gubernum_testbed::registry::RealRegistry;
use gubernum_testbed::started::Started;
use reqwest::Method;
use serde_json::{Value, json};

use crate::console::Page;
use crate::support::{binary, run_at};

/// The longest answer that is looked through.
const LONGEST: usize = 8 << 20;

/// What was planted, by place.
#[derive(Default)]
struct Canaries(BTreeMap<String, String>);

impl Canaries {
    /// A fresh secret for a place.
    fn fresh(&mut self, place: &str) -> String {
        let marks: String = (0..12)
            .map(|n| char::from(b'a' + u8::try_from((n * 7 + self.0.len() * 5 + 3) % 26).unwrap()))
            .collect();
        let text = format!("Canary-{marks}-{}", self.0.len());
        self.note(place, &text);
        text
    }

    fn note(&mut self, place: &str, text: &str) {
        self.0.insert(place.to_owned(), text.to_owned());
    }

    /// Where something was found that nobody may print.
    fn found_in(&self, what: &str, content: &[u8]) -> Vec<String> {
        let holds = |secret: &str| content.windows(secret.len()).any(|w| w == secret.as_bytes());
        let all = self.0.iter().filter(|(_, secret)| holds(secret));
        all.map(|(place, _)| format!("{what} tells the secret of: {place}")).collect()
    }
}

/// A caller of the API who keeps what is answered.
struct Caller<'a> {
    http: reqwest::Client,
    url: &'a str,
    token: &'a str,
}

impl Caller<'_> {
    async fn call(&self, method: Method, path: &str, body: Option<Value>) -> (u16, Vec<u8>) {
        let mut request = self.http.request(method, format!("{}{path}", self.url));
        request = request.bearer_auth(self.token).timeout(Duration::from_secs(10));
        if let Some(body) = body {
            request = request.json(&body);
        }
        let Ok(mut response) = request.send().await else { return (0, Vec::new()) };
        let (status, mut content) = (response.status().as_u16(), Vec::new());
        // What streams without an end is looked through as far as it came.
        while let Ok(Ok(Some(piece))) = tokio::time::timeout(Duration::from_secs(2), response.chunk()).await {
            content.extend_from_slice(&piece);
            if content.len() > LONGEST {
                break;
            }
        }
        (status, content)
    }
}

fn text_of_stack(canaries: &mut Canaries) -> (String, BTreeMap<String, String>) {
    let (password, secret) = (canaries.fresh("stack: environment"), canaries.fresh("stack: secret"));
    let variable = canaries.fresh("stack: variable");
    let text = format!(
        "services:\n  mast:\n    image: registry.tarnvalley.example/api:1\n    pull_policy: never\n    environment:\n      \
         DB_PASSWORD: {password}\n      API_TOKEN: ${{API_TOKEN}}\n    command: [serve, --password={password}]\n    secrets: [ledger]\n\
         secrets:\n  ledger: {{environment: LEDGER_SECRET}}\n"
    );
    (text, [("API_TOKEN".to_owned(), variable), ("LEDGER_SECRET".to_owned(), secret)].into())
}

/// Plants secrets wherever one can enter; returns what was answered where nothing is shown once.
async fn plant(caller: &Caller<'_>, canaries: &mut Canaries) -> Vec<(String, Vec<u8>)> {
    let mut answers = Vec::new();
    let mut asked = async |method: Method, path: &str, body: Value, fine: bool| {
        let (status, content) = caller.call(method.clone(), path, Some(body)).await;
        assert!(
            !fine || (200..300).contains(&status),
            "{method} {path}: {status} {}",
            String::from_utf8_lossy(&content)
        );
        answers.push((format!("{method} {path}"), content));
    };
    let secret = canaries.fresh("registry: secret");
    let authority = Authority::new().unwrap();
    let registry = RealRegistry::start_tls(&authority, Some(("harvest", &secret))).unwrap();
    let body = json!({"address": registry.address, "account": "harvest", "secret": secret,
        "ca": authority.certificate()});
    asked(Method::POST, "/api/v1/registries/test", body.clone(), false).await;
    asked(Method::PUT, "/api/v1/registries", body, true).await;

    let material = Authority::new().unwrap().material().unwrap();
    let line = material.key.lines().nth(1).unwrap().to_owned();
    canaries.note("host: key", &line);
    let host = json!({"name": "far", "address": "tcp://127.0.0.1:9", "tls": {"ca": material.ca, "certificate": material.certificate, "key": material.key}});
    asked(Method::POST, "/api/v1/hosts/test", host.clone(), false).await;
    asked(Method::POST, "/api/v1/hosts?untested=true", host, false).await;

    let (text, variables) = text_of_stack(canaries);
    let apply = json!({"kind": "apply", "stack": "frostwatch", "files": {"stack.yaml": text}, "main": ["stack.yaml"],
        "variables": variables, "watch_seconds": 1, "targets": ["packhouse"]});
    asked(Method::POST, "/api/v1/operations/preview", apply.clone(), true).await;
    asked(Method::POST, "/api/v1/operations", apply, true).await;
    let wrong = canaries.fresh("stack: a text with an error");
    let text = format!("services:\n  mast:\n    environment: {{DB_PASSWORD: {wrong}\n");
    let check = json!({"stack": "frostwatch", "files": {"stack.yaml": text}, "main": ["stack.yaml"], "host": "packhouse"});
    asked(Method::POST, "/api/v1/stacks/check", check, false).await;

    let environment = canaries.fresh("container: environment");
    let definition = json!({"image": "registry.tarnvalley.example/api:1", "pull": "never",
        "environment": [{"name": "SMTP_PASSWORD", "value": environment}]});
    let deploy = json!({"kind": "deploy", "definition": definition, "targets": ["packhouse/press"], "watch_seconds": 1});
    asked(Method::POST, "/api/v1/operations/preview", deploy.clone(), true).await;
    asked(Method::POST, "/api/v1/operations", deploy, true).await;
    let command = canaries.fresh("command: environment");
    let run = json!({"command": ["true"], "environment": [format!("RUN_TOKEN={command}")]});
    asked(Method::POST, "/api/v1/containers/packhouse/mast/commands", run, false).await;
    let argument = canaries.fresh("command: argument");
    let run = json!({"command": ["login", format!("--password={argument}")]});
    asked(Method::POST, "/api/v1/containers/packhouse/mast/commands", run, false).await;

    let token = canaries.fresh("source: token");
    let source = json!({"url": "https://git.tarnvalley.example/a.git", "reference": "main", "paths": ["stack.yaml"],
        "token": token, "poll_seconds": 0, "variables": {"API_TOKEN": canaries.fresh("source: variable")}});
    let (status, content) =
        caller.call(Method::PUT, "/api/v1/stacks/packhouse/frostwatch/source", Some(source)).await;
    // The secret of its hook is shown this once.
    let told: Value = serde_json::from_slice(&content).unwrap_or_default();
    if let Some(secret) = told["hook_secret"].as_str() {
        canaries.note("source: hook", secret);
    }
    assert_eq!(status, 200, "{told}");

    let bind = canaries.fresh("directory: password to bind with");
    let ldap = json!({"settings": {"ldap": {"address": "ldaps://127.0.0.1:9", "base": "dc=orchard", "bind_name": "cn=reader,dc=orchard"}},
        "mapping": [], "secret": bind});
    asked(Method::POST, "/api/v1/directories/ldap/test", ldap.clone(), false).await;
    asked(Method::PUT, "/api/v1/directories/ldap", ldap, false).await;
    let client = canaries.fresh("directory: secret of the client");
    let openid = json!({"settings": {"openid": {"issuer": "http://127.0.0.1:9", "client_id": "gubernum", "service_address": caller.url}},
        "mapping": [], "secret": client});
    asked(Method::PUT, "/api/v1/directories/openid", openid, false).await;

    for (path, field) in [("/api/v1/sessions", "password"), ("/api/v1/claim", "code")] {
        let wrong = canaries.fresh(&format!("{path}: a wrong {field}"));
        let body = json!({"member": "mara", "password": "something else entirely", field: wrong});
        asked(Method::POST, path, body, false).await;
    }
    let odd = canaries.fresh("a password in a body that is refused");
    asked(Method::POST, "/api/v1/password", json!({"current": odd, "new": odd, "more": odd}), false).await;
    asked(Method::POST, "/api/v1/invitations/accept", json!({"secret": odd, "password": odd}), false).await;
    answers
}

/// Every address that is read, with what is there put into it.
fn addresses(description: &Value) -> Vec<String> {
    let mut all = Vec::new();
    for (path, methods) in description["paths"].as_object().unwrap() {
        // What shows secrets to whoever may see them, and what is no answer but a connection.
        if methods["get"].is_null() || path.ends_with("/reveal") || path == "/api/v1/live" {
            continue;
        }
        let numbers = if path.contains("{id}") || path.contains("{number}") { 1..=8 } else { 1..=1 };
        for number in numbers {
            for (container, volume) in [("frostwatch-mast-1", "bins"), ("press", "bins"), ("mast", "bins")] {
                let filled = [
                    ("{host}", "packhouse"),
                    ("{name}", "packhouse"),
                    ("{container}", container),
                    ("{volume}", volume),
                    ("{stack}", "frostwatch"),
                    ("{service}", "mast"),
                ];
                let path = filled.iter().fold(path.clone(), |path, (name, value)| path.replace(name, value));
                let number = number.to_string();
                all.push(path.replace("{id}", &number).replace("{number}", &number));
            }
        }
    }
    all.sort();
    all.dedup();
    all
}

/// Everything in a folder.
fn files(folder: &Path, found: &mut Vec<(String, Vec<u8>)>) {
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            files(&path, found);
        } else if let Ok(content) = std::fs::read(&path) {
            found.push((format!("the file {}", path.display()), content));
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_prints_a_secret() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let service =
        Started::serve(binary(), &data, &["--find-local-engine", "false", "--log-level", "trace"]).unwrap();
    let mut canaries = Canaries::default();
    let password = canaries.fresh("the password of the first member");
    let anonymous = Client::new(service.url(), None, Trust::System).unwrap();
    canaries.note("claim code", service.text("claim_code"));
    let claim =
        Claim { code: service.text("claim_code").into(), member: "mara".into(), password: password.clone() };
    let session = anonymous.claim(&claim).await.unwrap();
    let wish = NewToken { name: "tests".into(), expires_in_days: None, bounds: None, networks: Vec::new() };
    let token = session.make_token(&wish).await.unwrap().secret;
    canaries.note("token", &token);
    let socket = folder.path().join("packhouse.sock");
    let host = SimHost::start(&socket, "packhouse", 3).unwrap();
    let engine = canaries.fresh("the engine: environment of a container made elsewhere");
    host.run(ContainerSpec {
        environment: vec![format!("MAIL_PASSWORD={engine}")],
        ..ContainerSpec::new("mast", "registry.tarnvalley.example/api:1")
    });
    assert!(run_at(service.url(), &token, &["add", "host", "packhouse", &host.address()]).status.success());
    let caller = Caller { http: reqwest::Client::new(), url: service.url(), token: &token };
    let client = Client::new(service.url(), Some(token.clone()), Trust::System).unwrap();
    crate::support::until("its containers are listed", || {
        let told = run_at(service.url(), &token, &["list", "containers"]);
        crate::support::out(&told).contains("mast")
    });

    let mut live = client.live().await.unwrap();
    for message in [
        FromClient::Fleet { id: 1, since: None },
        FromClient::Operations { id: 2 },
        FromClient::Team { id: 3 },
    ] {
        live.send(&message).await.unwrap();
    }
    let messages = Arc::new(Mutex::new(Vec::new()));
    let told = tokio::spawn({
        let messages = messages.clone();
        async move {
            while let Ok(Some(message)) = live.next().await {
                messages.lock().unwrap().push(serde_json::to_vec(&message).unwrap());
            }
        }
    });
    let mut seen = plant(&caller, &mut canaries).await;
    crate::support::until("what was requested is made", || {
        let told = crate::support::out(&run_at(service.url(), &token, &["list", "containers"]));
        told.contains("frostwatch-mast-1") && told.contains("press")
    });
    // The text is kept once its containers are seen to run.
    crate::support::until("the revision is kept", || {
        let told = run_at(service.url(), &token, &["list", "revisions", "packhouse/frostwatch"]);
        told.status.success() && crate::support::out(&told).contains("mara")
    });
    // One more member: link, password, second factor.
    let (_, made) = caller
        .call(
            Method::POST,
            "/api/v1/invitations",
            Some(json!({"name": "tess", "grants": [{"role": "viewer", "scope": "fleet"}]})),
        )
        .await;
    let made: Value = serde_json::from_slice(&made).unwrap();
    let link = made["secret"].as_str().unwrap();
    canaries.note("invitation", link);
    let hers = canaries.fresh("the password of an invited member");
    let accept = gubernum_api::members::AcceptInvitation { secret: link.to_owned(), password: hers.clone() };
    let tess = anonymous.accept_invitation(&accept).await.unwrap();
    let factor = tess.begin_second_factor(&hers).await.unwrap();
    canaries.note("second factor", &factor.secret);

    let (_, description) = caller.call(Method::GET, "/openapi.json", None).await;
    let description: Value = serde_json::from_slice(&description).unwrap();
    for path in addresses(&description) {
        let (_, content) = caller.call(Method::GET, &path, None).await;
        seen.push((format!("GET {path}"), content));
    }
    assert!(seen.iter().filter(|(_, content)| content.len() > 20).count() > 60, "much was read");
    seen.push(("the log".to_owned(), service.log().into_bytes()));
    assert!(service.log().contains("TRACE") || service.log().contains("DEBUG"), "the log tells all it can");
    files(&data, &mut seen);
    for words in [
        &["list", "operations", "--output", "json"][..],
        &["show", "packhouse/press"],
        &["show", "packhouse/frostwatch-mast-1", "--output", "json"],
        &["show", "stack", "packhouse/frostwatch"],
        &["list", "registries"],
        &["list", "directories"],
    ] {
        let output = run_at(service.url(), &token, words);
        seen.push((format!("gubernum {}", words.join(" ")), [output.stdout, output.stderr].concat()));
    }

    let browser = Browser::start().await.unwrap();
    let page = Page(&browser.window);
    page.0.goto(service.url()).await.unwrap();
    page.find("#member").await.send_keys("mara").await.unwrap();
    page.find("#password").await.send_keys(&password).await.unwrap();
    page.click("button[type=submit]").await;
    page.find("[data-test=matrix]").await;
    for (path, words) in [
        ("/", "Overview"),
        ("/containers?inspect=packhouse/press", "SMTP_PASSWORD"),
        ("/containers?inspect=packhouse/press&tab=settings", "press"),
        ("/containers?inspect=packhouse/frostwatch-mast-1", "DB_PASSWORD"),
        ("/stacks/packhouse/frostwatch", "frostwatch"),
        ("/stacks/packhouse/frostwatch?part=text", "DB_PASSWORD"),
        ("/stacks/packhouse/frostwatch?part=source", "git.tarnvalley.example"),
        ("/deploy?edit=packhouse/press", "press"),
        ("/operations", "press"),
        ("/audit", "set-registry"),
        ("/members", "mara"),
        ("/account", "API tokens"),
        ("/service", "Encryption key"),
        ("/hosts?inspect=host:far", "far"),
    ] {
        page.go(&service, path).await;
        page.reads("body", words).await;
        let dump = "return document.documentElement.outerHTML + [...document.querySelectorAll('input, textarea')]
            .map((field) => field.value).join('\\n') + JSON.stringify(localStorage) + JSON.stringify(sessionStorage)";
        seen.push((format!("the page {path}"), page.script(dump).await.to_string().into_bytes()));
    }
    browser.close().await.unwrap();
    told.abort();
    let messages = messages.lock().unwrap().clone();
    assert!(messages.len() > 5, "the live connection told of what was done");
    seen.extend(messages.into_iter().map(|message| ("a live message".to_owned(), message)));
    let mut found: Vec<String> =
        seen.iter().flat_map(|(what, content)| canaries.found_in(what, content)).collect();
    // The claim code is said once, where the service was started.
    found.retain(|text| text != "the log tells the secret of: claim code");
    // What may be told is found where it should be: the search sees what is printed.
    let tells = |begins: &str, word: &str| {
        let holds = |content: &[u8]| String::from_utf8_lossy(content).contains(word);
        seen.iter().any(|(what, content)| what.starts_with(begins) && holds(content))
    };
    for (begins, word) in [
        ("GET /api/v1/containers/packhouse/press", "SMTP_PASSWORD"),
        ("GET /api/v1/stacks/packhouse/frostwatch", "DB_PASSWORD"),
        ("GET /api/v1/audit", "set-source"),
        ("a live message", "frostwatch-mast-1"),
        ("the page /containers?inspect=packhouse/press", "SMTP_PASSWORD"),
        ("the page /stacks/packhouse/frostwatch?part=text", "DB_PASSWORD"),
        ("the page /audit", "set-registry"),
        ("the log", "packhouse"),
        ("the file", "frostwatch"),
    ] {
        assert!(tells(begins, word), "{word} is not told by: {begins}");
    }
    assert!(canaries.0.len() > 20, "{:?}", canaries.0.keys());
    assert!(found.is_empty(), "{found:#?}");
}
