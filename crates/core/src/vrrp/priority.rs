//! How much a node is worth as the holder of an address, by what it can do.

use std::collections::BTreeMap;
use std::time::Duration;

use siphasher::sip::SipHasher13;

use crate::name::Name;
use crate::time::Tick;

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
    Some(given.saturating_sub(u8::try_from(before).unwrap_or(u8::MAX)).max(1))
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
    /// Notes which pools have too few servers now; how many of them have had for `after` or longer, and when the next will have.
    pub fn note<'a>(
        &mut self,
        now: Tick,
        short: impl IntoIterator<Item = &'a Name>,
        after: Duration,
    ) -> (usize, Option<Tick>) {
        let before = std::mem::take(&mut self.since);
        for pool in short {
            self.since.insert(pool.clone(), before.get(pool).copied().unwrap_or(now));
        }
        let lasting = self.since.values().filter(|since| now.since(**since) >= after).count();
        let next = self.since.values().map(|since| since.plus(after)).filter(|due| *due > now).min();
        (lasting, next)
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
        let of_its_own = BTreeMap::from([(name("north"), 200), (name("south"), 1), (name("east"), 1)]);
        assert_eq!(listed_priority(&name("front"), &name("north"), &of_its_own), Some(200));
        assert_eq!(listed_priority(&name("front"), &name("west"), &of_its_own), None);
    }

    #[test]
    fn a_pool_counts_when_it_has_been_short_for_long_enough() {
        let (quay, mail) = (name("quay"), name("mail"));
        let after = Duration::from_secs(5);
        let at = |seconds: u64| Tick(seconds * 1_000_000_000);
        let mut losses = PoolLosses::default();
        assert_eq!(losses.note(at(0), [], after), (0, None));
        assert_eq!(losses.note(at(1), [&quay], after), (0, Some(at(6))));
        assert_eq!(losses.note(at(5), [&quay, &mail], after), (0, Some(at(6))));
        assert_eq!(losses.note(at(6), [&quay, &mail], after), (1, Some(at(10))));
        assert_eq!(losses.note(at(7), [&mail], after), (0, Some(at(10))), "a pool that is well again costs nothing");
        assert_eq!(losses.note(at(8), [&mail, &quay], after), (0, Some(at(10))), "and begins anew");
    }
}
