//! Least rights until they are needed: stepping up, a second member's word, lesser rights, and looking through a role.

use std::time::Duration;

use gubernum_api::guard::StepUp;
use gubernum_api::images::Preferences;
use gubernum_api::members::{Grant, NewInvitation, Profile, Right};
use gubernum_api::requests::{ApplyRequest, NewOperation, Request, RestartRequest, SignIn};
use gubernum_api::terminals::{NewOneOff, RunCommand};
use gubernum_api::{OperationState, Problem};
use gubernum_client::{Client, ClientError, Trust};
use gubernum_core::guard::{Guard, GuardedChange};
use rstest::rstest;

use crate::support::{Bench, PASSWORD, until};

fn problem<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Problem {
    match result {
        Err(ClientError::Problem(problem)) => *problem,
        other => panic!("a problem was expected: {other:?}"),
    }
}

fn word(problem: &Problem) -> &str {
    problem.kind.rsplit(':').next().unwrap_or_default()
}

async fn guard(bench: &Bench, change: impl FnOnce(&mut Preferences)) {
    let mut all = bench.client.preferences().await.unwrap();
    change(&mut all);
    bench.client.set_preferences(&all).await.unwrap();
}

/// Somebody who has signed in with the password.
async fn session(bench: &Bench, member: &str) -> Client {
    let anonymous = Client::new(&bench.service.url(), None, Trust::System).unwrap();
    let wish = SignIn { member: member.into(), password: PASSWORD.into(), code: None };
    anonymous.sign_in(&wish).await.unwrap()
}

fn with_password(password: &str) -> StepUp {
    StepUp { password: Some(password.to_owned()), ..StepUp::default() }
}

fn restart() -> NewOperation {
    let request = Request::Restart(RestartRequest { grace_seconds: None, rolling: None });
    NewOperation::new(request, vec!["packhouse/api".to_owned()])
}

fn remove_volume(name: &str) -> NewOperation {
    let request = serde_json::from_value(serde_json::json!({"kind": "remove-volume"})).unwrap();
    NewOperation::new(request, vec![format!("packhouse/{name}")])
}

fn make_volume(name: &str) -> NewOperation {
    let request = serde_json::from_value(serde_json::json!({"kind": "create-volume"})).unwrap();
    NewOperation::new(request, vec![format!("packhouse/{name}")])
}

async fn with_volumes(names: &[&str]) -> Bench {
    let bench = Bench::with(&["packhouse"]).await;
    for name in names {
        let made = bench.client.submit(&make_volume(name), None).await.unwrap();
        over(&bench, made.id).await;
    }
    bench
        .until("the volumes are listed", async |b| b.client.volumes(&[]).await.unwrap().len() >= names.len())
        .await;
    bench
}

async fn over(bench: &Bench, id: u64) -> OperationState {
    let state = async || bench.client.operation(id).await.unwrap().state;
    bench.until("the operation is over", async |_| state().await != OperationState::Running).await;
    state().await
}

async fn audited(bench: &Bench, action: &str) -> Vec<String> {
    let all = bench.client.audit().await.unwrap();
    all.into_iter()
        .filter(|e| e.action == action)
        .map(|e| format!("{} {} {}", e.member, e.via, e.outcome))
        .collect()
}

#[tokio::test]
async fn what_asks_for_it_waits_until_one_steps_up() {
    let bench = with_volumes(&["cellar", "loft"]).await;
    let token = bench.member("jory", &["operator@fleet"]).await;
    guard(&bench, |all| all.guard_remove_volumes = Guard::StepUp).await;
    let jory = session(&bench, "jory").await;
    let held = problem(jory.submit(&remove_volume("cellar"), None).await);
    assert_eq!((word(&held), held.status), ("step-up-needed", 403), "{held:?}");
    let held = problem(token.submit(&remove_volume("cellar"), None).await);
    assert!(held.detail.contains("a token cannot"), "{held:?}");
    let wrong = problem(jory.step_up(&with_password("autumn pears")).await);
    assert_eq!(wrong.field.as_deref(), Some("/password"), "{wrong:?}");
    assert_eq!(problem(jory.step_up(&StepUp::default()).await).field.as_deref(), Some("/password"));
    let code = StepUp { code: Some("123456".into()), ..StepUp::default() };
    assert!(problem(jory.step_up(&code).await).detail.contains("no second factor"));
    assert_eq!(problem(token.step_up(&with_password(PASSWORD)).await).status, 409);
    jory.step_up(&with_password(PASSWORD)).await.unwrap();
    let gone = jory.submit(&remove_volume("cellar"), None).await.unwrap();
    assert_eq!(over(&bench, gone.id).await, OperationState::Succeeded);
    jory.step_down().await.unwrap();
    assert_eq!(word(&problem(jory.submit(&remove_volume("loft"), None).await)), "step-up-needed");
    jory.step_up(&with_password(PASSWORD)).await.unwrap();
    bench.pass(15 * 60 + 1);
    assert_eq!(
        word(&problem(jory.submit(&remove_volume("loft"), None).await)),
        "step-up-needed",
        "it ends by itself"
    );
    let told = audited(&bench, "step-up").await;
    assert!(told.iter().any(|t| t.contains("jory session") && t.ends_with("for 15 min")), "{told:?}");
    assert!(told.iter().any(|t| t.ends_with("refused")), "{told:?}");
}

