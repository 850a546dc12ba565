//! What query strings of several lists have in common: a page of a list, and a host that it is narrowed to.

use serde::Deserialize;
use utoipa::IntoParams;

use crate::fleet::View;
use crate::web::problem::ApiError;

/// How many entries a page can have.
pub(crate) const PAGE: std::ops::RangeInclusive<u32> = 1..=1000;

/// A page of a list that grows at its end.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct Page {
    /// Only entries before this number; for the next page, the last number of this one.
    pub(crate) before: Option<u64>,
    /// Maximum number of entries; 100 when absent, at most 1000.
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
pub(crate) fn known_host(view: &View, host: Option<&str>) -> Result<(), ApiError> {
    match host {
        Some(host) => view.know_host(host).map_err(|error| ApiError::from(error).at("?host")),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(None, Ok(100))]
    #[case(Some(1), Ok(1))]
    #[case(Some(1000), Ok(1000))]
    #[case(Some(0), Err("?limit"))]
    #[case(Some(1001), Err("?limit"))]
    fn a_page_has_a_size_within_limits(#[case] limit: Option<u32>, #[case] expected: Result<u32, &str>) {
        let size = Page { before: None, limit }.limit();
        let size = size.map_err(|error| error.problem.field.unwrap_or_default());
        assert_eq!(size.as_ref().map_err(String::as_str), expected.as_ref().map_err(|e| *e));
    }

    #[test]
    fn a_list_of_a_host_that_is_not_there_is_no_empty_list() {
        let view = View::whole(std::sync::Arc::new(crate::fleet::Hub::new("e".into(), None)));
        assert!(known_host(&view, None).is_ok());
        let error = known_host(&view, Some("packhouse")).unwrap_err();
        assert_eq!((error.problem.status, error.problem.field.as_deref()), (404, Some("?host")));
    }
}
