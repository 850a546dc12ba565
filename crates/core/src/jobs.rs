//! Jobs: services of a stack that are run by a schedule, or manually, to their end.
//!
//! Pure: what a schedule says, when it is due next, and what was missed since it was looked at last. Reading it from a text is in
//! [`crate::compose::read`], the plan of a run in [`crate::stack::run`]; clocks and engines are the service's.

use cronexpr::{Crontab, MakeTimestamp};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// The attribute of a service that makes it a job.
pub const SCHEDULE_KEY: &str = "x-gubernum-schedule";
/// How long a run may take where the text does not say, in seconds.
pub const USUAL_TIMEOUT_SECONDS: u32 = 3600;
/// The longest that a run may take, in seconds.
pub const LONGEST_TIMEOUT_SECONDS: u32 = 24 * 3600;
/// How many runs of a job are kept where the text does not say, and at the most.
pub const USUAL_KEPT: u32 = 20;
/// The most runs of one job that are kept.
pub const MOST_KEPT: u32 = 200;
/// The most that is kept of what a run said, in bytes; of more, the end.
pub const LONGEST_OUTPUT: usize = 64 * 1024;
/// So long after its time a run still counts as begun at its time.
const LATE: SignedDuration = SignedDuration::from_secs(60);
/// The most times that are counted as missed.
const MOST_MISSED: u32 = 1000;
/// Longer than clocks go forward or back at once anywhere.
const CLOCKS_GO: SignedDuration = SignedDuration::from_hours(3);
/// How many times on the wall are looked at for one that is still to come: those of that time, minute by minute.
const MOST_LOOKS: usize = 200;

/// What happens when a job is due while a run is under way.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Default,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Concurrency {
    /// It is left out this time.
    #[default]
    Forbid,
    /// Both run.
    Allow,
    /// The one under way is ended and the new one begins.
    Replace,
}

/// What happens with runs missed while the service was down.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Default,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Missed {
    /// Nothing, but that it is told.
    #[default]
    Skip,
    /// It is run once, however many there were.
    Once,
}

/// The schedule of a job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Schedule {
    /// Minute, hour, day of the month, month and day of the week; manual only when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cron: Option<String>,
    /// Time zone, an IANA name.
    pub time_zone: String,
    /// What happens when it is due while a run is under way.
    #[serde(default)]
    pub concurrency: Concurrency,
    /// What happens with missed runs.
    #[serde(default)]
    pub missed_runs: Missed,
    /// Time limit of a run in seconds.
    pub timeout_seconds: u32,
    /// Number of finished runs kept.
    pub keep: u32,
}

impl Default for Schedule {
    fn default() -> Self {
        Self {
            cron: None,
            time_zone: "UTC".to_owned(),
            concurrency: Concurrency::default(),
            missed_runs: Missed::default(),
            timeout_seconds: USUAL_TIMEOUT_SECONDS,
            keep: USUAL_KEPT,
        }
    }
}

/// What a schedule asks for now.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Due {
    /// It is to be run now, for this time.
    pub run: Option<Timestamp>,
    /// Times that were missed and are not made up for.
    pub missed: u32,
    /// The last of them.
    pub missed_last: Option<Timestamp>,
    /// The next run.
    pub next: Option<Timestamp>,
}

/// Reads a cron expression in a time zone.
///
/// # Errors
/// What is wrong with it, in words.
pub fn times(cron: &str, time_zone: &str) -> Result<Crontab, String> {
    if cron.split_whitespace().count() != 5 || cron.len() > 200 {
        return Err("a schedule has five fields: minute, hour, day of the month, month and day of the week, for example '30 2 * * *'".to_owned());
    }
    if TimeZone::get(time_zone).is_err() {
        let zone = crate::text::shown(time_zone, 60);
        return Err(format!("unknown time zone '{zone}'; write for example 'Europe/Lisbon' or 'UTC'"));
    }
    cronexpr::parse_crontab(&format!("{cron} {time_zone}")).map_err(|error| {
        // The library draws the place over several lines; its last one says what is wrong.
        let text = error.to_string();
        let last = text.lines().last().unwrap_or_default().trim_matches([' ', '^', '-']).to_owned();
        let last = crate::text::shown(&last, 120);
        format!("'{}' is not a schedule: {last}", crate::text::shown(cron, 60))
    })
}

/// The times of a schedule. Those at an interval of minutes or hours go by the moments themselves; those of certain hours by the
/// clock on the wall, so that a job of every night is run once in each night, also when clocks go forward or back over it.
struct Times {
    zone: TimeZone,
    crontab: Crontab,
    by_the_wall: bool,
}

