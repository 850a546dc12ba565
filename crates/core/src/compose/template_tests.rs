use proptest::prelude::*;
use rstest::rstest;

use super::*;

/// Filled in where `SET` is `value`, `EMPTY` is empty and nothing else is known.
fn filled(text: &str) -> Result<String, FillError> {
    let lookup = |name: &str| match name {
        "SET" => Some("value".to_owned()),
        "EMPTY" => Some(String::new()),
        _ => None,
    };
    Template::read(text).unwrap().fill(Unset::Empty, &lookup)
}

#[rstest]
#[case::no_variable("plain text", "plain text")]
#[case::nothing("", "")]
#[case::a_dollar_sign("costs $$5, $$SET, $${SET}", "costs $5, $SET, ${SET}")]
#[case::without_braces("a-$SET-b", "a-value-b")]
#[case::a_name_ends_where_it_must("$SET.x $SET2 ${SET}2", "value.x  value2")]
#[case::unknown_is_empty("[${UNKNOWN}]", "[]")]
#[case::default_if_unset_or_empty("${SET:-d} ${EMPTY:-d} ${UNKNOWN:-d}", "value d d")]
#[case::default_if_unset("${SET-d} ${EMPTY-d} ${UNKNOWN-d}", "value  d")]
#[case::replaced_if_not_empty("${SET:+r} ${EMPTY:+r} ${UNKNOWN:+r}", "r  ")]
#[case::replaced_if_set("${SET+r} ${EMPTY+r} ${UNKNOWN+r}", "r r ")]
#[case::demanded_and_there("${SET:?needed} ${SET?needed} ${EMPTY?needed}", "value value ")]
#[case::nested("${UNKNOWN:-${EMPTY:-${SET}}}", "value")]
#[case::nested_without_braces("${UNKNOWN:-$SET}", "value")]
#[case::a_default_may_be_anything("${UNKNOWN:-http://a:1/?b=c&d={e}", "http://a:1/?b=c&d={e")]
#[case::braces_close_the_nearest("${UNKNOWN:-a}}", "a}")]
#[case::an_empty_default("[${UNKNOWN:-}]", "[]")]
#[case::a_dollar_in_a_default("${UNKNOWN:-$$}", "$")]
#[case::a_brace_alone("}{", "}{")]
fn values_are_filled_in(#[case] text: &str, #[case] expected: &str) {
    assert_eq!(filled(text).unwrap(), expected);
}

#[rstest]
#[case("${UNKNOWN:?set it to the host's name}", "'UNKNOWN' must be set: set it to the host's name")]
#[case("${EMPTY:?not empty}", "'EMPTY' must be set: not empty")]
#[case("${UNKNOWN?}", "'UNKNOWN' must be set")]
#[case("${UNKNOWN:?like $SET}", "'UNKNOWN' must be set: like value")]
#[case("${SET:+${UNKNOWN:?both}}", "'UNKNOWN' must be set: both")]
fn what_is_demanded_is_reported(#[case] text: &str, #[case] expected: &str) {
    assert_eq!(filled(text).unwrap_err().to_string(), expected);
}

#[rstest]
#[case::nothing_follows("a $", 2, "'$$'")]
#[case::a_digit("a $1", 2, "'$$'")]
#[case::no_name("${}", 0, "'$$'")]
#[case::a_space("${ SET}", 0, "'$$'")]
#[case::not_closed("x${SET", 1, "not closed")]
#[case::default_not_closed("${SET:-d", 0, "not closed")]
#[case::inner_not_closed("${SET:-${A}", 0, "not closed")]
#[case::colon_alone("${SET:}", 6, "':-'")]
#[case::another_sign("${SET=d}", 5, "':-'")]
fn errors_are_pointed_at(#[case] text: &str, #[case] offset: usize, #[case] word: &str) {
    let error = Template::read(text).unwrap_err();
    assert_eq!(error.offset, offset, "{error}");
    assert!(error.sentence.contains(word), "{error}");
}

#[test]
fn how_deep_and_how_long_is_bounded() {
    let deep = |n: usize| format!("{}x{}", "${A:-".repeat(n), "}".repeat(n));
    assert!(Template::read(&deep(DEEPEST)).is_ok());
    assert!(Template::read(&deep(DEEPEST + 1)).unwrap_err().sentence.contains("deep"));
    let many = Template::read(&"$A".repeat(100)).unwrap();
    let long = |_: &str| Some("x".repeat(LONGEST_FILLED / 50));
    assert_eq!(many.fill(Unset::Empty, &long), Err(FillError::TooLong));
}

#[test]
fn variables_are_listed_with_their_places() {
    let template = Template::read("$A and ${B:-${C?why}} ${D+e}").unwrap();
    let listed: Vec<(&str, usize)> =
        template.variables().iter().map(|v| (v.name.as_str(), v.offset)).collect();
    assert_eq!(listed, [("A", 0), ("B", 7), ("C", 12), ("D", 22)]);
    assert_eq!((template.plain(), Template::read("a$$b").unwrap().plain()), (None, Some("a$b")));
}

proptest! {
    #[test]
    fn any_text_is_read_or_refused_at_a_place_in_it(text in any::<String>()) {
        if let Err(error) = Template::read(&text) {
            prop_assert!(text.is_char_boundary(error.offset) && error.offset <= text.len());
        }
    }

    #[test]
    fn what_is_written_is_read_back(text in "([a-z $]|\\$\\{?[A-C](:?[-?+])?|\\}){0,30}") {
        if let Ok(template) = Template::read(&text) {
            // Where variables begin depends on how the text is written.
            let again = Template::read(&template.to_string()).unwrap();
            let lookup = |name: &str| match name { "A" => Some("a".to_owned()), "B" => Some(String::new()), _ => None };
            prop_assert_eq!(again.fill(Unset::Empty, &lookup), template.fill(Unset::Empty, &lookup));
            prop_assert_eq!(again.to_string(), template.to_string());
        }
    }

    #[test]
    fn a_text_without_dollars_is_itself(text in "[^$]{0,60}") {
        prop_assert_eq!(Template::read(&text).unwrap().fill(Unset::Empty, &|_| None).unwrap(), text);
    }
}
