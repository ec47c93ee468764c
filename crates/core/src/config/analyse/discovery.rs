//! What DNS answers come to: servers with weights and tiers.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};

use serde::{Deserialize, Serialize};

use crate::config::document::LookupSpec;
use crate::name::Name;

/// A server that a lookup found.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct DiscoveredServer {
    /// Address and port that the lookup found.
    pub address: SocketAddr,
    /// Weight of the server, from the lookup or the SRV record.
    pub weight: u16,
    /// Tier of the server, from the lookup or the SRV priority.
    pub tier: u8,
    /// Where it listens too.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<SocketAddr>,
}

impl DiscoveredServer {
    /// One server for each address, each with its part of the weight, or one for all of them.
    fn at(addresses: &[IpAddr], port: u16, weight: u16, tier: u8, together: bool) -> Vec<Self> {
        let mut all = in_turns(addresses).into_iter().map(|ip| SocketAddr::new(ip, port));
        if together {
            let first = all.next().map(|address| Self { address, weight, tier, others: all.collect() });
            return first.into_iter().collect();
        }
        all.map(|address| Self { address, weight, tier, others: Vec::new() }).collect()
    }
}

/// Addresses of the two families in turns, IPv6 first (RFC 8305, 4). Within a family they are sorted, for name servers
/// change the order of their answers, and a server is known by its first address.
fn in_turns(addresses: &[IpAddr]) -> Vec<IpAddr> {
    let family = |is_ipv6: bool| {
        let family: BTreeSet<IpAddr> =
            addresses.iter().copied().filter(|address| address.is_ipv6() == is_ipv6).collect();
        family.into_iter().enumerate().map(move |(place, ip)| ((place, !is_ipv6), ip))
    };
    let turns: BTreeMap<(usize, bool), IpAddr> = family(true).chain(family(false)).collect();
    turns.into_values().collect()
}

/// What the lookups of each pool found last, by pool and lookup.
pub type DiscoveredServers = BTreeMap<(Name, Name), BTreeSet<DiscoveredServer>>;

/// The name that a found server gets in its pool: the lookup's name and the address.
#[must_use]
pub fn discovered_name(lookup: &Name, address: SocketAddr) -> Option<Name> {
    let ip = address.ip().to_string().replace(['.', ':'], "-");
    format!("{lookup}-{ip}-{}", address.port()).parse().ok()
}

/// One service record (RFC 2782) with the addresses of its target.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServiceRecord {
    /// The lowest is used first.
    pub priority: u16,
    /// The part of the work among those of the same priority.
    pub weight: u16,
    /// Port of the service at the target.
    pub port: u16,
    /// Addresses of the target host.
    pub addresses: Vec<IpAddr>,
}

/// The servers that the addresses of a name stand for.
#[must_use]
pub fn from_addresses(lookup: &LookupSpec, addresses: &[IpAddr]) -> BTreeSet<DiscoveredServer> {
    let (port, weight) = (lookup.port.unwrap_or(0), lookup.weight.unwrap_or(1));
    DiscoveredServer::at(addresses, port, weight, 0, lookup.merge_addresses).into_iter().collect()
}

