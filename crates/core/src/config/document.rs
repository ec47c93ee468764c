//! The document: what a person wrote, with defaults filled in and nothing derived.

use std::collections::BTreeMap;
use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;

use ipnet::IpNet;
use serde::{Serialize, Serializer};

pub use super::balancing::{
    Algorithm, BalancePer, ChoosePool, Failback, HashKey, HashSettings, Persistence, PersistenceKind,
    PoolSelection, QueueSettings, ServerLimits, WhenAbsent,
};
pub use super::checks::{
    BodyExpectation, CertificateTrust, CheckKind, CommandProbe, DnsProbe, DnsRecordType, ExpectedValue,
    GrpcProbe, HttpProbe, Pattern, SecretRef, SendExpect, SqlProbe, TlsProbe, TlsVerify,
};
pub use super::failure_handling::{FailureHandling, OpenConnections};
use super::listen_address::{AddressRange, AddressRef};
pub use super::notification::{MailTarget, MailTls, NotificationSpec, NotifiedChange, WebhookTarget};
pub use super::upstream::{HttpVersion, UpstreamSettings};
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Document {
    /// The document's format number, always [`FORMAT`] once it was read.
    pub format: i64,
    /// Known machines by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub hosts: BTreeMap<Name, HostSpec>,
    /// Ranges of service addresses by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub ranges: BTreeMap<Name, RangeSpec>,
    /// Lists of networks by name, by which frontends may choose pools.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub networks: BTreeMap<Name, Vec<IpNet>>,
    /// Checks by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub checks: BTreeMap<Name, CheckSpec>,
    /// Pools by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub pools: BTreeMap<Name, PoolSpec>,
    /// Frontends by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub frontends: BTreeMap<Name, FrontendSpec>,
    /// Who is told of which changes, by name.
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct HostSpec {
    /// Its address.
    pub address: IpAddr,
    /// What it is for, in the engineer's words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Labels.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
}

/// A range of service addresses, of which frontends take theirs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RangeSpec {
    /// From which address to which.
    pub addresses: AddressRange,
    /// What it is for, in the engineer's words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Labels.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
    /// The addresses that are taken, by the name they were taken under; each stays until it is released.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub reserved: BTreeMap<Name, IpAddr>,
}

/// Where clients connect.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FrontendSpec {
    /// What clients speak.
    pub protocol: Protocol,
    /// The address and port to listen on, or `range/name:port` for an address that was taken from a range.
    pub listen: AddressRef,
    /// The pool that does the work, or the first of several.
    pub pool: Name,
    /// More pools.
    #[serde(flatten)]
    pub more: PoolSelection,
    /// What is dealt out.
    pub balance_per: BalancePer,
    /// The most clients that may be connected at once; one more is let go, with 503 where it speaks HTTP. For `udp` the
    /// most flows. 1 to 1000000.
    pub connection_limit: u32,
    /// From which part of the requests of a minute on, in percent, it is told that they fail; 0 for never. 0 to 100.
    pub failing_share: u8,
    /// What only `http` frontends have.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub http: Option<HttpKeys>,
    /// How long a client's connection may rest: between requests, in the middle of a body, or, for `tcp` and `udp`,
    /// without a byte or datagram in either direction. 100ms to 24h.
    pub idle_timeout: Span,
    /// How long a client's connection may last (`tcp`). 1s to 720h.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_connection_age: Option<Span>,
    /// How long a client may take to say for whom it is, where its pool goes by `sni` (`tcp`); then it has said nothing.
    /// 100ms to 5m, 2s where nothing is said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub client_hello_timeout: Option<Span>,
    /// The networks whose word is believed: of who the client is (`Forwarded` and its kin, PROXY protocol).
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub trusted: Vec<IpNet>,
    /// Whether connections of trusted peers begin with a PROXY protocol header.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub proxy_protocol: bool,
    /// What it is for, in the engineer's words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Labels.
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

    /// Where it listens.
    #[must_use]
    pub fn endpoint(&self) -> Endpoint {
        Endpoint { udp: self.protocol == Protocol::Udp, address: self.listen.get() }
    }
}

/// What only `http` frontends have.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct HttpKeys {
    /// The largest request head that is taken; a larger one is answered 431. 1KiB to 64KiB.
    pub header_size_limit: Size,
    /// The most fields in a request head; one with more is answered 431. 1 to 100.
    pub header_count_limit: u16,
    /// The most requests that a client may have under way at once over HTTP/2. 1 to 1000.
    pub max_concurrent_streams: u16,
    /// How long a client may take from a request's first byte to the end of its head; then 408. 100ms to 5m.
    pub header_timeout: Span,
    /// How long a tunnel (WebSocket) may rest. 1s to 24h.
    pub tunnel_timeout: Span,
    /// The lowest rate, in bytes a second, at which a client sends a body and takes an answer, over all the time that it is waited
    /// for. 0B, which is none, to 1MiB.
    pub min_rate: Size,
    /// How long it may be waited for before that counts. 1s to 1h.
    pub min_rate_grace: Span,
    /// Fields that servers might believe, and that clients which are not trusted do not get through. At most 64.
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Protocol {
    /// HTTP/1.1 and 1.0.
    Http,
    /// Bytes in both directions.
    Tcp,
    /// Datagrams.
    Udp,
}

