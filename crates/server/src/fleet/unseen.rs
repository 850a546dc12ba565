//! Hides the names of objects that a member does not see in sentences for them: the conflict is reported, the name is
//! not.

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use crate::fleet::View;

/// What is in place of a name.
const INSTEAD: &str = "another object";

/// The names on a host that somebody does not see.
pub(crate) struct Unseen(Vec<String>);

impl Unseen {
    /// Those of one host. None for whoever sees all of it.
    pub(crate) fn on(view: &View, host: &str) -> Self {
        if view.is_whole() {
            return Self(Vec::new());
        }
        let seen: Vec<String> =
            view.look(|fleet| fleet.users_of(host).map(|c| c.name.clone()).collect::<Vec<_>>());
        let all = view.judge(|fleet, _| fleet.users_of(host).map(|c| c.name.clone()).collect::<Vec<_>>());
        let hidden = all.into_iter().filter(|name| !seen.contains(name));
        // In sentences names are between quotes.
        Self(hidden.flat_map(|name| [format!("'{host}/{name}'"), format!("'{name}'")]).collect())
    }

    /// A sentence without them.
    pub(crate) fn out_of(&self, sentence: &str) -> String {
        let mut sentence = sentence.to_owned();
        for name in self.0.iter().filter(|_| sentence.contains('\'')).cloned().collect::<Vec<_>>() {
            if sentence.contains(&name) {
                sentence = sentence.replace(&name, INSTEAD);
            }
        }
        sentence
    }

    /// A record with all its sentences without them.
    pub(crate) fn out_of_all<T: Serialize + DeserializeOwned>(&self, record: T) -> T {
        if self.0.is_empty() {
            return record;
        }
        let Ok(mut value) = serde_json::to_value(&record) else { return record };
        self.walk(&mut value);
        serde_json::from_value(value).unwrap_or(record)
    }

    fn walk(&self, value: &mut Value) {
        match value {
            Value::String(text) if text.contains('\'') => *text = self.out_of(text),
            Value::Array(all) => all.iter_mut().for_each(|one| self.walk(one)),
            Value::Object(all) => all.values_mut().for_each(|one| self.walk(one)),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_go_out_of_sentences_and_nothing_else_does() {
        let unseen = Unseen(vec!["'packhouse/ledger'".to_owned(), "'ledger'".to_owned()]);
        let before =
            vec!["'packhouse/ledger' publishes 80; 'ledger-2' does not".to_owned(), "ledger".to_owned()];
        let after = unseen.out_of_all(before);
        assert_eq!(after, ["another object publishes 80; 'ledger-2' does not", "ledger"]);
    }
}
