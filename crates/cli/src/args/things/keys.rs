//! The keys of each kind of thing as flags, named as in the document.

use std::collections::BTreeMap;
use std::fmt::{Debug, Display};
use std::net::IpAddr;
use std::str::FromStr;

use merismos_core::config::Thing;
use merismos_core::config::edit::Edit;
use merismos_core::config::thing::Kind;
use merismos_core::name::{Name, PoolServer};
use serde::{Serialize, Serializer};
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
            Kind::Message => Thing::Message(name),
            Kind::Network => Thing::Network(name),
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
    /// What clients speak: http, tcp or udp [default when made: http]
    #[arg(long)]
    protocol: Option<String>,
    /// What is dealt out: request or connection (http), connection (tcp), flow or datagram (udp)
    #[arg(long)]
    unit: Option<String>,
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
    /// The pool that does the work, or the first of several
    #[arg(long)]
    pool: Option<String>,
    /// Pools after the first, in order, with commas between
    #[arg(long, value_name = "POOL", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    next_pools: Vec<String>,
    /// How one of several is chosen: in-order, by-weight, by-latency or by-network
    #[arg(long, value_name = "HOW")]
    choose_pool: Option<String>,
    /// The pool that takes what none of the others will
    #[arg(long, value_name = "POOL")]
    last_resort: Option<String>,
    /// by-weight: the weight of a pool, 1 where none is given; may be given several times
    #[arg(long = "pool-weight", value_name = "POOL=WEIGHT", value_parser = pair::<u16>)]
    #[serde(serialize_with = "table", skip_serializing_if = "Vec::is_empty")]
    pool_weights: Vec<(Name, u16)>,
    /// by-network: a list of networks whose clients a pool gets; may be given several times
    #[arg(long = "pool-network", value_name = "POOL=LIST", value_parser = pair::<Name>)]
    #[serde(serialize_with = "lists", skip_serializing_if = "Vec::is_empty")]
    pool_networks: Vec<(Name, Name)>,
    /// The most clients connected at once
    #[arg(long, value_name = "COUNT")]
    connection_limit: Option<u32>,
    /// The largest request head, such as 16KiB
    #[arg(long, value_name = "SIZE")]
    head_limit: Option<String>,
    /// The most fields in a request head
    #[arg(long, value_name = "COUNT")]
    field_limit: Option<u16>,
    /// The most requests that a client may have under way at once over HTTP/2
    #[arg(long, value_name = "COUNT")]
    stream_limit: Option<u16>,
    /// From a head's first byte to its end, such as 10s
    #[arg(long, value_name = "DURATION")]
    head_timeout: Option<String>,
    /// How long a client may rest, such as 60s
    #[arg(long, value_name = "DURATION")]
    idle_timeout: Option<String>,
    /// How long a tunnel (WebSocket) may rest, such as 1h
    #[arg(long, value_name = "DURATION")]
    tunnel_timeout: Option<String>,
    /// How long a tcp client's connection may last, such as 8h
    #[arg(long, value_name = "DURATION")]
    life_limit: Option<String>,
    /// How long a tcp client may take to say which TLS server it wants, where its pool goes by sni, such as 2s
    #[arg(long, value_name = "DURATION")]
    greeting_timeout: Option<String>,
    /// Networks whose word of who the client is is believed, with commas between
    #[arg(long, value_name = "NETWORK", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    trusted: Vec<String>,
    /// Connections of trusted peers begin with a PROXY protocol header
    #[arg(long, value_name = "YES")]
    proxy_protocol: Option<bool>,
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
    /// How it deals out work: round-robin, least-connections, least-load, random-two, hash or in-order
    #[arg(long)]
    algorithm: Option<String>,
    #[command(flatten)]
    #[serde(flatten)]
    hashing: Hashing,
    /// What ties a client to its server: cookie
    #[arg(long, value_name = "HOW")]
    persistence: Option<String>,
    /// The name of the cookie that ties clients
    #[arg(long, value_name = "NAME")]
    pin_cookie: Option<String>,
    /// How long a client stays tied, such as 8h
    #[arg(long, value_name = "DURATION")]
    pin_lifetime: Option<String>,
    /// How many eligible servers it needs for a frontend with several pools to use it
    #[arg(long, value_name = "COUNT")]
    usable_from: Option<u16>,
    /// How many eligible servers a tier needs to work
    #[arg(long, value_name = "COUNT")]
    tier_minimum: Option<u16>,
    /// When work goes back to a lower tier: automatic, "after 5m" or "by hand"
    #[arg(long)]
    failback: Option<String>,
    /// The time in which the share of a server that comes back grows, such as 30s
    #[arg(long, value_name = "DURATION")]
    ramp: Option<String>,
    /// How much of their limits its servers may use, in percent
    #[arg(long, value_name = "PERCENT")]
    capacity: Option<u8>,
    #[command(flatten)]
    #[serde(flatten)]
    limits: Limits,
    /// How much work may wait while every server is full; 0 is no queue
    #[arg(long, value_name = "COUNT")]
    queue_limit: Option<u32>,
    /// How long work may wait, such as 1s
    #[arg(long, value_name = "DURATION")]
    queue_timeout: Option<String>,
    /// The PROXY protocol header that its servers want: v1 or v2
    #[arg(long, value_name = "VERSION")]
    proxy_protocol: Option<String>,
    #[command(flatten)]
    #[serde(flatten)]
    reaching: Reaching,
    /// The check that judges its servers
    #[arg(long)]
    check: Option<String>,
    /// More checks that are made with it, with commas between
    #[arg(long = "more-check", value_name = "CHECK", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    more_checks: Vec<String>,
    /// How many of its checks a server has to pass: all or any
    #[arg(long)]
    checks_needed: Option<String>,
    /// So many pieces of work that a server failed are evidence against it
    #[arg(long, value_name = "COUNT")]
    evidence_failures: Option<u32>,
    /// Within this time, such as 10s
    #[arg(long, value_name = "DURATION")]
    evidence_within: Option<String>,
    /// Whether answers with 500 and above count too: true or false
    #[arg(long, value_name = "BOOL")]
    evidence_errors: Option<bool>,
    /// What it makes of a server that is up: suspect or down
    #[arg(long, value_name = "VERDICT")]
    evidence_verdict: Option<String>,
    /// Whether the last eligible server may go down by it: true or false
    #[arg(long, value_name = "BOOL")]
    evidence_even_if_last: Option<bool>,
    /// What becomes of work when no server passes: refuse or all
    #[arg(long)]
    when_none: Option<String>,
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