impl fmt::Display for Protocol {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Http => "http",
            Self::Tcp => "tcp",
            Self::Udp => "udp",
        })
    }
}

/// A set of servers that can do the same work.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct PoolSpec {
    /// How the pool deals out work.
    pub algorithm: Algorithm,
    /// What `hash` goes by.
    #[serde(flatten)]
    pub hashing: HashSettings,
    /// What ties clients to its servers.
    #[serde(flatten)]
    pub persistence: Persistence,
    /// How many eligible servers a tier needs to work. 1 to 1000.
    #[serde(skip_serializing_if = "is_one")]
    pub tier_min_eligible: u16,
    /// How many eligible servers it needs for a frontend with several pools to use it. 1 to 1000.
    #[serde(skip_serializing_if = "is_one")]
    pub min_eligible: u16,
    /// When work goes back to a lower tier.
    #[serde(skip_serializing_if = "is_automatic")]
    pub failback: Failback,
    /// The time in which a server's share grows to its full share after it returned or recovered. 1s to 1h.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ramp: Option<Span>,
    /// How much of their limits its servers may use, in percent. 1 to 100.
    #[serde(skip_serializing_if = "is_full")]
    pub capacity: u8,
    /// The limits of each server that has none of its own.
    #[serde(flatten)]
    pub limits: ServerLimits,
    /// What becomes of work for which every server is full.
    #[serde(flatten, skip_serializing_if = "QueueSettings::is_default")]
    pub queue: QueueSettings,
    /// The version of PROXY protocol header that connections to its servers begin with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub proxy_protocol: Option<ProxyVersion>,
    /// How its servers are reached.
    #[serde(flatten)]
    pub reaching: UpstreamSettings,
    /// The check that judges its servers; without one every server is taken to work.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub check: Option<Name>,
    /// More checks that are made with it, at its pace.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub more_checks: Vec<Name>,
    /// How many of them a server has to pass.
    #[serde(skip_serializing_if = "is_all")]
    pub checks_needed: ChecksNeeded,
    /// What traffic itself says of its servers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub passive_check: Option<PassiveCheck>,
    /// What becomes of work when none passes.
    #[serde(skip_serializing_if = "is_refuse")]
    pub when_none: WhenNone,
    /// How long connecting to a server may take before another one is tried. 10ms to 60s.
    pub connect_timeout: Span,
    /// How long a server may take to begin its answer; then 504. 10ms to 1h.
    pub first_byte_timeout: Span,
    /// How long an answer may take from its first byte to its last; then it is broken off. 100ms to 24h.
    pub response_timeout: Span,
    /// How long a server may rest in the middle of a body before the exchange is given up. 100ms to 1h.
    pub idle_timeout: Span,
    /// How many servers one request may be offered to, over all tiers and pools. 1 to 16.
    pub attempts: u8,
    /// What becomes of work while a server fails.
    #[serde(flatten)]
    pub failing: FailureHandling,
    /// What it is for, in the engineer's words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Labels.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
    /// Servers by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub servers: BTreeMap<Name, ServerSpec>,
    /// DNS names whose answers are servers too, by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub lookups: BTreeMap<Name, LookupSpec>,
}

/// The versions of the PROXY protocol.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum ProxyVersion {
    /// A line of text.
    V1,
    /// Binary.
    V2,
}

