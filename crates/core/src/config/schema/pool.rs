//! Pools: sets of servers that can do the same work.

use std::collections::BTreeMap;

use merismos_derive::Keys;
use serde::Serialize;
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::document::{
    Algorithm, Failback, FailureHandling, HashSettings, Labels, LookupSpec, Persistence, QueueSettings,
    ServerLimits, ServerSpec, UpstreamSettings,
};
use crate::name::Name;
use crate::units::Span;

/// A set of servers that can do the same work.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct PoolSpec {
    /// How a server is picked for each request, connection or flow.
    #[key(basic, default = "round-robin")]
    pub algorithm: Algorithm,
    /// What `hash` goes by.
    #[serde(flatten)]
    pub hashing: HashSettings,
    /// What ties clients to its servers.
    #[serde(flatten)]
    pub persistence: Persistence,
    /// Fewest eligible servers with which a tier works; when no tier has as many, the one with most works.
    #[key(range = 1..=1_000, default = "1", group = "Tiers and capacity")]
    #[serde(skip_serializing_if = "is_one")]
    pub tier_min_eligible: u16,
    /// Fewest eligible servers with which a frontend with several pools uses this one.
    ///
    /// Servers that stand by in higher tiers do not count.
    #[key(range = 1..=1_000, default = "1")]
    #[serde(skip_serializing_if = "is_one")]
    pub min_eligible: u16,
    /// When work returns to a lower tier that can work again: `automatic`, `after 5m` or `by hand`.
    ///
    /// `after` waits until the tier was able to work for so long without a break. `by hand` waits for a person's order.
    #[key(default = "automatic")]
    #[serde(skip_serializing_if = "is_automatic")]
    pub failback: Failback,
    /// Slow start: time in which the share of a server that returned or recovered grows to its full share.
    ///
    /// It applies to every algorithm but `in-order`, which has ranks and no shares. Without it a cold server gets its whole share at once.
    #[key(range = "1s".."1h", label = "Slow start (ramp)")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ramp: Option<Span>,
    /// Part of their limits that the servers may use, in percent; also of the pool's weight among several pools.
    #[key(range = 1..=100, default = "100")]
    #[serde(skip_serializing_if = "is_full")]
    pub capacity: u8,
    /// The limits of each server that has none of its own.
    #[serde(flatten)]
    pub limits: ServerLimits,
    /// Whether fewer requests than `in_flight_limit` may be in flight at a server while its response times grow (`http`).
    ///
    /// Requests that would wait inside an overloaded server wait here, and those that wait longer than `queue_timeout` get 503 at once instead of a timeout: the others
    /// stay fast. The limit goes by how much longer responses take than they do while the server has little to do; without `in_flight_limit` it is 10000 at most.
    #[key(default = "false")]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub adaptive_limit: bool,
    /// What becomes of work for which every server is full.
    #[serde(flatten, skip_serializing_if = "QueueSettings::is_default")]
    pub queue: QueueSettings,
    /// Version of the PROXY protocol header with which connections to the servers begin.
    ///
    /// Connections with a header are not kept for other clients. The header names the peer of the client's connection, or whom a trusted
    /// proxy's own header names; never whom `Forwarded` names.
    #[key(label = "PROXY protocol", group = "Connections to servers")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub proxy_protocol: Option<ProxyVersion>,
    /// How its servers are reached.
    #[serde(flatten)]
    pub reaching: UpstreamSettings,
    /// Active health check of the servers; without one every server is taken to work.
    #[key(basic, refers = Check, group = "Health", without = "every server is taken to work")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub check: Option<Name>,
    /// More checks, made together with the first at its interval.
    #[key(count = 0..=8, refers = Check, example = "lag")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub more_checks: Vec<Name>,
    /// How many of the checks a server has to pass.
    #[key(default = "all")]
    #[serde(skip_serializing_if = "is_all")]
    pub checks_needed: ChecksNeeded,
    /// Passive health check: failures of real traffic as evidence of a server's health.
    ///
    /// They are looked at each second. Without the table no failure of traffic changes a server's health; for `udp` 3 failures within 10 s
    /// make a server suspect.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub passive_check: Option<PassiveCheck>,
    /// What becomes of work when no server passes its checks.
    #[key(default = "refuse")]
    #[serde(skip_serializing_if = "is_refuse")]
    pub when_none: WhenNone,
    /// Longest time for connecting to a server before another one is tried.
    ///
    /// All addresses of a server share it. A server that drops packets costs its clients this time.
    #[key(range = "10ms".."60s", default = "1s", group = "Timeouts")]
    pub connect_timeout: Span,
    /// Longest time until a server begins its response; then 504.
    #[key(range = "10ms".."1h", default = "30s")]
    pub first_byte_timeout: Span,
    /// Longest time from the first byte of a response to its last; then the response is cut off.
    #[key(range = "100ms".."24h", default = "1h")]
    pub response_timeout: Span,
    /// Longest time that a server may be idle in the middle of a body.
    #[key(range = "100ms".."1h", default = "60s")]
    pub idle_timeout: Span,
    /// Most servers that one request or connection is offered to, over all tiers and pools of its frontend.
    ///
    /// When every server of the working tier has failed a request, it goes to one that stands by, then to the next pool and the last
    /// resort, whatever the check says so far. Requests that can't be repeated are offered to another server only while no byte of them
    /// has been sent.
    #[key(range = 1..=16, default = "3", group = "Failing servers")]
    pub attempts: u8,
    /// What becomes of work while a server fails.
    #[serde(flatten)]
    pub failing: FailureHandling,
    /// When a drain stops waiting for open requests and connections, if its order does not say; then they are closed.
    ///
    /// Without it a drain waits for as long as its clients take.
    #[key(range = "1s".."24h", without = "a drain has no end by itself", group = "Maintenance")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub drain_timeout: Option<Span>,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
    /// The pool's servers by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub servers: BTreeMap<Name, ServerSpec>,
    /// DNS names whose addresses are servers too.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub lookups: BTreeMap<Name, LookupSpec>,
}