impl Times {
    fn new(cron: &str, zone: &str) -> Option<Self> {
        let by_the_wall = !cron.split_whitespace().nth(1)?.contains('*');
        let crontab = times(cron, if by_the_wall { "UTC" } else { zone }).ok()?;
        Some(Self { zone: TimeZone::get(zone).ok()?, crontab, by_the_wall })
    }

    /// The first after a moment.
    fn after(&self, at: Timestamp) -> Option<Timestamp> {
        if !self.by_the_wall {
            return self.crontab.find_next(MakeTimestamp(at)).ok().map(|z| z.timestamp());
        }
        let mut wall = self.zone.to_datetime(at);
        let before = at.checked_sub(CLOCKS_GO).ok()?;
        if self.zone.to_offset(before) != self.zone.to_offset(at) {
            // Clocks went a moment ago: what they left out is looked for too.
            wall = wall.checked_sub(CLOCKS_GO).ok()?;
        }
        for _ in 0..MOST_LOOKS {
            let as_if = wall.to_zoned(TimeZone::UTC).ok()?.timestamp();
            wall = self.crontab.find_next(MakeTimestamp(as_if)).ok()?.datetime();
            // A time that is left out comes as long after as clocks go forward; of one that is there twice the first counts.
            let time = self.zone.to_timestamp(wall).ok()?;
            if time > at {
                return Some(time);
            }
        }
        None
    }
}

impl Schedule {
    /// What it asks for now, having been looked at last at `considered`.
    pub fn due(&self, considered: Timestamp, now: Timestamp) -> Due {
        let Some(times) = self.cron.as_deref().and_then(|cron| Times::new(cron, &self.time_zone)) else {
            return Due::default();
        };
        let next_after = |at: Timestamp| times.after(at);
        let (mut count, mut last, mut at) = (0_u32, None, considered);
        let mut next = next_after(at);
        while let Some(time) = next.filter(|time| *time <= now) {
            count += 1;
            last = Some(time);
            if count >= MOST_MISSED {
                // Nobody counts further; what was last is found from here on.
                next = next_after(now);
                break;
            }
            at = time;
            next = next_after(at);
        }
        let Some(time) = last else { return Due { next, ..Due::default() } };
        if now.duration_since(time) <= LATE {
            let missed_last = None;
            return Due { run: Some(time), missed: count - 1, missed_last, next };
        }
        match self.missed_runs {
            Missed::Once => Due { run: Some(time), missed: count - 1, missed_last: None, next },
            Missed::Skip => Due { run: None, missed: count, missed_last: Some(time), next },
        }
    }

    /// The schedule in a line: `30 2 * * * (Europe/Lisbon)`.
    pub fn words(&self) -> String {
        match &self.cron {
            Some(cron) => format!("{cron} ({})", self.time_zone),
            None => "manual only".to_owned(),
        }
    }
}

/// The outcome of a run.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::EnumString, strum::IntoStaticStr,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum RunOutcome {
    /// It ended with the exit code 0.
    Succeeded,
    /// It ended with another one, or could not be begun.
    Failed,
    /// It took longer than it may and was ended.
    TimedOut,
    /// Somebody called it off.
    Cancelled,
    /// It was due while another run was under way.
    Skipped,
    /// The service did not run when it was due.
    Missed,
    /// The service ended in the middle, and what became of it is not known.
    Interrupted,
}

impl RunOutcome {
    /// The word used everywhere.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// Whether somebody has to look at it.
    pub fn is_bad(self) -> bool {
        !matches!(self, Self::Succeeded | Self::Cancelled | Self::Skipped)
    }
}

/// A finished run of a job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct JobRun {
    /// Its number.
    pub id: u64,
    /// The host.
    pub host: String,
    /// The stack.
    pub stack: String,
    /// The service.
    pub service: String,
    /// The operation; absent if none was started.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub operation: Option<u64>,
    /// The scheduled time; absent for a manual run.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub due: Option<Timestamp>,
    /// When it started.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub began: Timestamp,
    /// When it ended.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub ended: Timestamp,
    /// The outcome.
    pub outcome: RunOutcome,
    /// The exit code, if it ran.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exit_code: Option<i64>,
    /// Why it did not succeed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sentence: Option<String>,
    /// The number of missed runs, if this stands for several.
    #[serde(default, skip_serializing_if = "is_nothing")]
    pub missed: u32,
}

fn is_nothing(n: &u32) -> bool {
    *n == 0
}

#[cfg(test)]
#[path = "jobs_tests.rs"]
mod tests;
