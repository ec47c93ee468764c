//! Conditions of rules: what they are made of, and how they are written.

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use ipnet::IpNet;
use serde::{Serialize, Serializer};
use strum::{Display, EnumString};

use super::parse::{self, ConditionError};
use crate::config::document::Pattern;
use crate::name::Name;

/// A condition as it was written, and what it means.
#[derive(Clone, Debug)]
pub struct Condition {
    text: String,
    tree: Tree,
}

/// The parts of a condition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Tree {
    /// Every request meets it.
    Always,
    /// Each of several has to be met.
    All(Vec<Tree>),
    /// One of several has to be met.
    Any(Vec<Tree>),
    /// One must not be met.
    Not(Box<Tree>),
    /// Something that is looked up in the request.
    Test(Test),
}

/// One question about a request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Test {
    /// What is looked at.
    pub fact: Fact,
    /// What it has to be.
    pub comparison: TestComparison,
}

/// What a condition looks at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fact {
    /// The host that was asked for, without its port.
    Host,
    /// The path, as [`request_path`](super::request_path) reads it.
    Path,
    /// The method.
    Method,
    /// The address of the client, as far as it is trusted.
    Client,
    /// The server name of the client's TLS handshake.
    ServerName,
    /// Whether the client showed a certificate that passed.
    Certificate,
    /// The version of HTTP that the client speaks.
    Version,
    /// The address that the client connected to.
    LocalAddress,
    /// The port that the client connected to.
    Port,
    /// The media type of the body, without parameters.
    ContentType,
    /// The values of the header fields of a name.
    Header(String),
    /// The values of a parameter of the query, decoded.
    Query(String),
    /// The values of a cookie.
    Cookie(String),
}

/// What a fact has to be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TestComparison {
    /// One of these. Of hosts, one with `*` in place of its first label is any label.
    Is(Vec<String>),
    /// The path is one of these or lies below it.
    Under(Vec<String>),
    /// A part of it is this text.
    Contains(String),
    /// A regular expression finds something in it.
    Matches(Pattern),
    /// It is in one of these networks.
    In(Vec<NetworkRef>),
    /// It is there at all.
    Present,
}

/// A network, or a list of networks of the document.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NetworkRef {
    /// The name of a list.
    List(Name),
    /// A prefix.
    Prefix(IpNet),
}

/// The version of HTTP that a client speaks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Display, EnumString)]
pub enum RequestVersion {
    /// HTTP/1.0.
    #[strum(serialize = "1.0")]
    OneZero,
    /// HTTP/1.1.
    #[strum(serialize = "1.1")]
    One,
    /// HTTP/2.
    #[strum(serialize = "2")]
    Two,
}

impl Condition {
    /// What it means.
    #[must_use]
    pub fn tree(&self) -> &Tree {
        &self.tree
    }

    /// The hosts that it can only be met with; none where it does not name them.
    #[must_use]
    pub fn hosts(&self) -> &[String] {
        super::matcher::hosts_of(&self.tree).unwrap_or_default()
    }

    /// The lists of networks that it names.
    pub fn networks(&self) -> impl Iterator<Item = &Name> {
        let mut found = Vec::new();
        self.tree.each_test(&mut |test| {
            if let TestComparison::In(networks) = &test.comparison {
                found.extend(networks.iter().filter_map(|network| match network {
                    NetworkRef::List(name) => Some(name),
                    NetworkRef::Prefix(_) => None,
                }));
            }
        });
        found.into_iter()
    }

    /// Something that it looks at and that is not known of a connection before anything but its handshake is read.
    #[must_use]
    pub fn fact_of_requests(&self) -> Option<&Fact> {
        let mut found = None;
        self.tree.each_test(&mut |test| {
            let is_known =
                matches!(test.fact, Fact::Client | Fact::ServerName | Fact::LocalAddress | Fact::Port);
            if !is_known && found.is_none() {
                found = Some(&test.fact);
            }
        });
        found
    }

    /// Whether it looks at the server name of TLS handshakes.
    #[must_use]
    pub fn asks_server_name(&self) -> bool {
        let mut asks = false;
        self.tree.each_test(&mut |test| asks |= test.fact == Fact::ServerName);
        asks
    }

