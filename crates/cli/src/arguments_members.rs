//! The part of the command line that is about members: who may sign in, and what they may.

use std::path::PathBuf;

use clap::Args;
use gubernum_api::members::{Grant, Right};
use gubernum_core::note::NotedObject;
use gubernum_core::rights::Scope;

#[derive(Debug, Clone, Args)]
pub(crate) struct Invite {
    /// The name that the member will have
    pub(crate) name: String,
    /// What the member may: a role, with '@' and a part of the fleet where it is not all of it: 'viewer',
    /// 'operator@host:packhouse', 'operator@stack:orchard'; may be given more than once
    #[arg(long, required = true, value_name = "ROLE[@SCOPE]", value_parser = grant)]
    pub(crate) grant: Vec<Grant>,
    /// Hours for which the link is good
    #[arg(long, default_value_t = 72)]
    pub(crate) hours: u32,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SetMemberArguments {
    /// The member's name
    pub(crate) name: String,
    /// What the member may from now on, in place of all before: a role, with '@' and a part of the fleet where it is not
    /// all of it; may be given more than once
    #[arg(long, value_name = "ROLE[@SCOPE]", value_parser = grant)]
    pub(crate) grant: Vec<Grant>,
    /// Whether the member may sign in no more
    #[arg(long, value_name = "BOOL", required_unless_present_any = ["grant", "second_factor"])]
    pub(crate) deactivated: Option<bool>,
    /// 'false' takes the member's second factor away, for whoever has lost it
    #[arg(long, value_name = "BOOL")]
    pub(crate) second_factor: Option<bool>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SetRoleArguments {
    /// The role's name
    pub(crate) name: String,
    /// What it allows, in place of all before; may be given more than once
    #[arg(long, required = true, value_name = "RIGHT", value_parser = right)]
    pub(crate) right: Vec<Right>,
    /// Whoever has it must use a second factor, and may nothing until then
    #[arg(long)]
    pub(crate) second_factor: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct FreezeArguments {
    /// What is held: 'fleet', 'host:packhouse', 'group:sheds', 'stack:orchard', 'label:team=frost'
    #[arg(value_name = "SCOPE", value_parser = scope)]
    pub(crate) scope: Scope,
    /// Why; others read it when they are held off
    #[arg(long)]
    pub(crate) reason: String,
    /// Hours until it ends by itself
    #[arg(long, default_value_t = 4)]
    pub(crate) hours: u32,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SnoozeArguments {
    /// What it is on: 'container:packhouse/orchard-web', 'host:packhouse', 'stack:packhouse/orchard', or 'fleet' for the service itself
    #[arg(value_name = "OBJECT", value_parser = object)]
    pub(crate) on: NotedObject,
    /// Why; others read it
    #[arg(long)]
    pub(crate) reason: String,
    /// Hours until it is told again
    #[arg(long, default_value_t = 4)]
    pub(crate) hours: u32,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct NoteArguments {
    /// What it is on: 'fleet', 'host:packhouse', 'container:packhouse/orchard-web', and the same with stack, image, volume or
    /// network
    #[arg(value_name = "OBJECT", value_parser = object)]
    pub(crate) on: NotedObject,
    /// Its text; '@name' mentions a member
    pub(crate) text: String,
    /// Put it into the attention list
    #[arg(long)]
    pub(crate) pin: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SetDirectoryArguments {
    /// A file with the settings as JSON, as docs/directories.md describes it
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
    /// A file with the client's secret or the password to bind with; the one before stays otherwise
    #[arg(long, value_name = "FILE")]
    pub(crate) secret_file: Option<PathBuf>,
    /// Try the directory and set nothing up
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
        format!("there is no such right; there are: {}", words.join(", "))
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
    fn what_is_no_place_or_right_is_told_with_what_is() {
        assert!(grant("operator@rack:7").unwrap_err().contains("host:NAME"));
        assert!(right("fly").unwrap_err().contains("start-stop"));
    }
}
