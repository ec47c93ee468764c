//! The keys of each kind of thing as flags, named as in the document.

use std::fmt::{Debug, Display};
use std::net::IpAddr;
use std::str::FromStr;

use merismos_core::config::Thing;
use merismos_core::config::edit::Edit;
use merismos_core::config::thing::Kind;
use merismos_core::name::{Name, PoolServer};
use serde::Serialize;
use serde_json::{Map, Value};

use crate::exit::CliError;

/// The keys of one kind of thing.
pub(crate) trait Keys: clap::Args + Serialize + Debug + Send + Sync + 'static {
    /// Which kind.
    const KIND: Kind;
    /// How one is named on the command line.
    type Name: ThingName;

    /// The keys that a new thing gets when they are not given, beside the document's own defaults.
    fn defaults(_keys: &mut Map<String, Value>) {}

    /// What has to be done before a thing with these keys can be made.
    fn before(&self, _thing: &Thing, _keys: &mut Map<String, Value>) -> Result<Vec<Edit>, CliError> {
        Ok(Vec::new())
    }
}

/// A name as it is written on the command line.
pub(crate) trait ThingName:
    FromStr<Err: Display + std::error::Error + Send + Sync + 'static> + Clone + Debug + Send + Sync + 'static
{
    /// The thing of that name.
    fn thing<K: Keys>(&self) -> Thing;
}

impl ThingName for Name {
    fn thing<K: Keys>(&self) -> Thing {
        let name = self.clone();
        match K::KIND {
            Kind::Host => Thing::Host(name),
            Kind::Range => Thing::Range(name),
            Kind::Check => Thing::Check(name),
            Kind::Pool => Thing::Pool(name),
            Kind::Frontend => Thing::Frontend(name),
            Kind::Taken | Kind::Server | Kind::Lookup => {
                unreachable!("things inside others are named with what is around them")
            }
        }
    }
}

impl ThingName for PoolServer {
    fn thing<K: Keys>(&self) -> Thing {
        match K::KIND {
            Kind::Lookup => Thing::Lookup(self.pool.clone(), self.server.clone()),
            _ => Thing::Server(self.clone()),
        }
    }
}

/// What a frontend is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct FrontendKeys {
    /// What clients speak: http [default when made: http]
    #[arg(long)]
    protocol: Option<String>,
    /// Where to listen: ADDRESS:PORT, or RANGE/NAME:PORT for an address that was taken
    #[arg(long, value_name = "ADDRESS:PORT", conflicts_with = "from")]
    listen: Option<String>,
    /// Take the next free address of this range, under the frontend's name; needs --port
    #[arg(long, value_name = "RANGE", requires = "port")]
    #[serde(skip)]
    from: Option<Name>,
    /// The port on the address taken with --from
    #[arg(long, requires = "from")]
    #[serde(skip)]
    port: Option<u16>,
    /// The pool that does the work
    #[arg(long)]
    pool: Option<String>,
    /// The most clients connected at once
    #[arg(long, value_name = "COUNT")]
    connection_limit: Option<u32>,
    /// The largest request head, such as 16KiB
    #[arg(long, value_name = "SIZE")]
    head_limit: Option<String>,
    /// The most fields in a request head
    #[arg(long, value_name = "COUNT")]
    field_limit: Option<u16>,
    /// From a head's first byte to its end, such as 10s
    #[arg(long, value_name = "DURATION")]
    head_timeout: Option<String>,
    /// How long a client may rest, such as 60s
    #[arg(long, value_name = "DURATION")]
    idle_timeout: Option<String>,
}

impl Keys for FrontendKeys {
    const KIND: Kind = Kind::Frontend;
    type Name = Name;

    fn defaults(keys: &mut Map<String, Value>) {
        keys.entry("protocol").or_insert_with(|| "http".into());
    }

    fn before(&self, thing: &Thing, keys: &mut Map<String, Value>) -> Result<Vec<Edit>, CliError> {
        let (Some(range), Some(port)) = (&self.from, self.port) else { return Ok(Vec::new()) };
        let name = thing.name().clone();
        keys.insert("listen".to_owned(), format!("{range}/{name}:{port}").into());
        Ok(vec![Edit::Take { range: range.clone(), name, address: None }])
    }
}