#[tokio::test]
async fn wrong_passwords_slow_down() {
    let bench = Bench::with(&["packhouse"]).await;
    bench.member("jory", &["operator@fleet"]).await;
    let jory = session(&bench, "jory").await;
    let mut told = Vec::new();
    for _ in 0..12 {
        told.push(problem(jory.step_up(&with_password("autumn pears")).await).status);
    }
    assert_eq!(told.last(), Some(&429), "{told:?}");
}

#[tokio::test]
async fn a_second_member_approves_exactly_what_was_asked_for() {
    let bench = with_volumes(&["cellar", "loft"]).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    let tess = bench.member("tess", &["viewer@fleet"]).await;
    guard(&bench, |all| all.guard_remove_volumes = Guard::Approval).await;
    let held = problem(jory.submit(&remove_volume("cellar"), None).await);
    assert_eq!((word(&held), held.status), ("approval-needed", 403), "{held:?}");
    problem(jory.submit(&remove_volume("cellar"), None).await);
    let own = jory.approvals().await.unwrap();
    assert_eq!(own.len(), 1, "asking twice is asking once: {own:?}");
    assert_eq!((own[0].danger, own[0].yours_to_decide), (GuardedChange::RemoveVolumes, false));
    assert!(own[0].detail.contains("volume packhouse/cellar is removed with its data"), "{own:?}");
    let id = own[0].id;
    assert!(held.detail.contains(&format!("approval {id}")), "{held:?}");
    assert_eq!(problem(jory.decide_approval(id, true).await).status, 403, "nobody approves their own");
    assert!(tess.approvals().await.unwrap().is_empty());
    assert_eq!(problem(tess.decide_approval(id, true).await).status, 404);
    assert_eq!(problem(bench.client.decide_approval(id, true).await).status, 409, "a token is nobody");
    let mara = session(&bench, "mara").await;
    assert_eq!(mara.own_rights().await.unwrap().to_approve, 1);
    assert!(mara.approvals().await.unwrap()[0].yours_to_decide);
    mara.decide_approval(id, true).await.unwrap();
    assert_eq!(problem(mara.decide_approval(id, false).await).status, 404, "it is decided");
    assert_eq!(
        word(&problem(jory.submit(&remove_volume("loft"), None).await)),
        "approval-needed",
        "another volume"
    );
    let gone = jory.submit(&remove_volume("cellar"), None).await.unwrap();
    assert_eq!(over(&bench, gone.id).await, OperationState::Succeeded);
    let told = audited(&bench, "decide-approval").await;
    assert!(told.iter().any(|t| t.contains("mara session") && t.contains("approved")), "{told:?}");

    let second = jory.approvals().await.unwrap().into_iter().find(|a| a.decided.is_none()).unwrap().id;
    mara.decide_approval(second, false).await.unwrap();
    assert_eq!(word(&problem(jory.submit(&remove_volume("loft"), None).await)), "approval-refused");
    assert_eq!(
        word(&problem(jory.submit(&remove_volume("loft"), None).await)),
        "approval-needed",
        "asked again"
    );
    bench.pass(24 * 3600 + 1);
    assert!(mara.approvals().await.unwrap().iter().all(|a| a.decided.is_some()), "it waits for a day");
}

