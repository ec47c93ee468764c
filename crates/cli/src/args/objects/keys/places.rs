//! The keys of what has an address: hosts, ranges and lists of networks.

use std::net::IpAddr;

use merismos_core::config::object::ObjectKind;
use merismos_core::name::Name;
use serde::Serialize;

use super::ObjectKeys;

/// What a host is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct HostKeys {
    /// Its address
    #[arg(long)]
    address: Option<IpAddr>,
}

impl ObjectKeys for HostKeys {
    const KIND: ObjectKind = ObjectKind::Host;
    type Name = Name;
}

/// What a range is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct RangeKeys {
    /// A prefix such as 192.0.2.16/28, or a range such as 192.0.2.16-192.0.2.31
    #[arg(long)]
    addresses: Option<String>,
}

impl ObjectKeys for RangeKeys {
    const KIND: ObjectKind = ObjectKind::Range;
    type Name = Name;
}

/// What a list of networks is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct NetworkKeys {
    /// An address or a prefix such as 192.0.2.0/24; several with commas between
    #[arg(long, value_name = "PREFIX", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    prefixes: Vec<String>,
}

impl ObjectKeys for NetworkKeys {
    const KIND: ObjectKind = ObjectKind::Network;
    type Name = Name;
}
