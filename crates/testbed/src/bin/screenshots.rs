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
    let data = tempfile::tempdir()?;
    {
        let fresh = Started::serve(&binary, data.path(), &["--find-local-engine", "false"])?;
        camera.window.goto(fresh.url()).await?;
        camera.wait("input#code").await?;
        camera.window.find(By::Id("code")).await?.send_keys("K7QX-M2RD-").await?;
        camera.take("claim").await?;
    }
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
        camera.page(&demo, "/", "[data-test=matrix] .cell", &format!("overview-{theme}")).await?;
        let containers = "/containers?inspect=packhouse/frostwatch-api-1";
        camera
            .page(&demo, containers, "[data-test=inspector] dl.narrow", &format!("containers-{theme}"))
            .await?;
        let logs = "/containers?inspect=packhouse/frostwatch-api-1&tab=logs";
        camera.page(&demo, logs, "[data-test=log] .line", &format!("logs-{theme}")).await?;
    }
    camera.theme("light").await?;
    camera.page(&demo, "/hosts", "[data-test=hosts] td", "hosts").await?;
    camera.page(&demo, "/containers?find=frost&states=running", "[data-test=row]", "filtered").await?;
    camera.consequence(&demo).await?;
    camera.page(&demo, "/account", "table", "account").await?;
    // Last, because it changes the fleet.
    for theme in ["light", "dark"] {
        camera.theme(theme).await?;
        camera.operation(&demo, theme).await?;
    }
    browser.close().await
}

struct Camera<'a> {
    window: &'a WebDriver,
    folder: &'a Path,
}

impl Camera<'_> {
    async fn wait(&self, selector: &str) -> Result<(), BedError> {
        for _ in 0..200 {
            if self.window.find(By::Css(selector)).await.is_ok() {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Err(BedError::Slow {
            what: selector.to_owned(),
            seconds: 10,
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

    async fn consequence(&self, demo: &Started) -> Result<(), BedError> {
        self.window.goto(format!("{}/containers?find=quince%20", demo.url())).await?;
        self.wait("[data-test=row] input").await?;
        self.window.find(By::Css("[data-test=row] input")).await?.click().await?;
        self.wait("[data-test=chosen] button").await?;
        let buttons = self.window.find_all(By::Css("[data-test=chosen] button")).await?;
        if let Some(remove) = buttons.get(4) {
            remove.click().await?;
        }
        self.wait("[data-test=consequences] .plan").await?;
        self.take("consequence").await
    }
}
