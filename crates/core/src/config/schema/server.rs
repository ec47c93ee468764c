//! Servers of a pool, and the DNS names that stand for several.

use std::collections::BTreeMap;
use std::net::SocketAddr;

use merismos_derive::Keys;
use serde::Serialize;
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::document::{Labels, ServerLimits};
use crate::config::listen_address::AddressRef;
use crate::config::schema::pool::is_full;
use crate::name::Name;
use crate::units::Span;

/// One address and port that does a pool's work.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct ServerSpec {
    /// IP address and port of the server, or a known host's name and a port.
    ///
    /// Health, duty and counts are known by this address. It is there once in a pool.
    #[key(basic)]
    pub address: AddressRef,
    /// More addresses of the server, for TCP and HTTP: the connection that is made first is used (RFC 8305).
    ///
    /// They are tried in their order, each 250 ms after the one before it or as soon as that has failed.
    #[key(count = 1..=7, group = "More addresses")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub other_addresses: Vec<SocketAddr>,
    /// Share of the pool's work relative to the other servers' weights; 0 takes no new work.
    #[key(basic, range = 0..=1_000, default = "1", group = "Distribution")]
    pub weight: u16,
    /// Rank of the server: the lowest tier with eligible servers works, those above stand by.
    #[key(basic, range = 0..=7, default = "0")]
    #[serde(skip_serializing_if = "is_first_tier")]
    pub tier: u8,
    /// Part of its weight and its limits that counts, in percent.
    #[key(range = 1..=100, default = "100")]
    #[serde(skip_serializing_if = "is_full")]
    pub capacity: u8,
    /// Its limits; those that it has none of are the pool's.
    #[serde(flatten)]
    pub limits: ServerLimits,
    /// Longest time for connecting to this server.
    #[key(range = "10ms".."60s", without = "the pool's", group = "Timeouts")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub connect_timeout: Option<Span>,
    /// Longest time until this server begins its response; then 504.
    #[key(range = "10ms".."1h", without = "the pool's")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_byte_timeout: Option<Span>,
    /// Longest time from the first byte of this server's response to its last.
    #[key(range = "100ms".."24h", without = "the pool's")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub response_timeout: Option<Span>,
    /// Longest time that this server may be idle in the middle of a body.
    #[key(range = "100ms".."1h", without = "the pool's")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub idle_timeout: Option<Span>,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
    /// The lookup that found it; `None` for one that stands in the document.
    #[serde(skip)]
    pub found_by: Option<Name>,
}

impl ServerSpec {
    /// All its addresses, the one that it is known by first.
    pub fn addresses(&self) -> impl Iterator<Item = SocketAddr> {
        std::iter::once(self.address.get()).chain(self.other_addresses.iter().copied())
    }

    /// A server at an address with a weight and a tier, and nothing else said of it.
    #[must_use]
    pub fn at(address: SocketAddr, weight: u16, tier: u8) -> Self {
        Self {
            address: AddressRef::literal(address),
            other_addresses: Vec::new(),
            weight,
            tier,
            capacity: 100,
            limits: ServerLimits::default(),
            connect_timeout: None,
            first_byte_timeout: None,
            response_timeout: None,
            idle_timeout: None,
            note: String::new(),
            labels: Labels::new(),
            found_by: None,
        }
    }
}

fn is_first_tier(tier: &u8) -> bool {
    *tier == 0
}

/// A DNS name whose answers are servers of a pool. They come and go with the answers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct LookupSpec {
    /// DNS name whose records are servers (RFC 1035, 2.3.1).
    #[key(basic, format = DNS_NAME)]
    pub name: String,
    /// Type of the records.
    #[key(basic, example = "address")]
    pub records: LookupRecords,
    /// Port of each server. A service record names its own.
    #[key(basic, needed, range = 1..=65_535, when(records = "address"), example = "8080")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// Weight of each server. A service record names its own.
    #[key(basic, range = 0..=1_000, default = "1", when(records = "address"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub weight: Option<u16>,
    /// Whether all addresses of a name are one server's, and not a server each.
    ///
    /// IPv6 and IPv4 addresses take turns, IPv6 first.
    #[key(default = "false", group = "Queries")]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub merge_addresses: bool,
    /// Name server to ask.
    #[key(without = "those in /etc/resolv.conf", example = "192.0.2.53:53")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub resolver: Option<SocketAddr>,
    /// What becomes of the servers when the name has no records any more.
    #[key(default = "keep")]
    pub when_empty: WhenEmpty,
    /// Shortest time between two queries, however short the records' time to live is.
    #[key(range = "1s".."1h", default = "5s")]
    pub min_interval: Span,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
}

/// What becomes of a lookup's servers when the name server says that the name has none any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum WhenEmpty {
    /// The last known servers stay, and their check judges them: an empty answer is more often a mistake.
    Keep,
    /// The servers are removed.
    Remove,
}

/// Which DNS records a lookup asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum LookupRecords {
    /// A and AAAA records (RFC 1035, 3.4.1; RFC 3596).
    Address,
    /// SRV records (RFC 2782): each distinct priority is a tier, the lowest first, and the weight is the weight.
    Service,
}
