//! Draws what [`State`] holds. States are reported by a sign and a word as well as by colour, so that it
//! reads on any terminal.

use gubernum_api::{Container, Health, LinkState, State as ContainerState};
use gubernum_core::logs::level::Level;
use gubernum_core::reason::bytes_words;
use gubernum_core::text::shown;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style, Stylize};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Borders, Clear, Paragraph, Row, Table, Wrap};

use super::state::{Page, Preview, State};
use crate::commands::{processors, rate, size};
use crate::table::age;

const GREEN: Color = Color::Green;
const RED: Color = Color::Red;
const AMBER: Color = Color::Yellow;

/// Draws the whole screen.
pub(super) fn draw(frame: &mut Frame<'_>, state: &mut State) {
    let [top, body, foot] =
        Layout::vertical([Constraint::Length(2), Constraint::Min(3), Constraint::Length(1)])
            .areas(frame.area());
    head(frame, top, state);
    match state.page {
        Page::Attention => attention(frame, body, state),
        Page::Containers => containers(frame, body, state),
        Page::Hosts => hosts(frame, body, state),
        Page::Logs => logs(frame, body, state),
    }
    footer(frame, foot, state);
    if let Some(asked) = &state.asked {
        let (told, keys) = match &asked.preview {
            None => ("Checking what would happen…", "Any key but y cancels."),
            Some(Preview { text, can_start: true }) => (text.as_str(), "y confirms, any other key cancels."),
            Some(Preview { text, .. }) => (text.as_str(), "Any key closes this."),
        };
        let title = format!(" {} {}? ", asked.wish.request.kind(), asked.wish.targets.join(" "));
        over(frame, &title, &format!("{told}\n\n{keys}"));
    } else if state.help {
        over(frame, " Keys ", KEYS);
    }
}

const KEYS: &str = "1 2 3 4, Tab   attention, containers, hosts, logs
↓ ↑ j k        move; PageDown PageUp by more
Enter l        follow the log of the selected container
/              filter containers; Esc clears it
o              sort by attention, CPU, memory or name
g              group by stack
S T R K D      start, stop, restart, kill, remove
               (each shows a preview first)
End            newest line
q, Ctrl-C      quit";

fn head(frame: &mut Frame<'_>, area: Rect, state: &State) {
    let (up, all) = state.counts();
    let needs = state.items().len();
    let tab = |page: Page, words: String| {
        let style = if state.page == page { Style::new().bold().reversed() } else { Style::new() };
        Span::styled(format!(" {words} "), style)
    };
    let mut line = vec![
        Span::styled(" Gubernum ", Style::new().bold().fg(GREEN)),
        tab(Page::Attention, format!("1 Attention {needs}")),
        tab(Page::Containers, format!("2 Containers {up}/{all}")),
        tab(Page::Hosts, format!("3 Hosts {}", state.hosts.len())),
        tab(Page::Logs, "4 Logs".to_owned()),
    ];
    if !state.connected {
        line.push(Span::styled("  connection lost; reconnecting", Style::new().fg(RED).bold()));
    }
    frame.render_widget(Paragraph::new(vec![Line::from(line), Line::from("")]), area);
}

fn footer(frame: &mut Frame<'_>, area: Rect, state: &State) {
    let text = match (&state.said, state.typing) {
        (Some(said), _) => Line::from(shown(said, 300)).style(Style::new().fg(AMBER)),
        (None, true) => Line::from(format!("filter: {}▏", state.filter)),
        (None, false) => {
            let filter =
                if state.filter.is_empty() { String::new() } else { format!("   filter: {}", state.filter) };
            Line::from(format!(
                "? keys   / filter   o sort: {}   g group   Enter log   q quit{filter}",
                state.order.word()
            ))
            .style(Style::new().dim())
        }
    };
    frame.render_widget(Paragraph::new(text), area);
}

fn over(frame: &mut Frame<'_>, title: &str, text: &str) {
    let area = frame.area();
    let height = u16::try_from(text.lines().count()).unwrap_or(5) + 2;
    let width = area.width.min(64);
    let place = Rect {
        x: (area.width - width) / 2,
        y: area.height.saturating_sub(height) / 2,
        width,
        height: height.min(area.height),
    };
    frame.render_widget(Clear, place);
    let block = Block::new().borders(Borders::ALL).title(title.to_owned());
    frame.render_widget(Paragraph::new(text.to_owned()).wrap(Wrap { trim: false }).block(block), place);
}

