//! Logs of one or many containers on the terminal, to a file or for a program.

use std::io::{BufWriter, IsTerminal, Write};

use base64::Engine as _;
use gubernum_api::Stream;
use gubernum_api::views::Line;
use gubernum_client::{Client, LogItem, LogOptions, MergedItem};

use crate::arguments::{Logs, Only, Output};
use crate::exit::{FINE, Failure};

/// Colours of sources: told from each other on light and dark terminals alike.
const COLOURS: [u8; 6] = [36, 33, 35, 32, 94, 96];

/// The name of a line's source, in a colour of its own on a terminal, and two spaces.
fn source_column(source: &str, width: usize, coloured: bool) -> String {
    let name = format!("{source:width$}  ");
    if !coloured {
        return name;
    }
    let at = source.bytes().fold(0_usize, |sum, b| sum.wrapping_mul(31).wrapping_add(usize::from(b)));
    format!("\u{1b}[{}m{name}\u{1b}[0m", COLOURS[at % COLOURS.len()])
}

/// One container without a filter is read as it is; anything else goes by way of the merged stream.
pub(super) async fn run(client: &Client, wish: Logs, output: Output) -> Result<u8, Failure> {
    let filtered = !(wish.grep.is_empty() && wish.without.is_empty() && wish.level.is_none());
    match wish.references.as_slice() {
        [one] if !filtered && !one.contains('*') && wish.stack.is_none() && wish.label.is_none() => {
            one_log(client, &one.clone(), wish, output).await
        }
        _ => merged_logs(client, wish, output).await,
    }
}

async fn merged_logs(client: &Client, wish: Logs, output: Output) -> Result<u8, Failure> {
    let mut fields: Vec<(&str, String)> = Vec::new();
    fields.extend(wish.references.iter().map(|r| ("reference", r.clone())));
    fields.extend(wish.grep.iter().map(|p| ("with", p.clone())));
    fields.extend(wish.without.iter().map(|p| ("without", p.clone())));
    let optional = [
        ("stack", wish.stack.clone()),
        ("label", wish.label.clone()),
        ("level", wish.level.clone()),
        ("since", wish.since.clone()),
        ("until", wish.until.clone()),
        ("tail", wish.tail.map(|t| t.to_string())),
        ("only", wish.only.map(|o| if o == Only::Stdout { "stdout" } else { "stderr" }.to_owned())),
    ];
    fields.extend(optional.into_iter().filter_map(|(name, value)| Some((name, value?))));
    for (name, on) in [("follow", wish.follow), ("plain", wish.plain), ("ignore_case", wish.ignore_case)] {
        if on {
            fields.push((name, "true".to_owned()));
        }
    }
    let mut stream = client.merged_logs(&fields).await?;
    let terminal = std::io::stdout().is_terminal();
    let mut out = BufWriter::with_capacity(64 * 1024, std::io::stdout().lock());
    let coloured = crate::table::has_colors();
    let mut widest = 0;
    loop {
        let next = tokio::select! {
            biased;
            next = stream.next() => next,
            () = std::future::ready(()) => {
                out.flush()?;
                stream.next().await
            }
        };
        match next? {
            None => break,
            Some(MergedItem::Progress(_)) => {}
            Some(MergedItem::Note(note)) => {
                out.flush()?;
                writeln!(std::io::stderr(), "{}: {}", note.source, note.note)?;
            }
            Some(MergedItem::Line(line)) if output == Output::Json => {
                serde_json::to_writer(&mut out, &line).map_err(std::io::Error::from)?;
                out.write_all(b"\n")?;
            }
            Some(MergedItem::Line(line)) => {
                // Sources are in a column as wide as the widest so far, within reason.
                widest = widest.max(line.source.chars().count()).min(40);
                let mut text = source_column(&line.source, widest, coloured).into_bytes();
                if let (true, Some(time)) = (wish.times, line.line.time) {
                    text.splice(..0, format!("{time:.3} ").into_bytes());
                }
                text.extend(render(&line.line, false, terminal));
                if wish.apart && line.line.stream == Stream::Stderr {
                    std::io::stderr().write_all(&text)?;
                } else {
                    out.write_all(&text)?;
                }
            }
        }
    }
    out.flush()?;
    Ok(FINE)
}

