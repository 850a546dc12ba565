//! The team's current state as one member sees it: limited to objects that the member sees.

use std::collections::BTreeMap;
use std::sync::Arc;

use gubernum_api::team::{Note, NoteCount, NotedObject, Person, Snooze, TeamState, Waiting};
use gubernum_core::note::MOST_NOTES;
use gubernum_core::rights::Right;
use gubernum_store::StoreError;
use jiff::Timestamp;
use parking_lot::RwLock;
use tokio::sync::watch;

use crate::clock::Clock;
use crate::fleet::View;
use crate::operations::OperationQueue;
use crate::storage::Db;
use crate::team::Freezes;
use crate::team::people::People;

/// The most pinned notes, and the most mentions, in one state; the newest.
const MOST_TOLD: usize = 100;

/// What members do together.
pub(crate) struct Team {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) freezes: Arc<Freezes>,
    pub(crate) people: Arc<People>,
    /// Who waits for whose turn.
    queue: Arc<OperationQueue>,
    notes: RwLock<Arc<Vec<Note>>>,
    snoozes: RwLock<Arc<Vec<Snooze>>>,
    changed: Arc<watch::Sender<u64>>,
}

impl Team {
    pub(crate) fn new(db: Db, clock: Clock, freezes: Arc<Freezes>, queue: Arc<OperationQueue>) -> Arc<Self> {
        let changed = queue.news();
        let people = People::new(changed.clone());
        Arc::new(Self {
            db,
            clock,
            freezes,
            people,
            queue,
            notes: RwLock::default(),
            snoozes: RwLock::default(),
            changed,
        })
    }

    /// Reads notes and snoozes again, and tells that something changed.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub(crate) async fn read(&self) -> Result<(), StoreError> {
        let now = self.clock.now();
        let (notes, snoozes) = self.db.run(move |store| Ok((store.notes("")?, store.snoozes(now)?))).await?;
        *self.notes.write() = Arc::new(notes);
        *self.snoozes.write() = Arc::new(snoozes);
        self.tell();
        Ok(())
    }

    /// Tells that something changed.
    pub(crate) fn tell(&self) {
        self.changed.send_modify(|n| *n += 1);
    }

    /// Hears when something changes.
    pub(crate) fn subscribe(&self) -> watch::Receiver<u64> {
        self.changed.subscribe()
    }

    /// Whether a member sees what something is about.
    pub(crate) fn sees(view: &View, on: &NotedObject) -> bool {
        view.rights_on_object(on).has(Right::See)
    }

    /// The notes that a member sees, the newest first; those on one object where one is named.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub(crate) async fn notes(
        &self,
        view: &View,
        member: &str,
        on: Option<&NotedObject>,
    ) -> Result<Vec<Note>, StoreError> {
        let member = member.to_owned();
        let all = self.db.run(move |store| store.notes(&member)).await?;
        let wanted = all.into_iter().filter(|note| on.is_none_or(|on| note.on == *on));
        Ok(wanted.filter(|note| Self::sees(view, &note.on)).take(MOST_NOTES).collect())
    }

    /// What is set aside now, on what a member sees.
    pub(crate) fn snoozed(&self, view: &View) -> Vec<Snooze> {
        let (all, now) = (self.snoozes.read().clone(), self.clock.now());
        all.iter().filter(|s| now < s.until && Self::sees(view, &s.on)).cloned().collect()
    }

    /// The pinned notes on what a member sees, the newest first.
    pub(crate) fn pinned(&self, view: &View) -> Vec<Note> {
        let notes = self.notes.read().clone();
        let pinned = notes.iter().filter(|note| note.pinned && Self::sees(view, &note.on));
        pinned.take(MOST_TOLD).cloned().collect()
    }

    /// The team as a member sees it, given the notes that mention them and are new to them.
    pub(crate) fn seen_by(&self, view: &View, view_of: &str, mentions: Vec<Note>) -> TeamState {
        let notes = self.notes.read().clone();
        let mut known: BTreeMap<&NotedObject, bool> = BTreeMap::new();
        let mut sees = |on| *known.entry(on).or_insert_with(|| Self::sees(view, on));
        let mut noted: BTreeMap<&NotedObject, (u64, Timestamp)> = BTreeMap::new();
        let mut pinned = Vec::new();
        for note in notes.iter().filter(|note| sees(&note.on)) {
            let changed = note.edited.unwrap_or(note.created);
            let line = noted.entry(&note.on).or_insert((0, changed));
            *line = (line.0 + 1, line.1.max(changed));
            if note.pinned && pinned.len() < MOST_TOLD {
                pinned.push(note.clone());
            }
        }
        let people = self.people.all().into_iter().map(|open| Person {
            member: open.member,
            since: open.since,
            looking_at: open.at.filter(|at| Self::sees(view, at)),
        });
        let sees_host = |host: &String| view.on_host(host).has(Right::See);
        let waiting = self.queue.all().into_iter();
        let waiting = waiting.filter(|w| w.member == view_of || w.hosts.iter().all(sees_host));
        let waiting =
            waiting.map(|w| Waiting { member: w.member, kind: w.kind, targets: w.targets, since: w.since });
        let (now, seen) = (self.clock.now(), view.snapshot());
        let freezes = self.freezes.all();
        let freezes = freezes.iter().filter(|f| now < f.until && (view.is_whole() || f.concerns(&seen)));
        TeamState {
            people: people.collect(),
            waiting: waiting.collect(),
            freezes: freezes.cloned().collect(),
            snoozes: self.snoozed(view),
            pinned,
            mentions: mentions
                .into_iter()
                .filter(|note| Self::sees(view, &note.on))
                .take(MOST_TOLD)
                .collect(),
            noted: noted
                .into_iter()
                .map(|(on, (notes, changed))| NoteCount { on: on.clone(), notes, changed })
                .collect(),
        }
    }

    /// The notes that mention a member and are new to them.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub(crate) async fn mentions(&self, member: &str) -> Result<Vec<Note>, StoreError> {
        let is_named = |note: &Note| note.mentions.iter().any(|name| name.eq_ignore_ascii_case(member));
        if !self.notes.read().iter().any(is_named) {
            return Ok(Vec::new());
        }
        let member = member.to_owned();
        let all = self.db.run(move |store| store.notes(&member)).await?;
        Ok(all.into_iter().filter(|note| note.is_new).collect())
    }
}
