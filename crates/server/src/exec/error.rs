//! Why a terminal is not opened.

use gubernum_engine::EngineError;

use crate::access::NoRandomness;
use crate::fleet::FleetError;

/// A terminal that is not opened.
#[derive(Debug, thiserror::Error)]
pub(crate) enum TerminalError {
    /// As many are open as may be.
    #[error("too many open terminals; close one first")]
    TooMany,
    /// The container's own process takes no command, user or folder.
    #[error("the main process already has a command, user and folder; leave them out")]
    Attached,
    /// Nothing runs there.
    #[error("{0} is not running; start it first")]
    NotRunning(String),
    /// Its image holds no shell.
    #[error("{0} has no shell in its image. Run one of its programs as a command, or browse its files")]
    NoShell(String),
    /// The host.
    #[error(transparent)]
    Fleet(#[from] FleetError),
    /// The machine.
    #[error(transparent)]
    Random(#[from] NoRandomness),
    /// The engine.
    #[error(transparent)]
    Engine(#[from] EngineError),
}
