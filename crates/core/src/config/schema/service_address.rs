//! Service addresses: which nodes may hold an address that clients know, and who of them does (VRRP, RFC 9568).

use std::collections::BTreeMap;
use std::net::IpAddr;

use merismos_derive::Keys;
use serde::Serialize;
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::document::Labels;
use crate::name::Name;
use crate::units::Span;
use crate::vrrp::{ChecksumRule, Preemption};

/// Addresses that one node at a time holds, and who of the nodes that is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct AddressSpec {
    /// Addresses that move together, of IPv4, IPv6 or both.
    ///
    /// Frontends listen on them on every node, also while another node holds them.
    #[key(basic, needed, count = 1..=20, distinct, example = "192.0.2.10")]
    pub addresses: Vec<IpAddr>,
    /// Interface that they are put on, of the same name on each node.
    #[key(basic, format = INTERFACE)]
    pub interface: String,
    /// Number of the virtual router on this link (VRID, RFC 9568, 5.2.3): the same on all nodes, and no other's there.
    #[key(basic, range = 1..=255, example = "10")]
    pub router_id: u8,
    /// Nodes that may hold them, each with its priority: of those that can, the one with the highest does.
    ///
    /// Nodes with the same priority are ranked by a hash of the object's name and theirs, so that several such objects are spread over them.
    #[key(basic, range = 2..=250, example = "north=200 south=100")]
    pub nodes: BTreeMap<Name, u8>,
    /// How often the holder says that it is there. Another node takes the addresses after 3 to 4 times as long without.
    ///
    /// Below 50ms a busy node is taken for dead while it lives.
    #[key(range = "50ms".."40s", default = "100ms", group = "Advertisements")]
    pub advertisement_interval: Span,
    /// Addresses of the nodes, where the network between them carries no multicast; each node leaves out its own.
    #[key(count = 0..=40, distinct, without = "advertisements go by multicast", example = "192.0.2.2")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub peers: Vec<IpAddr>,
    /// How the checksum over IPv4 is made; both kinds are taken as right from others.
    #[key(default = "rfc-9568")]
    pub checksum: ChecksumRule,
    /// When a node takes them from another one that is worth less.
    #[key(default = "at-once", group = "Taking them back")]
    pub preemption: PreemptionMode,
    /// For how long it has to have been able to hold them before.
    #[key(range = "1s".."24h", default = "5m", when(preemption = "after-delay"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub preemption_delay: Option<Span>,
    /// Pools that a holder has to be able to use: each that has fewer eligible servers than its `min_eligible` (and at least one) as seen from a node
    /// costs that node some of its priority.
    #[key(basic, refers = Pool, count = 0..=100, distinct, without = "none", group = "What a holder has to be able to do")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub pools: Vec<Name>,
    /// How much priority each such pool costs.
    ///
    /// A node gives the addresses up only to one that is worth more: when a pool is down for all of them, they stay.
    #[key(range = 1..=253, default = "50")]
    pub pool_loss: u8,
    /// For how long a pool has to have been so before it costs the holder anything, and to have been well again before it costs the others nothing.
    ///
    /// One node finds out before another that servers are down, or up again; addresses should not move for that.
    #[key(range = "2s".."1h", default = "5s")]
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

impl AddressSpec {
    /// When a node takes the addresses from one that is worth less.
    #[must_use]
    pub fn preemption(&self) -> Preemption {
        match (self.preemption, self.preemption_delay) {
            (PreemptionMode::AtOnce, _) => Preemption::AtOnce,
            (PreemptionMode::AfterDelay, delay) => Preemption::After(delay.map_or(FIVE_MINUTES, Span::get)),
            (PreemptionMode::ByHand, _) => Preemption::ByHand,
        }
    }
}

const FIVE_MINUTES: std::time::Duration = std::time::Duration::from_secs(300);

/// When a node takes addresses from another one that is worth less.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum PreemptionMode {
    /// As soon as it can.
    #[default]
    AtOnce,
    /// When it has been able to for some time.
    AfterDelay,
    /// Only by `merismos address move`.
    ByHand,
}
