//! The document: what a person wrote, with defaults filled in and nothing derived.

use std::collections::BTreeMap;
use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;

use ipnet::IpNet;
use merismos_derive::Keys;
use serde::{Serialize, Serializer};
use strum::{Display, EnumMessage, EnumString, VariantNames};

pub use crate::config::failure_handling::{FailureHandling, OpenConnections};
use crate::config::keys;
use crate::config::listen_address::{AddressRange, AddressRef};
pub use crate::config::schema::balancing::{
    Algorithm, BalancePer, ChoosePool, Failback, HashKey, HashSettings, Persistence, PersistenceKind,
    PoolSelection, QueueSettings, ServerLimits, WhenAbsent,
};
pub use crate::config::schema::checks::{
    BodyExpectation, CertificateTrust, CheckKind, CommandProbe, DnsProbe, DnsRecordType, ExpectedValue,
    GrpcProbe, HttpProbe, Pattern, SecretRef, SendExpect, SqlProbe, TlsProbe, TlsVerify,
};
pub use crate::config::schema::notification::{
    MailTarget, MailTls, NotificationSpec, NotifiedChange, WebhookTarget,
};
pub use crate::config::schema::upstream::{HttpVersion, UpstreamSettings};
use crate::name::Name;
use crate::units::{Size, Span};

/// The format number that this release writes. It reads this one, and lifts older ones to it.
pub const FORMAT: i64 = 3;

/// The cookie of the console's sessions. Browsers send cookies to every port of a host, so frontends never pass it to servers,
/// and no pin has its name.
pub const SESSION_COOKIE: &str = "merismos_session";

/// Free `key = value` pairs on an object, for people and for filters.
pub type Labels = BTreeMap<Name, String>;

/// A whole configuration.
///
/// Maps are ordered by name, so the same content always prints the same bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct Document {
    /// The number of the document's format.
    ///
    /// Documents of formats 1 and 2 are migrated when they are read.
    #[key(range = 3..=3, expected = "format = 3, or an older format from 1 on")]
    pub format: i64,
    /// Known machines: servers may name a host instead of its address.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub hosts: BTreeMap<Name, HostSpec>,
    /// Ranges of service addresses, in which frontends reserve theirs.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub ranges: BTreeMap<Name, RangeSpec>,
    /// Lists of networks, by which frontends may choose pools.
    #[key(count = 0..=1000)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub networks: BTreeMap<Name, Vec<IpNet>>,
    /// Active health checks, by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub checks: BTreeMap<Name, CheckSpec>,
    /// Sets of servers that can do the same work.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub pools: BTreeMap<Name, PoolSpec>,
    /// The addresses where clients connect.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub frontends: BTreeMap<Name, FrontendSpec>,
    /// Who is notified of which changes, by webhook or e-mail.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub notifications: BTreeMap<Name, NotificationSpec>,
}

impl Default for Document {
    fn default() -> Self {
        Self {
            format: FORMAT,
            hosts: BTreeMap::new(),
            ranges: BTreeMap::new(),
            networks: BTreeMap::new(),
            checks: BTreeMap::new(),
            pools: BTreeMap::new(),
            frontends: BTreeMap::new(),
            notifications: BTreeMap::new(),
        }
    }
}

/// A known machine: servers may name it instead of its address.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct HostSpec {
    /// The machine's IP address. Servers may be written `HOST:port` instead of it.
    #[key(basic)]
    pub address: IpAddr,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
}

/// A range of service addresses, in which frontends reserve theirs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct RangeSpec {
    /// The addresses of the range: a prefix, or the first and the last address.
    #[key(basic)]
    pub addresses: AddressRange,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
    /// Reserved addresses by name. Frontends listen on `RANGE/NAME:port`.
    ///
    /// Each lies inside the range and is reserved once. An address stays reserved when its frontend is removed, until it is released.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub reserved: BTreeMap<Name, IpAddr>,
}

