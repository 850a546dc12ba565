//! Attaches to the main process of a container: its output as it is written, and its input.
//!
//! Not the log, which begins in the past, and not a command beside the process (`exec`).

use crate::calls::checked;
use crate::client::{Call, Engine};
use crate::error::EngineError;
use crate::exec::{Input, Output};

/// Both ends of a container's process.
pub struct Joined {
    /// What it says from now on.
    pub output: Output,
    /// What is said to it; lost when its input is closed.
    pub input: Input,
}

impl Engine {
    /// Joins a container's own process. One that was not started yet is told from its first word on. Leaving does not
    /// end it. `terminal` says whether the container has one: then both outputs come as one.
    ///
    /// # Errors
    /// 404 when there is no such container, and the engine's error.
    pub async fn attach(&self, container: &str, terminal: bool) -> Result<Joined, EngineError> {
        let path =
            format!("/containers/{}/attach?stream=1&stdin=1&stdout=1&stderr=1&logs=0", checked(container)?);
        let (output, input) = self.upgraded(Call::post("join process", &path), terminal).await?;
        Ok(Joined { output, input })
    }

    /// Tells a container's own terminal how large it is shown.
    ///
    /// # Errors
    /// When it does not run.
    pub async fn resize_own(&self, container: &str, columns: u16, rows: u16) -> Result<(), EngineError> {
        let path = format!("/containers/{}/resize?h={rows}&w={columns}", checked(container)?);
        self.ok(Call::post("resize terminal", &path)).await.map(drop)
    }
}