#[tokio::test]
async fn an_approval_is_used_once_and_not_by_what_does_not_begin() {
    let bench = with_volumes(&["cellar"]).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    guard(&bench, |all| all.guard_remove_volumes = Guard::Approval).await;
    problem(jory.submit(&remove_volume("cellar"), None).await);
    let mara = session(&bench, "mara").await;
    let id = mara.approvals().await.unwrap()[0].id;
    mara.decide_approval(id, true).await.unwrap();
    // A preview that is out of date stops it before it begins.
    let stale = NewOperation { digest: Some("0".repeat(64)), ..remove_volume("cellar") };
    assert_eq!(problem(jory.submit(&stale, None).await).status, 409);
    let gone = jory.submit(&remove_volume("cellar"), None).await.unwrap();
    assert_eq!(over(&bench, gone.id).await, OperationState::Succeeded);
    let made = jory.submit(&make_volume("cellar"), None).await.unwrap();
    over(&bench, made.id).await;
    bench.until("it is there again", async |b| !b.client.volumes(&[]).await.unwrap().is_empty()).await;
    assert_eq!(word(&problem(jory.submit(&remove_volume("cellar"), None).await)), "approval-needed");
}

#[tokio::test]
async fn what_is_approved_one_after_the_other_is_good_together() {
    let bench = Bench::with(&["packhouse"]).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    guard(&bench, |all| (all.guard_root_shell, all.guard_host_reach) = (Guard::Approval, Guard::Approval))
        .await;
    let mara = session(&bench, "mara").await;
    let definition = serde_json::from_value(serde_json::json!({
        "image": "registry.tarnvalley.example/api:1", "pull": "never", "command": ["true"], "rights": {"privileged": true},
    }));
    let wish =
        NewOneOff { host: "packhouse".into(), definition: definition.unwrap(), limit_seconds: Some(60) };
    for what in ["as root", "privileged"] {
        assert_eq!(word(&problem(jory.run_fresh(&wish).await.map(|_| ()))), "approval-needed");
        let asked = mara.approvals().await.unwrap();
        let asked: Vec<_> = asked.into_iter().filter(|a| a.decided.is_none()).collect();
        assert!(asked.len() == 1 && asked[0].detail.contains(what), "{asked:?}");
        mara.decide_approval(asked[0].id, true).await.unwrap();
    }
    assert!(jory.run_fresh(&wish).await.is_ok(), "both are approved");
    assert_eq!(
        word(&problem(jory.run_fresh(&wish).await.map(|_| ()))),
        "approval-needed",
        "each is used once"
    );
}

#[rstest]
#[case("privileged: true", true)]
#[case("volumes: ['/srv/cellar:/cellar']", true)]
#[case("pid: host", true)]
#[case("x-gubernum-schedule: '30 2 * * *'\n    privileged: true", true)]
#[case("init: true", false)]
#[tokio::test]
async fn a_stack_that_reaches_into_its_host_is_held_back(#[case] line: &str, #[case] held: bool) {
    let bench = Bench::with(&["packhouse"]).await;
    guard(&bench, |all| all.guard_host_reach = Guard::StepUp).await;
    let text = format!(
        "services:\n  mast:\n    image: registry.tarnvalley.example/api:1\n    pull_policy: never\n    {line}\n"
    );
    let request = ApplyRequest {
        stack: "frostwatch".into(),
        files: [("stack.yaml".to_owned(), text)].into(),
        main: vec!["stack.yaml".into()],
        ..ApplyRequest::default()
    };
    let wish = NewOperation::new(Request::Apply(request), vec!["packhouse".into()]);
    let mara = session(&bench, "mara").await;
    if !held {
        mara.submit(&wish, None).await.unwrap();
        return;
    }
    assert_eq!(word(&problem(mara.submit(&wish, None).await)), "step-up-needed");
    mara.step_up(&with_password(PASSWORD)).await.unwrap();
    let applied = mara.submit(&wish, None).await.unwrap();
    over(&bench, applied.id).await;
    mara.step_down().await.unwrap();
    mara.submit(&wish, None).await.expect("nothing of it is new");
}

#[rstest]
#[case(None, true)]
#[case(Some("root"), true)]
#[case(Some("0:0"), true)]
#[case(Some("1000"), false)]
#[tokio::test]
async fn a_command_as_root_is_held_back(#[case] user: Option<&str>, #[case] held: bool) {
    let bench = Bench::with(&["packhouse"]).await;
    guard(&bench, |all| all.guard_root_shell = Guard::StepUp).await;
    let mara = session(&bench, "mara").await;
    let wish = RunCommand {
        command: vec!["true".into()],
        user: user.map(str::to_owned),
        folder: None,
        environment: Default::default(),
        limit_seconds: None,
    };
    let ran = mara.run_command("packhouse/api", &wish).await;
    assert_eq!(ran.is_err(), held);
    if held {
        assert_eq!(word(&problem(ran.map(|_| ()))), "step-up-needed");
    }
}

