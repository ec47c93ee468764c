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
/// A look takes a time that grows with the logarithm of the number of networks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AccessList {
    /// From which address on addresses are let in or not, in order; the first is the lowest address of all.
    from: Box<[(u128, bool)]>,
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
        Self { from: from.into() }
    }

    /// Whether a client with this address may come.
    #[must_use]
    pub fn admits(&self, client: IpAddr) -> bool {
        let client = number(client.to_canonical());
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
