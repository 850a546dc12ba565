//! Terminals and one-off commands, from the client side.

use bytes::Bytes;
use futures_util::{SinkExt, StreamExt};
use gubernum_api::terminals::{
    CommandLine, NewOneOff, NewTerminal, RunCommand, Shells, Terminal, TerminalEnd, TerminalMessage,
};
use reqwest::Method;
use tokio_tungstenite::tungstenite::Message;

use crate::client::{Client, TIMEOUT, container_path, encoded};
use crate::error::{ClientError, root};
use crate::lines::JsonLines;
use crate::live::{Socket, websocket};

/// A terminal that is held.
pub struct HeldTerminal {
    socket: Socket,
}

/// What a terminal tells.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FromTerminal {
    /// Its text, as bytes.
    Text(Bytes),
    /// It is over.
    Ended(TerminalEnd),
    /// The connection broke; the terminal lives on for a minute.
    Lost,
}

/// The output of a one-off command as it comes.
pub struct CommandStream(JsonLines);

impl Client {
    /// The shells that a container has.
    ///
    /// # Errors
    /// When nothing or several match.
    pub async fn shells(&self, reference: &str) -> Result<Shells, ClientError> {
        self.get(&format!("{}/shells", container_path(reference))).await
    }

    /// Opens a terminal.
    ///
    /// # Errors
    /// When the container does not run or has no shell.
    pub async fn open_terminal(&self, wish: &NewTerminal) -> Result<Terminal, ClientError> {
        self.post("/api/v1/terminals", wish).await
    }

    /// Takes hold of a terminal; what it said last comes first.
    ///
    /// # Errors
    /// When it has ended.
    pub async fn hold_terminal(&self, id: &str) -> Result<HeldTerminal, ClientError> {
        let socket = websocket(self, &format!("/api/v1/terminals/{}", encoded(id))).await?;
        Ok(HeldTerminal { socket })
    }

    /// Ends a terminal.
    ///
    /// # Errors
    /// When it has ended.
    pub async fn close_terminal(&self, id: &str) -> Result<(), ClientError> {
        let path = format!("/api/v1/terminals/{}", encoded(id));
        self.send(self.request(Method::DELETE, &path).timeout(TIMEOUT)).await.map(drop)
    }

    /// Runs one command in a container.
    ///
    /// # Errors
    /// When the container does not run.
    pub async fn run_command(
        &self,
        reference: &str,
        wish: &RunCommand,
    ) -> Result<CommandStream, ClientError> {
        let path = format!("{}/commands", container_path(reference));
        let response = self.send(self.request(Method::POST, &path).json(wish)).await?;
        Ok(CommandStream(JsonLines::new(response)))
    }

    /// Runs one command in a container that is made for it and removed afterwards.
    ///
    /// # Errors
    /// What is wrong with the wish, with the field at fault.
    pub async fn run_fresh(&self, wish: &NewOneOff) -> Result<CommandStream, ClientError> {
        let response = self.send(self.request(Method::POST, "/api/v1/one-offs").json(wish)).await?;
        Ok(CommandStream(JsonLines::new(response)))
    }
}

impl CommandStream {
    /// The next piece; `None` after the last.
    ///
    /// # Errors
    /// When the connection breaks.
    pub async fn next(&mut self) -> Result<Option<CommandLine>, ClientError> {
        self.0.next().await
    }
}

impl HeldTerminal {
    /// Sends keys.
    ///
    /// # Errors
    /// When the connection is broken.
    pub async fn keys(&mut self, bytes: Bytes) -> Result<(), ClientError> {
        self.socket.send(Message::Binary(bytes)).await.map_err(|e| ClientError::Broken(root(&e)))
    }

    /// Tells how large it is shown.
    ///
    /// # Errors
    /// When the connection is broken.
    pub async fn resize(&mut self, columns: u16, rows: u16) -> Result<(), ClientError> {
        let text = serde_json::to_string(&TerminalMessage::Resize((columns, rows)))
            .map_err(|e| ClientError::Broken(e.to_string()))?;
        self.socket.send(Message::Text(text.into())).await.map_err(|e| ClientError::Broken(root(&e)))
    }

    /// What it tells next.
    pub async fn next(&mut self) -> FromTerminal {
        while let Some(message) = self.socket.next().await {
            match message {
                Ok(Message::Binary(bytes)) => return FromTerminal::Text(bytes),
                Ok(Message::Text(text)) => {
                    if let Ok(TerminalMessage::Ended(end)) = serde_json::from_str(text.as_str()) {
                        return FromTerminal::Ended(end);
                    }
                }
                Ok(Message::Close(_)) | Err(_) => return FromTerminal::Lost,
                Ok(_) => {}
            }
        }
        FromTerminal::Lost
    }
}
