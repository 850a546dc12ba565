//! Times as people write them: RFC 3339, a day, or an age such as `15m`.

use jiff::{SignedDuration, Timestamp, civil};

/// A time that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MomentError {
    /// It has no known form.
    #[error(
        "'{0}' is not a time; write it like '2026-11-23T05:30:00Z', '2026-11-23', or as an age such as '15m', '2h' or '3d'"
    )]
    Form(String),
    /// It has not come yet.
    #[error("'{0}' is in the future; give a past time")]
    Future(String),
}

/// Reads a time, given that it is `now`. Days without a time begin at midnight UTC.
///
/// ```
/// use gubernum_core::moment::parse;
/// let now = "2026-11-23T05:30:00Z".parse().unwrap();
/// assert_eq!(parse("90s", now).unwrap().to_string(), "2026-11-23T05:28:30Z");
/// ```
///
/// # Errors
/// When it cannot be read or is in the future.
pub fn parse(text: &str, now: Timestamp) -> Result<Timestamp, MomentError> {
    let text = text.trim();
    let form = || MomentError::Form(crate::text::shown(text, 60));
    let moment = if let Some(span) = span(text) {
        now.checked_sub(span).map_err(|_| form())?
    } else if let Ok(time) = text.parse::<Timestamp>() {
        time
    } else {
        let day: civil::Date = text.parse().map_err(|_| form())?;
        // Dates with anything behind them would be read leniently; hold to the plain form.
        if text.len() != 10 {
            return Err(form());
        }
        day.at(0, 0, 0, 0).to_zoned(jiff::tz::TimeZone::UTC).map_err(|_| form())?.timestamp()
    };
    // A little of the future is only another clock.
    if moment.duration_since(now) > SignedDuration::from_secs(60) {
        return Err(MomentError::Future(crate::text::shown(text, 60)));
    }
    Ok(moment)
}

fn span(text: &str) -> Option<SignedDuration> {
    let digits = text.len() - text.trim_start_matches(|c: char| c.is_ascii_digit()).len();
    let (number, unit) = text.split_at(digits);
    let number: i64 = number.parse().ok()?;
    let unit = match unit {
        "s" => 1,
        "m" | "min" => 60,
        "h" => 3600,
        "d" => 86_400,
        "w" => 7 * 86_400,
        _ => return None,
    };
    // At most a thousand years, so that nothing overflows.
    (number <= 1000 * 366 * 86_400 / unit).then(|| SignedDuration::from_secs(number * unit))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn now() -> Timestamp {
        "2026-11-23T05:30:00Z".parse().unwrap()
    }

    #[rstest]
    #[case("15m", "2026-11-23T05:15:00Z")]
    #[case("2h", "2026-11-23T03:30:00Z")]
    #[case("1w", "2026-11-16T05:30:00Z")]
    #[case("2026-11-22", "2026-11-22T00:00:00Z")]
    #[case("2026-11-23T05:00:00.5Z", "2026-11-23T05:00:00.5Z")]
    #[case("2026-11-23T06:00:00+01:00", "2026-11-23T05:00:00Z")]
    fn reads(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(parse(text, now()).unwrap().to_string(), expected);
    }

    #[rstest]
    #[case("")]
    #[case("15")]
    #[case("m")]
    #[case("yesterday")]
    #[case("2026-11-23T05:00")]
    #[case("99999999999999999999d")]
    fn refuses(#[case] text: &str) {
        assert!(matches!(parse(text, now()), Err(MomentError::Form(_))), "{:?}", parse(text, now()));
    }

    #[test]
    fn the_future_is_refused() {
        assert!(matches!(parse("2027-01-01", now()), Err(MomentError::Future(_))));
    }

    proptest! {
        #[test]
        fn never_panics(text in "[0-9a-zTZ:+. -]{0,30}") {
            let _ = parse(&text, now());
        }
    }
}
