//! Who may come: lists of networks that are let in or turned away.

use std::net::IpAddr;

use ipnet::IpNet;

use super::network_set::number;
use crate::config::Document;
use crate::config::document::FrontendSpec;
use crate::name::Name;

/// The networks that a frontend lets in and turns away. The longest prefix that holds an address decides, and of two alike the one that turns away;
/// an address in none is let in unless some are let in by name.
///
/// A look for an IPv4 address goes by its first 16 bits to the few ranges that begin there; for an IPv6 address it takes a time that grows with the
/// logarithm of the number of networks. Memory: up to 74 bytes for each network, and 256 KiB where there are many.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AccessList {
    /// From which address on addresses are let in or not, in order; the first is the lowest address of all.
    from: Box<[(u128, bool)]>,
    /// The same of IPv4 alone.
    ipv4: Ipv4Ranges,
}

/// From which IPv4 address on clients are let in or not.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Ipv4Ranges {
    /// In order; the first is 0.0.0.0.
    from: Box<[u32]>,
    admits: Box<[bool]>,
    /// How many of them are below each value of the first 16 bits, and how many there are; empty where there are few.
    below: Box<[u32]>,
}

/// Up to so many ranges all are looked through at once.
const FEW_RANGES: usize = 64;
/// The first IPv4 address as mapped to IPv6 (RFC 4291, 2.5.5.2).
const FIRST_IPV4: u128 = 0xffff_0000_0000;

impl Ipv4Ranges {
    /// Those of addresses of both families.
    fn of(all: &[(u128, bool)]) -> Self {
        let begin = all.partition_point(|(first, _)| *first <= FIRST_IPV4);
        let (mut from, mut admits) = (vec![0], vec![all[begin.saturating_sub(1)].1]);
        for (first, admitted) in &all[begin..] {
            let Ok(first) = u32::try_from(first - FIRST_IPV4) else { break };
            from.push(first);
            admits.push(*admitted);
        }
        let count = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
        let below = |high: u32| count(from.partition_point(|first| *first >> 16 < high));
        let below: Vec<u32> =
            if from.len() > FEW_RANGES { (0..=0x1_0000).map(below).collect() } else { Vec::new() };
        Self { from: from.into(), admits: admits.into(), below: below.into() }
    }

    fn admits(&self, client: u32) -> bool {
        let high = (client >> 16) as usize;
        let (low, up) = match self.below.get(high..high + 2) {
            Some([low, up]) => (*low as usize, *up as usize),
            _ => (0, self.from.len()),
        };
        let after = low + self.from[low..up].partition_point(|first| *first <= client);
        self.admits[after.saturating_sub(1)]
    }
}

/// A network that no client is in: the unspecified address.
const NO_CLIENT: IpNet = IpNet::V6(ipnet::Ipv6Net::new_assert(std::net::Ipv6Addr::UNSPECIFIED, 128));

impl AccessList {
    /// Who may come to a frontend; `None` where all may.
    #[must_use]
    pub fn of(frontend: &FrontendSpec, document: &Document) -> Option<Self> {
        if frontend.allow.is_empty() && frontend.deny.is_empty() {
            return None;
        }
        let prefixes = |lists: &[Name]| -> Vec<IpNet> {
            lists.iter().filter_map(|list| document.networks.get(list)).flatten().copied().collect()
        };
        let mut allow = prefixes(&frontend.allow);
        // Lists that hold no network let no client in.
        if allow.is_empty() && !frontend.allow.is_empty() {
            allow.push(NO_CLIENT);
        }
        Some(Self::new(allow, prefixes(&frontend.deny)))
    }

    /// The list that lets `allow` in and turns `deny` away.
    pub fn new(allow: impl IntoIterator<Item = IpNet>, deny: impl IntoIterator<Item = IpNet>) -> Self {
        let range =
            |network: IpNet, admits: bool| (number(network.network()), number(network.broadcast()), admits);
        let mut ranges: Vec<(u128, u128, bool)> =
            allow.into_iter().map(|network| range(network, true)).collect();
        let usual = ranges.is_empty();
        ranges.extend(deny.into_iter().map(|network| range(network, false)));
        // Outer ones before those inside them; of two alike the one that turns away comes later, and so above.
        ranges.sort_by_key(|(first, last, admits)| (*first, std::cmp::Reverse(*last), !admits));
        let mut from = vec![(0, usual)];
        let mut mark = |at: u128, admits: bool| match from.last_mut() {
            Some((last, of)) if *last == at => *of = admits,
            Some((_, of)) if *of == admits => {}
            _ => from.push((at, admits)),
        };
        // Prefixes lie inside each other or apart: those that hold the place of now, the innermost last.
        let mut around: Vec<(u128, bool)> = Vec::new();
        let leave =
            |around: &mut Vec<(u128, bool)>, before: Option<u128>, mark: &mut dyn FnMut(u128, bool)| {
                while let Some((last, _)) = around.last().copied()
                    && before.is_none_or(|before| last < before)
                {
                    around.pop();
                    let outside = around.last().map_or(usual, |(_, admits)| *admits);
                    if let Some(next) = last.checked_add(1) {
                        mark(next, outside);
                    }
                }
            };
        for (first, last, admits) in ranges {
            leave(&mut around, Some(first), &mut mark);
            mark(first, admits);
            around.push((last, admits));
        }
        leave(&mut around, None, &mut mark);
        Self { ipv4: Ipv4Ranges::of(&from), from: from.into() }
    }

