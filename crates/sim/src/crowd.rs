//! A large fleet for measurements: many hosts with as many containers each, quiet or busy.

use std::io;
use std::path::Path;

use crate::engine::Numbers;
use crate::host::{Past, SimHost};
use crate::program::Program;
use crate::spec::{ContainerSpec, PortSpec};

const TOPICS: [&str; 5] = ["frost", "cold", "grading", "auction", "ledger"];
const PARTS: [&str; 6] = ["api", "worker", "store", "web", "queue", "probe"];

/// Starts `hosts` engines with `each` running containers, their sockets in `folder`.
///
/// # Errors
/// When a socket cannot be made.
pub fn start(folder: &Path, hosts: usize, each: usize, seed: u64) -> io::Result<Vec<SimHost>> {
    let mut numbers = Numbers::new(seed);
    (0..hosts)
        .map(|h| {
            let name = format!("shed-{:03}", h + 1);
            let host = SimHost::start(&folder.join(format!("{name}.sock")), &name, seed + h as u64)?;
            for n in 0..each {
                let topic = TOPICS[usize::try_from(numbers.below(5)).unwrap_or(0)];
                let part = PARTS[n % PARTS.len()];
                let mut spec = ContainerSpec::new(
                    &format!("{topic}-{part}-{n}"),
                    &format!(
                        "registry.tarnvalley.example/{topic}/{part}:{}.{}",
                        numbers.below(4),
                        numbers.below(20)
                    ),
                );
                spec.labels.insert("com.docker.compose.project".into(), topic.into());
                spec.labels.insert("com.docker.compose.service".into(), part.into());
                spec.restart_policy = "unless-stopped".into();
                spec.ports.push(PortSpec {
                    host: Some(u16::try_from(7000 + n).unwrap_or(7000)),
                    container: 8080,
                    protocol: "tcp".into(),
                });
                spec.program = Program::idle();
                let id = host.run(spec);
                let created = 3600 + i64::try_from(numbers.below(90 * 86_400)).unwrap_or(0);
                host.set_past(&id, &Past { created, started: created - 5, ..Past::default() });
            }
            Ok(host)
        })
        .collect()
}
