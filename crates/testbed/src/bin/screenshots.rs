//! Takes the pictures of the documentation from the demo: `screenshots BINARY FOLDER` (by way of
//! `cargo xtask screenshots`).

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use gubernum_testbed::BedError;
use gubernum_testbed::browser::Browser;
use gubernum_testbed::started::Started;
use thirtyfour::{By, WebDriver};

#[tokio::main]
async fn main() -> Result<(), BedError> {
    let mut arguments = std::env::args_os().skip(1).map(PathBuf::from);
    let (Some(binary), Some(folder)) = (arguments.next(), arguments.next()) else {
        return Err(BedError::Command {
            command: "screenshots".into(),
            detail: "give the binary and the folder".into(),
        });
    };
    let browser = Browser::start().await?;
    let camera = Camera { window: &browser.window, folder: &folder };
    let demo = Started::demo(&binary, &["--calm"])?;
    camera.window.goto(demo.url()).await?;
    camera.wait("input#member").await?;
    camera.theme("light").await?;
    camera.window.goto(demo.url()).await?;
    camera.wait("input#member").await?;
    camera.window.find(By::Id("member")).await?.send_keys(demo.text("member")).await?;
    camera.window.find(By::Id("password")).await?.send_keys(demo.text("password")).await?;
    camera.window.find(By::Css("button[type=submit]")).await?.click().await?;
    // The first sight of the demo includes a failing health check, which takes a moment to fail.
    camera.wait("[data-test=attention] svg.sick").await?;
    for theme in ["light", "dark"] {
        camera.theme(theme).await?;
        if theme == "light" {
            camera.page(&demo, "/", "[data-test=matrix] .cell", "overview-light").await?;
        } else {
            camera.shell(&demo).await?;
        }
        let chosen =
            "packhouse/grading-camera-1-1,packhouse/grading-camera-2-1,packhouse/frostwatch-database-1";
        if theme == "light" {
            let using = format!("/use?refs={chosen}");
            // The first rates come with the third sample.
            let rates = "svg[aria-label='Processor, last minutes'] polyline";
            camera.page(&demo, &using, rates, "use-light").await?;
        }
        let logs =
            if theme == "dark" { "/logs?stack=coldchain&with=timeout" } else { "/logs?refs=*/frostwatch-*" };
        camera.page(&demo, logs, "[data-test=log] .line", &format!("logs-{theme}")).await?;
    }
    camera.theme("light").await?;
    let containers = "/containers?inspect=packhouse/auction-bids-1";
    camera.page(&demo, containers, "[data-test=inspector] dl.narrow", "containers-light").await?;
    camera.page(&demo, "/stacks", "[data-test=stacks] td", "stacks").await?;
    camera.page(&demo, "/images", "[data-test=image]", "images").await?;
    camera.page(&demo, "/members", "[data-test=members] button", "members").await?;
    camera.page(&demo, "/hosts?inspect=host:coldstore", "[data-test=hosts] td", "hosts").await?;
    camera.page(&demo, "/tidy", "[data-test=leftover]", "tidy").await?;
    camera
        .page(&demo, "/deploy?from=packhouse/auction-web-1", "[data-test=consequences] .plan", "deploy")
        .await?;
    camera.files(&demo).await?;
    camera.consequence(&demo).await?;
    camera.stack_editor(&demo).await?;
    camera.page(&demo, "/map?open=packhouse/grading", "[data-test=map] .node", "map").await?;
    // Last, because it changes the fleet.
    camera.operation(&demo, "light").await?;
    browser.close().await
}

struct Camera<'a> {
    window: &'a WebDriver,
    folder: &'a Path,
}

