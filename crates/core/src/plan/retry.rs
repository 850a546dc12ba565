//! The request that retries the failed targets of an operation. Whether it is allowed is the service's question.

use super::Request;
use crate::journal::Target;

/// The request and the references for those targets that did not succeed; `None` when there are none.
///
/// Kinds that work on hosts name hosts; tidy names its pieces instead of references.
pub fn retry(mut request: Request, targets: &[Target]) -> Option<(Request, Vec<String>)> {
    let failed: Vec<&Target> = targets.iter().filter(|t| !t.state.is_good()).collect();
    if failed.is_empty() {
        return None;
    }
    let references = match &mut request {
        Request::Tidy(tidy) => {
            tidy.pieces.retain(|p| failed.iter().any(|t| t.host == p.host && t.id == p.id));
            Vec::new()
        }
        Request::Pull(_) | Request::Push(_) | Request::Tag(_) => {
            failed.iter().map(|t| t.host.clone()).collect()
        }
        Request::Apply(_) | Request::RemoveStack(_) | Request::Run(_) => {
            let hosts: std::collections::BTreeSet<String> = failed.iter().map(|t| t.host.clone()).collect();
            if let Request::Apply(wish) = &mut request {
                wish.host_variables.retain(|host, _| hosts.contains(host));
            }
            hosts.into_iter().collect()
        }
        Request::Move(wish) | Request::Clone(wish) => wish.from.iter().cloned().collect(),
        _ => failed.iter().map(|t| format!("{}/{}", t.host, t.name)).collect(),
    };
    Some((request, references))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::journal::TargetState;
    use crate::plan::request::{PullRequest, RestartRequest, TidyRequest};
    use crate::plan::{ObjectKind, TidyPiece};

    fn target(host: &str, name: &str, state: TargetState) -> Target {
        let json = serde_json::json!({
            "host": host, "name": name, "id": format!("id-{name}"), "object": "container", "steps": [], "state": state,
        });
        serde_json::from_value(json).unwrap()
    }

    #[test]
    fn only_what_failed_is_asked_again() {
        let targets = [
            target("packhouse", "api", TargetState::Succeeded),
            target("packhouse", "web", TargetState::Failed),
            target("coldstore", "web", TargetState::Unchanged),
            target("coldstore", "store", TargetState::Cancelled),
        ];
        let restart = Request::Restart(RestartRequest::default());
        let (_, references) = retry(restart.clone(), &targets).unwrap();
        assert_eq!(references, ["packhouse/web", "coldstore/store"]);
        assert_eq!(retry(restart, &targets[..1]), None, "nothing failed");
        let (_, hosts) = retry(Request::Pull(PullRequest::default()), &targets).unwrap();
        assert_eq!(hosts, ["packhouse", "coldstore"], "an image is fetched by hosts");
        let piece = |host: &str, id: &str| TidyPiece {
            host: host.to_owned(),
            object: ObjectKind::Container,
            id: id.to_owned(),
        };
        let pieces = vec![piece("packhouse", "id-api"), piece("packhouse", "id-web")];
        let tidy = Request::Tidy(TidyRequest { pieces });
        let (tidy, references) = retry(tidy, &targets).unwrap();
        assert!(references.is_empty());
        assert_eq!(tidy, Request::Tidy(TidyRequest { pieces: vec![piece("packhouse", "id-web")] }));
    }
}
