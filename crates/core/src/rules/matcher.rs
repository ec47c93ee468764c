//! The rules of one frontend, and the first that a request meets.

use std::borrow::Cow;
use std::cell::OnceCell;
use std::collections::BTreeMap;
use std::fmt;
use std::net::{IpAddr, SocketAddr};

use hashbrown::HashTable;
use ipnet::IpNet;

use super::condition::{Condition, Fact, NetworkRef, RequestVersion, Test, TestComparison, Tree};
use super::network_set::NetworkSet;
use super::request_path::{self, RequestPath, is_under};
use crate::cookie::cookie_values;
use crate::draw::digest;
use crate::name::Name;

/// Whether any value of the header fields of a name, in lower case, is as a closure wants it.
pub type AnyField<'a> = dyn Fn(&str, &mut dyn FnMut(&[u8]) -> bool) -> bool + 'a;

/// What conditions look at.
#[derive(Clone, Copy)]
pub struct RuleFacts<'a> {
    /// The address of the client, as far as it is trusted.
    pub client: IpAddr,
    /// The method.
    pub method: &'a str,
    /// The path with its query, as it came.
    pub target: &'a str,
    /// The path as [`request_path::read`] reads it, where that was done before.
    pub path: Option<&'a RequestPath<'a>>,
    /// The host that was asked for, as it was written.
    pub host: Option<&'a [u8]>,
    /// The server name of the client's TLS handshake.
    pub server_name: Option<&'a str>,
    /// Whether the client showed a certificate that passed.
    pub has_certificate: bool,
    /// Gives the subject of that certificate; an empty text where it is not known.
    pub certificate_subject: &'a dyn Fn() -> String,
    /// What the client speaks.
    pub version: RequestVersion,
    /// The address and port that the client connected to.
    pub local: SocketAddr,
    /// The header fields.
    pub any_field: &'a AnyField<'a>,
}

impl fmt::Debug for RuleFacts<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RuleFacts")
            .field("client", &self.client)
            .field("method", &self.method)
            .field("target", &self.target)
            .finish_non_exhaustive()
    }
}

impl<'a> RuleFacts<'a> {
    /// Of a connection of which nothing is read but the server name of its handshake.
    #[must_use]
    pub fn of_connection(client: IpAddr, local: SocketAddr, server_name: Option<&'a str>) -> Self {
        Self {
            client,
            method: "",
            target: "",
            path: None,
            host: None,
            server_name,
            has_certificate: false,
            certificate_subject: &String::new,
            version: RequestVersion::One,
            local,
            any_field: &|_, _| false,
        }
    }

    /// The address that networks are compared with.
    fn address(&self, fact: &Fact) -> IpAddr {
        if *fact == Fact::LocalAddress { self.local.ip() } else { self.client }
    }
}

/// A name of a host as it is compared: without its port and the dot that ends it, in lower case.
pub(super) fn host_name(host: &[u8]) -> Cow<'_, [u8]> {
    let name = match host {
        [b'[', ..] => memchr::memchr(b']', host).map_or(host, |end| &host[..=end]),
        _ => memchr::memchr(b':', host).map_or(host, |colon| &host[..colon]),
    };
    let name = name.strip_suffix(b".").unwrap_or(name);
    // Without a way out of the loop, so that it is done for many bytes at once.
    if name.iter().fold(false, |has, byte| has | byte.is_ascii_uppercase()) {
        Cow::Owned(name.to_ascii_lowercase())
    } else {
        Cow::Borrowed(name)
    }
}

/// Facts of one request, read as they are compared, once and only where they are.
pub(super) struct ReadFacts<'a> {
    facts: &'a RuleFacts<'a>,
    pub(super) host: Option<Cow<'a, [u8]>>,
    path: OnceCell<RequestPath<'a>>,
}

impl<'a> ReadFacts<'a> {
    pub(super) fn new(facts: &'a RuleFacts<'a>) -> Self {
        let host = facts.host.filter(|host| !host.is_empty()).map(host_name);
        Self { facts, host, path: OnceCell::new() }
    }

    pub(super) fn path(&self) -> &[u8] {
        if let Some(path) = self.facts.path {
            return &path.bytes;
        }
        &self.path.get_or_init(|| request_path::read(self.facts.target)).bytes
    }
}

/// A condition with its networks looked up.
#[derive(Clone, Debug)]
enum Ready {
    Always,
    All(Box<[Ready]>),
    Any(Box<[Ready]>),
    Not(Box<Ready>),
    Test(Test),
    /// Of these tests, which most conditions are made of, one is done at once.
    PathIs(Box<[Box<[u8]>]>),
    PathUnder(Box<[Box<[u8]>]>),
    In(NetworkSet, Test),
}