    /// The same condition with another name for a list of networks.
    #[must_use]
    pub fn with_network_renamed(&self, from: &Name, to: &Name) -> Self {
        let mut tree = self.tree.clone();
        tree.each_test_mut(&mut |test| {
            if let TestComparison::In(networks) = &mut test.comparison {
                for network in
                    networks.iter_mut().filter(|network| **network == NetworkRef::List(from.clone()))
                {
                    *network = NetworkRef::List(to.clone());
                }
            }
        });
        Self { text: tree.to_string(), tree }
    }
}

impl Tree {
    fn each_test<'t>(&'t self, look: &mut impl FnMut(&'t Test)) {
        match self {
            Self::Always => {}
            Self::All(parts) | Self::Any(parts) => parts.iter().for_each(|part| part.each_test(look)),
            Self::Not(part) => part.each_test(look),
            Self::Test(test) => look(test),
        }
    }

    fn each_test_mut(&mut self, change: &mut impl FnMut(&mut Test)) {
        match self {
            Self::Always => {}
            Self::All(parts) | Self::Any(parts) => {
                parts.iter_mut().for_each(|part| part.each_test_mut(change));
            }
            Self::Not(part) => part.each_test_mut(change),
            Self::Test(test) => change(test),
        }
    }

    fn is_joined(&self) -> bool {
        matches!(self, Self::All(_) | Self::Any(_))
    }
}

impl FromStr for Condition {
    type Err = ConditionError;

    fn from_str(text: &str) -> Result<Self, ConditionError> {
        Ok(Self { text: text.to_owned(), tree: parse::parse(text)? })
    }
}

impl PartialEq for Condition {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for Condition {}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Serialize for Condition {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.text)
    }
}

impl fmt::Display for Tree {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (parts, word) = match self {
            Self::Always => return f.write_str("always"),
            Self::Test(test) => return test.fmt(f),
            Self::Not(part) if part.is_joined() => return write!(f, "not ({part})"),
            Self::Not(part) => return write!(f, "not {part}"),
            Self::All(parts) => (parts, " and "),
            Self::Any(parts) => (parts, " or "),
        };
        for (number, part) in parts.iter().enumerate() {
            if number > 0 {
                f.write_str(word)?;
            }
            if part.is_joined() { write!(f, "({part})")? } else { write!(f, "{part}")? }
        }
        Ok(())
    }
}

impl fmt::Display for Test {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.fact, self.comparison)
    }
}

impl fmt::Display for Fact {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (word, name) = match self {
            Self::Host => ("host", None),
            Self::Path => ("path", None),
            Self::Method => ("method", None),
            Self::Client => ("client", None),
            Self::ServerName => ("server-name", None),
            Self::Certificate => ("certificate", None),
            Self::Version => ("version", None),
            Self::LocalAddress => ("local-address", None),
            Self::Port => ("port", None),
            Self::ContentType => ("content-type", None),
            Self::Header(name) => ("header", Some(name)),
            Self::Query(name) => ("query", Some(name)),
            Self::Cookie(name) => ("cookie", Some(name)),
        };
        f.write_str(word)?;
        name.map_or(Ok(()), |name| write!(f, " {}", parse::written(name)))
    }
}

impl fmt::Display for TestComparison {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let list = |values: &[String]| {
            values.iter().map(|value| parse::written(value)).collect::<Vec<_>>().join(", ")
        };
        match self {
            Self::Is(values) => write!(f, "is {}", list(values)),
            Self::Under(values) => write!(f, "under {}", list(values)),
            Self::Contains(value) => write!(f, "contains {}", parse::written(value)),
            Self::Matches(pattern) => write!(f, "matches {}", parse::written(&pattern.to_string())),
            Self::In(networks) => {
                let networks: Vec<String> = networks.iter().map(ToString::to_string).collect();
                write!(f, "in {}", networks.join(", "))
            }
            Self::Present => f.write_str("present"),
        }
    }
}

impl fmt::Display for NetworkRef {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::List(name) => name.fmt(f),
            Self::Prefix(prefix) if prefix.prefix_len() == prefix.max_prefix_len() => prefix.addr().fmt(f),
            Self::Prefix(prefix) => prefix.fmt(f),
        }
    }
}

impl FromStr for NetworkRef {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        if let Ok(address) = text.parse::<IpAddr>() {
            return Ok(Self::Prefix(address.into()));
        }
        if let Ok(prefix) = text.parse::<IpNet>() {
            return if prefix.trunc() == prefix { Ok(Self::Prefix(prefix)) } else { Err(()) };
        }
        text.parse().map(Self::List).map_err(|_| ())
    }
}
