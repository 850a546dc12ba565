//! Changes of a simulated engine's images, volumes and networks, and of containers while they run: limits, pausing.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde_json::{Value, json};

use crate::engine::{SimEngine, Status};
use crate::holdings::{SimNetwork, SimVolume, find_image};
use crate::life::{Refusal, missing};

fn texts(value: &Value) -> BTreeMap<String, String> {
    let entries = value.as_object().into_iter().flatten();
    entries.map(|(k, v)| (k.clone(), v.as_str().unwrap_or_default().to_owned())).collect()
}

impl SimEngine {
    /// Freezes a container, or lets it go on.
    pub(crate) fn freeze(&self, id: &str, freeze: bool) -> Result<(), Refusal> {
        let mut state = self.state.lock();
        let c = state.containers.get_mut(id).ok_or_else(|| missing(id))?;
        let (from, to, word) = if freeze {
            (Status::Running, Status::Paused, "pause")
        } else {
            (Status::Paused, Status::Running, "unpause")
        };
        if c.status != from {
            let is = if freeze { "is not running" } else { "is not paused" };
            return Err((409, format!("Container {id} {is}")));
        }
        c.status = to;
        let spec = c.spec.clone();
        self.emit(&mut state, id, &spec, word, &[]);
        Ok(())
    }

    /// Changes limits and restart policy.
    pub(crate) fn update(&self, id: &str, wish: &Value) -> Result<(), Refusal> {
        let mut state = self.state.lock();
        let c = state.containers.get_mut(id).ok_or_else(|| missing(id))?;
        if let Some(policy) = wish["RestartPolicy"]["Name"].as_str() {
            policy.clone_into(&mut c.spec.restart_policy);
        }
        if let Some(memory) = wish["Memory"].as_u64() {
            c.spec.memory_limit = Some(memory).filter(|m| *m > 0);
        }
        if c.body.is_null() {
            c.body = json!({"HostConfig": {}});
        }
        for (key, value) in wish.as_object().into_iter().flatten() {
            c.body["HostConfig"][key] = value.clone();
        }
        let spec = c.spec.clone();
        self.emit(&mut state, id, &spec, "update", &[]);
        Ok(())
    }

    /// Gives an image another name, removing it from the one that has it.
    pub(crate) fn tag(&self, image: &str, name: &str) -> Result<(), Refusal> {
        let mut state = self.state.lock();
        let id = find_image(&state, image).map(|(id, _)| id.clone());
        let id = id.ok_or_else(|| (404, format!("No such image: {image}")))?;
        for other in state.holdings.images.values_mut() {
            other.tags.retain(|t| t != name);
        }
        if let Some(image) = state.holdings.images.get_mut(&id) {
            image.tags.push(name.to_owned());
        }
        drop(state);
        self.emit_other("image", name, "tag");
        Ok(())
    }

    /// Removes a name of an image, and the image with its last one.
    pub(crate) fn untag(&self, wanted: &str, force: bool) -> Result<Value, Refusal> {
        let mut state = self.state.lock();
        let found = find_image(&state, wanted).map(|(id, i)| (id.clone(), i.tags.clone()));
        let (id, tags) = found.ok_or_else(|| (404, format!("No such image: {wanted}")))?;
        let by_name = tags.iter().any(|t| t == wanted);
        let user =
            state.containers.values().find(|c| c.image == id).map(|c| (c.id.clone(), c.status.alive()));
        let last = !by_name || tags.len() == 1;
        if !by_name && tags.len() > 1 && !force {
            let text = format!(
                "conflict: unable to delete {wanted} (must be forced) - image is referenced in multiple repositories"
            );
            return Err((409, text));
        }
        if let (Some((user, alive)), true) = (user, last)
            && (alive || !force)
        {
            let how = if alive { "cannot be forced" } else { "must be forced" };
            let text = format!(
                "conflict: unable to remove repository reference \"{wanted}\" ({how}) - container {user} is using its referenced image"
            );
            return Err((409, text));
        }
        if last {
            state.holdings.images.remove(&id);
        } else if let Some(image) = state.holdings.images.get_mut(&id) {
            image.tags.retain(|t| t != wanted);
        }
        drop(state);
        self.emit_other("image", wanted, if last { "delete" } else { "untag" });
        Ok(if last { json!([{"Untagged": wanted}, {"Deleted": id}]) } else { json!([{"Untagged": wanted}]) })
    }

