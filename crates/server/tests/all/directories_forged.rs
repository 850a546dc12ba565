//! What a provider of OpenID Connect says is believed only when it holds: a false provider of our own gives tokens with a wrong issuer,
//! audience, nonce, signature, algorithm or time.

use std::sync::Arc;

use axum::extract::State;
use axum::routing::{get, post};
use axum::{Json, Router};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD as BASE64;
use gubernum_api::directories::{DirectorySettings, GroupGrant, OpenidSettings, SetDirectory};
use parking_lot::Mutex;
use ring::hmac;
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair};
use rstest::rstest;
use serde_json::{Value, json};

use crate::directories::Walker;
use crate::support::Bench;

const SECRET: &str = "a secret that the client and the provider share";

/// What is wrong with a token.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fault {
    None,
    Issuer,
    Audience,
    Nonce,
    NoNonce,
    Signature,
    NotSigned,
    SignedByClientSecret,
    Expired,
    FromTheFuture,
    Old,
    Subject,
    Named,
}

struct FalseProvider {
    issuer: String,
    key: EcdsaKeyPair,
    other: EcdsaKeyPair,
    fault: Fault,
    nonce: Mutex<String>,
}

fn key() -> EcdsaKeyPair {
    let random = SystemRandom::new();
    let document = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random).unwrap();
    EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, document.as_ref(), &random).unwrap()
}

fn coded(value: &Value) -> String {
    BASE64.encode(value.to_string())
}

fn now() -> i64 {
    jiff::Timestamp::now().as_second()
}

impl FalseProvider {
    fn sign(&self, algorithm: &str, claims: &Value) -> String {
        let text =
            format!("{}.{}", coded(&json!({"alg": algorithm, "kid": "first", "typ": "JWT"})), coded(claims));
        let signature = match algorithm {
            "none" => String::new(),
            "HS256" => BASE64
                .encode(hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, SECRET.as_bytes()), text.as_bytes())),
            _ => {
                let key = if self.fault == Fault::Signature { &self.other } else { &self.key };
                BASE64.encode(key.sign(&SystemRandom::new(), text.as_bytes()).unwrap())
            }
        };
        format!("{text}.{signature}")
    }

    fn claims(&self, mut claims: Value) -> Value {
        let fault = self.fault;
        claims["iss"] = json!(if fault == Fault::Issuer { "http://127.0.0.1:9" } else { &self.issuer });
        claims["aud"] = json!(if fault == Fault::Audience { "another" } else { "gubernum" });
        claims["sub"] = json!("subject");
        claims["iat"] = json!(match fault {
            Fault::FromTheFuture => now() + 3600,
            Fault::Old => now() - 3600,
            _ => now(),
        });
        claims["exp"] = json!(if fault == Fault::Expired { now() - 10 } else { now() + 7200 });
        claims
    }

    fn id_token(&self) -> String {
        let mut claims = self.claims(json!({"preferred_username": "tess", "groups": ["harvest"]}));
        match self.fault {
            Fault::Nonce => claims["nonce"] = json!("another"),
            Fault::NoNonce => {}
            _ => claims["nonce"] = json!(*self.nonce.lock()),
        }
        if self.fault == Fault::Named {
            claims["preferred_username"] = json!("tess<script>\n");
        }
        let algorithm = match self.fault {
            Fault::NotSigned => "none",
            Fault::SignedByClientSecret => "HS256",
            _ => "ES256",
        };
        self.sign(algorithm, &claims)
    }

    async fn start(fault: Fault) -> Arc<Self> {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let issuer = format!("http://{}", listener.local_addr().unwrap());
        let provider = Arc::new(Self { issuer, key: key(), other: key(), fault, nonce: Mutex::default() });
        let app = Router::new()
            .route("/.well-known/openid-configuration", get(describe))
            .route("/keys", get(keys))
            .route("/token", post(token))
            .route("/person", get(person))
            .with_state(provider.clone());
        tokio::spawn(async move { axum::serve(listener, app).await });
        provider
    }
}

async fn describe(State(provider): State<Arc<FalseProvider>>) -> Json<Value> {
    let at = |path: &str| format!("{}{path}", provider.issuer);
    Json(json!({
        "issuer": provider.issuer, "authorization_endpoint": at("/authorize"), "token_endpoint": at("/token"),
        "userinfo_endpoint": at("/person"), "jwks_uri": at("/keys"), "response_types_supported": ["code"],
        "subject_types_supported": ["public"], "id_token_signing_alg_values_supported": ["ES256", "HS256", "none"],
    }))
}

async fn keys(State(provider): State<Arc<FalseProvider>>) -> Json<Value> {
    let public = provider.key.public_key().as_ref();
    let (x, y) = (BASE64.encode(&public[1..33]), BASE64.encode(&public[33..65]));
    Json(
        json!({"keys": [{"kty": "EC", "crv": "P-256", "kid": "first", "use": "sig", "alg": "ES256", "x": x, "y": y}]}),
    )
}

async fn token(State(provider): State<Arc<FalseProvider>>) -> Json<Value> {
    Json(json!({"access_token": "opaque", "token_type": "Bearer", "id_token": provider.id_token()}))
}

