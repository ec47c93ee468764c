//! How work is distributed, as the document says it: algorithms, keys, tiers, limits and queues.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use merismos_derive::Keys;
use serde::{Serialize, Serializer};
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::document::Protocol;
use crate::name::Name;
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

/// Whether a text is a token (RFC 9110, 5.6.2), as the names of fields and cookies are.
pub(in crate::config) fn is_token(text: &str) -> bool {
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

/// How a client is tied to its server.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum PersistenceKind {
    /// A signed cookie of the service, which names no address (`http`).
    Cookie,
    /// The client's address, or its network by a prefix length.
    ClientAddress,
    /// The client's address with its port (`udp`).
    ClientAddressAndPort,
    /// The server name that a TLS client asks for (`tcp`).
    Sni,
    /// A field of the request (`http`); its name in lower case.
    Header(String),
    /// A parameter of the query (`http`).
    Query(String),
    /// A cookie that the application sets: learned from the response that sets it (`http`).
    ApplicationCookie(String),
}

impl PersistenceKind {
    /// Whether clients of a protocol can have it.
    #[must_use]
    pub fn is_known_of(&self, protocol: Protocol) -> bool {
        match self {
            Self::ClientAddress => true,
            Self::ClientAddressAndPort => protocol == Protocol::Udp,
            Self::Sni => protocol == Protocol::Tcp,
            Self::Cookie | Self::Header(_) | Self::Query(_) | Self::ApplicationCookie(_) => {
                protocol == Protocol::Http
            }
        }
    }

    /// Whether its pins are kept here; the cookie of the service carries its own.
    #[must_use]
    pub fn is_learned(&self) -> bool {
        *self != Self::Cookie
    }
}

impl fmt::Display for PersistenceKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Cookie => f.write_str("cookie"),
            Self::ClientAddress => f.write_str("client-address"),
            Self::ClientAddressAndPort => f.write_str("client-address-and-port"),
            Self::Sni => f.write_str("sni"),
            Self::Header(name) => write!(f, "header:{name}"),
            Self::Query(name) => write!(f, "query:{name}"),
            Self::ApplicationCookie(name) => write!(f, "application-cookie:{name}"),
        }
    }
}

impl FromStr for PersistenceKind {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Self, ValueError> {
        let named = text.split_once(':').filter(|(_, name)| is_token(name));
        match (text, named) {
            ("cookie", _) => Ok(Self::Cookie),
            ("client-address", _) => Ok(Self::ClientAddress),
            ("client-address-and-port", _) => Ok(Self::ClientAddressAndPort),
            ("sni", _) => Ok(Self::Sni),
            (_, Some(("header", name))) => Ok(Self::Header(name.to_ascii_lowercase())),
            (_, Some(("query", name))) => Ok(Self::Query(name.to_owned())),
            (_, Some(("application-cookie", name))) => Ok(Self::ApplicationCookie(name.to_owned())),
            (_, _) => Err(ValueError {
                found: text.to_owned(),
                expected: "cookie, client-address, client-address-and-port, sni, header:NAME, query:NAME or application-cookie:NAME",
            }),
        }
    }
}

impl Serialize for PersistenceKind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// A list of which one item may stand without brackets.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OneOrMore<T>(pub Vec<T>);

impl<T> Default for OneOrMore<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

impl<T> OneOrMore<T> {
    fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl<T: Serialize> Serialize for OneOrMore<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0.as_slice() {
            [one] => one.serialize(serializer),
            all => all.serialize(serializer),
        }
    }
}

/// What becomes of a client whose pinned server can't have it.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum PinWhenGone {
    /// Another server gets the client, and keeps it when the first one is back.
    #[default]
    Move,
    /// The client is refused (503, or a reset) until its server is back or its pin ends.
    Refuse,
}

impl PinWhenGone {
    fn is_move(&self) -> bool {
        *self == Self::Move
    }
}