/// What a pool is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct PoolKeys {
    /// How it deals out work: round-robin
    #[arg(long)]
    algorithm: Option<String>,
    /// The check that judges its servers
    #[arg(long)]
    check: Option<String>,
    #[command(flatten)]
    #[serde(flatten)]
    times: Times,
    /// How many servers one request may be offered to
    #[arg(long, value_name = "COUNT")]
    attempts: Option<u8>,
}

impl Keys for PoolKeys {
    const KIND: Kind = Kind::Pool;
    type Name = Name;
}

/// How long the steps of an exchange may take.
#[derive(Debug, clap::Args, Serialize)]
struct Times {
    /// How long connecting may take, such as 1s
    #[arg(long, value_name = "DURATION")]
    connect_timeout: Option<String>,
    /// How long an answer may take to begin, such as 30s
    #[arg(long, value_name = "DURATION")]
    first_byte_timeout: Option<String>,
    /// How long an answer may take from its first byte to its last, such as 1h
    #[arg(long, value_name = "DURATION")]
    whole_answer_timeout: Option<String>,
    /// How long a server may rest in the middle of a body, such as 60s
    #[arg(long, value_name = "DURATION")]
    idle_timeout: Option<String>,
}

/// What a server is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct ServerKeys {
    /// Where it listens: ADDRESS:PORT or HOST:PORT
    #[arg(long, value_name = "ADDRESS:PORT")]
    address: Option<String>,
    /// Its part of the work, 0 to 1000
    #[arg(long)]
    weight: Option<u16>,
    /// Its rank, 0 to 7: the lowest tier with a server that can work does
    #[arg(long)]
    tier: Option<u8>,
    #[command(flatten)]
    #[serde(flatten)]
    times: Times,
}

impl Keys for ServerKeys {
    const KIND: Kind = Kind::Server;
    type Name = PoolServer;
}

/// What a lookup is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct LookupKeys {
    /// The DNS name
    #[arg(long = "dns-name", value_name = "NAME")]
    #[serde(rename = "name")]
    dns_name: Option<String>,
    /// Which records: address (A and AAAA) or service (SRV)
    #[arg(long)]
    records: Option<String>,
    /// The port of each server; for address records
    #[arg(long)]
    port: Option<u16>,
    /// The weight of each server; for address records
    #[arg(long)]
    weight: Option<u16>,
    /// The name server to ask
    #[arg(long, value_name = "ADDRESS:PORT")]
    resolver: Option<String>,
    /// What becomes of the servers when there are no records any more: keep or remove
    #[arg(long)]
    when_empty: Option<String>,
    /// Not asked for more often than this, such as 5s
    #[arg(long, value_name = "DURATION")]
    least_interval: Option<String>,
}

impl Keys for LookupKeys {
    const KIND: Kind = Kind::Lookup;
    type Name = PoolServer;
}

/// What a check is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct CheckKeys {
    /// What is asked: tcp or http
    #[arg(long)]
    kind: Option<String>,
    /// http: the path
    #[arg(long)]
    path: Option<String>,
    /// http: status codes and ranges that pass, with commas between, such as 200-299,304
    #[arg(long = "pass", value_name = "STATUS", value_delimiter = ',')]
    #[serde(rename = "accept", skip_serializing_if = "Vec::is_empty")]
    pass: Vec<String>,
    /// From the start of a probe to the start of the next, such as 2s
    #[arg(long, value_name = "DURATION")]
    interval: Option<String>,
    /// How long a probe may take, such as 1s
    #[arg(long, value_name = "DURATION")]
    timeout: Option<String>,
    /// Failures in a row before down
    #[arg(long, value_name = "COUNT")]
    down_after: Option<u32>,
    /// Passes in a row before up
    #[arg(long, value_name = "COUNT")]
    up_after: Option<u32>,
}

impl Keys for CheckKeys {
    const KIND: Kind = Kind::Check;
    type Name = Name;
}

/// What a host is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct HostKeys {
    /// Its address
    #[arg(long)]
    address: Option<IpAddr>,
}

impl Keys for HostKeys {
    const KIND: Kind = Kind::Host;
    type Name = Name;
}

/// What a range is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct RangeKeys {
    /// A prefix such as 192.0.2.16/28, or a range such as 192.0.2.16-192.0.2.31
    #[arg(long)]
    addresses: Option<String>,
}

impl Keys for RangeKeys {
    const KIND: Kind = Kind::Range;
    type Name = Name;
}