/// A mark and the name of a container's state.
fn mark(c: &Container) -> Span<'static> {
    let (sign, words, colour) = match (c.state, c.health) {
        (ContainerState::Running, Health::Unhealthy) => ("▲", "unhealthy".to_owned(), RED),
        (ContainerState::Running, Health::Healthy) => ("✓", "healthy".to_owned(), GREEN),
        (ContainerState::Running, _) => ("■", "running".to_owned(), GREEN),
        (ContainerState::Restarting, _) => ("↻", "restarting".to_owned(), RED),
        (ContainerState::Paused, _) => ("‖", "paused".to_owned(), AMBER),
        (ContainerState::Exited, _) => {
            let code = c.exit_code.map(|c| c.to_string()).unwrap_or_default();
            let bad = c.attention.is_some();
            (if bad { "✗" } else { "□" }, format!("exited {code}"), if bad { RED } else { Color::Reset })
        }
        (other, _) => ("□", other.word().to_owned(), if c.attention.is_some() { RED } else { Color::Reset }),
    };
    Span::styled(format!("{sign} {words}"), Style::new().fg(colour))
}

const CHOSEN: Style = Style::new().add_modifier(Modifier::REVERSED);

fn attention(frame: &mut Frame<'_>, area: Rect, state: &mut State) {
    let items = state.items();
    if items.is_empty() {
        frame.render_widget(Paragraph::new("Nothing needs attention.").style(Style::new().fg(GREEN)), area);
        return;
    }
    let [list, detail] = Layout::vertical([Constraint::Min(3), Constraint::Length(5)]).areas(area);
    let rows = items.iter().map(|item| {
        let sign = if item.trouble {
            Span::styled("▲", Style::new().fg(RED))
        } else {
            Span::styled("△", Style::new().fg(AMBER))
        };
        Row::new(vec![
            Line::from(sign),
            Line::from(item.reference.clone()).bold(),
            Line::from(shown(&item.sentence, 300)),
        ])
    });
    let widths = [Constraint::Length(1), Constraint::Length(32), Constraint::Fill(1)];
    let table = Table::new(rows, widths).row_highlight_style(CHOSEN);
    frame.render_stateful_widget(table, list, &mut state.attention);
    if let Some(item) = state.attention.selected().and_then(|n| items.get(n)) {
        let text = format!("{}\n{}", shown(&item.sentence, 400), item.advice);
        let block = Block::new().borders(Borders::TOP).title(format!(" {} ", item.reference));
        frame.render_widget(Paragraph::new(text).wrap(Wrap { trim: true }).block(block), detail);
    }
}

fn containers(frame: &mut Frame<'_>, area: Rect, state: &mut State) {
    let wide = area.width >= 110;
    let mut head = vec!["STATE", "CONTAINER", "CPU", "", "MEMORY", ""];
    if wide {
        head.extend(["NETWORK IN", "IMAGE"]);
    }
    if state.is_grouped {
        head.insert(0, "STACK");
    }
    let stacks = state.of_stacks();
    // Only what is near the chosen one is made into rows: a fleet has thousands.
    let all = state.rows();
    let count = all.len();
    let selected = state.chosen.selected().unwrap_or(0).min(count.saturating_sub(1));
    let tall = usize::from(area.height);
    let from = selected.saturating_sub(tall);
    let rows: Vec<Row<'_>> = all
        .iter()
        .enumerate()
        .skip(from)
        .take(tall * 2)
        .map(|(at, c)| {
            let used = state
                .used
                .get(&(c.host.clone(), c.id.clone()))
                .filter(|_| c.state == ContainerState::Running);
            let figures = used.map(|u| u.figures).unwrap_or_default();
            let words = |text: String| if used.is_some() { text } else { String::new() };
            let stale = if state.is_live(&c.host) { "" } else { "⌁ " };
            let mut cells = vec![
                Line::from(mark(c)),
                Line::from(format!("{stale}{}", c.reference())).bold(),
                Line::from(words(processors(figures.processors))).right_aligned(),
                Line::from(words(bar(figures.processors, processors_of(state, c)))),
                Line::from(words(size(figures.memory))).right_aligned(),
                Line::from(words(bar(figures.memory, memory_of(state, c)))),
            ];
            if state.is_grouped {
                // The first of a stack, and the first on the screen, name it.
                let stack = c.stack.as_deref().unwrap_or_default();
                let is_first = at == from || all.get(at.wrapping_sub(1)).is_none_or(|b| b.stack != c.stack);
                let (running, there) = stacks.get(stack).copied().unwrap_or_default();
                let named = if stack.is_empty() { "no stack" } else { stack };
                let words = if is_first { format!("{named} {running}/{there}") } else { String::new() };
                cells.insert(0, Line::from(words).bold());
            }
            if wide {
                cells.push(Line::from(words(rate(figures.network_in))).right_aligned());
                cells.push(Line::from(c.image.rsplit('/').next().unwrap_or_default().to_owned()).dim());
            }
            Row::new(cells)
        })
        .collect();
    let mut widths = vec![
        Constraint::Length(13),
        Constraint::Fill(2),
        Constraint::Length(7),
        Constraint::Length(BAR),
        Constraint::Length(9),
        Constraint::Length(BAR),
    ];
    if state.is_grouped {
        widths.insert(0, Constraint::Length(18));
    }
    if wide {
        widths.extend([Constraint::Length(12), Constraint::Fill(1)]);
    }
    let table = Table::new(rows, widths).header(Row::new(head).dim()).row_highlight_style(CHOSEN);
    let mut shown_state = state.chosen;
    *shown_state.offset_mut() = 0;
    shown_state.select((count > 0).then(|| selected - from));
    frame.render_stateful_widget(table, area, &mut shown_state);
    state.chosen.select(Some(selected));
}

