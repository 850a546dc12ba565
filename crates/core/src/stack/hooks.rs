//! Hooks of a service: commands run before its container starts, after that, and before it is stopped.
//!
//! They are in a label of the container, so that whoever stops or starts it here runs them, also when the text is another by
//! then. Running them is the service's.

use serde::{Deserialize, Serialize};

use super::desired::Maker;
use super::labels;
use crate::compose::model::{Hook, Service};
use crate::definition::Definition;
use crate::mask::looks_secret;
use crate::text::shown;

/// The most bytes of all hooks of one container.
const LONGEST: usize = 64 * 1024;

/// The hooks of a container.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Hooks {
    /// Run to their end in a container of their own, one after another, before it starts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pre_start: Vec<Hook>,
    /// Run in it once it is started.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub post_start: Vec<Hook>,
    /// Run in it before it is stopped.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pre_stop: Vec<Hook>,
}

impl Hooks {
    /// Those of a container with these labels; none when somebody else wrote the label.
    pub fn of(labels: &std::collections::BTreeMap<String, String>) -> Self {
        let text = labels.get(labels::HOOKS).filter(|text| text.len() <= LONGEST);
        text.and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default()
    }
}

/// A hook in a line, for whoever reads of it.
pub fn words(hook: &Hook) -> String {
    shown(&hook.command.join(" "), 100)
}

impl Maker<'_> {
    pub(super) fn hooks(&mut self, key: &str, service: &Service, d: &mut Definition) {
        let hooks = Hooks {
            pre_start: service.before_start.clone(),
            post_start: service.after_start.clone(),
            pre_stop: service.before_stop.clone(),
        };
        if hooks == Hooks::default() {
            return;
        }
        for (attribute, hooks) in [
            ("pre_start", &hooks.pre_start),
            ("post_start", &hooks.post_start),
            ("pre_stop", &hooks.pre_stop),
        ] {
            let at = ["services", key, attribute];
            if hooks.iter().any(|hook| hook.command.is_empty()) {
                self.cannot(&at, format!("each entry of '{attribute}' needs a 'command'"));
            }
            let all = hooks.iter().flat_map(|hook| &hook.environment);
            if let Some((name, _)) = all.into_iter().find(|(name, value)| looks_secret(name, value)) {
                let sentence = format!(
                    "'{}' would be readable by everybody in a label of the container; move it to the service's 'environment' or 'secrets'",
                    shown(name, 60)
                );
                self.cannot(&at, sentence);
            }
        }
        let text = serde_json::to_string(&hooks).unwrap_or_default();
        if text.len() > LONGEST {
            let sentence = format!("the hooks exceed {LONGEST} bytes; move them to a script in the image");
            self.cannot(&["services", key], sentence);
        }
        d.labels.insert(labels::HOOKS.to_owned(), text);
    }
}
