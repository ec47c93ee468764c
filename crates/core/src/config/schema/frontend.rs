//! Frontends: where clients connect.

use std::collections::BTreeMap;
use std::fmt;
use std::net::SocketAddr;
use std::time::Duration;

use ipnet::IpNet;
use merismos_derive::Keys;
use serde::Serialize;
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::document::{
    AmbiguousPaths, BalancePer, CipherSuite, ErrorPages, Labels, MaintenanceKeys, PoolSelection, TlsPolicy,
    UnknownName,
};
use crate::config::listen_address::AddressRef;
use crate::name::Name;
use crate::units::{Size, Span};

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
    /// Rules that requests are compared with, in this order: the first that a request meets decides. Requests that meet none go to the pools
    /// of the frontend.
    ///
    /// A rule may be one of several frontends. Those of a `tcp` frontend are asked once for each connection; they look at `client`, `server-name` (of clients
    /// that speak TLS), `local-address` and `port`, and lead to pools or close the connection.
    #[key(basic, refers = Rule, count = 0..=10_000, distinct, without = "none", when(protocol = "http tcp"), group = "Rules")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<Name>,
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
    /// Longest time to wait for a TLS ClientHello (RFC 8446, 4.1.2) where a pool goes by `sni` or a rule by `server-name`, or for what `first-bytes` looks for (`tcp`).
    ///
    /// After it the connection is treated as one without them. Clients whose servers speak first wait that long.
    #[key(range = "100ms".."5m", without = "2s", when(protocol = "tcp"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub client_hello_timeout: Option<Span>,
    /// Lists of networks whose clients are let in; where there are some, all others are turned away.
    ///
    /// The longest prefix that holds a client's address decides between `allow` and `deny`, and of two alike the one of `deny`. A client that is turned away is
    /// counted; its connection is reset before anything of it is read, or, where a trusted proxy names it, each request gets 403. Connections of `tcp` and flows of
    /// `udp` that are open stay.
    #[key(refers = Network, count = 0..=100, distinct, without = "all networks", group = "Access")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub allow: Vec<Name>,
    /// Lists of networks whose clients are turned away.
    #[key(refers = Network, count = 0..=100, distinct, without = "none")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub deny: Vec<Name>,
    /// Limits that each client is under: how much it may ask for.
    ///
    /// They are asked in this order, after `allow` and `deny` and before any rule; the first that refuses decides. Those of rules come after them.
    #[key(refers = Limit, count = 0..=16, distinct, without = "none", group = "Limits")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<Name>,
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
    /// Certificates for clients, who have to speak TLS then. The name that a client asks for (SNI, RFC 6066) decides between them.
    ///
    /// A certificate for exactly that name comes before one with `*` in place of its first label, and the earlier of two before the later.
    /// Clients of `http` frontends may choose HTTP/2 in the handshake (ALPN, RFC 7301).
    #[key(basic, refers = Certificate, count = 0..=10_000, when(protocol = "http tcp"), group = "TLS", without = "no TLS")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub certificates: Vec<Name>,
    /// Which versions and ciphers of TLS clients may speak.
    #[key(without = "compatible", when(protocol = "http tcp"), label = "TLS policy")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tls_policy: Option<TlsPolicy>,
    /// Ciphers that clients may speak, those first that are preferred; others of the policy may not be spoken.
    ///
    /// Most frontends need none: the policies leave no weak one. Of TLS 1.3, and with `compatible` of 1.2, one at least has to be left for each version that is to be spoken.
    #[key(count = 1..=9, distinct, without = "all of tls_policy", when(protocol = "http tcp"), label = "TLS ciphers")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub tls_ciphers: Vec<CipherSuite>,
    /// What clients get that ask for a name of which there is no certificate.
    #[key(without = "first", when(protocol = "http tcp"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unknown_name: Option<UnknownName>,
    /// Server names (SNI) whose TLS is passed on as it comes, each pool's, for servers that have their own certificates.
    ///
    /// Exact names come before those with `*` in place of the first label. Clients of `tcp` frontends that ask for another name, or for none, go to
    /// the pools of the frontend; where it has certificates, their TLS ends here. `http` frontends need certificates for that.
    #[key(count = 1..=100, distinct, format = SERVER_NAME, when(protocol = "http tcp"), example = "tickets=tickets.skerry.example")]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub passthrough: BTreeMap<Name, Vec<String>>,
    /// Whether clients are asked for certificates, and have to show one.
    ///
    /// Servers of `http` frontends get one that passed in `Client-Cert`, and those that lead to its authority in `Client-Cert-Chain` (RFC 9440);
    /// what clients say in these fields themselves is dropped.
    #[key(without = "they are not asked", when(protocol = "http tcp"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub client_certificates: Option<ClientCertificates>,
    /// File of the authorities (PEM) whose certificates pass.
    #[key(format = FILE, without = "none", when(protocol = "http tcp"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub client_authorities: Option<String>,
    /// File of lists of revoked certificates (CRLs, RFC 5280, 5, in PEM), one at least of each authority that signs clients' certificates.
    ///
    /// It is looked at every few seconds. A client that is revoked can't take up its session again either.
    #[key(format = FILE, without = "none is revoked", when(protocol = "http tcp"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub client_revocations: Option<String>,
    /// Longest time that a TLS handshake may take.
    #[key(range = "100ms".."5m", without = "10s", when(protocol = "http tcp"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub handshake_timeout: Option<Span>,
    /// Most TLS handshakes that each worker does at once for the frontend; clients beyond it are cut off.
    #[key(range = 1..=100_000, without = "2000", when(protocol = "http tcp"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub handshake_limit: Option<u32>,
    /// Most TLS handshakes that each worker does at once for one client: an IPv4 address, or the 64 bits of an IPv6 network.
    ///
    /// Clients behind a trusted proxy count by themselves.
    #[key(range = 1..=100_000, without = "500", when(protocol = "http tcp"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub client_handshake_limit: Option<u32>,
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

