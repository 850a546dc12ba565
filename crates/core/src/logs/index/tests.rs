//! The index never hides a match, and rules out most blocks without one.

use super::*;
use crate::logs::filter::{Filter, LineCriteria};
use proptest::prelude::*;
use rstest::rstest;

fn wish(patterns: &[&str], ignore_case: bool) -> LineCriteria {
    LineCriteria {
        with: patterns.iter().map(|p| (*p).to_owned()).collect(),
        ignore_case,
        ..LineCriteria::default()
    }
}

fn may_match(pattern: &str, text: &str) -> bool {
    let filter = Filter::new(&wish(&[pattern], false)).unwrap();
    filter.query().may_match(&filter_of(text.as_bytes()))
}

#[rstest]
#[case::word("refused", "bid refused by lot 4711", true)]
#[case::other_word("accepted", "bid refused by lot 4711", false)]
#[case::part_of_a_word("efus", "bid refused by lot 4711", true)]
#[case::other_part("efux", "bid refused by lot 4711", false)]
#[case::pair("lot 4711", "bid refused by lot 4711 and 4712", true)]
#[case::other_pair("by lot 4712 ", "bid refused by lot 4711 and lots 4712 ", false)]
#[case::digits(r"lot 47\d\d\b", "bid refused by lot 4711", true)]
#[case::other_digits(r"lot 48\d\d\b", "bid refused by lot 4711", false)]
#[case::foreign_digits(r"lot 47\d\d\b", "lot 47\u{0661}\u{0662}", true)]
#[case::foreign_edge(r"lot 4711\b", "lot 4711\u{2013}4712", true)]
#[case::id("577b34da6a3ce929", "trace=4bf92f3577b34da6a3ce929d0e0e4736 ok", true)]
#[case::other_id("a1c29be07d4f85163e", "trace=4bf92f3577b34da6a3ce929d0e0e4736 ok", false)]
#[case::alternatives("timeout|refused", "bid refused", true)]
#[case::no_alternative("timeout|accepted", "bid refused", false)]
#[case::ignore_case("(?i)REFUSED", "bid refused", true)]
#[case::kelvin("(?i)kelvin", "9 \u{212a}elvin", true)]
#[case::spread("bid.*lot", "bid refused by lot 4711", true)]
#[case::spread_with_nothing("bid.*cart", "bid refused by lot 4711", false)]
#[case::separators(r"by\s+lot", "refused by   lot 4711", true)]
#[case::not_over_lines("refused by", "refused\nby lot", false)]
#[case::anything(".", "bid", true)]
#[case::empty("x*", "bid", true)]
#[case::beginning("^lot 4711 ", "lot 4711 went", true)]
#[case::end("lot 4711$", "lot 4711\nlot 4712", true)]
fn a_filter_tells_what_cannot_be_there(#[case] pattern: &str, #[case] text: &str, #[case] may: bool) {
    assert_eq!(may_match(pattern, &format!("{text}\n")), may, "{pattern} in {text}");
}

#[test]
fn an_empty_filter_and_a_pattern_without_words_tell_nothing() {
    let query = Filter::new(&wish(&["refused"], false)).unwrap().query().clone();
    assert!(query.is_useful() && query.may_match(&[]));
    assert!(!Filter::new(&wish(&[r"\d+ms"], false)).unwrap().query().is_useful());
    assert!(!Filter::new(&LineCriteria::default()).unwrap().query().is_useful());
}

#[test]
fn filters_stay_small_and_sharp() {
    let lines: String = (0..1000u32)
        .map(|n| {
            let (lot, member) = (n.wrapping_mul(2_654_435_761) % 90_000, n.wrapping_mul(40_503) % 4000);
            format!("level=info msg=\"bid taken\" lot={lot} member={member} took_us={}\n", n % 700)
        })
        .collect();
    let filter = filter_of(lines.as_bytes());
    assert!(filter.len() * 5 < lines.len(), "{} bytes for {}", filter.len(), lines.len());
    let ruled_out = (100_000..102_000)
        .filter(|n| {
            let wanted = wish(&[&format!("lot={n} ")], false);
            !Filter::new(&wanted).unwrap().query().may_match(&filter)
        })
        .count();
    assert!(ruled_out > 1940, "{ruled_out} of 2000");
}

/// Patterns of words, digits, edges and gaps, in all sorts of compositions.
fn patterns() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        "[a-cA-C0-2_ ]{1,5}",
        prop::sample::select(vec![
            r"\d",
            r"\w",
            r"\s",
            r"\b",
            r"\B",
            "^",
            "$",
            ".",
            "[0-2]",
            "[^a]",
            "ü",
            "é",
            r"\s+",
            "[ab ]",
            r"\D",
            "(?i)ab",
            "k",
            "[[:alpha:]]",
            " ",
            "=",
            r"\.",
            "aabbcc012",
            "012aab",
            "abcab",
        ])
        .prop_map(str::to_owned),
    ];
    leaf.prop_recursive(3, 24, 4, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 1..5).prop_map(|parts| parts.concat()),
            prop::collection::vec(inner.clone(), 1..4).prop_map(|parts| format!("(?:{})", parts.join("|"))),
            (inner, prop::sample::select(vec!["*", "+", "?", "{2}", "{1,3}", "{0}", "*?"]))
                .prop_map(|(part, times)| format!("(?:{part}){times}")),
        ]
    })
}

fn texts() -> impl Strategy<Value = String> {
    let word = prop_oneof![
        "[a-cA-C0-2_]{1,8}",
        prop::sample::select(vec![
            "aabbcc012",
            "012aabbcc012",
            "ü",
            "é1",
            "\u{0661}2",
            "\u{212a}",
            "ab\u{2013}",
            "ſ",
            "abcabc",
        ])
        .prop_map(str::to_owned),
    ];
    let separator = prop::sample::select(vec![" ", "=", "  ", "\u{2003}", ".", "\n", "\t", "\u{2013}"]);
    prop::collection::vec((word, separator), 0..12)
        .prop_map(|parts| parts.into_iter().map(|(word, separator)| word + separator).collect())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 4000, ..ProptestConfig::default() })]

    #[test]
    fn nothing_that_matches_is_ruled_out(pattern in patterns(), text in texts(), ignore_case in any::<bool>(), plain in any::<bool>()) {
        let wish = LineCriteria { plain, ..wish(&[&pattern], ignore_case) };
        let Ok(filter) = Filter::new(&wish) else { return Ok(()) };
        let index = filter_of(format!("{text}\n").as_bytes());
        let found = text.split('\n').any(|line| filter.takes(line.as_bytes()));
        prop_assert!(!found || filter.query().may_match(&index), "{pattern:?} in {text:?}: {:?}", filter.query());
    }

    #[test]
    fn what_is_taken_from_a_line_is_found_in_its_block(
        line in "[a-z0-9=:/_. -]{1,60}", others in prop::collection::vec("[a-z0-9=:/_. -]{0,60}", 0..20),
        (from, to) in (any::<prop::sample::Index>(), any::<prop::sample::Index>()), ignore_case in any::<bool>(),
    ) {
        let (a, b) = (from.index(line.len()), to.index(line.len() + 1));
        let part = &line[a.min(b)..a.max(b)];
        let filter = Filter::new(&LineCriteria { plain: true, ..wish(&[part], ignore_case) }).unwrap();
        let text = others.iter().chain([&line]).map(|l| format!("{l}\n")).collect::<String>();
        prop_assert!(filter.query().may_match(&filter_of(text.as_bytes())), "{part:?}");
    }
}
