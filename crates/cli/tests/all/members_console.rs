//! Members in the console by real keys and clicks: what each may, a role of the team, an invitation that is taken, a freeze, the audit
//! log; and what somebody sees who has one stack. The pages are held to axe's rules, at desktop and phone size.

use gubernum_testbed::browser::Browser;
use gubernum_testbed::started::Started;

use crate::acting_console::press;
use crate::console::Page;
use crate::stacks_console::{accessible, both, confirm, part};
use crate::support::{binary, err, json, out, run, run_at, settled};

#[tokio::test(flavor = "multi_thread")]
async fn a_team_is_invited_limited_and_held_off() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    let mut wrong = Vec::new();

    page.click("a[href='/members']").await;
    page.reads("[data-test=members]", "operator on the host coldstore").await;
    page.click("[data-test=member-tess]").await;
    page.reads("[data-test=members]", "see-secrets").await;
    both(&page, "members", &mut wrong).await;

    part(&page, "Roles").await;
    page.find("#role-name").await.send_keys("night-shift").await.unwrap();
    page.click("label[for='right-read-logs']").await;
    press(&page, "Add role").await;
    page.reads("main", "see, read-logs").await;
    both(&page, "roles", &mut wrong).await;

    part(&page, "Invite").await;
    page.find("#invited-name").await.send_keys("kit").await.unwrap();
    press(&page, "Create link").await;
    page.reads("main", "Give this link to kit").await;
    both(&page, "an invitation", &mut wrong).await;
    let link = page.text(".bx--snippet").await;
    let link = link.split_whitespace().next().unwrap().to_owned();
    assert!(link.contains("/welcome#gbi_"), "{link}");

    page.go(&demo, "/account").await;
    page.find("#second-password").await.send_keys(demo.text("password")).await.unwrap();
    press(&page, "Set up second factor").await;
    page.reads("main", "Then enter the code that it shows").await;
    page.find("#second-code").await.send_keys("000000").await.unwrap();
    press(&page, "Turn on").await;
    page.reads("main", "Wrong or used code").await;
    both(&page, "a second factor", &mut wrong).await;

    page.go(&demo, "/audit?action=invite-member").await;
    page.reads("main", "viewer on fleet").await;
    both(&page, "the audit log", &mut wrong).await;

    page.go(&demo, "/").await;
    press(&page, "Freeze changes…").await;
    page.find("#freeze-reason").await.send_keys("the harvest is counted").await.unwrap();
    accessible(&page, "a freeze", &mut wrong).await;
    confirm(&page).await;
    page.reads("main", "The whole fleet is frozen by mara until").await;
    accessible(&page, "a frozen fleet", &mut wrong).await;

    page.0.goto(&link).await.unwrap();
    page.reads("main", "Welcome, kit").await;
    both(&page, "the welcome", &mut wrong).await;
    page.find("#new-password").await.send_keys("violet engine marble sunday").await.unwrap();
    press(&page, "Set password and sign in").await;
    page.reads("header", "kit").await;
    page.reads("main", "The whole fleet is frozen by mara until").await;
    assert_eq!(
        page.count("a[href='/members'], a[href='/audit']").await,
        0,
        "what is never allowed is not shown"
    );
    page.go(&demo, "/containers?inspect=packhouse/auction-web-1").await;
    page.reads("[data-test=inspector]", "auction-web-1").await;
    page.reads("[data-test=inspector]", "Facts").await;
    let inspector = page.text("[data-test=inspector]").await;
    assert!(!inspector.contains("Restart…") && !inspector.contains("Terminal"), "{inspector}");
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_has_one_stack_sees_that_and_nothing_else() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.0.goto(demo.url()).await.unwrap();
    page.find("#member").await.send_keys("wim").await.unwrap();
    page.find("#password").await.send_keys(demo.text("password")).await.unwrap();
    page.click("button[type=submit]").await;
    page.find("[data-test=matrix] .cell").await;
    page.go(&demo, "/containers").await;
    let mine = json(&demo, &["list", "containers", "--stack", "auction"]);
    let count = mine.as_array().unwrap().len();
    page.reads("[data-test=count]", &format!("{count} of {count}")).await;
    for path in ["/", "/containers", "/volumes", "/networks", "/ports", "/timeline", "/operations", "/hosts"]
    {
        page.go(&demo, path).await;
        page.find("main h1, main table, main [data-test]").await;
        let text = page.text("main").await;
        for hidden in ["frostwatch", "coldstore", "grading", "ledger"] {
            assert!(!text.contains(hidden), "{path} tells of {hidden}: {text}");
        }
    }
}

