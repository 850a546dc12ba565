//! Whether a leftover is safe to remove: a registry still has it, and it has been unused for long.
//!
//! What is a leftover at all is decided in the module above. Nothing is safe by a guess: a digest says only what an
//! image's bytes are, not that anybody else has them.

use jiff::{SignedDuration, Timestamp};

use super::{Grade, Leftover, Rules, Suggestion};
use crate::assets::Image;

/// What is known of whether an image can be had again.
pub(super) fn backed(image: &Image, rules: &Rules) -> (Grade, &'static str) {
    let mut answers = image.digests.iter().map(|d| rules.registry_has.get(d.as_str()));
    if image.digests.is_empty() {
        return (
            Grade::LookFirst,
            "it was built or loaded on this host, and no registry is known to have it",
        );
    }
    if answers.clone().any(|a| a == Some(&true)) {
        return (Grade::Safe, "its registry still has it");
    }
    if answers.all(|a| a == Some(&false)) {
        return (Grade::LookFirst, "its registry does not have it, so it cannot be pulled again");
    }
    (Grade::LookFirst, "its registry has not been checked recently")
}

/// Takes back that something is safe while it has not been unused for long enough.
pub(super) fn wait_for_age(found: &mut Suggestion, rules: &Rules, now: Timestamp) {
    let least =
        if found.leftover == Leftover::BuildCache { rules.cache_unused_for } else { rules.unused_for };
    if found.grade == Grade::LookFirst || least.is_zero() {
        return;
    }
    // No word of how long it has been so far: a preview would be another at every look.
    let why = match found.since.map(|since| now.duration_since(since)) {
        Some(age) if age >= least => return,
        Some(_) => format!("Unused for less than {}.", rough(least)),
        None => "Unused since an unknown time.".to_owned(),
    };
    found.grade = Grade::LookFirst;
    found.reason = format!("{} {why}", found.reason);
}

/// About how long, in one unit.
fn rough(age: SignedDuration) -> String {
    match age.as_secs() {
        s @ 0..120 => format!("{s} s"),
        s @ 120..7200 => format!("{} min", s / 60),
        s @ 7200..172_800 => format!("{} h", s / 3600),
        s => format!("{} days", s / 86_400),
    }
}
