//! Merges the logs of one or many containers into one stream, by time.
//!
//! Each source ([`source`]) reads what is kept and what its engine holds, leaves the lines that are wanted,
//! and waits for its share of the stream's credit, so that little is held whatever the sources have. Lines
//! that lie back come in the exact order of their times; new ones ripen for a moment first, so that those
//! of one host are in order too. Where only one container can ever be meant its lines go straight through.

mod kept;
mod ring;
mod select;
mod source;

use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use gubernum_api::logs::{LogNote, LogRequest, OutputStream, SearchProgress, SourcedLine};
use gubernum_api::views::Line;
use gubernum_core::logs::filter::{Filter, LineCriteria, PatternError};
use gubernum_core::logs::merge::Merge;
use gubernum_core::logs::{LogLine, Stream, level};
use gubernum_core::moment;
use jiff::Timestamp;
use tokio::sync::{Semaphore, mpsc};
use tokio::time::Instant;
use tokio_util::task::AbortOnDropHandle;

use crate::access::{BudgetKind, Share};
use crate::fleet::View;
use crate::logs::LogError;
use crate::logs::LogsContext;
pub(crate) use select::{Chosen, MOST_SOURCES, choose, has_label, kept_names};
use source::{Source, Word};

/// Batches of one source that may be on their way.
const CREDIT: usize = 2;
/// New lines wait for earlier ones of other sources: this many turns (see [`Pace`]), each at least this long.
const TURN: Duration = Duration::from_millis(75);
/// The first turn may have begun before the line came.
const RIPE_TURNS: u64 = 5;
/// How often the progress of a search is reported.
const PROGRESS: Duration = Duration::from_millis(400);
/// Lines that are handed on together.
const TOGETHER: usize = 512;
const LEAST_TOGETHER: usize = 32;
/// Lines of all sources that wait for each other, about.
const MOST_WAITING: usize = 8192;
/// The most last lines of each container.
pub(crate) const MOST_TAIL: u32 = 100_000;
/// What all sources of a stream may hold of last lines together, and each at least.
const TAIL_KIB: usize = 32 * 1024;
const SMALL_TAIL_KIB: usize = 4 * 1024;
const LEAST_TAIL_KIB: usize = 1024;
/// What a line is taken to need while it is only known how many are wanted.
const LINE_KIB: usize = 4;
/// How often new containers are looked for that fit what is followed.
const LOOK_AGAIN: Duration = Duration::from_secs(2);

/// A line with where it came from.
pub(crate) struct MergedLine {
    /// `host/name` of the container.
    pub(crate) source: Arc<str>,
    /// The line.
    pub(crate) line: LogLine,
}

impl MergedLine {
    /// The line as it is sent to people, with its level and where the wanted patterns are in it.
    pub(crate) fn into_wire(self, filter: &Filter) -> SourcedLine {
        let Self { source, line } = self;
        let level = level::level(&line.bytes);
        let matches = if filter.takes_all() { Vec::new() } else { filter.matches(&line.bytes) };
        let matches = characters(&line.bytes, &matches);
        SourcedLine { source: source.to_string(), line: Line::from(line), level, matches }
    }
}

/// What comes out. `T` is what the reader makes of lines.
pub(crate) enum MergerEvent<T> {
    /// Lines, in order.
    Lines(T),
    /// Something to know.
    Note(LogNote),
    /// A source could not be read to its end, in words and as an error.
    Failed(LogNote, LogError),
    /// How far it has come.
    Progress(SearchProgress),
}

/// Counts turns where the rest of the service runs, not on the streams' own thread. Turns are counted, not time: where the
/// machine has no time for this program, none passes, and what is on its way is waited for all the longer.
#[derive(Clone)]
pub(crate) struct Pace(tokio::runtime::Handle);

impl Pace {
    /// Begins a turn; what comes back ends with it.
    fn begin(&self) -> AbortOnDropHandle<()> {
        AbortOnDropHandle::new(self.0.spawn(tokio::time::sleep(TURN)))
    }

    /// A number of turns, one after the other.
    pub(crate) async fn turns(&self, many: u32) {
        for _ in 0..many {
            // Where that runtime has ended, all streams are about to.
            if self.begin().await.is_err() {
                tokio::time::sleep(TURN).await;
            }
        }
    }
}

/// What every source needs to know.
pub(crate) struct Plan {
    pub(crate) filter: Filter,
    pub(crate) since: Option<Timestamp>,
    pub(crate) until: Option<Timestamp>,
    pub(crate) tail: Option<u32>,
    pub(crate) follow: bool,
    pub(crate) only: Option<OutputStream>,
    /// How many lines a source hands on together.
    pub(crate) portion: usize,
    /// No other container can ever be meant.
    pub(crate) is_alone: bool,
}

