//! What is known of a request when it is distributed, and the number that `hash` makes of it.

use std::fmt;
use std::net::IpAddr;

use crate::config::document::{HashKey, HashSettings, WhenAbsent};
use crate::cookie::cookie_values;
use crate::draw::digest;

/// What is known of a request. What a protocol does not have stays empty.
#[derive(Clone, Copy)]
pub struct RequestFacts<'a> {
    /// Address of the client, as far as it is trusted.
    pub client: IpAddr,
    /// The port that datagrams come from.
    pub port: Option<u16>,
    /// The path with its query.
    pub target: Option<&'a str>,
    /// The host that was asked for, as it was written.
    pub host: Option<&'a [u8]>,
    /// The server name that a TLS client asked for.
    pub sni: Option<&'a str>,
    /// What a TCP client has sent before anything was decided.
    pub first_bytes: Option<&'a [u8]>,
    /// What rules call the request.
    pub label: Option<&'a str>,
    /// The first field of a name in lower case.
    pub field: &'a dyn Fn(&str) -> Option<&'a [u8]>,
}

impl fmt::Debug for RequestFacts<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Facts")
            .field("client", &self.client)
            .field("target", &self.target)
            .finish_non_exhaustive()
    }
}

impl<'a> RequestFacts<'a> {
    /// Of work that says nothing of itself: a connection or a datagram.
    #[must_use]
    pub fn of_client(client: IpAddr) -> Self {
        Self {
            client,
            port: None,
            target: None,
            host: None,
            sni: None,
            first_bytes: None,
            label: None,
            field: &|_| None,
        }
    }

    fn cookie(&self, name: &str) -> Option<&'a [u8]> {
        self.cookies(name).next()
    }

    /// The values of all cookies of a name.
    pub(crate) fn cookies(&self, name: &str) -> impl Iterator<Item = &'a [u8]> {
        cookie_values((self.field)("cookie").unwrap_or_default(), name)
    }

    /// The value of a parameter of the query, as it was written.
    pub(crate) fn query(&self, name: &str) -> Option<&'a [u8]> {
        let (_, query) = self.target?.split_once('?')?;
        let value = |pair: &'a str| match pair.split_once('=') {
            Some((key, value)) => (key == name).then_some(value.as_bytes()),
            None => (pair == name).then_some(&b""[..]),
        };
        query.split('&').find_map(value)
    }

    fn path(&self) -> Option<&'a [u8]> {
        self.target.map(|target| target.split('?').next().unwrap_or_default().as_bytes())
    }
}

/// How the keys of a pool are read.
#[derive(Clone, Debug)]
pub struct KeyRule {
    keys: Vec<HashKey>,
    prefix_ipv4: u8,
    prefix_ipv6: u8,
    when_absent: WhenAbsent,
}

/// The key of one request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RequestKey {
    /// The pool distributes by something else.
    Unneeded,
    /// The number of the key, and which of the pool's keys it was.
    Found(u64, usize),
    /// It has none, and is distributed in turns.
    Spread,
    /// It has none, and is refused.
    Refused,
}

impl RequestKey {
    /// The number to distribute by.
    #[must_use]
    pub fn number(self) -> Option<u64> {
        match self {
            Self::Found(number, _) => Some(number),
            Self::Unneeded | Self::Spread | Self::Refused => None,
        }
    }
}

/// The first bits of an address, the others zero.
pub(crate) fn masked(address: IpAddr, prefix_ipv4: u8, prefix_ipv6: u8) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V4(it) => {
            let mask = u32::MAX.checked_shl(32 - u32::from(prefix_ipv4)).unwrap_or(0);
            IpAddr::V4((u32::from(it) & mask).into())
        }
        IpAddr::V6(it) => {
            let mask = u128::MAX.checked_shl(128 - u32::from(prefix_ipv6)).unwrap_or(0);
            IpAddr::V6((u128::from(it) & mask).into())
        }
    }
}

impl KeyRule {
    /// The rule that a document's keys make. Without keys it goes by the client's address.
    #[must_use]
    pub fn new(hashing: &HashSettings) -> Self {
        let usual = vec![HashKey::ClientAddress];
        Self {
            keys: if hashing.keys.is_empty() { usual } else { hashing.keys.clone() },
            prefix_ipv4: hashing.prefix_ipv4.unwrap_or(32),
            prefix_ipv6: hashing.prefix_ipv6.unwrap_or(64),
            when_absent: hashing.when_absent.unwrap_or(WhenAbsent::Spread),
        }
    }

    /// Whether the server name that a TLS client asks for is one of the keys.
    #[must_use]
    pub fn has_sni(&self) -> bool {
        self.keys.contains(&HashKey::Sni)
    }

    /// The number that another hash makes of the first key that a request has, where what clients choose has to be told apart safely.
    pub(crate) fn hashed(&self, facts: &RequestFacts<'_>, hash: &dyn Fn(&[u8]) -> u64) -> Option<u64> {
        self.keys.iter().find_map(|key| self.number(key, facts, hash))
    }

    /// The key of a request: the first that it has.
    #[must_use]
    pub fn key(&self, facts: &RequestFacts<'_>) -> RequestKey {
        let numbers = self.keys.iter().map(|key| self.number(key, facts, &digest)).enumerate();
        let found = numbers.into_iter().find_map(|(index, number)| Some(RequestKey::Found(number?, index)));
        found.unwrap_or(match self.when_absent {
            WhenAbsent::Spread => RequestKey::Spread,
            WhenAbsent::Refuse => RequestKey::Refused,
        })
    }

