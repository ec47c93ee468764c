//! The objects of a document, by their paths.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::name::{Name, NameError, PoolServer};

/// One named object of a document. Its path is how the document's keys lead to it: `pools.booking.servers.gull`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum ObjectPath {
    /// `hosts.NAME`
    Host(Name),
    /// `ranges.NAME`
    Range(Name),
    /// `ranges.RANGE.reserved.NAME`: an address taken from a range.
    Reserved(Name, Name),
    /// `checks.NAME`
    Check(Name),
    /// `pools.NAME`
    Pool(Name),
    /// `pools.POOL.servers.NAME`
    Server(PoolServer),
    /// `pools.POOL.lookups.NAME`
    Lookup(Name, Name),
    /// `frontends.NAME`
    Frontend(Name),
    /// `notifications.NAME`
    Notification(Name),
    /// `networks.NAME`: a list of clients' networks.
    Network(Name),
    /// `certificates.NAME`
    Certificate(Name),
    /// `addresses.NAME`: addresses that move between nodes.
    Address(Name),
    /// `announce.NAME`: addresses that nodes announce to routers.
    Announcement(Name),
    /// `authorities.NAME`: who issues certificates.
    Authority(Name),
    /// `limits.NAME`: how much each client may ask for.
    Limit(Name),
    /// `rules.NAME`: a condition on requests, and what becomes of them.
    Rule(Name),
    /// `examples.NAME`: a request, and what has to become of it.
    Example(Name),
}

/// What kind of object something is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum ObjectKind {
    /// A known machine: `hosts.NAME`.
    Host,
    /// A range of service addresses.
    Range,
    /// An address taken from a range.
    Reserved,
    /// A health check: `checks.NAME`.
    Check,
    /// A pool of servers: `pools.NAME`.
    Pool,
    /// A server of a pool.
    Server,
    /// A DNS name whose answers are servers of a pool.
    Lookup,
    /// A frontend: `frontends.NAME`.
    Frontend,
    /// Which people get which changes.
    Notification,
    /// A list of clients' networks.
    Network,
    /// A certificate that frontends show their clients.
    Certificate,
    /// Addresses that move between nodes.
    Address,
    /// Addresses that nodes announce to routers.
    Announcement,
    /// An authority that certificates are ordered from.
    Authority,
    /// How much each client may ask for.
    Limit,
    /// A condition on requests, and what becomes of them.
    Rule,
    /// A request, and what has to become of it.
    Example,
}

impl fmt::Display for ObjectKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Host => "host",
            Self::Range => "range",
            Self::Reserved => "reserved address",
            Self::Check => "check",
            Self::Pool => "pool",
            Self::Server => "server",
            Self::Lookup => "lookup",
            Self::Frontend => "frontend",
            Self::Notification => "notification",
            Self::Network => "network",
            Self::Certificate => "certificate",
            Self::Address => "address",
            Self::Announcement => "announcement",
            Self::Authority => "authority",
            Self::Limit => "limit",
            Self::Rule => "rule",
            Self::Example => "example",
        })
    }
}

/// Why a text is no path of an object.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ObjectPathError {
    /// It leads to nothing that a document can hold.
    #[error(
        "a path is frontends.NAME, pools.NAME, pools.NAME.servers.NAME, pools.NAME.lookups.NAME, checks.NAME, \
         hosts.NAME, ranges.NAME, ranges.NAME.reserved.NAME, networks.NAME, addresses.NAME, announce.NAME, certificates.NAME, authorities.NAME, \
         limits.NAME, rules.NAME, examples.NAME or notifications.NAME; found {0:?}"
    )]
    Shape(String),
    /// One of its names is wrong.
    #[error(transparent)]
    Name(#[from] NameError),
}

impl ObjectPath {
    /// What kind of object it is.
    #[must_use]
    pub fn kind(&self) -> ObjectKind {
        match self {
            Self::Host(_) => ObjectKind::Host,
            Self::Range(_) => ObjectKind::Range,
            Self::Reserved(..) => ObjectKind::Reserved,
            Self::Check(_) => ObjectKind::Check,
            Self::Pool(_) => ObjectKind::Pool,
            Self::Server(_) => ObjectKind::Server,
            Self::Lookup(..) => ObjectKind::Lookup,
            Self::Frontend(_) => ObjectKind::Frontend,
            Self::Notification(_) => ObjectKind::Notification,
            Self::Network(_) => ObjectKind::Network,
            Self::Certificate(_) => ObjectKind::Certificate,
            Self::Address(_) => ObjectKind::Address,
            Self::Announcement(_) => ObjectKind::Announcement,
            Self::Authority(_) => ObjectKind::Authority,
            Self::Limit(_) => ObjectKind::Limit,
            Self::Rule(_) => ObjectKind::Rule,
            Self::Example(_) => ObjectKind::Example,
        }
    }

    /// The last part of the path: the object's name among its kind.
    #[must_use]
    pub fn name(&self) -> &Name {
        match self {
            Self::Host(name)
            | Self::Range(name)
            | Self::Reserved(_, name)
            | Self::Check(name)
            | Self::Pool(name)
            | Self::Lookup(_, name)
            | Self::Frontend(name)
            | Self::Notification(name)
            | Self::Certificate(name)
            | Self::Address(name)
            | Self::Announcement(name)
            | Self::Authority(name)
            | Self::Limit(name)
            | Self::Rule(name)
            | Self::Example(name)
            | Self::Network(name) => name,
            Self::Server(server) => &server.server,
        }
    }