    pub(crate) fn make_volume(&self, wish: &Value) -> Result<Value, Refusal> {
        let name = wish["Name"].as_str().unwrap_or_default().to_owned();
        let driver = wish["Driver"].as_str().filter(|d| !d.is_empty()).unwrap_or("local").to_owned();
        if driver != "local" {
            let text = format!(
                "create {name}: error looking up volume plugin {driver}: plugin \"{driver}\" not found"
            );
            return Err((404, text));
        }
        let volume = SimVolume {
            size: 0,
            created: Timestamp::now(),
            labels: texts(&wish["Labels"]),
            driver,
            options: texts(&wish["DriverOpts"]),
        };
        let mut state = self.state.lock();
        state.holdings.files.folder(&crate::files::of_volume(&name));
        state.holdings.volumes.entry(name.clone()).or_insert(volume);
        drop(state);
        self.emit_other("volume", &name, "create");
        Ok(json!({"Name": name, "Driver": "local", "Mountpoint": crate::files::of_volume(&name)}))
    }

    pub(crate) fn remove_volume(&self, name: &str) -> Result<(), Refusal> {
        let mut state = self.state.lock();
        if !state.holdings.volumes.contains_key(name) {
            return Err((404, format!("get {name}: no such volume")));
        }
        let user = state.containers.values().find(|c| c.spec.volumes.iter().any(|v| v.source == name));
        if let Some(user) = user {
            return Err((409, format!("remove {name}: volume is in use - [{}]", user.id)));
        }
        state.holdings.volumes.remove(name);
        state.holdings.files.remove(&crate::files::of_volume(name));
        drop(state);
        self.emit_other("volume", name, "destroy");
        Ok(())
    }

    pub(crate) fn make_network(&self, wish: Value) -> Result<Value, Refusal> {
        let name = wish["Name"].as_str().unwrap_or_default().to_owned();
        let mut state = self.state.lock();
        if state.holdings.networks.contains_key(&name) {
            return Err((409, format!("network with name {name} already exists")));
        }
        state.holdings.networks.insert(name.clone(), SimNetwork { created: Timestamp::now(), body: wish });
        drop(state);
        self.emit_other("network", &name, "create");
        Ok(json!({"Id": crate::holdings::network_id(&name), "Warning": ""}))
    }

    /// A network's name, from its name or id.
    pub(crate) fn network(&self, wanted: &str) -> Result<String, Refusal> {
        let state = self.state.lock();
        let name =
            state.holdings.networks.keys().find(|n| *n == wanted || crate::holdings::network_id(n) == wanted);
        name.cloned().ok_or_else(|| (404, format!("network {wanted} not found")))
    }

    pub(crate) fn remove_network(&self, wanted: &str) -> Result<(), Refusal> {
        let name = self.network(wanted)?;
        let mut state = self.state.lock();
        if matches!(name.as_str(), "bridge" | "host" | "none") {
            return Err((403, format!("{name} is a pre-defined network and cannot be removed")));
        }
        if state.containers.values().any(|c| c.status.alive() && c.networks.contains_key(&name)) {
            return Err((403, format!("error while removing network: network {name} has active endpoints")));
        }
        state.holdings.networks.remove(&name);
        drop(state);
        self.emit_other("network", &name, "destroy");
        Ok(())
    }

    /// Puts a container into a network, or takes it out.
    pub(crate) fn join(&self, network: &str, container: &str, wish: Option<Value>) -> Result<(), Refusal> {
        let name = self.network(network)?;
        let id = self.find(container).ok_or_else(|| missing(container))?;
        let mut state = self.state.lock();
        let c = state.containers.get_mut(&id).ok_or_else(|| missing(&id))?;
        match wish {
            Some(_) if c.networks.contains_key(&name) => {
                return Err((
                    403,
                    format!("endpoint with name {} already exists in network {name}", c.spec.name),
                ));
            }
            Some(wish) => drop(c.networks.insert(name.clone(), wish)),
            None if c.networks.remove(&name).is_none() => {
                return Err((404, format!("container {id} is not connected to network {name}")));
            }
            None => {}
        }
        let spec = c.spec.clone();
        // Engines tell of it as something of the network; the container's own record is another by then too.
        self.emit(&mut state, &id, &spec, "update", &[]);
        Ok(())
    }

    /// The host port that another running container holds already.
    pub(crate) fn port_taken(&self, id: &str) -> Option<u16> {
        let state = self.state.lock();
        let own = state.containers.get(id)?;
        let held = |port: u16, protocol: &str| {
            state.containers.values().any(|c| {
                c.id != id
                    && c.status.alive()
                    && c.spec.ports.iter().any(|p| p.host == Some(port) && p.protocol == protocol)
            })
        };
        own.spec.ports.iter().find_map(|p| p.host.filter(|port| *port > 0 && held(*port, &p.protocol)))
    }
}
