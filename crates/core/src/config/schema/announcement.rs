//! Announced addresses: which addresses nodes announce to the routers beside them, and when (BGP-4, RFC 4271).

use std::net::IpAddr;

use merismos_derive::Keys;
use serde::Serialize;
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::announcement::Community;
use crate::config::document::Labels;
use crate::config::schema::checks::SecretRef;
use crate::name::Name;
use crate::units::Span;

/// Addresses that several nodes have at once and announce to routers, which share the traffic among them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct AnnouncementSpec {
    /// Addresses that are announced, each as a route of its own (`/32`, `/128`), and put on `lo` of each of the nodes.
    ///
    /// Those of IPv4 go to peers of IPv4, and those of IPv6 to peers of IPv6.
    #[key(basic, needed, count = 1..=50, distinct, example = "198.51.100.10")]
    pub addresses: Vec<IpAddr>,
    /// AS number of the nodes (RFC 6793: up to 4294967294).
    #[key(basic, range = 1..=4_294_967_294, example = "64500", label = "AS number")]
    pub as_number: u32,
    /// Routers that they are announced to. Each node makes a session with each of them; nothing is ever learned from one.
    #[key(basic, needed, count = 1..=20, distinct, example = "192.0.2.254")]
    pub peers: Vec<IpAddr>,
    /// AS number of these routers.
    #[key(basic, range = 1..=4_294_967_294, example = "64501", label = "AS of the peers")]
    pub peer_as: u32,
    /// Nodes that announce them.
    #[key(basic, count = 0..=100, distinct, without = "all nodes", example = "north")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub nodes: Vec<Name>,
    /// After how long of silence a router takes the node for gone, and the node the router; both take the shorter of what they ask for.
    ///
    /// It is seconds, at least 3. A node that dies is noticed at once; this is for one that falls silent.
    #[key(range = "3s".."18h", default = "9s", group = "Sessions")]
    pub hold_time: Span,
    /// How many hops away the routers are: packets of the session live for so many.
    #[key(range = 1..=255, default = "1")]
    pub hops: u8,
    /// Password of the sessions (TCP MD5, RFC 2385), of at most 80 characters.
    #[key(without = "sessions have no password")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretRef>,
    /// For how long routers keep the routes when a session ends without a word, as when a new process takes over (graceful restart, RFC 4724).
    ///
    /// They keep them for so long as well when a node dies, so traffic goes nowhere meanwhile: give it only where restarts are more frequent than deaths.
    #[key(range = "1s".."1h", without = "routes go with their session")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub restart_time: Option<Span>,
    /// Multi-exit discriminator of the routes: of routes from one AS, routers prefer the one with the smaller number.
    #[key(range = 0..=4_294_967_295, without = "none is sent", label = "MED", group = "Routes")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub med: Option<u32>,
    /// Communities of the routes, for the routers' own rules.
    #[key(count = 0..=32, distinct, without = "none", example = "64500:120")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub communities: Vec<Community>,
    /// For how long a node that is drained, or about to stop, asks routers to prefer others (GRACEFUL_SHUTDOWN, RFC 8326) before it withdraws its routes.
    #[key(range = "0s".."10m", default = "2s")]
    pub leave_time: Span,
    /// Pools that a node has to be able to use: each needs its `min_eligible` servers (and at least one) as seen from the node.
    #[key(basic, refers = Pool, count = 0..=100, distinct, without = "none", group = "What a node has to be able to do")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub pools: Vec<Name>,
    /// What a node does when one of them has too few.
    #[key(basic, default = "withdraw")]
    pub when_pools_fail: PoolLossAnswer,
    /// How many times more its AS number is in the path then.
    #[key(range = 1..=10, default = "3", when(when_pools_fail = "prepend"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub loss_prepend: Option<u8>,
    /// The multi-exit discriminator then.
    #[key(range = 0..=4_294_967_295, default = "1000", when(when_pools_fail = "med"), label = "MED then")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub loss_med: Option<u32>,
    /// Communities that are added then.
    #[key(count = 1..=32, distinct, needed, when(when_pools_fail = "community"), example = "64500:66")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub loss_communities: Vec<Community>,
    /// For how long a pool has to have been so before that counts, and to have been well again before it counts no more.
    #[key(range = "0s".."1h", default = "5s")]
    pub pool_loss_delay: Span,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "std::collections::BTreeMap::is_empty")]
    pub labels: Labels,
}

impl AnnouncementSpec {
    /// Whether a node announces them.
    #[must_use]
    pub fn is_for(&self, node: &Name) -> bool {
        self.nodes.is_empty() || self.nodes.contains(node)
    }
}

/// What a node does with its routes when a pool that they are for has too few servers.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum PoolLossAnswer {
    /// It withdraws them: traffic goes to the other nodes, and nowhere when all do so.
    #[default]
    Withdraw,
    /// Its AS number is in the path more often: routers prefer other nodes while there are any.
    Prepend,
    /// They get another multi-exit discriminator.
    Med,
    /// They get more communities, for the routers' own rules.
    Community,
}
