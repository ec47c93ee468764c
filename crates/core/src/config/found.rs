//! What DNS answers come to: servers with weights and tiers.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};

use serde::{Deserialize, Serialize};

use super::document::Lookup;
use crate::name::Name;

/// A server that a lookup found.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct FoundServer {
    /// Where it listens.
    pub address: SocketAddr,
    /// Its weight.
    pub weight: u16,
    /// Its tier.
    pub tier: u8,
}

/// What the lookups of each pool found last, by pool and lookup.
pub type Found = BTreeMap<(Name, Name), BTreeSet<FoundServer>>;

/// The name that a found server gets in its pool: the lookup's name and the address.
#[must_use]
pub fn found_name(lookup: &Name, address: SocketAddr) -> Option<Name> {
    let ip = address.ip().to_string().replace(['.', ':'], "-");
    format!("{lookup}-{ip}-{}", address.port()).parse().ok()
}

/// One service record (RFC 2782) with the addresses of its target.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Service {
    /// The lowest is used first.
    pub priority: u16,
    /// The part of the work among those of the same priority.
    pub weight: u16,
    /// The port.
    pub port: u16,
    /// The target's addresses.
    pub addresses: Vec<IpAddr>,
}

/// The servers that the addresses of a name stand for.
#[must_use]
pub fn from_addresses(lookup: &Lookup, addresses: &[IpAddr]) -> BTreeSet<FoundServer> {
    let (port, weight) = (lookup.port.unwrap_or(0), lookup.weight.unwrap_or(1));
    let server = |ip: &IpAddr| FoundServer { address: SocketAddr::new(*ip, port), weight, tier: 0 };
    addresses.iter().map(server).collect()
}

/// The servers that service records stand for: each distinct priority is a tier, the lowest first, and weights
/// are scaled to ours when they are larger. A weight of 0 is a small chance there (RFC 2782) and so 1 here.
/// Of a machine with several addresses each is a server of its own, with a part of the weight.
#[must_use]
pub fn from_services(services: &[Service]) -> BTreeSet<FoundServer> {
    const MOST_TIER: usize = 7;
    const MOST_WEIGHT: u32 = 1_000;
    let priorities: BTreeSet<u16> = services.iter().map(|it| it.priority).collect();
    let largest = services.iter().map(|it| u32::from(it.weight)).max().unwrap_or(0);
    let mut found = BTreeSet::new();
    for service in services {
        let tier = priorities.range(..service.priority).count().min(MOST_TIER) as u8;
        let weight = u32::from(service.weight);
        let scaled = if largest > MOST_WEIGHT { weight * MOST_WEIGHT / largest } else { weight };
        let each = (scaled / u32::try_from(service.addresses.len().max(1)).unwrap_or(1)).max(1);
        let weight = u16::try_from(each).unwrap_or(1);
        for ip in &service.addresses {
            found.insert(FoundServer { address: SocketAddr::new(*ip, service.port), weight, tier });
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn service(priority: u16, weight: u16, host: u8) -> Service {
        Service { priority, weight, port: 8080, addresses: vec![IpAddr::from([192, 0, 2, host])] }
    }

    fn numbers(services: &[Service]) -> Vec<(u8, u16)> {
        from_services(services).iter().map(|it| (it.tier, it.weight)).collect()
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
        assert!(found_name(&lookup, longest).is_some_and(|name| name.as_str().len() == 62));
    }
}
