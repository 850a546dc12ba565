//! Tables and times for people.

use std::io::{IsTerminal, Write};

use comfy_table::{ContentArrangement, Table};
use gubernum_core::text::shown;
use jiff::Timestamp;
use serde::Serialize;

use crate::exit::Failure;

/// A table without lines, as wide as it needs to be on a file and as the terminal has on a terminal.
pub(crate) fn table(head: &[&str], rows: Vec<Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_preset(comfy_table::presets::NOTHING);
    if std::io::stdout().is_terminal() {
        table.set_content_arrangement(ContentArrangement::Dynamic);
    }
    table.set_header(head.iter().copied());
    for row in rows {
        table.add_row(row.iter().map(|cell| shown(cell, 300)));
    }
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    let text = table.to_string();
    text.lines().map(str::trim_end).collect::<Vec<_>>().join("\n")
}

/// Writes text and a line end.
pub(crate) fn say(text: &str) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    out.write_all(text.as_bytes())?;
    out.write_all(b"\n")?;
    Ok(())
}

/// Writes a value as JSON.
pub(crate) fn say_json<T: Serialize + ?Sized>(value: &T) -> Result<(), Failure> {
    say(&serde_json::to_string_pretty(value).map_err(|e| Failure::Said(e.to_string()))?)
}

/// One line of JSON, for what comes piece by piece.
pub(crate) fn say_json_line<T: Serialize + ?Sized>(value: &T) -> Result<(), Failure> {
    say(&serde_json::to_string(value).map_err(|e| Failure::Said(e.to_string()))?)
}

/// How long ago, in the largest unit that fits.
pub(crate) fn age(time: Timestamp) -> String {
    let seconds = Timestamp::now().duration_since(time).as_secs().max(0);
    match seconds {
        0..60 => format!("{seconds} s"),
        60..3600 => format!("{} min", seconds / 60),
        3600..86_400 => format!("{} h", seconds / 3600),
        _ => format!("{} d", seconds / 86_400),
    }
}
