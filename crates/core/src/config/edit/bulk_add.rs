//! Several servers at once, from lines that people paste.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};

use crate::config::document::{Document, ServerSpec};
use crate::config::listen_address::{AddressRange, AddressRef, AddressSource};
use crate::name::Name;

/// The most servers that one edit adds.
const MOST: u128 = 4_096;

/// Why a line stands for no servers.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, {text:?}: {why}")]
pub struct LineError {
    /// The line, from 1.
    pub line: usize,
    /// The text of the line, as it was pasted.
    pub text: String,
    /// What is wrong with it, and what would be right.
    pub why: String,
}

/// The servers of some lines, each `address:port [weight]`, `host:port [weight]` or `first-last:port [weight]`, perhaps with the
/// server's own name and `=` before it. Empty lines, and what follows a `#`, are passed over.
///
/// A server without a name of its own is named after its host where there is one, else as servers of its address are called in other
/// pools, else after its address.
pub(in crate::config) fn servers(
    document: &Document,
    pool: &Name,
    lines: &str,
    weight: u16,
    tier: u8,
) -> Result<BTreeMap<Name, ServerSpec>, LineError> {
    let before = document.pools.get(pool).map(|pool| &pool.servers);
    let mut taken: BTreeSet<Name> = before.into_iter().flat_map(|servers| servers.keys().cloned()).collect();
    let host_names: BTreeMap<IpAddr, &Name> =
        document.hosts.iter().map(|(name, host)| (host.address, name)).collect();
    let known_as = known_names(document);
    let mut made = BTreeMap::new();
    for (index, text) in lines.lines().enumerate() {
        let content = text.split('#').next().unwrap_or_default().trim();
        if content.is_empty() {
            continue;
        }
        let wrong = |why: String| LineError { line: index + 1, text: text.trim().to_owned(), why };
        let mut words = content.split_whitespace();
        let first = words.next().unwrap_or_default();
        let (own, place) = first.split_once('=').map_or((None, first), |(own, place)| (Some(own), place));
        let own =
            own.map(|own| own.parse::<Name>().map_err(|error| wrong(format!("{own:?} is no name: {error}"))));
        let own = own.transpose()?;
        let places = places(place).map_err(wrong)?;
        if own.is_some() && places.len() > 1 {
            return Err(wrong("wanted one address behind a name, not a range of them".to_owned()));
        }
        let weight = match words.next() {
            None => weight,
            Some(text) => text.parse().ok().filter(|weight| *weight <= 1_000).ok_or_else(|| {
                wrong(format!("{text:?} is no weight: wanted a whole number from 0 to 1000"))
            })?,
        };
        if words.next().is_some() {
            return Err(wrong("wanted address:port and at most a weight behind it".to_owned()));
        }
        for place in places {
            let place = match (place.written(), host_names.get(&place.get().ip())) {
                (AddressSource::Host(host), _) if !document.hosts.contains_key(host) => {
                    return Err(wrong(format!("there is no host {host}; add it first, or give an address")));
                }
                (AddressSource::Literal, Some(host)) => named(host, place.get().port()),
                _ => place,
            };
            let name = match &own {
                Some(own) if taken.contains(own) => {
                    return Err(wrong(format!("there is a server {own} in pool {pool} already")));
                }
                Some(own) => own.clone(),
                None => free_name(&place, &known_as, &taken)
                    .ok_or_else(|| wrong("no name is free for it".to_owned()))?,
            };
            taken.insert(name.clone());
            let server = ServerSpec {
                address: place,
                ..ServerSpec::at(SocketAddr::from(([0, 0, 0, 0], 1)), weight, tier)
            };
            made.insert(name, server);
        }
    }
    Ok(made)
}

fn named(host: &Name, port: u16) -> AddressRef {
    format!("{host}:{port}").parse().expect("a name and a port that is not zero make a place")
}

/// The places that the first word of a line stands for.
fn places(text: &str) -> Result<Vec<AddressRef>, String> {
    if let Ok(place) = text.parse::<AddressRef>() {
        return match place.written() {
            AddressSource::Taken { .. } => Err("a reserved address is for frontends to listen on".to_owned()),
            AddressSource::Literal | AddressSource::Host(_) => Ok(vec![place]),
        };
    }
    let wanted = || {
        "wanted an address, a host's name or a range of addresses, and a port, such as 192.0.2.21:8080, gull:8080 or \
         192.0.2.21-192.0.2.40:8080; a name and = may stand before it"
            .to_owned()
    };
    let (range, port) = text.rsplit_once(':').ok_or_else(wanted)?;
    let range: AddressRange = range.replace(['[', ']'], "").parse().map_err(|_| wanted())?;
    let port: u16 = port.parse().ok().filter(|port| *port != 0).ok_or_else(wanted)?;
    if range.len() > MOST {
        return Err(format!("a range of at most {MOST} addresses, not {}", range.len()));
    }
    Ok(range.iter().map(|ip| AddressRef::literal(SocketAddr::new(ip, port))).collect())
}

/// What the servers of each address are called in all pools, where they are called alike.
fn known_names(document: &Document) -> BTreeMap<IpAddr, &Name> {
    let mut known: BTreeMap<IpAddr, Option<&Name>> = BTreeMap::new();
    let servers = document.pools.values().flat_map(|pool| &pool.servers);
    for (name, server) in servers.filter(|(_, server)| server.found_by.is_none()) {
        let before = known.entry(server.address.get().ip()).or_insert(Some(name));
        *before = before.filter(|before| *before == name);
    }
    known.into_iter().filter_map(|(address, name)| Some((address, name?))).collect()
}

/// The host's name, the name that its address has elsewhere, or `at-` and the address; with the port behind it when that is taken.
fn free_name(place: &AddressRef, known_as: &BTreeMap<IpAddr, &Name>, taken: &BTreeSet<Name>) -> Option<Name> {
    let stem = match (place.written(), known_as.get(&place.get().ip())) {
        (AddressSource::Host(host), _) => host.to_string(),
        (AddressSource::Literal, Some(name)) if !name.as_str().starts_with("at-") => name.to_string(),
        (AddressSource::Literal | AddressSource::Taken { .. }, _) => {
            format!("at-{}", place.get().ip().to_string().replace(['.', ':'], "-"))
        }
    };
    let candidates = [stem.clone(), format!("{stem}-{}", place.get().port())];
    candidates.iter().filter_map(|name| name.parse::<Name>().ok()).find(|name| !taken.contains(name))
}
