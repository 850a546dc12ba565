//! The resource usage of a simulated container: smooth curves over the day with ripples, the same for the same name
//! and seed, so that counters, samples and history agree.
//!
//! Each rate is a base with a few waves on it. Counters are its integral in closed form, so that any two
//! readings give exactly what the curve says.

use std::f64::consts::TAU;

use crate::engine::Numbers;

const DAY: f64 = 86_400.0;

/// One rate over time.
#[derive(Debug, Clone, Copy)]
struct Curve {
    base: f64,
    waves: [(f64, f64, f64); 5],
}

impl Curve {
    fn new(base: f64, liveliness: f64, numbers: &mut Numbers) -> Self {
        let mut phase = || numbers.below(10_000) as f64 / 10_000.0 * TAU;
        let waves = [
            (0.38 * liveliness, DAY, phase()),
            (0.18 * liveliness, 9713.0, phase()),
            (0.16 * liveliness, 1130.0, phase()),
            (0.11 * liveliness, 211.0, phase()),
            (0.09 * liveliness, 47.0, phase()),
        ];
        Self { base, waves }
    }

    fn rate(&self, t: f64) -> f64 {
        let waves: f64 =
            self.waves.iter().map(|(a, period, phase)| a * (TAU * t / period + phase).sin()).sum();
        self.base * (1.0 + waves)
    }

    fn integral(&self, t: f64) -> f64 {
        let waves: f64 = self
            .waves
            .iter()
            .map(|(a, period, phase)| a * period / TAU * (TAU * t / period + phase).cos())
            .sum();
        self.base * (t - waves)
    }

    fn between(&self, from: f64, to: f64) -> u64 {
        (self.integral(to) - self.integral(from)).max(0.0) as u64
    }
}

/// What one container uses.
#[derive(Debug, Clone)]
pub struct Load {
    processors: Curve,
    memory: Curve,
    /// Bytes that it grows by in a day, before it starts over.
    leak: f64,
    network_in: Curve,
    network_out: Curve,
    disk_read: Curve,
    disk_write: Curve,
    processes: u64,
}

/// The counters at one time, as an engine counts them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Counted {
    /// Nanoseconds of processor time.
    pub processor_nanos: u64,
    /// Bytes without the page cache.
    pub memory: u64,
    /// Bytes from the network.
    pub network_in: u64,
    /// Bytes to the network.
    pub network_out: u64,
    /// Bytes read.
    pub disk_read: u64,
    /// Bytes written.
    pub disk_write: u64,
    /// Processes.
    pub processes: u64,
}

impl Load {
    /// The load of a container of this name; what it is about decides how heavy it is.
    pub fn new(name: &str, seed: u64) -> Self {
        let mixed =
            name.bytes().fold(seed ^ 0x51ed_270b, |h, b| h.wrapping_mul(0x0100_0000_01b3) ^ u64::from(b));
        let mut n = Numbers::new(mixed);
        let spread = 0.7 + n.below(600) as f64 / 1000.0;
        const MIB: f64 = 1024.0 * 1024.0;
        // Processors, MiB, network in and out, disk read and write in kB a second, processes.
        let (cpu, memory, net_in, net_out, read, write, processes) =
            if name.contains("database") || name.contains("store") {
                (0.24, 780.0, 60.0, 140.0, 90.0, 420.0, 24)
            } else if name.contains("camera") || name.contains("classifier") {
                (0.85, 640.0, 2600.0, 320.0, 4.0, 900.0, 9)
            } else if name.contains("web") {
                (0.31, 210.0, 180.0, 900.0, 2.0, 30.0, 14)
            } else if name.contains("sorter") {
                (0.52, 330.0, 240.0, 80.0, 1.0, 40.0, 12)
            } else if name.contains("api") {
                (0.16, 150.0, 70.0, 210.0, 1.0, 12.0, 11)
            } else {
                (0.035, 42.0, 6.0, 9.0, 0.4, 3.0, 4)
            };
        let kb = 1000.0 * spread;
        Self {
            processors: Curve::new(cpu * spread, 1.0, &mut n),
            memory: Curve::new(memory * MIB * spread, 0.08, &mut n),
            leak: if name.contains("sorter") { 260.0 * MIB } else { 0.0 },
            network_in: Curve::new(net_in * kb, 1.0, &mut n),
            network_out: Curve::new(net_out * kb, 1.0, &mut n),
            disk_read: Curve::new(read * kb, 0.9, &mut n),
            disk_write: Curve::new(write * kb, 0.9, &mut n),
            processes,
        }
    }

    fn memory_at(&self, t: f64) -> f64 {
        self.memory.rate(t) + self.leak * (t.rem_euclid(DAY) / DAY)
    }

    /// The counters at `now` of a container that started at `started`, both in seconds since 1970.
    pub fn counted(&self, started: f64, now: f64) -> Counted {
        Counted {
            processor_nanos: (self.processors.integral(now) - self.processors.integral(started))
                .max(0.0)
                .mul_add(1e9, 0.0) as u64,
            memory: self.memory_at(now) as u64,
            network_in: self.network_in.between(started, now),
            network_out: self.network_out.between(started, now),
            disk_read: self.disk_read.between(started, now),
            disk_write: self.disk_write.between(started, now),
            processes: self.processes,
        }
    }

    /// The figures at a time, in the order in which history keeps them: processors, memory, its limit, network
    /// in and out, disk read and write, processes.
    pub fn figures(&self, t: f64, limit: Option<u64>) -> [Option<f64>; 8] {
        [
            Some(self.processors.rate(t)),
            Some(self.memory_at(t)),
            limit.map(|l| l as f64),
            Some(self.network_in.rate(t)),
            Some(self.network_out.rate(t)),
            Some(self.disk_read.rate(t)),
            Some(self.disk_write.rate(t)),
            Some(self.processes as f64),
        ]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counters_agree_with_rates_and_never_go_back() {
        let load = Load::new("grading-camera-1", 7);
        let start = 1_800_000_000.0;
        let mut before = load.counted(start, start);
        assert_eq!((before.processor_nanos, before.network_in), (0, 0));
        for step in 1..2000 {
            let now = start + f64::from(step);
            let after = load.counted(start, now);
            assert!(after.network_in >= before.network_in && after.processor_nanos >= before.processor_nanos);
            let used = (after.processor_nanos - before.processor_nanos) as f64 / 1e9;
            let rate = load.figures(now - 0.5, None)[0].unwrap();
            assert!((used - rate).abs() < 0.02, "{used} instead of {rate}");
            before = after;
        }
    }

    #[test]
    fn the_same_name_and_seed_give_the_same() {
        let of = |name, seed| Load::new(name, seed).counted(0.0, 5000.0);
        assert_eq!(of("api", 7), of("api", 7));
        assert_ne!(of("api", 7), of("api", 8));
        assert_ne!(of("api", 7), of("worker", 7));
    }
}