impl Ready {
    fn new(tree: &Tree, networks: &BTreeMap<Name, Vec<IpNet>>) -> Self {
        let each = |parts: &[Tree]| parts.iter().map(|part| Self::new(part, networks)).collect();
        match tree {
            Tree::Always => Self::Always,
            Tree::All(parts) => Self::All(each(parts)),
            Tree::Any(parts) => Self::Any(each(parts)),
            Tree::Not(part) => Self::Not(Box::new(Self::new(part, networks))),
            Tree::Test(test) => match &test.comparison {
                TestComparison::In(named) => {
                    let prefixes = named.iter().flat_map(|network| match network {
                        NetworkRef::List(name) => networks.get(name).map(Vec::as_slice).unwrap_or_default(),
                        NetworkRef::Prefix(prefix) => std::slice::from_ref(prefix),
                    });
                    Self::In(NetworkSet::new(prefixes.copied()), test.clone())
                }
                _ => Self::Test(test.clone()),
            },
        }
    }

    /// What is left to be asked where the host of the request is known to be one that the condition names.
    fn without_host(tree: &Tree, networks: &BTreeMap<Name, Vec<IpNet>>) -> Self {
        match tree {
            Tree::Test(_) => Self::Always,
            Tree::All(parts) => {
                let named = parts.iter().position(|part| hosts_of(part).is_some());
                let left = parts.iter().enumerate().map(|(place, part)| {
                    if Some(place) == named {
                        Self::without_host(part, networks)
                    } else {
                        Self::new(part, networks)
                    }
                });
                let mut left: Vec<Self> =
                    left.filter(|part| !matches!(part, Self::Always)).map(Self::at_once).collect();
                match left.len() {
                    0 => Self::Always,
                    1 => left.remove(0),
                    _ => Self::All(left.into()),
                }
            }
            Tree::Always | Tree::Any(_) | Tree::Not(_) => Self::new(tree, networks).at_once(),
        }
    }

    /// The same in a form that is asked faster, and can't be traced.
    fn at_once(self) -> Self {
        let texts = |texts: &[String]| texts.iter().map(|text| text.as_bytes().into()).collect();
        match self {
            Self::Test(Test { fact: Fact::Path, comparison: TestComparison::Is(paths) }) => {
                Self::PathIs(texts(&paths))
            }
            Self::Test(Test { fact: Fact::Path, comparison: TestComparison::Under(paths) }) => {
                Self::PathUnder(texts(&paths))
            }
            Self::All(parts) => Self::All(parts.into_iter().map(Self::at_once).collect()),
            Self::Any(parts) => Self::Any(parts.into_iter().map(Self::at_once).collect()),
            Self::Not(part) => Self::Not(Box::new(part.at_once())),
            other => other,
        }
    }

    fn holds(&self, facts: &ReadFacts<'_>) -> bool {
        match self {
            Self::Always => true,
            Self::PathIs(paths) => paths.iter().any(|path| **path == *facts.path()),
            Self::PathUnder(paths) => paths.iter().any(|path| is_under(facts.path(), path)),
            Self::All(parts) => parts.iter().all(|part| part.holds(facts)),
            Self::Any(parts) => parts.iter().any(|part| part.holds(facts)),
            Self::Not(part) => !part.holds(facts),
            Self::Test(test) => test.holds(facts),
            Self::In(networks, test) => networks.contains(facts.facts.address(&test.fact).to_canonical()),
        }
    }

    /// Notes the tests that decided, as they stand in the condition: `not` before those that must not hold.
    fn trace(&self, is_negated: bool, facts: &ReadFacts<'_>, found: &mut Vec<TestTrace>) {
        match self {
            Self::Always | Self::PathIs(_) | Self::PathUnder(_) => {}
            Self::Not(part) => part.trace(!is_negated, facts, found),
            Self::Test(test) | Self::In(_, test) => found.push(TestTrace {
                test: if is_negated { format!("not {test}") } else { test.to_string() },
                holds: self.holds(facts) != is_negated,
                observed: observed(&test.fact, facts),
            }),
            Self::All(parts) => match parts.iter().find(|part| !part.holds(facts)) {
                Some(fails) => fails.trace(is_negated, facts, found),
                None => parts.iter().for_each(|part| part.trace(is_negated, facts, found)),
            },
            Self::Any(parts) => match parts.iter().find(|part| part.holds(facts)) {
                Some(holds) => holds.trace(is_negated, facts, found),
                None => parts.iter().for_each(|part| part.trace(is_negated, facts, found)),
            },
        }
    }
}

