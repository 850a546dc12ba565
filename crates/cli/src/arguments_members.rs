//! The part of the command line for members: who may sign in, and what they may do.

use std::path::PathBuf;

use clap::Args;
use gubernum_api::members::{Grant, Right};
use gubernum_core::note::NotedObject;
use gubernum_core::rights::Scope;

#[derive(Debug, Clone, Args)]
pub(crate) struct Invite {
    /// Name of the new member
    pub(crate) name: String,
    /// Role, with '@' and a scope unless it is the whole fleet: 'viewer', 'operator@host:packhouse', 'operator@stack:orchard'; repeatable
    #[arg(long, required = true, value_name = "ROLE[@SCOPE]", value_parser = grant)]
    pub(crate) grant: Vec<Grant>,
    /// Hours until the link expires
    #[arg(long, default_value_t = 72)]
    pub(crate) hours: u32,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SetMemberArguments {
    /// The member's name
    pub(crate) name: String,
    /// Replace all grants: a role, with '@' and a scope unless it is the whole fleet; repeatable
    #[arg(long, value_name = "ROLE[@SCOPE]", value_parser = grant)]
    pub(crate) grant: Vec<Grant>,
    /// Deactivate the member, or activate again with 'false'
    #[arg(long, value_name = "BOOL", required_unless_present_any = ["grant", "second_factor"])]
    pub(crate) deactivated: Option<bool>,
    /// 'false' removes the member's second factor, for example after a lost phone
    #[arg(long, value_name = "BOOL")]
    pub(crate) second_factor: Option<bool>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SetRoleArguments {
    /// Name of the role
    pub(crate) name: String,
    /// Right of the role; replaces all before; repeatable
    #[arg(long, required = true, value_name = "RIGHT", value_parser = right)]
    pub(crate) right: Vec<Right>,
    /// Require a second factor; members without one have no rights until they set it up
    #[arg(long)]
    pub(crate) second_factor: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct FreezeArguments {
    /// What to freeze: 'fleet', 'host:packhouse', 'group:sheds', 'stack:orchard' or 'label:team=frost'
    #[arg(value_name = "SCOPE", value_parser = scope)]
    pub(crate) scope: Scope,
    /// Reason, shown to everyone whose change is refused
    #[arg(long)]
    pub(crate) reason: String,
    /// Hours until the freeze ends
    #[arg(long, default_value_t = 4)]
    pub(crate) hours: u32,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SnoozeArguments {
    /// Object: 'container:packhouse/orchard-web', 'host:packhouse', 'stack:packhouse/orchard', or 'fleet' for the service itself
    #[arg(value_name = "OBJECT", value_parser = object)]
    pub(crate) on: NotedObject,
    /// Reason, shown to the team
    #[arg(long)]
    pub(crate) reason: String,
    /// Hours until the snooze ends
    #[arg(long, default_value_t = 4)]
    pub(crate) hours: u32,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct NoteArguments {
    /// Object: 'fleet', 'host:packhouse', 'container:packhouse/orchard-web', and likewise stack, image, volume or network
    #[arg(value_name = "OBJECT", value_parser = object)]
    pub(crate) on: NotedObject,
    /// Text of the note; '@name' mentions a member
    pub(crate) text: String,
    /// Pin the note to the attention list
    #[arg(long)]
    pub(crate) pin: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SetDirectoryArguments {
    /// Settings as JSON; see docs/directories.md
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
    /// File with the client secret or bind password; defaults to the saved one
    #[arg(long, value_name = "FILE")]
    pub(crate) secret_file: Option<PathBuf>,
    /// Test the directory and save nothing
    #[arg(long)]
    pub(crate) test: bool,
}

/// An object that notes are on.
pub(crate) fn object(text: &str) -> Result<NotedObject, String> {
    text.parse().map_err(|e: gubernum_core::note::ObjectError| e.to_string())
}

fn scope(text: &str) -> Result<Scope, String> {
    text.parse().map_err(|e: gubernum_core::rights::ScopeError| e.to_string())
}

fn grant(text: &str) -> Result<Grant, String> {
    let (role, scope) = text.split_once('@').unwrap_or((text, "fleet"));
    Ok(Grant { role: role.to_owned(), scope: self::scope(scope)? })
}

fn right(text: &str) -> Result<Right, String> {
    text.parse().map_err(|_| {
        let words: Vec<&str> = Right::ALL.iter().map(|right| right.word()).collect();
        format!("unknown right; use one of: {}", words.join(", "))
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("viewer", "viewer on fleet")]
    #[case("operator@host:packhouse", "operator on host:packhouse")]
    #[case("operator@label:team=frost", "operator on label:team=frost")]
    fn a_grant_is_a_role_and_perhaps_a_place(#[case] text: &str, #[case] expected: &str) {
        let grant = grant(text).unwrap();
        assert_eq!(format!("{} on {}", grant.role, grant.scope), expected);
    }

    #[test]
    fn what_is_no_place_or_right_is_reported_with_what_is() {
        assert!(grant("operator@rack:7").unwrap_err().contains("host:NAME"));
        assert!(right("fly").unwrap_err().contains("start-stop"));
    }
}
