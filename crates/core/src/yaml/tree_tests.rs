use proptest::prelude::*;
use rstest::rstest;

use super::*;

fn at(line: u64, column: u64) -> Place {
    Place { file: 0, line, column }
}

fn text(node: &Node) -> String {
    node.scalar().map(Cow::into_owned).unwrap_or_else(|| node.kind().to_owned())
}

#[test]
fn places_are_told_of_values_and_keys() {
    let tree = read("a:\n  b: [1, true, x]\n  'c d': {e: ~}\n").unwrap();
    let (key, a) = &tree.entries()[0];
    assert_eq!((&**key, key.place, a.place), ("a", at(1, 1), at(2, 3)));
    let list = a.get("b").unwrap();
    assert_eq!(list.place, at(2, 6));
    let Value::List(items) = &list.value else { panic!("a list") };
    assert_eq!(items.iter().map(|i| i.place).collect::<Vec<_>>(), [at(2, 7), at(2, 10), at(2, 16)]);
    assert_eq!(items.iter().map(text).collect::<Vec<_>>(), ["1", "true", "x"]);
    let (key, _) = &a.get("c d").unwrap().entries()[0];
    assert_eq!(key.place, at(3, 11));
    let numbered = read_numbered("a: 1", 7).unwrap();
    assert_eq!((numbered.place.file, numbered.entries()[0].0.place.file), (7, 7));
}

#[rstest]
#[case("null", Value::Null)]
#[case("", Value::Null)]
#[case("~", Value::Null)]
#[case("'~'", Value::Text("~".into()))]
#[case("TRUE", Value::Bool(true))]
#[case("false", Value::Bool(false))]
#[case::old_words_are_texts("yes", Value::Text("yes".into()))]
#[case::old_words_are_texts("off", Value::Text("off".into()))]
#[case::a_number_stays_as_it_is_written("0440", Value::Number("0440".into()))]
#[case("1.20", Value::Number("1.20".into()))]
#[case("0x1F", Value::Number("0x1F".into()))]
#[case("0o17", Value::Number("0o17".into()))]
#[case("-12e+3", Value::Number("-12e+3".into()))]
#[case(".5", Value::Number(".5".into()))]
#[case("-.inf", Value::Number("-.inf".into()))]
#[case("'12'", Value::Text("12".into()))]
#[case("1.2.3", Value::Text("1.2.3".into()))]
#[case("22:22", Value::Text("22:22".into()))]
#[case("1_000", Value::Text("1_000".into()))]
#[case(".", Value::Text(".".into()))]
#[case("1e", Value::Text("1e".into()))]
#[case("0x", Value::Text("0x".into()))]
#[case("2026-11-29", Value::Text("2026-11-29".into()))]
#[case("!!str 12", Value::Text("12".into()))]
#[case("!!int '12'", Value::Number("12".into()))]
#[case("|\n  two\n  lines\n", Value::Text("two\nlines\n".into()))]
#[case(">-\n  one\n  line\n", Value::Text("one line".into()))]
#[case("\"a\\tb\"", Value::Text("a\tb".into()))]
fn scalars_mean_what_yaml_says(#[case] written: &str, #[case] expected: Value) {
    assert_eq!(read(&format!("k: {written}")).unwrap().get("k").unwrap().value, expected);
}

#[test]
fn tags_of_merging_are_kept() {
    let tree = read("a: !reset null\nb: !override [1]\nc: !reset {}\nd: !override x\ne: 1\n").unwrap();
    let tags: Vec<Option<MergeTag>> = tree.entries().iter().map(|(_, n)| n.tag).collect();
    let (reset, over) = (Some(MergeTag::Reset), Some(MergeTag::Override));
    assert_eq!(tags, [reset, over, reset, over, None]);
}

