//! The ports of a container, its networks, and how it finds others.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// A port that is published.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct PortRule {
    /// The address on the host; all addresses when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// The port on the host; a free one of the engine's choice when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host_port: Option<u16>,
    /// The last port of a range of the host, of which the engine takes one that is free; the port alone when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host_port_to: Option<u16>,
    /// The port inside.
    pub container_port: u16,
    /// `tcp`, `udp` or `sctp`.
    #[serde(default = "tcp")]
    pub protocol: String,
}

fn tcp() -> String {
    "tcp".to_owned()
}

/// One network that it is in.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct JoinedNetwork {
    /// Its name.
    pub name: String,
    /// Other names it answers to there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub aliases: Vec<String>,
    /// A fixed address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// A fixed IPv6 address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ipv6: Option<String>,
    /// Fixed addresses of the link alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub link_local: Vec<String>,
    /// A fixed hardware address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware_address: Option<String>,
    /// Options of the network's driver for this container.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
    /// The network with the highest is the default route (0 when absent).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gateway_priority: Option<i64>,
    /// What the interface is called inside.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interface: Option<String>,
}

/// How it is in the network.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NetworkRule {
    /// `host`, `none` or `container:name`; with networks of its own when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<String>,
    /// The networks; the engine's usual one when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub networks: Vec<JoinedNetwork>,
    /// Name servers.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dns: Vec<String>,
    /// Domains that are searched.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dns_search: Vec<String>,
    /// Options of the resolver.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dns_options: Vec<String>,
    /// Further names as `name:address`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hosts: Vec<String>,
    /// A fixed hardware address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware_address: Option<String>,
}