/// What hash goes by.
#[derive(Debug, clap::Args, Serialize)]
struct Hashing {
    /// hash: the keys, with commas between: client-address, path, path-with-query, host, sni, query:NAME, header:NAME,
    /// cookie:NAME
    #[arg(long = "hash-key", value_name = "KEY", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    hash_keys: Vec<String>,
    /// hash: how many bits of an IPv4 client's address count
    #[arg(long, value_name = "BITS")]
    hash_prefix_ipv4: Option<u8>,
    /// hash: how many bits of an IPv6 client's address count
    #[arg(long, value_name = "BITS")]
    hash_prefix_ipv6: Option<u8>,
    /// hash: what becomes of work that has none of the keys: spread or refuse
    #[arg(long, value_name = "WHAT")]
    hash_when_absent: Option<String>,
    /// hash: the most that a server gets of its share of the work in flight, in percent
    #[arg(long, value_name = "PERCENT")]
    hash_bound: Option<u16>,
}

/// What a server may be given at once.
#[derive(Debug, clap::Args, Serialize)]
struct Limits {
    /// The most connections to a server
    #[arg(long, value_name = "COUNT")]
    connection_limit: Option<u32>,
    /// The most pieces of work in flight at a server
    #[arg(long, value_name = "COUNT")]
    in_flight_limit: Option<u32>,
    /// The most pieces of work that a server gets in a second
    #[arg(long, value_name = "COUNT")]
    rate_limit: Option<u32>,
}

