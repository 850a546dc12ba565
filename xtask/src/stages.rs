//! The stages of a long chore, announced as they come: which one it is, what it does, and about how long it takes.

use std::time::Instant;

use crate::run::say;

/// One part: what is done, and about how many minutes it takes from nothing on two cores.
pub(crate) struct Stage {
    pub(crate) what: &'static str,
    pub(crate) minutes: u32,
}

/// Where a chore is among its parts.
pub(crate) struct Stages {
    all: &'static [Stage],
    next: usize,
    begun: Instant,
}

impl Stages {
    pub(crate) fn new(all: &'static [Stage]) -> Self {
        Self { all, next: 0, begun: Instant::now() }
    }

    /// Tells of the next part.
    pub(crate) fn next(&mut self) {
        if let Some(line) = self.line(self.begun.elapsed().as_secs()) {
            say(&line);
        }
        self.next += 1;
    }

    fn line(&self, seconds: u64) -> Option<String> {
        let stage = self.all.get(self.next)?;
        let about = match stage.minutes {
            0 => "a few seconds".to_owned(),
            1 => "about a minute".to_owned(),
            minutes => format!("about {minutes} minutes"),
        };
        let left: u32 = self.all[self.next..].iter().map(|s| s.minutes).sum();
        let so_far = format!("{} min {:02} s so far", seconds / 60, seconds % 60);
        let (number, all) = (self.next + 1, self.all.len());
        Some(format!(
            "\n>>> {number} of {all}: {}: {about} from nothing on two cores ({so_far}; {left} min left at most)",
            stage.what
        ))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_part_says_which_it_is_and_how_long_it_takes() {
        const PARTS: &[Stage] = &[Stage { what: "lints", minutes: 6 }, Stage { what: "format", minutes: 0 }];
        let mut stages = Stages::new(PARTS);
        let first = stages.line(0).unwrap();
        assert!(first.contains("1 of 2: lints: about 6 minutes"), "{first}");
        stages.next();
        let second = stages.line(125).unwrap();
        assert!(second.contains("2 of 2: format: a few seconds"), "{second}");
        assert!(second.contains("2 min 05 s so far; 0 min left"), "{second}");
        stages.next();
        assert_eq!(stages.line(1), None);
    }
}
