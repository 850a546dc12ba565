//! Interactive terminals: keys are sent as they are pressed, the size follows the window, and the exit code is passed
//! on.

use std::io::{IsTerminal, Read, Write};
use std::time::Duration;

use bytes::Bytes;
use gubernum_api::Definition;
use gubernum_api::terminals::{NewOneOff, NewTerminal, RunCommand, TerminalEnd};
use gubernum_client::{Client, FromTerminal};
use ratatui::crossterm::terminal;
use tokio::sync::mpsc;

use crate::arguments::Output;
use crate::arguments_act::{DefinitionFlags, RunOnce, Shell};
use crate::exit::{FINE, Failure, note};
use crate::table::say_json_line;

/// The key that leaves the terminal open and comes back: Ctrl-], then a full stop.
const LEAVE: u8 = 0x1d;
/// The most that is read of the keyboard at once.
const PIECE: usize = 32 * 1024;
const LOOK_AT_SIZE: Duration = Duration::from_millis(250);
/// How often a lost connection is made again before it is given up.
const TRIES: u32 = 20;

/// Puts the terminal back as it was, however it ends.
struct Raw(bool);

impl Raw {
    fn enter() -> Result<Self, Failure> {
        let is_terminal = std::io::stdin().is_terminal();
        if is_terminal {
            terminal::enable_raw_mode()?;
        }
        Ok(Self(is_terminal))
    }
}

impl Drop for Raw {
    fn drop(&mut self) {
        if self.0 {
            let _ = terminal::disable_raw_mode();
        }
    }
}

/// The size of this terminal, within what the service takes; the usual one where nobody tells.
fn size() -> (u16, u16) {
    let (columns, rows) = terminal::size().unwrap_or((80, 24));
    (columns.clamp(2, 1000), rows.clamp(1, 500))
}

pub(super) async fn open(client: &Client, args: Shell) -> Result<u8, Failure> {
    let (columns, rows) = size();
    let wish = NewTerminal {
        container: args.container,
        shell: args.shell,
        command: args.command,
        attach: false,
        user: args.user,
        folder: args.folder,
        columns,
        rows,
    };
    show(client, wish).await
}

/// Joins a container's own process.
pub(super) async fn attach(client: &Client, container: String) -> Result<u8, Failure> {
    let (columns, rows) = size();
    let wish = NewTerminal {
        container,
        shell: None,
        command: Vec::new(),
        attach: true,
        user: None,
        folder: None,
        columns,
        rows,
    };
    show(client, wish).await
}

async fn show(client: &Client, wish: NewTerminal) -> Result<u8, Failure> {
    let (columns, rows) = (wish.columns, wish.rows);
    let opened = client.open_terminal(&wish).await?;
    if std::io::stdin().is_terminal() {
        note(if opened.attached {
            "Ctrl-] then '.' detaches; the container keeps running. Ctrl-C goes to its main process."
        } else {
            "Ctrl-] then '.' leaves the terminal; it is closed a minute later."
        });
    }
    let raw = Raw::enter()?;
    let over = carry(client, &opened.id, (columns, rows)).await;
    drop(raw);
    match over? {
        Some(end) => {
            if end.exit_code.is_none_or(|c| c != 0) {
                note(&end.sentence);
            }
            Ok(code(end.exit_code))
        }
        None => Ok(FINE),
    }
}

/// An exit code as a program can pass it on.
fn code(exit_code: Option<i64>) -> u8 {
    exit_code.map_or(1, |c| u8::try_from(c).unwrap_or(1))
}

/// Keys from a thread of their own: reading them blocks.
fn keyboard() -> mpsc::Receiver<Vec<u8>> {
    let (sender, receiver) = mpsc::channel(16);
    std::thread::spawn(move || {
        let mut input = std::io::stdin().lock();
        let mut buffer = vec![0; PIECE];
        while let Ok(count) = input.read(&mut buffer) {
            if count == 0 || sender.blocking_send(buffer[..count].to_vec()).is_err() {
                return;
            }
        }
    });
    receiver
}

