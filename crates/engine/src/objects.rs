//! Changes of images, volumes, networks and the build cache; and pausing containers.

use std::collections::HashSet;
use std::time::Duration;

use bytes::Bytes;
use gubernum_core::image_name::ImageName;
use gubernum_core::plan::{NetworkSettings, VolumeSettings};
use http::Method;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::{Value, json};

use crate::calls::{Done, checked};
use crate::client::{CALL_TIMEOUT, Call, Engine};
use crate::error::EngineError;
use crate::wire;

/// How often a removal is tried that got into another one's way, and the pause after each.
const STUMBLES: usize = 5;
const AFTER_STUMBLE: Duration = Duration::from_millis(200);

/// Lets only an image's name or id into a path.
pub(crate) fn checked_image(image: &str) -> Result<String, EngineError> {
    let id = gubernum_core::assets::bare_id(image);
    if id.len() >= 12 && id.bytes().all(|b| b.is_ascii_hexdigit()) {
        return Ok(image.to_owned());
    }
    match image.parse::<ImageName>() {
        Ok(name) => Ok(name.to_string()),
        Err(_) => Err(EngineError::BadId(gubernum_core::text::shown(image, 80))),
    }
}

/// What containers use, by ids and names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct InUse {
    /// Ids of images, without the hash's name.
    pub images: HashSet<String>,
    /// Names of volumes.
    pub volumes: HashSet<String>,
    /// Ids and names of networks.
    pub networks: HashSet<String>,
}

