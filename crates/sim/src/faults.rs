//! Faults on demand of a simulated engine.

use std::time::Duration;

/// What is wrong with the engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Fault {
    /// Nothing.
    #[default]
    None,
    /// Every answer begins only after this long.
    Slow(Duration),
    /// Connections are taken, answers never come; open streams fall silent.
    Hung,
    /// Nothing listens on the socket; open connections are cut.
    Refusing,
    /// Every answer is interrupted half-way.
    CutShort,
    /// Every answer is something else than an engine's.
    Nonsense,
    /// The engine answers every call with an error of its own.
    Failing,
    /// A log that is followed ends without its newest line, as that of a busy engine may.
    HastyLogs,
}
