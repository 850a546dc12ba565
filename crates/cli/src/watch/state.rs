//! What `watch` shows, and how keys and messages change it. No terminal here, so that it is tested alone.

use std::collections::{BTreeMap, VecDeque};
use std::time::{Duration, Instant};

use gubernum_api::logs::SourcedLine;
use gubernum_api::requests::{
    KillRequest, NewOperation, RemoveRequest, Request, RestartRequest, StartRequest, StopRequest,
};
use gubernum_api::usage::CurrentUsage;
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

/// By what containers are sorted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Order {
    Attention,
    Processors,
    Memory,
    Name,
}

impl Order {
    fn next(self) -> Self {
        match self {
            Self::Attention => Self::Processors,
            Self::Processors => Self::Memory,
            Self::Memory => Self::Name,
            Self::Name => Self::Attention,
        }
    }

    pub(super) fn word(self) -> &'static str {
        match self {
            Self::Attention => "attention",
            Self::Processors => "CPU",
            Self::Memory => "memory",
            Self::Name => "name",
        }
    }
}

/// A change that waits for its confirmation, with what it would do.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Asked {
    pub(super) wish: NewOperation,
    /// Tells an answer to this question from one to an earlier one.
    number: u64,
    /// What the service says it would do; absent until it has answered.
    pub(super) preview: Option<Preview>,
}

/// What the service says of a change before it is made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Preview {
    pub(super) text: String,
    /// Something would happen: it is neither refused nor up to date.
    pub(super) can_start: bool,
}

/// What is to be done outside.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Do {
    Nothing,
    Leave,
    Follow(String),
    StopFollowing,
    Preview(u64, Box<NewOperation>),
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
    pub(super) used: BTreeMap<(String, String), CurrentUsage>,
    pub(super) lines: VecDeque<SourcedLine>,
    pub(super) followed: Option<String>,
    /// Lines up from the newest; 0 follows.
    pub(super) back: usize,
    pub(super) filter: String,
    pub(super) typing: bool,
    pub(super) help: bool,
    pub(super) asked: Option<Asked>,
    questions: u64,
    pub(super) said: Option<String>,
    pub(super) order: Order,
    /// Containers of a stack are together.
    pub(super) is_grouped: bool,
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
            questions: 0,
            said: None,
            order: Order::Attention,
            is_grouped: false,
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
        let figure = |c: &Container| {
            let figures =
                self.used.get(&(c.host.clone(), c.id.clone())).map(|u| u.figures).unwrap_or_default();
            let figure = if self.order == Order::Memory { figures.memory } else { figures.processors };
            figure.unwrap_or(-1.0)
        };
        // Those without a stack come last.
        let stack = |c: &Container| (self.is_grouped).then(|| (c.stack.is_none(), c.stack.clone()));
        rows.sort_by(|a, b| {
            let in_order = match self.order {
                Order::Attention => b.attention.is_some().cmp(&a.attention.is_some()),
                Order::Processors | Order::Memory => figure(b).total_cmp(&figure(a)),
                Order::Name => std::cmp::Ordering::Equal,
            };
            let by_stack = stack(a).cmp(&stack(b));
            by_stack.then(in_order).then_with(|| (&a.host, &a.name).cmp(&(&b.host, &b.name)))
        });
        rows
    }

    /// How many containers of each stack run, and how many there are.
    pub(super) fn of_stacks(&self) -> BTreeMap<&str, (usize, usize)> {
        let mut all: BTreeMap<&str, (usize, usize)> = BTreeMap::new();
        for c in self.containers.values() {
            let (running, there) = all.entry(c.stack.as_deref().unwrap_or_default()).or_default();
            *running += usize::from(c.state == gubernum_api::State::Running);
            *there += 1;
        }
        all
    }

    /// Takes what the service says of a change that was requested; an answer to an earlier question is dropped.
    pub(super) fn previewed(&mut self, number: u64, preview: Preview) {
        if let Some(asked) = self.asked.as_mut().filter(|asked| asked.number == number) {
            asked.preview = Some(preview);
        }
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
        if let Some(asked) = self.asked.take() {
            let confirmed = key.code == KeyCode::Char('y');
            return match &asked.preview {
                Some(preview) if confirmed && preview.can_start => Do::Change(Box::new(asked.wish)),
                // Nobody confirms what has not been read.
                None if confirmed => {
                    self.asked = Some(asked);
                    Do::Nothing
                }
                _ => Do::Nothing,
            };
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
            KeyCode::Char('o') => self.order = self.order.next(),
            KeyCode::Char('g') => self.is_grouped = !self.is_grouped,
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
            KeyCode::Char(letter) => return self.ask(letter),
            _ => {}
        }
        Do::Nothing
    }

    /// Asks before a change: capitals, so that no slip of a finger is one.
    fn ask(&mut self, letter: char) -> Do {
        let request = match letter {
            'S' => Request::Start(StartRequest::default()),
            'T' => Request::Stop(StopRequest::default()),
            'R' => Request::Restart(RestartRequest::default()),
            'K' => Request::Kill(KillRequest::default()),
            'D' => Request::Remove(RemoveRequest::default()),
            _ => return Do::Nothing,
        };
        let Some(target) = self.target() else { return Do::Nothing };
        let wish = NewOperation::new(request, vec![target]);
        self.questions += 1;
        self.asked = Some(Asked { wish: wish.clone(), number: self.questions, preview: None });
        Do::Preview(self.questions, Box::new(wish))
    }

    /// Whether a host's link is live.
    pub(super) fn is_live(&self, host: &str) -> bool {
        self.hosts.get(host).is_some_and(|h| h.state == LinkState::Live)
    }
}

#[cfg(test)]
#[path = "state_tests.rs"]
mod tests;
