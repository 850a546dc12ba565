//! Directories through which members sign in.

use gubernum_api::directories::{Directory, DirectoryKind, DirectorySettings, SetDirectory};
use gubernum_client::Client;

use crate::arguments::Output;
use crate::arguments_members::SetDirectoryArguments;
use crate::exit::{ALL_FAILED, FINE, Failure};
use crate::table::{say, say_json, table};

pub(super) async fn list(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.directories().await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    if all.is_empty() {
        say("Members sign in with passwords of this service only.")?;
        return Ok(FINE);
    }
    for directory in &all {
        say(&told(directory))?;
    }
    Ok(FINE)
}

fn told(directory: &Directory) -> String {
    let head = match &directory.settings {
        DirectorySettings::Openid(s) => format!("openid: {} as {}", s.issuer, s.client_id),
        DirectorySettings::Ldap(s) => format!("ldap: {} below {}", s.address, s.base),
    };
    let failure = directory.failure.as_ref().map(|why| format!("\n{why}")).unwrap_or_default();
    let row = |line: &gubernum_api::directories::GroupGrant| {
        vec![line.group.clone(), line.role.clone(), line.scope.to_string()]
    };
    let lines = table(&["GROUP", "ROLE", "SCOPE"], directory.mapping.iter().map(row).collect());
    format!("{head}\ngroups are refreshed after {} s{failure}\n{lines}", directory.recheck_seconds)
}

fn unreadable(file: &std::path::Path, error: impl std::fmt::Display) -> Failure {
    Failure::Usage(format!("{}: {error}", file.display()))
}

pub(super) async fn set(client: &Client, wish: SetDirectoryArguments, output: Output) -> Result<u8, Failure> {
    let text = std::fs::read_to_string(&wish.file).map_err(|e| unreadable(&wish.file, e))?;
    let mut settings: SetDirectory = serde_json::from_str(&text).map_err(|e| unreadable(&wish.file, e))?;
    if let Some(file) = &wish.secret_file {
        let secret = std::fs::read_to_string(file).map_err(|e| unreadable(file, e))?;
        settings.secret = Some(secret.trim_end_matches(['\r', '\n']).to_owned());
    }
    if wish.test {
        let test = client.test_directory(&settings).await?;
        if output == Output::Json {
            say_json(&test)?;
        } else {
            for step in &test.steps {
                say(&format!("{step}."))?;
            }
            say(test.failure.as_deref().unwrap_or("The directory can be used."))?;
        }
        return Ok(if test.failure.is_some() { ALL_FAILED } else { FINE });
    }
    let directory = client.set_directory(&settings).await?;
    if output == Output::Json {
        say_json(&directory)?
    } else {
        say(&told(&directory))?
    }
    Ok(FINE)
}

pub(super) async fn remove(client: &Client, kind: DirectoryKind) -> Result<u8, Failure> {
    client.remove_directory(kind).await?;
    say(&format!("The directory {} is removed; its members can no longer sign in.", kind.word()))?;
    Ok(FINE)
}
