//! Resource usage: the eight figures, and how counters become rates.
//!
//! Figures are given in plain units: processors, bytes, bytes a second, a number. What an engine does not
//! tell is absent. Keeping them is [`crate::history`]'s work.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// How many figures there are.
pub const FIGURES: usize = 8;

/// One figure of resource use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[derive(strum::EnumString, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum Figure {
    /// Processors in use: 1.0 is one of them wholly.
    Processors,
    /// Bytes of memory without the page cache, where the engine tells them apart.
    Memory,
    /// The limit of memory in bytes.
    MemoryLimit,
    /// Bytes a second from the network.
    NetworkIn,
    /// Bytes a second to the network.
    NetworkOut,
    /// Bytes a second read from disks.
    DiskRead,
    /// Bytes a second written to disks.
    DiskWrite,
    /// Processes and threads.
    Processes,
}

impl Figure {
    /// All of them, in the order in which they are kept.
    pub const ALL: [Self; FIGURES] = [
        Self::Processors,
        Self::Memory,
        Self::MemoryLimit,
        Self::NetworkIn,
        Self::NetworkOut,
        Self::DiskRead,
        Self::DiskWrite,
        Self::Processes,
    ];

    /// Its place among the figures.
    pub fn index(self) -> usize {
        Self::ALL.iter().position(|f| *f == self).unwrap_or(0)
    }

    /// The word used by the API.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// All figures at one time.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Figures {
    /// Processors in use.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub processors: Option<f64>,
    /// Memory in bytes, without the page cache if the engine reports it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub memory: Option<f64>,
    /// Memory limit in bytes; absent without a limit.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub memory_limit: Option<f64>,
    /// Received bytes per second.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub network_in: Option<f64>,
    /// Sent bytes per second.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub network_out: Option<f64>,
    /// Disk bytes read per second.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub disk_read: Option<f64>,
    /// Disk bytes written per second.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub disk_write: Option<f64>,
    /// Processes and threads.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub processes: Option<f64>,
}

impl Figures {
    /// In the order of [`Figure::ALL`].
    pub fn row(&self) -> [Option<f64>; FIGURES] {
        [
            self.processors,
            self.memory,
            self.memory_limit,
            self.network_in,
            self.network_out,
            self.disk_read,
            self.disk_write,
            self.processes,
        ]
    }

    /// From the order of [`Figure::ALL`].
    pub fn from_row(row: [Option<f64>; FIGURES]) -> Self {
        let [processors, memory, memory_limit, network_in, network_out, disk_read, disk_write, processes] =
            row;
        Self { processors, memory, memory_limit, network_in, network_out, disk_read, disk_write, processes }
    }

    /// The sum of two, as for a stack or a host; what only one of them knows counts as it is.
    #[must_use]
    pub fn plus(&self, other: &Self) -> Self {
        let mut row = self.row();
        for (sum, more) in row.iter_mut().zip(other.row()) {
            *sum = match (*sum, more) {
                (Some(a), Some(b)) => Some(a + b),
                (a, b) => a.or(b),
            };
        }
        // The limits of some say nothing about the whole.
        Self { memory_limit: None, ..Self::from_row(row) }
    }
}

/// What an engine counts for one container, at the time it read them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Counters {
    /// When the engine read them.
    pub read: Timestamp,
    /// Nanoseconds of processor time since it was made.
    pub processor_nanos: Option<u64>,
    /// Bytes of memory, without the page cache where that is told apart.
    pub memory: Option<u64>,
    /// The limit of memory.
    pub memory_limit: Option<u64>,
    /// Bytes from the network so far.
    pub network_in: Option<u64>,
    /// Bytes to the network so far.
    pub network_out: Option<u64>,
    /// Bytes read from disks so far.
    pub disk_read: Option<u64>,
    /// Bytes written to disks so far.
    pub disk_write: Option<u64>,
    /// Processes and threads.
    pub processes: Option<u64>,
    /// Memory includes the page cache, because the engine does not report it separately.
    pub memory_has_cache: bool,
}

/// What was used between two readings. Rates are absent when a counter went back, as after a restart,
/// or no time passed; levels are those of the later reading.
pub fn between(before: &Counters, after: &Counters) -> Figures {
    let seconds = after.read.duration_since(before.read).as_secs_f64();
    let rate = |before: Option<u64>, after: Option<u64>| {
        let grown = after?.checked_sub(before?)?;
        (seconds > 0.05).then(|| grown as f64 / seconds)
    };
    Figures {
        processors: rate(before.processor_nanos, after.processor_nanos).map(|r| r / 1e9),
        network_in: rate(before.network_in, after.network_in),
        network_out: rate(before.network_out, after.network_out),
        disk_read: rate(before.disk_read, after.disk_read),
        disk_write: rate(before.disk_write, after.disk_write),
        ..levels(after)
    }
}

/// What one reading alone tells: levels, but no rates.
pub fn levels(reading: &Counters) -> Figures {
    Figures {
        memory: reading.memory.map(|v| v as f64),
        memory_limit: reading.memory_limit.map(|v| v as f64),
        processes: reading.processes.map(|v| v as f64),
        ..Figures::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn counters(second: i64, value: u64) -> Counters {
        Counters {
            read: Timestamp::from_second(second).unwrap(),
            processor_nanos: Some(value),
            memory: Some(value),
            memory_limit: None,
            network_in: Some(value),
            network_out: None,
            disk_read: Some(value),
            disk_write: Some(value),
            processes: Some(3),
            memory_has_cache: false,
        }
    }

    #[test]
    fn counters_become_rates() {
        let used = between(&counters(100, 1_000_000_000), &counters(110, 6_000_000_000));
        assert_eq!(used.processors, Some(0.5));
        assert_eq!(used.network_in, Some(500_000_000.0));
        assert_eq!((used.network_out, used.memory_limit), (None, None));
        assert_eq!((used.memory, used.processes), (Some(6e9), Some(3.0)));
    }

    #[test]
    fn a_counter_that_went_back_and_a_clock_that_stood_tell_no_rate() {
        assert_eq!(between(&counters(100, 9), &counters(110, 3)).processors, None);
        assert_eq!(between(&counters(100, 3), &counters(100, 9)).disk_read, None);
        assert_eq!(between(&counters(100, 3), &counters(90, 9)).disk_read, None);
    }

    #[test]
    fn words_and_places_agree() {
        for (place, figure) in Figure::ALL.into_iter().enumerate() {
            assert_eq!((figure.index(), figure.word().parse()), (place, Ok(figure)));
        }
    }

    proptest! {
        #[test]
        fn rates_are_never_negative_or_odd(a in any::<u64>(), b in any::<u64>(), t in 0i64..1000, u in 0i64..1000) {
            for value in between(&counters(t, a), &counters(u, b)).row().into_iter().flatten() {
                prop_assert!(value.is_finite() && value >= 0.0);
            }
        }

        #[test]
        fn sums_keep_what_is_known(a in proptest::option::of(0.0f64..1e12), b in proptest::option::of(0.0f64..1e12)) {
            let x = Figures { memory: a, ..Figures::default() };
            let y = Figures { memory: b, ..Figures::default() };
            prop_assert_eq!(x.plus(&y).memory.is_some(), a.is_some() || b.is_some());
        }
    }
}