#[tokio::test]
async fn changes_of_members_can_need_two() {
    let bench = Bench::with(&["packhouse"]).await;
    bench.member("ines", &["admin@fleet"]).await;
    guard(&bench, |all| all.guard_members = Guard::Approval).await;
    let grants = vec![Grant { role: "viewer".into(), scope: "fleet".parse().unwrap() }];
    let wish = NewInvitation { name: "tess".into(), grants, hours: None };
    assert_eq!(word(&problem(bench.client.invite(&wish).await)), "approval-needed");
    assert!(bench.client.invitations().await.unwrap().is_empty(), "nothing is half done");
    let ines = session(&bench, "ines").await;
    let asked = ines.approvals().await.unwrap();
    assert!(asked[0].detail.contains("tess") && asked[0].detail.contains("viewer"), "{asked:?}");
    ines.decide_approval(asked[0].id, true).await.unwrap();
    let more = NewInvitation {
        grants: vec![Grant { role: "admin".into(), scope: "fleet".parse().unwrap() }],
        ..wish.clone()
    };
    assert_eq!(
        word(&problem(bench.client.invite(&more).await)),
        "approval-needed",
        "what was approved is something else"
    );
    bench.client.invite(&wish).await.unwrap();
}

#[tokio::test]
async fn whoever_is_held_back_cannot_take_the_guard_away() {
    let bench = Bench::with(&["packhouse"]).await;
    bench.member("ines", &["admin@fleet"]).await;
    guard(&bench, |all| all.guard_members = Guard::Approval).await;
    let weaker = Preferences { guard_members: Guard::None, ..bench.client.preferences().await.unwrap() };
    assert_eq!(word(&problem(bench.client.set_preferences(&weaker).await)), "approval-needed");
    let ines = session(&bench, "ines").await;
    let asked = ines.approvals().await.unwrap();
    assert!(asked[0].detail.contains("guard_members"), "{asked:?}");
    ines.decide_approval(asked[0].id, true).await.unwrap();
    bench.client.set_preferences(&weaker).await.unwrap();
}

#[tokio::test]
async fn lesser_rights_hold_until_one_steps_up() {
    let bench = Bench::with(&["packhouse"]).await;
    let mara = session(&bench, "mara").await;
    let profile = |role: Option<&str>| Profile { works_as: role.map(str::to_owned), ..Profile::default() };
    assert_eq!(
        problem(mara.set_profile(&profile(Some("night-shift"))).await).field.as_deref(),
        Some("/works_as")
    );
    mara.set_profile(&profile(Some("viewer"))).await.unwrap();
    assert_eq!(problem(mara.submit(&restart(), None).await).status, 403);
    let rights = mara.own_rights().await.unwrap();
    assert_eq!((rights.works_as.as_deref(), rights.stepped_until), (Some("viewer"), None));
    assert!(!rights.on_fleet.contains(&Right::Deploy));
    assert_eq!(
        word(&problem(mara.set_profile(&profile(None)).await)),
        "step-up-needed",
        "nobody just removes it"
    );
    let token = gubernum_api::requests::NewToken {
        name: "around".into(),
        expires_in_days: None,
        bounds: None,
        networks: Vec::new(),
    };
    assert_eq!(problem(mara.make_token(&token).await).status, 403, "no token leads around it");
    mara.step_up(&with_password(PASSWORD)).await.unwrap();
    let done = mara.submit(&restart(), None).await.unwrap();
    assert_eq!(over(&bench, done.id).await, OperationState::Succeeded);
    bench.pass(15 * 60 + 1);
    assert_eq!(problem(mara.submit(&restart(), None).await).status, 403);
    mara.step_up(&with_password(PASSWORD)).await.unwrap();
    mara.set_profile(&profile(None)).await.unwrap();
    bench.pass(15 * 60 + 1);
    mara.submit(&restart(), None).await.unwrap();
}

