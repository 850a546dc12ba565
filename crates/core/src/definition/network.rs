//! Ports, networks and name resolution of a container.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// A published port.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct PortRule {
    /// The host address; all when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// The host port; chosen by the engine when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host_port: Option<u16>,
    /// The last port of a range, of which the engine takes a free one; a single port when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host_port_to: Option<u16>,
    /// The container port.
    pub container_port: u16,
    /// `tcp`, `udp` or `sctp`.
    #[serde(default = "tcp")]
    pub protocol: String,
}

fn tcp() -> String {
    "tcp".to_owned()
}

/// A network connection.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NetworkConnection {
    /// Its name.
    pub name: String,
    /// Network aliases.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub aliases: Vec<String>,
    /// A fixed address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// A fixed IPv6 address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ipv6: Option<String>,
    /// Fixed link-local addresses.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub link_local: Vec<String>,
    /// A fixed MAC address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware_address: Option<String>,
    /// Network driver options for this container.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
    /// The network with the highest priority is the default route; 0 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gateway_priority: Option<i64>,
    /// Interface name in the container.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interface: Option<String>,
}

/// Network settings.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NetworkRule {
    /// `host`, `none` or `container:name`; its own networks when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<String>,
    /// The networks; the engine's default when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub networks: Vec<NetworkConnection>,
    /// DNS servers.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dns: Vec<String>,
    /// DNS search domains.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dns_search: Vec<String>,
    /// DNS resolver options.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dns_options: Vec<String>,
    /// Extra hosts as `name:address`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hosts: Vec<String>,
    /// A fixed MAC address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware_address: Option<String>,
}
