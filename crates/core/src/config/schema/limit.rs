//! Limits: how much each client may ask for.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use merismos_derive::Keys;
use serde::{Serialize, Serializer};
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::document::{HashKey, Labels, Protocol};
use crate::config::schema::balancing::ValueError;
use crate::units::{Size, Span};

/// How much each client may ask for, and what becomes of the rest. Frontends and rules list the limits that their clients are under; a client of several
/// frontends with the same limit counts once.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct LimitSpec {
    /// What counts as one client: `client-address`, and for `http` `host`, `path`, `query:NAME`, `header:NAME`, `cookie:NAME` and `label` (what rules
    /// call the request, for limits of rules); `all` is all clients together.
    ///
    /// Clients that do not have it count by their address. Clients can leave out or make up what they send: use fields that were checked before, or a
    /// second limit by address.
    #[key(basic, default = "client-address", example = "header:X-Api-Key")]
    pub per: LimitKey,
    /// Number of bits of an IPv4 client's address that count.
    #[key(range = 1..=32, default = "32", label = "Prefix, IPv4")]
    #[serde(skip_serializing_if = "is_whole_ipv4")]
    pub prefix_ipv4: u8,
    /// Number of bits of an IPv6 client's address that count.
    ///
    /// A client has a whole /64 network and changes its addresses within it.
    #[key(range = 1..=128, default = "64", label = "Prefix, IPv6")]
    #[serde(skip_serializing_if = "is_usual_ipv6")]
    pub prefix_ipv6: u8,
    /// Most requests of a client within the time of `within`; of `tcp` frontends most connections, of `udp` ones most flows.
    #[key(basic, range = 1..=1_000_000_000, without = "any number", example = "100", group = "Rate")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate: Option<u32>,
    /// Time in which `rate` is counted.
    #[key(basic, range = "1s".."24h", default = "1s")]
    pub within: Span,
    /// Most of them that may come at once; the others come at the pace of `rate`.
    ///
    /// A page with many pictures needs a burst of that many requests.
    #[key(range = 1..=1_000_000_000, without = "as many as rate")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub burst: Option<u32>,
    /// Most requests of a client that may be in flight at once (`http`).
    #[key(basic, range = 1..=1_000_000, without = "any number", group = "At once")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub in_flight: Option<u32>,
    /// Most connections that a client may have open at once; of `udp` frontends most flows.
    ///
    /// They are counted before anything is read, by the client's address or all together, at frontends alone. Browsers open six for each host, and more behind one address
    /// of many users.
    #[key(basic, range = 1..=1_000_000, without = "any number")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub connections: Option<u32>,
    /// Most bytes a second of bodies that a client sends and gets, over all of its requests (`http`).
    ///
    /// Bodies are slowed down to it, whatever `action` says, unless that is `observe`. As many as come in a tenth of a second, and 64 KiB at least, may come at once. Upgraded
    /// connections (WebSocket) are not slowed down. A slow body holds a connection to its server for longer, and still has to be whole within `response_timeout`.
    #[key(basic, range = "1KiB".."100GiB", without = "any number", example = "2MiB", group = "Bandwidth")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bandwidth: Option<Size>,
    /// What becomes of what is too much.
    #[key(basic, default = "refuse", group = "What is too much")]
    pub action: LimitAction,
    /// Longest time that a request is delayed; one that would have to wait longer is refused.
    #[key(range = "10ms".."1m", without = "1s", when(action = "delay"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_delay: Option<Span>,
    /// How many clients are counted each by itself; further ones share counts with others, and may be held off too early.
    ///
    /// Those that ask most are counted by themselves. Each costs up to 54 bytes.
    #[key(range = 1_000..=10_000_000, default = "100000")]
    #[serde(skip_serializing_if = "is_usual_clients")]
    pub clients: u32,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
}

fn is_whole_ipv4(bits: &u8) -> bool {
    *bits == 32
}

fn is_usual_ipv6(bits: &u8) -> bool {
    *bits == 64
}

fn is_usual_clients(clients: &u32) -> bool {
    *clients == 100_000
}

impl LimitSpec {
    /// What becomes of what is too much, in a word: `slow` of a limit of bandwidth alone.
    #[must_use]
    pub fn does(&self) -> String {
        let is_of_bandwidth = self.rate.is_none() && self.in_flight.is_none() && self.connections.is_none();
        match self.action {
            LimitAction::Refuse | LimitAction::Delay if is_of_bandwidth => "slow".to_owned(),
            action => action.to_string(),
        }
    }

    /// What it allows, in a few words: `100 within 1m, 20 in flight`.
    #[must_use]
    pub fn allows(&self) -> String {
        let rate = self.rate.map(|rate| {
            let burst = self.burst.map(|burst| format!(" (burst {burst})")).unwrap_or_default();
            format!("{rate} within {}{burst}", self.within)
        });
        let in_flight = self.in_flight.map(|most| format!("{most} in flight"));
        let connections = self.connections.map(|most| format!("{most} connections"));
        let bandwidth = self.bandwidth.map(|bytes| format!("{bytes} a second"));
        [rate, in_flight, connections, bandwidth].into_iter().flatten().collect::<Vec<_>>().join(", ")
    }
}

/// What counts as one client of a limit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LimitKey {
    /// All clients together.
    All,
    /// Requests that rules give the same label.
    Label,
    /// Those that have the same in this.
    Of(HashKey),
}

impl LimitKey {
    /// Whether clients of a protocol can have it.
    #[must_use]
    pub fn is_known_of(&self, protocol: Protocol) -> bool {
        match self {
            Self::All => true,
            Self::Label => protocol == Protocol::Http,
            Self::Of(key) => key.is_known_of(protocol),
        }
    }

    /// Whether it is known before anything of a connection is read.
    #[must_use]
    pub fn is_known_early(&self) -> bool {
        matches!(self, Self::All | Self::Of(HashKey::ClientAddress))
    }
}

impl fmt::Display for LimitKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::All => f.write_str("all"),
            Self::Label => f.write_str("label"),
            Self::Of(key) => key.fmt(f),
        }
    }
}

impl FromStr for LimitKey {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Self, ValueError> {
        let wrong = || ValueError {
            found: text.to_owned(),
            expected: "client-address, all, host, path, query:NAME, header:NAME, cookie:NAME or label",
        };
        match text {
            "all" => Ok(Self::All),
            "label" => Ok(Self::Label),
            _ => match text.parse().map_err(|_| wrong())? {
                HashKey::Sni | HashKey::PathWithQuery => Err(wrong()),
                key => Ok(Self::Of(key)),
            },
        }
    }
}

impl Serialize for LimitKey {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// What becomes of what is too much.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum LimitAction {
    /// A request gets 429 with `Retry-After` (RFC 6585, 4); a connection is reset, a datagram dropped.
    #[default]
    Refuse,
    /// A request that comes too early for `rate` waits until it may pass; all else is refused.
    Delay,
    /// It is counted, and passes: to watch a limit before it bites.
    Observe,
}