async fn one_log(client: &Client, reference: &str, wish: Logs, output: Output) -> Result<u8, Failure> {
    let options = LogOptions {
        tail: wish.tail,
        since: wish.since.clone(),
        until: wish.until.clone(),
        follow: wish.follow,
        stdout: wish.only != Some(Only::Stderr),
        stderr: wish.only != Some(Only::Stdout),
    };
    let mut lines = client.logs(reference, &options).await?;
    let terminal = std::io::stdout().is_terminal();
    let mut out = BufWriter::with_capacity(64 * 1024, std::io::stdout().lock());
    loop {
        // What is there is written together; before waiting for more, it is shown.
        let next = tokio::select! {
            biased;
            next = lines.next_or_note() => next,
            () = std::future::ready(()) => {
                out.flush()?;
                lines.next_or_note().await
            }
        };
        let line = match next? {
            None => break,
            Some(LogItem::Line(line)) => line,
            Some(LogItem::Note(note)) => {
                out.flush()?;
                writeln!(std::io::stderr(), "{note}")?;
                continue;
            }
        };
        if output == Output::Json {
            serde_json::to_writer(&mut out, &line).map_err(std::io::Error::from)?;
            out.write_all(b"\n")?;
            continue;
        }
        let bytes = render(&line, wish.times, terminal);
        if wish.apart && line.stream == Stream::Stderr {
            std::io::stderr().write_all(&bytes)?;
        } else {
            out.write_all(&bytes)?;
        }
    }
    out.flush()?;
    Ok(FINE)
}

fn render(line: &Line, times: bool, terminal: bool) -> Vec<u8> {
    let mut out = Vec::with_capacity(line.text.len() + 40);
    if let (true, Some(time)) = (times, line.time) {
        out.extend_from_slice(format!("{time:.3} ").as_bytes());
    }
    if terminal {
        out.extend_from_slice(safe(&line.text).as_bytes());
    } else {
        let exact =
            line.bytes.as_deref().and_then(|b| base64::engine::general_purpose::STANDARD.decode(b).ok());
        out.extend_from_slice(exact.as_deref().unwrap_or(line.text.as_bytes()));
    }
    if !line.continued {
        out.push(b'\n');
    }
    out
}

/// For a terminal: colours are let through, every other control character is shown, not obeyed.
fn safe(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut coloured = false;
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some(length) = colour(rest) {
            out.push_str(&rest[..length]);
            coloured = true;
            rest = &rest[length..];
            continue;
        }
        match c {
            '\t' => out.push('\t'),
            c if c.is_control() || matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}') => {
                out.push(char::from_u32(0x2400 + c as u32).filter(|_| (c as u32) < 0x20).unwrap_or('�'));
            }
            c => out.push(c),
        }
        rest = &rest[c.len_utf8()..];
    }
    if coloured {
        out.push_str("\u{1b}[0m");
    }
    out
}

/// The length of a colour sequence (`ESC [ … m`) at the beginning, if there is one.
fn colour(text: &str) -> Option<usize> {
    let body = text.strip_prefix("\u{1b}[")?;
    let end = body.bytes().take(40).position(|b| !(b.is_ascii_digit() || b == b';'))?;
    (body.as_bytes()[end] == b'm').then_some(end + 3)
}

#[cfg(test)]
mod tests {
    use super::safe;

    #[test]
    fn colours_pass_and_the_rest_is_shown() {
        assert_eq!(safe("plain"), "plain");
        assert_eq!(safe("\u{1b}[31mred"), "\u{1b}[31mred\u{1b}[0m");
        assert_eq!(safe("\u{1b}[2Jgone\r\u{7}"), "␛[2Jgone␍␇");
        assert_eq!(safe("\u{1b}]0;title\u{7}"), "␛]0;title␇");
        assert_eq!(safe("\u{1b}["), "␛[");
    }
}