/// The columns of a bar.
const BAR: u16 = 6;
/// Eighths of a column, from the left.
const EIGHTHS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];

/// A bar of how much of the most is used; nothing where either is unknown.
fn bar(used: Option<f64>, most: Option<f64>) -> String {
    let (Some(used), Some(most)) = (used, most.filter(|most| *most > 0.0)) else { return String::new() };
    let eighths = ((used / most).clamp(0.0, 1.0) * f64::from(BAR) * 8.0).round() as usize;
    format!("{}{}", "█".repeat(eighths / 8), EIGHTHS[eighths % 8])
}

/// The processors that a container may use: those of its host.
fn processors_of(state: &State, c: &Container) -> Option<f64> {
    state.hosts.get(&c.host).and_then(|h| h.machine.processors).map(f64::from)
}

/// The memory that a container may use: its limit, otherwise what its host has.
fn memory_of(state: &State, c: &Container) -> Option<f64> {
    let host = || state.hosts.get(&c.host).and_then(|h| h.machine.memory_total);
    c.memory_limit.or_else(host).map(|bytes| bytes as f64)
}

fn hosts(frame: &mut Frame<'_>, area: Rect, state: &mut State) {
    let rows = state.hosts.values().map(|h| {
        let link = match h.state {
            LinkState::Live => Span::styled("● live", Style::new().fg(GREEN)),
            LinkState::Connecting => Span::raw("◌ connecting"),
            LinkState::Stale => Span::styled("⌁ unreachable", Style::new().fg(RED)),
        };
        let engine = h.engine.as_ref().map(|e| format!("{} {}", e.kind, e.version)).unwrap_or_default();
        let disk = match (h.disk.used, h.disk.total) {
            (Some(used), Some(total)) => format!("{} of {}", bytes_words(used), bytes_words(total)),
            _ => "disk unknown".to_owned(),
        };
        let more = h.attention.as_ref().map(|r| shown(&r.sentence, 200)).unwrap_or_default();
        let seen =
            h.last_seen.filter(|_| h.state == LinkState::Stale).map(|t| format!("seen {} ago ", age(t)));
        Row::new(vec![
            Line::from(h.name.clone()).bold(),
            Line::from(link),
            Line::from(engine),
            Line::from(disk),
            Line::from(format!("{}{more}", seen.unwrap_or_default())).style(Style::new().fg(AMBER)),
        ])
    });
    let widths = [
        Constraint::Length(18),
        Constraint::Length(15),
        Constraint::Length(18),
        Constraint::Length(22),
        Constraint::Fill(1),
    ];
    let head = Row::new(vec!["HOST", "LINK", "ENGINE", "DISK", ""]).dim();
    let table = Table::new(rows.collect::<Vec<_>>(), widths).header(head).row_highlight_style(CHOSEN);
    frame.render_stateful_widget(table, area, &mut state.host);
}