/// How servers are reached.
#[derive(Debug, clap::Args, Serialize)]
struct Reaching {
    /// The version of HTTP that its servers are spoken to in: 1.1 or 2
    #[arg(long, value_name = "VERSION")]
    http_version: Option<String>,
    /// An address of the service's machine that connections to servers come from; may be given several times
    #[arg(long = "source-address", value_name = "ADDRESS")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    source_addresses: Vec<IpAddr>,
    /// The most unused connections that each worker keeps to a server
    #[arg(long, value_name = "COUNT")]
    keep_limit: Option<u16>,
    /// How long a connection is kept unused, such as 4s
    #[arg(long, value_name = "DURATION")]
    keep_idle: Option<String>,
    /// How old a connection may be to be used once more, such as 1h
    #[arg(long, value_name = "DURATION")]
    keep_age: Option<String>,
    /// How many connections each worker makes to a server that comes back
    #[arg(long, value_name = "COUNT")]
    connect_ahead: Option<u8>,
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
    /// Where it listens too; the connection that is made first is used; may be given several times
    #[arg(long = "other-address", value_name = "ADDRESS:PORT")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    other_addresses: Vec<String>,
    /// Its part of the work, 0 to 1000
    #[arg(long)]
    weight: Option<u16>,
    /// Its rank, 0 to 7: the lowest tier with a server that can work does
    #[arg(long)]
    tier: Option<u8>,
    /// How much of its weight and its limits counts, in percent
    #[arg(long, value_name = "PERCENT")]
    capacity: Option<u8>,
    #[command(flatten)]
    #[serde(flatten)]
    limits: Limits,
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
    /// All addresses of a name are one server's
    #[arg(long, num_args = 0..=1, default_missing_value = "true", value_name = "YES")]
    together: Option<bool>,
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
    /// What is asked: tcp, http, icmp, udp, dns, tls, sql, grpc or command
    #[arg(long)]
    kind: Option<String>,
    #[command(flatten)]
    #[serde(flatten)]
    http: HttpAsked,
    #[command(flatten)]
    #[serde(flatten)]
    other: OtherAsked,
    /// http: status codes and ranges that pass, with commas between, such as 200-299,304
    #[arg(long = "pass", value_name = "STATUS", value_delimiter = ',')]
    #[serde(rename = "accept", skip_serializing_if = "Vec::is_empty")]
    pass: Vec<String>,
    /// Another port of the server to ask
    #[arg(long)]
    port: Option<u16>,
    /// Another address to ask
    #[arg(long)]
    address: Option<IpAddr>,
    /// The address of the service's machine that probes come from
    #[arg(long, value_name = "ADDRESS")]
    source_address: Option<IpAddr>,
    /// From the start of a probe to the start of the next, such as 2s
    #[arg(long, value_name = "DURATION")]
    interval: Option<String>,
    /// The same while the server is down
    #[arg(long, value_name = "DURATION")]
    interval_down: Option<String>,
    /// How long a probe may take, such as 1s
    #[arg(long, value_name = "DURATION")]
    timeout: Option<String>,
    /// Failures in a row before down
    #[arg(long, value_name = "COUNT")]
    down_after: Option<u32>,
    /// Passes in a row before up
    #[arg(long, value_name = "COUNT")]
    up_after: Option<u32>,
    /// Called flapping when it was down so many times ...
    #[arg(long, value_name = "COUNT")]
    flapping_after: Option<u32>,
    /// ... within this time, such as 10m
    #[arg(long, value_name = "DURATION")]
    flapping_within: Option<String>,
    /// How long a flapping server is held down the first time; twice as long each time after that
    #[arg(long, value_name = "DURATION")]
    hold_down: Option<String>,
    /// The longest that it is held down
    #[arg(long, value_name = "DURATION")]
    hold_down_most: Option<String>,
}