/// Where clients connect: an address, a protocol and the pools for its traffic.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct FrontendSpec {
    /// Protocol that clients speak.
    #[key(basic, example = "http")]
    pub protocol: Protocol,
    /// IP address and port to listen on, or `RANGE/NAME:port` with a reserved address.
    ///
    /// `0.0.0.0` and `[::]` are every address of the machine. Two frontends of one transport can't overlap.
    #[key(basic, format = LISTEN_ADDRESS)]
    pub listen: AddressRef,
    /// Pool that gets the work, or the first of several.
    #[key(basic, refers = Pool)]
    pub pool: Name,
    /// More pools, how one is chosen, and the last resort.
    #[serde(flatten)]
    pub more: PoolSelection,
    /// Unit in which work is distributed.
    ///
    /// Clients keep connections open: with `connection` all requests of one go to the same server, and a client that is asked many times
    /// over one connection sees a single server. A `datagram` is distributed by itself and gets no responses back.
    #[key(basic, choices(protocol(http = "request connection", tcp = "connection", udp = "flow datagram")))]
    pub balance_per: BalancePer,
    /// Most clients that may be connected at once; for `udp`, most flows.
    ///
    /// A client above the limit is closed, after a response 503 where it speaks HTTP, and is counted as over the limit.
    #[key(range = 1..=1_000_000, default = "10000", group = "Limits")]
    pub connection_limit: u32,
    /// Share of a minute's requests, in percent, that has to fail before the frontend is reported as failing; 0 is never.
    ///
    /// For `tcp` connections are counted, for `udp` flows. A request fails when a server responds with 5xx, when no server is eligible or
    /// has room, or when the response is cut off. At least 5 of them are needed, and the frontend recovers at half the share.
    #[key(range = 0..=100, default = "10")]
    pub failing_share: u8,
    /// What only `http` frontends have.
    #[key(when(protocol = "http"))]
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub http: Option<HttpKeys>,
    /// Longest time that a client's connection may be idle.
    ///
    /// Between requests, in the middle of a body, or, for `tcp` and `udp`, without a byte or datagram in either direction. A shorter time
    /// frees memory and descriptors; a longer one spares clients new connections.
    #[key(range = "100ms".."24h", default(protocol(http = "60s", tcp = "10m", udp = "30s")), group = "Timeouts")]
    pub idle_timeout: Span,
    /// Longest time that a connection may last (`tcp`).
    ///
    /// A connection of that age is closed whatever it does. Without it connections last as long as they are used.
    #[key(range = "1s".."720h", when(protocol = "tcp"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_connection_age: Option<Span>,
    /// Longest time to wait for a TLS ClientHello (RFC 8446, 4.1.2) where the pool hashes by `sni` (`tcp`).
    ///
    /// After it the connection is treated as one without a server name. Clients whose servers speak first wait that long.
    #[key(range = "100ms".."5m", without = "2s", when(protocol = "tcp"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub client_hello_timeout: Option<Span>,
    /// Networks of trusted proxies.
    ///
    /// Their `Forwarded` and `X-Forwarded-*` fields, `X-Request-Id` and PROXY headers are used; those of all other clients are replaced.
    /// A network that holds clients lets them claim any address.
    #[key(count = 0..=1000, when(protocol = "http tcp"), group = "Trusted proxies")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub trusted: Vec<IpNet>,
    /// Whether connections from trusted proxies begin with a PROXY protocol header, version 1 or 2.
    #[key(default = "false", when(protocol = "http tcp"), label = "PROXY protocol")]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub proxy_protocol: bool,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
}

/// Where a frontend listens: TCP and UDP ports are apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Endpoint {
    /// Whether it takes datagrams.
    pub udp: bool,
    /// The address and port.
    pub address: SocketAddr,
}

impl fmt::Display for Endpoint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.address, if self.udp { " (udp)" } else { "" })
    }
}

impl FrontendSpec {
    /// Every pool that it may send work to, each once.
    pub fn pools(&self) -> impl Iterator<Item = &Name> {
        std::iter::once(&self.pool).chain(&self.more.next_pools).chain(&self.more.last_resort)
    }

    /// Address, port and protocol where it listens.
    #[must_use]
    pub fn endpoint(&self) -> Endpoint {
        Endpoint { udp: self.protocol == Protocol::Udp, address: self.listen.get() }
    }
}