#[test]
fn members_roles_freezes_and_a_way_back_in_by_the_command_line() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let told = out(&run(&demo, &["list", "members"]));
    assert!(told.contains("operator@stack:auction"), "{told}");
    let role = run(&demo, &["set", "role", "night-shift", "--right", "see", "--right", "start-stop"]);
    assert!(role.status.success(), "{}", err(&role));
    let set = run(&demo, &["set", "member", "TESS", "--grant", "night-shift@host:coldstore"]);
    assert_eq!(out(&set), "tess: night-shift@host:coldstore\n", "{}", err(&set));
    let rights = json(&demo, &["list", "rights", "--member", "tess"]);
    let may = |right: &str| {
        rights.as_array().unwrap().iter().find(|r| r["right"] == right).unwrap()["by"]
            != serde_json::json!([])
    };
    assert!(may("start-stop") && !may("deploy"));
    let lost = run(&demo, &["set", "member", "mara", "--grant", "viewer"]);
    assert!(!lost.status.success() && err(&lost).contains("last admin of the fleet"), "{}", err(&lost));
    let none = run(&demo, &["set", "member", "nobody", "--grant", "viewer"]);
    assert!(err(&none).contains("no member 'nobody'"), "{}", err(&none));

    let frozen =
        run(&demo, &["freeze", "host:packhouse", "--reason", "the harvest is counted", "--hours", "2"]);
    assert!(out(&frozen).contains("host:packhouse is frozen until"), "{}", err(&frozen));
    assert!(out(&run(&demo, &["list", "freezes"])).contains("the harvest is counted"));
    assert_eq!(out(&run(&demo, &["unfreeze", "1"])), "Freeze 1 is lifted.\n");
    assert_eq!(out(&run(&demo, &["list", "freezes"])), "Nothing is frozen.\n");
    let group = run(&demo, &["set", "host", "packhouse", "--group", "sheds"]);
    assert!(out(&group).contains("groups sheds"), "{}", err(&group));

    let invited = run(&demo, &["invite", "kit", "--grant", "viewer@group:sheds"]);
    assert!(out(&invited).contains("/welcome#gbi_"), "{}", err(&invited));
    assert!(out(&run(&demo, &["list", "invitations"])).contains("viewer@group:sheds"));
    let wrong = run_at(demo.url(), "gbt_wrong", &["list", "members"]);
    assert_eq!(wrong.status.code(), Some(6));
}

#[test]
fn whoever_has_the_machine_gets_back_in() {
    let folder = tempfile::tempdir().unwrap();
    let missing = std::process::Command::new(binary())
        .args(["recover", "--data-dir", folder.path().to_str().unwrap()])
        .output()
        .unwrap();
    assert!(err(&missing).contains("is not a data folder"), "{}", err(&missing));
    let service = Started::serve(binary(), folder.path(), &[]).unwrap();
    let recovered = std::process::Command::new(binary())
        .args(["recover", "--data-dir", folder.path().to_str().unwrap(), "--member", "mara"])
        .output()
        .unwrap();
    let told = out(&recovered);
    let secret = told.split_whitespace().next().unwrap().strip_prefix("/welcome#").expect(&told).to_owned();
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let rights = runtime.block_on(async {
        let client =
            gubernum_client::Client::new(service.url(), None, gubernum_client::Trust::System).unwrap();
        let password = "violet engine marble sunday".to_owned();
        let accept = gubernum_api::members::AcceptInvitation { secret, password };
        let mara = client.accept_invitation(&accept).await.unwrap();
        let audit = mara.audit().await.unwrap();
        assert!(audit.iter().any(|e| e.action == "recover" && e.object == "mara"), "{audit:?}");
        mara.own_rights().await.unwrap()
    });
    assert_eq!(rights.on_fleet.len(), gubernum_api::members::Right::ALL.len());
}