impl Keys for CheckKeys {
    const KIND: Kind = Kind::Check;
    type Name = Name;
}

/// What checks of HTTP and TLS ask.
#[derive(Debug, clap::Args, Serialize)]
struct HttpAsked {
    /// http: the path
    #[arg(long)]
    path: Option<String>,
    /// http: the method
    #[arg(long)]
    method: Option<String>,
    /// http: the host that is asked for
    #[arg(long)]
    host: Option<String>,
    /// http: the version, 1.1 or 2
    #[arg(long, value_name = "VERSION")]
    http_version: Option<String>,
    /// http: a text that the body contains
    #[arg(long, value_name = "TEXT")]
    body_contains: Option<String>,
    /// http: a regular expression that the body matches
    #[arg(long, value_name = "PATTERN")]
    body_matches: Option<String>,
    /// http: a text that the body does not contain
    #[arg(long, value_name = "TEXT")]
    body_lacks: Option<String>,
    /// http: where in a JSON body a value stands, such as /state
    #[arg(long, value_name = "POINTER")]
    json_pointer: Option<String>,
    /// http: what that value has to be, such as "= ready"
    #[arg(long, value_name = "CONDITION")]
    json_wanted: Option<String>,
    /// http: how much of the body is looked at, such as 64KiB
    #[arg(long, value_name = "SIZE")]
    body_limit: Option<String>,
    /// http: how many redirections are followed
    #[arg(long, value_name = "COUNT")]
    redirects: Option<u8>,
    /// http: whether the connection is kept for the next probe
    #[arg(long, value_name = "BOOL")]
    keep_alive: Option<bool>,
    /// http: whether what servers ask for in their answers is done
    #[arg(long, value_name = "BOOL")]
    wishes: Option<bool>,
    /// http, tls, sql: speak TLS, and take certificates that are verified or unverified
    #[arg(long)]
    tls: Option<String>,
    /// http, tls: the name that the certificate has to be for
    #[arg(long, value_name = "NAME")]
    tls_name: Option<String>,
    /// http, tls, sql: a file of authorities (PEM) on the service's machine
    #[arg(long, value_name = "PATH")]
    tls_authorities: Option<String>,
    /// http, tls: the SHA-256 of the only certificate that passes
    #[arg(long, value_name = "DIGITS")]
    tls_pin: Option<String>,
    /// tls: how many days before its end a certificate is called one that ends soon
    #[arg(long, value_name = "DAYS")]
    warn_days: Option<u16>,
}

/// What the other kinds of checks ask.
#[derive(Debug, clap::Args, Serialize)]
struct OtherAsked {
    /// tcp, udp: what is sent
    #[arg(long, value_name = "TEXT")]
    send: Option<String>,
    /// tcp, udp: a text that the answer contains; dns: a value among the answers
    #[arg(long, value_name = "TEXT")]
    expect: Option<String>,
    /// tcp, udp: a regular expression that the answer matches
    #[arg(long, value_name = "PATTERN")]
    expect_pattern: Option<String>,
    /// dns: the name that is asked for
    #[arg(long, value_name = "NAME")]
    #[serde(rename = "name")]
    dns_name: Option<String>,
    /// dns: the type of record, such as A
    #[arg(long)]
    record: Option<String>,
    /// sql: who logs in
    #[arg(long)]
    user: Option<String>,
    /// sql: where the password stands: environment:NAME or file:/PATH
    #[arg(long, value_name = "WHERE")]
    password: Option<String>,
    /// sql: the database
    #[arg(long)]
    database: Option<String>,
    /// sql: one statement that reads, such as "SHOW REPLICA STATUS"
    #[arg(long)]
    query: Option<String>,
    /// sql: the column whose value is judged
    #[arg(long)]
    column: Option<String>,
    /// sql: what the value has to be, such as "< 30"
    #[arg(long, value_name = "CONDITION")]
    wanted: Option<String>,
    /// grpc: the service that is asked about
    #[arg(long)]
    service: Option<String>,
    /// command: the program's file name
    #[arg(long)]
    program: Option<String>,
    /// command: what it is given; may be given several times
    #[arg(long = "argument", value_name = "TEXT", allow_hyphen_values = true)]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    arguments: Vec<String>,
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

/// What a list of networks is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct NetworkKeys {
    /// An address or a prefix such as 192.0.2.0/24; may be given several times
    #[arg(long = "prefix", value_name = "PREFIX", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    prefixes: Vec<String>,
}

