//! How work is distributed, as the document says it: algorithms, keys, tiers, limits and queues.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use merismos_derive::Keys;
use serde::{Serialize, Serializer};
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::document::Protocol;
use crate::name::Name;
use crate::text::is_token;
use crate::units::Span;

/// How a pool distributes work.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum Algorithm {
    /// Each server in its turn, in exact proportion to the weights, over all workers together.
    RoundRobin,
    /// The server with the least work in flight for its weight; of equals the one that has had least.
    LeastConnections,
    /// The server with the least expected wait: work in flight times response time (a 10 s average) for its weight. A failure counts as slow.
    LeastLoad,
    /// The less busy of two servers that are drawn at random by their weights (power of two choices).
    RandomTwo,
    /// The same server for the same key (consistent hashing): when a server leaves, only its own clients move.
    Hash,
    /// The heaviest eligible server, and the next when that one is full or has just failed.
    InOrder,
}

/// Why a text is none of the values of a key.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected {expected}; found {found:?}")]
pub struct ValueError {
    pub(super) found: String,
    /// What would be right.
    pub expected: &'static str,
}

impl Algorithm {
    /// Whether it goes by a random number.
    #[must_use]
    #[inline]
    pub fn draws(self) -> bool {
        self == Self::RandomTwo
    }

    /// Whether the expected shares follow from the weights alone. Where they do not, they follow from how busy the
    /// servers are or from the clients' keys, and a count can't be held against them.
    #[must_use]
    pub fn follows_weights(self) -> bool {
        match self {
            Self::RoundRobin | Self::InOrder => true,
            Self::LeastConnections | Self::LeastLoad | Self::RandomTwo | Self::Hash => false,
        }
    }

    /// What a share that was not met may mean, for those algorithms of which weights are not the whole story.
    #[must_use]
    pub fn goes_by(self) -> &'static str {
        match self {
            Self::RoundRobin => "turns in proportion to the weights",
            Self::LeastConnections => "the work in flight at each server for its weight",
            Self::LeastLoad => "the work in flight and the response time of each server for its weight",
            Self::RandomTwo => "the work in flight at two servers drawn by their weights",
            Self::Hash => "the clients' keys",
            Self::InOrder => "the order of the weights",
        }
    }
}

/// What a frontend distributes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum BalancePer {
    /// Each request is distributed by itself.
    Request,
    /// All requests of a client's connection go to one server.
    Connection,
    /// All datagrams of a client's address and port go to one server while it sends.
    Flow,
    /// Each datagram is distributed by itself, and responses are not relayed.
    Datagram,
}

/// What `hash` may go by.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum HashKey {
    /// The client's address, or its network by a prefix length.
    ClientAddress,
    /// The path, without its query.
    Path,
    /// The path with its query.
    PathWithQuery,
    /// The host that was asked for.
    Host,
    /// The server name that a TLS client asked for (RFC 6066, 3).
    Sni,
    /// A parameter of the query.
    Query(String),
    /// A field of the request; its name in lower case.
    Header(String),
    /// A cookie.
    Cookie(String),
}

impl HashKey {
    /// Whether clients of a protocol can have it.
    #[must_use]
    pub fn is_known_of(&self, protocol: Protocol) -> bool {
        match self {
            Self::ClientAddress => true,
            // TLS of http frontends would have to be ended to be read; a relayed one says the name in the clear.
            Self::Sni => protocol == Protocol::Tcp,
            Self::Path
            | Self::PathWithQuery
            | Self::Host
            | Self::Query(_)
            | Self::Header(_)
            | Self::Cookie(_) => protocol == Protocol::Http,
        }
    }
}

impl fmt::Display for HashKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::ClientAddress => f.write_str("client-address"),
            Self::Path => f.write_str("path"),
            Self::PathWithQuery => f.write_str("path-with-query"),
            Self::Host => f.write_str("host"),
            Self::Sni => f.write_str("sni"),
            Self::Query(name) => write!(f, "query:{name}"),
            Self::Header(name) => write!(f, "header:{name}"),
            Self::Cookie(name) => write!(f, "cookie:{name}"),
        }
    }
}

