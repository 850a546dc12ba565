//! Commands and terminals as root: allowed, or held until the caller meets the team's guard.

use gubernum_core::container::Container;
use gubernum_core::guard::{Guard, GuardedChange, is_root};

use crate::access::{Dangerous, Identity, Passed};
use crate::exec::ExecContext;
use crate::web::ApiError;

/// Lets a program begin in a container, unless it would run as root and the team asks for more than the right to that.
///
/// # Errors
/// What is asked for, or the engine's error.
pub(super) async fn pass(
    context: &ExecContext,
    who: &Identity,
    container: &Container,
    user: Option<&str>,
    what: &str,
) -> Result<Passed, ApiError> {
    if context.guards.asked_for(GuardedChange::RootShell).await? == Guard::None {
        return Ok(Passed::default());
    }
    let engine = context.links.engine(&container.host)?;
    let default = engine.defined(&container.id).await?.definition.user;
    pass_as(context, who, container.reference(), user, default.as_deref(), what).await
}

/// As [`pass`], where it is known who runs by default.
///
/// # Errors
/// What is asked for.
pub(super) async fn pass_as(
    context: &ExecContext,
    who: &Identity,
    object: String,
    user: Option<&str>,
    default: Option<&str>,
    what: &str,
) -> Result<Passed, ApiError> {
    if !is_root(user, default) {
        return Ok(Passed::default());
    }
    let detail = format!("{what} as root in {object}");
    let change = Dangerous { danger: GuardedChange::RootShell, object, detail, exactly: what.to_owned() };
    Ok(context.guards.pass(&who.asker(), change).await?)
}