impl Engine {
    /// The id of the image that a name means here, without the hash's name; `None` when there is none.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn image_id_of(&self, name: &str) -> Result<Option<String>, EngineError> {
        let path = format!("/images/{}/json", checked_image(name)?);
        match self.json::<Value>(Call::get("inspect image", &path)).await {
            Ok(image) => Ok(image["Id"].as_str().map(|id| gubernum_core::assets::bare_id(id).to_owned())),
            Err(e) if e.status() == Some(404) => Ok(None),
            Err(e) => Err(e),
        }
    }

    /// What containers use at this moment, running or not.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn in_use(&self) -> Result<InUse, EngineError> {
        let list: Vec<Value> = self.json(Call::get("list containers", "/containers/json?all=1")).await?;
        let mut used = InUse::default();
        for container in &list {
            let image = container["ImageID"].as_str().unwrap_or_default();
            used.images.insert(gubernum_core::assets::bare_id(image).to_owned());
            for mount in container["Mounts"].as_array().into_iter().flatten() {
                // podman lists mount points as plain text and names the volume nowhere.
                used.volumes.extend(mount["Name"].as_str().map(str::to_owned));
            }
            for network in container["NetworkSettings"]["Networks"].as_object().into_iter().flatten() {
                used.networks.extend(network.1["NetworkID"].as_str().map(str::to_owned));
                used.networks.insert(network.0.clone());
            }
        }
        Ok(used)
    }

    /// Gives an image another name.
    ///
    /// # Errors
    /// 404 when there is no such image.
    pub async fn tag(&self, image: &str, new_name: &str) -> Result<(), EngineError> {
        let name: ImageName =
            new_name.parse().map_err(|_| EngineError::BadId(gubernum_core::text::shown(new_name, 80)))?;
        let escape = |t: &str| utf8_percent_encode(t, NON_ALPHANUMERIC).to_string();
        let path = format!(
            "/images/{}/tag?repo={}&tag={}",
            checked_image(image)?,
            escape(&name.base()),
            escape(name.tag.as_deref().unwrap_or("latest"))
        );
        self.ok(Call::post("tag image", &path)).await.map(drop)
    }

    /// Takes an image, or one of its names, away. One after another: dockerd takes parents that nothing else uses along,
    /// and stumbles when two images that share one go at the same time.
    ///
    /// # Errors
    /// 409 when it is used.
    pub async fn remove_image(
        &self,
        image: &str,
        force: bool,
        keep_parents: bool,
    ) -> Result<(), EngineError> {
        let path = format!("/images/{}?force={force}&noprune={keep_parents}", checked_image(image)?);
        let _alone = self.removing().lock().await;
        let mut stumbled = false;
        for _ in 0..STUMBLES {
            let call = Call {
                method: Method::DELETE,
                timeout: CALL_TIMEOUT * 4,
                ..Call::get("remove image", &path)
            };
            match self.ok(call).await {
                // Somebody else at the host removes images too.
                Err(e) if e.to_string().contains("unrecognized image ID") => stumbled = true,
                Err(e) if stumbled && e.status() == Some(404) => return Ok(()),
                other => return other.map(drop),
            }
            tokio::time::sleep(AFTER_STUMBLE).await;
        }
        let message = "other images are being removed on the host at the same time; try again".to_owned();
        Err(EngineError::Answer { what: "", status: 409, message })
    }

    /// Makes a volume. One that is there already with the same name is left as it is by engines.
    ///
    /// # Errors
    /// The engine's error.
    pub async fn make_volume(&self, name: &str, wish: &VolumeSettings) -> Result<(), EngineError> {
        let driver = wish.driver.as_deref().unwrap_or("local");
        let body = json!({"Name": checked(name)?, "Driver": driver, "DriverOpts": wish.options, "Labels": wish.labels});
        let body = Some(Bytes::from(body.to_string()));
        self.ok(Call { body, ..Call::post("make volume", "/volumes/create") }).await.map(drop)
    }

    /// Removes a volume with its data. A helper of our own does not keep it: one that was requested as the service ended may
    /// be made by the engine later, when nobody knows of it any more.
    ///
    /// # Errors
    /// 409 when it is used.
    pub async fn remove_volume(&self, name: &str, force: bool) -> Result<(), EngineError> {
        match self.remove_volume_once(name, force).await {
            Err(error) if error.status() == Some(409) => {
                self.release_volume(name).await?;
                self.remove_volume_once(name, force).await
            }
            outcome => outcome,
        }
    }

    /// As [`Self::remove_volume`], asked once.
    pub(crate) async fn remove_volume_once(&self, name: &str, force: bool) -> Result<(), EngineError> {
        let path = format!("/volumes/{}?force={force}", checked(name)?);
        let call =
            Call { method: Method::DELETE, timeout: CALL_TIMEOUT * 4, ..Call::get("remove volume", &path) };
        self.ok(call).await.map(drop)
    }

    /// Makes a network; returns its id.
    ///
    /// # Errors
    /// The engine's error.
    pub async fn make_network(&self, name: &str, wish: &NetworkSettings) -> Result<String, EngineError> {
        let mut body = json!({
            "Name": checked(name)?, "CheckDuplicate": true, "Driver": wish.driver.as_deref().unwrap_or("bridge"),
            "Internal": wish.internal, "EnableIPv6": wish.ipv6, "Options": wish.options, "Labels": wish.labels,
        });
        if let Some(subnet) = &wish.subnet {
            let mut config = json!({"Subnet": subnet});
            if let Some(gateway) = &wish.gateway {
                config["Gateway"] = json!(gateway);
            }
            body["IPAM"] = json!({"Driver": "default", "Config": [config]});
        }
        let body = Some(Bytes::from(body.to_string()));
        let made: wire::Created =
            self.json(Call { body, ..Call::post("make network", "/networks/create") }).await?;
        Ok(made.id)
    }

    /// Removes a network.
    ///
    /// # Errors
    /// 403 or 409 when containers are in it.
    pub async fn remove_network(&self, id: &str) -> Result<(), EngineError> {
        let path = format!("/networks/{}", checked(id)?);
        self.ok(Call { method: Method::DELETE, ..Call::get("remove network", &path) }).await.map(drop)
    }

    /// Whether containers are attached to a network now.
    ///
    /// # Errors
    /// 404 when there is none.
    pub async fn network_is_used(&self, id: &str) -> Result<bool, EngineError> {
        let network: Value =
            self.json(Call::get("inspect network", &format!("/networks/{}", checked(id)?))).await?;
        Ok(network["Containers"].as_object().is_some_and(|c| !c.is_empty()))
    }

    /// Empties the build cache; returns the bytes won.
    ///
    /// # Errors
    /// The engine's error.
    pub async fn empty_build_cache(&self) -> Result<u64, EngineError> {
        let call = Call {
            timeout: Duration::from_secs(300),
            ..Call::post("empty build cache", "/build/prune?all=true")
        };
        match self.json::<Value>(call).await {
            Ok(won) => Ok(won["SpaceReclaimed"].as_u64().unwrap_or(0)),
            // podman keeps no cache of its own: its leftovers are untagged images.
            Err(e) if e.status() == Some(404) || e.status() == Some(405) => Ok(0),
            Err(e) => Err(e),
        }
    }

    /// Freezes a container's processes.
    ///
    /// # Errors
    /// 409 when it does not run.
    pub async fn pause(&self, id: &str) -> Result<Done, EngineError> {
        if self.inspect(id).await?.container.state == gubernum_core::container::State::Paused {
            return Ok(Done::Unchanged);
        }
        let path = format!("/containers/{}/pause", checked(id)?);
        self.ok(Call::post("pause", &path)).await.map(|_| Done::Changed)
    }

    /// Lets frozen processes go on.
    ///
    /// # Errors
    /// 409 when it is not frozen.
    pub async fn resume(&self, id: &str) -> Result<Done, EngineError> {
        if self.inspect(id).await?.container.state == gubernum_core::container::State::Running {
            return Ok(Done::Unchanged);
        }
        let path = format!("/containers/{}/unpause", checked(id)?);
        self.ok(Call::post("resume", &path)).await.map(|_| Done::Changed)
    }
}