/// A test that decided whether a rule was met.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TestTrace {
    /// The test, as conditions are written.
    pub test: String,
    /// Whether it held.
    pub holds: bool,
    /// What the request had; `None` where it had nothing of it.
    pub observed: Option<String>,
}

/// What a request has of a fact, for people.
fn observed(fact: &Fact, facts: &ReadFacts<'_>) -> Option<String> {
    let text = |bytes: &[u8]| crate::text::printable(&String::from_utf8_lossy(bytes)).into_owned();
    let mut values = Vec::new();
    facts.each_value(fact, &mut |value| {
        values.push(text(value));
        false
    });
    (!values.is_empty()).then(|| values.join(", "))
}

impl ReadFacts<'_> {
    /// Whether any value that the request has of a fact is as wanted.
    fn each_value(&self, fact: &Fact, is_wanted: &mut dyn FnMut(&[u8]) -> bool) -> bool {
        let facts = self.facts;
        match fact {
            Fact::Host => self.host.as_deref().is_some_and(is_wanted),
            Fact::Path => is_wanted(self.path()),
            Fact::Method => is_wanted(facts.method.as_bytes()),
            Fact::Client | Fact::LocalAddress => {
                is_wanted(facts.address(fact).to_canonical().to_string().as_bytes())
            }
            Fact::ServerName => {
                let name = facts.server_name.map(|name| host_name(name.as_bytes()));
                name.as_deref().is_some_and(is_wanted)
            }
            Fact::Certificate => facts.has_certificate && is_wanted(b"one that passed"),
            Fact::Version => is_wanted(match facts.version {
                RequestVersion::OneZero => b"1.0",
                RequestVersion::One => b"1.1",
                RequestVersion::Two => b"2",
            }),
            Fact::Port => is_wanted(facts.local.port().to_string().as_bytes()),
            Fact::ContentType => (facts.any_field)("content-type", &mut |value| {
                let kind = value.split(|byte| *byte == b';').next().unwrap_or_default();
                is_wanted(&kind.trim_ascii().to_ascii_lowercase())
            }),
            Fact::Header(name) => (facts.any_field)(name, is_wanted),
            Fact::Cookie(name) => {
                (facts.any_field)("cookie", &mut |field| cookie_values(field, name).any(&mut *is_wanted))
            }
            Fact::Query(name) => {
                let Some((_, query)) = facts.target.split_once('?') else { return false };
                query.split('&').any(|pair| {
                    let (key, value) = pair.split_once('=').unwrap_or((pair, ""));
                    *decoded(key) == *name.as_bytes() && is_wanted(&decoded(value))
                })
            }
        }
    }
}

/// A part of a query, decoded as forms are (WHATWG URL, 5.1): `+` is a space.
fn decoded(text: &str) -> Cow<'_, [u8]> {
    if !text.bytes().any(|byte| byte == b'%' || byte == b'+') {
        return Cow::Borrowed(text.as_bytes());
    }
    let bytes = text.as_bytes();
    let digit = |at: usize| bytes.get(at).and_then(|byte| char::from(*byte).to_digit(16));
    let (mut out, mut at) = (Vec::with_capacity(bytes.len()), 0);
    while let Some(byte) = bytes.get(at) {
        at += 1;
        out.push(match (byte, digit(at), digit(at + 1)) {
            (b'%', Some(high), Some(low)) => {
                at += 2;
                u8::try_from(high << 4 | low).unwrap_or_default()
            }
            (b'+', ..) => b' ',
            (plain, ..) => *plain,
        });
    }
    Cow::Owned(out)
}

impl Test {
    fn holds(&self, facts: &ReadFacts<'_>) -> bool {
        let names = matches!(self.fact, Fact::Host | Fact::ServerName);
        facts.each_value(&self.fact, &mut |value| match &self.comparison {
            TestComparison::Is(wanted) if names => wanted.iter().any(|wanted| is_host(value, wanted)),
            TestComparison::Is(wanted) => wanted.iter().any(|wanted| value == wanted.as_bytes()),
            TestComparison::Under(wanted) => wanted.iter().any(|wanted| is_under(value, wanted.as_bytes())),
            TestComparison::Contains(part) => memchr::memmem::find(value, part.as_bytes()).is_some(),
            TestComparison::Matches(pattern) => pattern.matches(value),
            TestComparison::Present => true,
            TestComparison::In(_) => false,
        })
    }
}

