//! Sets of networks.

use std::net::IpAddr;

use ipnet::IpNet;

/// A set of networks in which an address is found in a time that grows with the logarithm of their number.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NetworkSet {
    /// The first and the last address of ranges that do not touch, in order; IPv4 as mapped to IPv6.
    ranges: Box<[(u128, u128)]>,
}

/// An address as a number; IPv4 as mapped to IPv6.
pub(super) fn number(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(address) => address.to_ipv6_mapped().to_bits(),
        IpAddr::V6(address) => address.to_bits(),
    }
}

impl NetworkSet {
    /// The set of these networks.
    pub fn new(networks: impl IntoIterator<Item = IpNet>) -> Self {
        let mut all: Vec<(u128, u128)> = networks
            .into_iter()
            .map(|network| (number(network.network()), number(network.broadcast())))
            .collect();
        all.sort_unstable();
        let mut ranges: Vec<(u128, u128)> = Vec::with_capacity(all.len());
        for (first, last) in all {
            match ranges.last_mut() {
                Some((_, end)) if first <= end.saturating_add(1) => *end = last.max(*end),
                _ => ranges.push((first, last)),
            }
        }
        Self { ranges: ranges.into() }
    }

    /// Whether an address is in one of them.
    #[must_use]
    pub fn contains(&self, address: IpAddr) -> bool {
        let address = number(address.to_canonical());
        let after = self.ranges.partition_point(|(first, _)| *first <= address);
        after > 0 && address <= self.ranges[after - 1].1
    }
}