impl FromStr for HashKey {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Self, ValueError> {
        let named = text.split_once(':').filter(|(_, name)| is_token(name));
        match (text, named) {
            ("client-address", _) => Ok(Self::ClientAddress),
            ("path", _) => Ok(Self::Path),
            ("path-with-query", _) => Ok(Self::PathWithQuery),
            ("host", _) => Ok(Self::Host),
            ("sni", _) => Ok(Self::Sni),
            (_, Some(("query", name))) => Ok(Self::Query(name.to_owned())),
            (_, Some(("header", name))) => Ok(Self::Header(name.to_ascii_lowercase())),
            (_, Some(("cookie", name))) => Ok(Self::Cookie(name.to_owned())),
            (_, _) => Err(ValueError {
                found: text.to_owned(),
                expected: "client-address, path, path-with-query, host, sni, query:NAME, header:NAME or cookie:NAME",
            }),
        }
    }
}

impl Serialize for HashKey {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// What becomes of work that has none of the keys.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum WhenAbsent {
    /// Such work is distributed in turns.
    Spread,
    /// Such work is refused: a request with 400, a connection with a reset.
    Refuse,
}

/// What `hash` goes by. The other algorithms leave it alone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct HashSettings {
    /// Keys to hash by: the first that a request or connection has is taken.
    ///
    /// `client-address`, `sni` (`tcp`: the server name that a TLS client asks for), and for `http` `path`, `path-with-query`, `host`,
    /// `query:NAME`, `header:NAME` and `cookie:NAME`.
    #[key(basic, count = 1..=8, without = "client-address", effective(algorithm = "hash"), group = "Hashing")]
    #[serde(rename = "hash_keys", skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<HashKey>,
    /// Number of bits of an IPv4 client's address that count.
    ///
    /// Fewer bits keep the clients of one network together.
    #[key(basic, range = 1..=32, without = "32", effective(algorithm = "hash"), label = "Hash prefix, IPv4")]
    #[serde(rename = "hash_prefix_ipv4", skip_serializing_if = "Option::is_none")]
    pub prefix_ipv4: Option<u8>,
    /// Number of bits of an IPv6 client's address that count.
    ///
    /// A client has a whole /64 network and changes its addresses within it.
    #[key(basic, range = 1..=128, without = "64", effective(algorithm = "hash"), label = "Hash prefix, IPv6")]
    #[serde(rename = "hash_prefix_ipv6", skip_serializing_if = "Option::is_none")]
    pub prefix_ipv6: Option<u8>,
    /// What becomes of work that has none of the keys.
    #[key(basic, without = "spread", effective(algorithm = "hash"))]
    #[serde(rename = "hash_when_absent", skip_serializing_if = "Option::is_none")]
    pub when_absent: Option<WhenAbsent>,
    /// Most work in flight at a server, in percent of its share (consistent hashing with bounded loads).
    ///
    /// The clients of a server at its bound go on to the next server. Without it one popular key may overload its server.
    #[key(basic, range = 101..=1_000, effective(algorithm = "hash"))]
    #[serde(rename = "bounded_load", skip_serializing_if = "Option::is_none")]
    pub bound: Option<u16>,
}

/// When work goes back to a lower tier whose servers can work again.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Failback {
    /// At once.
    #[default]
    Automatic,
    /// When they could work for this long without a break. 1s to 24h.
    After(Span),
    /// When an operator orders it.
    ByHand,
}

impl fmt::Display for Failback {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Automatic => f.pad("automatic"),
            Self::After(span) => f.pad(&format!("after {span}")),
            Self::ByHand => f.pad("by hand"),
        }
    }
}

impl FromStr for Failback {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Self, ValueError> {
        let wanted = "automatic, by hand, or after and a duration from 1s to 24h, such as \"after 5m\"";
        let span = |text: &str| text.parse::<Span>().ok();
        let allowed = |span: &Span| (1..=86_400).contains(&span.get().as_secs());
        match text {
            "automatic" => Ok(Self::Automatic),
            "by hand" => Ok(Self::ByHand),
            _ => text
                .strip_prefix("after ")
                .and_then(span)
                .filter(allowed)
                .map(Self::After)
                .ok_or_else(|| ValueError { found: text.to_owned(), expected: wanted }),
        }
    }
}

impl Serialize for Failback {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// How a frontend chooses among its pools.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum ChoosePool {
    /// The first usable pool.
    #[default]
    InOrder,
    /// Usable pools in proportion to `pool_weights`.
    ByWeight,
    /// The usable pool with the shortest response time.
    ByLatency,
    /// The usable pool for the client's network, by `pool_networks`.
    ByNetwork,
}