/// Carries keys and text until the shell ends, or somebody leaves: then `None`.
async fn carry(client: &Client, id: &str, mut size: (u16, u16)) -> Result<Option<TerminalEnd>, Failure> {
    let mut held = client.hold_terminal(id).await?;
    let mut keys = keyboard();
    let mut typing = true;
    let mut leaving = false;
    let mut look = tokio::time::interval(LOOK_AT_SIZE);
    let mut tries = 0;
    loop {
        tokio::select! {
            more = keys.recv(), if typing => match more {
                Some(bytes) => {
                    if left(&bytes, &mut leaving) {
                        return Ok(None);
                    }
                    // A break shows itself when reading, where it is mended.
                    let _ = held.keys(Bytes::from(bytes)).await;
                }
                // What came through a pipe is over: so is the shell's input.
                None => {
                    typing = false;
                    let _ = held.keys(Bytes::from_static(&[4])).await;
                }
            },
            said = held.next() => match said {
                FromTerminal::Text(bytes) => {
                    tries = 0;
                    let mut out = std::io::stdout().lock();
                    out.write_all(&bytes)?;
                    out.flush()?;
                }
                FromTerminal::Ended(end) => return Ok(Some(end)),
                FromTerminal::Lost => {
                    tries += 1;
                    if tries > TRIES {
                        return Err(Failure::Said("connection lost".to_owned()));
                    }
                    tokio::time::sleep(Duration::from_millis(300)).await;
                    if let Ok(again) = client.hold_terminal(id).await {
                        held = again;
                    }
                }
            },
            _ = look.tick() => {
                if let Ok(now) = terminal::size() && now != size {
                    size = now;
                    let _ = held.resize(now.0, now.1).await;
                }
            }
        }
    }
}

/// Whether the keys for leaving were pressed.
fn left(bytes: &[u8], leaving: &mut bool) -> bool {
    for &byte in bytes {
        if *leaving && byte == b'.' {
            return true;
        }
        *leaving = byte == LEAVE;
    }
    false
}

pub(super) async fn run_once(client: &Client, args: RunOnce, output: Output) -> Result<u8, Failure> {
    for text in &args.variables {
        crate::definition_flags::pair("--variable", text)?;
    }
    let mut stream = match &args.image {
        Some(_) => client.run_fresh(&one_off(&args)?).await?,
        None => {
            let wish = RunCommand {
                command: args.command,
                user: args.user,
                folder: args.folder,
                environment: args.variables,
                limit_seconds: Some(args.limit),
            };
            client.run_command(&args.place, &wish).await?
        }
    };
    while let Some(piece) = stream.next().await? {
        if output == Output::Json {
            say_json_line(&piece)?;
        } else if let Some(doing) = &piece.note {
            note(doing);
        } else if piece.stderr {
            let mut out = std::io::stderr().lock();
            out.write_all(piece.text.as_bytes())?;
        } else {
            let mut out = std::io::stdout().lock();
            out.write_all(piece.text.as_bytes())?;
            out.flush()?;
        }
        if piece.ended {
            if let Some(problem) = &piece.problem {
                note(problem);
            }
            return Ok(code(piece.exit_code));
        }
    }
    Err(Failure::Said("connection lost before the command exited".to_owned()))
}

/// What a container for one command is to be.
fn one_off(args: &RunOnce) -> Result<NewOneOff, Failure> {
    let flags = DefinitionFlags {
        image: args.image.clone(),
        mounts: args.mounts.clone(),
        networks: args.networks.clone(),
        memory: args.memory.clone(),
        pull: args.pull,
        user: args.user.clone(),
        variables: args.variables.clone(),
        ..DefinitionFlags::default()
    };
    let mut definition = Definition::default();
    crate::definition_flags::apply(&flags, &mut definition)?;
    if !args.command.is_empty() {
        // The words are the whole command, whatever the image begins with.
        definition.entrypoint = Some(Vec::new());
        definition.command = Some(args.command.clone());
    }
    definition.working_folder.clone_from(&args.folder);
    Ok(NewOneOff { host: args.place.clone(), definition, limit_seconds: Some(args.limit) })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn leaving_takes_both_keys_also_in_pieces() {
        let mut leaving = false;
        assert!(!left(b"abc.", &mut leaving));
        assert!(!left(&[LEAVE], &mut leaving));
        assert!(left(b".", &mut leaving));
        leaving = false;
        assert!(!left(&[LEAVE, b'x', b'.'], &mut leaving));
        assert_eq!((code(Some(7)), code(Some(300)), code(None)), (7, 1, 1));
    }
}
