//! The keys of servers and of lookups, and what pools set for all of their servers.

use merismos_core::config::object::ObjectKind;
use merismos_core::name::PoolServer;
use serde::Serialize;

use super::ObjectKeys;

/// What a server is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct ServerKeys {
    /// Where it listens: ADDRESS:PORT or HOST:PORT
    #[arg(long, value_name = "ADDRESS:PORT")]
    address: Option<String>,
    /// Where it listens too; the connection that is made first is used; several with commas between
    #[arg(long, value_name = "ADDRESS:PORT", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    other_addresses: Vec<String>,
    /// Its part of the work, 0 to 1000
    #[arg(long)]
    weight: Option<u16>,
    /// Its rank, 0 to 7: the lowest tier with a server that can work does
    #[arg(long)]
    tier: Option<u8>,
    /// How much of its weight and its limits counts, in percent
    #[arg(long, value_name = "PERCENT")]
    capacity: Option<u8>,
    #[command(flatten)]
    #[serde(flatten)]
    limits: ServerLimitKeys,
    #[command(flatten)]
    #[serde(flatten)]
    times: ServerTimeoutKeys,
}

impl ObjectKeys for ServerKeys {
    const KIND: ObjectKind = ObjectKind::Server;
    type Name = PoolServer;
}

/// What a lookup is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct LookupKeys {
    /// The DNS name
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// Which records: address (A and AAAA) or service (SRV)
    #[arg(long)]
    records: Option<String>,
    /// The port of each server; for address records
    #[arg(long)]
    port: Option<u16>,
    /// The weight of each server; for address records
    #[arg(long)]
    weight: Option<u16>,
    /// All addresses of a name are one server's
    #[arg(long, num_args = 0..=1, default_missing_value = "true", value_name = "YES")]
    merge_addresses: Option<bool>,
    /// The name server to ask
    #[arg(long, value_name = "ADDRESS:PORT")]
    resolver: Option<String>,
    /// What becomes of the servers when there are no records any more: keep or remove
    #[arg(long)]
    when_empty: Option<String>,
    /// Not asked for more often than this, such as 5s
    #[arg(long, value_name = "DURATION")]
    min_interval: Option<String>,
}

impl ObjectKeys for LookupKeys {
    const KIND: ObjectKind = ObjectKind::Lookup;
    type Name = PoolServer;
}

/// What a server may be given at once.
#[derive(Debug, clap::Args, Serialize)]
pub(super) struct ServerLimitKeys {
    /// The most connections to a server
    #[arg(long, value_name = "COUNT")]
    connection_limit: Option<u32>,
    /// The most pieces of work in flight at a server
    #[arg(long, value_name = "COUNT")]
    in_flight_limit: Option<u32>,
    /// The most pieces of work that a server gets in a second
    #[arg(long, value_name = "COUNT")]
    rate_limit: Option<u32>,
}

/// How long the steps of an exchange may take.
#[derive(Debug, clap::Args, Serialize)]
pub(super) struct ServerTimeoutKeys {
    /// How long connecting may take, such as 1s
    #[arg(long, value_name = "DURATION")]
    connect_timeout: Option<String>,
    /// How long an answer may take to begin, such as 30s
    #[arg(long, value_name = "DURATION")]
    first_byte_timeout: Option<String>,
    /// How long an answer may take from its first byte to its last, such as 1h
    #[arg(long, value_name = "DURATION")]
    response_timeout: Option<String>,
    /// How long a server may rest in the middle of a body, such as 60s
    #[arg(long, value_name = "DURATION")]
    idle_timeout: Option<String>,
}
