//! Commands that change something: preview, or submit and wait.

use gubernum_api::requests::NewOperation;
use gubernum_client::Client;

use crate::arguments::{Manner, Output};
use crate::exit::{FINE, Failure};
use crate::progress;
use crate::table::{say, say_json, table};

pub(super) async fn run(
    client: &Client,
    wish: NewOperation,
    manner: &Manner,
    output: Output,
) -> Result<u8, Failure> {
    if manner.preview {
        let preview = client.preview(&wish).await?;
        if output == Output::Json {
            say_json(&preview)?;
        } else {
            let rows = preview.targets.iter().map(|t| {
                let what = match &t.refused {
                    Some(why) => format!("REFUSED: {why}"),
                    None => t.consequence.clone(),
                };
                vec![format!("{}/{}", t.host, t.name), what]
            });
            let head = format!("{} would do this; nothing has been done.", preview.kind);
            say(&format!("{head}\n\n{}", table(&["TARGET", "CONSEQUENCE"], rows.collect())))?;
        }
        return Ok(FINE);
    }
    let operation = client.submit(&wish, manner.key.as_deref()).await?;
    if manner.no_wait {
        if output == Output::Json {
            say_json(&operation)?;
        } else {
            say(&format!("operation {} is under way on {} targets", operation.id, operation.targets.len()))?;
        }
        return Ok(FINE);
    }
    let over = progress::wait(client, operation).await?;
    progress::outcome(over.as_ref(), output)
}

pub(super) async fn cancel(client: &Client, id: u64, output: Output) -> Result<u8, Failure> {
    let operation = client.cancel(id).await?;
    let over = progress::wait(client, operation).await?;
    progress::outcome(over.as_ref(), output)?;
    Ok(FINE)
}
