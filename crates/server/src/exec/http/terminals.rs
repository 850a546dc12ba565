//! Terminals in containers. One-off commands are in `commands`.

use std::sync::Arc;

use axum::Json;
use axum::extract::ws::{CloseFrame, Message, WebSocket, WebSocketUpgrade};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::Response;
use gubernum_api::Problem;
use gubernum_api::terminals::{NewTerminal, Shells, Terminal, TerminalEnd, TerminalMessage};
use gubernum_core::mask::arguments;
use gubernum_core::rights::Right;
use gubernum_core::text::shown;
use tokio::sync::broadcast::error::RecvError;

use crate::access::Identity;
use crate::exec::ExecContext;
use crate::exec::http::root;
use crate::exec::terminals;
use crate::exec::terminals::TerminalAttachment;
use crate::fleet::View;
use crate::web::authenticate::PROTOCOL;
use crate::web::authorize::allow;
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// The largest message of a client: a paste, in pieces.
const MESSAGE_LIMIT: usize = 1024 * 1024;

/// The shells of a container; empty if it has none.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/shells", tag = "terminals",
    params(("host" = String, Path), ("container" = String, Path)), responses(
    (status = 200, body = Shells),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn shells(
    State(context): State<Arc<ExecContext>>,
    view: View,
    Path((host, name)): Path<(String, String)>,
) -> Result<Json<Shells>, ApiError> {
    let container = view.find_on(&host, &name)?;
    let found = context.links.engine(&container.host)?.shells(&container.id).await?;
    Ok(Json(Shells { shells: found.into_iter().map(str::to_owned).collect() }))
}

/// One's own open terminals.
#[utoipa::path(get, path = "/api/v1/terminals", tag = "terminals", responses(
    (status = 200, body = Vec<Terminal>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(State(context): State<Arc<ExecContext>>, who: Identity) -> Json<Vec<Terminal>> {
    Json(context.terminals.of_member(who.member_id))
}

/// Opens a terminal in a container, to be attached over a WebSocket. It ends a minute after nobody is attached.
#[utoipa::path(post, path = "/api/v1/terminals", tag = "terminals", request_body = NewTerminal, responses(
    (status = 201, body = Terminal),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn open(
    State(context): State<Arc<ExecContext>>,
    who: Identity,
    view: View,
    Body(wish): Body<NewTerminal>,
) -> Result<(StatusCode, Json<Terminal>), ApiError> {
    let container = view.find(&wish.container).map_err(|e| ApiError::from(e).at("/container"))?;
    allow(view.on(&container), Right::Shell, &container.reference()).map_err(|e| e.at("/container"))?;
    for (field, size, range) in
        [("/columns", wish.columns, terminals::COLUMNS), ("/rows", wish.rows, terminals::ROWS)]
    {
        if !range.contains(&size) {
            let text = format!("a terminal has {} to {} of them", range.start(), range.end());
            return Err(ApiError::invalid(field, text));
        }
    }
    let what = if wish.attach {
        "to attach to the main process".to_owned()
    } else {
        format!("a terminal with {}", shown(&arguments(&wish.command).join(" "), 400))
    };
    let passed = root::pass(&context, &who, &container, wish.user.as_deref(), &what).await?;
    let session = match terminals::open(&context, &who, container, wish).await {
        Ok(session) => session,
        Err(error) => {
            context.guards.give_back(passed).await;
            return Err(error.into());
        }
    };
    Ok((StatusCode::CREATED, Json(session.shown.clone())))
}

/// Ends a terminal.
#[utoipa::path(delete, path = "/api/v1/terminals/{id}", tag = "terminals", params(("id" = String, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn close(
    State(context): State<Arc<ExecContext>>,
    who: Identity,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let session = context.terminals.get(&id, who.member_id).ok_or_else(missing)?;
    session.close();
    Ok(StatusCode::NO_CONTENT)
}

fn missing() -> ApiError {
    ApiError::not_found("no such terminal; it may have ended")
}

/// Attaches to a terminal over a WebSocket. Binary messages are input and output; text messages are JSON:
/// `{"resize":[columns,rows]}` from the client, `{"ended":{…}}` from the service.
#[utoipa::path(get, path = "/api/v1/terminals/{id}", tag = "terminals", params(("id" = String, Path)), responses(
    (status = 101, description = "Switching to the terminal's protocol"),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn hold(
    State(context): State<Arc<ExecContext>>,
    who: Identity,
    view: View,
    Path(id): Path<String>,
    upgrade: WebSocketUpgrade,
) -> Result<Response, ApiError> {
    let session = context.terminals.get(&id, who.member_id).ok_or_else(missing)?;
    // A member who has lost the right meanwhile does not attach again.
    let there = View::whole(context.hub.clone()).find(&session.shown.container);
    if there.is_ok_and(|container| !view.on(&container).has(Right::Shell)) {
        return Err(missing());
    }
    let upgrade = upgrade.protocols([PROTOCOL]).max_message_size(MESSAGE_LIMIT).max_frame_size(MESSAGE_LIMIT);
    Ok(upgrade.on_upgrade(move |socket| async move {
        let held = session.hold();
        let end = context.end.clone();
        end.run_until_cancelled(who.lease.while_good(carry(socket, held))).await;
    }))
}

async fn carry(mut socket: WebSocket, mut held: TerminalAttachment) {
    if !held.before.is_empty() && socket.send(Message::Binary(held.before.clone())).await.is_err() {
        return;
    }
    loop {
        let over = held.ended.borrow_and_update().clone();
        if let Some(end) = over {
            // What it said last still comes before the word that it is over.
            while let Ok(bytes) = held.output.try_recv() {
                if socket.send(Message::Binary(bytes)).await.is_err() {
                    return;
                }
            }
            finish(socket, &end).await;
            return;
        }
        tokio::select! {
            biased;
            message = socket.recv() => match message {
                Some(Ok(Message::Binary(bytes))) => {
                    if !held.session.type_in(bytes).await {
                        continue;
                    }
                }
                Some(Ok(Message::Text(text))) => {
                    if let Ok(TerminalMessage::Resize((columns, rows))) = serde_json::from_str(text.as_str()) {
                        held.session.resize(columns, rows).await;
                    }
                }
                Some(Ok(Message::Close(_)) | Err(_)) | None => return,
                Some(Ok(_)) => {}
            },
            said = held.output.recv() => match said {
                Ok(bytes) => if socket.send(Message::Binary(bytes)).await.is_err() { return },
                // It did not read: it may come again and is served from what is kept.
                Err(RecvError::Lagged(_)) => {
                    let frame = CloseFrame { code: 4008, reason: "too slow; connect again".into() };
                    let _ = socket.send(Message::Close(Some(frame))).await;
                    return;
                }
                Err(RecvError::Closed) => return,
            },
            changed = held.ended.changed() => if changed.is_err() { return },
        }
    }
}

async fn finish(mut socket: WebSocket, end: &TerminalEnd) {
    let text = serde_json::to_string(&TerminalMessage::Ended(end.clone())).unwrap_or_default();
    let _ = socket.send(Message::Text(text.into())).await;
    let _ = socket.send(Message::Close(None)).await;
}
