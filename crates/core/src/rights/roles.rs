//! Roles: named sets of rights. Three are built in; teams add their own.

use serde::{Deserialize, Serialize};

use super::{Right, Rights};

/// The role that sees everything and changes nothing.
pub const VIEWER: &str = "viewer";
/// The role that does an operator's daily work.
pub const OPERATOR: &str = "operator";
/// The role with every right.
pub const ADMIN: &str = "admin";

/// The longest name of a role, in characters.
pub const LONGEST_ROLE_NAME: usize = 40;
/// The most roles that a team may add.
pub const MOST_ROLES: usize = 100;

/// A named set of rights.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Role {
    /// Its name.
    pub name: String,
    /// Its rights.
    pub rights: Vec<Right>,
    /// Whether its members must have a second factor.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required))]
    pub second_factor: bool,
    /// Whether it is built in and cannot be changed.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required))]
    pub built_in: bool,
}

impl Role {
    /// Its rights as a set.
    pub fn rights(&self) -> Rights {
        self.rights.iter().copied().collect()
    }
}

/// Why a role is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RoleError {
    /// The name does not serve.
    #[error(
        "a role's name has 1 to {LONGEST_ROLE_NAME} lower-case letters, digits and '-', starting with a letter, for example 'night-shift'"
    )]
    Name,
    /// The name is that of a built-in role.
    #[error("'{0}' is built in and cannot be changed; choose another name")]
    BuiltIn(String),
    /// It allows nothing.
    #[error("a role needs at least one right, and 'see' among them")]
    Nothing,
    /// The right to see is missing.
    #[error("a role needs the right 'see': members cannot use what they cannot see")]
    Blind,
}

/// The roles that come with the service.
pub fn built_in() -> [Role; 3] {
    let role = |name: &str, rights: Vec<Right>| Role {
        name: name.to_owned(),
        rights,
        second_factor: false,
        built_in: true,
    };
    let operator = vec![
        Right::See,
        Right::ReadLogs,
        Right::Shell,
        Right::Files,
        Right::StartStop,
        Right::Deploy,
        Right::Remove,
        Right::Tidy,
        Right::Move,
        Right::Stacks,
    ];
    [
        role(VIEWER, vec![Right::See, Right::ReadLogs]),
        role(OPERATOR, operator),
        role(ADMIN, Right::ALL.to_vec()),
    ]
}

/// Checks a role that a team adds.
///
/// # Errors
/// See [`RoleError`].
pub fn check_role(name: &str, rights: &[Right]) -> Result<(), RoleError> {
    if [VIEWER, OPERATOR, ADMIN].contains(&name) {
        return Err(RoleError::BuiltIn(name.to_owned()));
    }
    let is_fine = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    let begins = name.chars().next().is_some_and(|c| c.is_ascii_lowercase());
    if !begins || name.chars().count() > LONGEST_ROLE_NAME || !name.chars().all(is_fine) {
        return Err(RoleError::Name);
    }
    if rights.is_empty() {
        return Err(RoleError::Nothing);
    }
    if rights.contains(&Right::See) { Ok(()) } else { Err(RoleError::Blind) }
}
