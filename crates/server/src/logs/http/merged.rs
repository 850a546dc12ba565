//! Logs of many containers over plain HTTP: merged by time, filtered, as JSON lines or text, optionally compressed.

use std::io::Write;
use std::sync::Arc;

use axum::body::{Body, Bytes};
use axum::extract::{RawQuery, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use flate2::Compression;
use flate2::write::GzEncoder;
use gubernum_api::Problem;
use gubernum_api::logs::{LogRequest, OutputStream, SourcedLine};
use gubernum_core::logs::filter::Filter;
use gubernum_core::logs::level::Level;
use serde::{Deserialize, Serialize};
use utoipa::IntoParams;

use crate::access::BudgetKind;
use crate::access::Identity;
use crate::fleet::View;
use crate::logs::LogsContext;
use crate::logs::{LogMerger, MergedLine, MergerEvent};
use crate::web::NDJSON;
use crate::web::extract::pairs;
use crate::web::problem::ApiError;

/// The fields of the query; `reference`, `with` and `without` may be given more than once.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[allow(dead_code, reason = "only its description is used; the query itself may repeat fields")]
pub(crate) struct LogParams {
    /// References such as `*/frost-*`.
    reference: Option<String>,
    /// All containers of this stack.
    stack: Option<String>,
    /// All containers with this label, as `name` or `name=value`.
    label: Option<String>,
    /// Only the last N matching lines of each.
    tail: Option<u32>,
    /// Only from this time: RFC 3339, a day, or a span back from now such as `15m`.
    since: Option<String>,
    /// Only until this time.
    until: Option<String>,
    /// Follow new lines as they come.
    follow: Option<bool>,
    /// Regular expressions that must all match.
    with: Option<String>,
    /// Regular expressions that must not match.
    without: Option<String>,
    /// Treat patterns as plain text.
    plain: Option<bool>,
    /// Ignore case.
    ignore_case: Option<bool>,
    /// Minimum level; lines without a level are left out.
    level: Option<Level>,
    /// Only `stdout` or only `stderr`.
    only: Option<OutputStream>,
    /// In text form: start each line with its time.
    times: Option<bool>,
    /// `json` (one `SourcedLine` a line, the default) or `text`.
    format: Option<String>,
    /// `gzip`: answer with a compressed file.
    compress: Option<String>,
}

#[derive(Default)]
struct Form {
    text: bool,
    times: bool,
    gzip: bool,
}

fn read(query: Option<&str>) -> Result<(LogRequest, Form), ApiError> {
    let (mut wish, mut form) = (LogRequest::default(), Form::default());
    for (name, value) in pairs(query) {
        let at = format!("?{name}");
        let flag = || match value.as_str() {
            "true" | "" => Ok(true),
            "false" => Ok(false),
            other => Err(ApiError::invalid(&at, format!("'{other}' is neither 'true' nor 'false'"))),
        };
        match name.as_str() {
            "reference" => wish.references.push(value),
            "stack" => wish.stack = Some(value),
            "label" => wish.label = Some(value),
            "tail" => {
                let tail = value.parse().map_err(|_| ApiError::invalid(&at, "'tail' must be a number"))?;
                wish.tail = Some(tail);
            }
            "since" => wish.since = Some(value),
            "until" => wish.until = Some(value),
            "follow" => wish.follow = flag()?,
            "with" => wish.with.push(value),
            "without" => wish.without.push(value),
            "plain" => wish.plain = flag()?,
            "ignore_case" | "any_case" => wish.ignore_case = flag()?,
            "level" => {
                let level = Level::from_word(&value);
                let text =
                    format!("'{value}' is not a level; use trace, debug, info, warning, error or fatal");
                wish.level = Some(level.ok_or_else(|| ApiError::invalid(&at, text))?);
            }
            "only" => {
                wish.only = Some(match value.as_str() {
                    "stdout" => OutputStream::Stdout,
                    "stderr" => OutputStream::Stderr,
                    _ => return Err(ApiError::invalid(at, "'only' must be 'stdout' or 'stderr'")),
                });
            }
            "times" => form.times = flag()?,
            "format" if value == "json" || value == "text" => form.text = value == "text",
            "format" => return Err(ApiError::invalid(at, "'format' must be 'json' or 'text'")),
            "compress" if value == "gzip" => form.gzip = true,
            "compress" => return Err(ApiError::invalid(at, "'compress' must be 'gzip'")),
            _ => {
                let text = format!("the query cannot be read: unknown field '{name}'");
                return Err(ApiError::new("malformed", "Malformed request", 400, text).at(at));
            }
        }
    }
    Ok((wish, form))
}

/// The logs of several containers, merged by time, streamed. In JSON form, notes (`{"source": …, "note": …}`) and,
/// while searching, progress (`{"reached": …}`) come between the lines.
#[utoipa::path(get, path = "/api/v1/logs", tag = "logs", params(LogParams), responses(
    (status = 200, body = SourcedLine, content_type = "application/x-ndjson"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn read_merged(
    State(context): State<Arc<LogsContext>>,
    who: Identity,
    view: View,
    RawQuery(query): RawQuery,
) -> Result<Response, ApiError> {
    let (wish, form) = read(query.as_deref())?;
    let share = context.budgets.take(who.member_id, BudgetKind::Log, 1)?;
    let (text, times) = (form.text, form.times);
    let name_field = |field: &str| format!("?{}", if field == "references" { "reference" } else { field });
    let render = move |filter: &Filter, lines| write_lines(filter, lines, text, times);
    let merger = LogMerger::open(&context, (who.member_id, &view), &wish, name_field, render).await?;
    let gzip = form.gzip.then(|| GzEncoder::new(Vec::new(), Compression::fast()));
    let kind = match (&gzip, form.text) {
        (Some(_), _) => "application/gzip",
        (None, true) => "text/plain; charset=utf-8",
        (None, false) => NDJSON,
    };
    let name =
        format!("logs.{}{}", if form.text { "txt" } else { "jsonl" }, if form.gzip { ".gz" } else { "" });
    let end = context.end.clone();
    let stream = futures_util::stream::unfold(Some((merger, gzip)), move |open| {
        let _share = &share;
        let end = end.clone();
        async move {
            let (mut merger, mut gzip) = open?;
            let Some(Some(told)) = end.run_until_cancelled(merger.next()).await else {
                // The end of a compressed file says that it is whole.
                let rest = gzip.and_then(|g| g.finish().ok()).filter(|r| !r.is_empty())?;
                return Some((Ok::<_, std::io::Error>(Bytes::from(rest)), None));
            };
            let mut bytes = write(told, text);
            if let Some(gzip) = &mut gzip {
                if let Err(e) = gzip.write_all(&bytes).and_then(|()| gzip.flush()) {
                    return Some((Err(e), None));
                }
                bytes = std::mem::take(gzip.get_mut());
            }
            Some((Ok(Bytes::from(bytes)), Some((merger, gzip))))
        }
    });
    let mut response = Body::from_stream(stream).into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, kind.parse().map_err(|_| ApiError::not_found("no such form"))?);
    if let Ok(value) = format!("attachment; filename=\"{name}\"").parse() {
        headers.insert(header::CONTENT_DISPOSITION, value);
    }
    Ok(response)
}

fn write(told: MergerEvent<Vec<u8>>, text: bool) -> Vec<u8> {
    match told {
        MergerEvent::Lines(bytes) => bytes,
        MergerEvent::Note(note) | MergerEvent::Failed(note, _) if text => {
            format!("# {}: {}\n", note.source, note.note).into_bytes()
        }
        MergerEvent::Note(note) | MergerEvent::Failed(note, _) => json_line(&note),
        MergerEvent::Progress(_) if text => Vec::new(),
        MergerEvent::Progress(progress) => json_line(&progress),
    }
}

fn json_line(value: &impl Serialize) -> Vec<u8> {
    let mut line = serde_json::to_vec(value).unwrap_or_default();
    line.push(b'\n');
    line
}

fn write_lines(filter: &Filter, lines: Vec<MergedLine>, text: bool, times: bool) -> Vec<u8> {
    let mut out = Vec::with_capacity(lines.iter().map(|l| l.line.bytes.len() + 128).sum());
    for line in lines {
        if text {
            write_text(&line, times, &mut out);
        } else if serde_json::to_writer(&mut out, &line.into_wire(filter)).is_ok() {
            out.push(b'\n');
        }
    }
    out
}

fn write_text(MergedLine { source, line }: &MergedLine, times: bool, out: &mut Vec<u8>) {
    if let (true, Some(time)) = (times, line.time) {
        out.extend_from_slice(format!("{time} ").as_bytes());
    }
    out.extend_from_slice(source.as_bytes());
    out.extend_from_slice(b" | ");
    out.extend_from_slice(String::from_utf8_lossy(&line.bytes).as_bytes());
    out.push(b'\n');
}
