//! Nodes of Compose text as what they should be: lists, texts, numbers, sizes, times, with the place when they are not.

use super::*;

pub(super) fn entries<'a>(node: &'a Node, what: &str) -> Result<&'a [(String, Node)]> {
    match &node.value {
        Value::Map(entries) => Ok(entries),
        Value::Null => Ok(&[]),
        _ => Err(node.wrong(format!("`{what}` is a mapping, this is {}", node.kind()))),
    }
}

pub(super) fn items<'a>(node: &'a Node, what: &str) -> Result<&'a [Node]> {
    match &node.value {
        Value::List(items) => Ok(items),
        Value::Null => Ok(&[]),
        _ => Err(node.wrong(format!("`{what}` is a list, this is {}", node.kind()))),
    }
}

/// Fills in variables of the text that have a default, and makes `$$` one `$`. Others stay as they are, to
/// be caught as placeholders.
pub(super) fn filled(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('$') {
        out.push_str(&rest[..at]);
        rest = &rest[at..];
        if let Some(after) = rest.strip_prefix("$$") {
            out.push('$');
            rest = after;
        } else if let Some((inside, after)) = rest.strip_prefix("${").and_then(|r| r.split_once('}')) {
            match inside.split_once(":-").or_else(|| inside.split_once('-')) {
                Some((_, default)) => out.push_str(default),
                None => out.push_str(&format!("${{{inside}}}")),
            }
            rest = after;
        } else {
            out.push('$');
            rest = &rest[1..];
        }
    }
    out.push_str(rest);
    out
}

pub(super) fn string(node: &Node, what: &str) -> Result<String> {
    let text =
        node.scalar().ok_or_else(|| node.wrong(format!("`{what}` is a text, this is {}", node.kind())))?;
    Ok(filled(&text))
}

pub(super) fn truth(node: &Node, what: &str) -> Result<bool> {
    match &node.value {
        Value::Bool(b) => Ok(*b),
        Value::Text(t) if t == "true" || t == "false" => Ok(t == "true"),
        _ => Err(node.wrong(format!("`{what}` is `true` or `false`"))),
    }
}

pub(super) fn number<T: std::str::FromStr>(node: &Node, what: &str) -> Result<T> {
    let text = string(node, what)?;
    text.trim()
        .parse()
        .map_err(|_| node.wrong(format!("`{what}`: `{}` is not a number that fits", shown(&text, 40))))
}

pub(super) fn size(node: &Node, what: &str) -> Result<u64> {
    let text = string(node, what)?;
    bytes(&text).ok_or_else(|| {
        node.wrong(format!(
            "`{what}`: `{}` is not a size; write for example `512m` or `2g`",
            shown(&text, 40)
        ))
    })
}

pub(super) fn span(node: &Node, what: &str) -> Result<u64> {
    let text = string(node, what)?;
    millis(&text).ok_or_else(|| {
        node.wrong(format!(
            "`{what}`: `{}` is not a span of time; write for example `30s` or `1m30s`",
            shown(&text, 40)
        ))
    })
}

/// A text or a list of texts.
pub(super) fn texts(node: &Node, what: &str) -> Result<Vec<String>> {
    match &node.value {
        Value::List(items) => items.iter().map(|i| string(i, what)).collect(),
        Value::Null => Ok(Vec::new()),
        _ => Ok(vec![string(node, what)?]),
    }
}

/// A mapping, or a list of `key=value`. A key alone has no value.
pub(super) fn pairs(node: &Node, what: &str) -> Result<Vec<(String, Option<String>)>> {
    match &node.value {
        Value::Map(entries) => entries
            .iter()
            .map(|(k, v)| Ok((k.clone(), if v.value == Value::Null { None } else { Some(string(v, what)?) })))
            .collect(),
        Value::List(items) => items
            .iter()
            .map(|i| {
                let text = string(i, what)?;
                Ok(match text.split_once('=') {
                    Some((k, v)) => (k.to_owned(), Some(v.to_owned())),
                    None => (text, None),
                })
            })
            .collect(),
        Value::Null => Ok(Vec::new()),
        _ => {
            Err(node
                .wrong(format!("`{what}` is a mapping or a list of `NAME=value`, this is {}", node.kind())))
        }
    }
}

pub(super) fn map(node: &Node, what: &str) -> Result<BTreeMap<String, String>> {
    Ok(pairs(node, what)?.into_iter().map(|(k, v)| (k, v.unwrap_or_default())).collect())
}

/// A command: a list as it is, a text taken apart as a shell would.
pub(super) fn command(node: &Node, what: &str) -> Result<Vec<String>> {
    match &node.value {
        Value::List(items) => items.iter().map(|i| string(i, what)).collect(),
        Value::Null => Ok(Vec::new()),
        _ => words(&string(node, what)?)
            .ok_or_else(|| node.wrong(format!("`{what}` has a quote that is not closed"))),
    }
}

/// Takes a line apart into words: blanks part them, quotes and `\` hold them together. `None` for an open
/// quote.
pub fn words(line: &str) -> Option<Vec<String>> {
    let (mut out, mut word, mut quote, mut begun) = (Vec::new(), String::new(), None, false);
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        match (quote, c) {
            (Some('\''), '\'') | (Some('"'), '"') => quote = None,
            (Some('"'), '\\') => match chars.next()? {
                escaped @ ('"' | '\\' | '$' | '`') => word.push(escaped),
                other => word.extend(['\\', other]),
            },
            (Some(_), c) => word.push(c),
            (None, '\'' | '"') => (quote, begun) = (Some(c), true),
            (None, '\\') => {
                word.push(chars.next()?);
                begun = true;
            }
            (None, c) if c.is_whitespace() => {
                if begun {
                    out.push(std::mem::take(&mut word));
                    begun = false;
                }
            }
            (None, c) => {
                word.push(c);
                begun = true;
            }
        }
    }
    if begun {
        out.push(word);
    }
    quote.is_none().then_some(out)
}

pub(super) fn unknown(node: &Node, key: &str, of: &str, known: &[&str]) -> YamlError {
    let near = known.iter().map(|k| (strsim::jaro_winkler(k, key), k)).max_by(|a, b| a.0.total_cmp(&b.0));
    let hint = near
        .filter(|(score, _)| *score > 0.8)
        .map_or_else(String::new, |(_, k)| format!("; did you mean `{k}`?"));
    node.wrong(format!("`{}` is not a key of {of}{hint}", shown(key, 40)))
}
