//! What `watch` shows, and how keys and messages change it. No terminal here, so that it is tested alone.

use std::collections::{BTreeMap, VecDeque};
use std::time::{Duration, Instant};

use gubernum_api::logs::SourcedLine;
use gubernum_api::requests::{
    KillRequest, NewOperation, RemoveRequest, Request, RestartRequest, StartRequest, StopRequest,
};
use gubernum_api::usage::UseNow;
use gubernum_api::{Change, Container, FromServer, Host, LinkState, Severity};
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::widgets::TableState;

/// Lines of a log that are held.
const HELD_LINES: usize = 2000;

/// The parts of the screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Page {
    Attention,
    Containers,
    Hosts,
    Logs,
}

/// What is to be done outside.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Do {
    Nothing,
    Leave,
    Follow(String),
    StopFollowing,
    Change(Box<NewOperation>),
}

/// One line of the attention list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Item {
    pub(super) reference: String,
    pub(super) sentence: String,
    pub(super) advice: String,
    pub(super) trouble: bool,
    pub(super) is_host: bool,
}

pub(super) struct State {
    pub(super) connected: bool,
    lost_at: Instant,
    pub(super) page: Page,
    pub(super) hosts: BTreeMap<String, Host>,
    containers: BTreeMap<(String, String), Container>,
    pub(super) used: BTreeMap<(String, String), UseNow>,
    pub(super) lines: VecDeque<SourcedLine>,
    pub(super) followed: Option<String>,
    /// Lines up from the newest; 0 follows.
    pub(super) back: usize,
    pub(super) filter: String,
    pub(super) typing: bool,
    pub(super) help: bool,
    /// A change that waits for its confirmation.
    pub(super) asked: Option<NewOperation>,
    pub(super) said: Option<String>,
    pub(super) by_use: bool,
    pub(super) attention: TableState,
    pub(super) chosen: TableState,
    pub(super) host: TableState,
}

impl State {
    pub(super) fn new() -> Self {
        let first = || TableState::default().with_selected(0);
        Self {
            connected: false,
            lost_at: Instant::now(),
            page: Page::Attention,
            hosts: BTreeMap::new(),
            containers: BTreeMap::new(),
            used: BTreeMap::new(),
            lines: VecDeque::new(),
            followed: None,
            back: 0,
            filter: String::new(),
            typing: false,
            help: false,
            asked: None,
            said: None,
            by_use: false,
            attention: first(),
            chosen: first(),
            host: first(),
        }
    }

    /// How long the connection has been lost since the last try.
    pub(super) fn lost_for(&self) -> Duration {
        self.lost_at.elapsed()
    }

    pub(super) fn tried(&mut self) {
        self.lost_at = Instant::now();
    }

    /// Takes a message; `log` is the number of the log that is followed now.
    pub(super) fn take(&mut self, message: FromServer, log: u32) {
        match message {
            FromServer::Snapshot { part, fleet, .. } => {
                if part == 0 {
                    self.hosts.clear();
                    self.containers.clear();
                }
                self.hosts.extend(fleet.hosts.into_iter().map(|h| (h.name.clone(), h)));
                let containers = fleet.containers.into_iter().map(|c| ((c.host.clone(), c.id.clone()), c));
                self.containers.extend(containers);
            }
            FromServer::Delta { delta, .. } => delta.changes.into_iter().for_each(|c| self.apply(c)),
            FromServer::Used { samples, .. } => {
                for sample in samples {
                    self.used.insert((sample.host.clone(), sample.id.clone()), sample);
                }
            }
            FromServer::Lines { id, lines, .. } if id == log => {
                if self.back > 0 {
                    self.back += lines.len();
                }
                self.lines.extend(lines);
                let spare = self.lines.len().saturating_sub(HELD_LINES);
                self.lines.drain(..spare);
                self.back = self.back.min(self.lines.len());
            }
            FromServer::LogNote { id, note } if id == log => self.said = Some(note.note),
            FromServer::Refused { problem, .. } => self.said = Some(problem.detail),
            _ => {}
        }
    }

