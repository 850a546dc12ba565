//! Members: invited, limited, deactivated, reset, removed; roles of a team; and that nobody gives or takes more than they have.

use gubernum_api::Problem;
use gubernum_api::members::{
    AcceptInvitation, Bound, ChangePassword, Grant, NewInvitation, NewRole, Right, SetMember,
};
use gubernum_api::requests::{NewToken, SignIn};
use gubernum_client::{Client, ClientError, Trust};
use reqwest::{Method, StatusCode};
use rstest::rstest;

use crate::support::{Bench, PASSWORD};

fn problem<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Problem {
    match result {
        Err(ClientError::Problem(problem)) => *problem,
        other => panic!("a problem was expected: {other:?}"),
    }
}

fn anonymous(bench: &Bench) -> Client {
    Client::new(&bench.service.url(), None, Trust::System).unwrap()
}

fn grant(text: &str) -> Grant {
    let (role, scope) = text.split_once('@').unwrap();
    Grant { role: role.to_owned(), scope: scope.parse().unwrap() }
}

fn grants(all: &[&str]) -> SetMember {
    SetMember { grants: Some(all.iter().map(|g| grant(g)).collect()), deactivated: None, second_factor: None }
}

fn invitation(name: &str, all: &[&str]) -> NewInvitation {
    NewInvitation { name: name.to_owned(), grants: all.iter().map(|g| grant(g)).collect(), hours: Some(2) }
}

async fn id_of(bench: &Bench, name: &str) -> u64 {
    bench.client.members().await.unwrap().into_iter().find(|m| m.name == name).unwrap().id
}

const OTHER: &str = "violet engine marble sunday";

#[tokio::test]
async fn a_link_makes_a_member_once() {
    let bench = Bench::with(&[]).await;
    let made = bench.client.invite(&invitation("tess", &["viewer@host:packhouse"])).await.unwrap();
    let welcome = anonymous(&bench).welcome(&made.secret).await.unwrap();
    assert_eq!((welcome.name.as_str(), welcome.giver.as_str(), welcome.is_reset), ("tess", "mara", false));
    let accept = AcceptInvitation { secret: made.secret.clone(), password: PASSWORD.into() };
    let weak = AcceptInvitation { password: "password1234".into(), ..accept.clone() };
    assert_eq!(problem(anonymous(&bench).accept_invitation(&weak).await).field.as_deref(), Some("/password"));
    let session = anonymous(&bench).accept_invitation(&accept).await.unwrap();
    assert_eq!(session.me().await.unwrap().member, "tess");
    let again = problem(anonymous(&bench).accept_invitation(&accept).await);
    let wrong = problem(anonymous(&bench).welcome("gbi_none").await);
    assert_eq!((again.status, again.word()), (403, "invitation-refused"));
    assert_eq!(again, wrong, "a used link looks like a wrong one");
    let rights = session.own_rights().await.unwrap();
    assert!(rights.on_fleet.is_empty());
    assert_eq!(rights.somewhere, [Right::See, Right::ReadLogs]);
    let audit = bench.client.audit().await.unwrap();
    let told = |action: &str| audit.iter().any(|e| e.action == action && e.outcome.contains("viewer"));
    assert!(told("invite-member") && audit.iter().any(|e| e.action == "accept-invitation"));
}

#[tokio::test]
async fn a_link_ends_with_time_and_with_being_taken_back_and_with_a_newer_one() {
    let bench = Bench::with(&[]).await;
    let first = bench.client.invite(&invitation("tess", &["viewer@fleet"])).await.unwrap();
    let second = bench.client.invite(&invitation("TESS", &["viewer@fleet"])).await.unwrap();
    assert_eq!(problem(anonymous(&bench).welcome(&first.secret).await).status, 403);
    assert!(anonymous(&bench).welcome(&second.secret).await.is_ok());
    bench.client.withdraw_invitation(second.invitation.id).await.unwrap();
    assert_eq!(problem(anonymous(&bench).welcome(&second.secret).await).status, 403);
    let third = bench.client.invite(&invitation("tess", &["viewer@fleet"])).await.unwrap();
    bench.pass(2 * 3600 + 1);
    assert_eq!(problem(anonymous(&bench).welcome(&third.secret).await).status, 403);
    assert_eq!(bench.client.invitations().await.unwrap().len(), 0);
    let taken = problem(bench.client.invite(&invitation("Mara", &["viewer@fleet"])).await);
    assert_eq!((taken.status, taken.field.as_deref()), (409, Some("/name")));
}