/// Whether clients show certificates.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum ClientCertificates {
    /// Clients without one are served as well; servers see the difference.
    Optional,
    /// Clients without one do not come through the handshake.
    Required,
}

/// What bounds the TLS handshakes of a frontend's clients.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct HandshakeLimits {
    /// How long one may take.
    pub timeout: Duration,
    /// The most at once, in each worker.
    pub at_once: u32,
    /// The most at once of one client, in each worker.
    pub of_client: u32,
}

impl FrontendSpec {
    /// Every pool that it may send work to, each once.
    pub fn pools(&self) -> impl Iterator<Item = &Name> {
        let passed =
            self.passthrough.keys().filter(|pool| !self.chosen_pools().any(|chosen| chosen == *pool));
        self.chosen_pools().chain(passed)
    }

    /// The pools for whatever is not passed on by its server name.
    pub fn chosen_pools(&self) -> impl Iterator<Item = &Name> {
        std::iter::once(&self.pool).chain(&self.more.next_pools).chain(&self.more.last_resort)
    }

    /// What bounds the TLS handshakes of clients; `None` where clients do not speak TLS.
    #[must_use]
    pub fn handshakes(&self) -> Option<HandshakeLimits> {
        let limits = HandshakeLimits {
            timeout: self.handshake_timeout.map_or(Duration::from_secs(10), Span::get),
            at_once: self.handshake_limit.unwrap_or(2_000),
            of_client: self.client_handshake_limit.unwrap_or(500),
        };
        (!self.certificates.is_empty()).then_some(limits)
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
    /// Largest body of a request; a larger one gets 413.
    ///
    /// One that says its length is refused before a server is chosen. One that does not is broken off when it is longer, and its server may have begun with it.
    #[key(range = "0B".."1000GiB", without = "any size", example = "10MiB")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub body_size_limit: Option<Size>,
    /// Most requests that a client may make over one connection; with the last one it is told that the connection ends.
    ///
    /// It spreads clients that keep connections for long, and frees what a connection may have gathered. Clients make a new one.
    #[key(range = 1..=1_000_000_000, without = "any number", example = "10000")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub requests_per_connection: Option<u32>,
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
    /// What becomes of a request whose path servers read in several ways, where there are rules: `%2F`, `%2E%2E`, `%00`, `%25`, a backslash, a semicolon.
    ///
    /// A server may read it as a path that a rule protects. Applications that send such paths on purpose need `allow`, and rules that do not trust them.
    #[key(without = "refuse", group = "Rules")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ambiguous_paths: Option<AmbiguousPaths>,
    /// What clients get while the application is worked on.
    #[serde(flatten)]
    pub maintenance: MaintenanceKeys,
    /// What clients get where the frontend itself can't give them what they asked for.
    #[serde(flatten)]
    pub errors: ErrorPages,
    /// Port of `https` at the same host to which every request is redirected, with its host and path; its pools get nothing then.
    ///
    /// The redirect is not cached, so it can be taken back. Requests of HTTP/1.0 without a host get 400.
    #[key(range = 1..=65_535, example = "443", label = "Redirect to https", group = "TLS")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub redirect_to_https: Option<u16>,
    /// Status of that redirect.
    #[key(without = "308", example = "307")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub redirect_status: Option<RedirectStatus>,
    /// Time in which browsers refuse to speak plain text with the host (HSTS, RFC 6797): each response says so.
    ///
    /// It can't be taken back before it is over: begin with minutes. `0s` has browsers forget it.
    #[key(range = "0s".."17520h", example = "5m", label = "HSTS age")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hsts_age: Option<Span>,
    /// Whether that is so for every name below the host as well, also for those that no frontend serves.
    #[key(default = "false", label = "HSTS for subdomains")]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub hsts_subdomains: bool,
}

/// The statuses of a redirect to `https` (RFC 9110, 15.4).
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
pub enum RedirectStatus {
    /// For good, and with the same method and body.
    #[default]
    #[serde(rename = "308")]
    #[strum(serialize = "308")]
    Permanent,
    /// For now, and with the same method and body.
    #[serde(rename = "307")]
    #[strum(serialize = "307")]
    Temporary,
    /// For now, with GET whatever the method was.
    #[serde(rename = "303")]
    #[strum(serialize = "303")]
    SeeOther,
    /// For good; a client may make a GET of a POST.
    #[serde(rename = "301")]
    #[strum(serialize = "301")]
    MovedPermanently,
    /// For now; a client may make a GET of a POST.
    #[serde(rename = "302")]
    #[strum(serialize = "302")]
    Found,
}

impl RedirectStatus {
    /// The number.
    #[must_use]
    pub fn number(self) -> u16 {
        match self {
            Self::Permanent => 308,
            Self::Temporary => 307,
            Self::SeeOther => 303,
            Self::MovedPermanently => 301,
            Self::Found => 302,
        }
    }
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
