//! The team in the console by real keys and clicks: a note with a mention, who else looks at the same, and a sign-in at a provider of OpenID
//! Connect. The pages are held to axe's rules, at desktop and phone size.

use gubernum_api::directories::{DirectorySettings, GroupGrant, OpenidSettings, SetDirectory};
use gubernum_client::{Client, Trust};
use gubernum_testbed::browser::Browser;
use gubernum_testbed::openid::{self, OpenidPeer};
use gubernum_testbed::started::Started;

use crate::acting_console::{press, sign_out};
use crate::console::Page;
use crate::stacks_console::{accessible, both, confirm, part};
use crate::support::{binary, err, json, out, run, settled};

async fn sign_in(page: &Page<'_>, demo: &Started, member: &str) {
    page.0.goto(demo.url()).await.unwrap();
    page.find("#member").await.send_keys(member).await.unwrap();
    page.find("#password").await.send_keys(demo.text("password")).await.unwrap();
    page.click("button[type=submit]").await;
    page.find("[data-test=matrix] .cell").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_needs_attention_is_snoozed_for_all_and_brought_back() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let (hers, his) = (Browser::start().await.unwrap(), Browser::start().await.unwrap());
    let (tess, mara) = (Page(&hers.window), Page(&his.window));
    sign_in(&tess, &demo, "tess").await;
    sign_in(&mara, &demo, "mara").await;
    tess.reads("[data-test=attention]", "grading-classifier-1").await;
    mara.click("[aria-label='Snooze packhouse/grading-classifier-1']").await;
    mara.reads(".bx--modal.is-visible", "Hidden for all members until").await;
    mara.find("#snooze-reason").await.send_keys("the part comes on Tuesday").await.unwrap();
    confirm(&mara).await;
    for page in [&mara, &tess] {
        page.reads("h1", "1 snoozed").await;
        let list = page.text("[data-test=attention]").await;
        assert!(!list.contains("grading-classifier-1"), "{list}");
    }
    press(&tess, "1 snoozed").await;
    tess.reads("[data-test=snoozed]", "mara, until").await;
    tess.reads("[data-test=snoozed]", "the part comes on Tuesday").await;
    let mut wrong = Vec::new();
    both(&tess, "what is snoozed", &mut wrong).await;
    assert!(wrong.is_empty(), "{wrong:#?}");
    press(&mara, "1 snoozed").await;
    press(&mara, "Show again").await;
    for page in [&mara, &tess] {
        page.reads("[data-test=attention]", "grading-classifier-1").await;
        assert_eq!(page.count("[data-test=snoozed]").await, 0, "nothing is snoozed any more");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_note_mentions_a_member_who_sees_it_and_who_else_is_there() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let text = "the press is cleaned on Fridays, @tess; see https://wiki.tarnvalley.example/press.";
    let noted = run(&demo, &["note", "container:packhouse/auction-web-1", text, "--pin"]);
    assert_eq!(
        out(&noted),
        "Note 1 is on container:packhouse/auction-web-1, mentions tess.\n",
        "{}",
        err(&noted)
    );
    assert!(
        out(&run(&demo, &["list", "attention"])).contains("the press is cleaned"),
        "pinned notes need attention"
    );
    let (hers, his) = (Browser::start().await.unwrap(), Browser::start().await.unwrap());
    let (tess, mara) = (Page(&hers.window), Page(&his.window));
    let mut wrong = Vec::new();
    sign_in(&tess, &demo, "tess").await;
    tess.reads("main", "mara mentioned you on packhouse/auction-web-1").await;
    tess.reads("[data-test=pinned]", "the press is cleaned on Fridays").await;
    accessible(&tess, "a mention", &mut wrong).await;
    press(&tess, "Open").await;
    tess.reads("[data-test=notes]", "the press is cleaned on Fridays").await;
    let link = tess.find("[data-test=notes] a").await.attr("href").await.unwrap().unwrap();
    assert_eq!(link, "https://wiki.tarnvalley.example/press");
    tess.find("#note-text").await.send_keys("Done for this week. <b>Really</b>, @mara").await.unwrap();
    press(&tess, "Save note").await;
    tess.reads("[data-test=notes]", "<b>Really</b>, @mara").await;
    assert_eq!(tess.count("[data-test=notes] p b").await, 0, "a note is text");

    sign_in(&mara, &demo, "mara").await;
    mara.reads("main", "tess mentioned you on packhouse/auction-web-1").await;
    mara.go(&demo, "/containers?inspect=packhouse/auction-web-1").await;
    mara.reads("[data-test=others]", "Also viewing: tess").await;
    mara.reads("[data-test=inspector]", "Notes (2)").await;
    mara.go(&demo, "/stacks/packhouse/auction?part=notes").await;
    mara.find("#note-text").await.send_keys("drained on Sundays").await.unwrap();
    press(&mara, "Save note").await;
    mara.reads("[data-test=notes]", "drained on Sundays").await;
    both(&mara, "notes", &mut wrong).await;
    mara.go(&demo, "/stacks/packhouse/auction?inspect=packhouse/auction-web-1&tab=notes").await;
    mara.reads("[data-test=others]", "Also viewing: tess").await;
    mara.reads("[data-test=inspector]", "Done for this week").await;
    accessible(&mara, "notes in the inspector", &mut wrong).await;
    let people = json(&demo, &["list", "team"]);
    let looks = |name: &str| {
        let people = people["people"].as_array().unwrap();
        people.iter().find(|p| p["member"] == name).unwrap()["looking_at"].clone()
    };
    assert_eq!(looks("tess"), "container:packhouse/auction-web-1");
    hers.close().await.unwrap();
    for _ in 0..200 {
        if mara.count("[data-test=others]").await == 0 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert_eq!(mara.count("[data-test=others]").await, 0, "whoever has closed the console is gone");
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_member_of_a_provider_signs_in_and_out_by_it() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let service = demo.url().trim_end_matches('/');
    let peer = OpenidPeer::start(service, &[("freya", &["harvest"]), ("bo", &[])]).unwrap();
    let settings: OpenidSettings = serde_json::from_value(serde_json::json!({
        "issuer": peer.issuer(), "client_id": openid::CLIENT.0, "service_address": service, "label": "the valley",
    }))
    .unwrap();
    let viewer =
        GroupGrant { group: "harvest".into(), role: "viewer".into(), scope: "fleet".parse().unwrap() };
    let wish = SetDirectory {
        settings: DirectorySettings::Openid(settings),
        mapping: vec![viewer],
        recheck_seconds: 60,
        secret: Some(openid::CLIENT.1.into()),
    };
    let client = Client::new(demo.url(), Some(demo.text("token").to_owned()), Trust::System).unwrap();
    client.set_directory(&wish).await.unwrap();
    let browser = Browser::start().await.unwrap();
    let page = Page(&browser.window);
    let mut wrong = Vec::new();
    let through = async |name: &str| {
        page.0.goto(demo.url()).await.unwrap();
        page.click("[data-test=openid]").await;
        page.find("input[name=name]").await.send_keys(name).await.unwrap();
        page.find("input[name=password]").await.send_keys(openid::PASSWORD).await.unwrap();
        page.click("form button").await;
    };
    page.0.goto(demo.url()).await.unwrap();
    page.reads("form", "Sign in with the valley").await;
    both(&page, "the way in", &mut wrong).await;
    through("freya").await;
    page.reads("header", "freya").await;
    page.find("[data-test=matrix] .cell").await;
    let address = page.0.current_url().await.unwrap();
    assert!(address.fragment().is_none(), "the ticket does not stay in the address: {address}");
    sign_out(&page).await;
    page.reads("body", "Do you want to sign-out").await;
    page.0.delete_all_cookies().await.unwrap();
    through("bo").await;
    page.reads("form", "Your groups grant you nothing here").await;

    page.sign_in(&demo).await;
    page.go(&demo, "/members").await;
    page.reads("[data-test=members]", "OpenID Connect").await;
    part(&page, "Directories").await;
    page.click("[data-test=set-openid]").await;
    press(&page, "Test").await;
    page.reads("main", "Connected.").await;
    press(&page, "Cancel").await;
    page.click("[data-test=set-ldap]").await;
    page.find("#ldap-address").await.send_keys("directory.tarnvalley.example").await.unwrap();
    page.find("#ldap-base").await.send_keys("ou=people").await.unwrap();
    press(&page, "Save").await;
    page.reads("main", "An address such as ldaps://directory.example:636").await;
    both(&page, "directories", &mut wrong).await;
    assert!(wrong.is_empty(), "{wrong:#?}");
}
