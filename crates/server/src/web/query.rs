//! What query strings of several lists have in common: a page of a list, and a host that it is narrowed to.

use serde::Deserialize;
use utoipa::IntoParams;

use crate::fleet::Hub;
use crate::web::problem::ApiError;

/// How many entries a page can have.
pub(crate) const PAGE: std::ops::RangeInclusive<u32> = 1..=1000;

/// A page of a list that grows at its end.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct Page {
    /// Only those with a lower number: the last one of the page before.
    pub(crate) before: Option<u64>,
    /// How many, 100 when absent, at most 1000.
    pub(crate) limit: Option<u32>,
}

impl Page {
    /// How many entries are wanted.
    pub(crate) fn limit(&self) -> Result<u32, ApiError> {
        page_size(self.limit)
    }
}

/// The size of a page, 100 when nothing is said.
pub(crate) fn page_size(wished: Option<u32>) -> Result<u32, ApiError> {
    let size = wished.unwrap_or(100);
    if PAGE.contains(&size) {
        return Ok(size);
    }
    Err(ApiError::invalid("?limit", format!("limit is a number from {} to {}", PAGE.start(), PAGE.end())))
}

/// Refuses a `?host=` that the fleet does not have: an empty list would look like an answer.
pub(crate) fn known_host(hub: &Hub, host: Option<&str>) -> Result<(), ApiError> {
    match host {
        Some(host) => hub.know_host(host).map_err(|error| ApiError::from(error).at("?host")),
        None => Ok(()),
    }
}