#[tokio::test]
async fn wrong_links_are_slowed_down() {
    let bench = Bench::with(&[]).await;
    let mut statuses = Vec::new();
    for n in 0..7 {
        statuses.push(problem(anonymous(&bench).welcome(&format!("gbi_{n}")).await).status);
    }
    assert_eq!((statuses[0], statuses[6]), (403, 429), "{statuses:?}");
}

#[tokio::test]
async fn whoever_is_deactivated_is_out_at_once_and_learns_nothing() {
    let bench = Bench::with(&[]).await;
    let tess = bench.member("tess", &["viewer@fleet"]).await;
    let id = id_of(&bench, "tess").await;
    let out = SetMember { grants: None, deactivated: Some(true), second_factor: None };
    assert!(bench.client.set_member(id, &out).await.unwrap().deactivated.is_some());
    assert_eq!(problem(tess.me().await).status, 401);
    let sign_in = |password: &str| SignIn { member: "tess".into(), password: password.into(), code: None };
    let right = problem(anonymous(&bench).sign_in(&sign_in(PASSWORD)).await);
    let wrong = problem(anonymous(&bench).sign_in(&sign_in(OTHER)).await);
    assert_eq!(right, wrong, "nobody hears whether the password was right");
    let back = SetMember { grants: None, deactivated: Some(false), second_factor: None };
    bench.client.set_member(id, &back).await.unwrap();
    assert!(anonymous(&bench).sign_in(&sign_in(PASSWORD)).await.is_ok());
    assert_eq!(problem(tess.me().await).status, 401, "its tokens went with it");
}

#[tokio::test]
async fn a_reset_gives_another_password_and_ends_the_sessions() {
    let bench = Bench::with(&[]).await;
    bench.member("tess", &["viewer@fleet"]).await;
    let sign_in = |password: &str| SignIn { member: "tess".into(), password: password.into(), code: None };
    let session = anonymous(&bench).sign_in(&sign_in(PASSWORD)).await.unwrap();
    let made = bench.client.reset_member(id_of(&bench, "tess").await).await.unwrap();
    assert!(anonymous(&bench).sign_in(&sign_in(PASSWORD)).await.is_ok(), "works until the link is used");
    assert!(anonymous(&bench).welcome(&made.secret).await.unwrap().is_reset);
    let accept = AcceptInvitation { secret: made.secret, password: OTHER.into() };
    let new = anonymous(&bench).accept_invitation(&accept).await.unwrap();
    assert_eq!(new.me().await.unwrap().member, "tess");
    assert_eq!(problem(session.me().await).status, 401);
    assert_eq!(problem(anonymous(&bench).sign_in(&sign_in(PASSWORD)).await).status, 401);
}

#[tokio::test]
async fn ones_own_password_is_changed_by_whoever_knows_it() {
    let bench = Bench::with(&[]).await;
    let sign_in = |password: &str| SignIn { member: "mara".into(), password: password.into(), code: None };
    let one = anonymous(&bench).sign_in(&sign_in(PASSWORD)).await.unwrap();
    let other = anonymous(&bench).sign_in(&sign_in(PASSWORD)).await.unwrap();
    let change = |current: &str, new: &str| ChangePassword { current: current.into(), new: new.into() };
    let wrong = problem(one.change_password(&change(OTHER, OTHER)).await);
    assert_eq!((wrong.status, wrong.field.as_deref()), (422, Some("/current")));
    let weak = problem(one.change_password(&change(PASSWORD, "password1234")).await);
    assert_eq!(weak.field.as_deref(), Some("/new"));
    one.change_password(&change(PASSWORD, OTHER)).await.unwrap();
    assert!(one.me().await.is_ok());
    assert_eq!(problem(other.me().await).status, 401, "the other session ended");
    assert!(bench.client.me().await.is_ok(), "tokens stay");
    assert!(anonymous(&bench).sign_in(&sign_in(OTHER)).await.is_ok());
}

#[tokio::test]
async fn the_last_admin_cannot_be_locked_out() {
    let bench = Bench::with(&[]).await;
    let mara = id_of(&bench, "mara").await;
    let out = SetMember { grants: None, deactivated: Some(true), second_factor: None };
    for refused in [
        bench.client.set_member(mara, &grants(&["operator@fleet"])).await.err(),
        bench.client.set_member(mara, &grants(&[])).await.err(),
        bench.client.set_member(mara, &out).await.err(),
        bench.client.remove_member(mara).await.err(),
    ] {
        let Some(ClientError::Problem(problem)) = refused else { panic!("{refused:?}") };
        assert_eq!((problem.status, problem.word()), (409, "last-admin"));
    }
    bench.member("jory", &["admin@fleet"]).await;
    bench.client.set_member(mara, &grants(&["viewer@fleet"])).await.unwrap();
    let refused = problem(bench.client.members().await);
    assert_eq!((refused.status, refused.word()), (403, "not-allowed"));
}