/// More pools of a frontend.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Keys)]
pub struct PoolSelection {
    /// Pools after the first, in order.
    #[key(count = 1..=31, distinct, refers = Pool, group = "More pools", example = "standby")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub next_pools: Vec<Name>,
    /// How a pool is chosen among those that are usable.
    #[key(default = "in-order")]
    #[serde(skip_serializing_if = "is_in_order")]
    pub choose_pool: ChoosePool,
    /// Weight of each pool for `by-weight`; a pool that is left out has 1.
    #[key(range = 0..=1_000, effective(choose_pool = "by-weight"), example = "booking=3 standby=1", refers = Pool)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub pool_weights: BTreeMap<Name, u16>,
    /// Lists of networks whose clients each pool gets, for `by-network`.
    ///
    /// The longest prefix that holds the client's address counts; other clients go to the first usable pool.
    #[key(
        count = 1..=31,
        distinct,
        effective(choose_pool = "by-network"),
        example = "booking=islands,coast",
        refers = Network
    )]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub pool_networks: BTreeMap<Name, Vec<Name>>,
    /// Pool that takes what none of the others will.
    #[key(refers = Pool)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last_resort: Option<Name>,
}

fn is_in_order(choose: &ChoosePool) -> bool {
    *choose == ChoosePool::InOrder
}

/// The limits of a server, or of each server of a pool that has none of its own.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Keys)]
pub struct ServerLimits {
    /// Most connections to a server at once.
    ///
    /// A server at its limit is passed over, and that is no failure of the server. On a server without limits of its own the pool's apply.
    #[key(range = 1..=1_000_000, group = "Limits of a server")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub connection_limit: Option<u32>,
    /// Most requests, connections or flows in flight at a server.
    #[key(range = 1..=1_000_000)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub in_flight_limit: Option<u32>,
    /// Most requests, connections or datagrams that a server gets in a second.
    ///
    /// The rate is paced: a tenth of it in each tenth of a second, so at 10 a second one of many that come at once goes on and the others
    /// wait in the queue. A machine with servers in two pools has its limits in each of them.
    #[key(range = 1..=10_000_000)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate_limit: Option<u32>,
}

/// What becomes of work for which every eligible server is full.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct QueueSettings {
    /// Most requests and connections that wait while every eligible server is full; 0 is no queue.
    ///
    /// First in, first out. Datagrams never wait.
    #[key(range = 0..=100_000, default = "100", group = "Queue")]
    #[serde(rename = "queue_limit")]
    pub limit: u32,
    /// Longest time in the queue.
    ///
    /// After it a request goes to the next tier, then to the frontend's next pool, and then gets 503 with `Retry-After`.
    #[key(range = "10ms".."10m", default = "1s")]
    #[serde(rename = "queue_timeout")]
    pub timeout: Span,
}

impl Default for QueueSettings {
    fn default() -> Self {
        crate::config::keys::defaults()
    }
}

impl QueueSettings {
    /// Whether nothing was said of it.
    pub(in crate::config) fn is_default(&self) -> bool {
        *self == Self::default()
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::client_address("client-address", HashKey::ClientAddress)]
    #[case::header_in_lower_case("header:X-Account", HashKey::Header("x-account".to_owned()))]
    #[case::cookie_as_written("cookie:Visit", HashKey::Cookie("Visit".to_owned()))]
    #[case::query("query:ferry", HashKey::Query("ferry".to_owned()))]
    fn keys(#[case] text: &str, #[case] key: HashKey) {
        assert_eq!(text.parse(), Ok(key.clone()));
        assert_eq!(key.to_string().parse(), Ok(key));
    }

    #[rstest]
    #[case::header_without_name("header:")]
    #[case::header_with_space("header:a b")]
    #[case::unknown_kind("colour")]
    #[case::kind_of_nothing("method:GET")]
    fn what_is_no_key(#[case] text: &str) {
        assert!(text.parse::<HashKey>().is_err());
    }

    #[rstest]
    #[case::automatic("automatic", Failback::Automatic)]
    #[case::by_hand("by hand", Failback::ByHand)]
    #[case::after_a_time("after 5m", Failback::After(Span::from_millis(300_000)))]
    fn failback(#[case] text: &str, #[case] value: Failback) {
        assert_eq!(text.parse(), Ok(value));
        assert_eq!(value.to_string(), text);
        assert!("after 0s".parse::<Failback>().is_err());
        assert!("after".parse::<Failback>().is_err());
    }
}
