//! Registries and their images, revisions, newer images, and preferences of the service.

use gubernum_api::images::Preferences;
use gubernum_client::Client;
use gubernum_core::reason::bytes_words;

use crate::arguments::Output;
use crate::exit::{FINE, Failure};
use crate::table::{age, say, say_json, table};

pub(super) async fn search(client: &Client, text: &str, output: Output) -> Result<u8, Failure> {
    let found = client.search_images(text).await?;
    if output == Output::Json {
        say_json(&found)?;
    } else if found.is_empty() {
        say("No host has a matching image, and no configured registry lists one.")?;
    } else {
        let rows = found.iter().map(|f| vec![f.name.clone(), f.hosts.join(", ")]);
        say(&table(&["IMAGE", "HOSTS"], rows.collect()))?;
    }
    Ok(FINE)
}

pub(super) async fn registries(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.registries().await?;
    if output == Output::Json {
        say_json(&all)?;
    } else if all.is_empty() {
        say("No registries. Public images and those that the hosts have access to need none.")?;
    } else {
        let rows = all.iter().map(|r| {
            let way = match (r.plain_http, r.has_ca) {
                (true, _) => "plain HTTP",
                (false, true) => "TLS, own CA",
                (false, false) => "TLS",
            };
            let account = r.account.clone().unwrap_or_default();
            vec![r.address.clone(), account, way.to_owned(), r.member.clone(), age(r.added)]
        });
        say(&table(&["REGISTRY", "ACCOUNT", "TRANSPORT", "ADDED BY", "ADDED"], rows.collect()))?;
    }
    Ok(FINE)
}

pub(super) async fn tags(client: &Client, image: &str, limit: usize, output: Output) -> Result<u8, Failure> {
    let list = client.tags(image, limit).await?;
    if output == Output::Json {
        say_json(&list)?;
        return Ok(FINE);
    }
    let rows = list.tags.iter().map(|t| {
        vec![
            t.tag.clone(),
            t.created.map_or_else(|| "unknown".to_owned(), age),
            t.size.map_or_else(|| "unknown".to_owned(), bytes_words),
            t.architectures.join(", "),
            t.problem.clone().unwrap_or_default(),
        ]
    });
    let shown = table(&["TAG", "AGE", "DOWNLOAD SIZE", "PLATFORMS", ""], rows.collect());
    let count = if list.tags.len() < list.total { format!(" of {}", list.total) } else { String::new() };
    say(&format!("{shown}\n\n{}{count} tags of {}", list.tags.len(), list.repository))?;
    Ok(FINE)
}

pub(super) async fn earlier(client: &Client, container: &str, output: Output) -> Result<u8, Failure> {
    let all = client.earlier(container).await?;
    if output == Output::Json {
        say_json(&all)?;
    } else if all.is_empty() {
        say(&format!("No earlier revisions: '{container}' was not edited or updated with Gubernum."))?;
    } else {
        let rows = all.iter().map(|e| {
            vec![e.id.to_string(), age(e.created), e.image.clone(), e.member.clone(), e.summary.clone()]
        });
        say(&table(&["REVISION", "UNTIL", "IMAGE", "CHANGED BY", "CHANGES"], rows.collect()))?;
    }
    Ok(FINE)
}

pub(super) async fn newer(client: &Client, check: bool, output: Output) -> Result<u8, Failure> {
    let checks = if check { client.check_images().await? } else { client.image_checks().await? };
    if output == Output::Json {
        say_json(&checks)?;
        return Ok(FINE);
    }
    if checks.is_empty() {
        say("No checks yet. 'gubernum list newer-images --check' asks the registries now.")?;
        return Ok(FINE);
    }
    let rows = checks.iter().map(|c| {
        let state = match (&c.problem, c.outdated.is_empty()) {
            (Some(problem), _) => problem.clone(),
            (None, true) => "up to date".to_owned(),
            (None, false) => format!("newer image for {}", c.outdated.join(", ")),
        };
        vec![c.image.clone(), age(c.checked), state]
    });
    say(&table(&["IMAGE", "CHECKED", "STATE"], rows.collect()))?;
    Ok(FINE)
}

pub(super) async fn preferences(client: &Client, output: Output) -> Result<u8, Failure> {
    tell_preferences(&client.preferences().await?, output)
}

fn tell_preferences(all: &Preferences, output: Output) -> Result<u8, Failure> {
    if output == Output::Json {
        say_json(all)?;
        return Ok(FINE);
    }
    let fields = serde_json::to_value(all).map_err(|e| Failure::Said(e.to_string()))?;
    let rows = fields.as_object().into_iter().flatten().map(|(name, value)| {
        let value = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
        vec![name.clone(), value]
    });
    say(&table(&["SETTING", "VALUE"], rows.collect()))?;
    Ok(FINE)
}

pub(super) async fn set_preferences(
    client: &Client,
    change: impl FnOnce(&mut Preferences),
    output: Output,
) -> Result<u8, Failure> {
    let mut all = client.preferences().await?;
    change(&mut all);
    tell_preferences(&client.set_preferences(&all).await?, output)
}
