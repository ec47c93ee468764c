//! The keys of frontends.

use std::collections::BTreeMap;
use std::fmt::Display;
use std::str::FromStr;

use merismos_core::config::ObjectPath;
use merismos_core::config::edit::Edit;
use merismos_core::config::object::ObjectKind;
use merismos_core::name::Name;
use serde::{Serialize, Serializer};
use serde_json::{Map, Value};

use super::ObjectKeys;
use crate::exit::CliError;

/// What a frontend is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct FrontendKeys {
    /// What clients speak: http, tcp or udp [default when made: http]
    #[arg(long)]
    protocol: Option<String>,
    /// What is dealt out: request or connection (http), connection (tcp), flow or datagram (udp)
    #[arg(long)]
    balance_per: Option<String>,
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
    /// by-weight: the weight of a pool, 1 where none is given; several with commas between
    #[arg(long, value_name = "POOL=WEIGHT", value_delimiter = ',', value_parser = pair::<u16>)]
    #[serde(serialize_with = "table", skip_serializing_if = "Vec::is_empty")]
    pool_weights: Vec<(Name, u16)>,
    /// by-network: a list of networks whose clients a pool gets; several with commas between
    #[arg(long, value_name = "POOL=LIST", value_delimiter = ',', value_parser = pair::<Name>)]
    #[serde(serialize_with = "lists", skip_serializing_if = "Vec::is_empty")]
    pool_networks: Vec<(Name, Name)>,
    /// The most clients connected at once
    #[arg(long, value_name = "COUNT")]
    connection_limit: Option<u32>,
    /// From which part of a minute's requests on, in percent, it is told that they fail; 0 is never
    #[arg(long, value_name = "PERCENT")]
    failing_share: Option<u8>,
    /// The largest request head, such as 16KiB
    #[arg(long, value_name = "SIZE")]
    header_size_limit: Option<String>,
    /// The most fields in a request head
    #[arg(long, value_name = "COUNT")]
    header_count_limit: Option<u16>,
    /// The most requests that a client may have under way at once over HTTP/2
    #[arg(long, value_name = "COUNT")]
    max_concurrent_streams: Option<u16>,
    /// From a head's first byte to its end, such as 10s
    #[arg(long, value_name = "DURATION")]
    header_timeout: Option<String>,
    /// How long a client may rest, such as 60s
    #[arg(long, value_name = "DURATION")]
    idle_timeout: Option<String>,
    /// How long a tunnel (WebSocket) may rest, such as 1h
    #[arg(long, value_name = "DURATION")]
    tunnel_timeout: Option<String>,
    /// http: the lowest rate, a second, at which a client sends a body and takes an answer, such as 32B; 0B is none
    #[arg(long, value_name = "SIZE")]
    min_rate: Option<String>,
    /// http: how long a client may be slower than that, such as 30s
    #[arg(long, value_name = "DURATION")]
    min_rate_grace: Option<String>,
    /// http: a field that clients which are not trusted do not get through; several with commas between
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    dropped_fields: Vec<String>,
    /// How long a tcp client's connection may last, such as 8h
    #[arg(long, value_name = "DURATION")]
    max_connection_age: Option<String>,
    /// How long a tcp client may take to say which TLS server it wants, where its pool goes by sni, such as 2s
    #[arg(long, value_name = "DURATION")]
    client_hello_timeout: Option<String>,
    /// Networks whose word of who the client is is believed, with commas between
    #[arg(long, value_name = "NETWORK", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    trusted: Vec<String>,
    /// Connections of trusted peers begin with a PROXY protocol header
    #[arg(long, value_name = "YES")]
    proxy_protocol: Option<bool>,
}

impl ObjectKeys for FrontendKeys {
    const KIND: ObjectKind = ObjectKind::Frontend;
    type Name = Name;

    fn defaults(keys: &mut Map<String, Value>) {
        keys.entry("protocol").or_insert_with(|| "http".into());
    }

    fn before(&self, object: &ObjectPath, keys: &mut Map<String, Value>) -> Result<Vec<Edit>, CliError> {
        let (Some(range), Some(port)) = (&self.from, self.port) else { return Ok(Vec::new()) };
        let name = object.name().clone();
        keys.insert("listen".to_owned(), format!("{range}/{name}:{port}").into());
        Ok(vec![Edit::Reserve { range: range.clone(), name, address: None }])
    }
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
