//! Query parameters that several lists share: page size, text and time filters, and a host.

use gubernum_core::moment;
use jiff::Timestamp;

use crate::fleet::View;
use crate::web::problem::ApiError;

/// How many entries a page can have.
pub(crate) const PAGE: std::ops::RangeInclusive<u32> = 1..=1000;

/// The longest text that a list is filtered by, in bytes.
pub(crate) const LONGEST_TEXT: usize = 200;

/// The size of a page, 100 when nothing is said.
pub(crate) fn page_size(requested: Option<u32>) -> Result<u32, ApiError> {
    let size = requested.unwrap_or(100);
    if PAGE.contains(&size) {
        return Ok(size);
    }
    Err(ApiError::invalid("?limit", format!("'limit' must be from {} to {}", PAGE.start(), PAGE.end())))
}

/// A text to filter by, without spaces around it; nothing when nothing is left.
pub(crate) fn text(name: &str, text: Option<String>) -> Result<Option<String>, ApiError> {
    match text {
        Some(text) if text.len() > LONGEST_TEXT => Err(ApiError::invalid(
            format!("?{name}"),
            format!("{name} has at most {LONGEST_TEXT} characters"),
        )),
        text => Ok(text.map(|t| t.trim().to_owned()).filter(|t| !t.is_empty())),
    }
}

/// A time to filter by: RFC 3339, a day, or a span back from now.
pub(crate) fn time(name: &str, text: Option<&str>, now: Timestamp) -> Result<Option<Timestamp>, ApiError> {
    let read = text.map(|text| moment::parse(text, now)).transpose();
    read.map_err(|error| ApiError::invalid(format!("?{name}"), error.to_string()))
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
        let size = page_size(limit);
        let size = size.map_err(|error| error.problem.field.unwrap_or_default());
        assert_eq!(size.as_ref().map_err(String::as_str), expected.as_ref().map_err(|e| *e));
    }

    #[rstest]
    #[case(None, Ok(None))]
    #[case(Some("  ".into()), Ok(None))]
    #[case(Some(" frost ".into()), Ok(Some("frost")))]
    #[case(Some("x".repeat(LONGEST_TEXT + 1)), Err("?object"))]
    fn a_text_to_filter_by_is_trimmed_and_short(
        #[case] given: Option<String>,
        #[case] expected: Result<Option<&str>, &str>,
    ) {
        let read = text("object", given).map_err(|error| error.problem.field.unwrap_or_default());
        assert_eq!(read.as_ref().map(Option::as_deref).map_err(String::as_str), expected);
    }

    #[test]
    fn a_list_of_a_host_that_is_not_there_is_no_empty_list() {
        let view = View::whole(std::sync::Arc::new(crate::fleet::Hub::new("e".into(), None)));
        assert!(known_host(&view, None).is_ok());
        let error = known_host(&view, Some("packhouse")).unwrap_err();
        assert_eq!((error.problem.status, error.problem.field.as_deref()), (404, Some("?host")));
    }
}
