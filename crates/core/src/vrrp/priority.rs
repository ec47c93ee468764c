//! How much a node is worth as the holder of an address, by what it can do.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use siphasher::sip::SipHasher13;

use crate::name::Name;
use crate::time::Tick;
use crate::vrrp::LEAVING;

/// The least that a node is worth that takes part, and is not about to leave.
pub const LEAST: u8 = LEAVING + 1;

/// The priority of a node by the document: what its list gives it, less its rank among those that are given as much.
///
/// Nodes with the same number are ranked by rendezvous (Thaler and Ravishankar, 1998): each by a hash of the address's name and its
/// own, so that several addresses with equal nodes are spread over them, and no two nodes are ever worth the same there.
#[must_use]
pub fn listed_priority(address: &Name, node: &Name, nodes: &BTreeMap<Name, u8>) -> Option<u8> {
    let given = *nodes.get(node)?;
    let weight = |node: &Name| {
        use std::hash::Hasher;
        let mut hasher = SipHasher13::new();
        hasher.write(address.as_str().as_bytes());
        hasher.write(&[0]);
        hasher.write(node.as_str().as_bytes());
        (hasher.finish(), node.clone())
    };
    let own = weight(node);
    let before = nodes.iter().filter(|(other, priority)| **priority == given && weight(other) > own).count();
    Some(given.saturating_sub(u8::try_from(before).unwrap_or(u8::MAX)).max(LEAST))
}

/// What a node loses of its priority by pools that it can't use, as those have too few servers.
///
/// One node finds out before another that servers are down for all, or up again: addresses should not move for that. So what is, stays for some time: a
/// holder loses nothing before a pool has been short for so long, and any other node loses until it has had enough for so long.
#[derive(Clone, Debug, Default)]
pub struct PoolLosses {
    pools: BTreeMap<Name, Shortage>,
}

/// A pool that has too few servers, or had lately.
#[derive(Clone, Copy, Debug)]
struct Shortage {
    /// Since when it is short; absent when it has enough again.
    since: Option<Tick>,
    last: Tick,
}

impl PoolLosses {
    /// Notes which pools have too few servers now; those that cost priority.
    pub fn note<'a>(
        &mut self,
        now: Tick,
        short: impl IntoIterator<Item = &'a Name>,
        settles_within: Duration,
        is_holder: bool,
    ) -> Vec<Name> {
        let short: BTreeSet<&Name> = short.into_iter().collect();
        self.pools.retain(|pool, known| short.contains(pool) || now.since(known.last) < settles_within);
        for (pool, known) in &mut self.pools {
            known.since = known.since.filter(|_| short.contains(pool));
        }
        for pool in short {
            let known = self.pools.entry(pool.clone()).or_insert(Shortage { since: None, last: now });
            known.since.get_or_insert(now);
            known.last = now;
        }
        let lasts = |known: &Shortage| known.since.is_some_and(|since| now.since(since) >= settles_within);
        let costs = self.pools.iter().filter(|(_, known)| !is_holder || lasts(known));
        costs.map(|(pool, _)| pool.clone()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> Name {
        text.parse().unwrap()
    }

    #[test]
    fn nodes_that_are_worth_the_same_share_the_addresses() {
        let nodes: BTreeMap<Name, u8> = ["north", "south", "east"].map(|node| (name(node), 100)).into();
        let mut first = BTreeMap::<Name, u32>::new();
        for number in 0..300 {
            let address = name(&format!("front-{number}"));
            let mut worth: Vec<u8> =
                nodes.keys().map(|node| listed_priority(&address, node, &nodes).unwrap()).collect();
            let best = nodes.keys().max_by_key(|node| listed_priority(&address, node, &nodes)).unwrap();
            *first.entry(best.clone()).or_default() += 1;
            worth.sort_unstable();
            assert_eq!(worth, [98, 99, 100], "all differ");
        }
        assert!(first.values().all(|count| (70..130).contains(count)), "{first:?}");
        let of_its_own = BTreeMap::from([(name("north"), 200), (name("south"), 2), (name("east"), 2)]);
        assert_eq!(listed_priority(&name("front"), &name("north"), &of_its_own), Some(200));
        assert_eq!(listed_priority(&name("front"), &name("west"), &of_its_own), None);
    }

    #[test]
    fn a_pool_that_is_looked_at_seldom_costs_as_well() {
        let (quay, mut holder) = (name("quay"), PoolLosses::default());
        let settles = Duration::from_millis(500);
        assert_eq!(holder.note(Tick(0), [&quay], settles, true), []);
        assert_eq!(holder.note(Tick(1_000_000_000), [&quay], settles, true), vec![quay.clone()]);
    }

    #[test]
    fn what_is_stays_for_some_time() {
        let (quay, mail) = (name("quay"), name("mail"));
        let settles = Duration::from_secs(5);
        let at = |seconds: u64| Tick(seconds * 1_000_000_000);
        let (mut holder, mut other) = (PoolLosses::default(), PoolLosses::default());
        let mut both = |seconds: u64, short: &[&Name]| {
            let short = || short.iter().copied();
            (
                holder.note(at(seconds), short(), settles, true),
                other.note(at(seconds), short(), settles, false),
            )
        };
        let all = |pools: &[&Name]| pools.iter().map(|pool| (*pool).clone()).collect::<Vec<_>>();
        assert_eq!(both(0, &[]), (all(&[]), all(&[])));
        assert_eq!(both(1, &[&quay]), (all(&[]), all(&[&quay])), "a holder does not hurry");
        assert_eq!(both(5, &[&quay, &mail]), (all(&[]), all(&[&mail, &quay])));
        assert_eq!(both(6, &[&quay, &mail]), (all(&[&quay]), all(&[&mail, &quay])));
        assert_eq!(
            both(7, &[&mail]),
            (all(&[]), all(&[&mail, &quay])),
            "and one that stands by does not either"
        );
        assert_eq!(both(8, &[&mail, &quay]), (all(&[]), all(&[&mail, &quay])), "it begins anew");
        assert_eq!(both(12, &[&quay]), (all(&[]), all(&[&mail, &quay])));
        assert_eq!(both(13, &[]), (all(&[]), all(&[&quay])));
        assert_eq!(both(18, &[]), (all(&[]), all(&[])));
    }
}
