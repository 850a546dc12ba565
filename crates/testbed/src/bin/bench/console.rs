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
    open_list(window, fleet).await?;
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

/// Watches the frames of the page for so many milliseconds: how many there were, how many came more than
/// 50 ms after the one before, the longest, and the least that the heap held.
const FRAMES: &str = "
    const [span, done] = arguments;
    const heap = () => performance.memory.usedJSHeapSize;
    const begun = performance.now();
    let last = begun, count = 0, late = 0, longest = 0, held = heap();
    const frame = (now) => {
        const gap = now - last;
        last = now;
        count += 1;
        if (gap > 50) late += 1;
        longest = Math.max(longest, gap);
        held = Math.min(held, heap());
        if (now - begun < span) requestAnimationFrame(frame);
        else done({ count, late, longest, held });
    };
    requestAnimationFrame(frame);
";

/// Seconds from which the heap can be judged: a short look only sees it between two collections.
const LONG: u64 = 300;
/// Seconds of one look.
const LOOK: u64 = 30;

/// The list of 5,000 containers while 200 of them change each second.
pub(crate) async fn churn(fleet: &Fleet, seconds: u64) -> Result<Vec<Row>, BedError> {
    let browser = Browser::start().await?;
    let window = &browser.window;
    open_list(window, fleet).await?;
    window.set_script_timeout(Duration::from_secs(LOOK * 2)).await?;
    let (mut count, mut late, mut longest, mut heaps) = (0.0, 0.0, 0.0f64, Vec::new());
    for _ in 0..seconds.div_ceil(LOOK) {
        let seen = window.execute_async(FRAMES, vec![(LOOK.min(seconds) * 1000).into()]).await?;
        let number = |name: &str| seen.json()[name].as_f64().unwrap_or(f64::NAN);
        count += number("count");
        late += number("late");
        longest = longest.max(number("longest"));
        heaps.push(number("held") / 1e6);
    }
    browser.close().await?;
    let more = format!("{late:.0} of {count:.0} frames in {seconds} s, the longest {longest:.0} ms");
    let share = late / count * 100.0;
    let mut rows =
        vec![Row::most("console, 200 of 5,000 change a second: late frames", share, 1.0, "%", more)];
    if seconds >= LONG {
        // The first look still fills caches.
        let (first, second) = heaps[1..].split_at((heaps.len() - 1) / 2);
        let (first, second) = (median(first.to_vec()), median(second.to_vec()));
        let held = format!("{first:.1} MB held in the first half, {second:.1} MB in the second");
        rows.push(Row::most("console, the same: heap, second half / first", second / first, 1.15, "x", held));
    }
    Ok(rows)
}

/// Signs in and shows the list of containers.
async fn open_list(window: &thirtyfour::WebDriver, fleet: &Fleet) -> Result<(), BedError> {
    window.goto(format!("{}/containers", fleet.service.url())).await?;
    wait(window, "#member").await?;
    window.find(By::Id("member")).await?.send_keys("mara").await?;
    window.find(By::Id("password")).await?.send_keys(password()).await?;
    window.find(By::Css("button[type=submit]")).await?.click().await?;
    wait(window, "[data-test=row]").await?;
    Ok(())
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
