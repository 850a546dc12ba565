//! Working inside things in the console: one-off commands, a container's own process, a volume's files and its restoring,
//! images that are built and imported. In headless Chromium on the demo fleet.

use std::io::Write;

use gubernum_testbed::browser::Browser;
use thirtyfour::By;

use crate::acting_console::{press, write};
use crate::console::Page;
use crate::support::{demo, err, json, out, run, settled};

/// Gives a file or folder of this machine to a chooser.
async fn choose(page: &Page<'_>, name: &str, path: &std::path::Path) {
    let selector = format!("input[type=file][aria-label='{name}']");
    page.find(&selector).await;
    let chooser = page.0.find(By::Css(selector.as_str())).await.unwrap();
    chooser.send_keys(path.to_str().unwrap()).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_command_in_a_container_and_one_in_a_container_of_its_own() {
    let demo = demo();
    settled(&demo);
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    page.go(&demo, "/containers?inspect=packhouse/frostwatch-api-1&tab=terminal").await;
    write(&page, "Command to run", "sh -c 'echo two degrees; exit 4'").await;
    press(&page, "Run").await;
    page.reads("[data-test=run-outcome]", "Exit code 4").await;
    page.reads("[data-test=run-output]", "two degrees").await;
    write(&page, "Command to run", "sh -c 'echo").await;
    press(&page, "Run").await;
    page.reads("[data-test=run-outcome]", "quotation mark is not closed").await;

    // Attached to its main process: what it says from now on; leaving does not end it.
    press(&page, "Main process").await;
    press(&page, "Attach").await;
    page.reads("[data-test=terminal] .xterm-rows", "msg=").await;
    press(&page, "Detach").await;
    page.reads("[data-test=run-once]", "Command").await;
    let still = json(&demo, &["list", "containers", "packhouse/frostwatch-api-1"]);
    assert_eq!(still[0]["state"], "running");

    // From an image: a container is made for it, and is gone afterwards.
    let images = json(&demo, &["list", "images"]);
    let tagged = |i: &&serde_json::Value| i["tags"][0].as_str().is_some_and(|t| t.contains("frostwatch/api"));
    let id = images.as_array().unwrap().iter().find(tagged).unwrap()["id"].as_str().unwrap().to_owned();
    page.go(&demo, &format!("/images?inspect=image:{id}")).await;
    press(&page, "Run once…").await;
    write(&page, "Command to run", "sh -c 'echo alone; exit 6'").await;
    press(&page, "Run").await;
    page.reads("[data-test=run-outcome]", "Exit code 6").await;
    page.reads("[data-test=run-output]", "alone").await;
    let left = json(&demo, &["list", "containers", "*/run-once-*"]);
    assert!(left.as_array().is_none_or(Vec::is_empty), "{left}");
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_volume_is_browsed_and_restored() {
    let demo = demo();
    settled(&demo);
    let scratch = tempfile::tempdir().unwrap();
    let archive = scratch.path().join("spring.tar");
    let mut tar = tar::Builder::new(std::fs::File::create(&archive).unwrap());
    let mut header = tar::Header::new_gnu();
    header.set_size(4);
    header.set_mode(0o644);
    tar.append_data(&mut header, "spring/april.csv", &b"3.9\n"[..]).unwrap();
    tar.into_inner().unwrap().flush().unwrap();

    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    page.go(&demo, "/volumes?inspect=volume:packhouse/frostwatch_readings").await;
    choose(&page, "Archive to restore", &archive).await;
    page.reads("[data-test=restore]", "frostwatch-database-1 may be using it").await;
    press(&page, "Restore").await;
    page.reads("[data-test=restored]", "is unpacked into it").await;
    press(&page, "Files").await;
    press(&page, "spring/").await;
    press(&page, "april.csv").await;
    page.reads("[data-test=file-text]", "3.9").await;
    press(&page, "Back to the folder").await;
    press(&page, "Create folder…").await;
    write(&page, "Name of the folder", "older").await;
    press(&page, "Create folder").await;
    page.reads("[data-test=files]", "older/").await;
    press(&page, "Delete").await;
    press(&page, "Delete folder").await;
    let listed = run(&demo, &["browse", "volume:packhouse/frostwatch_readings:/spring"]);
    assert!(!out(&listed).contains("older") || !out(&listed).contains("april"), "{}", out(&listed));

    // An archive whose entries lead outside is not taken, and says which.
    let mut tar = tar::Builder::new(std::fs::File::create(&archive).unwrap());
    let mut header = tar::Header::new_gnu();
    header.set_entry_type(tar::EntryType::Symlink);
    header.set_size(0);
    tar.append_link(&mut header, "way-out", "/etc").unwrap();
    tar.into_inner().unwrap().flush().unwrap();
    page.go(&demo, "/volumes?inspect=volume:packhouse/frostwatch_readings").await;
    choose(&page, "Archive to restore", &archive).await;
    press(&page, "Restore").await;
    page.reads("[data-test=restored]", "leads outside").await;
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn images_are_built_from_a_folder_and_taken_in() {
    let demo = demo();
    settled(&demo);
    let scratch = tempfile::tempdir().unwrap();
    let folder = scratch.path().join("frost");
    let deep = folder.join(format!("app/long-{}", "n".repeat(120)));
    std::fs::create_dir_all(&deep).unwrap();
    std::fs::write(folder.join("Dockerfile"), "FROM registry.tarnvalley.example/base/web:2\nCOPY app /app\n")
        .unwrap();
    std::fs::write(folder.join("app/run"), "run\n").unwrap();
    std::fs::write(deep.join("deep"), "x").unwrap();
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    page.sign_in(&demo).await;
    page.go(&demo, "/images").await;
    press(&page, "Build an image…").await;
    write(&page, "Host", "office").await;
    write(&page, "Name of the image", "registry.tarnvalley.example/ledger/web:25.1").await;
    choose(&page, "Folder", &folder).await;
    press(&page, "Build file, stage, arguments").await;
    write(&page, "Build arguments", "no pair").await;
    press(&page, "Build").await;
    page.reads("[data-test=build-outcome]", "is not NAME=value").await;
    write(&page, "Build arguments", "SEASON=winter").await;
    press(&page, "Build").await;
    page.reads("[data-test=build-outcome]", "Built registry.tarnvalley.example/ledger/web:25.1 on office")
        .await;
    page.reads("[data-test=build-said]", "Step 2/2 : COPY app /app").await;
    // A name that is none is refused with the reason.
    write(&page, "Name of the image", "Not A Name").await;
    press(&page, "Build").await;
    page.reads("[data-test=build-outcome]", "name").await;

    let archive = scratch.path().join("web.tar");
    let image = "registry.tarnvalley.example/ledger/web:25.1";
    let exported = run(&demo, &["export", image, "--host", "office", archive.to_str().unwrap()]);
    assert!(exported.status.success(), "{}", err(&exported));
    press(&page, "Import…").await;
    write(&page, "Host", "packhouse").await;
    choose(&page, "Archive", &archive).await;
    press(&page, "Import").await;
    page.reads("[data-test=build-outcome]", "Imported").await;
    std::fs::write(&archive, "no archive at all").unwrap();
    press(&page, "Import…").await;
    press(&page, "Import…").await;
    write(&page, "Host", "packhouse").await;
    choose(&page, "Archive", &archive).await;
    press(&page, "Import").await;
    page.reads("[data-test=build-outcome]", "could not import it").await;
    browser.close().await.unwrap();
}