fn logs(frame: &mut Frame<'_>, area: Rect, state: &State) {
    let Some(followed) = &state.followed else {
        frame.render_widget(Paragraph::new("Choose a container and press Enter to follow its log."), area);
        return;
    };
    let back = if state.back > 0 {
        format!(", {} lines back; End goes to the newest", state.back)
    } else {
        String::new()
    };
    let block = Block::new().borders(Borders::TOP).title(format!(" {followed}{back} "));
    let tall = usize::from(area.height.saturating_sub(1));
    let to = state.lines.len() - state.back.min(state.lines.len());
    let from = to.saturating_sub(tall);
    let lines: Vec<Line<'_>> = state
        .lines
        .range(from..to)
        .map(|l| {
            let time = l.line.time.map(|t| format!("{t:.0}")[11..19].to_owned()).unwrap_or_default();
            let tone = match l.level {
                Some(Level::Error | Level::Fatal) => Style::new().fg(RED),
                Some(Level::Warning) => Style::new().fg(AMBER),
                Some(Level::Debug | Level::Trace) => Style::new().dim(),
                _ => Style::new(),
            };
            Line::from(vec![
                Span::raw(time).dim(),
                Span::raw(" "),
                Span::styled(shown(&plain(&l.line.text), 1000), tone),
            ])
        })
        .collect();
    frame.render_widget(Paragraph::new(lines).block(block), area);
}

/// Colour codes are left out: the levels colour the lines here.
fn plain(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find("\u{1b}[") {
        out.push_str(&rest[..at]);
        let after = &rest[at + 2..];
        let end = after.find(|c: char| c.is_ascii_alphabetic()).map_or(after.len(), |e| e + 1);
        rest = &after[end..];
    }
    out.push_str(rest);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use gubernum_api::{FromServer, views::FleetSnapshot};
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;
    use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
    use rstest::rstest;

    fn screen(width: u16, height: u16, keys: &str) -> String {
        let mut state = State::new();
        state.connected = true;
        let mut sick = Container::blank("packhouse", "sorter", "s");
        sick.health = Health::Unhealthy;
        sick.attention = Some(gubernum_api::Reason {
            rank: 0,
            because: None,
            severity: gubernum_api::Severity::Trouble,
            code: "unhealthy".into(),
            sentence: "Unhealthy: belt 2 is still".into(),
            advice: "Read its logs.".into(),
            evidence: Vec::new(),
        });
        let containers = vec![Container::blank("coldstore", "api", "a"), sick];
        let fleet = FleetSnapshot { epoch: "e".into(), revision: 1, hosts: Vec::new(), containers };
        state.take(FromServer::Snapshot { id: 1, part: 0, more: false, fleet }, 10);
        for key in keys.chars() {
            state.press(KeyEvent::new(KeyCode::Char(key), KeyModifiers::NONE));
        }
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|frame| draw(frame, &mut state)).unwrap();
        let buffer = terminal.backend().buffer();
        (0..height).map(|y| (0..width).map(|x| buffer[(x, y)].symbol()).collect::<String>() + "\n").collect()
    }

    #[rstest]
    #[case(80, 24)]
    #[case(200, 60)]
    #[case(20, 5)]
    #[case(1, 1)]
    fn every_page_fits_every_terminal(#[case] width: u16, #[case] height: u16) {
        for keys in ["1", "2", "3", "4", "?", "2R", "2g", "2oo", "/x"] {
            let _ = screen(width, height, keys);
        }
    }

    #[test]
    fn what_is_wrong_is_seen_at_once() {
        let first = screen(80, 24, "");
        assert!(first.contains("▲ packhouse/sorter") && first.contains("belt 2 is still"), "{first}");
        let second = screen(80, 24, "2");
        assert!(second.contains("▲ unhealthy") && second.contains("■ running"), "{second}");
        let asked = screen(80, 24, "2R");
        assert!(asked.contains("restart packhouse/sorter?") && asked.contains("Checking"), "{asked}");
    }

    #[rstest]
    #[case(Some(0.0), Some(4.0), "")]
    #[case(Some(2.0), Some(4.0), "███")]
    #[case(Some(0.1), Some(4.0), "▏")]
    #[case(Some(9.0), Some(4.0), "██████")]
    #[case(Some(1.0), None, "")]
    #[case(None, Some(4.0), "")]
    fn a_bar_is_as_long_as_the_part_in_use(
        #[case] used: Option<f64>,
        #[case] most: Option<f64>,
        #[case] expected: &str,
    ) {
        assert_eq!(bar(used, most), expected);
    }
}
