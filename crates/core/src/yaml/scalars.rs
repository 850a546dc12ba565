//! The meaning of scalars: by the core schema of YAML 1.2, or by their tag.

use std::borrow::Cow;

use saphyr_parser::Tag;

use super::tree::{MergeTag, Value};

/// What a scalar means, and what its tag says about merging.
///
/// # Errors
/// What is wrong with its tag, in a sentence.
pub(super) fn value(
    text: Cow<'_, str>,
    is_plain: bool,
    tag: Option<&Tag>,
) -> Result<(Value, Option<MergeTag>), String> {
    let Some(tag) = tag else { return Ok((untagged(text, is_plain), None)) };
    if !tag.is_yaml_core_schema() {
        return merge_tag(Some(tag), "str").map(|tag| (untagged(text, is_plain), tag));
    }
    let plain = untagged(Cow::Borrowed(&text), true);
    let value = match (&*tag.suffix, plain) {
        ("str", _) => Value::Text(text.into_owned()),
        ("null", Value::Null) => Value::Null,
        ("bool", value @ Value::Bool(_)) | ("int" | "float", value @ Value::Number(_)) => value,
        (suffix @ ("null" | "bool" | "int" | "float"), _) => {
            return Err(format!("'{}' is not of type '!!{suffix}'", crate::text::shown(&text, 80)));
        }
        (suffix, _) => return Err(unknown(&format!("!!{suffix}"))),
    };
    Ok((value, None))
}

/// What a tag says about merging; `kind` is the core type that the tagged value has.
///
/// # Errors
/// That the tag is not known, in a sentence.
pub(super) fn merge_tag(tag: Option<&Tag>, kind: &str) -> Result<Option<MergeTag>, String> {
    let Some(tag) = tag else { return Ok(None) };
    match (&*tag.handle, &*tag.suffix) {
        ("!", "reset") => Ok(Some(MergeTag::Reset)),
        ("!", "override") => Ok(Some(MergeTag::Override)),
        (_, suffix) if tag.is_yaml_core_schema() && suffix == kind => Ok(None),
        (_, suffix) if tag.is_yaml_core_schema() => Err(unknown(&format!("!!{suffix}"))),
        (handle, suffix) => Err(unknown(&format!("{handle}{suffix}"))),
    }
}

fn unknown(tag: &str) -> String {
    format!("unknown tag '{}'; use '!reset' or '!override'", crate::text::shown(tag, 80))
}

fn untagged(text: Cow<'_, str>, is_plain: bool) -> Value {
    if !is_plain {
        return Value::Text(text.into_owned());
    }
    match &*text {
        "" | "~" | "null" | "Null" | "NULL" => Value::Null,
        "true" | "True" | "TRUE" => Value::Bool(true),
        "false" | "False" | "FALSE" => Value::Bool(false),
        text if is_number(text) => Value::Number(text.to_owned()),
        _ => Value::Text(text.into_owned()),
    }
}

/// Whether a text is a number of the core schema: decimal, `0o17`, `0x1f`, with a fraction, an exponent, or `.inf`, `.nan`.
fn is_number(text: &str) -> bool {
    let digits = |t: &str, radix: u32| !t.is_empty() && t.chars().all(|c| c.is_digit(radix));
    if let Some(octal) = text.strip_prefix("0o") {
        return digits(octal, 8);
    }
    if let Some(hexadecimal) = text.strip_prefix("0x") {
        return digits(hexadecimal, 16);
    }
    let unsigned = text.strip_prefix(['-', '+']).unwrap_or(text);
    if matches!(unsigned, ".inf" | ".Inf" | ".INF") || matches!(text, ".nan" | ".NaN" | ".NAN") {
        return true;
    }
    let (mantissa, exponent) = match unsigned.split_once(['e', 'E']) {
        Some((mantissa, exponent)) => (mantissa, Some(exponent.strip_prefix(['-', '+']).unwrap_or(exponent))),
        None => (unsigned, None),
    };
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let has_digits = digits(whole, 10) || (whole.is_empty() && digits(fraction, 10));
    has_digits && (fraction.is_empty() || digits(fraction, 10)) && exponent.is_none_or(|e| digits(e, 10))
}