#[tokio::test]
async fn nobody_gives_or_takes_more_than_they_have() {
    let bench = Bench::with(&[]).await;
    let keeper = NewRole {
        name: "keeper".into(),
        rights: vec![Right::See, Right::Members, Right::StartStop],
        second_factor: false,
    };
    bench.client.set_role(&keeper).await.unwrap();
    let keeper = bench.member("kit", &["keeper@fleet"]).await;
    for too_much in ["admin@fleet", "operator@host:packhouse"] {
        let refused = problem(keeper.invite(&invitation("pal", &[too_much])).await);
        assert_eq!((refused.status, refused.field.as_deref()), (403, Some("/grants/0")), "{too_much}");
        let own = problem(keeper.set_member(id_of(&bench, "kit").await, &grants(&[too_much])).await);
        assert_eq!(own.status, 403);
    }
    let mara = id_of(&bench, "mara").await;
    let out = SetMember { grants: None, deactivated: Some(true), second_factor: None };
    assert_eq!(problem(keeper.set_member(mara, &out).await).status, 403);
    assert_eq!(problem(keeper.reset_member(mara).await).status, 403);
    assert_eq!(problem(keeper.remove_member(mara).await).status, 403);
    assert_eq!(problem(keeper.end_sessions_of(mara).await).status, 403);
    let more = NewRole { name: "more".into(), rights: vec![Right::See, Right::Shell], second_factor: false };
    assert_eq!(problem(keeper.set_role(&more).await).field.as_deref(), Some("/rights"));
    keeper.invite(&invitation("pal", &["keeper@host:packhouse"])).await.unwrap();
}

#[tokio::test]
async fn a_role_changes_for_everybody_who_has_it() {
    let bench = Bench::with(&["packhouse"]).await;
    let role = |rights: &[Right]| NewRole {
        name: "night-shift".into(),
        rights: rights.to_vec(),
        second_factor: false,
    };
    bench.client.set_role(&role(&[Right::See, Right::StartStop])).await.unwrap();
    let tess = bench.member("tess", &["night-shift@fleet"]).await;
    let restart = || br#"{"kind": "restart", "targets": ["packhouse/api"]}"#.to_vec();
    let path = "/api/v1/operations/preview";
    assert_eq!(tess.raw(Method::POST, path, Some(restart())).await.unwrap().0, StatusCode::OK);
    bench.client.set_role(&role(&[Right::See])).await.unwrap();
    assert_eq!(tess.raw(Method::POST, path, Some(restart())).await.unwrap().0, StatusCode::FORBIDDEN);
    let in_use = problem(bench.client.remove_role("night-shift").await);
    assert_eq!((in_use.status, in_use.word()), (409, "in-use"));
    bench.client.set_member(id_of(&bench, "tess").await, &grants(&[])).await.unwrap();
    bench.client.remove_role("night-shift").await.unwrap();
    assert_eq!(bench.client.roles().await.unwrap().len(), 3);
}

#[rstest]
#[case(&["see", "start-stop"], "fleet", "packhouse/api", true)]
#[case(&["see", "start-stop"], "host:packhouse", "packhouse/api", true)]
#[case(&["see", "start-stop"], "host:coldstore", "packhouse/api", false)]
#[case(&["see"], "fleet", "packhouse/api", false)]
#[tokio::test]
async fn a_token_may_no_more_than_it_is_cut_down_to(
    #[case] rights: &[&str],
    #[case] scope: &str,
    #[case] target: &str,
    #[case] may: bool,
) {
    let bench = Bench::with(&["packhouse"]).await;
    let rights: Vec<Right> = rights.iter().map(|r| r.parse().unwrap()).collect();
    let bounds = Some(vec![Bound { scope: scope.parse().unwrap(), rights }]);
    let wish = NewToken {
        name: "nightly".into(),
        expires_in_days: None,
        bounds: bounds.clone(),
        networks: Vec::new(),
    };
    let made = bench.client.make_token(&wish).await.unwrap();
    assert_eq!(made.token.bounds, bounds);
    let token = Client::new(&bench.service.url(), Some(made.secret), Trust::System).unwrap();
    let body = serde_json::json!({"kind": "restart", "targets": [target]}).to_string().into_bytes();
    let (status, _) = token.raw(Method::POST, "/api/v1/operations/preview", Some(body)).await.unwrap();
    assert_eq!(status == StatusCode::OK, may, "{status}");
    let audit = problem(token.audit().await);
    assert_eq!(audit.word(), "not-allowed");
}

