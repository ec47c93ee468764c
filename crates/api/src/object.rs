//! The objects of the configuration: frontends, pools, servers, lookups, checks, hosts, ranges.

use std::collections::BTreeMap;

use merismos_core::config::object::ObjectKind;
use merismos_core::health::timing::DetectionTiming;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One object as it stands in the configuration.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ObjectView {
    /// Its path, such as `pools.booking.servers.gull`.
    pub path: String,
    /// What kind of object it is.
    pub kind: ObjectKind,
    /// How people call it, such as `booking/gull`.
    pub name: String,
    /// It in one line.
    pub summary: String,
    /// What it is for.
    pub note: String,
    /// Labels of the object, by name.
    pub labels: BTreeMap<String, String>,
    /// The objects that use it, as paths: a pool's frontends, a check's pools, a host's servers.
    pub used_by: Vec<String>,
    /// Its keys, as in the document.
    #[schema(value_type = Object)]
    pub keys: serde_json::Value,
    /// What a check's timing means; absent for other objects.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false)]
    pub timing: Option<DetectionTiming>,
}

/// Some of the objects.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Objects {
    /// The revision, or the draft's base.
    pub revision: u64,
    /// How many there are that match.
    pub total: u64,
    /// Those of them that were asked for, in the order of their paths.
    pub objects: Vec<ObjectView>,
}

/// A machine, known or only seen in pools.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HostView {
    /// IP address of the host.
    pub address: String,
    /// Its name, when it is known.
    pub name: Option<String>,
    /// What it is for.
    pub note: String,
    /// Labels of the host, by name.
    pub labels: BTreeMap<String, String>,
    /// Its servers, as `pool/server`.
    pub servers: Vec<String>,
}

/// Machines in the order of their addresses.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Hosts {
    /// How many there are that match.
    pub total: u64,
    /// Those of them that were asked for.
    pub hosts: Vec<HostView>,
}
