//! Which containers a log request selects, removed ones with kept lines included.

use gubernum_api::logs::LogRequest;
use gubernum_core::container::Container;
use gubernum_core::reference::Reference;
use gubernum_core::rights::Right;

use crate::fleet::View;
use crate::logs::LogError;
use crate::logs::LogsContext;

/// The most containers of one stream.
pub(crate) const MOST_SOURCES: usize = 300;

/// One source.
#[derive(Debug, Clone)]
pub(crate) struct Chosen {
    pub(crate) host: String,
    pub(crate) name: String,
    /// The container, if it is there.
    pub(crate) container: Option<Container>,
}

impl Chosen {
    pub(crate) fn reference(&self) -> String {
        format!("{}/{}", self.host, self.name)
    }
}

/// Whether a container has a label, given as `name` or `name=value`.
pub(crate) fn has_label(c: &Container, label: &str) -> bool {
    match label.split_once('=') {
        Some((name, value)) => c.labels.get(name).is_some_and(|v| v == value),
        None => c.labels.contains_key(label),
    }
}

/// The names of which lines are kept, where those count for a wish.
pub(crate) async fn kept_names(context: &LogsContext, wish: &LogRequest) -> Vec<(String, String)> {
    if wish.stack.is_some() || wish.label.is_some() {
        return Vec::new();
    }
    let segments = context.segments.clone();
    tokio::task::spawn_blocking(move || segments.containers()).await.unwrap_or_default()
}

/// Those of which somebody may read the logs, and the first of which they may not.
fn readable(view: &View, chosen: Vec<Chosen>) -> (Vec<Chosen>, Option<String>) {
    let may = |c: &Chosen| c.container.as_ref().is_some_and(|c| view.on(c).has(Right::ReadLogs));
    let (may_read, closed): (Vec<_>, Vec<_>) = chosen.into_iter().partition(may);
    (may_read, closed.first().map(Chosen::reference))
}

/// Finds what is meant, among the containers that are there and the names of which lines are `kept`.
pub(crate) fn choose(
    view: &View,
    wish: &LogRequest,
    kept: Vec<(String, String)>,
    field: impl Fn(&str) -> String,
) -> Result<Vec<Chosen>, LogError> {
    if wish.references.is_empty() && wish.stack.is_none() && wish.label.is_none() {
        let text = "name at least one container, a stack or a label; '*/*' means every container";
        return Err(LogError::invalid(field("references"), text));
    }
    let references = wish.references.iter().map(|r| r.parse::<Reference>()).collect::<Result<Vec<_>, _>>();
    let references =
        references.map_err(|source| LogError::Reference { field: field("references"), source })?;
    let narrowed = |c: &Container| {
        wish.stack.as_deref().is_none_or(|s| c.stack.as_deref() == Some(s))
            && wish.label.as_deref().is_none_or(|l| has_label(c, l))
    };
    let mut chosen: Vec<Chosen> = Vec::new();
    view.look(|fleet| {
        let mut add = |c: &Container| {
            let there = chosen.iter().any(|x| x.host == c.host && x.name == c.name);
            if !there && narrowed(c) {
                chosen.push(Chosen {
                    host: c.host.clone(),
                    name: c.name.clone(),
                    container: Some(c.clone()),
                });
            }
        };
        if references.is_empty() {
            fleet.containers().for_each(&mut add);
        }
        for reference in &references {
            match reference.resolve(fleet.containers()) {
                Ok(found) => found.into_iter().for_each(&mut add),
                // Perhaps lines of it are kept.
                Err(error) if !kept.iter().any(|(h, n)| reference.matches(h, n)) => {
                    return Err(LogError::Reference { field: field("references"), source: error });
                }
                Err(_) => {}
            }
        }
        Ok(())
    })?;
    let (may_read, closed) = readable(view, chosen);
    if let (true, Some(reference)) = (may_read.is_empty(), closed) {
        return Err(LogError::NotAllowed(Right::ReadLogs.refusal(&reference)));
    }
    let mut chosen = may_read;
    for (host, name) in kept {
        // Whose lines those are that are gone, only their host tells.
        if !view.is_whole() && !view.on_host(&host).has(Right::ReadLogs) {
            continue;
        }
        let wanted = references.iter().any(|r| r.matches(&host, &name));
        if wanted && !chosen.iter().any(|x| x.host == host && x.name == name) {
            chosen.push(Chosen { host, name, container: None });
        }
    }
    if chosen.len() > MOST_SOURCES {
        let text =
            format!("{} containers match, at most {MOST_SOURCES} are allowed; narrow it down", chosen.len());
        return Err(LogError::invalid(field("references"), text));
    }
    chosen.sort_by_key(Chosen::reference);
    Ok(chosen)
}