/// What only `http` frontends have.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct HttpKeys {
    /// Largest header section of a request; a larger one gets 431, or 414 when the request line alone is larger.
    ///
    /// Each connection may hold so much memory while a request arrives.
    #[key(range = "1KiB".."64KiB", default = "16KiB", group = "Requests")]
    pub header_size_limit: Size,
    /// Most header fields of a request; one with more gets 431.
    #[key(range = 1..=100, default = "100")]
    pub header_count_limit: u16,
    /// Most requests that a client may have open at once over HTTP/2 (RFC 9113, 5.1.2).
    #[key(range = 1..=1_000, default = "100")]
    pub max_concurrent_streams: u16,
    /// Longest time from the first byte of a request to the end of its header section; then 408.
    ///
    /// It ends clients that send their headers byte by byte to hold connections.
    #[key(range = "100ms".."5m", default = "10s")]
    pub header_timeout: Span,
    /// Longest time that an upgraded connection (WebSocket) may be idle.
    #[key(range = "1s".."24h", default = "1h")]
    pub tunnel_timeout: Span,
    /// Lowest rate, in bytes a second, at which a client sends a body and takes a response; `0B` is none.
    ///
    /// It is counted over the time that the client is waited for, after `min_rate_grace`. A slower client gets 408, or its response is cut
    /// off. Clients that stream slowly on purpose need `0B`.
    #[key(range = "0B".."1MiB", default = "32B")]
    pub min_rate: Size,
    /// How long a client may be slower than `min_rate` before it is ended.
    #[key(range = "1s".."1h", default = "30s")]
    pub min_rate_grace: Span,
    /// Header fields that are removed from requests of clients that are not trusted.
    ///
    /// Servers may believe these fields, and clients could set them. Fields that differ only by underscores are removed too. Without the
    /// key thirteen fields are removed that are known to name a client's address or another target: `X-Real-IP`, `X-Client-IP`,
    /// `Client-IP`, `True-Client-IP`, `X-Remote-IP`, `X-Remote-Addr`, `X-Originating-IP`, `X-Forwarded`, `Forwarded-For`,
    /// `X-Forwarded-Port`, `X-Forwarded-Server`, `X-Original-URL`, `X-Rewrite-URL`.
    #[key(format = FIELD_NAME, count = 0..=64, without = "X-Real-IP and its like", group = "Trusted proxies")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dropped_fields: Option<Vec<String>>,
}

impl HttpKeys {
    /// The fields that are dropped where nothing is said: they tell a client's address or another address of the request, and
    /// servers have been made to believe them.
    pub const USUAL_DROPPED_FIELDS: [&str; 13] = [
        "X-Real-IP",
        "X-Client-IP",
        "Client-IP",
        "True-Client-IP",
        "X-Remote-IP",
        "X-Remote-Addr",
        "X-Originating-IP",
        "X-Forwarded",
        "Forwarded-For",
        "X-Forwarded-Port",
        "X-Forwarded-Server",
        "X-Original-URL",
        "X-Rewrite-URL",
    ];
}

/// What a frontend's clients speak.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Protocol {
    /// HTTP/1.1, HTTP/1.0, and HTTP/2 by prior knowledge; upgraded connections (WebSocket) are relayed.
    Http,
    /// Bytes in both directions, unread.
    Tcp,
    /// Datagrams, and the responses of a flow.
    Udp,
}

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

fn is_refuse(when: &WhenNone) -> bool {
    *when == WhenNone::Refuse
}

fn is_all(needed: &ChecksNeeded) -> bool {
    *needed == ChecksNeeded::All
}

fn is_first_tier(tier: &u8) -> bool {
    *tier == 0
}

fn is_full(capacity: &u8) -> bool {
    *capacity == 100
}

fn is_one(number: &u16) -> bool {
    *number == 1
}

fn is_automatic(failback: &Failback) -> bool {
    *failback == Failback::Automatic
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

/// Where a check asks, when that is not where the traffic goes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Keys)]
pub struct ProbeAddress {
    /// Port to probe instead of the one that gets the traffic.
    #[key(
        range = 1..=65_535,
        without = "the server's",
        when(kind = "tcp http udp dns tls sql grpc"),
        example = "8081",
        group = "Probe address"
    )]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// Address to probe instead of the one that gets the traffic.
    #[key(without = "the server's", group = "Probe address")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<IpAddr>,
    /// Address of this machine that probes come from.
    #[key(
        format = SOURCE_ADDRESS,
        without = "the system's choice",
        when(kind = "tcp http icmp udp dns tls grpc"),
        group = "Probe address"
    )]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source_address: Option<IpAddr>,
}

