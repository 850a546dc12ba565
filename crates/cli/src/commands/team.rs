//! Freezes.

use gubernum_api::team::{Freeze, NewFreeze};
use gubernum_client::Client;

use crate::arguments::Output;
use crate::arguments_members::FreezeArguments;
use crate::exit::{FINE, Failure};
use crate::table::{say, say_json, table};

pub(super) async fn freezes(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.freezes().await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    if all.is_empty() {
        say("Nothing is frozen.")?;
        return Ok(FINE);
    }
    let row = |f: &Freeze| {
        let until = f.until.strftime("%Y-%m-%d %H:%M UTC").to_string();
        vec![f.id.to_string(), f.scope.to_string(), f.member.clone(), until, f.reason.clone()]
    };
    say(&table(&["NUMBER", "FROZEN", "BY", "UNTIL", "BECAUSE"], all.iter().map(row).collect()))?;
    Ok(FINE)
}

pub(super) async fn freeze(client: &Client, wish: FreezeArguments, output: Output) -> Result<u8, Failure> {
    let wish = NewFreeze { scope: wish.scope, reason: wish.reason, hours: wish.hours };
    let freeze = client.freeze(&wish).await?;
    if output == Output::Json {
        say_json(&freeze)?;
        return Ok(FINE);
    }
    let until = freeze.until.strftime("%Y-%m-%d %H:%M UTC");
    say(&format!(
        "{} is frozen until {until}: nobody but you changes it. `gubernum unfreeze {}` lifts it.",
        freeze.scope, freeze.id
    ))?;
    Ok(FINE)
}
