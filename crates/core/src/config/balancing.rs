//! How work is dealt out, as the document says it: algorithms, keys, tiers, limits and queues.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use super::document::Protocol;
use crate::name::Name;
use crate::units::Span;

/// How a pool deals out work.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Algorithm {
    /// Each server in its turn, in exact proportion to the weights.
    RoundRobin,
    /// The server with the least work in flight for its weight.
    LeastConnections,
    /// The server on which a piece of work would wait least: work in flight and response time together.
    LeastLoad,
    /// The less busy of two servers that are drawn at random.
    RandomTwo,
    /// The same server for the same key.
    Hash,
    /// The heaviest eligible server, and the next when that one can't.
    InOrder,
}

/// All algorithms by their names.
const ALGORITHMS: [(Algorithm, &str); 6] = [
    (Algorithm::RoundRobin, "round-robin"),
    (Algorithm::LeastConnections, "least-connections"),
    (Algorithm::LeastLoad, "least-load"),
    (Algorithm::RandomTwo, "random-two"),
    (Algorithm::Hash, "hash"),
    (Algorithm::InOrder, "in-order"),
];

/// Why a text is none of the values of a key.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected {expected}; found {found:?}")]
pub struct ValueError {
    found: String,
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

impl fmt::Display for Algorithm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = ALGORITHMS.iter().find(|(algorithm, _)| algorithm == self);
        f.pad(name.map_or("", |(_, name)| name))
    }
}

impl FromStr for Algorithm {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Self, ValueError> {
        let wanted = "round-robin, least-connections, least-load, random-two, hash or in-order";
        let found = ALGORITHMS.iter().find(|(_, name)| *name == text);
        found
            .map(|(algorithm, _)| *algorithm)
            .ok_or_else(|| ValueError { found: text.to_owned(), expected: wanted })
    }
}

/// What a frontend deals out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum BalancePer {
    /// Each request (`http`).
    Request,
    /// Each client's connection (`http`, `tcp`).
    Connection,
    /// Each client's address and port for as long as it sends (`udp`).
    Flow,
    /// Each datagram, without answers (`udp`).
    Datagram,
}

impl fmt::Display for BalancePer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Request => "request",
            Self::Connection => "connection",
            Self::Flow => "flow",
            Self::Datagram => "datagram",
        })
    }
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

/// Whether a text is a token (RFC 9110, 5.6.2), as the names of fields and cookies are.
pub(super) fn is_token(text: &str) -> bool {
    (1..=100).contains(&text.len())
        && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&byte))
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum WhenAbsent {
    /// It is dealt out in turns.
    Spread,
    /// It is refused: an HTTP request with 400, a connection by closing it.
    Refuse,
}

/// What `hash` goes by. The other algorithms leave it alone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct HashSettings {
    /// The keys, the first one that a piece of work has is taken.
    #[serde(rename = "hash_keys", skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<HashKey>,
    /// How many bits of an IPv4 client's address count. 1 to 32.
    #[serde(rename = "hash_prefix_ipv4", skip_serializing_if = "Option::is_none")]
    pub prefix_ipv4: Option<u8>,
    /// How many bits of an IPv6 client's address count. 1 to 128.
    #[serde(rename = "hash_prefix_ipv6", skip_serializing_if = "Option::is_none")]
    pub prefix_ipv6: Option<u8>,
    /// What becomes of work that has none of the keys.
    #[serde(rename = "hash_when_absent", skip_serializing_if = "Option::is_none")]
    pub when_absent: Option<WhenAbsent>,
    /// The most that a server gets of its share of the work in flight, in percent. 101 to 1000.
    #[serde(rename = "bounded_load", skip_serializing_if = "Option::is_none")]
    pub bound: Option<u16>,
}

/// How a client is tied to its server.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum PersistenceKind {
    /// By a signed cookie of our own, which names no address (`http`).
    Cookie,
}

/// What ties clients to servers.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Persistence {
    /// How.
    #[serde(rename = "persistence", skip_serializing_if = "Option::is_none")]
    pub by: Option<PersistenceKind>,
    /// The cookie's name.
    #[serde(rename = "pin_cookie", skip_serializing_if = "Option::is_none")]
    pub cookie: Option<String>,
    /// How long a client stays tied. 1m to 720h; without it as long as its browser runs.
    #[serde(rename = "pin_lifetime", skip_serializing_if = "Option::is_none")]
    pub lifetime: Option<Span>,
}

/// When work goes back to a lower tier whose servers can work again.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Failback {
    /// At once.
    #[default]
    Automatic,
    /// When they could work for this long without a break. 1s to 24h.
    After(Span),
    /// When somebody says so.
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
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChoosePool {
    /// The first usable one.
    #[default]
    InOrder,
    /// In proportion to weights.
    ByWeight,
    /// The one that answers fastest.
    ByLatency,
    /// By the client's network.
    ByNetwork,
}

/// More pools of a frontend.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct PoolSelection {
    /// Pools after the first, in order.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub next_pools: Vec<Name>,
    /// How one is chosen among those that are usable.
    #[serde(skip_serializing_if = "is_in_order")]
    pub choose_pool: ChoosePool,
    /// For `by-weight`: the weight of each pool, 1 where it is left out. 0 to 1000.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub pool_weights: BTreeMap<Name, u16>,
    /// For `by-network`: the lists of networks whose clients each pool gets.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub pool_networks: BTreeMap<Name, Vec<Name>>,
    /// The pool that takes what none of the others will.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last_resort: Option<Name>,
}

fn is_in_order(choose: &ChoosePool) -> bool {
    *choose == ChoosePool::InOrder
}

/// The limits of a server, or of each server of a pool that has none of its own.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct ServerLimits {
    /// The most connections to a server at once. 1 to 1000000.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub connection_limit: Option<u32>,
    /// The most pieces of work in flight at a server. 1 to 1000000.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub in_flight_limit: Option<u32>,
    /// The most pieces of work that a server gets in a second. 1 to 10000000.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate_limit: Option<u32>,
}

/// What becomes of work for which every eligible server is full.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct QueueSettings {
    /// How many pieces of work may wait. 0 to 100000; 0 is no queue.
    #[serde(rename = "queue_limit")]
    pub limit: u32,
    /// How long each may wait. 10ms to 10m.
    #[serde(rename = "queue_timeout")]
    pub timeout: Span,
}

impl Default for QueueSettings {
    fn default() -> Self {
        Self { limit: 100, timeout: Span::from_millis(1_000) }
    }
}

impl QueueSettings {
    /// Whether nothing was said of it.
    pub(super) fn is_default(&self) -> bool {
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

    #[test]
    fn every_algorithm_has_a_name_of_its_own() {
        for (algorithm, name) in ALGORITHMS {
            assert_eq!(name.parse(), Ok(algorithm));
            assert_eq!(serde_json::to_value(algorithm).unwrap(), name);
        }
    }
}