/// What ties clients to servers.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Keys)]
pub struct Persistence {
    /// Session persistence: what ties a client to its server; of several kinds the first that a request carries.
    ///
    /// `cookie` is one of the service; `application-cookie:NAME` is learned from the response that sets it. `client-address` behind `cookie`
    /// holds clients that refuse cookies. All but `cookie` are kept here, as many as `pin_limit` allows.
    #[key(basic, count = 1..=6, group = "Session persistence", label = "Session persistence", without = "none")]
    #[serde(rename = "persistence", skip_serializing_if = "OneOrMore::is_empty")]
    pub by: OneOrMore<PersistenceKind>,
    /// What becomes of a client whose pinned server is down, full or out of service.
    ///
    /// A server that was removed is not waited for.
    #[key(default = "move", label = "Pinned server gone")]
    #[serde(rename = "pin_when_gone", skip_serializing_if = "PinWhenGone::is_move")]
    pub when_gone: PinWhenGone,
    /// Name of the cookie that ties clients.
    ///
    /// Servers get it with a request like every other cookie; its value names the server by a number and is signed.
    #[key(format = COOKIE_NAME, without = "merismos-pin", effective(persistence = "cookie"))]
    #[serde(rename = "pin_cookie", skip_serializing_if = "Option::is_none")]
    pub cookie: Option<String>,
    /// How long a client stays tied to its server.
    ///
    /// Without it a `cookie` ties as long as the browser runs, and the other kinds as long as the client comes within `pin_idle`.
    #[key(range = "1m".."720h", without = "the browser's session")]
    #[serde(rename = "pin_lifetime", skip_serializing_if = "Option::is_none")]
    pub lifetime: Option<Span>,
    /// How long a client that does not come stays tied, by the kinds that are kept here.
    #[key(
        range = "1s".."720h",
        without = "30m",
        effective(persistence = "client-address client-address-and-port sni header query application-cookie")
    )]
    #[serde(rename = "pin_idle", skip_serializing_if = "Option::is_none")]
    pub idle: Option<Span>,
    /// Most clients that are kept; beyond, the one that did not come for the longest time is forgotten.
    ///
    /// A client takes some 70 bytes.
    #[key(
        range = 1..=10_000_000,
        without = "100000",
        effective(persistence = "client-address client-address-and-port sni header query application-cookie")
    )]
    #[serde(rename = "pin_limit", skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
    /// Number of bits of an IPv4 client's address that count for `client-address`.
    #[key(range = 1..=32, without = "32", effective(persistence = "client-address"), label = "Pin prefix, IPv4")]
    #[serde(rename = "pin_prefix_ipv4", skip_serializing_if = "Option::is_none")]
    pub prefix_ipv4: Option<u8>,
    /// Number of bits of an IPv6 client's address that count for `client-address`.
    #[key(range = 1..=128, without = "64", effective(persistence = "client-address"), label = "Pin prefix, IPv6")]
    #[serde(rename = "pin_prefix_ipv6", skip_serializing_if = "Option::is_none")]
    pub prefix_ipv6: Option<u8>,
    /// Domain of the cookie that ties clients (RFC 6265, 4.1.2.3).
    ///
    /// With it the browser sends the cookie to every host of the domain, so that sites under several names of one domain share
    /// their pins. Without it the cookie is for the host of the request alone.
    #[key(
        format = COOKIE_DOMAIN,
        without = "the host of the request alone",
        effective(persistence = "cookie"),
        example = "skerry.example"
    )]
    #[serde(rename = "pin_domain", skip_serializing_if = "Option::is_none")]
    pub domain: Option<String>,
    /// Path of the cookie that ties clients (RFC 6265, 4.1.2.4).
    ///
    /// The browser sends the cookie with requests for this path and those below it alone: requests for other paths are not tied.
    #[key(format = COOKIE_PATH, without = "/", effective(persistence = "cookie"), example = "/booking")]
    #[serde(rename = "pin_path", skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Whether the cookie that ties clients comes with requests from other sites (`SameSite`).
    #[key(default = "lax", effective(persistence = "cookie"), label = "Pin SameSite")]
    #[serde(rename = "pin_same_site", skip_serializing_if = "CookieSameSite::is_lax")]
    pub same_site: CookieSameSite,
    /// A name that pools share whose pins hold in each other, for servers of the same name.
    ///
    /// It is for pools behind frontends that serve one site, such as one for each address. They need the same `pin_cookie`. A
    /// client that is tied to server `gull` of one pool is tied to `gull` of the others.
    #[key(
        effective(persistence = "cookie"),
        without = "pins hold in their own pool",
        example = "booking-site"
    )]
    #[serde(rename = "pin_group", skip_serializing_if = "Option::is_none")]
    pub group: Option<Name>,
}

impl Persistence {
    /// Whether a kind is among its own.
    #[must_use]
    pub fn has(&self, kind: &PersistenceKind) -> bool {
        self.by.0.contains(kind)
    }

    /// Whether anything ties clients.
    #[must_use]
    pub fn ties_clients(&self) -> bool {
        !self.by.0.is_empty()
    }

    /// Name of the cookie that ties clients.
    #[must_use]
    pub fn cookie_name(&self) -> &str {
        self.cookie.as_deref().unwrap_or("merismos-pin")
    }
}

/// Which requests from other sites carry a cookie.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum CookieSameSite {
    /// Links from other sites carry it, and requests that other sites make on their own do not.
    #[default]
    Lax,
    /// No request from another site carries it: a client that follows a link there gets a new pin.
    Strict,
}

impl CookieSameSite {
    fn is_lax(&self) -> bool {
        *self == Self::Lax
    }

    /// The value of the attribute in a `Set-Cookie` field.
    #[must_use]
    pub fn attribute(self) -> &'static str {
        match self {
            Self::Lax => "Lax",
            Self::Strict => "Strict",
        }
    }
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
