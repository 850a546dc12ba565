//! Headless Chromium, driven over WebDriver.

use std::process::Command;
use std::time::Duration;

use tempfile::TempDir;
use thirtyfour::{ChromiumLikeCapabilities, DesiredCapabilities, WebDriver};

use crate::BedError;
use crate::process::Running;

/// A browser window of 1280 by 800. Close it with [`Browser::close`].
pub struct Browser {
    /// The window.
    pub window: WebDriver,
    _driver: Running,
    _profile: TempDir,
}

impl Browser {
    /// Starts Chromium with an empty profile.
    ///
    /// # Errors
    /// When Chromium or its driver is missing or does not come up.
    pub async fn start() -> Result<Self, BedError> {
        // The WebDriver client's HTTP library wants one, though it speaks plain HTTP here.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let profile = tempfile::tempdir()?;
        let port = free_port()?;
        let mut command = Command::new("chromedriver");
        command.arg(format!("--port={port}"));
        let mut driver = Running::start(command, &profile.path().join("driver.log"), Duration::from_secs(5))?;
        driver
            .wait_until("chromedriver", 20, || std::net::TcpStream::connect(("127.0.0.1", port)).is_ok())?;
        let mut wishes = DesiredCapabilities::chrome();
        let folder = profile.path().join("profile");
        for argument in [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            "--hide-scrollbars",
            "--force-device-scale-factor=1",
            "--window-size=1280,800",
        ] {
            wishes.add_arg(argument)?;
        }
        wishes.add_arg(&format!("--user-data-dir={}", folder.display()))?;
        let window = WebDriver::new(format!("http://127.0.0.1:{port}"), wishes).await?;
        // The window's size includes a frame even without a head; the page itself is to be 1280 by 800.
        let inner = window.execute("return window.outerHeight - window.innerHeight", Vec::new()).await?;
        let frame = u32::try_from(inner.json().as_u64().unwrap_or(0)).unwrap_or(0);
        window.set_window_rect(0, 0, 1280, 800 + frame).await?;
        Ok(Self { window, _driver: driver, _profile: profile })
    }

    /// Closes it.
    ///
    /// # Errors
    /// When the browser does not answer.
    pub async fn close(self) -> Result<(), BedError> {
        self.window.quit().await?;
        Ok(())
    }
}

/// A port that was free a moment ago.
///
/// # Errors
/// When there is none.
pub fn free_port() -> std::io::Result<u16> {
    Ok(std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}