impl Plan {
    /// Whether a line's stream is wanted.
    pub(crate) fn wants(&self, stream: Stream) -> bool {
        match self.only {
            None => true,
            Some(OutputStream::Stdout) => stream != Stream::Stderr,
            Some(OutputStream::Stderr) => stream == Stream::Stderr,
        }
    }

    /// Reads a wish. `field` names its fields for errors.
    pub(crate) fn read(
        wish: &LogRequest,
        now: Timestamp,
        field: impl Fn(&str) -> String,
    ) -> Result<Self, LogError> {
        let time = |name: &str, text: &Option<String>| {
            let parsed = text.as_deref().map(|t| moment::parse(t, now)).transpose();
            parsed.map_err(|e| LogError::invalid(field(name), e.to_string()))
        };
        let (since, until) = (time("since", &wish.since)?, time("until", &wish.until)?);
        if since.zip(until).is_some_and(|(since, until)| since > until) {
            return Err(LogError::invalid(field("until"), "'until' is before 'since'; swap them"));
        }
        let filter = Filter::new(&LineCriteria {
            with: wish.with.clone(),
            without: wish.without.clone(),
            plain: wish.plain,
            ignore_case: wish.ignore_case,
            least: wish.level,
        });
        let filter = filter.map_err(|e| {
            let name = match &e {
                PatternError::Syntax { pattern, .. } if wish.without.iter().any(|w| w == pattern) => {
                    "without"
                }
                _ => "with",
            };
            LogError::invalid(field(name), e.to_string())
        })?;
        if wish.tail.is_some_and(|t| t > MOST_TAIL) {
            return Err(LogError::invalid(field("tail"), format!("tail is at most {MOST_TAIL} lines")));
        }
        let tail = wish.tail;
        let follow = wish.follow && wish.until.is_none();
        Ok(Self { filter, since, until, tail, follow, only: wish.only, portion: TOGETHER, is_alone: false })
    }
}

/// An open stream of logs. Dropping it ends everything.
pub(crate) struct LogMerger<T> {
    receiver: mpsc::Receiver<MergerEvent<T>>,
    _task: AbortOnDropHandle<()>,
}

impl<T: Send + 'static> LogMerger<T> {
    /// Opens the logs that a request means. `field` names its fields for errors; `render` makes of lines what the reader
    /// takes, on the streams' own thread, so that lines never change threads.
    pub(crate) async fn open(
        context: &Arc<LogsContext>,
        (member, view): (i64, &View),
        wish: &LogRequest,
        field: impl Fn(&str) -> String,
        render: impl Fn(&Filter, Vec<MergedLine>) -> T + Send + Sync + 'static,
    ) -> Result<Self, LogError> {
        let mut plan = Plan::read(wish, context.clock.now(), &field)?;
        let kept = kept_names(context, wish).await;
        let chosen = choose(view, wish, kept, &field)?;
        // Lines wait until every source has said something: with many sources each hands on little at a time.
        plan.portion = (MOST_WAITING / chosen.len().max(1)).clamp(LEAST_TOGETHER, TOGETHER);
        plan.is_alone = chosen.len() == 1 && names_one(wish);
        let plan = Arc::new(plan);
        let room = match plan.tail {
            Some(lines) if lines > 0 => {
                let wanted = (lines as usize).saturating_mul(chosen.len()).saturating_mul(LINE_KIB);
                let wanted = wanted.clamp(SMALL_TAIL_KIB, TAIL_KIB);
                Some(context.budgets.take_up_to(member, BudgetKind::Tail, wanted, LEAST_TAIL_KIB)?)
            }
            _ => None,
        };
        let (sender, receiver) = mpsc::channel(4);
        let merger = Merger {
            context: context.clone(),
            view: view.clone(),
            wish: wish.clone(),
            plan,
            pace: Pace(tokio::runtime::Handle::current()),
            render,
            sender,
            sources: HashMap::new(),
            merge: Merge::new([]),
            followed: HashSet::new(),
            begun: 0,
            tail_bytes: room.as_ref().map_or(0, Share::count) * 1024 / chosen.len().max(1),
            room,
            behind: HashSet::new(),
            opened: VecDeque::new(),
            turn: 0,
        };
        let task = context.streams.spawn(merger.run(chosen));
        Ok(Self { receiver, _task: AbortOnDropHandle::new(task) })
    }

    /// What comes next; `None` when all is over.
    pub(crate) async fn next(&mut self) -> Option<MergerEvent<T>> {
        self.receiver.recv().await
    }
}