#[tokio::test]
async fn through_a_role_one_sees_what_it_sees() {
    let bench = Bench::with(&["packhouse"]).await;
    let mara = session(&bench, "mara").await;
    mara.view_as(Some("viewer")).await.unwrap();
    let rights = mara.own_rights().await.unwrap();
    assert_eq!(rights.view_as.as_deref(), Some("viewer"));
    assert_eq!(rights.on_fleet, [Right::See, Right::ReadLogs]);
    assert_eq!(problem(mara.members().await).status, 403);
    assert_eq!(problem(mara.view_as(Some("night-shift")).await).field.as_deref(), Some("/role"));
    assert!(bench.client.members().await.is_ok(), "her token is as before");
    assert_eq!(problem(bench.client.view_as(Some("viewer")).await).status, 409);
    mara.view_as(None).await.unwrap();
    assert!(mara.members().await.is_ok());
    bench.member("tess", &["viewer@fleet"]).await;
    let tess = session(&bench, "tess").await;
    tess.view_as(Some("admin")).await.unwrap();
    assert_eq!(problem(tess.members().await).status, 403, "nobody sees more through a role");
}

#[tokio::test]
async fn a_profile_is_kept_and_checked() {
    let bench = Bench::with(&["packhouse"]).await;
    let profile = Profile {
        display_name: "Mara of the orchard".into(),
        time_zone: Some("Europe/Vienna".into()),
        start_page: "/containers".into(),
        filters: [("/containers".to_owned(), "states=exited".to_owned())].into(),
        ..Profile::default()
    };
    bench.client.set_profile(&profile).await.unwrap();
    assert_eq!(bench.client.profile().await.unwrap(), profile);
    assert_eq!(bench.client.members().await.unwrap()[0].display_name, "Mara of the orchard");
    let bad = Profile { start_page: "//elsewhere.example".into(), ..profile };
    assert_eq!(problem(bench.client.set_profile(&bad).await).field.as_deref(), Some("/start_page"));
}

#[tokio::test]
async fn who_made_it_is_reported_with_the_session_or_token() {
    let bench = Bench::with(&["packhouse"]).await;
    let done = bench.client.submit(&restart(), None).await.unwrap();
    over(&bench, done.id).await;
    let mara = session(&bench, "mara").await;
    let done = mara.submit(&restart(), None).await.unwrap();
    over(&bench, done.id).await;
    bench.until("both are in the log", async |b| audited(b, "restart").await.len() == 2).await;
    let told = audited(&bench, "restart").await;
    assert!(told.iter().any(|t| t.starts_with("mara token tests (")), "{told:?}");
    assert!(told.iter().any(|t| t.starts_with("mara session ")), "{told:?}");
}

#[tokio::test]
async fn a_job_runs_with_the_rights_of_whoever_applied_its_stack() {
    let bench = Bench::with(&["packhouse"]).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    let text = "services:\n  report:\n    image: registry.tarnvalley.example/api:1\n    pull_policy: never\n    \
                entrypoint: ['sh', '-c', 'exit 0']\n    x-gubernum-schedule: '* * * * *'\n";
    let request = ApplyRequest {
        stack: "frostwatch".into(),
        files: [("stack.yaml".to_owned(), text.to_owned())].into(),
        main: vec!["stack.yaml".into()],
        watch_seconds: Some(1),
        ..ApplyRequest::default()
    };
    let applied = jory
        .submit(&NewOperation::new(Request::Apply(request), vec!["packhouse".into()]), None)
        .await
        .unwrap();
    assert_eq!(over(&bench, applied.id).await, OperationState::Succeeded);
    bench.until("the job is known", async |b| !b.client.jobs().await.unwrap().is_empty()).await;
    // That its clock was set is found out at the next look, which may be a while off.
    let within = Duration::from_secs(90);
    bench.pass(61);
    let ran = async || audited(&bench, "run").await.iter().any(|t| t.contains("the rights of jory"));
    until("it ran", within, ran).await;
    let members = bench.client.members().await.unwrap();
    let id = members.iter().find(|m| m.name == "jory").unwrap().id;
    bench.client.remove_member(id).await.unwrap();
    bench.pass(61);
    let says_why = async || {
        let runs = bench.client.job_runs("packhouse", "frostwatch", "report").await.unwrap();
        let why = "jory, whose rights it uses";
        runs.iter().any(|r| r.sentence.as_deref().is_some_and(|told| told.contains(why)))
    };
    until("it says why it does not run", within, says_why).await;
}
