//! The console: what a browser downloads for the first screen, and filtering thousands of rows.

use std::path::Path;
use std::time::Duration;

use gubernum_testbed::BedError;
use gubernum_testbed::browser::Browser;
use thirtyfour::By;

use crate::fleet::{self, Fleet, password};
use crate::{Row, failed, median};

/// Filters by a text and measures until the list has been redrawn, all in the page.
const FILTER: &str = "
    const [text, done] = arguments;
    const box = document.getElementById('filter');
    const begun = performance.now();
    box.value = text;
    box.dispatchEvent(new Event('input', { bubbles: true }));
    queueMicrotask(() => { void document.body.offsetHeight; queueMicrotask(() => done(performance.now() - begun)); });
";

/// What the first screen fetches, and filtering of 5,000 and of 25,000 rows.
pub(crate) async fn measure(binary: &Path) -> Result<Vec<Row>, BedError> {
    let fleet = Fleet::start(binary, fleet::USUAL, 0).await?;
    let size = first_screen(&fleet).await?;
    let (middle, late, count) = filtering(&fleet).await?;
    drop(fleet);
    let large = Fleet::start(binary, fleet::LARGE, 0).await?;
    let (of_large, late_of_large, _) = filtering(&large).await?;
    let more = |late: f64| format!("median of {count}, 95th {late:.1} ms");
    Ok(vec![
        Row::most(
            "console, first screen, as served",
            size / 1000.0,
            180.0,
            "kB",
            "scripts, styles, fonts, pictures".into(),
        ),
        Row::most("console, filter 5,000 rows", middle, 8.0, "ms", more(late)),
        Row::most("console, filter 5,000 rows, 95th", late, 16.0, "ms", String::new()),
        Row::most("console, filter 25,000 rows", of_large, 50.0, "ms", more(late_of_large)),
        Row::most("console, filter 25,000 rows, 95th", late_of_large, 50.0, "ms", String::new()),
    ])
}

/// Milliseconds from a key to the redrawn list: the median, the 95th percentile, and the number of keys.
async fn filtering(fleet: &Fleet) -> Result<(f64, f64, usize), BedError> {
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
    Ok((median(times.clone()), times[times.len() * 95 / 100], times.len()))
}

/// Watches the frames of the page for a number of milliseconds: how many there were, how many came more than
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
    sign_in(window, fleet, "/containers", "[data-test=row]").await
}

/// Signs in at a page and waits until it shows something.
async fn sign_in(
    window: &thirtyfour::WebDriver,
    fleet: &Fleet,
    page: &str,
    shown: &str,
) -> Result<(), BedError> {
    window.goto(format!("{}{page}", fleet.service.url())).await?;
    wait(window, "#member").await?;
    window.find(By::Id("member")).await?.send_keys("mara").await?;
    window.find(By::Id("password")).await?.send_keys(password()).await?;
    window.find(By::Css("button[type=submit]")).await?.click().await?;
    wait(window, shown).await
}

/// All that a browser fetches until the overview is drawn, as it travels compressed, without the fleet's own data. No other page is
/// shown before: a browser loads a font that it has at hand, even where nothing is written in it.
async fn first_screen(fleet: &Fleet) -> Result<f64, BedError> {
    let browser = Browser::start().await?;
    let window = &browser.window;
    sign_in(window, fleet, "/", "[data-test=matrix]").await?;
    window.goto(fleet.service.url()).await?;
    wait(window, "[data-test=matrix]").await?;
    let all = "return performance.getEntriesByType('resource').filter(e => !new URL(e.name).pathname.startsWith('/api/')) \
               .reduce((sum, e) => sum + e.encodedBodySize, 0)";
    let size = window.execute(all, Vec::new()).await?.json().as_f64();
    browser.close().await?;
    size.filter(|size| *size > 0.0).ok_or_else(|| failed("first screen", "the browser tells no sizes"))
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
