//! Lists and changes files in containers and volumes. Their contents go through `copy`.

use gubernum_api::files::{FileChange, FileKind};
use gubernum_client::{Client, Holder};
use gubernum_core::reason::bytes_words;

use crate::arguments::Output;
use crate::exit::{FINE, Failure};
use crate::table::{age, say, say_json, table};

/// Reads `host/name:/path` or `volume:host/name:/path`.
pub(super) fn place(text: &str) -> Result<(Holder, String), Failure> {
    let (volume, rest) = text.strip_prefix("volume:").map_or((false, text), |rest| (true, rest));
    match rest.split_once(":/") {
        Some((of, path)) if of.contains('/') => {
            let of = if volume { Holder::Volume(of.to_owned()) } else { Holder::Container(of.to_owned()) };
            Ok((of, format!("/{path}")))
        }
        _ => Err(Failure::Usage(format!(
            "'{text}' names no host: write 'host/name:/path', or 'volume:host/name:/path' in a volume"
        ))),
    }
}

/// Does one change of a file.
pub(super) async fn change(
    client: &Client,
    of: Holder,
    change: &FileChange,
    done: &str,
) -> Result<u8, Failure> {
    client.change_file(of, change).await?;
    say(done)?;
    Ok(FINE)
}

pub(super) async fn browse(client: &Client, text: &str, output: Output) -> Result<u8, Failure> {
    let (of, path) = place(text)?;
    let folder = client.folder(of, &path).await?;
    if output == Output::Json {
        say_json(&folder)?;
        return Ok(FINE);
    }
    let rows = folder.entries.iter().map(|e| {
        let size = if e.kind == FileKind::File { bytes_words(e.size) } else { String::new() };
        let name = match (&e.target, e.kind) {
            (Some(target), _) => format!("{} -> {target}", e.name),
            (None, FileKind::Folder) => format!("{}/", e.name),
            (None, _) => e.name.clone(),
        };
        vec![e.mode.clone(), format!("{}:{}", e.user, e.group), size, age(e.written), name]
    });
    say(&table(&["MODE", "OWNER", "SIZE", "AGE", "NAME"], rows.collect()))?;
    if let Some(why) = &folder.incomplete {
        crate::exit::note(why);
    }
    Ok(FINE)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_read() {
        let (of, path) = place("packhouse/api:/etc/x").unwrap();
        assert_eq!((of, path.as_str()), (Holder::Container("packhouse/api".into()), "/etc/x"));
        let (of, path) = place("volume:packhouse/readings:/").unwrap();
        assert_eq!((of, path.as_str()), (Holder::Volume("packhouse/readings".into()), "/"));
        assert!(place("packhouse/api").is_err() && place("volume:packhouse/readings").is_err());
        assert!(place("api:/etc").is_err());
    }
}