#[tokio::test]
async fn what_is_refused_is_in_the_audit_log_once_a_minute() {
    let bench = Bench::with(&["packhouse"]).await;
    let tess = bench.member("tess", &["viewer@fleet"]).await;
    for _ in 0..3 {
        let body = br#"{"kind": "restart", "targets": ["packhouse/api"]}"#.to_vec();
        let (status, _) = tess.raw(Method::POST, "/api/v1/operations", Some(body)).await.unwrap();
        assert_eq!(status, StatusCode::FORBIDDEN);
        let (status, _) = tess.raw(Method::GET, "/api/v1/members", None).await.unwrap();
        assert_eq!(status, StatusCode::FORBIDDEN);
    }
    let audit = bench.client.audit().await.unwrap();
    let told: Vec<&str> = audit
        .iter()
        .filter(|e| e.action == "not-allowed" && e.member == "tess")
        .map(|e| e.object.as_str())
        .collect();
    assert_eq!(told, ["GET /api/v1/members", "restart packhouse/api"]);
}

#[tokio::test]
async fn a_token_never_makes_one_that_may_more() {
    let bench = Bench::with(&["packhouse"]).await;
    let bounds = Some(vec![Bound { scope: "fleet".parse().unwrap(), rights: vec![Right::See] }]);
    let wish = NewToken { name: "reader".into(), expires_in_days: None, bounds, networks: Vec::new() };
    let made = bench.client.make_token(&wish).await.unwrap();
    let reader = Client::new(&bench.service.url(), Some(made.secret), Trust::System).unwrap();
    let wish = NewToken { name: "more".into(), expires_in_days: None, bounds: None, networks: Vec::new() };
    let refused = problem(reader.make_token(&wish).await);
    assert_eq!((refused.status, refused.word()), (403, "not-allowed"));
}

/// The code that a program makes of a secret at a time.
fn code_at(secret: &str, bench: &Bench, steps: i64) -> String {
    let secret = totp_rs::Secret::try_from_base32(secret).unwrap();
    let totp = totp_rs::Builder::new().with_secret(secret).with_account_name("x").build().unwrap();
    let now = bench.now().as_second() + steps * 30;
    totp.generate(u64::try_from(now).unwrap()).to_string()
}

async fn call<T: serde::de::DeserializeOwned>(
    client: &Client,
    method: Method,
    body: serde_json::Value,
) -> Result<T, Problem> {
    let body = Some(body.to_string().into_bytes());
    let (status, text) = client.raw(method, "/api/v1/second-factor", body).await.unwrap();
    if status.is_success() {
        return Ok(serde_json::from_slice(if text.is_empty() { b"null" } else { &text }).unwrap());
    }
    Err(serde_json::from_slice(&text).unwrap())
}

