//! Resource usage, current and past.

use std::sync::Arc;

use axum::Json;
use axum::extract::{RawQuery, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use gubernum_api::usage::{CurrentUsage, FigureHistory, History, SeriesHistory};
use gubernum_api::{Container, Figure, Problem};
use gubernum_core::history::Bucket;
use gubernum_core::moment;
use gubernum_core::reference::Reference;
use jiff::Timestamp;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::fleet::{Seen, View};
use crate::usage::UsageContext;
use crate::usage::history::MOST_SERIES;
use crate::web::extract::{Params, pairs};
use crate::web::problem::ApiError;

/// The most steps of one answer.
pub(crate) const MOST_POINTS: u32 = 5000;
/// The most series of one answer.
const MOST_ANSWERED: usize = 50;

/// Narrows down whose use is reported.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct UsageParams {
    /// Only matches of this reference, e.g. `*/frost-*`.
    reference: Option<String>,
    /// Only of this stack.
    stack: Option<String>,
    /// Only on this host.
    host: Option<String>,
}

/// Current usage of the running containers, with recent samples.
#[utoipa::path(get, path = "/api/v1/usage", tag = "usage", params(UsageParams), responses(
    (status = 200, body = Vec<CurrentUsage>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn now(
    State(context): State<Arc<UsageContext>>,
    view: View,
    Params(wish): Params<UsageParams>,
) -> Result<Json<Vec<CurrentUsage>>, ApiError> {
    let reference = wish.reference.as_deref().map(str::parse::<Reference>).transpose();
    let reference = reference.map_err(|e| ApiError::from(e).at("?reference"))?;
    let seen = Seen::of(&view);
    let mut all = context.uses.now(|u| {
        seen.has(&u.host, &u.name)
            && wish.host.as_deref().is_none_or(|h| h == u.host)
            && wish.stack.as_deref().is_none_or(|s| u.stack.as_deref() == Some(s))
            && reference.as_ref().is_none_or(|r| r.matches(&u.host, &u.name))
    });
    all.sort_by(|a, b| (&a.host, &a.name).cmp(&(&b.host, &b.name)));
    Ok(Json(all))
}

/// The fields of a question about history, for its description; several may be given more than once.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[allow(dead_code, reason = "only its description is used; the query itself may repeat fields")]
pub(crate) struct HistoryParams {
    /// References; each matching container is a series, removed ones included.
    reference: Option<String>,
    /// Stacks, each the sum of its containers.
    stack: Option<String>,
    /// Hosts, each the sum of its containers.
    host: Option<String>,
    /// Figures: `processors`, `memory`, `memory-limit`, `network-in`, `network-out`, `disk-read`, `disk-write`,
    /// `processes`. All when absent.
    figure: Option<String>,
    /// Start: RFC 3339, a day, or a span back from now; `1h` when absent.
    since: Option<String>,
    /// End; now when absent.
    until: Option<String>,
    /// Maximum number of steps; 600 when absent.
    points: Option<u32>,
    /// `json` or `csv`.
    format: Option<String>,
}

#[derive(Default)]
struct HistoryQuery {
    references: Vec<String>,
    stacks: Vec<String>,
    hosts: Vec<String>,
    figures: Vec<Figure>,
    since: Option<String>,
    until: Option<String>,
    points: Option<u32>,
    csv: bool,
}

impl HistoryQuery {
    fn read(query: Option<&str>) -> Result<Self, ApiError> {
        let mut out = Self::default();
        for (name, value) in pairs(query) {
            let at = format!("?{name}");
            match name.as_str() {
                "reference" => out.references.push(value),
                "stack" => out.stacks.push(value),
                "host" => out.hosts.push(value),
                "figure" => {
                    let figure = value.parse::<Figure>().map_err(|_| {
                        let known = Figure::ALL.map(Figure::word).join(", ");
                        ApiError::invalid(&at, format!("unknown figure '{value}'; use one of: {known}"))
                    })?;
                    out.figures.push(figure);
                }
                "since" => out.since = Some(value),
                "until" => out.until = Some(value),
                "points" => {
                    let points = value.parse().ok().filter(|p| (1..=MOST_POINTS).contains(p));
                    let text = format!("'points' must be from 1 to {MOST_POINTS}");
                    out.points = Some(points.ok_or_else(|| ApiError::invalid(&at, text))?);
                }
                "format" if value == "csv" || value == "json" => out.csv = value == "csv",
                "format" => return Err(ApiError::invalid(at, "'format' must be 'json' or 'csv'")),
                _ => {
                    let text = format!("the query cannot be read: unknown field '{name}'");
                    return Err(ApiError::new("malformed", "Malformed request", 400, text).at(at));
                }
            }
        }
        if out.figures.is_empty() {
            out.figures = Figure::ALL.to_vec();
        }
        Ok(out)
    }
}

/// Usage history: minimum, mean and maximum of each step. The step is the finest that is kept for the period and that
/// `points` allows; the answer names it. `null` is a gap.
#[utoipa::path(get, path = "/api/v1/history", tag = "usage", params(HistoryParams), responses(
    (status = 200, body = History),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn history(
    State(context): State<Arc<UsageContext>>,
    view: View,
    RawQuery(query): RawQuery,
) -> Result<Response, ApiError> {
    let question = HistoryQuery::read(query.as_deref())?;
    let now = context.clock.now();
    let time = |name: &str, text: &str| {
        moment::parse(text, now).map_err(|e| ApiError::invalid(format!("?{name}"), e.to_string()))
    };
    let since = time("since", question.since.as_deref().unwrap_or("1h"))?;
    let until = question.until.as_deref().map_or(Ok(now), |t| time("until", t))?;
    if since >= until {
        return Err(ApiError::invalid("?until", "'until' is not after 'since'; swap them"));
    }
    let groups = groups(&context, &view, &question)?;
    let names: Vec<String> = groups.iter().map(|g| g.0.clone()).collect();
    // The memory of a host is its machine's; that of a stack has no bound of its own, whatever its containers have.
    let wholes: Vec<Option<Option<f64>>> = view.look(|fleet| {
        let whole = |(name, members): &Group| {
            let host = question.hosts.contains(name).then(|| fleet.host(name)).flatten();
            match host {
                Some(host) => Some(host.machine.memory_total.map(|bytes| bytes as f64)),
                None if question.stacks.contains(name) && members.len() != 1 => Some(None),
                None => None,
            }
        };
        groups.iter().map(whole).collect()
    });
    let keys: Vec<Vec<(String, String)>> = groups.into_iter().map(|g| g.1).collect();
    let count: usize = keys.iter().map(Vec::len).sum();
    if keys.len() > MOST_ANSWERED || count > MOST_SERIES {
        let text = format!(
            "{} series of {count} containers match, at most {MOST_ANSWERED} of {MOST_SERIES} are allowed; narrow it down",
            keys.len()
        );
        return Err(ApiError::invalid("?reference", text));
    }
    let points = question.points.unwrap_or(600);
    let range = (since.as_second(), until.as_second() + 1);
    let kept = context.uses.history.clone();
    let answer =
        tokio::task::spawn_blocking(move || kept.answer(&keys, range, points, now.as_second())).await;
    let answer = answer.map_err(|e| ApiError::new("internal", "Internal error", 500, e.to_string()))??;
    let begin = range.0.div_euclid(answer.step) * answer.step;
    let times: Vec<i64> = (begin..range.1).step_by(usize::try_from(answer.step).unwrap_or(1)).collect();
    let series =
        names.into_iter().zip(&answer.series).zip(wholes).map(|((name, buckets), whole)| SeriesHistory {
            name,
            figures: question
                .figures
                .iter()
                .map(|&f| match (f, &whole) {
                    (Figure::MemoryLimit, Some(limit)) => constant(f, &times, *limit),
                    _ => column(f, &times, buckets),
                })
                .collect(),
        });
    let history = History {
        from: Timestamp::from_second(begin).unwrap_or(since),
        to: until,
        step: u32::try_from(answer.step).unwrap_or(u32::MAX),
        damaged: answer.damaged,
        series: series.collect(),
        times,
    };
    if question.csv {
        let headers = [
            (header::CONTENT_TYPE, "text/csv; charset=utf-8"),
            (header::CONTENT_DISPOSITION, "attachment; filename=\"resource-history.csv\""),
        ];
        return Ok((headers, csv(&history)).into_response());
    }
    Ok(Json(history).into_response())
}

type Group = (String, Vec<(String, String)>);

fn groups(context: &UsageContext, view: &View, question: &HistoryQuery) -> Result<Vec<Group>, ApiError> {
    let seen = Seen::of(view);
    let mut out: Vec<Group> = Vec::new();
    let key = |c: &Container| (c.host.clone(), c.name.clone());
    for text in &question.references {
        let reference: Reference = text.parse().map_err(|e| ApiError::from(e).at("?reference"))?;
        let mut found: Vec<(String, String)> = view.look(|fleet| {
            let now = reference.resolve(fleet.containers()).map(|all| all.into_iter().map(key).collect());
            // Also those that are gone and whose history is kept.
            let mut all: Vec<(String, String)> = now.unwrap_or_default();
            for host in fleet.hosts() {
                let names = context.uses.history.names(&host.name).into_iter();
                all.extend(
                    names
                        .filter(|n| reference.matches(&host.name, n) && seen.has(&host.name, n))
                        .map(|n| (host.name.clone(), n)),
                );
            }
            all
        });
        found.sort();
        found.dedup();
        if found.is_empty() {
            let text = format!(
                "nothing in the fleet or its history matches '{}'",
                gubernum_core::text::shown(text, 80)
            );
            return Err(ApiError::not_found(text).at("?reference"));
        }
        out.extend(found.into_iter().map(|(host, name)| (format!("{host}/{name}"), vec![(host, name)])));
    }
    view.look(|fleet| {
        for stack in &question.stacks {
            let of = fleet.containers().filter(|c| c.stack.as_ref() == Some(stack)).map(key).collect();
            out.push((stack.clone(), of));
        }
        for host in &question.hosts {
            if fleet.host(host).is_none() {
                return Err(ApiError::not_found(format!(
                    "no host '{}'",
                    gubernum_core::text::shown(host, 80)
                ))
                .at("?host"));
            }
            let names = context.uses.history.names(host).into_iter();
            let names = names.filter(|n| seen.has(host, n));
            out.push((host.clone(), names.map(|n| (host.clone(), n)).collect()));
        }
        Ok(())
    })?;
    if out.is_empty() {
        let text = "say whose history: a 'reference', a 'stack' or a 'host'";
        return Err(ApiError::invalid("?reference", text));
    }
    Ok(out)
}

/// One figure that is the same at each time, or not known.
fn constant(figure: Figure, times: &[i64], value: Option<f64>) -> FigureHistory {
    let all = vec![value; times.len()];
    FigureHistory { figure, min: all.clone(), mean: all.clone(), max: all }
}

/// One figure at each time; both are in order.
fn column(figure: Figure, times: &[i64], buckets: &[Bucket]) -> FigureHistory {
    let mut out = FigureHistory { figure, min: Vec::new(), mean: Vec::new(), max: Vec::new() };
    let mut buckets = buckets.iter().peekable();
    for &time in times {
        while buckets.peek().is_some_and(|b| b.time < time) {
            buckets.next();
        }
        let point = buckets.peek().filter(|b| b.time == time).and_then(|b| b.points[figure.index()]);
        out.min.push(point.map(|p| p.min));
        out.mean.push(point.map(|p| p.mean));
        out.max.push(point.map(|p| p.max));
    }
    out
}

/// One line for each time, series and figure of which something is known.
fn csv(history: &History) -> String {
    let mut out = String::from("time,name,figure,min,mean,max\n");
    for series in &history.series {
        // A name has no quotation marks, but may begin like a formula to a spreadsheet.
        let name = if series.name.starts_with(['=', '+', '-', '@']) {
            format!("'{}", series.name)
        } else {
            series.name.clone()
        };
        for figure in &series.figures {
            for (n, &time) in history.times.iter().enumerate() {
                let (Some(min), Some(mean), Some(max)) = (figure.min[n], figure.mean[n], figure.max[n])
                else {
                    continue;
                };
                let time = Timestamp::from_second(time).map(|t| t.to_string()).unwrap_or_default();
                out.push_str(&format!("{time},{name},{},{min},{mean},{max}\n", figure.figure.word()));
            }
        }
    }
    out
}
