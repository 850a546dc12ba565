//! The ranking of usage: which containers used most of one figure over a period, removed ones included while their history is kept.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gubernum_api::usage::{RankedUsage, Ranking};
use gubernum_api::{Figure, Problem};
use gubernum_core::history::series::summary;
use gubernum_core::moment;
use jiff::Timestamp;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::fleet::{Seen, View};
use crate::usage::UsageContext;
use crate::usage::history::MOST_SERIES;
use crate::web::extract::Params;
use crate::web::problem::ApiError;

/// Steps that are looked at: the peak's time is told to one of them.
const STEPS: u32 = 300;
/// The most rows of one answer, and the usual ones.
pub(crate) const MOST_ROWS: u32 = 1000;
const USUAL_ROWS: u32 = 100;

/// What is ranked.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct RankingParams {
    /// The figure: `processors`, `memory`, `network-in`, `network-out`, `disk-read`, `disk-write` or `processes`.
    figure: String,
    /// Start: RFC 3339, a day, or a span back from now; `7d` when absent.
    since: Option<String>,
    /// End; now when absent.
    until: Option<String>,
    /// Only on this host.
    host: Option<String>,
    /// Only containers that are in this stack now.
    stack: Option<String>,
    /// Maximum number of rows, 100 when absent.
    limit: Option<u32>,
}

/// The ranking of usage: containers by the mean of one figure over a period, largest first, with the peak and its time. Removed
/// containers are included while their history is kept.
#[utoipa::path(get, path = "/api/v1/usage-ranking", tag = "usage", params(RankingParams), responses(
    (status = 200, body = Ranking),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn ranking(
    State(context): State<Arc<UsageContext>>,
    view: View,
    Params(wish): Params<RankingParams>,
) -> Result<Json<Ranking>, ApiError> {
    let figure = wish.figure.parse::<Figure>().map_err(|_| {
        let known = Figure::ALL.map(Figure::word).join(", ");
        ApiError::invalid("?figure", format!("unknown figure '{}'; use one of: {known}", wish.figure))
    })?;
    let limit = wish.limit.unwrap_or(USUAL_ROWS);
    if !(1..=MOST_ROWS).contains(&limit) {
        return Err(ApiError::invalid("?limit", format!("'limit' must be from 1 to {MOST_ROWS}")));
    }
    let now = context.clock.now();
    let time = |name: &str, text: &str| {
        moment::parse(text, now).map_err(|e| ApiError::invalid(format!("?{name}"), e.to_string()))
    };
    let since = time("since", wish.since.as_deref().unwrap_or("7d"))?;
    let until = wish.until.as_deref().map_or(Ok(now), |t| time("until", t))?;
    if since >= until {
        return Err(ApiError::invalid("?until", "'until' is not after 'since'; swap them"));
    }
    let seen = Seen::of(&view);
    let there: HashMap<(String, String), Option<String>> = view.look(|fleet| {
        fleet.containers().map(|c| ((c.host.clone(), c.name.clone()), c.stack.clone())).collect()
    });
    let hosts: Vec<String> = view.look(|fleet| fleet.hosts().map(|h| h.name.clone()).collect());
    let hosts = hosts.into_iter().filter(|h| wish.host.as_deref().is_none_or(|wanted| wanted == h));
    let keys: Vec<(String, String)> = hosts
        .flat_map(|host| {
            let names = context.uses.history.names(&host);
            names.into_iter().map(move |name| (host.clone(), name))
        })
        .filter(|(host, name)| seen.has(host, name))
        .filter(|key| wish.stack.is_none() || there.get(key).is_some_and(|stack| *stack == wish.stack))
        .collect();
    let kept = context.uses.history.clone();
    let range = (since.as_second(), until.as_second() + 1);
    let now = now.as_second();
    let looked = tokio::task::spawn_blocking(move || {
        let (mut rows, mut step) = (Vec::new(), 0);
        // A part at a time: what thousands of series hold is never in memory at once.
        for part in keys.chunks(MOST_SERIES / 4) {
            let groups: Vec<Vec<(String, String)>> = part.iter().map(|key| vec![key.clone()]).collect();
            let answer = kept.answer(&groups, range, STEPS, now)?;
            step = answer.step;
            let found = part.iter().zip(&answer.series);
            rows.extend(
                found.filter_map(|(key, buckets)| Some((key.clone(), summary(buckets, figure.index())?))),
            );
        }
        rows.sort_by(|a, b| b.1.mean.total_cmp(&a.1.mean).then_with(|| a.0.cmp(&b.0)));
        Ok::<_, gubernum_store::StoreError>((rows, step))
    })
    .await;
    let (rows, step) =
        looked.map_err(|e| ApiError::new("internal", "Internal error", 500, e.to_string()))??;
    let containers = u32::try_from(rows.len()).unwrap_or(u32::MAX);
    let rows =
        rows.into_iter().take(usize::try_from(limit).unwrap_or(usize::MAX)).map(|((host, name), sum)| {
            let now = there.get(&(host.clone(), name.clone()));
            RankedUsage {
                is_there: now.is_some(),
                stack: now.cloned().flatten(),
                host,
                name,
                mean: sum.mean,
                peak: sum.peak,
                peak_at: Timestamp::from_second(sum.at).unwrap_or(since),
            }
        });
    Ok(Json(Ranking {
        figure,
        from: since,
        to: until,
        step: u32::try_from(step).unwrap_or(u32::MAX),
        containers,
        rows: rows.collect(),
    }))
}