async fn person(State(provider): State<Arc<FalseProvider>>) -> Json<Value> {
    let subject = if provider.fault == Fault::Subject { "another" } else { "subject" };
    Json(json!({"sub": subject}))
}

async fn with(fault: Fault) -> (Bench, String, Arc<FalseProvider>) {
    let bench = Bench::with(&[]).await;
    let provider = FalseProvider::start(fault).await;
    let service = bench.service.url().trim_end_matches('/').to_owned();
    let settings: OpenidSettings = serde_json::from_value(json!({
        "issuer": provider.issuer, "client_id": "gubernum", "service_address": service,
    }))
    .unwrap();
    let mapping =
        GroupGrant { group: "harvest".into(), role: "viewer".into(), scope: "fleet".parse().unwrap() };
    let wish = SetDirectory {
        settings: DirectorySettings::Openid(settings),
        mapping: vec![mapping],
        recheck_seconds: 60,
        secret: Some(SECRET.to_owned()),
    };
    bench.client.set_directory(&wish).await.unwrap();
    (bench, service, provider)
}

fn value<'a>(address: &'a str, name: &str) -> &'a str {
    address.split(['?', '&']).find_map(|pair| pair.strip_prefix(name)?.strip_prefix('=')).unwrap()
}

async fn come_back(service: &str, provider: &FalseProvider) -> String {
    let mut walker = Walker::new();
    let to = walker.get(&format!("{service}/api/v1/openid/begin")).await.location.unwrap();
    *provider.nonce.lock() = value(&to, "nonce").to_owned();
    let state = value(&to, "state");
    let back = walker.get(&format!("{service}/api/v1/openid/callback?code=c&state={state}")).await;
    back.location.unwrap()
}

#[rstest]
#[case(Fault::Issuer)]
#[case(Fault::Audience)]
#[case(Fault::Nonce)]
#[case(Fault::NoNonce)]
#[case(Fault::Signature)]
#[case(Fault::NotSigned)]
#[case(Fault::SignedByClientSecret)]
#[case(Fault::Expired)]
#[case(Fault::FromTheFuture)]
#[case(Fault::Old)]
#[case(Fault::Subject)]
#[case(Fault::Named)]
#[tokio::test]
async fn a_token_that_does_not_hold_lets_nobody_in(#[case] fault: Fault) {
    let (bench, service, provider) = with(fault).await;
    let back = come_back(&service, &provider).await;
    assert_eq!(back, format!("{service}/#refused=failed"), "always the same answer");
    assert!(bench.client.members().await.unwrap().iter().all(|m| m.name == "mara"));
    let audit = bench.client.audit().await.unwrap();
    let told = audit.iter().find(|e| e.action == "sign-in" && e.object == "openid").unwrap();
    assert!(told.outcome.starts_with("refused: "), "{}", told.outcome);
}

#[tokio::test]
async fn a_token_that_holds_lets_in() {
    let (bench, service, provider) = with(Fault::None).await;
    let back = come_back(&service, &provider).await;
    assert!(back.contains("/#signed-in="), "{back}");
    assert!(bench.client.members().await.unwrap().iter().any(|m| m.name == "tess"));
}

#[tokio::test]
async fn a_local_members_name_is_not_taken_over() {
    let (bench, service, provider) = with(Fault::None).await;
    bench.member("tess", &["viewer@fleet"]).await;
    assert_eq!(come_back(&service, &provider).await, format!("{service}/#refused=name-taken"));
}

const EVENT: &str = "http://schemas.openid.net/event/backchannel-logout";

fn logout_claims(id: &str) -> Value {
    json!({"jti": id, "events": {EVENT: {}}})
}

async fn log_out(service: &str, token: &str) -> u16 {
    let http = reqwest::Client::new();
    let asked = http.post(format!("{service}/api/v1/openid/logout")).body(format!("logout_token={token}"));
    let asked = asked.header("content-type", "application/x-www-form-urlencoded");
    asked.send().await.unwrap().status().as_u16()
}

#[rstest]
#[case::signed_by_another(Fault::Signature, logout_claims("a"))]
#[case::of_another_issuer(Fault::Issuer, logout_claims("a"))]
#[case::for_another(Fault::Audience, logout_claims("a"))]
#[case::an_identity_token(Fault::None, json!({"nonce": "n", "jti": "a", "events": {EVENT: {}}}))]
#[case::without_the_event(Fault::None, json!({"jti": "a"}))]
#[case::without_an_id(Fault::None, json!({"events": {EVENT: {}}}))]
#[case::old(Fault::Old, logout_claims("a"))]
#[tokio::test]
async fn a_sign_out_that_does_not_hold_ends_nothing(#[case] fault: Fault, #[case] claims: Value) {
    let (_bench, service, provider) = with(fault).await;
    let token = provider.sign("ES256", &provider.claims(claims));
    assert_eq!(log_out(&service, &token).await, 400);
}

#[tokio::test]
async fn a_sign_out_counts_once() {
    let (_bench, service, provider) = with(Fault::None).await;
    let token = provider.sign("ES256", &provider.claims(logout_claims("a")));
    assert_eq!(log_out(&service, &token).await, 200);
    assert_eq!(log_out(&service, &token).await, 400, "the same again is a replay");
    assert_eq!(log_out(&service, "nonsense").await, 400);
}
