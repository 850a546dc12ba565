//! The log of one container over plain HTTP: JSON lines for programs, raw text for people.
//!
//! Lines are read from the engine only as fast as they are sent on, so a slow reader costs no memory.

use std::sync::Arc;

use axum::body::{Body, Bytes};
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use gubernum_api::Problem;
use gubernum_api::logs::{LogRequest, OutputStream};
use gubernum_api::views::Line;
use gubernum_core::logs::filter::Filter;
use serde::{Deserialize, Serialize};
use utoipa::IntoParams;

use crate::access::BudgetKind;
use crate::access::Identity;
use crate::fleet::View;
use crate::logs::LogsContext;
use crate::logs::{LogMerger, MergedLine, MergerEvent};
use crate::web::NDJSON;
use crate::web::extract::Params;
use crate::web::problem::ApiError;

/// How the log is wanted.
#[derive(Debug, Clone, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct LogParams {
    /// Only the last N lines.
    tail: Option<u32>,
    /// Only from this time: RFC 3339, a day, or a span back from now such as `15m`.
    since: Option<String>,
    /// Only until this time.
    until: Option<String>,
    /// Follow new lines as they come.
    follow: Option<bool>,
    /// Standard output; true when absent.
    stdout: Option<bool>,
    /// Standard error; true when absent.
    stderr: Option<bool>,
    /// In text form: start each line with its time.
    times: Option<bool>,
    /// `json` (one `Line` in JSON a line, the default) or `text` (the bytes as they are).
    format: Option<Format>,
}

/// Response formats.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Format {
    /// JSON lines.
    Json,
    /// Text.
    Text,
}

/// One container's log, streamed. In JSON form notes (`{"note": …}`) may appear between the lines, and a failure in the
/// middle is a last line `{"problem": …}`; in text form the answer is interrupted. A followed log continues over
/// restarts and replacements of the container until the reader leaves.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/logs", tag = "containers",
    params(("host" = String, Path), ("container" = String, Path), LogParams), responses(
    (status = 200, body = Line, content_type = "application/x-ndjson"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn read(
    State(context): State<Arc<LogsContext>>,
    who: Identity,
    view: View,
    Path((host, name)): Path<(String, String)>,
    Params(params): Params<LogParams>,
) -> Result<Response, ApiError> {
    let share = context.budgets.take(who.member_id, BudgetKind::Log, 1)?;
    let container = view.find_on(&host, &name)?;
    let wish = LogRequest {
        references: vec![container.reference()],
        tail: params.tail,
        since: params.since.clone(),
        until: params.until.clone(),
        follow: params.follow.unwrap_or(false),
        only: only(&params)?,
        ..LogRequest::default()
    };
    if context.segments.bytes(&container.host, &container.name) == 0 {
        // Nothing can be shown without its engine.
        context.links.engine(&container.host)?;
    }
    let text = params.format == Some(Format::Text);
    let times = params.times.unwrap_or(false);
    let render = move |_: &Filter, lines| write(lines, text, times);
    let merger =
        LogMerger::open(&context, (who.member_id, &view), &wish, |field| format!("?{field}"), render).await?;
    let end = context.end.clone();
    let stream = futures_util::stream::unfold(Some(merger), move |merger| {
        let _share = &share;
        let end = end.clone();
        async move {
            let mut merger = merger?;
            match end.run_until_cancelled(merger.next()).await?? {
                MergerEvent::Lines(bytes) => Some((Ok(bytes), Some(merger))),
                // In text there is no place for it but between the container's own lines.
                MergerEvent::Note(_) | MergerEvent::Progress(_) if text => {
                    Some((Ok(Bytes::new()), Some(merger)))
                }
                MergerEvent::Note(note) => Some((Ok(json_line("note", note.note)), Some(merger))),
                MergerEvent::Progress(_) => Some((Ok(Bytes::new()), Some(merger))),
                MergerEvent::Failed(_, error) if text => {
                    Some((Err(std::io::Error::other(error.to_string())), None))
                }
                MergerEvent::Failed(_, error) => {
                    Some((Ok(json_line("problem", ApiError::from(error).problem)), None))
                }
            }
        }
    });
    let kind = if text { "text/plain; charset=utf-8" } else { NDJSON };
    Ok(([(header::CONTENT_TYPE, kind)], Body::from_stream(stream)).into_response())
}

/// The one stream that is wanted, if it is only one.
fn only(params: &LogParams) -> Result<Option<OutputStream>, ApiError> {
    match (params.stdout.unwrap_or(true), params.stderr.unwrap_or(true)) {
        (true, true) => Ok(None),
        (true, false) => Ok(Some(OutputStream::Stdout)),
        (false, true) => Ok(Some(OutputStream::Stderr)),
        (false, false) => {
            Err(ApiError::invalid("?stdout", "standard output and standard error are both off; leave one on"))
        }
    }
}

fn json_line(name: &str, value: impl Serialize) -> Bytes {
    Bytes::from(serde_json::json!({ name: value }).to_string() + "\n")
}

fn write(lines: Vec<MergedLine>, text: bool, times: bool) -> Bytes {
    let mut out = Vec::with_capacity(lines.iter().map(|l| l.line.bytes.len() + 96).sum());
    for MergedLine { line, .. } in lines {
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