#[rstest]
#[case::a_key_twice("a: 1\nb:\n  c: 1\n  c: 2\n", at(4, 3), "duplicate key 'c', first on line 3")]
#[case::not_closed("a: [1, 2", at(1, 4), "'[' is not closed")]
#[case::not_closed_inside("a: [1, {b: 2\n", at(1, 8), "'{' is not closed")]
#[case::not_closed_at_once("services: [", at(1, 11), "'[' is not closed")]
#[case::cut_off("a: 1\nb", at(2, 2), "invalid YAML")]
#[case::a_tab("a:\n\tb: 1\n", at(2, 1), "indented with a tab")]
#[case::a_tab_after_spaces("a:\n  b: 1\n  \tc: 2\n", at(3, 3), "indented with a tab")]
#[case::indented_wrongly("a: 1\n  b: 2\n", at(2, 4), "invalid YAML")]
#[case::an_unknown_alias("a: *b\n", at(1, 4), "invalid YAML")]
#[case::an_alias_of_itself("a: &a [*a]\n", at(1, 8), "a value that contains it")]
#[case::an_unknown_tag("a: !sealed x\n", at(1, 4), "unknown tag '!sealed'")]
#[case::an_unknown_core_tag("a: !!set {b}\n", at(1, 4), "unknown tag '!!set'")]
#[case::not_of_its_type("a: !!int x\n", at(1, 4), "'x' is not of type '!!int'")]
#[case::a_list_as_key("? [a]\n: 1\n", at(1, 3), "a key must be a string")]
#[case::merged_with_a_text("a:\n  <<: b\n", at(2, 7), "'<<' must be a mapping")]
#[case::two_documents("a: 1\n---\nb: 2\n", at(3, 1), "a second document starts here")]
fn errors_are_pointed_at(#[case] written: &str, #[case] place: Place, #[case] words: &str) {
    let error = read(written).unwrap_err();
    assert!(error.sentence.contains(words), "{error}");
    assert_eq!(error.place, place, "{error}");
}

#[test]
fn all_keys_that_are_twice_are_reported() {
    let errors = read_numbered("a: 1\na: 2\nb: {c: 1, c: 2}\nd: [1\n", 3).unwrap_err();
    let lines: Vec<(u16, u64)> = errors.iter().map(|e| (e.place.file, e.place.line)).collect();
    assert_eq!(lines[..2], [(3, 2), (3, 3)]);
    assert!(errors.len() == 3 && errors[2].sentence.contains("invalid YAML"), "{errors:?}");
    let many = (0..200).map(|_| "a: 1\n").collect::<String>();
    assert_eq!(read_numbered(&many, 0).unwrap_err().len(), MOST_ERRORS);
}

