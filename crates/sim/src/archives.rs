//! Images of a simulated engine as archives: a manifest and a configuration as engines write them, without the layers'
//! bytes, whose sizes are in the configuration instead.

use std::io::Read;

use jiff::Timestamp;
use serde_json::{Value, json};

use crate::answers::image_id;
use crate::engine::SimEngine;
use crate::holdings::{SimImage, find_image};
use crate::life::Refusal;

const MANIFEST: &str = "manifest.json";
/// The largest file of an archive that is read.
const LARGEST: u64 = 4 * 1024 * 1024;

fn append(tar: &mut tar::Builder<Vec<u8>>, name: &str, value: &Value) -> std::io::Result<()> {
    let bytes = value.to_string().into_bytes();
    let mut header = tar::Header::new_gnu();
    header.set_size(bytes.len() as u64);
    header.set_mode(0o644);
    tar.append_data(&mut header, name, bytes.as_slice())
}

impl SimEngine {
    /// An image as an archive.
    pub(crate) fn save_image(&self, name: &str) -> Result<Vec<u8>, Refusal> {
        let state = self.state.lock();
        let (id, image) = find_image(&state, name).ok_or_else(|| (404, format!("No such image: {name}")))?;
        let own = format!("{}.json", id.trim_start_matches("sha256:"));
        let configuration = json!({
            "architecture": image.architecture, "os": "linux", "created": image.created.to_string(),
            "config": image.config(), "simulated": {"size": image.size, "shared": image.shared, "layers": image.layers()},
        });
        let manifest = json!([{"Config": own, "RepoTags": image.tags, "Layers": []}]);
        let mut tar = tar::Builder::new(Vec::new());
        let broken = |e: std::io::Error| (500, e.to_string());
        append(&mut tar, &own, &configuration).map_err(broken)?;
        append(&mut tar, MANIFEST, &manifest).map_err(broken)?;
        tar.into_inner().map_err(broken)
    }

    /// Takes the images of an archive in; returns the engine's words.
    pub(crate) fn load_images(&self, archive: &[u8]) -> Result<String, Refusal> {
        let broken = |e: std::io::Error| (400, format!("archive/tar: {e}"));
        let mut found: std::collections::BTreeMap<String, Value> = std::collections::BTreeMap::new();
        let mut tar = tar::Archive::new(archive);
        for entry in tar.entries().map_err(broken)? {
            let entry = entry.map_err(broken)?;
            let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
            let mut text = String::new();
            if entry.take(LARGEST).read_to_string(&mut text).is_ok()
                && let Ok(value) = serde_json::from_str(&text)
            {
                found.insert(name, value);
            }
        }
        let Some(manifest) = found.get(MANIFEST).and_then(Value::as_array) else {
            return Err((400, "open manifest.json: no such file or directory".to_owned()));
        };
        let mut said = String::new();
        for one in manifest {
            let name = one["Config"].as_str().unwrap_or_default();
            let Some(configuration) = found.get(name) else {
                return Err((400, format!("open {name}: no such file or directory")));
            };
            let tags: Vec<String> = one["RepoTags"]
                .as_array()
                .into_iter()
                .flatten()
                .filter_map(|t| t.as_str().map(str::to_owned))
                .collect();
            let own = &configuration["simulated"];
            let number = |key: &str| own[key].as_u64().unwrap_or(8 << 20);
            let created = configuration["created"].as_str().and_then(|t| t.parse().ok());
            let mut image = SimImage::new(
                tags.clone(),
                number("size"),
                number("shared"),
                created.unwrap_or_else(Timestamp::now),
                configuration["architecture"].as_str().unwrap_or("amd64"),
            );
            image.config = Some(configuration["config"].clone()).filter(Value::is_object);
            image.layers = serde_json::from_value(own["layers"].clone()).unwrap_or_default();
            let bare = name.trim_end_matches(".json");
            let id = if bare.len() == 64 { format!("sha256:{bare}") } else { image_id(name) };
            let mut state = self.state.lock();
            for other in state.holdings.images.values_mut() {
                other.tags.retain(|t| !tags.contains(t));
            }
            state.holdings.images.insert(id, image);
            drop(state);
            for tag in &tags {
                self.emit_other("image", tag, "load");
                said.push_str(&format!("Loaded image: {tag}\n"));
            }
        }
        Ok(said)
    }
}
