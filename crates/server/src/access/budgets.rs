//! Limits on what is open at once: live connections, log streams, and bytes buffered for slow readers. Per member and
//! in total, so that one member cannot use everything.

use std::collections::HashMap;
use std::sync::Arc;

use parking_lot::Mutex;

/// What can be open.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Kind {
    /// A live connection of a tab or a program.
    Connection,
    /// A log that is read or followed, by whatever way.
    Log,
    /// Kilobytes that may wait for a reader.
    Buffered,
    /// Kilobytes of last lines that are gathered before the first of them is sent.
    Tail,
}

impl Kind {
    /// The most of one member, and the most in all.
    fn limits(self) -> (usize, usize) {
        match self {
            Self::Connection => (100, 500),
            Self::Log => (200, 1000),
            Self::Buffered => (16 * 1024, 96 * 1024),
            Self::Tail => (64 * 1024, 128 * 1024),
        }
    }

    fn refusal(self) -> &'static str {
        match self {
            Self::Connection => "too many live connections; close some tabs",
            Self::Log => "too many open logs; close some of them",
            Self::Buffered => "too many unread lines; close some logs, or read faster",
            Self::Tail => {
                "too many logs are being opened at once; request fewer lines, or try again in a moment"
            }
        }
    }
}

/// A share that there is no room for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{}", .0.refusal())]
pub(crate) struct OverBudget(pub(crate) Kind);

#[derive(Default)]
struct Taken {
    by_member: HashMap<(i64, Kind), usize>,
    all: HashMap<Kind, usize>,
}

/// All budgets.
#[derive(Default)]
pub(crate) struct Budgets(Mutex<Taken>);

/// A share that is given back when it is dropped.
pub(crate) struct Share {
    budgets: Arc<Budgets>,
    member: i64,
    kind: Kind,
    count: usize,
}

impl Budgets {
    /// What is open now of each kind, and the most that may be.
    pub(crate) fn open(&self) -> Vec<(&'static str, usize, usize)> {
        let taken = self.0.lock();
        let kinds = [
            ("connections", Kind::Connection),
            ("logs", Kind::Log),
            ("buffered_kilobytes", Kind::Buffered),
            ("tail_kilobytes", Kind::Tail),
        ];
        kinds.map(|(word, kind)| (word, taken.all.get(&kind).copied().unwrap_or(0), kind.limits().1)).to_vec()
    }

    /// Takes a share of a member's budget and of the whole.
    pub(crate) fn take(self: &Arc<Self>, member: i64, kind: Kind, count: usize) -> Result<Share, OverBudget> {
        let (most_of_one, most) = kind.limits();
        let mut taken = self.0.lock();
        let own = taken.by_member.get(&(member, kind)).copied().unwrap_or(0);
        let all = taken.all.get(&kind).copied().unwrap_or(0);
        if own + count > most_of_one || all + count > most {
            return Err(OverBudget(kind));
        }
        taken.by_member.insert((member, kind), own + count);
        taken.all.insert(kind, all + count);
        Ok(Share { budgets: self.clone(), member, kind, count })
    }

    /// Takes as much of `wanted` as half of what is left allows, so that there is always something for the next; refused
    /// when that is less than `least`.
    pub(crate) fn take_up_to(
        self: &Arc<Self>,
        member: i64,
        kind: Kind,
        wanted: usize,
        least: usize,
    ) -> Result<Share, OverBudget> {
        let (most_of_one, most) = kind.limits();
        let left = {
            let taken = self.0.lock();
            let own = taken.by_member.get(&(member, kind)).copied().unwrap_or(0);
            let all = taken.all.get(&kind).copied().unwrap_or(0);
            most_of_one.saturating_sub(own).min(most.saturating_sub(all))
        };
        self.take(member, kind, wanted.min(left / 2).max(least.min(wanted)))
    }
}

impl Share {
    /// How much it is.
    pub(crate) fn count(&self) -> usize {
        self.count
    }
}

impl Drop for Share {
    fn drop(&mut self) {
        let mut taken = self.budgets.0.lock();
        let key = (self.member, self.kind);
        let left = taken.by_member.get(&key).map_or(0, |own| own.saturating_sub(self.count));
        if left == 0 {
            taken.by_member.remove(&key);
        } else {
            taken.by_member.insert(key, left);
        }
        if let Some(all) = taken.all.get_mut(&self.kind) {
            *all = all.saturating_sub(self.count);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_member_cannot_take_everything_and_what_is_closed_is_given_back() {
        let budgets = Arc::new(Budgets::default());
        let (most_of_one, most) = Kind::Connection.limits();
        let mut held: Vec<Share> =
            (0..most_of_one).map(|_| budgets.take(1, Kind::Connection, 1).unwrap()).collect();
        assert_eq!(budgets.take(1, Kind::Connection, 1).err(), Some(OverBudget(Kind::Connection)));
        let mut others: Vec<Share> = Vec::new();
        for member in 2.. {
            let of_member = (0..most_of_one).map_while(|_| budgets.take(member, Kind::Connection, 1).ok());
            let before = others.len();
            others.extend(of_member);
            if others.len() == before {
                break;
            }
        }
        assert_eq!(held.len() + others.len(), most);
        held.pop();
        assert!(budgets.take(1, Kind::Connection, 1).is_ok());
        drop((held, others));
        assert!(budgets.0.lock().by_member.is_empty());
    }

    #[test]
    fn whoever_comes_later_gets_half_of_what_is_left_until_too_little_is() {
        let budgets = Arc::new(Budgets::default());
        let (most_of_one, _) = Kind::Tail.limits();
        let small = budgets.take_up_to(1, Kind::Tail, 10, 1024).unwrap();
        assert_eq!(small.count(), 10, "no more than is wanted");
        let mut held = vec![small];
        while let Ok(share) = budgets.take_up_to(1, Kind::Tail, most_of_one, 1024) {
            assert!(share.count() >= 1024);
            held.push(share);
        }
        assert!(held.len() > 5, "{}", held.len());
        assert!(held.iter().map(Share::count).sum::<usize>() <= most_of_one);
        assert!(budgets.take_up_to(2, Kind::Tail, most_of_one, 1024).is_ok(), "others have their own");
    }
}