#[tokio::test]
async fn a_second_factor_is_set_up_used_once_each_time_and_taken_away() {
    let bench = Bench::with(&[]).await;
    let sign_in = |code: Option<String>| SignIn { member: "mara".into(), password: PASSWORD.into(), code };
    let session = anonymous(&bench).sign_in(&sign_in(None)).await.unwrap();
    let other = anonymous(&bench).sign_in(&sign_in(None)).await.unwrap();
    let wrong = call::<()>(&session, Method::POST, serde_json::json!({"password": OTHER})).await.unwrap_err();
    assert_eq!(wrong.field.as_deref(), Some("/password"));
    let early = call::<()>(&session, Method::PUT, serde_json::json!({"code": "123456"})).await.unwrap_err();
    assert_eq!(early.word(), "not-begun");
    let by_token = call::<()>(&bench.client, Method::POST, serde_json::json!({"password": PASSWORD})).await;
    assert_eq!(by_token.unwrap_err().word(), "not-a-session");
    let begun: gubernum_api::members::NewSecondFactor =
        call(&session, Method::POST, serde_json::json!({"password": PASSWORD})).await.unwrap();
    assert!(begun.address.starts_with("otpauth://totp/Gubernum:mara?"), "{}", begun.address);
    let wrong = call::<()>(&session, Method::PUT, serde_json::json!({"code": "000000"})).await.unwrap_err();
    assert_eq!(wrong.field.as_deref(), Some("/code"));
    let code = code_at(&begun.secret, &bench, 0);
    let recovery: gubernum_api::members::RecoveryCodes =
        call(&session, Method::PUT, serde_json::json!({"code": code.clone()})).await.unwrap();
    assert_eq!(recovery.codes.len(), 10);
    assert_eq!(problem(other.me().await).status, 401, "other sessions ended");

    let needed = problem(anonymous(&bench).sign_in(&sign_in(None)).await);
    assert_eq!((needed.status, needed.word()), (401, "code-needed"));
    let used = problem(anonymous(&bench).sign_in(&sign_in(Some(code))).await);
    assert_eq!((used.word(), used.field.as_deref()), ("sign-in-refused", Some("/code")), "each works once");
    let next = code_at(&begun.secret, &bench, 1);
    anonymous(&bench).sign_in(&sign_in(Some(next))).await.unwrap();
    let lost = recovery.codes[3].to_lowercase().replace('-', " ");
    anonymous(&bench).sign_in(&sign_in(Some(lost.clone()))).await.unwrap();
    assert_eq!(problem(anonymous(&bench).sign_in(&sign_in(Some(lost))).await).word(), "sign-in-refused");

    // A link for a new password is no way around it.
    let made = bench.client.reset_member(id_of(&bench, "mara").await).await.unwrap();
    let accept = AcceptInvitation { secret: made.secret, password: OTHER.into() };
    assert_eq!(problem(anonymous(&bench).accept_invitation(&accept).await).word(), "code-needed");
    bench.pass(60);
    let wish = SignIn { password: OTHER.into(), ..sign_in(Some(code_at(&begun.secret, &bench, 0))) };
    let session = anonymous(&bench).sign_in(&wish).await.unwrap();
    let none = call::<()>(&session, Method::DELETE, serde_json::json!({"code": "000000"})).await.unwrap_err();
    assert_eq!(none.field.as_deref(), Some("/code"));
    let code = recovery.codes[4].clone();
    call::<()>(&session, Method::DELETE, serde_json::json!({"code": code})).await.unwrap();
    anonymous(&bench).sign_in(&SignIn { password: OTHER.into(), ..sign_in(None) }).await.unwrap();
}

#[tokio::test]
async fn wrong_codes_are_slowed_down_like_wrong_passwords() {
    let bench = Bench::with(&[]).await;
    let sign_in = |code: Option<&str>| SignIn {
        member: "mara".into(),
        password: PASSWORD.into(),
        code: code.map(str::to_owned),
    };
    let session = anonymous(&bench).sign_in(&sign_in(None)).await.unwrap();
    let begun: gubernum_api::members::NewSecondFactor =
        call(&session, Method::POST, serde_json::json!({"password": PASSWORD})).await.unwrap();
    let code = code_at(&begun.secret, &bench, 0);
    call::<serde_json::Value>(&session, Method::PUT, serde_json::json!({"code": code})).await.unwrap();
    let mut words = Vec::new();
    for _ in 0..7 {
        words.push(problem(anonymous(&bench).sign_in(&sign_in(Some("000000"))).await).word().to_owned());
    }
    assert_eq!((words[0].as_str(), words[6].as_str()), ("sign-in-refused", "slow-down"), "{words:?}");
}

#[tokio::test]
async fn a_role_may_demand_a_second_factor() {
    let bench = Bench::with(&["packhouse"]).await;
    let role =
        NewRole { name: "careful".into(), rights: vec![Right::See, Right::StartStop], second_factor: true };
    bench.client.set_role(&role).await.unwrap();
    let tess = bench.member("tess", &["viewer@fleet"]).await;
    let id = id_of(&bench, "tess").await;
    bench.client.set_member(id, &grants(&["careful@fleet"])).await.unwrap();
    assert!(tess.containers(&[]).await.is_err(), "nothing is allowed before there is one");
    let rights = tess.own_rights().await.unwrap();
    assert!(rights.needs_second_factor && rights.somewhere.is_empty());
    let sign_in = SignIn { member: "tess".into(), password: PASSWORD.into(), code: None };
    let session = anonymous(&bench).sign_in(&sign_in).await.unwrap();
    let begun: gubernum_api::members::NewSecondFactor =
        call(&session, Method::POST, serde_json::json!({"password": PASSWORD})).await.unwrap();
    let code = code_at(&begun.secret, &bench, 0);
    call::<serde_json::Value>(&session, Method::PUT, serde_json::json!({"code": code})).await.unwrap();
    assert_eq!(tess.containers(&[]).await.unwrap().len(), 3, "tokens too");
    // An admin helps a member who has lost it, who then has to set up another.
    let lost = SetMember { grants: None, deactivated: None, second_factor: Some(false) };
    let member = bench.client.set_member(id, &lost).await.unwrap();
    assert!(!member.second_factor && tess.containers(&[]).await.is_err());
}
