//! Every form in which lines come, and that none of them vanishes.

use super::*;
use proptest::prelude::*;
use rstest::rstest;

fn taken(text: &str) -> Vec<String> {
    read(text).variables.into_iter().map(|v| format!("{}={}", v.name, v.value)).collect()
}

#[rstest]
#[case::plain("TZ=Europe/London", "TZ=Europe/London")]
#[case::spaces_around("  TZ = Europe/London  ", "TZ=Europe/London")]
#[case::exported("export A=b", "A=b")]
#[case::mapping("LANG: en_GB", "LANG=en_GB")]
#[case::mapping_with_colon_in_value("URL: http://frost:80/a", "URL=http://frost:80/a")]
#[case::list("- FOO=bar", "FOO=bar")]
#[case::list_quoted("  - \"FOO=bar baz\"", "FOO=bar baz")]
#[case::double("A=\"b c\"", "A=b c")]
#[case::single("A='b \"c\" \\n'", "A=b \"c\" \\n")]
#[case::escapes(r#"A="b\n\"c\"""#, "A=b\n\"c\"")]
#[case::mapping_quoted("\"A\": 'b'", "A=b")]
#[case::equals_in_value("DSN=a=b=c", "DSN=a=b=c")]
#[case::hash_in_value("A=b#c", "A=b#c")]
#[case::comment_after("A=b # the season", "A=b")]
#[case::comment_after_quotes("A=\"b\" # the season", "A=b")]
#[case::empty("A=", "A=")]
#[case::empty_quotes("A: ''", "A=")]
#[case::windows("A=b\r\n", "A=b")]
#[case::several_lines("A=\"one\ntwo\"", "A=one\ntwo")]
#[case::dotted("log.level=debug", "log.level=debug")]
fn forms_are_taken(#[case] text: &str, #[case] expected: &str) {
    assert_eq!(taken(text), [expected]);
    assert!(read(text).left.is_empty(), "{:?}", read(text).left);
}

#[rstest]
#[case::bare_name("FOO", "no value")]
#[case::bare_in_a_list("- FOO", "no value")]
#[case::bare_mapping("FOO:", "no value")]
#[case::exported_bare("export FOO", "no value")]
#[case::prose("set the zone to London", "not a variable")]
#[case::digit_first("1A=b", "not a variable")]
#[case::open_quote("A=\"b", "not closed")]
#[case::after_quote("A=\"b\" c", "after the closing quote")]
#[case::no_space("A:b", "not a variable")]
fn what_is_not_clear_is_reported(#[case] text: &str, #[case] words: &str) {
    let found = read(&format!("# first\nX=1\n{text}"));
    assert_eq!(found.variables.len(), 1);
    assert_eq!((found.left.len(), found.left[0].line), (1, 3));
    assert!(found.left[0].sentence.contains(words), "{:?}", found.left);
}

#[test]
fn of_two_the_last_counts_and_that_is_said() {
    let found = read("environment:\n  A: 1\n  B: 2\n  A: 3\n");
    assert_eq!(taken("A: 1\nB: 2\nA: 3"), ["A=3", "B=2"]);
    assert_eq!((found.left.len(), found.left[0].line), (1, 4));
}

proptest! {
    /// Each line that says something is either taken or told.
    #[test]
    fn no_line_vanishes(lines in prop::collection::vec("[ -~]{0,24}", 0..12)) {
        let lines: Vec<String> = lines.into_iter().filter(|l| !l.contains(['"', '\''])).collect();
        let saying = lines.iter().filter(|l| {
            let bare = bare(l);
            !bare.is_empty() && !bare.starts_with('#') && bare != "environment:"
        }).count();
        let found = read(&lines.join("\n"));
        prop_assert_eq!(found.variables.len() + found.left.len(), saying, "{:?}", found);
    }

    /// What a person writes in double quotes comes out as it was meant.
    #[test]
    fn quoted_values_come_back(value in "[a-z \"\\\\=:#$]{0,20}") {
        let quoted = value.replace('\\', "\\\\").replace('"', "\\\"");
        prop_assert_eq!(taken(&format!("A=\"{quoted}\"")), [format!("A={value}")]);
    }
}
