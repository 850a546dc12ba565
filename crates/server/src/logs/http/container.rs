//! The log of one container over plain HTTP: JSON lines for programs, bytes as they are for people.
//!
//! Lines are read from the engine only as fast as they are sent on, so a slow reader costs no memory.

use axum::body::{Body, Bytes};
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use gubernum_api::Problem;
use gubernum_api::views::Line;
use gubernum_core::logs::LogLine;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::access::BudgetKind;
use crate::access::Identity;
use crate::app::App;
use crate::logs::tap::{Tap, TapEvent, Wish};
use crate::web::NDJSON;
use crate::web::extract::Params;
use crate::web::problem::ApiError;

/// How the log is wanted.
#[derive(Debug, Clone, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct LogParams {
    /// Only the last so many lines.
    tail: Option<u32>,
    /// Only from this time on: RFC 3339, a day, or a span back from now such as `15m`.
    since: Option<String>,
    /// Only up to this time.
    until: Option<String>,
    /// Follow new lines as they come.
    follow: Option<bool>,
    /// Standard output; true when absent.
    stdout: Option<bool>,
    /// Standard error; true when absent.
    stderr: Option<bool>,
    /// In text form: begin each line with its time.
    times: Option<bool>,
    /// `json` (one `Line` in JSON a line, the default) or `text` (the bytes as they are).
    format: Option<Format>,
}

/// The forms of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Format {
    /// JSON lines.
    Json,
    /// Text.
    Text,
}

/// One container's log, streamed. In JSON form notes (`{"note": …}`) may stand between the lines, and a failure in the
/// middle is a last line `{"problem": …}`; in text form the answer breaks off. A log that is followed goes on over
/// restarts and replacements of the container until the reader leaves.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/logs", tag = "containers",
    params(("host" = String, Path), ("container" = String, Path), LogParams), responses(
    (status = 200, body = Line, content_type = "application/x-ndjson"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn read(
    State(app): State<App>,
    who: Identity,
    Path((host, name)): Path<(String, String)>,
    Params(params): Params<LogParams>,
) -> Result<Response, ApiError> {
    let share = app.budgets.take(who.member_id, BudgetKind::Log, 1)?;
    let container = app.hub.find_on(&host, &name)?;
    let wish = Wish {
        tail: params.tail,
        since: params.since.clone(),
        until: params.until.clone(),
        follow: params.follow.unwrap_or(false),
        stdout: params.stdout.unwrap_or(true),
        stderr: params.stderr.unwrap_or(true),
    };
    if !wish.stdout && !wish.stderr {
        return Err(ApiError::invalid(
            "?stdout",
            "standard output and standard error are both off; leave one on",
        ));
    }
    let text = params.format == Some(Format::Text);
    let times = params.times.unwrap_or(false);
    let render = move |lines| write(lines, text, times);
    let tap = Tap::open(&app, &container, &wish, |field| format!("?{field}"), render)?;
    let end = app.end.clone();
    let stream = futures_util::stream::unfold(Some(tap), move |tap| {
        let _share = &share;
        let end = end.clone();
        async move {
            let mut tap = tap?;
            let next = end.run_until_cancelled(tap.next()).await?;
            match next {
                Some(Ok(TapEvent::Lines(bytes))) => Some((Ok(bytes), Some(tap))),
                // In text there is no place for it but between the container's own lines.
                Some(Ok(TapEvent::Note(_))) if text => Some((Ok(Bytes::new()), Some(tap))),
                Some(Ok(TapEvent::Note(note))) => {
                    let line = serde_json::json!({ "note": note }).to_string() + "\n";
                    Some((Ok(Bytes::from(line)), Some(tap)))
                }
                Some(Err(error)) if text => Some((Err(std::io::Error::other(error.to_string())), None)),
                Some(Err(error)) => {
                    let problem = ApiError::from(error).problem;
                    let line = serde_json::json!({ "problem": problem }).to_string() + "\n";
                    Some((Ok(Bytes::from(line)), None))
                }
                None => None,
            }
        }
    });
    let kind = if text { "text/plain; charset=utf-8" } else { NDJSON };
    Ok(([(header::CONTENT_TYPE, kind)], Body::from_stream(stream)).into_response())
}

fn write(lines: Vec<LogLine>, text: bool, times: bool) -> Bytes {
    let mut out = Vec::with_capacity(lines.iter().map(|l| l.bytes.len() + 96).sum());
    for line in lines {
        if text {
            if let (true, Some(time)) = (times, line.time) {
                out.extend_from_slice(format!("{time} ").as_bytes());
            }
            out.extend_from_slice(&line.bytes);
            if !line.continued {
                out.push(b'\n');
            }
        } else if serde_json::to_writer(&mut out, &Line::from(line)).is_ok() {
            out.push(b'\n');
        }
    }
    Bytes::from(out)
}