impl PoolSpec {
    /// Every check that its servers are judged by, the one that sets the pace first.
    pub fn checks(&self) -> impl Iterator<Item = &Name> {
        self.check.iter().chain(&self.more_checks)
    }
}

/// The versions of the PROXY protocol.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum ProxyVersion {
    /// Version 1, a line of text.
    V1,
    /// Version 2, binary.
    V2,
}

/// What traffic itself says of a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct PassiveCheck {
    /// Number of failures of real traffic within the time that change a server's health.
    ///
    /// Connections that are refused, time out, or are reset or cut off are failures.
    #[key(range = 1..=100_000, example = "5")]
    pub failures: u32,
    /// Time in which the failures are counted.
    #[key(range = "1s".."60s", default = "10s")]
    pub within: Span,
    /// Whether responses with a status of 500 and above are failures too.
    #[key(default = "false", label = "Count 5xx")]
    pub count_5xx: bool,
    /// What the failures make of a server that is up.
    #[key(default = "suspect")]
    pub action: PassiveAction,
    /// Whether the last eligible server of the pool may go down by them.
    #[key(default = "false")]
    pub allow_last: bool,
}

/// What evidence from traffic makes of a server that is up.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum PassiveAction {
    /// The server is suspect: it is probed at once, and four times as often until its health is settled.
    #[default]
    Suspect,
    /// The server is down: it gets no new work until `up_after` probes have passed.
    Down,
}

/// What becomes of work when no server of a pool passes its checks.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum WhenNone {
    /// Work goes to the frontend's next pool or last resort, or is refused.
    #[default]
    Refuse,
    /// When no other pool takes it, work goes to all servers of the lowest tier: they may be better than their check.
    All,
}

/// How many of a pool's checks a server has to pass.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum ChecksNeeded {
    /// A server has to pass each check.
    #[default]
    All,
    /// One passed check is enough.
    Any,
}

fn is_refuse(when: &WhenNone) -> bool {
    *when == WhenNone::Refuse
}

fn is_all(needed: &ChecksNeeded) -> bool {
    *needed == ChecksNeeded::All
}

pub(super) fn is_full(capacity: &u8) -> bool {
    *capacity == 100
}

fn is_one(number: &u16) -> bool {
    *number == 1
}

fn is_automatic(failback: &Failback) -> bool {
    *failback == Failback::Automatic
}