/// One address and port that does a pool's work.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ServerSpec {
    /// Where it listens: an address and port, or `host:port` with the name of a known host.
    pub address: AddressRef,
    /// Where it listens too: the connection that is made first is used (RFC 8305). 7 at most.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub other_addresses: Vec<SocketAddr>,
    /// Its part of the pool's work against the other servers' weights; 0 takes no new work. 0 to 1000.
    pub weight: u16,
    /// Its rank: the lowest tier with an eligible server works, those above stand by. 0 to 7.
    #[serde(skip_serializing_if = "is_first_tier")]
    pub tier: u8,
    /// How much of its weight and its limits counts, in percent. 1 to 100.
    #[serde(skip_serializing_if = "is_full")]
    pub capacity: u8,
    /// Its limits; those that it has none of are the pool's.
    #[serde(flatten)]
    pub limits: ServerLimits,
    /// As the pool's, for this server alone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub connect_timeout: Option<Span>,
    /// As the pool's, for this server alone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_byte_timeout: Option<Span>,
    /// As the pool's, for this server alone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub response_timeout: Option<Span>,
    /// As the pool's, for this server alone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub idle_timeout: Option<Span>,
    /// What it is for, in the engineer's words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Labels.
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct LookupSpec {
    /// The DNS name (RFC 1035, 2.3.1).
    pub name: String,
    /// Which records are asked for.
    pub records: LookupRecords,
    /// The port of each server; needed for `address`, for a service record names its own. 1 to 65535.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The weight of each server; for `address` only. 0 to 1000.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub weight: Option<u16>,
    /// All addresses of a name are one server's, and not a server each.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub merge_addresses: bool,
    /// The name server to ask; without it those of the machine (`/etc/resolv.conf`).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub resolver: Option<SocketAddr>,
    /// What becomes of the servers when the answer is that there are none.
    pub when_empty: WhenEmpty,
    /// Answers are not asked for more often than this, however short their time to live. 1s to 1h.
    pub min_interval: Span,
    /// What it is for, in the engineer's words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
}

/// What becomes of a lookup's servers when the name server says that the name has none any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum WhenEmpty {
    /// The last ones stay: an empty answer is more often a mistake than a wish, and their check judges them.
    Keep,
    /// They go.
    Remove,
}

/// Which DNS records a lookup asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum LookupRecords {
    /// Addresses: A and AAAA (RFC 1035, 3.4.1; RFC 3596).
    Address,
    /// Services: SRV (RFC 2782), with priority as tier and weight as weight.
    Service,
}

/// Where a check asks, when that is not where the traffic goes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct ProbeAddress {
    /// Another port of the server. 1 to 65535.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// Another address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<IpAddr>,
    /// The address of this machine that probes come from.
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
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum ChecksNeeded {
    /// Each of them.
    #[default]
    All,
    /// One of them.
    Any,
}

/// What traffic itself says of a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct PassiveCheck {
    /// So many pieces of work that a server failed are evidence: refused, timed out, reset, broken off. 1 to 100000.
    pub failures: u32,
    /// Within this time. 1s to 60s.
    pub within: Span,
    /// Whether answers with a status of 500 and above count too.
    pub count_5xx: bool,
    /// What they make of it.
    pub action: PassiveAction,
    /// Whether the last eligible server of a pool may go down by it.
    pub allow_last: bool,
}

/// What evidence from traffic makes of a server that is up.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum PassiveAction {
    /// Suspect: it is probed at once, and four times as often until that is settled.
    #[default]
    Suspect,
    /// Down, until enough probes have passed.
    Down,
}

/// What becomes of work when no server of a pool passes its checks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum WhenNone {
    /// It is refused, or goes to the frontend's next pool or last resort.
    #[default]
    Refuse,
    /// It goes to all servers that fail, when no other pool takes it: they may be better than their check.
    All,
}

/// An active health check.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct CheckSpec {
    /// What is asked, and what answer counts.
    #[serde(flatten)]
    pub kind: CheckKind,
    /// From the start of one probe to the start of the next. Shorter notices sooner and costs each server
    /// more probes. 100ms to 1h.
    pub interval: Span,
    /// The same while the server is down; the interval when it is left out. 100ms to 1h.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval_down: Option<Span>,
    /// How long a probe may take. Longer forgives slow answers and notices silent servers later. 10ms to 60s.
    pub timeout: Span,
    /// Where it is asked, when that is not where the traffic goes.
    #[serde(flatten)]
    pub elsewhere: ProbeAddress,
    /// Failures in a row before an up server is down. 1 to 100.
    pub down_after: u32,
    /// Passes in a row before a down server is up. 1 to 100.
    pub up_after: u32,
    /// What becomes of a server that keeps changing.
    #[serde(flatten)]
    pub steadiness: FlappingSettings,
    /// What it is for, in the engineer's words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Labels.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
}

/// When a server that keeps changing is called flapping, and how long it is held down then.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct FlappingSettings {
    /// So many times down within `flapping_within`. 2 to 100.
    #[serde(skip_serializing_if = "is_usual_after")]
    pub flapping_after: u32,
    /// 1m to 24h.
    #[serde(skip_serializing_if = "is_usual_within")]
    pub flapping_within: Span,
    /// How long it is held down the first time it flaps, twice as long each time after that; without it, it is only
    /// called so. 1s to 1h.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hold_down: Option<Span>,
    /// The longest that it is held down. 1s to 24h.
    #[serde(skip_serializing_if = "is_usual_most")]
    pub hold_down_most: Span,
}

impl Default for FlappingSettings {
    fn default() -> Self {
        Self {
            flapping_after: 3,
            flapping_within: Span::from_millis(600_000),
            hold_down: None,
            hold_down_most: Span::from_millis(600_000),
        }
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
