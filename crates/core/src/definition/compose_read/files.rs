//! `env_file`: variables that stand in files beside the text. Whoever holds the files gives their texts.

use super::*;
use crate::definition::variables;

/// A file that `env_file` names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EnvironmentFile {
    /// Its path as written.
    pub path: String,
    /// It must be there.
    pub required: bool,
    /// Its lines are taken as they stand, without quotes or comments.
    raw: bool,
}

/// The files that the `env_file` of a text with one service names, in order.
///
/// # Errors
/// When the text cannot be read.
pub fn environment_files(text: &str) -> Result<Vec<EnvironmentFile>> {
    let tree = read_yaml(text)?;
    let service = match tree.get("services").map(|s| &s.value) {
        Some(Value::Map(all)) => all.first().map(|(_, service)| service),
        Some(_) => None,
        None => Some(&tree),
    };
    service.and_then(|s| s.get("env_file")).map_or_else(|| Ok(Vec::new()), named)
}

fn named(node: &Node) -> Result<Vec<EnvironmentFile>> {
    let plain = |path| EnvironmentFile { path, required: true, raw: false };
    let Value::List(items) = &node.value else { return Ok(vec![plain(string(node, "env_file")?)]) };
    let mut files = Vec::new();
    for item in items {
        if !matches!(item.value, Value::Map(_)) {
            files.push(plain(string(item, "env_file")?));
            continue;
        }
        let mut file = plain(String::new());
        for (key, v) in entries(item, "env_file")? {
            match key.as_str() {
                "path" => file.path = string(v, key)?,
                "required" => file.required = truth(v, key)?,
                "format" => file.raw = string(v, key)? == "raw",
                other => return Err(unknown(v, other, "env_file", &["path", "required", "format"])),
            }
        }
        if file.path.is_empty() {
            return Err(item.wrong("`env_file` names no `path`"));
        }
        files.push(file);
    }
    Ok(files)
}

impl Reader<'_> {
    pub(super) fn environment_files(&mut self, node: &Node) -> Result<()> {
        for file in named(node)? {
            let shown = shown(&file.path, 80);
            let Some(text) = self.files.get(&file.path) else {
                let sentence = format!(
                    "`env_file`: the variables of {shown} are not taken, because the file is not part of this text; paste its lines among the variables"
                );
                self.leave(node, sentence);
                continue;
            };
            let found = if file.raw { raw(text) } else { variables::read(text) };
            for left in found.left {
                self.leave(node, format!("{shown}, line {}: {}", left.line, left.sentence));
            }
            for entry in found.variables {
                self.from_files.retain(|e| e.name != entry.name);
                self.from_files.push(entry);
            }
        }
        Ok(())
    }

    /// What files set stands below what the text itself sets.
    pub(super) fn lay_files_below(&mut self) {
        let set = std::mem::take(&mut self.d.environment);
        let mut all = std::mem::take(&mut self.from_files);
        all.retain(|e| set.iter().all(|s| s.name != e.name));
        all.extend(set);
        self.d.environment = all;
    }
}

fn raw(text: &str) -> variables::ReadVariables {
    let lines = text.lines().filter_map(|l| l.split_once('='));
    let entry = |(name, value): (&str, &str)| EnvironmentEntry {
        name: name.trim().to_owned(),
        value: value.to_owned(),
        hidden: false,
    };
    variables::ReadVariables { variables: lines.map(entry).collect(), left: Vec::new() }
}
