//! One-off commands: in a running container, or in one created for the command and removed afterwards. Output streams
//! as JSON lines, the last of which has the exit code.

use std::sync::Arc;
use std::time::Duration;

use axum::body::Body as Stream;
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use gubernum_api::Problem;
use gubernum_api::terminals::{CommandLine, NewOneOff, RunCommand};
use gubernum_core::definition::Definition;
use gubernum_core::definition::check::Weight;
use gubernum_core::guard::{GuardedChange, host_reach};
use gubernum_core::mask::arguments;
use gubernum_core::rights::Right;
use gubernum_core::text::shown;
use gubernum_engine::exec::ExecWish;
use tokio::sync::mpsc;

use crate::access::{Dangerous, Identity};
use crate::exec::ExecContext;
use crate::exec::http::root;
use crate::exec::one_offs::{MOST_SECONDS, NAME, OneOff, OutputSender, USUAL_SECONDS};
use crate::fleet::View;
use crate::web::NDJSON;
use crate::web::authorize::allow;
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// Pieces of output that wait for a slow reader.
const WAITING: usize = 16;

fn limit(requested: Option<u32>) -> Result<u32, ApiError> {
    let seconds = requested.unwrap_or(USUAL_SECONDS);
    if (1..=MOST_SECONDS).contains(&seconds) {
        return Ok(seconds);
    }
    Err(ApiError::invalid("/limit_seconds", format!("the limit is from 1 to {MOST_SECONDS} s")))
}

fn streamed(receiver: mpsc::Receiver<CommandLine>) -> Response {
    let lines = futures_util::stream::unfold(receiver, |mut r| async move {
        let mut text = serde_json::to_vec(&r.recv().await?).unwrap_or_default();
        text.push(b'\n');
        Some((Ok::<_, std::convert::Infallible>(Bytes::from(text)), r))
    });
    ([(header::CONTENT_TYPE, NDJSON)], Stream::from_stream(lines)).into_response()
}

