//! Members, roles, invitations and rights.

use gubernum_api::members::{CreatedInvitation, Grant, Member, NewInvitation, NewRole, SetMember};
use gubernum_client::Client;

use crate::arguments::Output;
use crate::arguments_members::{Invite, SetMemberArguments, SetRoleArguments};
use crate::exit::{FINE, Failure};
use crate::table::{age, moment, say, say_json, table};

fn in_words(grants: &[Grant]) -> String {
    let words = |g: &Grant| match g.scope.to_string() {
        scope if scope == "fleet" => g.role.clone(),
        scope => format!("{}@{scope}", g.role),
    };
    if grants.is_empty() {
        "nothing".to_owned()
    } else {
        grants.iter().map(words).collect::<Vec<_>>().join(" ")
    }
}

/// The member of a name, in whatever case.
async fn named(client: &Client, name: &str) -> Result<Member, Failure> {
    let all = client.members().await?;
    let names: Vec<String> = all.iter().map(|m| m.name.clone()).collect();
    all.into_iter()
        .find(|m| m.name.eq_ignore_ascii_case(name))
        .ok_or_else(|| Failure::Usage(format!("no member '{name}'; there are: {}", names.join(", "))))
}

pub(super) async fn list(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.members().await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    let row = |m: &Member| {
        let seen = match (&m.deactivated, &m.last_seen) {
            (Some(at), _) => format!("deactivated {} ago", age(*at)),
            (None, Some(at)) => format!("{} ago", age(*at)),
            (None, None) => "never".to_owned(),
        };
        let factor = if m.second_factor { "yes" } else { "no" };
        vec![m.name.clone(), in_words(&m.grants), factor.to_owned(), seen]
    };
    say(&table(&["MEMBER", "GRANTS", "SECOND FACTOR", "LAST SEEN"], all.iter().map(row).collect()))?;
    Ok(FINE)
}

pub(super) async fn roles(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.roles().await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    let rows = all.iter().map(|role| {
        let from = if role.built_in { "the service" } else { "the team" };
        let rights: Vec<&str> = role.rights.iter().map(|right| right.word()).collect();
        vec![role.name.clone(), from.to_owned(), rights.join(" ")]
    });
    say(&table(&["ROLE", "ORIGIN", "RIGHTS"], rows.collect()))?;
    Ok(FINE)
}

pub(super) async fn invitations(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.invitations().await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    if all.is_empty() {
        say("No open invitations.")?;
        return Ok(FINE);
    }
    let rows = all.iter().map(|link| {
        let what = if link.is_reset { "a new password".to_owned() } else { in_words(&link.grants) };
        vec![link.id.to_string(), link.name.clone(), what, link.giver.clone(), moment(link.expires)]
    });
    say(&table(&["NUMBER", "MEMBER", "GRANTS", "INVITED BY", "EXPIRES"], rows.collect()))?;
    Ok(FINE)
}

/// What somebody may, and which grants give it.
pub(super) async fn rights(client: &Client, member: Option<&str>, output: Output) -> Result<u8, Failure> {
    let found = match member {
        Some(name) => client.member(named(client, name).await?.id).await?.rights,
        None => client.own_rights().await?.rights,
    };
    if output == Output::Json {
        say_json(&found)?;
        return Ok(FINE);
    }
    let rows = found.iter().map(|right| {
        let by: Vec<String> = right.by.iter().map(|g| format!("{} on {}", g.role, g.scope)).collect();
        let by = if by.is_empty() { "-".to_owned() } else { by.join(", ") };
        vec![right.right.word().to_owned(), by, right.right.deed().to_owned()]
    });
    say(&table(&["RIGHT", "GRANTED BY", "ALLOWS"], rows.collect()))?;
    Ok(FINE)
}

fn tell_link(client: &Client, made: &CreatedInvitation, output: Output) -> Result<u8, Failure> {
    if output == Output::Json {
        say_json(made)?;
        return Ok(FINE);
    }
    say(&format!(
        "{}{}\n\nGive this link to {}. It works once, expires {} and is not shown again.",
        client.url(),
        made.path,
        made.invitation.name,
        moment(made.invitation.expires)
    ))?;
    Ok(FINE)
}

pub(super) async fn invite(client: &Client, wish: Invite, output: Output) -> Result<u8, Failure> {
    let wish = NewInvitation { name: wish.name, grants: wish.grant, hours: Some(wish.hours) };
    let made = client.invite(&wish).await?;
    tell_link(client, &made, output)
}

pub(super) async fn reset(client: &Client, name: &str, output: Output) -> Result<u8, Failure> {
    let made = client.reset_member(named(client, name).await?.id).await?;
    tell_link(client, &made, output)
}

pub(super) async fn set(client: &Client, wish: SetMemberArguments, output: Output) -> Result<u8, Failure> {
    let id = named(client, &wish.name).await?.id;
    let grants = Some(wish.grant).filter(|grants| !grants.is_empty());
    let member = client
        .set_member(
            id,
            &SetMember { grants, deactivated: wish.deactivated, second_factor: wish.second_factor },
        )
        .await?;
    if output == Output::Json {
        say_json(&member)?;
        return Ok(FINE);
    }
    let state = if member.deactivated.is_some() { "; deactivated" } else { "" };
    say(&format!("{}: {}{state}", member.name, in_words(&member.grants)))?;
    Ok(FINE)
}

pub(super) async fn remove(client: &Client, name: &str) -> Result<u8, Failure> {
    let member = named(client, name).await?;
    client.remove_member(member.id).await?;
    say(&format!("{} is removed.", member.name))?;
    Ok(FINE)
}

pub(super) async fn set_role(client: &Client, wish: SetRoleArguments, output: Output) -> Result<u8, Failure> {
    let role = NewRole { name: wish.name, rights: wish.right, second_factor: wish.second_factor };
    let role = client.set_role(&role).await?;
    if output == Output::Json {
        say_json(&role)?;
        return Ok(FINE);
    }
    let rights: Vec<&str> = role.rights.iter().map(|right| right.word()).collect();
    say(&format!("{}: {}", role.name, rights.join(" ")))?;
    Ok(FINE)
}