    /// The same place under another name.
    #[must_use]
    pub fn renamed(&self, to: Name) -> Self {
        match self {
            Self::Host(_) => Self::Host(to),
            Self::Range(_) => Self::Range(to),
            Self::Reserved(range, _) => Self::Reserved(range.clone(), to),
            Self::Check(_) => Self::Check(to),
            Self::Pool(_) => Self::Pool(to),
            Self::Server(server) => Self::Server(PoolServer { pool: server.pool.clone(), server: to }),
            Self::Lookup(pool, _) => Self::Lookup(pool.clone(), to),
            Self::Frontend(_) => Self::Frontend(to),
            Self::Notification(_) => Self::Notification(to),
            Self::Network(_) => Self::Network(to),
            Self::Certificate(_) => Self::Certificate(to),
            Self::Address(_) => Self::Address(to),
            Self::Announcement(_) => Self::Announcement(to),
            Self::Authority(_) => Self::Authority(to),
            Self::Limit(_) => Self::Limit(to),
            Self::Rule(_) => Self::Rule(to),
            Self::Example(_) => Self::Example(to),
        }
    }

    /// The keys that lead to it.
    pub(in crate::config) fn keys(&self) -> Vec<String> {
        self.to_string().split('.').map(str::to_owned).collect()
    }

    /// How people call it: `server booking/gull`.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::Reserved(range, name) => format!("address {range}/{name}"),
            Self::Server(server) => format!("server {server}"),
            Self::Lookup(pool, name) => format!("lookup {pool}/{name}"),
            other => format!("{} {}", other.kind(), other.name()),
        }
    }
}

impl FromStr for ObjectPath {
    type Err = ObjectPathError;

    fn from_str(path: &str) -> Result<Self, ObjectPathError> {
        let parts: Vec<&str> = path.split('.').collect();
        Ok(match parts.as_slice() {
            ["hosts", name] => Self::Host(name.parse()?),
            ["ranges", name] => Self::Range(name.parse()?),
            ["ranges", range, "reserved", name] => Self::Reserved(range.parse()?, name.parse()?),
            ["checks", name] => Self::Check(name.parse()?),
            ["pools", name] => Self::Pool(name.parse()?),
            ["pools", pool, "servers", name] => {
                Self::Server(PoolServer { pool: pool.parse()?, server: name.parse()? })
            }
            ["pools", pool, "lookups", name] => Self::Lookup(pool.parse()?, name.parse()?),
            ["frontends", name] => Self::Frontend(name.parse()?),
            ["notifications", name] => Self::Notification(name.parse()?),
            ["networks", name] => Self::Network(name.parse()?),
            ["certificates", name] => Self::Certificate(name.parse()?),
            ["addresses", name] => Self::Address(name.parse()?),
            ["announce", name] => Self::Announcement(name.parse()?),
            ["authorities", name] => Self::Authority(name.parse()?),
            ["limits", name] => Self::Limit(name.parse()?),
            ["rules", name] => Self::Rule(name.parse()?),
            ["examples", name] => Self::Example(name.parse()?),
            _ => return Err(ObjectPathError::Shape(path.to_owned())),
        })
    }
}

impl fmt::Display for ObjectPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Host(name) => write!(f, "hosts.{name}"),
            Self::Range(name) => write!(f, "ranges.{name}"),
            Self::Reserved(range, name) => write!(f, "ranges.{range}.reserved.{name}"),
            Self::Check(name) => write!(f, "checks.{name}"),
            Self::Pool(name) => write!(f, "pools.{name}"),
            Self::Server(server) => write!(f, "pools.{}.servers.{}", server.pool, server.server),
            Self::Lookup(pool, name) => write!(f, "pools.{pool}.lookups.{name}"),
            Self::Frontend(name) => write!(f, "frontends.{name}"),
            Self::Notification(name) => write!(f, "notifications.{name}"),
            Self::Network(name) => write!(f, "networks.{name}"),
            Self::Certificate(name) => write!(f, "certificates.{name}"),
            Self::Address(name) => write!(f, "addresses.{name}"),
            Self::Announcement(name) => write!(f, "announce.{name}"),
            Self::Authority(name) => write!(f, "authorities.{name}"),
            Self::Limit(name) => write!(f, "limits.{name}"),
            Self::Rule(name) => write!(f, "rules.{name}"),
            Self::Example(name) => write!(f, "examples.{name}"),
        }
    }
}

impl TryFrom<String> for ObjectPath {
    type Error = ObjectPathError;

    fn try_from(path: String) -> Result<Self, ObjectPathError> {
        path.parse()
    }
}

impl From<ObjectPath> for String {
    fn from(object: ObjectPath) -> Self {
        object.to_string()
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::frontend("frontends.web", "frontend web")]
    #[case::pool("pools.booking", "pool booking")]
    #[case::server("pools.booking.servers.gull", "server booking/gull")]
    #[case::lookup("pools.booking.lookups.dns", "lookup booking/dns")]
    #[case::check("checks.answers", "check answers")]
    #[case::message("notifications.watch", "notification watch")]
    #[case::network("networks.islands", "network islands")]
    #[case::host("hosts.gull", "host gull")]
    #[case::address("ranges.public.reserved.web", "address public/web")]
    fn paths(#[case] path: &str, #[case] words: &str) {
        let object: ObjectPath = path.parse().unwrap();
        assert_eq!((object.to_string().as_str(), object.words().as_str()), (path, words));
        assert!(object.renamed("other".parse().unwrap()).to_string().ends_with(".other"));
    }

    #[rstest]
    #[case::kind_alone("pools")]
    #[case::key_of_a_pool("pools.booking.weight")]
    #[case::unknown_kind("objects.booking")]
    #[case::name_in_capitals("pools.Booking")]
    fn no_paths(#[case] path: &str) {
        assert!(path.parse::<ObjectPath>().is_err());
    }
}
