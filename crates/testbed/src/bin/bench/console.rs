//! The console: what a browser has to fetch for the first screen, and filtering 5,000 rows.

use std::time::Duration;

use gubernum_testbed::BedError;
use gubernum_testbed::browser::Browser;
use thirtyfour::By;

use crate::fleet::{Fleet, password};
use crate::{Row, failed, median};

/// Filters by a text and measures until the list has been drawn anew, all in the page.
const FILTER: &str = "
    const [text, done] = arguments;
    const box = document.getElementById('filter');
    const begun = performance.now();
    box.value = text;
    box.dispatchEvent(new Event('input', { bubbles: true }));
    queueMicrotask(() => { void document.body.offsetHeight; queueMicrotask(() => done(performance.now() - begun)); });
";

pub(crate) async fn measure(fleet: &Fleet) -> Result<Vec<Row>, BedError> {
    let size = first_screen(fleet).await?;
    let browser = Browser::start().await?;
    let window = &browser.window;
    window.goto(format!("{}/containers", fleet.service.url())).await?;
    wait(window, "#member").await?;
    window.find(By::Id("member")).await?.send_keys("mara").await?;
    window.find(By::Id("password")).await?.send_keys(password()).await?;
    window.find(By::Css("button[type=submit]")).await?.click().await?;
    wait(window, "[data-test=row]").await?;
    let mut times = Vec::new();
    for _ in 0..8 {
        for text in
            ["f", "fr", "fro", "frost", "frost-api", "frost-api-0", "", "shed-117", "7012", "ledger web"]
        {
            let took = window.execute_async(FILTER, vec![text.into()]).await?;
            times.push(took.json().as_f64().unwrap_or(f64::NAN));
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }
    browser.close().await?;
    times.sort_by(f64::total_cmp);
    let more = format!("median of {}, 95th {:.1} ms", times.len(), times[times.len() * 95 / 100]);
    Ok(vec![
        Row::most("console, first screen: JS + CSS, gzip", size / 1000.0, 200.0, "kB", "as served".into()),
        Row::most("console, filter 5,000 rows", median(times), 16.0, "ms", more),
    ])
}

/// The scripts and styles that the page names, as they travel compressed.
async fn first_screen(fleet: &Fleet) -> Result<f64, BedError> {
    let http = reqwest::Client::new();
    let said = |e: reqwest::Error| failed("first screen", &e.to_string());
    let page = http.get(fleet.service.url()).send().await.map_err(said)?.text().await.map_err(said)?;
    let mut size = 0;
    for part in
        page.split('"').filter(|p| p.starts_with("/assets/") && (p.ends_with(".js") || p.ends_with(".css")))
    {
        let request = http.get(format!("{}{part}", fleet.service.url())).header("accept-encoding", "gzip");
        let answer = request.send().await.map_err(said)?;
        if answer.headers().get("content-encoding").is_none_or(|e| e != "gzip") {
            return Err(failed("first screen", &format!("{part} is not compressed")));
        }
        size += answer.bytes().await.map_err(said)?.len();
    }
    Ok(size as f64)
}

async fn wait(window: &thirtyfour::WebDriver, selector: &str) -> Result<(), BedError> {
    for _ in 0..300 {
        if window.find(By::Css(selector)).await.is_ok() {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    Err(BedError::Slow { what: selector.to_owned(), seconds: 15, detail: "it is not on the page".to_owned() })
}
