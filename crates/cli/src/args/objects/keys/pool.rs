//! The keys of pools.

use std::net::IpAddr;

use merismos_core::config::object::ObjectKind;
use merismos_core::name::Name;
use serde::Serialize;

use super::ObjectKeys;
use super::server::{ServerLimitKeys, ServerTimeoutKeys};

/// What a pool is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct PoolKeys {
    /// How it deals out work: round-robin, least-connections, least-load, random-two, hash or in-order
    #[arg(long)]
    algorithm: Option<String>,
    #[command(flatten)]
    #[serde(flatten)]
    hashing: HashKeys,
    /// What ties a client to its server: cookie
    #[arg(long, value_name = "HOW")]
    persistence: Option<String>,
    /// The name of the cookie that ties clients
    #[arg(long, value_name = "NAME")]
    pin_cookie: Option<String>,
    /// How long a client stays tied, such as 8h
    #[arg(long, value_name = "DURATION")]
    pin_lifetime: Option<String>,
    /// How many eligible servers it needs for a frontend with several pools to use it
    #[arg(long, value_name = "COUNT")]
    min_eligible: Option<u16>,
    /// How many eligible servers a tier needs to work
    #[arg(long, value_name = "COUNT")]
    tier_min_eligible: Option<u16>,
    /// When work goes back to a lower tier: automatic, "after 5m" or "by hand"
    #[arg(long)]
    failback: Option<String>,
    /// The time in which the share of a server that comes back grows, such as 30s
    #[arg(long, value_name = "DURATION")]
    ramp: Option<String>,
    /// How much of their limits its servers may use, in percent
    #[arg(long, value_name = "PERCENT")]
    capacity: Option<u8>,
    #[command(flatten)]
    #[serde(flatten)]
    limits: ServerLimitKeys,
    /// How much work may wait while every server is full; 0 is no queue
    #[arg(long, value_name = "COUNT")]
    queue_limit: Option<u32>,
    /// How long work may wait, such as 1s
    #[arg(long, value_name = "DURATION")]
    queue_timeout: Option<String>,
    /// The PROXY protocol header that its servers want: v1 or v2
    #[arg(long, value_name = "VERSION")]
    proxy_protocol: Option<String>,
    #[command(flatten)]
    #[serde(flatten)]
    reaching: UpstreamKeys,
    /// The check that judges its servers
    #[arg(long)]
    check: Option<String>,
    /// More checks that are made with it, with commas between
    #[arg(long, value_name = "CHECK", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    more_checks: Vec<String>,
    /// How many of its checks a server has to pass: all or any
    #[arg(long)]
    checks_needed: Option<String>,
    #[command(flatten)]
    #[serde(skip_serializing_if = "PassiveCheckKeys::is_empty")]
    passive_check: PassiveCheckKeys,
    /// What becomes of work when no server passes: refuse or all
    #[arg(long)]
    when_none: Option<String>,
    #[command(flatten)]
    #[serde(flatten)]
    times: ServerTimeoutKeys,
    /// How many servers one request may be offered to, over all tiers and pools
    #[arg(long, value_name = "COUNT")]
    attempts: Option<u8>,
    /// How much of its share a server gets while it is suspect, in percent
    #[arg(long, value_name = "PERCENT")]
    suspect_share: Option<u8>,
    /// How long an idempotent request waits for its first byte before another server gets it, such as 2s
    #[arg(long, value_name = "DURATION")]
    retry_after: Option<String>,
    /// How many of a hundred requests may be given to another server by --retry-after
    #[arg(long, value_name = "PERCENT")]
    retry_budget: Option<u8>,
    /// What becomes of TCP connections to a server that goes down: break or keep
    #[arg(long, value_name = "WHAT")]
    on_down: Option<String>,
    /// What becomes of TCP connections to a server that stands by again: break or keep
    #[arg(long, value_name = "WHAT")]
    on_failback: Option<String>,
}

impl ObjectKeys for PoolKeys {
    const KIND: ObjectKind = ObjectKind::Pool;
    type Name = Name;
}

/// What hash goes by.
#[derive(Debug, clap::Args, Serialize)]
struct HashKeys {
    /// hash: the keys, with commas between: client-address, path, path-with-query, host, sni, query:NAME, header:NAME,
    /// cookie:NAME
    #[arg(long, value_name = "KEY", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    hash_keys: Vec<String>,
    /// hash: how many bits of an IPv4 client's address count
    #[arg(long, value_name = "BITS")]
    hash_prefix_ipv4: Option<u8>,
    /// hash: how many bits of an IPv6 client's address count
    #[arg(long, value_name = "BITS")]
    hash_prefix_ipv6: Option<u8>,
    /// hash: what becomes of work that has none of the keys: spread or refuse
    #[arg(long, value_name = "WHAT")]
    hash_when_absent: Option<String>,
    /// hash: the most that a server gets of its share of the work in flight, in percent
    #[arg(long, value_name = "PERCENT")]
    bounded_load: Option<u16>,
}

/// How servers are reached.
#[derive(Debug, clap::Args, Serialize)]
struct UpstreamKeys {
    /// The version of HTTP that its servers are spoken to in: 1.1 or 2
    #[arg(long, value_name = "VERSION")]
    http_version: Option<String>,
    /// An address of the service's machine that connections to servers come from; several with commas between
    #[arg(long, value_name = "ADDRESS", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    source_addresses: Vec<IpAddr>,
    /// The most unused connections that each worker keeps to a server
    #[arg(long, value_name = "COUNT")]
    idle_connections: Option<u16>,
    /// How long a connection is kept unused, such as 4s
    #[arg(long, value_name = "DURATION")]
    idle_connection_timeout: Option<String>,
    /// How old a connection may be to be used once more, such as 1h
    #[arg(long, value_name = "DURATION")]
    idle_connection_age: Option<String>,
    /// How many connections each worker makes to a server that comes back
    #[arg(long, value_name = "COUNT")]
    preconnect: Option<u8>,
}

/// Failures of real traffic as evidence of health.
#[derive(Debug, clap::Args, Serialize)]
#[command(next_help_heading = "Passive check")]
struct PassiveCheckKeys {
    /// How many failures of traffic within the time make a server suspect or down
    #[arg(long, value_name = "COUNT")]
    #[serde(rename = "failures", skip_serializing_if = "Option::is_none")]
    passive_check_failures: Option<u32>,
    /// The time in which failures are counted, such as 10s
    #[arg(long, value_name = "DURATION")]
    #[serde(rename = "within", skip_serializing_if = "Option::is_none")]
    passive_check_within: Option<String>,
    /// Whether responses with a status of 500 and above count as failures too: true or false
    #[arg(long, value_name = "BOOL")]
    #[serde(rename = "count_5xx", skip_serializing_if = "Option::is_none")]
    passive_check_count_5xx: Option<bool>,
    /// What the failures make of a server that is up: suspect or down
    #[arg(long, value_name = "ACTION")]
    #[serde(rename = "action", skip_serializing_if = "Option::is_none")]
    passive_check_action: Option<String>,
    /// Whether the last eligible server of the pool may go down by it: true or false
    #[arg(long, value_name = "BOOL")]
    #[serde(rename = "allow_last", skip_serializing_if = "Option::is_none")]
    passive_check_allow_last: Option<bool>,
}

impl PassiveCheckKeys {
    fn is_empty(&self) -> bool {
        self.passive_check_failures.is_none()
            && self.passive_check_within.is_none()
            && self.passive_check_count_5xx.is_none()
            && self.passive_check_action.is_none()
            && self.passive_check_allow_last.is_none()
    }
}
