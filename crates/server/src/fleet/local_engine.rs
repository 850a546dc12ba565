//! Finds an engine on the usual sockets of this machine, and the container that the service itself runs in.

use std::path::Path;

use gubernum_core::host::check_host_name;
use gubernum_engine::{Endpoint, Engine};
use gubernum_store::hosts::HostRecord;

/// Where engines usually listen.
const SOCKETS: [&str; 3] = ["/run/docker.sock", "/var/run/docker.sock", "/run/podman/podman.sock"];

/// Looks for an engine on this machine and names it after the machine.
pub async fn find_engine() -> Option<HostRecord> {
    for path in SOCKETS.iter().filter(|p| Path::new(p).exists()) {
        let endpoint = Endpoint::Unix(path.into());
        match Engine::open(&endpoint).await {
            Ok(_) => {
                return Some(HostRecord {
                    name: machine_name(),
                    address: endpoint.to_string(),
                    tls: None,
                    ports_address: None,
                    groups: Vec::new(),
                });
            }
            Err(error) => tracing::info!("{path} exists but cannot be used: {error}"),
        }
    }
    None
}

fn machine_name() -> String {
    let name = gethostname::gethostname().to_string_lossy().split('.').next().unwrap_or_default().to_owned();
    if check_host_name(&name).is_ok() { name } else { "local".to_owned() }
}

/// The id of the container that this process runs in, if it does.
pub fn own_container() -> Option<String> {
    let read = |path: &str| std::fs::read_to_string(path).unwrap_or_default();
    gubernum_core::selfguard::own_container_id(&read("/proc/self/cgroup"), &read("/proc/self/mountinfo"))
}