/// The servers that service records stand for: each distinct priority is a tier, the lowest first, and weights
/// are scaled to ours when they are larger. A weight of 0 is a small chance there (RFC 2782) and so 1 here.
/// Of a target with several addresses each is a server of its own, with a part of the weight, unless they are taken
/// together.
#[must_use]
pub fn from_services(lookup: &LookupSpec, services: &[ServiceRecord]) -> BTreeSet<DiscoveredServer> {
    const MOST_TIER: usize = 7;
    const MOST_WEIGHT: u32 = 1_000;
    let priorities: BTreeSet<u16> = services.iter().map(|service| service.priority).collect();
    let largest = services.iter().map(|service| u32::from(service.weight)).max().unwrap_or(0);
    let mut found = BTreeSet::new();
    for service in services {
        let tier = priorities.range(..service.priority).count().min(MOST_TIER) as u8;
        let weight = u32::from(service.weight);
        let scaled = if largest > MOST_WEIGHT { weight * MOST_WEIGHT / largest } else { weight };
        let parts = if lookup.merge_addresses { 1 } else { service.addresses.len().max(1) };
        let each = (scaled / u32::try_from(parts).unwrap_or(1)).max(1);
        let weight = u16::try_from(each).unwrap_or(1);
        found.extend(DiscoveredServer::at(
            &service.addresses,
            service.port,
            weight,
            tier,
            lookup.merge_addresses,
        ));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn service(priority: u16, weight: u16, host: u8) -> ServiceRecord {
        ServiceRecord { priority, weight, port: 8080, addresses: vec![IpAddr::from([192, 0, 2, host])] }
    }

    fn lookup(together: bool) -> LookupSpec {
        let keys = format!(
            "format = 3\n[pools.quay.lookups.a]\nname = \"a.skerry.example\"\nrecords = \"address\"\nport = 80\nweight = 6\n\
             merge_addresses = {together}"
        );
        let checked = crate::config::load(&keys, crate::config::DocumentFormat::Toml).unwrap();
        checked.document().pools.values().next().unwrap().lookups.values().next().unwrap().clone()
    }

    #[test]
    fn addresses_that_are_taken_together_are_one_server_and_ipv6_goes_first() {
        let both: Vec<IpAddr> = ["192.0.2.9", "2001:db8::2", "192.0.2.3", "2001:db8::1"]
            .map(|address| address.parse().unwrap())
            .into();
        let in_words = |found: BTreeSet<DiscoveredServer>| -> Vec<String> {
            let words = |server: DiscoveredServer| {
                format!("{} {:?} {}", server.address, server.others, server.weight)
            };
            found.into_iter().map(words).collect()
        };
        let together = "[2001:db8::1]:80 [192.0.2.3:80, [2001:db8::2]:80, 192.0.2.9:80] 6";
        assert_eq!(in_words(from_addresses(&lookup(true), &both)), [together]);
        let other_order: Vec<IpAddr> = both.iter().rev().copied().collect();
        assert_eq!(in_words(from_addresses(&lookup(true), &other_order)), [together]);
        assert_eq!(from_addresses(&lookup(false), &both).len(), 4);
        let target = ServiceRecord { priority: 1, weight: 8, port: 80, addresses: both };
        assert_eq!(
            in_words(from_services(&lookup(true), std::slice::from_ref(&target)))[0].rsplit(' ').next(),
            Some("8")
        );
        let each = from_services(&lookup(false), &[target]);
        assert_eq!(each.iter().map(|server| server.weight).collect::<Vec<_>>(), [2; 4]);
    }

    fn numbers(services: &[ServiceRecord]) -> Vec<(u8, u16)> {
        from_services(&lookup(false), services).iter().map(|server| (server.tier, server.weight)).collect()
    }

    #[test]
    fn priorities_become_tiers_and_weights_stay() {
        let services = [service(10, 3, 1), service(10, 0, 2), service(20, 60, 3)];
        assert_eq!(numbers(&services), [(0, 3), (0, 1), (1, 60)]);
    }

    #[test]
    fn large_weights_keep_their_proportions() {
        assert_eq!(
            numbers(&[service(1, 60_000, 1), service(1, 30_000, 2), service(1, 1, 3)]),
            [(0, 1_000), (0, 500), (0, 1)]
        );
    }

    #[test]
    fn the_names_of_found_servers_are_names() {
        let lookup = "a".repeat(16).parse().unwrap();
        let longest = "[2001:1db8:1111:2222:3333:4444:5555:6666]:65535".parse().unwrap();
        assert!(discovered_name(&lookup, longest).is_some_and(|name| name.as_str().len() == 62));
    }
}