    /// Whether a client with this address may come.
    #[must_use]
    pub fn admits(&self, client: IpAddr) -> bool {
        let client = match client.to_canonical() {
            IpAddr::V4(client) => return self.ipv4.admits(client.to_bits()),
            client @ IpAddr::V6(_) => number(client),
        };
        let after = self.from.partition_point(|(first, _)| *first <= client);
        self.from[after.saturating_sub(1)].1
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn nets(texts: &[&str]) -> Vec<IpNet> {
        texts.iter().map(|text| text.parse().unwrap()).collect()
    }

    #[rstest]
    #[case::nothing_is_said(&[], &[], "192.0.2.7", true)]
    #[case::turned_away(&[], &["192.0.2.0/24"], "192.0.2.7", false)]
    #[case::not_turned_away(&[], &["192.0.2.0/24"], "192.0.3.7", true)]
    #[case::let_in(&["192.0.2.0/24"], &[], "::ffff:192.0.2.7", true)]
    #[case::not_let_in(&["192.0.2.0/24"], &[], "192.0.3.7", false)]
    #[case::a_part_is_turned_away(&["192.0.2.0/24"], &["192.0.2.4/30"], "192.0.2.7", false)]
    #[case::behind_that_part(&["192.0.2.0/24"], &["192.0.2.4/30"], "192.0.2.8", true)]
    #[case::one_of_a_part_is_let_in(&["192.0.2.0/24", "192.0.2.7/32"], &["192.0.2.4/30"], "192.0.2.7", true)]
    #[case::of_two_alike(&["192.0.2.0/24"], &["192.0.2.0/24"], "192.0.2.7", false)]
    #[case::another_family(&["192.0.2.0/24"], &[], "2001:db8::7", false)]
    #[case::all_of_a_family(&[], &["::/0"], "192.0.2.7", false)]
    #[case::but_one_part(&["0.0.0.0/0"], &["::/0"], "192.0.2.7", true)]
    #[case::the_last_address(&[], &["ffff::/16"], "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", false)]
    fn the_longest_prefix_decides(
        #[case] allow: &[&str],
        #[case] deny: &[&str],
        #[case] client: &str,
        #[case] admits: bool,
    ) {
        let list = AccessList::new(nets(allow), nets(deny));
        assert_eq!(list.admits(client.parse().unwrap()), admits);
    }

    /// Asks each prefix.
    fn by_each(allow: &[IpNet], deny: &[IpNet], client: IpAddr) -> bool {
        let longest = |networks: &[IpNet]| {
            let holding = networks.iter().filter(|network| network.contains(&client));
            holding.map(|network| i16::from(network.prefix_len())).max().unwrap_or(-1)
        };
        let (allowed, denied) = (longest(allow), longest(deny));
        if allowed < 0 && denied < 0 { allow.is_empty() } else { allowed > denied }
    }

    fn network() -> impl Strategy<Value = IpNet> {
        (0_u32..64, 26_u8..=32).prop_map(|(last, length)| {
            IpNet::new(IpAddr::from((0xc000_0200_u32 + last).to_be_bytes()), length).unwrap().trunc()
        })
    }

    #[test]
    fn very_many_networks_are_found_as_few_are() {
        let mut draw = crate::draw::Draw::seeded(7);
        let mut address = || std::net::Ipv4Addr::from((draw.number() >> 40) as u32);
        let deny: Vec<IpNet> = (0..400_u32)
            .map(|number| IpNet::new(address().into(), 14 + (number % 19) as u8).unwrap().trunc())
            .chain(nets(&["0.0.0.0/32", "255.255.255.255/32", "2001:db8::/32"]))
            .collect();
        let list = AccessList::new([], deny.clone());
        assert!(!list.ipv4.below.is_empty(), "it goes by the first 16 bits");
        let edges = deny.iter().filter_map(|network| match network {
            IpNet::V4(network) => Some([u32::from(network.network()), u32::from(network.broadcast())]),
            IpNet::V6(_) => None,
        });
        let mut asked: Vec<u32> =
            edges.flatten().flat_map(|edge| [edge.wrapping_sub(1), edge, edge.wrapping_add(1)]).collect();
        asked.extend((0..2_000).map(|_| u32::from(address())));
        for client in asked {
            let client = IpAddr::from(client.to_be_bytes());
            assert_eq!(list.admits(client), by_each(&[], &deny, client), "{client}");
        }
    }

    proptest! {
        #[test]
        fn it_decides_as_if_each_prefix_were_asked(
            allow in prop::collection::vec(network(), 0..6),
            deny in prop::collection::vec(network(), 0..6),
            last in 0_u32..80,
        ) {
            let client = IpAddr::from((0xc000_0200_u32 + last).to_be_bytes());
            let list = AccessList::new(allow.clone(), deny.clone());
            prop_assert_eq!(list.admits(client), by_each(&allow, &deny, client));
        }
    }
}