    fn number(&self, key: &HashKey, facts: &RequestFacts<'_>, hash: &dyn Fn(&[u8]) -> u64) -> Option<u64> {
        match key {
            HashKey::ClientAddress => Some(match masked(facts.client, self.prefix_ipv4, self.prefix_ipv6) {
                IpAddr::V4(it) => hash(&it.octets()),
                IpAddr::V6(it) => hash(&it.octets()),
            }),
            HashKey::Host | HashKey::Sni => {
                // Names are the same in any case (RFC 9110, 4.2.3; RFC 6066, 3); the copy lives on the stack.
                let (name, mut lower) = (self.text(key, facts)?, [0; 256]);
                let lower = lower.get_mut(..name.len())?;
                lower.copy_from_slice(name);
                lower.make_ascii_lowercase();
                Some(hash(lower))
            }
            other => self.text(other, facts).map(hash),
        }
    }

    fn text<'f>(&self, key: &HashKey, facts: &RequestFacts<'f>) -> Option<&'f [u8]> {
        match key {
            HashKey::ClientAddress => None,
            HashKey::Host => facts.host,
            HashKey::Path => facts.path(),
            HashKey::PathWithQuery => facts.target.map(str::as_bytes),
            HashKey::Sni => facts.sni.map(str::as_bytes),
            HashKey::Query(name) => facts.query(name),
            HashKey::Header(name) => (facts.field)(name),
            HashKey::Cookie(name) => facts.cookie(name),
        }
        .filter(|text| !text.is_empty())
    }

    /// A key in words, with its value: `cookie:visit is "a81f"`.
    #[must_use]
    pub fn words(&self, key: RequestKey, facts: &RequestFacts<'_>) -> Option<String> {
        let RequestKey::Found(_, index) = key else { return None };
        let key = self.keys.get(index)?;
        Some(match key {
            HashKey::ClientAddress => {
                let bits =
                    if facts.client.to_canonical().is_ipv4() { self.prefix_ipv4 } else { self.prefix_ipv6 };
                format!("{key} is in {}/{bits}", masked(facts.client, self.prefix_ipv4, self.prefix_ipv6))
            }
            _ => format!("{key} is {:?}", String::from_utf8_lossy(self.text(key, facts)?)),
        })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn rule(keys: &[&str], prefix: Option<u8>, absent: Option<WhenAbsent>) -> KeyRule {
        KeyRule::new(&HashSettings {
            keys: keys.iter().map(|key| key.parse().unwrap()).collect(),
            prefix_ipv4: prefix,
            prefix_ipv6: None,
            when_absent: absent,
            bound: None,
        })
    }

    fn field(name: &str) -> Option<&'static [u8]> {
        match name {
            "cookie" => Some(b"a=1; visit=xyz;b=2"),
            "x-account" => Some(b"17"),
            _ => None,
        }
    }

    fn facts(client: &str) -> RequestFacts<'static> {
        RequestFacts {
            port: None,
            client: client.parse().unwrap(),
            target: Some("/ferry/lerwick?day=3&seats"),
            host: Some(b"Skerry.example"),
            label: None,
            first_bytes: None,
            sni: Some("Booking.skerry.example"),
            field: &field,
        }
    }

    #[rstest]
    #[case::path("path", "path is \"/ferry/lerwick\"")]
    #[case::path_with_query("path-with-query", "path-with-query is \"/ferry/lerwick?day=3&seats\"")]
    #[case::query("query:day", "query:day is \"3\"")]
    #[case::header("header:X-Account", "header:x-account is \"17\"")]
    #[case::cookie("cookie:visit", "cookie:visit is \"xyz\"")]
    #[case::host("host", "host is \"Skerry.example\"")]
    #[case::sni("sni", "sni is \"Booking.skerry.example\"")]
    #[case::client("client-address", "client-address is in 192.0.2.7/32")]
    fn found(#[case] key: &str, #[case] words: &str) {
        let (rule, facts) = (rule(&[key], None, None), facts("192.0.2.7"));
        assert_eq!(rule.words(rule.key(&facts), &facts).as_deref(), Some(words));
    }

    #[test]
    fn the_first_key_that_there_is_counts() {
        let rule = rule(&["cookie:none", "query:seats", "header:x-account"], None, None);
        assert!(matches!(rule.key(&facts("192.0.2.7")), RequestKey::Found(_, 2)), "an empty value is none");
    }

    #[rstest]
    #[case::spread(None, RequestKey::Spread)]
    #[case::refuse(Some(WhenAbsent::Refuse), RequestKey::Refused)]
    fn absent(#[case] when: Option<WhenAbsent>, #[case] key: RequestKey) {
        assert_eq!(rule(&["query:none", "cookie:none"], None, when).key(&facts("192.0.2.7")), key);
    }

    #[test]
    fn networks_and_spellings_are_one_client() {
        let rule = rule(&["client-address"], Some(24), None);
        let of = |client: &str| rule.key(&facts(client)).number().unwrap();
        assert_eq!(of("192.0.2.7"), of("192.0.2.200"));
        assert_eq!(of("192.0.2.7"), of("::ffff:192.0.2.9"), "an IPv4 client on an IPv6 socket");
        assert_ne!(of("192.0.2.7"), of("198.51.100.7"));
        assert_eq!(of("2001:db8::1"), of("2001:db8::ffff"), "/64 is one client");
    }

    #[test]
    fn names_are_the_same_in_any_case() {
        let other = RequestFacts {
            host: Some(b"skerry.EXAMPLE"),
            sni: Some("BOOKING.skerry.example"),
            ..facts("192.0.2.7")
        };
        for key in ["host", "sni"] {
            let rule = rule(&[key], None, None);
            assert_eq!(rule.key(&other), rule.key(&facts("192.0.2.7")), "{key}");
        }
    }
}
