//! Creates, renames and deletes files of a container. A folder can be created in any; engines have no call for the
//! rest, so the container's own programs do it, and it must be running.

use std::sync::Arc;

use axum::extract::{Path, State};
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::files::FileChange;
use gubernum_core::definition::NewFolder;
use gubernum_core::text::shown;

use crate::access::Identity;
use crate::files::FilesContext;
use crate::files::http::containers::need_folder;
use crate::files::http::root::FileRoot;
use crate::files::http::upload as beside;
use crate::files::http::upload::is_missing;
use crate::files::streams::split;
use crate::fleet::View;
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// Creates a folder, renames, deletes, or sets permissions and owner. Audited.
#[utoipa::path(post, path = "/api/v1/containers/{host}/{container}/file-changes", tag = "files",
    params(("host" = String, Path), ("container" = String, Path)), request_body = FileChange, responses(
    (status = 204),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn change(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    view: View,
    Path((host, name)): Path<(String, String)>,
    Body(wish): Body<FileChange>,
) -> Result<StatusCode, ApiError> {
    change_in(&context, &who, &FileRoot::container(&context, &view, &host, &name)?, &wish).await
}

/// Does one change.
pub(crate) async fn change_in(
    context: &FilesContext,
    who: &Identity,
    root: &FileRoot,
    wish: &FileChange,
) -> Result<StatusCode, ApiError> {
    let at = async |path: &str, field: &str| {
        root.path_itself(context, path)
            .await
            .map_err(|e| if e.problem.status == 422 { e.at(field) } else { e })
    };
    let (action, words) = match wish {
        FileChange::CreateFolder { path } => {
            let (full, own) = at(path, "/path").await?;
            let (folder, name) = split(&full)?;
            need_folder(root, &folder).await?;
            nothing_at(root, &full, &own).await?;
            root.engine.make_folder_in(&root.id, &folder, &name, &NewFolder::default()).await?;
            ("create-folder", own)
        }
        FileChange::Rename { path, to } => {
            let ((full, own), (to, new)) = (at(path, "/path").await?, at(to, "/to").await?);
            root.stat(&full, &own).await?;
            nothing_at(root, &to, &new).await?;
            run(root, &["mv", "--", &full, &to]).await?;
            ("rename-file", format!("{own} to {new}"))
        }
        FileChange::Delete { path } => {
            let (full, own) = at(path, "/path").await?;
            root.stat(&full, &own).await?;
            if root.mounted_at(&full) {
                let text = "something is mounted there; its data is not deleted this way";
                return Err(ApiError::new("mounted", "Something is mounted there", 409, text));
            }
            run(root, &["rm", "-rf", "--", &full]).await?;
            ("delete-file", own)
        }
        FileChange::SetMode { path, mode, user, group } => {
            at(path, "/path").await?;
            let (full, own) = root.path(context, path).await?;
            let owner = match (user, group) {
                (Some(user), Some(group)) => Some(format!("{user}:{group}")),
                (Some(user), None) => Some(user.to_string()),
                (None, Some(group)) => Some(format!(":{group}")),
                (None, None) => None,
            };
            if mode.as_ref().is_some_and(|m| u32::from_str_radix(m, 8).map_or(true, |m| m > 0o7777)) {
                return Err(ApiError::invalid("/mode", "permissions are octal digits, such as 644"));
            }
            // The owner first: to change it takes special bits of the permissions away.
            if let Some(owner) = &owner {
                run(root, &["chown", owner, "--", &full]).await?;
            }
            if let Some(mode) = mode {
                run(root, &["chmod", mode, "--", &full]).await?;
            }
            let words = [Some(own), mode.clone(), owner].into_iter().flatten().collect::<Vec<_>>();
            ("set-mode", words.join(" "))
        }
    };
    context.audit.record(who, action, root.object.clone(), words).await?;
    Ok(StatusCode::NO_CONTENT)
}

async fn nothing_at(root: &FileRoot, full: &str, own: &str) -> Result<(), ApiError> {
    match root.engine.stat(&root.id, full).await {
        Err(e) if e.status() == Some(404) => Ok(()),
        Err(e) => Err(e.into()),
        Ok(_) => {
            let text = format!("'{}' already exists", shown(own, 200));
            Err(ApiError::new("taken", "Already exists", 409, text))
        }
    }
}

/// Runs one of the container's own programs as its root.
async fn run(root: &FileRoot, command: &[&str]) -> Result<(), ApiError> {
    if !root.runs {
        return Err(root.without_programs());
    }
    let program = command.first().copied().unwrap_or_default();
    let outcome = beside::program(root, command).await;
    if is_missing(&outcome) {
        let text = format!("the container has no '{program}', which is needed for this");
        return Err(ApiError::new("no-program", "Program missing in the container", 409, text));
    }
    match outcome? {
        (Some(0), _) => Ok(()),
        (_, said) => {
            Err(ApiError::new("refused-inside", "The container refused", 409, format!("it failed: {said}")))
        }
    }
}