    fn apply(&mut self, change: Change) {
        match change {
            Change::HostPut { host } => {
                self.hosts.insert(host.name.clone(), *host);
            }
            Change::HostGone { host } => {
                self.hosts.remove(&host);
                self.containers.retain(|(h, _), _| *h != host);
            }
            Change::ContainerPut { container } => {
                self.containers.insert((container.host.clone(), container.id.clone()), *container);
            }
            Change::ContainerGone { host, id } => {
                let key = (host, id);
                self.containers.remove(&key);
                self.used.remove(&key);
            }
        }
    }

    pub(super) fn counts(&self) -> (usize, usize) {
        let up = self.containers.values().filter(|c| c.state == gubernum_api::State::Running).count();
        (up, self.containers.len())
    }

    /// What needs a person, worst first.
    pub(super) fn items(&self) -> Vec<Item> {
        let hosts = self.hosts.values().filter_map(|h| Some((h.name.clone(), h.attention.as_ref()?, true)));
        let containers =
            self.containers.values().filter_map(|c| Some((c.reference(), c.attention.as_ref()?, false)));
        let mut all: Vec<_> = hosts.chain(containers).collect();
        all.sort_by_key(|(name, reason, _)| (reason.rank, name.clone()));
        all.into_iter()
            .map(|(reference, reason, is_host)| Item {
                reference,
                sentence: reason.sentence.clone(),
                advice: reason.advice.clone(),
                trouble: reason.severity == Severity::Trouble,
                is_host,
            })
            .collect()
    }

    /// The containers that fit the filter: by use, or what needs attention first and then by name.
    pub(super) fn rows(&self) -> Vec<&Container> {
        let words: Vec<String> = self.filter.to_lowercase().split_whitespace().map(str::to_owned).collect();
        let mut rows: Vec<&Container> = self
            .containers
            .values()
            .filter(|c| {
                let text =
                    format!("{} {} {}", c.reference(), c.image, c.stack.as_deref().unwrap_or_default());
                let text = text.to_lowercase();
                words.iter().all(|w| text.contains(w))
            })
            .collect();
        let processors = |c: &Container| {
            let used = self.used.get(&(c.host.clone(), c.id.clone()));
            used.and_then(|u| u.figures.processors).unwrap_or(-1.0)
        };
        rows.sort_by(|a, b| {
            let by_use =
                if self.by_use { processors(b).total_cmp(&processors(a)) } else { std::cmp::Ordering::Equal };
            by_use
                .then_with(|| b.attention.is_some().cmp(&a.attention.is_some()))
                .then_with(|| (&a.host, &a.name).cmp(&(&b.host, &b.name)))
        });
        rows
    }

    /// The reference of what is chosen on this page.
    pub(super) fn target(&self) -> Option<String> {
        match self.page {
            Page::Attention => {
                let items = self.items();
                let item = items.get(self.attention.selected()?)?;
                (!item.is_host).then(|| item.reference.clone())
            }
            Page::Containers => Some(self.rows().get(self.chosen.selected()?)?.reference()),
            Page::Logs => self.followed.clone(),
            Page::Hosts => None,
        }
    }

    fn move_by(&mut self, by: i64) {
        let step = |state: &mut TableState, count: usize| {
            let at = i64::try_from(state.selected().unwrap_or(0)).unwrap_or(0) + by;
            let last = i64::try_from(count).unwrap_or(1) - 1;
            state.select(usize::try_from(at.clamp(0, last.max(0))).ok());
        };
        match self.page {
            Page::Attention => {
                let count = self.items().len();
                step(&mut self.attention, count);
            }
            Page::Containers => {
                let count = self.rows().len();
                step(&mut self.chosen, count);
            }
            Page::Hosts => {
                let count = self.hosts.len();
                step(&mut self.host, count);
            }
            Page::Logs => {
                let back = i64::try_from(self.back).unwrap_or(0) - by;
                self.back = usize::try_from(back.max(0)).unwrap_or(0).min(self.lines.len());
            }
        }
    }