impl Camera<'_> {
    async fn wait(&self, selector: &str) -> Result<(), BedError> {
        for _ in 0..800 {
            if self.window.find(By::Css(selector)).await.is_ok() {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Err(BedError::Slow {
            what: selector.to_owned(),
            seconds: 40,
            detail: "it is not on the page".to_owned(),
        })
    }

    async fn take(&self, name: &str) -> Result<(), BedError> {
        // Carbon's transitions take up to a quarter of a second.
        tokio::time::sleep(Duration::from_millis(600)).await;
        self.window.screenshot(&self.folder.join(format!("{name}.png"))).await?;
        Ok(())
    }

    async fn theme(&self, theme: &str) -> Result<(), BedError> {
        self.window
            .execute(&format!("localStorage.setItem('gubernum.theme', '{theme}')"), Vec::new())
            .await?;
        Ok(())
    }

    async fn page(&self, demo: &Started, path: &str, selector: &str, name: &str) -> Result<(), BedError> {
        self.window.goto(format!("{}{path}", demo.url())).await?;
        self.wait(selector).await?;
        self.take(name).await
    }

    /// An operation in progress: some containers take their time to end.
    async fn operation(&self, demo: &Started, theme: &str) -> Result<(), BedError> {
        self.window.goto(format!("{}/operations", demo.url())).await?;
        self.wait("[data-test=operations] td").await?;
        let restart = Command::new(demo.binary())
            .args(["restart", "*/*", "--no-wait"])
            .env("GUBERNUM_URL", demo.url())
            .env("GUBERNUM_TOKEN", demo.text("token"))
            .stdout(Stdio::null())
            .status()?;
        if !restart.success() {
            return Err(BedError::Command { command: "restart".into(), detail: restart.to_string() });
        }
        self.wait("[data-test=running] a").await?;
        self.window.find(By::Css("[data-test=running] a")).await?.click().await?;
        self.wait("[data-test=targets] td").await?;
        self.window.screenshot(&self.folder.join(format!("operation-{theme}.png"))).await?;
        tokio::time::sleep(Duration::from_secs(4)).await;
        Ok(())
    }

    /// A terminal with something said in it.
    async fn shell(&self, demo: &Started) -> Result<(), BedError> {
        let path = "/containers?inspect=packhouse/auction-web-1&tab=terminal";
        self.window.goto(format!("{}{path}", demo.url())).await?;
        self.wait("[data-test=inspector] form button").await?;
        self.window.find(By::Css("[data-test=inspector] form button")).await?.click().await?;
        self.wait(".xterm-helper-textarea").await?;
        tokio::time::sleep(Duration::from_millis(500)).await;
        let keys = self.window.find(By::Css(".xterm-helper-textarea")).await?;
        keys.send_keys("id\nls\ncat settings.toml\n").await?;
        self.take("shell").await
    }

    /// A folder of a container, and a text in it.
    async fn files(&self, demo: &Started) -> Result<(), BedError> {
        let path = "/containers?inspect=packhouse/auction-web-1&tab=files";
        self.window.goto(format!("{}{path}", demo.url())).await?;
        for name in ["app/", "settings.toml"] {
            let find = "return [...document.querySelectorAll('[data-test=files] button')].find(e => e.innerText.trim() === arguments[0])";
            for _ in 0..100 {
                let found = self.window.execute(find, vec![name.into()]).await?.element();
                if let Ok(button) = found {
                    button.click().await?;
                    break;
                }
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        }
        self.wait("[data-test=file-text]").await?;
        self.take("files").await
    }

    /// What an update would do, before it is asked for.
    async fn consequence(&self, demo: &Started) -> Result<(), BedError> {
        demo_command(demo, &["list", "newer-images", "--check"])?;
        self.window.goto(format!("{}/containers?find=frostwatch-worker", demo.url())).await?;
        self.wait("[data-test=row] input").await?;
        self.window.find(By::Css("[data-test=row] input")).await?.click().await?;
        self.wait("[data-test=chosen] button").await?;
        let buttons = self.window.find_all(By::Css("[data-test=chosen] button")).await?;
        if let Some(update) = buttons.get(2) {
            update.click().await?;
        }
        self.wait("[data-test=consequences] .plan").await?;
        self.take("consequence").await
    }

    /// The editor of a stack that is being written, with an error in it.
    async fn stack_editor(&self, demo: &Started) -> Result<(), BedError> {
        const TEXT: &str = "name: orchard\nservices:\n  store:\n    image: registry.tarnvalley.example/base/rowstore:${TAG:?say which}\n    volumes: [pears:/data]\n    enviroment: {LEVEL: 2}\n  web:\n    image: registry.tarnvalley.example/frostwatch/api:3.4.1\n    depends_on: [store]\n    ports: ['8099:80']\n    environment:\n      SITE: ${SITE}\nvolumes: {pears: {}}\n";
        self.window.goto(format!("{}/stacks/edit", demo.url())).await?;
        self.wait(".cm-content").await?;
        self.window.find(By::Css(".cm-content")).await?.click().await?;
        self.window.cdp().send_raw("Input.insertText", serde_json::json!({ "text": TEXT })).await?;
        self.wait(".cm-lint-marker-error").await?;
        self.take("stack-editor").await
    }
}

fn demo_command(demo: &Started, arguments: &[&str]) -> Result<(), BedError> {
    let status = Command::new(demo.binary())
        .args(arguments)
        .env("GUBERNUM_URL", demo.url())
        .env("GUBERNUM_TOKEN", demo.text("token"))
        .stdout(Stdio::null())
        .status()?;
    if status.success() {
        return Ok(());
    }
    Err(BedError::Command { command: arguments.join(" "), detail: status.to_string() })
}
