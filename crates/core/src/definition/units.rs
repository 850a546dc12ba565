//! Sizes and durations as people and the Compose Specification write them: `512m`, `1.5GiB`, `1m30s`.

/// Bytes of a size such as `512`, `512b`, `64k`, `1.5gb` or `2GiB`; a letter means a power of 1024.
pub fn bytes(text: &str) -> Option<u64> {
    let text = text.trim().to_ascii_lowercase();
    let at = text.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(text.len());
    let (number, unit) = text.split_at(at);
    let factor: u64 = match unit.trim() {
        "" | "b" => 1,
        "k" | "kb" | "ki" | "kib" => 1 << 10,
        "m" | "mb" | "mi" | "mib" => 1 << 20,
        "g" | "gb" | "gi" | "gib" => 1 << 30,
        "t" | "tb" | "ti" | "tib" => 1 << 40,
        _ => return None,
    };
    if let Ok(whole) = number.parse::<u64>() {
        return whole.checked_mul(factor);
    }
    let value = number.parse::<f64>().ok()? * factor as f64;
    (0.0..9e18).contains(&value).then_some(value.round() as u64)
}

/// A size in the largest unit that tells it exactly.
pub fn size(bytes: u64) -> String {
    for (shift, unit) in [(40, "t"), (30, "g"), (20, "m"), (10, "k")] {
        if bytes >= 1 << shift && bytes.is_multiple_of(1 << shift) {
            return format!("{}{unit}", bytes >> shift);
        }
    }
    format!("{bytes}b")
}

/// Milliseconds of a span such as `90s`, `1m30s`, `2h` or `500ms`.
pub fn millis(text: &str) -> Option<u64> {
    let mut rest = text.trim();
    let mut total = 0.0;
    if rest.is_empty() {
        return None;
    }
    while !rest.is_empty() {
        let at = rest.find(|c: char| !(c.is_ascii_digit() || c == '.'))?;
        let value: f64 = rest[..at].parse().ok()?;
        let after = &rest[at..];
        let end = after.find(|c: char| c.is_ascii_digit()).unwrap_or(after.len());
        total += value
            * match &after[..end] {
                "us" => 0.001,
                "ms" => 1.0,
                "s" => 1000.0,
                "m" => 60_000.0,
                "h" => 3_600_000.0,
                "d" => 86_400_000.0,
                _ => return None,
            };
        rest = &after[end..];
    }
    (total < 9e15).then_some(total.round() as u64)
}

/// A span in the form that [`millis`] reads.
pub fn span(ms: u64) -> String {
    if ms == 0 {
        return "0s".to_owned();
    }
    let mut out = String::new();
    let mut left = ms;
    for (unit, word) in [(3_600_000, "h"), (60_000, "m"), (1000, "s"), (1, "ms")] {
        if left >= unit {
            out.push_str(&format!("{}{word}", left / unit));
            left %= unit;
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("512", Some(512))]
    #[case("64k", Some(65_536))]
    #[case("1.5gb", Some(1_610_612_736))]
    #[case("2GiB", Some(2_147_483_648))]
    #[case("lots", None)]
    #[case("", None)]
    #[case("99999999999t", None)]
    fn sizes(#[case] text: &str, #[case] expected: Option<u64>) {
        assert_eq!(bytes(text), expected);
    }

    #[rstest]
    #[case("1m30s", Some(90_000))]
    #[case("500ms", Some(500))]
    #[case("1.5s", Some(1500))]
    #[case("10", None)]
    #[case("", None)]
    fn spans(#[case] text: &str, #[case] expected: Option<u64>) {
        assert_eq!(millis(text), expected);
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(n in 0u64..1 << 52) {
            prop_assert_eq!(bytes(&size(n)), Some(n));
            prop_assert_eq!(millis(&span(n >> 12)), Some(n >> 12));
        }
    }
}
