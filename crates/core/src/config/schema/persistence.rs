//! Persistence: what ties clients to servers, and for how long.

use std::fmt;
use std::str::FromStr;

use merismos_derive::Keys;
use serde::{Serialize, Serializer};
use strum::{Display, EnumMessage, EnumString, VariantNames};

use super::balancing::ValueError;
use super::expectation::Pattern;
use crate::config::document::Protocol;
use crate::name::Name;
use crate::text::is_token;
use crate::units::Span;

/// The longest pattern that is looked for in a client's first bytes.
const LONGEST_PATTERN: usize = 200;

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
    /// What a regular expression finds in the first bytes that a client sends: its first group, or all of it (`tcp`).
    FirstBytes(String),
}

impl PersistenceKind {
    /// Whether clients of a protocol can have it.
    #[must_use]
    pub fn is_known_of(&self, protocol: Protocol) -> bool {
        match self {
            Self::ClientAddress => true,
            Self::ClientAddressAndPort => protocol == Protocol::Udp,
            Self::Sni | Self::FirstBytes(_) => protocol == Protocol::Tcp,
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
            Self::FirstBytes(pattern) => write!(f, "first-bytes:{pattern}"),
        }
    }
}

impl FromStr for PersistenceKind {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Self, ValueError> {
        if let Some(pattern) = text.strip_prefix("first-bytes:") {
            let is_good = pattern.bytes().all(|byte| (b' '..=b'~').contains(&byte))
                && (1..=LONGEST_PATTERN).contains(&pattern.len())
                && pattern.parse::<Pattern>().is_ok();
            return is_good.then(|| Self::FirstBytes(pattern.to_owned())).ok_or_else(|| ValueError {
                found: text.to_owned(),
                expected: "first-bytes: and a regular expression, such as first-bytes:^LOGIN ([^ ]+)",
            });
        }
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
                expected: "cookie, client-address, client-address-and-port, sni, header:NAME, query:NAME, application-cookie:NAME or first-bytes:PATTERN",
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
        effective(persistence = "client-address client-address-and-port sni header query application-cookie first-bytes")
    )]
    #[serde(rename = "pin_idle", skip_serializing_if = "Option::is_none")]
    pub idle: Option<Span>,
    /// Most clients that are kept; beyond, the one that did not come for the longest time is forgotten.
    ///
    /// A client takes some 70 bytes.
    #[key(
        range = 1..=10_000_000,
        without = "100000",
        effective(persistence = "client-address client-address-and-port sni header query application-cookie first-bytes")
    )]
    #[serde(rename = "pin_limit", skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
    /// Whether the clients that are kept stay tied over a restart of the service.
    ///
    /// They are written to the state folder every 5 s. An upgrade keeps them in any case, and so does every change of the configuration.
    #[key(
        default = "false",
        effective(
            persistence = "client-address client-address-and-port sni header query application-cookie first-bytes"
        )
    )]
    #[serde(rename = "pin_keep", skip_serializing_if = "std::ops::Not::not")]
    pub keep: bool,
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
    /// Every request carries it, also of pages inside pages of other sites. Clients that do not speak TLS get `lax`, for browsers refuse it.
    None,
}

impl CookieSameSite {
    fn is_lax(&self) -> bool {
        *self == Self::Lax
    }

    /// The value of the attribute in a `Set-Cookie` field. `None` is valid beside `Secure` alone.
    #[must_use]
    pub fn attribute(self, is_secure: bool) -> &'static str {
        match self {
            Self::None if is_secure => "None",
            Self::Lax | Self::None => "Lax",
            Self::Strict => "Strict",
        }
    }
}
