//! Log output of the demo's services: by topic, in the common shapes of log lines.

use crate::engine::Numbers;

/// One line for a topic and whether it goes to standard error.
pub(crate) fn line(topic: &str, numbers: &mut Numbers) -> (bool, String) {
    let roll = numbers.below(100);
    let n = numbers.below(9000) + 1000;
    let small = numbers.below(40);
    match topic {
        "frost" => frost(roll, n, small),
        "cold" => cold(roll, n, small),
        "grading" => grading(roll, n, small),
        "auction" => auction(roll, n, small),
        "ledger" => ledger(roll, n, small),
        "database" => database(roll, n),
        other => (false, format!("{other}: tick {n}")),
    }
}

fn frost(roll: u64, n: u64, small: u64) -> (bool, String) {
    let degrees = small as f64 / 4.0 - 3.0;
    match roll {
        0..70 => {
            (false, format!("level=info msg=\"reading taken\" mast=M{} celsius={degrees:.2}", n % 12 + 1))
        }
        70..90 => {
            (false, format!("level=info msg=\"forecast merged\" hours={} took_ms={}", small + 6, n / 10))
        }
        90..98 => (true, format!("level=warn msg=\"mast is late\" mast=M{} seconds={}", n % 12 + 1, n / 20)),
        _ => (true, format!("level=error msg=\"warning not sent\" member={n} cause=\"connection refused\"")),
    }
}

fn cold(roll: u64, n: u64, small: u64) -> (bool, String) {
    let degrees = 1.0 + small as f64 / 20.0;
    match roll {
        0..80 => (
            false,
            format!(
                r#"{{"level":"info","room":{},"celsius":{degrees:.2},"humidity":{}}}"#,
                n % 8 + 1,
                85 + small / 4
            ),
        ),
        80..95 => {
            (false, format!(r#"{{"level":"info","event":"door","room":{},"open_s":{small}}}"#, n % 8 + 1))
        }
        _ => (
            true,
            format!(
                r#"{{"level":"warn","event":"compressor","room":{},"cause":"timeout after {n} ms"}}"#,
                n % 8 + 1
            ),
        ),
    }
}

fn grading(roll: u64, n: u64, small: u64) -> (bool, String) {
    match roll {
        0..85 => (
            false,
            format!("INFO line {} tray {n}: {} fruit, class I {}%", n % 3 + 1, 20 + small, 60 + small),
        ),
        85..96 => (false, format!("INFO camera {} exposure {} us", n % 4 + 1, n)),
        _ => (true, format!("WARN camera {} dropped {} frames", n % 4 + 1, small + 1)),
    }
}

fn auction(roll: u64, n: u64, small: u64) -> (bool, String) {
    match roll {
        0..75 => (false, format!("GET /lots/{n} 200 {}ms", small + 2)),
        75..92 => (false, format!("POST /lots/{n}/bids 201 {}ms", small + 9)),
        92..98 => (false, format!("GET /lots/{n} 404 {}ms", small + 1)),
        _ => (true, format!("POST /lots/{n}/bids 503 {}ms upstream timeout", n)),
    }
}

fn ledger(roll: u64, n: u64, small: u64) -> (bool, String) {
    match roll {
        0..90 => (false, format!("level=info msg=posted account={n} entries={}", small + 1)),
        _ => (true, format!("level=warn msg=\"slow query\" table=entries took_ms={n}")),
    }
}

fn database(roll: u64, n: u64) -> (bool, String) {
    match roll {
        0..60 => (true, format!("INFO rowstore: flushed {n} pages to disk")),
        60..95 => (true, format!("INFO rowstore: compacted readings_{}", n % 30)),
        _ => (true, format!("ERROR rowstore: writer {n} gave up waiting for a lock")),
    }
}