impl ProbeAddress {
    /// Where a server at this address is asked.
    #[must_use]
    pub fn of(&self, server: SocketAddr) -> SocketAddr {
        SocketAddr::new(self.address.unwrap_or(server.ip()), self.port.unwrap_or(server.port()))
    }
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

/// An active health check.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct CheckSpec {
    /// What is asked, and what answer counts.
    #[serde(flatten)]
    pub kind: CheckKind,
    /// Time from the start of one probe to the start of the next.
    ///
    /// A shorter interval notices failures sooner and costs each server more probes.
    #[key(basic, range = "100ms".."1h", default = "2s", group = "Timing")]
    pub interval: Span,
    /// Interval while the server is down.
    #[key(range = "100ms".."1h", without = "the interval")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval_down: Option<Span>,
    /// Longest time that a probe may take.
    ///
    /// A longer timeout forgives slow answers and notices silent servers later. It should be shorter than the interval: probes of one
    /// server never overlap, so a probe that takes longer delays the next.
    #[key(basic, range = "10ms".."60s", default = "1s", group = "Timing")]
    pub timeout: Span,
    /// Where it is asked, when that is not where the traffic goes.
    #[serde(flatten)]
    pub elsewhere: ProbeAddress,
    /// Number of failures in a row before a server that is up goes down.
    #[key(basic, range = 1..=100, default = "3", group = "Timing")]
    pub down_after: u32,
    /// Number of passes in a row before a server that is down comes up.
    #[key(basic, range = 1..=100, default = "2", group = "Timing")]
    pub up_after: u32,
    /// What becomes of a server that keeps changing.
    #[serde(flatten)]
    pub steadiness: FlappingSettings,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
}

/// When a server that keeps changing is called flapping, and how long it is held down then.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct FlappingSettings {
    /// Number of times that a server goes down within `flapping_within` before it counts as flapping.
    #[key(range = 2..=100, default = "3", group = "Flapping")]
    #[serde(skip_serializing_if = "is_usual_after")]
    pub flapping_after: u32,
    /// Time in which `flapping_after` is counted.
    #[key(range = "1m".."24h", default = "10m")]
    #[serde(skip_serializing_if = "is_usual_within")]
    pub flapping_within: Span,
    /// Shortest time that a flapping server stays down whatever its probes say; it doubles each time.
    ///
    /// A hold outlives a restart. Without it a flapping server is only reported.
    #[key(range = "1s".."1h")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hold_down: Option<Span>,
    /// Longest time that a flapping server is held down.
    #[key(range = "1s".."24h", default = "10m")]
    #[serde(skip_serializing_if = "is_usual_most")]
    pub hold_down_most: Span,
}

impl Default for FlappingSettings {
    fn default() -> Self {
        keys::defaults()
    }
}

fn is_usual_after(after: &u32) -> bool {
    *after == FlappingSettings::default().flapping_after
}

fn is_usual_within(within: &Span) -> bool {
    *within == FlappingSettings::default().flapping_within
}

fn is_usual_most(most: &Span) -> bool {
    *most == FlappingSettings::default().hold_down_most
}

/// Status codes from `first` to `last`, both included; written `200-299` or `204`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StatusRange {
    first: u16,
    last: u16,
}

/// Why a text is not a [`StatusRange`].
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("wanted a status code from 100 to 599, or a range such as 200-299; found {0:?}")]
pub struct StatusRangeError(String);

impl StatusRange {
    /// Whether a status code lies in the range.
    #[must_use]
    pub fn holds(self, status: u16) -> bool {
        (self.first..=self.last).contains(&status)
    }
}

impl FromStr for StatusRange {
    type Err = StatusRangeError;

    fn from_str(text: &str) -> Result<Self, StatusRangeError> {
        let (first, last) = text.split_once('-').unwrap_or((text, text));
        let code = |part: &str| part.parse::<u16>().ok().filter(|code| (100..=599).contains(code));
        match (code(first), code(last)) {
            (Some(first), Some(last)) if first <= last => Ok(Self { first, last }),
            _ => Err(StatusRangeError(text.to_owned())),
        }
    }
}

impl fmt::Display for StatusRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.first == self.last {
            write!(f, "{}", self.first)
        } else {
            write!(f, "{}-{}", self.first, self.last)
        }
    }
}

impl Serialize for StatusRange {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl PoolSpec {
    /// Every check that its servers are judged by, the one that sets the pace first.
    pub fn checks(&self) -> impl Iterator<Item = &Name> {
        self.check.iter().chain(&self.more_checks)
    }
}

impl Document {
    /// The document as TOML: the same content always gives the same bytes.
    #[must_use]
    pub fn to_toml(&self) -> String {
        toml::to_string(self).expect("a document holds only tables, texts and numbers")
    }

    /// The document as JSON: the same content always gives the same bytes.
    #[must_use]
    pub fn to_json(&self) -> String {
        serde_json::to_string_pretty(self).expect("a document's keys are texts") + "\n"
    }
}
