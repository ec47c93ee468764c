//! How much a node is worth as the holder of an address, by what it can do.

use std::collections::BTreeMap;
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

/// What a node loses of its priority by pools that it can't use: each that has been without enough servers for long enough.
///
/// The wait keeps an address where it is when a server fails for all: one node notices that before another.
#[derive(Clone, Debug, Default)]
pub struct PoolLosses {
    /// Since when each pool has been so.
    since: BTreeMap<Name, Tick>,
}

impl PoolLosses {
    /// Notes which pools have too few servers now; those of them that have had for `after` or longer.
    pub fn note<'a>(
        &mut self,
        now: Tick,
        short: impl IntoIterator<Item = &'a Name>,
        after: Duration,
    ) -> Vec<Name> {
        let before = std::mem::take(&mut self.since);
        for pool in short {
            self.since.insert(pool.clone(), before.get(pool).copied().unwrap_or(now));
        }
        let lasting = self.since.iter().filter(|(_, since)| now.since(**since) >= after);
        lasting.map(|(pool, _)| pool.clone()).collect()
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
    fn a_pool_counts_when_it_has_been_short_for_long_enough() {
        let (quay, mail) = (name("quay"), name("mail"));
        let after = Duration::from_secs(5);
        let at = |seconds: u64| Tick(seconds * 1_000_000_000);
        let mut losses = PoolLosses::default();
        assert_eq!(losses.note(at(0), [], after), []);
        assert_eq!(losses.note(at(1), [&quay], after), []);
        assert_eq!(losses.note(at(5), [&quay, &mail], after), []);
        assert_eq!(losses.note(at(6), [&quay, &mail], after), [quay.clone()]);
        assert_eq!(losses.note(at(7), [&mail], after), [], "a pool that is well again costs nothing");
        assert_eq!(losses.note(at(8), [&mail, &quay], after), [], "and begins anew");
    }
}
