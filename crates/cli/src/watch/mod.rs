//! `gubernum watch`: a full-screen view of the fleet, driven by keys.
//!
//! [`state`] is what is shown and how keys change it, without a terminal; [`view`] draws it; this file
//! joins both with the live connection and the terminal.

mod state;
mod view;

use std::time::Duration;

use gubernum_api::logs::LogRequest;
use gubernum_api::requests::NewOperation;
use gubernum_api::usage::UsageSubscription;
use gubernum_api::{FromClient, FromServer};
use gubernum_client::{Client, ClientError, Live};
use ratatui::crossterm::event::{self, Event, KeyEventKind};

use crate::commands::preview_of_target;
use crate::exit::{FINE, Failure};
use state::{Do, Preview, State};

const FLEET: u32 = 1;
const USE: u32 = 2;
const LOGS: u32 = 10;
/// How often the screen is drawn while nothing is pressed: ages go on.
const DRAW_EVERY: Duration = Duration::from_millis(1000);
const AGAIN: Duration = Duration::from_secs(2);

/// Watches until somebody leaves.
pub(crate) async fn run(client: Client) -> Result<u8, Failure> {
    use std::io::IsTerminal;
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        return Err(Failure::Usage("'watch' needs a terminal; use 'list' and 'logs' in scripts".to_owned()));
    }
    // Before the terminal is taken over, so that a failure can be read.
    let live = client.live().await?;
    let (sender, keys) = tokio::sync::mpsc::channel(64);
    // The terminal is read on a thread of its own; it ends with the program.
    std::thread::spawn(move || {
        while let Ok(event) = event::read() {
            if sender.blocking_send(event).is_err() {
                return;
            }
        }
    });
    let mut terminal = ratatui::init();
    let outcome = watch(client, live, keys, &mut terminal).await;
    ratatui::restore();
    outcome.map(|()| FINE)
}

async fn watch(
    client: Client,
    live: Live,
    mut keys: tokio::sync::mpsc::Receiver<Event>,
    terminal: &mut ratatui::DefaultTerminal,
) -> Result<(), Failure> {
    let mut state = State::new();
    let mut connection = Some(live);
    let mut log = LOGS;
    subscribe(&mut connection, &mut state).await;
    let mut tick = tokio::time::interval(DRAW_EVERY);
    let (tell, mut told) = tokio::sync::mpsc::channel(8);
    loop {
        terminal.draw(|frame| view::draw(frame, &mut state))?;
        tokio::select! {
            message = next(&mut connection) => match message {
                Ok(Some(message)) => {
                    if let FromServer::Lines { id, bytes, .. } = &message {
                        let taken = FromClient::Taken { id: *id, bytes: *bytes };
                        send(&mut connection, &taken).await;
                    }
                    state.take(message, log);
                }
                Ok(None) | Err(_) => {
                    connection = None;
                    state.connected = false;
                }
            },
            Some(answer) = told.recv() => match answer {
                Answer::Preview(number, preview) => state.previewed(number, preview),
                Answer::Said(text) => state.said = Some(text),
            },
            key = keys.recv() => {
                let Some(event) = key else { return Ok(()) };
                let Event::Key(key) = event else { continue };
                if key.kind == KeyEventKind::Release {
                    continue;
                }
                match state.press(key) {
                    Do::Nothing => {}
                    Do::Leave => return Ok(()),
                    Do::Follow(reference) => {
                        send(&mut connection, &FromClient::Stop { id: log }).await;
                        log += 1;
                        let wish = LogRequest { references: vec![reference], tail: Some(200), follow: true, ..LogRequest::default() };
                        send(&mut connection, &FromClient::Logs { id: log, wish }).await;
                    }
                    Do::StopFollowing => send(&mut connection, &FromClient::Stop { id: log }).await,
                    Do::Preview(number, wish) => answer(&client, &tell, async move |client| {
                        Answer::Preview(number, preview(&client, &wish).await)
                    }),
                    Do::Change(wish) => answer(&client, &tell, async move |client| {
                        Answer::Said(match client.submit(&wish, None).await {
                            Ok(operation) => format!("Operation {} is running.", operation.id),
                            Err(error) => error.to_string(),
                        })
                    }),
                }
            }
            _ = tick.tick() => {
                if connection.is_none() && state.lost_for() > AGAIN {
                    state.tried();
                    connection = client.live().await.ok();
                    subscribe(&mut connection, &mut state).await;
                }
            }
        }
    }
}

/// What the service answered to a question of this view.
enum Answer {
    Preview(u64, Preview),
    Said(String),
}

/// Asks the service beside the drawing, so that the screen and the keys go on meanwhile.
fn answer<F: Future<Output = Answer> + Send + 'static>(
    client: &Client,
    tell: &tokio::sync::mpsc::Sender<Answer>,
    ask: impl FnOnce(Client) -> F,
) {
    let (asked, tell) = (ask(client.clone()), tell.clone());
    tokio::spawn(async move {
        // A view that was left does not need it any more.
        let _ = tell.send(asked.await).await;
    });
}

/// What a change would do, in a few lines.
async fn preview(client: &Client, wish: &NewOperation) -> Preview {
    match client.preview(wish).await {
        Ok(preview) => Preview {
            text: preview.targets.iter().map(preview_of_target).collect::<Vec<_>>().join("\n"),
            can_start: preview.targets.iter().any(|t| t.refused.is_none() && t.unchanged.is_none()),
        },
        Err(error) => Preview { text: error.to_string(), can_start: false },
    }
}

/// Starts over on a new connection.
async fn subscribe(connection: &mut Option<Live>, state: &mut State) {
    send(connection, &FromClient::Fleet { id: FLEET, since: None }).await;
    send(
        connection,
        &FromClient::Use { id: USE, wish: UsageSubscription { references: vec!["*/*".to_owned()] } },
    )
    .await;
    state.connected = connection.is_some();
}

async fn send(connection: &mut Option<Live>, message: &FromClient) {
    if let Some(live) = connection
        && live.send(message).await.is_err()
    {
        *connection = None;
    }
}

async fn next(connection: &mut Option<Live>) -> Result<Option<FromServer>, ClientError> {
    match connection {
        Some(live) => live.next().await,
        None => std::future::pending().await,
    }
}