/// Whether a name is another one, which may have `*` in place of its first label.
fn is_host(name: &[u8], wanted: &str) -> bool {
    match wanted.strip_prefix("*.") {
        Some(rest) => rest_of(name).is_some_and(|own| own == rest.as_bytes()),
        None => name == wanted.as_bytes(),
    }
}

/// What follows the first label of a name.
fn rest_of(name: &[u8]) -> Option<&[u8]> {
    let dot = name.iter().position(|byte| *byte == b'.').filter(|dot| *dot > 0)?;
    Some(&name[dot + 1..])
}

/// Rules by the host that they are for, in the order in which they are asked.
#[derive(Clone, Debug, Default)]
struct HostIndex {
    exact: HostTable,
    wildcard: HostTable,
    /// Those that are for no host in particular.
    any: Vec<u32>,
}

/// The rules of each host. A document's hosts are chosen by engineers, so a hash without a secret does.
#[derive(Clone, Debug, Default)]
struct HostTable(HashTable<(Box<[u8]>, Vec<u32>)>);

/// Up to how many hosts are compared one by one, which is faster than a hash.
const FEW_HOSTS: usize = 4;

impl HostTable {
    fn get(&self, host: &[u8]) -> &[u32] {
        if self.0.len() <= FEW_HOSTS {
            return self.0.iter().find(|(name, _)| **name == *host).map_or(&[], |(_, rules)| rules);
        }
        self.0.find(digest(host), |(name, _)| **name == *host).map_or(&[], |(_, rules)| rules)
    }

    fn rules_of(&mut self, host: &[u8]) -> &mut Vec<u32> {
        let hash = |name: &[u8]| digest(name);
        let entry = self.0.entry(hash(host), |(name, _)| **name == *host, |(name, _)| hash(name));
        &mut entry.or_insert_with(|| (host.into(), Vec::new())).into_mut().1
    }
}

/// The conditions of a frontend's rules in order, with those apart that can't be met for the host of a request.
#[derive(Clone, Debug, Default)]
pub struct RuleSet {
    /// The conditions as they are written.
    rules: Vec<Ready>,
    /// What of them is left to be asked of a request that was found by its host, or of any where they are for none in particular.
    left: Vec<Ready>,
    hosts: HostIndex,
}

/// The paths that a condition names as those that it is met with, or below.
pub(crate) fn paths_of(tree: &Tree) -> &[String] {
    match tree {
        Tree::Test(Test {
            fact: Fact::Path,
            comparison: TestComparison::Is(paths) | TestComparison::Under(paths),
        }) => paths,
        Tree::All(parts) => parts.iter().map(paths_of).find(|paths| !paths.is_empty()).unwrap_or_default(),
        Tree::Always | Tree::Any(_) | Tree::Not(_) | Tree::Test(_) => &[],
    }
}

/// The hosts that a condition can only be met with, if it names them.
pub(crate) fn hosts_of(tree: &Tree) -> Option<&[String]> {
    match tree {
        Tree::Test(Test { fact: Fact::Host, comparison: TestComparison::Is(hosts) }) => Some(hosts),
        Tree::All(parts) => parts.iter().find_map(hosts_of),
        Tree::Always | Tree::Any(_) | Tree::Not(_) | Tree::Test(_) => None,
    }
}

