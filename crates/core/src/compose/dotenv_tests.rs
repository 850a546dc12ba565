use proptest::prelude::*;
use rstest::rstest;

use super::*;

fn outer(name: &str) -> Option<String> {
    (name == "SHELL_SAYS").then(|| "outside".to_owned())
}

fn one(text: &str) -> Option<String> {
    let all = read(text, 0, &outer).unwrap();
    assert_eq!(all.len(), 1, "{all:?}");
    assert_eq!(all[0].name, "VAR");
    all[0].value.clone()
}

#[rstest]
#[case("VAR=VAL", Some("VAL"))]
#[case("VAR=\"VAL\"", Some("VAL"))]
#[case("VAR='VAL'", Some("VAL"))]
#[case("  export VAR = VAL ", Some("VAL"))]
#[case("VAR: VAL", Some("VAL"))]
#[case::only_the_name("VAR", None)]
#[case::only_the_name_and_a_comment("VAR # later", None)]
#[case::empty("VAR=", Some(""))]
#[case::empty_and_a_comment("VAR= # later", Some(""))]
#[case::a_comment_behind_a_space("VAR=VAL # comment", Some("VAL"))]
#[case::no_comment_without_a_space("VAR=VAL# no comment", Some("VAL# no comment"))]
#[case::a_comment_behind_the_quote("VAR=\"VAL # no comment\" # comment", Some("VAL # no comment"))]
#[case::escaped_single_quote("VAR='Let\\'s go!'", Some("Let's go!"))]
#[case::escaped_double_quotes("VAR=\"{\\\"hello\\\": \\\"json\\\"}\"", Some("{\"hello\": \"json\"}"))]
#[case::escapes_in_double_quotes("VAR=\"a\\tb\\\\n\\nc\"", Some("a\tb\\n\nc"))]
#[case::no_escapes_in_single_quotes("VAR='a\\tb'", Some("a\\tb"))]
#[case::no_escapes_without_quotes("VAR=a\\tb", Some("a\\tb"))]
#[case::over_several_lines("VAR='one\ntwo'\n", Some("one\ntwo"))]
#[case::filled_in("VAR=$SHELL_SAYS/${NOBODY:-x}", Some("outside/x"))]
#[case::filled_in_in_double_quotes("VAR=\"$SHELL_SAYS\"", Some("outside"))]
#[case::not_in_single_quotes("VAR='$SHELL_SAYS'", Some("$SHELL_SAYS"))]
#[case::a_dollar_sign("VAR=\"\\$SHELL_SAYS $$5\"", Some("$SHELL_SAYS $5"))]
#[case::an_equals_sign("VAR=a=b:c", Some("a=b:c"))]
#[case::lines_of_windows("VAR=VAL\r\n\r\n", Some("VAL"))]
#[case::comments_and_empty_lines("\u{feff}# first\n\n   # second\nVAR=VAL\n#last", Some("VAL"))]
fn lines_are_read_as_the_specification_says(#[case] text: &str, #[case] expected: Option<&str>) {
    assert_eq!(one(text).as_deref(), expected);
}

#[test]
fn what_is_further_up_may_be_used_and_what_is_around_counts_more() {
    let all = read("A=1\nB=$A$A\nSHELL_SAYS=inside\nC=$SHELL_SAYS\nA=2\nD=$A", 4, &outer).unwrap();
    let said: Vec<String> =
        all.iter().map(|v| format!("{}={}", v.name, v.value.as_deref().unwrap_or("?"))).collect();
    assert_eq!(said, ["A=1", "B=11", "SHELL_SAYS=inside", "C=outside", "A=2", "D=2"]);
    assert_eq!(all[4].place, Place { file: 4, line: 5, column: 1 });
}

#[rstest]
#[case("A=1\n2B=x\nC=3", 2, 1, "'2B' is not a variable name")]
#[case("just words", 1, 1, "is not a variable name")]
#[case("A='open\nB=2\n", 1, 3, "the quote of 'A' is not closed")]
#[case("A=\"x\" y", 1, 7, "after the closing quote of 'A'")]
#[case("A=${B", 1, 3, "not closed")]
#[case("A=${B:?say which}", 1, 3, "'B' must be set: say which")]
fn errors_are_pointed_at(#[case] text: &str, #[case] line: u64, #[case] column: u64, #[case] words: &str) {
    let errors = read(text, 0, &outer).unwrap_err();
    assert!(errors[0].sentence.contains(words), "{errors:?}");
    assert_eq!((errors[0].place.line, errors[0].place.column), (line, column), "{errors:?}");
}

#[test]
fn all_errors_are_reported_and_limits_hold() {
    let errors = read("a b\nA=1\nc d\n", 0, &outer).unwrap_err();
    assert_eq!(errors.iter().map(|e| e.place.line).collect::<Vec<_>>(), [1, 3]);
    assert!(read(&"A=1\n".repeat(MOST_VARIABLES + 2), 0, &outer).is_err());
    assert!(read(&"x".repeat(MOST_BYTES + 1), 0, &outer).is_err());
    assert_eq!(read(&"?\n".repeat(500), 0, &outer).unwrap_err().len(), crate::yaml::MOST_ERRORS);
}

proptest! {
    #[test]
    fn any_text_is_read_or_refused(text in "[AB=:'\"\\\\#$ {}\n\r\t-]{0,60}") {
        let _ = read(&text, 0, &outer);
    }

    #[test]
    fn any_value_can_be_written_in_double_quotes(value in "[^\u{0}]{0,40}") {
        let mut quoted = String::new();
        for c in value.chars() {
            match c {
                '"' | '\\' | '$' => quoted.extend(['\\', c]),
                c => quoted.push(c),
            }
        }
        prop_assert_eq!(one(&format!("VAR=\"{quoted}\"")), Some(value));
    }
}