/// Whether a request can only ever mean one container.
fn names_one(wish: &LogRequest) -> bool {
    let [reference] = &wish.references[..] else { return false };
    let is_plain = reference.contains('/') && !reference.contains('*');
    is_plain && wish.stack.is_none() && wish.label.is_none()
}

/// A line that waits, with the turn in which it came.
struct Waiting {
    line: LogLine,
    source: Arc<str>,
    turn: u64,
    /// The last of its batch, for which its source waits: when it has gone, another may be sent.
    last: bool,
}

struct Running {
    name: Arc<str>,
    credit: Arc<Semaphore>,
    _task: AbortOnDropHandle<()>,
}

struct Merger<T, F> {
    context: Arc<LogsContext>,
    view: View,
    wish: LogRequest,
    plan: Arc<Plan>,
    pace: Pace,
    render: F,
    sender: mpsc::Sender<MergerEvent<T>>,
    sources: HashMap<usize, Running>,
    merge: Merge<Waiting>,
    /// The references that are being read.
    followed: HashSet<Arc<str>>,
    /// How many sources there have been: each has a number of its own.
    begun: usize,
    /// What each source may hold of last lines, in bytes.
    tail_bytes: usize,
    /// The room for last lines, until every source has handed them on.
    room: Option<Share>,
    /// The sources that have not.
    behind: HashSet<usize>,
    /// The sources that have come to the present, and when: what they have right then is on its way and comes in order too.
    opened: VecDeque<(u64, usize)>,
    /// How many turns there have been.
    turn: u64,
}

impl<T: Send + 'static, F: Fn(&Filter, Vec<MergedLine>) -> T + Send + Sync + 'static> Merger<T, F> {
    async fn run(mut self, chosen: Vec<Chosen>) {
        let (words, mut heard) = mpsc::channel(64);
        let many = chosen.len() > 1;
        for one in chosen {
            self.begin(one, &words, false);
        }
        let mut progress = Instant::now();
        let mut look_again = tokio::time::interval(LOOK_AGAIN);
        look_again.tick().await;
        let mut turn = self.pace.begin();
        let closed = self.sender.clone();
        loop {
            let idle = self.sources.is_empty() && self.merge.waiting() == 0;
            if idle && !self.plan.follow {
                return;
            }
            tokio::select! {
                Some((number, word)) = heard.recv() => {
                    if !self.hear(number, word).await {
                        return;
                    }
                    // What else has come is taken along before lines are handed on.
                    while let Ok((number, word)) = heard.try_recv() {
                        if !self.hear(number, word).await {
                            return;
                        }
                    }
                }
                ended = &mut turn, if self.merge.waiting() > 0 || !self.opened.is_empty() => {
                    if ended.is_err() {
                        return;
                    }
                    self.turn += 1;
                    turn = self.pace.begin();
                }
                _ = look_again.tick(), if self.plan.follow && !self.plan.is_alone => self.look_again(&words),
                () = closed.closed() => return,
            }
            if !self.hand_on(many).await {
                return;
            }
            if progress.elapsed() > PROGRESS && !self.plan.filter.takes_all() {
                progress = Instant::now();
                let reached = self.merge.reached().filter(|&r| r > Timestamp::MIN);
                if let Some(reached) = reached
                    && self.sender.send(MergerEvent::Progress(SearchProgress { reached })).await.is_err()
                {
                    return;
                }
            }
        }
    }

    fn begin(&mut self, chosen: Chosen, words: &mpsc::Sender<(usize, Word)>, fresh: bool) {
        let number = self.begun;
        self.begun += 1;
        let name: Arc<str> = chosen.reference().into();
        self.followed.insert(name.clone());
        if !fresh {
            self.merge.wait_for(number);
            self.behind.insert(number);
        }
        let credit = Arc::new(Semaphore::new(CREDIT));
        let source = Source {
            context: self.context.clone(),
            plan: self.plan.clone(),
            pace: self.pace.clone(),
            chosen,
            number,
            words: words.clone(),
            credit: credit.clone(),
            fresh,
            tail_bytes: self.tail_bytes,
            was_read: AtomicBool::new(false),
            is_present: AtomicBool::new(false),
        };
        let task = AbortOnDropHandle::new(tokio::spawn(source.run()));
        self.sources.insert(number, Running { name, credit, _task: task });
    }

    /// Containers that were started since then and fit too.
    fn look_again(&mut self, words: &mpsc::Sender<(usize, Word)>) {
        let Ok(now) = choose(&self.view, &self.wish, Vec::new(), |f| f.to_owned()) else { return };
        for one in now {
            let known = self.followed.contains(one.reference().as_str());
            if !known && self.followed.len() < MOST_SOURCES {
                self.begin(one, words, true);
            }
        }
    }