#[test]
fn aliases_repeat_and_merge_keys_bring_in() {
    let tree = read(
        "base: &b {x: one, y: base}\nother: &o {y: other, z: three}\nuse:\n  <<: [*b, *o]\n  y: own\nlast:\n  <<: *o\n  <<: *b\nagain: *b\n",
    )
    .unwrap();
    let all = |key: &str| {
        let entries = tree.get(key).unwrap().entries();
        entries.iter().map(|(k, n)| format!("{k}={}", text(n))).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(all("use"), "y=own x=one z=three");
    assert_eq!(all("again"), "x=one y=base");
    assert_eq!(all("last"), "y=other z=three x=one");
    assert_eq!(tree.get("use").unwrap().get("x").unwrap().place.line, 1, "where it can be mended");
    assert_eq!(all("use").len(), "y=own x=one z=three".len());
    assert_eq!(read("'<<': a\n").unwrap().get("<<").map(text).as_deref(), Some("a"), "in quotes it is a key");
}

#[test]
fn many_comments_are_read_over() {
    let comments = "  # a line of a long comment\n".repeat(200);
    let tree = read(&format!("a:\n{comments}  b: 1\n{comments}  c:\n{comments}    - d\n")).unwrap();
    assert_eq!(tree.get("a").unwrap().entries().len(), 2);
}

#[test]
fn limits_hold() {
    assert!(read(&"x".repeat(MOST_BYTES + 1)).is_err());
    let deep = |n: usize| format!("{}{}", "[".repeat(n), "]".repeat(n));
    assert!(read(&deep(DEEPEST)).is_ok());
    assert!(read(&deep(DEEPEST + 2)).unwrap_err().sentence.contains("deep"));
    let mut bomb = "a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n".to_owned();
    for n in 1..12 {
        let before = format!("*a{}, ", n - 1).repeat(10);
        bomb.push_str(&format!("a{n}: &a{n} [{}]\n", before.trim_end_matches(", ")));
    }
    assert!(read(&bomb).unwrap_err().sentence.contains("aliases included"));
    let long = "x".repeat(500_000);
    let repeated = format!("a: &a {long}\nb: [{}]\n", vec!["*a"; 100].join(", "));
    assert!(read(&repeated).unwrap_err().sentence.contains("bytes"));
}

#[test]
fn an_empty_text_is_nothing() {
    for written in ["", "# only a comment\n", "---\n", "\u{feff}"] {
        assert_eq!(read(written).unwrap().value, Value::Null, "{written:?}");
    }
    assert_eq!(read("\u{feff}a: 1\n").unwrap().get("a").map(text).as_deref(), Some("1"));
}

/// Trees as texts in flow style, where every text is in quotes.
fn written(value: &Value) -> String {
    match value {
        Value::Null => "null".into(),
        Value::Bool(b) => b.to_string(),
        Value::Number(n) => n.clone(),
        Value::Text(t) => crate::yaml::quoted(t),
        Value::List(all) => {
            format!("[{}]", all.iter().map(|n| written(&n.value)).collect::<Vec<_>>().join(", "))
        }
        Value::Map(all) => {
            let entry = |(k, n): &(Key, Node)| format!("{}: {}", crate::yaml::quoted(k), written(&n.value));
            format!("{{{}}}", all.iter().map(entry).collect::<Vec<_>>().join(", "))
        }
    }
}

fn values() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::Bool),
        any::<i64>().prop_map(|n| Value::Number(n.to_string())),
        "\\PC{0,12}".prop_map(Value::Text),
    ];
    leaf.prop_recursive(4, 40, 6, |inner| {
        let node = inner.prop_map(|value| Node::new(value, Place::START));
        let key = "\\PC{1,8}".prop_map(|text| Key { text, place: Place::START });
        prop_oneof![
            proptest::collection::vec(node.clone(), 0..5).prop_map(Value::List),
            proptest::collection::vec((key, node), 0..5).prop_map(|mut entries| {
                let mut seen = std::collections::HashSet::new();
                entries.retain(|(key, _)| seen.insert(key.text.clone()));
                Value::Map(entries)
            }),
        ]
    })
}

proptest! {
    #[test]
    fn what_is_written_is_read_back(value in values()) {
        let text = written(&value);
        prop_assert_eq!(&read(&text).unwrap().value, &value, "{}", text);
    }

    #[test]
    fn any_text_is_read_or_refused(text in "[ \\-a:\\[\\]{},&*!#|>'\"?\n\t<0-9~]{0,80}") {
        if let Err(errors) = read_numbered(&text, 0) {
            prop_assert!(!errors.is_empty() && errors.len() <= MOST_ERRORS);
        }
    }
}

#[test]
fn what_is_missing_at_the_end_is_inside_the_text() {
    for text in ["? \n#x", "? \r#x", "? ", "a:\n  ? b\n  :"] {
        let tree = read(text).unwrap();
        let last = text.split(['\n', '\r']).count() as u64;
        let mut nodes = vec![&tree];
        while let Some(node) = nodes.pop() {
            assert!(node.place.line <= last, "{text:?}: {node:?}");
            for (key, value) in node.entries() {
                assert!(key.place.line <= last, "{text:?}: {key:?}");
                nodes.push(value);
            }
        }
    }
}
