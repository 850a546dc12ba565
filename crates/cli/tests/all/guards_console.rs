//! Stepping up, a second member's word, looking through a role and one's profile in the console, by real keys and clicks; with axe, at
//! desktop and phone size.

use gubernum_testbed::browser::Browser;
use gubernum_testbed::started::Started;

use crate::acting_console::{press, sign_out};
use crate::console::Page;
use crate::stacks_console::both;
use crate::support::{binary, err, out, run, settled};

async fn sign_in(page: &Page<'_>, demo: &Started, member: &str) {
    page.0.goto(demo.url()).await.unwrap();
    page.find("#member").await.send_keys(member).await.unwrap();
    page.find("#password").await.send_keys(demo.text("password")).await.unwrap();
    page.click("button[type=submit]").await;
    page.find("[data-test=matrix] .cell").await;
}

fn set(demo: &Started, words: &[&str]) {
    let output = run(demo, &[&["set", "preferences"], words].concat());
    assert!(output.status.success(), "{}", err(&output));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_dangerous_asks_once_more_and_then_goes_on() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    set(&demo, &["--guard-members", "step-up"]);
    let browser = Browser::start().await.unwrap();
    let page = Page(&browser.window);
    let mut wrong = Vec::new();
    sign_in(&page, &demo, "mara").await;
    page.go(&demo, "/members").await;
    press(&page, "Roles").await;
    page.find("#role-name").await.send_keys("night-shift").await.unwrap();
    press(&page, "Add role").await;
    page.find("#step-password").await.send_keys("not hers").await.unwrap();
    both(&page, "stepping up", &mut wrong).await;
    press(&page, "Step up").await;
    page.reads(".bx--modal.is-visible", "This is not your password.").await;
    let field = page.find("#step-password").await;
    field.clear().await.unwrap();
    field.send_keys(demo.text("password")).await.unwrap();
    press(&page, "Step up").await;
    page.reads("main", "You have stepped up until").await;
    page.reads("main", "night-shift").await;
    press(&page, "End it now").await;

    press(&page, "View as").await;
    page.reads("main", "You see the console as viewer.").await;
    assert_eq!(page.count("a[href='/members']").await, 0, "a viewer has no such page");
    page.go(&demo, "/account").await;
    page.reads("main", "You see the console as viewer.").await;
    both(&page, "through a role", &mut wrong).await;
    press(&page, "Back to yourself").await;
    page.find("a[href='/members']").await;
    assert!(wrong.is_empty(), "{wrong:#?}");
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_member_approves_in_the_console() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    set(&demo, &["--guard-remove-volumes", "approval"]);
    let remove = ["remove", "volume", "coldstore/coldchain_trial"];
    let held = run(&demo, &remove);
    assert!(err(&held).contains("approval 1 is waiting"), "{}{}", out(&held), err(&held));
    assert!(out(&run(&demo, &["list", "approvals"])).contains("waits"));
    let browser = Browser::start().await.unwrap();
    let page = Page(&browser.window);
    let mut wrong = Vec::new();
    sign_in(&page, &demo, "jory").await;
    page.reads("main", "A change waits for your approval.").await;
    press(&page, "Review").await;
    page.reads("[data-test=approvals]", "volume coldstore/coldchain_trial is removed with its data").await;
    both(&page, "an approval", &mut wrong).await;
    press(&page, "Approve").await;
    page.reads("[data-test=approvals]", "approved by jory").await;
    let gone = run(&demo, &remove);
    assert!(gone.status.success(), "{}{}", out(&gone), err(&gone));
    assert!(wrong.is_empty(), "{wrong:#?}");
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_profile_holds_over_a_new_sign_in() {
    let demo = Started::demo(binary(), &["--calm", "--without-texts"]).unwrap();
    settled(&demo);
    let browser = Browser::start().await.unwrap();
    let page = Page(&browser.window);
    let mut wrong = Vec::new();
    sign_in(&page, &demo, "mara").await;
    page.go(&demo, "/containers?states=exited").await;
    page.click("[data-test=own]").await;
    press(&page, "Keep filters").await;
    page.reads("header", "Forget filters").await;
    page.go(&demo, "/account").await;
    page.find("#profile-name").await.send_keys("Mara of the orchard").await.unwrap();
    page.find("#profile-start").await.send_keys("Containers").await.unwrap();
    page.find("#profile-works").await.send_keys("viewer").await.unwrap();
    both(&page, "the profile", &mut wrong).await;
    page.find("#profile-name").await.send_keys("\u{e007}").await.unwrap();
    page.reads("main", "Profile saved.").await;
    page.reads("header", "Mara of the orchard").await;
    page.reads("main", "You work as viewer.").await;
    sign_out(&page).await;
    page.find("#member").await.send_keys("mara").await.unwrap();
    page.find("#password").await.send_keys(demo.text("password")).await.unwrap();
    page.click("button[type=submit]").await;
    page.reads("main", "You work as viewer.").await;
    for _ in 0..200 {
        if page.0.current_url().await.unwrap().query() == Some("states=exited") {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let address = page.0.current_url().await.unwrap();
    assert_eq!((address.path(), address.query()), ("/containers", Some("states=exited")));
    assert!(wrong.is_empty(), "{wrong:#?}");
    browser.close().await.unwrap();
}
