//! Tables and times for people. Widths are computed in `fit.rs`; this module knows the terminal: its width, and
//! whether to use colour.
//!
//! What fits where is worked out in `fit.rs`; here is how this run shows things: as wide as the terminal or whole, with
//! colours or without.

use std::io::{IsTerminal, Write};
use std::sync::OnceLock;

use clap::ValueEnum;
use comfy_table::{ContentArrangement, Table};
use gubernum_core::text::shown;
use jiff::Timestamp;
use ratatui::crossterm;
use serde::Serialize;

use crate::exit::Failure;
use crate::fit;

/// When colours are shown; by itself on a terminal only, and not where NO_COLOR is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub(crate) enum Color {
    #[default]
    Auto,
    Always,
    Never,
}

/// How this run shows things; set once from the command line.
#[derive(Debug, Clone, Copy, Default)]
struct Style {
    wide: bool,
    color: Color,
}

static STYLE: OnceLock<Style> = OnceLock::new();

/// Takes the choices of the command line; only the first call counts.
pub(crate) fn set_style(wide: bool, color: Color) {
    let _ = STYLE.set(Style { wide, color });
}

/// Whether to show colours on standard output.
pub(crate) fn has_colors() -> bool {
    let wanted = STYLE.get().copied().unwrap_or_default().color;
    let not_refused = || std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty());
    match wanted {
        Color::Always => true,
        Color::Never => false,
        Color::Auto => std::io::stdout().is_terminal() && not_refused(),
    }
}

/// The columns that a table may take; nothing where it may be as wide as it is: in a file, or with `--wide`.
fn columns() -> Option<usize> {
    let wide = STYLE.get().is_some_and(|style| style.wide);
    if wide || !std::io::stdout().is_terminal() {
        return None;
    }
    crossterm::terminal::size().ok().map(|(columns, _)| usize::from(columns)).filter(|columns| *columns > 0)
}

/// Whether a table may have columns that are only helpful: in a file, with `--wide`, or on a wide terminal.
pub(crate) fn has_room() -> bool {
    columns().is_none_or(|columns| columns >= 160)
}

/// A table without lines. On a terminal it fits: long names are cut in the middle, sentences at the end. Columns without
/// content are left out.
pub(crate) fn table(head: &[&str], rows: Vec<Vec<String>>) -> String {
    let mut head: Vec<String> = head.iter().map(|&name| name.to_owned()).collect();
    let mut rows: Vec<Vec<String>> =
        rows.into_iter().map(|row| row.iter().map(|cell| shown(cell, 300)).collect()).collect();
    fit::without_empty_columns(&mut head, &mut rows);
    if let Some(columns) = columns() {
        fit::fit(&head, &mut rows, columns);
    }
    let mut table = Table::new();
    table.load_preset(comfy_table::presets::NOTHING);
    table.set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(head);
    table.add_rows(rows);
    for column in table.column_iter_mut() {
        column.set_padding((0, u16::try_from(fit::GAP).unwrap_or(2)));
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

/// A moment to the second, in UTC.
pub(crate) fn moment(time: Timestamp) -> String {
    time.strftime("%Y-%m-%d %H:%M:%S UTC").to_string()
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