    /// Takes a key.
    pub(super) fn press(&mut self, key: KeyEvent) -> Do {
        if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c') {
            return Do::Leave;
        }
        self.said = None;
        if let Some(wish) = self.asked.take() {
            return if key.code == KeyCode::Char('y') { Do::Change(Box::new(wish)) } else { Do::Nothing };
        }
        if self.help {
            self.help = false;
            return Do::Nothing;
        }
        if self.typing {
            match key.code {
                KeyCode::Char(c) => self.filter.push(c),
                KeyCode::Backspace => {
                    self.filter.pop();
                }
                KeyCode::Esc => {
                    self.filter.clear();
                    self.typing = false;
                }
                _ => self.typing = false,
            }
            self.chosen.select(Some(0));
            return Do::Nothing;
        }
        match key.code {
            KeyCode::Char('q') => return Do::Leave,
            KeyCode::Char('?') => self.help = true,
            KeyCode::Char('1') => self.page = Page::Attention,
            KeyCode::Char('2') => self.page = Page::Containers,
            KeyCode::Char('3') => self.page = Page::Hosts,
            KeyCode::Char('4') => self.page = Page::Logs,
            KeyCode::Tab => {
                self.page = match self.page {
                    Page::Attention => Page::Containers,
                    Page::Containers => Page::Hosts,
                    Page::Hosts => Page::Logs,
                    Page::Logs => Page::Attention,
                }
            }
            KeyCode::Char('/') => {
                self.page = Page::Containers;
                self.typing = true;
            }
            KeyCode::Char('u') => self.by_use = !self.by_use,
            KeyCode::Down | KeyCode::Char('j') => self.move_by(1),
            KeyCode::Up | KeyCode::Char('k') => self.move_by(-1),
            KeyCode::PageDown => self.move_by(15),
            KeyCode::PageUp => self.move_by(-15),
            KeyCode::End => self.back = 0,
            KeyCode::Enter | KeyCode::Char('l') => {
                if let (Some(target), true) = (self.target(), self.page != Page::Logs) {
                    self.lines.clear();
                    self.back = 0;
                    self.followed = Some(target.clone());
                    self.page = Page::Logs;
                    return Do::Follow(target);
                }
            }
            KeyCode::Esc if self.page == Page::Logs => {
                self.page = Page::Containers;
                self.followed = None;
                return Do::StopFollowing;
            }
            KeyCode::Esc => self.filter.clear(),
            KeyCode::Char(letter) => self.ask(letter),
            _ => {}
        }
        Do::Nothing
    }

    /// Asks before a change: capitals, so that no slip of a finger is one.
    fn ask(&mut self, letter: char) {
        let request = match letter {
            'S' => Request::Start(StartRequest::default()),
            'T' => Request::Stop(StopRequest::default()),
            'R' => Request::Restart(RestartRequest::default()),
            'K' => Request::Kill(KillRequest::default()),
            'D' => Request::Remove(RemoveRequest::default()),
            _ => return,
        };
        if let Some(target) = self.target() {
            self.asked = Some(NewOperation::new(request, vec![target]));
        }
    }

    /// Whether a host's link is live.
    pub(super) fn is_live(&self, host: &str) -> bool {
        self.hosts.get(host).is_some_and(|h| h.state == LinkState::Live)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use gubernum_api::{Reason, views::FleetSnapshot};

    fn key(code: KeyCode) -> KeyEvent {
        KeyEvent::new(code, KeyModifiers::NONE)
    }

    fn with(names: &[&str]) -> State {
        let containers = names.iter().map(|n| Container::blank("packhouse", n, n)).collect();
        let fleet = FleetSnapshot { epoch: "e".into(), revision: 1, hosts: Vec::new(), containers };
        let mut state = State::new();
        state.take(FromServer::Snapshot { id: 1, part: 0, more: false, fleet }, 10);
        state
    }

    #[test]
    fn a_change_is_asked_for_and_confirmed() {
        let mut state = with(&["api", "store"]);
        state.press(key(KeyCode::Char('2')));
        state.press(key(KeyCode::Down));
        assert_eq!(state.press(key(KeyCode::Char('R'))), Do::Nothing);
        assert_eq!(state.asked.as_ref().map(|a| a.targets.clone()), Some(vec!["packhouse/store".to_owned()]));
        assert_eq!(state.press(key(KeyCode::Char('n'))), Do::Nothing);
        assert!(state.asked.is_none(), "anything but y leaves it");
        state.press(key(KeyCode::Char('T')));
        let Do::Change(wish) = state.press(key(KeyCode::Char('y'))) else { panic!("asked") };
        assert_eq!(
            (wish.request.kind(), wish.targets),
            (gubernum_api::Kind::Stop, vec!["packhouse/store".to_owned()])
        );
    }

    #[test]
    fn the_filter_narrows_and_escape_widens() {
        let mut state = with(&["api", "store"]);
        state.press(key(KeyCode::Char('/')));
        for c in "sto".chars() {
            state.press(key(KeyCode::Char(c)));
        }
        assert_eq!(state.rows().len(), 1);
        assert_eq!(state.press(key(KeyCode::Enter)), Do::Nothing);
        assert_eq!(state.press(key(KeyCode::Enter)), Do::Follow("packhouse/store".into()));
        assert_eq!(state.press(key(KeyCode::Esc)), Do::StopFollowing);
        state.press(key(KeyCode::Esc));
        assert_eq!(state.rows().len(), 2);
    }

    #[test]
    fn what_needs_attention_leads_and_deltas_change_it() {
        let mut state = with(&["api", "store"]);
        assert!(state.items().is_empty());
        let mut sick = Container::blank("packhouse", "store", "store");
        sick.attention = Some(Reason {
            rank: 0,
            because: None,
            severity: Severity::Trouble,
            code: "unhealthy".into(),
            sentence: "Its health check fails.".into(),
            advice: "Look.".into(),
            evidence: Vec::new(),
        });
        let delta = gubernum_api::Delta {
            revision: 2,
            changes: vec![Change::ContainerPut { container: Box::new(sick) }],
        };
        state.take(FromServer::Delta { id: 1, delta }, 10);
        assert_eq!(state.items()[0].reference, "packhouse/store");
        assert_eq!(state.rows()[0].name, "store");
        assert_eq!(state.target().as_deref(), Some("packhouse/store"));
    }

    #[test]
    fn a_log_is_held_in_place_while_one_reads_back() {
        let mut state = with(&["api"]);
        let line = |n: usize| SourcedLine {
            source: "packhouse/api".into(),
            line: gubernum_api::views::Line {
                time: None,
                stream: gubernum_api::Stream::Stdout,
                text: n.to_string(),
                bytes: None,
                continued: false,
            },
            level: None,
            matches: Vec::new(),
        };
        let lines = |from: usize, to: usize| FromServer::Lines {
            id: 10,
            lines: (from..to).map(line).collect(),
            bytes: 1,
        };
        state.take(lines(0, 50), 10);
        state.page = Page::Logs;
        state.press(key(KeyCode::PageUp));
        assert_eq!(state.back, 15);
        state.take(lines(50, 60), 10);
        assert_eq!(state.back, 25);
        state.take(lines(60, 5000), 10);
        assert_eq!(state.lines.len(), HELD_LINES);
        state.press(key(KeyCode::End));
        assert_eq!(state.back, 0);
    }
}