impl RuleSet {
    /// The rules with these conditions, in this order.
    pub fn new<'c>(
        conditions: impl IntoIterator<Item = &'c Condition>,
        networks: &BTreeMap<Name, Vec<IpNet>>,
    ) -> Self {
        let mut set = Self::default();
        for condition in conditions {
            let number = u32::try_from(set.rules.len()).unwrap_or(u32::MAX);
            set.rules.push(Ready::new(condition.tree(), networks));
            set.left.push(match hosts_of(condition.tree()) {
                Some(_) => Ready::without_host(condition.tree(), networks),
                None => Ready::new(condition.tree(), networks).at_once(),
            });
            let Some(hosts) = hosts_of(condition.tree()) else {
                set.hosts.any.push(number);
                continue;
            };
            for host in hosts {
                let (map, key) = match host.strip_prefix("*.") {
                    Some(rest) => (&mut set.hosts.wildcard, rest),
                    None => (&mut set.hosts.exact, host.as_str()),
                };
                let rules = map.rules_of(key.as_bytes());
                if rules.last() != Some(&number) {
                    rules.push(number);
                }
            }
        }
        set
    }

    /// How many rules there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.rules.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.rules.is_empty()
    }

    /// The place of the first rule that a request meets.
    #[must_use]
    pub fn first(&self, facts: &RuleFacts<'_>) -> Option<usize> {
        self.next(facts, 0)
    }

    /// The place of the first rule from a place on that a request meets.
    #[must_use]
    pub fn next(&self, facts: &RuleFacts<'_>, from: usize) -> Option<usize> {
        let read = ReadFacts::new(facts);
        let host = read.host.as_deref().unwrap_or_default();
        let exact = self.hosts.exact.get(host);
        let has_wildcards = !self.hosts.wildcard.0.is_empty();
        let rest = if has_wildcards { rest_of(host) } else { None };
        let wildcard = rest.map_or(&[][..], |rest| self.hosts.wildcard.get(rest));
        if wildcard.is_empty() && self.hosts.any.is_empty() {
            let mut places = exact.iter().map(|place| *place as usize);
            return places.find(|place| *place >= from && self.left[*place].holds(&read));
        }
        let mut lists = [exact, wildcard, self.hosts.any.as_slice()];
        if from > 0 {
            for list in &mut lists {
                *list = &list[list.partition_point(|place| (*place as usize) < from)..];
            }
        }
        loop {
            let next = lists.iter().filter_map(|list| list.first()).min().copied()?;
            for list in &mut lists {
                if list.first() == Some(&next) {
                    *list = &list[1..];
                }
            }
            if self.left[next as usize].holds(&read) {
                return Some(next as usize);
            }
        }
    }

    /// Whether the request meets the rule at a place, and the tests that decided that.
    ///
    /// # Panics
    /// When there is no rule at that place.
    #[must_use]
    pub fn trace(&self, place: usize, facts: &RuleFacts<'_>) -> (bool, Vec<TestTrace>) {
        let read = ReadFacts::new(facts);
        let mut found = Vec::new();
        self.rules[place].trace(false, &read, &mut found);
        (self.rules[place].holds(&read), found)
    }

    /// As [`first`](Self::first), by asking one rule after the other.
    #[cfg(test)]
    pub(super) fn first_in_turn(&self, facts: &RuleFacts<'_>) -> Option<usize> {
        let read = ReadFacts::new(facts);
        self.rules.iter().position(|rule| rule.holds(&read))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn fields(name: &str, is_wanted: &mut dyn FnMut(&[u8]) -> bool) -> bool {
        let values: &[&str] = match name {
            "x-tenant" => &["blue", "green"],
            "x-empty" => &[""],
            "cookie" => &["a=1; visit=xyz", "b=2"],
            "content-type" => &["Text/HTML; charset=utf-8"],
            _ => &[],
        };
        values.iter().any(|value| is_wanted(value.as_bytes()))
    }

    fn facts(target: &'static str) -> RuleFacts<'static> {
        RuleFacts {
            client: "192.0.2.7".parse().unwrap(),
            method: "POST",
            target,
            path: None,
            host: Some(b"Booking.skerry.example:8080"),
            server_name: Some("booking.Skerry.example"),
            has_certificate: false,
            certificate_subject: &String::new,
            version: RequestVersion::One,
            local: "192.0.2.10:8080".parse().unwrap(),
            any_field: &fields,
        }
    }

    fn networks() -> BTreeMap<Name, Vec<IpNet>> {
        let office = ["192.0.2.0/29", "2001:db8::/64"].map(|text| text.parse().unwrap());
        BTreeMap::from([("office".parse().unwrap(), office.into())])
    }

    fn set(conditions: &[&str]) -> RuleSet {
        let conditions: Vec<Condition> = conditions.iter().map(|text| text.parse().unwrap()).collect();
        RuleSet::new(&conditions, &networks())
    }

    #[rstest]
    #[case("always", true)]
    #[case("host is booking.skerry.example", true)]
    #[case("host is other.example, *.skerry.example", true)]
    #[case("host is *.example", false)]
    #[case("host contains skerry", true)]
    #[case("host matches ^book", true)]
    #[case("host present", true)]
    #[case("path is /ferry/lerwick", true)]
    #[case("path is /ferry", false)]
    #[case("path under /ferry", true)]
    #[case("path under /fer", false)]
    #[case("path contains ry/ler", true)]
    #[case("path matches \"^/ferry/[a-z]+$\"", true)]
    #[case("method is POST, PUT", true)]
    #[case("method is post", false)]
    #[case("method is not GET", true)]
    #[case("header X-Tenant is green", true)]
    #[case("header X-Tenant is red", false)]
    #[case("header X-Tenant contains lu", true)]
    #[case("header X-Empty present", true)]
    #[case("header X-Other absent", true)]
    #[case("query day is 3", true)]
    #[case("query seats present", true)]
    #[case("query to is \"Out Skerries\"", true)]
    #[case("query nothing present", false)]
    #[case("cookie visit is xyz", true)]
    #[case("cookie b is 2", true)]
    #[case("cookie c absent", true)]
    #[case("content-type is text/html", true)]
    #[case("client in office", true)]
    #[case("client in 192.0.2.7", true)]
    #[case("client in 192.0.2.8/29, 2001:db8::/32", false)]
    #[case("client not in office", false)]
    #[case("server-name is booking.skerry.example", true)]
    #[case("certificate present", false)]
    #[case("version is 1.1", true)]
    #[case("version is 2", false)]
    #[case("port is 8080", true)]
    #[case("local-address in 192.0.2.0/28", true)]
    #[case("local-address in 192.0.2.9", false)]
    #[case("local-address not in 192.0.2.9", true)]
    #[case("path under /ferry and method is GET", false)]
    #[case("path under /ferry or method is GET", true)]
    #[case("not (path under /ferry or method is GET)", false)]
    fn conditions_hold_or_not(#[case] condition: &str, #[case] holds: bool) {
        let facts = facts("/ferry/lerwick?day=3&seats&to=Out+Skerries");
        assert_eq!(set(&[condition]).first(&facts), holds.then_some(0));
        let (traced, tests) = set(&[condition]).trace(0, &facts);
        assert_eq!(traced, holds);
        assert_eq!(tests.is_empty(), condition == "always");
    }

    #[test]
    fn the_first_of_several_rules_counts_whatever_host_it_is_for() {
        let rules = set(&[
            "host is quay.example",
            "host is *.skerry.example and path is /a",
            "path is /b",
            "host is booking.skerry.example and path under /",
            "always",
        ]);
        for (target, first) in [("/a", 1), ("/b", 2), ("/c", 3)] {
            assert_eq!(rules.first(&facts(target)), Some(first), "{target}");
        }
        let other = RuleFacts { host: None, ..facts("/c") };
        assert_eq!(rules.first(&other), Some(4));
    }

    #[test]
    fn the_tests_that_decide_are_shown_with_what_was_observed() {
        let rules =
            set(&["host is booking.skerry.example and (path under /admin or header X-Tenant is red)"]);
        let (holds, tests) = rules.trace(0, &facts("/ferry?x"));
        assert!(!holds);
        let shown: Vec<_> =
            tests.iter().map(|test| (test.test.as_str(), test.holds, test.observed.as_deref())).collect();
        assert_eq!(
            shown,
            [
                ("path under /admin", false, Some("/ferry")),
                ("header x-tenant is red", false, Some("blue, green"))
            ]
        );
    }

    #[test]
    fn a_test_that_must_not_hold_is_shown_with_its_not() {
        let rules = set(&["path under /ferry and not (client in 198.51.100.0/24 or method is GET)"]);
        let (holds, tests) = rules.trace(0, &facts("/ferry"));
        let shown: Vec<_> = tests.iter().map(|test| (test.test.as_str(), test.holds)).collect();
        assert!(holds);
        assert_eq!(
            shown,
            [
                ("path under /ferry", true),
                ("not client in 198.51.100.0/24", true),
                ("not method is GET", true)
            ]
        );
    }

    #[rstest]
    #[case("192.0.2.7", true)]
    #[case("::ffff:192.0.2.7", true)]
    #[case("192.0.2.8", false)]
    #[case("192.0.1.255", false)]
    #[case("2001:db8::1", true)]
    #[case("2001:db8:0:1::", false)]
    fn clients_are_found_in_networks(#[case] client: &str, #[case] inside: bool) {
        let facts = RuleFacts { client: client.parse().unwrap(), ..facts("/") };
        assert_eq!(set(&["client in office"]).first(&facts).is_some(), inside);
    }

    #[rstest]
    #[case("[2001:db8::7]:80", "[2001:db8::7]")]
    #[case("A.example.", "a.example")]
    #[case("a.example:8080", "a.example")]
    fn hosts_are_compared_without_ports(#[case] written: &str, #[case] name: &str) {
        assert_eq!(&*host_name(written.as_bytes()), name.as_bytes());
    }
}