    /// Takes a source's word; `false` when nobody listens.
    async fn hear(&mut self, number: usize, word: Word) -> bool {
        match word {
            Word::Lines { lines, reached } if self.plan.is_alone => {
                self.give_back(number);
                if let Some(reached) = reached {
                    self.merge.reach(number, reached);
                }
                let source = self.name_of(number);
                self.tell(lines.into_iter().map(|line| MergedLine { source: source.clone(), line })).await
            }
            Word::Lines { lines, reached } => {
                let count = lines.len();
                // New lines are not held up while those before them ripen, or they would come too late for their place.
                let has_room = !self.merge.is_read_back(number) && self.merge.waiting() < MOST_WAITING;
                if count == 0 || has_room {
                    self.give_back(number);
                }
                let source = self.name_of(number);
                for (n, line) in lines.into_iter().enumerate() {
                    let waiting = Waiting {
                        source: source.clone(),
                        turn: self.turn,
                        last: n + 1 == count && !has_room,
                        line,
                    };
                    self.merge.push(number, waiting.line.time, waiting);
                }
                if let Some(reached) = reached {
                    self.merge.reach(number, reached);
                }
                true
            }
            Word::Present => {
                self.opened.push_back((self.turn, number));
                self.has_caught_up(number);
                true
            }
            Word::Note(note) => {
                let source = self.name_of(number).to_string();
                self.sender.send(MergerEvent::Note(LogNote { source, note })).await.is_ok()
            }
            Word::Failed(error) => {
                let source = self.name_of(number).to_string();
                let note = LogNote { source, note: format!("Stream interrupted: {error}") };
                self.sender.send(MergerEvent::Failed(note, error)).await.is_ok()
            }
            Word::End => {
                self.merge.release(number);
                self.has_caught_up(number);
                if let Some(source) = self.sources.remove(&number) {
                    self.followed.remove(&source.name);
                }
                true
            }
        }
    }

    /// A source has handed on its last lines; with the last of them the room for that is given back.
    fn has_caught_up(&mut self, number: usize) {
        self.behind.remove(&number);
        if self.behind.is_empty() {
            self.room = None;
        }
    }

    fn name_of(&self, number: usize) -> Arc<str> {
        self.sources.get(&number).map_or_else(|| "".into(), |source| source.name.clone())
    }

    fn give_back(&self, number: usize) {
        if let Some(source) = self.sources.get(&number) {
            source.credit.add_permits(1);
        }
    }

    /// Hands on what may go; `false` when nobody takes it.
    async fn hand_on(&mut self, many: bool) -> bool {
        let ripen = self.plan.follow && many;
        let now = self.turn;
        let is_ripe = |turn: u64| now - turn >= RIPE_TURNS;
        while let Some((_, number)) = self.opened.pop_front_if(|(turn, _)| !ripen || is_ripe(*turn)) {
            self.merge.release(number);
        }
        loop {
            let mut out = Vec::new();
            while out.len() < TOGETHER {
                // Once nothing more comes, nothing needs to ripen.
                let all_there = self.sources.is_empty();
                let ripe = |waiting: &Waiting| !ripen || all_there || is_ripe(waiting.turn);
                let Some((number, waiting)) = self.merge.next(ripe) else { break };
                if waiting.last {
                    self.give_back(number);
                }
                out.push(MergedLine { source: waiting.source, line: waiting.line });
            }
            if out.is_empty() {
                return true;
            }
            if !self.tell(out.into_iter()).await {
                return false;
            }
        }
    }

    /// Tells the reader lines; `false` when nobody takes them.
    async fn tell(&self, lines: impl Iterator<Item = MergedLine>) -> bool {
        let lines: Vec<MergedLine> = lines.collect();
        if lines.is_empty() {
            return true;
        }
        let lines = (self.render)(&self.plan.filter, lines);
        self.sender.send(MergerEvent::Lines(lines)).await.is_ok()
    }
}

/// Ranges of bytes as ranges of UTF-16 units, as browsers count, in the text as it is shown.
fn characters(bytes: &[u8], ranges: &[(usize, usize)]) -> Vec<(u32, u32)> {
    let length =
        |part: &[u8]| u32::try_from(String::from_utf8_lossy(part).encode_utf16().count()).unwrap_or(u32::MAX);
    ranges
        .iter()
        .map(|&(from, to)| {
            let before = length(&bytes[..from]);
            (before, before + length(&bytes[from..to]))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::characters;

    #[test]
    fn matches_are_counted_as_browsers_count() {
        assert_eq!(characters("mäst 🌡 cold".as_bytes(), &[(1, 3), (11, 15)]), [(1, 2), (8, 12)]);
        assert_eq!(characters(b"\xff cold", &[(2, 6)]), [(2, 6)]);
    }
}