/// Runs a command in a running container and streams its output as JSON lines; the last line has the exit code.
/// Audited.
#[utoipa::path(post, path = "/api/v1/containers/{host}/{container}/commands", tag = "terminals",
    params(("host" = String, Path), ("container" = String, Path)), request_body = RunCommand, responses(
    (status = 200, body = CommandLine, content_type = "application/x-ndjson"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn run(
    State(context): State<Arc<ExecContext>>,
    who: Identity,
    view: View,
    Path((host, name)): Path<(String, String)>,
    Body(wish): Body<RunCommand>,
) -> Result<Response, ApiError> {
    if wish.command.first().is_none_or(|program| program.trim().is_empty()) {
        let text = "the command is empty; give the program and its arguments as separate strings";
        return Err(ApiError::invalid("/command", text));
    }
    let seconds = limit(wish.limit_seconds)?;
    let container = view.find_on(&host, &name)?;
    let engine = context.links.engine(&container.host)?;
    let exec = ExecWish {
        command: wish.command.clone(),
        user: wish.user.filter(|u| !u.is_empty()),
        folder: wish.folder.filter(|f| !f.is_empty()),
        environment: wish.environment,
        ..ExecWish::default()
    };
    let outcome = shown(&arguments(&wish.command).join(" "), 400);
    let passed = root::pass(&context, &who, &container, exec.user.as_deref(), &outcome).await?;
    context.audit.record(&who, "run-command", container.reference(), outcome).await?;
    let (sender, receiver) = mpsc::channel(WAITING);
    let mut running = match engine.exec(&container.id, &exec).await {
        Ok(running) => running,
        Err(error) => {
            // A program that cannot begin ends like one that a shell cannot begin.
            let Some(code) = error.program_fault() else {
                // Nothing ran: an approval of it stays good.
                context.guards.give_back(passed).await;
                return Err(error.into());
            };
            OutputSender { sender, told: 0 }.end(Some(code), Some(error.to_string())).await;
            return Ok(streamed(receiver));
        }
    };
    context.tasks.spawn(async move {
        let mut tell = OutputSender { sender, told: 0 };
        let carried = tell.carry(&mut running.output);
        let problem = match tokio::time::timeout(Duration::from_secs(seconds.into()), carried).await {
            Ok(_) => None,
            Err(_) => Some(format!(
                "the time limit of {seconds} s is reached; the command was detached and may still be running"
            )),
        };
        let state = engine.exec_state(&running.id).await.ok();
        tell.end(state.and_then(|s| s.exit_code), problem).await;
    });
    Ok(streamed(receiver))
}

/// Runs one command in a new container that is removed afterwards, and streams its output as JSON lines; the last line has the
/// exit code. The command ends when the caller disconnects. Audited.
#[utoipa::path(post, path = "/api/v1/one-offs", tag = "terminals", request_body = NewOneOff, responses(
    (status = 200, body = CommandLine, content_type = "application/x-ndjson"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn run_fresh(
    State(context): State<Arc<ExecContext>>,
    who: Identity,
    view: View,
    Body(wish): Body<NewOneOff>,
) -> Result<Response, ApiError> {
    let seconds = limit(wish.limit_seconds)?;
    // A container that is made for a command is of no stack: only whoever may do so on the host may have one.
    view.know_host(&wish.host).map_err(|e| ApiError::from(e).at("/host"))?;
    for right in [Right::Shell, Right::Deploy] {
        allow(view.on_host(&wish.host), right, &wish.host).map_err(|e| e.at("/host"))?;
    }
    let engine = context.links.engine(&wish.host).map_err(|e| ApiError::from(e).at("/host"))?;
    let mut definition = wish.definition;
    if !matches!(definition.restart.policy.as_str(), "" | "no") {
        let text = "a one-off container cannot have a restart policy; leave it out";
        return Err(ApiError::invalid("/definition/restart/policy", text));
    }
    if let Some(n) = definition.environment.iter().position(|e| e.hidden) {
        let field = format!("/definition/environment/{n}/value");
        return Err(ApiError::invalid(field, "the value is masked; enter it"));
    }
    let secret = crate::access::fresh_secret("o")
        .map_err(|e| ApiError::new("internal", "Internal error", 500, e.to_string()))?;
    let mark: String = secret.chars().filter(char::is_ascii_alphanumeric).skip(1).take(10).collect();
    let name = format!("{NAME}{}", mark.to_lowercase());
    // The service itself removes it, when it has its exit code.
    (definition.name, definition.auto_remove) = (name.clone(), false);
    let findings = context.runner.check_definition(&wish.host, &engine, &definition, None).await;
    if let Some(worst) = findings.iter().find(|f| f.weight == Weight::Error) {
        return Err(ApiError::invalid(format!("/definition{}", worst.field), worst.sentence.clone()));
    }
    let command = arguments(&definition.command.clone().unwrap_or_default()).join(" ");
    let outcome = shown(&format!("{} {command}", definition.image), 400);
    // Taken first: an approval is not used up by a command that has no place.
    let place = context.one_offs.clone().try_acquire_owned().map_err(|_| {
        let text = "too many one-off commands are running; wait for one to finish";
        ApiError::new("too-many-commands", "Too many commands", 429, text)
    })?;
    let as_root =
        root::pass_as(&context, &who, wish.host.clone(), definition.user.as_deref(), None, &outcome).await?;
    let reach = host_reach(&definition);
    if !reach.is_empty() {
        let (object, detail) = (wish.host.clone(), format!("{outcome}: it asks for {}", reach.join(", ")));
        let exactly = serde_json::to_string(&Definition { name: String::new(), ..definition.clone() });
        let exactly = exactly.unwrap_or_default();
        let change = Dangerous { danger: GuardedChange::HostReach, object, detail, exactly };
        if let Err(held) = context.guards.pass(&who.asker(), change).await {
            // It is asked for again once the second is approved: the first has to be good then.
            context.guards.give_back(as_root).await;
            return Err(held.into());
        }
    }
    let object = format!("{}/{name}", wish.host);
    context.audit.record(&who, "run-once", object.as_str(), outcome).await?;
    let (sender, receiver) = mpsc::channel(WAITING);
    let tell = OutputSender { sender, told: 0 };
    let one_off = OneOff { context: context.clone(), engine, name, definition, seconds, tell };
    context.tasks.clone().spawn(async move {
        let outcome = one_off.run().await;
        drop(place);
        context.audit.note(&who, "run-once-finished", object, outcome).await;
    });
    Ok(streamed(receiver))
}
