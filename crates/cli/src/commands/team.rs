//! The team: freezes, notes, presence and queued operations.

use gubernum_api::team::{Freeze, NewFreeze, NewNote, NewSnooze, Note, NotedObject, Snooze};
use gubernum_client::Client;

use crate::arguments::Output;
use crate::arguments_members::{FreezeArguments, NoteArguments, SnoozeArguments};
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
    say(&table(&["NUMBER", "SCOPE", "BY", "UNTIL", "REASON"], all.iter().map(row).collect()))?;
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
        "{} is frozen until {until}: only you can change it. 'gubernum unfreeze {}' lifts it.",
        freeze.scope, freeze.id
    ))?;
    Ok(FINE)
}

pub(super) async fn snoozes(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.snoozes().await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    if all.is_empty() {
        say("Nothing is snoozed.")?;
        return Ok(FINE);
    }
    let row = |s: &Snooze| {
        let until = s.until.strftime("%Y-%m-%d %H:%M UTC").to_string();
        vec![s.id.to_string(), s.on.to_string(), s.code.clone(), s.member.clone(), until, s.reason.clone()]
    };
    say(&table(&["NUMBER", "OBJECT", "SNOOZED", "BY", "UNTIL", "REASON"], all.iter().map(row).collect()))?;
    Ok(FINE)
}

/// Sets aside all that needs attention on the object now.
pub(super) async fn snooze(client: &Client, wish: SnoozeArguments, output: Output) -> Result<u8, Failure> {
    let codes: Vec<String> = client
        .attention()
        .await?
        .into_iter()
        .filter(|item| item.object() == wish.on && item.snoozed.is_none())
        .map(|item| item.reason.code)
        .collect();
    let mut made = Vec::new();
    for code in codes {
        let wish = NewSnooze { on: wish.on.clone(), code, reason: wish.reason.clone(), hours: wish.hours };
        made.push(client.snooze(&wish).await?);
    }
    if output == Output::Json {
        say_json(&made)?;
        return Ok(FINE);
    }
    match made.first() {
        None => say(&format!("Nothing on {} needs attention.", wish.on))?,
        Some(first) => {
            let until = first.until.strftime("%Y-%m-%d %H:%M UTC");
            say(&format!("{} is snoozed until {until}, for the whole team.", wish.on))?;
            for snooze in &made {
                say(&format!("'gubernum unsnooze {}' ends it ('{}').", snooze.id, snooze.code))?;
            }
        }
    }
    Ok(FINE)
}

pub(super) async fn notes(client: &Client, on: Option<&NotedObject>, output: Output) -> Result<u8, Failure> {
    let all = client.notes(on).await?;
    let new: Vec<u64> = all.iter().filter(|note| note.is_new).map(|note| note.id).collect();
    if output == Output::Json {
        say_json(&all)?;
    } else if all.is_empty() {
        say("No notes.")?;
    } else {
        let row = |n: &Note| {
            let marks = [("pinned", n.pinned), ("mentions you", n.is_new)];
            let marks: Vec<&str> = marks.iter().filter(|(_, is)| *is).map(|(word, _)| *word).collect();
            let when = n.created.strftime("%Y-%m-%d %H:%M UTC").to_string();
            vec![n.id.to_string(), n.on.to_string(), n.author.clone(), when, marks.join(", "), n.text.clone()]
        };
        say(&table(&["NUMBER", "OBJECT", "BY", "TIME", "", "NOTE"], all.iter().map(row).collect()))?;
    }
    if !new.is_empty() {
        client.seen_mentions(&new).await?;
    }
    Ok(FINE)
}

pub(super) async fn note(client: &Client, wish: NoteArguments, output: Output) -> Result<u8, Failure> {
    let wish = NewNote { on: wish.on, text: wish.text, pinned: wish.pin };
    let note = client.write_note(&wish).await?;
    if output == Output::Json {
        say_json(&note)?;
        return Ok(FINE);
    }
    let told = if note.mentions.is_empty() {
        String::new()
    } else {
        format!(", mentions {}", note.mentions.join(", "))
    };
    say(&format!("Note {} is on {}{told}.", note.id, note.on))?;
    Ok(FINE)
}

pub(super) async fn team(client: &Client, output: Output) -> Result<u8, Failure> {
    let team = client.team().await?;
    if output == Output::Json {
        say_json(&team)?;
        return Ok(FINE);
    }
    let time = |at: jiff::Timestamp| at.strftime("%Y-%m-%d %H:%M UTC").to_string();
    if team.people.is_empty() {
        say("Nobody has the console open.")?;
    } else {
        let rows = team.people.iter().map(|p| {
            let at = p.looking_at.as_ref().map(ToString::to_string).unwrap_or_default();
            vec![p.member.clone(), time(p.since), at]
        });
        say(&table(&["MEMBER", "SINCE", "PAGE"], rows.collect()))?;
    }
    if !team.waiting.is_empty() {
        let rows = team
            .waiting
            .iter()
            .map(|w| vec![w.member.clone(), time(w.since), w.kind.to_string(), w.targets.join(" ")]);
        say("")?;
        say(&table(&["QUEUED", "SINCE", "OPERATION", "TARGETS"], rows.collect()))?;
    }
    Ok(FINE)
}