impl Keys for NetworkKeys {
    const KIND: Kind = Kind::Network;
    type Name = Name;
}

/// What a message is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct MessageKeys {
    /// The pools whose changes are told, with commas between; all of them without it
    #[arg(long = "of", value_name = "POOL", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pools: Vec<Name>,
    /// Which changes, with commas between: down, up, suspect, flapping, empty, filled
    #[arg(long = "change", value_name = "CHANGE", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    changes: Vec<String>,
    /// Only what has lasted so long is told, such as 30s
    #[arg(long, value_name = "DURATION")]
    after: Option<String>,
    /// Changes that follow each other within this time are one message, such as 5s
    #[arg(long, value_name = "DURATION")]
    gather: Option<String>,
    /// The least time between two messages, such as 1m
    #[arg(long, value_name = "DURATION")]
    at_most_every: Option<String>,
    /// The URL that JSON is posted to
    #[arg(long, value_name = "URL")]
    webhook: Option<String>,
    /// Where the secret stands that posts are signed with: environment:NAME or file:/PATH
    #[arg(long, value_name = "REFERENCE")]
    webhook_secret: Option<String>,
    /// To whom e-mail is sent, with commas between
    #[arg(long, value_name = "ADDRESS", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    mail_to: Vec<String>,
    /// From whom
    #[arg(long, value_name = "ADDRESS")]
    mail_from: Option<String>,
    /// The mail server
    #[arg(long, value_name = "HOST:PORT")]
    mail_server: Option<String>,
    /// TLS with the mail server: begun (on a plain connection), whole (from the first byte) or none
    #[arg(long, value_name = "HOW")]
    mail_tls: Option<String>,
    /// Who logs in at the mail server
    #[arg(long, value_name = "USER")]
    mail_user: Option<String>,
    /// Where that user's password stands: environment:NAME or file:/PATH
    #[arg(long, value_name = "REFERENCE")]
    mail_password: Option<String>,
}

impl Keys for MessageKeys {
    const KIND: Kind = Kind::Message;
    type Name = Name;
}

/// `NAME=VALUE`.
fn pair<T: FromStr<Err: Display>>(text: &str) -> Result<(Name, T), String> {
    let (name, value) = text.split_once('=').ok_or("it is written NAME=VALUE")?;
    let name = name.parse().map_err(|error: merismos_core::name::NameError| error.to_string())?;
    Ok((name, value.parse().map_err(|error: T::Err| error.to_string())?))
}

/// Pairs as a table.
fn table<S: Serializer>(pairs: &[(Name, u16)], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_map(pairs.iter().map(|(name, value)| (name, value)))
}

/// Pairs as a table of lists.
fn lists<S: Serializer>(pairs: &[(Name, Name)], serializer: S) -> Result<S::Ok, S::Error> {
    let mut lists: BTreeMap<&Name, Vec<&Name>> = BTreeMap::new();
    for (name, value) in pairs {
        lists.entry(name).or_default().push(value);
    }
    serializer.collect_map(lists)
}
